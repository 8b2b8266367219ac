package store

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"inkret/core/finding"
)

// Evidence is what some or all captures of a batch showed.
type Evidence struct {
	Findings  []Finding                  // what the captures show
	Seen      []SeenEndpoint             // what was seen of endpoints
	Shown     []Shown                    // of what is granted, what was there
	Exercised []Exercised                // responses that were there
	Covered   map[string]finding.Covered // what they tell of findings that await proof
	At        time.Time                  // when they were evaluated
}

// ids returns the captures of a list by position.
func ids(captures []Rejudged) func(int) (int64, error) {
	return func(nth int) (int64, error) { return captures[nth].ID, nil }
}

// add merges the evidence of a batch whose captures and occurrences are stored. It returns the number of new
// findings.
func (e *Evidence) add(ctx context.Context, tx *sql.Tx, service int64, b Batch) (fresh int, err error) {
	if fresh, err = e.merge(ctx, tx, service, b); err != nil {
		return fresh, err
	}
	if err := e.seen(ctx, tx, service, b); err != nil {
		return fresh, err
	}
	// of several kinds at one path only the most severe is a finding
	return fresh, each(ctx, tx, b.ID,
		`DELETE FROM occurrences WHERE capture_id IN (SELECT id FROM captures WHERE batch_id = ?) AND finding_id NOT IN (SELECT id FROM findings)`,
		`UPDATE captures SET findings = (SELECT count(*) FROM occurrences WHERE capture_id = captures.id) WHERE batch_id = ?`)
}

// seen updates the endpoints that were seen.
func (e *Evidence) seen(ctx context.Context, tx *sql.Tx, service int64, b Batch) error {
	for _, s := range e.Seen {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO endpoints (id, service_id, text, team, known, captures, bytes, excess, last_seen) VALUES (?, ?, ?, ?, 0, ?, ?, ?, ?)
			ON CONFLICT DO UPDATE SET captures = captures + excluded.captures, bytes = bytes + excluded.bytes, excess = excess + excluded.excess, last_seen = excluded.last_seen`,
			EndpointID(b.Service, s.Text), service, s.Text, s.Team, s.Captures, s.Bytes, s.Excess,
			millis(b.Started)); err != nil {
			return err
		}
	}
	return addExposure(ctx, tx, b, e.Shown, e.Exercised)
}

// each runs statements that take one argument or none.
func each(ctx context.Context, tx *sql.Tx, arg any, statements ...string) error {
	for _, s := range statements {
		var args []any
		if strings.Contains(s, "?") {
			args = []any{arg}
		}
		if _, err := tx.ExecContext(ctx, s, args...); err != nil {
			return err
		}
	}
	return nil
}

// count stores a batch's totals.
func (b *Batch) count(ctx context.Context, tx *sql.Tx) error {
	severities, err := json.Marshal(b.BySeverity)
	if err != nil {
		return err
	}
	reasons, err := json.Marshal(b.SkipReasons)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx,
		`UPDATE batches SET digest = ?, done = 1, audience = ?, captures = ?, judged = ?, skipped = ?, bytes = ?, excess = ?,
		findings = ?, new_findings = ?, by_severity = ?, skip_reasons = ?, problem = ?, chunk = ?, dropped = ?, growing = ?, known = ?, undetermined = ? WHERE id = ?`,
		b.Digest, b.Audience, b.Captures, b.Judged, b.Skipped, b.Bytes, b.Excess, b.Findings, b.NewFindings,
		string(severities), string(reasons), b.Problem,
		b.Chunk, b.Dropped, b.Growing, b.Known, b.Undetermined, b.ID)
	return err
}

// OnlyHere counts the findings that only a batch shows, and those that others show too.
type OnlyHere struct {
	Captures int       // of the batch
	Gone     []Finding // findings that would go with it
	Stay     []Finding // that would stay without a capture, because somebody has moved or discussed them
	Fewer    int       // that other batches show too
}

// noEvidence selects the findings that only one batch shows.
const noEvidence = ` FROM findings JOIN services ON services.id = service_id WHERE findings.id IN (SELECT finding_id FROM occurrences JOIN captures ON captures.id = capture_id WHERE batch_id = ?1)
	AND NOT EXISTS (SELECT 1 FROM occurrences JOIN captures ON captures.id = capture_id JOIN batches ON batches.id = batch_id
		WHERE finding_id = findings.id AND batch_id <> ?1 AND done = 1)`

// touched selects findings that people moved or discussed.
const touched = ` EXISTS (SELECT 1 FROM events WHERE finding_id = findings.id AND (kind IN ('comment', 'assign', 'due', 'label', 'waiver') OR kind = 'move' AND became <> 'returned'))`

// WithdrawalOf returns what withdrawing a batch would remove.
func (s *Captures) WithdrawalOf(ctx context.Context, batch int64) (OnlyHere, error) {
	var o OnlyHere
	var err error
	if o.Gone, err = rows(ctx, s.db.read, scanFinding, `SELECT `+findingColumns+noEvidence+` AND NOT`+touched+
		` ORDER BY severity DESC, endpoint, path`, batch); err != nil {
		return o, err
	}
	if o.Stay, err = rows(ctx, s.db.read, scanFinding, `SELECT `+findingColumns+noEvidence+` AND`+touched+
		` ORDER BY severity DESC, endpoint, path`, batch); err != nil {
		return o, err
	}
	var all int
	err = s.db.read.QueryRowContext(ctx,
		`SELECT count(DISTINCT finding_id) FROM occurrences JOIN captures ON captures.id = capture_id WHERE batch_id = ?`, batch).Scan(&all)
	if o.Fewer = all - len(o.Gone) - len(o.Stay); err != nil {
		return o, err
	}
	err = s.db.read.QueryRowContext(ctx, `SELECT count(*) FROM captures WHERE batch_id = ?`, batch).Scan(&o.Captures)
	return o, err
}

// Withdraw deletes a batch and everything that only it showed. Findings that people moved or discussed stay, with a
// note in their history.
func (s *Captures) Withdraw(ctx context.Context, batch int64, author string, at time.Time,
	entries ...TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		if err := dropEvidence(ctx, tx, batch, author, at); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `DELETE FROM batches WHERE id = ? AND done = 1`, batch)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return ErrNotFound
		}
		return addTrails(ctx, tx, entries)
	})
}

// addTrails adds entries to the trail.
func addTrails(ctx context.Context, tx *sql.Tx, entries []TrailEntry) error {
	for _, e := range entries {
		if err := addTrail(ctx, tx, e); err != nil {
			return err
		}
	}
	return nil
}

// dropEvidence removes what a batch showed, but not its captures.
func dropEvidence(ctx context.Context, tx *sql.Tx, batch int64, author string, at time.Time) error {
	if err := each(ctx, tx, batch,
		`CREATE TEMP TABLE IF NOT EXISTS lost (finding_id TEXT PRIMARY KEY) WITHOUT ROWID`, `DELETE FROM lost`,
		`INSERT INTO lost SELECT DISTINCT finding_id FROM occurrences JOIN captures ON captures.id = capture_id WHERE batch_id = ?`,
	); err != nil {
		return err
	}
	// findings that the batch reopened get their earlier state, except for an expired waiver; findings that it
	// proved fixed await proof again; both are noted in the history
	for _, back := range []struct{ which, became, why string }{
		{`state = 'returned' AND id IN (SELECT finding_id FROM lost) AND (SELECT iif(was = 'waived', 0, batch_id) FROM events WHERE finding_id = findings.id AND kind = 'move' AND became = 'returned' ORDER BY id DESC LIMIT 1) = ?1`,
			`(SELECT iif(was = 'closed' AND NOT EXISTS (SELECT 1 FROM covers WHERE covers.finding_id = findings.id AND covers.batch_id = proof), 'awaiting-proof', was)
				FROM events WHERE finding_id = findings.id AND kind = 'move' AND became = 'returned' ORDER BY id DESC LIMIT 1)`, "the recording that brought it back was withdrawn"},
		{`state = 'closed' AND (SELECT batch_id FROM events WHERE finding_id = findings.id AND kind = 'move' AND became = 'closed' ORDER BY id DESC LIMIT 1) = ?1`,
			`'awaiting-proof'`, "the recording that proved it was withdrawn"},
	} {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO events (finding_id, at, author, kind, was, became, comment, until, batch_id, revision)
			SELECT id, ?2, ?3, 'withdrawn', state, `+back.became+`, ?4, '', ?1, 0 FROM findings WHERE `+back.which,
			batch, millis(at), author, back.why); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE findings SET state = `+back.became+` WHERE `+back.which,
			batch); err != nil {
			return err
		}
	}
	if err := each(ctx, tx, batch,
		`DELETE FROM occurrences WHERE capture_id IN (SELECT id FROM captures WHERE batch_id = ?)`,
		`UPDATE findings SET spots = coalesce((SELECT sum(spots) FROM occurrences WHERE finding_id = findings.id), 0),
			captures = (SELECT count(*) FROM occurrences WHERE finding_id = findings.id),
			shown = coalesce((SELECT max(recorded) FROM occurrences JOIN captures ON captures.id = capture_id WHERE finding_id = findings.id), 0),
			bytes = coalesce((SELECT sum(bytes) FROM occurrences WHERE finding_id = findings.id), 0) WHERE id IN (SELECT finding_id FROM lost)`,
		`DELETE FROM findings WHERE id IN (SELECT finding_id FROM lost) AND captures = 0 AND NOT`+touched,
	); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx,
		`INSERT INTO events (finding_id, at, author, kind, was, became, comment, until, batch_id, revision)
		SELECT finding_id, ?, ?, 'withdrawn', '', '', '', '', ?, 0 FROM lost WHERE finding_id IN (SELECT id FROM findings WHERE captures = 0)`, millis(at), author, batch); err != nil {
		return err
	}
	return each(ctx, tx, batch,
		`UPDATE endpoints SET (captures, bytes, excess) = (SELECT count(*), coalesce(sum(c.bytes), 0), coalesce(sum(c.excess), 0) FROM captures c JOIN batches b ON b.id = c.batch_id
			WHERE c.endpoint_id = endpoints.id AND c.skipped = '' AND b.done = 1 AND b.id <> ?1) WHERE id IN (SELECT endpoint_id FROM captures WHERE batch_id = ?1)`,
		`DELETE FROM endpoints WHERE known = 0 AND captures = 0 AND id IN (SELECT endpoint_id FROM captures WHERE batch_id = ?) AND id NOT IN (SELECT endpoint_id FROM findings)`,
		`DELETE FROM shown WHERE (endpoint_id, audience, entity, field) IN (SELECT endpoint_id, audience, entity, field FROM batch_shown WHERE batch_id = ?1)
			AND NOT EXISTS (SELECT 1 FROM batch_shown o WHERE o.endpoint_id = shown.endpoint_id AND o.audience = shown.audience AND o.entity = shown.entity AND o.field = shown.field AND o.batch_id <> ?1)`,
		`UPDATE exercised SET captures = exercised.captures - o.captures, limited = exercised.limited - o.limited, no_owner = exercised.no_owner - o.no_owner,
			no_caller = exercised.no_caller - o.no_caller FROM batch_exercised o WHERE o.batch_id = ?1 AND o.endpoint_id = exercised.endpoint_id
			AND o.audience = exercised.audience AND o.status = exercised.status`,
		`DELETE FROM exercised WHERE captures <= 0`,
		`DELETE FROM batch_shown WHERE batch_id = ?`,
		`DELETE FROM prints WHERE batch_id = ?`,
		`DELETE FROM covers WHERE batch_id = ?`,
		`DELETE FROM batch_exercised WHERE batch_id = ?`)
}

// Rejudged is the result of evaluating a capture again.
type Rejudged struct {
	Capture
	Occurrences []Occurrence // findings that it shows
}

// Rejudge replaces what a batch showed by a new evaluation of its captures, in one transaction. b holds the new
// totals.
func (s *Captures) Rejudge(ctx context.Context, b Batch, captures []Rejudged, e Evidence, by Event,
	entries ...TrailEntry) (Batch, error) {
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		var service int64
		if err := tx.QueryRowContext(ctx, `SELECT service_id FROM batches WHERE id = ? AND done = 1`,
			b.ID).Scan(&service); err != nil {
			return none(err)
		}
		if err := dropEvidence(ctx, tx, b.ID, by.Author, by.At); err != nil {
			return err
		}
		if err := updateCaptures(ctx, tx, captures); err != nil {
			return err
		}
		fresh, err := e.add(ctx, tx, service, b)
		if err != nil {
			return err
		}
		if err := e.cover(ctx, tx, b.ID, ids(captures)); err != nil {
			return err
		}
		if !b.Growing {
			if err := prove(ctx, tx, service, b, e.At); err != nil {
				return err
			}
		}
		b.Findings, b.NewFindings = len(e.Findings), fresh
		if err := b.count(ctx, tx); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM askings WHERE batch_id = ?`, b.ID); err != nil {
			return err
		}
		return addTrails(ctx, tx, entries)
	})
	return b, err
}

// addOccurrences inserts what captures show, in the order in which it is kept.
func addOccurrences(ctx context.Context, tx *sql.Tx, all []Rejudged) error {
	type row struct {
		*Occurrence
		capture int64
	}
	var some []row
	for i := range all {
		for k := range all[i].Occurrences {
			some = append(some, row{&all[i].Occurrences[k], all[i].ID})
		}
	}
	slices.SortFunc(some, func(a, b row) int {
		return cmp.Or(strings.Compare(a.Finding, b.Finding), cmp.Compare(a.capture, b.capture))
	})
	rows := newBulk(tx, `INSERT INTO occurrences (finding_id, capture_id, pointer, at, bytes, spots)`, 6, "")
	for _, o := range some {
		if err := rows.add(ctx, o.Finding, o.capture, o.Pointer, o.Offset, o.Bytes, o.Spots); err != nil {
			return err
		}
	}
	return rows.end(ctx)
}

// OpenBatch creates a batch for a recorder to add to. It is visible at once.
func (s *Captures) OpenBatch(ctx context.Context, b Batch, note Note[Batch]) (Batch, error) {
	in, err := s.Begin(ctx, b)
	if err != nil {
		return b, err
	}
	b = in.batch
	b.Growing = true
	err = s.db.change(ctx, func(tx *sql.Tx) error {
		if err := note.add(ctx, tx, b); err != nil {
			return err
		}
		return b.count(ctx, tx)
	})
	if err != nil {
		return b, errors.Join(err, in.Discard(context.WithoutCancel(ctx)))
	}
	return b, nil
}

// Extend adds captures to a growing batch. b holds the new totals. The captures are returned with their ids.
func (s *Captures) Extend(ctx context.Context, b Batch, captures []Rejudged, e Evidence) (Batch, []Rejudged, error) {
	err := s.db.change(ctx, func(tx *sql.Tx) error {
		var service int64
		if err := tx.QueryRowContext(ctx, `SELECT service_id FROM batches WHERE id = ? AND growing = 1`,
			b.ID).Scan(&service); err != nil {
			return none(err)
		}
		if err := addCaptures(ctx, tx, b.ID, captures); err != nil {
			return err
		}
		fresh, err := e.addNew(ctx, tx, service, b, captures)
		if err != nil {
			return err
		}
		b.NewFindings += fresh
		if err := e.cover(ctx, tx, b.ID, ids(captures)); err != nil {
			return err
		}
		if len(captures) > 0 {
			if _, err := tx.ExecContext(ctx, `UPDATE batches SET heard = ? WHERE id = ?`, millis(e.At), b.ID); err != nil {
				return err
			}
		}
		return b.count(ctx, tx)
	})
	return b, captures, err
}

// addNew is add for a batch that already has many captures.
func (e *Evidence) addNew(ctx context.Context, tx *sql.Tx, service int64, b Batch, captures []Rejudged) (int, error) {
	fresh, err := e.merge(ctx, tx, service, b)
	if err != nil {
		return fresh, err
	}
	for _, c := range captures {
		if err := each(ctx, tx, c.ID,
			`DELETE FROM occurrences WHERE capture_id = ? AND finding_id NOT IN (SELECT id FROM findings)`,
			`UPDATE captures SET findings = (SELECT count(*) FROM occurrences WHERE capture_id = captures.id) WHERE id = ?`); err != nil {
			return fresh, err
		}
	}
	return fresh, e.seen(ctx, tx, service, b)
}

// Grown returns the findings that a growing batch shows so far, with their severities.
func (s *Captures) Grown(ctx context.Context, batch int64) (map[string]int, error) {
	severities := map[string]int{}
	found, err := s.db.read.QueryContext(ctx, `SELECT id, severity FROM findings WHERE id IN
		(SELECT finding_id FROM occurrences JOIN captures ON captures.id = capture_id WHERE batch_id = ?)`, batch)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var id string
		var severity int
		if err := found.Scan(&id, &severity); err != nil {
			return nil, err
		}
		severities[id] = severity
	}
	return severities, found.Err()
}

// emptiedAt is how many captures are emptied per transaction.
const emptiedAt = 4

// EmptyBatch deletes the contents of a batch's captures in small steps, so that it needs almost no disk space.
func (s *Captures) EmptyBatch(ctx context.Context, batch int64) error {
	for {
		gone := int64(0)
		err := s.db.Essential(ctx, func() error {
			r, err := s.db.exec(ctx,
				`UPDATE captures SET sealed = x'' WHERE id IN (SELECT id FROM captures WHERE batch_id = ? AND length(sealed) > 0 LIMIT ?)`, batch, emptiedAt)
			if err == nil {
				gone, err = r.RowsAffected()
			}
			return err
		})
		if err != nil || gone == 0 {
			return err
		}
		if err := s.db.Scrub(ctx); err != nil {
			return err
		}
	}
}

// CloseBatch completes a growing batch. It returns false if the batch was already complete.
func (s *Captures) CloseBatch(ctx context.Context, batch int64, dropped int, note Note[int]) (closed bool, err error) {
	err = s.db.change(ctx, func(tx *sql.Tx) error {
		var captures int
		err := tx.QueryRowContext(ctx,
			`UPDATE batches SET growing = 0, dropped = max(dropped, ?) WHERE id = ? AND growing = 1 RETURNING captures`,
			dropped, batch).Scan(&captures)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		if closed = err == nil; err != nil {
			return err
		}
		return note.add(ctx, tx, captures)
	})
	return closed && err == nil, err
}
