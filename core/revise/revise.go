// Package revise makes changes to contract files: classifying fields, importing what was read from a store, adding
// endpoints, granting fields, extracting and inlining shapes. Each function returns edits, which keep comments and
// order; [Apply] applies them.
package revise

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/document"
	"inkret/core/place"
)

// Edits are edits of contract files, by file name.
type Edits map[string][]document.Op

func (e Edits) add(file string, op document.Op) { e[file] = append(e[file], op) }

// Apply applies edits and returns all files. Files that do not exist yet are created.
func Apply(files []contract.File, edits Edits) ([]contract.File, error) {
	out := slices.Clone(files)
	for _, name := range sorted(edits) {
		i := slices.IndexFunc(out, func(f contract.File) bool { return f.Name == name })
		if i < 0 {
			out = append(out, contract.File{Name: name, Data: []byte("inkret: 1\n")})
			i = len(out) - 1
		}
		text, err := document.ApplyTo(name, string(out[i].Data), edits[name])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out[i].Data = []byte(text)
	}
	return out, nil
}

func sorted(edits Edits) []string {
	names := make([]string, 0, len(edits))
	for n := range edits {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

func pointer(parts ...string) string {
	var b []byte
	for _, p := range parts {
		b = place.AppendPointer(b, []byte(p))
	}
	return string(b)
}

func under(n *document.Node, parts ...string) string { return n.Pointer() + pointer(parts...) }

// ClassOf is a field and its class.
type ClassOf struct {
	Entity, Field string
	Class         catalog.Class // Unclassed takes the class away
}

// Classes sets the classes of fields.
func Classes(c *contract.Contracts, all []ClassOf) (Edits, error) {
	edits := Edits{}
	for _, one := range all {
		f := c.Catalog.Entity(one.Entity).Field(one.Field)
		if f == nil {
			return nil, fmt.Errorf("the catalogue has no field %s.%s", one.Entity, one.Field)
		}
		n := c.Node(f)
		switch {
		case f.Class == one.Class:
		case one.Class == catalog.Unclassed:
			edits.add(n.File, document.Op{Op: "remove", Path: under(n, "class")})
		case n.Kind == document.Null:
			edits.add(n.File, document.Op{Op: "replace", Path: n.Pointer(), Value: document.Mapping().Set("class",
				document.Text(one.Class.String()))})
		default:
			edits.add(n.File, document.Op{Op: "add", Path: under(n, "class"), Value: document.Text(one.Class.String())})
		}
	}
	return edits, nil
}

// Reading imports differences of a reading: new fields are added without a class, changed ones are changed, missing
// ones are removed. file is where new entities go.
func Reading(c *contract.Contracts, file string, all []catalog.Difference) Edits {
	edits := Edits{}
	root := func() *document.Node {
		for _, e := range c.Catalog.Entities {
			if n := c.Node(e); n != nil && n.File == file {
				return n.Parent
			}
		}
		return nil
	}()
	fresh := document.Mapping()
	fresh.Block = true
	begun := map[string]*document.Value{} // sections that an entity does not have yet
	section := func(entity, name, key string, v *document.Value) {
		e := c.Catalog.Entity(entity)
		n := c.Node(e)
		if n.Get(name) != nil && n.Get(name).Kind == document.Map {
			edits.add(n.File, document.Op{Op: "add", Path: under(n, name, key), Value: v})
			return
		}
		at := n.File + "\n" + under(n, name)
		if begun[at] == nil {
			begun[at] = &document.Value{Kind: document.Map, Block: true}
			op := document.Op{Op: "add", Path: under(n, name), Value: begun[at]}
			if n.Kind == document.Null {
				op = document.Op{Op: "replace", Path: n.Pointer(),
					Value: (&document.Value{Kind: document.Map, Block: true}).Set(name, begun[at])}
			}
			edits.add(n.File, op)
		}
		begun[at].Set(key, v)
	}
	for _, d := range all {
		e := c.Catalog.Entity(d.Entity)
		switch d.Kind {
		case catalog.NewEntity:
			fresh.Set(d.Entity, entity(d.Read))
		case catalog.NewField:
			section(d.Entity, "fields", d.Name, field(d.Field))
		case catalog.NewRelation:
			section(d.Entity, "relations", d.Name, relation(d.Rel))
		case catalog.GoneEntity:
			n := c.Node(e)
			edits.add(n.File, document.Op{Op: "remove", Path: n.Pointer()})
		case catalog.GoneField:
			n := c.Node(e.Field(d.Name))
			edits.add(n.File, document.Op{Op: "remove", Path: n.Pointer()})
		case catalog.GoneRelation:
			n := c.Node(e.Relation(d.Name))
			edits.add(n.File, document.Op{Op: "remove", Path: n.Pointer()})
		case catalog.ChangedField:
			have := e.Field(d.Name)
			now := *have
			take(&now, d.Field)
			n := c.Node(have)
			changed := field(&now)
			for i, key := range changed.Keys {
				if old := n.Get(key); old == nil || old.Text != changed.Items[i].Text || old.Kind == document.List {
					edits.add(n.File, document.Op{Op: "add", Path: under(n, key), Value: changed.Items[i]})
				}
			}
		case catalog.ChangedRelation:
			n := c.Node(e.Relation(d.Name))
			edits.add(n.File, document.Op{Op: "replace", Path: n.Pointer(), Value: relation(d.Rel)})
		}
	}
	if len(fresh.Items) > 0 {
		if root != nil {
			for i, name := range fresh.Keys {
				edits.add(file, document.Op{Op: "add", Path: under(root, name), Value: fresh.Items[i]})
			}
		} else {
			edits.add(file, document.Op{Op: "add", Path: "/entities", Value: fresh})
		}
	}
	return edits
}

// take copies what a reading knows to a field of the catalogue.
func take(f, read *catalog.Field) {
	f.Type = cmp.Or(read.Type, f.Type)
	f.Format = cmp.Or(read.Format, f.Format)
	f.Max = cmp.Or(read.Max, f.Max)
	if len(read.Values) > 0 && len(f.Values) > 0 {
		f.Values = read.Values
	}
	f.Nullable = f.Nullable || read.Nullable
}

func entity(e *catalog.Entity) *document.Value {
	v := &document.Value{Kind: document.Map, Block: true}
	if e.StoredAs != "" {
		v.Set("stored_as", document.Text(e.StoredAs))
	}
	fields, relations := &document.Value{Kind: document.Map, Block: true}, &document.Value{Kind: document.Map,
		Block: true}
	for _, f := range e.Fields {
		fields.Set(f.Name, field(f))
	}
	for _, r := range e.Relations {
		relations.Set(r.Name, relation(r))
	}
	if len(fields.Items) > 0 {
		v.Set("fields", fields)
	}
	if len(relations.Items) > 0 {
		v.Set("relations", relations)
	}
	return v
}

func field(f *catalog.Field) *document.Value {
	v := Form(f.Form)
	if f.Class != catalog.Unclassed {
		v.Set("class", document.Text(f.Class.String()))
	}
	if f.Note != "" {
		v.Set("note", document.Text(strings.Join(strings.Fields(f.Note), " ")))
	}
	return v
}

// Form writes a form as in a contract file.
func Form(f catalog.Form) *document.Value {
	v := document.Mapping()
	if f.Type != "" {
		v.Set("type", document.Text(string(f.Type)))
	}
	if f.Format != "" {
		v.Set("format", document.Text(f.Format))
	}
	if f.Max > 0 {
		v.Set("max", document.Count(f.Max))
	}
	if len(f.Values) > 0 {
		list := &document.Value{Kind: document.List}
		for _, raw := range f.Values {
			if one, err := document.FromJSON([]byte(raw)); err == nil {
				list.Add(one)
			}
		}
		v.Set("values", list)
	}
	if f.Nullable {
		v.Set("nullable", document.Truth(true))
	}
	return v
}

func relation(r *catalog.Relation) *document.Value {
	v := document.Mapping().Set("entity", document.Text(r.Entity))
	if r.Many {
		v.Set("many", document.Truth(true))
	}
	return v
}

// AddEndpoint appends a drafted endpoint to a file.
func AddEndpoint(c *contract.Contracts, file string, entry *document.Value) Edits {
	edits := Edits{}
	for _, e := range c.Endpoints {
		if n := c.Node(e); n.File == file {
			edits.add(file, document.Op{Op: "add", Path: n.Parent.Pointer() + "/-", Value: entry})
			return edits
		}
	}
	edits.add(file, document.Op{Op: "add", Path: "/endpoints", Value: &document.Value{Kind: document.List, Block: true,
		Items: []*document.Value{entry}}})
	return edits
}

// Granting is a field to grant to an audience at an endpoint.
type Granting struct {
	Endpoint, Audience string
	Entity, Field      string
	Member             string // as it is called; empty: as the field
	Reason, NeededBy   string
	Max                int  // of a text; 0 is no bound
	Optional           bool // it need not be there
}

// Name returns the member's name.
func (g *Granting) Name() string { return cmp.Or(g.Member, g.Field) }

// value returns the grant as written. only limits it to one audience, if the response is for several.
func (g *Granting) value(only string) *document.Value {
	v := document.Mapping()
	if g.Member != "" && g.Member != g.Field {
		v.Set("field", document.Text(g.Field))
	}
	if g.Max > 0 {
		v.Set("max", document.Count(g.Max))
	}
	if g.Optional {
		v.Set("optional", document.Truth(true))
	}
	if only != "" {
		v.Set("audiences", document.Texts(only))
	}
	if g.NeededBy != "" {
		v.Set("needed_by", document.Texts(g.NeededBy))
	}
	if g.Reason != "" {
		v.Set("reason", document.Text(g.Reason))
	}
	return v
}

// Line returns the grant as one line of a contract.
func (g *Granting) Line() string {
	return g.Name() + ": " + g.value("").Flow()
}

// Grant adds a grant where the entity is in the endpoint's response to the audience: in the response itself, or in
// its outermost relation. The error says why it is impossible.
func Grant(c *contract.Contracts, g *Granting) (Edits, error) {
	at := slices.IndexFunc(c.Endpoints, func(e *contract.Endpoint) bool { return e.Text == g.Endpoint })
	if at < 0 {
		return nil, fmt.Errorf("no contract has the endpoint %s", g.Endpoint)
	}
	e, audience := c.Endpoints[at], c.Audience(g.Audience)
	for _, r := range e.Responses {
		holds := r.For(c)
		if audience != nil && !slices.Contains(holds, audience.Name) || r.Body == nil ||
			!slices.ContainsFunc(r.Statuses, func(s string) bool { return s[0] == '2' }) {
			continue
		}
		place := placeOf(r.Body, g.Entity, map[*contract.GrantSet]bool{})
		if r.Body.Entity != nil && r.Body.Entity.Name == g.Entity {
			place = &holder{node: c.Node(r), set: r.Body}
		} else if place != nil {
			place.node = c.Node(place.grant)
		}
		if place == nil || place.node == nil {
			continue
		}
		for _, granted := range place.set.Grants {
			if granted.Name == g.Name() {
				return nil, fmt.Errorf("%s grants a member %q there already, at %s", e.Text, g.Name(), granted.Pos)
			}
		}
		only := ""
		if audience != nil && len(holds) > 1 {
			only = audience.Name
		}
		return place.add(g.Name(), g.value(only))
	}
	return nil, fmt.Errorf("no response of %s to %s holds %s; write the response first", e.Text,
		cmp.Or(g.Audience, "anybody"), g.Entity)
}

// holder is a place in a contract file with grants of an entity.
type holder struct {
	grant *contract.Grant // nil for a response
	node  *document.Node
	set   *contract.GrantSet
}

// placeOf returns the outermost grant below a set that contains objects of an entity.
func placeOf(set *contract.GrantSet, entity string, on map[*contract.GrantSet]bool) *holder {
	if on[set] {
		return nil
	}
	on[set] = true
	for _, g := range set.Grants {
		if inner := g.Members(); inner != nil && inner.Entity != nil && inner.Entity.Name == entity &&
			inner.Entity != set.Entity {
			return &holder{grant: g, set: inner}
		}
	}
	for _, g := range set.Grants {
		if inner := g.Members(); inner != nil {
			if found := placeOf(inner, entity, on); found != nil {
				return found
			}
		}
	}
	return nil
}

// add adds a member to the grants at the place.
func (h *holder) add(name string, v *document.Value) (Edits, error) {
	edits := Edits{}
	n := h.node
	if grants := n.Get("grants"); grants != nil && grants.Kind == document.Map {
		edits.add(n.File, document.Op{Op: "add", Path: under(n, "grants", name), Value: v})
		return edits, nil
	}
	if n.Kind != document.Map {
		return nil, fmt.Errorf("at %s the grant is written in a way that can be changed in the text only", n.Pos())
	}
	edits.add(n.File, document.Op{Op: "add", Path: under(n, "grants"), Value: document.Mapping().Set(name, v)})
	return edits, nil
}
