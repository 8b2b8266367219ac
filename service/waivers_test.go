package service

import (
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/service/base"
	"inkret/service/findings"
)

// waive asks for a waiver, or approves one.
func (w *world) waive(who base.Caller, id, until string) findings.FindingView {
	w.t.Helper()
	v, err := w.Findings.Move(w.t.Context(), who, id, finding.Move{To: finding.Waived, Until: until,
		Comment: "until the kiosk is gone"})
	if err != nil {
		w.t.Fatal(err)
	}
	return v
}

func (w *world) unread(who base.Caller) []base.Notice {
	w.t.Helper()
	all, _, _, err := w.Notify.Notices(w.t.Context(), who, true, base.Page{Number: 1, Size: 50})
	if err != nil {
		w.t.Fatal(err)
	}
	return all
}

func TestAGraveFindingIsWaivedByTwo(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	hash := w.theHash()
	teodor, iva, marlo := w.person("Teodor", base.Lead), w.person("Iva", base.Lead),
		w.person("Marlo", base.Administrator)

	v := w.waive(w.who, hash.ID, "2026-05-10")
	if v.State != "new" || v.AskedUntil != "2026-05-10" || v.AskedBy != "Noor Adeyar" || v.Approver != "" {
		t.Errorf("asked for: %+v", v.Finding)
	}
	for _, lead := range []base.Caller{teodor, iva, marlo} {
		if n := w.unread(lead); len(n) != 1 || n[0].Kind != "waiver" || n[0].FindingID != hash.ID ||
			!strings.Contains(n[0].Text, "until 2026-05-10 waits for approval: until the kiosk is gone") {
			t.Errorf("%s is told %+v", lead.Name, n)
		}
	}
	if h, err := w.Findings.Home(t.Context(), teodor); err != nil || h.WaiversAsked != 1 {
		t.Errorf("a lead's home: %d waivers wait, %v", h.WaiversAsked, err)
	}
	if v := w.waive(w.person("Oda", base.Reviewer), hash.ID, "2026-05-11"); v.State != "new" ||
		v.AskedUntil != "2026-05-11" || v.AskedBy != "Oda" {
		t.Errorf("another reviewer approves: %+v", v.Finding)
	}

	v, err := w.Findings.Move(t.Context(), teodor, hash.ID, finding.Move{To: finding.Waived})
	if err != nil || v.State != "waived" || v.Until != "2026-05-11" || v.Approver != "Teodor" || v.AskedUntil != "" {
		t.Fatalf("approved: %+v, %v", v.Finding, err)
	}
	var happened []string
	for _, e := range v.History[1:] {
		happened = append(happened, e.Author+" "+e.Kind+" "+e.Became+" "+e.Until)
	}
	if got, want := strings.Join(happened, "; "),
		"Noor Adeyar waiver asked for 2026-05-10; Oda waiver asked for 2026-05-11; Teodor move waived "+
			"2026-05-11"; got != want {
		t.Errorf("history %q, want %q", got, want)
	}

	// made longer it is asked for anew, and stays as it is till then
	if v := w.waive(teodor, hash.ID, "2026-06-01"); v.State != "waived" || v.Until != "2026-05-11" ||
		v.AskedUntil != "2026-06-01" || v.Approver != "Teodor" {
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
	hash, teodor := w.theHash(), w.person("Teodor", base.Lead)
	decline := findings.Wish{Decline: true, Comment: "the kiosk is gone already"}
	if c, err := w.Findings.ChangeFindings(t.Context(), teodor, []string{hash.ID}, nil, decline); err != nil ||
		c.Findings != 0 || c.Refused[0].Why != "nothing of it waits for approval" {
		t.Errorf("nothing was asked for: %+v, %v", c, err)
	}
	w.waive(w.who, hash.ID, "2026-05-10")
	if _, err := w.Findings.ChangeFindings(t.Context(), teodor, []string{hash.ID}, nil,
		findings.Wish{Decline: true}); code(err) != base.Invalid {
		t.Errorf("without a reason: %v", err)
	}
	if c, err := w.Findings.ChangeFindings(t.Context(), w.person("Oda", base.Reviewer), []string{hash.ID}, nil,
		decline); err != nil || c.Findings != 0 || !strings.Contains(c.Refused[0].Why, "needs the role lead") {
		t.Errorf("by a reviewer: %+v, %v", c, err)
	}
	c, err := w.Findings.ChangeFindings(t.Context(), teodor, []string{hash.ID}, nil, decline)
	if err != nil || c.Findings != 1 || c.Words != "waiver declined, with a comment" {
		t.Errorf("%+v, %v", c, err)
	}
	if v := w.theHash(); v.State != "new" || v.AskedUntil != "" || v.AskedByID != 0 {
		t.Errorf("declined: %+v", v.Finding)
	}
	if n := w.unread(w.who); len(n) != 1 ||
		!strings.Contains(n[0].Text, "until 2026-05-10 was declined: the kiosk is gone already") {
		t.Errorf("who asked is told %+v", n)
	}
	undone, left, err := w.Findings.UndoChange(t.Context(), teodor, c.ID)
	if err != nil || undone != 0 || len(left) != 1 || !strings.Contains(left[0].Why, "undo brings no decision back") {
		t.Errorf("undone: %d, %+v, %v", undone, left, err)
	}
	if v := w.theHash(); v.AskedTo != "" || v.AskedUntil != "" || v.AskedByID != 0 {
		t.Errorf("after that: %+v", v.Finding)
	}
}

// TestNoSevereFindingIsNoLeakAlone goes through who takes a severe finding for no leak: one asks, another
// approves, whatever sessions, tokens and roles the first one has.
func TestNoSevereFindingIsNoLeakAlone(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	hash := w.theHash()
	lead, other := w.person("Teodor", base.Lead), w.person("Marlo", base.Administrator)
	decide := findings.Wish{To: finding.NotALeak, Comment: "a sample of the documentation"}
	do := func(who base.Caller, wish findings.Wish) findings.Changed {
		t.Helper()
		c, err := w.Findings.ChangeFindings(t.Context(), who, []string{hash.ID}, nil, wish)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	if do(lead, decide); w.theHash().State != "new" || w.theHash().AskedTo != "not-a-leak" ||
		w.theHash().AskedByID != lead.ID {
		t.Errorf("asked: %+v", w.theHash().Finding)
	}
	again := lead // by a token, after he became administrator
	again.Key, again.Role = base.Key{ID: 9, Kind: "token", Scope: base.ScopeEverything}, base.Administrator
	if c := do(again, decide); c.Findings != 0 ||
		!strings.Contains(c.Refused[0].Why, "somebody else who is lead approves it") {
		t.Errorf("approved by who asked: %+v", c)
	}
	// a reviewer asks as well, and approves nothing
	if c := do(w.who, decide); c.Findings != 0 || w.theHash().AskedByID != lead.ID {
		t.Errorf("by a reviewer: %+v, %+v", c, w.theHash().Finding)
	}
	if c := do(w.person("Tess", base.Lead), findings.Wish{To: finding.Waived, Until: "2026-06-01",
		Comment: "or waive it"}); c.Findings != 1 || w.theHash().State != "new" || w.theHash().AskedTo != "waived" {
		t.Errorf("asking for something else approves what was asked before: %+v, %+v", c, w.theHash().Finding)
	}
	do(lead, decide)
	if c := do(other, decide); c.Findings != 1 || w.theHash().State != "not-a-leak" || w.theHash().AskedTo != "" ||
		w.theHash().Approver == "" {
		t.Errorf("approved: %+v, %+v", c, w.theHash().Finding)
	}
	var actions []string
	entries, _, err := w.Base.Trail(t.Context(), base.TrailFilter{Subject: "finding " + hash.ID},
		base.Page{Number: 1, Size: 20})
	for _, e := range entries {
		actions = append(actions, e.Action+" by "+e.Email)
	}
	if want := "approve not-a-leak by marlo@quay.example, ask for not-a-leak by teodor@quay.example, ask for waived " +
		"by tess@quay.example, ask for not-a-leak by teodor@quay.example"; err != nil ||
		strings.Join(actions, ", ") != want {
		t.Errorf("the trail says %s, %v", strings.Join(actions, ", "), err)
	}
	if !strings.Contains(entries[2].Detail, "until 2026-06-01") {
		t.Errorf("the day is not on the trail: %+v", entries[2])
	}
	// What was decided can be taken back by one; an undo of that brings the decision back to nobody.
	c := do(w.who, findings.Wish{To: finding.Confirmed, Comment: "it is one"})
	undone, left, err := w.Findings.UndoChange(t.Context(), w.who, c.ID)
	if err != nil || undone != 0 || len(left) != 1 || w.theHash().State != "confirmed" {
		t.Errorf("undone: %d %+v %v, %s", undone, left, err, w.theHash().State)
	}
}

// TestAWaiverHoldsForItsSeverity lets a waived finding become more severe.
func TestAWaiverHoldsForItsSeverity(t *testing.T) {
	w := newWorld(t)
	mild, severe := `{"id":7,"name":"Ada","moorings":[{"x":1}]}`,
		`{"id":7,"name":"Ada","moorings":[{"x":"ada.moor@sails.example"}]}`
	w.upload("monday.har", recording(mild))
	find := func() base.Finding {
		t.Helper()
		all, _, err := w.Findings.Findings(t.Context(), base.FindingFilter{Words: "moorings",
			Kinds:  []string{"unexpected-relation"},
			States: []string{"new", "waived", "returned", "confirmed"}}, base.Page{Number: 1, Size: 10})
		if err != nil || len(all) != 1 {
			t.Fatalf("%+v, %v", all, err)
		}
		return all[0]
	}
	f := find()
	if f.Severity >= int(finding.ByTwo) {
		t.Fatalf("it begins as %d", f.Severity)
	}
	if c, err := w.Findings.ChangeFindings(t.Context(), w.who, []string{f.ID}, nil, findings.Wish{To: finding.Waived,
		Until:   "2099-01-01",
		Comment: "a relic"}); err != nil || c.Findings != 1 || find().State != "waived" {
		t.Fatalf("%+v, %v", c, err)
	}
	w.upload("tuesday.har", recording(mild))
	if find().State != "waived" {
		t.Errorf("seen again as it was: %s", find().State)
	}
	w.upload("wednesday.har", recording(severe))
	if got := find(); got.Severity <= f.Severity || got.State != "returned" || got.Until != "" {
		t.Errorf("more severe, it is %+v", got)
	}
}

// TestOneNoticeTellsOfManyWaivers keeps a bulk wish from drowning those who decide.
func TestOneNoticeTellsOfManyWaivers(t *testing.T) {
	w := newWorld(t)
	all := w.several()
	teodor := w.person("Teodor", base.Lead)
	if c, err := w.Findings.ChangeFindings(t.Context(), w.who, ids(all), nil, findings.Wish{To: finding.Waived,
		Until:   "2026-06-01",
		Comment: "a rewrite comes"}); err != nil || c.Findings != 4 {
		t.Fatalf("%+v, %v", c, err)
	}
	if n := w.unread(teodor); len(n) != 1 ||
		!strings.Contains(n[0].Text, "and 1 more wait for approval: a rewrite comes") {
		t.Errorf("told %+v", n)
	}
	waived, _, err := w.Findings.Findings(t.Context(), base.FindingFilter{States: []string{"waived"}},
		base.Page{Number: 1, Size: 10})
	if err != nil || len(waived) != 2 || waived[0].Approver != "Noor Adeyar" {
		t.Errorf("waived at once are %+v, %v", waived, err)
	}
	if c, err := w.Findings.ChangeFindings(t.Context(), teodor, nil, &base.FindingFilter{Asked: true},
		findings.Wish{To: finding.Waived}); err != nil || c.Findings != 2 {
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
		if err := w.Findings.EndWaivers(t.Context()); err != nil {
			t.Fatal(err)
		}
		v, err := w.Findings.Finding(t.Context(), w.who, low.ID)
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
	v, err := w.Findings.Finding(t.Context(), w.who, low.ID)
	last := v.History[len(v.History)-1]
	if err != nil || last.Was != "waived" || last.Became != "returned" ||
		last.Comment != "the waiver's last day was 2026-05-03" || v.Until != "" || v.Approver != "" {
		t.Errorf("%+v, last event %+v, %v", v.Finding, last, err)
	}
	if state := end(1, 0); state != "returned" || len(v.History) != 3 {
		t.Errorf("with the clock set back it is %s, history %+v", state, v.History)
	}
	if end(21, 0); len(v.History) != 3 {
		t.Errorf("it ended twice: %+v", v.History)
	}
}
