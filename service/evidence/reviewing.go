package evidence

import (
	"context"
	"errors"

	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/service/base"
	"inkret/store"
)

// Proofs that were made under earlier rules are looked at once. Those that the rules of today do not accept are listed
// for review; nothing is reopened.

// LookAgain looks at the proofs that were made under earlier rules, and notes of captures what call they are of.
func (s *Evidence) LookAgain(ctx context.Context) error {
	for {
		captures, err := s.store.Uncalled(ctx)
		if err != nil {
			return err
		}
		if len(captures) == 0 {
			break
		}
		calls := map[int64]int64{}
		for _, c := range captures {
			calls[c.ID] = s.callKept(c)
		}
		if err := s.store.Call(ctx, calls); err != nil {
			return err
		}
	}
	unlooked, err := s.store.Unlooked(ctx)
	if err != nil {
		return err
	}
	doubted := 0
	for batch, all := range unlooked {
		covered, err := s.lookAgain(ctx, batch, all)
		if err != nil {
			return err
		}
		for _, f := range all {
			why, err := s.doubt(ctx, batch, &f, covered)
			if err != nil {
				return err
			}
			if why != "" {
				doubted++
			}
			if err := s.store.Doubt(ctx, f.ID, batch, why, covered[f.ID]); err != nil {
				return err
			}
		}
	}
	if doubted > 0 {
		s.base.Log.Warn("findings are closed on grounds that no longer count", "findings", doubted, "list",
			"inkret finding list --proof doubted")
	}
	return nil
}

// callKept returns what call a capture is of, by what is kept of it.
func (s *Evidence) callKept(c store.Capture) int64 {
	const unknown = -1
	held, err := s.vault.OpenExchange(c.Sealed)
	if err != nil || held.Changed {
		return unknown
	}
	again, err := held.Capture(c)
	if err != nil || again.Request.URL == nil {
		return unknown
	}
	return callOf(s.print, again, c.Audience)
}

// lookAgain returns what the captures of a batch tell of findings, nil if they are no longer kept.
func (s *Evidence) lookAgain(ctx context.Context, batch int64, all []store.Finding) (map[string]finding.Covered,
	error) {
	b, err := s.store.Batch(ctx, batch)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	f, err := s.base.Contracts(ctx, b.Service)
	if err != nil {
		return nil, err
	}
	trial := trialOf(b.Service, all)
	judge := scan.NewJudge(f.Contracts)
	judge.Hash = s.print
	judge.Know(b.Known.Known)
	judge.Seek = trial.Seeks
	nth := 0
	err = s.each(ctx, b, &known{said: b.Audience, stays: true}, func(c *exchange.Capture, row store.Capture) {
		out := judge.Capture(c)
		when := row.Recorded
		if row.Started.IsZero() {
			when = row.Started
		}
		trial.Add(nth, &out, when)
		nth++
	})
	var unkept *base.Problem
	if errors.As(err, &unkept) {
		return nil, nil
	}
	return trial.Results(), err
}

// doubt returns why a batch does not prove that a finding is fixed, empty if it does.
func (s *Evidence) doubt(ctx context.Context, batch int64, f *store.Finding,
	covered map[string]finding.Covered) (string,
	error) {
	shown, err := s.store.ShownBy(ctx, batch, f.ID)
	c := covered[f.ID]
	switch {
	case err != nil:
		return "", err
	case shown || c.Shown:
		return "another call of the recording that closed it shows it", nil
	case covered == nil:
		return "the recording that closed it is no longer kept, so that its proof cannot be looked at again", nil
	case c.Captures == 0:
		return "no call of the recording that closed it covers its place", nil
	case !c.Proves(f.Shown):
		return "the recording that closed it was made before the last capture that shows it", nil
	}
	return "", nil
}
