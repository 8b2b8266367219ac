package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/client"
	"inkret/core/contract"
	"inkret/report"
)

func (a *app) contractCommand() *cli.Command {
	return &cli.Command{
		Name:  "contract",
		Usage: "put contracts in force, and fetch those that are",
		Commands: []*cli.Command{
			{
				Name: "apply", Usage: "put contract files in force", ArgsUsage: "PATH",
				Description: `PATH is a contract file or a folder of them; the service they are of is the one
they name. They are checked here first, all problems at once.

    inkret contract apply contracts/ --reason "visitors no longer see berth prices"`,
				Flags: []cli.Flag{&cli.StringFlag{Name: "reason", Usage: "why, for whoever reads the revisions"},
					&cli.BoolFlag{Name: "check-only", Usage: "check the files and apply nothing; needs no service"}},
				Action: a.applyContracts,
			},
			{
				Name: "export", Usage: "write the contract files in force, as they were applied", ArgsUsage: "SERVICE",
				Description: `    inkret contract export fennick-quay --output contracts/`,
				Flags:       []cli.Flag{&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "the `FOLDER` to write to; standard output otherwise", TakesFile: true}},
				Action:      a.exportContracts,
			},
		},
		Action: a.needsSubcommand,
	}
}

func (a *app) serviceCommand() *cli.Command {
	return &cli.Command{
		Name: "service", Usage: "the services under review",
		Commands: []*cli.Command{{Name: "list", Usage: "list them", Flags: []cli.Flag{formatFlag()}, Action: a.listServices}},
		Action:   a.needsSubcommand,
	}
}

// needsSubcommand answers a group of commands that was called without one.
func (a *app) needsSubcommand(_ context.Context, c *cli.Command) error {
	if name := c.Args().First(); name != "" {
		return usage(c, fmt.Errorf("%s has no command %q", c.FullName(), name))
	}
	return cli.ShowSubcommandHelp(c)
}

func (a *app) applyContracts(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usage(c, errors.New("name one file or folder"))
	}
	files, err := contractFiles(c.Args().First())
	if err != nil {
		return err
	}
	read, err := contract.Read(files...)
	if err != nil {
		return err
	}
	if c.Bool("check-only") {
		a.say("%s: %s, no problems.", read.Service, plural(len(read.Endpoints), "endpoint"))
		return nil
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	body := client.ApplyContractsJSONRequestBody{Reason: some(c.String("reason"))}
	for _, f := range files {
		body.Files = append(body.Files, client.ContractFile{Name: filepath.Base(f.Name), Text: string(f.Data)})
	}
	response, err := r.Client.ApplyContracts(ctx, read.Service, body)
	var done client.Revision
	if err := answer(response, err, &done); err != nil {
		return err
	}
	if !done.Changed {
		a.say("%s: revision %d is in force already; nothing changed.", done.Service, done.Number)
		return nil
	}
	a.say("%s: revision %d is in force, with %s.", done.Service, done.Number, plural(len(read.Endpoints), "endpoint"))
	return nil
}

func (a *app) exportContracts(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usage(c, errors.New("name one service; inkret service list shows them"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.Client.ExportContracts(ctx, c.Args().First())
	var revision client.Revision
	if err := answer(response, err, &revision); err != nil {
		return err
	}
	dir := c.String("output")
	if dir == "" {
		for i, f := range revision.Files {
			if len(revision.Files) > 1 {
				if i > 0 {
					fmt.Fprintln(a.out)
				}
				fmt.Fprintf(a.out, "# %s\n", report.Clean(f.Name))
			}
			io.WriteString(a.out, f.Text)
		}
		return nil
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fileError(err)
	}
	for _, f := range revision.Files {
		name := filepath.Base(f.Name) // a name from the service stays inside the folder
		if name == "." || name == ".." || strings.ContainsAny(name, `/\`) {
			return fmt.Errorf("the service names a file %q, which is not written", f.Name)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(f.Text), 0o644); err != nil {
			return fileError(err)
		}
		a.say("%s", filepath.Join(dir, name))
	}
	return nil
}

func (a *app) listServices(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.ListServices(ctx)
	var all []client.Service
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
