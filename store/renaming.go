package store

import (
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"
	"time"
)

// Renaming is a revision's change of endpoint parameter names, which keeps everything stored about the endpoints.
type Renaming struct {
	Endpoints map[string]string                 // old name to new
	Finding   func(f Finding) (id, path string) // that a finding has from then on
}

// rename moves everything stored about endpoints to their new names: what was seen, captures, requests, and
// findings with their history.
func (r *Renaming) rename(ctx context.Context, tx *sql.Tx, service int64, v Revision, at time.Time) error {
	if r == nil || len(r.Endpoints) == 0 {
		return nil
	}
	if _, err := tx.ExecContext(ctx, `PRAGMA defer_foreign_keys = ON`); err != nil { // until the transaction ends
		return err
	}
	for _, old := range slices.Sorted(maps.Keys(r.Endpoints)) {
		text := r.Endpoints[old]
		was, is := EndpointID(v.Service, old), EndpointID(v.Service, text)
		if err := r.findings(ctx, tx, v, old, text, at); err != nil {
			return err
		}
		for _, table := range []string{"captures", "shown", "exercised", "batch_shown", "batch_exercised",
			"watch_calls"} {
			if _, err := tx.ExecContext(ctx, `UPDATE OR REPLACE `+table+` SET endpoint_id = ? WHERE endpoint_id = ?`,
				is, was); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO endpoints (id, service_id, text, team, known, captures, bytes, excess, last_seen)
			SELECT ?, service_id, ?, team, known, captures, bytes, excess, last_seen FROM endpoints WHERE id = ?
			ON CONFLICT DO UPDATE SET captures = captures + excluded.captures, bytes = bytes + excluded.bytes, excess = excess + excluded.excess, last_seen = max(last_seen, excluded.last_seen)`,
			is, text, was); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM endpoints WHERE id = ?`, was); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE requests SET endpoint = ? WHERE service_id = ? AND endpoint = ?`, text,
			service, old); err != nil {
			return err
		}
	}
	return nil
}

// keptOf lists the tables that refer to findings by id.
var keptOf = []string{"occurrences", "events", "prints", "covers", "labels", "changed", "follows", "notices"}

// findings moves the findings of endpoint old to its new name text.
func (r *Renaming) findings(ctx context.Context, tx *sql.Tx, v Revision, old, text string, at time.Time) error {
	was, is := EndpointID(v.Service, old), EndpointID(v.Service, text)
	all, err := rows(ctx, tx, scanFinding, `SELECT `+findingColumns+findingTables+` WHERE endpoint_id = ?`, was)
	if err != nil {
		return err
	}
	for _, f := range all {
		id, path := r.Finding(f)
		if id == f.ID {
			continue
		}
		// a finding that already exists under the new name is merged
		for _, table := range keptOf {
			if _, err := tx.ExecContext(ctx, `UPDATE OR IGNORE `+table+
				` SET finding_id = ?1 || ' ' WHERE finding_id = ?1`, id); err != nil {
				return err
			}
		}
		if err := merge(ctx, tx, f, Finding{ID: id, Endpoint: text, EndpointID: is, Path: path}); err != nil {
			return err
		}
		for _, table := range keptOf {
			if _, err := tx.ExecContext(ctx, `UPDATE OR REPLACE `+table+
				` SET finding_id = ? WHERE finding_id IN (?, ?)`, id, f.ID, id+" "); err != nil {
				return err
			}
		}
		// what became one was found once
		if _, err := tx.ExecContext(ctx, `DELETE FROM events WHERE finding_id = ?1 AND kind = 'found' AND id >
			(SELECT min(id) FROM events WHERE finding_id = ?1 AND kind = 'found')`, id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, total, id); err != nil {
			return err
		}
		for _, s := range []string{`DELETE FROM renamed WHERE was = ?1`, `UPDATE renamed SET id = ?1 WHERE id = ?2`,
			`INSERT OR REPLACE INTO renamed VALUES (?2, ?1)`} {
			if _, err := tx.ExecContext(ctx, s, id, f.ID); err != nil {
				return err
			}
		}
		if err := addEvent(ctx, tx, id, Event{At: at, Author: v.Author, Kind: "renamed", Was: f.Endpoint, Became: text,
			Revision: v.Number}); err != nil {
			return err
		}
	}
	return nil
}

// merge gives a finding its new id and place. If there is one of that id, the one that somebody decided something
// about stays, seen as early and as late as both.
func merge(ctx context.Context, tx *sql.Tx, f, now Finding) error {
	var state string
	var first, last int64
	err := tx.QueryRowContext(ctx, `SELECT state, first_seen, last_seen FROM findings WHERE id = ?`, now.ID).Scan(&state,
		&first, &last)
	there := err == nil
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	goes, stays := now.ID, f.ID
	if there && f.State == "new" && state != "new" {
		goes, stays = f.ID, now.ID
	}
	if there {
		if _, err := tx.ExecContext(ctx, `DELETE FROM findings WHERE id = ?`, goes); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`UPDATE findings SET first_seen = min(first_seen, ?), last_seen = max(last_seen, ?) WHERE id = ?`,
			min(first, millis(f.FirstSeen)), max(last, millis(f.LastSeen)), stays); err != nil {
			return err
		}
	}
	_, err = tx.ExecContext(ctx, `UPDATE findings SET id = ?, endpoint = ?, endpoint_id = ?, path = ? WHERE id = ?`,
		now.ID, now.Endpoint, now.EndpointID, now.Path, stays)
	return err
}

// total is the SQL that counts again what captures show of a finding.
const total = `UPDATE findings SET spots = coalesce((SELECT sum(spots) FROM occurrences WHERE finding_id = findings.id), 0),
	captures = (SELECT count(*) FROM occurrences WHERE finding_id = findings.id),
	shown = coalesce((SELECT max(recorded) FROM occurrences JOIN captures ON captures.id = capture_id WHERE finding_id = findings.id), shown),
	bytes = coalesce((SELECT sum(bytes) FROM occurrences WHERE finding_id = findings.id), 0) WHERE id = ?`
