// Package service holds the use cases and who may do them. It is the one place
// where the core, the store, the clock and randomness meet.
package service

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

// Problem is an error that is told to whoever asked. Its text holds no values of
// captures and no credentials.
type Problem struct {
	Code   Code
	Detail string
	Next   string        // what to do next; may be empty
	Type   string        // what programs tell it by; mostly empty
	Cause  error         // for the log, and contract problems
	Wait   time.Duration // of [Slowed]: when to try again
}

// Code is the sort of a [Problem].
type Code int

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

func (p *Problem) Error() string { return p.Detail }
func (p *Problem) Unwrap() error { return p.Cause }

func problem(code Code, next, detail string, args ...any) *Problem {
	return &Problem{Code: code, Detail: fmt.Sprintf(detail, args...), Next: next}
}

// found turns the store's "not found" into a problem.
func found(err error, what string, args ...any) error {
	if errors.Is(err, store.ErrNotFound) {
		return problem(NotFound, "", "there is no "+what, args...)
	}
	return err
}

// Service is the use cases over one data folder. It is safe for concurrent use.
type Service struct {
	store *store.Store
	vault *vault
	print func(value []byte) uint64 // a keyed hash
	now   func() time.Time
	log   *slog.Logger

	mu      sync.Mutex // guards inForce, growing and standings
	inForce map[string]inForce
	flows   flowCache
	growing map[int64]*liveBatch // that recorders add to
	tries   tries
	hasher  *hasher
	noted   once
	rates   rates
	backups BackupPlan // set before Run
	// revocation is closed at the next change of somebody's sessions, tokens or roles; guarded by mu
	revocation chan struct{}

	standings map[stood]Standing // as long as stoodAt is the last event
	stoodAt   int64
	hub       hub

	mail       Sender // nil: there is no mail server
	digestHour int
	openid     OpenID // nil: there is no provider to sign in with
	issuer     string
	public     string // where people reach it, without a slash at its end; set before Run
}

// inForce is the contracts in force of a service, read.
type inForce struct {
	contracts *contract.Contracts
	revision  store.Revision
}

// Options are what a service needs from outside.
type Options struct {
	Dir string           // the data folder
	Now func() time.Time // the clock; time.Now when nil
	Log *slog.Logger     // told of what happens, never of values; discarded when nil
	// MaxDisk bounds the database, in bytes; 0 is no bound.
	MaxDisk int64
	// Mail sends mail; nil is none. Digests are sent from DigestHour on, UTC.
	Mail       Sender
	DigestHour int
}

// Open opens a data folder and the key that its captures are encrypted with.
// Close it when done.
func Open(ctx context.Context, o Options) (*Service, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	st, err := store.Open(ctx, o.Dir)
	if err != nil {
		return nil, err
	}
	s := &Service{store: st, now: o.Now, log: o.Log, inForce: map[string]inForce{}, growing: map[int64]*liveBatch{},
		hasher: newHasher(), revocation: make(chan struct{}), mail: o.Mail, digestHour: o.DigestHour}
	if err := st.Limit(ctx, o.MaxDisk); err != nil {
		st.Close()
		return nil, err
	}
	if s.vault, err = openVault(ctx, o.Dir, st); err != nil {
		st.Close()
		return nil, err
	}
	if err := s.beginSettings(ctx); err != nil {
		st.Close()
		return nil, err
	}
	if s.print, err = s.printer(ctx); err != nil {
		st.Close()
		return nil, err
	}
	return s, nil
}

// Close closes the data folder.
func (s *Service) Close() error { return s.store.Close() }

// noService is the problem of a service that nobody set up.
func noService(name string) *Problem {
	return problem(NotFound, "apply its contracts first: inkret contract apply PATH", "there is no service %q", name)
}

// contracts gives the contracts in force of a service.
func (s *Service) contracts(ctx context.Context, service string) (inForce, error) {
	revision, err := s.store.Revision(ctx, service)
	if err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return inForce{}, noService(service)
		}
		return inForce{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if f, ok := s.inForce[service]; ok && f.revision.Number == revision.Number {
		return f, nil
	}
	contracts, err := contract.Read(contractFiles(revision.Files)...)
	if err != nil {
		return inForce{}, fmt.Errorf("revision %d of the contracts of %s can no longer be read: %w", revision.Number,
			service, err)
	}
	f := inForce{contracts, revision}
	s.inForce[service] = f
	return f, nil
}

func contractFiles(files []store.ContractFile) []contract.File {
	out := make([]contract.File, len(files))
	for i, f := range files {
		out[i] = contract.File{Name: f.Name, Data: []byte(f.Text)}
	}
	return out
}
