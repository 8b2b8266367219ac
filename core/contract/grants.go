package contract

import (
	"fmt"
	"strings"

	"inkret/core/catalog"
	"inkret/core/document"
	"inkret/core/place"
)

func (r *reader) entity(n *document.Node) *catalog.Entity {
	name := r.text(n)
	if name == "" {
		return nil
	}
	e := r.c.Catalog.Entity(name)
	if e == nil {
		r.unknown(n, "entity", name, r.entities)
	}
	return e
}

func (r *reader) shape(n *document.Node) *Shape {
	name := r.text(n)
	if name == "" {
		return nil
	}
	s := r.shapes[name]
	if s == nil {
		r.unknown(n, "shape", name, r.shapeName)
	}
	return s
}

// readShapes reads all shapes. Their names are collected before the first grant is read, so that they may refer to
// each other.
func (r *reader) readShapes(sections []*document.Node) {
	type pending struct {
		shape *Shape
		n     *document.Node
	}
	var all []pending
	for _, section := range sections {
		for _, n := range r.mapping(section) {
			name := n.Name.Text
			if old := r.shapes[name]; old != nil {
				r.report(n.Name, "each name once", "shape %q is defined twice, first at %s", name, old.Pos)
				continue
			}
			s := &Shape{Name: name, Pos: n.Name.Pos(), Body: &GrantSet{}}
			r.shapes[name] = s
			r.shapeName = append(r.shapeName, name)
			r.c.Shapes = append(r.c.Shapes, s)
			r.c.nodes[s] = n
			if !r.keys(n, []string{"entity", "grants"}) {
				continue
			}
			if e := n.Get("entity"); e != nil {
				s.Body.Entity = r.entity(e)
			} else {
				r.report(n, "`entity:`", "the shape names no entity")
			}
			all = append(all, pending{s, n})
		}
	}
	for _, p := range all {
		if g := p.n.Get("grants"); g == nil {
			r.report(p.n, "`grants:`", "the shape grants nothing")
		} else if p.shape.Body.Entity != nil {
			p.shape.Body.Grants = r.grants(g, p.shape.Body.Entity, catalog.Unclassed).Grants
		}
	}
	r.cycles()
}

// cycles reports shapes that contain themselves without an end: not below many, nullable or optional.
func (r *reader) cycles() {
	const (
		open = 1
		done = 2
	)
	state := map[*Shape]int{}
	var trail []string
	var visit func(s *Shape)
	var walk func(set *GrantSet)
	walk = func(set *GrantSet) {
		if set == nil {
			return
		}
		for _, g := range set.Grants {
			if g.Many || g.Optional || g.Form.Nullable {
				continue
			}
			if g.shape != nil {
				visit(g.shape)
			}
			walk(g.own)
		}
	}
	visit = func(s *Shape) {
		if state[s] == done {
			return
		}
		trail = append(trail, s.Name)
		defer func() { trail = trail[:len(trail)-1] }()
		if state[s] == open {
			r.problems = append(r.problems, Problem{
				Pos: s.Pos, Path: place.Root + ".shapes" + place.Name(s.Name),
				Found:    fmt.Sprintf("shape %q contains itself (%s)", s.Name, strings.Join(trail, " → ")),
				Expected: "`many`, `nullable` or `optional` somewhere on the way",
			})
			return
		}
		state[s] = open
		walk(s.Body)
		state[s] = done
	}
	for _, s := range r.c.Shapes {
		visit(s)
	}
}

func (r *reader) sameEntity(n *document.Node, s *Shape, e *catalog.Entity) {
	if s == nil || e == nil || s.Body.Entity == nil || s.Body.Entity == e {
		return
	}
	var fitting []string
	for _, other := range r.c.Shapes {
		if other.Body.Entity == e {
			fitting = append(fitting, other.Name)
		}
	}
	expected := "a shape over " + e.Name
	if len(fitting) > 0 && len(fitting) <= maxListed {
		expected += ": " + oneOf(fitting)
	}
	r.report(n, expected, "shape %q is over %s", s.Name, s.Body.Entity.Name)
}

// grants reads a mapping of grants over an entity, which may be nil. base is the class of grants that do not set
// one.
func (r *reader) grants(n *document.Node, entity *catalog.Entity, base catalog.Class) *GrantSet {
	set := &GrantSet{Entity: entity}
	for _, p := range r.mapping(n) {
		if g := r.grant(p, entity, base); g != nil {
			set.Grants = append(set.Grants, g)
		}
	}
	return set
}

var grantKeys = []string{"field", "derived", "external", "constant", "relation", "shape", "grants", "reference",
	"one_of",
	"entity", "type", "format", "max", "values", "nullable", "optional", "many", "open", "keys", "audiences", "own",
	"class",
	"reason", "needed_by"}

func (r *reader) grant(n *document.Node, entity *catalog.Entity, base catalog.Class) *Grant {
	g := &Grant{Name: n.Name.Text, Pos: n.Name.Pos(), Audiences: ^Set(0), Owner: entity, Class: base}
	if g.Class == catalog.Unclassed {
		g.Class = catalog.Public
	}
	if r.c.nodes[g] = n; r.grantByType(g, n, entity) {
		return g
	}
	switch n.Kind {
	case document.Null:
		r.bare(g, n, g.Name)
		return g
	case document.String:
		if entity == nil {
			r.report(n, "a long form such as {type: string}; the short form carries an entity's field",
				"no entity is known here that could have the field %q", n.Text)
			return nil
		}
		r.carry(g, n, n.Text)
		return g
	case document.Map:
	default:
		r.report(n, "nothing, the field's name, or a mapping", "%s stands behind the grant", n.Describe())
		return nil
	}
	if !r.keys(n, grantKeys) {
		return nil
	}
	if a := n.Get("audiences"); a != nil {
		g.Audiences = r.audienceSet(a)
	}
	g.Optional, g.Open = r.truth(n.Get("optional")), r.truth(n.Get("open"))
	g.Limited = r.truth(n.Get("own"))
	if k := n.Get("keys"); k != nil {
		g.Keyed = r.choice(k, "any") != ""
	}
	if reason := n.Get("reason"); reason != nil {
		g.Reason = r.text(reason)
	}
	if by := n.Get("needed_by"); by != nil {
		g.NeededBy = r.texts(by)
	}
	r.source(g, n, entity)
	if many := n.Get("many"); many != nil {
		g.Many = r.truth(many)
	}
	g.Form = r.form(n, g.Form)
	r.needsMembers(g, n)
	r.gradeClass(g, n)
	return g
}

// bare reads a grant without a source: the entity's field or relation of that name, or any value if no entity is
// known.
func (r *reader) bare(g *Grant, n *document.Node, name string) {
	if g.Owner == nil {
		return
	}
	r.carry(g, n, name)
}

// carry sets the entity's field or relation called name as the source of g, for the short forms.
func (r *reader) carry(g *Grant, n *document.Node, name string) {
	if f := g.Owner.Field(name); f != nil {
		r.carryField(g, f)
		r.needsMembers(g, n)
		r.gradeClass(g, n)
		return
	}
	if rel := g.Owner.Relation(name); rel != nil {
		r.report(n, "shape, grants, reference, one_of or open", "the relation %s.%s does not say what of %s it grants",
			g.Owner.Name, name, rel.Entity)
		return
	}
	r.unknown(n, "field or relation of "+g.Owner.Name, name, g.Owner.Names())
}

func (r *reader) carryField(g *Grant, f *catalog.Field) {
	g.Source, g.Field, g.Form, g.Class = FromField, f, f.Form, f.Class
	if f.Class == catalog.Unclassed {
		g.Class = catalog.Internal
	}
}

var sourceKeys = []string{"field", "derived", "external", "constant"}

// source reads where g's value comes from.
func (r *reader) source(g *Grant, n *document.Node, entity *catalog.Entity) {
	var said []string
	for _, k := range sourceKeys {
		if n.Get(k) != nil {
			said = append(said, k)
		}
	}
	if len(said) > 1 {
		r.report(n.Get(said[1]), "one source at the most", "the grant has %s as sources", strings.Join(said, " and "))
		return
	}
	related := n.Get("relation") != nil || len(said) == 0 && n.Get("entity") == nil && entity.Relation(g.Name) != nil
	if n.Get("relation") != nil && len(said) > 0 {
		r.report(n.Get("relation"), "one source at the most", "the grant has %s and relation as sources", said[0])
		return
	}
	switch {
	case related:
		r.sourceRelation(g, n, entity)
		return
	case n.Get("reference") != nil:
		r.report(n.Get("reference"),
			"a relation of the entity, named by `relation` where the member's name is not the relation's",
			"%q is no relation that could be referred to", g.Name)
		return
	case n.Get("entity") != nil:
		g.Source, g.entity = FromEntity, r.entity(n.Get("entity"))
		if n.Get("shape") == nil && n.Get("grants") == nil {
			r.report(n.Get("entity"), "`shape` or `grants` with it", "an entity is named and nothing of it is granted")
		}
		r.objects(g, n, g.entity, catalog.Unclassed)
		return
	}
	inner, base := entity, catalog.Unclassed
	switch {
	case n.Get("field") != nil:
		if f := r.fieldOf(n.Get("field"), entity); f != nil {
			r.carryField(g, f)
		}
		inner, base = nil, g.Class
	case n.Get("derived") != nil:
		g.Source = FromDerived
		for _, item := range r.listOrOne(n.Get("derived")) {
			if f := r.fieldOf(item, entity); f != nil {
				g.Derived = append(g.Derived, f)
				g.Class = max(g.Class, f.Class.Judged())
			}
		}
	case n.Get("external") != nil:
		g.Source, g.External = FromExternal, r.text(n.Get("external"))
		inner = nil
	case n.Get("constant") != nil:
		g.Source = FromConstant
		value := n.Get("constant")
		if value.Kind == document.Map || value.Kind == document.List {
			r.report(value, "a text, number, truth value or null", "%s is no single value", value.Describe())
		} else {
			g.Form.Values = []string{value.JSON()}
		}
	case entity.Field(g.Name) != nil:
		r.carryField(g, entity.Field(g.Name))
		inner, base = nil, g.Class
	case n.Get("grants") != nil || n.Get("shape") != nil || n.Get("one_of") != nil:
		g.Source = FromGroup
	case entity != nil && !g.Open && !g.Keyed && n.Get("type") == nil && n.Get("values") == nil &&
		n.Get("format") == nil:
		r.unknown(n.Name, "field or relation of "+entity.Name, g.Name, entity.Names())
	}
	r.objects(g, n, inner, base)
}

// fieldOf returns the field that a node names, or nil after reporting a problem.
func (r *reader) fieldOf(n *document.Node, entity *catalog.Entity) *catalog.Field {
	name := r.text(n)
	switch {
	case name == "":
		return nil
	case entity == nil:
		r.report(n, "no field, or an `entity` for the response", "no entity is known here that could have the field %q",
			name)
		return nil
	case entity.Field(name) == nil:
		r.unknown(n, "field of "+entity.Name, name, fieldNames(entity))
	}
	return entity.Field(name)
}

func fieldNames(e *catalog.Entity) []string {
	var names []string
	for _, f := range e.Fields {
		names = append(names, f.Name)
	}
	return names
}

func (r *reader) sourceRelation(g *Grant, n *document.Node, entity *catalog.Entity) {
	name, at := g.Name, n.Name
	if rel := n.Get("relation"); rel != nil {
		name, at = r.text(rel), rel
	}
	if entity == nil {
		r.report(at, "an `entity` for the response", "no entity is known here that could have the relation %q", name)
		return
	}
	rel := entity.Relation(name)
	if rel == nil {
		var names []string
		for _, rel := range entity.Relations {
			names = append(names, rel.Name)
		}
		r.unknown(at, "relation of "+entity.Name, name, names)
		return
	}
	target := r.c.Catalog.Entity(rel.Entity)
	g.Source, g.Relation, g.Many, g.entity = FromRelation, rel, rel.Many, target
	if ref := n.Get("reference"); ref != nil {
		g.Reference = true
		for _, k := range []string{"shape", "grants", "one_of", "open"} {
			if n.Get(k) != nil {
				r.report(n.Get(k), "either a reference or the object", "the grant has both reference and %s", k)
			}
		}
		if field := r.text(ref); field != "" && target != nil {
			f := target.Field(field)
			if f == nil {
				r.unknown(ref, "field of "+target.Name, field, fieldNames(target))
				return
			}
			g.Field, g.Form = f, f.Form
			g.Class = f.Class.Judged()
		}
		return
	}
	if n.Get("shape") == nil && n.Get("grants") == nil && n.Get("one_of") == nil && !g.Open {
		r.report(n, "shape, grants, reference, one_of or open", "the relation %s.%s does not say what of %s it grants",
			entity.Name, name, rel.Entity)
	}
	r.objects(g, n, target, catalog.Unclassed)
}

// objects reads what a grant says about objects inside it.
func (r *reader) objects(g *Grant, n *document.Node, entity *catalog.Entity, base catalog.Class) {
	if s := n.Get("shape"); s != nil {
		g.shape = r.shape(s)
		if g.shape != nil && entity == nil {
			entity = g.shape.Body.Entity
		}
		r.sameEntity(s, g.shape, entity)
	}
	if own := n.Get("grants"); own != nil {
		of := r.inType
		r.inType = nil // what is inside of it is granted in its place
		g.own = r.grants(own, entity, base)
		r.inType = of
	}
	g.entity = entity
	if list := n.Get("one_of"); list != nil {
		if n.Get("shape") != nil || n.Get("grants") != nil {
			r.report(list, "one of shape, grants and one_of", "one_of stands beside other grants")
		}
		for _, item := range r.list(list) {
			r.alternative(g, item, entity)
		}
	}
}

func (r *reader) alternative(g *Grant, n *document.Node, entity *catalog.Entity) {
	if !r.keys(n, []string{"when", "shape"}) {
		return
	}
	alt := alternative{when: map[string]string{}}
	if w := n.Get("when"); w != nil {
		for _, p := range r.mapping(w) {
			if p.Kind == document.Map || p.Kind == document.List {
				r.report(p, "a single value", "%s stands here", p.Describe())
				continue
			}
			alt.when[p.Name.Text] = p.JSON()
		}
	}
	if s := n.Get("shape"); s == nil {
		r.report(n, "`shape:`", "the alternative names no shape")
		return
	} else if alt.shape = r.shape(s); alt.shape != nil {
		if g.Source != FromGroup { // without a relation, each shape brings its entity
			r.sameEntity(s, alt.shape, entity)
		}
		g.oneOf = append(g.oneOf, alt)
	}
}

// needsMembers checks that a grant of objects or arrays says what is inside.
func (r *reader) needsMembers(g *Grant, n *document.Node) {
	if g.Form.Type != catalog.Object && g.Form.Type != catalog.Array || g.Open || g.Keyed || g.Many || g.shape != nil ||
		g.own != nil || g.oneOf != nil {
		return
	}
	r.report(n, "grants, shape, one_of, open, keys or many with it", "%q is granted as %s without saying what is in it",
		g.Name, g.Form.Type)
}

// gradeClass applies the grant's own class, and checks that required reasons are given.
func (r *reader) gradeClass(g *Grant, n *document.Node) {
	at := n
	if c := n.Get("class"); c != nil {
		at = c
		said := r.class(c)
		if said == catalog.Unclassed {
			return
		}
		if said < g.Class && g.Reason == "" {
			r.report(c, "a `reason` with it", "the class is lowered from %s to %s", g.Class, said)
		}
		g.Class = said
	}
	if g.Class == catalog.Secret && g.Reason == "" {
		r.report(at, "a `reason` with it", "%q grants what is secret", g.Name)
	}
}
