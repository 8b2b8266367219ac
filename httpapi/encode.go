package httpapi

import (
	"context"
	"maps"
	"reflect"
	"slices"
	"time"

	"inkret/api/wire"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/scan"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/findings"
	"inkret/service/review"
)

// Conversion of records to the types of the API. Optional parts are left out if they are empty.

// some returns a pointer to v, or nil for the zero value.
func some[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

// value returns the value of an optional part, or the zero value.
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

func personOf(p base.Person) wire.Person {
	var at []wire.ServiceRole
	for _, service := range slices.Sorted(maps.Keys(p.Roles)) {
		at = append(at, wire.ServiceRole{Service: service, Role: some(wire.Role(p.Roles[service]))})
	}
	return wire.Person{ID: p.ID, Name: p.Name, Email: p.Email, Role: wire.Role(p.Role), Pending: !p.Here(),
		KeptOut: some(!p.Active), SecondFactor: some(p.FactorOn), ServiceRoles: someList(at)}
}

func tokenOf(k base.Key) wire.Token {
	return wire.Token{ID: k.ID, Name: k.Name, Created: k.Created, Expires: k.Expires, LastUsed: someTime(k.LastUsed),
		Scope: wire.Scope(k.Scope), Service: some(k.Service)}
}

func (h *frame) serviceOf(ctx context.Context) func(base.ReviewedAPI) wire.Service {
	return func(s base.ReviewedAPI) wire.Service {
		return wire.Service{Name: s.Name, Endpoints: s.Endpoints, Open: s.Open, Revision: s.Revision,
			Audiences: someList(h.service.Review.Audiences(ctx, s.Name)), SecondPerson: s.SecondPerson}
	}
}

func revisionOf(r base.Revision, changed bool) wire.Revision {
	return wire.Revision{Service: r.Service, Number: r.Number, Author: r.Author, AuthorID: some(r.AuthorID),
		Created: r.Created, Reason: some(r.Reason), Endpoints: some(r.Endpoints),
		Changed: changed, Files: filesOf(r.Files), State: wire.RevisionState(r.State), Base: some(r.Base),
		Direction: some(wire.Direction(r.Direction)), Reaches: some(r.Reaches),
		Words: each(r.Words, func(w base.Words) wire.Sentence {
			return wire.Sentence{Direction: wire.Direction(w.Direction),
				Text: w.Text}
		}),
		DecidedBy: some(r.DecidedBy), Decided: someTime(r.Decided), Decision: some(r.Decision)}
}

func severities(of func(severity.Severity) int) wire.BySeverity {
	return wire.BySeverity{Critical: of(severity.Critical), High: of(severity.High), Medium: of(severity.Medium),
		Low:  of(severity.Low),
		Info: of(severity.Info)}
}

func batchOf(b base.Batch) wire.Batch {
	return wire.Batch{ID: b.ID, Service: b.Service, Name: b.Name, Author: b.Author, Audience: some(b.Audience),
		Started: b.Started, Captures: b.Captures,
		Judged: b.Judged, Skipped: b.Skipped, Incomplete: some(b.Incomplete), Undetermined: some(b.Undetermined),
		Bytes: b.Bytes, ExcessBytes: b.Excess,
		Findings: b.Findings, NewFindings: b.NewFindings,
		Repeated: b.Repeated, Problem: some(b.Problem), Origin: some(b.Origin), Growing: some(b.Growing),
		Dropped:    some(b.Dropped),
		BySeverity: severities(func(s severity.Severity) int { return b.BySeverity[s.String()] }),
		SkipReasons: someList(each(b.SkipReasons,
			func(r base.SkipReason) wire.SkipReason {
				return wire.SkipReason{Reason: r.Reason, Captures: r.Captures}
			}))}
}

func captureOf(c base.Capture) wire.Capture {
	return wire.Capture{ID: c.ID, BatchID: c.BatchID, Entry: c.Entry, Method: c.Method, URL: c.URL,
		Endpoint:   c.Endpoint,
		EndpointID: c.EndpointID,
		Audience:   c.Audience, AudienceBy: some(c.AudienceBy), Status: c.Status, Started: someTime(c.Started),
		Bytes: c.Bytes, ExcessBytes: c.Excess,
		Findings: c.Findings, Skipped: some(c.Skipped), Incomplete: some(c.Incomplete), File: some(c.File),
		Repeats: some(c.Repeats), Holds: some(c.Holds)}
}

func headersOf(h exchange.Header) []wire.Header {
	return each(h, func(f exchange.HeaderField) wire.Header { return wire.Header{Name: f.Name, Value: f.Value} })
}

func captureDetailOf(v evidence.CaptureView) wire.CaptureDetail {
	d := wire.CaptureDetail{Capture: captureOf(v.Capture), Service: some(v.Service), JudgedBy: v.JudgedBy,
		RequestHeaders:  headersOf(v.RequestHeader),
		ResponseHeaders: headersOf(v.ResponseHeader), Cut: some(v.Cut), Command: some(v.Command),
		Again: someList(each(v.Again, captureOf))}
	if v.Body != nil {
		body := wireOf(v.Body, v.Fingerprints)
		d.Body = &body
	}
	return d
}

var markNames = map[scan.Mark]wire.WireNodeMark{scan.Swept: wire.WireNodeMarkSwept,
	scan.Granted: wire.WireNodeMarkGranted,
	scan.Open:    wire.WireNodeMarkOpen,
	scan.Theirs:  wire.WireNodeMarkTheirs,
	scan.Foreign: wire.WireNodeMarkForeign, scan.Ungranted: wire.WireNodeMarkUngranted}

func wireOf(n *scan.WireNode, fingerprints map[*scan.Spot]string) wire.WireNode {
	out := wire.WireNode{Name: some(n.Name), Inner: some(n.Inner), Kind: wire.WireNodeKind(n.Kind),
		Mark:  markNames[n.Mark],
		Class: some(n.Class.String()), Line: some(n.Line),
		Bytes: n.Bytes, Pointer: some(n.Pointer), More: some(n.More), Type: some(n.Type), Field: some(n.Field)}
	if n.Missing {
		out.Mark = wire.WireNodeMarkMissing
	}
	if n.Index >= 0 {
		out.Index = &n.Index
	}
	if n.Kind != "object" && n.Kind != "array" && n.Kind != "absent" && n.Kind != "page" && n.Value != "" {
		out.Value = &n.Value
	}
	if s := n.Spot; s != nil {
		out.Path = some(s.Path)
		out.Finding = &wire.WireFinding{ID: fingerprints[s], Kind: s.Kind.String(),
			Severity: wire.Severity(s.Severity.String()),
			Why:      s.Why()}
	}
	if len(n.Children) > 0 {
		out.Children = someList(each(n.Children, func(c *scan.WireNode) wire.WireNode {
			return wireOf(c,
				fingerprints)
		}))
	}
	return out
}

func endpointOf(e base.Endpoint) wire.Endpoint {
	out := wire.Endpoint{ID: e.ID, Service: e.Service, Endpoint: e.Text, Team: some(e.Team), Known: e.Known,
		Captures: e.Captures, Open: e.Open,
		Bytes: e.Bytes, ExcessBytes: e.Excess, LastSeen: someTime(e.LastSeen)}
	if e.Gravest > 0 {
		out.Gravest = some(wire.Severity(severity.Severity(e.Gravest).String()))
	}
	return out
}

func endpointDetailOf(e review.EndpointContract, audiences []string) wire.EndpointDetail {
	out := wire.EndpointDetail{Endpoint: endpointOf(e.Endpoint), Audiences: append([]string{}, audiences...),
		Responses: []wire.ResponseContract{}, Text: some(e.Text)}
	if e.Contract == nil {
		return out
	}
	out.File, out.Line = some(e.Contract.Pos.File), some(e.Contract.Pos.Line)
	out.AnswersGraphql = some(e.Contract.Graph() != nil)
	for _, r := range e.Contract.Responses {
		out.Responses = append(out.Responses, responseOf(e.Contracts, r))
	}
	return out
}

func severityOf(n int) wire.Severity { return wire.Severity(severity.Severity(n).String()) }

// findingOf encodes a finding: what has another name or form in the description by hand, the rest by name.
func findingOf(f base.Finding) wire.Finding {
	kind, _ := kind.Parse(f.Kind)
	out := wire.Finding{Severity: wire.Severity(severity.Severity(f.Severity).String()), Cwe: kind.CWE(),
		Excepted: some(f.Excepted != ""), WaivedUntil: some(f.Until), WaiverApprover: some(f.Approver),
		WaiverAsked: askedOf(f), Person: assigneeOf(f), Shown: someTime(f.Shown), Proven: someTime(f.Proven)}
	alike(&out, f)
	return out
}

// alike copies each field of a record to the field of the same name, where both are of the same kind. What is empty is
// left out where the description lets it be.
func alike[T any](to *T, from any) {
	target := reflect.ValueOf(to).Elem()
	for field, v := range target.Fields() {
		is := reflect.ValueOf(from).FieldByName(field.Name)
		optional := field.Type.Kind() == reflect.Pointer
		of := field.Type
		if optional {
			of = of.Elem()
		}
		switch {
		case !is.IsValid() || is.Kind() != of.Kind() || !is.CanConvert(of):
		case !optional:
			v.Set(is.Convert(of))
		case !is.IsZero():
			v.Set(reflect.New(of))
			v.Elem().Set(is.Convert(of))
		}
	}
}

func askedOf(f base.Finding) *wire.AskedWaiver {
	if f.AskedTo == "" {
		return nil
	}
	return &wire.AskedWaiver{To: wire.AskedWaiverTo(f.AskedTo), Until: some(f.AskedUntil),
		By: wire.Assignee{ID: f.AskedByID,
			Name: f.AskedBy}}
}

func assigneeOf(f base.Finding) *wire.Assignee {
	if f.PersonID == 0 {
		return nil
	}
	return &wire.Assignee{ID: f.PersonID, Name: f.Person}
}

func proofOf(p base.Proof) wire.Proof {
	out := wire.Proof{BatchID: p.BatchID, Batch: p.Batch, Growing: p.Growing, Captures: p.Captures, Shown: p.Shown,
		CaptureID: some(p.CaptureID), Ground: some(wire.ProofGround(p.By)), Words: some(p.By.Words()),
		Leaked: some(p.Leaked)}
	if !p.Last.IsZero() {
		out.Last = &p.Last
	}
	return out
}

func findingDetailOf(v findings.FindingView) wire.FindingDetail {
	d := wire.FindingDetail{Finding: findingOf(v.Finding),
		Moves: each(v.Moves, func(s finding.State) wire.State { return wire.State(s) }), Elsewhere: each(v.Elsewhere,
			findingOf),
		SameValue: each(v.SameValue, findingOf), Prove: some(v.Prove), Proofs: someList(each(v.Proofs, proofOf)),
		Follows: &v.Follows, Teaches: someList(each(v.Teaches,
			func(t findings.Teaching) wire.Teaching {
				return wire.Teaching{What: wire.TeachingWhat(t.What), Text: t.Text}
			})),
		Mend: some(v.Mend), Causes: someList(each(v.Causes, func(c finding.Cause) wire.Cause {
			return wire.Cause{Text: c.Text, Finding: some(c.Finding), Entity: some(c.Entity)}
		})), Evidence: each(v.Evidence, func(o base.Occurrence) wire.Evidence {
			return wire.Evidence{CaptureID: o.CaptureID, BatchID: o.BatchID, Batch: o.Batch, Entry: o.Entry,
				Pointer: o.Pointer, Offset: o.Offset, Bytes: o.Bytes}
		}), History: each(v.History, func(e base.Event) wire.Event {
			out := wire.Event{At: e.At, Author: e.Author, Kind: wire.EventKind(e.Kind), Comment: some(e.Comment),
				Until: some(e.Until), BatchID: some(e.BatchID), Revision: some(e.Revision),
				CaptureID: some(e.CaptureID)}
			if out.Kind == wire.EventKindFound || out.Kind == wire.EventKindMove {
				out.From, out.To = some(wire.State(e.Was)), some(wire.State(e.Became))
			} else {
				out.Was, out.Became = some(e.Was), some(e.Became)
			}
			return out
		})}
	if v.GrantFile != "" {
		d.Grant = &wire.GrantPlace{File: v.GrantFile, Line: v.GrantLine, Text: some(v.GrantText)}
	}
	return d
}
