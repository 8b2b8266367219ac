// Package base is what all rooms of the service stand on: the clock, the log, who may do what ([Caller], [Need]), what
// is told to whoever asked ([Problem]), entries of the trail, and the contracts in force. Its main type is [Base].
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

// Base is what all rooms of the service stand on. It is safe for concurrent use.
type Base struct {
	Records
	Now   func() time.Time // the clock
	Log   *slog.Logger     // told of what happens, never of values
	store Store

	mu      sync.Mutex // guards inForce
	inForce map[string]InForce
	noted   once
}

// New gives the base of a service over a store.
func New(st Store, now func() time.Time, log *slog.Logger) *Base {
	return &Base{Records: st, Now: now, Log: log, store: st, inForce: map[string]InForce{}}
}

// Problem is an error that is told to whoever asked. Its text holds no values of
// captures and no credentials.
type Problem struct {
	Code   Code          // the sort of it
	Detail string        // what is wrong, in words that people may read
	Next   string        // what to do next; may be empty
	Type   string        // what programs tell it by; mostly empty
	Cause  error         // for the log, and contract problems
	Wait   time.Duration // of [Slowed]: when to try again
}

// Code is the sort of a [Problem].
type Code int

// The sorts of problems; the HTTP surface gives each its status.
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

// Error gives what is wrong.
func (p *Problem) Error() string { return p.Detail }

// Unwrap gives the cause.
func (p *Problem) Unwrap() error { return p.Cause }

// NewProblem gives a problem of a sort: detail says what is wrong, with args as [fmt.Sprintf] takes them, and next what
// to do; next may be empty.
func NewProblem(code Code, next, detail string, args ...any) *Problem {
	return &Problem{Code: code, Detail: fmt.Sprintf(detail, args...), Next: next}
}

// Found turns the store's "not found" into a problem.
func Found(err error, what string, args ...any) error {
	if errors.Is(err, store.ErrNotFound) {
		return NewProblem(NotFound, "", "there is no "+what, args...)
	}
	return err
}

// InForce is the contracts in force of a service, read.
type InForce struct {
	Contracts *contract.Contracts // read
	Revision  store.Revision      // as it is kept
}

// noService is the problem of a service that nobody set up.
func noService(name string) *Problem {
	return NewProblem(NotFound, "apply its contracts first: inkret contract apply PATH", "there is no service %q", name)
}

// Contracts gives the contracts in force of a service.
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

// ContractFiles gives files as [contract.Read] takes them.
func ContractFiles(files []store.ContractFile) []contract.File {
	out := make([]contract.File, len(files))
	for i, f := range files {
		out[i] = contract.File{Name: f.Name, Data: []byte(f.Text)}
	}
	return out
}
