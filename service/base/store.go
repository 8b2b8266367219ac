package base

import (
	"context"

	"inkret/store"
)

// Store is what this room needs of the records.
type Store interface {
	AddTrail(ctx context.Context, t store.TrailEntry) error
	PersonByEmail(ctx context.Context, email string) (store.Person, error)
	PersonByID(ctx context.Context, id int64) (store.Person, error)
	Revision(ctx context.Context, service string) (store.Revision, error)
	ServiceOf(ctx context.Context, what string, id string) (name string, err error)
	Trail(ctx context.Context, by store.TrailFilter, page store.Page) ([]store.TrailEntry, int, error)
	VerifyTrail(ctx context.Context) (entries int, last string, err error)
}
