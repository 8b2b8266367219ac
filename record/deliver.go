package record

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"runtime"
	"sync"
	"time"

	"inkret/core/exchange"
	"inkret/intake"
)

// Delivery of captures: directly to a file, or in chunks to a service, through a folder where they wait while the
// service is unreachable.

const (
	// chunkTime and chunkSize limit a chunk: soon enough to watch, large enough to be cheap.
	chunkTime = 200 * time.Millisecond
	chunkSize = 1 << 20
)

// chunk is a set of capture lines that are sent together.
type chunk struct {
	lines    []byte
	captures int
}

// share is the share of processor time for encoding captures, so that busy traffic is not slowed down much;
// captures that wait too long are dropped.
const share = 0.025

// deliver sends captures in chunks until ctx ends, and then the remaining ones. readable says whether people read
// the lines. to is called from one goroutine. After the first error, which it returns, everything counts as
// dropped.
func (r *Recorder) deliver(ctx context.Context, readable bool, to func(chunk) error) error {
	d := &delivery{Recorder: r, readable: readable, to: to, rest: 1/min(1, share*float64(runtime.GOMAXPROCS(0))) - 1}
	tick := time.NewTicker(chunkTime)
	defer tick.Stop()
	for {
		select {
		case c := <-r.calls:
			d.add(c)
			d.pause(ctx)
		case <-tick.C:
			d.flush()
		case <-ctx.Done():
			for {
				select {
				case c := <-r.calls:
					d.add(c)
					continue
				default:
				}
				d.flush()
				return d.failed
			}
		}
	}
}

// delivery is the captures of a recorder on their way.
type delivery struct {
	*Recorder
	readable bool
	to       func(chunk) error
	chunk    chunk
	body     []byte        // of the capture that is written, for the next to use again
	busy     time.Duration // since it last paused
	rest     float64       // how long it pauses for that
	failed   error
}

// add encodes a call.
func (d *delivery) add(c *call) {
	begun := time.Now()
	body := c.request.appendTo(d.body[:0])
	n := len(body)
	body = c.response.appendTo(body)
	c.capture.Request.Body, c.capture.Response.Body = body[:n:n], body[n:]
	if c.capture.Incomplete = c.response.incomplete("answer"); c.capture.Incomplete == "" {
		c.capture.Incomplete = c.request.incomplete("request")
	}
	d.write(&c.capture)
	d.chunk.captures++
	c.release()
	if d.body = body; cap(body) > chunkSize {
		d.body = nil
	}
	d.busy += time.Since(begun) // and not what the flush waits for
	if len(d.chunk.lines) >= chunkSize {
		d.flush()
	}
}

// write appends a capture line, without bodies that do not fit into a line, so that it can be read again.
func (d *delivery) write(c *exchange.Capture) {
	begin := len(d.chunk.lines)
	for _, less := range []func(){
		func() {},
		func() { d.cut(c, &c.Request.Body, "request") },
		func() { d.cut(c, &c.Response.Body, "answer") },
	} {
		less()
		if d.chunk.lines = intake.Append(d.chunk.lines[:begin], c,
			d.readable); len(d.chunk.lines)-begin <= intake.MaxLine {
			return
		}
	}
	d.chunk.lines = d.chunk.lines[:begin] // a head alone is never that long
}

func (d *delivery) cut(c *exchange.Capture, body *[]byte, of string) {
	*body, c.Incomplete = nil, "the body of the "+of+" is too long to be written down"
}

// leastPause is the shortest useful pause.
const leastPause = 2 * time.Millisecond

// pause leaves the processor to the traffic.
func (d *delivery) pause(ctx context.Context) {
	wait := time.Duration(float64(d.busy) * d.rest)
	if wait < leastPause {
		return
	}
	d.busy = 0
	select {
	case <-time.After(wait):
	case <-ctx.Done():
	}
}

// flush sends what was encoded.
func (d *delivery) flush() {
	if d.chunk.captures == 0 {
		return
	}
	if d.failed == nil {
		if d.failed = d.to(d.chunk); d.failed != nil {
			d.options.Log.Error("captures cannot be kept any more; the traffic passes all the same", "reason",
				d.failed.Error())
		}
	}
	if d.failed != nil {
		d.lose(d.chunk.captures)
	}
	d.chunk = chunk{}
}

// lose counts captures that could not be sent.
func (r *Recorder) lose(n int) {
	r.counts.captured.Add(-int64(n))
	r.counts.dropped.Add(int64(n))
}

// ToWriter writes capture lines until ctx ends.
func (r *Recorder) ToWriter(ctx context.Context, w io.Writer) error {
	return r.deliver(ctx, true, func(c chunk) error {
		_, err := w.Write(c.lines)
		return err
	})
}

// Receiver adds chunks of capture lines to a batch. Its errors are [ErrGone], a [Refused], or mean that it is
// unreachable.
type Receiver interface {
	// Open creates a batch. A [Refused] means that there will be none for this run.
	Open(ctx context.Context) (batch int64, err error)
	// Extend adds a chunk; adding it again changes nothing. dropped is how many captures were dropped so far.
	Extend(ctx context.Context, batch int64, number, dropped int, lines []byte) error
	Close(ctx context.Context, batch int64, dropped int) error
}

// ErrGone means that a batch accepts nothing more: it was withdrawn or is complete.
var ErrGone = errors.New("the batch takes nothing any more")

// Refused means that a chunk will never be accepted.
type Refused struct{ Reason string }

func (r *Refused) Error() string { return r.Reason }

const (
	soonest = 200 * time.Millisecond // until an away service is tried again, at first
	latest  = 5 * time.Second
	// sendTime limits one attempt to send a chunk.
	sendTime = 30 * time.Second
	// LastTry is how long a recorder tries to send the rest when it ends.
	LastTry = 5 * time.Second
)

// ToReceiver sends captures to a receiver in order until ctx ends. While it is unreachable, they wait in the run's
// folder. left reports whether some still wait there for a later recorder.
func (r *Recorder) ToReceiver(ctx context.Context, to Receiver, run *Run) (left bool, err error) {
	sending, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	sent := make(chan struct{})
	s := &sender{to: to, run: run, log: r.options.Log, dropped: func() int { return int(r.counts.dropped.Load()) },
		lose: r.lose}
	go func() {
		defer close(sent)
		s.send(sending)
	}()
	err = r.deliver(ctx, false, func(c chunk) error {
		if lost := run.put(c); lost > 0 {
			r.lose(lost)
		}
		return nil
	})
	run.finish()
	select {
	case <-sent: // all was taken
	case <-time.After(LastTry):
		stop()
		<-sent
	}
	if s.closed {
		left, _ := run.Left()
		return left, err
	}
	return true, errors.Join(err, run.leave(s.dropped()))
}

// sender sends the chunks of a run to a receiver.
type sender struct {
	to      Receiver
	run     *Run
	log     *slog.Logger
	dropped func() int
	lose    func(int)
	once    bool // an away service is not waited for
	away    bool
	closed  bool // the batch is complete, and nothing is left to be sent
}

// send sends chunks until the run is finished and empty, nobody accepts them, or ctx ends.
func (s *sender) send(ctx context.Context) error {
	wait := soonest
	for {
		c, number, ok := s.run.next(ctx)
		err := error(nil)
		if ok {
			err = s.one(ctx, c, number)
		} else if ctx.Err() != nil {
			return ctx.Err()
		} else if err = s.close(ctx); err == nil {
			return nil
		}
		var refused *Refused
		if errors.As(err, &refused) {
			s.log.Error("captures are set aside: there is nobody to take them", "run", s.run.Name(), "reason",
				refused.Reason)
			s.run.spill()
			s.run.hold(refused.Reason)
			return err
		}
		if s.once && err != nil {
			return err
		}
		if err == nil {
			wait = soonest
			if s.away {
				s.away = false
				s.log.Info("the service takes captures again")
			}
			continue
		}
		if !s.away && ctx.Err() == nil {
			s.away = true
			s.log.Warn("the service takes no captures now; they wait and go later", "reason", err.Error())
		}
		s.run.spill()
		select {
		case <-time.After(wait):
			wait = min(2*wait, latest)
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// one sends one chunk.
func (s *sender) one(ctx context.Context, c chunk, number int) error {
	ctx, cancel := context.WithTimeout(ctx, sendTime)
	defer cancel()
	batch, err := s.batch(ctx)
	if err != nil {
		return err
	}
	err = s.to.Extend(ctx, batch, number, s.dropped(), c.lines)
	var refused *Refused
	switch {
	case errors.Is(err, ErrGone):
		s.log.Warn("the batch takes nothing any more; another one is begun", "batch", batch)
		s.run.setBatch(0)
		return s.one(ctx, c, number)
	case errors.As(err, &refused):
		s.log.Error("captures were refused and are set aside", "captures", c.captures, "run", s.run.Name(), "reason",
			refused.Reason)
		s.lose(c.captures)
		s.run.setAside(number, refused.Reason)
		return nil
	case err != nil:
		return err
	}
	s.run.done(number)
	return nil
}

func (s *sender) batch(ctx context.Context) (int64, error) {
	if batch := s.run.Batch(); batch != 0 {
		return batch, nil
	}
	batch, err := s.to.Open(ctx)
	if err == nil {
		s.run.setBatch(batch)
	}
	return batch, err
}

func (s *sender) close(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, sendTime)
	defer cancel()
	if batch := s.run.Batch(); batch != 0 {
		if err := s.to.Close(ctx, batch, s.dropped()); err != nil && !errors.Is(err, ErrGone) {
			return err
		}
	}
	s.closed = true
	return s.run.end()
}

// Resend sends what earlier runs left in the folder, each to its own receiver and concurrently, so that one that is
// never accepted does not hold up others, until ctx ends or nothing is left.
func Resend(ctx context.Context, runs []*Run, receiver func(About) Receiver, log *slog.Logger) {
	var sent sync.WaitGroup
	for _, run := range runs {
		sent.Go(func() {
			again(run, receiver(run.about), log).send(ctx)
			run.Release()
		})
	}
	sent.Wait()
}

// Send sends what an earlier run left, without waiting for an unreachable service.
func Send(ctx context.Context, run *Run, to Receiver, log *slog.Logger) error {
	s := again(run, to, log)
	s.once = true
	return s.send(ctx)
}

// again sends what an earlier run left.
func again(run *Run, to Receiver, log *slog.Logger) *sender {
	run.finish()
	return &sender{to: to, run: run, log: log, dropped: func() int { return run.about.Dropped },
		lose: func(n int) { run.about.Dropped += n }}
}
