package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"inkret/service/vault"
	"inkret/store"
)

// What an operator needs: readiness, metrics and backups.

// BackupPlan schedules backups.
type BackupPlan struct {
	Folder string        // where to; empty for none
	Every  time.Duration // how often
	Keep   int           // how many are kept; older ones are deleted
}

const backupTime = "20060102T150405Z"

// BackUpEvery sets the backup schedule that [Service.Run] follows.
func (s *Service) BackUpEvery(p BackupPlan) { s.backups = p }

// backUpOnce makes a backup if one is due, and deletes the oldest ones.
func (s *Service) backUpOnce(ctx context.Context) error {
	p := s.backups
	if p.Folder == "" {
		return nil
	}
	if last, err := s.LastBackup(); err != nil || s.Base.Now().Sub(last) < p.Every {
		return err
	}
	if err := os.MkdirAll(p.Folder, 0o700); err != nil {
		return err
	}
	began := time.Now()
	to := filepath.Join(p.Folder, store.ScheduledBackup+s.Base.Now().UTC().Format(backupTime)+".db")
	if err := s.store.BackUp(ctx, to); err != nil {
		return err
	}
	all, err := store.Backups(p.Folder)
	if err != nil {
		return err
	}
	for len(all) > max(1, p.Keep) {
		if err := os.Remove(all[0]); err != nil {
			return err
		}
		all = all[1:]
	}
	s.Base.Log.Info("backup made", "file", to, "took", time.Since(began).Round(time.Millisecond).String(), "kept",
		len(all))
	return nil
}

// LastBackup returns the time of the newest scheduled backup, or the zero time.
func (s *Service) LastBackup() (time.Time, error) {
	if s.backups.Folder == "" {
		return time.Time{}, nil
	}
	all, err := store.Backups(s.backups.Folder)
	if err != nil || len(all) == 0 {
		return time.Time{}, err
	}
	name := filepath.Base(all[len(all)-1])
	return time.Parse(backupTime, name[len(store.ScheduledBackup):len(name)-len(".db")])
}

// BackUp writes a backup of a data folder, which a service may have open, and of its key if key names a file.
// Neither file may exist yet.
func BackUp(ctx context.Context, dir, to, key string) error {
	if key != "" {
		if _, err := os.Lstat(key); err == nil {
			return fmt.Errorf("%s: %w", key, os.ErrExist)
		}
	}
	if err := store.BackUpFolder(ctx, dir, to); err != nil || key == "" {
		return err
	}
	return vault.CopyKey(filepath.Join(dir, vault.KeyName), key)
}

// Restore creates a data folder from a backup and its key, and opens it once to check that they belong together.
func Restore(ctx context.Context, from, key, dir string) error {
	at := filepath.Join(dir, vault.KeyName)
	if _, err := os.Lstat(at); err == nil && key != "" {
		return fmt.Errorf("%s: %w", at, os.ErrExist)
	}
	if _, err := os.Stat(at); err != nil && key == "" {
		return fmt.Errorf("there is no key file %s (%w)", at, os.ErrNotExist)
	}
	if err := store.Restore(ctx, from, dir); err != nil {
		return err
	}
	if key != "" {
		if err := vault.CopyKey(key, at); err != nil {
			return err
		}
	}
	s, err := Open(ctx, Options{Dir: dir})
	if err != nil {
		return fmt.Errorf("the backup was copied, and cannot be opened: %w", err)
	}
	return s.Close()
}

// Readiness is the state of one thing that the service needs.
type Readiness struct {
	Name   string // database, disk or schema
	OK     bool   // it is there
	Detail string // what is wrong, in words that a stranger may read
}

// leastRoom is the free disk space below which the service is not ready.
const leastRoom = 32 << 20

// Ready checks whether the service can accept writes.
func (s *Service) Ready(ctx context.Context) []Readiness {
	out := []Readiness{{Name: "database", OK: true}, {Name: "disk", OK: true}, {Name: "schema", OK: true}}
	if err := s.store.TryWrite(ctx); err != nil {
		out[0].OK, out[0].Detail = false, "the database cannot be written to"
		if errors.Is(err, store.ErrFull) {
			out[0].Detail = "the database may not grow"
		}
	}
	if free, err := s.store.Room(); err == nil && free < leastRoom {
		out[1].OK, out[1].Detail = false, fmt.Sprintf("less than %d MB are free", leastRoom>>20)
	}
	if ok, err := s.store.UpToDate(ctx); err != nil || !ok {
		out[2].OK, out[2].Detail = false, "the database has the tables of another version"
	}
	return out
}

// Numbers are the metrics for operators.
type Numbers = store.Numbers

// Numbers returns the metrics for operators.
func (s *Service) Numbers(ctx context.Context) (Numbers, error) { return s.store.Numbers(ctx) }
