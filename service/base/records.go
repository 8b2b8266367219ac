package base

import (
	"inkret/store"
)

// The records that use cases take and return. They are aliases of the store's types, so that callers of the service
// need no import of the store.
type (
	Batch          = store.Batch
	Capture        = store.Capture
	CaptureFilter  = store.CaptureFilter
	Credentials    = store.Credentials
	KeepingTime    = store.Keeping
	TrailEntry     = store.TrailEntry
	Asking         = store.Asking
	TrailFilter    = store.TrailFilter
	ContractFile   = store.ContractFile
	Classing       = store.Classing
	CoverageDay    = store.CoverageDay
	Endpoint       = store.Endpoint
	EndpointFilter = store.EndpointFilter
	Event          = store.Event
	Finding        = store.Finding
	StandingChange = store.Change
	Refused        = store.Refused
	Notice         = store.Notice
	Hook           = store.Hook
	Delivery       = store.Delivery
	Mail           = store.Mail
	LabelCount     = store.LabelCount
	View           = store.View
	Request        = store.Request
	RequestFilter  = store.RequestFilter
	FindingFilter  = store.FindingFilter
	Key            = store.Key
	Occurrence     = store.Occurrence
	Watch          = store.Watch
	WatchCaller    = store.WatchCaller
	WatchRun       = store.WatchRun
	Proof          = store.Proof
	Page           = store.Page
	Person         = store.Person
	Revision       = store.Revision
	RevisionState  = store.RevisionState
	Result         = store.Result
	ReviewedAPI    = store.Service
	SkipReason     = store.SkipReason
	StandingFilter = store.StandingFilter
	Words          = store.Words
)

// Waiting is the state of revisions that wait for a second person's approval.
const Waiting = store.Waiting

// Whether a person follows something.
const (
	Follows = store.Follows
	Ignores = store.Ignores
)

// ErrFull marks errors caused by a full disk or database.
var ErrFull = store.ErrFull

// ErrTampered is returned when the trail was changed afterwards.
var ErrTampered = store.ErrTampered
