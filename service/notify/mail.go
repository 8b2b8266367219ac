package notify

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"inkret/core/exchange"
	"inkret/core/severity"
	"inkret/mailing"
	"inkret/service/base"
	"inkret/store"
)

// Notifications by mail: at once, or in a daily digest with what waits for the person. Mails say where and what,
// and contain neither values nor comments.

// When notifications are mailed.
const (
	MailAtOnce = "at-once"
	MailDaily  = "daily"
	MailNever  = "never"
)

// Sender sends mail.
type Sender interface {
	Send(ctx context.Context, m mailing.Message) error
}

const (
	MailEvery  = 5 * time.Second // between two rounds
	mailAtMost = 50              // at once
	// DefaultDigestHour is the default hour, in UTC, of the daily digest.
	DefaultDigestHour = 6
	shownTold         = 20
	shownDue          = 500 // of somebody, that are counted
	dueSoon           = 7 * 24 * time.Hour
)

// HasMail reports whether a mail server is configured.
func (s *Notify) HasMail() bool { return s.mail != nil }

// DigestHour returns the hour, in UTC, of the daily digest.
func (s *Notify) DigestHour() int { return s.digestHour }

// SetMail sets when the caller is mailed.
func (s *Notify) SetMail(ctx context.Context, who base.Caller, when string) error {
	if !slices.Contains([]string{MailAtOnce, MailDaily, MailNever}, when) {
		return base.NewProblem(base.Invalid, "", "mail comes at-once, daily or never, not %q", when)
	}
	return s.store.SetMail(ctx, who.ID, when, s.base.Did(who, "set mailing", who.Email, when))
}

// MailAgain sends a mail again.
func (s *Notify) MailAgain(ctx context.Context, who base.Caller, id int64) error {
	return base.Found(s.store.MailAgain(ctx, id, s.base.Now(), s.base.Did(who, "mail again", fmt.Sprintf("mail %d", id),
		"")),
		"mail %d", id)
}

// TestMail sends the caller a test mail.
func (s *Notify) TestMail(ctx context.Context, who base.Caller) error {
	if s.mail == nil {
		return base.NewProblem(base.Conflict, "start it with --mail-server and --mail-from",
			"the service has no mail server")
	}
	return s.store.AddMail(ctx, store.Mail{PersonID: who.ID, Subject: "Inkret: a test", Text: "A test, asked for by " +
		exchange.Clean(base.ShownName(who.Person)) + ". Mail arrives.\n", Made: s.base.Now()}, 0, "")
}

// FollowView makes the caller follow a view, or stop following it.
func (s *Notify) FollowView(ctx context.Context, who base.Caller, id int64, on store.Following) error {
	return base.Found(s.store.FollowView(ctx, who.ID, id, on), "view %d that you see", id)
}

// TellOfViews notifies the followers of views of new findings in them.
func (s *Notify) TellOfViews(ctx context.Context) error {
	behind, err := s.store.BehindViews(ctx)
	if err != nil || len(behind) == 0 {
		return err
	}
	last, err := s.store.LastEvent(ctx)
	if err != nil {
		return err
	}
	for _, v := range behind {
		q, err := url.ParseQuery(v.Query)
		if err != nil {
			return err
		}
		var told *store.Notice
		by, err := s.findings.Filter(ctx, base.Caller{Person: store.Person{ID: v.PersonID}}, q)
		var unreadable *base.Problem
		if err != nil && !errors.As(err, &unreadable) {
			return err // it is looked at again
		}
		if err != nil { // it names somebody who is gone, say: nothing is in it
			s.base.Log.Info("a view cannot be read any more", "view", v.ViewID)
		} else {
			by.Since = v.LastEvent
			_, counts, err := s.store.Findings(ctx, by, store.Page{Number: 1, Size: 1})
			if err != nil {
				return err
			}
			n := 0
			for _, c := range counts {
				n += c
			}
			if n > 0 {
				told = &store.Notice{PersonID: v.PersonID, At: s.base.Now(), Kind: "view", Author: v.Name,
					ViewID: v.ViewID,
					Text:   fmt.Sprintf("%s came into the view", count(n, "finding"))}
			}
		}
		if err := s.store.ToldOfView(ctx, v, last, told); err != nil {
			return err
		}
	}
	return nil
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// MailOnce writes the mails that are due and sends those that wait.
func (s *Notify) MailOnce(ctx context.Context) error {
	if s.mail == nil {
		return nil
	}
	people, err := s.store.People(ctx)
	if err != nil {
		return err
	}
	for i := range people {
		p := &people[i]
		if !p.Active || !p.Here() {
			continue
		}
		switch p.Mail {
		case MailAtOnce:
			err = s.mailNow(ctx, p)
		case MailDaily:
			err = s.mailDigest(ctx, p)
		}
		if err != nil {
			return err
		}
	}
	due, err := s.store.DueMails(ctx, s.base.Now(), mailAtMost)
	if err != nil {
		return err
	}
	for _, m := range due {
		hangs, err := s.tryMail(ctx, m)
		if err != nil {
			return err
		}
		if hangs { // the others would only wait for it, too
			break
		}
	}
	return s.store.DropMails(ctx, s.base.Now().Add(-keepTaken))
}

// tryMail sends a mail once and records the result. It reports whether the server did not answer.
func (s *Notify) tryMail(ctx context.Context, m store.Mail) (hangs bool, err error) {
	err = s.mail.Send(ctx, mailing.Message{ID: fmt.Sprintf("inkret.%d.%d", m.ID, m.Made.Unix()), To: m.To,
		Subject: m.Subject, Text: m.Text, Link: s.public + "/you"})
	if ctx.Err() != nil {
		return true, nil // the service ends; it is tried again
	}
	m.Tries++
	if m.Next = (time.Time{}); err == nil {
		m.Done, m.Said = s.base.Now(), "taken"
	} else {
		m.Said = exchange.Clean(err.Error())
		m.Next = s.nextTry(m.Tries)
	}
	return errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded), s.store.MailTried(ctx, m)
}

// mailNow writes one mail with all notifications of a person since the last mail.
func (s *Notify) mailNow(ctx context.Context, p *store.Person) error {
	notices, total, last, err := s.store.NoticesAfter(ctx, p.ID, p.Mailed, shownTold)
	if err != nil || total == 0 {
		return err
	}
	t := &letter{public: s.public}
	t.told(notices, total)
	t.foot("at once")
	subject := "Inkret: " + count(total, "notice")
	if total == 1 {
		subject = "Inkret: " + exchange.Clean(noticeWords(&notices[0]))
	}
	return s.store.AddMail(ctx, store.Mail{PersonID: p.ID, Subject: subject, Text: t.String(), Made: s.base.Now()},
		last, "")
}

// mailDigest writes a person's daily mail, if there is anything to say.
func (s *Notify) mailDigest(ctx context.Context, p *store.Person) error {
	now := s.base.Now().UTC()
	today := now.Format(time.DateOnly)
	if now.Hour() < s.digestHour || p.Digest >= today {
		return nil
	}
	notices, total, last, err := s.store.NoticesAfter(ctx, p.ID, p.Mailed, shownTold)
	if err != nil {
		return err
	}
	h, err := s.findings.Home(ctx, base.Caller{Person: *p})
	if err != nil {
		return err
	}
	caller := base.Caller{Person: *p}
	t := &letter{public: s.public}
	var subject []string
	part := func(n int, words string) {
		if n > 0 {
			subject = append(subject, fmt.Sprintf("%d %s", n, words))
		}
	}
	soon := now.Add(dueSoon).Format(time.DateOnly)
	mine, err := s.store.DueOf(ctx, p.ID, soon, shownDue)
	if err != nil {
		return err
	}
	t.due("Overdue", "/findings?assigned=me&due=over", mine, func(day string) bool { return day < today })
	t.due("Due within a week", "/findings?assigned=me&sort=due", mine, func(day string) bool { return day >= today })
	part(h.Overdue, "overdue")
	if caller.MaySomewhere(base.Lead) && h.WaiversAsked > 0 {
		t.line("%s for a lead who approves:\n  %s/findings?state=any&waiver=asked\n\n", waits(h.WaiversAsked, "waiver"),
			s.public)
		part(h.WaiversAsked, "to approve")
	}
	if caller.MaySomewhere(base.Lead) && h.Revisions > 0 {
		t.line("%s for somebody who approves:\n  %s/contracts\n\n", waits(h.Revisions, "revision of contracts"),
			s.public)
		part(h.Revisions, "revisions to approve")
	}
	if caller.MaySomewhere(base.Reviewer) && h.Left > 0 {
		t.line("%s assigned to people who are kept out:\n  %s/findings?assigned=left\n\n",
			count(h.Left, "open finding"), s.public)
	}
	if caller.MaySomewhere(base.Reviewer) && h.Requests > 0 {
		t.line("%s for a decision:\n  %s/requests\n\n", waits(h.Requests, "exposure request"), s.public)
		part(h.Requests, "to decide")
	}
	t.told(notices, total)
	part(total, "not read")
	m := store.Mail{PersonID: p.ID, Made: s.base.Now()}
	if t.Len() > 0 {
		t.foot("once a day")
		if m.Subject = "Inkret: what is due"; len(subject) > 0 {
			m.Subject = "Inkret: " + strings.Join(subject, ", ")
		}
		m.Text = t.String()
	}
	return s.store.AddMail(ctx, m, last, today)
}

func waits(n int, what string) string {
	if n == 1 {
		return "1 " + what + " waits"
	}
	return count(n, what) + " wait"
}

// letter is the text of a mail.
type letter struct {
	strings.Builder
	public string
}

func (t *letter) line(format string, args ...any) { fmt.Fprintf(t, format, args...) }

// told writes the list of notifications.
func (t *letter) told(notices []store.Notice, total int) {
	if total == 0 {
		return
	}
	t.line("You are told:\n")
	for i := range notices {
		n := &notices[i]
		t.line("  %s UTC  %s\n", n.At.UTC().Format("01-02 15:04"), exchange.Clean(noticeWords(n)))
		switch {
		case n.FindingID != "":
			more := ""
			if n.More > 0 {
				more = " and " + count(n.More, "more finding")
			}
			t.line("    %s%s\n    %s/findings/%s\n", exchange.Clean(n.Finding), more, t.public, n.FindingID)
		case n.Revision != 0:
			t.line("    %s/contracts/%s/revisions/%d\n", t.public, url.PathEscape(n.Service), n.Revision)
		case n.RequestID != 0:
			t.line("    %s/requests/%d\n", t.public, n.RequestID)
		case n.ViewID != 0:
			t.line("    %s/findings?%s\n", t.public, exchange.Clean(n.View))
		}
	}
	if left := total - len(notices); left > 0 {
		t.line("  and %d more: %s/notices\n", left, t.public)
	}
	t.line("\n")
}

// noticeWords describes a notification, without what people wrote.
func noticeWords(n *store.Notice) string {
	switch n.Kind {
	case "assigned":
		return n.Author + " assigned it to you"
	case "mentioned":
		return n.Author + " mentions you"
	case "comment":
		return n.Author + " commented"
	case "moved":
		return n.Author + " moved it, " + n.Text
	case "changed":
		return n.Author + " changed it, " + n.Text
	case "revision":
		first, _, _ := strings.Cut(n.Text, ":")
		return fmt.Sprintf("%s: revision %d of %s: %s", n.Author, n.Revision, n.Service, first)
	case "returned":
		return "it returned: " + n.Text
	case "closed":
		return "closed: " + n.Text
	case "request":
		return n.Author + " decided on your request"
	case "waiver":
		return n.Author + ": a waiver waits for approval, or was declined"
	case "watch":
		return n.Author + " of " + n.Service + " fails: " + n.Text
	case "view":
		return n.Author + ": " + n.Text
	}
	return n.Author + ": " + n.Kind
}

// due writes the person's findings whose due day matches, the most severe of each day first.
func (t *letter) due(title, link string, mine []store.Finding, fits func(day string) bool) {
	var all []store.Finding
	for _, f := range mine {
		if fits(f.Due) {
			all = append(all, f)
		}
	}
	if len(all) == 0 {
		return
	}
	t.line("%s, %s of yours:\n", title, count(len(all), "finding"))
	for i, f := range all {
		if i == shownTold {
			t.line("  and %d more\n", len(all)-i)
			break
		}
		t.line("  %s  %s %s at %s %s\n    %s/findings/%s\n", f.Due, severity.Severity(f.Severity), f.Kind,
			exchange.Clean(f.Endpoint), exchange.Clean(f.Path), t.public, f.ID)
	}
	t.line("  %s%s\n\n", t.public, link)
}

// foot says why the mail was sent, and how to change that.
func (t *letter) foot(how string) {
	t.line("--\nYou are mailed %s. Have it otherwise: %s/you\n", how, t.public)
}
