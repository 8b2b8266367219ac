// Package store keeps the service's records in SQLite through database/sql.
//
// There is one writer and several readers: writes go one after another through
// one connection, each in a transaction, and readers see what was committed last
// (WAL). Times are kept as milliseconds since 1970, UTC.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned for a record that is not there.
var ErrNotFound = errors.New("not found")

// ErrExists is that what is to be added is there already, and ErrConflict that it was changed
// meanwhile.
var (
	ErrExists   = errors.New("exists already")
	ErrConflict = errors.New("was changed meanwhile")
)

// ErrInUse is returned when another process has the data folder open.
var ErrInUse = errors.New("another service uses this data folder")

// ErrFull is returned when the database may not grow or the disk is full.
var ErrFull = errors.New("there is no room left for more")

// Store is an open data folder. It is safe for concurrent use.
type Store struct {
	read, write *sql.DB
	lock        *os.File
}

const (
	databaseName = "inkret.db"
	lockName     = "inkret.lock"
	// readers is how many queries run at once; more would only wait for the disk.
	readers = 8
	// busyTimeout is how long SQLite waits for another connection of this process.
	busyTimeout = 10 * time.Second
)

// Open opens a data folder, which is made when it is not there, and brings its
// database to this version. It fails with [ErrInUse] when another process has it
// open, and when the database is of a newer version than this program.
func Open(ctx context.Context, dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder cannot be made: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, lockName), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data folder cannot be written to: %w", err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return nil, fmt.Errorf("%s: %w", dir, ErrInUse)
	}
	s := &Store{lock: lock}
	path := filepath.Join(dir, databaseName)
	if err := s.connect(ctx, path); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Store) connect(ctx context.Context, path string) error {
	dsn := func(more ...string) string {
		q := url.Values{"_pragma": append([]string{"journal_mode(WAL)", "synchronous(NORMAL)", "foreign_keys(ON)",
			fmt.Sprintf("busy_timeout(%d)", busyTimeout.Milliseconds()), "cache_size(-32000)"}, more...)}
		return "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + q.Encode()
	}
	// SQLite gives its other files the mode of the database
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("the database cannot be opened: %w", err)
	}
	f.Close()
	if s.write, err = sql.Open("sqlite", dsn()+"&_txlock=immediate"); err != nil {
		return err
	}
	s.write.SetMaxOpenConns(1)
	if err := s.write.PingContext(ctx); err != nil {
		return fmt.Errorf("the database cannot be opened: %w", err)
	}
	if err := s.migrate(ctx); err != nil {
		return err
	}
	if s.read, err = sql.Open("sqlite", dsn("query_only(ON)")); err != nil {
		return err
	}
	s.read.SetMaxOpenConns(readers)
	s.read.SetMaxIdleConns(readers)
	// what a service that was killed had begun was seen by nobody
	_, err = s.write.ExecContext(ctx, `DELETE FROM batches WHERE done = 0`)
	return err
}

func (s *Store) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, s.write, files, goose.WithSlog(slog.New(slog.DiscardHandler)))
	if err != nil {
		return err
	}
	have, err := p.GetDBVersion(ctx)
	if err != nil {
		return fmt.Errorf("the database's version cannot be read: %w", err)
	}
	sources := p.ListSources()
	if newest := sources[len(sources)-1].Version; have > newest {
		return fmt.Errorf("the database is of version %d and this program knows %d: use a newer inkret, or the backup from before the upgrade", have, newest)
	}
	_, err = p.Up(ctx)
	return err
}

// Close closes the database and gives the folder free.
func (s *Store) Close() error {
	var errs []error
	for _, db := range []*sql.DB{s.read, s.write} {
		if db != nil {
			errs = append(errs, db.Close())
		}
	}
	return errors.Join(append(errs, s.lock.Close())...)
}

// change runs f in a transaction on the one writing connection. What fails for want
// of room gives [ErrFull], and nothing of it is kept.
func (s *Store) change(ctx context.Context, f func(*sql.Tx) error) error {
	tx, err := s.write.BeginTx(ctx, nil)
	if err != nil {
		return full(err)
	}
	defer tx.Rollback()
	if err := f(tx); err != nil {
		return full(err)
	}
	return full(tx.Commit())
}

// one changes one row and takes the entry of the trail, or gives [ErrNotFound] where there is no such row.
func (s *Store) one(ctx context.Context, entry TrailEntry, query string, args ...any) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(ctx, query, args...)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return none(sql.ErrNoRows)
		}
		return addTrail(ctx, tx, entry)
	})
}

func full(err error) error {
	var failed *sqlite.Error
	if errors.As(err, &failed) && failed.Code()&0xff == sqlite3.SQLITE_FULL || errors.Is(err, syscall.ENOSPC) {
		return fmt.Errorf("%w: %w", ErrFull, err)
	}
	return err
}

// Limit bounds the database to a number of bytes; what would make it larger gives
// [ErrFull]. 0 is no bound.
func (s *Store) Limit(ctx context.Context, bytes int64) error {
	if bytes <= 0 {
		return nil
	}
	var size int64
	if err := s.write.QueryRowContext(ctx, `PRAGMA page_size`).Scan(&size); err != nil {
		return err
	}
	var most int64
	return s.write.QueryRowContext(ctx, fmt.Sprintf(`PRAGMA max_page_count = %d`, max(1, bytes/size))).Scan(&most)
}

func millis(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func when(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}

// none turns "no rows" into [ErrNotFound].
func none(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// rows collects what scan gives for each row of a query.
func rows[T any](ctx context.Context, db *sql.DB, scan func(scanner) (T, error), query string, args ...any) ([]T, error) {
	found, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	all := []T{}
	for found.Next() {
		one, err := scan(found)
		if err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return all, found.Err()
}

// scanner is a row of a result.
type scanner interface{ Scan(...any) error }

// Setting gives a setting's value, the empty string when it is not set.
func (s *Store) Setting(ctx context.Context, name string) (string, error) {
	var v string
	err := s.read.QueryRowContext(ctx, `SELECT value FROM settings WHERE name = ?`, name).Scan(&v)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return v, err
}

// SetSetting sets a setting.
func (s *Store) SetSetting(ctx context.Context, entry TrailEntry, name, value string) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO settings VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value`, name, value); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
}
