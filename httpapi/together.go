package httpapi

import (
	"context"
	"net/url"
	"strings"

	"inkret/service/base"
	"inkret/service/findings"
	"inkret/service/reports"
	"inkret/service/review"

	"inkret/core/finding"
	"inkret/core/scan"
)

// queryOf gives the query of the request that is answered, as it was sent; the description has been held against it.
func queryOf(ctx context.Context) url.Values {
	x, _ := ctx.Value(exchangedKey{}).(exchanged)
	return x.request.URL.Query()
}

// personOf gives the id of somebody who is named as `me` or by an e-mail address.
func (h *handlers) personOf(ctx context.Context, who string) (int64, error) {
	if who == "me" {
		return callerOf(ctx).ID, nil
	}
	p, err := h.service.Base.PersonByEmail(ctx, who)
	return p.ID, err
}

// queryFilter reads a filter that is written as the query of a list of findings.
func (h *handlers) queryFilter(ctx context.Context, query string) (base.FindingFilter, error) {
	q, err := url.ParseQuery(strings.TrimPrefix(query, "?"))
	if err != nil {
		return base.FindingFilter{}, invalid("the filter is no query: " + err.Error())
	}
	return h.service.Findings.Filter(ctx, callerOf(ctx), q)
}

// GroupFindings implements [StrictServerInterface].
func (h *handlers) GroupFindings(ctx context.Context,
	r GroupFindingsRequestObject) (GroupFindingsResponseObject, error) {
	q, err := url.ParseQuery(strings.TrimPrefix(value(r.Params.Filter), "?"))
	if err != nil {
		return nil, invalid("the filter is no query: " + err.Error())
	}
	all, left, err := h.service.Findings.Groups(ctx, callerOf(ctx), q, string(r.Params.By))
	return GroupFindings200JSONResponse{Left: left, Groups: each(all, func(g findings.Group) FindingGroup {
		return FindingGroup{Name: g.Name, Findings: g.Findings, Endpoints: g.Endpoints, Query: g.Query,
			BySeverity: severities(func(s scan.Severity) int { return g.Open[s] })}
	})}, err
}

// ChangeFindings implements [StrictServerInterface].
func (h *handlers) ChangeFindings(ctx context.Context,
	r ChangeFindingsRequestObject) (ChangeFindingsResponseObject, error) {
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
	out, err := h.service.Findings.ChangeFindings(ctx, callerOf(ctx), value(b.Ids), by, w, value(b.Try))
	if err != nil {
		return nil, err
	}
	c := changedOf(out.Change)
	c.Matched, c.Left, c.Refused = &out.Matched, &out.Left, someList(each(out.Refused, refusedOf))
	c.Reasons = someList(each(out.Reasons, func(r findings.Reason) RefusalReason {
		return RefusalReason{Why: r.Why,
			Findings: r.Findings}
	}))
	return ChangeFindings200JSONResponse(c), nil
}

func changedOf(c base.StandingChange) FindingsChanged {
	return FindingsChanged{ID: some(c.ID), At: c.At, Author: c.Author, Words: c.Words, Findings: c.Findings,
		Undone: some(c.Undone)}
}

func refusedOf(r base.Refused) RefusedFinding { return RefusedFinding{ID: r.ID, Why: r.Why} }

// ListChanges implements [StrictServerInterface].
func (h *handlers) ListChanges(ctx context.Context, _ ListChangesRequestObject) (ListChangesResponseObject, error) {
	all, err := h.service.Findings.Changes(ctx)
	return ListChanges200JSONResponse(each(all, changedOf)), err
}

// UndoChange implements [StrictServerInterface].
func (h *handlers) UndoChange(ctx context.Context, r UndoChangeRequestObject) (UndoChangeResponseObject, error) {
	n, left, err := h.service.Findings.UndoChange(ctx, callerOf(ctx), r.ChangeID)
	if err != nil {
		return nil, err
	}
	return UndoChange200JSONResponse{Undone: n, Left: each(left, refusedOf)}, nil
}

// ListLabels implements [StrictServerInterface].
func (h *handlers) ListLabels(ctx context.Context, _ ListLabelsRequestObject) (ListLabelsResponseObject, error) {
	all, err := h.service.Findings.Labels(ctx)
	return ListLabels200JSONResponse(each(all, func(l base.LabelCount) LabelCount {
		return LabelCount{Label: l.Label,
			Findings: l.Findings}
	})), err
}

// GetDue implements [StrictServerInterface].
func (h *handlers) GetDue(ctx context.Context, _ GetDueRequestObject) (GetDueResponseObject, error) {
	days, err := h.service.Findings.Due(ctx)
	return GetDue200JSONResponse(severities(func(s scan.Severity) int { return days[s] })), err
}

// SetDue implements [StrictServerInterface].
func (h *handlers) SetDue(ctx context.Context, r SetDueRequestObject) (SetDueResponseObject, error) {
	b := r.Body
	err := h.service.Findings.SetDue(ctx, callerOf(ctx), map[scan.Severity]int{scan.Critical: b.Critical,
		scan.High:   b.High,
		scan.Medium: b.Medium, scan.Low: b.Low, scan.Info: b.Info})
	return SetDue200JSONResponse(*b), err
}

// FollowFinding implements [StrictServerInterface].
func (h *handlers) FollowFinding(ctx context.Context,
	r FollowFindingRequestObject) (FollowFindingResponseObject, error) {
	return FollowFinding204Response{}, h.service.Findings.Follow(ctx, callerOf(ctx), r.FindingID, true)
}

// UnfollowFinding implements [StrictServerInterface].
func (h *handlers) UnfollowFinding(ctx context.Context,
	r UnfollowFindingRequestObject) (UnfollowFindingResponseObject, error) {
	return UnfollowFinding204Response{}, h.service.Findings.Follow(ctx, callerOf(ctx), r.FindingID, false)
}

// ListNotices implements [StrictServerInterface].
func (h *handlers) ListNotices(ctx context.Context, r ListNoticesRequestObject) (ListNoticesResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, fresh, err := h.service.Notify.Notices(ctx, callerOf(ctx), value(r.Params.Unread), page)
	return ListNotices200JSONResponse{Total: total, Page: page.Number, Size: page.Size, Unread: fresh,
		Items: each(all, func(n base.Notice) Notice {
			return Notice{ID: n.ID, At: n.At, Kind: NoticeKind(n.Kind), Author: n.Author, FindingID: some(n.FindingID),
				Finding: some(n.Finding), RequestID: some(n.RequestID), Service: some(n.Service),
				Revision: some(n.Revision), More: some(n.More), View: some(n.View), Text: n.Text, Read: n.Read}
		})}, err
}

// ReadNotices implements [StrictServerInterface].
func (h *handlers) ReadNotices(ctx context.Context, r ReadNoticesRequestObject) (ReadNoticesResponseObject, error) {
	return ReadNotices204Response{}, h.service.Notify.ReadNotices(ctx, callerOf(ctx), r.Body.UpTo)
}

func viewOf(who int64) func(base.View) SavedView {
	return func(v base.View) SavedView {
		return SavedView{ID: v.ID, Name: v.Name, Query: v.Query, Shared: v.Shared, Author: v.Author,
			Own: v.PersonID == who, Follows: v.Follows}
	}
}

// ListViews implements [StrictServerInterface].
func (h *handlers) ListViews(ctx context.Context, _ ListViewsRequestObject) (ListViewsResponseObject, error) {
	who := callerOf(ctx)
	all, err := h.service.Findings.Views(ctx, who)
	return ListViews200JSONResponse(each(all, viewOf(who.ID))), err
}

// AddView implements [StrictServerInterface].
func (h *handlers) AddView(ctx context.Context, r AddViewRequestObject) (AddViewResponseObject, error) {
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
	return AddView201JSONResponse(viewOf(who.ID)(v)), nil
}

// DropView implements [StrictServerInterface].
func (h *handlers) DropView(ctx context.Context, r DropViewRequestObject) (DropViewResponseObject, error) {
	return DropView204Response{}, h.service.Findings.DropView(ctx, callerOf(ctx), r.ViewID)
}

func requestOf(who int64) func(review.RequestView) ExposureRequest {
	return func(v review.RequestView) ExposureRequest {
		return ExposureRequest{ID: v.ID, Service: v.Service, Endpoint: v.Endpoint, Audience: v.Audience,
			Entity: v.Entity, Field: v.Field, Class: some(v.Class), Member: some(v.Member),
			NeededBy: v.NeededBy, Reason: v.Reason, Author: v.Author, Own: v.PersonID == who, At: v.At,
			State: RequestState(v.State), DecidedBy: some(v.DecidedBy),
			Decided: someTime(v.Decided), Decision: some(v.Decision), Revision: some(v.Revision), Grant: some(v.Grant),
			Refuse: some(v.Refuse)}
	}
}

// ListRequests implements [StrictServerInterface].
func (h *handlers) ListRequests(ctx context.Context, r ListRequestsRequestObject) (ListRequestsResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	who := callerOf(ctx)
	by := base.RequestFilter{Service: value(r.Params.Service), Endpoint: value(r.Params.Endpoint),
		States: list(r.Params.State)}
	if len(by.States) == 0 {
		by.States = []string{review.RequestOpen}
	}
	for _, s := range by.States {
		if s == "any" {
			by.States = nil
		} else if !RequestState(s).Valid() {
			return nil, invalid("a request has no state " + s)
		}
	}
	if value(r.Params.Mine) {
		by.Person = who.ID
	}
	all, total, err := h.service.Review.Requests(ctx, by, page)
	return ListRequests200JSONResponse{Total: total, Page: page.Number, Size: page.Size,
		Items: each(all, requestOf(who.ID))}, err
}

// AskForField implements [StrictServerInterface].
func (h *handlers) AskForField(ctx context.Context, r AskForFieldRequestObject) (AskForFieldResponseObject, error) {
	who, b := callerOf(ctx), r.Body
	v, err := h.service.Review.Ask(ctx, who, base.Request{Service: b.Service, Endpoint: b.Endpoint,
		Audience: b.Audience,
		Entity:   b.Entity, Field: b.Field, Member: value(b.Member), NeededBy: b.NeededBy, Reason: b.Reason})
	if err != nil {
		return nil, err
	}
	return AskForField201JSONResponse(requestOf(who.ID)(v)), nil
}

// GetRequest implements [StrictServerInterface].
func (h *handlers) GetRequest(ctx context.Context, r GetRequestRequestObject) (GetRequestResponseObject, error) {
	v, err := h.service.Review.Request(ctx, r.RequestID)
	if err != nil {
		return nil, err
	}
	return GetRequest200JSONResponse(requestOf(callerOf(ctx).ID)(v)), nil
}

// WithdrawRequest implements [StrictServerInterface].
func (h *handlers) WithdrawRequest(ctx context.Context,
	r WithdrawRequestRequestObject) (WithdrawRequestResponseObject, error) {
	who := callerOf(ctx)
	v, err := h.service.Review.WithdrawRequest(ctx, who, r.RequestID)
	if err != nil {
		return nil, err
	}
	return WithdrawRequest200JSONResponse(requestOf(who.ID)(v)), nil
}

// DecideRequest implements [StrictServerInterface].
func (h *handlers) DecideRequest(ctx context.Context,
	r DecideRequestRequestObject) (DecideRequestResponseObject, error) {
	who := callerOf(ctx)
	d := review.Decision{Grant: r.Body.Grant, Comment: value(r.Body.Comment)}
	if l := r.Body.Less; l != nil {
		d.Less = &review.Less{Max: value(l.Max), Optional: value(l.Optional), Member: value(l.Member)}
	}
	v, err := h.service.Review.DecideRequest(ctx, who, r.RequestID, d)
	if err != nil {
		return nil, err
	}
	return DecideRequest200JSONResponse(requestOf(who.ID)(v)), nil
}

// GetStanding implements [StrictServerInterface].
func (h *handlers) GetStanding(ctx context.Context, r GetStandingRequestObject) (GetStandingResponseObject, error) {
	days := 90
	if r.Params.Days != nil {
		days = *r.Params.Days
	}
	s, err := h.service.Reports.Standing(ctx, base.StandingFilter{Service: value(r.Params.Service),
		Team: value(r.Params.Team)}, days)
	if err != nil {
		return nil, err
	}
	counts := func(open map[scan.Severity]int) BySeverity {
		return severities(func(s scan.Severity) int { return open[s] })
	}
	worst := func(w reports.Worst) Worst { return Worst{Name: w.Name, Open: counts(w.Open), Query: w.Query} }
	return GetStanding200JSONResponse{
		Days: each(s.Days, func(d reports.StandingDay) StandingDay {
			return StandingDay{Day: d.Day, Open: counts(d.Open), Found: d.Found, Closed: d.Ended}
		}),
		Proofs: each(s.Proofs, func(p reports.ProofTime) ProofTime {
			return ProofTime{Severity: Severity(p.Severity.String()), Proofs: p.Proofs,
				MedianHours: float32(p.Median.Hours()), LongestHours: float32(p.Longest.Hours())}
		}),
		Endpoints: each(s.Endpoints, worst), Fields: each(s.Fields, worst), Teams: each(s.Teams, worst),
		Weights: each(s.Weights, func(d finding.WeighedDay) WeighedDay {
			return WeighedDay{Day: d.Day, Captures: d.Captures, Bytes: d.Bytes, ExcessBytes: d.Excess,
				SavedBytes: d.Saved}
		}),
		Savings: each(s.Savings, func(one reports.Saving) Saving {
			return Saving{EndpointID: one.Endpoint, Name: one.Name, FirstBytes: one.First, NowBytes: one.Now,
				SavedBytes: one.Saved}
		}),
	}, nil
}
