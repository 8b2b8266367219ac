package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/report"
)

// What the pages of a capture and an endpoint show, on a terminal.

func (a *app) showingCaptures() []*cli.Command {
	return []*cli.Command{{
		Name: "show", Usage: "show one capture with its body as it was on the wire, values masked", ArgsUsage: "ID",
		Description: `Every member is marked: ✓ granted, ○ inside of what is open, ⇄ for another audience,
@ another person's, + unexpected, − missing, · swept only; ‼ stands where a finding sits.

    inkret capture show 41
    inkret capture show 41 --format json`,
		Flags: []cli.Flag{formatFlag()}, Action: a.showCapture,
	}}
}

func (a *app) endpointCommand() *cli.Command {
	return &cli.Command{
		Name: "endpoint", Usage: "the endpoints that contracts have or captures show", Action: a.needsSubcommand,
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list them, those that were only seen too",
				Description: `    inkret endpoint list --sort -open
    inkret endpoint list --without-contract --format json`,
				Flags: append(pageFlags(), formatFlag(),
					&cli.StringFlag{Name: "service", Usage: "only those of the service `NAME`"},
					&cli.StringFlag{Name: "search", Usage: "`WORDS` in method and path"},
					&cli.BoolFlag{Name: "with-contract", Usage: "only those that a contract has"},
					&cli.BoolFlag{Name: "without-contract", Usage: "only those that were seen and no contract has"},
					&cli.StringFlag{Name: "sort", Value: "endpoint",
						Usage: "endpoint, open, captures, excess or last_seen; with - before it the other way round"}),
				ShellComplete: completeValues(map[string][]string{"sort": {"endpoint", "-open", "-captures", "-excess",
					"-last_seen"}, "format": {"table", "json"}}),
				Action: a.listEndpoints,
			},
			{
				Name: "show", Usage: "show one with its contract, and what may go out to whom", ArgsUsage: "ID",
				Description: `    inkret endpoint show 5f0c21d0aa37`,
				Flags:       []cli.Flag{formatFlag()}, Action: a.showEndpoint,
			},
			{
				Name: "alike", Usage: "list endpoints without a contract that look like one, and make them one",
				Description: `They are told by their addresses and bodies. With --make, the endpoint comes into
the contracts, granting nothing yet, and the findings of all its addresses become its own.

    inkret endpoint alike
    inkret endpoint alike --make "GET /v1/people/{person_id}"`,
				Flags: []cli.Flag{formatFlag(),
					&cli.StringFlag{Name: "service",
						Usage: "the service's `NAME`; may be left out when there is one only"},
					&cli.StringFlag{Name: "make", Usage: "the `ENDPOINT` to make of them, as a contract writes it"}},
				Action: a.alikeEndpoints,
			},
		},
	}
}

func (a *app) alikeEndpoints(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	service, err := a.theService(ctx, r, c)
	if err != nil {
		return err
	}
	if endpoint := c.String("make"); endpoint != "" {
		response, err := r.MakeOne(ctx, service, wire.MakeOneJSONRequestBody{Endpoint: endpoint})
		var made wire.Revision
		if err := answer(response, err, &made); err != nil {
			return err
		}
		return a.output(c, made, func(w io.Writer) {
			fmt.Fprintf(w, "%s is one endpoint of %s since revision %d. It grants nothing yet.\n",
				report.Clean(endpoint),
				report.Clean(service), made.Number)
		})
	}
	response, err := r.ListAlike(ctx, service)
	var all []wire.Alike
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if len(all) == 0 {
			fmt.Fprintf(w, "No endpoints of %s without a contract look like one.\n", report.Clean(service))
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Endpoint", "Addresses", "Captures", "Such as"})
		for _, one := range all {
			t.AppendRow(table.Row{report.Clean(one.Endpoint), len(one.Endpoints), one.Captures,
				report.Clean(one.Endpoints[0])})
		}
		t.Render()
	})
}

func (a *app) showCapture(ctx context.Context, c *cli.Command) error {
	id, err := number(c, "a capture")
	if err != nil {
		return err
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.GetCapture(ctx, id)
	var d wire.CaptureDetail
	if err := answer(response, err, &d); err != nil {
		return err
	}
	return a.output(c, d, func(w io.Writer) {
		captureHead(w, &d)
		if d.Body != nil {
			fmt.Fprintln(w)
			printNode(w, d.Body, 0)
		}
		if n := valueOf(d.Cut); n > 0 {
			fmt.Fprintf(w, "%d more values are left out.\n", n)
		}
		fmt.Fprintf(w, "\n%s\n", fmt.Sprintf("%s/captures/%d", r.url, id))
	})
}

// captureHead writes what is known of a capture beside its body.
func captureHead(w io.Writer, d *wire.CaptureDetail) {
	one := &d.Capture
	line := func(name, text string) {
		if text != "" {
			fmt.Fprintf(w, "%-10s  %s\n", name, report.Clean(text))
		}
	}
	line("capture", fmt.Sprintf("%d, entry %d of batch %d", one.ID, one.Entry, one.BatchID))
	line("call", one.Method+" "+one.URL)
	line("endpoint", strings.TrimSpace(one.Endpoint+"  "+one.EndpointID))
	line("audience", strings.TrimSuffix(one.Audience+" ("+textOf(one.AudienceBy)+")", " ()"))
	line("status", fmt.Sprint(one.Status))
	line("bytes", fmt.Sprintf("%d, %d of them excess", one.Bytes, one.ExcessBytes))
	line("judged by", d.JudgedBy)
	line("skipped", textOf(one.Skipped))
	line("incomplete", textOf(one.Incomplete))
	if one.Started != nil {
		line("recorded", one.Started.Local().Format(time.DateTime))
	}
	if one.Repeats != nil {
		line("repeats", fmt.Sprintf("the call of capture %d", *one.Repeats))
	}
	for _, again := range valueOf(d.Again) {
		line("again", fmt.Sprintf("capture %d, status %d, %s", again.ID, again.Status,
			plural(again.Findings, "finding")))
	}
	for _, h := range d.RequestHeaders {
		line("request", h.Name+": "+h.Value)
	}
	for _, h := range d.ResponseHeaders {
		line("response", h.Name+": "+h.Value)
	}
}

var nodeSigns = map[wire.WireNodeMark]string{wire.WireNodeMarkGranted: "✓", wire.WireNodeMarkOpen: "○",
	wire.WireNodeMarkForeign: "⇄", wire.WireNodeMarkTheirs: "@", wire.WireNodeMarkUngranted: "+",
	wire.WireNodeMarkMissing: "−", wire.WireNodeMarkSwept: "·"}

// printNode writes a value of a body and all in it, a line each.
func printNode(w io.Writer, n *wire.WireNode, depth int) {
	sign := nodeSigns[n.Mark]
	if n.Finding != nil {
		sign = "‼"
	}
	name := "body"
	switch {
	case n.Name != nil:
		name = *n.Name
	case n.Index != nil:
		name = fmt.Sprintf("[%d]", *n.Index)
	}
	if valueOf(n.Inner) {
		name = ">> " + name
	}
	value := textOf(n.Value)
	switch n.Kind {
	case "object":
		value = "{}"
	case "array":
		value = "[]"
	}
	text := fmt.Sprintf("%s %s%s %s", sign, strings.Repeat("  ", depth), name, value)
	if n.Finding != nil {
		text += fmt.Sprintf("  %s %s, finding %s", n.Finding.Severity, n.Finding.Kind, n.Finding.ID)
	}
	fmt.Fprintln(w, report.Clean(strings.TrimRight(text, " ")))
	for i := range valueOf(n.Children) {
		printNode(w, &(*n.Children)[i], depth+1)
	}
	if more := valueOf(n.More); more > 0 {
		fmt.Fprintf(w, "  %s… and %d more\n", strings.Repeat("  ", depth+1), more)
	}
}

func (a *app) listEndpoints(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	page, size := c.Int("page"), c.Int("size")
	by := &wire.ListEndpointsParams{Page: &page, Size: &size, Service: some(c.String("service")),
		Q: some(c.String("search")), Sort: some(wire.ListEndpointsParamsSort(c.String("sort")))}
	with, without := c.Bool("with-contract"), c.Bool("without-contract")
	if with && without {
		return usage(c, errors.New("say --with-contract or --without-contract"))
	}
	if with || without {
		by.Known = &with
	}
	response, err := r.ListEndpoints(ctx, by)
	var all wire.EndpointPage
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Endpoint", "Service", "Path", "Contract", "Captures", "Open", "Gravest", "Excess",
			"Last seen"})
		for _, e := range all.Items {
			contract, seen := "yes", ""
			if !e.Known {
				contract = "none"
			}
			if e.LastSeen != nil {
				seen = e.LastSeen.Local().Format("2006-01-02 15:04")
			}
			t.AppendRow(table.Row{e.ID, e.Service, report.Clean(e.Endpoint), contract, e.Captures, e.Open,
				valueOf(e.Gravest), e.ExcessBytes, seen})
		}
		t.Render()
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "endpoint", "endpoints")
	})
}

func (a *app) showEndpoint(ctx context.Context, c *cli.Command) error {
	id := c.Args().First()
	if id == "" || c.Args().Len() > 1 {
		return usage(c, errors.New("name an endpoint by its id; inkret endpoint list shows them"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.GetEndpoint(ctx, id)
	var d wire.EndpointDetail
	if err := answer(response, err, &d); err != nil {
		return err
	}
	return a.output(c, d, func(w io.Writer) {
		e := &d.Endpoint
		fmt.Fprintf(w, "%s\n\nendpoint  %s of %s\n", report.Clean(e.Endpoint), e.ID, e.Service)
		if team := textOf(e.Team); team != "" {
			fmt.Fprintf(w, "team      %s\n", report.Clean(team))
		}
		fmt.Fprintf(w, "captures  %d, %d of %d bytes excess\nfindings  %d open\n", e.Captures, e.ExcessBytes, e.Bytes,
			e.Open)
		if e.Known {
			fmt.Fprintf(w, "contract  %s:%d\n\n", report.Clean(textOf(d.File)), valueOf(d.Line))
			for _, line := range strings.Split(strings.TrimRight(valueOf(d.Text), "\n"), "\n") {
				fmt.Fprintln(w, report.Clean(line))
			}
		} else {
			fmt.Fprintf(w, "contract  none; draft one on its page\n")
		}
		fmt.Fprintf(w, "\n%s\n", r.url+"/endpoints/"+e.ID)
	})
}
