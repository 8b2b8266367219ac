package cli

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/report"
	"inkret/service"
)

func (a *app) trailCommand() *cli.Command {
	return &cli.Command{
		Name: "trail", Usage: "who did what when",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the trail, newest first",
				Description: `    inkret trail list --action reveal
    inkret trail list --author "Noor Adeyar" --format json`,
				Flags: append(pageFlags(), formatFlag(), &cli.StringFlag{Name: "action",
					Usage: "only what is called `ACTION`, such as reveal"},
					&cli.StringFlag{Name: "author", Usage: "only what `NAME` did"},
					&cli.StringFlag{Name: "subject", Usage: "only what was done to `SUBJECT`, such as \"capture 41\""}),
				Action: a.listTrail,
			},
			{
				Name: "verify", Usage: "see whether the trail is as it was written",
				Description: `Each entry has a hash over itself and the one before it. Exit status: 0 the trail is
whole, 1 it was tampered with. The last hash, kept elsewhere, shows later that no
entry was taken off the end.`,
				Flags: []cli.Flag{formatFlag()}, Action: a.verifyTrail,
			},
		},
		Action: a.needsSubcommand,
	}
}

func (a *app) listTrail(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	page, size := c.Int("page"), c.Int("size")
	response, err := r.ListTrail(ctx, &wire.ListTrailParams{Page: &page, Size: &size,
		Action: some(c.String("action")), Author: some(c.String("author")), Subject: some(c.String("subject"))})
	var all wire.TrailPage
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"When", "Who", "What", "To", "Detail"})
		for _, e := range all.Items {
			t.AppendRow(table.Row{e.At.Local().Format("2006-01-02 15:04:05"), whoOf(&e), report.Clean(e.Action),
				report.Clean(e.Subject), report.Clean(e.Detail)})
		}
		t.Render()
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "entry", "entries")
	})
}

func (a *app) verifyTrail(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.VerifyTrail(ctx)
	var v wire.TrailVerification
	if err := answer(response, err, &v); err != nil {
		return err
	}
	if !v.Whole {
		a.status = exitFindings
	}
	return a.output(c, v, func(io.Writer) {
		if !v.Whole {
			a.say("The trail was tampered with: %s", textOf(v.Problem))
			return
		}
		a.say("The trail is whole: %s, the last with the hash\n  %s", counted(v.Entries, "entry", "entries"), v.Last)
	})
}

func (a *app) keyCommand() *cli.Command {
	return &cli.Command{
		Name: "key", Usage: "the key that captures are encrypted with",
		Commands: []*cli.Command{{
			Name: "change", Usage: "encrypt all that a data folder holds with a new key",
			Description: `Stop the service first. A change that is broken off goes on where it was when it is
begun again; until its end the key file holds both keys.

    inkret key change --data /var/lib/inkret`,
			Flags: []cli.Flag{dataFlag()},
			Action: func(ctx context.Context, c *cli.Command) error {
				if c.Args().Present() {
					return usage(c, errors.New("key change takes no arguments"))
				}
				return a.changeKey(ctx, c.String("data"))
			},
		}},
		Action: a.needsSubcommand,
	}
}

func (a *app) changeKey(ctx context.Context, dir string) error {
	shown := terminal(a.err) > 0
	done, err := service.ChangeKey(ctx, dir, func(k service.KeyChange) {
		if shown {
			fmt.Fprintf(a.err, "\r%s", plural(k.Captures, "capture"))
		}
	})
	if shown {
		fmt.Fprint(a.err, "\r\x1b[K")
	}
	if err != nil {
		return openError(err)
	}
	a.say("%s and %s are encrypted with a new key. Keep a copy of the key file apart from copies of the database.",
		plural(done.Captures, "capture"), plural(done.Credentials, "set")+" of credentials")
	return nil
}

// whoOf describes a trail entry's author: name, address, and session or token.
func whoOf(e *wire.TrailEntry) string {
	who := report.Clean(e.Author)
	if e.Email != nil {
		who += "\n" + report.Clean(*e.Email)
	}
	if e.Key != nil {
		who += ", " + report.Clean(*e.Key)
	}
	return who
}
