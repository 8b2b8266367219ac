package service

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"inkret/core/scan"
	"inkret/store"
)

// What guards the bodies that are kept: how long, and who saw a value in clear.

// longestKeeping bounds a keeping time, in days.
const longestKeeping = 3660

// Keeping gives how long a service's bodies are kept.
func (s *Service) Keeping(ctx context.Context, service string) (store.Keeping, error) {
	k, err := s.store.Keeping(ctx, service)
	return k, found(err, "service %q", service)
}

// SetKeeping sets how long a service's bodies are kept, and drops those whose time
// is over by that.
func (s *Service) SetKeeping(ctx context.Context, who Caller, service string, k store.Keeping) error {
	if _, err := s.Keeping(ctx, service); err != nil {
		return err
	}
	if k.Days < 0 || k.Days > longestKeeping {
		return problem(Invalid, "0 keeps them without end", "bodies are kept for 0 to %d days", longestKeeping)
	}
	detail := "bodies are kept without end"
	switch {
	case !k.Bodies:
		detail = "no bodies are kept"
	case k.Days > 0:
		detail = fmt.Sprintf("bodies are kept for %d days", k.Days)
	}
	entry := s.did(who, "set keeping time", service, detail)
	if err := s.store.Essential(ctx, func() error { return s.store.SetKeeping(ctx, service, k, entry) }); err != nil {
		return plain(err)
	}
	_, err := s.Purge(ctx)
	return err
}

const (
	// purgeAt is how many captures are purged in one transaction, and purgeAtFull where there is no room for
	// the log of that.
	purgeAt     = 200
	purgeAtFull = 4
)

// Purge drops the bodies whose keeping time is over, and the masked samples of
// findings that only they showed. What is left of a capture is its outline. It
// gives how many captures it purged.
func (s *Service) Purge(ctx context.Context) (int, error) {
	purged, step := 0, purgeAt
	for {
		some, err := s.store.Purgeable(ctx, s.now(), step)
		if err != nil || len(some) == 0 {
			break
		}
		for i := range some {
			e, err := s.vault.open(some[i].Sealed)
			if err != nil {
				return purged, err
			}
			f, err := s.contracts(ctx, some[i].Service)
			if err != nil {
				return purged, err
			}
			some[i].Holds = e.outline(f.contracts)
			if some[i].Sealed, err = s.vault.seal(e); err != nil {
				return purged, err
			}
		}
		err = s.store.Essential(ctx, func() error { return s.store.Reseal(ctx, some) })
		if errors.Is(err, store.ErrFull) && step > purgeAtFull {
			step = purgeAtFull
			s.scrub(ctx)
			continue
		}
		if err != nil {
			return purged, plain(err)
		}
		if step == purgeAtFull {
			s.scrub(ctx)
		}
		purged += len(some)
	}
	if purged == 0 {
		return 0, nil
	}
	samples := 0
	err := s.store.Essential(ctx, func() (err error) {
		samples, err = s.store.PurgeSamples(ctx, func(samples int) store.TrailEntry {
			return s.byItself("purge bodies", "captures", fmt.Sprintf("%d captures, %d samples of findings", purged,
				samples))
		})
		return err
	})
	if err == nil {
		s.log.Info("bodies purged", "captures", purged, "samples", samples)
	}
	s.scrub(ctx)
	return purged, plain(err)
}

const (
	// purgeEvery is how often the service looks for bodies whose time is over, and
	// waiversEvery for waivers whose last day is.
	purgeEvery   = time.Hour
	waiversEvery = time.Minute
)

// Run does what is to be done from time to time, until ctx ends. public is the address under
// which people reach the service.
func (s *Service) Run(ctx context.Context, public string) {
	s.public = public
	var all sync.WaitGroup
	for _, task := range []struct {
		every time.Duration
		what  string
		do    func(context.Context) error
	}{
		{purgeEvery, "dropping bodies whose time is over", func(ctx context.Context) error {
			_,
				err := s.Purge(ctx)
			return err
		}},
		{waiversEvery, "ending waivers", s.EndWaivers},
		{waiversEvery, "making a backup", s.backUpOnce},
		{hooksEvery, "telling hooks", s.deliverOnce},
		{mailEvery, "telling those who follow views", s.tellOfViews},
		{mailEvery, "sending mail", s.mailOnce},
	} {
		all.Go(func() {
			for ctx.Err() == nil {
				if err := task.do(ctx); err != nil && ctx.Err() == nil {
					s.log.Error("it failed and is tried again", "what", task.what, "error", err.Error())
				}
				select {
				case <-time.After(task.every):
				case <-ctx.Done():
				}
			}
		})
	}
	all.Wait()
}

// shortestReason is how much must be said to see a value in clear.
const shortestReason = 5

// Reveal gives one value of a capture's body in clear; pointer is that of the wire
// view. Who saw it and why goes on the trail first, and the value does not.
func (s *Service) Reveal(ctx context.Context, who Caller, capture int64, pointer, reason string) (string, error) {
	c, err := s.store.Capture(ctx, capture)
	if err != nil {
		return "", found(err, "capture %d", capture)
	}
	if reason = strings.TrimSpace(reason); len(reason) < shortestReason {
		return "", problem(Invalid, "", "say why the value must be seen")
	}
	if c.Holds != store.HoldsBodies {
		return "", problem(Conflict, "", "the bodies of capture %d are not kept", capture)
	}
	_, wire, _, err := s.picture(ctx, c)
	if err != nil {
		return "", err
	}
	value, ok := "", false
	if wire != nil {
		value, ok = wire.Value(pointer)
	}
	if !ok {
		return "", problem(NotFound, "take the place from the wire view", "capture %d has no value there", capture)
	}
	return value, s.store.AddTrail(ctx, s.did(who, "reveal", fmt.Sprintf("capture %d", capture), pointer+": "+reason))
}

// Trail lists a page of the trail.
func (s *Service) Trail(ctx context.Context, by store.TrailFilter, page store.Page) ([]store.TrailEntry, int, error) {
	return s.store.Trail(ctx, by, page)
}

// VerifyTrail goes over the trail; the error says where it was tampered with.
func (s *Service) VerifyTrail(ctx context.Context) (int, string, error) {
	return s.store.VerifyTrail(ctx)
}

// picture judges a capture anew and draws its body; the picture is nil where it
// has none.
func (s *Service) picture(ctx context.Context, c store.Capture) (exchanged, *scan.Wire, scan.Outcome, error) {
	var out scan.Outcome
	e, err := s.vault.open(c.Sealed)
	if err != nil || len(e.ResponseBody) == 0 {
		return e, nil, out, err
	}
	f, err := s.contracts(ctx, c.Service)
	if err != nil {
		return e, nil, out, err
	}
	again, err := e.capture(c)
	if err != nil {
		return e, nil, out, err
	}
	wire := scan.NewWire(f.contracts)
	out = scan.NewJudge(f.contracts).Watch(again, wire)
	return e, wire, out, nil
}
