package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"time"
)

// Batch is a set of captures that were received together.
type Batch struct {
	ID       int64     // its number
	Service  string    // the service under review
	Name     string    // what it is called
	Digest   string    // SHA-256 of the recording, in hexadecimal
	Audience string    // what was said at import
	Author   string    // who did it, by name
	By       int64     // the author's id, while it is taken in: nobody is told of what they did; not kept
	Started  time.Time // when it began, or was made
	Captures int       // judged and skipped together
	Judged   int       // how many were judged
	Skipped  int       // how many were not judged
	// records limited to the caller's own of which it could not be told whose they are
	Undetermined int
	Incomplete   int            // captures that were judged and of which a body is not whole
	Bytes        int64          // of bodies, their codings undone
	Excess       int64          // bytes that no grant covers
	Findings     int            // how many it shows
	NewFindings  int            // that nobody knew before
	BySeverity   map[string]int // findings of each severity, by its name
	SkipReasons  []SkipReason   // most captures first
	Problem      string         // why the recording was not read to its end
	Repeated     bool           // it was taken in before
	Origin       string         // recording, recorder or recapture
	Growing      bool           // a recorder still adds to it
	Chunk        int            // the last that the recorder sent
	Dropped      int            // captures that the recorder had to drop
	Known        Known          // what only all of it tells
}

// Origins of a batch.
const (
	FromRecording = "recording"
	FromRecorder  = "recorder"
	FromRecapture = "recapture"
	FromWatch     = "watch"
)

// How much of a capture's bodies is kept.
const (
	HoldsBodies  = "bodies"
	HoldsOutline = "outline" // their structure, each value a stand-in of its length
	HoldsNothing = "nothing"
)

// SkipReason counts the captures that were skipped for one reason.
type SkipReason struct {
	Reason   string `json:"reason"`   // why, in the words of who did it
	Captures int    `json:"captures"` // how many
}

// Capture is a stored capture. Sealed holds its headers and bodies, encrypted.
type Capture struct {
	ID         int64     // its number
	BatchID    int64     // 0 for none
	Entry      int       // its number in the recording, from 1 on
	EndpointID string    // see [EndpointID]
	Endpoint   string    // as the contract writes it, or as it was seen
	Service    string    // the service under review
	Method     string    // of the request
	URL        string    // masked
	Audience   string    // by name
	AudienceBy string    // how it was told: said, recognised or assumed
	Status     int       // the entry of the contract, or the code
	Started    time.Time // when it began, or was made
	Recorded   time.Time // the same as far as it counts, else when it arrived
	Call       int64     // keyed hash of method, address, audience and query; 0 where it is not known
	Refused    bool      // the result of a query that holds errors alone; not read back
	Bytes      int       // of bodies, their codings undone
	Excess     int       // bytes that no grant covers
	Findings   int       // how many it shows
	Skipped    string    // why it was not judged; empty where it was
	Incomplete string    // why a body of it is not whole
	File       string    // in an archive
	Person     string    // whose credentials the call was made again with, of several of its audience
	Repeats    int64     // the capture whose call was made again, 0 for none
	Holds      string    // what Sealed has: bodies, an outline of them, or nothing of them
	Sealed     []byte    // what it holds, encrypted
	Known      Known     // of its batch
}

// Occurrence is the first spot of a finding in a capture.
type Occurrence struct {
	Finding   string // fingerprint
	CaptureID int64  // 0 for none
	BatchID   int64  // 0 for none
	Batch     string // what the recording is called
	Entry     int    // its number in the recording, from 1 on
	Pointer   string // a JSON Pointer (RFC 6901)
	Offset    int    // of the value in the body, in bytes
	Bytes     int    // of bodies, their codings undone
	Spots     int    // how many places show it
}

// Intake writes one batch. The batch is invisible before [Intake.Finish].
type Intake struct {
	store   *Captures
	batch   Batch
	service int64
	pending []Rejudged
}

// flushAt is how many captures are written per transaction: enough to be cheap, few enough to let other writers in
// between.
const flushAt = 250

// Begin begins a batch of a service, or gives [ErrNotFound] when there is no
// such service.
func (s *Captures) Begin(ctx context.Context, b Batch) (*Intake, error) {
	if b.Origin == "" {
		b.Origin = FromRecording
	}
	in := &Intake{store: s, batch: b}
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		if err := tx.QueryRowContext(ctx, `SELECT id FROM services WHERE name = ?`,
			b.Service).Scan(&in.service); err != nil {
			return none(err)
		}
		return tx.QueryRowContext(ctx,
			`INSERT INTO batches (service_id, name, digest, audience, author, started, origin) VALUES (?, ?, '', ?, ?, ?, ?) RETURNING id`,
			in.service, b.Name, b.Audience, b.Author, millis(b.Started), b.Origin).Scan(&in.batch.ID)
	})
	return in, err
}

// Add adds a capture and the findings it shows.
func (in *Intake) Add(ctx context.Context, c Capture, occurrences []Occurrence) error {
	in.pending = append(in.pending, Rejudged{c, occurrences})
	if len(in.pending) < flushAt {
		return nil
	}
	return in.flush(ctx)
}

func (in *Intake) flush(ctx context.Context) error {
	if len(in.pending) == 0 {
		return nil
	}
	err := in.store.db.change(ctx, func(tx *sql.Tx) error {
		return addCaptures(ctx, tx, in.batch.ID, in.pending)
	})
	in.pending = in.pending[:0]
	return err
}

// addCaptures inserts captures of a batch with what they show, and sets their ids.
func addCaptures(ctx context.Context, tx *sql.Tx, batch int64, all []Rejudged) error {
	if len(all) == 0 {
		return nil
	}
	captures := newBulk(tx, `INSERT INTO captures (batch_id, entry, file, endpoint_id, method, url, audience, audience_by, status,
		started, bytes, excess, findings, skipped, repeats, holds, incomplete, recorded, call, refused, person, sealed)`, 22, "")
	for i := range all {
		c := &all[i].Capture
		if err := captures.add(ctx, batch, c.Entry, c.File, c.EndpointID, c.Method, c.URL, c.Audience, c.AudienceBy,
			c.Status,
			millis(c.Started), c.Bytes, c.Excess, 0, c.Skipped, c.Repeats, c.Holds, c.Incomplete, millis(c.Recorded),
			c.Call,
			c.Refused, c.Person, c.Sealed); err != nil {
			return err
		}
	}
	if err := captures.end(ctx); err != nil {
		return err
	}
	var last int64 // ids follow each other, as nobody else writes meanwhile
	if err := tx.QueryRowContext(ctx,
		`SELECT seq FROM sqlite_sequence WHERE name = 'captures'`).Scan(&last); err != nil {
		return err
	}
	for i := range all {
		all[i].ID = last - int64(len(all)-1-i)
	}
	if err := each(ctx, tx, last-int64(len(all)),
		`INSERT INTO weights SELECT endpoint_id, audience, date(started / 1000, 'unixepoch'), count(*), sum(bytes), sum(excess)
			FROM captures WHERE id > ? AND skipped = '' GROUP BY 1, 2, 3
			ON CONFLICT DO UPDATE SET captures = captures + excluded.captures, bytes = bytes + excluded.bytes, excess = excess + excluded.excess`); err != nil {
		return err
	}
	return addOccurrences(ctx, tx, all)
}

// Discard deletes a batch that was not finished.
func (in *Intake) Discard(ctx context.Context) error {
	_, err := in.store.db.write.ExecContext(ctx, `DELETE FROM batches WHERE id = ? AND done = 0`, in.batch.ID)
	return err
}

// SeenEndpoint is what a batch showed of an endpoint.
type SeenEndpoint struct {
	Text     string // as the contract writes it, or as it was seen
	Team     string // whose it is; empty for nobody
	Captures int    // how many
	Bytes    int64  // of bodies, their codings undone
	Excess   int64  // bytes that no grant covers
}

// Finish makes the batch visible and merges its findings, in one transaction. If the same recording was received
// before, the new batch is deleted, and the earlier one is returned with Repeated set.
func (in *Intake) Finish(ctx context.Context, b Batch, e Evidence, note Note[Batch]) (Batch, error) {
	if err := in.flush(ctx); err != nil {
		return b, err
	}
	b.ID, b.Findings = in.batch.ID, len(e.Findings)
	var earlier int64
	err := in.store.db.change(ctx, func(tx *sql.Tx) error {
		err := tx.QueryRowContext(ctx,
			`SELECT id FROM batches WHERE service_id = ? AND digest = ? AND audience = ? AND done = 1`,
			in.service, b.Digest, b.Audience).Scan(&earlier)
		if err == nil {
			_, err = tx.ExecContext(ctx, `DELETE FROM batches WHERE id = ?`, b.ID)
			return err
		}
		if err != sql.ErrNoRows {
			return err
		}
		fresh, err := e.add(ctx, tx, in.service, b)
		if err != nil {
			return err
		}
		b.NewFindings = fresh
		if err := e.cover(ctx, tx, b.ID, nthOf(ctx, tx, b.ID)); err != nil {
			return err
		}
		if err := prove(ctx, tx, in.service, b, e.At); err != nil {
			return err
		}
		if err := note.add(ctx, tx, b); err != nil {
			return err
		}
		return b.count(ctx, tx)
	})
	if err != nil || earlier == 0 {
		return b, err
	}
	first, err := in.store.Batch(ctx, earlier)
	first.Repeated = true
	return first, err
}

const batchColumns = `batches.id, services.name, batches.name, audience, author, started, captures, judged, skipped, bytes, excess, findings, new_findings, by_severity, skip_reasons, problem, digest, origin, growing, chunk, dropped, batches.known, undetermined,
	(SELECT count(*) FROM captures WHERE captures.batch_id = batches.id AND captures.incomplete <> '' AND captures.skipped = '')`

func scanBatch(r scanner) (Batch, error) {
	var b Batch
	var started int64
	var severities, reasons string
	err := r.Scan(&b.ID, &b.Service, &b.Name, &b.Audience, &b.Author, &started, &b.Captures, &b.Judged, &b.Skipped,
		&b.Bytes, &b.Excess,
		&b.Findings, &b.NewFindings, &severities, &reasons, &b.Problem, &b.Digest, &b.Origin, &b.Growing, &b.Chunk,
		&b.Dropped, &b.Known, &b.Undetermined, &b.Incomplete)
	if err != nil {
		return b, err
	}
	b.Started = when(started)
	if err := json.Unmarshal([]byte(severities), &b.BySeverity); err != nil {
		return b, err
	}
	return b, json.Unmarshal([]byte(reasons), &b.SkipReasons)
}

// Batch returns one batch, or [ErrNotFound].
func (s *Captures) Batch(ctx context.Context, id int64) (Batch, error) {
	b, err := scanBatch(s.db.read.QueryRowContext(ctx, `SELECT `+batchColumns+
		` FROM batches JOIN services ON services.id = service_id WHERE batches.id = ? AND done = 1`, id))
	return b, none(err)
}

// Batches returns a page of batches, newest first, and their total number.
func (s *Captures) Batches(ctx context.Context, page Page) ([]Batch, int, error) {
	var total int
	if err := s.db.read.QueryRowContext(ctx, `SELECT count(*) FROM batches WHERE done = 1`).Scan(&total); err != nil {
		return nil, 0, err
	}
	all, err := rows(ctx, s.db.read, scanBatch, `SELECT `+batchColumns+
		` FROM batches JOIN services ON services.id = service_id WHERE done = 1 ORDER BY batches.id DESC`+page.sql())
	return all, total, err
}

// CaptureFilter narrows a list of captures.
type CaptureFilter struct {
	Batch    int64     // 0 for all
	Endpoint string    // see [EndpointID]
	Audience string    // by name
	Finding  string    // its fingerprint
	Leaking  bool      // only those that show findings
	Clean    bool      // judged to the end, and without findings
	Skipped  bool      // only those that were not judged
	Service  string    // the service under review
	Statuses []string  // codes, or classes such as 4XX
	Least    int       // bytes of the body
	Most     int       // bytes of the body, 0 for no bound
	Since    time.Time // that time or later
	Until    time.Time // before that time
	Words    string    // in method and address
	Repeats  int64     // those that made this capture's call again
	Sort     string    // newest, bytes, excess or findings
}

// orders are the sort orders of a list of captures.
var orders = map[string]string{
	"newest":   "batch_id DESC, captures.id",
	"bytes":    "captures.bytes DESC, captures.id DESC",
	"excess":   "captures.excess DESC, captures.id DESC",
	"findings": "captures.findings DESC, captures.id DESC",
	"recorded": "captures.started DESC, captures.id DESC",
}

// filter returns the conditions of a list.
func (by *CaptureFilter) filter() filter {
	var f filter
	f.and("batches.done = 1")
	if by.Batch != 0 {
		f.and("batch_id = ?", by.Batch)
	}
	if by.Service != "" {
		f.and("services.name = ?", by.Service)
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
	if by.Clean {
		f.and("captures.findings = 0 AND captures.skipped = '' AND captures.incomplete = ''")
	}
	if by.Skipped {
		f.and("captures.skipped <> ''")
	}
	if by.Repeats != 0 {
		f.and("captures.repeats = ?", by.Repeats)
	}
	var statuses filter
	for _, s := range by.Statuses {
		if class, ok := strings.CutSuffix(strings.ToUpper(s), "XX"); ok {
			// a status code gets its type from the column, an expression has none
			statuses.and("captures.status / 100 = CAST(? AS INTEGER)", class)
		} else {
			statuses.and("captures.status = ?", s)
		}
	}
	if len(statuses.where) > 0 {
		f.and("("+strings.Join(statuses.where, " OR ")+")", statuses.args...)
	}
	if by.Least > 0 {
		f.and("captures.bytes >= ?", by.Least)
	}
	if by.Most > 0 {
		f.and("captures.bytes <= ?", by.Most)
	}
	if !by.Since.IsZero() {
		f.and("captures.started >= ?", millis(by.Since))
	}
	if !by.Until.IsZero() {
		f.and("captures.started < ?", millis(by.Until))
	}
	for _, word := range strings.Fields(by.Words) {
		f.and("instr(lower(method || ' ' || url), lower(?)) > 0", word)
	}
	return f
}

const captureColumns = `captures.id, batch_id, entry, endpoint_id, coalesce(endpoints.text, ''), services.name, method, url, captures.audience, audience_by, status,
	captures.started, captures.bytes, captures.excess, captures.findings, captures.skipped, captures.file, captures.repeats, captures.holds, captures.incomplete, captures.recorded, captures.call, captures.person, batches.known`

const captureTables = ` FROM captures JOIN batches ON batches.id = batch_id JOIN services ON services.id = batches.service_id LEFT JOIN endpoints ON endpoints.id = endpoint_id`

func (c *Capture) into(started, recorded *int64) []any {
	return []any{&c.ID, &c.BatchID, &c.Entry, &c.EndpointID, &c.Endpoint, &c.Service, &c.Method, &c.URL, &c.Audience,
		&c.AudienceBy, &c.Status,
		started, &c.Bytes, &c.Excess, &c.Findings, &c.Skipped, &c.File, &c.Repeats, &c.Holds, &c.Incomplete, recorded,
		&c.Call,
		&c.Person, &c.Known}
}

// mostCounted limits how many captures are counted for a list: counting a million takes too long.
const mostCounted = 10_000

// Captures returns a page of captures, newest batch first, their total number, and whether there are more than
// that.
func (s *Captures) Captures(ctx context.Context, by CaptureFilter,
	page Page) (all []Capture, total int, more bool, err error) {
	f := by.filter()
	order, ok := orders[by.Sort]
	if !ok {
		order = orders["newest"]
	}
	if len(f.where) == 1 { // all there are: batches know how many they have
		err = s.db.read.QueryRowContext(ctx,
			`SELECT coalesce(sum(captures), 0) FROM batches WHERE done = 1`).Scan(&total)
	} else {
		err = s.db.read.QueryRowContext(ctx,
			`SELECT count(*) FROM (SELECT 1 FROM captures JOIN batches ON batches.id = batch_id JOIN services ON services.id = batches.service_id`+f.sql()+` LIMIT ?)`,
			append(f.args, mostCounted+1)...).Scan(&total)
	}
	if err != nil {
		return nil, 0, false, err
	}
	if more = total > mostCounted; more {
		total = mostCounted
	}
	all, err = rows(ctx, s.db.read, func(r scanner) (Capture, error) {
		var c Capture
		var started, recorded int64
		err := r.Scan(c.into(&started, &recorded)...)
		c.Started, c.Recorded = when(started), when(recorded)
		return c, err
	}, `SELECT `+captureColumns+captureTables+f.sql()+` ORDER BY `+order+page.sql(), f.args...)
	return all, total, more, err
}

// EachOf calls f with each capture of a batch in order, including the sealed part.
func (s *Captures) EachOf(ctx context.Context, batch int64, f func(Capture) error) error {
	for last := int64(0); ; {
		some, err := rows(ctx, s.db.read, func(r scanner) (Capture, error) {
			var c Capture
			var started, recorded int64
			err := r.Scan(append(c.into(&started, &recorded), &c.Sealed)...)
			c.Started, c.Recorded = when(started), when(recorded)
			return c, err
		}, `SELECT `+captureColumns+`, sealed`+captureTables+
			` WHERE batch_id = ? AND captures.id > ? ORDER BY captures.id LIMIT ?`, batch, last, flushAt)
		if err != nil || len(some) == 0 {
			return err
		}
		for _, c := range some {
			if err := f(c); err != nil {
				return err
			}
		}
		last = some[len(some)-1].ID
	}
}

// Capture returns one capture including its sealed part, or [ErrNotFound].
func (s *Captures) Capture(ctx context.Context, id int64) (Capture, error) {
	var c Capture
	var started, recorded int64
	err := s.db.read.QueryRowContext(ctx, `SELECT `+captureColumns+`, sealed`+captureTables+
		` WHERE captures.id = ? AND batches.done = 1`, id).
		Scan(append(c.into(&started, &recorded), &c.Sealed)...)
	c.Started, c.Recorded = when(started), when(recorded)
	return c, none(err)
}

// Occurrences lists the captures that show a finding, newest first.
func (s *Captures) Occurrences(ctx context.Context, finding string, limit int) ([]Occurrence, error) {
	return rows(ctx, s.db.read, func(r scanner) (Occurrence, error) {
		o := Occurrence{Finding: finding}
		return o, r.Scan(&o.CaptureID, &o.BatchID, &o.Batch, &o.Entry, &o.Pointer, &o.Offset, &o.Bytes, &o.Spots)
	}, `SELECT capture_id, batch_id, batches.name, entry, pointer, at, occurrences.bytes, spots FROM occurrences
		JOIN captures ON captures.id = capture_id JOIN batches ON batches.id = batch_id
		WHERE finding_id = ? AND done = 1 ORDER BY capture_id DESC LIMIT ?`, finding, limit)
}
