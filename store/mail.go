package store

import (
	"context"
	"database/sql"
	"time"
)

// Mail is a mail that was sent or is to be sent.
type Mail struct {
	ID       int64     // its number
	PersonID int64     // the number of the person, 0 for none
	Person   string    // by name
	To       string    // the address
	Subject  string    // what it is about
	Text     string    // without values and without what people wrote
	Made     time.Time // when it was made
	Tries    int       // how often it was tried
	Next     time.Time // zero: not any more
	Done     time.Time // when it was taken
	Said     string    // what came of the last try
}

const mailColumns = `mails.id, person_id, iif(people.name = '', email, people.name), email, mails.subject, text, made, tries, next, done, said`

const mailTables = ` FROM mails JOIN people ON people.id = person_id`

func scanMail(r scanner) (Mail, error) {
	var m Mail
	var made, next, done int64
	err := r.Scan(&m.ID, &m.PersonID, &m.Person, &m.To, &m.Subject, &m.Text, &made, &m.Tries, &next, &done, &m.Said)
	m.Made, m.Next, m.Done = when(made), when(next), when(done)
	return m, err
}

// NoticesAfter lists a person's unread notifications after a number, oldest first, and counts them.
func (s *Notices) NoticesAfter(ctx context.Context, person, after int64,
	limit int) (all []Notice, total int, last int64, err error) {
	const where = ` FROM notices WHERE person_id = ? AND id > ? AND read = 0`
	if err = s.db.read.QueryRowContext(ctx, `SELECT count(*), coalesce(max(id), 0)`+where, person, after).Scan(&total,
		&last); err != nil || total == 0 {
		return nil, 0, 0, err
	}
	all, err = rows(ctx, s.db.read, scanNotice, `SELECT `+noticeColumns+where+` ORDER BY id LIMIT ?`, person, after, limit)
	return all, total, last, err
}

// AddMail queues a mail, and stores what it covers: notifications up to a number, and the day if it is a digest. A
// mail without a subject is not queued.
func (s *Notices) AddMail(ctx context.Context, m Mail, mailed int64, digest string) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		if m.Subject != "" {
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO mails (person_id, subject, text, made, next) VALUES (?, ?, ?, ?, ?)`, m.PersonID,
				m.Subject, m.Text, millis(m.Made), millis(m.Made)); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `UPDATE people SET mailed = max(mailed, ?), digest = max(digest, ?) WHERE id = ?`,
			mailed, digest, m.PersonID)
		return err
	})
}

// SetMail sets when a person's notifications are mailed. Earlier ones are not mailed.
func (s *Notices) SetMail(ctx context.Context, person int64, when string, entry TrailEntry) error {
	return s.db.one(ctx, entry,
		`UPDATE people SET mail = ?, mailed = (SELECT coalesce(max(id), 0) FROM notices) WHERE id = ?`, when, person)
}

// DueMails lists the mails to send now, longest waiting first.
func (s *Notices) DueMails(ctx context.Context, now time.Time, limit int) ([]Mail, error) {
	return rows(ctx, s.db.read, scanMail, `SELECT `+mailColumns+mailTables+
		` WHERE next > 0 AND next <= ? ORDER BY next, mails.id LIMIT ?`, millis(now), limit)
}

// Mails returns a page of mails, newest first, and their total number.
func (s *Notices) Mails(ctx context.Context, page Page) (all []Mail, total int, err error) {
	if err := s.db.read.QueryRowContext(ctx, `SELECT count(*) FROM mails`).Scan(&total); err != nil {
		return nil, 0, err
	}
	all, err = rows(ctx, s.db.read, scanMail, `SELECT `+mailColumns+mailTables+` ORDER BY mails.id DESC`+page.sql())
	return all, total, err
}

// MailTried stores the result of an attempt.
func (s *Notices) MailTried(ctx context.Context, m Mail) error {
	_, err := s.db.exec(ctx, `UPDATE mails SET tries = ?, next = ?, done = ?, said = ? WHERE id = ?`, m.Tries,
		millis(m.Next), millis(m.Done), m.Said, m.ID)
	return err
}

// MailAgain makes a mail due again, whatever its result, or returns [ErrNotFound].
func (s *Notices) MailAgain(ctx context.Context, id int64, now time.Time, entry TrailEntry) error {
	return s.db.one(ctx, entry, `UPDATE mails SET next = ?, tries = 0, done = 0 WHERE id = ?`, millis(now), id)
}

// DropMails deletes mails that ended before a time.
func (s *Notices) DropMails(ctx context.Context, before time.Time) error {
	_, err := s.db.exec(ctx, `DELETE FROM mails WHERE next = 0 AND made < ?`, millis(before))
	return err
}

// ViewFollow is a person who follows a view.
type ViewFollow struct {
	PersonID  int64  // the number of the person, 0 for none
	ViewID    int64  // 0 for none
	Name      string // what it is called
	Query     string // as in the console's address
	LastEvent int64  // events up to this one are looked at
}

// FollowView makes a person follow a view of their own or a shared one, or stop following it. It returns
// [ErrNotFound] for a view that they cannot see.
func (s *Notices) FollowView(ctx context.Context, person, view int64, on Following) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		var found int
		if err := tx.QueryRowContext(ctx, `SELECT 1 FROM views WHERE id = ? AND (person_id = ? OR shared = 1)`, view,
			person).Scan(&found); err != nil {
			return none(err)
		}
		query := `DELETE FROM view_follows WHERE person_id = ? AND view_id = ?`
		if on {
			query = `INSERT OR IGNORE INTO view_follows VALUES (?, ?, (SELECT coalesce(max(id), 0) FROM events))`
		}
		_, err := tx.ExecContext(ctx, query, person, view)
		return err
	})
}

// BehindViews lists the followed views for which new or returned findings were not looked at yet.
func (s *Notices) BehindViews(ctx context.Context) ([]ViewFollow, error) {
	return rows(ctx, s.db.read, func(r scanner) (v ViewFollow, err error) {
		return v, r.Scan(&v.PersonID, &v.ViewID, &v.Name, &v.Query, &v.LastEvent)
	}, `SELECT view_follows.person_id, view_id, views.name, query, last_event FROM view_follows JOIN views ON views.id = view_id JOIN people ON people.id = view_follows.person_id
		WHERE active = 1 AND (shared = 1 OR views.person_id = view_follows.person_id) AND last_event < (SELECT coalesce(max(id), 0) FROM events)`)
}

// ToldOfView stores the last event that was looked at for a view, and adds the notification n, if any.
func (s *Notices) ToldOfView(ctx context.Context, v ViewFollow, last int64, n *Notice) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE view_follows SET last_event = ? WHERE person_id = ? AND view_id = ?`,
			last, v.PersonID, v.ViewID); err != nil {
			return err
		}
		if n == nil {
			return nil
		}
		return n.add(ctx, tx)
	})
}
