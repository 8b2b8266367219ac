//go:build !linux

package store

import (
	"errors"
	"os"
)

// freeBytes is unknown on this system.
func freeBytes(string) (uint64, error) { return 0, errors.ErrUnsupported }

// allocate does nothing where free space is unknown.
func allocate(*os.File, int64) error { return errors.ErrUnsupported }
