package record

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"inkret/durable"
	"inkret/sealing"
)

// Run is one recording for a service, and its folder: while the service is unreachable, encrypted chunks wait
// there, even after the recorder ended.
type Run struct {
	dir   string
	box   *sealing.Box
	limit int64
	lock  *os.File

	mu       sync.Mutex
	about    About
	memory   map[int]chunk // by number; those that are not on disk
	numbers  []int         // that wait, the next first
	last     int           // number
	size     int64         // of what is on disk
	aside    int           // chunks that cannot be sent
	finished bool
	more     chan struct{} // is sent to when something is to be done
}

// About describes a run.
type About struct {
	URL      string `json:"url"` // of the service
	Service  string `json:"service"`
	Name     string `json:"name"`
	Audience string `json:"audience,omitempty"`
	Batch    int64  `json:"batch,omitempty"`   // 0 until it was begun
	Dropped  int    `json:"dropped,omitempty"` // captures, when the run ended
	Closed   bool   `json:"closed,omitempty"`  // all that could be sent was, and the batch is complete
	Aside    string `json:"aside,omitempty"`   // why what waits cannot be sent as it is
}

const (
	aboutName = "run.json"
	lockName  = "lock"
	chunkEnd  = ".chunk"
	asideEnd  = ".aside" // of a chunk that cannot be sent
	// sealedAs is the additional authenticated data of chunks.
	sealedAs = "inkret chunk 1"
	// inMemory is how many chunks wait in memory before they are written to disk.
	inMemory = 8
	// DefaultLimit limits the waiting bytes on disk.
	DefaultLimit = 1 << 30
)

// Folder is the folder of all runs.
type Folder struct {
	Dir   string
	Key   string // the file of the key that chunks are sealed with
	Limit int64  // bytes that one run may have on disk; 0 is DefaultLimit
}

func (f Folder) box() (*sealing.Box, error) {
	keys, err := sealing.ReadKeys(f.Key)
	if errors.Is(err, fs.ErrNotExist) {
		keys = [][]byte{sealing.NewKey()}
		if err = os.MkdirAll(filepath.Dir(f.Key), 0o700); err == nil {
			err = sealing.WriteKeys(f.Key, keys)
		}
	}
	if err != nil {
		return nil, err
	}
	return sealing.NewBox(keys)
}

// Begin creates a run. The caller must [Run.Release] it.
func (f Folder) Begin(about About) (*Run, error) {
	box, err := f.box()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(f.Dir, 0o700); err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp(f.Dir, "run-")
	if err != nil {
		return nil, err
	}
	r := f.run(dir, box)
	if r.lock, err = locked(dir); err != nil {
		return nil, err
	}
	r.about = about
	return r, r.note()
}

func (f Folder) run(dir string, box *sealing.Box) *Run {
	limit := f.Limit
	if limit <= 0 {
		limit = DefaultLimit
	}
	return &Run{dir: dir, box: box, limit: limit, memory: map[int]chunk{}, more: make(chan struct{}, 1)}
}

// errLocked means that another recorder uses a run.
var errLocked = errors.New("another recorder is at it")

func locked(dir string) (*os.File, error) {
	lock, err := os.OpenFile(filepath.Join(dir, lockName), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		lock.Close()
		return nil, errLocked
	}
	return lock, nil
}

// Left returns the waiting runs for the address url that no recorder uses. Its error lists unreadable ones, which
// stay.
func (f Folder) Left(url string) ([]*Run, error) {
	entries, err := os.ReadDir(f.Dir)
	if errors.Is(err, fs.ErrNotExist) || len(entries) == 0 {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	box, err := f.box()
	if err != nil {
		return nil, err
	}
	var all []*Run
	var unread []error
	for _, e := range entries {
		if !e.IsDir() || !strings.HasPrefix(e.Name(), "run-") {
			continue
		}
		r := f.run(filepath.Join(f.Dir, e.Name()), box)
		switch r.lock, err = locked(r.dir); {
		case errors.Is(err, errLocked):
			continue
		case err != nil:
			unread = append(unread, err)
			continue
		}
		if err := r.read(); err != nil || r.about.URL != url || len(r.numbers) == 0 && r.about.Closed {
			r.Release()
			if err != nil {
				unread = append(unread, fmt.Errorf("%s: %w", r.dir, err))
			}
			continue
		}
		all = append(all, r)
	}
	return all, errors.Join(unread...)
}

// read reads what an earlier recorder left.
func (r *Run) read() error {
	text, err := os.ReadFile(filepath.Join(r.dir, aboutName))
	if err != nil {
		return err
	}
	if err := json.Unmarshal(text, &r.about); err != nil {
		return fmt.Errorf("%s is damaged: %w", aboutName, err)
	}
	entries, err := os.ReadDir(r.dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		text, end, _ := strings.Cut(e.Name(), ".")
		number, err := strconv.Atoi(text)
		if err != nil || "."+end != chunkEnd && "."+end != asideEnd {
			continue
		}
		if info, err := e.Info(); err == nil {
			r.size += info.Size()
		}
		if r.last = max(r.last, number); "."+end == asideEnd {
			r.aside++
			continue
		}
		r.numbers = append(r.numbers, number)
	}
	slices.Sort(r.numbers)
	return nil
}

// note writes the description of the run.
func (r *Run) note() error {
	text, err := json.Marshal(r.about)
	if err != nil {
		return err
	}
	return durable.WriteFile(filepath.Join(r.dir, aboutName), append(text, '\n'))
}

// Release lets other recorders use what is left of the run.
func (r *Run) Release() { r.lock.Close() }

// About returns the description of the run.
func (r *Run) About() About {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.about
}

// Batch returns the batch of the run; 0 if none was created.
func (r *Run) Batch() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.about.Batch
}

// Waiting returns how many bytes wait on disk, and where.
func (r *Run) Waiting() (int64, string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.size, r.dir
}

func (r *Run) setBatch(batch int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.about.Batch = batch; r.aside == 0 {
		r.about.Aside = ""
	}
	r.note() // without it a later recorder begins another batch: nothing is lost
}

// put adds a chunk and returns how many captures were lost by it.
func (r *Run) put(c chunk) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.last++
	number := r.last
	if len(r.memory) < inMemory && r.size == 0 {
		r.memory[number] = c
	} else if !r.store(number, c) {
		return c.captures
	}
	r.numbers = append(r.numbers, number)
	r.wake()
	return 0
}

// spill writes what waits in memory to disk.
func (r *Run) spill() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for number, c := range r.memory {
		if r.store(number, c) {
			delete(r.memory, number)
		}
	}
}

// store writes a chunk to disk, if there is room.
func (r *Run) store(number int, c chunk) bool {
	sealed := r.box.Seal(c.lines, sealedAs)
	if r.size+int64(len(sealed)) > r.limit || durable.WriteFile(r.file(number), sealed) != nil {
		return false
	}
	r.size += int64(len(sealed))
	return true
}

func (r *Run) file(number int) string {
	return filepath.Join(r.dir, fmt.Sprintf("%09d%s", number, chunkEnd))
}

// next waits for the next chunk to send. ok is false if the run is finished and empty, or ctx ends.
func (r *Run) next(ctx context.Context) (c chunk, number int, ok bool) {
	for {
		r.mu.Lock()
		for len(r.numbers) > 0 {
			number = r.numbers[0]
			c, ok = r.memory[number]
			if !ok {
				c, ok = r.load(number)
			}
			if ok {
				r.mu.Unlock()
				return c, number, true
			}
			r.putAside(number, "some of what waited is damaged, or sealed with another key")
		}
		finished := r.finished
		r.mu.Unlock()
		if finished {
			return c, 0, false
		}
		select {
		case <-r.more:
		case <-ctx.Done():
			return c, 0, false
		}
	}
}

func (r *Run) load(number int) (chunk, bool) {
	sealed, err := os.ReadFile(r.file(number))
	if err != nil {
		return chunk{}, false
	}
	lines, _, err := r.box.Open(sealed, sealedAs)
	return chunk{lines, strings.Count(string(lines), "\n")}, err == nil
}

// setAside keeps a chunk that is never accepted, with the reason.
func (r *Run) setAside(number int, reason string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if c, ok := r.memory[number]; ok && r.store(number, c) {
		delete(r.memory, number)
	}
	r.putAside(number, reason)
}

func (r *Run) putAside(number int, reason string) {
	if err := os.Rename(r.file(number), strings.TrimSuffix(r.file(number), chunkEnd)+asideEnd); err == nil {
		r.aside++
		r.about.Aside = reason
		r.note()
	}
	r.forget(number)
}

// hold records why nothing of the run can be sent.
func (r *Run) hold(reason string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.about.Aside != reason {
		r.about.Aside = reason
		r.note()
	}
}

// Redirect sends what waits to another service, into a new batch. Chunks that were set aside are tried again.
func (r *Run) Redirect(url, service string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	entries, err := os.ReadDir(r.dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		text, aside := strings.CutSuffix(e.Name(), asideEnd)
		number, err := strconv.Atoi(text)
		if !aside || err != nil {
			continue
		}
		if err := os.Rename(filepath.Join(r.dir, e.Name()), r.file(number)); err != nil {
			return err
		}
		r.numbers, r.aside = append(r.numbers, number), r.aside-1
	}
	slices.Sort(r.numbers)
	if r.about.URL != url || r.about.Service != service || r.about.Closed {
		r.about.Batch = 0
	}
	r.about.URL, r.about.Service, r.about.Aside, r.about.Closed = url, service, "", false
	return r.note()
}

// done removes a chunk that was accepted.
func (r *Run) done(number int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.forget(number)
}

func (r *Run) forget(number int) {
	if _, ok := r.memory[number]; ok {
		delete(r.memory, number)
	} else if info, err := os.Stat(r.file(number)); err == nil && os.Remove(r.file(number)) == nil {
		r.size -= info.Size()
	}
	r.numbers = slices.DeleteFunc(r.numbers, func(n int) bool { return n == number })
}

// finish marks the run as complete.
func (r *Run) finish() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.finished = true
	r.wake()
}

func (r *Run) wake() {
	select {
	case r.more <- struct{}{}:
	default:
	}
}

// leave keeps what waits for a later recorder, with the number of dropped captures.
func (r *Run) leave(dropped int) error {
	r.spill()
	r.mu.Lock()
	defer r.mu.Unlock()
	r.about.Dropped = dropped
	return r.note()
}

// end removes the folder of an empty run; chunks that were set aside stay.
func (r *Run) end() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.aside == 0 {
		return os.RemoveAll(r.dir)
	}
	r.about.Closed = true
	return r.note()
}
