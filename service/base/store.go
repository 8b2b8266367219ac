package base

import (
	"context"

	"inkret/store"
)

// Records are the reads that pass straight through to the store.
type Records interface {
	// Trail returns a page of trail entries and their total number.
	Trail(ctx context.Context, by store.TrailFilter, page store.Page) ([]store.TrailEntry, int, error)
	// VerifyTrail checks the hash chain of the trail. It returns the number of entries and the last hash, or an
	// error that says where the trail was changed.
	VerifyTrail(ctx context.Context) (int, string, error)
}

// Store lists the store methods that this package needs.
type Store interface {
	Records
	AddTrail(ctx context.Context, t store.TrailEntry) error
	PersonByEmail(ctx context.Context, email string) (store.Person, error)
	PersonByID(ctx context.Context, id int64) (store.Person, error)
	Revision(ctx context.Context, service string) (store.Revision, error)
	ServiceOf(ctx context.Context, what string, id string) (name string, err error)
}
