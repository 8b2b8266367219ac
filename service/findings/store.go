package findings

import (
	"context"
	"time"

	"inkret/store"
)

// Records are the reads that pass straight through to the store.
type Records interface {
	// Labels lists the labels in use.
	Labels(ctx context.Context) ([]store.LabelCount, error)
	// Findings returns a page of findings and the number of all matches by severity.
	Findings(ctx context.Context, by store.FindingFilter, page store.Page) ([]store.Finding, map[int]int, error)
}

// Store lists the store methods that this package needs.
type Store interface {
	Records
	AddView(ctx context.Context, v store.View, entry store.TrailEntry) (store.View, error)
	Batches(ctx context.Context, page store.Page) ([]store.Batch, int, error)
	Beside(ctx context.Context, f store.Finding) ([]store.Finding, error)
	ChangeFindings(ctx context.Context, c *store.Change, ids []string, become func(was store.Standing) (store.Standing,
		string), entries func(*store.Change) []store.TrailEntry) (refused []store.Refused, err error)
	Changes(ctx context.Context, limit int) ([]store.Change, error)
	Comment(ctx context.Context, id string, e store.Event, mentioned []int64, entry store.TrailEntry) error
	DropView(ctx context.Context, id int64, person int64, entry store.TrailEntry) error
	Elsewhere(ctx context.Context, f store.Finding, limit int) ([]store.Finding, error)
	EndWaivers(ctx context.Context, today string, at time.Time) (ended int, err error)
	Endpoints(ctx context.Context, by store.EndpointFilter, page store.Page) ([]store.Endpoint, int, error)
	Events(ctx context.Context, finding string) ([]store.Event, error)
	Finding(ctx context.Context, id string) (store.Finding, error)
	FindingIDs(ctx context.Context, by store.FindingFilter, limit int) ([]string, error)
	Follow(ctx context.Context, person int64, finding string, on store.Following) error
	Follows(ctx context.Context, person int64, finding string) (bool, error)
	Groups(ctx context.Context, by store.FindingFilter, part string) ([]store.Group, error)
	Notices(ctx context.Context, person int64, unread bool, page store.Page) (all []store.Notice, total int, fresh int,
		err error)
	Occurrences(ctx context.Context, finding string, limit int) ([]store.Occurrence, error)
	People(ctx context.Context) ([]store.Person, error)
	Requests(ctx context.Context, by store.RequestFilter, page store.Page) (all []store.Request, total int, err error)
	Revisions(ctx context.Context, service string, state store.RevisionState, page store.Page) ([]store.Revision, int,
		error)
	SameValue(ctx context.Context, f store.Finding, limit int) ([]store.Finding, error)
	ProofsOf(ctx context.Context, f store.Finding) ([]store.Proof, error)
	SecondPerson(ctx context.Context, service string) (needed bool, err error)
	Services(ctx context.Context) ([]store.Service, error)
	SetSetting(ctx context.Context, entry store.TrailEntry, name string, value string) error
	Setting(ctx context.Context, name string) (string, error)
	StateCounts(ctx context.Context) (map[string]int, error)
	Undo(ctx context.Context, id int64, by store.Event, may func(service string) string,
		entry store.TrailEntry) (undone int, left []store.Refused, err error)
	Views(ctx context.Context, person int64) ([]store.View, error)
	WaiversEnding(ctx context.Context, day string) (n int, err error)
}
