package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/mailing"
	"inkret/service/base"
	"inkret/service/findings"
	"inkret/service/notify"
	"inkret/store"
)

// post is a mail server of a test.
type post struct {
	mu   sync.Mutex // guards all
	all  []mailing.Message
	fail error
	hang bool
}

func (p *post) Send(ctx context.Context, m mailing.Message) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.hang {
		return fmt.Errorf("it says nothing: %w", context.DeadlineExceeded)
	}
	if p.fail != nil {
		return p.fail
	}
	p.all = append(p.all, m)
	return nil
}

func (p *post) to(address string) (all []mailing.Message) {
	for _, m := range p.all {
		if m.To == address {
			all = append(all, m)
		}
	}
	return all
}

// tries is how often it is tried again to hand in a mail, or to call a hook.
const tries = 7

// mailed is a world with a mail server, whose digests come at seven.
func mailed(t *testing.T) (*world, *post) {
	w, p := newWorld(t), &post{}
	w.mailBy(p, 7)
	w.Notify.ReachedAt("https://inkret.example")
	return w, p
}

func (w *world) mailNowAndThen() {
	w.t.Helper()
	if err := w.Notify.TellOfViews(w.t.Context()); err != nil {
		w.t.Fatal(err)
	}
	if err := w.Notify.MailOnce(w.t.Context()); err != nil {
		w.t.Fatal(err)
	}
}

func TestWhatSomebodyIsToldIsMailedAtOnce(t *testing.T) {
	w, p := mailed(t)
	all := w.several()
	teodor := w.person("Teodor", base.Lead)
	if err := w.Notify.SetMail(t.Context(), teodor, notify.MailAtOnce); err != nil {
		t.Fatal(err)
	}
	w.mailNowAndThen()
	if len(p.all) != 0 {
		t.Fatalf("nothing happened, and %d mails are sent", len(p.all))
	}
	if _, err := w.Findings.ChangeFindings(t.Context(), w.who, ids(all)[:1], nil,
		findings.Wish{Person: &teodor.ID, Comment: "the row goes out whole: " + secretHash}); err != nil {
		t.Fatal(err)
	}
	w.mailNowAndThen()
	if _, err := w.Findings.ChangeFindings(t.Context(), w.who, ids(all)[1:], nil,
		findings.Wish{Person: &teodor.ID}); err != nil {
		t.Fatal(err)
	}
	w.mailNowAndThen()
	w.mailNowAndThen()
	got := p.to("teodor@quay.example")
	if len(got) != 2 || got[0].Subject != "Inkret: Noor Adeyar assigned it to you" ||
		got[1].Subject != "Inkret: 3 notices" || got[0].ID == got[1].ID {
		t.Fatalf("mailed %+v", got)
	}
	for _, want := range []string{"https://inkret.example/findings/" + all[0].ID, all[0].Kind +
		" at GET /skippers/{id} " + all[0].Path,
		"You are mailed at once. Have it otherwise: https://inkret.example/you"} {
		if !strings.Contains(got[0].Text, want) {
			t.Errorf("%q is not in\n%s", want, got[0].Text)
		}
	}
	for _, m := range p.all {
		if strings.Contains(m.Text+m.Subject, secretHash) || strings.Contains(m.Text, "goes out whole") {
			t.Errorf("a mail has what people wrote:\n%s", m.Text)
		}
	}
	// what was read in the console is not mailed besides
	if _, err := w.Findings.Comment(t.Context(), w.who, all[0].ID, "@teodor look"); err != nil {
		t.Fatal(err)
	}
	n := w.unread(teodor)
	if err := w.Notify.ReadNotices(t.Context(), teodor, n[0].ID); err != nil {
		t.Fatal(err)
	}
	w.mailNowAndThen()
	if len(p.all) != 2 {
		t.Errorf("what was read is mailed: %+v", p.all[2:])
	}
	if err := w.Notify.SetMail(t.Context(), teodor, "hourly"); code(err) != base.Invalid {
		t.Errorf("hourly: %v", err)
	}
}

// TestManyNoticesAreOneMail bounds what a bulk change does to a mailbox.
func TestManyNoticesAreOneMail(t *testing.T) {
	w, p := mailed(t)
	var bodies []string
	for i := range 30 {
		bodies = append(bodies, fmt.Sprintf(`{"id":7,"name":"Ada","m%d":"\u202e\u0007x"}`, i))
	}
	w.upload("many.har", recording(bodies...))
	teodor := w.person("Teodor", base.Lead)
	if err := w.Notify.SetMail(t.Context(), teodor, notify.MailAtOnce); err != nil {
		t.Fatal(err)
	}
	if c, err := w.Findings.ChangeFindings(t.Context(), w.who, nil, &base.FindingFilter{},
		findings.Wish{Person: &teodor.ID}); err != nil || c.Findings != 30 {
		t.Fatal(c, err)
	}
	w.mailNowAndThen()
	if len(p.all) != 1 || p.all[0].Subject != "Inkret: Noor Adeyar assigned it to you" ||
		!strings.Contains(p.all[0].Text, " and 29 more findings\n") {
		t.Errorf("mailed %+v", p.all)
	}
	for _, f := range w.findings() { // one by one
		if _, err := w.Findings.Comment(t.Context(), w.who, f.ID, "look"); err != nil {
			t.Fatal(err)
		}
	}
	w.mailNowAndThen()
	if len(p.all) != 2 || p.all[1].Subject != "Inkret: 30 notices" ||
		strings.Count(p.all[1].Text, "Noor Adeyar commented") != 20 ||
		!strings.Contains(p.all[1].Text, "and 10 more: https://inkret.example/notices") {
		t.Errorf("mailed %+v", p.all[1:])
	}
}

func TestADaysMail(t *testing.T) {
	w, p := mailed(t)
	all := w.several()
	teodor := w.person("Teodor", base.Lead)
	w.person("Iva", base.Viewer) // of whom nobody wants anything: she is mailed nothing
	due := "2026-05-03"
	if _, err := w.Findings.ChangeFindings(t.Context(), w.who, ids(all)[:1], nil, findings.Wish{Person: &teodor.ID,
		Due: &due}); err != nil {
		t.Fatal(err)
	}
	w.waive(w.who, w.theHash().ID, "2026-05-20")
	at := func(day, hour int) []mailing.Message {
		t.Helper()
		w.clock.now = time.Date(2026, 5, day, hour, 30, 0, 0, time.UTC)
		before := len(p.all)
		w.mailNowAndThen()
		w.mailNowAndThen()
		return p.all[before:]
	}
	if got := at(2, 6); len(got) != 0 {
		t.Errorf("before seven: %+v", got)
	}
	got := at(2, 7)
	if len(got) != 1 || got[0].To != teodor.Email || got[0].Subject != "Inkret: 1 to approve, 2 not read" {
		t.Fatalf("at seven: %+v", got)
	}
	for _, want := range []string{"Due within a week, 1 finding of yours:\n  2026-05-03  ",
		"1 waiver waits for a lead who approves:\n  https://inkret.example/findings?state=any&waiver=asked",
		"assigned it to you", "You are mailed once a day."} {
		if !strings.Contains(got[0].Text, want) {
			t.Errorf("%q is not in\n%s", want, got[0].Text)
		}
	}
	if got := at(2, 23); len(got) != 0 {
		t.Errorf("a second time on a day: %+v", got)
	}
	if got := at(4, 9); len(got) != 1 || got[0].Subject != "Inkret: 1 overdue, 1 to approve" ||
		!strings.Contains(got[0].Text, "Overdue, 1 finding of yours:\n  2026-05-03  ") ||
		strings.Contains(got[0].Text, "You are told") {
		t.Errorf("two days later: %+v", got)
	}
	if err := w.Notify.SetMail(t.Context(), teodor, notify.MailNever); err != nil {
		t.Fatal(err)
	}
	if got := at(5, 9); len(got) != 0 {
		t.Errorf("never: %+v", got)
	}
}

// TestMailThatIsNotTakenIsTriedAgain has a server that refuses, one that hangs, and one that
// takes it in the end.
func TestMailThatIsNotTakenIsTriedAgain(t *testing.T) {
	w, p := mailed(t)
	p.fail = errors.New("mailbox full\x1b[2J")
	for range 3 {
		if err := w.Notify.TestMail(t.Context(), w.who); err != nil {
			t.Fatal(err)
		}
	}
	state := func() string {
		t.Helper()
		all, total, err := w.Notify.Mails(t.Context(), base.Page{Number: 1, Size: 10})
		if err != nil || total != 3 {
			t.Fatal(total, err)
		}
		out := ""
		for _, m := range all {
			out += fmt.Sprintf("%d tries, next %v, taken %v; ", m.Tries, !m.Next.IsZero(), !m.Done.IsZero())
			if strings.Contains(m.Said, "\x1b") {
				t.Errorf("it said %q", m.Said)
			}
		}
		return out
	}
	w.mailNowAndThen()
	w.mailNowAndThen() // not due yet
	if got, want := state(), strings.Repeat("1 tries, next true, taken false; ", 3); got != want {
		t.Errorf("refused: %s", got)
	}
	p.fail, p.hang = nil, true
	w.clock.now = w.clock.now.Add(31 * time.Second)
	w.mailNowAndThen()
	if got, want := state(),
		"1 tries, next true, taken false; 1 tries, next true, taken false; 2 tries, next true, taken "+
			"false; "; got != want {
		t.Errorf("while it hangs: %s", got)
	}
	p.hang = false
	w.clock.now = w.clock.now.Add(time.Hour)
	w.mailNowAndThen()
	if got, want := state(),
		"2 tries, next false, taken true; 2 tries, next false, taken true; 3 tries, next false, taken "+
			"true; "; got != want || len(p.all) != 3 {
		t.Errorf("taken: %s", got)
	}
	if err := w.Notify.MailAgain(t.Context(), w.who, 1); err != nil {
		t.Fatal(err)
	}
	w.mailNowAndThen()
	if len(p.all) != 4 || p.all[3].ID != p.all[2].ID && p.all[3].ID != p.all[0].ID {
		t.Errorf("once more: %+v", p.all)
	}
	if err := w.Notify.MailAgain(t.Context(), w.who, 99); code(err) != base.NotFound {
		t.Errorf("no such mail: %v", err)
	}
	p.fail = errors.New("no")
	if err := w.Notify.TestMail(t.Context(), w.who); err != nil {
		t.Fatal(err)
	}
	for range tries + 1 {
		w.mailNowAndThen()
		w.clock.now = w.clock.now.Add(25 * time.Hour)
	}
	if all, _, _ := w.Notify.Mails(t.Context(), base.Page{Number: 1, Size: 1}); all[0].Tries != tries+1 ||
		!all[0].Next.IsZero() {
		t.Errorf("after %d days: %+v", tries, all[0])
	}
	w.mailBy(nil, 7)
	if err := w.Notify.TestMail(t.Context(), w.who); code(err) != base.Conflict {
		t.Errorf("without a server: %v", err)
	}
}

func TestWhatComesIntoAViewIsTold(t *testing.T) {
	w, _ := mailed(t)
	w.upload("monday.har", recording(leaky))
	iva, teodor := w.person("Iva", base.Viewer), w.person("Teodor", base.Lead)
	shared, err := w.Findings.AddView(t.Context(), w.who, base.View{Name: "Grave", Query: "severity=critical,high",
		Shared: true})
	if err != nil {
		t.Fatal(err)
	}
	own, err := w.Findings.AddView(t.Context(), w.who, base.View{Name: "Mine", Query: "assigned=me"})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		who  base.Caller
		view int64
		want base.Code
	}{{iva, shared.ID, 0}, {iva, shared.ID, 0}, {w.who, own.ID, 0}, {iva, own.ID, base.NotFound},
		{iva, 99, base.NotFound}} {
		if err := w.Notify.FollowView(t.Context(), c.who, c.view, store.Follows); code(err) != c.want {
			t.Errorf("%s follows view %d: %v", c.who.Name, c.view, err)
		}
	}
	w.mailNowAndThen()
	if n := w.unread(iva); len(n) != 0 {
		t.Errorf("what was there before is told: %+v", n)
	}
	w.several()
	w.mailNowAndThen()
	w.mailNowAndThen()
	if n := w.unread(iva); len(n) != 1 || n[0].Kind != "view" || n[0].Author != "Grave" ||
		n[0].Text != "1 finding came into the view" || n[0].View != "severity=critical,high" {
		t.Errorf("told %+v", n)
	}
	// the hash comes back: it was new before, and is proven and seen again now
	hash := w.theHash()
	if _, err := w.Findings.Move(t.Context(), w.who, hash.ID, finding.Move{To: finding.AwaitingProof}); err != nil {
		t.Fatal(err)
	}
	w.clock.now = w.clock.now.AddDate(0, 0, 3)
	w.upload("mended.har", strings.ReplaceAll(recording(clean), "2026-05-01", "2026-05-04"))
	w.upload("again.har", strings.ReplaceAll(recording(leaky), "2026-05-01", "2026-05-04"))
	w.mailNowAndThen()
	if n := w.unread(iva); len(n) != 2 {
		t.Errorf("what comes back: %+v", n)
	}
	if n := w.unread(teodor); len(n) != 0 {
		t.Errorf("who does not follow is told %+v", n)
	}
	if err := w.Notify.FollowView(t.Context(), iva, shared.ID, store.Ignores); err != nil {
		t.Fatal(err)
	}
	if views, err := w.Findings.Views(t.Context(), iva); err != nil || len(views) != 1 || views[0].Follows {
		t.Errorf("views %+v, %v", views, err)
	}
}
