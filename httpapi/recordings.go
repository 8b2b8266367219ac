package httpapi

import (
	"context"

	"inkret/api/serve"
	"inkret/service/base"
	"inkret/service/evidence"
)

// UploadRecording implements [serve.StrictServerInterface].
func (h *evidenceHandlers) UploadRecording(ctx context.Context,
	r serve.UploadRecordingRequestObject) (serve.UploadRecordingResponseObject, error) {
	b, err := h.service.Evidence.Upload(ctx, callerOf(ctx), r.Service, r.Params.Name,
		evidence.Said{Audience: value(r.Params.Audience), Mapping: value(r.Params.Audiences),
			Request: value(r.Params.Request)}, r.Body)
	if err != nil {
		return nil, err
	}
	return serve.UploadRecording200JSONResponse(batchOf(b)), nil
}

// ListBatches implements [serve.StrictServerInterface].
func (h *evidenceHandlers) ListBatches(ctx context.Context,
	r serve.ListBatchesRequestObject) (serve.ListBatchesResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Evidence.Batches(ctx, page)
	return serve.ListBatches200JSONResponse{Items: each(all, batchOf), Total: total, Page: page.Number,
		Size: page.Size}, err
}

// GetBatch implements [serve.StrictServerInterface].
func (h *evidenceHandlers) GetBatch(ctx context.Context,
	r serve.GetBatchRequestObject) (serve.GetBatchResponseObject, error) {
	b, err := h.service.Evidence.Batch(ctx, r.BatchID)
	if err != nil {
		return nil, err
	}
	out := batchOf(b)
	a, err := h.service.Evidence.Asking(ctx, r.BatchID)
	out.Waiting = waitingOf(a)
	return serve.GetBatch200JSONResponse(out), err
}

// ListCaptures implements [serve.StrictServerInterface].
func (h *evidenceHandlers) ListCaptures(ctx context.Context,
	r serve.ListCapturesRequestObject) (serve.ListCapturesResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	q := r.Params
	all, total, more, err := h.service.Evidence.Captures(ctx, base.CaptureFilter{Batch: value(q.Batch),
		Endpoint: value(q.Endpoint), Audience: value(q.Audience),
		Finding: value(q.Finding), Leaking: value(q.Leaking), Clean: value(q.Clean), Skipped: value(q.Skipped),
		Service: value(q.Service), Statuses: value(q.Status),
		Least: value(q.LeastBytes), Most: value(q.MostBytes), Since: value(q.Since), Until: value(q.Until),
		Words: value(q.Words), Repeats: value(q.Repeats),
		Sort: string(value(q.Sort))}, page)
	return serve.ListCaptures200JSONResponse{Items: each(all, captureOf), Total: total, More: some(more),
		Page: page.Number,
		Size: page.Size}, err
}

// GetCapture implements [serve.StrictServerInterface].
func (h *evidenceHandlers) GetCapture(ctx context.Context,
	r serve.GetCaptureRequestObject) (serve.GetCaptureResponseObject, error) {
	v, err := h.service.Evidence.Capture(ctx, r.CaptureID)
	if err != nil {
		return nil, err
	}
	return serve.GetCapture200JSONResponse(captureDetailOf(v)), nil
}
