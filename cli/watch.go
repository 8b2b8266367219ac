package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/report"
)

func (a *app) watchCommand() *cli.Command {
	service := serviceFlag()
	said := []cli.Flag{
		&cli.Int64SliceFlag{Name: "capture", Usage: "the call of the capture `ID`; may be repeated"},
		&cli.BoolFlag{Name: "proposed", Usage: "the calls that `inkret watch propose` lists"},
		&cli.StringSliceFlag{Name: "as",
			Usage: "as the `AUDIENCE`, or AUDIENCE:PERSON of whom credentials are kept; may be repeated, " +
				"and recorded means who made each call (as when none is said)"},
		&cli.StringFlag{Name: "every",
			Usage: "`HOURS` from one run to the next, as in 6h, or hourly, daily, weekly (default: daily)"},
		&cli.StringFlag{Name: "window",
			Usage: "only in these `HOURS` of the day, UTC, as in 22:00-05:00; all for the whole day"},
		&cli.IntFlag{Name: "per-minute", HideDefault: true,
			Usage: "at most `CALLS` per minute (default: 30)"},
		&cli.StringFlag{Name: "server", Usage: "all calls go to the allowed server `URL`; own for the server of each"},
	}
	number := "ID"
	return &cli.Command{
		Name: "watch", Usage: "safe calls sent on a schedule, so that leaks that return are reported and fixes proven",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list the watches", Flags: []cli.Flag{service, formatFlag()}, Action: a.listWatches},
			{Name: "show", Usage: "show one, with its calls and runs", ArgsUsage: number,
				Flags:  []cli.Flag{formatFlag()},
				Action: a.showWatch},
			{Name: "propose", Usage: "list the safe calls that are worth watching", Flags: []cli.Flag{service,
				formatFlag()},
				Action: a.proposeWatch},
			{
				Name: "make", Usage: "make one", ArgsUsage: "NAME", Flags: append([]cli.Flag{service, formatFlag()},
					said...),
				Description: `Only safe calls (GET, HEAD, OPTIONS) are made, to servers that an administrator has allowed, with the
credentials that are kept. What comes back is judged like any recording. If the server gives no
answer or refuses the credentials, its owner is told once.

    inkret watch make nightly --proposed --every daily --window 01:00-04:00
    inkret watch make bookings --capture 20 --as skipper --as skipper:vesna --every 6h`,
				Action: a.makeWatch,
			},
			{
				Name: "change", Usage: "change one; if its owner has left, you become the owner", ArgsUsage: number,
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "name", Usage: "call it `NAME`"}, formatFlag()},
					said...),
				Description: `What is not said stays.

    inkret watch change 3 --every hourly --per-minute 10`,
				Action: a.changeWatch,
			},
			{Name: "pause", Usage: "pause its schedule", ArgsUsage: number, Action: a.pauseWatch(true)},
			{Name: "resume", Usage: "resume its schedule", ArgsUsage: number, Action: a.pauseWatch(false)},
			{
				Name: "run", Usage: "run it now", ArgsUsage: number, Flags: []cli.Flag{formatFlag()},
				Description: `Exit status: 0 the answers have no findings, 1 they have some, 2 it failed.`,
				Action:      a.runWatch,
			},
			{Name: "remove", Usage: "remove it; what its runs captured stays", ArgsUsage: number,
				Action: a.removeWatch},
		},
		Action: a.needsSubcommand,
	}
}

// watchNumber returns the watch that a command is about.
func (a *app) watchNumber(c *cli.Command) (int64, *remote, error) {
	if c.Args().Len() != 1 {
		return 0, nil, usage(c, errors.New("name one watch by its number, as inkret watch list gives it"))
	}
	id, err := strconv.ParseInt(c.Args().First(), 10, 64)
	if err != nil {
		return 0, nil, usage(c, fmt.Errorf("%q is no number of a watch", c.Args().First()))
	}
	r, err := a.remote()
	return id, r, err
}

func (a *app) listWatches(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.ListWatches(ctx, &wire.ListWatchesParams{Service: some(c.String("service"))})
	var all []wire.Watch
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if len(all) == 0 {
			a.say("There is no watch. Make one: inkret watch make NAME --proposed")
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"ID", "Watch", "Service", "Calls", "As", "Every", "Next", "Last run"})
		for i := range all {
			one := &all[i]
			next, last := "paused", "none yet"
			if one.Next != nil {
				next = one.Next.Local().Format("2006-01-02 15:04")
			}
			if one.Last != nil {
				last = runWords(one.Last)
			}
			t.AppendRow(table.Row{one.ID, report.Clean(one.Name), one.Service, one.Calls,
				report.Clean(callersText(one.Callers)),
				everyText(one), next, report.Clean(last)})
		}
		t.Render()
	})
}

func callersText(all []wire.WatchCaller) string {
	if len(all) == 0 {
		return "as recorded"
	}
	var names []string
	for _, c := range all {
		name := c.Audience
		if c.Person != nil {
			name += " (" + *c.Person + ")"
		}
		names = append(names, name)
	}
	return strings.Join(names, ", ")
}

func everyText(w *wire.Watch) string {
	text := fmt.Sprintf("%d h", w.EveryHours)
	if w.Window != nil {
		text += ", " + *w.Window + " UTC"
	}
	return text
}

func runWords(r *wire.WatchRun) string {
	text := fmt.Sprintf("%s: %s, %s", r.Began.Local().Format("2006-01-02 15:04"), plural(r.Calls, "call"),
		plural(r.Findings, "finding"))
	if r.Failed != nil {
		text = fmt.Sprintf("%s FAILED: %s", r.Began.Local().Format("2006-01-02 15:04"), *r.Failed)
	}
	return text
}

func (a *app) showWatch(ctx context.Context, c *cli.Command) error {
	id, r, err := a.watchNumber(c)
	if err != nil {
		return err
	}
	response, err := r.GetWatch(ctx, id)
	var d wire.WatchDetail
	if err := answer(response, err, &d); err != nil {
		return err
	}
	return a.output(c, d, func(w io.Writer) { a.sayWatch(w, &d) })
}

// sayWatch prints a watch with its calls and newest runs.
func (a *app) sayWatch(w io.Writer, d *wire.WatchDetail) {
	one := &d.Watch
	a.say("%s, watch %d of %s, is %s's. It makes %s %s, every %s, %d a minute at the most.", report.Clean(one.Name),
		one.ID,
		one.Service, report.Clean(one.Owner.Name), plural(one.Calls, "call"), report.Clean(callersText(one.Callers)),
		everyText(one), one.PerMinute)
	switch {
	case one.Paused:
		a.say("It is paused: inkret watch resume %d", one.ID)
	case one.Next != nil:
		a.say("It runs next at %s.", one.Next.Local().Format("2006-01-02 15:04"))
	}
	if one.Failing != nil {
		a.say("It fails: %s", report.Clean(*one.Failing))
	}
	t := report.NewTable(w)
	t.AppendHeader(table.Row{"Call", "Recorded as"})
	for _, call := range d.Calls {
		t.AppendRow(table.Row{report.Clean(call.Method + " " + call.URL), report.Clean(fmt.Sprintf("capture %d, %s",
			call.CaptureID, cmp.Or(call.Audience, "nobody in particular")))})
	}
	t.Render()
	for i := range d.Runs {
		if i == 10 {
			break
		}
		text := runWords(&d.Runs[i])
		if b := d.Runs[i].BatchID; b != nil {
			text += fmt.Sprintf(", batch %d", *b)
		}
		a.say("%s", report.Clean(text))
	}
}

func (a *app) proposeWatch(ctx context.Context, c *cli.Command) error {
	r, service, err := a.ofService(ctx, c)
	if err != nil {
		return err
	}
	response, err := r.ListWatchable(ctx, service)
	var all []wire.WatchableCall
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if len(all) == 0 {
			a.say("No safe call of %s is recorded.", service)
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Capture", "Call", "Audience", "Why"})
		for _, p := range all {
			t.AppendRow(table.Row{p.CaptureID, report.Clean(p.Method + " " + p.URL), report.Clean(p.Audience),
				report.Clean(p.Why)})
		}
		t.Render()
	})
}

// said reads what the options say of a watch.
func (a *app) saidOfWatch(ctx context.Context, c *cli.Command, r *remote, service string) (wire.WatchSaid, error) {
	var say wire.WatchSaid
	captures := c.Int64Slice("capture")
	if c.Bool("proposed") {
		response, err := r.ListWatchable(ctx, service)
		var all []wire.WatchableCall
		if err := answer(response, err, &all); err != nil {
			return say, err
		}
		for _, p := range all {
			captures = append(captures, p.CaptureID)
		}
	}
	if len(captures) > 0 {
		say.Captures = &captures
	}
	if c.IsSet("as") {
		callers := []wire.WatchCaller{}
		for _, text := range c.StringSlice("as") {
			if text == "recorded" {
				continue
			}
			audience, person, _ := strings.Cut(text, ":")
			callers = append(callers, wire.WatchCaller{Audience: audience, Person: some(person)})
		}
		say.Callers = &callers
	}
	if text := c.String("every"); text != "" {
		hours, err := hoursOf(text)
		if err != nil {
			return say, usage(c, err)
		}
		say.EveryHours = &hours
	}
	if text := c.String("window"); text != "" {
		if text == "all" {
			text = ""
		}
		say.Window = &text
	}
	if text := c.String("server"); text != "" {
		if text == "own" {
			text = ""
		}
		say.Server = &text
	}
	if c.IsSet("per-minute") {
		n := c.Int("per-minute")
		say.PerMinute = &n
	}
	return say, nil
}

// hoursOf reads how often a watch runs.
func hoursOf(text string) (int, error) {
	switch text {
	case "hourly":
		return 1, nil
	case "daily":
		return 24, nil
	case "weekly":
		return 7 * 24, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < time.Hour || d%time.Hour != 0 {
		return 0, fmt.Errorf("--every %q: whole hours are written 6h; hourly, daily and weekly are known", text)
	}
	return int(d / time.Hour), nil
}

func (a *app) makeWatch(ctx context.Context, c *cli.Command) error {
	r, service, err := a.ofService(ctx, c, "the name of the watch")
	if err != nil {
		return err
	}
	say, err := a.saidOfWatch(ctx, c, r, service)
	if err != nil {
		return err
	}
	say.Name = some(c.Args().First())
	response, err := r.MakeWatch(ctx, service, say)
	var d wire.WatchDetail
	if err := answer(response, err, &d); err != nil {
		return err
	}
	return a.output(c, d, func(w io.Writer) { a.sayWatch(w, &d) })
}

func (a *app) changeWatch(ctx context.Context, c *cli.Command) error {
	id, r, err := a.watchNumber(c)
	if err != nil {
		return err
	}
	response, err := r.GetWatch(ctx, id)
	var d wire.WatchDetail
	if err := answer(response, err, &d); err != nil {
		return err
	}
	say, err := a.saidOfWatch(ctx, c, r, d.Watch.Service)
	if err != nil {
		return err
	}
	if say.Name = some(c.String("name")); say == (wire.WatchSaid{}) {
		return usage(c, errors.New("say what changes"))
	}
	changed, err := r.ChangeWatch(ctx, id, say)
	if err := answer(changed, err, &d); err != nil {
		return err
	}
	return a.output(c, d, func(w io.Writer) { a.sayWatch(w, &d) })
}

func (a *app) pauseWatch(paused bool) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		id, r, err := a.watchNumber(c)
		if err != nil {
			return err
		}
		response, err := r.ChangeWatch(ctx, id, wire.WatchSaid{Paused: &paused})
		var d wire.WatchDetail
		if err := answer(response, err, &d); err != nil {
			return err
		}
		if paused {
			a.say("%s is paused.", report.Clean(d.Watch.Name))
		} else {
			a.say("%s runs next at %s.", report.Clean(d.Watch.Name), d.Watch.Next.Local().Format("2006-01-02 15:04"))
		}
		return nil
	}
}

func (a *app) runWatch(ctx context.Context, c *cli.Command) error {
	id, r, err := a.watchNumber(c)
	if err != nil {
		return err
	}
	response, err := r.RunWatch(ctx, id)
	var d wire.WatchDetail
	if err := answer(response, err, &d); err != nil {
		return err
	}
	if len(d.Runs) > 0 {
		switch run := &d.Runs[0]; {
		case run.Failed != nil:
			err = errors.New(*run.Failed)
		case run.Findings > 0:
			a.status = exitFindings
		}
	}
	return errors.Join(a.output(c, d, func(io.Writer) {
		if len(d.Runs) > 0 {
			a.say("%s", report.Clean(runWords(&d.Runs[0])))
			if b := d.Runs[0].BatchID; b != nil {
				a.say("The answers are batch %d.", *b)
			}
		}
	}), err)
}

func (a *app) removeWatch(ctx context.Context, c *cli.Command) error {
	id, r, err := a.watchNumber(c)
	if err != nil {
		return err
	}
	response, err := r.RemoveWatch(ctx, id)
	if err := answer(response, err, nil); err != nil {
		return err
	}
	a.say("It is removed. The captures and findings of its runs stay.")
	return nil
}
