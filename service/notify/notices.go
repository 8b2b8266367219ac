package notify

import (
	"context"

	"inkret/service/base"
	"inkret/store"
)

// Notices returns a page of the caller's notifications, newest first, their total number, and how many are unread.
func (s *Notify) Notices(ctx context.Context, who base.Caller, unread bool,
	page store.Page) (all []store.Notice, total, fresh int, err error) {
	return s.store.Notices(ctx, who.ID, unread, page)
}

// ReadNotices marks the caller's notifications as read, up to and including upTo.
func (s *Notify) ReadNotices(ctx context.Context, who base.Caller, upTo int64) error {
	return s.store.ReadNotices(ctx, who.ID, upTo)
}
