package httpapi

import (
	"context"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/severity"
	"inkret/docs/kinds"
)

// GetHome implements [serve.StrictServerInterface].
func (h *findingHandlers) GetHome(ctx context.Context,
	_ serve.GetHomeRequestObject) (serve.GetHomeResponseObject, error) {
	home, err := h.service.Findings.Home(ctx, callerOf(ctx))
	if err != nil {
		return nil, err
	}
	out := wire.Home{
		BySeverity: severities(func(s severity.Severity) int { return home.Severities[int(s)] }),
		Urgent: each(home.Urgent,
			findingOf),
		Returned: home.States[string(finding.Returned)], AwaitingProof: home.States[string(finding.AwaitingProof)],
		Mine: each(home.Mine, findingOf), MineTotal: home.MineTotal, Overdue: home.Overdue, Unread: home.Unread,
		Requests:      home.Requests,
		WaiversEnding: home.WaiversEnding, WaiversAsked: home.WaiversAsked, Doubted: home.Doubted,
		RevisionsWaiting: home.Revisions,
		LeftBehind:       home.Left, UnknownEndpoints: each(home.Unknown, endpointOf), UnknownTotal: home.UnknownTotal,
		Batches: each(home.Batches, batchOf), Services: each(home.Services, h.serviceOf(ctx)),
		ByState: []wire.StateCount{},
	}
	watches, err := h.service.Evidence.Watches(ctx, "")
	if err != nil {
		return nil, err
	}
	failing := []wire.Watch{}
	for _, w := range watches {
		if w.Failing != "" && !w.Paused {
			failing = append(failing, watchOf(w))
		}
	}
	out.WatchesFailing = someList(failing)
	for _, s := range finding.States() {
		n := home.States[string(s)]
		out.ByState = append(out.ByState, wire.StateCount{State: wire.State(s), Findings: n})
		if s.Open() {
			out.Open += n
		}
	}
	return serve.GetHome200JSONResponse(out), nil
}

// ListFindings implements [serve.StrictServerInterface].
func (h *findingHandlers) ListFindings(ctx context.Context,
	r serve.ListFindingsRequestObject) (serve.ListFindingsResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	by, err := h.service.Findings.Filter(ctx, callerOf(ctx), queryOf(ctx))
	if err != nil {
		return nil, err
	}
	all, counts, err := h.service.Findings.Findings(ctx, by, page)
	if err != nil {
		return nil, err
	}
	total := 0
	for _, n := range counts {
		total += n
	}
	return serve.ListFindings200JSONResponse{Items: each(all, findingOf), Total: total, Page: page.Number,
		Size:       page.Size,
		BySeverity: severities(func(s severity.Severity) int { return counts[int(s)] })}, nil
}

// GetFinding implements [serve.StrictServerInterface].
func (h *findingHandlers) GetFinding(ctx context.Context,
	r serve.GetFindingRequestObject) (serve.GetFindingResponseObject, error) {
	v, err := h.service.Findings.Finding(ctx, callerOf(ctx), r.FindingID)
	if err != nil {
		return nil, err
	}
	return serve.GetFinding200JSONResponse(findingDetailOf(v)), nil
}

// MoveFinding implements [serve.StrictServerInterface].
func (h *findingHandlers) MoveFinding(ctx context.Context,
	r serve.MoveFindingRequestObject) (serve.MoveFindingResponseObject, error) {
	v, err := h.service.Findings.Move(ctx, callerOf(ctx), r.FindingID, finding.Move{To: finding.State(r.Body.To),
		Comment: value(r.Body.Comment), Until: value(r.Body.Until)})
	if err != nil {
		return nil, err
	}
	return serve.MoveFinding200JSONResponse(findingDetailOf(v)), nil
}

// CommentFinding implements [serve.StrictServerInterface].
func (h *findingHandlers) CommentFinding(ctx context.Context,
	r serve.CommentFindingRequestObject) (serve.CommentFindingResponseObject, error) {
	v, err := h.service.Findings.Comment(ctx, callerOf(ctx), r.FindingID, r.Body.Text)
	if err != nil {
		return nil, err
	}
	return serve.CommentFinding200JSONResponse(findingDetailOf(v)), nil
}

// ListKinds implements [serve.StrictServerInterface].
func (h *findingHandlers) ListKinds(context.Context,
	serve.ListKindsRequestObject) (serve.ListKindsResponseObject, error) {
	return serve.ListKinds200JSONResponse(each(kind.All(), func(k kind.Kind) wire.KindPage {
		page, _ := kinds.Page(k.String())
		return wire.KindPage{Kind: k.String(), Cwe: k.CWE(), Summary: kinds.Summary(k.String()),
			Mend: some(k.Mend()),
			Page: page}
	})), nil
}
