package httpapi

import (
	"context"
	"time"

	"inkret/service/base"
)

// GetMailing implements [StrictServerInterface].
func (h *notifyHandlers) GetMailing(ctx context.Context, _ GetMailingRequestObject) (GetMailingResponseObject, error) {
	return GetMailing200JSONResponse{When: Mailed(callerOf(ctx).Mail), Server: h.service.Notify.HasMail(),
		DigestHour: h.service.Notify.DigestHour()}, nil
}

// SetMailing implements [StrictServerInterface].
func (h *notifyHandlers) SetMailing(ctx context.Context, r SetMailingRequestObject) (SetMailingResponseObject, error) {
	return SetMailing204Response{}, h.service.Notify.SetMail(ctx, callerOf(ctx), string(r.Body.When))
}

// TestMail implements [StrictServerInterface].
func (h *notifyHandlers) TestMail(ctx context.Context, _ TestMailRequestObject) (TestMailResponseObject, error) {
	return TestMail204Response{}, h.service.Notify.TestMail(ctx, callerOf(ctx))
}

// ListMails implements [StrictServerInterface].
func (h *notifyHandlers) ListMails(ctx context.Context, r ListMailsRequestObject) (ListMailsResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Notify.Mails(ctx, page)
	return ListMails200JSONResponse{Total: total, Page: page.Number, Size: page.Size,
		Items: each(all, func(m base.Mail) SentMail {
			return SentMail{ID: m.ID, Person: m.Person, To: m.To, Subject: m.Subject, Text: m.Text, Made: m.Made,
				Tries: m.Tries, State: SentMailState(stateOfDelivery(m.Done, m.Next)),
				Next: someTime(m.Next), Taken: someTime(m.Done), Said: some(m.Said)}
		})}, err
}

// MailAgain implements [StrictServerInterface].
func (h *notifyHandlers) MailAgain(ctx context.Context, r MailAgainRequestObject) (MailAgainResponseObject, error) {
	return MailAgain204Response{}, h.service.Notify.MailAgain(ctx, callerOf(ctx), r.MailID)
}

// stateOfDelivery says how it stands with what was taken at one time, or is tried at another.
func stateOfDelivery(done, next time.Time) string {
	switch {
	case !done.IsZero():
		return "taken"
	case !next.IsZero():
		return "waiting"
	}
	return "given up"
}

// FollowView implements [StrictServerInterface].
func (h *notifyHandlers) FollowView(ctx context.Context, r FollowViewRequestObject) (FollowViewResponseObject, error) {
	return FollowView204Response{}, h.service.Notify.FollowView(ctx, callerOf(ctx), r.ViewID, true)
}

// UnfollowView implements [StrictServerInterface].
func (h *notifyHandlers) UnfollowView(ctx context.Context, r UnfollowViewRequestObject) (UnfollowViewResponseObject, error) {
	return UnfollowView204Response{}, h.service.Notify.FollowView(ctx, callerOf(ctx), r.ViewID, false)
}
