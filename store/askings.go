package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Changes of batches that remove severe findings, and wait for a second person.

// What can be requested for a batch.
const (
	AskWithdraw = "withdraw"
	AskCorrect  = "correct"
)

// Asking is a requested change of a batch.
type Asking struct {
	Batch    int64     // its number
	What     string    // [AskWithdraw] or [AskCorrect]
	Say      string    // of a correction: who made the requests, as JSON
	PersonID int64     // the number of the person, 0 for none
	Author   string    // who did it, by name
	At       time.Time // when
	Reason   string    // why, in the words of who did it
	Findings int       // severe ones that would go
}

// AskingOf returns the requested change of a batch, or [ErrNotFound].
func (s *Captures) AskingOf(ctx context.Context, batch int64) (Asking, error) {
	var a Asking
	var at int64
	err := s.db.read.QueryRowContext(ctx,
		`SELECT batch_id, what, say, person_id, author, at, reason, findings FROM askings WHERE batch_id = ?`, batch).
		Scan(&a.Batch, &a.What, &a.Say, &a.PersonID, &a.Author, &at, &a.Reason, &a.Findings)
	a.At = when(at)
	return a, none(err)
}

// Ask stores a requested change of a batch, replacing an earlier one, and notifies the leads of its service.
// finding is one of the findings that would be removed.
func (s *Captures) Ask(ctx context.Context, service, finding string, a Asking, entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO askings VALUES (?, ?, ?, ?, ?, ?, ?, ?)`, a.Batch,
			a.What, a.Say, a.PersonID, a.Author, millis(a.At), a.Reason, a.Findings); err != nil {
			return err
		}
		leads, err := leadsOf(ctx, tx, service)
		if err != nil {
			return err
		}
		for _, lead := range leads {
			n := Notice{PersonID: lead, At: a.At, Kind: "waiver", Author: a.Author, By: a.PersonID, FindingID: finding,
				Text: fmt.Sprintf("to %s recording %d takes %d severe findings off the list and waits for approval: %s",
					a.What, a.Batch, a.Findings, a.Reason)}
			if err := n.add(ctx, tx); err != nil {
				return err
			}
		}
		return addTrail(ctx, tx, entry)
	})
}

// DropAsking deletes the requested change of a batch, or returns [ErrNotFound].
func (s *Captures) DropAsking(ctx context.Context, batch int64, entry TrailEntry) error {
	return s.db.one(ctx, entry, `DELETE FROM askings WHERE batch_id = ?`, batch)
}

// TakenOff lists the open findings of at least a severity that would be removed if the batch showed only those in
// keep: findings that no other batch shows and nobody discussed, or that only this batch reopened.
func (s *Captures) TakenOff(ctx context.Context, batch int64, keep []string, least int) ([]Finding, error) {
	kept, err := json.Marshal(append([]string{}, keep...))
	if err != nil {
		return nil, err
	}
	return rows(ctx, s.db.read, scanFinding, `SELECT `+findingColumns+
		` FROM findings JOIN services ON services.id = service_id
		WHERE findings.id IN (SELECT finding_id FROM occurrences JOIN captures ON captures.id = capture_id WHERE batch_id = ?1)
		AND findings.id NOT IN (SELECT value FROM json_each(?2)) AND severity >= ?3 AND state NOT IN ('closed', 'waived', 'not-a-leak')
		AND (state = 'returned' AND (SELECT iif(was = 'waived', 0, batch_id) FROM events WHERE finding_id = findings.id AND kind = 'move' AND became = 'returned' ORDER BY id DESC LIMIT 1) = ?1
			OR NOT`+touched+` AND NOT EXISTS (SELECT 1 FROM occurrences JOIN captures ON captures.id = capture_id JOIN batches ON batches.id = batch_id
				WHERE finding_id = findings.id AND batch_id <> ?1 AND done = 1))
		ORDER BY severity DESC, endpoint, path`, batch, string(kept), least)
}

// OpenAmong returns those of the findings that are open and of at least a severity.
func (s *Captures) OpenAmong(ctx context.Context, ids []string, least int) ([]Finding, error) {
	list, err := json.Marshal(append([]string{}, ids...))
	if err != nil {
		return nil, err
	}
	return rows(ctx, s.db.read, scanFinding, `SELECT `+findingColumns+findingTables+
		` WHERE findings.id IN (SELECT value FROM json_each(?)) AND severity >= ?
		AND state IN `+openStates+` ORDER BY severity DESC, endpoint, path`, string(list), least)
}

// SecondPerson reports whether a service's severe decisions need a second person.
func (s *Captures) SecondPerson(ctx context.Context, service string) (needed bool, err error) {
	err = s.db.read.QueryRowContext(ctx, `SELECT second_person FROM services WHERE name = ?`, service).Scan(&needed)
	if errors.Is(err, sql.ErrNoRows) { // the first contracts of a service
		return true, nil
	}
	return needed, err
}

// SetSecondPerson sets whether a service's severe decisions need a second person. It returns [ErrNotFound] for an
// unknown service.
func (s *Captures) SetSecondPerson(ctx context.Context, service string, needed bool, entry TrailEntry) error {
	return s.db.one(ctx, entry, `UPDATE services SET second_person = ? WHERE name = ?`, needed, service)
}
