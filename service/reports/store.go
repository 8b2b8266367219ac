package reports

import (
	"context"
	"time"

	"inkret/core/finding"
	"inkret/store"
)

// Records are the reads that pass straight through to the store.
type Records interface {
	// Results returns a page of results, newest first, and their total number.
	Results(ctx context.Context, service, line string, page store.Page) ([]store.Result, int, error)
}

// Store lists the store methods that this package needs.
type Store interface {
	Records
	AddResult(ctx context.Context, r store.Result, note store.Note[store.Result]) (store.Result, error)
	DropResult(ctx context.Context, id int64, entry store.TrailEntry) error
	EndpointNames(ctx context.Context, ids []string) (map[string]string, error)
	Events(ctx context.Context, finding string) ([]store.Event, error)
	FindingStates(ctx context.Context, ids []string) (map[string]string, error)
	Findings(ctx context.Context, by store.FindingFilter, page store.Page) ([]store.Finding, map[int]int, error)
	Keeping(ctx context.Context, service string) (store.Keeping, error)
	MainBefore(ctx context.Context, service string, id int64) (store.Result, error)
	ProofsOf(ctx context.Context, f store.Finding) ([]store.Proof, error)
	Proofs(ctx context.Context, by store.StandingFilter, since time.Time) ([]store.Proven, error)
	ResultByID(ctx context.Context, id int64) (store.Result, error)
	SecondPerson(ctx context.Context, service string) (needed bool, err error)
	SetMainLine(ctx context.Context, service string, line string, entry store.TrailEntry) error
	Turns(ctx context.Context, by store.StandingFilter) ([]store.Turn, error)
	Weights(ctx context.Context, by store.StandingFilter) ([]finding.Weighed, error)
	Worst(ctx context.Context, by store.StandingFilter, part string) ([]store.WorstOf, error)
	Written() int64
}
