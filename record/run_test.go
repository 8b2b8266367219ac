package record

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"inkret/core/exchange"
	"inkret/intake"
)

// service is a receiver that can be away, and that takes each chunk once.
type service struct {
	mu      sync.Mutex
	away    error
	refuse  func(lines string) error // may refuse a chunk
	batches map[int64]*taking
	calls   int
}

type taking struct {
	last, dropped int
	paths         []string
	closed        bool
}

var errAway = errors.New("nobody answers")

func (s *service) Open(context.Context) (int64, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away != nil {
		return 0, s.away
	}
	if s.batches == nil {
		s.batches = map[int64]*taking{}
	}
	id := int64(len(s.batches) + 1)
	s.batches[id] = &taking{}
	return id, nil
}

func (s *service) Extend(_ context.Context, batch int64, number, dropped int, lines []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.calls++
	b := s.batches[batch]
	switch {
	case s.away != nil:
		return s.away
	case b == nil || b.closed:
		return ErrGone
	}
	if s.refuse != nil {
		if err := s.refuse(string(lines)); err != nil {
			return err
		}
	}
	b.dropped = dropped
	if number <= b.last {
		return nil
	}
	b.last = number
	return intake.Read("chunk", bytes.NewReader(lines), intake.Options{}, func(c *exchange.Capture) error {
		b.paths = append(b.paths, c.Request.URL.Path)
		return nil
	})
}

func (s *service) Close(_ context.Context, batch int64, dropped int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away != nil {
		return s.away
	}
	if b := s.batches[batch]; b != nil {
		b.closed, b.dropped = true, dropped
	}
	return nil
}

func (s *service) set(away error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.away = away
}

// got returns what the batches have, joined.
func (s *service) got() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var all []string
	for id := int64(1); id <= int64(len(s.batches)); id++ {
		all = append(all, s.batches[id].paths...)
	}
	return all
}

// until waits for something to be so.
func until(t *testing.T, what string, is func() bool) {
	t.Helper()
	for end := time.Now().Add(patience); !is(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("never: %s", what)
		}
	}
}

func folder(t *testing.T) Folder {
	dir := t.TempDir()
	return Folder{Dir: filepath.Join(dir, "waiting"), Key: filepath.Join(dir, "keys", "waiting.key")}
}

// feed makes a recorder whose captures a test adds itself.
type feed struct {
	*Recorder
	n    int
	stop context.CancelFunc
	left chan bool
}

func begin(t *testing.T, to Receiver, run *Run) *feed {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	f := &feed{Recorder: New(Options{Upstream: mustURL("http://api.example")}), stop: stop, left: make(chan bool, 1)}
	go func() {
		left, err := f.ToReceiver(ctx, to, run)
		if err != nil {
			t.Error(err)
		}
		f.left <- left
	}()
	t.Cleanup(stop)
	return f
}

func (f *feed) add(n int) {
	for range n {
		c := &call{Recorder: f.Recorder}
		c.begin(httptest.NewRequest("GET", fmt.Sprintf("/%d", f.n), nil))
		c.capture.Response.Status = 200
		c.response.add([]byte(`{"secret":"low-tide-at-nine"}`))
		c.end()
		f.n++
	}
}

// want is what a receiver is to have of the first n captures: each once, in order.
func want(n int) []string {
	var all []string
	for i := range n {
		all = append(all, fmt.Sprintf("/%d", i))
	}
	return all
}

func same(t *testing.T, got, want []string) {
	t.Helper()
	if strings.Join(got, " ") != strings.Join(want, " ") {
		t.Errorf("the service has %d captures %.200v, want %d %.200v", len(got), got, len(want), want)
	}
}

func TestCapturesWaitWhileTheServiceIsAway(t *testing.T) {
	f := folder(t)
	run, err := f.Begin(About{URL: "http://x", Service: "harbour", Name: "monday"})
	if err != nil {
		t.Fatal(err)
	}
	defer run.Release()
	s := &service{}
	r := begin(t, s, run)
	r.add(3)
	until(t, "the service has what was captured", func() bool { return len(s.got()) == 3 })
	s.set(errAway)
	r.add(5)
	until(t, "captures wait on disk", func() bool { size, _ := run.Waiting(); return size > 0 })
	r.add(5)
	_, dir := run.Waiting()
	until(t, "all are handed on", func() bool { return r.memory.Load() == 0 })
	onDisk(t, dir)
	s.set(nil)
	until(t, "the service has all", func() bool { return len(s.got()) == 13 })
	r.add(2)
	r.stop()
	if within(t, r.left, "recording does not end") {
		t.Error("something is left although the service took all")
	}
	same(t, s.got(), want(15))
	if b := s.batches[1]; len(s.batches) != 1 || !b.closed || b.dropped != 0 {
		t.Errorf("batches %d: %+v", len(s.batches), b)
	}
	if _, err := os.Stat(dir); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the run's folder is still there: %v", err)
	}
}

// onDisk sees that chunks lie there, and that none shows what it holds.
func onDisk(t *testing.T, dir string) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	chunks := 0
	for _, e := range entries {
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			continue // it was being written
		}
		if strings.Contains(string(text), "low-tide") {
			t.Errorf("%s shows what was captured", e.Name())
		}
		if info, err := e.Info(); err == nil && info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s may be read by others: %v", e.Name(), info.Mode())
		}
		if strings.HasSuffix(e.Name(), chunkEnd) {
			chunks++
		}
	}
	if chunks == 0 {
		t.Error("no chunk is on disk")
	}
}

func TestALaterRecorderSendsWhatIsLeft(t *testing.T) {
	f := folder(t)
	run, err := f.Begin(About{URL: "http://x", Service: "harbour", Name: "monday", Audience: "skipper"})
	if err != nil {
		t.Fatal(err)
	}
	s := &service{}
	r := begin(t, s, run)
	r.add(4)
	until(t, "the service has what was captured", func() bool { return len(s.got()) == 4 })
	s.set(errAway)
	r.add(6)
	if left, err := f.Left("http://x"); err != nil || len(left) != 0 {
		t.Errorf("a run at which a recorder is counts as left: %d, %v", len(left), err)
	}
	until(t, "captures wait on disk", func() bool { size, _ := run.Waiting(); return size > 0 })
	r.stop()
	if !within(t, r.left, "recording does not end") {
		t.Error("nothing is left although the service is away")
	}
	run.Release()

	if left, err := f.Left("http://another"); err != nil || len(left) != 0 {
		t.Errorf("of another service are left: %d, %v", len(left), err)
	}
	left, err := f.Left("http://x")
	if err != nil || len(left) != 1 || left[0].About() != (About{URL: "http://x", Service: "harbour", Name: "monday",
		Audience: "skipper", Batch: 1}) {
		t.Fatalf("left: %+v, %v", left, err)
	}
	s.set(nil)
	Resend(context.Background(), left, func(About) Receiver { return s }, slog.New(slog.DiscardHandler))
	same(t, s.got(), want(10))
	if !s.batches[1].closed {
		t.Error("the batch is not closed")
	}
	if left, err := f.Left("http://x"); err != nil || len(left) != 0 {
		t.Errorf("still left: %d, %v", len(left), err)
	}
}

// TestNoRunHoldsUpAnother leaves three: one that the service never takes, one whose folder is damaged, and a good one.
func TestNoRunHoldsUpAnother(t *testing.T) {
	f := folder(t)
	receivers := map[string]*service{"never": {away: errAway}, "damaged": {away: errAway}, "good": {away: errAway}}
	var ends []func()
	for name, s := range receivers {
		run, err := f.Begin(About{URL: "http://x", Name: name})
		if err != nil {
			t.Fatal(err)
		}
		r := begin(t, s, run)
		r.add(3)
		until(t, "captures wait on disk", func() bool { size, _ := run.Waiting(); return size > 0 })
		r.stop()
		ends = append(ends, func() {
			within(t, r.left, "recording does not end")
			run.Release()
			if name == "damaged" {
				if err := os.WriteFile(filepath.Join(run.dir, aboutName), nil, 0o600); err != nil {
					t.Fatal(err)
				}
			}
		})
	}
	for _, end := range ends {
		end()
	}
	left, err := f.Left("http://x")
	if len(left) != 2 || err == nil || strings.Count(err.Error(), "run-") != 1 {
		t.Fatalf("%d are left, %v", len(left), err)
	}
	receivers["good"].set(nil)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		Resend(ctx, left, func(a About) Receiver { return receivers[a.Name] }, slog.New(slog.DiscardHandler))
	}()
	until(t, "the good one is taken", func() bool {
		runs, err := filepath.Glob(filepath.Join(f.Dir, "run-*"))
		return err == nil && len(runs) == 2
	})
	same(t, receivers["good"].got(), want(3))
	stop()
	within(t, ended, "resending does not end")
	if left, _ := f.Left("http://x"); len(left) != 1 || left[0].About().Name != "never" {
		t.Errorf("%d wait on", len(left))
	}
}

func TestWhatWaitsIsBounded(t *testing.T) {
	f := folder(t)
	f.Limit = 4000
	run, err := f.Begin(About{})
	if err != nil {
		t.Fatal(err)
	}
	defer run.Release()
	s := &service{away: errAway}
	r := begin(t, s, run)
	r.add(1)
	until(t, "captures wait on disk", func() bool { size, _ := run.Waiting(); return size > 0 })
	put := func() int {
		run.mu.Lock()
		defer run.mu.Unlock()
		return run.last
	}
	for n := put(); n < 20; n++ { // each a chunk of its own
		r.add(1)
		until(t, "it is handed on", func() bool { return put() > n })
	}
	if size, _ := run.Waiting(); size > f.Limit {
		t.Errorf("%d bytes wait; %d may", size, f.Limit)
	}
	s.set(nil)
	until(t, "the service has those that are left", func() bool { return len(s.got()) == 20-int(r.Counts().Dropped) })
	r.stop()
	within(t, r.left, "recording does not end")
	dropped := r.Counts().Dropped
	if dropped == 0 || dropped > 19 {
		t.Errorf("%d of 20 captures are dropped", dropped)
	}
	if b := s.batches[1]; b.dropped != int(dropped) {
		t.Errorf("the batch knows of %d dropped, %d were", b.dropped, dropped)
	}
	if n := r.Counts(); n.Captured+n.Dropped != 20 {
		t.Errorf("counts %+v", n)
	}
}

func TestRefusedAndWithdrawn(t *testing.T) {
	f := folder(t)
	run, err := f.Begin(About{})
	if err != nil {
		t.Fatal(err)
	}
	s := &service{refuse: func(lines string) error {
		if strings.Contains(lines, "/1\"") {
			return &Refused{"it is not liked"}
		}
		return nil
	}}
	r := begin(t, s, run)
	r.add(1)
	until(t, "the first is there", func() bool { return len(s.got()) == 1 })
	r.add(1)
	until(t, "the refused one is counted", func() bool { return r.Counts().Dropped == 1 })
	s.mu.Lock()
	s.batches[1].closed = true // somebody ended it, or withdrew it
	s.mu.Unlock()
	r.add(1)
	until(t, "another batch has the third", func() bool { return len(s.got()) == 2 })
	r.stop()
	if !within(t, r.left, "recording does not end") {
		t.Error("the refused one is not kept")
	}
	same(t, s.got(), []string{"/0", "/2"})
	if len(s.batches) != 2 || !s.batches[2].closed {
		t.Errorf("%d batches", len(s.batches))
	}
	run.Release()

	// What was refused is set aside with the reason, is not sent again by itself, and can be sent elsewhere.
	waiting, err := f.Waiting()
	if err != nil || len(waiting) != 1 || waiting[0].Aside != 1 || waiting[0].Chunks != 0 ||
		waiting[0].About.Aside != "it is not liked" || waiting[0].Busy {
		t.Fatalf("%+v, %v", waiting, err)
	}
	if left, err := f.Left(""); err != nil || len(left) != 0 {
		t.Errorf("%d are sent again, %v", len(left), err)
	}
	again, err := f.Open(waiting[0].Run)
	if err != nil {
		t.Fatal(err)
	}
	if err := f.Remove(waiting[0].Run); err == nil {
		t.Error("a run is removed while somebody is at it")
	}
	if err := again.Redirect("http://elsewhere", "y"); err != nil {
		t.Fatal(err)
	}
	other := &service{}
	if err := Send(t.Context(), again, other, slog.New(slog.DiscardHandler)); err != nil {
		t.Fatal(err)
	}
	same(t, other.got(), []string{"/1"})
	if waiting, err = f.Waiting(); err != nil || len(waiting) != 0 {
		t.Errorf("%+v, %v", waiting, err)
	}
}

// TestNobodyToTakeIt records for a service that comes back and turns out not to be there at all.
func TestNobodyToTakeIt(t *testing.T) {
	f := folder(t)
	run, err := f.Begin(About{URL: "http://x", Service: "misspelt"})
	if err != nil {
		t.Fatal(err)
	}
	s := &service{away: errAway}
	r := begin(t, s, run)
	r.add(1)
	until(t, "captures wait on disk", func() bool { size, _ := run.Waiting(); return size > 0 })
	s.set(&Refused{"there is no service misspelt"})
	until(t, "it is noted", func() bool { _, reason := run.Left(); return reason != "" })
	r.add(2) // the traffic goes on, and is kept
	until(t, "captures wait on disk", func() bool { return len(r.calls) == 0 })
	r.stop()
	if !within(t, r.left, "recording does not end") {
		t.Error("nothing is said to be left")
	}
	run.Release()
	waiting, err := f.Waiting()
	if err != nil || len(waiting) != 1 || waiting[0].About.Aside != "there is no service misspelt" ||
		waiting[0].Chunks == 0 {
		t.Fatalf("%+v, %v", waiting, err)
	}
	for _, name := range []string{"run-nowhere", "../keys", "..", "", "."} {
		if _, err := f.Open(name); err == nil {
			t.Errorf("%q is opened", name)
		}
		if err := f.Remove(name); err == nil {
			t.Errorf("%q is removed", name)
		}
	}
	s.set(nil)
	left, err := f.Left("http://x") // somebody made the service meanwhile
	if err != nil || len(left) != 1 {
		t.Fatalf("%d, %v", len(left), err)
	}
	Resend(t.Context(), left, func(About) Receiver { return s }, slog.New(slog.DiscardHandler))
	same(t, s.got(), want(3))
}

func TestDamagedChunksAreLeftOut(t *testing.T) {
	f := folder(t)
	run, err := f.Begin(About{URL: "u"})
	if err != nil {
		t.Fatal(err)
	}
	line := []byte(`{"request":{"url":"http://api.example/whole"},"response":{"status":200}}` + "\n")
	for range 3 {
		run.put(chunk{line, 1})
	}
	if err := run.leave(0); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(run.file(2), []byte("not sealed at all, but long enough"), 0o600); err != nil {
		t.Fatal(err)
	}
	run.Release()
	left, err := f.Left("u")
	if err != nil || len(left) != 1 {
		t.Fatalf("%d, %v", len(left), err)
	}
	s := &service{}
	Resend(context.Background(), left, func(About) Receiver { return s }, slog.New(slog.DiscardHandler))
	same(t, s.got(), []string{"/whole", "/whole"})
	if waiting, err := f.Waiting(); err != nil || len(waiting) != 1 || waiting[0].Aside != 1 ||
		!strings.Contains(waiting[0].About.Aside, "damaged") {
		t.Errorf("the damaged one is not told of: %+v, %v", waiting, err)
	}
}
