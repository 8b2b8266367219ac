package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/report"
)

// changeCommands returns the finding commands for bulk changes.
func (a *app) changeCommands(states []string) []*cli.Command {
	return []*cli.Command{
		{
			Name: "change", Usage: "change several findings in one step: state, assignee, due day, labels",
			ArgsUsage: "[ID…]",
			Description: `Of findings named, or with --filter of all that fit the query of a list, as in the
console's address. It says first what would change, and asks. The change can be undone.

    inkret finding change 9f2c51d07a3be846 0b7d… --assign noor@fennick-quay.example --due 2027-03-31
    inkret finding change --filter "kind=heavy-excess&team=moorings" --label later --yes
    inkret finding change --filter "entity=Skipper&field=email" --to in-repair -m "one repair for all" --try`,
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "filter",
					Usage: "all that fit the `QUERY` of a list, as in state=new&severity=critical"},
				&cli.StringFlag{Name: "to", Usage: "the state they become: " + strings.Join(states, ", ")},
				&cli.StringFlag{Name: "until", Usage: "the last `DAY` of a waiver, as 2027-03-31"},
				&cli.StringFlag{Name: "comment", Aliases: []string{"m"}, Usage: "why"},
				&cli.StringFlag{Name: "assign", Usage: "to whom: an `EMAIL`, me, or nobody"},
				&cli.StringFlag{Name: "team",
					Usage: "a team's `NAME`, in place of the endpoint's; - gives it back to that"},
				&cli.StringFlag{Name: "due", Usage: "the last `DAY`, or never"},
				&cli.StringSliceFlag{Name: "label", Usage: "a `LABEL` to put on; may be said again"},
				&cli.StringSliceFlag{Name: "unlabel", Usage: "a `LABEL` to take off; may be said again"},
				&cli.BoolFlag{Name: "decline-waiver",
					Usage: "decline the waiver that waits for approval, with a comment that says why"},
				&cli.BoolFlag{Name: "try", Usage: "only say what would come of it"},
				&cli.BoolFlag{Name: "yes", Usage: "do not ask"}, formatFlag(),
			},
			ShellComplete: completeValues(map[string][]string{"to": states, "format": {"table", "json"}}),
			Action:        a.changeFindings,
		},
		{
			Name: "undo", Usage: "make findings what they were before a change, but for those changed since",
			ArgsUsage: "CHANGE",
			Flags:     []cli.Flag{formatFlag()}, Action: a.undoChange,
		},
		{Name: "changes", Usage: "list the latest changes of several findings", Flags: []cli.Flag{formatFlag()},
			Action: a.listChanges},
		{
			Name: "standing", Usage: "how it stands: what is open by day, how long proofs take, where it is worst",
			Description: `    inkret finding standing --days 30
    inkret finding standing --team reservations --format json`,
			Flags: []cli.Flag{&cli.StringFlag{Name: "service", Usage: "only of the service `NAME`"},
				&cli.StringFlag{Name: "team", Usage: "only of the team `NAME`"},
				&cli.IntFlag{Name: "days", Value: 90, Usage: "how far back"}, formatFlag()},
			Action: a.showStanding,
		},
		{
			Name: "groups", Usage: "gather findings by what they have in common: one repair, many findings",
			Description: `    inkret finding groups --by field
    inkret finding groups --by value --filter "severity=critical,high"
    inkret finding change --filter "shape=harbour/berth-card" --to in-repair    # a group at once`,
			Flags: []cli.Flag{&cli.StringFlag{Name: "by", Value: "field",
				Usage: "field, shape, value, endpoint, team or kind"}, &cli.StringFlag{Name: "filter",
				Usage: "of those that fit the `QUERY` of a list, as in state=new&severity=critical"}, formatFlag()},
			ShellComplete: completeValues(map[string][]string{"by": {"field", "shape", "value", "endpoint", "team",
				"kind"}, "format": {"table", "json"}}),
			Action: a.groupFindings,
		},
	}
}

// keptCommands returns the finding commands for following and saved views.
func (a *app) keptCommands() []*cli.Command {
	return []*cli.Command{
		{Name: "labels", Usage: "list the labels in use", Flags: []cli.Flag{formatFlag()}, Action: a.listLabels},
		{Name: "follow", Usage: "be told of what becomes of a finding", ArgsUsage: "ID",
			Action: a.onFinding((*remote).FollowFinding)},
		{Name: "unfollow", Usage: "be told no longer", ArgsUsage: "ID", Action: a.onFinding((*remote).UnfollowFinding)},
		{
			Name: "views", Usage: "list the lists of findings that you keep, and that others share",
			Flags: []cli.Flag{formatFlag()}, Action: a.listViews,
			Description: `    inkret finding keep-view "Berths to judge" "state=new&q=berth" --share
    inkret finding list --view "Berths to judge"`,
		},
		{
			Name: "keep-view", Usage: "keep a list of findings", ArgsUsage: "NAME QUERY",
			Flags:  []cli.Flag{&cli.BoolFlag{Name: "share", Usage: "others see it too"}, formatFlag()},
			Action: a.keepView,
		},
		{Name: "follow-view", Usage: "be told of what comes into a view", ArgsUsage: "NUMBER",
			Action: a.onNumber("a view", (*remote).FollowView, "")},
		{Name: "unfollow-view", Usage: "be told of a view no longer", ArgsUsage: "NUMBER", Action: a.onNumber("a view",
			(*remote).UnfollowView, "")},
		{Name: "drop-view", Usage: "drop a view of yours", ArgsUsage: "NUMBER", Action: a.onNumber("a view",
			(*remote).DropView, "")},
	}
}

func (a *app) changeFindings(ctx context.Context, c *cli.Command) error {
	body := wire.FindingsChange{To: some(wire.State(c.String("to"))), Until: some(c.String("until")),
		Comment: some(c.String("comment")), Person: some(c.String("assign"))}
	ids := c.Args().Slice()
	if (len(ids) == 0) == (c.String("filter") == "") {
		return usage(c, errors.New("say which findings: name them, or say a --filter"))
	}
	if c.IsSet("filter") {
		body.Filter = some(c.String("filter"))
	} else {
		body.Ids = &ids
	}
	if c.Bool("decline-waiver") {
		body.DeclineWaiver = some(true)
	}
	if c.IsSet("team") {
		team := strings.TrimPrefix(c.String("team"), "-")
		body.Team = &team
	}
	if c.IsSet("due") {
		due := c.String("due")
		if due == "never" {
			due = ""
		}
		body.Due = &due
	}
	if labels := c.StringSlice("label"); len(labels) > 0 {
		body.AddLabels = &labels
	}
	if labels := c.StringSlice("unlabel"); len(labels) > 0 {
		body.RemoveLabels = &labels
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	if !c.Bool("yes") || c.Bool("try") {
		try := true
		body.Try = &try
		response, err := r.ChangeFindings(ctx, body)
		tried := answerOf[wire.FindingsChanged](response, err)
		if tried.err != nil {
			return tried.err
		}
		if c.Bool("try") {
			return a.output(c, tried.value, func(w io.Writer) { a.sayChange(w, &tried.value, "would change") })
		}
		a.sayChange(a.err, &tried.value, "would change")
		if tried.value.Findings == 0 {
			return nil
		}
		if sure, err := a.agreed(ctx, c, "Change them?"); err != nil || !sure {
			return err
		}
		body.Try = nil
	}
	response, err := r.ChangeFindings(ctx, body)
	done := answerOf[wire.FindingsChanged](response, err)
	if done.err != nil {
		return done.err
	}
	return a.output(c, done.value, func(w io.Writer) {
		a.sayChange(w, &done.value, "changed")
		if done.value.ID != nil {
			fmt.Fprintf(w, "Undo it with: inkret finding undo %d\n", *done.value.ID)
		}
	})
}

// sayChange prints the result of a change.
func (a *app) sayChange(w io.Writer, c *wire.FindingsChanged, verb string) {
	matched, left := valueOf(c.Matched), valueOf(c.Left)
	fmt.Fprintf(w, "%s of %d %s: %s.\n", plural(c.Findings, "finding"), matched, verb, report.Clean(c.Words))
	if left > 0 {
		fmt.Fprintf(w, "%d stay as they are:\n", left)
		for _, one := range valueOf(c.Reasons) {
			fmt.Fprintf(w, "  %d: %s\n", one.Findings, report.Clean(one.Why))
		}
	}
}

func valueOf[T any](p *T) T {
	if p == nil {
		var zero T
		return zero
	}
	return *p
}

// number parses the only argument, a number.
func number(c *cli.Command, what string) (int64, error) {
	n, err := strconv.ParseInt(c.Args().First(), 10, 64)
	if c.Args().Len() != 1 || err != nil || n < 1 {
		return 0, usage(c, fmt.Errorf("name %s by its number", what))
	}
	return n, nil
}

func (a *app) undoChange(ctx context.Context, c *cli.Command) error {
	id, err := number(c, "a change")
	if err != nil {
		return err
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.UndoChange(ctx, id)
	got := answerOf[wire.Undone](response, err)
	if got.err != nil {
		return got.err
	}
	return a.output(c, got.value, func(w io.Writer) {
		fmt.Fprintf(w, "%s as before.\n", plural(got.value.Undone, "finding"))
		for _, one := range got.value.Left {
			fmt.Fprintf(w, "  %s left: %s\n", one.ID, report.Clean(one.Why))
		}
	})
}

// listing fetches something and prints it as a table or JSON.
func listing[T any](ctx context.Context, a *app, c *cli.Command, ask func(*remote) result[T],
	show func(io.Writer, T)) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	got := ask(r)
	if got.err != nil {
		return got.err
	}
	return a.output(c, got.value, func(w io.Writer) { show(w, got.value) })
}

func (a *app) listChanges(ctx context.Context, c *cli.Command) error {
	return listing(ctx, a, c, func(r *remote) result[[]wire.FindingsChanged] {
		response, err := r.ListChanges(ctx)
		return answerOf[[]wire.FindingsChanged](response, err)
	}, func(w io.Writer, all []wire.FindingsChanged) {
		if len(all) > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"Change", "When", "Who", "What", "Findings", ""})
			for _, one := range all {
				undone := ""
				if valueOf(one.Undone) {
					undone = "undone"
				}
				t.AppendRow(table.Row{valueOf(one.ID), one.At.Local().Format("2006-01-02 15:04"),
					report.Clean(one.Author), report.Clean(one.Words), one.Findings, undone})
			}
			t.Render()
		}
		a.sayPage(len(all), len(all), 1, 50, "change", "changes")
	})
}

func (a *app) showStanding(ctx context.Context, c *cli.Command) error {
	days := c.Int("days")
	return listing(ctx, a, c, func(r *remote) result[wire.Standing] {
		response, err := r.GetStanding(ctx, &wire.GetStandingParams{Service: some(c.String("service")),
			Team: some(c.String("team")), Days: &days})
		return answerOf[wire.Standing](response, err)
	}, func(w io.Writer, s wire.Standing) {
		counts := func(b wire.BySeverity) []any { return []any{b.Critical, b.High, b.Medium, b.Low, b.Info} }
		names := []any{"Critical", "High", "Medium", "Low", "Info"}
		t := report.NewTable(w)
		t.AppendHeader(append(append(table.Row{"Day"}, names...), "Came", "Went"))
		for _, d := range s.Days {
			t.AppendRow(append(append(table.Row{d.Day}, counts(d.Open)...), d.Found, d.Closed))
		}
		t.Render()
		for _, p := range s.Proofs {
			fmt.Fprintf(w, "%s of severity %s, half of them within %.0f hours, the slowest in %.0f.\n",
				plural(p.Proofs, "proof"), p.Severity, p.MedianHours, p.LongestHours)
		}
		var weighed, excess, saved int64
		for _, d := range s.Weights {
			weighed, excess, saved = weighed+d.Bytes, excess+d.ExcessBytes, saved+d.SavedBytes
		}
		if weighed > 0 {
			fmt.Fprintf(w, "\nOf %s captured in this time, %s are covered by no grant; %s, had the endpoints stayed "+
				"as they were first captured.\n",
				report.Bytes(int(weighed)), report.Bytes(int(excess)), report.Bytes(int(excess+saved)))
		}
		if len(s.Savings) > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"Excess of a capture", "First", "Now", "Saved since"})
			for _, one := range s.Savings {
				t.AppendRow(table.Row{report.Clean(one.Name), report.Bytes(int(one.FirstBytes)),
					report.Bytes(int(one.NowBytes)), signedBytes(one.SavedBytes)})
			}
			t.Render()
		}
		for _, part := range []struct {
			title string
			all   []wire.Worst
		}{{"Endpoint", s.Endpoints}, {"Field", s.Fields}, {"Team", s.Teams}} {
			if len(part.all) == 0 {
				continue
			}
			fmt.Fprintln(w)
			t := report.NewTable(w)
			t.AppendHeader(append(table.Row{part.title}, names...))
			for _, one := range part.all {
				t.AppendRow(append(table.Row{report.Clean(one.Name)}, counts(one.Open)...))
			}
			t.Render()
		}
	})
}

func (a *app) groupFindings(ctx context.Context, c *cli.Command) error {
	return listing(ctx, a, c, func(r *remote) result[wire.FindingGroups] {
		response, err := r.GroupFindings(ctx,
			&wire.GroupFindingsParams{By: wire.GroupFindingsParamsBy(c.String("by")),
				Filter: some(c.String("filter"))})
		return answerOf[wire.FindingGroups](response, err)
	}, func(w io.Writer, all wire.FindingGroups) {
		if len(all.Groups) > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"Group", "Findings", "Critical", "High", "Medium", "Low", "Info", "All of them"})
			for _, g := range all.Groups {
				b := g.BySeverity
				t.AppendRow(table.Row{report.Clean(g.Name), g.Findings, b.Critical, b.High, b.Medium, b.Low, b.Info,
					report.Clean(g.Query)})
			}
			t.Render()
		}
		a.sayPage(len(all.Groups), len(all.Groups)+all.Left, 1, 200, "group", "groups")
	})
}

// signedBytes formats saved bytes; additional bytes are negative.
func signedBytes(n int64) string {
	if n < 0 {
		return "-" + report.Bytes(int(-n))
	}
	return report.Bytes(int(n))
}

func (a *app) listLabels(ctx context.Context, c *cli.Command) error {
	return listing(ctx, a, c, func(r *remote) result[[]wire.LabelCount] {
		response, err := r.ListLabels(ctx)
		return answerOf[[]wire.LabelCount](response, err)
	}, func(w io.Writer, all []wire.LabelCount) {
		for _, l := range all {
			fmt.Fprintf(w, "%6d  %s\n", l.Findings, report.Clean(l.Label))
		}
		a.sayPage(len(all), len(all), 1, 50, "label", "labels")
	})
}

func (a *app) listViews(ctx context.Context, c *cli.Command) error {
	return listing(ctx, a, c, func(r *remote) result[[]wire.SavedView] {
		response, err := r.ListViews(ctx)
		return answerOf[[]wire.SavedView](response, err)
	}, func(w io.Writer, all []wire.SavedView) {
		if len(all) > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"View", "Name", "Of", "Query"})
			for _, v := range all {
				of := "you"
				if !v.Own {
					of = report.Clean(v.Author)
				} else if v.Shared {
					of = "you, shared"
				}
				t.AppendRow(table.Row{v.ID, report.Clean(v.Name), of, report.Clean(v.Query)})
			}
			t.Render()
		}
		a.sayPage(len(all), len(all), 1, 50, "view", "views")
	})
}

func (a *app) keepView(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 2 {
		return usage(c, errors.New("say the view's name and its query"))
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.AddView(ctx, wire.NewView{Name: c.Args().Get(0), Query: c.Args().Get(1),
		Shared: some(c.Bool("share"))})
	got := answerOf[wire.SavedView](response, err)
	if got.err != nil {
		return got.err
	}
	return a.output(c, got.value, func(w io.Writer) {
		fmt.Fprintf(w, "View %d, %s: %s/findings?%s\n", got.value.ID, report.Clean(got.value.Name), r.url,
			report.Clean(got.value.Query))
	})
}

// viewQuery returns the query of a view by name.
func viewQuery(ctx context.Context, r *remote, name string) (url.Values, error) {
	response, err := r.ListViews(ctx)
	got := answerOf[[]wire.SavedView](response, err)
	if got.err != nil {
		return nil, got.err
	}
	for _, v := range got.value {
		if strings.EqualFold(v.Name, name) || strconv.FormatInt(v.ID, 10) == name {
			return url.ParseQuery(v.Query)
		}
	}
	return nil, hint(fmt.Errorf("there is no view %q", name), "inkret finding views lists them")
}

func (a *app) noticeCommand() *cli.Command {
	return &cli.Command{
		Name: "notice", Usage: "what you are told: of findings assigned, mentioned or followed, and of your requests",
		Description: `    inkret notice list --unread
    inkret notice read 42`,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list them, newest first", Flags: append(pageFlags(), formatFlag(),
				&cli.BoolFlag{Name: "unread", Usage: "only what is not read"}), Action: a.listNotices},
			{Name: "read", Usage: "mark a notice and all before it as read", ArgsUsage: "NUMBER",
				Action: a.readNotices},
		},
		Action: a.needsSubcommand,
	}
}

func (a *app) listNotices(ctx context.Context, c *cli.Command) error {
	page, size, unread := c.Int("page"), c.Int("size"), c.Bool("unread")
	return listing(ctx, a, c, func(r *remote) result[wire.NoticePage] {
		response, err := r.ListNotices(ctx, &wire.ListNoticesParams{Page: &page, Size: &size, Unread: &unread})
		return answerOf[wire.NoticePage](response, err)
	}, func(w io.Writer, all wire.NoticePage) {
		if len(all.Items) > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"", "Notice", "When", "What", "About"})
			for _, n := range all.Items {
				fresh := "•"
				if n.Read {
					fresh = ""
				}
				about := textOf(n.Finding) + "\n" + textOf(n.FindingID)
				if n.More != nil {
					about += fmt.Sprintf("\nand %d more", *n.More)
				}
				if n.RequestID != nil {
					about = fmt.Sprintf("request %d", *n.RequestID)
				}
				if n.Revision != nil {
					about = fmt.Sprintf("revision %d of %s", *n.Revision, textOf(n.Service))
				}
				t.AppendRow(table.Row{fresh, n.ID, n.At.Local().Format("2006-01-02 15:04"),
					report.Clean(string(n.Kind)+" by "+n.Author) + "\n" + report.Clean(n.Text), cleanLines(about)})
			}
			t.Render()
		}
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "notice", "notices")
	})
}

func (a *app) readNotices(ctx context.Context, c *cli.Command) error {
	id, err := number(c, "a notice")
	if err != nil {
		return err
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	response, err := r.ReadNotices(ctx, wire.ReadUpTo{UpTo: id})
	return answer(response, err, nil)
}
