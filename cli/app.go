// Package cli is the command line. Each command parses its arguments, calls what does the work, and prints the
// result. Everything printed on a terminal goes through terminal.go.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"inkret/core/contract"
)

// release is the current or next version.
const release = "0.1.0"

// revision is the commit that the program was built from; `make build` sets it.
var revision string

// version returns what `inkret --version` prints: the release, followed by a plus sign and the commit if known
// (Semantic Versioning 2.0.0, item 10).
func version() string {
	if revision == "" {
		return release
	}
	return release + "+" + revision
}

// Exit statuses.
const (
	exitFine     = 0
	exitFindings = 1 // something was found, or something that was asked for is not so
	exitFailed   = 2 // it could not be done: usage, input, service
)

// app is the state that commands share.
type app struct {
	in       io.Reader
	typed    *bufio.Reader // standard input by lines, once one was read
	out, err io.Writer
	project  *project // what the repository says
	status   int      // of the run, when no error says otherwise
}

// Run runs a command line, which begins with the program's name, and returns its exit status.
func Run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	a := &app{in: in, out: out, err: errOut, project: &project{}}
	if here, err := os.Getwd(); err == nil {
		a.project = findProject(here)
	}
	root := a.root()
	everyCommand(root, func(c *cli.Command) {
		c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
			return usage(c, optionError(c, err))
		}
		for _, f := range c.Flags {
			once(f)
		}
	})
	err := root.Run(ctx, args)
	if err == nil {
		return a.status
	}
	a.complain(optionError(root, err))
	return exitFailed
}

func (a *app) root() *cli.Command {
	return &cli.Command{
		Name:  "inkret",
		Usage: "decide which fields an API may expose, and find what leaks",
		Description: `Write down in a contract what each endpoint may expose to whom, hold recorded
traffic against it, and drive every leak to a proven end.

Try a recording at once:      inkret check monday.har
Against contracts:            inkret check --contracts contracts/ monday.har
A first contract:             inkret draft --captures monday.har -o contracts.yaml
Record live traffic:          inkret record --upstream http://127.0.0.1:8080 --to run.lines
Start the service:            inkret serve --data ~/inkret
See it with made-up data:     inkret demo`,
		Version:               version(),
		EnableShellCompletion: true,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden = false
			c.Usage = "print a shell's completion script: bash, zsh, fish or pwsh"
		},
		Suggest:        true,
		Reader:         a.in,
		Writer:         a.out,
		ErrWriter:      a.err,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		Commands: []*cli.Command{
			a.withProject(a.checkCommand()),
			a.withProject(a.draftCommand()),
			a.initCommand(),
			a.explainCommand(),
			a.serveCommand(),
			a.demoCommand(),
			a.signInCommand(),
			a.signOutCommand(),
			a.statusCommand(),
			a.serviceCommand(),
			a.watchCommand(),
			a.entityCommand(),
			a.withProject(a.contractCommand()),
			a.endpointCommand(),
			a.captureCommand(),
			a.recordCommand(),
			a.waitingCommand(),
			a.findingCommand(),
			a.requestCommand(),
			a.withProject(a.resultCommand()),
			a.noticeCommand(),
			a.personCommand(),
			a.tokenCommand(),
			a.mailCommand(),
			a.hookCommand(),
			a.trailCommand(),
			a.keyCommand(),
			a.backupCommand(),
			a.restoreCommand(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if name := c.Args().First(); name != "" {
				e := &hinted{error: errors.New("there is no command " + quoted(name)),
					hints: []string{"see: inkret help"}}
				if near := near(name, namesOf(c.Commands)); near != "" {
					e.hints = append([]string{"did you mean: inkret " + near}, e.hints...)
				}
				return e
			}
			return cli.ShowRootCommandHelp(c)
		},
	}
}

// once rejects an option that is given twice and has only one value.
func once(f cli.Flag) {
	switch f := f.(type) {
	case *cli.StringFlag:
		f.OnlyOnce = true
	case *cli.BoolFlag:
		f.OnlyOnce = true
	case *cli.IntFlag:
		f.OnlyOnce = true
	case *cli.Int64Flag:
		f.OnlyOnce = true
	case *cli.FloatFlag:
		f.OnlyOnce = true
	case *cli.DurationFlag:
		f.OnlyOnce = true
	}
}

// What the parser says about options. The errors that it wraps name functions of the language.
var (
	twice     = regexp.MustCompile(`-+([a-z0-9-]+): can't duplicate this flag`)
	unknown   = regexp.MustCompile(`^flag provided but not defined: -+(.+)`)
	valueless = regexp.MustCompile(`^flag needs an argument: (-+.+)`)
	invalid   = regexp.MustCompile(`(?s)^invalid value (".*") for flag -+([a-z0-9-]+): `)
	inherited = regexp.MustCompile(`(?s)^could not parse (".*") as (?:int|float|bool|duration).* value from ` +
		`environment variable "(\w+)" for flag ([a-z0-9-]+)`)
)

// optionError rewords the parser's errors about options.
func optionError(c *cli.Command, err error) error {
	text := err.Error()
	if m := twice.FindStringSubmatch(text); m != nil {
		return fmt.Errorf("--%s is given twice; give it once", m[1])
	}
	if m := unknown.FindStringSubmatch(text); m != nil {
		return unknownOption(c, m[1])
	}
	if m := valueless.FindStringSubmatch(text); m != nil {
		return fmt.Errorf("%s needs a value", m[1])
	}
	if m := invalid.FindStringSubmatch(text); m != nil {
		return fmt.Errorf("--%s %s", m[2], unfit(option(c, m[2]), m[1], text))
	}
	if m := inherited.FindStringSubmatch(text); m != nil {
		return fmt.Errorf("%s %s", m[2], unfit(option(c, m[3]), m[1], text))
	}
	return err
}

// near returns the known word that may have been meant, or the empty string.
func near(word string, known []string) string {
	return contract.NearestWithin(min(2, len(word)/2), word, known)
}

func namesOf(commands []*cli.Command) []string {
	var names []string
	for _, c := range commands {
		names = append(names, c.Names()...)
	}
	return names
}

// unknownOption says that a command has no such option, and which one may have been meant.
func unknownOption(c *cli.Command, name string) error {
	name, _, _ = strings.Cut(name, "=")
	dashes, e := "--", &hinted{}
	if len(name) == 1 {
		dashes = "-"
	}
	e.error = fmt.Errorf("%s has no option %s%s", c.FullName(), dashes, name)
	var known []string
	for _, f := range c.Flags {
		known = append(known, f.Names()...)
	}
	if near := near(name, known); len(near) > 1 {
		e.hints = []string{"did you mean: --" + near}
	}
	return e
}

// option returns an option of a command, of those above it or of those below, or nil.
func option(c *cli.Command, name string) (found cli.Flag) {
	look := func(at *cli.Command) {
		for _, f := range at.Flags {
			if found == nil && slices.Contains(f.Names(), name) {
				found = f
			}
		}
	}
	for _, at := range c.Lineage() {
		look(at)
	}
	everyCommand(c, look)
	return found
}

// unfit says what a value, which is quoted, should have been.
func unfit(f cli.Flag, value, said string) string {
	needs := "another value"
	switch f.(type) {
	case *cli.IntFlag, *cli.Int64Flag, *cli.Int64SliceFlag:
		needs = "a whole number"
		if strings.Contains(said, "out of range") {
			needs = "a number of fewer digits"
		}
	case *cli.FloatFlag:
		needs = "a number"
	case *cli.BoolFlag:
		needs = "true or false"
	case *cli.DurationFlag:
		needs = "a time such as 90s, 30m or 24h"
	}
	return "needs " + needs + ", not " + value
}

// everyCommand calls f for c and all its subcommands.
func everyCommand(c *cli.Command, f func(*cli.Command)) {
	f(c)
	for _, below := range c.Commands {
		everyCommand(below, f)
	}
}

// usage adds a pointer to the command's help to an error.
func usage(c *cli.Command, err error) error {
	e := &hinted{error: err}
	if h, ok := err.(*hinted); ok {
		e = h
	}
	e.hints = append(e.hints, "see: "+c.FullName()+" --help")
	return e
}
