package evidence

import (
	"context"
	"slices"

	"inkret/core/contract"
	"inkret/core/scan"
	"inkret/store"
)

// Values that only a check digit tells are judged together with their columns once a batch is complete, by what is
// kept of it: see [scan.Column].

// settle evaluates a complete batch again if columns of it show that what a check digit tells there was chance. It
// returns nil if nothing changes. columns are those that a gathering met.
func (s *Evidence) settle(ctx context.Context, b store.Batch, c *contract.Contracts, columns []scan.Column,
	k *known) (*gathering, []store.Rejudged, error) {
	if len(columns) == 0 {
		return nil, nil, nil
	}
	judge := scan.NewJudge(c)
	judge.Count(columns)
	whole := true
	err := s.store.EachOf(ctx, b.ID, func(c store.Capture) error {
		if c.Holds == store.HoldsNothing && c.Skipped == "" {
			whole = false
			return nil
		}
		again, err := s.again(c, b, k)
		if err == nil {
			judge.Capture(again)
		}
		return err
	})
	if err != nil || !whole { // of what is not kept nothing can be judged again
		return nil, nil, err
	}
	total := map[scan.Column]scan.Tally{}
	judge.Tallies(total)
	chance := scan.ByChance(total)
	if len(chance) == 0 {
		return nil, nil, nil
	}
	return s.evaluate(ctx, b, c, chance, k)
}

// evaluate evaluates the captures of a batch as they are kept.
func (s *Evidence) evaluate(ctx context.Context, b store.Batch, c *contract.Contracts, chance []scan.Column,
	k *known) (*gathering, []store.Rejudged, error) {
	g, err := s.newGathering(ctx, b.Service, c)
	if err != nil {
		return nil, nil, err
	}
	g.chance = chance
	g.judge.Dismiss(chance)
	var captures []store.Rejudged
	err = s.store.EachOf(ctx, b.ID, func(c store.Capture) error {
		again, err := s.again(c, b, k)
		if err != nil {
			return err
		}
		row, shows := g.add(again)
		row.ID = c.ID
		captures = append(captures, store.Rejudged{Capture: row, Occurrences: shows})
		return nil
	})
	return g, captures, err
}

// completed settles a batch whose captures came one after the other, and is visible.
func (s *Evidence) completed(ctx context.Context, b store.Batch, by store.Event, columns []scan.Column) (store.Batch,
	error) {
	if len(columns) == 0 {
		return b, nil
	}
	f, err := s.base.Contracts(ctx, b.Service)
	if err != nil {
		return b, err
	}
	g, captures, err := s.settle(ctx, b, f.Contracts, columns, &known{said: b.Audience, stays: true})
	if err != nil || g == nil {
		return b, err
	}
	e, bySeverity := g.evidence(s.base.Now())
	g.count(&b)
	b.BySeverity = bySeverity
	return s.store.Rejudge(ctx, b, captures, e, by)
}

// columnsOf evaluates what is kept of a batch, and returns the columns that it met.
func (s *Evidence) columnsOf(ctx context.Context, b store.Batch) ([]scan.Column, error) {
	f, err := s.base.Contracts(ctx, b.Service)
	if err != nil {
		return nil, err
	}
	met, judge, k := map[scan.Column]struct{}{}, scan.NewJudge(f.Contracts), &known{said: b.Audience, stays: true}
	err = s.store.EachOf(ctx, b.ID, func(c store.Capture) error {
		if c.Holds == store.HoldsNothing {
			return nil
		}
		again, err := s.again(c, b, k)
		if err != nil {
			return err
		}
		out := judge.Capture(again)
		for at := range out.Columns() {
			met[at] = struct{}{}
		}
		return nil
	})
	all := make([]scan.Column, 0, len(met))
	for at := range met {
		all = append(all, at)
	}
	slices.SortFunc(all, scan.Column.Compare)
	return all, err
}
