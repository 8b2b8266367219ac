package evidence

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"inkret/core/scan"
	"inkret/service/base"
	"inkret/service/vault"
	"inkret/store"
)

// How long bodies are kept, and who saw a value in clear.

// Keeping returns how long a service's bodies are kept.
func (s *Evidence) Keeping(ctx context.Context, service string) (store.Keeping, error) {
	k, err := s.store.Keeping(ctx, service)
	return k, base.Found(err, "service %q", service)
}

// SetKeeping sets how long a service's bodies are kept, and purges those that are older.
func (s *Evidence) SetKeeping(ctx context.Context, who base.Caller, service string, k store.Keeping) error {
	if _, err := s.Keeping(ctx, service); err != nil {
		return err
	}
	detail := "bodies are kept without end"
	switch {
	case !k.Bodies:
		detail = "no bodies are kept"
	case k.Days > 0:
		detail = fmt.Sprintf("bodies are kept for %d days", k.Days)
	}
	entry := s.base.Did(who, "set keeping time", service, detail)
	if err := s.store.Essential(ctx, func() error { return s.store.SetKeeping(ctx, service, k, entry) }); err != nil {
		return base.Plain(err)
	}
	_, err := s.Purge(ctx)
	return err
}

const (
	// purgeAt is how many captures are purged per transaction, purgeAtFull how many if the disk has no room for a
	// large log.
	purgeAt     = 200
	purgeAtFull = 4
)

// Purge deletes bodies whose keeping time is over, and the masked samples of findings that only they showed. An
// outline of each capture remains. It returns how many captures were purged.
func (s *Evidence) Purge(ctx context.Context) (int, error) {
	purged, step := 0, purgeAt
	for {
		some, err := s.store.Purgeable(ctx, s.base.Now(), step)
		if err != nil || len(some) == 0 {
			break
		}
		for i := range some {
			e, err := s.vault.OpenExchange(some[i].Sealed)
			if err != nil {
				return purged, err
			}
			f, err := s.base.Contracts(ctx, some[i].Service)
			if err != nil {
				return purged, err
			}
			some[i].Holds = e.Outline(f.Contracts)
			if some[i].Sealed, err = s.vault.SealExchange(e); err != nil {
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
			return purged, base.Plain(err)
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
			return s.base.ByItself("purge bodies", "captures", fmt.Sprintf("%d captures, %d samples of findings",
				purged,
				samples))
		})
		return err
	})
	if err == nil {
		s.base.Log.Info("bodies purged", "captures", purged, "samples", samples)
	}
	s.scrub(ctx)
	return purged, base.Plain(err)
}

// Reveal returns one value of a capture's body in clear. pointer is the one of the wire view. The access is on the
// trail before the value is returned; the value itself is not.
func (s *Evidence) Reveal(ctx context.Context, who base.Caller, capture int64, pointer, reason string) (string, error) {
	c, err := s.store.Capture(ctx, capture)
	if err != nil {
		return "", base.Found(err, "capture %d", capture)
	}
	if reason = strings.TrimSpace(reason); reason == "" {
		return "", base.NewProblem(base.Invalid, "", "say why the value must be seen")
	}
	if c.Holds != store.HoldsBodies {
		return "", base.NewProblem(base.Conflict, "", "the bodies of capture %d are not kept", capture)
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
		return "", base.NewProblem(base.NotFound, "take the place from the wire view", "capture %d has no value there",
			capture)
	}
	return value, s.store.AddTrail(ctx, s.base.Did(who, "reveal", fmt.Sprintf("capture %d", capture), pointer+": "+
		reason))
}

// picture evaluates a capture again and builds its wire view, which is nil if the body is empty.
func (s *Evidence) picture(ctx context.Context, c store.Capture) (vault.Exchange, *scan.Wire, scan.Outcome, error) {
	var out scan.Outcome
	e, err := s.vault.OpenExchange(c.Sealed)
	if err != nil || len(e.ResponseBody) == 0 {
		return e, nil, out, err
	}
	f, err := s.base.Contracts(ctx, c.Service)
	if err != nil {
		return e, nil, out, err
	}
	again, err := e.Capture(c)
	if err != nil {
		return e, nil, out, err
	}
	wire := scan.NewWire(f.Contracts)
	judge := scan.NewJudge(f.Contracts)
	judge.Hash = s.print
	judge.Know(c.Known.Known)
	out = judge.Watch(again, wire)
	return e, wire, out, nil
}
