package base

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"inkret/store"
)

// What people look at and what they are refused is on the trail too. Both can happen without end, so
// the same by the same person is noted once in a while only.

const (
	notedAgain = 10 * time.Minute
	mostNoted  = 10_000 // that are remembered
)

// once tells what was noted lately.
type once struct {
	mu   sync.Mutex // guards seen
	seen map[string]time.Time
}

// due reports whether something has not been noted lately, and takes it as noted.
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

// NoteRead puts on the trail that somebody took something away without changing anything. A full disk does
// not keep people from reading.
func (s *Base) NoteRead(ctx context.Context, who Caller, action, subject, detail string) {
	entry := s.Did(who, action, subject, detail)
	if !s.noted.due(entry.Key+"\n"+action+"\n"+subject+"\n"+detail, s.Now()) {
		return
	}
	if err := s.store.AddTrail(ctx, entry); err != nil {
		s.Log.Error("it could not be put on the trail", "action", action, "error", err.Error())
	}
}

// NoteRefusal puts on the trail that a caller was refused an operation, where err says so.
func (s *Base) NoteRefusal(ctx context.Context, who Caller, operation string, err error) {
	var p *Problem
	if who.ID == 0 || !errors.As(err, &p) || p.Code != Forbidden || errors.Is(err, store.ErrFull) {
		return
	}
	s.NoteRead(ctx, who, "refused", operation, p.Detail)
}

// Did is an entry of the trail about something that somebody did now.
func (s *Base) Did(c Caller, action, subject, detail string) store.TrailEntry {
	e := store.TrailEntry{At: s.Now(), Author: ShownName(c.Person), Action: action, Subject: subject, Detail: detail,
		PersonID: c.ID, Email: c.Email}
	if c.Key.ID != 0 {
		e.Key = fmt.Sprintf("%s %d", c.Key.Kind, c.Key.ID)
	}
	return e
}

// ByItself is an entry of the trail about something that no person did who is signed in.
func (s *Base) ByItself(action, subject, detail string) store.TrailEntry {
	return store.TrailEntry{At: s.Now(), Author: "the service", Action: action, Subject: subject, Detail: detail}
}
