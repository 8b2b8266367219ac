package service

import (
	"strings"
	"testing"

	"inkret/service/base"
	"inkret/service/review"
)

func (w *world) ask(who base.Caller, field string) review.RequestView {
	w.t.Helper()
	v, err := w.Review.Ask(w.t.Context(), who, base.Request{Service: "quay", Endpoint: "GET /skippers/{id}",
		Audience: "office",
		Entity:   "Skipper", Field: field, NeededBy: "desk", Reason: "staff write to late arrivals"})
	if err != nil {
		w.t.Fatal(err)
	}
	return v
}

// contractText returns the contract in force.
func (w *world) contractText() string {
	w.t.Helper()
	r, err := w.Review.Export(w.t.Context(), "quay")
	if err != nil {
		w.t.Fatal(err)
	}
	return r.Files[0].Text
}

func TestARequestIsGranted(t *testing.T) {
	w := newWorld(t)
	iva, teodor := w.person("Iva", base.Viewer), w.person("Teodor", base.Lead)
	v := w.ask(iva, "email")
	if v.State != review.RequestOpen || v.Class != "personal" || v.Author != "Iva" || v.Refuse != "" ||
		v.Grant != `email: {needed_by: [desk], reason: staff write to late arrivals}` {
		t.Errorf("request %+v", v)
	}
	if again := w.ask(w.who, "email"); again.ID != v.ID || again.Author != "Iva" {
		t.Errorf("the same request again is %d of %s", again.ID, again.Author)
	}
	if h, err := w.Findings.Home(t.Context(), w.who); err != nil || h.Requests != 1 {
		t.Errorf("%d wait at home, %v", h.Requests, err)
	}
	done, err := w.Review.DecideRequest(t.Context(), w.who, v.ID, review.Decision{Grant: true, Comment: "fine"})
	if err != nil || done.State != review.RequestGranted || done.Revision != 2 || done.DecidedBy != "Noor Adeyar" {
		t.Fatalf("decided %+v, %v", done, err)
	}
	if text := w.contractText(); strings.Contains(text, "email: {audiences") {
		t.Errorf("what widens to a personal field is in force without a second person:\n%s", text)
	}
	if _, err := w.Review.Decide(t.Context(), teodor, "quay", 2, review.Decision{Grant: true}); err != nil {
		t.Fatal(err)
	}
	want := `email: {audiences: [office], needed_by: [desk], reason: staff write to late arrivals}`
	if text := w.contractText(); !strings.Contains(text, want) {
		t.Errorf("the contract is\n%s\nwithout %s", text, want)
	}
	if got := w.told(iva); got != "request by Noor Adeyar: granted" {
		t.Errorf("who asked is told %q", got)
	}
	if _, err := w.Review.DecideRequest(t.Context(), w.who, v.ID, review.Decision{}); code(err) != base.Conflict {
		t.Errorf("decided twice: %v", err)
	}
	if entries, _, _ := w.Base.Trail(t.Context(), base.TrailFilter{},
		base.Page{Number: 1, Size: 9}); len(entries) < 2 ||
		entries[0].Action != "request granted" && entries[1].Action != "request granted" {
		t.Errorf("the trail says %+v", entries)
	}
}

func TestLessIsGrantedThanWasAsked(t *testing.T) {
	w := newWorld(t)
	v := w.ask(w.person("Iva", base.Viewer), "email")
	if _, err := w.Review.DecideRequest(t.Context(), w.who, v.ID,
		review.Decision{Grant: true, Less: &review.Less{Max: 40}}); code(err) != base.Invalid {
		t.Errorf("less without a reason: %v", err)
	}
	done, err := w.Review.DecideRequest(t.Context(), w.who, v.ID, review.Decision{Grant: true,
		Less: &review.Less{Max: 40, Optional: true,
			Member: "contact"}, Comment: "the first line will do"})
	if err != nil || done.State != review.RequestCountered || done.Decision != "the first line will do" {
		t.Fatalf("%+v, %v", done, err)
	}
	r, err := w.Review.RevisionOf(t.Context(), "quay", done.Revision)
	if err != nil || !strings.Contains(r.Files[0].Text,
		"contact: {field: email, max: 40, optional: true, audiences: [office]") {
		t.Errorf("the revision is\n%s, %v", r.Files[0].Text, err)
	}
}

func TestARequestIsDeclinedOrWithdrawn(t *testing.T) {
	w := newWorld(t)
	iva := w.person("Iva", base.Viewer)
	v := w.ask(iva, "email")
	if _, err := w.Review.DecideRequest(t.Context(), w.who, v.ID, review.Decision{}); code(err) != base.Invalid {
		t.Errorf("declined without a reason: %v", err)
	}
	if done, err := w.Review.DecideRequest(t.Context(), w.who, v.ID,
		review.Decision{Comment: "the desk rings them"}); err != nil ||
		done.State != review.RequestDeclined || done.Revision != 0 {
		t.Errorf("%+v, %v", done, err)
	}
	if got := w.told(iva); got != "request by Noor Adeyar: declined" {
		t.Errorf("who asked is told %q", got)
	}
	second := w.ask(iva, "email") // once declined it may be asked for again
	if second.ID == v.ID {
		t.Error("the declined request is given again")
	}
	if _, err := w.Review.WithdrawRequest(t.Context(), w.who, second.ID); code(err) != base.NotFound {
		t.Errorf("another takes it back: %v", err)
	}
	if done, err := w.Review.WithdrawRequest(t.Context(), iva, second.ID); err != nil ||
		done.State != review.RequestWithdrawn {
		t.Errorf("%+v, %v", done, err)
	}
	if all, total, err := w.Review.Requests(t.Context(), base.RequestFilter{Person: iva.ID},
		base.Page{Number: 1, Size: 9}); err != nil || total != 2 || all[0].ID != second.ID ||
		all[0].Class != "personal" {
		t.Errorf("requests %+v of %d, %v", all, total, err)
	}
}

func TestRequestsThatCannotBe(t *testing.T) {
	w := newWorld(t)
	good := base.Request{Service: "quay", Endpoint: "GET /skippers/{id}", Audience: "office", Entity: "Skipper",
		Field: "email", NeededBy: "desk", Reason: "r"}
	for name, change := range map[string]func(*base.Request){
		"no reason":        func(q *base.Request) { q.Reason = " " },
		"needed by nobody": func(q *base.Request) { q.NeededBy = "" },
		"no such endpoint": func(q *base.Request) { q.Endpoint = "GET /boats" },
		"no such audience": func(q *base.Request) { q.Audience = "crew" },
		"no such entity":   func(q *base.Request) { q.Entity = "Boat" },
		"no such field":    func(q *base.Request) { q.Field = "shoe_size" },
		"a long reason":    func(q *base.Request) { q.Reason = strings.Repeat("x", 3000) },
	} {
		q := good
		change(&q)
		if _, err := w.Review.Ask(t.Context(), w.who, q); code(err) != base.Invalid {
			t.Errorf("%s: %v", name, err)
		}
	}
	q := good
	q.Service = "none"
	if _, err := w.Review.Ask(t.Context(), w.who, q); code(err) != base.NotFound {
		t.Errorf("no such service: %v", err)
	}
	granted := good
	granted.Field = "name"
	v, err := w.Review.Ask(t.Context(), w.who, granted)
	if err != nil || !strings.Contains(v.Refuse, `grants a member "name" there already`) {
		t.Errorf("what is granted already: %q, %v", v.Refuse, err)
	}
	if _, err := w.Review.DecideRequest(t.Context(), w.who, v.ID,
		review.Decision{Grant: true}); code(err) != base.Conflict {
		t.Errorf("granted again: %v", err)
	}
	if _, err := w.Review.Request(t.Context(), 99); code(err) != base.NotFound {
		t.Errorf("no such request: %v", err)
	}
}
