package store

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Numbers are the metrics for operators. They contain no names and no values.
type Numbers struct {
	Findings   map[string]map[int]int // by state and severity
	Captures   int64                  // that are kept
	Judged     int64                  // of those in all batches
	Bytes      int64                  // of bodies that were judged
	Growing    int                    // batches that recorders add to
	Watches    int                    // that run by the clock
	Failing    int                    // watches of which the last run failed
	Deliveries int                    // that wait to be sent to hooks
	Mails      int                    // that wait to be sent
	Sessions   int                    // how many are in use
	Tokens     int                    // how many are in use
	Size       int64                  // bytes of the database
	Free       int64                  // bytes of it that are not used
	Log        int64                  // bytes of its log

	Waited  time.Duration // for the writing connection, in all
	Waiting int64         // how often somebody waited for it
}

// Numbers returns the metrics for operators.
func (s *Database) Numbers(ctx context.Context) (Numbers, error) {
	n := Numbers{Findings: map[string]map[int]int{}}
	found, err := s.read.QueryContext(ctx, `SELECT state, severity, count(*) FROM findings GROUP BY state, severity`)
	if err != nil {
		return n, err
	}
	defer found.Close()
	for found.Next() {
		var state string
		var severity, count int
		if err := found.Scan(&state, &severity, &count); err != nil {
			return n, err
		}
		if n.Findings[state] == nil {
			n.Findings[state] = map[int]int{}
		}
		n.Findings[state][severity] = count
	}
	if err := found.Err(); err != nil {
		return n, err
	}
	now := millis(time.Now())
	for _, one := range []struct {
		query string
		into  any
		args  []any
	}{
		{`SELECT coalesce(sum(captures), 0) FROM batches WHERE done = 1`, &n.Captures, nil},
		{`SELECT coalesce(sum(judged), 0) FROM batches WHERE done = 1`, &n.Judged, nil},
		{`SELECT coalesce(sum(bytes), 0) FROM batches WHERE done = 1`, &n.Bytes, nil},
		{`SELECT count(*) FROM batches WHERE growing = 1`, &n.Growing, nil},
		{`SELECT count(*) FROM watches WHERE paused = 0`, &n.Watches, nil},
		{`SELECT count(*) FROM watches WHERE failing <> ''`, &n.Failing, nil},
		{`SELECT count(*) FROM deliveries WHERE next > 0`, &n.Deliveries, nil},
		{`SELECT count(*) FROM mails WHERE next > 0`, &n.Mails, nil},
		{`SELECT count(*) FROM keys WHERE kind = 'session' AND expires > ?`, &n.Sessions, []any{now}},
		{`SELECT count(*) FROM keys WHERE kind = 'token' AND expires > ?`, &n.Tokens, []any{now}},
		{`SELECT page_count * page_size FROM pragma_page_count, pragma_page_size`, &n.Size, nil},
		{`SELECT freelist_count * page_size FROM pragma_freelist_count, pragma_page_size`, &n.Free, nil},
	} {
		if err := s.read.QueryRowContext(ctx, one.query, one.args...).Scan(one.into); err != nil {
			return n, err
		}
	}
	n.Log = s.logSize()
	stats := s.write.Stats()
	n.Waited, n.Waiting = stats.WaitDuration, stats.WaitCount
	return n, nil
}

// TryWrite checks that the database is writable, without changing it.
func (s *Database) TryWrite(ctx context.Context) error {
	err := s.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO settings VALUES ('try', '') ON CONFLICT DO UPDATE SET value = value`); err != nil {
			return err
		}
		return errTried
	})
	if errors.Is(err, errTried) {
		return nil
	}
	return err
}

// Size returns the size of the database in bytes.
func (s *Database) Size(ctx context.Context) (int64, error) {
	var pages, size, free int64
	for pragma, into := range map[string]*int64{"page_count": &pages, "page_size": &size, "freelist_count": &free} {
		if err := s.read.QueryRowContext(ctx, `PRAGMA `+pragma).Scan(into); err != nil {
			return 0, err
		}
	}
	return (pages - free) * size, nil
}

// Written counts the writes of this process. While it is unchanged, cached results are valid.
func (s *Database) Written() int64 { return s.written.Load() }
