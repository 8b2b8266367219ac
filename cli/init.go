package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"inkret/core/contract"
	"inkret/core/document"
	"inkret/core/draft"
	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/core/schema"
	"inkret/report"
)

func (a *app) initCommand() *cli.Command {
	return &cli.Command{
		Name:  "init",
		Usage: "set a repository up: contracts, a baseline, and a step for its pipeline",
		Description: `Drafts contracts from an OpenAPI document or a GraphQL schema, and recordings, looked for in the
repository unless they are named; writes .inkret.yaml, which gives check, draft, contract
and result their values; a baseline of what the recordings show today, so that only what is new fails;
and inkret-check.sh, a step for a pipeline. It says what it would write and asks
first. A file that is there is left as it is.

    inkret init
    inkret init --openapi api/openapi.yaml --captures monday.har --service fennick-quay --yes`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "openapi", Usage: "an OpenAPI `FILE`", TakesFile: true},
			&cli.StringFlag{Name: "graphql", Usage: "a GraphQL schema `FILE`", TakesFile: true},
			&cli.StringSliceFlag{Name: "captures", Usage: "a recording `FILE`; may be given several times",
				TakesFile: true},
			&cli.StringFlag{Name: "service", Usage: "the service's `NAME`; else made of what is drafted from"},
			&cli.BoolFlag{Name: "dry-run", Usage: "say what would be written, and write nothing"},
			&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "write without asking"},
		},
		Action: a.init,
	}
}

// Names of what init writes.
const (
	contractsFolder = "contracts"
	baselineName    = "inkret-baseline.json"
	stepName        = "inkret-check.sh"
)

// planned is a file that init would write.
type planned struct {
	name string
	what string
	data []byte
	mode os.FileMode
}

func (a *app) init(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usage(c, errors.New("init takes no arguments"))
	}
	from, err := sourcesOf(c)
	if err != nil {
		return err
	}
	if from.none() {
		if from, err = lookAround(); err != nil {
			return err
		}
		if from.none() {
			return hint(errors.New("neither an OpenAPI document, nor a GraphQL schema, nor a recording was found here"),
				"name one: inkret init --openapi FILE, --graphql FILE, or --captures FILE")
		}
		for _, name := range append(slices.DeleteFunc([]string{from.description},
			func(s string) bool { return s == "" }),
			from.captures...) {
			fmt.Fprintf(a.err, "Found %s\n", report.Clean(name))
		}
	}
	all, d, err := a.plan(ctx, c, from)
	if err != nil {
		return err
	}
	fmt.Fprintln(a.err)
	todo := 0
	for _, p := range all {
		if _, err := os.Lstat(p.name); err == nil {
			fmt.Fprintf(a.err, "  %-28s is there already, and is left as it is\n", p.name)
			continue
		}
		fmt.Fprintf(a.err, "  %-28s %s\n", p.name, p.what)
		todo++
	}
	fmt.Fprintln(a.err)
	if todo == 0 {
		a.say("There is nothing to write.")
		return nil
	}
	if c.Bool("dry-run") {
		return nil
	}
	if yes, err := a.agreed(ctx, c, fmt.Sprintf("Write %s?", plural(todo, "file"))); err != nil || !yes {
		if err == nil {
			a.say("Nothing was written.")
		}
		return err
	}
	for _, p := range all {
		if err := p.write(); err != nil {
			return err
		}
	}
	a.say("Written. %s", afterInit(d))
	return nil
}

func afterInit(d *draft.Draft) string {
	next := "Next: run ./" + stepName + " in your pipeline, with a recording of its tests."
	if n := len(d.Questions); n > 0 {
		next = fmt.Sprintf("%s open in %s: read them, and answer each in place.\n%s", plural(n, "question"),
			contractsFolder, next)
	}
	return next
}

// write writes a file that is not there.
func (p *planned) write() error {
	if err := os.MkdirAll(filepath.Dir(p.name), 0o755); err != nil {
		return fileError(err)
	}
	f, err := os.OpenFile(p.name, os.O_CREATE|os.O_WRONLY|os.O_EXCL, p.mode)
	if errors.Is(err, os.ErrExist) {
		return nil
	}
	if err != nil {
		return fileError(err)
	}
	_, err = f.Write(p.data)
	return errors.Join(err, f.Close())
}

// plan drafts all that init would write.
func (a *app) plan(ctx context.Context, c *cli.Command, from sources) ([]planned, *draft.Draft, error) {
	var all []planned
	d := &draft.Draft{}
	var contracts *contract.Contracts
	if _, err := os.Stat(contractsFolder); errors.Is(err, os.ErrNotExist) {
		sketch, o, err := a.sketched(ctx, c.String("service"), from)
		if err != nil {
			return nil, nil, err
		}
		d = draft.Write(sketch, o)
		main := filepath.Join(contractsFolder, d.Service+".yaml")
		files := []contract.File{{Name: main, Data: []byte(d.Text)}}
		for _, one := range d.Schemas {
			name := filepath.Join(contractsFolder, one.Name)
			files = append(files, contract.File{Name: name, Data: []byte(one.Text)})
			all = append(all, planned{name, "the schema that they name", []byte(one.Text), 0o644})
		}
		if contracts, err = contract.Read(files...); err != nil {
			return nil, nil, err
		}
		all = append(all, planned{main, fmt.Sprintf("contracts: %s over %s, %s to answer", plural(d.Endpoints,
			"endpoint"), counted(d.Entities, "entity", "entities"), plural(len(d.Questions), "question")),
			[]byte(d.Text), 0o644})
	} else if contracts, err = readContracts(contractsFolder); err != nil {
		return nil, nil, err
	} else {
		fmt.Fprintf(a.err, "Found %s/: the contracts of %s\n", contractsFolder, report.Clean(contracts.Service))
	}
	said := document.Mapping()
	said.Block = true
	said.Set("service", document.Text(contracts.Service)).Set("contracts",
		document.Text(contractsFolder+"/")).Set("fail-on",
		document.Text("medium"))
	if len(from.captures) > 0 {
		text, known, err := a.baselineOf(ctx, contracts, from.captures)
		if err != nil {
			return nil, nil, err
		}
		said.Set("baseline", document.Text(baselineName))
		all = append(all, planned{baselineName, fmt.Sprintf("baseline: %s of today, which do not fail",
			plural(known, "finding")), text, 0o644})
	}
	head := "# What inkret check, draft, contract and result go by here. INKRET_CONTRACTS and so on override it, " +
		"options both.\n"
	all = append(all, planned{projectName, "values for the commands here", append([]byte(head), said.Append(nil, 0)...),
		0o644}, planned{stepName, "a step for the pipeline", []byte(step), 0o755})
	return all, d, nil
}

// baselineOf checks recordings by contracts, and returns what --baseline reads.
func (a *app) baselineOf(ctx context.Context, c *contract.Contracts, captures []string) ([]byte, int, error) {
	files, err := recordings(captures)
	if err != nil {
		return nil, 0, err
	}
	judge := scan.NewJudge(c)
	judge.Counts = true
	run := &checkRun{app: a, ctx: ctx, contracts: c, service: c.Service, files: files, judges: []*scan.Judge{judge}}
	if err := run.all(); err != nil {
		return nil, 0, err
	}
	findings := run.collector.Findings()
	for _, f := range findings {
		f.Sample = "" // the file is kept with the sources
	}
	var b bytes.Buffer
	err = report.Writers["json"](&b, &report.Result{Service: c.Service, Summary: run.collector.Summary(),
		Findings: findings, Skipped: []finding.Skipped{}})
	return b.Bytes(), len(findings), err
}

var (
	descriptionName = regexp.MustCompile(`(?i)(openapi|api|swagger)[^/]*\.(ya?ml|json)$`)
	descriptionHead = regexp.MustCompile(`(?m)^\s*["']?openapi["']?\s*:\s*["']?3\.[01]`)
	schemaName      = regexp.MustCompile(`(?i)(^|/)schema\.(graphqls?|gql)$`)
	recordingName   = regexp.MustCompile(`(?i)\.(har|warc|lines)(\.(gz|zst))?$`)
)

// lookAround looks for a description and recordings in the repository: the working folder and what is in it.
func lookAround() (from sources, err error) {
	from.read = schema.Describe
	types := ""
	const deepest, most, sniffed = 4, 20, 4096
	err = filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return nil // what cannot be read is not looked at
		case d.IsDir() && path != "." && (strings.HasPrefix(d.Name(), ".") || d.Name() == "node_modules" ||
			d.Name() == "vendor" || strings.Count(path, string(filepath.Separator)) >= deepest):
			return filepath.SkipDir
		case !d.Type().IsRegular():
		case recordingName.MatchString(path) && len(from.captures) < most:
			from.captures = append(from.captures, path)
		case types == "" && schemaName.MatchString(filepath.ToSlash(path)):
			types = path
		case from.description == "" && descriptionName.MatchString(filepath.ToSlash(path)):
			f, err := os.Open(path)
			if err != nil {
				return nil
			}
			defer f.Close()
			start := make([]byte, sniffed)
			if n, _ := f.Read(start); descriptionHead.Match(start[:n]) {
				from.description = path
			}
		}
		return nil
	})
	if from.description == "" && types != "" {
		from.description, from.read = types, schema.DescribeGraph
	}
	return from, err
}

// step is a step for any pipeline that runs a shell.
const step = `#!/bin/sh
# Judges recordings of this build's tests. What is in the baseline is known and does not fail.
# The values come from .inkret.yaml. With INKRET_URL and INKRET_TOKEN set, the result is sent to the service
# as well, and then only what is new on this line and undecided there fails.
set -eu
if [ "$#" -eq 0 ]; then
  echo "usage: $0 RECORDING..." >&2
  exit 2
fi
if [ -n "${INKRET_URL:-}" ]; then
  exec inkret check --send --line "${INKRET_LINE:-main}" "$@"
fi
exec inkret check "$@"
`
