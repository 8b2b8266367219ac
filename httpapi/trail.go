package httpapi

import (
	"context"
	"errors"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/service/base"
)

// ListTrail implements [serve.StrictServerInterface].
func (h *upkeepHandlers) ListTrail(ctx context.Context,
	r serve.ListTrailRequestObject) (serve.ListTrailResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Base.Trail(ctx, base.TrailFilter{Action: value(r.Params.Action),
		Author: value(r.Params.Author), Subject: value(r.Params.Subject), Person: value(r.Params.Person)}, page)
	return serve.ListTrail200JSONResponse{Items: each(all, func(t base.TrailEntry) wire.TrailEntry {
		return wire.TrailEntry{ID: t.ID, At: t.At, Author: t.Author, Action: t.Action, Subject: t.Subject,
			Detail: t.Detail,
			Hash:   t.Hash, PersonID: some(t.PersonID), Email: some(t.Email), Key: some(t.Key)}
	}), Total: total, Page: page.Number, Size: page.Size}, err
}

// VerifyTrail implements [serve.StrictServerInterface].
func (h *upkeepHandlers) VerifyTrail(ctx context.Context,
	_ serve.VerifyTrailRequestObject) (serve.VerifyTrailResponseObject, error) {
	n, last, err := h.service.Base.VerifyTrail(ctx)
	v := serve.VerifyTrail200JSONResponse{Whole: err == nil, Entries: n, Last: last}
	if errors.Is(err, base.ErrTampered) {
		v.Problem, err = some(err.Error()), nil
	}
	return v, err
}
