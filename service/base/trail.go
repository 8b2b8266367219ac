package base

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"inkret/store"
)

// Reads and refusals are on the trail too. Because they can repeat without limit, the same event by the same person
// is logged once per interval only.

const (
	notedAgain = 10 * time.Minute
	mostNoted  = 10_000 // that are remembered
)

// once remembers which events were logged lately.
type once struct {
	mu   sync.Mutex // guards seen
	seen map[string]time.Time
}

// due reports whether an event has not been logged lately, and marks it as logged.
func (o *once) due(what string, now time.Time) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if at, ok := o.seen[what]; ok && now.Sub(at) < notedAgain {
		return false
	}
	if o.seen == nil || len(o.seen) >= mostNoted {
		o.seen = map[string]time.Time{}
	}
	o.seen[what] = now
	return true
}

// NoteRead logs on the trail that somebody exported something. A full disk does not block reading.
func (s *Base) NoteRead(ctx context.Context, who Caller, action, subject, detail string) {
	entry := s.Did(who, action, subject, detail)
	if !s.noted.due(entry.Key+"\n"+action+"\n"+subject+"\n"+detail, s.Now()) {
		return
	}
	if err := s.store.AddTrail(ctx, entry); err != nil {
		s.Log.Error("it could not be put on the trail", "action", action, "error", err.Error())
	}
}

// NoteRefusal logs on the trail that a caller was refused, if err is a Forbidden problem.
func (s *Base) NoteRefusal(ctx context.Context, who Caller, operation string, err error) {
	var p *Problem
	if who.ID == 0 || !errors.As(err, &p) || p.Code != Forbidden || errors.Is(err, store.ErrFull) {
		return
	}
	s.NoteRead(ctx, who, "refused", operation, p.Detail)
}

// Did returns a trail entry about something that a caller did now.
func (s *Base) Did(c Caller, action, subject, detail string) store.TrailEntry {
	e := store.TrailEntry{At: s.Now(), Author: ShownName(c.Person), Action: action, Subject: subject, Detail: detail,
		PersonID: c.ID, Email: c.Email}
	if c.Key.ID != 0 {
		e.Key = fmt.Sprintf("%s %d", c.Key.Kind, c.Key.ID)
	}
	return e
}

// ByItself returns a trail entry about something that happened without a signed-in person.
func (s *Base) ByItself(action, subject, detail string) store.TrailEntry {
	return store.TrailEntry{At: s.Now(), Author: "the service", Action: action, Subject: subject, Detail: detail}
}
