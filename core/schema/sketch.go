package schema

import (
	"regexp"
	"slices"
	"strings"

	"inkret/core/catalog"
)

// Sketch is what a service's bodies look like, according to a description or traffic. Objects may refer to each
// other in cycles.
type Sketch struct {
	Title      string
	Servers    []string
	Objects    []*Object // entities, each name once; bodies hold these or their variants
	Operations []*Operation
	Graphs     []Graph  // endpoints that answer GraphQL
	Tellers    []Teller // who makes requests, by what traffic shows
	Errors     []string // members of error bodies that are shown as a rule, and are plain values
	ErrorParts []string // those that are objects or arrays
	Notes      []string // what was passed over, and why
}

// Teller is one way to tell who makes a request: a claim, or a place in an endpoint's answer.
type Teller struct {
	Claim  string
	ToldBy string
	At     string // JSON Pointer (RFC 6901)
}

// Object is a kind of object in bodies.
type Object struct {
	Name    string
	Owner   string // the member that seems to say whose it is; empty for none
	Source  string // where it was described or seen
	Stored  string // the table that holds it
	Members []*Member
	Seen    int // how many objects it was told by; 0 for a description
	Places  int // at how many places these stood
	Sure    int // in percent, how well what was seen at these places agrees; 0 for a description

	Kind *Object // the entity that it is a variant of; nil for one that is the only one of its kind

	groups   map[string]bool // names of groups in what shows the entity: none of its members has one
	envelope bool            // a body unwraps it
	unnamed  bool            // a description has no name for it
	hint     string          // what it is called where it stands
}

// Member is a member of an [Object].
type Member struct {
	Name      string
	Form      catalog.Form
	Note      string
	Object    *Object // what its objects are; nil for other values
	Many      bool    // an array of them
	Open      bool    // anything may stand there
	Optional  bool
	ReadOnly  bool
	WriteOnly bool
	Observed  Observed // of traffic
	Field     *Member  // of the entity, where the object is a variant; nil for the member itself
	Group     *Object  // its members are of the entity that the object is of; nil for other members
}

// Entity returns the entity that an object is, or is a variant of.
func (o *Object) Entity() *Object {
	if o.Kind != nil {
		return o.Kind
	}
	return o
}

// Named reports whether a description has a name for the object.
func (o *Object) Named() bool { return !o.unnamed }

// Of returns the entity's member that a member shows.
func (m *Member) Of() *Member {
	if m.Field != nil {
		return m.Field
	}
	return m
}

// Observed is what values were like, without the values.
type Observed struct {
	Detector string        // what recognised them
	Class    catalog.Class // that it gives them
	Values   int           // how many there were
	Distinct int           // how many different ones, up to a bound
}

// Operation is a method and a path.
type Operation struct {
	Method, Path string
	Signed       bool // it asks for credentials, says a description
	Answers      []Answer
	Takes        []Content // of requests
}

// Answer is the response for one status.
type Answer struct {
	Status   string // as a contract writes it: 200, 4XX, default
	Audience string // where it was told by traffic
	Captures int
	Content
}

// IsError reports whether the answer says that something went wrong. What a description calls default does.
func (a *Answer) IsError() bool {
	return !strings.HasPrefix(a.Status, "2") && !strings.HasPrefix(a.Status, "3")
}

// Content is a body.
type Content struct {
	Object   *Object // nil for other values
	At       string  // JSON Pointer to the object within its envelope
	Many     bool
	Nullable bool
	Beside   []string     // the envelope's other members
	Form     catalog.Form // where there is no object
	Empty    bool         // no body
	// what a list of resources of several types holds beside it (JSON:API 1.1, compound documents)
	Included []Typed
	Sent     []string // of what requests hold: the members that were sent; nil for any
}

// IncludedName is the member of a body that holds resources of several types (JSON:API 1.1, section 7.3).
const IncludedName = "included"

// Typed is a resource of a type.
type Typed struct {
	Type   string
	Object *Object
}

// Flat lists the members of an object, those of groups in place of the group.
func (o *Object) Flat() (all []*Member) {
	for _, m := range o.Members {
		if m.Group != nil {
			all = append(all, m.Group.Flat()...)
		} else {
			all = append(all, m)
		}
	}
	return all
}

// grouped reports whether some of an object's members are in a group.
func (o *Object) grouped() bool {
	return slices.ContainsFunc(o.Members, func(m *Member) bool { return m.Group != nil })
}

// Below lists the objects that an object holds.
func (o *Object) Below() (all []*Object) {
	for _, m := range o.Flat() {
		if m.Object != nil {
			all = append(all, m.Object)
		}
	}
	return all
}

// Object returns the object with this name, or nil.
func (s *Sketch) Object(name string) *Object {
	for _, o := range s.Objects {
		if o.Name == name {
			return o
		}
	}
	return nil
}

// Member returns the member with this name, or nil.
func (o *Object) Member(name string) *Member {
	for _, m := range o.Members {
		if m.Name == name {
			return m
		}
	}
	return nil
}

// Catalog converts the objects to entities. Members that are objects become relations.
func (s *Sketch) Catalog() *catalog.Catalog {
	c := &catalog.Catalog{}
	for _, o := range s.Objects {
		e := &catalog.Entity{Name: o.Name}
		for _, m := range o.Members {
			if m.Object != nil {
				e.AddRelation(&catalog.Relation{Name: m.Name, Entity: m.Object.Entity().Name, Many: m.Many})
				continue
			}
			form := m.Form
			if m.Many || m.Open && form.Type == "" {
				form = catalog.Form{Nullable: form.Nullable}
				if m.Many {
					form.Type = catalog.Array
				}
			}
			e.AddField(&catalog.Field{Name: m.Name, Note: m.Note, Form: form})
		}
		c.Add(e)
	}
	return c
}

// Of converts a catalogue, with entities alone.
func Of(c *catalog.Catalog) *Sketch {
	s := &Sketch{}
	for _, e := range c.Entities {
		s.Objects = append(s.Objects, &Object{Name: e.Name, Stored: e.StoredAs})
	}
	for i, e := range c.Entities {
		for _, f := range e.Fields {
			s.Objects[i].Members = append(s.Objects[i].Members, &Member{Name: f.Name, Form: f.Form, Note: f.Note})
		}
		for _, r := range e.Relations {
			if to := s.Object(r.Entity); to != nil {
				s.Objects[i].Members = append(s.Objects[i].Members, &Member{Name: r.Name, Object: to, Many: r.Many})
			}
		}
	}
	return s
}

// payload lists usual names of an envelope's main member.
var payload = []string{"data", "result", "results", "items", "records", "entries", "payload", "content", "value",
	"values", "response", "body", "list", "rows", "hits", "docs", "objects", "resources", "elements"}

// paging matches names of members that say which part of a list an envelope holds, or annotate it.
var paging = regexp.MustCompile(`(?i)^(_?(links?|meta|metadata|page(s|able|info)?|pagination|sort|total|count|size|` +
	`limit|offset|skip|take|top|next|prev|previous|first|last|from|to|cursor|path|empty|number|more|jsonapi|included|` +
	`incomplete|truncated|version|status|success|took|@odata\..*)|` +
	`(has|per|total|current|next|prev|previous|page|incomplete|number)[_-]?[a-z_]*|` +
	`(first|last)[_-]?(page|url|link|item|index)[a-z_]*)$`)

// Unwrap returns the object inside an envelope: that of the only member with objects, if its name is a usual one
// and the envelope has little or nothing else.
func Unwrap(o *Object) (inside *Member, beside []string) {
	const most = 6
	if len(o.Members) > most {
		others := 0
		for _, m := range o.Members {
			if !paging.MatchString(m.Name) {
				others++
			}
		}
		if others > 1 { // more than what it is about
			return nil, nil
		}
	}
	if len(o.Members) == 1 && o.Members[0].Object != nil { // nothing else is there
		return o.Members[0], nil
	}
	for _, m := range o.Members {
		if m.Object != nil && slices.Contains(payload, strings.ToLower(m.Name)) && inside == nil {
			inside = m
			continue
		}
		beside = append(beside, m.Name)
	}
	if inside == nil {
		return nil, nil
	}
	return inside, beside
}

// dropUnused removes the objects that no operation's body has, and those that were only envelopes: nothing else leads
// to them. It returns the names of those that were described for nothing.
func (s *Sketch) dropUnused() (unused []string) {
	used := map[*Object]bool{}
	var use func(o *Object)
	use = func(o *Object) {
		if o == nil || used[o] {
			return
		}
		used[o] = true
		for _, below := range o.Below() {
			use(below)
		}
	}
	for _, o := range s.Objects {
		if !o.envelope && len(s.Operations) == 0 {
			use(o)
		}
	}
	for _, op := range s.Operations {
		for _, a := range op.Answers {
			if !a.IsError() {
				use(a.Object)
				for _, t := range a.Included {
					use(t.Object)
				}
			}
		}
		for _, t := range op.Takes {
			use(t.Object)
		}
	}
	s.Objects = slices.DeleteFunc(s.Objects, func(o *Object) bool {
		if !used[o] && !o.envelope && !o.unnamed {
			unused = append(unused, o.Name)
		}
		return !used[o]
	})
	return unused
}

// Join adds operations, and the objects they use, from another sketch. What is an entity of both is one.
func (s *Sketch) Join(o *Sketch) {
	known := map[string]bool{}
	for _, op := range s.Operations {
		known[op.Method+anyParameter.ReplaceAllString(op.Path, "{}")] = true
	}
	var used []*Object
	met := map[*Object]bool{}
	var use func(one *Object)
	use = func(one *Object) {
		if one == nil || met[one] {
			return
		}
		met[one] = true
		used = append(used, one)
		for _, below := range one.Below() {
			use(below)
		}
	}
	for _, op := range o.Operations {
		if known[op.Method+anyParameter.ReplaceAllString(op.Path, "{}")] {
			continue
		}
		s.Operations = append(s.Operations, op)
		for _, a := range op.Answers {
			use(a.Object)
			for _, t := range a.Included {
				use(t.Object)
			}
		}
		for _, t := range op.Takes {
			use(t.Object)
		}
	}
	s.adopt(used)
	for _, e := range o.Errors {
		if !slices.Contains(s.Errors, e) {
			s.Errors = append(s.Errors, e)
		}
	}
	for _, e := range o.ErrorParts {
		if !slices.Contains(s.ErrorParts, e) {
			s.ErrorParts = append(s.ErrorParts, e)
		}
	}
	for _, server := range o.Servers {
		if !slices.Contains(s.Servers, server) {
			s.Servers = append(s.Servers, server)
		}
	}
	s.Notes = append(s.Notes, o.Notes...)
}

// adopt adds entities of other objects: an entity that is like one of the sketch becomes that one.
func (s *Sketch) adopt(used []*Object) {
	taken := map[string]bool{}
	own := slices.Clone(s.Objects)
	for _, e := range s.Objects {
		taken[e.Name] = true
	}
	into, entities := map[*Object]*Object{}, []*Object{}
	for _, one := range used {
		e := one.Entity()
		if slices.Contains(entities, e) {
			continue
		}
		entities = append(entities, e)
		for _, mine := range own {
			if stem(mine.Name) == stem(e.Name) && share(mine, e) {
				into[e] = mine
				break
			}
		}
		if into[e] == nil {
			e.Name = Free(e.Name, func(n string) bool { return taken[n] })
			taken[e.Name] = true
			s.Objects = append(s.Objects, e)
		}
	}
	var moved []*Object
	for _, one := range used {
		if mine := into[one.Entity()]; mine != nil {
			one.Kind, moved = mine, append(moved, one)
		}
	}
	for e, mine := range into { // also those that no body has, but only members of entities
		e.Kind = mine
	}
	for _, one := range moved {
		one.Kind.Reserve(one)
	}
	for _, one := range moved {
		one.Kind.Take(one)
	}
}

// share reports whether two objects have enough members in common to be one kind of thing.
func share(a, b *Object) bool {
	common := 0
	for _, m := range a.Members {
		if b.Member(m.Name) != nil {
			common++
		}
	}
	return float64(common) >= commonUnderOneName*float64(min(len(a.Members), len(b.Members)))
}

var anyParameter = regexp.MustCompile(`\{[^}]*\}`)
