package service

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/service/evidence"
)

// A plain reading of the rules of proof, which knows nothing of how they are computed: captures in batches, and what
// happens to one finding.

// plainCapture is a call of one of two skippers.
type plainCapture struct {
	skipper  int
	recorded time.Time // zero where the line says none
	arrived  time.Time
	leaks    bool
	denied   bool
	chosen   bool // nothing is told of the place: a null body
	broken   bool // it is not whole
}

// line writes the capture as it is recorded.
func (c *plainCapture) line() string {
	body, status := clean, "200"
	switch {
	case c.leaks:
		body = leaky
	case c.denied:
		body, status = `{"title":"no"}`, "403"
	case c.chosen:
		body = "null"
	}
	r := []string{`"status":200`, `"status":` + status, "skippers/7", fmt.Sprint("skippers/", c.skipper)}
	if c.broken {
		r = append(r, `{"started"`, `{"incomplete":"it broke off","started"`)
	}
	when := c.recorded
	if when.IsZero() {
		r = append(r, `"started"`, `"x-started"`)
		when = c.arrived
	}
	return strings.NewReplacer(r...).Replace(at(when, body))
}

type plainBatch struct {
	id       int64
	recorder bool
	growing  bool
	chunks   int
	all      []plainCapture
}

// when returns the recorded time that counts, and whether it can prove anything.
func (b *plainBatch) when(c *plainCapture) (time.Time, bool) {
	if c.recorded.IsZero() {
		return c.arrived, b.recorder
	}
	return c.recorded, true
}

// plain is the finding, and all batches there are.
type plain struct {
	state    finding.State
	touched  bool
	batches  []*plainBatch
	proven   time.Time
	proof    *plainBatch
	returner *plainBatch
	was      finding.State // before it returned
}

// leaked returns when it was shown last, and which skippers' records showed it.
func (p *plain) leaked() (last time.Time, calls map[int]bool) {
	calls = map[int]bool{}
	for _, b := range p.batches {
		for i := range b.all {
			if c := &b.all[i]; c.leaks {
				if when, _ := b.when(c); when.After(last) {
					last = when
				}
				calls[c.skipper] = true
			}
		}
	}
	return last, calls
}

// arrive lets captures of a batch arrive together.
func (p *plain) arrive(b *plainBatch, some []plainCapture) {
	b.all = append(b.all, some...)
	var last time.Time
	for i := range some {
		if when, _ := b.when(&some[i]); some[i].leaks && when.After(last) {
			last = when
		}
	}
	switch {
	case last.IsZero():
	case p.state == "":
		p.state = finding.New
	case p.state == finding.Closed && !last.Before(p.proven):
		p.was, p.state, p.returner = p.state, finding.Returned, b
	}
}

// complete decides what a batch proves.
func (p *plain) complete(b *plainBatch) {
	shown, calls := p.leaked()
	var last time.Time
	for i := range b.all {
		c := &b.all[i]
		if c.leaks {
			return
		}
		when, counts := b.when(c)
		covers := !c.broken && (c.denied && calls[c.skipper] || !c.denied && !c.chosen)
		if covers && counts && when.After(last) {
			last = when
		}
	}
	if p.state == finding.AwaitingProof && last.After(shown) {
		p.state, p.proven, p.proof = finding.Closed, last, b
	}
}

func (p *plain) withdraw(b *plainBatch) {
	p.batches = slices.DeleteFunc(p.batches, func(o *plainBatch) bool { return o == b })
	leaks := slices.ContainsFunc(b.all, func(c plainCapture) bool { return c.leaks })
	if p.state == finding.Returned && p.returner == b && leaks {
		if p.state = p.was; p.proof == nil {
			p.state = finding.AwaitingProof
		}
	}
	if p.proof == b {
		p.proof = nil
		if p.state == finding.Closed {
			p.state = finding.AwaitingProof
		}
	}
	if last, _ := p.leaked(); last.IsZero() && !p.touched {
		p.state = ""
	}
}

// TestProofsAtRandom lets recordings come as files and from recorders, in chunks and in any order of their times, be
// withdrawn, fall quiet and end, while people say that it is fixed. After each step the finding is in the state that a
// plain reading of the rules gives.
func TestProofsAtRandom(t *testing.T) {
	rounds := uint64(8)
	if testing.Short() {
		rounds = 3
	}
	seen := map[finding.State]int{}
	for seed := range rounds {
		w, r, p := newWorld(t), rand.New(rand.NewPCG(seed, 7)), &plain{}
		w.alone()
		var steps []string
		for range 120 {
			steps = append(steps, w.step(r, p))
			got := finding.State("")
			for _, f := range w.findings() {
				if f.Path == "$.password_hash" {
					got = finding.State(f.State)
				}
			}
			if seen[got]++; got != p.state {
				t.Fatalf("seed %d: it is %q and should be %q, after\n%s", seed, got, p.state,
					strings.Join(steps[max(0, len(steps)-25):], "\n"))
			}
		}
	}
	for _, s := range []finding.State{finding.Closed, finding.Returned, finding.AwaitingProof} {
		if seen[s] < 20 {
			t.Errorf("it was %s %d times only: %v", s, seen[s], seen)
		}
	}
	t.Log(seen)
}

// calls makes captures at random, as they arrive now.
func (w *world) calls(r *rand.Rand) (some []plainCapture, lines string) {
	for range 1 + r.IntN(3) {
		c := plainCapture{skipper: 7 + r.IntN(2), arrived: w.clock.now, recorded: w.clock.now.Truncate(time.Second).
			Add(-time.Duration(r.IntN(90)) * time.Minute)}
		switch r.IntN(8) {
		case 0, 1:
			c.leaks = true
		case 2:
			c.denied = true
		case 3:
			c.chosen = true
		case 4:
			c.broken = true
		}
		if r.IntN(8) == 0 {
			c.recorded = time.Time{}
		}
		some, lines = append(some, c), lines+c.line()
	}
	return some, lines
}

// step lets one thing happen in both worlds, and says what.
func (w *world) step(r *rand.Rand, p *plain) string {
	w.t.Helper()
	w.clock.now = w.clock.now.Add(time.Duration(1+r.IntN(8)) * time.Minute)
	var growing []*plainBatch
	for _, b := range p.batches {
		if b.growing {
			growing = append(growing, b)
		}
	}
	must := func(err error) {
		if err != nil {
			w.t.Helper()
			w.t.Fatal(err)
		}
	}
	switch n := r.IntN(10); {
	case n < 2:
		some, lines := w.calls(r)
		b, err := w.Evidence.Upload(w.t.Context(), w.who, "quay", "file", evidence.Said{}, strings.NewReader(lines))
		must(err)
		file := &plainBatch{id: b.ID}
		p.batches = append(p.batches, file)
		p.arrive(file, some)
		p.complete(file)
		return fmt.Sprintf("%v: file %d of %+v", w.clock.now, b.ID, some)
	case n < 3 && len(growing) < 3:
		p.batches = append(p.batches, &plainBatch{id: w.begin(), recorder: true, growing: true})
		return "a recorder begins"
	case n < 6 && len(growing) > 0:
		b := growing[r.IntN(len(growing))]
		some, lines := w.calls(r)
		b.chunks++
		w.extend(b.id, b.chunks, lines)
		p.arrive(b, some)
		return fmt.Sprintf("%v: chunk of %d with %+v", w.clock.now, b.id, some)
	case n < 7 && len(growing) > 0:
		b := growing[r.IntN(len(growing))]
		w.end(b.id)
		b.growing = false
		p.complete(b)
		return fmt.Sprintf("%d ends", b.id)
	case n < 8 && p.state.Open() && p.state != "" && p.state != finding.AwaitingProof:
		w.await()
		p.state, p.touched = finding.AwaitingProof, true
		return "it is said to be fixed"
	case n < 9 && len(p.batches) > 3:
		b := p.batches[r.IntN(len(p.batches))]
		if b.growing {
			return "nothing"
		}
		must(w.Evidence.Withdraw(w.t.Context(), w.who, b.id, "a trial"))
		p.withdraw(b)
		return fmt.Sprintf("%d is withdrawn", b.id)
	case n == 9 && r.IntN(4) == 0:
		w.clock.now = w.clock.now.Add(time.Hour)
		must(w.Evidence.Quiet(w.t.Context()))
		quiet := growing[:0]
		for _, b := range growing {
			if len(b.all) > 0 {
				quiet = append(quiet, b)
			}
		}
		for _, b := range quiet {
			p.complete(b)
		}
		return "an hour passes"
	}
	return "nothing"
}
