package service

import (
	"context"
	"errors"
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

// noteRead puts on the trail that somebody took something away without changing anything. A full disk does
// not keep people from reading.
func (s *Service) noteRead(ctx context.Context, who Caller, action, subject, detail string) {
	entry := s.did(who, action, subject, detail)
	if !s.noted.due(entry.Key+"\n"+action+"\n"+subject+"\n"+detail, s.now()) {
		return
	}
	if err := s.store.AddTrail(ctx, entry); err != nil {
		s.log.Error("it could not be put on the trail", "action", action, "error", err.Error())
	}
}

// NoteRefusal puts on the trail that a caller was refused an operation, where err says so.
func (s *Service) NoteRefusal(ctx context.Context, who Caller, operation string, err error) {
	var p *Problem
	if who.ID == 0 || !errors.As(err, &p) || p.Code != Forbidden || errors.Is(err, store.ErrFull) {
		return
	}
	s.noteRead(ctx, who, "refused", operation, p.Detail)
}

// ExportFor gives the contracts in force to somebody who takes them away.
func (s *Service) ExportFor(ctx context.Context, who Caller, service string) (store.Revision, error) {
	r, err := s.Export(ctx, service)
	if err == nil {
		s.noteRead(ctx, who, "export contracts", service, "as they are")
	}
	return r, err
}
