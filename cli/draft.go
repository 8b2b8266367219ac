package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

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
		Description: `The draft grants what goes out today, save what is sensitive and what nobody
can class yet: these are left out and asked about in comments. It needs no
service, and inkret check accepts it as it stands. Written to a file, the draft
never replaces one that is there.

    inkret draft --openapi api.yaml -o contracts.yaml
    inkret draft --captures monday.har --captures tuesday.har -o contracts.yaml`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "openapi", Usage: "an OpenAPI 3.0 or 3.1 `FILE`, or a JSON Schema", TakesFile: true},
			&cli.StringSliceFlag{Name: "captures",
				Usage: "a recording `FILE`; - is standard input; may be given several times", TakesFile: true},
			&cli.StringFlag{Name: "service",
				Usage: "the service's `NAME`; else made of the description's title or the server"},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"},
				Usage: "the `FILE` to write; standard output otherwise", TakesFile: true},
			&cli.BoolFlag{Name: "replace", Usage: "write over a file that is there"},
		},
		Action: a.draft,
	}
}

func (a *app) draft(ctx context.Context, c *cli.Command) error {
	description, captures := c.String("openapi"), c.StringSlice("captures")
	switch {
	case c.Args().Present():
		return usage(c, errors.New("draft takes no arguments; name files by --openapi and --captures"))
	case description == "" && len(captures) == 0:
		return usage(c, errors.New("name what to draft from: --openapi FILE, --captures FILE, or both"))
	}
	o := draft.Options{Service: c.String("service")}
	var from []string
	var sketch *schema.Sketch
	if description != "" {
		data, err := os.ReadFile(description)
		if err != nil {
			return fileError(err)
		}
		if sketch, err = schema.Describe(description, data); err != nil {
			return err
		}
		from = append(from, filepath.Base(description))
	}
	if len(captures) > 0 {
		seen, callers, err := a.observe(ctx, captures)
		if err != nil {
			return err
		}
		o.Callers = callers
		if sketch == nil {
			sketch = seen
		} else { // the description says what is meant; the traffic adds what it leaves out
			sketch.Join(seen)
		}
		for _, name := range captures {
			from = append(from, filepath.Base(name))
		}
	}
	if len(sketch.Operations) == 0 && len(sketch.Objects) == 0 {
		return errors.New("nothing to draft from was found there: no endpoint with a JSON body, and no schema of " +
			"an object")
	}
	o.From = strings.Join(from, ", ")
	d := draft.Write(sketch, o)
	for _, note := range sketch.Notes {
		a.warn("%s", note)
	}
	name := c.String("output")
	if name == "" {
		if _, err := io.WriteString(a.out, d.Text); err != nil {
			return err
		}
	} else if err := writeNew(name, []byte(d.Text), c.Bool("replace")); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s: %s over %s; %s left open.\n", report.Clean(d.Service), plural(d.Endpoints, "endpoint"),
		counted(d.Entities, "entity", "entities"), plural(len(d.Questions), "question"))
	if name != "" {
		fmt.Fprintf(a.err, "Read it, answer its questions, then: inkret check --contracts %s RECORDING\n",
			report.Clean(name))
	}
	return nil
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
		return hint(fmt.Errorf("%s is there already", name), "write over it with --replace, or name another file")
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

// observe learns from recordings.
func (a *app) observe(ctx context.Context, names []string) (*schema.Sketch, []observe.Caller, error) {
	files, err := recordings(names)
	if err != nil {
		return nil, nil, err
	}
	o := observe.New(nil)
	for _, one := range files {
		f, size, err := a.open(one.name)
		if err != nil {
			return nil, nil, fileError(err)
		}
		r, done := a.progress(f, size, one.shown)
		files, closed := beside(one.name)
		err = intake.Read(one.name, r, intake.Options{Beside: files}, func(c *exchange.Capture) error {
			o.Add(c)
			return ctx.Err()
		})
		done()
		closed()
		f.Close()
		var early *intake.Error
		switch {
		case one.found && unknownFile(err):
			a.warn("%v", err)
		case errors.As(err, &early):
			a.warn("%s: %v; what came before it is used", one.name, err)
		case err != nil:
			return nil, nil, err
		}
	}
	return o.Sketch(), o.Callers(), nil
}
