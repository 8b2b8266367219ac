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
	"inkret/core/severity"
	"inkret/report"
)

func (a *app) hookCommand() *cli.Command {
	return &cli.Command{
		Name: "hook", Usage: "other programs that are told what happens to findings",
		Description: `Each event is sent as a CloudEvent in JSON, signed as Standard Webhooks has it, tried again
with longer and longer waits where it is not taken, and holds no value that leaked.

    inkret hook add board https://board.example/inkret --event found --event returned --least high
    inkret hook deliveries 1`,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list hooks", Flags: []cli.Flag{formatFlag()}, Action: a.listHooks},
			{
				Name: "add", Usage: "tell an address what happens from now on; prints the secret that it checks " +
					"signatures with", ArgsUsage: "NAME URL",
				Flags: []cli.Flag{
					&cli.StringSliceFlag{Name: "event",
						Usage: "only events of this `KIND`; may be said again: found, returned, closed, moved, " +
							"assigned, due, labelled, comment"},
					&cli.StringFlag{Name: "least", Value: "info", Usage: "only findings of this `SEVERITY` or graver"},
					&cli.StringFlag{Name: "service", Usage: "only findings of the service `NAME`"},
					&cli.StringFlag{Name: "address",
						Usage: "where it is reached, as `http://HOST:PORT`, if that is inside"}, formatFlag(),
				},
				ShellComplete: completeValues(map[string][]string{"least": severity.Names(),
					"event": {"found", "returned", "closed", "moved", "assigned", "due", "labelled", "comment"}}),
				Action: a.addHook,
			},
			{Name: "drop", Usage: "tell an address nothing any more", ArgsUsage: "NUMBER", Action: a.onNumber("a hook",
				(*remote).DropHook, "")},
			{Name: "test", Usage: "send an event that says that it is a test", ArgsUsage: "NUMBER",
				Action: a.onNumber("a hook", (*remote).TestHook, "It is on its way: inkret hook deliveries %d")},
			{Name: "deliveries", Usage: "what a hook was told, and what came of it", ArgsUsage: "NUMBER",
				Flags: append(pageFlags(), formatFlag()), Action: a.listDeliveries},
			{Name: "again", Usage: "send a delivery once more", ArgsUsage: "DELIVERY", Action: a.onNumber("a delivery",
				(*remote).DeliverAgain, "")},
		},
		Action: a.needsSubcommand,
	}
}

func (a *app) listHooks(ctx context.Context, c *cli.Command) error {
	return listing(ctx, a, c, func(r *remote) result[[]wire.Hook] {
		response, err := r.ListHooks(ctx)
		return answerOf[[]wire.Hook](response, err)
	}, func(w io.Writer, all []wire.Hook) {
		if len(all) > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"Hook", "Name", "URL", "Told of", "Waiting", "Given up"})
			for _, h := range all {
				of := strings.Join(h.Kinds, ", ")
				if of == "" {
					of = "everything"
				}
				if h.Least != wire.Info {
					of += "\n" + string(h.Least) + " or graver"
				}
				if h.Service != nil {
					of += "\nof " + *h.Service
				}
				t.AppendRow(table.Row{h.ID, report.Clean(h.Name), report.Clean(h.URL) + "\n" +
					report.Clean(textOf(h.Address)), cleanLines(of), h.Waiting, h.Failed})
			}
			t.Render()
		}
		a.sayPage(len(all), len(all), 1, 50, "hook", "hooks")
	})
}

func (a *app) addHook(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usage(c, errors.New("say the hook's name and its URL"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	body := wire.NewHook{Name: c.Args().Get(0), URL: c.Args().Get(1), Address: some(c.String("address")),
		Service: some(c.String("service")), Least: some(wire.Severity(c.String("least")))}
	var kinds []wire.NewHookKinds
	for _, k := range c.StringSlice("event") {
		kinds = append(kinds, wire.NewHookKinds(k))
	}
	if len(kinds) > 0 {
		body.Kinds = &kinds
	}
	response, err := r.AddHook(ctx, body)
	got := answerOf[wire.AddedHook](response, err)
	if got.err != nil {
		return got.err
	}
	return a.output(c, got.value, func(w io.Writer) {
		fmt.Fprintf(w, "Hook %d, %s. It checks signatures with this secret, which is shown this once:\n%s\n",
			got.value.Hook.ID, report.Clean(got.value.Hook.Name), got.value.Secret)
	})
}

// theNumber parses the number that a command names, and returns a client.
func (a *app) theNumber(c *cli.Command, what string) (int64, *remote, error) {
	id, err := number(c, what)
	if err != nil {
		return 0, nil, err
	}
	r, err := a.remote()
	return id, r, err
}

func (a *app) listDeliveries(ctx context.Context, c *cli.Command) error {
	id, err := number(c, "a hook")
	if err != nil {
		return err
	}
	page, size := c.Int("page"), c.Int("size")
	return listing(ctx, a, c, func(r *remote) result[wire.DeliveryPage] {
		response, err := r.ListDeliveries(ctx, id, &wire.ListDeliveriesParams{Page: &page, Size: &size})
		return answerOf[wire.DeliveryPage](response, err)
	}, func(w io.Writer, all wire.DeliveryPage) {
		if len(all.Items) > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"Delivery", "Event", "Made", "State", "Tries", "What came of it"})
			for _, d := range all.Items {
				said := textOf(d.Said)
				if d.Next != nil && d.Tries > 0 {
					said += "\nnext try " + d.Next.Local().Format("2006-01-02 15:04:05")
				}
				t.AppendRow(table.Row{d.ID, d.Kind, d.Made.Local().Format("2006-01-02 15:04:05"), string(d.State),
					d.Tries, cleanLines(said)})
			}
			t.Render()
		}
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "delivery", "deliveries")
	})
}
