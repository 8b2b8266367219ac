package httpapi

import (
	"context"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/core/matrix"
	"inkret/service/evidence"
)

// MakeMatrix implements [serve.StrictServerInterface].
func (h *evidenceHandlers) MakeMatrix(ctx context.Context,
	r serve.MakeMatrixRequestObject) (serve.MakeMatrixResponseObject, error) {
	m, err := h.service.Evidence.Matrix(ctx, callerOf(ctx), evidence.AskedMatrix{Capture: value(r.Body.Capture),
		Endpoint: value(r.Body.Endpoint), Writes: value(r.Body.Writes), Preview: value(r.Body.Preview)})
	return serve.MakeMatrix201JSONResponse(matrixOf(m)), err
}

// GetMatrix implements [serve.StrictServerInterface].
func (h *evidenceHandlers) GetMatrix(ctx context.Context,
	r serve.GetMatrixRequestObject) (serve.GetMatrixResponseObject, error) {
	m, err := h.service.Evidence.MatrixOf(ctx, r.BatchID)
	return serve.GetMatrix200JSONResponse(matrixOf(m)), err
}

func matrixOf(m evidence.Matrix) wire.Matrix {
	out := wire.Matrix{Service: m.Capture.Service, Endpoint: m.Capture.Endpoint, EndpointID: m.Capture.EndpointID,
		Call: m.Capture.Method + " " + m.Capture.URL, Server: some(m.Server), CaptureID: m.Capture.ID,
		BatchID: some(m.Batch.ID), Made: someTime(m.Batch.Started), More: m.More,
		Callers: each(m.Callers, func(c evidence.MatrixCaller) wire.MatrixCaller {
			return wire.MatrixCaller{Audience: c.Audience, Person: some(c.Person), Fields: append([]string{},
				c.Fields...),
				LeftOut: some(c.LeftOut), CaptureID: some(c.Answer.ID), Status: some(c.Answer.Status),
				Missing: some(c.Missing), Findings: some(c.Answer.Findings)}
		}),
		Rows: each(m.Rows, func(r matrix.Row) wire.MatrixRow {
			return wire.MatrixRow{Path: r.Path, Class: some(r.Class.String()), Differs: r.Differs,
				Cells: each(r.States, func(s matrix.State) wire.MatrixRowCells { return wire.MatrixRowCells(s) })}
		})}
	return out
}
