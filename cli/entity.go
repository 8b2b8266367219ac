package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"inkret/api/wire"
	"inkret/core/catalog"
	"inkret/core/schema"
	"inkret/report"
	"inkret/tables"
)

var classWords = append(catalog.ClassNames(), "unclassed")

func (a *app) entityCommand() *cli.Command {
	return &cli.Command{
		Name:     "entity",
		Usage:    "the catalogue: read entities from where they are stored, class their fields, see where these go",
		Commands: slices.Concat(a.catalogueCommands(), a.readingCommands()),
		Action:   a.needsSubcommand,
	}
}

// catalogueCommands returns the commands that list and classify fields.
func (a *app) catalogueCommands() []*cli.Command {
	classes := strings.Join(classWords, ", ")
	return []*cli.Command{
		{
			Name: "list", Usage: "list the entities of a service", ArgsUsage: "SERVICE",
			Flags: []cli.Flag{formatFlag()}, Action: a.listEntities,
		},
		{
			Name: "fields", Usage: "list fields with their classes, who gave them, and what class is suggested",
			ArgsUsage: "SERVICE",
			Description: `    inkret entity fields fennick-quay --class unclassed
    inkret entity fields fennick-quay --entity Skipper --format json`,
			Flags: append(pageFlags(), formatFlag(),
				&cli.StringFlag{Name: "class", Usage: "only of the class: " + classes},
				&cli.StringFlag{Name: "suggested", Usage: "only those for which this class is suggested"},
				&cli.StringFlag{Name: "entity", Usage: "only of the entity `NAME`"},
				&cli.StringFlag{Name: "search", Usage: "`WORDS` in entity, field or note"}),
			ShellComplete: completeValues(map[string][]string{"class": classWords, "suggested": classWords,
				"format": {"table", "json"}}),
			Action: a.listFields,
		},
		{
			Name: "class", Usage: "give fields their classes", ArgsUsage: "SERVICE [ENTITY.FIELD=CLASS…]",
			Description: `Classes: ` + classes + `. Each change makes a revision of the contracts.

    inkret entity class fennick-quay Skipper.loyalty_tier=personal Boat.name=public
    inkret entity class fennick-quay --accept personal
    inkret entity class fennick-quay --accept any --least likely`,
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "accept",
					Usage: "take the suggested class of every unclassed field for which `CLASS` is suggested; " +
						"any takes them all"},
				&cli.StringFlag{Name: "least", Value: "likely",
					Usage: "with --accept: how sure a suggestion must be at least: sure, likely, guess"},
				&cli.StringFlag{Name: "entity", Usage: "with --accept: only of the entity `NAME`"},
				&cli.StringFlag{Name: "reason", Usage: "why, for whoever reads the revisions"}, formatFlag()},
			Action: a.classFields,
		},
	}
}

// readingCommands returns the commands that compare the catalogue with stored data and with what is exposed.
func (a *app) readingCommands() []*cli.Command {
	classes := strings.Join(classWords, ", ")
	return []*cli.Command{
		{
			Name: "read", Usage: "compare what is stored with the catalogue, and take over what differs",
			ArgsUsage: "SERVICE SOURCE",
			Description: `SOURCE is postgres://USER@HOST/DATABASE, sqlite:FILE, or a file: SQL as dump
tools write it, OpenAPI 3.0 or 3.1, JSON Schema, a GraphQL schema, or a SQLite database. A
database is read from here; its address and password stay here. The password
may stand in PGPASSWORD. Instead of SOURCE, --traffic reads what the service has
recorded. New fields have no class until somebody gives them one.

    inkret entity read fennick-quay postgres://reader@db.internal/harbour
    inkret entity read fennick-quay harbour.sql --take-over
    inkret entity read --contracts contracts/ sqlite:harbour.db --fail-on-drift`,
			Flags: []cli.Flag{
				&cli.BoolFlag{Name: "take-over", Usage: "make a revision of all that is new or changed"},
				&cli.StringSliceFlag{Name: "only",
					Usage: "with --take-over: only the difference `ID`, such as \"new-field Boat.colour\"; may " +
						"be given several times, and is the way to take out what is gone"},
				&cli.BoolFlag{Name: "traffic", Usage: "read the recorded traffic of the service"},
				&cli.StringSliceFlag{Name: "contracts",
					Usage:     "compare with the catalogue in `PATH` instead of a service's; may be repeated",
					TakesFile: true},
				&cli.BoolFlag{Name: "fail-on-drift", Usage: "exit with 1 when something differs"},
				&cli.StringFlag{Name: "reason", Usage: "why, for whoever reads the revisions"}, formatFlag()},
			Action: a.readEntities,
		},
		{
			Name: "where", Usage: "tell where a field goes: where it leaks, where it is granted, to whom",
			ArgsUsage:   "SERVICE ENTITY.FIELD",
			Description: `    inkret entity where fennick-quay Skipper.email`,
			Flags:       []cli.Flag{formatFlag()}, Action: a.whereField,
		},
		{
			Name: "map", Usage: "list how each field stands at each endpoint for each audience",
			ArgsUsage: "SERVICE",
			Flags: []cli.Flag{formatFlag(),
				&cli.StringFlag{Name: "entity", Usage: "only of the entity `NAME`"}, &cli.StringFlag{Name: "class",
					Usage: "only of the class: " + classes},
				&cli.StringFlag{Name: "audience", Usage: "only for the audience `NAME`"},
				&cli.StringFlag{Name: "team", Usage: "only at endpoints of the team `NAME`"}},
			ShellComplete: completeValues(map[string][]string{"class": classWords, "format": {"table", "json"}}),
			Action:        a.exposureMap,
		},
	}
}

// namedService parses the service that a command names first, and returns a client for it.
func (a *app) namedService(c *cli.Command, arguments int, words string) (string, *remote, error) {
	if c.Args().Len() != arguments {
		return "", nil, usage(c, errors.New("name "+words+"; inkret service list shows the services"))
	}
	r, err := a.remote()
	return c.Args().First(), r, err
}

func (a *app) listEntities(ctx context.Context, c *cli.Command) error {
	service, r, err := a.namedService(c, 1, "one service")
	if err != nil {
		return err
	}
	response, err := r.ListEntities(ctx, service)
	var all []wire.Entity
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if len(all) == 0 {
			a.say("The catalogue is empty. Read what is stored: inkret entity read %s SOURCE", service)
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Entity", "Stored as", "Fields", "Unclassed", "Personal", "Secret", "Relations",
			"Endpoints", "Open findings"})
		for _, e := range all {
			var relations []string
			for _, rel := range e.Relations {
				relations = append(relations, rel.Name)
			}
			t.AppendRow(table.Row{report.Clean(e.Name), textOf(e.StoredAs), e.Fields, e.Unclassed,
				e.ByClass["personal"], e.ByClass["secret"],
				report.Clean(strings.Join(relations, ", ")), e.Endpoints, e.Open})
		}
		t.Render()
	})
}

func (a *app) listFields(ctx context.Context, c *cli.Command) error {
	service, r, err := a.namedService(c, 1, "one service")
	if err != nil {
		return err
	}
	for _, flag := range []string{"class", "suggested"} {
		if v := c.String(flag); v != "" && !slices.Contains(classWords, v) {
			return usage(c, fmt.Errorf("--%s: there is no class %q; expected one of %s", flag, v,
				strings.Join(classWords, ", ")))
		}
	}
	page, size := c.Int("page"), c.Int("size")
	response, err := r.ListFields(ctx, service, &wire.ListFieldsParams{Page: &page, Size: &size,
		Entity: some(c.String("entity")), Q: some(c.String("search")),
		Class: some(wire.ClassOrNone(c.String("class"))), Suggested: some(wire.ClassOrNone(c.String("suggested")))})
	var all wire.FieldPage
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if all.Total > 0 {
			t := report.NewTable(w)
			t.AppendHeader(table.Row{"Field", "Form", "Class", "Suggested", "Why", "Seen at"})
			for _, f := range all.Items {
				class := string(f.Class)
				if f.ClassedBy != nil {
					class += "\nby " + textOf(f.ClassedBy)
				}
				t.AppendRow(table.Row{report.Clean(f.Entity + "." + f.Name), report.Clean(f.Form), class,
					fmt.Sprintf("%s (%s)", f.Suggested, f.Sure), report.Clean(f.Reason),
					plural(len(f.Endpoints), "endpoint")})
			}
			t.Render()
		}
		a.sayPage(len(all.Items), all.Total, all.Page, all.Size, "field", "fields")
	})
}

func (a *app) classFields(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() < 1 || c.Args().Len() < 2 && c.String("accept") == "" {
		return usage(c, errors.New("name a service and fields with their classes, such as Skipper.tier=personal, or "+
			"say --accept"))
	}
	service := c.Args().First()
	r, err := a.remote()
	if err != nil {
		return err
	}
	body := wire.Classes{Reason: some(c.String("reason"))}
	for _, arg := range c.Args().Slice()[1:] {
		name, class, ok := strings.Cut(arg, "=")
		entity, field, dotted := strings.Cut(name, ".")
		if !ok || !dotted || !slices.Contains(classWords, class) {
			return usage(c, fmt.Errorf("%q is not ENTITY.FIELD=CLASS with one of %s", arg,
				strings.Join(classWords, ", ")))
		}
		body.Fields = append(body.Fields, wire.FieldClass{Entity: entity, Field: field,
			Class: wire.ClassOrNone(class)})
	}
	if accept := c.String("accept"); accept != "" {
		taken, err := a.suggested(ctx, c, r, service, accept)
		if err != nil {
			return err
		}
		body.Fields = append(body.Fields, taken...)
	}
	if len(body.Fields) == 0 {
		a.say("Nothing to class: no unclassed field has such a suggestion.")
		return nil
	}
	response, err := r.Client.ClassFields(ctx, service, body)
	return a.sayRevision(c, response, err, plural(len(body.Fields), "field")+" classed")
}

// suggested returns the suggestions that --accept selects.
func (a *app) suggested(ctx context.Context, c *cli.Command, r *remote, service,
	accept string) ([]wire.FieldClass, error) {
	order := []string{"sure", "likely", "guess"}
	least := slices.Index(order, c.String("least"))
	if least < 0 || accept != "any" && !slices.Contains(classWords[:4], accept) {
		return nil, usage(c, errors.New("--accept takes public, internal, personal, secret or any, and --least "+
			"takes sure, likely or guess"))
	}
	var taken []wire.FieldClass
	unclassed, size := wire.ClassOrNone("unclassed"), 500
	for page := 1; ; page++ {
		response, err := r.ListFields(ctx, service, &wire.ListFieldsParams{Class: &unclassed,
			Entity: some(c.String("entity")), Page: &page, Size: &size})
		var all wire.FieldPage
		if err := answer(response, err, &all); err != nil {
			return nil, err
		}
		for _, f := range all.Items {
			if f.Suggested != "unclassed" && (accept == "any" || string(f.Suggested) == accept) &&
				slices.Index(order, string(f.Sure)) <= least {
				taken = append(taken, wire.FieldClass{Entity: f.Entity, Field: f.Name, Class: f.Suggested})
			}
		}
		if page*size >= all.Total {
			return taken, nil
		}
	}
}

// sayRevision prints the result of a change of contracts.
func (a *app) sayRevision(c *cli.Command, response *http.Response, err error, what string) error {
	var v wire.Revision
	if err := answer(response, err, &v); err != nil {
		return err
	}
	a.notYet(v)
	return a.output(c, v, func(io.Writer) { a.say("%s: %s. %s", v.Service, what, revisionLine(v)) })
}

// notYet sets the exit status of a change of contracts that somebody else has to approve.
func (a *app) notYet(v wire.Revision) {
	if v.State == wire.RevisionStateWaiting {
		a.status = exitFindings
	}
}

// revisionLine describes the state of a revision.
func revisionLine(v wire.Revision) string {
	if v.State == wire.RevisionStateWaiting {
		return fmt.Sprintf("Revision %d exposes more %s data and waits for a second person: inkret contract "+
			"approve %s %d", v.Number, textOf(v.Reaches), v.Service, v.Number)
	}
	return fmt.Sprintf("Revision %d is in force.", v.Number)
}

// reading reads SOURCE locally, so that only its description is sent to the service.
func (a *app) reading(ctx context.Context, source string) (wire.Reading, []schema.Table, error) {
	in := wire.Reading{Source: tables.Masked(source)}
	if !tables.IsAddress(source) {
		in.Source = filepath.Base(source)
		data, err := os.ReadFile(source)
		if err != nil {
			return in, nil, fileError(err)
		}
		trimmed := bytes.TrimSpace(data)
		switch {
		case bytes.HasPrefix(data, []byte("SQLite format 3\x00")):
			source = "sqlite:" + source
		case bytes.HasPrefix(trimmed, []byte("{")) || bytes.Contains(data, []byte("openapi:")) ||
			bytes.Contains(data, []byte("$schema")) || bytes.Contains(data, []byte("$defs")):
			text := string(data)
			in.Form, in.Text = wire.ReadingFormDescription, &text
			return in, nil, nil
		default:
			text := string(data)
			in.Form, in.Text = wire.ReadingFormSQL, &text
			return in, nil, nil
		}
	}
	all, err := tables.Read(ctx, source)
	if err != nil {
		return in, nil, err
	}
	in.Form = wire.ReadingFormTables
	list := []wire.Table{}
	for _, t := range all {
		one := wire.Table{Name: t.Name, Comment: some(t.Comment), Columns: []wire.Column{}, Primary: &t.Primary}
		for _, col := range t.Columns {
			column := wire.Column{Name: col.Name, Type: col.Type, Nullable: col.Nullable, Comment: some(col.Comment)}
			if len(col.Values) > 0 {
				column.Values = &col.Values
			}
			one.Columns = append(one.Columns, column)
		}
		foreign := []wire.ForeignKey{}
		for _, f := range t.Foreign {
			foreign = append(foreign, wire.ForeignKey{Columns: f.Columns, Table: f.Table, Unique: some(f.Unique)})
		}
		one.Foreign = &foreign
		list = append(list, one)
	}
	in.Tables = &list
	return in, all, nil
}

func (a *app) readEntities(ctx context.Context, c *cli.Command) error {
	if paths := c.StringSlice("contracts"); len(paths) > 0 {
		return a.readOffline(ctx, c, paths)
	}
	var in wire.Reading
	traffic := c.Bool("traffic")
	if traffic && c.Args().Len() != 1 || !traffic && c.Args().Len() != 2 {
		return usage(c, errors.New("name a service, and a source or --traffic"))
	}
	service := c.Args().First()
	r, err := a.remote()
	if err != nil {
		return err
	}
	if traffic {
		in = wire.Reading{Source: "recorded traffic", Form: wire.ReadingFormTraffic}
	} else if in, _, err = a.reading(ctx, c.Args().Get(1)); err != nil {
		return err
	}
	if c.Bool("take-over") {
		only := c.StringSlice("only")
		in.Take, in.Reason = &only, some(c.String("reason"))
		response, err := r.TakeEntities(ctx, service, in)
		return a.sayRevision(c, response, err, "read from "+in.Source)
	}
	response, err := r.ReadEntities(ctx, service, in)
	var found wire.ReadingResult
	if err := answer(response, err, &found); err != nil {
		return err
	}
	return a.sayDifferences(c, found,
		fmt.Sprintf("Take it over with --take-over: inkret entity read %s SOURCE --take-over", service))
}

func (a *app) sayDifferences(c *cli.Command, found wire.ReadingResult, next string) error {
	if c.Bool("fail-on-drift") && len(found.Differences) > 0 {
		a.status = exitFindings
	}
	return a.output(c, found, func(w io.Writer) {
		for _, note := range found.Notes {
			a.warn("%s", note)
		}
		if len(found.Differences) == 0 {
			a.say("%s read; the catalogue has them all as they are.", counted(found.Entities, "entity", "entities"))
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Difference", "In the catalogue", "As read"})
		for _, d := range found.Differences {
			is := textOf(d.Is)
			if d.Sure != nil {
				is += fmt.Sprintf(", %d%% sure", *d.Sure)
			}
			t.AppendRow(table.Row{report.Clean(d.ID), textOf(d.Was), is})
		}
		t.Render()
		a.say("\n%s read, %s. %s", counted(found.Entities, "entity", "entities"), plural(len(found.Differences),
			"difference"), next)
	})
}

// readOffline compares a source with the catalogue in contract files.
func (a *app) readOffline(ctx context.Context, c *cli.Command, paths []string) error {
	if c.Args().Len() != 1 || c.Bool("traffic") || c.Bool("take-over") {
		return usage(c, errors.New("with --contracts, name one source; nothing is taken over"))
	}
	contracts, err := readContracts(paths...)
	if err != nil {
		return err
	}
	in, all, err := a.reading(ctx, c.Args().First())
	if err != nil {
		return err
	}
	var read *catalog.Catalog
	found := wire.ReadingResult{Differences: []wire.CatalogueDifference{}, Notes: []string{}}
	switch in.Form {
	case wire.ReadingFormTables:
		read = schema.Entities(all)
	case wire.ReadingFormSQL:
		var notes []string
		if read, notes, err = schema.DDL([]byte(*in.Text)); err != nil {
			return fmt.Errorf("%s: %w", in.Source, err)
		}
		found.Notes = append(found.Notes, notes...)
	default:
		sketch, err := schema.Describe(in.Source, []byte(*in.Text))
		if err != nil {
			return err
		}
		read, found.Notes = sketch.Catalog(), append(found.Notes, sketch.Notes...)
	}
	found.Entities = len(read.Entities)
	for _, d := range catalog.Compare(contracts.Catalog, read, in.Form == wire.ReadingFormDescription) {
		found.Differences = append(found.Differences, wire.CatalogueDifference{ID: d.ID(),
			Kind: wire.CatalogueDifferenceKind(d.Kind), Entity: d.Entity,
			Name: some(d.Name), Was: some(d.Was), Is: some(d.Is)})
	}
	return a.sayDifferences(c, found, "")
}

func (a *app) whereField(ctx context.Context, c *cli.Command) error {
	service, r, err := a.namedService(c, 2, "a service and a field, such as Skipper.email")
	if err != nil {
		return err
	}
	entity, field, ok := strings.Cut(c.Args().Get(1), ".")
	if !ok {
		return usage(c, fmt.Errorf("%q is not ENTITY.FIELD", c.Args().Get(1)))
	}
	response, err := r.ListFlows(ctx, service, &wire.ListFlowsParams{Entity: entity, Field: field})
	var all []wire.Flow
	if err := answer(response, err, &all); err != nil {
		return err
	}
	return a.output(c, all, func(w io.Writer) {
		if len(all) == 0 {
			a.say("%s.%s goes nowhere: no contract grants it, and no capture has shown it.", entity, field)
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"How", "Endpoint", "Audience", "As", "Why"})
		for _, f := range all {
			how, why := string(f.State), textOf(f.Reason)
			switch {
			case f.State == wire.FlowStateLeaking:
				how, why = "LEAKING", "finding "+textOf(f.Finding)
			case f.Derived != nil:
				how += ", derived"
			case f.State == wire.FlowStatePromised:
				how = "granted, never seen"
			}
			if valueOf(f.Own) {
				how += ", own records only"
			}
			if f.NeededBy != nil {
				why = strings.TrimPrefix(why+"; needed by "+report.Clean(strings.Join(*f.NeededBy, ", ")), "; ")
			}
			t.AppendRow(table.Row{how, report.Clean(f.Endpoint), report.Clean(f.Audience), report.Clean(f.Path), why})
		}
		t.Render()
	})
}

func (a *app) exposureMap(ctx context.Context, c *cli.Command) error {
	service, r, err := a.namedService(c, 1, "one service")
	if err != nil {
		return err
	}
	response, err := r.GetExposure(ctx, service, &wire.GetExposureParams{Entity: some(c.String("entity")),
		Class:    some(wire.ClassOrNone(c.String("class"))),
		Audience: some(c.String("audience")), Team: some(c.String("team"))})
	var m wire.ExposureMap
	if err := answer(response, err, &m); err != nil {
		return err
	}
	states := map[int]string{1: "granted", 2: "granted, never seen", 3: "LEAKING"}
	return a.output(c, m, func(w io.Writer) {
		if len(m.Cells) == 0 {
			a.say("Nothing goes out: no contract grants such a field, and no capture has shown one.")
			return
		}
		t := report.NewTable(w)
		t.AppendHeader(table.Row{"Field", "Class", "Endpoint", "Audience", "How"})
		for _, cell := range m.Cells {
			row, col := m.Rows[cell[0]], m.Columns[cell[1]]
			t.AppendRow(table.Row{report.Clean(row.Entity + "." + row.Field), string(row.Class),
				report.Clean(col.Endpoint), report.Clean(col.Audience), states[cell[2]]})
		}
		t.Render()
	})
}
