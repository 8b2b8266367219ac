package notify

import (
	"context"
	"time"

	"inkret/store"
)

// Records are the reads that pass straight through to the store.
type Records interface {
	// Hooks lists all webhooks.
	Hooks(ctx context.Context) ([]store.Hook, error)
	// Mails returns a page of mails, newest first, and their total number.
	Mails(ctx context.Context, page store.Page) ([]store.Mail, int, error)
}

// Store lists the store methods that this package needs.
type Store interface {
	Records
	AddDeliveries(ctx context.Context, hook int64, lastEvent int64, all []store.Delivery, entry store.TrailEntry) error
	AddHook(ctx context.Context, h store.Hook, entry store.TrailEntry) (store.Hook, error)
	AddMail(ctx context.Context, m store.Mail, mailed int64, digest string) error
	BehindViews(ctx context.Context) ([]store.ViewFollow, error)
	Deliveries(ctx context.Context, hook int64, page store.Page) (all []store.Delivery, total int, err error)
	DropDeliveries(ctx context.Context, before time.Time) error
	DropHook(ctx context.Context, id int64, entry store.TrailEntry) error
	DropMails(ctx context.Context, before time.Time) error
	DueDeliveries(ctx context.Context, now time.Time, limit int) ([]store.Delivery, error)
	DueMails(ctx context.Context, now time.Time, limit int) ([]store.Mail, error)
	DueOf(ctx context.Context, person int64, upTo string, limit int) ([]store.Finding, error)
	Findings(ctx context.Context, by store.FindingFilter, page store.Page) ([]store.Finding, map[int]int, error)
	FollowView(ctx context.Context, person int64, view int64, on store.Following) error
	HappenedAfter(ctx context.Context, after int64, limit int) ([]store.Happened, error)
	HookByID(ctx context.Context, id int64) (store.Hook, error)
	LastEvent(ctx context.Context) (event int64, err error)
	MailAgain(ctx context.Context, id int64, now time.Time, entry store.TrailEntry) error
	MailTried(ctx context.Context, m store.Mail) error
	Notices(ctx context.Context, person int64, unread bool, page store.Page) (all []store.Notice, total int, fresh int,
		err error)
	NoticesAfter(ctx context.Context, person int64, after int64, limit int) (all []store.Notice, total int, last int64,
		err error)
	People(ctx context.Context) ([]store.Person, error)
	ReadNotices(ctx context.Context, person int64, upTo int64) error
	ResealHook(ctx context.Context, id int64, sealed []byte) error
	SetMail(ctx context.Context, person int64, when string, entry store.TrailEntry) error
	ToldOfView(ctx context.Context, v store.ViewFollow, last int64, n *store.Notice) error
	Tried(ctx context.Context, d store.Delivery) error
	TryAgain(ctx context.Context, id int64, now time.Time, entry store.TrailEntry) error
}
