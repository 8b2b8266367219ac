package httpapi

import (
	"context"
	"maps"
	"slices"
	"time"

	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/findings"
	"inkret/service/review"
)

// The turning of records into what the interface describes. Optional parts are
// left out when they hold nothing.

// some gives a pointer to v, or nil for the zero value.
func some[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

// value is what an optional part holds, the zero value when it was left out.
func value[T any](p *T) T {
	if p == nil {
		var zero T
		return zero
	}
	return *p
}

func each[A, B any](all []A, f func(A) B) []B {
	out := make([]B, len(all))
	for i, a := range all {
		out[i] = f(a)
	}
	return out
}

func someTime(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func someList[T any](all []T) *[]T {
	if len(all) == 0 {
		return nil
	}
	return &all
}

func personOf(p base.Person) Person {
	var at []ServiceRole
	for _, service := range slices.Sorted(maps.Keys(p.Roles)) {
		at = append(at, ServiceRole{Service: service, Role: some(Role(p.Roles[service]))})
	}
	return Person{ID: p.ID, Name: p.Name, Email: p.Email, Role: Role(p.Role), Pending: !p.Here(),
		KeptOut: some(!p.Active), SecondFactor: some(p.FactorOn), ServiceRoles: someList(at)}
}

func tokenOf(k base.Key) Token {
	return Token{ID: k.ID, Name: k.Name, Created: k.Created, Expires: k.Expires, LastUsed: someTime(k.LastUsed),
		Scope: Scope(k.Scope), Service: some(k.Service)}
}

func (h *frame) serviceOf(ctx context.Context) func(base.ReviewedAPI) Service {
	return func(s base.ReviewedAPI) Service {
		return Service{Name: s.Name, Endpoints: s.Endpoints, Open: s.Open, Revision: s.Revision,
			Audiences: someList(h.service.Review.Audiences(ctx, s.Name)), SecondPerson: s.SecondPerson}
	}
}

func revisionOf(r base.Revision, changed bool) Revision {
	return Revision{Service: r.Service, Number: r.Number, Author: r.Author, AuthorID: some(r.AuthorID),
		Created: r.Created, Reason: some(r.Reason), Endpoints: some(r.Endpoints),
		Changed: changed, Files: filesOf(r.Files), State: RevisionState(r.State), Base: some(r.Base),
		Direction: some(Direction(r.Direction)), Reaches: some(r.Reaches),
		Words: each(r.Words, func(w base.Words) Sentence {
			return Sentence{Direction: Direction(w.Direction),
				Text: w.Text}
		}),
		DecidedBy: some(r.DecidedBy), Decided: someTime(r.Decided), Decision: some(r.Decision)}
}

func severities(of func(scan.Severity) int) BySeverity {
	return BySeverity{Critical: of(scan.Critical), High: of(scan.High), Medium: of(scan.Medium), Low: of(scan.Low),
		Info: of(scan.Info)}
}

func batchOf(b base.Batch) Batch {
	return Batch{ID: b.ID, Service: b.Service, Name: b.Name, Author: b.Author, Audience: some(b.Audience),
		Started: b.Started, Captures: b.Captures,
		Judged: b.Judged, Skipped: b.Skipped, Incomplete: some(b.Incomplete), Bytes: b.Bytes, ExcessBytes: b.Excess,
		Findings: b.Findings, NewFindings: b.NewFindings,
		Repeated: b.Repeated, Problem: some(b.Problem), Origin: some(b.Origin), Growing: some(b.Growing),
		Dropped: some(b.Dropped), BySeverity: severities(func(s scan.Severity) int { return b.BySeverity[s.String()] }),
		SkipReasons: someList(each(b.SkipReasons,
			func(r base.SkipReason) SkipReason { return SkipReason{Reason: r.Reason, Captures: r.Captures} }))}
}

func captureOf(c base.Capture) Capture {
	return Capture{ID: c.ID, BatchID: c.BatchID, Entry: c.Entry, Method: c.Method, URL: c.URL, Endpoint: c.Endpoint,
		EndpointID: c.EndpointID,
		Audience:   c.Audience, AudienceBy: some(c.AudienceBy), Status: c.Status, Started: someTime(c.Started),
		Bytes: c.Bytes, ExcessBytes: c.Excess,
		Findings: c.Findings, Skipped: some(c.Skipped), Incomplete: some(c.Incomplete), File: some(c.File),
		Repeats: some(c.Repeats), Holds: some(c.Holds)}
}

func headersOf(h exchange.Header) []Header {
	return each(h, func(f exchange.HeaderField) Header { return Header{Name: f.Name, Value: f.Value} })
}

func captureDetailOf(v evidence.CaptureView) CaptureDetail {
	d := CaptureDetail{Capture: captureOf(v.Capture), Service: some(v.Service), JudgedBy: v.JudgedBy,
		RequestHeaders:  headersOf(v.RequestHeader),
		ResponseHeaders: headersOf(v.ResponseHeader), Cut: some(v.Cut), Command: some(v.Command),
		Again: someList(each(v.Again, captureOf))}
	if v.Body != nil {
		body := wireOf(v.Body, v.Fingerprints)
		d.Body = &body
	}
	return d
}

var markNames = map[scan.Mark]WireNodeMark{scan.Swept: WireNodeMarkSwept, scan.Granted: WireNodeMarkGranted,
	scan.Open:    WireNodeMarkOpen,
	scan.Foreign: WireNodeMarkForeign, scan.Ungranted: WireNodeMarkUngranted}

func wireOf(n *scan.WireNode, fingerprints map[*scan.Spot]string) WireNode {
	out := WireNode{Name: some(n.Name), Inner: some(n.Inner), Kind: WireNodeKind(n.Kind), Mark: markNames[n.Mark],
		Class: some(n.Class.String()), Line: some(n.Line),
		Bytes: n.Bytes, Pointer: some(n.Pointer), More: some(n.More)}
	if n.Missing {
		out.Mark = WireNodeMarkMissing
	}
	if n.Index >= 0 {
		out.Index = &n.Index
	}
	if n.Kind != "object" && n.Kind != "array" && n.Kind != "absent" && n.Kind != "page" && n.Value != "" {
		out.Value = &n.Value
	}
	if s := n.Spot; s != nil {
		out.Path = some(s.Path)
		out.Finding = &WireFinding{ID: fingerprints[s], Kind: s.Kind.String(), Severity: Severity(s.Severity.String()),
			Why: s.Why()}
	}
	if len(n.Children) > 0 {
		out.Children = someList(each(n.Children, func(c *scan.WireNode) WireNode { return wireOf(c, fingerprints) }))
	}
	return out
}

func endpointOf(e base.Endpoint) Endpoint {
	out := Endpoint{ID: e.ID, Service: e.Service, Endpoint: e.Text, Team: some(e.Team), Known: e.Known,
		Captures: e.Captures, Open: e.Open,
		Bytes: e.Bytes, ExcessBytes: e.Excess, LastSeen: someTime(e.LastSeen)}
	if e.Gravest > 0 {
		out.Gravest = some(Severity(scan.Severity(e.Gravest).String()))
	}
	return out
}

func endpointDetailOf(e review.EndpointContract, audiences []string) EndpointDetail {
	out := EndpointDetail{Endpoint: endpointOf(e.Endpoint), Audiences: append([]string{}, audiences...),
		Responses: []ResponseContract{}, Text: some(e.Text)}
	if e.Contract == nil {
		return out
	}
	out.File, out.Line = some(e.Contract.Pos.File), some(e.Contract.Pos.Line)
	for _, r := range e.Contract.Responses {
		out.Responses = append(out.Responses, responseOf(e.Contracts, r))
	}
	return out
}

func severityOf(n int) Severity { return Severity(scan.Severity(n).String()) }

func findingOf(f base.Finding) Finding {
	kind, _ := scan.ParseKind(f.Kind)
	return Finding{ID: f.ID, Service: f.Service, Kind: f.Kind, Severity: Severity(scan.Severity(f.Severity).String()),
		Cwe: kind.CWE(), Endpoint: f.Endpoint,
		EndpointID: f.EndpointID, Team: some(f.Team), Audience: f.Audience, AudienceBy: some(f.AudienceBy),
		Direction: f.Direction, Status: f.Status,
		Path: f.Path, Entity: some(f.Entity), Field: some(f.Field), Class: some(f.Class), Spots: f.Spots,
		Captures: f.Captures, Bytes: f.Bytes,
		Sample: some(f.Sample), Why: f.Why, State: State(f.State), Excepted: some(f.Excepted != ""),
		WaivedUntil:    some(f.Until),
		WaiverApprover: some(f.Approver), WaiverAsked: askedOf(f), AssignedTeam: some(f.AssignedTeam), Due: some(f.Due),
		Labels: someList(f.Labels), Person: assigneeOf(f), FirstSeen: f.FirstSeen, LastSeen: f.LastSeen}
}

func askedOf(f base.Finding) *AskedWaiver {
	if f.AskedTo == "" {
		return nil
	}
	return &AskedWaiver{To: AskedWaiverTo(f.AskedTo), Until: some(f.AskedUntil), By: Assignee{ID: f.AskedByID,
		Name: f.AskedBy}}
}

func assigneeOf(f base.Finding) *Assignee {
	if f.PersonID == 0 {
		return nil
	}
	return &Assignee{ID: f.PersonID, Name: f.Person}
}

func findingDetailOf(v findings.FindingView) FindingDetail {
	d := FindingDetail{Finding: findingOf(v.Finding),
		Moves: each(v.Moves, func(s finding.State) State { return State(s) }), Elsewhere: each(v.Elsewhere, findingOf),
		SameValue: each(v.SameValue, findingOf), Prove: some(v.Prove),
		Follows: &v.Follows, Teaches: someList(each(v.Teaches,
			func(t findings.Teaching) Teaching { return Teaching{What: TeachingWhat(t.What), Text: t.Text} })),
		Mend: some(v.Mend), Causes: someList(each(v.Causes, func(c finding.Cause) Cause {
			return Cause{Text: c.Text, Finding: some(c.Finding), Entity: some(c.Entity)}
		})), Evidence: each(v.Evidence, func(o base.Occurrence) Evidence {
			return Evidence{CaptureID: o.CaptureID, BatchID: o.BatchID, Batch: o.Batch, Entry: o.Entry,
				Pointer: o.Pointer, Offset: o.Offset, Bytes: o.Bytes}
		}), History: each(v.History, func(e base.Event) Event {
			out := Event{At: e.At, Author: e.Author, Kind: EventKind(e.Kind), Comment: some(e.Comment),
				Until: some(e.Until), BatchID: some(e.BatchID), Revision: some(e.Revision),
				CaptureID: some(e.CaptureID)}
			if out.Kind == EventKindFound || out.Kind == EventKindMove {
				out.From, out.To = some(State(e.Was)), some(State(e.Became))
			} else {
				out.Was, out.Became = some(e.Was), some(e.Became)
			}
			return out
		})}
	if v.GoneWith != nil {
		d.GoneWith = &GoneWith{Finding: v.GoneWith.ID, Path: v.GoneWith.Path}
	}
	if v.GrantFile != "" {
		d.Grant = &GrantPlace{File: v.GrantFile, Line: v.GrantLine, Text: some(v.GrantText)}
	}
	return d
}
