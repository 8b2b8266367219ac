package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"
)

// Batch is the captures that came in together.
type Batch struct {
	ID          int64
	Service     string
	Name        string
	Digest      string // SHA-256 of the recording, in hexadecimal
	Audience    string // what was said at import
	Author      string
	Started     time.Time
	Captures    int
	Judged      int
	Skipped     int
	Bytes       int64
	Excess      int64
	Findings    int
	NewFindings int
	BySeverity  map[string]int
	SkipReasons []SkipReason // most captures first
	Problem     string       // why the recording was not read to its end
	Repeated    bool         // it was taken in before
}

// SkipReason counts captures that were skipped for one reason.
type SkipReason struct {
	Reason   string `json:"reason"`
	Captures int    `json:"captures"`
}

// Capture is a stored capture. Sealed holds its headers and bodies, encrypted.
type Capture struct {
	ID         int64
	BatchID    int64
	Entry      int
	EndpointID string
	Endpoint   string
	Service    string
	Method     string
	URL        string // masked
	Audience   string
	AudienceBy string
	Status     int
	Started    time.Time
	Bytes      int
	Excess     int
	Findings   int
	Skipped    string
	Sealed     []byte
}

// Occurrence is the first spot of a finding in a capture.
type Occurrence struct {
	Finding   string // fingerprint
	CaptureID int64
	BatchID   int64
	Batch     string
	Entry     int
	Pointer   string
	Offset    int
	Bytes     int
	Spots     int
}

// Intake writes one batch. Nobody sees anything of it before [Intake.Finish].
type Intake struct {
	store   *Store
	batch   Batch
	service int64
	pending []pendingCapture
}

type pendingCapture struct {
	capture     Capture
	occurrences []Occurrence
}

// flushAt is how many captures are written in one transaction: enough to make
// its cost small, few enough to let other writers in between.
const flushAt = 250

// Begin begins a batch of a service, or gives [ErrNotFound] when there is no
// such service.
func (s *Store) Begin(ctx context.Context, b Batch) (*Intake, error) {
	in := &Intake{store: s, batch: b}
	err := s.change(ctx, func(tx *sql.Tx) error {
		if err := tx.QueryRowContext(ctx, `SELECT id FROM services WHERE name = ?`, b.Service).Scan(&in.service); err != nil {
			return none(err)
		}
		return tx.QueryRowContext(ctx, `INSERT INTO batches (service_id, name, digest, audience, author, started) VALUES (?, ?, '', ?, ?, ?) RETURNING id`,
			in.service, b.Name, b.Audience, b.Author, millis(b.Started)).Scan(&in.batch.ID)
	})
	return in, err
}

// Add adds a capture with the findings it shows.
func (in *Intake) Add(ctx context.Context, c Capture, occurrences []Occurrence) error {
	in.pending = append(in.pending, pendingCapture{c, occurrences})
	if len(in.pending) < flushAt {
		return nil
	}
	return in.flush(ctx)
}

func (in *Intake) flush(ctx context.Context) error {
	if len(in.pending) == 0 {
		return nil
	}
	err := in.store.change(ctx, func(tx *sql.Tx) error {
		capture, err := tx.PrepareContext(ctx, `INSERT INTO captures (batch_id, entry, endpoint_id, method, url, audience, audience_by, status, started,
			bytes, excess, findings, skipped, sealed) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 0, ?, ?)`)
		if err != nil {
			return err
		}
		occurrence, err := tx.PrepareContext(ctx, `INSERT INTO occurrences (finding_id, capture_id, pointer, at, bytes, spots) VALUES (?, ?, ?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		for _, p := range in.pending {
			c := p.capture
			r, err := capture.ExecContext(ctx, in.batch.ID, c.Entry, c.EndpointID, c.Method, c.URL, c.Audience, c.AudienceBy, c.Status,
				millis(c.Started), c.Bytes, c.Excess, c.Skipped, c.Sealed)
			if err != nil {
				return err
			}
			id, err := r.LastInsertId()
			if err != nil {
				return err
			}
			for _, o := range p.occurrences {
				if _, err := occurrence.ExecContext(ctx, o.Finding, id, o.Pointer, o.Offset, o.Bytes, o.Spots); err != nil {
					return err
				}
			}
		}
		return nil
	})
	in.pending = in.pending[:0]
	return err
}

// Discard takes back a batch that was not finished.
func (in *Intake) Discard(ctx context.Context) error {
	_, err := in.store.write.ExecContext(ctx, `DELETE FROM batches WHERE id = ? AND done = 0`, in.batch.ID)
	return err
}

// SeenEndpoint is what a batch showed of an endpoint.
type SeenEndpoint struct {
	Text     string
	Team     string
	Captures int
	Bytes    int64
	Excess   int64
}

// Finish makes the batch visible and merges its findings, all in one
// transaction. When the same recording was taken in before, this one is taken
// back and the earlier batch given instead, marked as repeated.
func (in *Intake) Finish(ctx context.Context, b Batch, findings []Finding, seen []SeenEndpoint, shown []Shown, exercised []Exercised) (Batch, error) {
	if err := in.flush(ctx); err != nil {
		return b, err
	}
	b.ID, b.Findings = in.batch.ID, len(findings)
	var earlier int64
	err := in.store.change(ctx, func(tx *sql.Tx) error {
		err := tx.QueryRowContext(ctx, `SELECT id FROM batches WHERE service_id = ? AND digest = ? AND audience = ? AND done = 1`,
			in.service, b.Digest, b.Audience).Scan(&earlier)
		if err == nil {
			_, err = tx.ExecContext(ctx, `DELETE FROM batches WHERE id = ?`, b.ID)
			return err
		}
		if err != sql.ErrNoRows {
			return err
		}
		for i := range findings {
			fresh, err := mergeFinding(ctx, tx, in.service, b, &findings[i])
			if err != nil {
				return err
			}
			if fresh {
				b.NewFindings++
			}
		}
		for _, e := range seen {
			if _, err := tx.ExecContext(ctx, `INSERT INTO endpoints (id, service_id, text, team, known, captures, bytes, excess, last_seen) VALUES (?, ?, ?, ?, 0, ?, ?, ?, ?)
				ON CONFLICT DO UPDATE SET captures = captures + excluded.captures, bytes = bytes + excluded.bytes, excess = excess + excluded.excess, last_seen = excluded.last_seen`,
				EndpointID(b.Service, e.Text), in.service, e.Text, e.Team, e.Captures, e.Bytes, e.Excess, millis(b.Started)); err != nil {
				return err
			}
		}
		if err := addExposure(ctx, tx, b.Service, b.Started, shown, exercised); err != nil {
			return err
		}
		// of several kinds at one path the gravest alone became a finding
		for _, query := range []string{
			`DELETE FROM occurrences WHERE capture_id IN (SELECT id FROM captures WHERE batch_id = ?) AND finding_id NOT IN (SELECT id FROM findings)`,
			`UPDATE captures SET findings = (SELECT count(*) FROM occurrences WHERE capture_id = captures.id) WHERE batch_id = ?`,
		} {
			if _, err := tx.ExecContext(ctx, query, b.ID); err != nil {
				return err
			}
		}
		severities, err := json.Marshal(b.BySeverity)
		if err != nil {
			return err
		}
		reasons, err := json.Marshal(b.SkipReasons)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE batches SET digest = ?, done = 1, captures = ?, judged = ?, skipped = ?, bytes = ?, excess = ?,
			findings = ?, new_findings = ?, by_severity = ?, skip_reasons = ?, problem = ? WHERE id = ?`,
			b.Digest, b.Captures, b.Judged, b.Skipped, b.Bytes, b.Excess, b.Findings, b.NewFindings, string(severities), string(reasons), b.Problem, b.ID)
		return err
	})
	if err != nil || earlier == 0 {
		return b, err
	}
	first, err := in.store.Batch(ctx, earlier)
	first.Repeated = true
	return first, err
}

const batchColumns = `batches.id, services.name, batches.name, audience, author, started, captures, judged, skipped, bytes, excess, findings, new_findings, by_severity, skip_reasons, problem`

func scanBatch(r scanner) (Batch, error) {
	var b Batch
	var started int64
	var severities, reasons string
	err := r.Scan(&b.ID, &b.Service, &b.Name, &b.Audience, &b.Author, &started, &b.Captures, &b.Judged, &b.Skipped, &b.Bytes, &b.Excess,
		&b.Findings, &b.NewFindings, &severities, &reasons, &b.Problem)
	if err != nil {
		return b, err
	}
	b.Started = when(started)
	if err := json.Unmarshal([]byte(severities), &b.BySeverity); err != nil {
		return b, err
	}
	return b, json.Unmarshal([]byte(reasons), &b.SkipReasons)
}

// Batch gives one batch, or [ErrNotFound].
func (s *Store) Batch(ctx context.Context, id int64) (Batch, error) {
	b, err := scanBatch(s.read.QueryRowContext(ctx, `SELECT `+batchColumns+` FROM batches JOIN services ON services.id = service_id WHERE batches.id = ? AND done = 1`, id))
	return b, none(err)
}

// Batches lists a page of batches, newest first, and how many there are in all.
func (s *Store) Batches(ctx context.Context, page Page) ([]Batch, int, error) {
	var total int
	if err := s.read.QueryRowContext(ctx, `SELECT count(*) FROM batches WHERE done = 1`).Scan(&total); err != nil {
		return nil, 0, err
	}
	all, err := rows(ctx, s.read, scanBatch, `SELECT `+batchColumns+` FROM batches JOIN services ON services.id = service_id WHERE done = 1 ORDER BY batches.id DESC`+page.sql())
	return all, total, err
}

// CaptureFilter narrows a listing of captures.
type CaptureFilter struct {
	Batch    int64
	Endpoint string
	Audience string
	Finding  string
	Leaking  bool
	Skipped  bool
}

const captureColumns = `captures.id, batch_id, entry, endpoint_id, coalesce(endpoints.text, ''), services.name, method, url, captures.audience, audience_by, status,
	captures.started, captures.bytes, captures.excess, captures.findings, captures.skipped`

const captureTables = ` FROM captures JOIN batches ON batches.id = batch_id JOIN services ON services.id = batches.service_id LEFT JOIN endpoints ON endpoints.id = endpoint_id`

func (c *Capture) into(started *int64) []any {
	return []any{&c.ID, &c.BatchID, &c.Entry, &c.EndpointID, &c.Endpoint, &c.Service, &c.Method, &c.URL, &c.Audience, &c.AudienceBy, &c.Status,
		started, &c.Bytes, &c.Excess, &c.Findings, &c.Skipped}
}

// Captures lists a page of captures, newest batch first, and how many there are in all.
func (s *Store) Captures(ctx context.Context, by CaptureFilter, page Page) ([]Capture, int, error) {
	var f filter
	f.and("batches.done = 1")
	if by.Batch != 0 {
		f.and("batch_id = ?", by.Batch)
	}
	if by.Endpoint != "" {
		f.and("endpoint_id = ?", by.Endpoint)
	}
	if by.Audience != "" {
		f.and("captures.audience = ?", by.Audience)
	}
	if by.Finding != "" {
		f.and("captures.id IN (SELECT capture_id FROM occurrences WHERE finding_id = ?)", by.Finding)
	}
	if by.Leaking {
		f.and("captures.findings > 0")
	}
	if by.Skipped {
		f.and("captures.skipped <> ''")
	}
	var total int
	if err := s.read.QueryRowContext(ctx, `SELECT count(*) FROM captures JOIN batches ON batches.id = batch_id`+f.sql(), f.args...).Scan(&total); err != nil {
		return nil, 0, err
	}
	all, err := rows(ctx, s.read, func(r scanner) (Capture, error) {
		var c Capture
		var started int64
		err := r.Scan(c.into(&started)...)
		c.Started = when(started)
		return c, err
	}, `SELECT `+captureColumns+captureTables+f.sql()+` ORDER BY batch_id DESC, entry`+page.sql(), f.args...)
	return all, total, err
}

// Capture gives one capture with what is sealed of it, or [ErrNotFound].
func (s *Store) Capture(ctx context.Context, id int64) (Capture, error) {
	var c Capture
	var started int64
	err := s.read.QueryRowContext(ctx, `SELECT `+captureColumns+`, sealed`+captureTables+` WHERE captures.id = ? AND batches.done = 1`, id).
		Scan(append(c.into(&started), &c.Sealed)...)
	c.Started = when(started)
	return c, none(err)
}

// Occurrences lists the captures that show a finding, newest first.
func (s *Store) Occurrences(ctx context.Context, finding string, limit int) ([]Occurrence, error) {
	return rows(ctx, s.read, func(r scanner) (Occurrence, error) {
		o := Occurrence{Finding: finding}
		return o, r.Scan(&o.CaptureID, &o.BatchID, &o.Batch, &o.Entry, &o.Pointer, &o.Offset, &o.Bytes, &o.Spots)
	}, `SELECT capture_id, batch_id, batches.name, entry, pointer, at, occurrences.bytes, spots FROM occurrences
		JOIN captures ON captures.id = capture_id JOIN batches ON batches.id = batch_id
		WHERE finding_id = ? AND done = 1 ORDER BY capture_id DESC LIMIT ?`, finding, limit)
}
