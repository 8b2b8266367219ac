package contract

import (
	"net/url"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/document"
	"inkret/core/graph"
	"inkret/core/place"
)

// Endpoints that answer GraphQL grant by type, not by place. A response's types are the members of its grants, each
// with the grants of its fields, so that whatever goes through grants meets them. [Plan.For] turns that into the plan
// for one request: it holds what the query asks for, under the names that it gives to it.

// Graph is what an endpoint that answers GraphQL says of it.
type Graph struct {
	Schema *graph.Schema // nil where none is named: types are known by what objects say of themselves
	faulty bool          // one is named and could not be read
}

// graphOf reads `graphql: {schema: FILE}`; nil if n is nil.
func (r *reader) graphOf(n *document.Node) *Graph {
	if n == nil {
		return nil
	}
	g := &Graph{}
	if n.Kind == document.Null {
		return g
	}
	if g.faulty = !r.keys(n, []string{"schema"}); g.faulty || n.Get("schema") == nil {
		return g
	}
	s, ok := readBeside(r, n.Get("schema"), r.schemas, "a schema",
		": in GraphQL's definition language, or the result of introspection", graph.Read)
	g.Schema, g.faulty = s, !ok
	return g
}

// besideTypes are the keys of a response that cannot stand with those that grant by type.
var besideTypes = []string{"entity", "at", "many", "nullable", "shape", "grants", "beside", "message", "own", "owner"}

// graphResponse reads what a response of an endpoint grants by type.
func (r *reader) graphResponse(resp *Response, n *document.Node, g *Graph) {
	operations, types := n.Get("operations"), n.Get("types")
	switch {
	case g == nil && operations == nil && types == nil:
		return
	case g == nil:
		at := operations
		if at == nil {
			at = types
		}
		r.report(at, "`graphql:` at the endpoint", "%s belongs to an endpoint that answers GraphQL", at.Name.Text)
		return
	}
	for _, k := range besideTypes {
		switch {
		case n.Get(k) == nil:
		case operations != nil || types != nil:
			r.report(n.Get(k), "either types, or grants by their place", "the response has both %s and types", k)
			return
		default:
			return // an answer that is no result of GraphQL
		}
	}
	resp.Graph = g
	set := &GrantSet{}
	if g.faulty { // told already
		return
	}
	r.operations(set, operations, g.Schema)
	if types != nil {
		for _, t := range r.mapping(types) {
			r.typeGrants(set, t, g.Schema)
		}
	}
	resp.own, resp.Body = set, set
}

// operations reads the root fields that are granted.
func (r *reader) operations(set *GrantSet, n *document.Node, s *graph.Schema) {
	if n == nil {
		return
	}
	for _, item := range r.list(n) {
		text := r.text(item)
		if text == "" {
			continue
		}
		root, field, ok := strings.Cut(text, ".")
		if !ok || field == "" {
			r.report(item, "a root type and its field, as in Query.berths", "%q is no operation", text)
			continue
		}
		if s != nil && s.Type(root).Field(field) == nil && !strings.HasPrefix(field, "__") {
			r.unknown(item, "operation", text, s.Operations())
			continue
		}
		if s == nil && !s.IsRoot(root) {
			r.unknown(item, "operation", text, []string{"Query." + field, "Mutation." + field, "Subscription." + field})
			continue
		}
		t := r.typeIn(set, root, item)
		if t.own.grant(field) != nil {
			r.report(item, "each operation once", "%q is listed twice", text)
			continue
		}
		f := &Grant{Name: field, Pos: item.Pos(), Audiences: ^Set(0), Class: catalog.Public, byType: true,
			Optional: true}
		f.Form.Nullable = true
		r.c.nodes[f] = item
		t.own.Grants = append(t.own.Grants, f)
	}
}

// typeIn returns the grant that stands for a type.
func (r *reader) typeIn(set *GrantSet, name string, n *document.Node) *Grant {
	if t := set.grant(name); t != nil {
		return t
	}
	t := &Grant{Name: name, Pos: n.Pos(), Audiences: ^Set(0), Source: FromGroup, Class: catalog.Public, Optional: true,
		typed: true, own: &GrantSet{}}
	r.c.nodes[t] = n
	set.Grants = append(set.Grants, t)
	return t
}

// typeGrants reads what is granted of the objects of one type.
func (r *reader) typeGrants(set *GrantSet, n *document.Node, s *graph.Schema) {
	name := n.Name.Text
	of := s.Type(name)
	switch {
	case s != nil && of == nil:
		r.unknown(n.Name, "type", name, s.Objects())
		return
	case of != nil && of.Kind != graph.Object:
		r.report(n.Name, "a type of objects; what may stand at such a place is granted with its own type",
			"%s is no type of objects", name)
		return
	case of != nil && s.IsRoot(name):
		r.report(n.Name, "`operations`, which lists the root fields", "%s is the type that operations begin with", name)
		return
	}
	if !r.keys(n, []string{"entity", "shape", "grants"}) {
		return
	}
	t := r.typeIn(set, name, n.Name)
	r.c.nodes[t] = n
	t.Source = FromEntity
	if e := n.Get("entity"); e != nil {
		t.entity = r.entity(e)
	}
	if sh := n.Get("shape"); sh != nil {
		if t.shape = r.shape(sh); t.shape != nil && t.entity == nil {
			t.entity = t.shape.Body.Entity
		}
		r.sameEntity(sh, t.shape, t.entity)
	}
	if n.Get("shape") == nil && n.Get("grants") == nil {
		r.report(n, "`shape` or `grants`", "the type %s is named and nothing of it is granted", name)
	}
	t.own = nil
	if g := n.Get("grants"); g != nil {
		r.inType = &typeOf{of}
		t.own = r.grants(g, t.entity, catalog.Unclassed)
		r.inType = nil
	}
	if of == nil || t.own == nil {
		return
	}
	for _, g := range t.own.Grants {
		if of.Field(g.Name) == nil {
			r.unknown(r.c.nodes[g].Name, "field of the type "+name, g.Name, fieldsOf(of))
		}
	}
}

func fieldsOf(t *graph.Type) []string {
	var all []string
	for _, f := range t.Fields {
		all = append(all, f.Name)
	}
	return all
}

// typeOf is the type whose grants are being read; its schema's definition may be nil.
type typeOf struct{ *graph.Type }

// grantByType reads a grant that says no more than that its objects are granted by their type. It reports whether it is
// one.
func (r *reader) grantByType(g *Grant, n *document.Node, entity *catalog.Entity) bool {
	t := r.inType
	if t == nil || n.Kind != document.Null && (n.Kind != document.Map || len(n.Pairs) > 0) ||
		entity != nil && entity.Field(g.Name) != nil {
		return false
	}
	var relation *catalog.Relation
	if entity != nil {
		relation = entity.Relation(g.Name)
	}
	if relation == nil && (t.Type == nil || t.Type.Field(g.Name) == nil) {
		return false
	}
	g.byType, g.Form.Nullable = true, true
	if relation != nil {
		g.Source, g.Relation, g.Many = FromRelation, relation, relation.Many
		g.entity = r.c.Catalog.Entity(relation.Entity)
	}
	return true
}

// Typed reports whether the grant stands for all objects of a type, in a response that grants by type.
func (g *Grant) Typed() bool { return g.typed }

// ByType reports whether the objects that the grant allows are granted by their type.
func (g *Grant) ByType() bool { return g.byType }

// Operations lists the root fields that a response grants, as contracts write them.
func (r *Response) Operations() (all []string) {
	if r.Graph == nil {
		return nil
	}
	for _, t := range r.Body.Grants {
		if r.Graph.Schema.IsRoot(t.Name) {
			for _, f := range t.Members().Grants {
				all = append(all, t.Name+"."+f.Name)
			}
		}
	}
	return all
}

// Graph says that the endpoint answers GraphQL; nil where it does not.
func (e *Endpoint) Graph() *Graph {
	if e == nil {
		return nil
	}
	return e.graph
}

// Result reports whether a plan grants by type, and judges the results of queries.
func (p *Plan) Result() bool { return p != nil && p.graph != nil }

// Ungranted returns the outermost place on the way to a path that begins at a type of which no grant says anything; the
// empty string if there is none.
func (p *Plan) Ungranted(path string) string {
	typeName, rest, typed := strings.Cut(path, " >> ")
	steps, ok := place.Steps(rest)
	if !typed || !ok || len(steps) == 0 {
		return ""
	}
	if t := p.Root.Object.byName[typeName]; t != nil && t.Object != nil {
		covered := t.covers(steps)
		if m := t.Object.byName[steps[0].Name]; m != nil && !m.Foreign && m.Grant.byType {
			covered = len(steps)
		}
		if covered == len(steps) {
			return ""
		}
		return typeName + " >> " + place.Root + place.Joined(steps[:covered+1])
	}
	return typeName + " >> " + place.Root + place.Joined(steps[:1])
}

// envelope adds the members of a result beside its data to a plan (GraphQL section 7.1, and its incremental delivery).
func (c *compiler) envelope(p *Plan, g *Graph) {
	p.graph = g
	member := func(name string, open bool) *Member {
		grant := &Grant{Name: name, Audiences: ^Set(0), Class: catalog.Public, Open: open, Optional: true, way: true,
			Form: catalog.Form{Nullable: true}}
		m := &Member{Name: name, Text: []byte(name), Key: Key(name), Grant: grant, Class: catalog.Public,
			Gravest: catalog.Public, Form: grant.Form, Open: open, Way: true, Serial: len(c.members)}
		m.fit()
		c.members = append(c.members, m)
		return m
	}
	p.data, p.typeName = member("data", false), member(graph.TypeName, false)
	p.beside = []*Member{member("errors", true), member("extensions", true)}
	for _, name := range []string{"hasNext", "label", "path", "id", "subPath", "pending", "completed"} {
		p.streamed = append(p.streamed, member(name, true))
	}
	p.incremental, p.payload, p.items = member("incremental", false), member("payload", false), member("items", false)
}

// For returns the plan for a result of queries, or for the list of results of a batch. streamed says that one answer
// holds several results, and paths are the places of what is sent later, in their order.
func (p *Plan) For(c *Contracts, queries []*graph.Query, list, streamed bool, paths [][]string) *Plan {
	in := &asking{contracts: c, plan: p}
	out := &Plan{Members: p.Members, graph: p.graph}
	var all []*Member
	for _, q := range queries {
		all = append(all, in.result(q, streamed, paths))
	}
	out.Root, out.Entity = all[0], all[0].Object.byName["data"]
	if list || streamed {
		root := *p.Root
		root.Many, root.Object, root.Each = true, nil, all
		if streamed {
			root.Each, root.Object = nil, all[0].Object
		}
		out.Root = &root
	}
	return out
}

// asking is what the plans for one request share.
type asking struct {
	contracts *Contracts
	plan      *Plan
}

// result returns what the result of one query may hold.
func (in *asking) result(q *graph.Query, streamed bool, paths [][]string) *Member {
	p := in.plan
	root := *p.Root
	root.Many, root.Form = false, catalog.Form{}
	o := &Object{byName: map[string]*Member{}, Envelope: true}
	data := *p.data
	data.Fits, data.Form.Nullable, data.Selected = Null, true, &Selected{in: in, of: q.Data}
	o.add(&data)
	for _, m := range p.beside {
		o.add(m)
	}
	if streamed {
		in.later(o, q, paths)
	}
	o.Required = make([]uint64, (len(o.Members)+63)/64)
	root.Object = o
	return &root
}

// later adds what answers hold that come in parts: a result inside of a message, and what is sent later.
func (in *asking) later(o *Object, q *graph.Query, paths [][]string) {
	p := in.plan
	for _, m := range p.streamed {
		o.add(m)
	}
	part := func(sel *graph.Selection, later bool) *Object {
		inner := &Object{byName: map[string]*Member{}, Envelope: true}
		for _, base := range []*Member{p.data, p.items} {
			m := *base
			m.Fits, m.Form.Nullable, m.Selected = Null, true, &Selected{in: in, of: sel, partly: later}
			inner.add(&m)
		}
		for _, m := range slices.Concat(p.beside, p.streamed) {
			inner.add(m)
		}
		inner.Required = make([]uint64, (len(inner.Members)+63)/64)
		return inner
	}
	payload := *p.payload
	payload.Form.Nullable, payload.Fits, payload.Object = true, Null, part(q.Data, false)
	o.add(&payload)
	incremental := *p.incremental
	incremental.Many, incremental.Object = true, part(nil, true)
	for _, path := range paths {
		one := incremental
		one.Many, one.Object = false, part(q.Data.Below(path), true)
		incremental.Each = append(incremental.Each, &one)
	}
	o.add(&incremental)
	if len(paths) > 0 { // where one stands alone, it is the message itself
		if o.byName["items"] == nil {
			items := *p.items
			items.Form.Nullable, items.Fits, items.Selected = true, Null, &Selected{in: in, of: q.Data.Below(paths[0]),
				partly: true}
			o.add(&items)
		}
	}
}

func (o *Object) add(m *Member) {
	one := *m
	one.Index = len(o.Members)
	o.Members = append(o.Members, &one)
	o.byName[one.Name] = &one
}

// Selected is what a query asks of the objects at one place, held against what is granted by type. It is not safe for
// concurrent use.
type Selected struct {
	in      *asking
	of      *graph.Selection // nil where nothing is known of it
	inPlace *Object          // what the grant itself says of objects there; nil where it says nothing
	partly  bool             // what is missing there came before
	objects map[string]*Object
	nameKey *string // once looked for
}

// Only returns the type of the objects where they can have but one.
func (s *Selected) Only() string {
	if s.of != nil && len(s.of.Possible) == 1 {
		return s.of.Possible[0]
	}
	return ""
}

// NameKey returns the name under which objects may say their type, or nothing.
func (s *Selected) NameKey() string {
	if s.nameKey == nil {
		key := s.of.NameKey()
		s.nameKey = &key
	}
	return *s.nameKey
}

// Named is [Selected.Of] for a name that is not kept.
func (s *Selected) Named(typeName []byte) *Object {
	if o := s.objects[string(typeName)]; o != nil {
		return o
	}
	return s.Of(string(typeName))
}

// Fitting returns the one type whose selection has exactly these members, or nothing.
func (s *Selected) Fitting(has func(key string) bool, count int) string {
	if s.of == nil {
		return ""
	}
	return s.of.Fitting(has, count)
}

// Each calls do for each field of each type that may be asked for at this place, at any depth.
func (s *Selected) Each(do func(typeName, field string)) { s.of.Each(do) }

// Others calls do for each field that is asked for of types that are possible here and not among some. It calls it for
// none if the type of an object could not be told.
func (s *Selected) Others(some map[string]bool, do func(typeName, field string)) {
	if s.of == nil || some[""] {
		return
	}
	for _, name := range s.of.Possible {
		if some[name] {
			continue
		}
		for _, a := range s.of.Of(name).All {
			do(name, a.Name)
			a.Inner.Each(do)
		}
	}
}

// Stray is a field that a query asks for and that no grant names.
type Stray struct {
	Name  []byte // as the schema has it
	Root  bool   // it is the field of a root type
	Inner *Selected
}

// Stray returns what the query asks for under a name that has no grant, or nil.
func (o *Object) Stray(name []byte) *Stray { return o.strays[string(name)] }

// mostTypes limits the types at one place where no schema says which there are.
const mostTypes = 500

// Of returns what objects of a type may hold, as the query asks for it. Granted is false if the type has no
// grants. It is nil for a type that the schema does not have.
func (s *Selected) Of(typeName string) *Object {
	if o := s.objects[typeName]; o != nil {
		return o
	}
	if schema := s.in.plan.graph.Schema; schema != nil && schema.Type(typeName) == nil ||
		schema == nil && len(s.objects) >= mostTypes {
		return nil
	}
	o := &Object{Type: typeName, Within: typeName + " >> ", byName: map[string]*Member{}, strays: map[string]*Stray{}}
	var granted *Object
	if t := s.in.plan.Root.Object.byName[typeName]; t != nil && t.Object != nil {
		granted, o.Foreign, o.Gravest = t.Object, t.Foreign, t.Gravest
	} else if s.inPlace != nil {
		granted = s.inPlace
	}
	if o.Entity = s.in.contracts.Catalog.Entity(typeName); granted != nil {
		o.Granted = true
		if granted.Entity != nil {
			o.Entity = granted.Entity
		}
	}
	schema := s.in.plan.graph.Schema
	root := schema.IsRoot(typeName)
	if root {
		o.Granted, o.Entity = true, nil
	}
	if fields := s.of.Of(typeName); fields != nil {
		for _, a := range fields.All {
			s.field(o, granted, a, root)
		}
	}
	if granted != nil {
		for _, m := range granted.Members { // what was not asked for may come all the same
			if o.byName[m.Name] == nil && o.strays[m.Name] == nil {
				one := *m
				one.Required = false
				if of := schema.Type(typeName).Field(one.Name); of != nil {
					one.asID(of.Type)
				}
				if one.Grant.byType || one.Object != nil {
					one.Selected = &Selected{in: s.in, inPlace: one.Object}
					one.Object = nil
				}
				o.add(&one)
			}
		}
	}
	o.foreignLast()
	o.owns(granted, s.of.Of(typeName))
	if s.objects == nil {
		s.objects = map[string]*Object{}
	}
	s.objects[typeName] = o
	return o
}

// field adds what is asked for under one name.
func (s *Selected) field(o, granted *Object, a *graph.Asked, root bool) {
	var base *Member
	switch {
	case a.Name == graph.TypeName:
		base = s.in.plan.typeName
	case granted != nil:
		base = granted.byName[a.Name]
	}
	if base == nil {
		stray := &Stray{Name: []byte(a.Name), Root: root}
		if a.Inner != nil {
			stray.Inner = &Selected{in: s.in, of: a.Inner}
		}
		o.strays[a.Key] = stray
		return
	}
	m := *base
	m.Name, m.Text, m.Key = a.Key, []byte(a.Key), Key(a.Key)
	if m.Label = nil; a.Key != a.Name {
		m.Label = []byte(a.Name)
	}
	m.Required = !m.Foreign && !a.Optional && !base.Grant.Optional
	if root {
		m.Required = !m.Foreign && !a.Optional
	}
	m.Required = m.Required && !s.partly
	if a.Inner != nil || base.Grant.byType {
		m.Selected = &Selected{in: s.in, of: a.Inner, inPlace: base.Object}
		m.Object, m.OneOf = nil, nil
		m.Fits, m.Short = Null, 0
		if a.Inner == nil {
			m.Fits, m.Short = Null|Bool|Text|Integer|Number, longest
		}
	} else {
		m.asID(a.Type)
	}
	o.add(&m)
}

// asID lets numbers be sent as texts where their type is that of ids (section 3.5.5).
func (m *Member) asID(typeName string) {
	if typeName == "ID" && (m.Form.Type == catalog.Integer || m.Form.Type == catalog.Number) {
		m.Form.Type, m.Fits, m.Short = "", 0, 0
		m.fit()
	}
}

// foreignLast puts the members of other audiences behind those of one's own, as the walk expects.
func (o *Object) foreignLast() {
	slices.SortStableFunc(o.Members, func(a, b *Member) int {
		switch {
		case a.Foreign == b.Foreign:
			return 0
		case a.Foreign:
			return 1
		}
		return -1
	})
	o.Required = make([]uint64, (len(o.Members)+63)/64)
	for i, m := range o.Members {
		if m.Index = i; m.Required {
			o.Required[i>>6] |= 1 << (i & 63)
		}
	}
}

// owns takes over how it is told whose the objects are, under the names that a query gives to what tells it.
func (o *Object) owns(granted *Object, fields *graph.Fields) {
	if granted == nil || granted.Owns == nil {
		return
	}
	owns := *granted.Owns
	owns.Names = map[string]Owning{}
	if fields != nil {
		for _, a := range fields.All {
			owns.Names[a.Key] = granted.Owns.Owns([]byte(a.Name))
		}
	}
	o.Owns = &owns
}

// Gravest returns the most severe class of what is granted and asked for here, at any depth.
func (s *Selected) Gravest() catalog.Class {
	class, steps := catalog.Public, 10_000
	var look func(s *Selected)
	look = func(s *Selected) {
		if s == nil || s.of == nil {
			return
		}
		for _, name := range s.of.Possible {
			for _, m := range s.Of(name).Members {
				if steps--; steps < 0 {
					return
				}
				if class = max(class, m.Class); m.Selected != nil {
					look(m.Selected)
				}
			}
		}
	}
	look(s)
	if s.inPlace != nil {
		for _, m := range s.inPlace.Members {
			class = max(class, m.Gravest)
		}
	}
	return class
}

// readsGraphsOf reports whether queries are read as by another schema, where it matters: every type and every field
// that leads to objects is there as it was.
func readsGraphsOf(is, was *Graph) bool {
	switch {
	case was == nil:
		return true
	case is == nil:
		return false
	case was.Schema == nil:
		return true
	case is.Schema == nil:
		return false
	}
	for name, t := range was.Schema.Types {
		now := is.Schema.Type(name)
		if t.Kind != graph.Object && t.Kind != graph.Interface && t.Kind != graph.Union {
			continue
		}
		if now == nil || now.Kind != t.Kind {
			return false
		}
		for _, p := range t.Possible {
			if !slices.Contains(now.Possible, p) {
				return false
			}
		}
		for _, f := range t.Fields {
			if !was.Schema.Type(f.Type).Composite() {
				continue
			}
			if g := now.Field(f.Name); g == nil || g.Type != f.Type {
				return false
			}
		}
	}
	return is.Schema.Query == was.Schema.Query && is.Schema.Mutation == was.Schema.Mutation &&
		is.Schema.Subscription == was.Schema.Subscription
}

// sameGraphs reports whether two states of an endpoint read queries by the same schema.
func sameGraphs(a, b *Graph) bool { return readsGraphsOf(a, b) && readsGraphsOf(b, a) }

// Answers returns the endpoint of an address that answers GraphQL, or nil.
func (c *Contracts) Answers(u *url.URL) *Endpoint {
	if c == nil || u == nil {
		return nil
	}
	segments, ours := c.Serves(u)
	if !ours {
		return nil
	}
	if e := c.Find("POST", segments); e.Graph() != nil {
		return e
	}
	return nil
}

// HasType reports whether an endpoint knows a type: from its schema, or because something is granted of it.
func (e *Endpoint) HasType(name string) bool {
	if e.graph.Schema.Type(name) != nil {
		return true
	}
	return slices.ContainsFunc(e.Responses, func(r *Response) bool {
		return r.Graph != nil && r.Body.grant(name) != nil
	})
}
