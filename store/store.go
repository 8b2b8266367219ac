// Package store keeps the service's records in SQLite through database/sql.
//
// There is one writer and several readers. Writes run one after another on one connection, each in a transaction;
// readers see the last commit (WAL). Times are stored as milliseconds since 1970, UTC.
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

// ErrNotFound is returned for a record that does not exist.
var ErrNotFound = errors.New("not found")

// ErrExists is returned for a record that already exists, ErrConflict for one that was changed meanwhile.
var (
	ErrExists   = errors.New("exists already")
	ErrConflict = errors.New("was changed meanwhile")
)

// ErrInUse is returned if another process has the data folder open.
var ErrInUse = errors.New("another service uses this data folder")

// ErrTaken is returned if something else has the name.
var ErrTaken = errors.New("the name is taken")

// ErrFull is returned if the database may not grow or the disk is full.
var ErrFull = errors.New("there is no room left for more")

// Store is an open data folder, with its records by topic. It is safe for concurrent use.
type Store struct {
	*Database
	People    *People    // see [People]
	Contracts *Contracts // see [Contracts]
	Captures  *Captures  // see [Captures]
	Findings  *Findings  // see [Findings]
	Notices   *Notices   // see [Notices]
	Proofs    *Proofs    // see [Proofs]
	Watches   *Watches   // see [Watches]
	Drafts    *Drafts    // see [Drafts]
}

// Database is what all records share: connections, disk space, settings and the trail.
type Database struct {
	read, write *sql.DB
	lock        *os.File
	dir         string
	mostPages   int64 // that the database may have; 0 is no bound
	version     int64 // of the tables that this program works with
	written     atomic.Int64
}

// People stores people, and their sessions, tokens and codes.
type People struct{ db *Database }

// Contracts stores services: revisions, endpoints, what captures showed of what is granted, and requests.
type Contracts struct{ db *Database }

// Proofs stores what batches tell of findings that await proof.
type Proofs struct{ db *Database }

// Watches stores calls that are made again by the clock.
type Watches struct{ db *Database }

// Captures stores batches and captures, and what is needed to send calls again.
type Captures struct{ db *Database }

// Findings stores findings, their history, and results of pipelines.
type Findings struct{ db *Database }

// Notices stores notifications, mails and webhook deliveries.
type Notices struct{ db *Database }

const (
	databaseName = "inkret.db"
	lockName     = "inkret.lock"
	// readers limits concurrent queries; more would only wait for the disk.
	readers = 8
	// busyTimeout is how long SQLite waits for another connection of this process.
	busyTimeout = 10 * time.Second
)

// Open opens a data folder, creates it if necessary, and migrates its database. It fails with [ErrInUse] if another
// process has it open, and if the database is newer than this program.
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
	return &Store{s, &People{s}, &Contracts{s}, &Captures{s}, &Findings{s}, &Notices{s}, &Proofs{s}, &Watches{s},
		&Drafts{s}}, nil
}

// dsn returns the database address for the driver. Deleted data is overwritten with zeros, so a withdrawn recording
// is really gone from the file.
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
	// batches that a killed service had begun were never visible
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

// UpToDate reports whether the database has the tables of this program.
func (s *Database) UpToDate(ctx context.Context) (bool, error) {
	var have int64
	err := s.read.QueryRowContext(ctx, `SELECT max(version_id) FROM goose_db_version WHERE is_applied = 1`).Scan(&have)
	return have == s.version, err
}

// logSize returns the size of the write-ahead log in bytes.
func (s *Database) logSize() int64 {
	info, err := os.Stat(filepath.Join(s.dir, databaseName+"-wal"))
	if err != nil {
		return 0
	}
	return info.Size()
}

// Close closes the database and releases the folder.
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

// change runs f in a transaction on the writing connection. If there is no space, it returns [ErrFull] and nothing
// is changed.
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

// one changes one row and adds a trail entry. It returns [ErrNotFound] if there is no such row.
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

// exec runs one statement on the writing connection.
func (s *Database) exec(ctx context.Context, query string, args ...any) (sql.Result, error) {
	r, err := s.write.ExecContext(ctx, query, args...)
	return r, full(err)
}

// full wraps an error caused by lack of space in [ErrFull].
func full(err error) error {
	if isFull(err) && !errors.Is(err, ErrFull) {
		return fmt.Errorf("%w: %w", ErrFull, err)
	}
	return err
}

// isFull reports whether an error was caused by lack of space. SQLite reports a full disk in its log or the log's
// index as an I/O error.
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

// Limit limits the size of the database in bytes; 0 = no limit. Larger writes return [ErrFull].
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

// querier is the database or a transaction.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// rows runs a query and collects what scan returns for each row.
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

// Setting returns a setting, or the empty string.
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
