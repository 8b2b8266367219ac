package cli

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/report"
)

// Formats of a matrix besides those of every listing.
const asCSV = "csv"

func matrixCommand(a *app) *cli.Command {
	return &cli.Command{
		Name: "matrix", Usage: "send one call as every audience and compare the answers",
		Description: `The call goes out once for each audience whose credentials are kept, and for each person of
an audience of whom some are; one after the other, to the server that an administrator has
allowed. Members of the body are rows, callers are columns: ‼ leaking, @ another person's,
✓ granted, − granted and not sent, · withheld, + sent without a contract, or the status.
What differs comes first. A call that may change something takes --writes, and a lead.

Exit status: 0 nobody got what they should not, 1 somebody did, 2 it could not be done.

    inkret capture matrix --capture 41 --dry-run
    inkret capture matrix --capture 41
    inkret capture matrix --endpoint 5f0c21d0aa37be86 --format csv > matrix.csv
    inkret capture matrix --batch 12`,
		Flags: []cli.Flag{&cli.Int64Flag{Name: "capture", HideDefault: true, Usage: "the call of capture `ID`"},
			&cli.StringFlag{Name: "endpoint", Usage: "the newest safe call of the endpoint `ID`"},
			&cli.Int64Flag{Name: "batch", HideDefault: true, Usage: "show that of the batch `ID`; send nothing"},
			&cli.BoolFlag{Name: "writes", Usage: "the call may change something"},
			&cli.BoolFlag{Name: "dry-run", Usage: "say what would be sent, and send nothing"},
			&cli.StringFlag{Name: "format", Value: "table", Usage: "table, json or csv"}},
		ShellComplete: completeValues(map[string][]string{"format": {"table", "json", asCSV}}),
		Action:        a.matrix,
	}
}

func (a *app) matrix(ctx context.Context, c *cli.Command) error {
	format := c.String("format")
	if format != "table" && format != "json" && format != asCSV {
		return usage(c, fmt.Errorf("there is no format %q: table, json and csv are known", format))
	}
	said := 0
	for _, name := range []string{"capture", "endpoint", "batch"} {
		if c.IsSet(name) {
			said++
		}
	}
	if said != 1 {
		return usage(c, errors.New("say one of --capture, --endpoint and --batch"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	var m wire.Matrix
	if c.IsSet("batch") {
		response, err := r.GetMatrix(ctx, c.Int64("batch"))
		if err := answer(response, err, &m); err != nil {
			return err
		}
	} else {
		response, err := r.MakeMatrix(ctx, wire.MatrixAsked{Capture: some(c.Int64("capture")),
			Endpoint: some(c.String("endpoint")), Writes: some(c.Bool("writes")), Preview: some(c.Bool("dry-run"))})
		if err := answer(response, err, &m); err != nil {
			return err
		}
	}
	switch {
	case format == asCSV:
		err = matrixCSV(a.out, &m)
	default:
		err = a.output(c, m, func(w io.Writer) { a.showMatrix(w, &m) })
	}
	for _, row := range m.Rows {
		for _, cell := range row.Cells {
			if cell == wire.MatrixRowCellsLeaking || cell == wire.MatrixRowCellsTheirs {
				a.status = exitFindings
			}
		}
	}
	return err
}

// matrixSigns are what cells show; the words stand below the table.
var matrixSigns = map[wire.MatrixRowCells]string{wire.MatrixRowCellsTheirs: "@", wire.MatrixRowCellsLeaking: "‼",
	wire.MatrixRowCellsSent: "+", wire.MatrixRowCellsGranted: "✓", wire.MatrixRowCellsAbsent: "−",
	wire.MatrixRowCellsWithheld: "·"}

// matrixWords say what cells mean, in the order of the signs' weight.
var matrixWords = []struct {
	cell  wire.MatrixRowCells
	words string
}{{wire.MatrixRowCellsTheirs, "another person's"}, {wire.MatrixRowCellsLeaking, "leaking"},
	{wire.MatrixRowCellsSent, "sent, no contract"}, {wire.MatrixRowCellsGranted, "granted"},
	{wire.MatrixRowCellsAbsent, "granted, not sent"}, {wire.MatrixRowCellsWithheld, "withheld"}}

func callerName(c *wire.MatrixCaller) string {
	name := cmp.Or(c.Audience, "everybody")
	if c.Person != nil {
		name += " (" + *c.Person + ")"
	}
	return report.Clean(name)
}

func (a *app) showMatrix(w io.Writer, m *wire.Matrix) {
	a.say("%s of %s: %s", m.Endpoint, m.Service, m.Call)
	if m.BatchID == nil {
		a.say("Nothing was sent. To %s would go:", textOf(m.Server))
		for i := range m.Callers {
			c := &m.Callers[i]
			switch {
			case c.LeftOut != nil:
				a.say("  not as %s: %s", callerName(c), *c.LeftOut)
			case len(c.Fields) == 0:
				a.say("  as %s, without credentials", callerName(c))
			default:
				a.say("  as %s, with %s", callerName(c), strings.Join(c.Fields, ", "))
			}
		}
		return
	}
	t := report.NewTable(w)
	head, status := table.Row{"Member", "Class"}, table.Row{"answered", ""}
	for i := range m.Callers {
		c := &m.Callers[i]
		head, status = append(head, callerName(c)), append(status, statusText(c))
	}
	t.AppendHeader(head)
	t.AppendRow(status)
	t.AppendSeparator()
	differs := false
	for i, row := range m.Rows {
		if i > 0 && differs && !row.Differs {
			t.AppendSeparator()
		}
		differs = row.Differs
		line := table.Row{report.Clean(row.Path), textOf(row.Class)}
		for k, cell := range row.Cells {
			if cell == wire.MatrixRowCellsRefused {
				line = append(line, statusText(&m.Callers[k]))
			} else {
				line = append(line, matrixSigns[cell])
			}
		}
		t.AppendRow(line)
	}
	t.Render()
	var words []string
	for _, one := range matrixWords {
		words = append(words, matrixSigns[one.cell]+" "+one.words)
	}
	a.say("%s. What differs comes first.", strings.Join(words, ", "))
	if m.More > 0 {
		a.say("%s more are left out.", plural(m.More, "member"))
	}
	a.say("The answers are batch %d: inkret capture matrix --batch %d shows this again.", *m.BatchID, *m.BatchID)
}

func statusText(c *wire.MatrixCaller) string {
	if c.Status == nil {
		return "no answer"
	}
	return fmt.Sprint(*c.Status)
}

// matrixCSV writes a matrix as CSV (RFC 4180): a row a member, a column a caller.
func matrixCSV(w io.Writer, m *wire.Matrix) error {
	out := csv.NewWriter(w)
	out.UseCRLF = true
	head := []string{"member", "class", "differs"}
	for i := range m.Callers {
		head = append(head, callerName(&m.Callers[i]))
	}
	rows := [][]string{head}
	for _, row := range m.Rows {
		line := []string{report.Clean(row.Path), textOf(row.Class), fmt.Sprint(row.Differs)}
		for k, cell := range row.Cells {
			text := string(cell)
			if cell == wire.MatrixRowCellsRefused {
				text = statusText(&m.Callers[k])
			}
			line = append(line, text)
		}
		rows = append(rows, line)
	}
	for i := range rows { // no cell is a formula where it is opened
		for k, text := range rows[i] {
			if text != "" && strings.ContainsAny(text[:1], "=+-@\t\r") {
				rows[i][k] = "'" + text
			}
		}
	}
	return out.WriteAll(rows)
}
