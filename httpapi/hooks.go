package httpapi

import (
	"context"
	"strings"

	"inkret/core/scan"
	"inkret/service/base"
)

func hookOf(h base.Hook) Hook {
	return Hook{ID: h.ID, Name: h.Name, URL: h.URL, Address: some(h.Address), Kinds: strings.FieldsFunc(h.Kinds,
		func(r rune) bool { return r == ',' }), Least: Severity(scan.Severity(h.Least).String()),
		Service: some(h.Service), Author: h.Author, Created: h.Created, Waiting: h.Waiting, Failed: h.Failed}
}

// ListHooks implements [StrictServerInterface].
func (h *notifyHandlers) ListHooks(ctx context.Context, _ ListHooksRequestObject) (ListHooksResponseObject, error) {
	all, err := h.service.Notify.Hooks(ctx)
	return ListHooks200JSONResponse(each(all, hookOf)), err
}

// AddHook implements [StrictServerInterface].
func (h *notifyHandlers) AddHook(ctx context.Context, r AddHookRequestObject) (AddHookResponseObject, error) {
	b := r.Body
	hook := base.Hook{Name: b.Name, URL: b.URL, Address: value(b.Address), Service: value(b.Service),
		Least: int(scan.Info)}
	if b.Least != nil {
		least, _ := scan.ParseSeverity(string(*b.Least))
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
	return AddHook201JSONResponse{Hook: hookOf(added), Secret: secret}, nil
}

// DropHook implements [StrictServerInterface].
func (h *notifyHandlers) DropHook(ctx context.Context, r DropHookRequestObject) (DropHookResponseObject, error) {
	return DropHook204Response{}, h.service.Notify.DropHook(ctx, callerOf(ctx), r.HookID)
}

// TestHook implements [StrictServerInterface].
func (h *notifyHandlers) TestHook(ctx context.Context, r TestHookRequestObject) (TestHookResponseObject, error) {
	return TestHook204Response{}, h.service.Notify.TestHook(ctx, callerOf(ctx), r.HookID)
}

// ListDeliveries implements [StrictServerInterface].
func (h *notifyHandlers) ListDeliveries(ctx context.Context,
	r ListDeliveriesRequestObject) (ListDeliveriesResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Notify.Deliveries(ctx, r.HookID, page)
	if err != nil {
		return nil, err
	}
	return ListDeliveries200JSONResponse{Total: total, Page: page.Number, Size: page.Size,
		Items: each(all, func(d base.Delivery) Delivery {
			return Delivery{ID: d.ID, Kind: d.Kind, Event: d.Event, Made: d.Made, Tries: d.Tries,
				State: DeliveryState(stateOfDelivery(d.Done, d.Next)), Next: someTime(d.Next), Taken: someTime(d.Done),
				Said: some(d.Said)}
		})}, nil
}

// DeliverAgain implements [StrictServerInterface].
func (h *notifyHandlers) DeliverAgain(ctx context.Context, r DeliverAgainRequestObject) (DeliverAgainResponseObject, error) {
	return DeliverAgain204Response{}, h.service.Notify.TryAgain(ctx, callerOf(ctx), r.DeliveryID)
}
