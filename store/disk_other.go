//go:build !linux

package store

import (
	"errors"
	"os"
)

// freeBytes is not known on this system.
func freeBytes(string) (uint64, error) { return 0, errors.ErrUnsupported }

// allocate takes room for a file; nothing is laid by where free room is not known.
func allocate(*os.File, int64) error { return errors.ErrUnsupported }
