package evidence

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/scan"
	"inkret/service/base"
	"inkret/store"
)

// What happens to a batch after it was received: withdrawal and correction.

// Withdrawal returns what withdrawing a batch would remove.
func (s *Evidence) Withdrawal(ctx context.Context, batch int64) (store.OnlyHere, error) {
	if _, err := s.Batch(ctx, batch); err != nil {
		return store.OnlyHere{}, err
	}
	return s.store.WithdrawalOf(ctx, batch)
}

// Withdraw deletes a batch with its captures, and the findings that no other batch shows.
func (s *Evidence) Withdraw(ctx context.Context, who base.Caller, batch int64, reason string) error {
	b, err := s.Batch(ctx, batch)
	if err != nil {
		return err
	}
	if reason = strings.TrimSpace(reason); reason == "" {
		return base.NewProblem(base.Invalid, "", "say why the batch is withdrawn")
	}
	approval, err := s.byTwo(ctx, who, b, batchChange{what: store.AskWithdraw, reason: reason})
	if err != nil {
		return err
	}
	s.forget(batch)
	entry := s.base.Did(who, "withdraw batch", fmt.Sprintf("batch %d", batch),
		fmt.Sprintf("%q of %s with %d captures: %s",
			b.Name, b.Service, b.Captures, reason))
	withdraw := func() error { return s.store.Withdraw(ctx, batch, who.Name, s.base.Now(), approval, entry) }
	err = s.store.Essential(ctx, withdraw)
	if errors.Is(err, store.ErrFull) { // even its log has no room: what is large goes first, a little at a time
		if err = s.store.EmptyBatch(ctx, batch); err == nil {
			err = s.store.Essential(ctx, withdraw)
		}
	}
	if err != nil {
		return base.Plain(base.Found(err, "batch %d", batch))
	}
	s.scrub(ctx)
	return s.store.Essential(ctx, func() error { return s.review.NoteCoverage(ctx, b.Service) })
}

// scrub makes sure that deleted data is no longer in any file.
func (s *Evidence) scrub(ctx context.Context) {
	if err := s.store.Scrub(ctx); err != nil {
		s.base.Log.Error("the log of the database could not be emptied", "error", err.Error())
	}
}

// Correct changes the recorded audience of a batch's requests and evaluates the batch again under the contracts in
// force. If say is empty, the contracts' rules recognise the audience.
func (s *Evidence) Correct(ctx context.Context, who base.Caller, batch int64, say Said) (store.Batch, error) {
	b, err := s.Batch(ctx, batch)
	if err != nil {
		return b, err
	}
	if b.Growing {
		return b, base.NewProblem(base.Conflict, "end the recorder first", "a recorder still adds to batch %d", batch)
	}
	f, err := s.base.Contracts(ctx, b.Service)
	if err != nil {
		return b, err
	}
	known, err := s.said(ctx, b.Service, f.Contracts, say)
	if err != nil {
		return b, err
	}
	g, captures, err := s.evaluate(ctx, b, f.Contracts, scan.Known{}, known)
	if err != nil {
		return b, err
	}
	settled, again, err := s.settle(ctx, b, f.Contracts, g.collector, known)
	if err != nil {
		return b, err
	}
	if settled != nil {
		g, captures = settled, again
	}
	e, bySeverity := g.evidence(s.base.Now())
	var keep []string
	for _, f := range e.Findings {
		keep = append(keep, f.ID)
	}
	approval, err := s.byTwo(ctx, who, b, batchChange{what: store.AskCorrect, say: say, keep: keep})
	if err != nil {
		return b, err
	}
	g.count(&b)
	b.BySeverity, b.Audience = bySeverity, say.Audience
	how := "by the contracts' own rules"
	switch {
	case say.Audience != "":
		how = "as " + say.Audience
	case say.Mapping != "":
		how = "by a mapping"
	}
	b, err = s.store.Rejudge(ctx, b, captures, e, store.Event{Author: who.Name, At: s.base.Now()}, approval,
		s.base.Did(who, "correct audience",
			fmt.Sprintf("batch %d", batch), "judged anew "+how))
	if err != nil {
		return b, base.Plain(err)
	}
	return b, s.review.NoteCoverage(ctx, b.Service)
}

// again rebuilds a stored capture as it was received, with the corrected audience.
func (s *Evidence) again(c store.Capture, b store.Batch, k *known) (*exchange.Capture, error) {
	if c.Holds == store.HoldsNothing && c.Skipped == "" {
		return nil, base.NewProblem(base.Conflict,
			"send the recording again with the right audience, and withdraw this batch",
			"nothing is kept of the body of capture %d, which is no JSON, so batch %d cannot be judged anew", c.ID,
			b.ID)
	}
	held, err := s.vault.OpenExchange(c.Sealed)
	if err != nil {
		return nil, err
	}
	again, err := held.Capture(c)
	if err != nil {
		return nil, err
	}
	if again.File = b.Name; c.File != "" {
		again.File += "/" + c.File
	}
	if said := k.audience(again); said != "" || !k.stays {
		again.Audience = said
	}
	return again, nil
}

// recognised reports whether an audience is recognised without credentials.
func recognised(a *contract.Audience) bool { return a.Recognise.None || a.Index == 0 }
