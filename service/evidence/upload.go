package evidence

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/intake"
	"inkret/service/base"
	"inkret/store"
)

// readAhead is how many captures are read ahead of the one being evaluated.
const readAhead = 4

// Upload evaluates and stores a recording while it arrives. The batch is invisible until it is complete; if r
// fails, nothing is stored. If the recording itself is cut off, everything before the cut is stored, and the batch
// says so.
func (s *Evidence) Upload(ctx context.Context, who base.Caller, service, name string, say Said,
	r io.Reader) (store.Batch, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return store.Batch{}, err
	}
	known, err := s.said(ctx, service, f.Contracts, say)
	if err != nil {
		return store.Batch{}, err
	}
	keeping, err := s.store.Keeping(ctx, service)
	if err != nil {
		return store.Batch{}, err
	}
	audience := say.Audience
	if name = strings.TrimSpace(name); name == "" {
		return store.Batch{}, base.NewProblem(base.Invalid, "", "a recording needs a name")
	}
	g, err := s.newGathering(ctx, service, f.Contracts)
	if err != nil {
		return store.Batch{}, err
	}
	in, err := s.store.Begin(ctx, store.Batch{Service: service, Name: name, Audience: audience, Author: who.Name,
		By: who.ID, Started: s.base.Now()})
	if err != nil {
		return store.Batch{}, base.Plain(err)
	}
	up := &upload{Evidence: s, in: in, name: name, known: known, gathering: g, bodies: keeping.Bodies}
	b, err := up.run(ctx, r)
	if err != nil {
		if undo := in.Discard(context.WithoutCancel(ctx)); undo != nil {
			s.base.Log.Error("a broken upload could not be taken back", "error", undo.Error())
		}
		return b, base.Plain(err)
	}
	b.By = who.ID
	b.Service, b.Name, b.Audience, b.Author, b.Started, b.Origin = service, name, audience, who.Name, s.base.Now(),
		store.FromRecording
	if b, err = up.settle(ctx, b); err != nil {
		if undo := in.Discard(context.WithoutCancel(ctx)); undo != nil {
			s.base.Log.Error("a broken upload could not be taken back", "error", undo.Error())
		}
		return b, base.Plain(err)
	}
	var e store.Evidence
	e, b.BySeverity = up.evidence(s.base.Now())
	b, err = in.Finish(ctx, b, e, func(b store.Batch) store.TrailEntry {
		return s.base.Did(who, "take in recording", fmt.Sprintf("batch %d", b.ID), fmt.Sprintf("%s with %d captures",
			service, b.Captures))
	})
	if err != nil {
		in.Discard(context.WithoutCancel(ctx))
		return b, base.Plain(err)
	}
	s.base.Log.Info("recording taken in", "batch", b.ID, "service", service, "captures", b.Captures, "findings",
		b.Findings,
		"new", b.NewFindings,
		"repeated", b.Repeated, "person", who.ID)
	return b, s.review.NoteCoverage(ctx, service)
}

// upload is one recording being received.
type upload struct {
	*Evidence
	*gathering
	in     *store.Intake
	name   string
	known  *known
	bodies bool // they are kept
}

// transport remembers that the connection failed, to tell this from a recording that is cut off.
type transport struct {
	r      io.Reader
	failed error
}

// Read implements [io.Reader].
func (t *transport) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	if err != nil && err != io.EOF {
		t.failed = err
	}
	return n, err
}

func (u *upload) run(ctx context.Context, r io.Reader) (store.Batch, error) {
	carrier, digest := &transport{r: r}, sha256.New()
	body := io.TeeReader(carrier, digest)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	captures, read := make(chan *exchange.Capture, readAhead), make(chan error, 1)
	go func() {
		defer close(captures)
		read <- intake.Read(u.name, body, u.known.reading, func(c *exchange.Capture) error {
			select {
			case captures <- c:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	}()
	var failed error
	for c := range captures {
		if failed == nil {
			if failed = u.capture(ctx, c); failed != nil {
				stop() // the reader stops too, and the channel is closed
			}
		}
	}
	err := <-read
	if failed != nil {
		return store.Batch{}, failed
	}
	if carrier.failed != nil {
		return store.Batch{}, base.NewProblem(base.Invalid, "send it again; nothing of it was kept",
			"the recording broke off on its way")
	}
	if ctx.Err() != nil {
		return store.Batch{}, ctx.Err()
	}
	var b store.Batch
	var unread *intake.Error
	if errors.As(err, &unread) {
		if u.collector.Summary().Captures == 0 {
			code := base.Invalid
			if unread.Unknown {
				code = base.Unreadable
			}
			return b, base.NewProblem(code, "", "%s", unread.Error())
		}
		b.Problem = unread.Error()
	} else if err != nil {
		return b, err
	}
	if _, err := io.Copy(io.Discard, body); err != nil {
		return b, base.NewProblem(base.Invalid, "send it again; nothing of it was kept",
			"the recording broke off on its way")
	}
	b.Digest = hex.EncodeToString(digest.Sum(nil))
	u.count(&b)
	return b, nil
}

// settle evaluates the batch again if all of it tells otherwise than its parts.
func (u *upload) settle(ctx context.Context, b store.Batch) (store.Batch, error) {
	if len(u.collector.Columns()) == 0 && len(u.collector.Data()) == 0 && !u.collector.Late(b.Known.Holders) {
		return b, nil
	}
	var err error
	if b.ID, err = u.in.Flush(ctx); err != nil {
		return b, err
	}
	said := *u.known
	said.stays = true
	g, captures, err := u.Evidence.settle(ctx, b, u.contracts, u.collector, &said)
	if err != nil || g == nil {
		return b, err
	}
	g.collector.Recall(u.collector)
	u.gathering = g
	g.count(&b)
	return b, u.in.Replace(ctx, captures)
}

func (u *upload) capture(ctx context.Context, c *exchange.Capture) error {
	if said := u.known.audience(c); said != "" {
		c.Audience = said
	}
	row, shows := u.add(c)
	if row.File = strings.TrimPrefix(c.File, u.name+"/"); c.File == u.name {
		row.File = ""
	}
	var err error
	if row.Sealed, err = u.vault.SealExchange(held(c, &row, u.bodies, u.gathering.contracts)); err != nil {
		return err
	}
	return u.in.Add(ctx, row, shows)
}

// Said is what a person states about a recording, such as its audience.
type Said struct {
	Audience string // who made all its requests
	Mapping  string // the text of a mapping file
	Request  string // the request of responses that are recorded alone
}

// known is what a person stated, parsed.
type known struct {
	said    string
	mapping *contract.Mapping
	reading intake.Options
	stays   bool // what captures say of their own audience, where this says nothing
}

// audience returns the stated audience of a request, or the empty string.
func (k *known) audience(c *exchange.Capture) string {
	if k.said != "" {
		return k.said
	}
	return k.mapping.Audience(c.File, &c.Request)
}

// said parses and checks what a person stated.
func (s *Evidence) said(ctx context.Context, service string, c *contract.Contracts, say Said) (*known, error) {
	k := &known{said: say.Audience}
	if k.said != "" && c.Audience(k.said) == nil {
		return nil, base.NewProblem(base.Invalid, "it has "+strings.Join(s.review.Audiences(ctx, service), ", "),
			"the service %q has no audience %q", service, k.said)
	}
	var err error
	if say.Mapping != "" {
		if k.mapping, err = contract.ReadMapping(contract.File{Name: "mapping", Data: []byte(say.Mapping)},
			c); err != nil {
			p := base.NewProblem(base.Invalid, "docs/captures.md shows one",
				"the mapping of audiences cannot be read: %v", err)
			p.Cause = err
			return nil, p
		}
	}
	if say.Request != "" {
		if k.reading.Request, err = exchange.ParseRequest(say.Request); err != nil {
			return nil, base.NewProblem(base.Invalid, "", "%v", err)
		}
	}
	return k, nil
}
