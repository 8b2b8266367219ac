package service

import (
	"context"
	"log/slog"
	"time"

	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/findings"
	"inkret/service/notify"
	"inkret/service/people"
	"inkret/service/review"
	"inkret/service/vault"
	"inkret/store"
)

// ErrInUse is returned by [Open] when another process has the data folder open.
var ErrInUse = store.ErrInUse

// Service is the use cases over one data folder. It is safe for concurrent use.
type Service struct {
	Base     *base.Base
	People   *people.People
	Review   *review.Review
	Evidence *evidence.Evidence
	Findings *findings.Findings
	Notify   *notify.Notify

	store   *store.Store
	vault   *vault.Vault
	backups BackupPlan // set before Run
}

// Options are what a service needs from outside.
type Options struct {
	Dir string           // the data folder
	Now func() time.Time // the clock; time.Now when nil
	Log *slog.Logger     // told of what happens, never of values; discarded when nil
	// MaxDisk bounds the database, in bytes; 0 is no bound.
	MaxDisk int64
	// Mail sends mail; nil is none. Digests are sent from DigestHour on, UTC.
	Mail       notify.Sender
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
	s := &Service{store: st, Base: base.New(st, o.Now, o.Log)}
	if err := s.furnish(ctx, o); err != nil {
		st.Close()
		return nil, err
	}
	return s, nil
}

// furnish opens the vault and the rooms.
func (s *Service) furnish(ctx context.Context, o Options) (err error) {
	if err := s.store.Limit(ctx, o.MaxDisk); err != nil {
		return err
	}
	if s.vault, err = vault.Open(ctx, o.Dir, s.store); err != nil {
		return err
	}
	print, err := s.vault.Printer(ctx, s.store)
	if err != nil {
		return err
	}
	s.People = people.New(s.Base, s.store, s.vault)
	s.Review = review.New(s.Base, s.store, s.vault)
	s.Evidence = evidence.New(s.Base, s.store, s.vault, s.Review, print)
	s.Findings = findings.New(s.Base, s.store, s.Review)
	s.Notify = notify.New(s.Base, s.store, s.vault, s.Findings, o.Mail, o.DigestHour)
	return s.Findings.BeginSettings(ctx)
}

// Close closes the data folder.
func (s *Service) Close() error { return s.store.Close() }
