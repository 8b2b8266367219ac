package notify

import (
	"context"

	"inkret/service/base"
	"inkret/store"
)

// Notices lists what who asks is told, newest first; fresh is how many are not read.
func (s *Notify) Notices(ctx context.Context, who base.Caller, unread bool,
	page store.Page) (all []store.Notice, total, fresh int, err error) {
	return s.store.Notices(ctx, who.ID, unread, page)
}

// ReadNotices marks what who asks was told as read, up to a notice and that included.
func (s *Notify) ReadNotices(ctx context.Context, who base.Caller, upTo int64) error {
	return s.store.ReadNotices(ctx, who.ID, upTo)
}
