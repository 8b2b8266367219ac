// Package durable writes files that survive a power failure: either completely or not at all.
package durable

import (
	"errors"
	"os"
	"path/filepath"
)

// WriteFile writes a file, completely or not at all. Only its owner may read it.
func WriteFile(path string, data []byte) error {
	next := path + ".next"
	f, err := os.OpenFile(next, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		os.Remove(next)
		return err
	}
	return Rename(next, path)
}

// Rename renames a file and syncs its folder, so that the new name survives a power failure.
func Rename(from, to string) error {
	if err := os.Rename(from, to); err != nil {
		return err
	}
	folder, err := os.Open(filepath.Dir(to))
	if err != nil {
		return err
	}
	return errors.Join(folder.Sync(), folder.Close())
}
