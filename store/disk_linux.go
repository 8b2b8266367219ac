package store

import (
	"os"
	"syscall"
)

// freeBytes returns the free space on the disk of a folder, for users other than root.
func freeBytes(dir string) (uint64, error) {
	var disk syscall.Statfs_t
	err := syscall.Statfs(dir, &disk)
	return disk.Bavail * uint64(disk.Bsize), err
}

// allocate reserves disk space for a file without writing it.
func allocate(f *os.File, bytes int64) error { return syscall.Fallocate(int(f.Fd()), 0, 0, bytes) }
