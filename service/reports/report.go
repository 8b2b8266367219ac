package reports

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"inkret/core/contract"
	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/severity"
	"inkret/report"
	"inkret/service/base"
	"inkret/service/review"
	"inkret/store"
)

// GapWords describes each number of coverage: the gap, its total, and both in words.
var GapWords = []struct{ Gap, Whole, Words string }{
	{review.WithoutContract, review.Endpoints, "endpoints that were seen have no contract"},
	{review.NeverCaptured, review.Contracted, "contracted endpoints were never captured"},
	{review.NeverExercised, review.Responses, "responses were never seen, by audience and status"},
	{review.NeverTried, review.AudienceEndpoints, "endpoints were never tried by an audience that they are for"},
	{review.Undetermined, review.OwnRecords,
		"responses limited to own records have some whose owner or caller is unknown"},
	{review.FieldsUnclassed, review.Fields, "fields have no class"},
}

// auditDays is how far back a report looks.
const auditDays = 365

// reportPage is how many findings are read at a time.
const reportPage = 500

// Report returns a service's findings that match a filter, most severe first, and its trends. Findings that are
// waived, closed or not a leak are marked as excepted.
func (s *Reports) Report(ctx context.Context, who base.Caller, service string, q url.Values,
	failOn severity.Severity) (*report.Result, error) {
	s.base.NoteRead(ctx, who, "export report", service, q.Encode())
	if _, err := s.store.Keeping(ctx, service); err != nil {
		return nil, base.Found(err, "service %q", service)
	}
	q = maps.Clone(q)
	q.Set("service", service)
	by, err := s.findings.Filter(ctx, who, q)
	if err != nil {
		return nil, err
	}
	out := &report.Result{Service: service, FailOn: failOn, Audit: &report.Audit{At: s.base.Now(),
		States: map[string]string{}}}
	needed, err := s.store.SecondPerson(ctx, service)
	if err != nil {
		return nil, err
	}
	out.Audit.Alone = !needed
	out.Findings = []*finding.Finding{}
	if err := s.eachFinding(ctx, by, func(f *store.Finding) {
		out.Findings = append(out.Findings, reported(f))
		out.Audit.States[f.ID] = strings.ReplaceAll(f.State, "-", " ")
	}); err != nil {
		return nil, err
	}
	if out.Summary, err = s.seen(ctx, service); err != nil {
		return nil, err
	}
	return out, errors.Join(s.auditStanding(ctx, service, out.Audit), s.auditWaivers(ctx, service, out.Audit),
		s.auditProven(ctx, service, out.Audit))
}

// eachFinding calls f for each finding that matches, most severe first.
func (s *Reports) eachFinding(ctx context.Context, by store.FindingFilter, f func(*store.Finding)) error {
	by.Sort = "-severity"
	for n := 1; ; n++ {
		some, _, err := s.store.Findings(ctx, by, store.Page{Number: n, Size: reportPage})
		if err != nil {
			return err
		}
		for i := range some {
			f(&some[i])
		}
		if len(some) < reportPage {
			return nil
		}
	}
}

// seen returns the totals of a service's captures.
func (s *Reports) seen(ctx context.Context, service string) (finding.Summary, error) {
	var all finding.Summary
	weights, err := s.store.Weights(ctx, store.StandingFilter{Service: service})
	for _, w := range weights {
		all.Captures += w.Captures
		all.Judged += w.Captures
		all.Bytes += int(w.Bytes)
		all.ExcessBytes += int(w.Excess)
	}
	return all, err
}

// reported converts a stored finding for a report.
func reported(f *store.Finding) *finding.Finding {
	kind, _ := kind.Parse(f.Kind)
	out := &finding.Finding{Identity: finding.Identity{Service: f.Service, Endpoint: f.Endpoint, Audience: f.Audience,
		Direction: f.Direction, Status: f.Status, Path: f.Path, Kind: kind},
		Fingerprint: f.ID, Severity: severity.Severity(f.Severity), Facts: f.Facts, Bytes: int(f.Bytes)}
	switch state := finding.State(f.State); {
	case state == finding.Waived:
		out.Excepted = &contract.Exception{Reason: "waived until " + f.Until}
	case !state.Open():
		out.Excepted = &contract.Exception{Reason: strings.ReplaceAll(f.State, "-", " ")}
	case f.Excepted != "":
		out.Excepted = &contract.Exception{Reason: f.Excepted}
	}
	return out
}

// auditStanding adds trends and coverage.
func (s *Reports) auditStanding(ctx context.Context, service string, a *report.Audit) error {
	standing, err := s.Standing(ctx, store.StandingFilter{Service: service}, auditDays)
	if err != nil {
		return err
	}
	for _, d := range standing.Days {
		day := report.AuditDay{Day: d.Day}
		open := 0
		for i := range day.Open {
			day.Open[i] = d.Open[severity.Critical-severity.Severity(i)]
			open += day.Open[i]
		}
		if len(a.Days) > 0 || d.Found > 0 || open > 0 { // from the first on which there was anything
			a.Days = append(a.Days, day)
		}
	}
	for _, p := range standing.Proofs {
		a.Proofs = append(a.Proofs, report.AuditProof(p))
	}
	for i, d := range standing.Weights {
		if i == 0 {
			a.Since = d.Day
		}
		a.Bytes, a.Excess, a.Saved = a.Bytes+int(d.Bytes), a.Excess+int(d.Excess), a.Saved+int(d.Saved)
	}
	reach, err := s.review.Coverage(ctx, service)
	for _, g := range GapWords {
		a.Coverage = append(a.Coverage, report.AuditGap{Missing: reach.Numbers[g.Gap], Of: reach.Numbers[g.Whole],
			Words: g.Words})
	}
	return err
}

// auditWaivers adds the waivers in force, by their last day.
func (s *Reports) auditWaivers(ctx context.Context, service string, a *report.Audit) error {
	var waived []store.Finding
	if err := s.eachFinding(ctx, store.FindingFilter{Service: service, States: []string{string(finding.Waived)}},
		func(f *store.Finding) { waived = append(waived, *f) }); err != nil {
		return err
	}
	slices.SortStableFunc(waived, func(a, b store.Finding) int { return cmp.Compare(a.Until, b.Until) })
	for i := range waived {
		f := &waived[i]
		history, err := s.store.Events(ctx, f.ID)
		if err != nil {
			return err
		}
		a.Waivers = append(a.Waivers, report.AuditWaiver{Until: f.Until, Kind: f.Kind,
			Severity: severity.Severity(f.Severity), Approver: f.Approver, Reason: waiverReason(history),
			Where: strings.TrimSpace(f.Endpoint+" "+f.Audience+" "+f.Status) + " " + f.Path})
	}
	return nil
}

// shownProven is how many of the findings that are proven fixed a report shows.
const shownProven = 200

// auditProven adds the findings that are proven fixed, with their proofs.
func (s *Reports) auditProven(ctx context.Context, service string, a *report.Audit) error {
	closed, _, err := s.store.Findings(ctx, store.FindingFilter{Service: service, Sort: "-last_seen",
		States: []string{string(finding.Closed)}}, store.Page{Number: 1, Size: shownProven})
	if err != nil {
		return err
	}
	slices.SortStableFunc(closed, func(a, b store.Finding) int { return b.Proven.Compare(a.Proven) })
	for i := range closed {
		f := &closed[i]
		one := report.AuditProven{Kind: f.Kind, Severity: severity.Severity(f.Severity), Doubt: f.Doubt,
			Where: strings.TrimSpace(f.Endpoint+" "+f.Audience+" "+f.Status) + " " + f.Path}
		if !f.Proven.IsZero() {
			one.Day = f.Proven.UTC().Format(time.DateOnly)
		}
		proofs, err := s.store.ProofsOf(ctx, *f)
		if err != nil {
			return err
		}
		for _, p := range proofs {
			one.Batch, one.Captures, one.Capture, one.Words = p.Batch, p.Captures, p.CaptureID, p.By.Words()
		}
		if len(proofs) == 0 && one.Doubt == "" {
			one.Doubt = "the recording that proved it is no longer there"
		}
		a.Proven = append(a.Proven, one)
	}
	return nil
}

// waiverReason returns why the last waiver was requested, and the approver's comment.
func waiverReason(history []store.Event) string {
	var reasons []string
	for _, e := range history {
		asked := e.Kind == "waiver" && e.Became == "asked for"
		waived := e.Kind == "move" && e.Became == string(finding.Waived)
		if asked || e.Kind == "move" && !waived {
			reasons = nil
		}
		if e.Comment != "" && (asked || waived) {
			reasons = append(reasons, e.Comment)
		}
	}
	return strings.Join(reasons, "; ")
}
