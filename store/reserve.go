package store

import (
	"context"
	"os"
	"path/filepath"
)

// Beside the database lies a file of nothing, the reserve. When the disk is full it is given up, so that
// there is room for what makes room: signing in, withdrawing recordings, shortening keeping times. It is laid
// by again once there is plenty.

const (
	reserveName = "inkret.reserve"
	// reserveBytes is room enough for the log of a deletion that is done in steps.
	reserveBytes = 16 << 20
	// reserveStep is how much of it is given up at once.
	reserveStep = 4 << 20
	// plenty is what must be free besides before the reserve is laid by.
	plenty = 4 * reserveBytes
	// spare is how far beyond its bound the database may grow to make room, in pages.
	spare = 512
)

// giveBack lays the reserve by where there is plenty of room and none yet.
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

// giveUp gives a part of the reserve up, and reports whether there was any left.
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

// Room is the disk's free bytes in the data folder.
func (s *Database) Room() (free uint64, err error) { return freeBytes(s.dir) }

// Essential does what must work on a full disk, too: at want of room it is done once more with the reserve,
// and the database may grow somewhat beyond its bound.
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

// Scrub empties the log, in which what was deleted may still stand, into the database, where it is overwritten.
// Room on the disk that the log took is free then.
func (s *Database) Scrub(ctx context.Context) error {
	var busy, log, done int
	return full(s.write.QueryRowContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`).Scan(&busy, &log, &done))
}
