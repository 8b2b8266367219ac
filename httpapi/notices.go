package httpapi

import (
	"context"

	"inkret/service/base"
)

// ListNotices implements [StrictServerInterface].
func (h *notifyHandlers) ListNotices(ctx context.Context, r ListNoticesRequestObject) (ListNoticesResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, fresh, err := h.service.Notify.Notices(ctx, callerOf(ctx), value(r.Params.Unread), page)
	return ListNotices200JSONResponse{Total: total, Page: page.Number, Size: page.Size, Unread: fresh,
		Items: each(all, func(n base.Notice) Notice {
			return Notice{ID: n.ID, At: n.At, Kind: NoticeKind(n.Kind), Author: n.Author, FindingID: some(n.FindingID),
				Finding: some(n.Finding), RequestID: some(n.RequestID), Service: some(n.Service),
				Revision: some(n.Revision), More: some(n.More), View: some(n.View), Text: n.Text, Read: n.Read}
		})}, err
}

// ReadNotices implements [StrictServerInterface].
func (h *notifyHandlers) ReadNotices(ctx context.Context, r ReadNoticesRequestObject) (ReadNoticesResponseObject, error) {
	return ReadNotices204Response{}, h.service.Notify.ReadNotices(ctx, callerOf(ctx), r.Body.UpTo)
}
