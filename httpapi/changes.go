package httpapi

import (
	"context"
	"net/url"
	"strings"

	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/service/findings"
	"inkret/service/review"
)

// queryOf returns the validated query of the current request.
func queryOf(ctx context.Context) url.Values {
	x, _ := ctx.Value(exchangedKey{}).(exchanged)
	return x.request.URL.Query()
}

// GroupFindings implements [serve.StrictServerInterface].
func (h *findingHandlers) GroupFindings(ctx context.Context,
	r serve.GroupFindingsRequestObject) (serve.GroupFindingsResponseObject, error) {
	q, err := url.ParseQuery(strings.TrimPrefix(value(r.Params.Filter), "?"))
	if err != nil {
		return nil, invalid("the filter is no query: " + err.Error())
	}
	all, left, err := h.service.Findings.Groups(ctx, callerOf(ctx), q, string(r.Params.By))
	return serve.GroupFindings200JSONResponse{Left: left, Groups: each(all, func(g findings.Group) wire.FindingGroup {
		return wire.FindingGroup{Name: g.Name, Findings: g.Findings, Endpoints: g.Endpoints, Query: g.Query,
			BySeverity: severities(func(s severity.Severity) int { return g.Open[s] })}
	})}, err
}

// ChangeFindings implements [serve.StrictServerInterface].
func (h *findingHandlers) ChangeFindings(ctx context.Context,
	r serve.ChangeFindingsRequestObject) (serve.ChangeFindingsResponseObject, error) {
	b := r.Body
	if (b.Ids == nil) == (b.Filter == nil) {
		return nil, invalid("say which findings: either `ids` or a `filter`")
	}
	w := findings.Wish{To: finding.State(value(b.To)), Until: value(b.Until), Comment: value(b.Comment), Team: b.Team,
		Due: b.Due, Add: value(b.AddLabels), Remove: value(b.RemoveLabels), Decline: value(b.DeclineWaiver)}
	if b.Person != nil {
		var id int64
		if *b.Person != "nobody" {
			var err error
			if id, err = h.personOf(ctx, *b.Person); err != nil {
				return nil, err
			}
		}
		w.Person = &id
	}
	var by *base.FindingFilter
	if b.Filter != nil {
		read, err := h.queryFilter(ctx, *b.Filter)
		if err != nil {
			return nil, err
		}
		by = &read
	}
	w.Try = value(b.Try)
	out, err := h.service.Findings.ChangeFindings(ctx, callerOf(ctx), value(b.Ids), by, w)
	if err != nil {
		return nil, err
	}
	c := changedOf(out.Change)
	c.Matched, c.Left, c.Refused = &out.Matched, &out.Left, someList(each(out.Refused, refusedOf))
	c.Reasons = someList(each(out.Reasons, func(r findings.Reason) wire.RefusalReason {
		return wire.RefusalReason{Why: r.Why,
			Findings: r.Findings}
	}))
	return serve.ChangeFindings200JSONResponse(c), nil
}

func changedOf(c base.StandingChange) wire.FindingsChanged {
	return wire.FindingsChanged{ID: some(c.ID), At: c.At, Author: c.Author, Words: c.Words, Findings: c.Findings,
		Undone: some(c.Undone)}
}

func refusedOf(r base.Refused) wire.RefusedFinding { return wire.RefusedFinding{ID: r.ID, Why: r.Why} }

// ListChanges implements [serve.StrictServerInterface].
func (h *findingHandlers) ListChanges(ctx context.Context,
	_ serve.ListChangesRequestObject) (serve.ListChangesResponseObject, error) {
	all, err := h.service.Findings.Changes(ctx)
	return serve.ListChanges200JSONResponse(each(all, changedOf)), err
}

// UndoChange implements [serve.StrictServerInterface].
func (h *findingHandlers) UndoChange(ctx context.Context,
	r serve.UndoChangeRequestObject) (serve.UndoChangeResponseObject, error) {
	n, left, err := h.service.Findings.UndoChange(ctx, callerOf(ctx), r.ChangeID)
	if err != nil {
		return nil, err
	}
	return serve.UndoChange200JSONResponse{Undone: n, Left: each(left, refusedOf)}, nil
}

// ListLabels implements [serve.StrictServerInterface].
func (h *findingHandlers) ListLabels(ctx context.Context,
	_ serve.ListLabelsRequestObject) (serve.ListLabelsResponseObject, error) {
	all, err := h.service.Findings.Labels(ctx)
	return serve.ListLabels200JSONResponse(each(all, func(l base.LabelCount) wire.LabelCount {
		return wire.LabelCount{Label: l.Label,
			Findings: l.Findings}
	})), err
}

// GetDue implements [serve.StrictServerInterface].
func (h *findingHandlers) GetDue(ctx context.Context, _ serve.GetDueRequestObject) (serve.GetDueResponseObject, error) {
	days, err := h.service.Findings.Due(ctx)
	return serve.GetDue200JSONResponse(severities(func(s severity.Severity) int { return days[s] })), err
}

// SetDue implements [serve.StrictServerInterface].
func (h *findingHandlers) SetDue(ctx context.Context, r serve.SetDueRequestObject) (serve.SetDueResponseObject, error) {
	b := r.Body
	err := h.service.Findings.SetDue(ctx, callerOf(ctx), map[severity.Severity]int{severity.Critical: b.Critical,
		severity.High:   b.High,
		severity.Medium: b.Medium, severity.Low: b.Low, severity.Info: b.Info})
	return serve.SetDue200JSONResponse(*b), err
}

// FollowFinding implements [serve.StrictServerInterface].
func (h *findingHandlers) FollowFinding(ctx context.Context,
	r serve.FollowFindingRequestObject) (serve.FollowFindingResponseObject, error) {
	return serve.FollowFinding204Response{}, h.service.Findings.Follow(ctx, callerOf(ctx), r.FindingID, base.Follows)
}

// UnfollowFinding implements [serve.StrictServerInterface].
func (h *findingHandlers) UnfollowFinding(ctx context.Context,
	r serve.UnfollowFindingRequestObject) (serve.UnfollowFindingResponseObject, error) {
	return serve.UnfollowFinding204Response{}, h.service.Findings.Follow(ctx, callerOf(ctx), r.FindingID, base.Ignores)
}

func viewOf(who int64) func(base.View) wire.SavedView {
	return func(v base.View) wire.SavedView {
		return wire.SavedView{ID: v.ID, Name: v.Name, Query: v.Query, Shared: v.Shared, Author: v.Author,
			Own: v.PersonID == who, Follows: v.Follows}
	}
}

// ListViews implements [serve.StrictServerInterface].
func (h *findingHandlers) ListViews(ctx context.Context,
	_ serve.ListViewsRequestObject) (serve.ListViewsResponseObject, error) {
	who := callerOf(ctx)
	all, err := h.service.Findings.Views(ctx, who)
	return serve.ListViews200JSONResponse(each(all, viewOf(who.ID))), err
}

// AddView implements [serve.StrictServerInterface].
func (h *findingHandlers) AddView(ctx context.Context,
	r serve.AddViewRequestObject) (serve.AddViewResponseObject, error) {
	query := strings.TrimPrefix(r.Body.Query, "?")
	if _, err := h.queryFilter(ctx, query); err != nil {
		return nil, err
	}
	who := callerOf(ctx)
	v, err := h.service.Findings.AddView(ctx, who, base.View{Name: r.Body.Name, Query: query,
		Shared: value(r.Body.Shared)})
	if err != nil {
		return nil, err
	}
	return serve.AddView201JSONResponse(viewOf(who.ID)(v)), nil
}

// DropView implements [serve.StrictServerInterface].
func (h *findingHandlers) DropView(ctx context.Context,
	r serve.DropViewRequestObject) (serve.DropViewResponseObject, error) {
	return serve.DropView204Response{}, h.service.Findings.DropView(ctx, callerOf(ctx), r.ViewID)
}

func requestOf(who int64) func(review.RequestView) wire.ExposureRequest {
	return func(v review.RequestView) wire.ExposureRequest {
		return wire.ExposureRequest{ID: v.ID, Service: v.Service, Endpoint: v.Endpoint, Audience: v.Audience,
			Entity: v.Entity, Field: v.Field, Class: some(v.Class), Member: some(v.Member),
			NeededBy: v.NeededBy, Reason: v.Reason, Author: v.Author, Own: v.PersonID == who, At: v.At,
			State: wire.RequestState(v.State), DecidedBy: some(v.DecidedBy),
			Decided: someTime(v.Decided), Decision: some(v.Decision), Revision: some(v.Revision), Grant: some(v.Grant),
			Refuse: some(v.Refuse)}
	}
}
