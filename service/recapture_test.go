package service

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"inkret/core/exchange"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/review"
)

func header(pairs ...string) exchange.Header {
	var h exchange.Header
	for i := 0; i+1 < len(pairs); i += 2 {
		h = append(h, exchange.HeaderField{Name: pairs[i], Value: pairs[i+1]})
	}
	return h
}

// skippers is an API that is repaired for the office alone, and notes its calls.
type skippers struct {
	mu    sync.Mutex
	calls []string
}

func (s *skippers) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	s.calls = append(s.calls, fmt.Sprintf("%s %s%s desk=%s auth=%s", r.Method, r.Host, r.URL.RequestURI(),
		r.Header.Get("X-Desk"), r.Header.Get("Authorization")))
	s.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	if r.Header.Get("X-Desk") == "9" {
		fmt.Fprint(w, clean)
	} else {
		fmt.Fprint(w, leaky)
	}
}

func TestACallIsMadeAgain(t *testing.T) {
	w := newWorld(t)
	api := &skippers{}
	server := httptest.NewServer(api)
	defer server.Close()
	w.alone()
	if _, _, err := w.Review.Apply(t.Context(), w.who, "quay",
		review.Proposed{Files: []base.ContractFile{{Name: "quay.yaml", Text: strings.Replace(harbour, "audiences:",
			`servers: ["https://q.example"]`+"\naudiences:", 1)}}}); err != nil {
		t.Fatal(err)
	}
	w.upload("monday.har", recording(leaky))
	first := w.theHash()
	id := first.Evidence[0].CaptureID

	_, err := w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Capture: id})
	said(t, err, base.Forbidden, "inkret service allow")
	said(t, w.Evidence.AllowServer(t.Context(), w.who, "quay", "https://other.example", ""), base.Invalid,
		"https://q.example")
	said(t, w.Evidence.AllowServer(t.Context(), w.who, "quay", "https://q.example", "127.0.0.1"), base.Invalid,
		"http://127.0.0.1")
	if err := w.Evidence.AllowServer(t.Context(), w.who, "quay", "https://q.example", server.URL); err != nil {
		t.Fatal(err)
	}
	_, err = w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Capture: id})
	said(t, err, base.Conflict, "credentials set office")
	said(t, w.Evidence.SetCredentials(t.Context(), w.who, "quay", evidence.CallAs{Audience: "office"},
		header("X-Desk", "9\r\nX-More: 1")),
		base.Invalid,
		"one line")
	said(t, w.Evidence.SetCredentials(t.Context(), w.who, "quay", evidence.CallAs{Audience: "office"},
		header("X Desk", "9")), base.Invalid,
		"needs a name")
	said(t, w.Evidence.SetCredentials(t.Context(), w.who, "quay", evidence.CallAs{Audience: "pilot"},
		header("X-Desk", "9")), base.Invalid,
		"no audience")
	if err := w.Evidence.SetCredentials(t.Context(), w.who, "quay", evidence.CallAs{Audience: "office"},
		header("X-Desk", "9", "Authorization",
			"Bearer another")); err != nil {
		t.Fatal(err)
	}

	b, err := w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Capture: id})
	if err != nil || b.Captures != 1 || b.Findings != 0 || b.Origin != "recapture" || b.Growing {
		t.Fatalf("made again it is %+v, %v", b, err)
	}
	as, err := w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Capture: id, Audience: "visitor"})
	if err != nil || as.BySeverity["critical"] != 1 {
		t.Fatalf("made again as a visitor it is %+v, %v", as, err)
	}
	want := []string{"GET q.example/skippers/7?key=" + secretToken + " desk=9 auth=Bearer another",
		"GET q.example/skippers/7?key=" + secretToken + " desk= auth="}
	if fmt.Sprint(api.calls) != fmt.Sprint(want) {
		t.Errorf("calls %q, want %q", api.calls, want)
	}
	v, err := w.Evidence.Capture(t.Context(), id)
	if err != nil || len(v.Again) != 2 || v.Again[0].Audience != "visitor" || v.Again[1].Audience != "office" ||
		v.Again[1].Repeats != id {
		t.Errorf("repeats of the capture: %+v, %v", v.Again, err)
	}
	if b, err := w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Endpoint: first.EndpointID}); err != nil ||
		b.Captures != 2 ||
		!strings.HasPrefix(b.Name, "again: GET /skippers") {
		t.Errorf("the endpoint's calls again: %+v, %v", b, err)
	}
	if b, err := w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Batch: 1}); err != nil || b.Captures != 1 {
		t.Errorf("the batch's calls again: %+v, %v", b, err)
	}
	kept, err := w.Evidence.Credentials(t.Context(), "quay")
	if err != nil || len(kept) != 1 || strings.Join(kept[0].Names, ",") != "X-Desk,Authorization" ||
		strings.Contains(string(kept[0].Sealed), "another") {
		t.Errorf("kept are %+v, %v", kept, err)
	}
	if strings.Contains(w.log.String(), "another") {
		t.Error("credentials are in the log")
	}
	servers, err := w.Evidence.Servers(t.Context(), "quay")
	if err != nil || len(servers) != 1 || !servers[0].Allowed || servers[0].Address != server.URL {
		t.Errorf("servers %+v, %v", servers, err)
	}

	server.Close()
	b, err = w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Capture: id})
	if err != nil || b.Skipped != 1 || len(b.SkipReasons) != 1 || !strings.HasPrefix(b.SkipReasons[0].Reason,
		"the call failed: nothing answers there") {
		t.Errorf("a server that is gone: %+v, %v", b, err)
	}
	if err := w.Evidence.SetCredentials(t.Context(), w.who, "quay", evidence.CallAs{Audience: "office"},
		nil); err != nil {
		t.Fatal(err)
	}
	if err := w.Evidence.ForbidServer(t.Context(), w.who, "quay", "https://q.example"); err != nil {
		t.Fatal(err)
	}
	said(t, w.Evidence.ForbidServer(t.Context(), w.who, "quay", "https://q.example"), base.NotFound, "no server")
	actions := map[string]int{}
	entries, _, _ := w.Base.Trail(t.Context(), base.TrailFilter{}, base.Page{Number: 1, Size: 50})
	for _, e := range entries {
		actions[e.Action]++
		if strings.Contains(e.Detail, "another") {
			t.Error("credentials are on the trail")
		}
	}
	if actions["allow server"] != 1 || actions["forbid server"] != 1 || actions["set credentials"] != 1 ||
		actions["remove credentials"] != 1 {
		t.Errorf("the trail has %v", actions)
	}
}

func TestWritesAreMadeAgainOnlyWhenConfirmed(t *testing.T) {
	w := newWorld(t)
	api := &skippers{}
	server := httptest.NewServer(api)
	defer server.Close()
	if err := w.Evidence.AllowServer(t.Context(), w.who, "quay", "https://q.example", server.URL); err != nil {
		t.Fatal(err)
	}
	b, err := w.Evidence.OpenLive(t.Context(), w.who, "quay", "stage", "visitor")
	if err != nil {
		t.Fatal(err)
	}
	post := `{"request":{"method":"POST","url":"https://q.example/skippers","body":{"name":"A"}},"response":{"status":201,"headers":[{"name":"Content-Type","value":"application/json"}],"body":{"id":1}}}` + "\n"
	if _, err := w.Evidence.ExtendLive(t.Context(), w.who, b.ID, 1, 0, strings.NewReader(post+line(clean)+
		line(clean))); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Evidence.CloseLive(t.Context(), w.who, b.ID, 0); err != nil {
		t.Fatal(err)
	}
	if again, err := w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Batch: b.ID}); err != nil ||
		again.Captures != 1 {
		t.Errorf("without confirmation: %+v, %v", again, err)
	}
	all, _, _, err := w.Evidence.Captures(t.Context(), base.CaptureFilter{Words: "POST"}, base.Page{Number: 1, Size: 5})
	if err != nil || len(all) != 1 {
		t.Fatal(err)
	}
	_, err = w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Capture: all[0].ID})
	said(t, err, base.Conflict, "may change something")
	_, err = w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Endpoint: all[0].EndpointID})
	said(t, err, base.Conflict, "may change something")
	if again, err := w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Capture: all[0].ID,
		Writes: true}); err != nil ||
		again.Captures != 1 {
		t.Errorf("confirmed: %+v, %v", again, err)
	}
	if len(api.calls) != 2 || !strings.HasPrefix(api.calls[1], "POST q.example/skippers") {
		t.Errorf("calls %q", api.calls)
	}
	_, err = w.Evidence.Repeat(t.Context(), w.who, evidence.Again{})
	said(t, err, base.Invalid, "say which calls")
	_, err = w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Capture: 999})
	said(t, err, base.NotFound, "no capture 999")
	_, err = w.Evidence.Repeat(t.Context(), w.who, evidence.Again{Batch: 999})
	said(t, err, base.NotFound, "no recorded call")
}
