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
	"sync/atomic"
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

// Store is an open data folder, its records by what they are about. It is safe for concurrent use.
type Store struct {
	*Database
	People    *People    // see [People]
	Contracts *Contracts // see [Contracts]
	Captures  *Captures  // see [Captures]
	Findings  *Findings  // see [Findings]
	Notices   *Notices   // see [Notices]
}

// Database is what all records stand in: the connections, room for them, settings and the trail.
type Database struct {
	read, write *sql.DB
	lock        *os.File
	dir         string
	mostPages   int64 // that the database may have; 0 is no bound
	version     int64 // of the tables that this program works with
	written     atomic.Int64
}

// People is the records of people, and of their sessions, tokens and codes.
type People struct{ db *Database }

// Contracts is the records of services: revisions of their contracts, endpoints, what was shown of what is granted,
// and requests for more.
type Contracts struct{ db *Database }

// Captures is the records of batches and their captures, and what is needed to make calls again.
type Captures struct{ db *Database }

// Findings is the records of findings, their history, and what pipelines found.
type Findings struct{ db *Database }

// Notices is the records of what people and programs are told.
type Notices struct{ db *Database }

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
	giveBack(dir) // what an earlier process had no time for
	lock, err := os.OpenFile(filepath.Join(dir, lockName), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data folder cannot be written to: %w", err)
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return nil, fmt.Errorf("%s: %w", dir, ErrInUse)
	}
	s := &Database{lock: lock, dir: dir}
	err = s.connect(ctx)
	if isFull(err) { // a database cannot even be read without room for its index of the log
		s.disconnect()
		giveUp(dir)
		err = s.connect(ctx)
	}
	if err != nil {
		s.Close()
		return nil, full(err)
	}
	return &Store{s, &People{s}, &Contracts{s}, &Captures{s}, &Findings{s}, &Notices{s}}, nil
}

// dsn is the address of the database for the driver. What is deleted is overwritten with zeros: the ciphertext
// of a withdrawn recording is gone from the file.
func dsn(path string, more ...string) string {
	q := url.Values{"_pragma": append([]string{"journal_mode(WAL)", "synchronous(NORMAL)", "foreign_keys(ON)",
		"secure_delete(ON)",
		fmt.Sprintf("busy_timeout(%d)", busyTimeout.Milliseconds()), "cache_size(-32000)"}, more...)}
	return "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + q.Encode()
}

func (s *Database) connect(ctx context.Context) error {
	path := filepath.Join(s.dir, databaseName)
	// SQLite gives its other files the mode of the database
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("the database cannot be opened: %w", err)
	}
	f.Close()
	if s.write, err = sql.Open("sqlite", dsn(path)+"&_txlock=immediate"); err != nil {
		return err
	}
	s.write.SetMaxOpenConns(1)
	if err := s.write.PingContext(ctx); err != nil {
		return fmt.Errorf("the database cannot be opened: %w", err)
	}
	if err := s.migrate(ctx); err != nil {
		return err
	}
	if s.read, err = sql.Open("sqlite", dsn(path, "query_only(ON)")); err != nil {
		return err
	}
	s.read.SetMaxOpenConns(readers)
	s.read.SetMaxIdleConns(readers)
	// what a service that was killed had begun was seen by nobody
	if _, err = s.write.ExecContext(ctx, `DELETE FROM batches WHERE done = 0`); isFull(err) {
		return nil // it stays unseen, and goes at a start that finds room
	}
	return err
}

func (s *Database) migrate(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, s.write, files, goose.WithSlog(slog.New(slog.DiscardHandler)))
	if err != nil {
		return err
	}
	sources := p.ListSources()
	s.version = sources[len(sources)-1].Version
	have, err := p.GetDBVersion(ctx)
	if err != nil {
		return fmt.Errorf("the database's version cannot be read: %w", err)
	}
	newest := s.version
	switch {
	case have > newest:
		return s.downgrade(have, newest)
	case have > 0 && have < newest:
		if err := s.backUpBefore(ctx, have); err != nil {
			return err
		}
	}
	_, err = p.Up(ctx)
	return err
}

// UpToDate reports whether the database has the tables that this program works with.
func (s *Database) UpToDate(ctx context.Context) (bool, error) {
	var have int64
	err := s.read.QueryRowContext(ctx, `SELECT max(version_id) FROM goose_db_version WHERE is_applied = 1`).Scan(&have)
	return have == s.version, err
}

// logSize gives the bytes of the database's log.
func (s *Database) logSize() int64 {
	info, err := os.Stat(filepath.Join(s.dir, databaseName+"-wal"))
	if err != nil {
		return 0
	}
	return info.Size()
}

// Close closes the database and gives the folder free.
func (s *Database) Close() error { return errors.Join(s.disconnect(), s.lock.Close()) }

func (s *Database) disconnect() error {
	var errs []error
	for _, db := range []*sql.DB{s.read, s.write} {
		if db != nil {
			errs = append(errs, db.Close())
		}
	}
	s.read, s.write = nil, nil
	return errors.Join(errs...)
}

// change runs f in a transaction on the one writing connection. What fails for want
// of room gives [ErrFull], and nothing of it is kept.
func (s *Database) change(ctx context.Context, f func(*sql.Tx) error) error {
	tx, err := s.write.BeginTx(ctx, nil)
	if err != nil {
		return full(err)
	}
	defer tx.Rollback()
	if err := f(tx); err != nil {
		return full(err)
	}
	defer s.written.Add(1)
	return full(tx.Commit())
}

// one changes one row and takes the entry of the trail, or gives [ErrNotFound] where there is no such row.
func (s *Database) one(ctx context.Context, entry TrailEntry, query string, args ...any) error {
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

// exec is one statement on the writing connection.
func (s *Database) exec(ctx context.Context, query string, args ...any) (sql.Result, error) {
	r, err := s.write.ExecContext(ctx, query, args...)
	return r, full(err)
}

// full marks an error that comes from want of room as [ErrFull].
func full(err error) error {
	if isFull(err) && !errors.Is(err, ErrFull) {
		return fmt.Errorf("%w: %w", ErrFull, err)
	}
	return err
}

// isFull reports whether something failed for want of room. SQLite tells a full disk that it meets in
// its log or the log's index as an error of input or output.
func isFull(err error) bool {
	var failed *sqlite.Error
	if errors.As(err, &failed) {
		switch failed.Code() {
		case sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR_WRITE, sqlite3.SQLITE_IOERR_SHMSIZE,
			sqlite3.SQLITE_IOERR_SHMOPEN, sqlite3.SQLITE_IOERR_SHMMAP,
			sqlite3.SQLITE_IOERR_TRUNCATE, sqlite3.SQLITE_IOERR_FSYNC:
			return true
		}
		return failed.Code()&0xff == sqlite3.SQLITE_FULL
	}
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, ErrFull)
}

// Limit bounds the database to a number of bytes; what would make it larger gives
// [ErrFull]. 0 is no bound.
func (s *Database) Limit(ctx context.Context, bytes int64) error {
	if bytes <= 0 {
		return nil
	}
	var size int64
	if err := s.write.QueryRowContext(ctx, `PRAGMA page_size`).Scan(&size); err != nil {
		return err
	}
	s.mostPages = max(1, bytes/size)
	return s.limitPages(ctx, s.mostPages)
}

func (s *Database) limitPages(ctx context.Context, pages int64) error {
	var most int64
	return s.write.QueryRowContext(ctx, fmt.Sprintf(`PRAGMA max_page_count = %d`, pages)).Scan(&most)
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

// querier is the database, or a transaction of it.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// rows collects what scan gives for each row of a query.
func rows[T any](ctx context.Context, db querier, scan func(scanner) (T, error), query string,
	args ...any) ([]T, error) {
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
func (s *Database) Setting(ctx context.Context, name string) (string, error) {
	var v string
	err := s.read.QueryRowContext(ctx, `SELECT value FROM settings WHERE name = ?`, name).Scan(&v)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return v, err
}

// SetSetting sets a setting.
func (s *Database) SetSetting(ctx context.Context, entry TrailEntry, name, value string) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO settings VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value`, name,
			value); err != nil {
			return err
		}
		return addTrail(ctx, tx, entry)
	})
}
