package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"inkret/durable"
)

// A backup is the whole database in one file, made by SQLite's VACUUM INTO. The database may be in use; the backup
// contains everything that was committed before.

const (
	backupEnding  = ".db"
	beforeUpgrade = "before-upgrade-from-"
)

// BackUp writes a backup to a file that must not exist yet.
func (s *Database) BackUp(ctx context.Context, to string) error { return BackUpFolder(ctx, s.dir, to) }

// BackUpFolder writes a backup of a data folder that another process may have open.
func BackUpFolder(ctx context.Context, dir, to string) error {
	path := filepath.Join(dir, databaseName)
	if _, err := os.Stat(path); err != nil {
		return fmt.Errorf("there is no database in %s (%w)", dir, os.ErrNotExist)
	}
	db, err := sql.Open("sqlite", dsn(path)) // VACUUM INTO counts as writing, though it only reads here
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	return errors.Join(backUp(ctx, db, to), db.Close())
}

func backUp(ctx context.Context, db *sql.DB, to string) error {
	if _, err := os.Lstat(to); err == nil {
		return fmt.Errorf("%s: %w", to, os.ErrExist)
	}
	next := to + ".next"
	if err := os.Remove(next); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	// created first with tight permissions, so that nobody else can read it at any time
	f, err := os.OpenFile(next, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("the backup cannot be written: %w", err)
	}
	f.Close()
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, next); err != nil {
		os.Remove(next)
		return full(fmt.Errorf("the backup cannot be written: %w", err))
	}
	if err := syncFile(next); err != nil {
		os.Remove(next)
		return err
	}
	return durable.Rename(next, to)
}

func syncFile(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// backUpBefore makes a backup before the database of an earlier version is migrated.
func (s *Database) backUpBefore(ctx context.Context, version int64) error {
	to := s.upgradeBackup(version)
	err := backUp(ctx, s.write, to)
	if errors.Is(err, os.ErrExist) { // an upgrade that did not come to its end is begun again
		return nil
	}
	if err != nil {
		return fmt.Errorf("before the upgrade of the database: %w", err)
	}
	return nil
}

func (s *Database) upgradeBackup(version int64) string {
	return filepath.Join(s.dir, fmt.Sprintf("%s%d%s", beforeUpgrade, version, backupEnding))
}

// downgrade refuses a database of a newer program, and names the backup that fits this one.
func (s *Database) downgrade(have, knows int64) error {
	next := "use a newer inkret, or restore a backup of version " + fmt.Sprint(knows) + " or older"
	for version := knows; version > 0; version-- {
		if _, err := os.Stat(s.upgradeBackup(version)); err == nil {
			next = "use a newer inkret, or restore the backup that was made before the upgrade: " +
				s.upgradeBackup(version)
			break
		}
	}
	return fmt.Errorf("the database is of version %d and this program knows %d: %s", have, knows, next)
}

// Restore creates a data folder from a backup. The folder must not contain a database.
func Restore(ctx context.Context, from, dir string) error {
	if err := verify(ctx, from); err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("the data folder cannot be made: %w", err)
	}
	to := filepath.Join(dir, databaseName)
	for _, name := range []string{to, to + "-wal"} {
		if _, err := os.Lstat(name); err == nil {
			return fmt.Errorf("%s: %w", name, os.ErrExist)
		}
	}
	data, err := os.Open(from)
	if err != nil {
		return err
	}
	defer data.Close()
	next := to + ".next"
	f, err := os.OpenFile(next, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.ReadFrom(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		os.Remove(next)
		return full(err)
	}
	return durable.Rename(next, to)
}

// verify checks the integrity of a backup.
func verify(ctx context.Context, path string) error {
	if _, err := os.Stat(path); err != nil {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?mode=ro&immutable=1")
	if err != nil {
		return err
	}
	defer db.Close()
	var said string
	if err := db.QueryRowContext(ctx, `PRAGMA integrity_check(1)`).Scan(&said); err != nil {
		return fmt.Errorf("%s is no backup, or is damaged: %w", path, err)
	}
	if said != "ok" {
		return fmt.Errorf("%s is damaged: %s", path, said)
	}
	var version sql.NullInt64
	if err := db.QueryRowContext(ctx, `SELECT max(version_id) FROM goose_db_version`).Scan(&version); err != nil ||
		!version.Valid {
		return fmt.Errorf("%s is no backup of this program", path)
	}
	return nil
}

// Backups lists the scheduled backups in a folder, oldest first.
func Backups(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	var all []string
	for _, e := range entries {
		if name := e.Name(); strings.HasPrefix(name, ScheduledBackup) && strings.HasSuffix(name, backupEnding) {
			all = append(all, filepath.Join(dir, name))
		}
	}
	slices.Sort(all)
	return all, err
}

// ScheduledBackup is the prefix of the names of scheduled backups; the time follows.
const ScheduledBackup = "inkret-"
