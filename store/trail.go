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

// TrailEntry records who did what, for everybody to see.
type TrailEntry struct {
	ID      int64     // its number
	At      time.Time // when
	Author  string    // how the person was shown
	Action  string    // such as "reveal" or "withdraw"
	Subject string    // what it was done to, such as "capture 7"
	Detail  string    // in words; holds no captured value
	Hash    string    // over the entry and the hash of the one before

	PersonID int64  // 0 for a stranger, a command on the machine and the service itself
	Email    string // of the person, at that time
	Key      string // the session or token that was used, as in "token 4"

	edition int // of the hash
}

// trailEdition 2 hashes all fields of an entry. Entries of edition 1 do not cover person, address and key.
const trailEdition = 2

// chained returns the hash of an entry after one with the given hash: SHA-256 of a JSON list, so that no two
// entries have the same encoding.
func (t *TrailEntry) chained(before string) string {
	parts := []any{before, millis(t.At), t.Author, t.Action, t.Subject, t.Detail}
	if t.edition >= trailEdition {
		parts = append(parts, t.edition, t.PersonID, t.Email, t.Key)
	}
	text, err := json.Marshal(parts)
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
	t.edition = trailEdition
	_, err = tx.ExecContext(ctx,
		`INSERT INTO trail (at, author, action, subject, detail, hash, person_id, email, by_key, edition) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		millis(t.At), t.Author, t.Action, t.Subject, t.Detail, t.chained(before), t.PersonID, t.Email, t.Key, t.edition)
	return err
}

// Note returns the trail entry about something that was just done, within its transaction; nil = no entry.
type Note[T any] func(T) TrailEntry

func (n Note[T]) add(ctx context.Context, tx *sql.Tx, done T) error {
	if n == nil {
		return nil
	}
	return addTrail(ctx, tx, n(done))
}

// AddTrail adds an entry to the trail.
func (s *Database) AddTrail(ctx context.Context, t TrailEntry) error {
	return s.change(ctx, func(tx *sql.Tx) error { return addTrail(ctx, tx, t) })
}

// TrailFilter narrows a list of trail entries.
type TrailFilter struct {
	Action  string // what was done
	Author  string // who did it, by name
	Subject string // what it is about
	Person  int64  // 0 is any
}

const trailColumns = `id, at, author, action, subject, detail, hash, person_id, email, by_key, edition`

func scanTrail(r scanner) (TrailEntry, error) {
	var t TrailEntry
	var at int64
	err := r.Scan(&t.ID, &at, &t.Author, &t.Action, &t.Subject, &t.Detail, &t.Hash, &t.PersonID, &t.Email, &t.Key,
		&t.edition)
	t.At = when(at)
	return t, err
}

// Trail returns a page of the trail, newest first, and the total number of entries.
func (s *Database) Trail(ctx context.Context, by TrailFilter, page Page) ([]TrailEntry, int, error) {
	var f filter
	for column, value := range map[string]string{"action": by.Action, "author": by.Author, "subject": by.Subject} {
		if value != "" {
			f.and(column+" = ?", value)
		}
	}
	if by.Person != 0 {
		f.and("person_id = ?", by.Person)
	}
	var total int
	if err := s.read.QueryRowContext(ctx, `SELECT count(*) FROM trail`+f.sql(), f.args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	all, err := rows(ctx, s.read, scanTrail, `SELECT `+trailColumns+` FROM trail`+f.sql()+` ORDER BY id DESC`+
		page.sql(), f.args...)
	return all, total, err
}

// VerifyTrail checks the whole hash chain. It returns the number of entries and the last hash. The error says which
// entry was changed, or follows a deleted one.
func (s *Database) VerifyTrail(ctx context.Context) (entries int, last string, err error) {
	found, err := s.read.QueryContext(ctx, `SELECT `+trailColumns+` FROM trail ORDER BY id`)
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
			return entries, last, fmt.Errorf("%w: entry %d of the trail, or one before it, is not as it was written",
				ErrTampered, t.ID)
		}
		entries, last = entries+1, t.Hash
	}
	return entries, last, found.Err()
}

// ErrTampered is returned if the trail was changed afterwards.
var ErrTampered = errors.New("the trail was tampered with")
