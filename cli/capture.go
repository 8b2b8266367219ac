package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/client"
	"inkret/report"
)

func (a *app) captureCommand() *cli.Command {
	return &cli.Command{
		Name:  "capture",
		Usage: "send recordings to the service, and list what came in",
		Commands: []*cli.Command{
			{
				Name: "upload", Usage: "send recordings; they are judged while they arrive", ArgsUsage: "FILE…",
				Description: `Exit status: 0 sent, 1 sent and at least one recording was not read to its end,
2 not sent. The same recording again changes nothing.

    inkret capture upload --service fennick-quay monday.har
    inkret capture upload --service fennick-quay --audience skipper - < run.har`,
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "service", Usage: "the service's `NAME`; may be left out when there is one only"},
					&cli.StringFlag{Name: "audience", Usage: "all requests were made by the audience `NAME`"},
					formatFlag(),
				},
				Action: a.upload,
			},
			{
				Name: "batches", Usage: "list what came in together, newest first",
				Flags:  append(pageFlags(), formatFlag()),
				Action: a.listBatches,
			},
			{
				Name: "list", Usage: "list captures, newest first",
				Flags: append(pageFlags(), formatFlag(), &cli.Int64Flag{Name: "batch", Usage: "only those of the batch `ID`"},
					&cli.StringFlag{Name: "finding", Usage: "only those that show the finding `ID`"},
					&cli.BoolFlag{Name: "leaking", Usage: "only those with findings"}),
				Action: a.listCaptures,
			},
		},
		Action: a.needsSubcommand,
	}
}

func pageFlags() []cli.Flag {
	return []cli.Flag{&cli.IntFlag{Name: "page", Value: 1, Usage: "which page, from 1"}, &cli.IntFlag{Name: "size", Value: 50, Usage: "items a page"}}
}

// theService gives the service that a command is about.
func (a *app) theService(ctx context.Context, r *remote, c *cli.Command) (string, error) {
	if name := c.String("service"); name != "" {
		return name, nil
	}
	response, err := r.ListServices(ctx)
	var all []client.Service
	if err := answer(response, err, &all); err != nil {
		return "", err
	}
	if len(all) != 1 {
		var names []string
		for _, s := range all {
			names = append(names, s.Name)
		}
		if len(all) == 0 {
			return "", hint(errors.New("there is no service yet"), "apply its contracts first: inkret contract apply PATH")
		}
		return "", usage(c, fmt.Errorf("say which service with --service: %s", strings.Join(names, ", ")))
	}
	return all[0].Name, nil
}

func (a *app) upload(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() == 0 {
		return usage(c, errors.New("name at least one recording, or - for standard input"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	service, err := a.theService(ctx, r, c)
	if err != nil {
		return err
	}
	batches := []client.Batch{}
	for _, name := range c.Args().Slice() {
		b, err := a.uploadOne(ctx, r, service, name, c.String("audience"))
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if b.Problem != nil {
			a.warn("%s", *b.Problem)
			a.status = exitFindings
		}
		batches = append(batches, b)
	}
	return a.output(c, batches, func(io.Writer) {
		for _, b := range batches {
			a.sayBatch(r, b)
		}
	})
}

func (a *app) sayBatch(r *remote, b client.Batch) {
	if b.Repeated {
		a.say("%s: taken in before, as batch %d; nothing changed.", b.Name, b.ID)
	} else {
		a.say("%s: batch %d, %s (%d judged, %d skipped), %s, %d of them new.", b.Name, b.ID, plural(b.Captures, "capture"), b.Judged, b.Skipped,
			plural(b.Findings, "finding"), b.NewFindings)
	}
	a.say("  %s/findings?state=any&batch=%d", r.url, b.ID)
}

func (a *app) uploadOne(ctx context.Context, r *remote, service, name, audience string) (client.Batch, error) {
	var b client.Batch
	f, size, err := a.open(name)
	if err != nil {
		return b, fileError(err)
	}
	defer f.Close()
	shown := filepath.Base(name)
	if name == "-" {
		shown = "standard input"
	}
	in, done := a.progress(f, size, shown)
	defer done()
	sized := func(_ context.Context, request *http.Request) error {
		if name != "-" {
			request.ContentLength = size
		}
		return nil
	}
	response, err := r.UploadRecordingWithBody(ctx, service, &client.UploadRecordingParams{Name: shown, Audience: some(audience)}, "application/octet-stream", in, sized)
	return b, answer(response, err, &b)
}

func (a *app) listBatches(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	page, size := c.Int("page"), c.Int("size")
	response, err := r.ListBatches(ctx, &client.ListBatchesParams{Page: &page, Size: &size})
	var all client.BatchPage
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Batch", "Recording", "Service", "By", "When", "Captures", "Skipped", "Findings", "New"})
		for _, b := range all.Items {
			t.AppendRow(table.Row{b.ID, report.Clean(b.Name), b.Service, report.Clean(b.Author), b.Started.Local().Format("2006-01-02 15:04"), b.Captures, b.Skipped, b.Findings, b.NewFindings})
		}
		t.Render()
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "batch", "batches")
	})
}

func (a *app) listCaptures(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	page, size := c.Int("page"), c.Int("size")
	response, err := r.ListCaptures(ctx, &client.ListCapturesParams{Page: &page, Size: &size, Batch: some(c.Int64("batch")),
		Finding: some(c.String("finding")), Leaking: some(c.Bool("leaking"))})
	var all client.CapturePage
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Capture", "Call", "Audience", "Status", "Bytes", "Excess", "Findings", "Recorded"})
		for _, one := range all.Items {
			what := report.Clean(one.Method + " " + one.URL)
			if one.Skipped != nil {
				what += "\n" + "skipped: " + textOf(one.Skipped)
			}
			recorded := ""
			if one.Started != nil {
				recorded = one.Started.Local().Format(time.DateTime)
			}
			t.AppendRow(table.Row{one.ID, what, one.Audience, one.Status, one.Bytes, one.ExcessBytes, one.Findings, recorded})
		}
		t.Render()
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "capture", "captures")
	})
}

// sayPage says on standard error which part of a listing was shown.
func (a *app) sayPage(shown, total, page, size int, one, many string) {
	switch {
	case total == 0:
		fmt.Fprintf(a.err, "No %s.\n", many)
	case shown < total:
		fmt.Fprintf(a.err, "%d of %d %s; --page %d shows more.\n", shown, total, many, page+1)
	case total == 1:
		fmt.Fprintf(a.err, "1 %s.\n", one)
	default:
		fmt.Fprintf(a.err, "%d %s.\n", total, many)
	}
}
