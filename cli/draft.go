package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"inkret/core/contract"
	"inkret/core/draft"
	"inkret/core/exchange"
	"inkret/core/observe"
	"inkret/core/schema"
	"inkret/intake"
	"inkret/report"
)

func (a *app) draftCommand() *cli.Command {
	return &cli.Command{
		Name:  "draft",
		Usage: "write a first contract file from a description or from recorded traffic",
		Description: `The draft grants what goes out today, except what is sensitive or meant for
those who run the service: that is left out. What a person has to decide is
asked, once for all fields that are alike, in a comment above the first of them.
It needs no service, and inkret check accepts it as it stands. Written to a
file, the draft never replaces one that is there.

With --ask, the questions are asked on the terminal, the most important first.
Each answer is kept at once (beside the draft, or in the file of --answers): stop
at any time, and go on with the same command. --answers alone uses the answers of
an earlier draft.

    inkret draft --openapi api.yaml -o contracts.yaml
    inkret draft --captures monday.har --captures tuesday.har -o contracts.yaml
    inkret draft --openapi api.yaml -o contracts.yaml --ask
    inkret draft --graphql schema.graphql --captures monday.har -o contracts.yaml`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "openapi", Usage: "an OpenAPI 3.0 or 3.1 `FILE`, or a JSON Schema",
				TakesFile: true},
			&cli.StringFlag{Name: "graphql", TakesFile: true,
				Usage: "a GraphQL schema `FILE`: definitions, or the result of introspection"},
			&cli.StringSliceFlag{Name: "captures",
				Usage: "a recording `FILE`; - is standard input; may be given several times", TakesFile: true},
			&cli.StringFlag{Name: "service",
				Usage:   "the service's `NAME`; else made of the description's title or the server",
				Sources: a.said("service")},
			&cli.BoolFlag{Name: "ask", Usage: "ask the draft's questions here, and keep the answers"},
			&cli.StringFlag{Name: "answers", TakesFile: true,
				Usage: "the `FILE` of answers, read and with --ask written; with --ask, the output's name and " +
					".answers otherwise"},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"},
				Usage: "the `FILE` to write; standard output otherwise", TakesFile: true},
			&cli.BoolFlag{Name: "replace", Usage: "write over a file that is there"},
		},
		Action: a.draft,
	}
}

func (a *app) draft(ctx context.Context, c *cli.Command) error {
	captures, output, name := c.StringSlice("captures"), c.String("output"), c.String("answers")
	if c.Bool("ask") && name == "" {
		name = output + ".answers"
	}
	switch {
	case c.Args().Present():
		return usage(c, errors.New("draft takes no arguments; name files by --openapi, --graphql and --captures"))
	case c.String("openapi") == "" && c.String("graphql") == "" && len(captures) == 0:
		return usage(c, errors.New("name what to draft from: --openapi or --graphql FILE, --captures FILE, or both"))
	case name == ".answers":
		return usage(c, errors.New("say where the answers are kept: --answers FILE, or -o FILE for the draft"))
	case c.Bool("ask") && slices.Contains(captures, "-"):
		return usage(c, errors.New("standard input cannot be both a recording and the answers to questions"))
	}
	answers, err := readAnswers(name)
	if err != nil {
		return err
	}
	if output != "" { // before anybody answers anything
		if err := os.MkdirAll(filepath.Dir(output), 0o755); err != nil {
			return fileError(err)
		}
	}
	from, err := sourcesOf(c)
	if err != nil {
		return err
	}
	sketch, o, failed := a.sketched(ctx, c.String("service"), from)
	if sketch == nil {
		return failed
	}
	for _, note := range sketch.Notes {
		a.warn("%s", note)
	}
	o.Answers = answers.all
	d := draft.Write(sketch, o)
	// what --ask wrote and nobody changed may be written over when it goes on
	replace := c.Bool("replace") || c.Bool("ask") && unchanged(output, d.Text)
	if output != "" && !replace {
		if _, err := os.Stat(output); err == nil {
			return alreadyThere(output)
		}
	}
	if c.Bool("ask") && failed == nil {
		failed = a.askThrough(ctx, d.Questions, answers)
		o.Answers = answers.all
		d = draft.Write(sketch, o)
	}
	if output == "" {
		_, err = io.WriteString(a.out, d.Text)
	} else if err = writeNew(output, []byte(d.Text), replace); err == nil {
		err = a.writeSchemas(output, d.Schemas, replace)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s: %s over %s; %s left open%s.\n", report.Clean(d.Service), plural(d.Endpoints, "endpoint"),
		counted(d.Entities, "entity", "entities"), plural(len(d.Questions), "question"), answered(d.Answered))
	if output != "" && failed == nil {
		a.afterDraft(c, output, len(d.Questions))
	}
	return failed
}

// afterDraft says what comes next.
func (a *app) afterDraft(c *cli.Command, output string, open int) {
	switch {
	case open == 0:
		fmt.Fprintf(a.err, "Next: inkret check --contracts %s RECORDING\n", report.Clean(output))
	case c.Bool("ask"):
		fmt.Fprintln(a.err, "The same command goes on with what is open.")
	default:
		fmt.Fprintf(a.err, "Read it and answer its questions (here: the same command with --ask), then: "+
			"inkret check --contracts %s RECORDING\n", report.Clean(output))
	}
}

func answered(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(", %d answered", n)
}

// unchanged reports whether a file holds a text and nothing else.
func unchanged(name, text string) bool {
	if name == "" {
		return false
	}
	data, err := os.ReadFile(name)
	return err == nil && string(data) == text
}

// sketched reads what to draft from. Where it was interrupted, it returns what was read with the error.
func (a *app) sketched(ctx context.Context, service string, s sources) (*schema.Sketch, draft.Options, error) {
	o := draft.Options{Service: service}
	if service != "" && !contract.IsServiceName(service) {
		return nil, o, hint(fmt.Errorf("%q is no service name", service),
			"letters, digits, '.', '_' and '-' make one")
	}
	var from []string
	var sketch *schema.Sketch
	var failed error
	if s.description != "" {
		data, err := a.readAll(ctx, s.description)
		if err != nil {
			return nil, o, err
		}
		if sketch, err = s.read(s.description, data); err != nil {
			return nil, o, err
		}
		from = append(from, filepath.Base(s.description))
	}
	if len(s.captures) > 0 {
		learnt, err := a.observe(ctx, s.captures)
		if failed = err; learnt == nil {
			return nil, o, err
		}
		o.Callers = learnt.Callers()
		if seen := learnt.Sketch(); sketch == nil {
			sketch = seen
		} else { // the description says what is meant; the traffic adds what it leaves out
			sketch.Join(seen)
		}
		learnt.Join(sketch)
		for _, name := range s.captures {
			from = append(from, filepath.Base(name))
		}
	}
	if len(sketch.Operations) == 0 && len(sketch.Objects) == 0 && len(sketch.Graphs) == 0 {
		if failed == nil {
			failed = errors.New("nothing to draft from was found there: no endpoint with a JSON body, and no " +
				"schema of an object")
		}
		return nil, o, failed
	}
	o.From = strings.Join(from, ", ")
	return sketch, o, failed
}

// readAll reads a file to its end.
func (a *app) readAll(ctx context.Context, name string) ([]byte, error) {
	f, _, err := a.open(ctx, name)
	if err != nil {
		return nil, fileError(err)
	}
	defer f.Close()
	return io.ReadAll(f)
}

// counted formats a number with its noun.
func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// writeNew writes a new file; an existing one only if replace is set.
func writeNew(name string, data []byte, replace bool) error {
	mode := os.O_CREATE | os.O_WRONLY | os.O_EXCL
	if replace {
		mode = os.O_CREATE | os.O_WRONLY | os.O_TRUNC
	}
	f, err := os.OpenFile(name, mode, 0o644)
	if errors.Is(err, os.ErrExist) {
		return alreadyThere(name)
	}
	if err != nil {
		return fileError(err)
	}
	if _, err := f.Write(data); err != nil {
		f.Close()
		return fileError(err)
	}
	return f.Close()
}

func alreadyThere(name string) error {
	return hint(fmt.Errorf("%s is there already", name), "write over it with --replace, or name another file")
}

// observe learns from recordings. Where it was interrupted, it returns what it learnt with the error.
func (a *app) observe(ctx context.Context, names []string) (*observe.Observer, error) {
	files, err := recordings(names)
	if err != nil {
		return nil, err
	}
	o := observe.New(nil)
	for _, one := range files {
		f, size, err := a.open(ctx, one.name)
		if err != nil {
			return nil, fileError(err)
		}
		r, done := a.progress(f, size, one.shown)
		files, closed := beside(one.name)
		err = intake.Read(one.name, r, intake.Options{Beside: files}, func(c *exchange.Capture) error {
			o.Add(c)
			return interrupted(ctx)
		})
		done()
		closed()
		f.Close()
		var early *intake.Error
		switch {
		case ctx.Err() != nil:
			return o, errInterrupted
		case one.found && unknownFile(err):
			a.warn("%v", err)
		case errors.As(err, &early):
			a.warn("%s: %v; what came before it is used", one.name, err)
		case err != nil:
			return nil, err
		}
	}
	return o, nil
}

// sources are what is drafted from.
type sources struct {
	description string // a file; empty for none
	read        func(name string, data []byte) (*schema.Sketch, error)
	captures    []string
}

func (s *sources) none() bool { return s.description == "" && len(s.captures) == 0 }

// sourcesOf reads what a command names to draft from.
func sourcesOf(c *cli.Command) (sources, error) {
	s := sources{description: c.String("openapi"), read: schema.Describe, captures: c.StringSlice("captures")}
	if name := c.String("graphql"); name != "" {
		if s.description != "" {
			return s, usage(c, errors.New("draft from one description: --openapi or --graphql"))
		}
		s.description, s.read = name, schema.DescribeGraph
	}
	return s, nil
}

// writeSchemas writes the schemas that a draft names beside it, unless they are there.
func (a *app) writeSchemas(output string, all []draft.Schema, replace bool) error {
	for _, one := range all {
		name := filepath.Join(filepath.Dir(output), one.Name)
		if unchanged(name, one.Text) {
			continue
		}
		if err := writeNew(name, []byte(one.Text), replace); err != nil {
			return err
		}
		fmt.Fprintf(a.err, "The schema is beside it: %s\n", report.Clean(name))
	}
	return nil
}
