package httpapi

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/people"
	"inkret/service/review"

	"inkret/core/contract"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/docs/kinds"
	"inkret/service"
)

// handlers implements the operations: each decodes, calls one use case, and
// encodes.
type handlers struct {
	service *service.Service
	options Options
	numbers *numbers
}

// GetSession implements [StrictServerInterface].
func (h *handlers) GetSession(ctx context.Context, _ GetSessionRequestObject) (GetSessionResponseObject, error) {
	return GetSession200JSONResponse(personOf(callerOf(ctx).Person)), nil
}

// SignIn implements [StrictServerInterface].
func (h *handlers) SignIn(ctx context.Context, r SignInRequestObject) (SignInResponseObject, error) {
	who, secret, err := h.service.People.SignIn(ctx, r.Body.Email, r.Body.Password, value(r.Body.Code))
	if err != nil {
		return nil, err
	}
	h.signedIn(ctx, who, secret)
	return SignIn200JSONResponse{Body: personOf(who.Person)}, nil
}

// ReadLink implements [StrictServerInterface].
func (h *handlers) ReadLink(ctx context.Context, r ReadLinkRequestObject) (ReadLinkResponseObject, error) {
	l, err := h.service.People.Link(ctx, r.Body.Code)
	return ReadLink200JSONResponse{Email: l.Email, Reset: l.Reset, Factor: l.Factor, Tokens: l.Tokens}, err
}

// SetUp implements [StrictServerInterface].
func (h *handlers) SetUp(ctx context.Context, r SetUpRequestObject) (SetUpResponseObject, error) {
	who, secret, err := h.service.People.SetUp(ctx, people.SettingUp{Code: r.Body.Code, Email: value(r.Body.Email),
		Name: r.Body.Name, Password: r.Body.Password,
		Factor: value(r.Body.Factor), EndTokens: value(r.Body.EndTokens)})
	if err != nil {
		return nil, err
	}
	h.signedIn(ctx, who, secret)
	return SetUp200JSONResponse{Body: personOf(who.Person)}, nil
}

// SignOut implements [StrictServerInterface].
func (h *handlers) SignOut(ctx context.Context, _ SignOutRequestObject) (SignOutResponseObject, error) {
	who := callerOf(ctx)
	if err := h.service.People.EndToken(ctx, who, who.Key.ID); err != nil {
		return nil, err
	}
	h.setCookie(ctx, http.Cookie{Name: sessionCookie, MaxAge: -1, SameSite: http.SameSiteStrictMode})
	return SignOut204Response{}, nil
}

// ListTokens implements [StrictServerInterface].
func (h *handlers) ListTokens(ctx context.Context, _ ListTokensRequestObject) (ListTokensResponseObject, error) {
	all, err := h.service.People.Tokens(ctx, callerOf(ctx))
	return ListTokens200JSONResponse(each(all, tokenOf)), err
}

// CreateToken implements [StrictServerInterface].
func (h *handlers) CreateToken(ctx context.Context, r CreateTokenRequestObject) (CreateTokenResponseObject, error) {
	caller := callerOf(ctx)
	person := caller.Person
	var err error
	switch c := r.Body.Credentials; {
	case c != nil:
		if person, err = h.service.People.CheckPassword(ctx, c.Email, c.Password, value(c.Code)); err != nil {
			return nil, err
		}
	case person.ID == 0:
		return nil, &base.Problem{Code: base.Unauthenticated,
			Detail: "this needs somebody who is signed in, or an e-mail address and password"}
	default:
		if err := h.service.Base.Admit(ctx, &caller, base.Need{Role: base.Viewer, Scope: base.ScopeEverything},
			nil); err != nil {
			return nil, err
		}
	}
	days := value(r.Body.Days)
	who, secret, err := h.service.People.NewToken(ctx, caller, person, base.Key{Name: strings.TrimSpace(r.Body.Name),
		Scope: string(value(r.Body.Scope)), Service: value(r.Body.Service)}, time.Duration(days)*24*time.Hour)
	if err != nil {
		return nil, err
	}
	return CreateToken201JSONResponse{Token: tokenOf(who.Key), Secret: secret, Person: personOf(who.Person)}, nil
}

// EndToken implements [StrictServerInterface].
func (h *handlers) EndToken(ctx context.Context, r EndTokenRequestObject) (EndTokenResponseObject, error) {
	return EndToken204Response{}, h.service.People.EndToken(ctx, callerOf(ctx), r.TokenID)
}

// ListPeople implements [StrictServerInterface].
func (h *handlers) ListPeople(ctx context.Context, _ ListPeopleRequestObject) (ListPeopleResponseObject, error) {
	all, err := h.service.People.People(ctx)
	return ListPeople200JSONResponse(each(all, personOf)), err
}

// Invite implements [StrictServerInterface].
func (h *handlers) Invite(ctx context.Context, r InviteRequestObject) (InviteResponseObject, error) {
	p, code, err := h.service.People.Invite(ctx, callerOf(ctx), r.Body.Email, string(r.Body.Role))
	if err != nil {
		return nil, err
	}
	return Invite201JSONResponse{Person: personOf(p), Link: SetupLink(h.options.Public, code)}, nil
}

// SetupLink is the address at which a one-time code is used. The code stands in
// the fragment, which browsers send to nobody.
func SetupLink(public, code string) string { return public + "/set-up#" + code }

// GetHome implements [StrictServerInterface].
func (h *handlers) GetHome(ctx context.Context, _ GetHomeRequestObject) (GetHomeResponseObject, error) {
	home, err := h.service.Findings.Home(ctx, callerOf(ctx))
	if err != nil {
		return nil, err
	}
	out := Home{
		BySeverity: severities(func(s scan.Severity) int { return home.Severities[int(s)] }), Urgent: each(home.Urgent,
			findingOf),
		Returned: home.States[string(finding.Returned)], AwaitingProof: home.States[string(finding.AwaitingProof)],
		Mine: each(home.Mine, findingOf), MineTotal: home.MineTotal, Overdue: home.Overdue, Unread: home.Unread,
		Requests:      home.Requests,
		WaiversEnding: home.WaiversEnding, WaiversAsked: home.WaiversAsked, RevisionsWaiting: home.Revisions,
		LeftBehind: home.Left, UnknownEndpoints: each(home.Unknown, endpointOf), UnknownTotal: home.UnknownTotal,
		Batches: each(home.Batches, batchOf), Services: each(home.Services, h.serviceOf(ctx)), ByState: []StateCount{},
	}
	for _, s := range finding.States() {
		n := home.States[string(s)]
		out.ByState = append(out.ByState, StateCount{State: State(s), Findings: n})
		if s.Open() {
			out.Open += n
		}
	}
	return GetHome200JSONResponse(out), nil
}

// ListServices implements [StrictServerInterface].
func (h *handlers) ListServices(ctx context.Context, _ ListServicesRequestObject) (ListServicesResponseObject, error) {
	all, err := h.service.Review.Services(ctx)
	return ListServices200JSONResponse(each(all, h.serviceOf(ctx))), err
}

// ExportContracts implements [StrictServerInterface].
func (h *handlers) ExportContracts(ctx context.Context,
	r ExportContractsRequestObject) (ExportContractsResponseObject, error) {
	revision, err := h.service.Review.ExportFor(ctx, callerOf(ctx), r.Service)
	return ExportContracts200JSONResponse(revisionOf(revision, false)), err
}

// ApplyContracts implements [StrictServerInterface].
func (h *handlers) ApplyContracts(ctx context.Context,
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

// UploadRecording implements [StrictServerInterface].
func (h *handlers) UploadRecording(ctx context.Context,
	r UploadRecordingRequestObject) (UploadRecordingResponseObject, error) {
	b, err := h.service.Evidence.Upload(ctx, callerOf(ctx), r.Service, r.Params.Name,
		evidence.Said{Audience: value(r.Params.Audience), Mapping: value(r.Params.Audiences),
			Request: value(r.Params.Request)}, r.Body)
	if err != nil {
		return nil, err
	}
	return UploadRecording200JSONResponse(batchOf(b)), nil
}

// pageOf gives the page that is asked for; the description bounds both numbers.
func pageOf(number *PageNumber, size *PageSize) base.Page {
	const defaultSize = 50
	p := base.Page{Number: 1, Size: defaultSize}
	if number != nil {
		p.Number = *number
	}
	if size != nil {
		p.Size = *size
	}
	return p
}

// ListBatches implements [StrictServerInterface].
func (h *handlers) ListBatches(ctx context.Context, r ListBatchesRequestObject) (ListBatchesResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Evidence.Batches(ctx, page)
	return ListBatches200JSONResponse{Items: each(all, batchOf), Total: total, Page: page.Number, Size: page.Size}, err
}

// GetBatch implements [StrictServerInterface].
func (h *handlers) GetBatch(ctx context.Context, r GetBatchRequestObject) (GetBatchResponseObject, error) {
	b, err := h.service.Evidence.Batch(ctx, r.BatchID)
	if err != nil {
		return nil, err
	}
	out := batchOf(b)
	a, err := h.service.Evidence.Asking(ctx, r.BatchID)
	out.Waiting = waitingOf(a)
	return GetBatch200JSONResponse(out), err
}

// ListCaptures implements [StrictServerInterface].
func (h *handlers) ListCaptures(ctx context.Context, r ListCapturesRequestObject) (ListCapturesResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	q := r.Params
	all, total, more, err := h.service.Evidence.Captures(ctx, base.CaptureFilter{Batch: value(q.Batch),
		Endpoint: value(q.Endpoint), Audience: value(q.Audience),
		Finding: value(q.Finding), Leaking: value(q.Leaking), Clean: value(q.Clean), Skipped: value(q.Skipped),
		Service: value(q.Service), Statuses: value(q.Status),
		Least: value(q.LeastBytes), Most: value(q.MostBytes), Since: value(q.Since), Until: value(q.Until),
		Words: value(q.Words), Repeats: value(q.Repeats),
		Sort: string(value(q.Sort))}, page)
	return ListCaptures200JSONResponse{Items: each(all, captureOf), Total: total, More: some(more), Page: page.Number,
		Size: page.Size}, err
}

// GetCapture implements [StrictServerInterface].
func (h *handlers) GetCapture(ctx context.Context, r GetCaptureRequestObject) (GetCaptureResponseObject, error) {
	v, err := h.service.Evidence.Capture(ctx, r.CaptureID)
	if err != nil {
		return nil, err
	}
	return GetCapture200JSONResponse(captureDetailOf(v)), nil
}

// ListEndpoints implements [StrictServerInterface].
func (h *handlers) ListEndpoints(ctx context.Context,
	r ListEndpointsRequestObject) (ListEndpointsResponseObject, error) {
	page := pageOf(r.Params.Page, r.Params.Size)
	all, total, err := h.service.Review.Endpoints(ctx, base.EndpointFilter{Words: value(r.Params.Q),
		Service: value(r.Params.Service), Known: r.Params.Known, Sort: string(value(r.Params.Sort))}, page)
	return ListEndpoints200JSONResponse{Items: each(all, endpointOf), Total: total, Page: page.Number, Size: page.Size},
		err
}

// GetEndpoint implements [StrictServerInterface].
func (h *handlers) GetEndpoint(ctx context.Context, r GetEndpointRequestObject) (GetEndpointResponseObject, error) {
	e, err := h.service.Review.Endpoint(ctx, r.EndpointID)
	if err != nil {
		return nil, err
	}
	return GetEndpoint200JSONResponse(endpointDetailOf(e, h.service.Review.Audiences(ctx, e.Service))), nil
}

// ListFindings implements [StrictServerInterface].
func (h *handlers) ListFindings(ctx context.Context, r ListFindingsRequestObject) (ListFindingsResponseObject, error) {
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
	return ListFindings200JSONResponse{Items: each(all, findingOf), Total: total, Page: page.Number, Size: page.Size,
		BySeverity: severities(func(s scan.Severity) int { return counts[int(s)] })}, nil
}

// GetFinding implements [StrictServerInterface].
func (h *handlers) GetFinding(ctx context.Context, r GetFindingRequestObject) (GetFindingResponseObject, error) {
	v, err := h.service.Findings.Finding(ctx, callerOf(ctx), r.FindingID)
	if err != nil {
		return nil, err
	}
	return GetFinding200JSONResponse(findingDetailOf(v)), nil
}

// MoveFinding implements [StrictServerInterface].
func (h *handlers) MoveFinding(ctx context.Context, r MoveFindingRequestObject) (MoveFindingResponseObject, error) {
	v, err := h.service.Findings.Move(ctx, callerOf(ctx), r.FindingID, finding.Move{To: finding.State(r.Body.To),
		Comment: value(r.Body.Comment), Until: value(r.Body.Until)})
	if err != nil {
		return nil, err
	}
	return MoveFinding200JSONResponse(findingDetailOf(v)), nil
}

// CommentFinding implements [StrictServerInterface].
func (h *handlers) CommentFinding(ctx context.Context,
	r CommentFindingRequestObject) (CommentFindingResponseObject, error) {
	v, err := h.service.Findings.Comment(ctx, callerOf(ctx), r.FindingID, r.Body.Text)
	if err != nil {
		return nil, err
	}
	return CommentFinding200JSONResponse(findingDetailOf(v)), nil
}

func list(s *string) []string {
	var out []string
	for _, part := range strings.Split(value(s), ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

// ListKinds implements [StrictServerInterface].
func (h *handlers) ListKinds(context.Context, ListKindsRequestObject) (ListKindsResponseObject, error) {
	return ListKinds200JSONResponse(each(scan.Kinds(), func(k scan.Kind) KindPage {
		page, _ := kinds.Page(k.String())
		return KindPage{Kind: k.String(), Cwe: k.CWE(), Summary: kinds.Summary(k.String()), Mend: some(finding.Mend(k)),
			Page: page}
	})), nil
}
