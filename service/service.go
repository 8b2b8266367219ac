// Package service holds the use cases of the service: what people and programs may ask of it. Each part of people's
// work is a room, a package below this one; they stand on package base and know the records through a Store interface
// of their own.
//
// A [Service] is opened on a data folder, holds one of each room, and does what is due from time to time in
// [Service.Run].
package service

import (
	"context"
	"log/slog"
	"time"

	"inkret/service/base"
	"inkret/service/begin"
	"inkret/service/evidence"
	"inkret/service/findings"
	"inkret/service/notify"
	"inkret/service/people"
	"inkret/service/reports"
	"inkret/service/review"
	"inkret/service/vault"
	"inkret/store"
)

// ErrInUse is returned by [Open] if another process has the data folder open.
var ErrInUse = store.ErrInUse

// Service holds the use cases over one data folder. It is safe for concurrent use.
type Service struct {
	Base     *base.Base         // what all rooms stand on
	People   *people.People     // who may come in
	Review   *review.Review     // contracts, and what they say
	Begin    *begin.Begin       // how services come under review
	Evidence *evidence.Evidence // captures
	Findings *findings.Findings // findings
	Reports  *reports.Reports   // how it stands
	Notify   *notify.Notify     // how people are told

	store   *store.Store
	vault   *vault.Vault
	backups BackupPlan // set before Run
}

// Aliases under which rooms embed the store's parts, so that no field hides a method of the same name.
type (
	database  = store.Database
	persons   = store.People
	contracts = store.Contracts
	captures  = store.Captures
	proofs    = store.Proofs
	watches   = store.Watches
	found     = store.Findings
	notices   = store.Notices
)

// Options configure a service.
type Options struct {
	Dir string           // the data folder
	Now func() time.Time // the clock; time.Now when nil
	Log *slog.Logger     // told of what happens, never of values; discarded when nil
	// MaxDisk limits the size of the database, in bytes; 0 = no limit.
	MaxDisk int64
	// Mail sends mail; nil = no mail. Digests are sent from DigestHour on, in UTC.
	Mail       notify.Sender
	DigestHour int // in UTC
}

// Open opens a data folder and its encryption key. The caller must close the service.
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
	s := &Service{store: st, Base: base.New(struct {
		*database
		*persons
		*contracts
	}{st.Database, st.People, st.Contracts}, o.Now, o.Log)}
	if err := s.furnish(ctx, o); err != nil {
		st.Close()
		return nil, err
	}
	return s, nil
}

// furnish opens the vault and creates the rooms.
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
	st := s.store
	s.People = people.New(s.Base, struct {
		*database
		*persons
		*captures
	}{st.Database, st.People, st.Captures}, s.vault)
	s.Review = review.New(s.Base, struct {
		*contracts
		*captures
	}{st.Contracts, st.Captures}, s.vault)
	s.Begin = begin.New(s.Base, st.Drafts, s.vault, s.Review)
	s.Evidence = evidence.New(s.Base, struct {
		*database
		*captures
		*found
		*proofs
		*watches
	}{st.Database, st.Captures, st.Findings, st.Proofs, st.Watches}, s.vault, s.Review, print)
	s.Findings = findings.New(s.Base, struct {
		*database
		*persons
		*contracts
		*captures
		*found
		*notices
		*proofs
	}{st.Database, st.People, st.Contracts, st.Captures, st.Findings, st.Notices, st.Proofs}, s.Review)
	s.Reports = reports.New(s.Base, struct {
		*database
		*captures
		*found
		*proofs
	}{st.Database, st.Captures, st.Findings, st.Proofs}, s.Review, s.Findings)
	s.mailBy(o.Mail, o.DigestHour)
	return s.Findings.BeginSettings(ctx)
}

// mailBy creates the room that notifies people. mail is nil without a mail server.
func (s *Service) mailBy(mail notify.Sender, digestHour int) {
	s.Notify = notify.New(s.Base, struct {
		*persons
		*found
		*notices
	}{s.store.People, s.store.Findings, s.store.Notices}, s.vault, s.Findings, mail, digestHour)
}

// Close closes the data folder.
func (s *Service) Close() error { return s.store.Close() }
