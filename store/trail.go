package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// TrailEntry is something that was done and that others must be able to see.
type TrailEntry struct {
	ID      int64
	At      time.Time
	Author  string
	Action  string // such as "reveal" or "withdraw"
	Subject string // what it was done to, such as "capture 7"
	Detail  string // in words; holds no captured value
	Hash    string // over the entry and the hash of the one before
}

// chained gives the hash of an entry that follows one with another hash: SHA-256
// of a JSON list, so that no two entries are written alike.
func (t *TrailEntry) chained(before string) string {
	text, err := json.Marshal([]any{before, millis(t.At), t.Author, t.Action, t.Subject, t.Detail})
	if err != nil {
		panic(err) // text and numbers alone
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

func addTrail(ctx context.Context, tx *sql.Tx, t TrailEntry) error {
	if t.Action == "" {
		return nil
	}
	var before string
	err := tx.QueryRowContext(ctx, `SELECT hash FROM trail ORDER BY id DESC LIMIT 1`).Scan(&before)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO trail (at, author, action, subject, detail, hash) VALUES (?, ?, ?, ?, ?, ?)`,
		millis(t.At), t.Author, t.Action, t.Subject, t.Detail, t.chained(before))
	return err
}

// AddTrail adds an entry to the trail.
func (s *Store) AddTrail(ctx context.Context, t TrailEntry) error {
	return s.change(ctx, func(tx *sql.Tx) error { return addTrail(ctx, tx, t) })
}

// TrailFilter narrows a listing of the trail.
type TrailFilter struct {
	Action  string
	Author  string
	Subject string
}

func scanTrail(r scanner) (TrailEntry, error) {
	var t TrailEntry
	var at int64
	err := r.Scan(&t.ID, &at, &t.Author, &t.Action, &t.Subject, &t.Detail, &t.Hash)
	t.At = when(at)
	return t, err
}

// Trail lists a page of the trail, newest first, and how many entries there are.
func (s *Store) Trail(ctx context.Context, by TrailFilter, page Page) ([]TrailEntry, int, error) {
	var f filter
	for column, value := range map[string]string{"action": by.Action, "author": by.Author, "subject": by.Subject} {
		if value != "" {
			f.and(column+" = ?", value)
		}
	}
	var total int
	if err := s.read.QueryRowContext(ctx, `SELECT count(*) FROM trail`+f.sql(), f.args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	all, err := rows(ctx, s.read, scanTrail, `SELECT id, at, author, action, subject, detail, hash FROM trail`+f.sql()+` ORDER BY id DESC`+page.sql(), f.args...)
	return all, total, err
}

// VerifyTrail goes over the whole trail and gives how many entries it has and
// the hash of the last. The error says which entry was changed, or follows one
// that was taken out.
func (s *Store) VerifyTrail(ctx context.Context) (entries int, last string, err error) {
	found, err := s.read.QueryContext(ctx, `SELECT id, at, author, action, subject, detail, hash FROM trail ORDER BY id`)
	if err != nil {
		return 0, "", err
	}
	defer found.Close()
	for found.Next() {
		t, err := scanTrail(found)
		if err != nil {
			return entries, last, err
		}
		if t.chained(last) != t.Hash || t.ID != int64(entries)+1 {
			return entries, last, fmt.Errorf("%w: entry %d of the trail, or one before it, is not as it was written", ErrTampered, t.ID)
		}
		entries, last = entries+1, t.Hash
	}
	return entries, last, found.Err()
}

// ErrTampered is returned for a trail that was changed afterwards.
var ErrTampered = errors.New("the trail was tampered with")
