package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/report"
)

func (a *app) personCommand() *cli.Command {
	roles := []string{"viewer", "reviewer", "lead", "administrator"}
	complete := completeValues(map[string][]string{"role": roles, "format": {"table", "json"}})
	return &cli.Command{
		Name: "person", Usage: "who may come in: list, invite, give roles, keep out",
		Description: `    inkret person invite iva@fennick-quay.example --role viewer
    inkret person role iva@fennick-quay.example reviewer
    inkret person role iva@fennick-quay.example lead --service harbour`,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list everybody", Flags: []cli.Flag{formatFlag()}, Action: a.listPeople},
			{Name: "invite", Usage: "invite somebody; gives a link that works once", ArgsUsage: "EMAIL",
				Flags: []cli.Flag{&cli.StringFlag{Name: "role", Value: "viewer", Usage: strings.Join(roles, ", ")},
					formatFlag()}, ShellComplete: complete, Action: a.invite},
			{Name: "role", Usage: "give somebody another role, everywhere or at one service", ArgsUsage: "EMAIL ROLE",
				Description: `At a service it is viewer, reviewer or lead; - takes it back, and what they are
everywhere counts there again.`,
				Flags: []cli.Flag{&cli.StringFlag{Name: "service", Usage: "only at the service `NAME`"}, formatFlag()},
				Action: func(ctx context.Context, c *cli.Command) error {
					role, service := wire.Role(c.Args().Get(1)), c.String("service")
					if !slices.Contains(roles, string(role)) && (service == "" || role != "-") {
						return usage(c, fmt.Errorf("there is no role %q: %s are known", role,
							strings.Join(roles, ", ")))
					}
					if service == "" {
						return a.changePerson(ctx, c, 2, wire.PersonChange{Role: &role})
					}
					at := wire.ServiceRole{Service: service}
					if role != "-" {
						at.Role = &role
					}
					return a.changePerson(ctx, c, 2, wire.PersonChange{ServiceRoles: &[]wire.ServiceRole{at}})
				}},
			{Name: "keep-out", Usage: "let somebody come in no longer: their sessions and tokens end",
				ArgsUsage: "EMAIL", Flags: []cli.Flag{formatFlag()}, Action: func(ctx context.Context,
					c *cli.Command) error {
					active := false
					return a.changePerson(ctx, c, 1, wire.PersonChange{Active: &active})
				}},
			{Name: "let-in", Usage: "let somebody come in again", ArgsUsage: "EMAIL", Flags: []cli.Flag{formatFlag()},
				Action: func(ctx context.Context, c *cli.Command) error {
					active := true
					return a.changePerson(ctx, c, 1, wire.PersonChange{Active: &active})
				}},
			{Name: "reset", Usage: "make a link by which somebody sets another password", ArgsUsage: "EMAIL",
				Flags: []cli.Flag{formatFlag()}, Action: a.resetPassword},
		},
		Action: a.needsSubcommand,
	}
}

func (a *app) listPeople(ctx context.Context, c *cli.Command) error {
	return listing(ctx, a, c, func(r *remote) result[[]wire.Person] {
		response, err := r.ListPeople(ctx)
		return answerOf[[]wire.Person](response, err)
	}, func(w io.Writer, all []wire.Person) {
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Person", "Name", "E-mail address", "Role", "Second factor", ""})
		for _, p := range all {
			state := ""
			switch {
			case valueOf(p.KeptOut):
				state = "kept out"
			case p.Pending:
				state = "invited, not here yet"
			}
			factor := "no"
			if valueOf(p.SecondFactor) {
				factor = "yes"
			}
			t.AppendRow(table.Row{p.ID, report.Clean(p.Name), report.Clean(p.Email), rolesOf(&p, "\n"), factor, state})
		}
		t.Render()
		a.sayPage(len(all), len(all), 1, 50, "person", "people")
	})
}

// rolesOf describes a person's roles.
func rolesOf(p *wire.Person, between string) string {
	words := []string{string(p.Role)}
	for _, at := range valueOf(p.ServiceRoles) {
		words = append(words, string(valueOf(at.Role))+" at "+report.Clean(at.Service))
	}
	return strings.Join(words, between)
}

func (a *app) invite(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usage(c, errors.New("say the e-mail address"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.Invite(ctx, wire.Invitation{Email: c.Args().First(), Role: wire.Role(c.String("role"))})
	return a.sayLink(c, answerOf[wire.Invited](response, err))
}

func (a *app) sayLink(c *cli.Command, got result[wire.Invited]) error {
	if got.err != nil {
		return got.err
	}
	return a.output(c, got.value, func(w io.Writer) {
		fmt.Fprintf(w, "For %s (%s). It works once, within three days:\n%s\n", report.Clean(got.value.Person.Email),
			got.value.Person.Role, got.value.Link)
	})
}

// thePerson returns the person with the e-mail address that a command names.
func (a *app) thePerson(ctx context.Context, c *cli.Command, arguments int) (int64, *remote, error) {
	if c.Args().Len() != arguments {
		return 0, nil, usage(c, errors.New("say who, by e-mail address"))
	}
	r, err := a.remote()
	if err != nil {
		return 0, nil, err
	}
	response, err := r.ListPeople(ctx)
	got := answerOf[[]wire.Person](response, err)
	for _, p := range got.value {
		if strings.EqualFold(p.Email, c.Args().First()) {
			return p.ID, r, got.err
		}
	}
	if got.err == nil {
		got.err = hint(fmt.Errorf("there is nobody with the e-mail address %s", c.Args().First()),
			"inkret person list shows everybody")
	}
	return 0, nil, got.err
}

func (a *app) changePerson(ctx context.Context, c *cli.Command, arguments int, change wire.PersonChange) error {
	id, r, err := a.thePerson(ctx, c, arguments)
	if err != nil {
		return err
	}
	response, err := r.ChangePerson(ctx, id, change)
	got := answerOf[wire.Person](response, err)
	if got.err != nil {
		return got.err
	}
	return a.output(c, got.value, func(w io.Writer) {
		may := "may come in"
		if valueOf(got.value.KeptOut) {
			may = "may not come in"
		}
		fmt.Fprintf(w, "%s is %s and %s.\n", report.Clean(got.value.Email), rolesOf(&got.value, ", "), may)
	})
}

func (a *app) resetPassword(ctx context.Context, c *cli.Command) error {
	id, r, err := a.thePerson(ctx, c, 1)
	if err != nil {
		return err
	}
	response, err := r.ResetPassword(ctx, id)
	return a.sayLink(c, answerOf[wire.Invited](response, err))
}
