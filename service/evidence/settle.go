package evidence

import (
	"context"
	"errors"
	"time"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/service/base"
	"inkret/store"
)

// What only a whole batch tells of its values and names is decided once it is complete, by what is kept of it: see
// [scan.Column] and [scan.Name].

// mostFolds is how often a batch is evaluated again because names turned out to be data.
const mostFolds = 4

// settle evaluates a complete batch again if all of it tells otherwise than its parts. It returns nil if nothing
// changes. met has what was met in it.
func (s *Evidence) settle(ctx context.Context, b store.Batch, c *contract.Contracts, met *finding.Collector,
	k *known) (g *gathering, captures []store.Rejudged, err error) {
	known := scan.Known{Holders: b.Known.Holders}
	late := met.Late(known.Holders)
	if len(met.Data()) == 0 && len(met.Columns()) == 0 && !late {
		return nil, nil, nil
	}
	whole := true
	if err := s.store.EachOf(ctx, b.ID, func(c store.Capture) error {
		whole = whole && (c.Holds != store.HoldsNothing || c.Skipped != "")
		return nil
	}); err != nil || !whole { // of what is not kept nothing can be judged again
		return nil, nil, err
	}
	for range mostFolds {
		data := met.Data()
		if len(data) == 0 && !late {
			break
		}
		late = false
		known.Data = append(known.Data, data...)
		if g, captures, err = s.evaluate(ctx, b, c, known, k); err != nil {
			return nil, nil, err
		}
		met = g.collector
	}
	columns := met.Columns()
	if len(columns) == 0 {
		return g, captures, nil
	}
	judge := scan.NewJudge(c)
	judge.Hash = s.print
	judge.Know(known)
	judge.Count(columns)
	err = s.each(ctx, b, k, func(again *exchange.Capture, _ store.Capture) { judge.Capture(again) })
	if err != nil {
		return nil, nil, err
	}
	total := map[scan.Column]scan.Tally{}
	judge.Tallies(total)
	if known.Chance = scan.ByChance(total); len(known.Chance) == 0 {
		return g, captures, nil
	}
	return s.evaluate(ctx, b, c, known, k)
}

// each rebuilds the captures of a batch from what is kept of them.
func (s *Evidence) each(ctx context.Context, b store.Batch, k *known, f func(*exchange.Capture, store.Capture)) error {
	return s.store.EachOf(ctx, b.ID, func(c store.Capture) error {
		again, err := s.again(c, b, k)
		if err == nil {
			f(again, c)
		}
		return err
	})
}

// evaluate evaluates the captures of a batch as they are kept.
func (s *Evidence) evaluate(ctx context.Context, b store.Batch, c *contract.Contracts, by scan.Known,
	k *known) (*gathering, []store.Rejudged, error) {
	g, err := s.newGathering(ctx, b.Service, c)
	if err != nil {
		return nil, nil, err
	}
	g.known = by
	g.judge.Know(by)
	var captures []store.Rejudged
	err = s.each(ctx, b, k, func(again *exchange.Capture, c store.Capture) {
		g.now = c.Recorded // no later did it arrive
		row, shows := g.add(again)
		row.ID = c.ID
		captures = append(captures, store.Rejudged{Capture: row, Occurrences: shows})
	})
	return g, captures, err
}

// completed settles a batch whose captures came one after the other, and is visible. met has what was met in it, nil
// if that is not known.
func (s *Evidence) completed(ctx context.Context, b store.Batch, by store.Event, met *finding.Collector) (store.Batch,
	error) {
	f, err := s.base.Contracts(ctx, b.Service)
	if err != nil {
		return b, err
	}
	k := &known{said: b.Audience, stays: true}
	if met == nil {
		if met, err = s.metIn(ctx, b, f.Contracts, k); err != nil {
			return b, err
		}
	}
	g, captures, err := s.settle(ctx, b, f.Contracts, met, k)
	if err != nil {
		return b, err
	}
	if g == nil {
		return b, s.decide(ctx, b, f.Contracts)
	}
	e, bySeverity := g.evidence(s.base.Now())
	g.count(&b)
	b.BySeverity = bySeverity
	return s.store.Rejudge(ctx, b, captures, e, by)
}

// decide closes the findings that a batch proves fixed. Of a finding that began to await proof only while the batch
// grew, all of the batch is looked at, as far as it is kept.
func (s *Evidence) decide(ctx context.Context, b store.Batch, c *contract.Contracts) error {
	moved, err := s.store.Moved(ctx, b.ID)
	if err != nil {
		return err
	}
	var covered map[string]finding.Covered
	if moved {
		g, _, err := s.evaluate(ctx, b, c, b.Known.Known, &known{said: b.Audience, stays: true})
		var unkept *base.Problem
		switch {
		case err == nil && g.trial != nil:
			covered = g.trial.Results()
		case err != nil && !errors.As(err, &unkept):
			return err
		}
	}
	return s.store.Prove(ctx, b, covered, s.base.Now())
}

// quietAfter is how long nothing must come from a recorder before what it sent so far counts as complete.
const quietAfter = 10 * time.Minute

// Quiet decides what the recordings prove to which nothing was added for a while.
func (s *Evidence) Quiet(ctx context.Context) error {
	all, err := s.store.Quiet(ctx, s.base.Now().Add(-quietAfter))
	if err != nil {
		return err
	}
	for _, b := range all {
		f, err := s.base.Contracts(ctx, b.Service)
		if err != nil {
			return err
		}
		if err := s.decide(ctx, b, f.Contracts); err != nil {
			return err
		}
	}
	return nil
}

// metIn evaluates what is kept of a batch.
func (s *Evidence) metIn(ctx context.Context, b store.Batch, c *contract.Contracts, k *known) (*finding.Collector,
	error) {
	met, judge := finding.NewCollector(b.Service), scan.NewJudge(c)
	judge.Hash = s.print
	judge.Know(scan.Known{Holders: b.Known.Holders})
	err := s.store.EachOf(ctx, b.ID, func(c store.Capture) error {
		if c.Holds == store.HoldsNothing {
			return nil
		}
		again, err := s.again(c, b, k)
		if err == nil {
			out := judge.Capture(again)
			met.Add("", c.Entry, &out)
		}
		return err
	})
	return met, err
}
