package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"
)

// Watch is a set of calls that are made again by the clock.
type Watch struct {
	ID        int64         // its number
	Service   string        // the service under review
	Name      string        // what it is called
	PersonID  int64         // whose it is
	Person    string        // by name
	Callers   []WatchCaller // as whom; empty for who made each call
	Server    string        // to which the calls go; empty for their own
	Every     time.Duration // from one run to the next, in whole hours
	Begins    int           // of the day, in minutes UTC
	Ends      int           // equal to Begins for the whole day
	PerMinute int           // calls
	Paused    bool          // it is not run by the clock
	Next      time.Time     // when it runs next
	Failing   string        // why its last run failed; empty where it did not
	Created   time.Time     // when it was made
	Calls     int           // how many there are
	Last      WatchRun      // its last run; its number is 0 where there was none
}

// WatchCaller is as whom calls are made.
type WatchCaller struct {
	Audience string `json:"audience"`         // by name
	Person   string `json:"person,omitempty"` // what one of several people of the audience is called
}

// WatchRun is one run of a watch.
type WatchRun struct {
	ID       int64     // its number
	Began    time.Time // when
	BatchID  int64     // of the answers, 0 where no call was made
	Calls    int       // that were made
	Findings int       // that the answers show
	Failed   string    // why it failed; empty where it did not
}

const watchColumns = `watches.id, services.name, watches.name, watches.person_id,
	coalesce((SELECT iif(people.name = '', email, people.name) FROM people WHERE people.id = watches.person_id), ''), callers, server, hours, begins, ends, per_minute, paused, next,
	failing, watches.created, (SELECT count(*) FROM watch_calls WHERE watch_id = watches.id),
	coalesce(r.id, 0), coalesce(r.began, 0), coalesce(r.batch_id, 0), coalesce(r.calls, 0), coalesce(r.findings, 0), coalesce(r.failed, '')`

const watchTables = ` FROM watches JOIN services ON services.id = watches.service_id
	LEFT JOIN watch_runs r ON r.id = (SELECT max(id) FROM watch_runs WHERE watch_id = watches.id)`

func scanWatch(r scanner) (Watch, error) {
	var w Watch
	var callers string
	var hours, next, created, began int64
	err := r.Scan(&w.ID, &w.Service, &w.Name, &w.PersonID, &w.Person, &callers, &w.Server, &hours, &w.Begins, &w.Ends,
		&w.PerMinute, &w.Paused, &next, &w.Failing, &created, &w.Calls, &w.Last.ID, &began, &w.Last.BatchID,
		&w.Last.Calls,
		&w.Last.Findings, &w.Last.Failed)
	if err != nil {
		return w, err
	}
	w.Every, w.Next, w.Created, w.Last.Began = time.Duration(hours)*time.Hour, when(next), when(created), when(began)
	return w, json.Unmarshal([]byte(callers), &w.Callers)
}

// All lists the watches of a service, or of all for the empty name, by service and name.
func (s *Watches) All(ctx context.Context, service string) ([]Watch, error) {
	return rows(ctx, s.db.read, scanWatch, `SELECT `+watchColumns+watchTables+
		` WHERE ?1 = '' OR services.name = ?1 ORDER BY services.name, watches.name`, service)
}

// DueWatches lists the watches that are to run.
func (s *Watches) DueWatches(ctx context.Context, now time.Time) ([]Watch, error) {
	return rows(ctx, s.db.read, scanWatch, `SELECT `+watchColumns+watchTables+
		` WHERE paused = 0 AND next <= ? ORDER BY next`, millis(now))
}

// PutOffWatch says when a watch runs next.
func (s *Watches) PutOffWatch(ctx context.Context, id int64, next time.Time) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE watches SET next = ? WHERE id = ?`, millis(next), id)
		return err
	})
}

// Watch returns one watch, or [ErrNotFound].
func (s *Watches) Watch(ctx context.Context, id int64) (Watch, error) {
	w, err := scanWatch(s.db.read.QueryRowContext(ctx, `SELECT `+watchColumns+watchTables+` WHERE watches.id = ?`, id))
	return w, none(err)
}

// SetWatch makes a watch, or changes the one with its number. calls, if not nil, are its calls from then on. The error
// is [ErrTaken] if another watch of the service has the name.
func (s *Watches) SetWatch(ctx context.Context, w Watch, calls []Capture, entry Note[Watch]) (Watch, error) {
	callers, err := json.Marshal(append([]WatchCaller{}, w.Callers...))
	if err != nil {
		return w, err
	}
	err = s.db.change(ctx, func(tx *sql.Tx) error {
		var service int64
		if err := tx.QueryRowContext(ctx, `SELECT id FROM services WHERE name = ?`,
			w.Service).Scan(&service); err != nil {
			return none(err)
		}
		var taken bool
		if err := tx.QueryRowContext(ctx,
			`SELECT EXISTS (SELECT 1 FROM watches WHERE service_id = ? AND name = ? AND id <> ?)`,
			service, w.Name, w.ID).Scan(&taken); err != nil {
			return err
		}
		if taken {
			return ErrTaken
		}
		args := []any{w.Name, string(callers), w.Server, int64(w.Every / time.Hour), w.Begins, w.Ends, w.PerMinute,
			w.Paused, millis(w.Next), w.PersonID}
		if w.ID == 0 {
			err = tx.QueryRowContext(ctx,
				`INSERT INTO watches (name, callers, server, hours, begins, ends, per_minute, paused, next, person_id, service_id, created)
				VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`, append(args, service,
					millis(w.Created))...).Scan(&w.ID)
		} else {
			_, err = tx.ExecContext(ctx,
				`UPDATE watches SET name = ?, callers = ?, server = ?, hours = ?, begins = ?, ends = ?, per_minute = ?, paused = ?, next = ?,
				person_id = ?
				WHERE id = ?`, append(args, w.ID)...)
		}
		if err != nil {
			return err
		}
		if calls != nil {
			if _, err := tx.ExecContext(ctx, `DELETE FROM watch_calls WHERE watch_id = ?`, w.ID); err != nil {
				return err
			}
		}
		for i, c := range calls {
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO watch_calls (watch_id, nth, capture_id, endpoint_id, endpoint, method, url, audience, audience_by, holds, sealed)
				VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, w.ID, i, c.ID, c.EndpointID, c.Endpoint, c.Method, c.URL,
				c.Audience,
				c.AudienceBy, c.Holds, c.Sealed); err != nil {
				return err
			}
		}
		return entry.add(ctx, tx, w)
	})
	return w, err
}

// WatchCalls lists the calls of a watch, as the captures that they were recorded as.
func (s *Watches) WatchCalls(ctx context.Context, watch int64) ([]Capture, error) {
	return rows(ctx, s.db.read, func(r scanner) (Capture, error) {
		var c Capture
		return c, r.Scan(&c.ID, &c.Entry, &c.Service, &c.EndpointID, &c.Endpoint, &c.Method, &c.URL, &c.Audience,
			&c.AudienceBy,
			&c.Holds, &c.Sealed)
	}, `SELECT capture_id, nth, services.name, endpoint_id, endpoint, method, url, audience, audience_by, holds, sealed FROM watch_calls
		JOIN watches ON watches.id = watch_id JOIN services ON services.id = service_id WHERE watch_id = ? ORDER BY nth`, watch)
}

// RemoveWatch deletes a watch. What its runs showed stays.
func (s *Watches) RemoveWatch(ctx context.Context, id int64, entry TrailEntry) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM watches WHERE id = ?`, id)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return ErrNotFound
		}
		return addTrail(ctx, tx, entry)
	})
}

// keptRuns is how many runs of a watch are kept.
const keptRuns = 500

// RanWatch notes a run, and when the watch runs next. Its owner is told if it fails that did not fail before.
func (s *Watches) RanWatch(ctx context.Context, w Watch, run WatchRun, next time.Time) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		var before string
		if err := tx.QueryRowContext(ctx, `SELECT failing FROM watches WHERE id = ?`, w.ID).Scan(&before); err != nil {
			return none(err)
		}
		if _, err := tx.ExecContext(ctx, `UPDATE watches SET failing = ?, next = ? WHERE id = ?`, run.Failed,
			millis(next),
			w.ID); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO watch_runs (watch_id, began, batch_id, calls, findings, failed) VALUES (?, ?, ?, ?, ?, ?)`,
			w.ID,
			millis(run.Began), run.BatchID, run.Calls, run.Findings, run.Failed); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`DELETE FROM watch_runs WHERE watch_id = ?1 AND id <= (SELECT id FROM watch_runs WHERE watch_id = ?1
			ORDER BY id DESC LIMIT 1 OFFSET ?2)`, w.ID, keptRuns); err != nil {
			return err
		}
		if run.Failed == "" || before != "" {
			return nil
		}
		n := Notice{PersonID: w.PersonID, At: run.Began, Kind: "watch", Author: "the watch " + w.Name,
			Service: w.Service,
			Text:    run.Failed}
		return n.add(ctx, tx)
	})
}

// WatchRuns lists the runs of a watch, newest first.
func (s *Watches) WatchRuns(ctx context.Context, watch int64, limit int) ([]WatchRun, error) {
	return rows(ctx, s.db.read, func(r scanner) (WatchRun, error) {
		var v WatchRun
		var began int64
		err := r.Scan(&v.ID, &began, &v.BatchID, &v.Calls, &v.Findings, &v.Failed)
		v.Began = when(began)
		return v, err
	}, `SELECT id, began, batch_id, calls, findings, failed FROM watch_runs WHERE watch_id = ? ORDER BY id DESC LIMIT ?`, watch,
		limit)
}

// WorthWatching lists safe calls of a service: the newest that was answered, of each endpoint and audience, and
// the newest that shows a finding that is open or awaits proof. Findings says how many of these it shows.
func (s *Watches) WorthWatching(ctx context.Context, service string, most int) ([]Capture, error) {
	return rows(ctx, s.db.read, func(r scanner) (Capture, error) {
		var c Capture
		var open int
		var started, recorded int64
		if err := r.Scan(append(c.into(&started, &recorded), &open)...); err != nil {
			return c, err
		}
		c.Started, c.Recorded, c.Findings = when(started), when(recorded), open
		return c, nil
	}, `SELECT `+captureColumns+`, (SELECT count(*) FROM occurrences JOIN findings ON findings.id = finding_id
			WHERE capture_id = captures.id AND state IN `+openStates+`) AS open`+captureTables+`
		WHERE captures.id IN (
			SELECT max(c.id) FROM captures c JOIN batches b ON b.id = c.batch_id JOIN services v ON v.id = b.service_id
				WHERE v.name = ?1 AND b.done = 1 AND c.method IN ('GET', 'HEAD') AND c.skipped = '' AND c.status < 400 AND c.endpoint_id <> ''
				GROUP BY c.endpoint_id, c.audience
			UNION SELECT max(o.capture_id) FROM findings f JOIN occurrences o ON o.finding_id = f.id JOIN captures c ON c.id = o.capture_id
				JOIN services v ON v.id = f.service_id WHERE v.name = ?1 AND c.method IN ('GET', 'HEAD') AND f.state IN `+openStates+` GROUP BY f.id)
		ORDER BY open DESC, endpoint_id, captures.audience, captures.id LIMIT ?2`, service, most)
}

// ReplaceWatchCalls replaces the encrypted parts of a watch's calls, in their order.
func (s *Watches) ReplaceWatchCalls(ctx context.Context, watch int64, sealed [][]byte) error {
	return s.db.change(ctx, func(tx *sql.Tx) error {
		for nth, data := range sealed {
			if _, err := tx.ExecContext(ctx, `UPDATE watch_calls SET sealed = ? WHERE watch_id = ? AND nth = ?`, data,
				watch,
				nth); err != nil {
				return err
			}
		}
		return nil
	})
}
