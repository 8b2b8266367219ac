package service

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/review"
)

// ways is what the cases below are judged by.
const ways = `inkret: 1
service: quay
servers: ["https://q.example"]
audiences: [{name: visitor, recognise: {credentials: none}}, {name: office, recognise: {header: {name: X-Desk, value: "*"}}}]
entities:
  Skipper:
    fields: {id: {class: public, type: integer}, name: {class: public, type: string}, email: {class: personal, type: string}, role: {class: internal, type: string}}
    relations: {crew: {entity: Skipper, many: true}}
endpoints:
- endpoint: GET /skippers/{id}
  selection: {query: fields}
  responses: [{audiences: [office], entity: Skipper, grants: {id: , name: , email: {optional: true}}}, {audiences: [visitor], entity: Skipper, grants: {id: , name: }}]
- endpoint: PATCH /skippers/{id}
  accepts: [{entity: Skipper, grants: {name: {optional: true}}}]
  responses: [{entity: Skipper, grants: {id: , name: }}]
`

// way is a call, and what is answered.
type way struct {
	call   string // method, path and body
	status int
	answer string
}

func (c way) line(when time.Time, n int) string {
	words := strings.SplitN(c.call, " ", 3)
	body := ""
	if len(words) == 3 {
		body = `,"body":` + words[2]
	}
	return fmt.Sprintf(`{"started":%q,"request":{"method":%q,"url":"https://q.example%s","headers":[{"name":"Content-Type","value":"application/json"},{"name":"X-Nth","value":"%d"}]%s},`+
		`"response":{"status":%d,"headers":[{"name":"Content-Type","value":"application/json"}],"body":%s}}`+"\n",
		when.UTC().Format(time.RFC3339), words[0], words[1], n, body, c.status, c.answer)
}

// TestProofByEveryWay checks that an upload, a recorder and calls made again come to the same of what is no proof and
// of what is one.
func TestProofByEveryWay(t *testing.T) {
	const leaking = `{"id":1,"name":"Ada","email":"ada@sails.example"}`
	const crewed = `{"id":1,"name":"Ada","crew":[{"id":2,"name":"Bo","email":"bo@sails.example"}]}`
	const harmless = `{"id":1,"name":"Ada"}`
	get := func(path string, status int, answer string) way { return way{"GET /skippers/" + path, status, answer} }
	patch := func(body string, status int) way { return way{"PATCH /skippers/1 " + body, status, harmless} }
	for name, one := range map[string]struct {
		first, again []way // of the same calls; the first of these leaks
		path         string
		want         finding.State
	}{
		"a leak and another's record, clean": {[]way{get("1", 200, leaking), get("2", 200, harmless)},
			[]way{get("1", 200, leaking), get("2", 200, harmless)}, "$.email", finding.AwaitingProof},
		"another's record, clean, and a leak": {[]way{get("2", 200, harmless), get("1", 200, leaking)},
			[]way{get("2", 200, harmless), get("1", 200, leaking)}, "$.email", finding.AwaitingProof},
		"both clean": {[]way{get("1", 200, leaking), get("2", 200, leaking)},
			[]way{get("1", 200, harmless), get("2", 200, harmless)}, "$.email", finding.Closed},
		"an ordinary change": {[]way{patch(`{"name":"x","role":"lead"}`, 200), patch(`{"name":"x"}`, 200)},
			[]way{{}, patch(`{"name":"x"}`, 200)}, "$.role", finding.AwaitingProof},
		"the member again, refused": {[]way{patch(`{"name":"x","role":"lead"}`, 200)},
			[]way{patch(`{"name":"x","role":"lead"}`, 422)}, "$.role", finding.Closed},
		"the member again, taken": {[]way{patch(`{"name":"x","role":"lead"}`, 200)},
			[]way{patch(`{"name":"x","role":"lead"}`, 200)}, "$.role", finding.AwaitingProof},
		"some members were chosen": {[]way{get("1", 200, leaking), get("1?fields=id,name", 200, harmless)},
			[]way{{}, get("1?fields=id,name", 200, harmless)}, "$.email", finding.AwaitingProof},
		"it is denied": {[]way{get("1", 200, leaking)}, []way{get("1", 403, `{"title":"no"}`)}, "$.email",
			finding.Closed},
		"another is denied": {[]way{get("1", 200, leaking), get("2", 200, harmless)},
			[]way{{}, get("2", 403, `{"title":"no"}`)}, "$.email", finding.AwaitingProof},
		"it fails": {[]way{get("1", 200, leaking)}, []way{get("1", 500, `{"title":"no"}`)}, "$.email",
			finding.AwaitingProof},
		"a relation is removed": {[]way{get("1", 200, crewed)}, []way{get("1", 200, harmless)}, "$.crew[*].email",
			finding.Closed},
		"a relation is emptied": {[]way{get("1", 200, crewed)}, []way{get("1", 200, `{"id":1,"name":"Ada","crew":[]}`)},
			"$.crew[*].email", finding.AwaitingProof},
	} {
		for _, by := range []string{"upload", "recorder", "calls made again"} {
			w := newWorld(t)
			w.alone()
			if _, _, err := w.Review.Apply(t.Context(), w.who, "quay", review.Proposed{Reason: "ways",
				Files: []base.ContractFile{{Name: "quay.yaml", Text: ways}}}); err != nil {
				t.Fatal(err)
			}
			lines := ""
			for i, c := range one.first {
				lines += c.line(w.clock.now, i)
			}
			first := w.upload("monday.lines", lines)
			id := ""
			for _, f := range w.findings() {
				if f.Path == one.path {
					id = f.ID
				}
			}
			if _, err := w.Findings.Move(t.Context(), w.who, id, finding.Move{To: finding.AwaitingProof}); err != nil {
				t.Fatal(name, err)
			}
			w.clock.now = w.clock.now.Add(time.Hour)
			w.again(by, first.ID, one.again)
			v, err := w.Findings.Finding(t.Context(), w.who, id)
			if err != nil || v.State != string(one.want) {
				t.Errorf("%s, by %s: it is %s, want %s, %v; %+v", name, by, v.State, one.want, err, v.History)
			}
		}
	}
}

// again lets calls be made again in one of the ways.
func (w *world) again(by string, first int64, all []way) {
	w.t.Helper()
	switch by {
	case "upload":
		lines := ""
		for i, c := range all {
			if c.call != "" {
				lines += c.line(w.clock.now, i)
			}
		}
		w.upload("again.lines", lines)
		return
	case "recorder":
		b := w.begin()
		for i, c := range all {
			if c.call != "" {
				w.extend(b, i+1, c.line(w.clock.now, i))
			}
		}
		w.end(b)
		return
	}
	api := httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		var nth int
		fmt.Sscan(r.Header.Get("X-Nth"), &nth)
		out.Header().Set("Content-Type", "application/json")
		out.WriteHeader(all[nth].status)
		fmt.Fprint(out, all[nth].answer)
	}))
	defer api.Close()
	if err := w.Evidence.AllowServer(w.t.Context(), w.who, "quay", "https://q.example", api.URL); err != nil {
		w.t.Fatal(err)
	}
	whole := true
	for _, c := range all {
		whole = whole && c.call != ""
	}
	if whole {
		if _, err := w.Evidence.Repeat(w.t.Context(), w.who, evidence.Again{Batch: first, Writes: true}); err != nil {
			w.t.Fatal(err)
		}
		return
	}
	captures, _, _, err := w.Evidence.Captures(w.t.Context(), base.CaptureFilter{Batch: first},
		base.Page{Number: 1, Size: 9})
	if err != nil {
		w.t.Fatal(err)
	}
	for _, c := range captures {
		if all[c.Entry].call != "" {
			if _, err := w.Evidence.Repeat(w.t.Context(), w.who, evidence.Again{Capture: c.ID,
				Writes: true}); err != nil {
				w.t.Fatal(err)
			}
		}
	}
}
