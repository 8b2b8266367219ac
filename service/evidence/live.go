package evidence

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/intake"
	"inkret/service/base"
	"inkret/store"
)

// Live recording: captures arrive in chunks, and each chunk is evaluated and shown at once.

// liveBatch is a batch that a recorder is adding to.
type liveBatch struct {
	mu         sync.Mutex
	batch      store.Batch
	severities map[string]int     // of the findings that it shows
	met        *finding.Collector // what it has met since the service started
	early      bool               // it began before that
}

// LiveCall is one call in the Live view.
type LiveCall struct {
	Capture  store.Capture // without what it holds
	Findings []LiveFinding // that it shows
	Batch    store.Batch   // its numbers after this call
}

// LiveFinding is a finding that a call shows.
type LiveFinding struct {
	ID       string // the fingerprint
	Kind     string // one of those of package kind
	Severity int    // greater is graver; see package severity
	Path     string // a JSONPath (RFC 9535)
}

// OpenLive creates a batch for a recorder to add to.
func (s *Evidence) OpenLive(ctx context.Context, who base.Caller, service, name, audience string) (store.Batch, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return store.Batch{}, err
	}
	if _, err := s.said(ctx, service, f.Contracts, Said{Audience: audience}); err != nil {
		return store.Batch{}, err
	}
	if name = strings.TrimSpace(name); name == "" {
		return store.Batch{}, base.NewProblem(base.Invalid, "", "a recording needs a name")
	}
	b, err := s.store.OpenBatch(ctx, store.Batch{Service: service, Name: name, Audience: audience, Author: who.Name,
		By: who.ID, Started: s.base.Now(), Origin: store.FromRecorder, BySeverity: map[string]int{}},
		func(b store.Batch) store.TrailEntry {
			return s.base.Did(who, "begin recording", fmt.Sprintf("batch %d", b.ID), service+": "+name)
		})
	if err != nil {
		return b, base.Plain(err)
	}
	s.base.Log.Info("recorder begins", "batch", b.ID, "service", service, "person", who.ID)
	return b, nil
}

// live returns a batch that is being recorded. After a restart it is rebuilt from the store.
func (s *Evidence) live(ctx context.Context, batch int64) (*liveBatch, error) {
	s.mu.Lock()
	l := s.growing[batch]
	s.mu.Unlock()
	if l != nil {
		return l, nil
	}
	b, err := s.Batch(ctx, batch)
	if err != nil {
		return nil, err
	}
	if !b.Growing {
		return nil, base.NewProblem(base.Conflict, "begin a new one",
			"batch %d is complete; nothing can be added to it", batch)
	}
	severities, err := s.store.Grown(ctx, batch)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.growing[batch] == nil {
		s.growing[batch] = &liveBatch{batch: b, severities: severities, met: finding.NewCollector(b.Service),
			early: b.Captures > 0}
	}
	return s.growing[batch], nil
}

func (s *Evidence) forget(batch int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.growing, batch)
}

// ExtendLive adds a chunk of capture lines. A chunk that was already added changes nothing, so recorders may send
// again whatever got no answer. dropped is the number of captures that the recorder had to drop so far.
func (s *Evidence) ExtendLive(ctx context.Context, who base.Caller, batch int64, chunk, dropped int,
	r io.Reader) (store.Batch, error) {
	l, err := s.live(ctx, batch)
	if err != nil {
		return store.Batch{}, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if chunk <= l.batch.Chunk {
		again := l.batch
		again.Repeated = true
		return again, nil
	}
	f, err := s.base.Contracts(ctx, l.batch.Service)
	if err != nil {
		return l.batch, err
	}
	keeping, err := s.store.Keeping(ctx, l.batch.Service)
	if err != nil {
		return l.batch, err
	}
	next := l.batch
	g, err := s.newGathering(ctx, next.Service, f.Contracts)
	if err != nil {
		return l.batch, err
	}
	g.arrives = true
	g.judge.Know(next.Known.Known)
	var captures []store.Rejudged
	err = intake.Read(next.Name, r, intake.Options{}, func(c *exchange.Capture) error {
		if next.Audience != "" {
			c.Audience = next.Audience
		}
		c.Entry = next.Captures + len(captures)
		one, err := s.sealed(g, c, keeping.Bodies)
		captures = append(captures, one)
		return err
	})
	var unread *intake.Error
	switch {
	case errors.As(err, &unread):
		return l.batch, base.NewProblem(base.Invalid, "send the chunk again", "the chunk is not whole: %s",
			unread.Reason)
	case err != nil:
		return l.batch, err
	}
	b, captures, err := s.grow(ctx, next, l.severities, g, captures, func(b *store.Batch) {
		b.Chunk, b.Dropped = chunk,
			max(b.Dropped, dropped)
	})
	if err != nil {
		return l.batch, base.Plain(err)
	}
	l.batch = b
	l.met.Remember(g.collector)
	s.tell(b, captures, g)
	return b, nil
}

// sealed evaluates a capture and seals what is kept of it.
func (s *Evidence) sealed(g *gathering, c *exchange.Capture, bodies bool) (store.Rejudged, error) {
	row, shows := g.add(c)
	var err error
	row.Sealed, err = s.vault.SealExchange(held(c, &row, bodies, g.contracts))
	return store.Rejudged{Capture: row, Occurrences: shows}, err
}

// grow adds captures to a growing batch. It updates severities, which holds the highest severity of each finding of
// the batch.
func (s *Evidence) grow(ctx context.Context, b store.Batch, severities map[string]int, g *gathering,
	captures []store.Rejudged, more func(*store.Batch)) (store.Batch, []store.Rejudged, error) {
	e, _ := g.evidence(s.base.Now())
	var added store.Batch
	g.count(&added)
	b.Captures += added.Captures
	b.Judged += added.Judged
	b.Skipped += added.Skipped
	b.Incomplete += added.Incomplete
	b.Undetermined += added.Undetermined
	b.Known.Hold(added.Known.Holders)
	b.Bytes += added.Bytes
	b.Excess += added.Excess
	b.SkipReasons = addReasons(b.SkipReasons, added.SkipReasons)
	for _, f := range e.Findings {
		severities[f.ID] = max(severities[f.ID], f.Severity)
	}
	b.Findings, b.BySeverity = len(severities), map[string]int{}
	for _, level := range severities {
		b.BySeverity[severity.Severity(level).String()]++
	}
	more(&b)
	return s.store.Extend(ctx, b, captures, e)
}

func addReasons(a, b []store.SkipReason) []store.SkipReason {
	counts := map[string]int{}
	for _, all := range [][]store.SkipReason{a, b} {
		for _, r := range all {
			counts[r.Reason] += r.Captures
		}
	}
	sum := []store.SkipReason{}
	for reason, n := range counts {
		sum = append(sum, store.SkipReason{Reason: reason, Captures: n})
	}
	return mostFirst(sum)
}

// CloseLive completes a batch that a recorder added to.
func (s *Evidence) CloseLive(ctx context.Context, who base.Caller, batch int64, dropped int) (store.Batch, error) {
	closed, err := s.store.CloseBatch(ctx, batch, dropped, func(captures int) store.TrailEntry {
		return s.base.Did(who, "end recording", fmt.Sprintf("batch %d", batch), fmt.Sprintf("%d captures", captures))
	})
	if err != nil {
		return store.Batch{}, err
	}
	s.mu.Lock()
	l := s.growing[batch]
	s.mu.Unlock()
	s.forget(batch)
	b, err := s.Batch(ctx, batch)
	if err != nil || !closed {
		return b, err
	}
	var met *finding.Collector
	if l != nil && !l.early {
		met = l.met
	}
	if b, err = s.completed(ctx, b, store.Event{Author: who.Name, At: s.base.Now()}, met); err != nil {
		return b, base.Plain(err)
	}
	s.base.Log.Info("recorder ends", "batch", b.ID, "captures", b.Captures, "dropped", b.Dropped)
	s.hub.publish(b.Service, LiveCall{Batch: b})
	return b, s.review.NoteCoverage(ctx, b.Service)
}

// tell sends new captures to the watchers.
func (s *Evidence) tell(b store.Batch, captures []store.Rejudged, g *gathering) {
	kept := map[string]LiveFinding{}
	for _, f := range g.collector.Findings() {
		kept[f.Fingerprint] = LiveFinding{f.Fingerprint, f.Kind.String(), int(f.Severity), f.Path}
	}
	for _, c := range captures {
		call := LiveCall{Capture: c.Capture, Batch: b}
		call.Capture.BatchID, call.Capture.Sealed = b.ID, nil
		for _, o := range c.Occurrences {
			if f, ok := kept[o.Finding]; ok {
				call.Findings = append(call.Findings, f)
			}
		}
		call.Capture.Findings = len(call.Findings)
		s.hub.publish(b.Service, call)
	}
}

// hub distributes new calls to the watchers.
type hub struct {
	mu       sync.Mutex
	watchers map[*Watcher]bool
}

// watched is how many calls are buffered per watcher before calls are left out.
const watched = 2000

// Watcher receives a service's calls as they arrive.
type Watcher struct {
	Calls   chan LiveCall // as they come in; closed when the watching ends
	service string
	missed  int
	hub     *hub
}

// Watch subscribes to a service's calls; [Watcher.Stop] ends the subscription.
func (s *Evidence) Watch(service string) *Watcher {
	w := &Watcher{Calls: make(chan LiveCall, watched), service: service, hub: &s.hub}
	s.hub.mu.Lock()
	defer s.hub.mu.Unlock()
	if s.hub.watchers == nil {
		s.hub.watchers = map[*Watcher]bool{}
	}
	s.hub.watchers[w] = true
	return w
}

// Stop ends the subscription.
func (w *Watcher) Stop() {
	w.hub.mu.Lock()
	defer w.hub.mu.Unlock()
	delete(w.hub.watchers, w)
}

// Missed returns how many calls were left out since the last call of Missed, because the watcher was too slow.
func (w *Watcher) Missed() int {
	w.hub.mu.Lock()
	defer w.hub.mu.Unlock()
	n := w.missed
	w.missed = 0
	return n
}

func (h *hub) publish(service string, c LiveCall) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for w := range h.watchers {
		if w.service != "" && w.service != service {
			continue
		}
		select {
		case w.Calls <- c:
		default:
			w.missed++
		}
	}
}
