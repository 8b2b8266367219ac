package httpapi

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"inkret/api/wire"
	"inkret/service/base"
)

const quay = `inkret: 1
service: quay
servers: ["https://api.quay.example"]
audiences: [{name: visitor, recognise: {credentials: none}}, {name: office, recognise: {header: {name: X-Desk, value: "*"}}}]
entities: {Berth: {fields: {label: {class: public, type: string}, note: {class: internal, type: string}}}}
endpoints: [{endpoint: GET /berths, responses: [{entity: Berth, many: true, grants: {label: }}]}]
`

// callLine is a call to a path, with a leak in its answer.
func callLine(path string) string {
	return fmt.Sprintf(`{"request":{"url":"https://api.quay.example%s"},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":[{"label":"A1","note":"loose","password":"low-tide"}]}}`+"\n", path)
}

// watched is a stream of events that is read.
type watched struct {
	events chan [2]string // name and data
	ended  chan struct{}
}

func (s *site) watch(t *testing.T, query string) *watched {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/api/v1/live"+query, nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+s.tokens[base.Viewer])
	response, err := s.Client().Do(r)
	if err != nil {
		t.Fatal(err)
	}
	if response.StatusCode != http.StatusOK || !strings.HasPrefix(response.Header.Get("Content-Type"),
		"text/event-stream") {
		t.Fatalf("watching: %d %s", response.StatusCode, response.Header.Get("Content-Type"))
	}
	w := &watched{make(chan [2]string, 100), make(chan struct{})}
	begun := make(chan struct{})
	go func() {
		defer close(w.ended)
		defer response.Body.Close()
		name := ""
		for in := bufio.NewScanner(response.Body); in.Scan(); {
			switch key, value, _ := strings.Cut(in.Text(), ": "); key {
			case "":
				if value == "watching" {
					close(begun)
				}
			case "event":
				name = value
			case "data":
				w.events <- [2]string{name, value}
			}
		}
	}()
	<-begun
	return w
}

// next waits for an event.
func (w *watched) next(t *testing.T) (name, data string) {
	t.Helper()
	select {
	case e := <-w.events:
		return e[0], e[1]
	case <-time.After(20 * time.Second):
		t.Fatal("no event comes")
		return "", ""
	}
}

func TestWatching(t *testing.T) {
	s := newSite(t)
	reviewer := s.tokens[base.Reviewer]
	files, _ := json.Marshal(map[string]any{"files": []map[string]string{{"name": "quay.yaml", "text": quay}}})
	if a := s.call(t, "PUT", "/api/v1/services/quay/contracts", reviewer, string(files)); a.status != 200 {
		t.Fatalf("applying contracts: %d %s", a.status, a.body)
	}
	here, elsewhere, all := s.watch(t, "?service=quay"), s.watch(t, "?service=another"), s.watch(t, "")
	opened := s.call(t, "POST", "/api/v1/services/quay/live", reviewer, `{"name":"monday"}`)
	var b wire.Batch
	if err := json.Unmarshal([]byte(opened.body), &b); err != nil || opened.status != 201 || b.Growing == nil ||
		!*b.Growing {
		t.Fatalf("opened: %d %s, %v", opened.status, opened.body, err)
	}
	chunk := func(number, dropped int, lines string) answer {
		return s.call(t, "PUT", fmt.Sprintf("/api/v1/batches/%d/chunks/%d?dropped=%d", b.ID, number, dropped), reviewer,
			lines, "Content-Type", "application/octet-stream")
	}
	if a := chunk(1, 2, callLine("/berths")+callLine("/boats")); a.status != 200 ||
		!strings.Contains(a.body, `"captures":2`) || !strings.Contains(a.body, `"dropped":2`) {
		t.Errorf("a chunk: %d %s", a.status, a.body)
	}
	for _, w := range []*watched{here, all} {
		name, data := w.next(t)
		var call wire.LiveCall
		if err := json.Unmarshal([]byte(data), &call); err != nil || name != "call" {
			t.Fatalf("%s %s: %v", name, data, err)
		}
		kinds := map[string]bool{}
		for _, f := range call.Findings {
			kinds[f.Kind+" "+f.Path] = true
		}
		if call.Capture.Endpoint != "GET /berths" || call.Capture.Audience != "visitor" || call.Batch.Captures != 2 ||
			!kinds["sensitive-field $[*].password"] || !kinds["unexpected-field $[*].note"] {
			t.Errorf("the first call is told as %s", data)
		}
		if strings.Contains(data, "low-tide") {
			t.Errorf("a value is told: %s", data)
		}
		if name, data := w.next(t); name != "call" || !strings.Contains(data, "/boats") {
			t.Errorf("the second call is told as %s %s", name, data)
		}
	}
	// The same chunk again is told to nobody, and changes nothing.
	if a := chunk(1, 2, callLine("/berths")); a.status != 200 || !strings.Contains(a.body, `"repeated":true`) ||
		!strings.Contains(a.body, `"captures":2`) {
		t.Errorf("the chunk again: %d %s", a.status, a.body)
	}
	if a := chunk(2, 2, `{"request":{"url":"https://api.quay.example/berths"}`); a.status != 400 ||
		!strings.Contains(a.body, "not whole") {
		t.Errorf("half a chunk: %d %s", a.status, a.body)
	}
	if a := chunk(2, 2, "hello"); a.status != 400 || !strings.Contains(a.body, "no recording that is read here") {
		t.Errorf("a chunk that is none: %d %s", a.status, a.body)
	}
	if a := s.call(t, "POST", fmt.Sprintf("/api/v1/batches/%d/end?dropped=3", b.ID), reviewer, ""); a.status != 200 ||
		!strings.Contains(a.body, `"dropped":3`) {
		t.Errorf("the end: %d %s", a.status, a.body)
	}
	if name, data := here.next(t); name != "end" || !strings.Contains(data, `"captures":2`) {
		t.Errorf("the end is told as %s %s", name, data)
	}
	if a := chunk(3, 0, callLine("/berths")); a.status != 409 {
		t.Errorf("a chunk after the end: %d %s", a.status, a.body)
	}
	select {
	case e := <-elsewhere.events:
		t.Errorf("of another service is told: %s", e)
	default:
	}
	// A service that stops lets those go who watch.
	s.stop()
	for _, w := range []*watched{here, elsewhere, all} {
		select {
		case <-w.ended:
		case <-time.After(20 * time.Second):
			t.Fatal("watching does not end with the service")
		}
	}
}
