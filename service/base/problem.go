package base

import (
	"errors"

	"inkret/store"
)

// Plain turns store errors that people can act on into problems.
func Plain(err error) error {
	if errors.Is(err, store.ErrFull) {
		return NoRoom(err)
	}
	return err
}

// NoRoom is the problem for a write that failed because the disk or the database is full.
func NoRoom(err error) *Problem {
	return &Problem{Code: Full, Detail: "there is no room left in the data folder; nothing of this was kept",
		Next: "make room on the disk, raise --max-disk, withdraw recordings that are not needed, or keep bodies for " +
			"a shorter time", Cause: err}
}
