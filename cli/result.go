package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/core/severity"
	"inkret/report"
)

func (a *app) resultCommand() *cli.Command {
	return &cli.Command{
		Name: "result", Usage: "what checks of pipelines found, compared with the main line",
		Description: `    inkret check --contracts contracts/ --format json run.har > result.json
    inkret result send result.json --line berth-plans --revision "$(git rev-parse HEAD)"
    inkret result show 12`,
		Commands: []*cli.Command{
			{
				Name: "send", Usage: "keep what a check found, and compare it with the main line", ArgsUsage: "FILE",
				Description: `FILE is what inkret check --format json printed; - reads it from standard input. Samples
stay here. Exit status 1: something is new at or above --fail-on, is not excepted, and
is neither waived nor judged no leak in the service.

    inkret check --contracts contracts/ --format json run.har | inkret result send - --line main`,
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "line", Required: true,
						Usage: "the `NAME` of the line of development, as in main or berth-plans"},
					&cli.StringFlag{Name: "revision", Usage: "of the program that was checked"},
					&cli.StringFlag{Name: "link", Usage: "the `URL` of the pipeline's own page"},
					&cli.StringFlag{Name: "service", Usage: "the service's `NAME`; left out, as the file says",
						Sources: a.said("service")},
					&cli.StringFlag{Name: "fail-on", Value: "medium",
						Usage: "the least `SEVERITY` that fails, or never", Sources: a.said("fail-on")}, formatFlag(),
				},
				ShellComplete: completeValues(map[string][]string{"fail-on": append(severity.Names(), "never"),
					"format": {"table", "json"}}), Action: a.sendResult,
			},
			{
				Name: "list", Usage: "list results, newest first",
				Flags: append(pageFlags(), formatFlag(), &cli.StringFlag{Name: "service",
					Usage: "only of the service `NAME`"}, &cli.StringFlag{Name: "line",
					Usage: "only of the line `NAME`"}), Action: a.listResults,
			},
			{Name: "show", Usage: "show a result, compared with the main line as it was before", ArgsUsage: "NUMBER",
				Flags: []cli.Flag{formatFlag()}, Action: a.showResult},
			{Name: "drop", Usage: "forget a result", ArgsUsage: "NUMBER", Action: a.onNumber("a result",
				(*remote).DropResult, "Result %d is forgotten.")},
			{Name: "main-line", Usage: "say which line of a service others are compared with",
				ArgsUsage: "SERVICE LINE", Action: a.setMainLine},
		},
		Action: a.needsSubcommand,
	}
}

// readResult reads the output of a check, and removes samples of values.
func (a *app) readResult(ctx context.Context, path string) (wire.CheckResult, error) {
	var out wire.CheckResult
	in, _, err := a.open(ctx, path)
	if err != nil {
		return out, fileError(err)
	}
	defer in.Close()
	if err := json.NewDecoder(in).Decode(&out); err != nil || out.Inkret == 0 {
		return out, hint(fmt.Errorf("%s is not what a check printed", report.Clean(path)),
			"inkret check --format json prints it")
	}
	if out.Findings == nil {
		out.Findings = []wire.CheckedFinding{}
	}
	return out, nil
}

func (a *app) sendResult(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usage(c, errors.New("name one file, or - for standard input"))
	}
	failOn, fails := severity.Parse(c.String("fail-on"))
	if !fails && c.String("fail-on") != "never" {
		return usage(c, fmt.Errorf("there is no severity %q", c.String("fail-on")))
	}
	body, err := a.readResult(ctx, c.Args().First())
	if err != nil {
		return err
	}
	sent, err := a.send(ctx, c, body)
	if err != nil {
		return err
	}
	if err := a.output(c, *sent, func(w io.Writer) { a.sayResult(w, sent) }); err != nil {
		return err
	}
	if fails {
		a.failOnNew(sent, failOn, nil)
	}
	return nil
}

// send sends the result of a check to the service that the options, or else the result, name.
func (a *app) send(ctx context.Context, c *cli.Command, body wire.CheckResult) (*wire.ResultDetail, error) {
	service := c.String("service")
	if service == "" && body.Service != nil {
		service = *body.Service
	}
	if service == "" {
		return nil, usage(c, errors.New("the result names no service: say --service"))
	}
	r, err := a.remote()
	if err != nil {
		return nil, err
	}
	response, err := r.SendResult(ctx, service, &wire.SendResultParams{Line: c.String("line"),
		Revision: some(c.String("revision")), Link: some(c.String("link"))}, body)
	got := answerOf[wire.ResultDetail](response, err)
	return &got.value, got.err
}

// failOnNew sets the exit status if something is new on the line and undecided.
func (a *app) failOnNew(sent *wire.ResultDetail, failOn severity.Severity, known map[string]bool) {
	for _, f := range sent.Fresh {
		s, _ := severity.Parse(string(f.Severity))
		if s >= failOn && !settled(&f) && !known[f.Fingerprint] {
			a.status = exitFindings
		}
	}
}

// sendChecked sends what check has just found, as result send would, and says where it is on standard error.
func (a *app) sendChecked(ctx context.Context, c *cli.Command, found *report.Result, failOn severity.Severity) error {
	var text bytes.Buffer
	if err := report.Writers["json"](&text, found); err != nil {
		return err
	}
	var body wire.CheckResult
	if err := json.Unmarshal(text.Bytes(), &body); err != nil {
		return err
	}
	if body.Findings == nil {
		body.Findings = []wire.CheckedFinding{}
	}
	sent, err := a.send(ctx, c, body)
	if err != nil {
		return err
	}
	known := map[string]bool{} // in the baseline
	for _, f := range found.Findings {
		known[f.Fingerprint] = f.Known
	}
	a.failOnNew(sent, failOn, known)
	fmt.Fprintf(a.err, "Sent as result %d of %s, line %s: %d new, %d as before, %d found there alone.\n",
		sent.Result.ID,
		report.Clean(sent.Result.Service), report.Clean(sent.Result.Line), len(sent.Fresh), len(sent.Same),
		len(sent.Gone))
	if sent.URL != nil {
		fmt.Fprintln(a.err, *sent.URL)
	}
	return nil
}

// settled reports whether a finding was decided not to fail the check.
func settled(f *wire.CheckedFinding) bool {
	state := valueOf(f.State)
	return valueOf(f.Excepted) || state == wire.StateWaived || state == wire.StateNotALeak
}

func (a *app) showResult(ctx context.Context, c *cli.Command) error {
	id, err := number(c, "a result")
	if err != nil {
		return err
	}
	return listing(ctx, a, c, func(r *remote) result[wire.ResultDetail] {
		response, err := r.GetResult(ctx, id)
		return answerOf[wire.ResultDetail](response, err)
	}, func(w io.Writer, d wire.ResultDetail) { a.sayResult(w, &d) })
}

// sayResult prints a result, new findings first.
func (a *app) sayResult(w io.Writer, d *wire.ResultDetail) {
	r := &d.Result
	fmt.Fprintf(w, "Result %d of %s, line %s%s, sent by %s on %s.\n", r.ID, report.Clean(r.Service),
		report.Clean(r.Line), report.Clean(parenthesisedAfter(" ", textOf(r.Revision))), report.Clean(r.Author),
		r.At.Local().Format("2006-01-02 15:04"))
	fmt.Fprintf(w, "%s judged, %s of %s covered by no grant.\n", plural(r.Summary.Judged, "capture"),
		report.Bytes(int(r.Summary.ExcessBytes)), report.Bytes(int(r.Summary.Bytes)))
	if against := d.Against; against == nil {
		fmt.Fprintln(w, "The main line has no result before it: all is new.")
	} else {
		fmt.Fprintf(w, "Against result %d of %s: %d new, %d as before, %d found there alone (mended, or not called).\n",
			against.ID, report.Clean(against.Line), len(d.Fresh), len(d.Same), len(d.Gone))
		if against.Rules != r.Rules {
			fmt.Fprintf(w, "They were judged by other rules: set %d there, %d here.\n", against.Rules, r.Rules)
		}
	}
	for _, part := range []struct {
		title string
		all   []wire.CheckedFinding
	}{{"New", d.Fresh}, {"Found there alone", d.Gone}} {
		if len(part.all) == 0 {
			continue
		}
		fmt.Fprintf(w, "\n%s:\n", part.title)
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Finding", "Severity", "Kind", "Where", "Here"})
		for _, f := range part.all {
			here := string(valueOf(f.State))
			switch {
			case valueOf(f.Excepted):
				here = "excepted"
			case here == "":
				here = "not tracked"
			}
			status := ""
			if f.Status != nil {
				status = fmt.Sprint(f.Status)
			}
			t.AppendRow(table.Row{f.Fingerprint, report.Severity(string(f.Severity), colour(a.out)),
				report.Clean(f.Kind),
				report.Clean(strings.TrimSpace(f.Endpoint+"  "+textOf(f.Audience)+" "+status)) + "\n" +
					report.Clean(f.Path), here})
		}
		t.Render()
	}
	if d.URL != nil {
		fmt.Fprintf(w, "\n%s\n", *d.URL)
	}
}

// parenthesisedAfter returns text followed by another in parentheses, if that is not empty.
func parenthesisedAfter(before, s string) string {
	if s == "" {
		return ""
	}
	return before + parenthesised(s)
}

func (a *app) listResults(ctx context.Context, c *cli.Command) error {
	page, size := c.Int("page"), c.Int("size")
	return listing(ctx, a, c, func(r *remote) result[wire.ResultPage] {
		response, err := r.ListResults(ctx, &wire.ListResultsParams{Page: &page, Size: &size,
			Service: some(c.String("service")), Line: some(c.String("line"))})
		return answerOf[wire.ResultPage](response, err)
	}, func(w io.Writer, all wire.ResultPage) {
		if all.Total > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"Result", "Service", "Line", "Revision", "Critical", "High", "Medium", "Low",
				"Sent"})
			for _, r := range all.Items {
				line := report.Clean(r.Line)
				if r.Main {
					line += " (main)"
				}
				t.AppendRow(table.Row{r.ID, report.Clean(r.Service), line, report.Clean(textOf(r.Revision)),
					r.BySeverity.Critical, r.BySeverity.High, r.BySeverity.Medium, r.BySeverity.Low,
					r.At.Local().Format("2006-01-02 15:04")})
			}
			t.Render()
		}
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "result", "results")
	})
}

func (a *app) setMainLine(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usage(c, errors.New("name the service and the line"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	service, line := c.Args().First(), c.Args().Get(1)
	response, err := r.SetMainLine(ctx, service, wire.MainLine{Line: line})
	if err := answer(response, err, nil); err != nil {
		return err
	}
	a.say("Results of %s are compared with its line %s.", service, line)
	return nil
}
