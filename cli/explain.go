package cli

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"inkret/core/contract"
	"inkret/core/kind"
	"inkret/docs/kinds"
	"inkret/report"
)

func (a *app) explainCommand() *cli.Command {
	return &cli.Command{
		Name: "explain", Usage: "tell what a kind of finding means and how it is mended", ArgsUsage: "[KIND]",
		Description: `Without a kind all are listed. The same text is in docs/kinds and in the console.

    inkret explain wrong-audience
    inkret explain --format json`,
		Flags: []cli.Flag{formatFlag()},
		ShellComplete: func(_ context.Context, c *cli.Command) {
			for _, k := range kind.All() {
				fmt.Fprintln(c.Root().Writer, k)
			}
		},
		Action: a.explain,
	}
}

// explained is the JSON output of explain.
type explained struct {
	Kind    string `json:"kind"`
	CWE     int    `json:"cwe"`
	Summary string `json:"summary"`
	Mend    string `json:"mend,omitempty"`
	Page    string `json:"page,omitempty"` // Markdown
}

func (a *app) explain(_ context.Context, c *cli.Command) error {
	switch c.Args().Len() {
	case 0:
		return a.listKinds(c)
	case 1:
	default:
		return usage(c, errors.New("name one kind"))
	}
	name := c.Args().First()
	k, ok := kind.Parse(name)
	if !ok {
		err := fmt.Errorf("there is no kind %s", quoted(name))
		var names []string
		for _, k := range kind.All() {
			names = append(names, k.String())
		}
		if near := contract.Nearest(name, names); near != "" {
			return hint(err, "did you mean: inkret explain "+near)
		}
		return hint(err, "inkret explain lists them")
	}
	page, _ := kinds.Page(name)
	return a.output(c, explained{name, k.CWE(), kinds.Summary(name), k.Mend(), page},
		func(w io.Writer) { fmt.Fprint(w, page) })
}

func (a *app) listKinds(c *cli.Command) error {
	var all []explained
	for _, k := range kind.All() {
		all = append(all, explained{Kind: k.String(), CWE: k.CWE(), Summary: kinds.Summary(k.String()),
			Mend: k.Mend()})
	}
	return a.output(c, all, func(w io.Writer) {
		t := report.NewTable(w)
		width := max(40, terminal(a.out)-34)
		if terminal(a.out) == 0 {
			width = 90
		}
		t.SetColumnConfigs([]table.ColumnConfig{{Number: 3, WidthMax: width, WidthMaxEnforcer: text.WrapSoft}})
		t.AppendHeader(table.Row{"Kind", "CWE", "What it is"})
		for _, e := range all {
			t.AppendRow(table.Row{e.Kind, e.CWE, e.Summary})
		}
		t.Render()
	})
}
