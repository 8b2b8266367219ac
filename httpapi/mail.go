package httpapi

import (
	"context"
	"time"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/service/base"
)

// GetMailing implements [serve.StrictServerInterface].
func (h *notifyHandlers) GetMailing(ctx context.Context,
	_ serve.GetMailingRequestObject) (serve.GetMailingResponseObject, error) {
	return serve.GetMailing200JSONResponse{When: wire.Mailed(callerOf(ctx).Mail), Server: h.service.Notify.HasMail(),
		DigestHour: h.service.Notify.DigestHour()}, nil
}

// SetMailing implements [serve.StrictServerInterface].
func (h *notifyHandlers) SetMailing(ctx context.Context,
	r serve.SetMailingRequestObject) (serve.SetMailingResponseObject, error) {
	return serve.SetMailing204Response{}, h.service.Notify.SetMail(ctx, callerOf(ctx), string(r.Body.When))
}

// TestMail implements [serve.StrictServerInterface].
func (h *notifyHandlers) TestMail(ctx context.Context,
	_ serve.TestMailRequestObject) (serve.TestMailResponseObject, error) {
	return serve.TestMail204Response{}, h.service.Notify.TestMail(ctx, callerOf(ctx))
}

// ListMails implements [serve.StrictServerInterface].
func (h *notifyHandlers) ListMails(ctx context.Context,
	r serve.ListMailsRequestObject) (serve.ListMailsResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Notify.Mails(ctx, page)
	return serve.ListMails200JSONResponse{Total: total, Page: page.Number, Size: page.Size,
		Items: each(all, func(m base.Mail) wire.SentMail {
			return wire.SentMail{ID: m.ID, Person: m.Person, To: m.To, Subject: m.Subject, Text: m.Text, Made: m.Made,
				Tries: m.Tries, State: wire.SentMailState(stateOfDelivery(m.Done, m.Next)),
				Next: someTime(m.Next), Taken: someTime(m.Done), Said: some(m.Said)}
		})}, err
}

// MailAgain implements [serve.StrictServerInterface].
func (h *notifyHandlers) MailAgain(ctx context.Context,
	r serve.MailAgainRequestObject) (serve.MailAgainResponseObject, error) {
	return serve.MailAgain204Response{}, h.service.Notify.MailAgain(ctx, callerOf(ctx), r.MailID)
}

// stateOfDelivery describes whether a delivery was accepted, waits for its next attempt, or was given up.
func stateOfDelivery(done, next time.Time) string {
	switch {
	case !done.IsZero():
		return "taken"
	case !next.IsZero():
		return "waiting"
	}
	return "given up"
}

// FollowView implements [serve.StrictServerInterface].
func (h *notifyHandlers) FollowView(ctx context.Context,
	r serve.FollowViewRequestObject) (serve.FollowViewResponseObject, error) {
	return serve.FollowView204Response{}, h.service.Notify.FollowView(ctx, callerOf(ctx), r.ViewID, base.Follows)
}

// UnfollowView implements [serve.StrictServerInterface].
func (h *notifyHandlers) UnfollowView(ctx context.Context,
	r serve.UnfollowViewRequestObject) (serve.UnfollowViewResponseObject, error) {
	return serve.UnfollowView204Response{}, h.service.Notify.FollowView(ctx, callerOf(ctx), r.ViewID, base.Ignores)
}
