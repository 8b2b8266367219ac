package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"inkret/client"
	"inkret/core/contract"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/report"
)

func (a *app) findingReportCommand(filters []cli.Flag) *cli.Command {
	formats := slices.DeleteFunc(slices.Clone(report.Formats), func(f string) bool { return f == "table" })
	return &cli.Command{
		Name: "report", Usage: "write what the service tracks as a report",
		Description: `The formats are those of check: html is one page for an auditor that prints well, sarif,
junit, csv, markdown and json are for other programs. Waived findings are marked as excepted.

    inkret finding report --format html -o risk.html
    inkret finding report --format csv --state any --team reservations -o findings.csv
    inkret finding report --format json -o baseline.json    # for inkret check --baseline`,
		Flags: append(filters, &cli.StringFlag{Name: "service", Usage: "the service's `NAME`; may be left out when there is one only"},
			&cli.StringFlag{Name: "format", Value: "html", Usage: strings.Join(formats, ", ")},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "the `FILE` to write; standard output otherwise", TakesFile: true},
			&cli.StringFlag{Name: "fail-on", Value: "medium", Usage: "the least `SEVERITY` that counts as failing: critical, high, medium, low or info"}),
		ShellComplete: completeValues(map[string][]string{"format": formats, "fail-on": scan.SeverityNames()}),
		Action:        a.reportFindings,
	}
}

func (a *app) reportFindings(ctx context.Context, c *cli.Command) error {
	write := writers[c.String("format")]
	if write == nil {
		return usage(c, fmt.Errorf("there is no format %q", c.String("format")))
	}
	failOn, ok := scan.ParseSeverity(c.String("fail-on"))
	if !ok {
		return usage(c, fmt.Errorf("there is no severity %q", c.String("fail-on")))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	service, err := a.theService(ctx, r, c)
	if err != nil {
		return err
	}
	out := &report.Result{Service: service, FailOn: failOn, Version: Version}
	if out.Summary, err = summaryOf(ctx, r, service); err != nil {
		return err
	}
	var tracked []client.Finding
	const size = 500
	for page := 1; ; page++ {
		size := size
		response, err := r.ListFindings(ctx, &client.ListFindingsParams{Page: &page, Size: &size, Service: &service, State: some(c.String("state")), Severity: some(c.String("severity")), Kind: some(c.String("kind")),
			Audience: some(c.String("audience")), Team: some(c.String("team")), Assigned: some(c.String("assigned")), Label: some(c.String("label")), Q: some(c.String("search"))})
		got := answerOf[client.FindingPage](response, err)
		if got.err != nil {
			return got.err
		}
		for i := range got.value.Items {
			if f := &got.value.Items[i]; f.Service == service {
				out.Findings = append(out.Findings, trackedFinding(f))
				tracked = append(tracked, *f)
			}
		}
		if page*size >= got.value.Total {
			break
		}
	}
	if c.String("format") == "html" {
		if out.Audit, err = auditOf(ctx, r, service, tracked); err != nil {
			return err
		}
	}
	slices.SortStableFunc(out.Findings, func(a, b *finding.Finding) int { return cmp.Compare(b.Severity, a.Severity) })
	path := c.String("output")
	if path == "" {
		return write(a.out, out)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fileError(err)
	}
	if err := errors.Join(write(f, out), f.Close()); err != nil {
		return err
	}
	a.say("%s of %s in %s.", plural(len(out.Findings), "finding"), service, path)
	return nil
}

// summaryOf counts what the service has seen of the traffic of one under review.
func summaryOf(ctx context.Context, r *remote, service string) (finding.Summary, error) {
	var s finding.Summary
	const size = 500
	for page := 1; ; page++ {
		size := size
		response, err := r.ListEndpoints(ctx, &client.ListEndpointsParams{Service: &service, Page: &page, Size: &size})
		got := answerOf[client.EndpointPage](response, err)
		if got.err != nil {
			return s, got.err
		}
		for _, e := range got.value.Items {
			s.Captures += e.Captures
			s.Judged += e.Captures
			s.Bytes += int(e.Bytes)
			s.ExcessBytes += int(e.ExcessBytes)
		}
		if page*size >= got.value.Total {
			return s, nil
		}
	}
}

// trackedFinding makes of a finding of the service one of a report.
func trackedFinding(f *client.Finding) *finding.Finding {
	kind, _ := scan.ParseKind(f.Kind)
	severity, _ := scan.ParseSeverity(string(f.Severity))
	out := &finding.Finding{Identity: finding.Identity{Service: f.Service, Endpoint: f.Endpoint, Audience: f.Audience, Direction: f.Direction, Status: f.Status, Path: f.Path, Kind: kind},
		Fingerprint: f.ID, Severity: severity, AudienceBy: textOf(f.AudienceBy), Entity: textOf(f.Entity), Field: textOf(f.Field), Class: textOf(f.Class),
		Spots: f.Spots, Captures: f.Captures, Bytes: int(f.Bytes), Sample: textOf(f.Sample), Why: f.Why}
	switch f.State {
	case client.StateWaived:
		out.Excepted = &contract.Exception{Reason: "waived until " + textOf(f.WaivedUntil)}
	case client.StateNotALeak, client.StateClosed:
		out.Excepted = &contract.Exception{Reason: strings.ReplaceAll(string(f.State), "-", " ")}
	default:
		if valueOf(f.Excepted) {
			out.Excepted = &contract.Exception{Reason: "excepted by the contract"}
		}
	}
	return out
}

// auditDays is how far back a report looks.
const auditDays = 365

// auditOf asks for what a report says besides its findings: how it stands, how far contracts
// and captures reach, and which waivers are in force.
func auditOf(ctx context.Context, r *remote, service string, tracked []client.Finding) (*report.Audit, error) {
	days := auditDays
	response, err := r.GetStanding(ctx, &client.GetStandingParams{Service: &service, Days: &days})
	standing := answerOf[client.Standing](response, err)
	if standing.err != nil {
		return nil, standing.err
	}
	response, err = r.GetCoverage(ctx, service)
	reach := answerOf[client.Coverage](response, err)
	if reach.err != nil {
		return nil, reach.err
	}
	out := &report.Audit{At: time.Now(), States: map[string]string{}}
	for _, d := range standing.value.Days {
		if o := d.Open; len(out.Days) > 0 || d.Found > 0 || o.Critical+o.High+o.Medium+o.Low+o.Info > 0 {
			out.Days = append(out.Days, report.AuditDay{Day: d.Day, Open: [5]int{o.Critical, o.High, o.Medium, o.Low, o.Info}})
		}
	}
	const perHour = float32(time.Hour)
	for _, p := range standing.value.Proofs {
		severity, _ := scan.ParseSeverity(string(p.Severity))
		out.Proofs = append(out.Proofs, report.AuditProof{Severity: severity, Proofs: p.Proofs, Median: time.Duration(p.MedianHours * perHour), Longest: time.Duration(p.LongestHours * perHour)})
	}
	for i, d := range standing.value.Weights {
		if i == 0 {
			out.Since = d.Day
		}
		out.Bytes, out.Excess, out.Saved = out.Bytes+int(d.Bytes), out.Excess+int(d.ExcessBytes), out.Saved+int(d.SavedBytes)
	}
	for _, g := range gapWords {
		out.Coverage = append(out.Coverage, report.AuditGap{Missing: reach.value.Numbers[g.gap], Of: reach.value.Numbers[g.whole], Words: g.words})
	}
	for i := range tracked {
		out.States[tracked[i].ID] = strings.ReplaceAll(string(tracked[i].State), "-", " ")
	}
	out.Waivers, err = waiversOf(ctx, r, service)
	return out, err
}

// waiversOf lists the waivers in force of a service, those first that end first.
func waiversOf(ctx context.Context, r *remote, service string) ([]report.AuditWaiver, error) {
	var out []report.AuditWaiver
	const size = 500
	for page := 1; ; page++ {
		size := size
		response, err := r.ListFindings(ctx, &client.ListFindingsParams{Page: &page, Size: &size, Service: &service, State: some("waived")})
		got := answerOf[client.FindingPage](response, err)
		if got.err != nil {
			return nil, got.err
		}
		for i := range got.value.Items {
			f := &got.value.Items[i]
			severity, _ := scan.ParseSeverity(string(f.Severity))
			w := report.AuditWaiver{Until: textOf(f.WaivedUntil), Kind: f.Kind, Severity: severity, Where: strings.TrimSpace(f.Endpoint+" "+f.Audience+" "+f.Status) + " " + f.Path, Approver: textOf(f.WaiverApprover)}
			response, err := r.GetFinding(ctx, f.ID)
			one := answerOf[client.FindingDetail](response, err)
			if one.err != nil {
				return nil, one.err
			}
			w.Reason = waiverReason(one.value.History)
			out = append(out, w)
		}
		if page*size >= got.value.Total {
			slices.SortStableFunc(out, func(a, b report.AuditWaiver) int { return cmp.Compare(a.Until, b.Until) })
			return out, nil
		}
	}
}

// waiverReason is why the last waiver was asked for, and what was said where it was approved.
func waiverReason(history []client.Event) string {
	var reasons []string
	for _, e := range history {
		asked := e.Kind == client.EventKindWaiver && textOf(e.Became) == "asked for"
		if asked || e.Kind == client.EventKindMove && valueOf(e.To) != client.StateWaived {
			reasons = nil
		}
		if said := textOf(e.Comment); said != "" && (asked || e.Kind == client.EventKindMove && valueOf(e.To) == client.StateWaived) {
			reasons = append(reasons, said)
		}
	}
	return strings.Join(reasons, "; ")
}
