package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/service/findings"
	"inkret/store"
)

// person adds somebody to a world.
func (w *world) person(name, role string) base.Caller {
	w.t.Helper()
	p, err := w.People.AddPerson(w.t.Context(), name, strings.ToLower(name)+"@quay.example", role, "low tide at nine")
	if err != nil {
		w.t.Fatal(err)
	}
	return base.Caller{Person: p}
}

// detailed is contracts and a recording that give several findings.
func (w *world) several() []base.Finding {
	w.t.Helper()
	w.upload("several.har", recording(`{"id":7,"name":"Ada","password_hash":"`+secretHash+
		`","email":"ada@sails.example","x":1,"y":{"a":1}}`))
	all, _, err := w.Findings.Findings(w.t.Context(), base.FindingFilter{Sort: "path"}, base.Page{Number: 1, Size: 50})
	if err != nil || len(all) != 4 {
		w.t.Fatalf("%d findings, %v", len(all), err)
	}
	return all
}

func ids(all []base.Finding) []string {
	var out []string
	for _, f := range all {
		out = append(out, f.ID)
	}
	return out
}

func text(s string) *string { return &s }

func TestSeveralFindingsAreChangedAndThatUndone(t *testing.T) {
	w := newWorld(t)
	all := w.several()
	teodor := w.person("Teodor", base.Lead)
	wish := findings.Wish{To: finding.InRepair, Comment: "all of one repair", Person: &teodor.ID,
		Due: text("2026-05-09"),
		Add: []string{"Row-Mapper", "q2"}}

	onlyTry := wish
	onlyTry.Try = true
	tried, err := w.Findings.ChangeFindings(t.Context(), w.who, ids(all), nil, onlyTry)
	if err != nil || tried.Findings != 4 || tried.ID != 0 || tried.Left != 0 {
		t.Fatalf("tried: %+v, %v", tried, err)
	}
	if v, _ := w.Findings.Finding(t.Context(), w.who, all[0].ID); v.State != "new" || v.PersonID != 0 ||
		len(v.History) != 1 {
		t.Errorf("trying changed it: %+v", v.Finding)
	}
	changed, err := w.Findings.ChangeFindings(t.Context(), w.who, append(ids(all), "0123456789abcdef"), nil, wish)
	if err != nil || changed.Findings != 4 || changed.Left != 1 || changed.Matched != 5 ||
		changed.Refused[0].Why != "there is no such finding" || len(changed.Reasons) != 1 ||
		changed.Reasons[0].Findings != 1 {
		t.Fatalf("changed: %+v, %v", changed, err)
	}
	if want := "to in-repair, assigned to Teodor, due 2026-05-09, +row-mapper, +q2, with a " +
		"comment"; changed.Words != want {
		t.Errorf("in words %q, want %q", changed.Words, want)
	}
	v, err := w.Findings.Finding(t.Context(), teodor, all[1].ID)
	if err != nil || v.State != "in-repair" || v.PersonID != teodor.ID || v.Person != "Teodor" ||
		v.Due != "2026-05-09" || !slices.Equal(v.Labels, []string{"q2", "row-mapper"}) || !v.Follows {
		t.Errorf("finding %+v, follows %v, %v", v.Finding, v.Follows, err)
	}
	var happened []string
	for _, e := range v.History[1:] {
		happened = append(happened, fmt.Sprintf("%s %s>%s %s", e.Kind, e.Was, e.Became, e.Comment))
	}
	if got, want := strings.Join(happened, "; "),
		"move new>in-repair all of one repair; assign team accounts>Teodor ; due "+v.History[3].Was+
			">2026-05-09 ; label >q2, row-mapper "; got != want {
		t.Errorf("history %q, want %q", got, want)
	}

	if again, err := w.Findings.ChangeFindings(t.Context(), w.who, ids(all), nil,
		findings.Wish{Add: []string{"q2"}}); err != nil || again.Findings != 0 || again.Left != 4 || again.ID != 0 {
		t.Errorf("the same again: %+v, %v", again, err)
	}
	if _, err := w.Findings.Move(t.Context(), w.who, all[2].ID, finding.Move{To: finding.AwaitingProof}); err != nil {
		t.Fatal(err)
	}
	n, left, err := w.Findings.UndoChange(t.Context(), w.who, changed.ID)
	if err != nil || n != 3 || len(left) != 1 || left[0].ID != all[2].ID || left[0].Why != "it was changed since" {
		t.Errorf("undone %d, left %+v, %v", n, left, err)
	}
	if v, _ := w.Findings.Finding(t.Context(), w.who, all[1].ID); v.State != "new" || v.PersonID != 0 ||
		len(v.Labels) != 0 ||
		v.Due == "2026-05-09" || v.History[len(v.History)-1].Became != "" && v.History[5].Comment != "undone" {
		t.Errorf("after undoing: %+v", v.Finding)
	}
	if v, _ := w.Findings.Finding(t.Context(), w.who, all[2].ID); v.State != "awaiting-proof" ||
		v.PersonID != teodor.ID {
		t.Errorf("what was changed since: %+v", v.Finding)
	}
	if _, _, err := w.Findings.UndoChange(t.Context(), w.who, changed.ID); code(err) != base.NotFound {
		t.Errorf("undone twice: %v", err)
	}
	if list, err := w.Findings.Changes(t.Context()); err != nil || len(list) != 2 || !list[1].Undone ||
		list[1].Findings != 4 ||
		list[0].Findings != 1 || list[0].Undone {
		t.Errorf("changes %+v, %v", list, err)
	}
}

func code(err error) base.Code {
	var p *base.Problem
	if errors.As(err, &p) {
		return p.Code
	}
	return 0
}

func TestWhatFitsAFilterIsChanged(t *testing.T) {
	w := newWorld(t)
	w.several()
	high := base.FindingFilter{Severities: []int{int(severity.Critical), int(severity.High)}}
	team := "night-watch"
	if c, err := w.Findings.ChangeFindings(t.Context(), w.who, nil, &high, findings.Wish{Team: &team}); err != nil ||
		c.Findings != 2 || c.Matched != 2 {
		t.Fatalf("changed %+v, %v", c, err)
	}
	for by, want := range map[*base.FindingFilter]int{{Assigned: "night-watch"}: 2, {Assigned: "accounts"}: 2,
		{Person: -1}: 0, {Label: "none"}: 0, {DueBefore: "2026-05-05"}: 1} {
		if all, _, err := w.Findings.Findings(t.Context(), *by, base.Page{Number: 1, Size: 50}); err != nil ||
			len(all) != want {
			t.Errorf("%+v fits %d findings, want %d, %v", by, len(all), want, err)
		}
	}
}

func TestWishesThatCannotBe(t *testing.T) {
	w := newWorld(t)
	all := w.several()
	nobody := int64(99)
	for name, wish := range map[string]findings.Wish{"nothing": {}, "no day": {Due: text("soon")},
		"no last day": {To: finding.Waived, Until: "2026-13-01"}, "nobody": {Person: &nobody},
		"a label with blanks":    {Add: []string{"two words"}},
		"a long label":           {Add: []string{strings.Repeat("a", 41)}},
		"a label that is markup": {Remove: []string{"<b>"}}} {
		if _, err := w.Findings.ChangeFindings(t.Context(), w.who, ids(all), nil, wish); code(err) != base.Invalid {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, c := range map[string]struct {
		wish findings.Wish
		why  string
	}{
		"closed by hand":          {findings.Wish{To: finding.Closed}, "by proof only"},
		"a waiver without an end": {findings.Wish{To: finding.Waived, Comment: "x"}, "last day"},
		"without a reason":        {findings.Wish{To: finding.NotALeak}, "reason"},
		"too many labels": {findings.Wish{Add: strings.Fields(strings.Repeat("l", 1) +
			" a b c d e f g h i j k m n o p q r s t u v")}, "more than 20 labels"},
	} {
		out, err := w.Findings.ChangeFindings(t.Context(), w.who, ids(all), nil, c.wish)
		if err != nil || out.Findings != 0 || out.Left != 4 || !strings.Contains(out.Refused[0].Why, c.why) {
			t.Errorf("%s: %+v, %v", name, out, err)
		}
	}
}

// TestPeopleChangeFindingsAtOnce has several change all of them at the same time: every change
// is there, and each finding is what the last of them made it.
func TestPeopleChangeFindingsAtOnce(t *testing.T) {
	w := newWorld(t)
	all := w.several()
	const people = 8
	var at sync.WaitGroup
	failed := make(chan error, people)
	for i := range people {
		at.Go(func() {
			_, err := w.Findings.ChangeFindings(t.Context(), w.who, ids(all), nil,
				findings.Wish{Add: []string{fmt.Sprintf("l%d", i)}})
			failed <- err
		})
	}
	at.Wait()
	close(failed)
	for err := range failed {
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, f := range all {
		if v, err := w.Findings.Finding(t.Context(), w.who, f.ID); err != nil || len(v.Labels) != people {
			t.Errorf("%s has the labels %v, %v", f.ID, v.Labels, err)
		}
	}
	if labels, err := w.Findings.Labels(t.Context()); err != nil || len(labels) != people ||
		labels[0] != (store.LabelCount{Label: "l0", Findings: 4}) {
		t.Errorf("labels %+v, %v", labels, err)
	}
}

func TestFindingsAreDueBySeverity(t *testing.T) {
	w := newWorld(t)
	if err := w.Findings.SetDue(t.Context(), w.who, map[severity.Severity]int{severity.Critical: 2,
		severity.Low: 9}); err != nil {
		t.Fatal(err)
	}
	for _, f := range w.several() {
		if want := map[int]string{int(severity.Critical): "2026-05-03"}[f.Severity]; f.Due != want {
			t.Errorf("a finding of severity %d is due %q, want %q", f.Severity, f.Due, want)
		}
	}
	if days, err := w.Findings.Due(t.Context()); err != nil || days[severity.Critical] != 2 ||
		days[severity.High] != 0 ||
		days[severity.Low] != 9 {
		t.Errorf("due within %v, %v", days, err)
	}
	if entries, _, err := w.Base.Trail(t.Context(), base.TrailFilter{Action: "due days set"},
		base.Page{Number: 1, Size: 5}); err != nil || len(entries) != 1 || entries[0].Action != "due days set" {
		t.Errorf("the trail says %+v, %v", entries, err)
	}
}

// told returns what somebody is told, newest first.
func (w *world) told(who base.Caller) string {
	w.t.Helper()
	all, _, _, err := w.Notify.Notices(w.t.Context(), who, false, base.Page{Number: 1, Size: 50})
	if err != nil {
		w.t.Fatal(err)
	}
	var lines []string
	for _, n := range all {
		lines = append(lines, n.Kind+" by "+n.Author+": "+n.Text)
	}
	return strings.Join(lines, "\n")
}

func TestPeopleAreToldOfWhatConcernsThem(t *testing.T) {
	w := newWorld(t)
	all := w.several()
	teodor, iva, marlo := w.person("Teodor", base.Lead), w.person("Iva", base.Viewer),
		w.person("Marlo", base.Administrator)
	hash := w.theHash()
	if _, err := w.Findings.ChangeFindings(t.Context(), w.who, []string{hash.ID}, nil,
		findings.Wish{Person: &teodor.ID, Comment: "yours, I think"}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Findings.Comment(t.Context(), iva, hash.ID,
		"ask @noor, or @marlo@quay.example; not @nobody and not x@teodor"); err != nil {
		t.Fatal(err)
	}
	if err := w.Findings.Follow(t.Context(), marlo, all[0].ID, store.Follows); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Findings.Move(t.Context(), teodor, hash.ID, finding.Move{To: finding.AwaitingProof,
		Comment: "mended"}); err != nil {
		t.Fatal(err)
	}
	w.clock.now = w.clock.now.AddDate(0, 0, 1)
	proof := strings.ReplaceAll(recording(clean), "2026-05-01", "2026-05-02")
	w.upload("after.har", proof)
	w.upload("earlier.har", recording(leaky)) // nobody is told of what was recorded before the proof
	w.upload("again.har", strings.ReplaceAll(recording(leaky, leaky), "2026-05-01", "2026-05-02"))
	for _, c := range []struct {
		who  base.Caller
		want string
	}{
		{teodor, "returned by Noor Adeyar: seen again in again.har\nclosed by Noor Adeyar: capture 2 proves the " +
			"repair\ncomment by Iva: ask @noor, or @marlo@quay.example; not @nobody and not x@teodor\nassigned by " +
			"Noor Adeyar: yours, I think"},
		{w.who, "moved by Teodor: new to awaiting-proof\nmentioned by Iva: ask @noor, or @marlo@quay.example; not " +
			"@nobody and not x@teodor"},
		{iva, "returned by Noor Adeyar: seen again in again.har\nclosed by Noor Adeyar: capture 2 proves the " +
			"repair\nmoved by Teodor: new to awaiting-proof"},
	} {
		if got := w.told(c.who); got != c.want {
			t.Errorf("%s is told\n%s\nwant\n%s", c.who.Name, got, c.want)
		}
	}
	h, err := w.Findings.Home(t.Context(), teodor)
	if err != nil || h.MineTotal != 1 || len(h.Mine) != 1 || h.Mine[0].ID != hash.ID || h.Unread != 4 ||
		h.Overdue != 0 {
		t.Errorf("home: mine %d, unread %d, overdue %d, %v", h.MineTotal, h.Unread, h.Overdue, err)
	}
	w.clock.now = w.clock.now.AddDate(0, 0, 9)
	if h, _ := w.Findings.Home(t.Context(), teodor); h.Overdue != 1 {
		t.Errorf("%d are overdue", h.Overdue)
	}
	notices, _, _, _ := w.Notify.Notices(t.Context(), teodor, true, base.Page{Number: 1, Size: 2})
	if err := w.Notify.ReadNotices(t.Context(), teodor, notices[1].ID); err != nil {
		t.Fatal(err)
	}
	if rest, total, fresh, err := w.Notify.Notices(t.Context(), teodor, true,
		base.Page{Number: 1, Size: 9}); err != nil ||
		total != 1 || fresh != 1 || rest[0].Kind != "returned" || rest[0].Finding == "" {
		t.Errorf("unread are %+v of %d, %d, %v", rest, total, fresh, err)
	}
	if err := w.Findings.Follow(t.Context(), iva, hash.ID, store.Ignores); err != nil {
		t.Fatal(err)
	}
	if v, _ := w.Findings.Finding(t.Context(), iva, hash.ID); v.Follows {
		t.Error("who no longer follows still does")
	}
	if err := w.Findings.Follow(t.Context(), iva, "0123456789abcdef", store.Follows); code(err) != base.NotFound {
		t.Errorf("following what is not there: %v", err)
	}
}

func TestViewsAreOnesOwnOrShared(t *testing.T) {
	w := newWorld(t)
	iva := w.person("Iva", base.Viewer)
	own, err := w.Findings.AddView(t.Context(), w.who, base.View{Name: " Berths ", Query: "q=berth"})
	if err != nil || own.Name != "Berths" {
		t.Fatalf("%+v, %v", own, err)
	}
	shared, err := w.Findings.AddView(t.Context(), w.who, base.View{Name: "all", Query: "state=any", Shared: true})
	if err != nil {
		t.Fatal(err)
	}
	if all, err := w.Findings.Views(t.Context(), w.who); err != nil || len(all) != 2 || all[0].ID != shared.ID {
		t.Errorf("views %+v, %v", all, err)
	}
	if all, err := w.Findings.Views(t.Context(), iva); err != nil || len(all) != 1 || all[0].Author != "Noor Adeyar" {
		t.Errorf("another's views %+v, %v", all, err)
	}
	if err := w.Findings.DropView(t.Context(), iva, shared.ID); code(err) != base.NotFound {
		t.Errorf("another drops it: %v", err)
	}
	if err := w.Findings.DropView(t.Context(), w.who, shared.ID); err != nil {
		t.Error(err)
	}
	if _, err := w.Findings.AddView(t.Context(), w.who, base.View{Name: " "}); code(err) != base.Invalid {
		t.Errorf("a view without a name: %v", err)
	}
}

func TestABatchThatIsWithdrawnLeavesWhatPeopleAssigned(t *testing.T) {
	w := newWorld(t)
	b := w.upload("first.har", recording(leaky))
	hash := w.theHash()
	if _, err := w.Findings.ChangeFindings(t.Context(), w.who, []string{hash.ID}, nil,
		findings.Wish{Person: &w.who.ID}); err != nil {
		t.Fatal(err)
	}
	if err := w.Evidence.Withdraw(t.Context(), w.who, b.ID, "wrong host"); err != nil {
		t.Fatal(err)
	}
	if v, err := w.Findings.Finding(t.Context(), w.who, hash.ID); err != nil || v.PersonID != w.who.ID ||
		v.State != "new" {
		t.Errorf("%+v, %v", v.Finding, err)
	}
}

func TestWhatTeachesThatItIsNoLeak(t *testing.T) {
	w := newWorld(t)
	w.several()
	v := w.theHash()
	teach := func(v findings.FindingView) string {
		var all []string
		for _, teaches := range v.Teaches {
			all = append(all, teaches.What+": "+teaches.Text)
		}
		return strings.Join(all, "\n")
	}
	got := teach(v)
	if strings.Contains(got, "grant: ") {
		t.Errorf("it teaches to grant a secret:\n%s", got)
	}
	fields, _, err := w.Findings.Findings(t.Context(), base.FindingFilter{Kinds: []string{"unexpected-field"}},
		base.Page{Number: 1, Size: 9})
	if err != nil || len(fields) != 1 {
		t.Fatal(len(fields), err)
	}
	if field, err := w.Findings.Finding(t.Context(), w.who, fields[0].ID); err != nil ||
		!strings.Contains(teach(field),
			"grant: in the response of GET /skippers/{id} for office, at the place of $.x:\n      x:") {
		t.Errorf("it teaches\n%s\n%v", teach(field), err)
	}
	for _, want := range []string{`exception: exceptions:` + "\n" +
		`  - {endpoint: "GET /skippers/{id}", path: "$.password_hash", kind: secret-value, reason: say why}`,
		"format: "} {
		if !strings.Contains(got, want) {
			t.Errorf("it teaches\n%s\nwithout %q", got, want)
		}
	}
}
