package httpapi

import (
	"context"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/service/base"
	"inkret/service/review"
)

// ListRequests implements [serve.StrictServerInterface].
func (h *reviewHandlers) ListRequests(ctx context.Context,
	r serve.ListRequestsRequestObject) (serve.ListRequestsResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	who := callerOf(ctx)
	by := base.RequestFilter{Service: value(r.Params.Service), Endpoint: value(r.Params.Endpoint),
		States: list(r.Params.State)}
	if len(by.States) == 0 {
		by.States = []string{review.RequestOpen}
	}
	for _, s := range by.States {
		if s == "any" {
			by.States = nil
		} else if !wire.RequestState(s).Valid() {
			return nil, invalid("a request has no state " + s)
		}
	}
	if value(r.Params.Mine) {
		by.Person = who.ID
	}
	all, total, err := h.service.Review.Requests(ctx, by, page)
	return serve.ListRequests200JSONResponse{Total: total, Page: page.Number, Size: page.Size,
		Items: each(all, requestOf(who.ID))}, err
}

// AskForField implements [serve.StrictServerInterface].
func (h *reviewHandlers) AskForField(ctx context.Context,
	r serve.AskForFieldRequestObject) (serve.AskForFieldResponseObject, error) {
	who, b := callerOf(ctx), r.Body
	v, err := h.service.Review.Ask(ctx, who, base.Request{Service: b.Service, Endpoint: b.Endpoint,
		Audience: b.Audience,
		Entity:   b.Entity, Field: b.Field, Member: value(b.Member), NeededBy: b.NeededBy, Reason: b.Reason})
	if err != nil {
		return nil, err
	}
	return serve.AskForField201JSONResponse(requestOf(who.ID)(v)), nil
}

// GetRequest implements [serve.StrictServerInterface].
func (h *reviewHandlers) GetRequest(ctx context.Context,
	r serve.GetRequestRequestObject) (serve.GetRequestResponseObject, error) {
	v, err := h.service.Review.Request(ctx, r.RequestID)
	if err != nil {
		return nil, err
	}
	return serve.GetRequest200JSONResponse(requestOf(callerOf(ctx).ID)(v)), nil
}

// WithdrawRequest implements [serve.StrictServerInterface].
func (h *reviewHandlers) WithdrawRequest(ctx context.Context,
	r serve.WithdrawRequestRequestObject) (serve.WithdrawRequestResponseObject, error) {
	who := callerOf(ctx)
	v, err := h.service.Review.WithdrawRequest(ctx, who, r.RequestID)
	if err != nil {
		return nil, err
	}
	return serve.WithdrawRequest200JSONResponse(requestOf(who.ID)(v)), nil
}

// DecideRequest implements [serve.StrictServerInterface].
func (h *reviewHandlers) DecideRequest(ctx context.Context,
	r serve.DecideRequestRequestObject) (serve.DecideRequestResponseObject, error) {
	who := callerOf(ctx)
	d := review.Decision{Grant: r.Body.Grant, Comment: value(r.Body.Comment)}
	if l := r.Body.Less; l != nil {
		d.Less = &review.Less{Max: value(l.Max), Optional: value(l.Optional), Member: value(l.Member)}
	}
	v, err := h.service.Review.DecideRequest(ctx, who, r.RequestID, d)
	if err != nil {
		return nil, err
	}
	return serve.DecideRequest200JSONResponse(requestOf(who.ID)(v)), nil
}
