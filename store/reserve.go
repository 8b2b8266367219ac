package store

import (
	"context"
	"os"
	"path/filepath"
)

// The reserve is an empty file beside the database. When the disk is full, it is deleted in steps to make room for
// what frees space: signing in, withdrawing recordings, shortening the keeping time. It is created again when there
// is plenty of space.

const (
	reserveName = "inkret.reserve"
	// reserveBytes is enough for the log of a deletion in steps.
	reserveBytes = 16 << 20
	// reserveStep is how much of it is released at a time.
	reserveStep = 4 << 20
	// plenty is the free space required before the reserve is created again.
	plenty = 4 * reserveBytes
	// spare is how many pages beyond its limit the database may grow to free space.
	spare = 512
)

// giveBack creates the reserve if there is plenty of space.
func giveBack(dir string) {
	path := filepath.Join(dir, reserveName)
	if info, err := os.Stat(path); err == nil && info.Size() == reserveBytes {
		return
	}
	if free, err := freeBytes(dir); err != nil || free < plenty {
		return
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return
	}
	if allocate(f, reserveBytes) != nil {
		os.Remove(path) // a file with holes would keep nothing free
	}
	f.Close()
}

// giveUp releases a part of the reserve, and reports whether there was any.
func giveUp(dir string) bool {
	path := filepath.Join(dir, reserveName)
	info, err := os.Stat(path)
	if err != nil {
		return false
	}
	if left := info.Size() - reserveStep; left > 0 {
		return os.Truncate(path, left) == nil
	}
	return os.Remove(path) == nil
}

// Room returns the free space on the data folder's disk, in bytes.
func (s *Database) Room() (free uint64, err error) { return freeBytes(s.dir) }

// Essential runs a write that must also work on a full disk. If there is no space, it runs again with the reserve
// released and the database limit raised a little.
func (s *Database) Essential(ctx context.Context, do func() error) error {
	err := do()
	if !isFull(err) {
		return err
	}
	if s.mostPages > 0 {
		var pages int64
		if err := s.write.QueryRowContext(ctx, `PRAGMA page_count`).Scan(&pages); err == nil {
			s.limitPages(ctx, max(s.mostPages, pages)+spare)
			defer s.limitPages(context.WithoutCancel(ctx), s.mostPages)
		}
	}
	if err = do(); isFull(err) {
		for giveUp(s.dir) {
			if err = do(); !isFull(err) {
				break
			}
		}
	}
	giveBack(s.dir)
	return err
}

// Scrub moves the write-ahead log, which may still contain deleted data, into the database, where it is
// overwritten, and frees its disk space.
func (s *Database) Scrub(ctx context.Context) error {
	var busy, log, done int
	return full(s.write.QueryRowContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`).Scan(&busy, &log, &done))
}
