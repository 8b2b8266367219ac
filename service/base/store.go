package base

import (
	"context"

	"inkret/store"
)

// Records are handed out as they are kept.
type Records interface {
	// Trail lists a page of the trail.
	Trail(ctx context.Context, by store.TrailFilter, page store.Page) ([]store.TrailEntry, int, error)
	// VerifyTrail goes over the trail; the error says where it was tampered with.
	VerifyTrail(ctx context.Context) (int, string, error)
}

// Store is what this room needs of the records.
type Store interface {
	Records
	AddTrail(ctx context.Context, t store.TrailEntry) error
	PersonByEmail(ctx context.Context, email string) (store.Person, error)
	PersonByID(ctx context.Context, id int64) (store.Person, error)
	Revision(ctx context.Context, service string) (store.Revision, error)
	ServiceOf(ctx context.Context, what string, id string) (name string, err error)
}
