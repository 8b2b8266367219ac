package service

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"inkret/core/finding"
	"inkret/core/matrix"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/review"
)

const matrixContract = `inkret: 1
service: quay
servers: ["https://q.example"]
audiences: [{name: visitor, recognise: {credentials: none}}, {name: skipper, recognise: {header: {name: X-Skipper, value: "*"}}}, {name: office, recognise: {header: {name: X-Desk, value: "*"}}}]
callers: [{header: X-Skipper}]
entities: {Booking: {owner: skipper, fields: {ref: {class: public}, skipper: {class: internal}, note: {class: personal}}}}
endpoints:
- endpoint: GET /bookings/{id}
  responses:
  - {audiences: [skipper], entity: Booking, own: true, grants: {ref: , skipper: , note: {optional: true}}}
  - {audiences: [office], entity: Booking, grants: {ref: , skipper: }}
- endpoint: DELETE /bookings/{id}
  responses: [{audiences: [skipper], statuses: [200], entity: Booking, grants: {ref: }}]
`

// bookings answers anybody who says who they are, and notes how it was asked.
type bookings struct {
	mu     sync.Mutex
	calls  []string
	strict bool // everybody gets their own only
}

func (b *bookings) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	b.calls = append(b.calls, r.Method+" "+r.Header.Get("X-Skipper")+r.Header.Get("X-Desk")+
		r.Header.Get("Authorization"))
	strict := b.strict
	b.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	switch skipper, desk := r.Header.Get("X-Skipper"), r.Header.Get("X-Desk"); {
	case skipper == "" && desk == "":
		w.WriteHeader(http.StatusUnauthorized)
		fmt.Fprint(w, `{"title":"no"}`)
	case strict && desk == "" && skipper != "7":
		w.WriteHeader(http.StatusNotFound)
		fmt.Fprint(w, `{"title":"no"}`)
	default:
		fmt.Fprint(w, `{"ref":"a","skipper":7,"note":"late"}`)
	}
}

// matrixWorld is a world with that contract and API, a recorded call, and who may decide there.
func matrixWorld(t *testing.T) (*world, *bookings, int64) {
	w, api := newWorld(t), &bookings{}
	server := httptest.NewServer(api)
	t.Cleanup(server.Close)
	w.alone()
	if _, _, err := w.Review.Apply(t.Context(), w.who, "quay", review.Proposed{Reason: "matrix",
		Files: []base.ContractFile{{Name: "quay.yaml", Text: matrixContract}}}); err != nil {
		t.Fatal(err)
	}
	if err := w.Evidence.AllowServer(t.Context(), w.who, "quay", "https://q.example", server.URL); err != nil {
		t.Fatal(err)
	}
	line := strings.NewReplacer("/skippers/7", "/bookings/1", "X-Desk", "X-Skipper", `"value":"2"`,
		`"value":"7"`).Replace(
		at(w.clock.now, `{"ref":"a","skipper":7}`))
	b := w.upload("a.lines", line+strings.Replace(line, `"request":{`, `"request":{"method":"DELETE",`, 1))
	all, _, _, err := w.Evidence.Captures(t.Context(), base.CaptureFilter{Batch: b.ID}, base.Page{Number: 1, Size: 5})
	if err != nil || len(all) != 2 {
		t.Fatal(all, err)
	}
	return w, api, all[0].ID
}

// kept keeps credentials for somebody.
func (w *world) kept(audience, person string, pairs ...string) {
	w.t.Helper()
	if err := w.Evidence.SetCredentials(w.t.Context(), w.who, "quay", evidence.CallAs{Audience: audience,
		Person: person},
		header(pairs...)); err != nil {
		w.t.Fatal(err)
	}
}

// TestACallAsEveryAudience checks who is called as, with whose credentials, and what comes of it.
func TestACallAsEveryAudience(t *testing.T) {
	w, api, id := matrixWorld(t)
	m, err := w.Evidence.Matrix(t.Context(), w.who, evidence.AskedMatrix{Capture: id, Preview: true})
	if err != nil || len(m.Callers) != 3 || m.Callers[1].LeftOut == "" || m.Callers[2].LeftOut == "" ||
		len(api.calls) != 0 ||
		!strings.Contains(m.Server, "q.example") {
		t.Fatalf("the preview is %+v, %v, after calls %q", m, err, api.calls)
	}
	w.kept("skipper", "", "X-Skipper", "7", "Authorization", "Bearer of-seven")
	w.kept("skipper", "bo", "X-Skipper", "8")
	w.kept("office", "", "X-Desk", "1")
	if m, err = w.Evidence.Matrix(t.Context(), w.who, evidence.AskedMatrix{Capture: id}); err != nil {
		t.Fatal(err)
	}
	if want := "[GET  GET 7Bearer of-seven GET 8 GET 1]"; fmt.Sprint(api.calls) != want {
		t.Errorf("calls were %q, want %s", api.calls, want)
	}
	var callers []string
	for _, c := range m.Callers {
		callers = append(callers, fmt.Sprint(c.CallAs, " ", c.Answer.Status))
	}
	if got := strings.Join(callers, ", "); got != "visitor 401, skipper 200, skipper (bo) 200, office 200" {
		t.Errorf("callers are %s", got)
	}
	states := map[string]string{}
	for _, r := range m.Rows {
		states[r.Path] = fmt.Sprint(r.States)
	}
	if states["$.note"] != "[refused granted theirs leaking]" ||
		states["$.ref"] != "[refused granted theirs granted]" ||
		m.Rows[0].Path == "" || !m.Rows[0].Differs {
		t.Errorf("the matrix is %v", states)
	}
	again, err := w.Evidence.MatrixOf(t.Context(), m.Batch.ID)
	if err != nil || fmt.Sprint(again.Rows) != fmt.Sprint(m.Rows) || again.Capture.ID != id {
		t.Errorf("shown again it is %+v, %v", again.Rows, err)
	}
	if b, err := w.Evidence.Batch(t.Context(), m.Batch.ID); err != nil || b.Growing || b.Captures != 4 ||
		b.Origin != "recapture" {
		t.Errorf("its batch is %+v, %v", b, err)
	}
	if _, err := w.Evidence.MatrixOf(t.Context(), 1); err == nil {
		t.Error("an upload is a matrix")
	}
	w.holdsNot("of-seven")
	// the endpoint's newest safe call is the same, and a repair by refusing proves what the matrix found
	for _, f := range w.findings() {
		if f.Kind == "foreign-record" {
			if _, err := w.Findings.Move(t.Context(), w.who, f.ID,
				finding.Move{To: finding.AwaitingProof}); err != nil {
				t.Fatal(err)
			}
		}
	}
	api.strict = true
	w.clock.now = w.clock.now.AddDate(0, 0, 1)
	endpoint := m.Capture.EndpointID
	if m, err = w.Evidence.Matrix(t.Context(), w.who, evidence.AskedMatrix{Endpoint: endpoint}); err != nil ||
		m.Callers[2].Answer.Status != 404 {
		t.Fatalf("once it is strict: %+v, %v", m.Callers, err)
	}
	for _, f := range w.findings() {
		if f.Kind == "foreign-record" && f.State != "closed" {
			t.Errorf("%s is %s", f.Path, f.State)
		}
	}
	for _, r := range m.Rows {
		if r.Path == "$.ref" && fmt.Sprint(r.States) != fmt.Sprint([]matrix.State{"refused", "granted", "refused",
			"granted"}) {
			t.Errorf("%s is %v", r.Path, r.States)
		}
	}
}

// TestWhoMayCallAsEveryAudience checks that a call that may change something takes a lead, and a word.
func TestWhoMayCallAsEveryAudience(t *testing.T) {
	w, api, id := matrixWorld(t)
	w.kept("skipper", "", "X-Skipper", "7")
	viewer, reviewer, lead := w.person("Iva", base.Viewer), w.person("Noa", base.Reviewer),
		w.person("Teodor", base.Lead)
	for _, one := range []struct {
		who  base.Caller
		ask  evidence.AskedMatrix
		code base.Code
	}{
		{viewer, evidence.AskedMatrix{Capture: id}, base.Forbidden},
		{viewer, evidence.AskedMatrix{Capture: id, Preview: true}, base.Forbidden},
		{reviewer, evidence.AskedMatrix{Capture: id + 1}, base.Conflict},
		{reviewer, evidence.AskedMatrix{Capture: id + 1, Writes: true}, base.Forbidden},
		{reviewer, evidence.AskedMatrix{}, base.Invalid},
		{reviewer, evidence.AskedMatrix{Capture: 99}, base.NotFound},
		{reviewer, evidence.AskedMatrix{Endpoint: "none"}, base.NotFound},
	} {
		_, err := w.Evidence.Matrix(t.Context(), one.who, one.ask)
		said(t, err, one.code, "")
	}
	if len(api.calls) != 0 {
		t.Errorf("calls were made: %q", api.calls)
	}
	if _, err := w.Evidence.Matrix(t.Context(), lead, evidence.AskedMatrix{Capture: id + 1,
		Writes: true}); err != nil ||
		len(api.calls) != 2 {
		t.Errorf("as a lead: %v after %q", err, api.calls)
	}
}
