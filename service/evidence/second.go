package evidence

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"inkret/core/finding"
	"inkret/service/base"
	"inkret/store"
)

// A change that removes an open finding of high or critical severity without proof needs two people: one asks,
// another approves. Both steps are on the trail.

// Waits is the error for a change that now waits for a second person. Nothing has been changed yet.
type Waits struct {
	What     string          // [store.AskWithdraw] or [store.AskCorrect]
	Batch    int64           // that it is about
	Findings []store.Finding // the severe ones that would leave the list
}

// Error says what the change waits for.
func (w *Waits) Error() string {
	return fmt.Sprintf("it takes %d findings of high or critical severity off the list, and waits for a lead who is "+
		"somebody else", len(w.Findings))
}

// SetSecondPerson sets whether severe decisions at a service need a second person. A team of one has to switch this
// off; the trail, the overview and every report say so.
func (s *Evidence) SetSecondPerson(ctx context.Context, who base.Caller, service string, needed bool,
	reason string) error {
	if reason = strings.TrimSpace(reason); reason == "" {
		return base.NewProblem(base.Invalid, "", "say why")
	}
	action := "switch second person off"
	if needed {
		action = "switch second person on"
	}
	return base.Found(s.store.SetSecondPerson(ctx, service, needed, s.base.Did(who, action, service, reason)),
		"service %q",
		service)
}

// batchChange is a change to a batch that may need a second person.
type batchChange struct {
	what   string // [store.AskWithdraw] or [store.AskCorrect]
	reason string
	say    Said     // of a correction
	keep   []string // the findings that the batch goes on to show
}

// byTwo checks whether a change to a batch may go ahead: because no severe finding is removed by it, or because
// another person asked for the same change and the caller is lead. Otherwise it records the request and returns
// [Waits]. It returns the trail entry about the approval, which may be empty.
func (s *Evidence) byTwo(ctx context.Context, who base.Caller, b store.Batch, c batchChange) (store.TrailEntry, error) {
	needed, err := s.store.SecondPerson(ctx, b.Service)
	if err != nil || !needed {
		return store.TrailEntry{}, err
	}
	severe, err := s.store.TakenOff(ctx, b.ID, c.keep, int(finding.ByTwo))
	if err != nil || len(severe) == 0 {
		return store.TrailEntry{}, err
	}
	text, err := json.Marshal(c.say)
	if err != nil {
		return store.TrailEntry{}, err
	}
	subject := fmt.Sprintf("batch %d", b.ID)
	a, err := s.store.AskingOf(ctx, b.ID)
	same := err == nil && a.What == c.what && a.Say == string(text)
	switch {
	case err != nil && !errors.Is(err, store.ErrNotFound):
		return store.TrailEntry{}, err
	case same && a.PersonID != who.ID && who.MayIn(b.Service, base.Lead):
		return s.base.Did(who, "approve to "+c.what, subject,
			fmt.Sprintf("%d severe findings leave the list; asked by person %d: %s", len(severe), a.PersonID,
				a.Reason)), nil
	case same && a.PersonID == who.ID:
		return store.TrailEntry{}, base.NewProblem(base.Conflict,
			"somebody else who is lead approves it by doing the same",
			"you asked for it already")
	case err == nil && a.PersonID != who.ID && !who.MayIn(b.Service, base.Lead):
		return store.TrailEntry{}, base.NewProblem(base.Conflict, "a lead approves or declines it first",
			"somebody asked for another change of batch %d", b.ID)
	}
	if c.reason == "" {
		c.reason = "no reason given"
	}
	a = store.Asking{Batch: b.ID, What: c.what, Say: string(text), PersonID: who.ID, Author: base.ShownName(who.Person),
		At: s.base.Now(), Reason: c.reason, Findings: len(severe)}
	if err := s.store.Ask(ctx, b.Service, severe[0].ID, a, s.base.Did(who, "ask to "+c.what, subject,
		fmt.Sprintf("%d severe findings would leave the list: %s", len(severe), c.reason))); err != nil {
		return store.TrailEntry{}, err
	}
	return store.TrailEntry{}, &Waits{c.what, b.ID, severe}
}

// Asking returns the change of a batch that waits for a second person, or nil.
func (s *Evidence) Asking(ctx context.Context, batch int64) (*store.Asking, error) {
	a, err := s.store.AskingOf(ctx, batch)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return &a, err
}

// DeclineAsking ends a change that waits for a second person: a lead declines it, or the person who asked withdraws
// it.
func (s *Evidence) DeclineAsking(ctx context.Context, who base.Caller, batch int64, why string) error {
	b, err := s.Batch(ctx, batch)
	if err != nil {
		return err
	}
	a, err := s.store.AskingOf(ctx, batch)
	if err != nil {
		return base.Found(err, "change of batch %d that waits", batch)
	}
	action := "decline to "
	switch {
	case a.PersonID == who.ID:
		action = "take back to "
	case !who.MayIn(b.Service, base.Lead):
		return who.NotIn(b.Service, base.Lead)
	case strings.TrimSpace(why) == "":
		return base.NewProblem(base.Invalid, "say it with a comment", "to decline needs a reason")
	}
	return base.Found(s.store.DropAsking(ctx, batch, s.base.Did(who, action+a.What, fmt.Sprintf("batch %d", batch),
		why)),
		"change of batch %d that waits", batch)
}
