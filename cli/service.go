package cli

import (
	"bufio"
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

func (a *app) serviceCommand() *cli.Command {
	service := serviceFlag()
	person := &cli.StringFlag{Name: "person", Usage: "what one of several people of the audience is called (`NAME`)"}
	return &cli.Command{
		Name: "service", Usage: "the services under review, and what may be done with them",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list them", Flags: []cli.Flag{formatFlag()}, Action: a.listServices},
			{
				Name: "servers", Usage: "list the servers of a service, and to which calls may be made again",
				Flags: []cli.Flag{service, formatFlag()}, Action: a.listServers,
			},
			{
				Name: "allow", Usage: "allow that recorded calls are made again to a server of the contracts",
				ArgsUsage: "URL",
				Description: `For administrators. Without --address the server's name must lead to a public
address; one inside, a test system on this machine say, is named by --address.

    inkret service allow https://api.fennick-quay.example
    inkret service allow https://api.fennick-quay.example --address http://127.0.0.1:7466`,
				Flags: []cli.Flag{service, &cli.StringFlag{Name: "address",
					Usage: "the `URL` at which the server is reached instead"}},
				Action: a.allowServer,
			},
			{
				Name: "forbid", Usage: "take that back", ArgsUsage: "URL",
				Flags: []cli.Flag{service}, Action: a.forbidServer,
			},
			{
				Name: "credentials", Usage: "with which header fields calls are made again, by audience",
				Commands: []*cli.Command{
					{
						Name: "list", Usage: "list the audiences that have some; values are never shown",
						Flags: []cli.Flag{service, formatFlag()}, Action: a.listCredentials,
					},
					{
						Name: "set", Usage: "keep header fields for an audience, in place of those that are kept",
						ArgsUsage: "AUDIENCE",
						Description: `Reads header fields from standard input, one a line, so that no value stands in a
list of processes or a shell's history. They are encrypted and never shown again.

    inkret service credentials set skipper < skipper.headers
    printf 'Authorization: Bearer %s\n' "$TOKEN" | inkret service credentials set skipper
    inkret service credentials set skipper --person vesna < vesna.headers`,
						Flags: []cli.Flag{service, person}, Action: a.setCredentials,
					},
					{
						Name: "remove", Usage: "forget those of an audience", ArgsUsage: "AUDIENCE",
						Flags: []cli.Flag{service, person}, Action: a.removeCredentials,
					},
				},
				Action: a.needsSubcommand,
			},
			{
				Name: "second-person", Usage: "say whether severe decisions need a second person", ArgsUsage: "on|off",
				Description: `Waiving a finding of high or critical severity, taking it for no leak, and whatever else
takes it off the list without proof needs a second person, and so do contracts that expose more. A
team of one switches that off. The trail, the overview and every report say so.

    inkret service second-person off --reason "a team of one"`,
				Flags:  []cli.Flag{service, &cli.StringFlag{Name: "reason", Usage: "why; it goes on the trail"}},
				Action: a.secondPerson,
			},
			{
				Name: "keeping", Usage: "show or set how long captured bodies are kept",
				Description: `When their time is over, bodies and the masked samples that only they showed are
dropped; findings, places and weights stay. With --bodies=false new captures are
judged when they come in, and no body is kept at all.

    inkret service keeping
    inkret service keeping --days 30
    inkret service keeping --bodies=false`,
				Flags: []cli.Flag{service, &cli.IntFlag{Name: "days",
					Usage: "drop bodies after so many `DAYS`; 0 keeps them without end"},
					&cli.BoolFlag{Name: "bodies", Value: true, Usage: "keep the bodies of new captures"}, formatFlag()},
				Action: a.keeping,
			},
		},
		Action: a.needsSubcommand,
	}
}

func serviceFlag() cli.Flag {
	return &cli.StringFlag{Name: "service", Usage: "the service's `NAME`; may be left out when there is one only"}
}

// ofService parses a command about one service with the given arguments.
func (a *app) ofService(ctx context.Context, c *cli.Command, words ...string) (*remote, string, error) {
	if c.Args().Len() != len(words) {
		if len(words) == 0 {
			return nil, "", usage(c, fmt.Errorf("%s takes no arguments", c.Name))
		}
		return nil, "", usage(c, fmt.Errorf("name %s", strings.Join(words, " and ")))
	}
	r, err := a.remote()
	if err != nil {
		return nil, "", err
	}
	service, err := a.theService(ctx, r, c)
	return r, service, err
}

func (a *app) listServices(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.ListServices(ctx)
	var all []wire.Service
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if len(all) == 0 {
			a.say("There is no service yet. Apply its contracts: inkret contract apply PATH")
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Service", "Endpoints", "Open findings", "Revision"})
		for _, s := range all {
			t.AppendRow(table.Row{report.Clean(s.Name), s.Endpoints, s.Open, s.Revision})
		}
		t.Render()
	})
}

func (a *app) listServers(ctx context.Context, c *cli.Command) error {
	r, service, err := a.ofService(ctx, c)
	if err != nil {
		return err
	}
	response, err := r.ListServers(ctx, service)
	var all []wire.CalledServer
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if len(all) == 0 {
			a.say("The contracts of %s name no servers, and none is allowed.", service)
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Server", "Calls again", "Reached at", "Allowed by"})
		for _, s := range all {
			may, at := "no", "where its name leads"
			if s.Allowed {
				may = "yes"
			}
			if s.Address != nil {
				at = textOf(s.Address)
			}
			t.AppendRow(table.Row{report.Clean(s.Server), may, at, textOf(s.Author)})
		}
		t.Render()
	})
}

func (a *app) allowServer(ctx context.Context, c *cli.Command) error {
	r, service, err := a.ofService(ctx, c, "the server's URL")
	if err != nil {
		return err
	}
	server := c.Args().First()
	response, err := r.AllowServer(ctx, service, wire.AllowServerJSONRequestBody{Server: server,
		Address: some(c.String("address"))})
	if err := answer(response, err, nil); err != nil {
		return err
	}
	a.say("Recorded calls may be made again to %s.", server)
	return nil
}

func (a *app) forbidServer(ctx context.Context, c *cli.Command) error {
	r, service, err := a.ofService(ctx, c, "the server's URL")
	if err != nil {
		return err
	}
	response, err := r.ForbidServer(ctx, service, &wire.ForbidServerParams{Server: c.Args().First()})
	if err := answer(response, err, nil); err != nil {
		return err
	}
	a.say("No calls are made again to %s.", c.Args().First())
	return nil
}

func (a *app) secondPerson(ctx context.Context, c *cli.Command) error {
	word := c.Args().First()
	if c.Args().Len() != 1 || word != "on" && word != "off" {
		return usage(c, errors.New("say on or off"))
	}
	if c.String("reason") == "" {
		return usage(c, errors.New("say why with --reason"))
	}
	r, name, err := a.ofService(ctx, c, "on or off")
	if err != nil {
		return err
	}
	response, err := r.SetSecondPerson(ctx, name, wire.SecondPerson{Needed: word == "on", Reason: c.String("reason")})
	if err := answer(response, err, nil); err != nil {
		return err
	}
	if word == "on" {
		a.say("Severe decisions at %s need a second person.", name)
	} else {
		a.say("One person alone decides at %s. The trail, the overview and every report say so.", name)
	}
	return nil
}

func (a *app) listCredentials(ctx context.Context, c *cli.Command) error {
	r, service, err := a.ofService(ctx, c)
	if err != nil {
		return err
	}
	response, err := r.ListCredentials(ctx, service)
	var all []wire.KeptCredentials
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if len(all) == 0 {
			a.say("No credentials are kept for %s. Keep some: inkret service credentials set AUDIENCE < FILE", service)
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Audience", "Person", "Header fields", "By", "When"})
		for _, k := range all {
			t.AppendRow(table.Row{report.Clean(k.Audience), report.Clean(textOf(k.Person)),
				report.Clean(strings.Join(k.Names, ", ")),
				report.Clean(k.Author), k.At.Local().Format("2006-01-02 15:04")})
		}
		t.Render()
	})
}

func (a *app) setCredentials(ctx context.Context, c *cli.Command) error {
	r, service, err := a.ofService(ctx, c, "the audience")
	if err != nil {
		return err
	}
	if a.onTerminal() != nil {
		fmt.Fprintln(a.err, "Header fields, one a line, as in Authorization: Bearer …; end with Ctrl+D.")
	}
	var fields []wire.Header
	lines := bufio.NewScanner(abandonable{ctx, a.in})
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" {
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if !ok {
			return hint(fmt.Errorf("line %d is no header field", n), "one is written as in: Authorization: Bearer …")
		}
		fields = append(fields, wire.Header{Name: strings.TrimSpace(name), Value: strings.TrimSpace(value)})
	}
	if err := lines.Err(); err != nil {
		return err
	}
	if len(fields) == 0 {
		return usage(c, errors.New("standard input has no header field"))
	}
	audience := c.Args().First()
	response, err := r.SetCredentials(ctx, service, audience,
		&wire.SetCredentialsParams{Person: some(c.String("person"))},
		wire.SetCredentialsJSONRequestBody{Headers: fields})
	if err := answer(response, err, nil); err != nil {
		return err
	}
	a.say("Kept for %s, encrypted: %s.", audience, plural(len(fields), "header field"))
	return nil
}

func (a *app) removeCredentials(ctx context.Context, c *cli.Command) error {
	r, service, err := a.ofService(ctx, c, "the audience")
	if err != nil {
		return err
	}
	response, err := r.RemoveCredentials(ctx, service, c.Args().First(),
		&wire.RemoveCredentialsParams{Person: some(c.String("person"))})
	if err := answer(response, err, nil); err != nil {
		return err
	}
	a.say("No credentials are kept for %s.", c.Args().First())
	return nil
}

func (a *app) keeping(ctx context.Context, c *cli.Command) error {
	r, service, err := a.ofService(ctx, c)
	if err != nil {
		return err
	}
	response, err := r.GetKeeping(ctx, service)
	var k wire.Keeping
	if err := answer(response, err, &k); err != nil {
		return err
	}
	if c.IsSet("days") || c.IsSet("bodies") {
		if c.IsSet("days") {
			k.Days = c.Int("days")
		}
		if c.IsSet("bodies") {
			k.Bodies = c.Bool("bodies")
		}
		response, err := r.SetKeeping(ctx, service, k)
		if err := answer(response, err, &k); err != nil {
			return err
		}
	}
	return a.output(c, k, func(io.Writer) {
		switch {
		case !k.Bodies:
			a.say("%s: no bodies of new captures are kept.", service)
		case k.Days == 0:
			a.say("%s: bodies are kept without end.", service)
		default:
			a.say("%s: bodies are kept for %s.", service, plural(k.Days, "day"))
		}
	})
}
