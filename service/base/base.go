// Package base holds what all rooms of the service share: the clock, the log, permissions ([Caller], [Need]),
// errors for people ([Problem]), audit trail entries, and the contracts in force. Its main type is [Base].
package base

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"inkret/core/contract"
	"inkret/store"
)

// Base holds what all rooms of the service share. It is safe for concurrent use.
type Base struct {
	Records
	Now   func() time.Time // the clock
	Log   *slog.Logger     // told of what happens, never of values
	store Store

	mu      sync.Mutex // guards inForce
	inForce map[string]InForce
	noted   once
}

// New returns the base of a service over a store.
func New(st Store, now func() time.Time, log *slog.Logger) *Base {
	return &Base{Records: st, Now: now, Log: log, store: st, inForce: map[string]InForce{}}
}

// Problem is an error that may be shown to the caller. Its text contains no captured values and no credentials.
type Problem struct {
	Code   Code          // the sort of it
	Detail string        // what is wrong, in words that people may read
	Next   string        // what to do next; may be empty
	Type   string        // what programs tell it by; mostly empty
	Cause  error         // for the log, and contract problems
	Wait   time.Duration // of [Slowed]: when to try again
}

// Code classifies a [Problem].
type Code int

// The classes of problems. The HTTP surface maps each to a status.
const (
	Invalid Code = iota + 1
	Unauthenticated
	Forbidden
	NotFound
	Conflict
	Full       // there is no room for it
	Unreadable // it is in no form that is read
	Slowed     // too many tries
)

// Error returns what is wrong.
func (p *Problem) Error() string { return p.Detail }

// Unwrap returns the cause.
func (p *Problem) Unwrap() error { return p.Cause }

// NewProblem returns a problem. detail says what is wrong, with args as in [fmt.Sprintf]; next says what to do
// about it and may be empty.
func NewProblem(code Code, next, detail string, args ...any) *Problem {
	return &Problem{Code: code, Detail: fmt.Sprintf(detail, args...), Next: next}
}

// Found turns the store's ErrNotFound into a problem that names what was not found.
func Found(err error, what string, args ...any) error {
	if errors.Is(err, store.ErrNotFound) {
		return NewProblem(NotFound, "", "there is no "+what, args...)
	}
	return err
}

// InForce holds a service's contracts in force, parsed.
type InForce struct {
	Contracts *contract.Contracts // read
	Revision  store.Revision      // as it is kept
}

// noService is the problem for a service that does not exist.
func noService(name string) *Problem {
	return NewProblem(NotFound, "apply its contracts first: inkret contract apply PATH", "there is no service %q", name)
}

// Contracts returns the contracts in force of a service. It parses each revision once.
func (s *Base) Contracts(ctx context.Context, service string) (InForce, error) {
	revision, err := s.store.Revision(ctx, service)
	if err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return InForce{}, noService(service)
		}
		return InForce{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if f, ok := s.inForce[service]; ok && f.Revision.Number == revision.Number {
		return f, nil
	}
	contracts, err := contract.Read(ContractFiles(revision.Files)...)
	if err != nil {
		return InForce{}, fmt.Errorf("revision %d of the contracts of %s can no longer be read: %w", revision.Number,
			service, err)
	}
	f := InForce{contracts, revision}
	s.inForce[service] = f
	return f, nil
}

// ContractFiles converts files to what [contract.Read] takes.
func ContractFiles(files []store.ContractFile) []contract.File {
	out := make([]contract.File, len(files))
	for i, f := range files {
		out[i] = contract.File{Name: f.Name, Data: []byte(f.Text)}
	}
	return out
}
