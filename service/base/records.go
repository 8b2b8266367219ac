package base

import (
	"inkret/store"
)

// The records that use cases take and give. They are the store's; whoever calls
// the service needs to know this package only.
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

// Waiting is the state of revisions that wait for a second person.
const Waiting = store.Waiting

// Whether somebody is told of what becomes of something.
const (
	Follows = store.Follows
	Ignores = store.Ignores
)

// ErrFull marks what failed for want of room.
var ErrFull = store.ErrFull

// ErrTampered is returned for a trail that was changed afterwards.
var ErrTampered = store.ErrTampered
