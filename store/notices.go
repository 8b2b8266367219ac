package store

import (
	"context"
	"database/sql"
	"time"
)

// Notice is a notification.
type Notice struct {
	ID       int64     // its number
	PersonID int64     // the number of the person, 0 for none
	At       time.Time // when
	// assigned, mentioned, moved, changed, comment, returned, closed, request, waiver, view or revision
	Kind      string
	Author    string // whose doing it was
	By        int64  // the author's id: nobody is told of what they did; not kept
	FindingID string // empty for none
	RequestID int64  // 0 for none
	ViewID    int64  // 0 for none
	Service   string // and Revision: of the contracts that it is about
	Revision  int    // its number, 0 for none
	More      int    // findings that it is about besides
	Text      string // what is told
	Read      bool   // it was seen

	Finding string // in words: kind, endpoint and path
	View    string // its query
}

func (n *Notice) add(ctx context.Context, tx *sql.Tx) error {
	if n.PersonID == n.By || n.PersonID == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx,
		`INSERT INTO notices (person_id, at, kind, author, finding_id, request_id, view_id, service, revision, more, text) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		n.PersonID, millis(n.At), n.Kind, n.Author, n.FindingID, n.RequestID, n.ViewID, n.Service, n.Revision, n.More,
		n.Text)
	return err
}

// Notices lists a person's notifications, newest first, and counts the unread ones.
func (s *Notices) Notices(ctx context.Context, person int64, unread bool,
	page Page) (all []Notice, total, fresh int, err error) {
	where, args := ` WHERE person_id = ?`, []any{person}
	if err = s.db.read.QueryRowContext(ctx, `SELECT count(*), coalesce(sum(read = 0), 0) FROM notices`+where,
		args...).Scan(&total, &fresh); err != nil {
		return nil, 0, 0, err
	}
	if unread {
		where, total = where+` AND read = 0`, fresh
	}
	all, err = rows(ctx, s.db.read, scanNotice, `SELECT `+noticeColumns+` FROM notices`+where+` ORDER BY id DESC`+
		page.sql(), args...)
	return all, total, fresh, err
}

const noticeColumns = `id, at, kind, author, finding_id, request_id, view_id, service, revision, more, text, read,
	coalesce((SELECT kind || ' at ' || endpoint || ' ' || path FROM findings WHERE findings.id = finding_id), ''), coalesce((SELECT query FROM views WHERE views.id = view_id), '')`

func scanNotice(r scanner) (Notice, error) {
	var n Notice
	var at int64
	err := r.Scan(&n.ID, &at, &n.Kind, &n.Author, &n.FindingID, &n.RequestID, &n.ViewID, &n.Service, &n.Revision,
		&n.More, &n.Text, &n.Read, &n.Finding, &n.View)
	n.At = when(at)
	return n, err
}

// ReadNotices marks a person's notifications as read, up to and including one.
func (s *Notices) ReadNotices(ctx context.Context, person, upTo int64) error {
	_, err := s.db.exec(ctx, `UPDATE notices SET read = 1 WHERE person_id = ? AND id <= ? AND read = 0`, person, upTo)
	return err
}
