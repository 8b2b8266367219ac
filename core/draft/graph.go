package draft

import (
	"slices"

	"inkret/core/document"
	"inkret/core/graph"
	"inkret/core/observe"
	"inkret/core/schema"
)

// Schema is a file that a draft names and that belongs beside it.
type Schema struct{ Name, Text string }

// graphs writes the endpoints that answer GraphQL: what traffic asked for, to whom, or all that the schema has.
func (w *writer) graphs(all *document.Value, callers []observe.Caller) {
	for i := range w.sketch.Graphs {
		g := &w.sketch.Graphs[i]
		s := g.Schema()
		says := document.Mapping()
		if s != nil {
			says.Set("schema", document.Text(g.File))
			if !slices.ContainsFunc(w.schemas, func(f Schema) bool { return f.Name == g.File }) {
				w.schemas = append(w.schemas, Schema{g.File, g.Text})
			}
		}
		responses := &document.Value{Kind: document.List, Block: true}
		for n := range g.Asked {
			by := &g.Asked[n]
			r := &document.Value{Kind: document.Map, Block: true}
			if len(g.Asked) < len(callers) || len(g.Asked) > 1 {
				r.Set("audiences", document.Texts(by.Audience))
			}
			responses.Add(w.graphResponse(r, g, s, by))
		}
		if len(g.Asked) == 0 && s != nil {
			responses.Add(w.graphResponse(&document.Value{Kind: document.Map, Block: true}, g, s, nil))
		}
		e := (&document.Value{Kind: document.Map, Block: true}).Set("endpoint",
			document.Text("POST "+endpointPath(g.Path))).Set("graphql", says)
		if len(responses.Items) > 0 {
			e.Set("responses", responses)
		}
		all.Add(e)
	}
}

// graphResponse writes the operations and types of one response. by is nil for all that there are.
func (w *writer) graphResponse(r *document.Value, g *schema.Graph, s *graph.Schema,
	by *schema.AskedBy) *document.Value {
	operations := s.Operations()
	if by != nil {
		operations = by.Operations
	}
	r.Set("operations", document.Texts(operations...))
	types := &document.Value{Kind: document.Map, Block: true}
	for _, name := range s.Objects() {
		fields := g.Fields(s.Type(name), by)
		if by != nil && by.Types[name] == nil || len(fields) == 0 && by == nil {
			continue
		}
		t := document.Mapping()
		o := w.sketch.Object(name)
		if o != nil {
			t.Set("entity", document.Text(name))
		}
		grants := document.Mapping()
		for _, f := range fields {
			w.graphGrant(grants, o, s, f)
		}
		types.Set(name, t.Set("grants", grants))
	}
	if len(types.Items) > 0 {
		r.Set("types", types)
	}
	return r
}

// graphGrant writes the grant of one field of a type: what it leads to is granted by its type.
func (w *writer) graphGrant(grants *document.Value, o *schema.Object, s *graph.Schema, f *graph.Field) {
	if o == nil || s.Type(f.Type).Composite() {
		grants.Set(f.Name, document.Mapping())
		return
	}
	m := o.Member(f.Name)
	if m == nil || !w.decided[m].granted {
		return
	}
	v := document.Mapping()
	switch {
	case m.Open:
		v.Set("open", document.Truth(true))
	case m.Many:
		v.Set("many", document.Truth(true))
	}
	grants.Set(f.Name, nothingOr(v))
}

// graphed lists the objects whose members queries may ask for.
func (w *writer) graphed() (all []*schema.Object) {
	for i := range w.sketch.Graphs {
		s := w.sketch.Graphs[i].Schema()
		if s == nil {
			continue
		}
		for _, name := range s.Objects() {
			if o := w.sketch.Object(name); o != nil && !slices.Contains(all, o) {
				all = append(all, o)
			}
		}
	}
	return all
}

// asksFor reports whether a query of anybody asks for a member of an object, as far as traffic tells.
func (w *writer) asksFor(o *schema.Object, m *schema.Member) bool {
	for i := range w.sketch.Graphs {
		g := &w.sketch.Graphs[i]
		if len(g.Asked) == 0 {
			return true
		}
		for _, by := range g.Asked {
			if slices.Contains(by.Types[o.Name], m.Name) {
				return true
			}
		}
	}
	return false
}
