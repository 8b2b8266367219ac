package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/report"
)

func (a *app) captureCommand() *cli.Command {
	return &cli.Command{
		Name:     "capture",
		Usage:    "send recordings to the service, list what came in, make calls again",
		Commands: slices.Concat(a.sendingCaptures(), a.showingCaptures(), a.changingBatches(), a.callingAgain()),
		Action:   a.needsSubcommand,
	}
}

// sendingCaptures returns the commands that send recordings and list captures.
func (a *app) sendingCaptures() []*cli.Command {
	batch := &cli.Int64Flag{Name: "batch", Usage: "only those of the batch `ID`"}
	return []*cli.Command{
		{
			Name: "upload", Usage: "send recordings; they are judged while they arrive", ArgsUsage: "FILE…",
			Description: `Takes what inkret check takes: files, folders, and - for standard input. The same
recording again changes nothing, so that what was broken off is just sent again.

Exit status: 0 sent, 1 sent and at least one recording was not read to its end,
2 not sent.

    inkret capture upload --service fennick-quay monday.har
    inkret capture upload --audiences who-made-what.yaml recordings/
    curl -i https://api.fennick-quay.example/v1/berths | inkret capture upload --request "GET https://api.fennick-quay.example/v1/berths" -`,
			Flags:  []cli.Flag{serviceFlag(), audienceFlag(), mappingFlag(), requestFlag(), formatFlag()},
			Action: a.upload,
		},
		{
			Name: "batches", Usage: "list what came in together, newest first",
			Flags:  append(pageFlags(), formatFlag()),
			Action: a.listBatches,
		},
		{
			Name: "list", Usage: "list captures, newest first",
			Description: `    inkret capture list --leaking --sort excess
    inkret capture list --audience visitor --status 4XX,500 --since 2027-03-01
    inkret capture list --search /v1/berths --least-bytes 10000 --format json`,
			Flags: append(pageFlags(), formatFlag(), batch,
				&cli.StringFlag{Name: "service", Usage: "only those of the service `NAME`"},
				&cli.StringFlag{Name: "endpoint", Usage: "only those of the endpoint `ID`"},
				&cli.StringFlag{Name: "audience", Usage: "only those of the audience `NAME`"},
				&cli.StringFlag{Name: "status", Usage: "`CODES` or classes of codes, separated by commas: 200,4XX"},
				&cli.StringFlag{Name: "finding", Usage: "only those that show the finding `ID`"},
				&cli.Int64Flag{Name: "repeats", Usage: "only those that made the call of the capture `ID` again"},
				&cli.StringFlag{Name: "search", Usage: "`WORDS` in method and address"},
				&cli.StringFlag{Name: "since",
					Usage: "recorded on that `DAY` or later, as 2027-03-31; or at that time, as " +
						"2027-03-31T08:00:00Z"},
				&cli.StringFlag{Name: "until", Usage: "recorded before that `DAY` or time"},
				&cli.IntFlag{Name: "least-bytes", Usage: "with bodies of so many `BYTES` or more"},
				&cli.IntFlag{Name: "most-bytes", Usage: "with bodies of so many `BYTES` or fewer"},
				&cli.BoolFlag{Name: "leaking", Usage: "only those with findings"},
				&cli.BoolFlag{Name: "clean", Usage: "only those that were judged and have none"},
				&cli.BoolFlag{Name: "skipped", Usage: "only those that were skipped"},
				&cli.StringFlag{Name: "sort", Value: "newest",
					Usage: "newest, recorded, bytes, excess or findings"}),
			ShellComplete: completeValues(map[string][]string{"sort": {"newest", "recorded", "bytes", "excess",
				"findings"}, "format": {"table", "json"}}),
			Action: a.listCaptures,
		},
		{
			Name: "compare", Usage: "hold a capture against the one before it", ArgsUsage: "BEFORE AFTER",
			Description: `Compares the bodies by structure, not by line: members that went, came, have another
name, type or weight. Two releases, two audiences, a list and a detail view.

    inkret capture compare 41 57
    inkret capture compare 41 57 --all --format json`,
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "list what is the same, too"}, formatFlag()},
			Action: a.compareCaptures,
		},
	}
}

// changingBatches returns the commands that correct and withdraw batches.
func (a *app) changingBatches() []*cli.Command {
	yes := &cli.BoolFlag{Name: "yes", Usage: "do not ask"}
	reason := &cli.StringFlag{Name: "reason", Usage: "why; it goes on the trail"}
	return []*cli.Command{
		{
			Name: "audience", Usage: "correct who made the calls of a batch; it is judged anew",
			ArgsUsage: "BATCH [AUDIENCE]",
			Description: `Without an audience, each call is the audience's that recognises it.

    inkret capture audience 7 skipper
    inkret capture audience 7 --audiences who-made-what.yaml
    inkret capture audience 7`,
			Flags: []cli.Flag{mappingFlag(), formatFlag()}, Action: a.correctBatch,
		},
		{
			Name: "end", Usage: "complete a batch whose recorder is gone", ArgsUsage: "BATCH",
			Description: `A recorder completes its batch when it is stopped. One that died with its machine
cannot; a recorder that still runs begins another batch.

    inkret capture end 7`,
			Flags: []cli.Flag{formatFlag()}, Action: a.endBatch,
		},
		{
			Name: "decline", Usage: "decline what waits for a second person at a recording, or take back what " +
				"you asked for", ArgsUsage: "BATCH",
			Description: `Withdrawing a recording, or saying anew who made its requests, can take findings of
high or critical severity off the list. One person asks for that, and a lead who is somebody
else approves it by doing the same, or declines it.

    inkret capture decline 7 --comment "the leak is real"`,
			Flags:  []cli.Flag{&cli.StringFlag{Name: "comment", Usage: "why, needed to decline"}},
			Action: a.declineBatch,
		},
		{
			Name: "withdraw", Usage: "take a batch away, with what only it showed", ArgsUsage: "BATCH",
			Description: `Shows first which findings would go, and asks. Findings that somebody has moved or
discussed stay.

    inkret capture withdraw 7 --reason "recorded against the wrong release"`,
			Flags: []cli.Flag{reason, yes, formatFlag()}, Action: a.withdraw,
		},
	}
}

// callingAgain returns the commands that send calls again and reveal values.
func (a *app) callingAgain() []*cli.Command {
	reason := &cli.StringFlag{Name: "reason", Usage: "why; it goes on the trail"}
	return []*cli.Command{
		{
			Name: "repeat", Usage: "make recorded calls again, to see whether a repair is one",
			Description: `The calls go to servers that an administrator has allowed, with the credentials that
are kept for the audience. Calls that may change something (POST and the like) are
made only with --writes.

Exit status: 0 the answers have no findings, 1 they have some, 2 it could not be done, or
no answer came that could be judged.

    inkret capture repeat --capture 41
    inkret capture repeat --capture 41 --audience visitor
    inkret capture repeat --endpoint 5f0c21d0aa37be86
    inkret capture repeat --batch 7`,
			Flags: []cli.Flag{&cli.Int64Flag{Name: "capture", Usage: "the call of the capture `ID`"},
				&cli.StringFlag{Name: "endpoint", Usage: "all different calls of the endpoint `ID`"},
				&cli.Int64Flag{Name: "batch", Usage: "all different calls of the batch `ID`"},
				&cli.StringFlag{Name: "audience", Usage: "as the audience `NAME`; else as whom each was made"},
				&cli.BoolFlag{Name: "writes", Usage: "make calls too that may change something"}, formatFlag()},
			Action: a.repeat,
		},
		matrixCommand(a),
		{
			Name: "reveal", Usage: "show one value of a capture in clear", ArgsUsage: "CAPTURE PLACE",
			Description: `For reviewers and leads. Who saw which value, and why, goes on the trail. The place
is written as the wire view and the evidence of a finding have it.

    inkret capture reveal 41 /data/0/skipper/email --reason "telling the skipper whom it concerns"`,
			Flags: []cli.Flag{reason, formatFlag()}, Action: a.reveal,
		},
	}
}

func pageFlags() []cli.Flag {
	return []cli.Flag{&cli.IntFlag{Name: "page", Value: 1, Usage: "which page, from 1"}, &cli.IntFlag{Name: "size",
		Value: 50, Usage: "items a page"}}
}

// theService returns the service that a command is about.
func (a *app) theService(ctx context.Context, r *remote, c *cli.Command) (string, error) {
	if name := c.String("service"); name != "" {
		return name, nil
	}
	response, err := r.ListServices(ctx)
	var all []wire.Service
	if err := answer(response, err, &all); err != nil {
		return "", err
	}
	if len(all) != 1 {
		var names []string
		for _, s := range all {
			names = append(names, s.Name)
		}
		if len(all) == 0 {
			return "", hint(errors.New("there is no service yet"),
				"apply its contracts first: inkret contract apply PATH")
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
	files, err := recordings(c.Args().Slice())
	if err != nil {
		return err
	}
	said := wire.UploadRecordingParams{Audience: some(c.String("audience")), Request: some(c.String("request"))}
	if _, err := readingOptions(c); err != nil { // what is wrong with it is told before anything is sent
		return err
	}
	if said.Audiences, err = mappingText(c); err != nil {
		return err
	}
	batches := []wire.Batch{}
	for _, one := range files {
		b, err := a.uploadOne(ctx, r, service, one, said)
		if one.found && statusOf(err) == http.StatusUnsupportedMediaType {
			a.warn("%s: %v", one.name, err)
			continue
		}
		if err != nil {
			return fmt.Errorf("%s: %w", one.name, err)
		}
		if b.Problem != nil {
			a.warn("%s", *b.Problem)
			a.status = exitFailed
		}
		batches = append(batches, b)
	}
	return a.output(c, batches, func(io.Writer) {
		for _, b := range batches {
			a.sayBatch(r, b)
		}
	})
}

func (a *app) sayBatch(r *remote, b wire.Batch) {
	if b.Repeated {
		a.say("%s: taken in before, as batch %d; nothing changed.", b.Name, b.ID)
	} else {
		a.say("%s: batch %d, %s (%d judged, %d skipped), %s, %d of them new.", b.Name, b.ID,
			plural(b.Captures, "capture"), b.Judged, b.Skipped,
			plural(b.Findings, "finding"), b.NewFindings)
	}
	if n := valueOf(b.Undetermined); n > 0 {
		a.say("  %s limited to the caller's own could not be told apart: who asked, or whose they are, is not known.",
			plural(n, "record"))
	}
	if n := valueOf(b.Incomplete); n > 0 {
		a.say("  %d incomplete: they are judged as far as they go, and prove no repair", n)
	}
	if b.SkipReasons != nil && !b.Repeated {
		for _, reason := range *b.SkipReasons {
			a.say("  skipped %d: %s", reason.Captures, reason.Reason)
		}
	}
	a.say("  %s/findings?state=any&batch=%d", r.url, b.ID)
}

func (a *app) uploadOne(ctx context.Context, r *remote, service string, one recordingFile,
	said wire.UploadRecordingParams) (wire.Batch, error) {
	var b wire.Batch
	f, size, err := a.open(ctx, one.name)
	if err != nil {
		return b, fileError(err)
	}
	defer f.Close()
	in, done := a.progress(f, size, one.shown)
	defer done()
	sized := func(_ context.Context, request *http.Request) error {
		if one.name != "-" {
			request.ContentLength = size
		}
		return nil
	}
	said.Name = one.shown
	response, err := r.UploadRecordingWithBody(ctx, service, &said, "application/octet-stream", in, sized)
	return b, answer(response, err, &b)
}

func (a *app) listBatches(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	page, size := c.Int("page"), c.Int("size")
	response, err := r.ListBatches(ctx, &wire.ListBatchesParams{Page: &page, Size: &size})
	var all wire.BatchPage
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Batch", "Recording", "Service", "By", "When", "Captures", "Skipped", "Findings",
			"New"})
		for _, b := range all.Items {
			t.AppendRow(table.Row{b.ID, report.Clean(b.Name), b.Service, report.Clean(b.Author),
				b.Started.Local().Format("2006-01-02 15:04"), b.Captures, b.Skipped, b.Findings, b.NewFindings})
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
	by, err := captureFilter(c)
	if err != nil {
		return err
	}
	response, err := r.ListCaptures(ctx, by)
	var all wire.CapturePage
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		captureTable(w, all.Items)
		if valueOf(all.More) {
			fmt.Fprintf(a.err, "%d of over %d captures; --page %d shows more, filters narrow them.\n", len(all.Items),
				all.Total, all.Page+1)
			return
		}
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "capture", "captures")
	})
}

func captureTable(w io.Writer, all []wire.Capture) {
	t := report.NewTable(w)
	t.AppendHeader(table.Row{"Capture", "Call", "Audience", "Status", "Bytes", "Excess", "Findings", "Recorded"})
	for _, one := range all {
		what := report.Clean(one.Method + " " + one.URL)
		if one.Repeats != nil {
			what += fmt.Sprintf("\ncapture %d again", *one.Repeats)
		}
		if one.Skipped != nil {
			what += "\nskipped: " + textOf(one.Skipped)
		} else if one.Incomplete != nil {
			what += "\nincomplete: " + textOf(one.Incomplete)
		}
		recorded := ""
		if one.Started != nil {
			recorded = one.Started.Local().Format(time.DateTime)
		}
		t.AppendRow(table.Row{one.ID, what, report.Clean(one.Audience), one.Status, one.Bytes, one.ExcessBytes,
			one.Findings, recorded})
	}
	t.Render()
}

// captureFilter parses the options that select captures.
func captureFilter(c *cli.Command) (*wire.ListCapturesParams, error) {
	page, size := c.Int("page"), c.Int("size")
	by := &wire.ListCapturesParams{Page: &page, Size: &size, Batch: some(c.Int64("batch")),
		Service:  some(c.String("service")),
		Endpoint: some(c.String("endpoint")), Audience: some(c.String("audience")), Finding: some(c.String("finding")),
		Repeats: some(c.Int64("repeats")),
		Words:   some(c.String("search")), LeastBytes: some(c.Int("least-bytes")), MostBytes: some(c.Int("most-bytes")),
		Leaking: some(c.Bool("leaking")),
		Clean:   some(c.Bool("clean")), Skipped: some(c.Bool("skipped")),
		Sort: some(wire.ListCapturesParamsSort(c.String("sort")))}
	if text := c.String("status"); text != "" {
		all := strings.Split(text, ",")
		for i := range all {
			all[i] = strings.TrimSpace(all[i])
		}
		by.Status = &all
	}
	for flag, to := range map[string]**time.Time{"since": &by.Since, "until": &by.Until} {
		text := c.String(flag)
		if text == "" {
			continue
		}
		at, err := time.ParseInLocation(time.DateOnly, text, time.Local)
		if err != nil {
			at, err = time.Parse(time.RFC3339, text)
		}
		if err != nil {
			return nil, usage(c, fmt.Errorf("--%s %s is no day as 2027-03-31 and no time as 2027-03-31T08:00:00Z", flag,
				quoted(text)))
		}
		*to = &at
	}
	return by, nil
}

// sayPage prints on standard error which part of a list was shown.
func (a *app) sayPage(shown, total, page, size int, one, many string) {
	switch {
	case total == 0:
		fmt.Fprintf(a.err, "No %s.\n", many)
	case size > 0 && (page-1)*size >= total:
		fmt.Fprintf(a.err, "There is no page %d: page %d is the last, of %s.\n", page, (total+size-1)/size,
			counted(total, one, many))
	case size > 0 && page*size >= total && page > 1:
		fmt.Fprintf(a.err, "The last %d of %d %s.\n", shown, total, many)
	case shown < total:
		fmt.Fprintf(a.err, "%d of %d %s; --page %d shows more.\n", shown, total, many, page+1)
	default:
		fmt.Fprintf(a.err, "%s.\n", counted(total, one, many))
	}
}
