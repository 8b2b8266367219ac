package record

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Waiting describes what waits of a run.
type Waiting struct {
	Run    string // its name: that of its folder
	About  About
	Chunks int    // that can be sent
	Aside  int    // chunks that cannot
	Bytes  int64  // on disk
	Busy   bool   // a recorder is at it
	Fault  string // why its folder cannot be read; About is empty then
}

// Waiting lists the runs in the folder with something left.
func (f Folder) Waiting() ([]Waiting, error) {
	entries, err := os.ReadDir(f.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var all []Waiting
	for _, e := range entries {
		if !e.IsDir() || !strings.HasPrefix(e.Name(), "run-") {
			continue
		}
		r := f.run(filepath.Join(f.Dir, e.Name()), nil)
		one := Waiting{Run: e.Name()}
		lock, err := locked(r.dir)
		if one.Busy = errors.Is(err, errLocked); lock != nil {
			lock.Close()
		}
		if err := r.read(); err != nil {
			if one.Busy && errors.Is(err, fs.ErrNotExist) {
				continue // it begins, or ends
			}
			one.Fault = plain(err)
		}
		one.About, one.Chunks, one.Aside, one.Bytes = r.about, len(r.numbers), r.aside, r.size
		all = append(all, one)
	}
	return all, nil
}

// plain returns an error's text without the path in front.
func plain(err error) string {
	if path := (*fs.PathError)(nil); errors.As(err, &path) {
		return filepath.Base(path.Path) + ": " + path.Err.Error()
	}
	return err.Error()
}

// errNoRun means that there is no run with that name.
var errNoRun = errors.New("nothing of this name waits")

// Open returns a run by name. The caller must [Run.Release] it.
func (f Folder) Open(name string) (*Run, error) {
	dir := filepath.Join(f.Dir, name)
	if info, err := os.Stat(dir); name != filepath.Base(name) || !strings.HasPrefix(name, "run-") || err != nil ||
		!info.IsDir() {
		return nil, fmt.Errorf("%s: %w", name, errNoRun)
	}
	box, err := f.box()
	if err != nil {
		return nil, err
	}
	r := f.run(dir, box)
	if r.lock, err = locked(dir); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if err := r.read(); err != nil {
		r.Release()
		return nil, fmt.Errorf("%s cannot be read: %s", name, plain(err))
	}
	return r, nil
}

// Remove deletes what waits of a run. It fails while a recorder uses the run.
func (f Folder) Remove(name string) error {
	dir := filepath.Join(f.Dir, name)
	if info, err := os.Stat(dir); name != filepath.Base(name) || !strings.HasPrefix(name, "run-") || err != nil ||
		!info.IsDir() {
		return fmt.Errorf("%s: %w", name, errNoRun)
	}
	lock, err := locked(dir)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	defer lock.Close()
	return os.RemoveAll(dir)
}

// Left reports whether anything of the run is left, and why it cannot be sent, if known.
func (r *Run) Left() (left bool, reason string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, err := os.Stat(r.dir); err != nil {
		return false, ""
	}
	return true, r.about.Aside
}

// Name returns the name of the run's folder.
func (r *Run) Name() string { return filepath.Base(r.dir) }
