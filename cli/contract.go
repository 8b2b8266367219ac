package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/core/advice"
	"inkret/core/compare"
	"inkret/core/contract"
	"inkret/export"
	"inkret/report"
	"inkret/service/reports"
)

// forms lists the export formats besides contract files.
var forms = []string{"contract", "json-schema", "openapi", "typescript"}

// weights lists the weights of advice, most serious first, as --fail-on takes them.
var weights = []string{"serious", "worth", "minor"}

func (a *app) contractCommand() *cli.Command {
	return &cli.Command{
		Name:     "contract",
		Usage:    "put contracts in force, look them over, approve what widens them",
		Commands: slices.Concat(a.contractFiles(), a.contractsInForce(), a.revisionCommands()),
		Action:   a.needsSubcommand,
	}
}

// contractFiles returns the commands about files, most of which need no service.
func (a *app) contractFiles() []*cli.Command {
	reason := &cli.StringFlag{Name: "reason", Usage: "why, for whoever reads the revisions"}
	return []*cli.Command{
		{
			Name: "apply", Usage: "put contract files in force", ArgsUsage: "[PATH]",
			Description: `PATH is a contract file or a folder of them, by default those that .inkret.yaml names;
the service they are of is the one they name. They are checked here first, all problems at once. A revision that
exposes more personal or secret data takes effect when a second person approves it.

Exit status: 0 in force, 1 waits for a second person, 2 not taken.

    inkret contract apply contracts/ --reason "visitors no longer see berth prices"`,
			Flags: []cli.Flag{reason, &cli.BoolFlag{Name: "check-only",
				Usage: "check the files and apply nothing; needs no service"},
				&cli.IntFlag{Name: "base", Usage: "apply only if the revision `NUMBER` is still in force"}},
			Action: a.applyContracts,
		},
		{
			Name: "check", Usage: "check contract files and give advice on them; needs no service",
			ArgsUsage: "[PATH]",
			Description: `Exit status 2: the files cannot be used; 1: there is advice of the weight that
--fail-on names, or a graver one; 0: neither.

    inkret contract check contracts/
    inkret contract check contracts/ --fail-on worth --format json`,
			Flags: []cli.Flag{formatFlag(), &cli.StringFlag{Name: "fail-on", Value: "serious",
				Usage: "serious, worth, minor or never"}},
			ShellComplete: completeValues(map[string][]string{"fail-on": append(slices.Clone(weights), "never"),
				"format": {"table", "json"}}),
			Action: a.checkContracts,
		},
		{
			Name: "compare", Usage: "tell in words what one contract changes of another, and whether it lets " +
				"more out; needs no service", ArgsUsage: "OLD NEW",
			Description: `    inkret contract compare main/contracts/ contracts/ --fail-on-widening`,
			Flags: []cli.Flag{formatFlag(), &cli.BoolFlag{Name: "fail-on-widening",
				Usage: "exit with 1 when more is let out"}},
			Action: a.compareContracts,
		},
		{
			Name: "export", Usage: "write the contracts in force, as they are or in another form",
			ArgsUsage: "[SERVICE]",
			Description: `Forms: contract (the files as they were applied), openapi (one OpenAPI 3.1
document), json-schema (a JSON Schema 2020-12 for each response and audience),
typescript (declarations). With --contracts, files are read instead of a service.

    inkret contract export fennick-quay --output contracts/
    inkret contract export fennick-quay --as openapi --output api/
    inkret contract export --contracts contracts/ --as typescript > api.d.ts`,
			Flags: []cli.Flag{&cli.StringFlag{Name: "output", Aliases: []string{"o"},
				Usage: "the `FOLDER` to write to; standard output otherwise", TakesFile: true},
				&cli.StringFlag{Name: "as", Value: "contract", Usage: strings.Join(forms, ", ")},
				&cli.StringSliceFlag{Name: "contracts",
					Usage: "contract files in `PATH` instead of a service's; may be repeated", TakesFile: true}},
			ShellComplete: completeValues(map[string][]string{"as": forms}),
			Action:        a.exportContracts,
		},
	}
}

// contractsInForce returns the commands that review contracts.
func (a *app) contractsInForce() []*cli.Command {
	return []*cli.Command{
		{
			Name: "advice", Usage: "advice on the contracts in force, with what captures have shown",
			ArgsUsage: "SERVICE",
			Flags:     []cli.Flag{formatFlag()}, Action: a.adviseContracts,
		},
		{
			Name: "coverage", Usage: "how far contracts and captures reach, and what is left to do",
			ArgsUsage: "SERVICE",
			Flags:     []cli.Flag{formatFlag()}, Action: a.coverage,
		},
		{
			Name: "shapes", Usage: "list shapes with where they are used, and those that repeated grants could " +
				"be made into", ArgsUsage: "SERVICE",
			Flags: []cli.Flag{formatFlag()}, Action: a.listShapes,
		},
	}
}

// revisionCommands returns the commands about revisions.
func (a *app) revisionCommands() []*cli.Command {
	reason := &cli.StringFlag{Name: "reason", Usage: "why, for whoever reads the revisions"}
	return []*cli.Command{
		{
			Name: "revisions", Usage: "list revisions, newest first", ArgsUsage: "[SERVICE]",
			Flags: append(pageFlags(), formatFlag(), &cli.BoolFlag{Name: "waiting",
				Usage: "only those waiting for approval"}), Action: a.listRevisions,
		},
		{
			Name: "revision", Usage: "show one revision: what it changes, in words and as text",
			ArgsUsage: "SERVICE NUMBER",
			Flags:     []cli.Flag{formatFlag()}, Action: a.showRevision,
		},
		{
			Name: "approve", Usage: "let a waiting revision take effect", ArgsUsage: "SERVICE NUMBER",
			Flags: []cli.Flag{&cli.StringFlag{Name: "comment", Aliases: []string{"m"}, Usage: "what you say to it"},
				formatFlag()}, Action: a.decide(true),
		},
		{
			Name: "decline", Usage: "decline a waiting revision", ArgsUsage: "SERVICE NUMBER",
			Flags: []cli.Flag{&cli.StringFlag{Name: "comment", Aliases: []string{"m"}, Usage: "why; needed"},
				formatFlag()}, Action: a.decide(false),
		},
		{
			Name: "revert", Usage: "make a new revision with the files of an earlier one",
			ArgsUsage: "SERVICE NUMBER",
			Flags:     []cli.Flag{reason, formatFlag()}, Action: a.revert,
		},
	}
}

// needsSubcommand is the action of command groups.
func (a *app) needsSubcommand(_ context.Context, c *cli.Command) error {
	if name := c.Args().First(); name != "" {
		e := &hinted{error: fmt.Errorf("%s has no command %q", c.FullName(), name)}
		if near := near(name, namesOf(c.Commands)); near != "" {
			e.hints = []string{"did you mean: " + c.FullName() + " " + near}
		}
		return usage(c, e)
	}
	return cli.ShowSubcommandHelp(c)
}

func (a *app) applyContracts(ctx context.Context, c *cli.Command) error {
	paths, err := a.contractPaths(c)
	if err != nil {
		return err
	}
	files, err := contractFiles(paths...)
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
	body := wire.ApplyContractsJSONRequestBody{Reason: some(c.String("reason")), Base: some(c.Int("base"))}
	for _, f := range files {
		body.Files = append(body.Files, wire.ContractFile{Name: filepath.Base(f.Name), Text: string(f.Data)})
	}
	response, err := r.Client.ApplyContracts(ctx, read.Service, body)
	var done wire.Revision
	if err := answer(response, err, &done); err != nil {
		return err
	}
	switch {
	case !done.Changed:
		a.say("%s: revision %d is in force already; nothing changed.", done.Service, done.Number)
		return nil
	case done.State == wire.RevisionStateWaiting:
		a.notYet(done)
		a.say("%s: %s", done.Service, revisionLine(done))
	default:
		a.say("%s: revision %d is in force, with %s.", done.Service, done.Number, plural(len(read.Endpoints),
			"endpoint"))
	}
	a.saySentences(done.Words)
	return nil
}

// saySentences prints what a revision changes.
func (a *app) saySentences(all []wire.Sentence) {
	const most = 12
	for i, s := range all {
		if i == most {
			a.say("  and %d more", len(all)-most)
			return
		}
		a.say("  %-9s %s", s.Direction, s.Text)
	}
}

func (a *app) checkContracts(_ context.Context, c *cli.Command) error {
	paths, err := a.contractPaths(c)
	if err != nil {
		return err
	}
	fail := slices.Index(weights, c.String("fail-on"))
	if fail < 0 && c.String("fail-on") != "never" {
		return usage(c, fmt.Errorf("--fail-on takes serious, worth, minor or never, not %q", c.String("fail-on")))
	}
	read, err := readContracts(paths...)
	if err != nil {
		return err
	}
	all := advice.On(read, nil)
	for _, one := range all {
		if word, _, _ := strings.Cut(string(one.Weight), " "); slices.Index(weights, word) <= fail {
			a.status = exitFindings
		}
	}
	if all == nil {
		all = []advice.Advice{}
	}
	return a.output(c, all, func(w io.Writer) {
		rows := make([]wire.Advice, len(all))
		for i, one := range all {
			rows[i] = wire.Advice{Code: one.Code, Weight: string(one.Weight), Endpoint: some(one.Endpoint),
				About: one.About, Text: one.Text, Mend: one.Mend, File: one.File, Line: one.Line}
		}
		a.adviceTable(w, rows)
		a.say("%s: %s, no problems, %s of advice.", read.Service, plural(len(read.Endpoints), "endpoint"),
			plural(len(all), "piece"))
	})
}

func (a *app) adviceTable(w io.Writer, all []wire.Advice) {
	if len(all) == 0 {
		return
	}
	t := report.NewTable(w)
	t.AppendHeader(table.Row{"Weight", "About", "Advice", "At"})
	for _, one := range all {
		t.AppendRow(table.Row{one.Weight, strings.TrimSpace(report.Clean(one.About) + "\n" + textOf(one.Endpoint)),
			report.Clean(one.Text) + "\n→ " + report.Clean(one.Mend),
			report.Clean(fmt.Sprintf("%s:%d", filepath.Base(one.File), one.Line))})
	}
	t.Render()
}

func (a *app) adviseContracts(ctx context.Context, c *cli.Command) error {
	service, r, err := a.namedService(c, 1, "one service")
	if err != nil {
		return err
	}
	response, err := r.Client.AdviseContracts(ctx, service)
	var all []wire.Advice
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		a.adviceTable(w, all)
		a.say("%s of advice.", plural(len(all), "piece"))
	})
}

// comparison is the JSON output of contract compare.
type comparison struct {
	Direction string             `json:"direction"`
	Reaches   string             `json:"reaches,omitempty"`
	Approval  bool               `json:"needs_approval"`
	Words     []compare.Sentence `json:"words"`
	Endpoints []string           `json:"endpoints"`
}

func (a *app) compareContracts(_ context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usage(c, errors.New("name the old and the new contract, each a file or folder"))
	}
	old, err := readContracts(c.Args().First())
	if err != nil {
		return err
	}
	new, err := readContracts(c.Args().Get(1))
	if err != nil {
		return err
	}
	d := compare.Contracts(old, new)
	if c.Bool("fail-on-widening") && d.Direction == compare.Widening {
		a.status = exitFindings
	}
	out := comparison{string(d.Direction), d.Reaches.String(), d.Sensitive(), append([]compare.Sentence{}, d.Words...),
		append([]string{}, d.Endpoints...)}
	return a.output(c, out, func(io.Writer) {
		if len(d.Words) == 0 {
			a.say("They let out the same.")
			return
		}
		line := "This is " + string(d.Direction)
		if d.Direction == compare.Widening {
			line += ", reaching what is " + d.Reaches.String()
		}
		a.say("%s.", line)
		for _, s := range d.Words {
			a.say("  %-9s %s", s.Direction, s.Text)
		}
	})
}

func (a *app) exportContracts(ctx context.Context, c *cli.Command) error {
	form := c.String("as")
	if !slices.Contains(forms, form) {
		return usage(c, fmt.Errorf("--as takes %s, not %q", strings.Join(forms, ", "), form))
	}
	var files []wire.ContractFile
	if paths := c.StringSlice("contracts"); len(paths) > 0 {
		if c.Args().Present() || form == "contract" {
			return usage(c, errors.New("with --contracts, name no service, and say --as openapi, json-schema or "+
				"typescript"))
		}
		read, err := readContracts(paths...)
		if err != nil {
			return err
		}
		files = written(read, form)
	} else {
		service, r, err := a.namedService(c, 1, "one service")
		if err != nil {
			return err
		}
		if form == "contract" {
			response, err := r.Client.ExportContracts(ctx, service)
			var revision wire.Revision
			if err := answer(response, err, &revision); err != nil {
				return err
			}
			files = revision.Files
		} else {
			response, err := r.Client.ExportForm(ctx, service, form)
			var exported wire.Exported
			if err := answer(response, err, &exported); err != nil {
				return err
			}
			files = exported.Files
		}
	}
	return a.writeFiles(files, c.String("output"), form == "contract")
}

// written exports contracts in an open format.
func written(read *contract.Contracts, form string) []wire.ContractFile {
	switch form {
	case "openapi":
		return []wire.ContractFile{{Name: read.Service + ".openapi.json", Text: string(export.OpenAPI(read))}}
	case "typescript":
		return []wire.ContractFile{{Name: read.Service + ".d.ts", Text: string(export.TypeScript(read))}}
	}
	var all []wire.ContractFile
	for _, f := range export.JSONSchemas(read) {
		all = append(all, wire.ContractFile{Name: f.File, Text: string(f.Data)})
	}
	return all
}

// writeFiles writes files to a folder, or to standard output, where YAML files are preceded by their names.
func (a *app) writeFiles(files []wire.ContractFile, dir string, yaml bool) error {
	if dir == "" {
		for i, f := range files {
			if len(files) > 1 && yaml {
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
	for _, f := range files {
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

func (a *app) coverage(ctx context.Context, c *cli.Command) error {
	name, r, err := a.namedService(c, 1, "one service")
	if err != nil {
		return err
	}
	response, err := r.GetCoverage(ctx, name)
	var all wire.Coverage
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		for _, g := range reports.GapWords {
			a.say("%4d of %-4d %s", all.Numbers[g.Gap], all.Numbers[g.Whole], g.Words)
		}
		if len(all.Gaps) == 0 {
			return
		}
		fmt.Fprintln(w)
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Gap", "Where", "Audience", "Status"})
		for _, g := range all.Gaps {
			where := textOf(g.Endpoint)
			if g.Entity != nil {
				where = textOf(g.Entity) + "." + textOf(g.Field)
			}
			if g.Words != nil {
				where += fmt.Sprintf("\n%d of %s: %s", valueOf(g.Records), plural(valueOf(g.Of), "record"),
					textOf(g.Words))
			}
			t.AppendRow(table.Row{string(g.Kind), where, textOf(g.Audience), textOf(g.Status)})
		}
		t.Render()
	})
}

func (a *app) listShapes(ctx context.Context, c *cli.Command) error {
	service, r, err := a.namedService(c, 1, "one service")
	if err != nil {
		return err
	}
	response, err := r.ListShapes(ctx, service)
	var all wire.Shapes
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if len(all.Shapes) == 0 && len(all.Proposals) == 0 {
			a.say("There is no shape, and no grants are repeated that could be one.")
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Shape", "Entity", "Grants", "Used at"})
		for _, s := range all.Shapes {
			var grants []string
			for _, g := range s.Grants {
				grants = append(grants, g.Name)
			}
			t.AppendRow(table.Row{report.Clean(s.Name), report.Clean(s.Entity),
				report.Clean(strings.Join(grants, ", ")), cleanLines(strings.Join(s.Touches, "\n"))})
		}
		for _, p := range all.Proposals {
			var places []string
			for _, at := range p.Places {
				places = append(places, at.Endpoint)
			}
			t.AppendRow(table.Row{report.Clean(p.Name) + "\n(proposed)", report.Clean(p.Entity),
				report.Clean(strings.Join(p.Grants, ", ")), cleanLines(strings.Join(places, "\n"))})
		}
		t.Render()
	})
}

func (a *app) listRevisions(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return usage(c, errors.New("name one service at the most"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	page, size := c.Int("page"), c.Int("size")
	response, err := r.ListRevisions(ctx, &wire.ListRevisionsParams{Service: some(c.Args().First()),
		Waiting: some(c.Bool("waiting")), Page: &page, Size: &size})
	var all wire.RevisionPage
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if all.Total > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"Service", "Revision", "State", "Direction", "By", "When", "What and why"})
			for _, v := range all.Items {
				what := textOf(v.Reason)
				if len(v.Words) > 0 {
					what = strings.TrimSpace(report.Clean(v.Words[0].Text) + "\n" + what)
				}
				direction := ""
				if v.Direction != nil {
					direction = string(*v.Direction)
				}
				t.AppendRow(table.Row{report.Clean(v.Service), v.Number, stateWords(v), direction,
					report.Clean(v.Author), v.Created.Local().Format("2006-01-02 15:04"), what})
			}
			t.Render()
		}
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "revision", "revisions")
	})
}

// theRevision parses the service and revision that a command names.
func (a *app) theRevision(c *cli.Command) (string, int, *remote, error) {
	service, r, err := a.namedService(c, 2, "a service and a revision's number; inkret contract revisions lists them")
	if err != nil {
		return "", 0, nil, err
	}
	n, err := strconv.Atoi(c.Args().Get(1))
	if err != nil || n < 1 {
		return "", 0, nil, usage(c, fmt.Errorf("%q is no revision's number", c.Args().Get(1)))
	}
	return service, n, r, nil
}

func (a *app) showRevision(ctx context.Context, c *cli.Command) error {
	service, n, r, err := a.theRevision(c)
	if err != nil {
		return err
	}
	response, err := r.GetRevision(ctx, service, n)
	var d wire.RevisionDetail
	if err := answer(response, err, &d); err != nil {
		return err
	}
	return a.output(c, d, func(io.Writer) { a.sayRevisionDetail(d) })
}

// stateWords is the state of a revision as it is read.
func stateWords(v wire.Revision) string { return strings.ReplaceAll(string(v.State), "-", " ") }

func (a *app) sayRevisionDetail(d wire.RevisionDetail) {
	v := d.Revision
	a.say("%s, revision %d: %s", v.Service, v.Number, stateWords(v))
	a.say("by %s, %s%s", v.Author, v.Created.Local().Format("2006-01-02 15:04"),
		strings.TrimSuffix(": "+textOf(v.Reason), ": "))
	if v.DecidedBy != nil {
		a.say("decided by %s%s", textOf(v.DecidedBy), strings.TrimSuffix(": "+textOf(v.Decision), ": "))
	}
	for _, s := range v.Words {
		a.say("  %-9s %s", s.Direction, s.Text)
	}
	if d.Text != "" {
		a.say("\n%s", strings.TrimRight(d.Text, "\n"))
	}
}

func (a *app) decide(approve bool) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		service, n, r, err := a.theRevision(c)
		if err != nil {
			return err
		}
		response, err := r.DecideRevision(ctx, service, n, wire.Decision{Approve: approve,
			Comment: some(c.String("comment"))})
		var d wire.RevisionDetail
		if err := answer(response, err, &d); err != nil {
			return err
		}
		return a.output(c, d, func(io.Writer) {
			a.say("%s: revision %d is %s.", d.Revision.Service, d.Revision.Number, stateWords(d.Revision))
		})
	}
}

func (a *app) revert(ctx context.Context, c *cli.Command) error {
	service, n, r, err := a.theRevision(c)
	if err != nil {
		return err
	}
	if c.String("reason") == "" {
		return usage(c, errors.New("say why with --reason"))
	}
	response, err := r.RevertRevision(ctx, service, n, wire.Reason{Reason: c.String("reason")})
	return a.sayRevision(c, response, err, fmt.Sprintf("as it was in revision %d", n))
}
