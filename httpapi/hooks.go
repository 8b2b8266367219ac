package httpapi

import (
	"context"
	"strings"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/core/severity"
	"inkret/service/base"
)

func hookOf(h base.Hook) wire.Hook {
	return wire.Hook{ID: h.ID, Name: h.Name, URL: h.URL, Address: some(h.Address), Kinds: strings.FieldsFunc(h.Kinds,
		func(r rune) bool { return r == ',' }), Least: wire.Severity(severity.Severity(h.Least).String()),
		Service: some(h.Service), Author: h.Author, Created: h.Created, Waiting: h.Waiting, Failed: h.Failed}
}

// ListHooks implements [serve.StrictServerInterface].
func (h *notifyHandlers) ListHooks(ctx context.Context,
	_ serve.ListHooksRequestObject) (serve.ListHooksResponseObject, error) {
	all, err := h.service.Notify.Hooks(ctx)
	return serve.ListHooks200JSONResponse(each(all, hookOf)), err
}

// AddHook implements [serve.StrictServerInterface].
func (h *notifyHandlers) AddHook(ctx context.Context,
	r serve.AddHookRequestObject) (serve.AddHookResponseObject, error) {
	b := r.Body
	hook := base.Hook{Name: b.Name, URL: b.URL, Address: value(b.Address), Service: value(b.Service),
		Least: int(severity.Info)}
	if b.Least != nil {
		least, _ := severity.Parse(string(*b.Least))
		hook.Least = int(least)
	}
	var kinds []string
	for _, k := range value(b.Kinds) {
		kinds = append(kinds, string(k))
	}
	hook.Kinds = strings.Join(kinds, ",")
	added, secret, err := h.service.Notify.AddHook(ctx, callerOf(ctx), hook)
	if err != nil {
		return nil, err
	}
	return serve.AddHook201JSONResponse{Hook: hookOf(added), Secret: secret}, nil
}

// DropHook implements [serve.StrictServerInterface].
func (h *notifyHandlers) DropHook(ctx context.Context,
	r serve.DropHookRequestObject) (serve.DropHookResponseObject, error) {
	return serve.DropHook204Response{}, h.service.Notify.DropHook(ctx, callerOf(ctx), r.HookID)
}

// TestHook implements [serve.StrictServerInterface].
func (h *notifyHandlers) TestHook(ctx context.Context,
	r serve.TestHookRequestObject) (serve.TestHookResponseObject, error) {
	return serve.TestHook204Response{}, h.service.Notify.TestHook(ctx, callerOf(ctx), r.HookID)
}

// ListDeliveries implements [serve.StrictServerInterface].
func (h *notifyHandlers) ListDeliveries(ctx context.Context,
	r serve.ListDeliveriesRequestObject) (serve.ListDeliveriesResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Notify.Deliveries(ctx, r.HookID, page)
	if err != nil {
		return nil, err
	}
	return serve.ListDeliveries200JSONResponse{Total: total, Page: page.Number, Size: page.Size,
		Items: each(all, func(d base.Delivery) wire.Delivery {
			return wire.Delivery{ID: d.ID, Kind: d.Kind, Event: d.Event, Made: d.Made, Tries: d.Tries,
				State: wire.DeliveryState(stateOfDelivery(d.Done, d.Next)), Next: someTime(d.Next),
				Taken: someTime(d.Done),
				Said:  some(d.Said)}
		})}, nil
}

// DeliverAgain implements [serve.StrictServerInterface].
func (h *notifyHandlers) DeliverAgain(ctx context.Context,
	r serve.DeliverAgainRequestObject) (serve.DeliverAgainResponseObject, error) {
	return serve.DeliverAgain204Response{}, h.service.Notify.TryAgain(ctx, callerOf(ctx), r.DeliveryID)
}
