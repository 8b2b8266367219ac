package service

import (
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/people"
	"inkret/store"
)

func ptr[T any](v T) *T { return &v }

// TestAWatchProvesAndTells follows a finding that a watch finds, proves fixed and brings back, while nobody looks.
func TestAWatchProvesAndTells(t *testing.T) {
	w, api, id := matrixWorld(t)
	owner := w.person("Noa", base.Reviewer)
	w.kept("skipper", "", "X-Skipper", "7")
	w.kept("skipper", "bo", "X-Skipper", "8")
	v, err := w.Evidence.MakeWatch(t.Context(), owner, "quay", evidence.WatchSaid{Name: ptr("nightly"),
		Captures: []int64{id}, Callers: []evidence.CallAs{{Audience: "skipper"}, {Audience: "skipper", Person: "bo"}},
		Every: ptr(6 * time.Hour), PerMinute: ptr(600)})
	if err != nil || v.Calls != 1 || len(v.Made) != 1 || len(v.Made[0].Sealed) == 0 || v.Next.After(w.clock.now) {
		t.Fatalf("it is %+v, %v", v, err)
	}
	run := func(after time.Duration) store.Watch {
		t.Helper()
		w.clock.now = w.clock.now.Add(after)
		if err := w.Evidence.RunWatches(t.Context()); err != nil {
			t.Fatal(err)
		}
		v, err := w.Evidence.WatchOf(t.Context(), v.ID)
		if err != nil {
			t.Fatal(err)
		}
		return v.Watch
	}
	foreign := func(when string, want finding.State) string {
		t.Helper()
		for _, f := range w.findings() {
			if f.Kind == "foreign-record" {
				if f.State != string(want) {
					t.Fatalf("%s it is %s, want %s", when, f.State, want)
				}
				return f.ID
			}
		}
		t.Fatalf("%s there is no foreign record", when)
		return ""
	}
	first := run(0)
	found := foreign("at first", finding.New)
	if first.Last.Calls != 2 || first.Last.Failed != "" || !first.Next.After(w.clock.now.Add(6*time.Hour-time.Minute)) {
		t.Errorf("after its first run it is %+v", first)
	}
	if run(time.Hour); len(api.calls) != 2 {
		t.Errorf("it ran before its time: %q", api.calls)
	}
	if _, err := w.Findings.Move(t.Context(), w.who, found, finding.Move{To: finding.AwaitingProof}); err != nil {
		t.Fatal(err)
	}
	api.strict = true
	b, err := w.Evidence.Batch(t.Context(), run(6*time.Hour).Last.BatchID)
	if err != nil || b.Origin != "watch" || b.Author != "the watch nightly" || b.Growing {
		t.Errorf("its batch is %+v, %v", b, err)
	}
	foreign("once it is fixed", finding.Closed)
	api.strict = false
	run(7 * time.Hour)
	foreign("once it is back", finding.Returned)
}

// TestAWatchThatFails checks that its owner is told once, that it stands at home, that refused credentials
// prove nothing, and that it recovers.
func TestAWatchThatFails(t *testing.T) {
	w, api, id := matrixWorld(t)
	owner := w.person("Noa", base.Reviewer)
	w.kept("office", "", "X-Desk", "1")
	v, err := w.Evidence.MakeWatch(t.Context(), owner, "quay", evidence.WatchSaid{Name: ptr("hourly"),
		Captures: []int64{id},
		Callers:  []evidence.CallAs{{Audience: "office"}}, Every: ptr(time.Hour)})
	if err != nil {
		t.Fatal(err)
	}
	run := func() store.Watch {
		t.Helper()
		w.clock.now = w.clock.now.Add(2 * time.Hour)
		if err := w.Evidence.RunWatches(t.Context()); err != nil {
			t.Fatal(err)
		}
		all, err := w.Evidence.Watches(t.Context(), "quay")
		if err != nil || len(all) != 1 {
			t.Fatal(all, err)
		}
		return all[0]
	}
	told := func() (n int, last string) {
		t.Helper()
		all, _, _, err := w.Notify.Notices(t.Context(), owner, false, base.Page{Number: 1, Size: 50})
		if err != nil {
			t.Fatal(err)
		}
		for _, one := range all {
			if one.Kind == "watch" {
				n++
				last = one.Text
			}
		}
		return n, last
	}
	if one := run(); one.Failing != "" || one.Last.Findings == 0 {
		t.Fatalf("at first it is %+v", one)
	}
	for _, f := range w.findings() {
		if f.Audience == "office" {
			if _, err := w.Findings.Move(t.Context(), w.who, f.ID,
				finding.Move{To: finding.AwaitingProof}); err != nil {
				t.Fatal(err)
			}
		}
	}
	w.kept("office", "", "X-Other", "1") // which the server does not know any more
	for range 2 {
		if one := run(); !strings.Contains(one.Failing, "credentials of office were refused") || one.Last.Calls != 1 {
			t.Fatalf("with refused credentials it is %+v", one)
		}
	}
	if n, last := told(); n != 1 || !strings.Contains(last, "401") {
		t.Errorf("its owner was told %d times, last %q", n, last)
	}
	for _, f := range w.findings() {
		if f.Audience == "office" && f.Kind != "undeclared-response" && f.State != "awaiting-proof" {
			t.Errorf("refused credentials leave %s %s", f.Path, f.State)
		}
	}
	w.kept("office", "", "X-Desk", "1")
	if one := run(); one.Failing != "" {
		t.Errorf("with others it is %+v", one)
	}
	dead := httptest.NewServer(api)
	dead.Close()
	if err := w.Evidence.AllowServer(t.Context(), w.who, "quay", "https://q.example", dead.URL); err != nil {
		t.Fatal(err)
	}
	if one := run(); !strings.Contains(one.Failing, "no answer") {
		t.Errorf("of a server that is gone it is %+v", one)
	}
	if n, _ := told(); n != 2 {
		t.Errorf("its owner was told %d times", n)
	}
	if err := w.Evidence.ForbidServer(t.Context(), w.who, "quay", "https://q.example"); err != nil {
		t.Fatal(err)
	}
	if one := run(); !strings.Contains(one.Failing, "not allowed") || one.Last.BatchID != 0 {
		t.Errorf("of a server that is not allowed it is %+v", one)
	}
	if err := w.Evidence.RemoveWatch(t.Context(), owner, v.ID); err != nil {
		t.Fatal(err)
	}
	if all, err := w.Evidence.Watches(t.Context(), ""); err != nil || len(all) != 0 {
		t.Errorf("left are %+v, %v", all, err)
	}
}

// TestWhatAWatchMayBe checks what is refused of a watch, what of it can be changed, and by whom.
func TestWhatAWatchMayBe(t *testing.T) {
	w, _, id := matrixWorld(t)
	good := func() evidence.WatchSaid { return evidence.WatchSaid{Name: ptr("nightly"), Captures: []int64{id}} }
	for name, change := range map[string]func(*evidence.WatchSaid){
		"no name":        func(s *evidence.WatchSaid) { s.Name = nil },
		"a long name":    func(s *evidence.WatchSaid) { s.Name = ptr(strings.Repeat("x", 101)) },
		"no calls":       func(s *evidence.WatchSaid) { s.Captures = nil },
		"an unsafe call": func(s *evidence.WatchSaid) { s.Captures = []int64{id + 1} },
		"too often":      func(s *evidence.WatchSaid) { s.Every = ptr(time.Minute) },
		"too seldom":     func(s *evidence.WatchSaid) { s.Every = ptr(200 * time.Hour) },
		"a bad window":   func(s *evidence.WatchSaid) { s.Window = ptr("night") },
		"too fast":       func(s *evidence.WatchSaid) { s.PerMinute = ptr(601) },
		"nobody":         func(s *evidence.WatchSaid) { s.Callers = []evidence.CallAs{{Audience: "pilot"}} },
		"a server":       func(s *evidence.WatchSaid) { s.Server = ptr("https://other.example") },
	} {
		say := good()
		change(&say)
		if _, err := w.Evidence.MakeWatch(t.Context(), w.who, "quay", say); err == nil {
			t.Errorf("%s is fine", name)
		}
	}
	v, err := w.Evidence.MakeWatch(t.Context(), w.who, "quay", good())
	if err != nil || v.Every != 24*time.Hour || v.PerMinute != 30 {
		t.Fatalf("%+v, %v", v, err)
	}
	_, err = w.Evidence.MakeWatch(t.Context(), w.who, "quay", good())
	said(t, err, base.Conflict, "another name")
	viewer := w.person("Iva", base.Viewer)
	_, err = w.Evidence.ChangeWatch(t.Context(), viewer, v.ID, evidence.WatchSaid{Paused: ptr(true)})
	said(t, err, base.Forbidden, "")
	_, err = w.Evidence.RunWatch(t.Context(), viewer, v.ID)
	said(t, err, base.Forbidden, "")
	said(t, w.Evidence.RemoveWatch(t.Context(), viewer, v.ID), base.Forbidden, "")
	if v, err = w.Evidence.ChangeWatch(t.Context(), w.who, v.ID, evidence.WatchSaid{Paused: ptr(true),
		Window: ptr("22:00-05:00"),
		Every:  ptr(3 * time.Hour)}); err != nil || !v.Paused || v.Begins != 22*60 || v.Calls != 1 ||
		v.Every != 3*time.Hour {
		t.Errorf("changed it is %+v, %v", v.Watch, err)
	}
	w.clock.now = w.clock.now.AddDate(0, 0, 9)
	if err := w.Evidence.RunWatches(t.Context()); err != nil {
		t.Fatal(err)
	}
	if v, err = w.Evidence.WatchOf(t.Context(), v.ID); err != nil || len(v.Runs) != 0 {
		t.Errorf("paused it ran: %+v, %v", v.Runs, err)
	}
	if v, err = w.Evidence.ChangeWatch(t.Context(), w.who, v.ID, evidence.WatchSaid{Paused: ptr(false)}); err != nil {
		t.Fatal(err)
	}
	for want, hour := range []int{12, 23} { // it is due, and the service was down in its hours
		y, m, d := w.clock.now.UTC().Date()
		w.clock.now = time.Date(y, m, d+1, hour, 0, 0, 0, time.UTC)
		if err := w.Evidence.RunWatches(t.Context()); err != nil {
			t.Fatal(err)
		}
		if v, err = w.Evidence.WatchOf(t.Context(), v.ID); err != nil || len(v.Runs) != want ||
			!v.Next.After(w.clock.now) {
			t.Errorf("at %d it ran %d times, and runs at %s, %v", hour, len(v.Runs), v.Next, err)
		}
	}
	if all, err := w.Evidence.Propose(t.Context(), "quay"); err != nil || len(all) != 1 || all[0].ID != id ||
		!strings.Contains(fmt.Sprint(all[0].Why), "skipper") {
		t.Errorf("proposed are %+v, %v", all, err)
	}
}

// TestAWatchWhoseOwnerLeft checks that the watch of somebody who left tells so, and belongs to who changes it then.
func TestAWatchWhoseOwnerLeft(t *testing.T) {
	w, _, id := matrixWorld(t)
	noa, ben := w.person("Noa", base.Reviewer), w.person("Ben", base.Reviewer)
	w.kept("skipper", "", "X-Skipper", "7")
	v, err := w.Evidence.MakeWatch(t.Context(), noa, "quay", evidence.WatchSaid{Name: ptr("nightly"),
		Captures: []int64{id}})
	if err != nil {
		t.Fatal(err)
	}
	change := evidence.WatchSaid{PerMinute: ptr(20)}
	if v, err = w.Evidence.ChangeWatch(t.Context(), ben, v.ID, change); err != nil || v.PersonID != noa.ID {
		t.Errorf("changed by somebody else it belongs to %s, %v", v.Person, err)
	}
	if _, err := w.People.ChangePerson(t.Context(), w.who, noa.ID, people.PersonWish{Active: ptr(false)}); err != nil {
		t.Fatal(err)
	}
	if v, err = w.Evidence.RunWatch(t.Context(), ben, v.ID); err != nil || !strings.Contains(v.Failing, "Noa") {
		t.Errorf("of somebody who left it is %q, %v", v.Failing, err)
	}
	if v, err = w.Evidence.ChangeWatch(t.Context(), ben, v.ID, change); err != nil || v.PersonID != ben.ID {
		t.Errorf("changed when its owner left it belongs to %s, %v", v.Person, err)
	}
	if v, err = w.Evidence.RunWatch(t.Context(), ben, v.ID); err != nil || v.Failing != "" || v.Runs[0].Calls != 1 {
		t.Errorf("then it is %q, %v", v.Failing, err)
	}
	var many []evidence.CallAs
	for range 101 {
		many = append(many, evidence.CallAs{Audience: "skipper", Person: fmt.Sprint(len(many))})
	}
	_, err = w.Evidence.ChangeWatch(t.Context(), ben, v.ID, evidence.WatchSaid{Callers: many})
	said(t, err, base.Invalid, "101")
	twice := []evidence.CallAs{{Audience: "skipper"}, {Audience: "skipper"}}
	if v, err = w.Evidence.ChangeWatch(t.Context(), ben, v.ID, evidence.WatchSaid{Callers: twice,
		Captures: []int64{id, id}}); err != nil || v.Calls != 1 || len(v.Callers) != 1 {
		t.Errorf("said twice it is %d calls as %v, %v", v.Calls, v.Callers, err)
	}
}
