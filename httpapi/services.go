package httpapi

import (
	"context"
	"errors"
	"net/http"

	"inkret/api/serve"
	"inkret/core/contract"
	"inkret/service/base"
	"inkret/service/review"
)

// SetSecondPerson implements [serve.StrictServerInterface].
func (h *reviewHandlers) SetSecondPerson(ctx context.Context,
	r serve.SetSecondPersonRequestObject) (serve.SetSecondPersonResponseObject, error) {
	return serve.SetSecondPerson204Response{}, h.service.Evidence.SetSecondPerson(ctx, callerOf(ctx), r.Service,
		r.Body.Needed,
		r.Body.Reason)
}

// ListServices implements [serve.StrictServerInterface].
func (h *reviewHandlers) ListServices(ctx context.Context,
	_ serve.ListServicesRequestObject) (serve.ListServicesResponseObject, error) {
	all, err := h.service.Review.Services(ctx)
	return serve.ListServices200JSONResponse(each(all, h.serviceOf(ctx))), err
}

// ExportContracts implements [serve.StrictServerInterface].
func (h *reviewHandlers) ExportContracts(ctx context.Context,
	r serve.ExportContractsRequestObject) (serve.ExportContractsResponseObject, error) {
	revision, err := h.service.Review.ExportFor(ctx, callerOf(ctx), r.Service)
	return serve.ExportContracts200JSONResponse(revisionOf(revision, false)), err
}

// ApplyContracts implements [serve.StrictServerInterface].
func (h *reviewHandlers) ApplyContracts(ctx context.Context,
	r serve.ApplyContractsRequestObject) (serve.ApplyContractsResponseObject, error) {
	revision, changed, err := h.service.Review.Apply(ctx, callerOf(ctx), r.Service,
		review.Proposed{Files: storedFiles(r.Body.Files), Reason: value(r.Body.Reason), Base: value(r.Body.Base)})
	var problems contract.Problems
	if errors.As(err, &problems) {
		return serve.ApplyContracts422ApplicationProblemPlusJSONResponse{Type: "about:blank",
			Title:  "The contract cannot be used",
			Status: http.StatusUnprocessableEntity, Detail: some(err.Error()), Problems: each(problems, faultOf)}, nil
	}
	if err != nil {
		return nil, err
	}
	return serve.ApplyContracts200JSONResponse(revisionOf(revision, changed)), nil
}

// ListEndpoints implements [serve.StrictServerInterface].
func (h *reviewHandlers) ListEndpoints(ctx context.Context,
	r serve.ListEndpointsRequestObject) (serve.ListEndpointsResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Review.Endpoints(ctx, base.EndpointFilter{Words: value(r.Params.Q),
		Service: value(r.Params.Service), Known: r.Params.Known, Sort: string(value(r.Params.Sort))}, page)
	return serve.ListEndpoints200JSONResponse{Items: each(all, endpointOf), Total: total, Page: page.Number,
			Size: page.Size},
		err
}

// GetEndpoint implements [serve.StrictServerInterface].
func (h *reviewHandlers) GetEndpoint(ctx context.Context,
	r serve.GetEndpointRequestObject) (serve.GetEndpointResponseObject, error) {
	e, err := h.service.Review.Endpoint(ctx, r.EndpointID)
	if err != nil {
		return nil, err
	}
	return serve.GetEndpoint200JSONResponse(endpointDetailOf(e, h.service.Review.Audiences(ctx, e.Service))), nil
}
