package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/record"
	"inkret/report"
)

func waitingFlag() cli.Flag {
	return &cli.StringFlag{Name: "waiting", Value: defaultWaiting(),
		Usage: "the `FOLDER` where captures wait while the service is away", TakesFile: true}
}

func (a *app) statusCommand() *cli.Command {
	return &cli.Command{
		Name:  "status",
		Usage: "where you are signed in, whether it answers, and which captures wait",
		Description: `Exit status 1 says that the service does not answer, or that captures of a recorder
that has ended wait on this machine.

    inkret status
    inkret status --format json`,
		Flags:         []cli.Flag{waitingFlag(), formatFlag()},
		ShellComplete: completeValues(formats),
		Action:        a.showStatus,
	}
}

func (a *app) waitingCommand() *cli.Command {
	return &cli.Command{
		Name:  "waiting",
		Usage: "captures that wait on this machine: list, send, remove",
		Description: `Captures wait while the service is away, and go by themselves when a recorder runs
again. What cannot be sent, since the service is spelt wrongly say, or refused it, is set
aside, and stays until it is sent elsewhere or removed.

    inkret waiting list
    inkret waiting send run-412 --service fennick-quay
    inkret waiting remove run-412`,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list what waits", Flags: []cli.Flag{waitingFlag(), formatFlag()},
				ShellComplete: completeValues(formats), Action: a.listWaiting},
			{Name: "send", Usage: "send what waits now, all of it or one recording", ArgsUsage: "[RUN]",
				Flags: []cli.Flag{waitingFlag(), &cli.StringFlag{Name: "service",
					Usage: "to the service of this `NAME`, instead of the one that it was recorded for"},
					logFlag("error")},
				Action: a.sendWaiting},
			{Name: "remove", Usage: "remove a recording that waits, for good", ArgsUsage: "RUN",
				Flags:  []cli.Flag{waitingFlag(), &cli.BoolFlag{Name: "yes", Usage: "do not ask"}},
				Action: a.removeWaiting},
		},
		Action: a.needsSubcommand,
	}
}

var formats = map[string][]string{"format": {"table", "json"}}

// waitingFolder returns the folder of --waiting.
func waitingFolder(c *cli.Command) (record.Folder, error) {
	config, err := os.UserConfigDir()
	return record.Folder{Dir: c.String("waiting"), Key: filepath.Join(config, "inkret", "waiting.key")}, err
}

// waitingRun is a waiting recording in a list.
type waitingRun struct {
	Run      string `json:"run"`
	URL      string `json:"url,omitempty"`
	Service  string `json:"service,omitempty"`
	Name     string `json:"name,omitempty"`
	Chunks   int    `json:"chunks"`
	SetAside int    `json:"set_aside"`
	Bytes    int64  `json:"bytes"`
	State    string `json:"state"` // recording, waits, set-aside, unreadable
	Reason   string `json:"reason,omitempty"`
}

func waitingRuns(c *cli.Command) ([]waitingRun, error) {
	folder, err := waitingFolder(c)
	if err != nil {
		return nil, err
	}
	all, err := folder.Waiting()
	if err != nil {
		return nil, hint(fmt.Errorf("the folder of what waits cannot be read: %w", fileError(err)),
			"name another with --waiting")
	}
	out := make([]waitingRun, 0, len(all))
	for _, w := range all {
		one := waitingRun{Run: w.Run, URL: w.About.URL, Service: w.About.Service, Name: w.About.Name, Chunks: w.Chunks,
			SetAside: w.Aside, Bytes: w.Bytes, State: "waits", Reason: w.About.Aside}
		switch {
		case w.Busy:
			one.State = "recording"
		case w.Fault != "":
			one.State, one.Reason = "unreadable", w.Fault
		case w.About.Aside != "":
			one.State = "set-aside"
		case w.Chunks == 0 && w.About.Batch == 0: // a recorder ended before it had anything
			continue
		}
		out = append(out, one)
	}
	return out, nil
}

// waits reports whether any run waits without a recorder.
func waits(all []waitingRun) bool {
	for _, one := range all {
		if one.State != "recording" {
			return true
		}
	}
	return false
}

func waitingTable(w io.Writer, all []waitingRun) {
	t := report.NewTable(w)
	t.AppendHeader(table.Row{"Run", "For", "Recording", "Size", "State"})
	for _, one := range all {
		state := map[string]string{"recording": "a recorder is at it", "waits": "goes when a recorder runs again",
			"set-aside": "set aside: " + one.Reason, "unreadable": "cannot be read: " + one.Reason}[one.State]
		goal := ""
		if one.URL != "" {
			goal = report.Clean(one.Service) + "\nat " + report.Clean(one.URL)
		}
		t.AppendRow(table.Row{one.Run, goal, report.Clean(one.Name), humanize.Bytes(uint64(one.Bytes)),
			report.Clean(state)})
	}
	t.Render()
}

const howToSend = "Send it with inkret waiting send RUN, to another service with --service NAME; inkret waiting " +
	"remove RUN drops it."

func (a *app) listWaiting(_ context.Context, c *cli.Command) error {
	all, err := waitingRuns(c)
	if err != nil {
		return err
	}
	if waits(all) {
		a.status = exitFindings
	}
	return a.output(c, all, func(w io.Writer) {
		if len(all) == 0 {
			a.say("Nothing waits.")
			return
		}
		waitingTable(w, all)
		if waits(all) {
			a.say(howToSend)
		}
	})
}

// standing is the output of `inkret status`.
type standing struct {
	URL     string       `json:"url,omitempty"`
	Person  string       `json:"person,omitempty"`
	Answers bool         `json:"answers"`
	Reason  string       `json:"reason,omitempty"` // why it does not, or nobody is signed in
	Waiting []waitingRun `json:"waiting"`
}

func (a *app) showStatus(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usage(c, errors.New("status takes no arguments"))
	}
	var s standing
	var err error
	if s.Waiting, err = waitingRuns(c); err != nil {
		return err
	}
	r, err := a.remote()
	if err == nil {
		s.URL = r.url
		response, asked := r.GetSession(ctx)
		got := answerOf[wire.Person](response, asked)
		if err = got.err; err == nil {
			s.Answers, s.Person = true, got.value.Name+", "+got.value.Email
		}
	}
	if err != nil {
		s.Reason = err.Error()
	}
	if waits(s.Waiting) || s.URL != "" && !s.Answers {
		a.status = exitFindings
	}
	return a.output(c, s, func(w io.Writer) {
		line := func(what, text string) { fmt.Fprintf(w, "%-9s%s\n", what, report.Clean(text)) }
		switch {
		case s.Answers:
			line("Service", s.URL+" answers")
			line("You", s.Person)
		case s.URL != "":
			line("Service", s.URL+": "+s.Reason)
		default:
			line("Service", "none: "+s.Reason)
		}
		if len(s.Waiting) == 0 {
			line("Waiting", "nothing")
			return
		}
		line("Waiting", plural(len(s.Waiting), "recording")+" in "+c.String("waiting"))
		waitingTable(w, s.Waiting)
		if waits(s.Waiting) {
			a.say(howToSend)
		}
	})
}

func (a *app) sendWaiting(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return usage(c, errors.New("send takes one run, or none for all"))
	}
	only, service := c.Args().First(), c.String("service")
	if service != "" && only == "" {
		return usage(c, errors.New("say which run goes to the service; inkret waiting list names them"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	folder, err := waitingFolder(c)
	if err != nil {
		return err
	}
	log, err := a.logger(c)
	if err != nil {
		return err
	}
	all, err := waitingRuns(c)
	if err != nil {
		return err
	}
	sent := 0
	for _, one := range all {
		if only == "" && (one.State == "recording" || one.State == "unreadable" || one.URL != r.url) || only != "" &&
			one.Run != only {
			continue
		}
		run, err := folder.Open(one.Run)
		if err != nil {
			return err
		}
		about := run.About()
		if service != "" {
			about.Service = service
		}
		if err = run.Redirect(r.url, about.Service); err == nil {
			err = record.Send(ctx, run, &liveReceiver{r, run.About()}, log)
		}
		left, reason := run.Left()
		batch := run.Batch()
		run.Release()
		if err != nil {
			return hint(fmt.Errorf("%s waits on: %w", one.Run, err), "see: inkret waiting list")
		}
		if sent++; left {
			a.warn("some of %s stays set aside: %s", one.Run, reason)
			a.status = exitFindings
		}
		if batch == 0 {
			a.say("Of %s nothing could be sent.", one.Run)
			continue
		}
		a.say("%s is sent: batch %d of %s.", one.Run, batch, about.Service)
	}
	switch {
	case sent == 0 && only != "":
		return hint(fmt.Errorf("nothing called %s waits", quoted(only)), "see: inkret waiting list")
	case sent == 0:
		a.say("Nothing waits for %s.", r.url)
	}
	return nil
}

func (a *app) removeWaiting(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usage(c, errors.New("say which run is removed; inkret waiting list names them"))
	}
	folder, err := waitingFolder(c)
	if err != nil {
		return err
	}
	name := c.Args().First()
	if yes, err := a.agreed(ctx, c,
		fmt.Sprintf("The captures of %s were sent to nobody and are lost then. Remove them?",
			name)); err != nil || !yes {
		return err
	}
	if err := folder.Remove(name); err != nil {
		return hint(err, "see: inkret waiting list")
	}
	a.say("%s is removed.", name)
	return nil
}
