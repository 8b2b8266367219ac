package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/report"
)

func (a *app) requestCommand() *cli.Command {
	comment := &cli.StringFlag{Name: "comment", Aliases: []string{"m"}, Usage: "what to say with it"}
	return &cli.Command{
		Name: "request", Usage: "ask that a field be granted at an endpoint, and decide what others ask for",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list requests, newest first",
				Flags: append(pageFlags(), formatFlag(), &cli.StringFlag{Name: "state", Value: "open",
					Usage: "open, any, or states: granted, countered, declined, withdrawn"},
					&cli.StringFlag{Name: "endpoint", Usage: "only of the `ENDPOINT`, as the contract writes it"},
					&cli.BoolFlag{Name: "mine", Usage: "only your own"}),
				Action: a.listRequests,
			},
			{
				Name: "ask", Usage: "ask that a field be granted", ArgsUsage: "ENDPOINT ENTITY.FIELD",
				Description: `    inkret request ask "GET /v1/skippers/{skipper_id}" Skipper.phone --audience harbour-office \
        --needed-by "the arrivals page" --reason "the desk rings who is late"`,
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "service",
						Usage: "the service's `NAME`; may be left out when there is one only"},
					&cli.StringFlag{Name: "audience", Required: true, Usage: "for whom, by `NAME`"},
					&cli.StringFlag{Name: "as", Usage: "what the member is to be `CALLED`; left out, as the field"},
					&cli.StringFlag{Name: "needed-by", Required: true,
						Usage: "`WHO` needs it: a page, an application, a program"},
					&cli.StringFlag{Name: "reason", Required: true, Usage: "why"}, formatFlag(),
				},
				Action: a.askForField,
			},
			{Name: "show", Usage: "show one request, with the grant that it asks for", ArgsUsage: "NUMBER",
				Flags: []cli.Flag{formatFlag()}, Action: a.showRequest},
			{
				Name: "grant", Usage: "grant a request: the contracts get a revision that says so", ArgsUsage: "NUMBER",
				Description: `    inkret request grant 7
    inkret request grant 7 --max 40 --optional -m "the first line is enough"`,
				Flags: []cli.Flag{comment, &cli.IntFlag{Name: "max", Usage: "grant less: at most so many characters"},
					&cli.BoolFlag{Name: "optional", Usage: "it need not be there"},
					&cli.StringFlag{Name: "as", Usage: "`CALLED` so, in place of what was asked"}, formatFlag()},
				Action: a.grantRequest,
			},
			{Name: "decline", Usage: "decline a request, saying why", ArgsUsage: "NUMBER", Flags: []cli.Flag{comment,
				formatFlag()}, Action: a.declineRequest},
			{Name: "withdraw", Usage: "take back a request of yours", ArgsUsage: "NUMBER",
				Flags: []cli.Flag{formatFlag()}, Action: a.withdrawRequest},
		},
		Action: a.needsSubcommand,
	}
}

func (a *app) listRequests(ctx context.Context, c *cli.Command) error {
	page, size, mine := c.Int("page"), c.Int("size"), c.Bool("mine")
	return listing(ctx, a, c, func(r *remote) result[wire.RequestPage] {
		response, err := r.ListRequests(ctx, &wire.ListRequestsParams{Page: &page, Size: &size, Mine: &mine,
			State: some(c.String("state")), Endpoint: some(c.String("endpoint"))})
		return answerOf[wire.RequestPage](response, err)
	}, func(w io.Writer, all wire.RequestPage) {
		if len(all.Items) > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"Request", "Field", "At", "Needed by", "Who, when", "State"})
			for _, q := range all.Items {
				t.AppendRow(table.Row{q.ID, report.Clean(q.Entity+"."+q.Field) + "\n" + textOf(q.Class),
					report.Clean(q.Endpoint) + "\n" + report.Clean(q.Audience),
					report.Clean(q.NeededBy) + "\n" + report.Clean(q.Reason), report.Clean(q.Author) + "\n" +
						q.At.Local().Format("2006-01-02 15:04"), string(q.State)})
			}
			t.Render()
		}
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "request", "requests")
	})
}

func (a *app) askForField(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usage(c, errors.New("say the endpoint and the field, as in: \"GET /v1/skippers/{skipper_id}\" "+
			"Skipper.phone"))
	}
	entity, field, ok := cutLast(c.Args().Get(1), ".")
	if !ok {
		return usage(c, fmt.Errorf("%q is no field: one is written Entity.field", c.Args().Get(1)))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	service, err := a.theService(ctx, r, c)
	if err != nil {
		return err
	}
	response, err := r.AskForField(ctx, wire.NewRequest{Service: service, Endpoint: c.Args().Get(0),
		Audience: c.String("audience"), Entity: entity, Field: field,
		Member: some(c.String("as")), NeededBy: c.String("needed-by"), Reason: c.String("reason")})
	return a.oneRequest(c, r, answerOf[wire.ExposureRequest](response, err))
}

func (a *app) showRequest(ctx context.Context, c *cli.Command) error {
	id, r, err := a.theNumber(c, "a request")
	if err != nil {
		return err
	}
	response, err := r.GetRequest(ctx, id)
	return a.oneRequest(c, r, answerOf[wire.ExposureRequest](response, err))
}

func (a *app) grantRequest(ctx context.Context, c *cli.Command) error {
	id, r, err := a.theNumber(c, "a request")
	if err != nil {
		return err
	}
	d := wire.RequestDecision{Grant: true, Comment: some(c.String("comment"))}
	if c.IsSet("max") || c.IsSet("optional") || c.IsSet("as") {
		d.Less = &wire.LessGrant{Max: some(c.Int("max")), Optional: some(c.Bool("optional")),
			Member: some(c.String("as"))}
	}
	response, err := r.DecideRequest(ctx, id, d)
	return a.oneRequest(c, r, answerOf[wire.ExposureRequest](response, err))
}

func (a *app) declineRequest(ctx context.Context, c *cli.Command) error {
	id, r, err := a.theNumber(c, "a request")
	if err != nil {
		return err
	}
	response, err := r.DecideRequest(ctx, id, wire.RequestDecision{Comment: some(c.String("comment"))})
	return a.oneRequest(c, r, answerOf[wire.ExposureRequest](response, err))
}

func (a *app) withdrawRequest(ctx context.Context, c *cli.Command) error {
	id, r, err := a.theNumber(c, "a request")
	if err != nil {
		return err
	}
	response, err := r.WithdrawRequest(ctx, id)
	return a.oneRequest(c, r, answerOf[wire.ExposureRequest](response, err))
}

// oneRequest prints a request.
func (a *app) oneRequest(c *cli.Command, r *remote, got result[wire.ExposureRequest]) error {
	if got.err != nil {
		return got.err
	}
	q := got.value
	return a.output(c, q, func(w io.Writer) {
		line := func(label, words string) {
			if words != "" {
				fmt.Fprintf(w, "%-11s%s\n", label, report.Clean(words))
			}
		}
		fmt.Fprintf(w, "Request %d, %s\n\n", q.ID, q.State)
		line("field", q.Entity+"."+q.Field+" "+parenthesised(textOf(q.Class)))
		line("endpoint", q.Endpoint)
		line("audience", q.Audience)
		line("needed by", q.NeededBy)
		line("reason", q.Reason)
		line("asked", q.Author+", "+q.At.Local().Format("2006-01-02 15:04"))
		line("grant", textOf(q.Grant))
		line("but", textOf(q.Refuse))
		if q.DecidedBy != nil {
			line("decided", *q.DecidedBy+", "+q.Decided.Local().Format("2006-01-02 15:04"))
		}
		line("said", textOf(q.Decision))
		if q.Revision != nil {
			line("revision", fmt.Sprintf("%s/contracts/%s/revisions/%d", r.url, q.Service, *q.Revision))
		}
		if q.State == wire.RequestStateOpen {
			line("next", fmt.Sprintf("inkret request grant|decline %d", q.ID))
		}
		line("link", fmt.Sprintf("%s/requests/%d", r.url, q.ID))
	})
}

// cutLast cuts a text at the last separator.
func cutLast(text, sign string) (before, after string, found bool) {
	if i := strings.LastIndex(text, sign); i >= 0 {
		return text[:i], text[i+len(sign):], true
	}
	return text, "", false
}
