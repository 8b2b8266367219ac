package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"
)

// Drafts stores first contracts of services that are not under review yet.
type Drafts struct{ db *Database }

// Draft is a first contract that is being worked on.
type Draft struct {
	ID       int64     // its number
	Service  string    // that it will be of
	Sources  []string  // what it was drafted from
	Author   string    // by name
	AuthorID int64     // whose it is
	Created  time.Time // when it was made
	Changed  time.Time // when it was last worked on
	Open     int       // questions
	Answers  []byte    // as JSON
	Sealed   []byte    // what it is drafted from
}

const draftColumns = `id, service, sources, author, author_id, created, changed, open, answers, sealed`

func scanDraft(r scanner) (Draft, error) {
	var d Draft
	var sources string
	var created, changed int64
	err := r.Scan(&d.ID, &d.Service, &sources, &d.Author, &d.AuthorID, &created, &changed, &d.Open, &d.Answers,
		&d.Sealed)
	if err != nil {
		return d, err
	}
	d.Created, d.Changed = when(created), when(changed)
	return d, json.Unmarshal([]byte(sources), &d.Sources)
}

// Drafts lists all drafts, newest first.
func (s *Drafts) Drafts(ctx context.Context) ([]Draft, error) {
	return rows(ctx, s.db.read, scanDraft, `SELECT `+draftColumns+` FROM drafts ORDER BY id DESC`)
}

// Draft returns one draft, or [ErrNotFound].
func (s *Drafts) Draft(ctx context.Context, id int64) (Draft, error) {
	d, err := scanDraft(s.db.read.QueryRowContext(ctx, `SELECT `+draftColumns+` FROM drafts WHERE id = ?`, id))
	return d, none(err)
}

// AddDraft stores a draft and returns its number.
func (s *Drafts) AddDraft(ctx context.Context, d Draft, entry TrailEntry) (int64, error) {
	sources, err := json.Marshal(d.Sources)
	if err != nil {
		return 0, err
	}
	err = s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx,
			`INSERT INTO drafts (service, sources, author, author_id, created, changed, open, answers, sealed)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, d.Service, string(sources), d.Author, d.AuthorID, millis(d.Created),
			millis(d.Changed), d.Open, string(d.Answers), d.Sealed)
		if err != nil {
			return err
		}
		if d.ID, err = r.LastInsertId(); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
	return d.ID, err
}

// ChangeDraft replaces a draft's service, answers and number of open questions, unless its answers are no longer those
// that the change was made from: then it returns [ErrConflict].
func (s *Drafts) ChangeDraft(ctx context.Context, d Draft, before []byte) error {
	r, err := s.db.exec(ctx,
		`UPDATE drafts SET service = ?, changed = ?, open = ?, answers = ? WHERE id = ? AND answers = ?`,
		d.Service, millis(d.Changed), d.Open, string(d.Answers), d.ID, string(before))
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return ErrConflict
	}
	return nil
}

// ResealDraft replaces the sealed part of a draft.
func (s *Drafts) ResealDraft(ctx context.Context, id int64, sealed []byte) error {
	_, err := s.db.exec(ctx, `UPDATE drafts SET sealed = ? WHERE id = ?`, sealed, id)
	return err
}

// DropDraft deletes a draft, or returns [ErrNotFound].
func (s *Drafts) DropDraft(ctx context.Context, id int64, entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM drafts WHERE id = ?`, id)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return ErrNotFound
		}
		return addTrail(ctx, tx, entry)
	})
}
