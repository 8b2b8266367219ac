package review

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/kind"
	"inkret/core/observe"
	"inkret/core/revise"
	"inkret/core/schema"
	"inkret/service/base"
	"inkret/store"
)

// EntityView is an entity with its open points.
type EntityView struct {
	*catalog.Entity
	Unclassed int                   // fields without a class
	ByClass   map[catalog.Class]int // fields of each class
	Endpoints int                   // that let something of it out, or leak it
	Leaks     int                   // open findings about it
}

// Entities lists the entities of a service's catalogue.
func (s *Review) Entities(ctx context.Context, service string) ([]EntityView, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, err
	}
	leaks, err := s.store.Leaks(ctx, service)
	if err != nil {
		return nil, err
	}
	count := map[string]int{}
	at := map[string]map[string]bool{}
	meet := func(entity, endpoint string) {
		if at[entity] == nil {
			at[entity] = map[string]bool{}
		}
		at[entity][endpoint] = true
	}
	for _, l := range leaks {
		count[l.Entity]++
		meet(l.Entity, l.Endpoint)
	}
	for _, flow := range s.flows.of(f).all {
		meet(flow.Entity, flow.Endpoint)
	}
	var all []EntityView
	for _, e := range f.Contracts.Catalog.Entities {
		v := EntityView{Entity: e, ByClass: map[catalog.Class]int{}, Leaks: count[e.Name], Endpoints: len(at[e.Name])}
		for _, field := range e.Fields {
			v.ByClass[field.Class]++
		}
		v.Unclassed = v.ByClass[catalog.Unclassed]
		all = append(all, v)
	}
	return all, nil
}

// FieldView is a field with its class, who set it, the suggested class, and where the field was seen.
type FieldView struct {
	Entity string // by name
	*catalog.Field
	Pos        contract.Pos      // where it is written
	Classing   *store.Classing   // nil where nobody has classed it
	Suggestion detect.Suggestion // the class that is suggested
	Endpoints  []string          // that let it out, or on which it has been seen
	Leaks      int               // open findings
}

// FieldFilter narrows a list of fields.
type FieldFilter struct {
	Entity    string // by name
	Class     string // a class, or "unclassed"
	Suggested string // the suggested class
	Words     string // in entity, field or note
}

// Fields returns a page of the catalogue's fields and their total number.
func (s *Review) Fields(ctx context.Context, service string, by FieldFilter,
	page store.Page) ([]FieldView, int, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, 0, err
	}
	leaks, err := s.store.Leaks(ctx, service)
	if err != nil {
		return nil, 0, err
	}
	classings, err := s.store.Classings(ctx, service)
	if err != nil {
		return nil, 0, err
	}
	who := map[string]*store.Classing{}
	for i, c := range classings {
		who[c.Entity+"."+c.Field] = &classings[i]
	}
	leaking := map[string][]store.Leak{}
	for _, l := range leaks {
		key := l.Entity + "." + leakField(l)
		leaking[key] = append(leaking[key], l)
	}
	var all []FieldView
	for _, e := range f.Contracts.Catalog.Entities {
		if by.Entity != "" && by.Entity != e.Name {
			continue
		}
		for _, field := range e.Fields {
			key := e.Name + "." + field.Name
			if by.Class != "" && by.Class != classWord(field.Class) || !containsWords(key+" "+field.Note, by.Words) {
				continue
			}
			v := FieldView{Entity: e.Name, Field: field, Pos: f.Contracts.Place(field), Classing: who[key],
				Leaks: len(leaking[key])}
			evidence := detect.Evidence{Note: field.Note, Form: field.Form}
			for _, l := range leaking[key] {
				if c, known := catalog.ParseClass(l.Class); known && c > evidence.Class &&
					(l.Kind == kind.SecretValue.String() ||
						l.Kind == kind.PersonalValue.String()) {
					evidence.Class = c
					_, evidence.Detector, _ = strings.Cut(l.Why, "recognised as ")
				}
				add(&v.Endpoints, l.Endpoint)
			}
			for _, flow := range s.flows.of(f).of(e.Name, field.Name) {
				add(&v.Endpoints, flow.Endpoint)
			}
			v.Suggestion = detect.Suggest(e.Name, field.Name, evidence)
			if by.Suggested == "" || by.Suggested == classWord(v.Suggestion.Class) {
				all = append(all, v)
			}
		}
	}
	from := min((page.Number-1)*page.Size, len(all))
	return all[from:min(from+page.Size, len(all))], len(all), nil
}

func add(all *[]string, s string) {
	if !slices.Contains(*all, s) {
		*all = append(*all, s)
	}
}

// leakField returns the field of a leak: the catalogued one, or the member's name if the catalogue did not know it
// at the time.
func leakField(l store.Leak) string {
	if l.Field != "" {
		return l.Field
	}
	return l.Path[strings.LastIndexByte(l.Path, '.')+1:]
}

// Unclassed is the name of "no class" in filters and lists.
const Unclassed = "unclassed"

func classWord(c catalog.Class) string {
	if c == catalog.Unclassed {
		return Unclassed
	}
	return c.String()
}

func containsWords(text, words string) bool {
	text = strings.ToLower(text)
	for _, w := range strings.Fields(strings.ToLower(words)) {
		if !strings.Contains(text, w) {
			return false
		}
	}
	return true
}

// ClassFields sets the classes of fields, as a new revision of the contracts.
func (s *Review) ClassFields(ctx context.Context, who base.Caller, service string, all []revise.ClassOf, basedOn int,
	reason string) (store.Revision, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return store.Revision{}, err
	}
	edits, err := revise.Classes(f.Contracts, all)
	if err != nil {
		return store.Revision{}, base.NewProblem(base.Invalid, "", "%v", err)
	}
	if reason == "" {
		reason = fmt.Sprintf("classed %d fields", len(all))
		if len(all) == 1 {
			reason = fmt.Sprintf("classed %s.%s as %s", all[0].Entity, all[0].Field, classWord(all[0].Class))
		}
	}
	return s.applyEdits(ctx, who, f.Revision, edits, Proposed{Base: basedOn, Reason: reason})
}

func (s *Review) applyEdits(ctx context.Context, who base.Caller, from store.Revision, edits revise.Edits,
	p Proposed) (store.Revision, error) {
	files, err := revise.Apply(base.ContractFiles(from.Files), edits)
	if err != nil {
		return store.Revision{}, base.NewProblem(base.Invalid, "change it in the contract's text", "%v", err)
	}
	if p.Base == 0 {
		p.Base = from.Number
	}
	p.Files = storedFiles(files)
	r, _, err := s.Apply(ctx, who, from.Service, p)
	return r, err
}

// Reading is a description of what is stored, to compare with the catalogue.
type Reading struct {
	Source string         // what it is called: a file, a database without its password
	Form   string         // one of ReadingForms
	Text   []byte         // of a description or of SQL
	Tables []schema.Table // as the database has them
}

// The forms of a reading.
const (
	ReadTables      = "tables"      // of a live database, read elsewhere
	ReadSQL         = "sql"         // DDL
	ReadDescription = "description" // OpenAPI or JSON Schema
	ReadTraffic     = "traffic"     // the captures that the service has
)

// ReadingView lists how a reading differs from the catalogue.
type ReadingView struct {
	Differences []catalog.Difference // between what is stored and the catalogue
	Notes       []string             // what else there is to say
	Entities    int                  // how many
	Sketch      *schema.Sketch       // of descriptions and traffic
}

// ReadEntities compares a reading with the catalogue. It changes nothing.
func (s *Review) ReadEntities(ctx context.Context, service string, r Reading) (*ReadingView, error) {
	v := &ReadingView{}
	var read *catalog.Catalog
	partial := false
	f, err := s.contractsOrNone(ctx, service)
	if err != nil {
		return nil, err
	}
	switch r.Form {
	case ReadTables:
		read = schema.Entities(r.Tables)
	case ReadSQL:
		if read, v.Notes, err = schema.DDL(r.Text); err != nil {
			return nil, base.NewProblem(base.Invalid, "", "%s: %v", r.Source, err)
		}
	case ReadDescription:
		if v.Sketch, err = schema.Describe(r.Source, r.Text); err != nil {
			return nil, base.NewProblem(base.Invalid, "", "%v", err)
		}
		read, v.Notes, partial = v.Sketch.Catalog(), v.Sketch.Notes, true
	case ReadTraffic:
		if v.Sketch, err = s.sketch(ctx, service, f.Contracts); err != nil {
			return nil, err
		}
		read, partial = v.Sketch.Catalog(), true
	default:
		return nil, base.NewProblem(base.Invalid, "expected tables, sql, description or traffic",
			"%q is no form of a reading",
			r.Form)
	}
	v.Entities = len(read.Entities)
	if v.Entities == 0 {
		return nil, base.NewProblem(base.Invalid, "", "%s: it describes nothing that could be an entity", r.Source)
	}
	v.Differences = catalog.Compare(f.Contracts.Catalog, read, partial)
	if r.Form == ReadTraffic {
		v.Differences = onlyStored(f.Contracts, v.Sketch, v.Differences)
	}
	return v, nil
}

// onlyStored removes members of traffic that the contracts declare as something else than a field of the entity:
// renamed, derived and external members, and the objects inside them.
func onlyStored(c *contract.Contracts, sketch *schema.Sketch, all []catalog.Difference) []catalog.Difference {
	granted := map[string]bool{}
	met := map[*contract.GrantSet]bool{}
	var walk func(s *contract.GrantSet)
	walk = func(s *contract.GrantSet) {
		if s == nil || met[s] {
			return
		}
		met[s] = true
		for _, g := range s.Grants {
			if s.Entity != nil {
				granted[s.Entity.Name+"."+g.Name] = true
			}
			walk(g.Members())
		}
	}
	contracted := map[string]bool{}
	for _, e := range c.Endpoints {
		contracted[e.Text] = true
		for _, r := range append(slices.Clone(e.Responses), e.Accepts...) {
			walk(r.Body)
		}
	}
	all = slices.DeleteFunc(all, func(d catalog.Difference) bool {
		return d.Name != "" &&
			granted[d.Entity+"."+d.Name]
	})
	reached := map[string]bool{}
	for _, op := range sketch.Operations {
		for _, a := range op.Answers {
			if a.Object != nil && !contracted[op.Method+" "+op.Path] {
				reached[a.Object.Name] = true
			}
		}
	}
	for range all { // what is reached reaches further
		for _, d := range all {
			switch {
			case d.Kind == catalog.NewRelation:
				reached[d.Rel.Entity] = true
			case d.Kind == catalog.NewEntity && reached[d.Entity]:
				for _, r := range d.Read.Relations {
					reached[r.Entity] = true
				}
			}
		}
	}
	return slices.DeleteFunc(all, func(d catalog.Difference) bool {
		return d.Kind == catalog.NewEntity &&
			!reached[d.Entity]
	})
}

// contractsOrNone returns the contracts in force, or empty ones for a service that does not exist yet.
func (s *Review) contractsOrNone(ctx context.Context, service string) (base.InForce, error) {
	f, err := s.base.Contracts(ctx, service)
	var unknown *base.Problem
	if errors.As(err, &unknown) && unknown.Code == base.NotFound {
		files := []store.ContractFile{{Name: "catalogue.yaml", Text: "inkret: 1\nservice: " + service + "\n"}}
		read, err := contract.Read(base.ContractFiles(files)...)
		if err != nil {
			return f, base.NewProblem(base.Invalid, "expected letters, digits, '.', '_' and '-'",
				"%q is no service name", service)
		}
		return base.InForce{Contracts: read, Revision: store.Revision{Service: service, Files: files}}, nil
	}
	return f, err
}

// Taking selects differences of a reading to add to the catalogue.
type Taking struct {
	Reading
	Differences []string // by id
	Base        int      // the revision that must be in force; 0 is any
	Reason      string   // for whoever reads the revisions
}

// TakeEntities adds differences of a reading to the catalogue, as a new revision: those named by id, or, if none is
// named, all that are new or changed. What is gone from the store is removed only if it is named.
func (s *Review) TakeEntities(ctx context.Context, who base.Caller, service string,
	t Taking) (store.Revision, *ReadingView, error) {
	v, err := s.ReadEntities(ctx, service, t.Reading)
	if err != nil {
		return store.Revision{}, nil, err
	}
	f, err := s.contractsOrNone(ctx, service)
	if err != nil {
		return store.Revision{}, nil, err
	}
	taken := slices.DeleteFunc(slices.Clone(v.Differences), func(d catalog.Difference) bool {
		if len(t.Differences) > 0 {
			return !slices.Contains(t.Differences, d.ID())
		}
		return strings.HasPrefix(string(d.Kind), "gone-")
	})
	if len(taken) == 0 {
		return f.Revision, v, nil
	}
	if t.Reason == "" {
		t.Reason = "read from " + t.Source
	}
	revision, err := s.applyEdits(ctx, who, f.Revision, revise.Reading(f.Contracts, catalogueFile(f), taken),
		Proposed{Base: t.Base, Reason: t.Reason})
	return revision, v, err
}

// catalogueFile returns the file that new entities are written to: the one with the most entities.
func catalogueFile(f base.InForce) string {
	count := map[string]int{}
	best := f.Revision.Files[0].Name
	for _, e := range f.Contracts.Catalog.Entities {
		if n := f.Contracts.Node(e); n != nil {
			if count[n.File]++; count[n.File] > count[best] {
				best = n.File
			}
		}
	}
	return best
}

// sketch learns entities from a service's captures, newest first.
func (s *Review) sketch(ctx context.Context, service string, c *contract.Contracts) (*schema.Sketch, error) {
	return s.sketchOf(ctx, service, c, nil, mostJudgedAnew)
}

// sketchOf is sketch for some endpoints, all where there are none, and a number of captures.
func (s *Review) sketchOf(ctx context.Context, service string, c *contract.Contracts, endpoints []string,
	most int) (*schema.Sketch, error) {
	o := observe.New(c)
	err := s.store.Recorded(ctx, service, endpoints, most, func(one store.Capture) error {
		held, err := s.vault.OpenExchange(one.Sealed)
		if err != nil {
			return err
		}
		capture, err := held.Capture(one)
		if err != nil {
			return err
		}
		o.Add(capture)
		return nil
	})
	return o.Sketch(), err
}
