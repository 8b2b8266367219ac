package service

import (
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
)

// waive asks for a waiver, or approves one.
func (w *world) waive(who Caller, id, until string) FindingView {
	w.t.Helper()
	v, err := w.Move(w.t.Context(), who, id, finding.Move{To: finding.Waived, Until: until, Comment: "until the kiosk is gone"})
	if err != nil {
		w.t.Fatal(err)
	}
	return v
}

func (w *world) unread(who Caller) []Notice {
	w.t.Helper()
	all, _, _, err := w.Notices(w.t.Context(), who, true, Page{Number: 1, Size: 50})
	if err != nil {
		w.t.Fatal(err)
	}
	return all
}

func TestAGraveFindingIsWaivedByTwo(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	hash := w.theHash()
	teodor, iva, marlo := w.person("Teodor", Lead), w.person("Iva", Lead), w.person("Marlo", Administrator)

	v := w.waive(w.who, hash.ID, "2026-05-10")
	if v.State != "new" || v.AskedUntil != "2026-05-10" || v.AskedBy != "Noor Adeyar" || v.Approver != "" {
		t.Errorf("asked for: %+v", v.Finding)
	}
	for _, lead := range []Caller{teodor, iva, marlo} {
		if n := w.unread(lead); len(n) != 1 || n[0].Kind != "waiver" || n[0].FindingID != hash.ID || !strings.Contains(n[0].Text, "until 2026-05-10 waits for approval: until the kiosk is gone") {
			t.Errorf("%s is told %+v", lead.Name, n)
		}
	}
	if h, err := w.Home(t.Context(), teodor); err != nil || h.WaiversAsked != 1 {
		t.Errorf("a lead's home: %d waivers wait, %v", h.WaiversAsked, err)
	}
	if v := w.waive(w.person("Oda", Reviewer), hash.ID, "2026-05-11"); v.State != "new" || v.AskedUntil != "2026-05-11" || v.AskedBy != "Oda" {
		t.Errorf("another reviewer approves: %+v", v.Finding)
	}

	v, err := w.Move(t.Context(), teodor, hash.ID, finding.Move{To: finding.Waived})
	if err != nil || v.State != "waived" || v.Until != "2026-05-11" || v.Approver != "Teodor" || v.AskedUntil != "" {
		t.Fatalf("approved: %+v, %v", v.Finding, err)
	}
	var happened []string
	for _, e := range v.History[1:] {
		happened = append(happened, e.Author+" "+e.Kind+" "+e.Became+" "+e.Until)
	}
	if got, want := strings.Join(happened, "; "), "Noor Adeyar waiver asked for 2026-05-10; Oda waiver asked for 2026-05-11; Teodor move waived 2026-05-11"; got != want {
		t.Errorf("history %q, want %q", got, want)
	}

	// made longer it is asked for anew, and stays as it is till then
	if v := w.waive(teodor, hash.ID, "2026-06-01"); v.State != "waived" || v.Until != "2026-05-11" || v.AskedUntil != "2026-06-01" || v.Approver != "Teodor" {
		t.Errorf("a lead alone makes it longer: %+v", v.Finding)
	}
	if v := w.waive(iva, hash.ID, ""); v.Until != "2026-06-01" || v.Approver != "Iva" {
		t.Errorf("approved by another lead: %+v", v.Finding)
	}
	if n := w.unread(teodor); n[0].Text != "the waiver is approved until 2026-06-01" {
		t.Errorf("who asked is told %+v", n[0])
	}
}

func TestAWaiverIsDeclined(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	hash, teodor := w.theHash(), w.person("Teodor", Lead)
	decline := Wish{Decline: true, Comment: "the kiosk is gone already"}
	if c, err := w.ChangeFindings(t.Context(), teodor, []string{hash.ID}, nil, decline, false); err != nil || c.Findings != 0 || c.Refused[0].Why != "no waiver of it waits for approval" {
		t.Errorf("nothing was asked for: %+v, %v", c, err)
	}
	w.waive(w.who, hash.ID, "2026-05-10")
	if _, err := w.ChangeFindings(t.Context(), teodor, []string{hash.ID}, nil, Wish{Decline: true}, false); code(err) != Invalid {
		t.Errorf("without a reason: %v", err)
	}
	if c, err := w.ChangeFindings(t.Context(), w.person("Oda", Reviewer), []string{hash.ID}, nil, decline, false); err != nil || c.Findings != 0 || !strings.Contains(c.Refused[0].Why, "needs the role lead") {
		t.Errorf("by a reviewer: %+v, %v", c, err)
	}
	c, err := w.ChangeFindings(t.Context(), teodor, []string{hash.ID}, nil, decline, false)
	if err != nil || c.Findings != 1 || c.Words != "waiver declined, with a comment" {
		t.Errorf("%+v, %v", c, err)
	}
	if v := w.theHash(); v.State != "new" || v.AskedUntil != "" || v.AskedByID != 0 {
		t.Errorf("declined: %+v", v.Finding)
	}
	if n := w.unread(w.who); len(n) != 1 || !strings.Contains(n[0].Text, "until 2026-05-10 was declined: the kiosk is gone already") {
		t.Errorf("who asked is told %+v", n)
	}
	if _, _, err := w.UndoChange(t.Context(), teodor, c.ID); err != nil {
		t.Fatal(err)
	}
	if v := w.theHash(); v.AskedUntil != "2026-05-10" || v.AskedByID != w.who.ID {
		t.Errorf("undone: %+v", v.Finding)
	}
}

// TestOneNoticeTellsOfManyWaivers keeps a bulk wish from drowning those who decide.
func TestOneNoticeTellsOfManyWaivers(t *testing.T) {
	w := newWorld(t)
	all := w.several()
	teodor := w.person("Teodor", Lead)
	if c, err := w.ChangeFindings(t.Context(), w.who, ids(all), nil, Wish{To: finding.Waived, Until: "2026-06-01", Comment: "a rewrite comes"}, false); err != nil || c.Findings != 4 {
		t.Fatalf("%+v, %v", c, err)
	}
	if n := w.unread(teodor); len(n) != 1 || !strings.Contains(n[0].Text, "and 1 more wait for approval: a rewrite comes") {
		t.Errorf("told %+v", n)
	}
	waived, _, err := w.Findings(t.Context(), FindingFilter{States: []string{"waived"}}, Page{Number: 1, Size: 10})
	if err != nil || len(waived) != 2 || waived[0].Approver != "Noor Adeyar" {
		t.Errorf("waived at once are %+v, %v", waived, err)
	}
	if c, err := w.ChangeFindings(t.Context(), teodor, nil, &FindingFilter{Asked: true}, Wish{To: finding.Waived}, false); err != nil || c.Findings != 2 {
		t.Errorf("approved together: %+v, %v", c, err)
	}
}

// TestAWaiverEndsOnItsDay moves the clock over a waiver's end, far over it, and back.
func TestAWaiverEndsOnItsDay(t *testing.T) {
	w := newWorld(t)
	all := w.several()
	low := all[len(all)-1]
	w.waive(w.who, low.ID, "2026-05-03")
	hash := w.theHash()
	w.waive(w.who, hash.ID, "2026-05-02") // and waits for approval
	end := func(day int, hour int) (state string) {
		t.Helper()
		w.clock.now = time.Date(2026, 5, day, hour, 59, 0, 0, time.UTC)
		if err := w.EndWaivers(t.Context()); err != nil {
			t.Fatal(err)
		}
		v, err := w.Finding(t.Context(), w.who, low.ID)
		if err != nil {
			t.Fatal(err)
		}
		return v.State
	}
	if state := end(3, 23); state != "waived" {
		t.Errorf("in its last hour it is %s", state)
	}
	if v := w.theHash(); v.AskedUntil != "" || v.History[len(v.History)-1].Became != "not approved in time" {
		t.Errorf("what was not approved in time: %+v", v.Finding)
	}
	if state := end(20, 0); state != "returned" {
		t.Errorf("long after it is %s", state)
	}
	v, err := w.Finding(t.Context(), w.who, low.ID)
	last := v.History[len(v.History)-1]
	if err != nil || last.Was != "waived" || last.Became != "returned" || last.Comment != "the waiver's last day was 2026-05-03" || v.Until != "" || v.Approver != "" {
		t.Errorf("%+v, last event %+v, %v", v.Finding, last, err)
	}
	if state := end(1, 0); state != "returned" || len(v.History) != 3 {
		t.Errorf("with the clock set back it is %s, history %+v", state, v.History)
	}
	if end(21, 0); len(v.History) != 3 {
		t.Errorf("it ended twice: %+v", v.History)
	}
}
