package httpapi

import (
	"context"
	"fmt"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/service/reports"
)

// SendResult implements [serve.StrictServerInterface].
func (h *reportHandlers) SendResult(ctx context.Context,
	r serve.SendResultRequestObject) (serve.SendResultResponseObject, error) {
	b := r.Body
	if b.Service != nil && *b.Service != r.Service {
		return nil, invalid("the result is of the service " + *b.Service + ", not of " + r.Service)
	}
	out := base.Result{Service: r.Service, Line: r.Params.Line, Revision: value(r.Params.Revision),
		Link: value(r.Params.Link), Rules: value(b.Rules),
		Summary: finding.Summary{Captures: b.Summary.Captures, Judged: b.Summary.Judged, Skipped: b.Summary.Skipped,
			Bytes: int(b.Summary.Bytes), ExcessBytes: int(b.Summary.ExcessBytes)}}
	for _, f := range b.Findings {
		severity, _ := severity.Parse(string(f.Severity))
		status := ""
		if f.Status != nil {
			status = fmt.Sprint(f.Status)
		}
		out.Findings = append(out.Findings, finding.Checked{Fingerprint: f.Fingerprint, Kind: f.Kind,
			Severity: severity, Endpoint: f.Endpoint, Audience: value(f.Audience), Direction: value(f.Direction),
			Status: status,
			Path:   f.Path, Entity: value(f.Entity), Field: value(f.Field), Class: value(f.Class),
			Spots: value(f.Spots),
			Bytes: value(f.Bytes), Excepted: value(f.Excepted)})
	}
	v, err := h.service.Reports.SendResult(ctx, callerOf(ctx), out)
	if err != nil {
		return nil, err
	}
	return serve.SendResult201JSONResponse(h.resultDetailOf(v)), nil
}

// GetResult implements [serve.StrictServerInterface].
func (h *reportHandlers) GetResult(ctx context.Context,
	r serve.GetResultRequestObject) (serve.GetResultResponseObject, error) {
	v, err := h.service.Reports.Result(ctx, r.ResultID)
	if err != nil {
		return nil, err
	}
	return serve.GetResult200JSONResponse(h.resultDetailOf(v)), nil
}

// ListResults implements [serve.StrictServerInterface].
func (h *reportHandlers) ListResults(ctx context.Context,
	r serve.ListResultsRequestObject) (serve.ListResultsResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Reports.Results(ctx, value(r.Params.Service), value(r.Params.Line), page)
	return serve.ListResults200JSONResponse{Items: each(all, resultOf), Total: total, Page: page.Number,
		Size: page.Size}, err
}

// DropResult implements [serve.StrictServerInterface].
func (h *reportHandlers) DropResult(ctx context.Context,
	r serve.DropResultRequestObject) (serve.DropResultResponseObject, error) {
	return serve.DropResult204Response{}, h.service.Reports.DropResult(ctx, callerOf(ctx), r.ResultID)
}

// SetMainLine implements [serve.StrictServerInterface].
func (h *reportHandlers) SetMainLine(ctx context.Context,
	r serve.SetMainLineRequestObject) (serve.SetMainLineResponseObject, error) {
	return serve.SetMainLine204Response{}, h.service.Reports.SetMainLine(ctx, callerOf(ctx), r.Service, r.Body.Line)
}

func resultOf(r base.Result) wire.PipelineResult {
	return wire.PipelineResult{ID: r.ID, Service: r.Service, Line: r.Line, Main: r.Main, Revision: some(r.Revision),
		Link: some(r.Link), Author: r.Author, At: r.At, Rules: r.Rules,
		Summary: wire.CheckSummary{Captures: r.Captures, Judged: r.Judged, Skipped: r.Skipped, Bytes: int64(r.Bytes),
			ExcessBytes: int64(r.ExcessBytes)},
		BySeverity: severities(func(s severity.Severity) int { return r.BySeverity[s] })}
}

func (h *reportHandlers) resultDetailOf(v reports.ResultView) wire.ResultDetail {
	checked := func(f finding.Checked) wire.CheckedFinding {
		out := wire.CheckedFinding{Fingerprint: f.Fingerprint, Kind: f.Kind,
			Severity: wire.Severity(f.Severity.String()),
			Endpoint: f.Endpoint, Audience: some(f.Audience), Direction: some(f.Direction), Path: f.Path,
			Entity: some(f.Entity), Field: some(f.Field), Class: some(f.Class), Spots: some(f.Spots),
			Bytes: some(f.Bytes), Excepted: some(f.Excepted), State: some(wire.State(v.States[f.Fingerprint]))}
		if f.Status != "" {
			out.Status = f.Status
		}
		return out
	}
	d := wire.ResultDetail{Result: resultOf(v.Result), Fresh: each(v.Fresh, checked), Same: each(v.Same, checked),
		Gone: each(v.Gone, checked), URL: some(fmt.Sprintf("%s/results/%d", h.options.Public, v.ID))}
	if v.Against != nil {
		against := resultOf(*v.Against)
		d.Against = &against
	}
	return d
}
