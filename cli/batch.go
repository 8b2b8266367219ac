package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/report"
)

// numbered parses an argument that is a number.
func numbered(c *cli.Command, i int, what, listing string) (int64, error) {
	id, err := strconv.ParseInt(c.Args().Get(i), 10, 64)
	if err != nil || id <= 0 {
		return 0, usage(c, fmt.Errorf("name a %s by its number; %s shows them", what, listing))
	}
	return id, nil
}

// agreed asks for confirmation. It refuses if nobody can be asked and --yes is missing.
func (a *app) agreed(ctx context.Context, c *cli.Command, question string) (bool, error) {
	if c.Bool("yes") {
		return true, nil
	}
	if a.onTerminal() == nil {
		return false, hint(errors.New("nothing was done: there is no terminal to ask at"), "say --yes to do it")
	}
	fmt.Fprintf(a.err, "%s [y/N] ", question)
	answer, err := a.line(ctx)
	if err != nil && err != io.EOF {
		return false, err
	}
	answer = strings.ToLower(strings.TrimSpace(answer))
	return answer == "y" || answer == "yes", nil
}

func (a *app) correctBatch(ctx context.Context, c *cli.Command) error {
	if n := c.Args().Len(); n < 1 || n > 2 {
		return usage(c, errors.New("name the batch, and the audience that made all its calls"))
	}
	batch, err := numbered(c, 0, "batch", "inkret capture batches")
	if err != nil {
		return err
	}
	body := wire.CorrectBatchJSONRequestBody{Audience: some(c.Args().Get(1))}
	if body.Audiences, err = mappingText(c); err != nil {
		return err
	}
	if body.Audience != nil && body.Audiences != nil {
		return usage(c, errors.New("say an audience or --audiences, not both"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.CorrectBatch(ctx, batch, body)
	if waits, err := a.waits(response, err); waits || err != nil {
		return err
	}
	var b wire.Batch
	if err := answer(response, err, &b); err != nil {
		return err
	}
	return a.output(c, b, func(io.Writer) { a.sayBatch(r, b) })
}

// oneBatch parses the batch number that a command needs.
func oneBatch(c *cli.Command) (int64, error) {
	if c.Args().Len() != 1 {
		return 0, usage(c, errors.New("name one batch"))
	}
	return numbered(c, 0, "batch", "inkret capture batches")
}

func (a *app) endBatch(ctx context.Context, c *cli.Command) error {
	batch, err := oneBatch(c)
	if err != nil {
		return err
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.CloseLive(ctx, batch, &wire.CloseLiveParams{})
	var b wire.Batch
	if err := answer(response, err, &b); err != nil {
		return err
	}
	return a.output(c, b, func(io.Writer) { a.sayBatch(r, b) })
}

func (a *app) withdraw(ctx context.Context, c *cli.Command) error {
	batch, err := oneBatch(c)
	if err != nil {
		return err
	}
	reason := strings.TrimSpace(c.String("reason"))
	if reason == "" {
		return usage(c, errors.New("say why with --reason"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.PreviewWithdrawal(ctx, batch)
	var w wire.Withdrawal
	if err := answer(response, err, &w); err != nil {
		return err
	}
	err = a.output(c, w, func(out io.Writer) { a.sayWithdrawal(out, batch, w) })
	if err != nil {
		return err
	}
	yes, err := a.agreed(ctx, c, fmt.Sprintf("Withdraw batch %d?", batch))
	if err != nil {
		return err
	}
	if !yes {
		fmt.Fprintln(a.err, "Nothing was done.")
		return nil
	}
	done, err := r.WithdrawBatch(ctx, batch, wire.WithdrawBatchJSONRequestBody{Reason: reason})
	if waits, err := a.waits(done, err); waits || err != nil {
		return err
	}
	if err := answer(done, err, nil); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "Batch %d is withdrawn.\n", batch)
	return nil
}

// waits prints that a change waits for a second person, if the response says so, and sets the exit status.
func (a *app) waits(response *http.Response, err error) (bool, error) {
	if err != nil {
		return false, unreachable(err)
	}
	if response.StatusCode != http.StatusAccepted {
		return false, nil
	}
	var w wire.WaitingChange
	if err := answer(response, nil, &w); err != nil {
		return true, err
	}
	a.status = exitFindings
	a.say("It is not done yet: it takes %s of high or critical severity off the list.\nA lead who is somebody else "+
		"approves it by doing the same, or declines it: inkret capture decline", counted(w.Findings, "finding",
		"findings"))
	return true, nil
}

func (a *app) declineBatch(ctx context.Context, c *cli.Command) error {
	batch, err := oneBatch(c)
	if err != nil {
		return err
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.DeclineBatchChange(ctx, batch,
		&wire.DeclineBatchChangeParams{Comment: some(c.String("comment"))})
	if err := answer(response, err, nil); err != nil {
		return err
	}
	a.say("Nothing waits at batch %d any more.", batch)
	return nil
}

// sayWithdrawal prints what withdrawing a batch would remove.
func (a *app) sayWithdrawal(w io.Writer, batch int64, o wire.Withdrawal) {
	a.say("Batch %d has %s.", batch, plural(o.Captures, "capture"))
	for _, part := range []struct {
		findings []wire.Finding
		one      string
		many     string
	}{
		{o.Gone, "1 finding goes with it:", "%d findings go with it:"},
		{o.Stay, "1 finding that only it shows stays, since somebody moved or discussed it:",
			"%d findings that only it shows stay, since somebody moved or discussed them:"},
	} {
		switch n := len(part.findings); n {
		case 0:
			continue
		case 1:
			a.say("%s", part.one)
		default:
			a.say(part.many, n)
		}
		findingTable(w, part.findings, colour(a.out))
	}
	if len(o.Gone)+len(o.Stay) == 0 {
		a.say("No finding is shown by it alone.")
	}
	if o.Fewer > 0 {
		a.say("%s that other batches show too will count fewer spots.", plural(o.Fewer, "finding"))
	}
}

func (a *app) repeat(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usage(c, errors.New("say which calls by --capture, --endpoint or --batch"))
	}
	body := wire.RepeatCallsJSONRequestBody{Capture: some(c.Int64("capture")), Endpoint: some(c.String("endpoint")),
		Batch:    some(c.Int64("batch")),
		Audience: some(c.String("audience")), Writes: some(c.Bool("writes"))}
	said := 0
	for _, is := range []bool{body.Capture != nil, body.Endpoint != nil, body.Batch != nil} {
		if is {
			said++
		}
	}
	if said != 1 {
		return usage(c, errors.New("say one of --capture, --endpoint and --batch"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.RepeatCalls(ctx, body)
	var b wire.Batch
	if err := answer(response, err, &b); err != nil {
		if statusOf(err) == http.StatusConflict && body.Writes == nil {
			return hint(err, "calls that may change something are made with --writes")
		}
		return err
	}
	size := maxListed
	response, err = r.ListCaptures(ctx, &wire.ListCapturesParams{Batch: &b.ID, Size: &size,
		Sort: some(wire.ListCapturesParamsSort("recorded"))})
	var calls wire.CapturePage
	if err := answer(response, err, &calls); err != nil {
		return err
	}
	switch {
	case b.Judged == 0 && b.Findings == 0: // nothing came back that could tell whether the repair is one
		a.status = exitFailed
	case b.Findings > 0:
		a.status = exitFindings
	}
	slices.Reverse(calls.Items) // in the order in which they were made
	return a.output(c, repeated{b, calls.Items}, func(w io.Writer) {
		captureTable(w, calls.Items)
		a.sayBatch(r, b)
	})
}

// maxListed is the page size limit of the service.
const maxListed = 500

// repeated is the JSON output of repeat.
type repeated struct {
	Batch    wire.Batch     `json:"batch"`
	Captures []wire.Capture `json:"captures"`
}

func (a *app) reveal(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usage(c, errors.New("name the capture and the place in its body"))
	}
	capture, err := numbered(c, 0, "capture", "inkret capture list")
	if err != nil {
		return err
	}
	if strings.TrimSpace(c.String("reason")) == "" {
		return usage(c, errors.New("say why with --reason; it goes on the trail"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.RevealValue(ctx, capture, wire.RevealValueJSONRequestBody{Pointer: c.Args().Get(1),
		Reason: c.String("reason")})
	var v struct {
		Value string `json:"value"`
	}
	if err := answer(response, err, &v); err != nil {
		return err
	}
	return a.output(c, v, func(w io.Writer) { fmt.Fprintln(w, report.Clean(v.Value)) })
}

var shiftSigns = map[wire.ComparedPlaceShift]string{"gone": "−", "added": "+", "renamed": "→", "retyped": "≠",
	"resized": "~", "same": " "}

func (a *app) compareCaptures(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usage(c, errors.New("name two captures: the one before and the one after"))
	}
	before, err := numbered(c, 0, "capture", "inkret capture list")
	if err != nil {
		return err
	}
	after, err := numbered(c, 1, "capture", "inkret capture list")
	if err != nil {
		return err
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.CompareCaptures(ctx, &wire.CompareCapturesParams{Before: before, After: after})
	var both wire.Comparison
	if err := answer(response, err, &both); err != nil {
		return err
	}
	if !c.Bool("all") {
		both.Places = slices.DeleteFunc(both.Places, func(p wire.ComparedPlace) bool { return p.Shift == "same" })
	}
	return a.output(c, both, func(w io.Writer) {
		a.say("capture %d  %s %s as %s: %s, %s excess, %s", before, both.Before.Method, both.Before.URL,
			both.Before.Audience, report.Bytes(both.Before.Bytes), report.Bytes(both.Before.ExcessBytes),
			plural(both.Before.Findings, "finding"))
		a.say("capture %d  %s %s as %s: %s, %s excess, %s", after, both.After.Method, both.After.URL,
			both.After.Audience, report.Bytes(both.After.Bytes), report.Bytes(both.After.ExcessBytes),
			plural(both.After.Findings, "finding"))
		if len(both.Places) == 0 {
			a.say("Their bodies are of the same structure and weight.")
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"", "Path", "Was", "Is", "Bytes less", "Leaked", "Leaks"})
		for _, p := range both.Places {
			path := report.Clean(p.Path)
			if p.From != nil {
				path = textOf(p.From) + " → " + path
			}
			if p.Below != nil {
				path += fmt.Sprintf(" and %d inside", *p.Below)
			}
			t.AppendRow(table.Row{shiftSigns[p.Shift] + " " + string(p.Shift), path, bodyPlace(p.Before),
				bodyPlace(p.After), p.Saved, textOf(p.Leaked), textOf(p.Leaks)})
		}
		t.Render()
	})
}

func bodyPlace(p *wire.BodyPlace) string {
	if p == nil {
		return ""
	}
	text := strings.Join(p.Types, "|")
	if p.Values > 1 {
		text = fmt.Sprintf("%d × %s", p.Values, text)
	}
	return text
}
