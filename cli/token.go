package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/report"
)

func (a *app) tokenCommand() *cli.Command {
	scopes := []string{"read", "record", "everything"}
	return &cli.Command{
		Name: "token", Usage: "tokens for programs: list yours, make one, end one",
		Description: `A token may do what its scope covers of what you may: read; record, which also sends
recordings and results of pipelines; everything. One that is made for a service
changes nothing at others.

    inkret token make "nightly pipeline" --scope record --service harbour --days 30`,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list your tokens", Flags: []cli.Flag{formatFlag()}, Action: a.listTokens},
			{Name: "make", Usage: "make a token; its secret is shown this once", ArgsUsage: "NAME",
				Flags: []cli.Flag{&cli.StringFlag{Name: "scope", Value: "record", Usage: "read, record or everything"},
					&cli.StringFlag{Name: "service", Usage: "the only service that it may change, by `NAME`"},
					&cli.IntFlag{Name: "days", Value: 90, Usage: "how long it lives, up to 366"}, formatFlag()},
				ShellComplete: completeValues(map[string][]string{"scope": scopes, "format": {"table", "json"}}),
				Action:        a.makeToken},
			{Name: "end", Usage: "end a token of yours", ArgsUsage: "NUMBER", Action: a.onNumber("a token",
				(*remote).EndToken, "Token %d has ended.")},
		},
		Action: a.needsSubcommand,
	}
}

func (a *app) listTokens(ctx context.Context, c *cli.Command) error {
	return listing(ctx, a, c, func(r *remote) result[[]wire.Token] {
		response, err := r.ListTokens(ctx)
		return answerOf[[]wire.Token](response, err)
	}, func(w io.Writer, all []wire.Token) {
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Token", "Name", "Scope", "Service", "Ends", "Last used"})
		for _, k := range all {
			used := "never"
			if k.LastUsed != nil {
				used = k.LastUsed.Local().Format("2006-01-02 15:04")
			}
			t.AppendRow(table.Row{k.ID, report.Clean(k.Name), string(k.Scope), report.Clean(textOf(k.Service)),
				k.Expires.Local().Format(time.DateOnly), used})
		}
		t.Render()
		a.sayPage(len(all), len(all), 1, 50, "token", "tokens")
	})
}

func (a *app) makeToken(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usage(c, errors.New("say what the token is for"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	days, scope := c.Int("days"), wire.Scope(c.String("scope"))
	response, err := r.CreateToken(ctx, wire.CreateTokenJSONRequestBody{Name: c.Args().First(), Days: &days,
		Scope: &scope, Service: some(c.String("service"))})
	got := answerOf[wire.CreatedToken](response, err)
	if got.err != nil {
		return got.err
	}
	return a.output(c, got.value, func(w io.Writer) {
		fmt.Fprintf(w, "%s\n", got.value.Secret)
		a.say("It ends on %s and is shown this once. A program is given it as INKRET_TOKEN.",
			got.value.Token.Expires.Local().Format(time.DateOnly))
	})
}
