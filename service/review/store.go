package review

import (
	"context"
	"time"

	"inkret/store"
)

// Records are the reads that pass straight through to the store.
type Records interface {
	// Services lists the services under review.
	Services(ctx context.Context) ([]store.Service, error)
	// Revisions returns a page of revisions, newest first, and their total number. An empty service or state
	// matches all.
	Revisions(ctx context.Context, service string, state store.RevisionState, page store.Page) ([]store.Revision, int,
		error)
	// Endpoints returns a page of endpoints and their total number.
	Endpoints(ctx context.Context, by store.EndpointFilter, page store.Page) ([]store.Endpoint, int, error)
}

// Store lists the store methods that this package needs.
type Store interface {
	Records
	AddRequest(ctx context.Context, q store.Request, entry store.TrailEntry) (store.Request, error)
	AddRevision(ctx context.Context, v store.Revision, effect *store.Effect,
		note store.Note[store.Revision]) (store.Revision, error)
	AllEndpoints(ctx context.Context, service string) ([]store.Endpoint, error)
	Classings(ctx context.Context, service string) ([]store.Classing, error)
	CoverageTrend(ctx context.Context, service string, days int) ([]store.CoverageDay, error)
	Decide(ctx context.Context, v store.Revision, effect *store.Effect, entry store.TrailEntry) error
	DecideRequest(ctx context.Context, q store.Request, by int64, entry store.TrailEntry) error
	Endpoint(ctx context.Context, id string) (store.Endpoint, error)
	Exercised(ctx context.Context, service string) ([]store.Exercised, error)
	KeepCoverage(ctx context.Context, service string, day string, numbers map[string]int) error
	Kept(ctx context.Context, service string) ([]store.Kept, error)
	Leaks(ctx context.Context, service string) ([]store.Leak, error)
	MayBeExcepted(ctx context.Context, service string, endpoints []string) ([]store.Finding, error)
	OpenAmong(ctx context.Context, ids []string, least int) ([]store.Finding, error)
	Recorded(ctx context.Context, service string, endpoints []string, most int, f func(store.Capture) error) error
	RequestByID(ctx context.Context, id int64) (store.Request, error)
	Requests(ctx context.Context, by store.RequestFilter, page store.Page) (all []store.Request, total int, err error)
	Revision(ctx context.Context, service string) (store.Revision, error)
	RevisionNumber(ctx context.Context, service string, number int) (store.Revision, error)
	SecondPerson(ctx context.Context, service string) (needed bool, err error)
	SetExcepted(ctx context.Context, reasons map[string]string, author string, at time.Time) error
	Shown(ctx context.Context, service string) ([]store.Shown, error)
}
