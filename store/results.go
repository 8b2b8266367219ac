package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"inkret/core/finding"
)

// Result is the result of a check in a pipeline.
type Result struct {
	ID       int64     // its number
	Service  string    // the service under review
	Line     string    // of development
	Main     bool      // it is of the line that others are compared with
	Revision string    // of the program that was checked
	Link     string    // to the pipeline's own page
	Author   string    // whose token sent it
	At       time.Time // when
	Rules    int       // the edition of the rules that it was judged by
	finding.Summary
	BySeverity []int             // counts, from info
	Findings   []finding.Checked // how many

	Compared *Compared // with the main line as it was when it came; nil for one that came before that was kept
}

// Compared is how a result differs from the latest result of the main line when it was received.
type Compared struct {
	Against *Result           // without its findings; nil where there was none
	Fresh   []string          // fingerprints of the result's findings that the other had not
	Gone    []finding.Checked // that the other had
}

// compare compares a result with the current main line.
func (r *Result) compare(ctx context.Context, tx *sql.Tx) error {
	r.Compared = &Compared{Fresh: []string{}, Gone: []finding.Checked{}}
	var found string
	main, err := scanResult(tx.QueryRowContext(ctx, `SELECT `+resultColumns+`, findings`+resultTables+
		` WHERE services.name = ? AND line = main_line ORDER BY results.id DESC LIMIT 1`, r.Service), &found)
	var had []finding.Checked
	if err == nil {
		if err := json.Unmarshal([]byte(found), &had); err != nil {
			return err
		}
		r.Compared.Against = &main
	} else if !errors.Is(err, ErrNotFound) {
		return err
	}
	d := finding.Against(had, r.Findings)
	for _, f := range d.Fresh {
		r.Compared.Fresh = append(r.Compared.Fresh, f.Fingerprint)
	}
	r.Compared.Gone = d.Gone
	return nil
}

// keptResults is how many results are kept per line.
const keptResults = 100

// AddResult stores a result, and deletes old ones of its line.
func (s *Findings) AddResult(ctx context.Context, r Result, note Note[Result]) (Result, error) {
	found, err := json.Marshal(r.Findings)
	if err != nil {
		return r, err
	}
	counts, err := json.Marshal(r.BySeverity)
	if err != nil {
		return r, err
	}
	err = s.db.change(ctx, func(tx *sql.Tx) error {
		var service int64
		if err := tx.QueryRowContext(ctx, `SELECT id, main_line = ? FROM services WHERE name = ?`, r.Line,
			r.Service).Scan(&service, &r.Main); err != nil {
			return none(err)
		}
		if err := r.compare(ctx, tx); err != nil {
			return err
		}
		compared, err := json.Marshal(r.Compared)
		if err != nil {
			return err
		}
		made, err := tx.ExecContext(ctx,
			`INSERT INTO results (compared, service_id, line, revision, link, author, at, rules, captures, judged, skipped, bytes, excess, by_severity, findings)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, string(compared), service, r.Line, r.Revision,
			r.Link, r.Author, millis(r.At), r.Rules,
			r.Captures, r.Judged, r.Skipped, r.Bytes, r.ExcessBytes, string(counts), string(found))
		if err != nil {
			return err
		}
		if r.ID, err = made.LastInsertId(); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx,
			`DELETE FROM results WHERE service_id = ?1 AND line = ?2 AND id NOT IN (SELECT id FROM results WHERE service_id = ?1 AND line = ?2 ORDER BY id DESC LIMIT ?3)`,
			service, r.Line, keptResults)
		if err != nil {
			return err
		}
		return note.add(ctx, tx, r)
	})
	return r, err
}

const resultColumns = `results.id, services.name, line, line = main_line, revision, link, author, at, rules, captures, judged, skipped, bytes, excess, by_severity`

const resultTables = ` FROM results JOIN services ON services.id = service_id`

// scanResult scans a result's columns, and the columns after them into more.
func scanResult(r scanner, more ...any) (Result, error) {
	var v Result
	var at int64
	var counts string
	err := r.Scan(append([]any{&v.ID, &v.Service, &v.Line, &v.Main, &v.Revision, &v.Link, &v.Author, &at, &v.Rules,
		&v.Captures, &v.Judged, &v.Skipped, &v.Bytes, &v.ExcessBytes, &counts}, more...)...)
	if v.At = when(at); err != nil {
		return v, none(err)
	}
	return v, json.Unmarshal([]byte(counts), &v.BySeverity)
}

// Results returns a page of results without their findings, newest first. An empty service or line matches all.
func (s *Findings) Results(ctx context.Context, service, line string, page Page) ([]Result, int, error) {
	var f filter
	if service != "" {
		f.and("services.name = ?", service)
	}
	if line != "" {
		f.and("line = ?", line)
	}
	var total int
	if err := s.db.read.QueryRowContext(ctx, `SELECT count(*)`+resultTables+f.sql(), f.args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	all, err := rows(ctx, s.db.read, func(r scanner) (Result, error) { return scanResult(r) }, `SELECT `+resultColumns+
		resultTables+f.sql()+` ORDER BY results.id DESC`+page.sql(), f.args...)
	return all, total, err
}

func (s *Findings) result(ctx context.Context, where string, args ...any) (Result, error) {
	var found, compared string
	r, err := scanResult(s.db.read.QueryRowContext(ctx, `SELECT `+resultColumns+`, findings, compared`+resultTables+where,
		args...), &found, &compared)
	if err != nil {
		return r, err
	}
	if compared != "" {
		if err := json.Unmarshal([]byte(compared), &r.Compared); err != nil {
			return r, err
		}
	}
	return r, json.Unmarshal([]byte(found), &r.Findings)
}

// ResultByID returns a result with its findings, or [ErrNotFound].
func (s *Findings) ResultByID(ctx context.Context, id int64) (Result, error) {
	return s.result(ctx, ` WHERE results.id = ?`, id)
}

// MainBefore returns the latest result of a service's main line that is older than the given one, or [ErrNotFound].
func (s *Findings) MainBefore(ctx context.Context, service string, id int64) (Result, error) {
	return s.result(ctx, ` WHERE services.name = ? AND line = main_line AND results.id < ? ORDER BY results.id DESC LIMIT 1`, service, id)
}

// DropResult deletes a result, or returns [ErrNotFound].
func (s *Findings) DropResult(ctx context.Context, id int64, entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM results WHERE id = ?`, id)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return ErrNotFound
		}
		return addTrail(ctx, tx, entry)
	})
}

// SetMainLine sets a service's main line, or returns [ErrNotFound].
func (s *Findings) SetMainLine(ctx context.Context, service, line string, entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE services SET main_line = ? WHERE name = ?`, line, service)
		if err != nil {
			return err
		}
		if n, _ := r.RowsAffected(); n == 0 {
			return ErrNotFound
		}
		return addTrail(ctx, tx, entry)
	})
}

// pairs runs a query for ids and returns its second column by the first.
func (s *Findings) pairs(ctx context.Context, query string, ids []string) (map[string]string, error) {
	list, err := json.Marshal(ids)
	if err != nil {
		return nil, err
	}
	all := map[string]string{}
	_, err = rows(ctx, s.db.read, func(r scanner) (none struct{}, err error) {
		var id, value string
		err = r.Scan(&id, &value)
		all[id] = value
		return none, err
	}, query+` WHERE id IN (SELECT value FROM json_each(?))`, string(list))
	return all, err
}

// FindingStates returns the states of those findings that are tracked, by fingerprint.
func (s *Findings) FindingStates(ctx context.Context, ids []string) (map[string]string, error) {
	return s.pairs(ctx, `SELECT id, state FROM findings`, ids)
}
