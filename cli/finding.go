package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/client"
	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/severity"
	"inkret/report"
)

func (a *app) findingCommand() *cli.Command {
	var states, kinds []string
	for _, s := range finding.States() {
		states = append(states, string(s))
	}
	for _, k := range kind.All() {
		kinds = append(kinds, k.String())
	}
	return &cli.Command{
		Name:  "finding",
		Usage: "list findings, show one, move it along",
		Commands: append([]*cli.Command{
			{
				Name: "list", Usage: "list findings, gravest first",
				Description: `    inkret finding list
    inkret finding list --severity critical,high --audience visitor
    inkret finding list --state any --batch 7 --format json`,
				Flags: append(append(filterFlags(), append(pageFlags(), formatFlag())...),
					&cli.StringFlag{Name: "view",
						Usage: "the filters of a view, by `NAME` or number; others said here go before them"}),
				ShellComplete: completeValues(map[string][]string{"state": append([]string{"open", "any"}, states...),
					"severity": severity.Names(), "kind": kinds, "format": {"table", "json"}}),
				Action: a.listFindings,
			},
			{
				Name: "show", Usage: "show one finding with its evidence and history", ArgsUsage: "ID",
				Flags: []cli.Flag{formatFlag()}, Action: a.showFinding,
			},
			{
				Name: "move", Usage: "move a finding to another state", ArgsUsage: "ID STATE",
				Description: `States: ` + strings.Join(states, ", ") + `.
A finding is closed by proof only. A waiver of one that is high or critical waits for a
lead who is somebody else than who asks, and moves it too; finding change has a
--decline-waiver.

    inkret finding move 9f2c51d07a3be846 in-repair --comment "taken by reservations"
    inkret finding move 9f2c51d07a3be846 waived --until 2027-03-31 --comment "needed until the kiosk is gone"`,
				Flags: []cli.Flag{&cli.StringFlag{Name: "comment", Aliases: []string{"m"}, Usage: "why"},
					&cli.StringFlag{Name: "until", Usage: "the last `DAY` of a waiver, as 2027-03-31"}, formatFlag()},
				Action: a.moveFinding,
			},
			{
				Name: "comment", Usage: "say something about a finding", ArgsUsage: "ID TEXT",
				Description: `    inkret finding comment 9f2c51d07a3be846 "@teodor have a look: the row goes out whole"`,
				Flags:       []cli.Flag{formatFlag()}, Action: a.commentFinding,
			},
		}, append(slices.Concat(a.changeCommands(states), a.keptCommands()), a.findingReportCommand())...),
		Action: a.needsSubcommand,
	}
}

func (a *app) listFindings(ctx context.Context, c *cli.Command) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	query := url.Values{}
	if c.IsSet("view") {
		if query, err = viewQuery(ctx, r, c.String("view")); err != nil {
			return err
		}
	}
	if err := filtered(c, query); err != nil {
		return err
	}
	for _, flag := range []string{"page", "size"} {
		query.Set(flag, strconv.Itoa(c.Int(flag)))
	}
	response, err := r.ListFindings(ctx, nil, withQuery(query))
	var all wire.FindingPage
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if all.Total > 0 {
			findingTable(w, all.Items, colour(a.out))
		}
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "finding", "findings")
	})
}

// flagOf returns the option for a filter of findings.
func flagOf(filter string) string {
	if filter == "q" {
		return "search"
	}
	return filter
}

// filterFlags returns the options that filter findings, except some.
func filterFlags(without ...string) (flags []cli.Flag) {
	for _, f := range finding.Filters() {
		if !slices.Contains(without, f.Name) {
			flags = append(flags, &cli.StringFlag{Name: flagOf(f.Name), Usage: f.Words})
		}
	}
	return flags
}

// filtered adds the filter options to a query.
func filtered(c *cli.Command, query url.Values) error {
	for _, f := range finding.Filters() {
		if said := c.String(flagOf(f.Name)); c.IsSet(flagOf(f.Name)) {
			query.Set(f.Name, said)
		}
	}
	if _, err := finding.ParseQuery(query); err != nil {
		return usage(c, err)
	}
	return nil
}

// withQuery sends a query unchanged.
func withQuery(query url.Values) client.RequestEditorFn {
	return func(_ context.Context, r *http.Request) error {
		r.URL.RawQuery = query.Encode()
		return nil
	}
}

func findingTable(w io.Writer, all []wire.Finding, coloured bool) {
	t := report.NewTable(w)
	t.AppendHeader(table.Row{"Finding", "Severity", "Kind", "Where", "State", "Who, due", "Spots"})
	for _, f := range all {
		t.AppendRow(table.Row{f.ID, report.Severity(string(f.Severity), coloured), f.Kind,
			report.Clean(strings.TrimSpace(f.Endpoint+"  "+f.Audience+" "+f.Status)) + "\n" + report.Clean(f.Path),
			string(f.State), report.Clean(assignedTo(&f)) + "\n" + textOf(f.Due), f.Spots})
	}
	t.Render()
}

// assignedTo describes who has a finding.
func assignedTo(f *wire.Finding) string {
	switch {
	case f.Person != nil:
		return f.Person.Name
	case f.AssignedTeam != nil:
		return "team " + *f.AssignedTeam
	case f.Team != nil:
		return "team " + *f.Team
	}
	return ""
}

// namedFinding parses a command's finding and returns a client.
func (a *app) namedFinding(c *cli.Command, arguments int, words string) (string, *remote, error) {
	id, err := theFinding(c, arguments, words)
	if err != nil {
		return "", nil, err
	}
	r, err := a.remote()
	return id, r, err
}

// theFinding parses the finding id that a command names.
func theFinding(c *cli.Command, arguments int, words string) (string, error) {
	if c.Args().Len() != arguments {
		return "", usage(c, errors.New("name "+words+"; inkret finding list shows the ids"))
	}
	id := c.Args().First()
	if len(id) != 16 || strings.Trim(id, "0123456789abcdef") != "" {
		return "", usage(c, fmt.Errorf("%q is no finding's id: it has 16 hexadecimal digits", id))
	}
	return id, nil
}

func (a *app) showFinding(ctx context.Context, c *cli.Command) error {
	id, r, err := a.namedFinding(c, 1, "one finding")
	if err != nil {
		return err
	}
	response, err := r.GetFinding(ctx, id)
	return a.oneFinding(c, r, answerOf[wire.FindingDetail](response, err))
}

func (a *app) moveFinding(ctx context.Context, c *cli.Command) error {
	id, err := theFinding(c, 2, "a finding and the state it becomes")
	if err != nil {
		return err
	}
	to := c.Args().Get(1)
	known := false
	for _, s := range finding.States() {
		known = known || string(s) == to
	}
	if !known {
		return usage(c, fmt.Errorf("there is no state %q", to))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.MoveFinding(ctx, id, wire.MoveFindingJSONRequestBody{To: wire.State(to),
		Comment: some(c.String("comment")), Until: some(c.String("until"))})
	return a.oneFinding(c, r, answerOf[wire.FindingDetail](response, err))
}

func (a *app) commentFinding(ctx context.Context, c *cli.Command) error {
	id, r, err := a.namedFinding(c, 2, "a finding and the comment")
	if err != nil {
		return err
	}
	response, err := r.CommentFinding(ctx, id, wire.CommentFindingJSONRequestBody{Text: c.Args().Get(1)})
	return a.oneFinding(c, r, answerOf[wire.FindingDetail](response, err))
}

// oneFinding prints a finding.
func (a *app) oneFinding(c *cli.Command, r *remote, got result[wire.FindingDetail]) error {
	if got.err != nil {
		return got.err
	}
	d := got.value
	return a.output(c, d, func(w io.Writer) {
		s := sheet{w, terminal(a.out)}
		fmt.Fprintf(w, "%s  %s\n\n", report.Severity(string(d.Finding.Severity), colour(a.out)), d.Finding.Kind)
		s.standing(&d.Finding)
		s.place(&d)
		s.evidence(&d)
		for _, e := range d.History {
			s.line(e.At.Local().Format("01-02 15:04"), strings.TrimSpace(e.Author+": "+eventWords(&e)+" "+
				textOf(e.Comment)))
		}
		s.next(&d)
		s.line("link", r.url+"/findings/"+d.Finding.ID)
	})
}

// sheet prints a finding, one label and text per line.
type sheet struct {
	io.Writer
	width int // of the terminal; 0 is none
}

// line prints a text with its label, unless the text is empty.
func (s *sheet) line(label, words string) {
	const indent = 13 // of the texts behind the labels
	if words = report.Clean(words); words == "" {
		return
	}
	if s.width > 2*indent {
		words = strings.ReplaceAll(text.WrapSoft(words, s.width-indent), "\n", "\n"+strings.Repeat(" ", indent))
	}
	fmt.Fprintf(s, "%-*s%s\n", indent, label, words)
}

// standing prints a finding's state and assignment.
func (s *sheet) standing(f *wire.Finding) {
	s.line("finding", f.ID)
	s.line("state", string(f.State))
	s.line("until", textOf(f.WaivedUntil))
	s.line("approved by", textOf(f.WaiverApprover))
	if f.WaiverAsked != nil {
		what := "to take it for no leak"
		if f.WaiverAsked.Until != nil {
			what = "for a waiver until " + *f.WaiverAsked.Until
		}
		s.line("waits", fmt.Sprintf("%s asks %s; a lead who is somebody else approves it: inkret finding move %s %s",
			f.WaiverAsked.By.Name, what, f.ID, f.WaiverAsked.To))
	}
	s.line("assigned", assignedTo(f))
	s.line("due", textOf(f.Due))
	if f.Labels != nil {
		s.line("labels", strings.Join(*f.Labels, ", "))
	}
}

// place prints where a finding is, why it is reported, and how to fix it.
func (s *sheet) place(d *wire.FindingDetail) {
	f := &d.Finding
	s.line("endpoint", f.Endpoint)
	s.line("audience", strings.TrimSpace(f.Audience+" "+parenthesised(textOf(f.AudienceBy))))
	s.line("status", f.Status)
	s.line("path", f.Path)
	s.line("sample", textOf(f.Sample))
	s.line("why", f.Why)
	for _, c := range valueOf(d.Causes) {
		s.line("likely", c.Text)
		if c.Finding != nil {
			s.line("", "inkret finding show "+*c.Finding)
		}
	}
	s.line("mend", textOf(d.Mend))
	if d.Grant != nil {
		s.line("contract", fmt.Sprintf("%s:%d  %s", d.Grant.File, d.Grant.Line, textOf(d.Grant.Text)))
	}
}

// evidence prints which captures show a finding, and where the same leak was found.
func (s *sheet) evidence(d *wire.FindingDetail) {
	f := &d.Finding
	s.line("seen", fmt.Sprintf("%s in %s, %s; first %s, last %s", plural(f.Spots, "spot"),
		plural(f.Captures, "capture"), report.Bytes(int(f.Bytes)),
		f.FirstSeen.Local().Format("2006-01-02 15:04"), f.LastSeen.Local().Format("2006-01-02 15:04")))
	for i, e := range d.Evidence {
		if i == 5 {
			break
		}
		s.line("evidence", fmt.Sprintf("capture %d, %s entry %d, %s (byte %d)", e.CaptureID, e.Batch, e.Entry,
			e.Pointer, e.Offset))
	}
	same := map[string]bool{}
	for _, o := range d.SameValue {
		same[o.ID] = true
		s.line("same value", fmt.Sprintf("%s  %s %s  %s (%s)", o.ID, o.Endpoint, o.Audience, o.Path, o.State))
	}
	for _, o := range d.Elsewhere {
		if same[o.ID] {
			continue
		}
		s.line("same field", fmt.Sprintf("%s  %s %s  %s (%s)", o.ID, o.Endpoint, o.Audience, o.Path, o.State))
	}
}

// next prints what to do about a finding.
func (s *sheet) next(d *wire.FindingDetail) {
	var moves []string
	for _, m := range d.Moves {
		moves = append(moves, string(m))
	}
	if d.Teaches != nil && len(moves) > 0 {
		for _, one := range *d.Teaches {
			s.line("no leak?", strings.Join(strings.Fields(one.Text), " "))
		}
	}
	if d.Prove != nil {
		s.line("to prove it", *d.Prove)
	}
	s.proofs(d)
	if len(moves) > 0 {
		s.line("next", "inkret finding move "+d.Finding.ID+" "+strings.Join(moves, "|"))
	}
}

// proofs prints what proved a finding, or what recordings in progress tell of it so far.
func (s *sheet) proofs(d *wire.FindingDetail) {
	for _, p := range valueOf(d.Proofs) {
		switch {
		case p.Shown && p.Growing:
			s.line("so far", fmt.Sprintf("batch %d, %s, which still grows, shows it", p.BatchID, p.Batch))
		case p.Growing:
			s.line("so far", fmt.Sprintf("not seen in %s of batch %d, %s, which still grows",
				plural(p.Captures, "call"), p.BatchID, p.Batch))
		default:
			s.line("proof", fmt.Sprintf("batch %d, %s: %s of it cover the place, the first is capture %d: %s",
				p.BatchID,
				p.Batch, plural(p.Captures, "capture"), valueOf(p.CaptureID), textOf(p.Words)))
			if p.Leaked != nil && p.CaptureID != nil {
				s.line("", fmt.Sprintf("inkret capture compare %d %d", *p.Leaked, *p.CaptureID))
			}
		}
	}
	if d.Finding.Doubt != nil {
		s.line("in doubt", *d.Finding.Doubt)
		s.line("", fmt.Sprintf("inkret finding move %s awaiting-proof, or closed with a reason why it stays so",
			d.Finding.ID))
	}
}

// eventWords describes an event of a finding's history.
func eventWords(e *wire.Event) string {
	what := string(e.Kind)
	if e.To != nil && e.Kind == wire.EventKindMove {
		what = "→ " + string(*e.To)
	}
	switch {
	case e.Kind == wire.EventKindRenamed:
		what = fmt.Sprintf("called %s from then on, was %s", textOf(e.Became), textOf(e.Was))
	case e.Kind == wire.EventKindExcepted && textOf(e.Became) != "":
		what = "covered by an exception: " + textOf(e.Became)
	case e.Kind == wire.EventKindExcepted:
		what = "covered by no exception any more: " + textOf(e.Was)
	case e.Kind == wire.EventKindEarlier:
		what = "shown by what was recorded before the proof"
	case e.Kind == wire.EventKindKept:
		what = "stays closed, although " + textOf(e.Was)
	case e.Kind == wire.EventKindWaiver:
		what = fmt.Sprintf("a waiver until %s %s", textOf(e.Until), textOf(e.Became))
	case e.Was != nil || e.Became != nil:
		what += fmt.Sprintf(" %s → %s", cmp.Or(textOf(e.Was), "none"), cmp.Or(textOf(e.Became), "none"))
	}
	if e.CaptureID != nil {
		what += fmt.Sprintf(", proven by capture %d", *e.CaptureID)
	}
	return what
}

func parenthesised(s string) string {
	if s == "" {
		return ""
	}
	return "(" + s + ")"
}
