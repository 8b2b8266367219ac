package httpapi

import (
	"context"
	"errors"
	"net/http"

	"inkret/core/contract"
	"inkret/service/base"
	"inkret/service/review"
)

// SetSecondPerson implements [StrictServerInterface].
func (h *reviewHandlers) SetSecondPerson(ctx context.Context,
	r SetSecondPersonRequestObject) (SetSecondPersonResponseObject, error) {
	return SetSecondPerson204Response{}, h.service.Evidence.SetSecondPerson(ctx, callerOf(ctx), r.Service,
		r.Body.Needed,
		r.Body.Reason)
}

// ListServices implements [StrictServerInterface].
func (h *reviewHandlers) ListServices(ctx context.Context, _ ListServicesRequestObject) (ListServicesResponseObject, error) {
	all, err := h.service.Review.Services(ctx)
	return ListServices200JSONResponse(each(all, h.serviceOf(ctx))), err
}

// ExportContracts implements [StrictServerInterface].
func (h *reviewHandlers) ExportContracts(ctx context.Context,
	r ExportContractsRequestObject) (ExportContractsResponseObject, error) {
	revision, err := h.service.Review.ExportFor(ctx, callerOf(ctx), r.Service)
	return ExportContracts200JSONResponse(revisionOf(revision, false)), err
}

// ApplyContracts implements [StrictServerInterface].
func (h *reviewHandlers) ApplyContracts(ctx context.Context,
	r ApplyContractsRequestObject) (ApplyContractsResponseObject, error) {
	revision, changed, err := h.service.Review.Apply(ctx, callerOf(ctx), r.Service,
		review.Proposed{Files: storedFiles(r.Body.Files), Reason: value(r.Body.Reason), Base: value(r.Body.Base)})
	var problems contract.Problems
	if errors.As(err, &problems) {
		return ApplyContracts422ApplicationProblemPlusJSONResponse{Type: "about:blank",
			Title:  "The contract cannot be used",
			Status: http.StatusUnprocessableEntity, Detail: some(err.Error()), Problems: each(problems, faultOf)}, nil
	}
	if err != nil {
		return nil, err
	}
	return ApplyContracts200JSONResponse(revisionOf(revision, changed)), nil
}

// ListEndpoints implements [StrictServerInterface].
func (h *reviewHandlers) ListEndpoints(ctx context.Context,
	r ListEndpointsRequestObject) (ListEndpointsResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Review.Endpoints(ctx, base.EndpointFilter{Words: value(r.Params.Q),
		Service: value(r.Params.Service), Known: r.Params.Known, Sort: string(value(r.Params.Sort))}, page)
	return ListEndpoints200JSONResponse{Items: each(all, endpointOf), Total: total, Page: page.Number, Size: page.Size},
		err
}

// GetEndpoint implements [StrictServerInterface].
func (h *reviewHandlers) GetEndpoint(ctx context.Context, r GetEndpointRequestObject) (GetEndpointResponseObject, error) {
	e, err := h.service.Review.Endpoint(ctx, r.EndpointID)
	if err != nil {
		return nil, err
	}
	return GetEndpoint200JSONResponse(endpointDetailOf(e, h.service.Review.Audiences(ctx, e.Service))), nil
}
