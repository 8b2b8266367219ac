package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"time"
)

// The findings of a batch are merged as a set: they are staged in a temporary table, what is new is inserted by one
// statement in the order of the ids, and what is known is changed by another. Only what a state or a greater severity
// makes special is looked at one by one.

// merging merges the findings of one batch.
type merging struct {
	tx      *sql.Tx
	service int64
	batch   Batch
	due     dueDays
}

// staged lists the columns of the temporary table: those that the first batch sets.
var staged = func() (names []string) {
	for _, field := range findingFields {
		if field.found {
			names = append(names, strings.TrimPrefix(field.read, "findings."))
		}
	}
	return names
}()

// merge merges the findings of a batch and their prints, and returns how many are new.
func (e *Evidence) merge(ctx context.Context, tx *sql.Tx, service int64, b Batch) (fresh int, err error) {
	if fresh, err = mergeFindings(ctx, tx, service, b, e.Findings); err != nil {
		return fresh, err
	}
	return fresh, e.prints(ctx, tx, b.ID)
}

// mostPrints is how many prints a finding keeps at the most, of all batches: a recorder goes on for months.
const mostPrints = 1024

// prints adds the prints that findings showed.
func (e *Evidence) prints(ctx context.Context, tx *sql.Tx, batch int64) error {
	any := false
	rows := newBulk(tx, `INSERT INTO staged_prints`, 2, "")
	for i := range e.Findings {
		for _, print := range e.Findings[i].Prints {
			if !any {
				if err := each(ctx, tx, nil, `CREATE TEMP TABLE IF NOT EXISTS staged_prints (print, finding_id)`,
					`DELETE FROM staged_prints`); err != nil {
					return err
				}
			}
			any = true
			if err := rows.add(ctx, int64(print), e.Findings[i].ID); err != nil {
				return err
			}
		}
	}
	if !any {
		return nil
	}
	if err := rows.end(ctx); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO prints SELECT print, finding_id, ?1 FROM staged_prints s
		WHERE (SELECT count(*) FROM (SELECT 1 FROM prints p WHERE p.finding_id = s.finding_id LIMIT ?2)) < ?2
		ON CONFLICT DO NOTHING`, batch, mostPrints)
	return err
}

// mergeFindings merges findings, each of which is there once, and returns how many are new.
func mergeFindings(ctx context.Context, tx *sql.Tx, service int64, b Batch, all []Finding) (fresh int, err error) {
	if len(all) == 0 {
		return 0, nil
	}
	m := &merging{tx: tx, service: service, batch: b}
	if m.due, err = readDueDays(ctx, tx); err != nil {
		return 0, err
	}
	if err := m.stage(ctx, all); err != nil {
		return 0, err
	}
	special, err := m.special(ctx)
	if err != nil {
		return 0, err
	}
	if fresh, err = m.insert(ctx); err != nil {
		return fresh, err
	}
	if err := m.change(ctx); err != nil {
		return fresh, err
	}
	for _, s := range special {
		if err := m.seenAgain(ctx, &all[s.nth], s.known); err != nil {
			return fresh, err
		}
	}
	return fresh, nil
}

// stage writes the findings into the temporary table.
func (m *merging) stage(ctx context.Context, all []Finding) error {
	if err := each(ctx, m.tx, nil, `CREATE TEMP TABLE IF NOT EXISTS staged (n INTEGER PRIMARY KEY, known INTEGER DEFAULT 0, `+
		strings.Join(staged, ", ")+`)`, `DELETE FROM staged`); err != nil {
		return err
	}
	rows := newBulk(m.tx, `INSERT INTO staged (n, `+strings.Join(staged, ", ")+`)`, len(staged)+1, "")
	values := make([]any, 0, len(staged)+1)
	for n := range all {
		f := &all[n]
		f.FirstSeen, f.LastSeen, f.Due = m.batch.Started, m.batch.Started, m.due.after(f.Severity, m.batch.Started)
		values = append(values[:0], n)
		for _, field := range findingFields {
			if field.found {
				values = append(values, reflect.ValueOf(field.at(f)).Elem().Interface())
			}
		}
		if err := rows.add(ctx, values...); err != nil {
			return err
		}
	}
	if err := rows.end(ctx); err != nil {
		return err
	}
	return each(ctx, m.tx, nil, `UPDATE staged SET known = 1 WHERE id IN (SELECT id FROM findings)`)
}

// insert inserts what is new, and returns how many that are.
func (m *merging) insert(ctx context.Context) (int, error) {
	columns := strings.Join(staged, ", ")
	r, err := m.tx.ExecContext(ctx, `INSERT INTO findings (state, until, service_id, `+columns+
		`) SELECT 'new', '', ?, `+columns+` FROM staged WHERE known = 0 ORDER BY id`, m.service)
	if err != nil {
		return 0, err
	}
	fresh, err := r.RowsAffected()
	if err != nil || fresh == 0 {
		return int(fresh), err
	}
	_, err = m.tx.ExecContext(ctx,
		`INSERT INTO events (finding_id, at, author, kind, was, became, comment, until, batch_id, revision, capture_id)
		SELECT id, ?, ?, 'found', '', 'new', '', '', ?, 0, 0 FROM staged WHERE known = 0 ORDER BY n`,
		millis(m.batch.Started), m.batch.Author, m.batch.ID)
	return int(fresh), err
}

// change adds what was seen again to what is known.
func (m *merging) change(ctx context.Context) error {
	_, err := m.tx.ExecContext(ctx,
		`UPDATE findings SET spots = findings.spots + s.spots, captures = findings.captures + s.captures,
			bytes = findings.bytes + s.bytes, last_seen = max(findings.last_seen, s.last_seen), shown = max(findings.shown, s.shown),
			grant_file = s.grant_file, grant_line = s.grant_line, excepted = s.excepted, team = s.team
		FROM staged s WHERE s.known = 1 AND findings.id = s.id`)
	return err
}

// known is how a finding stood before a batch.
type known struct {
	state, until     string
	level            int
	granted, waiving int
	proven           int64
}

// specialOne is a finding of the batch, by its position, that needs more than its counts.
type specialOne struct {
	nth int
	known
}

// special lists the known findings that became more severe, or that may return.
func (m *merging) special(ctx context.Context) ([]specialOne, error) {
	return rows(ctx, m.tx, func(r scanner) (specialOne, error) {
		var s specialOne
		return s, r.Scan(&s.nth, &s.state, &s.until, &s.level, &s.granted, &s.waiving, &s.proven)
	}, `SELECT n, f.state, f.until, f.severity, f.granted_in, f.waived_at, f.proven FROM staged s JOIN findings f ON f.id = s.id
		WHERE s.known = 1 AND (s.severity > f.severity OR f.state IN ('closed', 'waived', 'not-a-leak')) ORDER BY n`)
}

// dueDays is how many days after it is seen a finding is due, by severity.
type dueDays []int

func readDueDays(ctx context.Context, tx *sql.Tx) (dueDays, error) {
	var text string
	if err := tx.QueryRowContext(ctx, `SELECT value FROM settings WHERE name = ?`, DueDays).Scan(&text); err != nil {
		if err == sql.ErrNoRows {
			err = nil
		}
		return nil, err
	}
	var days dueDays
	if err := json.Unmarshal([]byte(text), &days); err != nil {
		return nil, fmt.Errorf("the setting %s: %w", DueDays, err)
	}
	return days, nil
}

// after returns the due day of a finding that was seen at a time; empty for none.
func (d dueDays) after(severity int, seen time.Time) string {
	if severity < 0 || severity >= len(d) || d[severity] == 0 {
		return ""
	}
	return seen.UTC().AddDate(0, 0, d[severity]).Format(time.DateOnly)
}
