package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"inkret/core/finding"
)

// What batches tell of findings that await proof is kept in covers, and decided once a batch is complete. The rules are
// those of package finding.

// cover adds what some captures of a batch told. nth returns the id of a capture by its position among them.
func (e *Evidence) cover(ctx context.Context, tx *sql.Tx, batch int64, nth func(int) (int64, error)) error {
	for id, c := range e.Covered {
		var first int64
		if c.Captures > 0 {
			var err error
			if first, err = nth(c.First); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO covers (finding_id, batch_id, captures, capture_id, ground, last, shown)
			SELECT ?1, ?2, ?3, ?4, ?5, ?6, ?7 WHERE EXISTS (SELECT 1 FROM findings WHERE id = ?1)
			ON CONFLICT DO UPDATE SET capture_id = iif(captures = 0, excluded.capture_id, capture_id),
				ground = iif(captures = 0, excluded.ground, ground), captures = captures + excluded.captures,
				last = max(last, excluded.last), shown = max(shown, excluded.shown)`,
			id, batch, c.Captures, first, string(c.By), millis(c.Last), c.Shown); err != nil {
			return err
		}
	}
	return nil
}

// denied adds the denied calls of a batch to what covers the findings that the same calls had shown.
const denied = `INSERT INTO covers (finding_id, batch_id, captures, capture_id, ground, last, shown)
	SELECT o.finding_id, ?1, count(DISTINCT d.id), min(d.id), ?3, max(d.recorded), 0
		FROM captures d JOIN captures s ON s.call = d.call JOIN occurrences o ON o.capture_id = s.id
		JOIN findings f ON f.id = o.finding_id AND f.state = 'awaiting-proof' AND f.service_id = ?2
		WHERE d.batch_id = ?1 AND (d.status IN (401, 403, 404, 410) OR d.refused) AND d.call NOT IN (0, -1) AND s.call <> 0 AND d.started > 0 AND d.incomplete = ''
		AND NOT EXISTS (SELECT 1 FROM occurrences WHERE capture_id = d.id AND finding_id = o.finding_id)
		GROUP BY o.finding_id
	ON CONFLICT DO UPDATE SET ground = iif(captures = 0 OR excluded.capture_id < capture_id, excluded.ground, ground),
		capture_id = iif(captures = 0 OR excluded.capture_id < capture_id, excluded.capture_id, capture_id),
		captures = captures + excluded.captures, last = max(last, excluded.last)`

// weighed is what a batch tells of a finding that awaits proof.
type weighed struct {
	finding string
	shown   time.Time // when the last capture that showed it was recorded
	capture int64     // the first that covers it
	covered finding.Covered
}

// prove closes the findings that a complete batch proves fixed.
func prove(ctx context.Context, tx *sql.Tx, service int64, b Batch, at time.Time) error {
	var waits bool
	if err := tx.QueryRowContext(ctx,
		`SELECT EXISTS (SELECT 1 FROM findings WHERE service_id = ? AND state = 'awaiting-proof')`,
		service).Scan(&waits); err != nil || !waits {
		return err
	}
	if _, err := tx.ExecContext(ctx, denied, b.ID, service, string(finding.Denied)); err != nil {
		return err
	}
	all, err := rows(ctx, tx, func(r scanner) (weighed, error) {
		var w weighed
		var shown, last int64
		err := r.Scan(&w.finding, &shown, &w.capture, &w.covered.Captures, &w.covered.By, &last, &w.covered.Shown)
		w.shown, w.covered.Last = when(shown), when(last)
		return w, err
	}, `SELECT f.id, f.shown, c.capture_id, c.captures, c.ground, c.last, c.shown OR EXISTS (SELECT 1 FROM occurrences o
			WHERE o.finding_id = f.id AND o.capture_id BETWEEN (SELECT min(id) FROM captures WHERE batch_id = ?1) AND
			(SELECT max(id) FROM captures WHERE batch_id = ?1) AND (SELECT batch_id FROM captures WHERE id = o.capture_id) = ?1)
		FROM covers c JOIN findings f ON f.id = c.finding_id WHERE c.batch_id = ?1 AND f.state = 'awaiting-proof'`, b.ID)
	if err != nil {
		return err
	}
	for _, w := range all {
		if !w.covered.Proves(w.shown) {
			continue
		}
		if err := w.close(ctx, tx, b, at); err != nil {
			return err
		}
	}
	return nil
}

// close closes a finding that a batch proves fixed.
func (w *weighed) close(ctx context.Context, tx *sql.Tx, b Batch, at time.Time) error {
	if _, err := tx.ExecContext(ctx, `UPDATE findings SET state = 'closed', proven = ?, proof = ?, doubt = '', `+
		decidedNoMore+` WHERE id = ?`, millis(w.covered.Last), b.ID, w.finding); err != nil {
		return err
	}
	if err := addEvent(ctx, tx, w.finding, Event{At: at, Author: b.Author, Kind: "move", Was: "awaiting-proof",
		Became: "closed", BatchID: b.ID, CaptureID: w.capture}); err != nil {
		return err
	}
	return tell(ctx, tx, w.finding, Notice{At: at, Kind: "closed", Author: b.Author, By: b.By,
		Text: fmt.Sprintf("capture %d proves the repair", w.capture)})
}

// Prove closes the findings that a batch proves fixed, which a recorder may yet add to if it is quiet. covered, if not
// nil, takes the place of what was told of it so far.
func (s *Proofs) Prove(ctx context.Context, b Batch, covered map[string]finding.Covered, at time.Time) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		var service int64
		if err := tx.QueryRowContext(ctx, `SELECT service_id FROM batches WHERE id = ? AND done = 1`,
			b.ID).Scan(&service); err != nil {
			return none(err)
		}
		if covered != nil {
			if _, err := tx.ExecContext(ctx, `DELETE FROM covers WHERE batch_id = ?`, b.ID); err != nil {
				return err
			}
			e := Evidence{Covered: covered}
			if err := e.cover(ctx, tx, b.ID, nthOf(ctx, tx, b.ID)); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `UPDATE batches SET quiet = chunk WHERE id = ?`, b.ID); err != nil {
			return err
		}
		return prove(ctx, tx, service, b, at)
	})
}

// nthOf returns the id of a capture by its position in a batch.
func nthOf(ctx context.Context, tx *sql.Tx, batch int64) func(int) (int64, error) {
	return func(nth int) (id int64, err error) {
		return id, tx.QueryRowContext(ctx, `SELECT id FROM captures WHERE batch_id = ? ORDER BY id LIMIT 1 OFFSET ?`, batch,
			nth).Scan(&id)
	}
}

// Quiet lists the growing batches that nothing was added to since a time, and by which proofs were not decided since.
func (s *Proofs) Quiet(ctx context.Context, since time.Time) ([]Batch, error) {
	return rows(ctx, s.db.read, scanBatch, `SELECT `+batchColumns+
		` FROM batches JOIN services ON services.id = service_id WHERE growing = 1 AND done = 1 AND chunk > quiet AND heard < ?`,
		millis(since))
}

// Moved reports whether a finding of which a batch has calls began to await proof only while the batch grew.
func (s *Proofs) Moved(ctx context.Context, batch int64) (moved bool, err error) {
	return moved, s.db.read.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM findings f WHERE state = 'awaiting-proof'
		AND endpoint_id IN (SELECT DISTINCT endpoint_id FROM captures WHERE batch_id = ?1)
		AND (SELECT max(at) FROM events WHERE finding_id = f.id AND became = 'awaiting-proof') >
			(SELECT started FROM batches WHERE id = ?1))`, batch).Scan(&moved)
}

// Proof is what a batch tells of a finding: the proof of one that is closed, or what a recording in progress shows so
// far of one that awaits proof.
type Proof struct {
	BatchID   int64          // the batch
	Batch     string         // what it is called
	Growing   bool           // a recorder still adds to it
	Captures  int            // that cover the finding
	CaptureID int64          // the first of them; 0 for none
	By        finding.Ground // what makes that one cover it
	Last      time.Time      // when the latest of them was recorded
	Shown     bool           // one of the batch shows the finding
	Leaked    int64          // the newest capture that showed the finding, 0 for none
}

// ProofsOf lists what batches tell of a finding: the one that proved it if it is closed, else those that grow.
func (s *Proofs) ProofsOf(ctx context.Context, f Finding) ([]Proof, error) {
	which := `batches.id = (SELECT proof FROM findings WHERE id = ?1)`
	if f.State != string(finding.Closed) {
		which = `batches.growing = 1`
	}
	return rows(ctx, s.db.read, func(r scanner) (Proof, error) {
		var p Proof
		var last int64
		err := r.Scan(&p.BatchID, &p.Batch, &p.Growing, &p.Captures, &p.CaptureID, &p.By, &last, &p.Shown, &p.Leaked)
		p.Last = when(last)
		return p, err
	}, `SELECT batches.id, batches.name, growing, covers.captures, capture_id, ground, last, shown,
			coalesce((SELECT max(o.capture_id) FROM occurrences o WHERE o.finding_id = ?1), 0)
		FROM covers JOIN batches ON batches.id = batch_id WHERE finding_id = ?1 AND done = 1 AND `+which+
		` ORDER BY batches.id DESC LIMIT 20`, f.ID)
}

// Unlooked is the doubt about proofs that were made under earlier rules and that nobody has looked at yet.
const Unlooked = "not yet looked at"

// Unlooked lists the closed findings of which [Unlooked] is said, with the batch that proved each, by batch.
func (s *Proofs) Unlooked(ctx context.Context) (map[int64][]Finding, error) {
	all, err := rows(ctx, s.db.read, scanFinding, `SELECT `+findingColumns+findingTables+` WHERE doubt = ?`, Unlooked)
	if err != nil {
		return nil, err
	}
	by := map[int64][]Finding{}
	for _, f := range all {
		var batch int64
		if err := s.db.read.QueryRowContext(ctx, `SELECT proof FROM findings WHERE id = ?`, f.ID).Scan(&batch); err != nil {
			return nil, err
		}
		by[batch] = append(by[batch], f)
	}
	return by, nil
}

// ShownBy reports whether a batch shows a finding.
func (s *Proofs) ShownBy(ctx context.Context, batch int64, finding string) (shown bool, err error) {
	return shown, s.db.read.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM occurrences JOIN captures ON captures.id = capture_id
		WHERE finding_id = ? AND batch_id = ?)`, finding, batch).Scan(&shown)
}

// Doubt says why the proof of a closed finding does not hold, or with the empty text that it does: then what the batch
// told is kept with it.
func (s *Proofs) Doubt(ctx context.Context, id string, batch int64, why string, c finding.Covered) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE findings SET doubt = ? WHERE id = ? AND doubt = ?`, why, id,
			Unlooked); err != nil || why != "" {
			return err
		}
		e := Evidence{Covered: map[string]finding.Covered{id: c}}
		return e.cover(ctx, tx, batch, nthOf(ctx, tx, batch))
	})
}

// uncalledAt is how many captures get their calls at once.
const uncalledAt = 200

// Uncalled lists captures of which it is not known what call they are of, made before that was noted.
func (s *Proofs) Uncalled(ctx context.Context) ([]Capture, error) {
	return rows(ctx, s.db.read, func(r scanner) (Capture, error) {
		var c Capture
		var started, recorded int64
		err := r.Scan(append(c.into(&started, &recorded), &c.Sealed)...)
		return c, err
	}, `SELECT `+captureColumns+`, sealed`+captureTables+` WHERE call = 0 AND captures.endpoint_id <> '' AND batches.done = 1 LIMIT ?`,
		uncalledAt)
}

// Call notes what call captures are of.
func (s *Proofs) Call(ctx context.Context, calls map[int64]int64) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		for id, call := range calls {
			if _, err := tx.ExecContext(ctx, `UPDATE captures SET call = ? WHERE id = ?`, call, id); err != nil {
				return err
			}
		}
		return nil
	})
}
