package httpapi

import (
	"context"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/service/base"
)

// ListNotices implements [serve.StrictServerInterface].
func (h *notifyHandlers) ListNotices(ctx context.Context,
	r serve.ListNoticesRequestObject) (serve.ListNoticesResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, fresh, err := h.service.Notify.Notices(ctx, callerOf(ctx), value(r.Params.Unread), page)
	return serve.ListNotices200JSONResponse{Total: total, Page: page.Number, Size: page.Size, Unread: fresh,
		Items: each(all, func(n base.Notice) wire.Notice {
			return wire.Notice{ID: n.ID, At: n.At, Kind: wire.NoticeKind(n.Kind), Author: n.Author,
				FindingID: some(n.FindingID),
				Finding:   some(n.Finding), RequestID: some(n.RequestID), Service: some(n.Service),
				Revision: some(n.Revision), More: some(n.More), View: some(n.View), Text: n.Text, Read: n.Read}
		})}, err
}

// ReadNotices implements [serve.StrictServerInterface].
func (h *notifyHandlers) ReadNotices(ctx context.Context,
	r serve.ReadNoticesRequestObject) (serve.ReadNoticesResponseObject, error) {
	return serve.ReadNotices204Response{}, h.service.Notify.ReadNotices(ctx, callerOf(ctx), r.Body.UpTo)
}
