package service

import (
	"fmt"
	"strings"
	"testing"

	"inkret/core/finding"
	"inkret/service/base"
	"inkret/service/findings"
	"inkret/service/notify"
	"inkret/service/people"
	"inkret/service/review"
	"inkret/store"
)

// news returns what somebody was told and has not read, the oldest first, and marks it as read.
func (w *world) news(who base.Caller) string {
	w.t.Helper()
	var all []string
	notices := w.unread(who)
	for _, n := range notices {
		what := n.Kind + ": " + n.Text
		if n.More > 0 {
			what += fmt.Sprintf(" +%d", n.More)
		}
		all = append([]string{what}, all...)
	}
	if len(notices) > 0 {
		if err := w.Notify.ReadNotices(w.t.Context(), who, notices[0].ID); err != nil {
			w.t.Fatal(err)
		}
	}
	return strings.Join(all, "\n")
}

// TestWhoHasAFindingIsToldOfWhatOthersDo, whichever way they do it.
func TestWhoHasAFindingIsToldOfWhatOthersDo(t *testing.T) {
	w := newWorld(t)
	w.alone()
	w.upload("a.har", recording(`{"id":7,"name":"Ada","shoe":"38","hat":"57"}`))
	all := w.findings()
	oda, iva := w.person("Oda", base.Reviewer), w.person("Iva", base.Lead)
	change := func(who base.Caller, wish findings.Wish, ids ...string) findings.Changed {
		t.Helper()
		c, err := w.Findings.ChangeFindings(t.Context(), who, ids, nil, wish)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	due, none := "2026-06-01", ""
	var nobody int64
	shoe, both := all[0].ID, []string{all[0].ID, all[1].ID}
	change(w.who, findings.Wish{Person: &oda.ID, Comment: "yours"}, shoe)
	if got := w.news(oda); got != "assigned: yours" {
		t.Errorf("assigned: she is told\n%s", got)
	}
	var bulk findings.Changed
	for _, c := range []struct {
		name string
		do   func()
		want string
	}{
		{"three moves", func() {
			change(w.who, findings.Wish{To: finding.Confirmed}, shoe)
			change(w.who, findings.Wish{To: finding.InRepair}, shoe)
			change(iva, findings.Wish{To: finding.AwaitingProof}, shoe)
		}, "moved: new to confirmed\nmoved: confirmed to in-repair\nmoved: in-repair to awaiting-proof"},
		{"a day", func() { change(w.who, findings.Wish{Due: &due}, shoe) },
			"changed: due 2026-06-01 instead of 2026-06-30"},
		{"labels", func() { change(w.who, findings.Wish{Add: []string{"summer"}}, shoe) }, "changed: labels: summer"},
		{"a change of many", func() { bulk = change(w.who, findings.Wish{To: finding.Confirmed, Due: &none}, both...) },
			"moved: awaiting-proof to confirmed; due on no day instead of 2026-06-01"},
		{"its undo", func() {
			if _, _, err := w.Findings.UndoChange(t.Context(), w.who, bulk.ID); err != nil {
				t.Fatal(err)
			}
		}, "moved: undone: confirmed to awaiting-proof; due 2026-06-01 instead of on no day"},
		{"what she does herself", func() {
			change(oda, findings.Wish{To: finding.InRepair, Add: []string{"hers"}},
				shoe)
		}, ""},
		{"a comment", func() {
			if _, err := w.Findings.Comment(t.Context(), w.who, shoe, "well"); err != nil {
				t.Fatal(err)
			}
		}, "comment: well"},
		{"contracts that permit it",
			func() { w.apply(quay(t, "name: }", "name: , shoe: {type: string, optional: true}}"), 0) },
			"moved: in-repair to not-a-leak: revision 2 of the contracts permits it"},
		{"contracts that do not any more", func() { w.apply(quay(t), 0) },
			"returned: revision 3 of the contracts permits it no more"},
		{"given to nobody", func() { change(w.who, findings.Wish{Person: &nobody}, shoe) },
			"changed: assigned to team accounts instead of Oda"},
		{"a move, which she follows from having had it", func() {
			change(w.who, findings.Wish{To: finding.Confirmed},
				shoe)
		},
			"moved: returned to confirmed"},
	} {
		if c.do(); true {
			if got := w.news(oda); got != c.want {
				t.Errorf("%s: she is told\n%s\nwant\n%s", c.name, got, c.want)
			}
		}
	}
}

// TestMentionsWorkInEveryComment: of a move, of a change of many, in bold, in brackets, at the end.
func TestMentionsWorkInEveryComment(t *testing.T) {
	w := newWorld(t)
	w.upload("a.har", recording(`{"id":7,"name":"Ada","a":"1","b":"1","c":"1","d":"1","e":"1","f":"1","g":"1","h":"1","i":"1","j":"1","k":"1","l":"1"}`))
	oda := w.person("Oda", base.Reviewer)
	ids := []string{}
	for _, f := range w.findings() {
		ids = append(ids, f.ID)
	}
	for i, text := range []string{"@oda", "ask **@oda**", "(@oda)", "“@oda”", "> @oda", "a\n@oda.",
		"to @ODA@quay.example!", "_@oda, see_", "__@oda__"} {
		to := []finding.State{finding.Confirmed, finding.InRepair}[i%2]
		if _, err := w.Findings.ChangeFindings(t.Context(), w.who, ids[:1], nil,
			findings.Wish{To: to, Comment: text}); err != nil {
			t.Fatal(err)
		}
		if got := w.news(oda); got != "mentioned: "+strings.TrimSpace(text) {
			t.Errorf("%q tells her\n%s", text, got)
		}
	}
	for _, text := range []string{"x@oda", "oda", "/@oda", "@odalisque", "@@oda"} {
		if _, err := w.Findings.Comment(t.Context(), w.who, ids[2], text); err != nil {
			t.Fatal(err)
		}
		if got := w.news(oda); got != "" {
			t.Errorf("%q tells her\n%s", text, got)
		}
	}
	if _, err := w.Findings.ChangeFindings(t.Context(), w.who, ids, nil, findings.Wish{Add: []string{"x"},
		Comment: "all, @oda"}); err != nil {
		t.Fatal(err)
	}
	if got, want := w.news(oda), fmt.Sprintf("mentioned: all, @oda +%d", len(ids)-1); got != want {
		t.Errorf("of many she is told\n%s\nwant\n%s", got, want)
	}
	if _, err := w.Findings.ChangeFindings(t.Context(), oda, ids[:1], nil, findings.Wish{To: finding.Confirmed,
		Comment: "I, @oda"}); err != nil {
		t.Fatal(err)
	}
	if got := w.news(oda); got != "" {
		t.Errorf("of her own she is told\n%s", got)
	}
}

// TestRevisionsAndRequestsTellWhomTheyWaitFor, and those who wait for them.
func TestRevisionsAndRequestsTellWhomTheyWaitFor(t *testing.T) {
	w := newWorld(t)
	iva, teodor, oda, lou := w.person("Iva", base.Lead), w.person("Teodor", base.Administrator),
		w.person("Oda", base.Reviewer),
		w.person("Lou", base.Viewer)
	r := w.apply(quay(t, "name: }", "name: , email: {optional: true}}"), 0)
	if r.State != store.Waiting {
		t.Fatal(r.State)
	}
	want := "revision: waits for approval: a test\nlets visitor and office see Skipper.email at GET /skippers/{id}"
	for _, lead := range []base.Caller{iva, teodor} {
		if got := w.news(lead); got != want {
			t.Errorf("%s is told\n%s", lead.Name, got)
		}
		if h, err := w.Findings.Home(t.Context(), lead); err != nil || h.Revisions != 1 {
			t.Errorf("Home says that %d revisions wait, %v", h.Revisions, err)
		}
	}
	if got := w.news(oda) + w.news(lou) + w.news(w.who); got != "" {
		t.Errorf("who cannot approve it, or made it, is told\n%s", got)
	}
	if _, err := w.Review.Decide(t.Context(), iva, "quay", r.Number,
		review.Decision{Comment: "who reads it?"}); err != nil {
		t.Fatal(err)
	}
	if got := w.news(w.who); got != "revision: declined: who reads it?" {
		t.Errorf("who made it is told\n%s", got)
	}

	ask := func() review.RequestView {
		t.Helper()
		return w.ask(lou, "email")
	}
	q := ask()
	grant := func() review.RequestView {
		t.Helper()
		v, err := w.Review.DecideRequest(t.Context(), w.who, q.ID, review.Decision{Grant: true})
		if err != nil || v.State != review.RequestGranted || v.Revision == 0 {
			t.Fatalf("%+v, %v", v, err)
		}
		w.news(lou)
		return v
	}
	// declined, it is open again
	v := grant()
	if _, err := w.Review.Decide(t.Context(), iva, "quay", v.Revision,
		review.Decision{Comment: "too much"}); err != nil {
		t.Fatal(err)
	}
	if now, err := w.Review.Request(t.Context(), q.ID); err != nil || now.State != review.RequestOpen ||
		now.Revision != 0 {
		t.Errorf("after its revision is declined: %+v, %v", now, err)
	}
	if got := w.news(lou); got != "request: it is open again: the revision that grants it was declined: too much" {
		t.Errorf("who asked is told\n%s", got)
	}
	// outdated, it is open again
	grant()
	w.apply(quay(t, "team: accounts", "team: desk"), 0)
	if now, err := w.Review.Request(t.Context(), q.ID); err != nil || now.State != review.RequestOpen {
		t.Errorf("after another revision came first: %+v, %v", now, err)
	}
	if got := w.news(lou); !strings.HasPrefix(got,
		"request: it is open again: the revision that grants it was made from another") {
		t.Errorf("who asked is told\n%s", got)
	}
	// approved, it stays granted
	v = grant()
	if _, err := w.Review.Decide(t.Context(), iva, "quay", v.Revision, review.Decision{Grant: true}); err != nil {
		t.Fatal(err)
	}
	w.apply(quay(t, "team: accounts", "team: mooring", "name: }",
		"name: , email: {optional: true, needed_by: [x], reason: y}}"), 0)
	if now, err := w.Review.Request(t.Context(), q.ID); err != nil || now.State != review.RequestGranted {
		t.Errorf("after it is approved: %+v, %v", now, err)
	}
}

// TestWhoIsKeptOutGetsNothing, and what they had is listed for somebody else.
func TestWhoIsKeptOutGetsNothing(t *testing.T) {
	w := newWorld(t)
	w.upload("a.har", recording(leaky))
	hash := w.theHash()
	oda, marlo := w.person("Oda", base.Reviewer), w.person("Marlo", base.Administrator)
	if _, err := w.Findings.ChangeFindings(t.Context(), w.who, []string{hash.ID}, nil,
		findings.Wish{Person: &oda.ID}); err != nil {
		t.Fatal(err)
	}
	no := false
	if _, err := w.People.ChangePerson(t.Context(), marlo, oda.ID, people.PersonWish{Active: &no}); err != nil {
		t.Fatal(err)
	}
	_, err := w.Findings.ChangeFindings(t.Context(), w.who, []string{hash.ID}, nil, findings.Wish{Person: &oda.ID})
	if code(err) != base.Invalid || !strings.Contains(err.Error(), "is kept out") {
		t.Errorf("assigned to who is kept out: %v", err)
	}
	by, err := w.Findings.Filter(t.Context(), w.who, map[string][]string{"assigned": {"left"}})
	if err != nil {
		t.Fatal(err)
	}
	if all, _, err := w.Findings.Findings(t.Context(), by, base.Page{Number: 1, Size: 10}); err != nil ||
		len(all) != 1 ||
		all[0].ID != hash.ID {
		t.Errorf("what she had is %v, %v", all, err)
	}
	if h, err := w.Findings.Home(t.Context(), w.who); err != nil || h.Left != 1 {
		t.Errorf("Home says %d are left, %v", h.Left, err)
	}
}

// TestADaysMailListsAllThatIsDue, however much is overdue.
func TestADaysMailListsAllThatIsDue(t *testing.T) {
	w, p := mailed(t)
	var members []string
	for i := range 14 {
		members = append(members, fmt.Sprintf(`"m%d":"x"`, i))
	}
	w.upload("a.har", recording(`{"id":7,"name":"Ada",`+strings.Join(members, ",")+`}`))
	teodor := w.person("Teodor", base.Lead)
	if err := w.Notify.SetMail(t.Context(), teodor, notify.MailDaily); err != nil {
		t.Fatal(err)
	}
	for i, f := range w.findings() {
		day := "2026-04-01"
		if i >= 12 {
			day = "2026-05-04"
		}
		if _, err := w.Findings.ChangeFindings(t.Context(), w.who, []string{f.ID}, nil,
			findings.Wish{Person: &teodor.ID, Due: &day}); err != nil {
			t.Fatal(err)
		}
	}
	w.mailNowAndThen()
	if len(p.all) != 1 || !strings.Contains(p.all[0].Text, "Overdue, 12 findings of yours:") ||
		!strings.Contains(p.all[0].Text, "Due within a week, 2 findings of yours:") ||
		strings.Count(p.all[0].Text, "  2026-04-01  ") != 12 || strings.Count(p.all[0].Text, "  2026-05-04  ") != 2 {
		t.Errorf("mailed %+v", p.all)
	}
}
