package evidence

import (
	"context"
	"time"

	"inkret/core/finding"
	"inkret/store"
)

// Records are the reads that pass straight through to the store.
type Records interface {
	// Batches returns a page of batches and their total number.
	Batches(ctx context.Context, page store.Page) ([]store.Batch, int, error)
	// Captures returns a page of captures and their total number.
	Captures(ctx context.Context, by store.CaptureFilter, page store.Page) (all []store.Capture, total int, more bool,
		err error)
	// SecondPerson reports whether severe decisions at a service need a second person.
	SecondPerson(ctx context.Context, service string) (bool, error)
}

// Store lists the store methods that this package needs.
type Store interface {
	Records
	AddTrail(ctx context.Context, t store.TrailEntry) error
	AllCredentials(ctx context.Context, service string) ([]store.Credentials, error)
	AllowServer(ctx context.Context, service string, a store.AllowedServer, t store.TrailEntry) error
	AllowedServers(ctx context.Context, service string) ([]store.AllowedServer, error)
	Ask(ctx context.Context, service string, finding string, a store.Asking, entry store.TrailEntry) error
	AskingOf(ctx context.Context, batch int64) (store.Asking, error)
	Awaiting(ctx context.Context, service string) ([]store.Finding, error)
	Batch(ctx context.Context, id int64) (store.Batch, error)
	Begin(ctx context.Context, b store.Batch) (*store.Intake, error)
	Capture(ctx context.Context, id int64) (store.Capture, error)
	Prove(ctx context.Context, b store.Batch, covered map[string]finding.Covered, at time.Time) error
	Moved(ctx context.Context, batch int64) (bool, error)
	Unlooked(ctx context.Context) (map[int64][]store.Finding, error)
	ShownBy(ctx context.Context, batch int64, finding string) (bool, error)
	Doubt(ctx context.Context, id string, batch int64, why string, c finding.Covered) error
	Uncalled(ctx context.Context) ([]store.Capture, error)
	Call(ctx context.Context, calls map[int64]int64) error
	// All lists the watches of a service, or of all services.
	All(ctx context.Context, service string) ([]store.Watch, error)
	DueWatches(ctx context.Context, now time.Time) ([]store.Watch, error)
	Watch(ctx context.Context, id int64) (store.Watch, error)
	SetWatch(ctx context.Context, w store.Watch, calls []store.Capture, entry store.Note[store.Watch]) (store.Watch,
		error)
	WatchCalls(ctx context.Context, watch int64) ([]store.Capture, error)
	RemoveWatch(ctx context.Context, id int64, entry store.TrailEntry) error
	PutOffWatch(ctx context.Context, id int64, next time.Time) error
	RanWatch(ctx context.Context, w store.Watch, run store.WatchRun, next time.Time) error
	WatchRuns(ctx context.Context, watch int64, limit int) ([]store.WatchRun, error)
	WorthWatching(ctx context.Context, service string, most int) ([]store.Capture, error)
	Quiet(ctx context.Context, since time.Time) ([]store.Batch, error)
	CloseBatch(ctx context.Context, batch int64, dropped int, note store.Note[int]) (closed bool, err error)
	DropAsking(ctx context.Context, batch int64, entry store.TrailEntry) error
	EachOf(ctx context.Context, batch int64, f func(store.Capture) error) error
	EmptyBatch(ctx context.Context, batch int64) error
	Essential(ctx context.Context, do func() error) error
	Extend(ctx context.Context, b store.Batch, captures []store.Rejudged, e store.Evidence) (store.Batch,
		[]store.Rejudged, error)
	ForbidServer(ctx context.Context, service string, server string, t store.TrailEntry) error
	Grown(ctx context.Context, batch int64) (map[string]int, error)
	Keeping(ctx context.Context, service string) (store.Keeping, error)
	OpenBatch(ctx context.Context, b store.Batch, note store.Note[store.Batch]) (store.Batch, error)
	PurgeSamples(ctx context.Context, note store.Note[int]) (int, error)
	Purgeable(ctx context.Context, now time.Time, most int) ([]store.Capture, error)
	Rejudge(ctx context.Context, b store.Batch, captures []store.Rejudged, e store.Evidence, by store.Event,
		entries ...store.TrailEntry) (store.Batch, error)
	Reseal(ctx context.Context, captures []store.Capture) error
	Scrub(ctx context.Context) error
	SetCredentials(ctx context.Context, service string, c store.Credentials, t store.TrailEntry) error
	SetKeeping(ctx context.Context, service string, k store.Keeping, t store.TrailEntry) error
	SetSecondPerson(ctx context.Context, service string, needed bool, entry store.TrailEntry) error
	TakenOff(ctx context.Context, batch int64, keep []string, least int) ([]store.Finding, error)
	Withdraw(ctx context.Context, batch int64, author string, at time.Time, entries ...store.TrailEntry) error
	WithdrawalOf(ctx context.Context, batch int64) (store.OnlyHere, error)
}
