package schema

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/graph"
)

// Graph is an endpoint that answers GraphQL.
type Graph struct {
	Path  string // of POST requests
	File  string // what its schema is called; empty where it has none
	Text  string // the schema
	Asked []AskedBy
}

// AskedBy is what an audience asked for, by what traffic shows.
type AskedBy struct {
	Audience   string
	Operations []string            // root fields, as in Query.berths
	Types      map[string][]string // the fields of each type
}

// Schema reads the schema; nil where there is none.
func (g *Graph) Schema() *graph.Schema {
	if g.Text == "" {
		return nil
	}
	s, err := graph.Read([]byte(g.Text))
	if err != nil {
		return nil
	}
	return s
}

// GraphPath is where GraphQL is answered if nothing says it.
const GraphPath = "/graphql"

// Paging matches the names of types that carry pages of others (the Connections specification).
var Paging = regexp.MustCompile(`(Connection|Edge|^PageInfo)$`)

// DescribeGraph sketches the objects of a schema of GraphQL: of its definition language, or a result of introspection.
func DescribeGraph(name string, data []byte) (*Sketch, error) {
	s, err := graph.Read(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	sketch := &Sketch{Graphs: []Graph{{Path: GraphPath, File: graphFile(name), Text: string(data)}}}
	objects := map[string]*Object{}
	for _, name := range s.Objects() {
		if !Paging.MatchString(name) {
			objects[name] = &Object{Name: name, Source: name}
			sketch.Objects = append(sketch.Objects, objects[name])
		}
	}
	for _, o := range sketch.Objects {
		for _, f := range s.Types[o.Name].Fields {
			if m := graphMember(s, f, objects); m != nil {
				o.Members = append(o.Members, m)
			}
		}
	}
	return sketch, nil
}

// graphFile returns what a schema may be called beside a contract.
func graphFile(name string) string {
	name = name[strings.LastIndexAny(name, `/\`)+1:]
	for _, ending := range []string{".graphql", ".graphqls", ".gql", ".json"} {
		if strings.HasSuffix(strings.ToLower(name), ending) && len(name) > len(ending) {
			return name
		}
	}
	return "schema.graphql"
}

// anything matches names of scalars whose values may be objects.
var anything = regexp.MustCompile(`(?i)(json|object|map|any|struct)`)

// graphMember returns the member for a field; nil for one that leads to objects of several types or to pages.
func graphMember(s *graph.Schema, f *graph.Field, objects map[string]*Object) *Member {
	m := &Member{Name: f.Name, Note: f.Description, Many: f.List, Optional: true}
	m.Form.Nullable = !f.NonNull
	of := s.Type(f.Type)
	switch {
	case objects[f.Type] != nil:
		m.Object = objects[f.Type]
		return m
	case of.Composite():
		return pagedMember(s, m, of, objects)
	case of != nil && of.Kind == graph.Enum:
		m.Form.Type = catalog.String
		for _, v := range of.Values {
			text, err := json.Marshal(v)
			if err == nil {
				m.Form.Values = append(m.Form.Values, string(text))
			}
		}
		if m.Many {
			m.Form.Values = nil
		}
		return m
	}
	switch f.Type {
	case "Int":
		m.Form.Type = catalog.Integer
	case "Float":
		m.Form.Type = catalog.Number
	case "Boolean":
		m.Form.Type = catalog.Boolean
	case "String", "ID":
		m.Form.Type = catalog.String
	default:
		m.Open = anything.MatchString(f.Type)
	}
	return m
}

// pagedMember makes a field that leads to pages of objects a relation to them; nil if it does not.
func pagedMember(s *graph.Schema, m *Member, of *graph.Type, objects map[string]*Object) *Member {
	for _, way := range [][]string{{"nodes"}, {"edges", "node"}} {
		at := of
		for _, step := range way {
			f := at.Field(step)
			if f == nil {
				at = nil
				break
			}
			at = s.Type(f.Type)
		}
		if at != nil && objects[at.Name] != nil {
			m.Object, m.Many = objects[at.Name], true
			return m
		}
	}
	return nil
}

// Fields lists what a draft grants of a type: what an audience asked for, or everything for nil.
func (g *Graph) Fields(of *graph.Type, by *AskedBy) (all []*graph.Field) {
	for _, f := range of.Fields {
		if by == nil || slices.Contains(by.Types[of.Name], f.Name) {
			all = append(all, f)
		}
	}
	return all
}

// Add notes that a field of a type was asked for. What asks about the schema is no operation.
func (a *AskedBy) Add(s *graph.Schema, typeName, field string) {
	if _, met := a.Types[typeName]; !met && !s.IsRoot(typeName) {
		a.Types[typeName] = []string{} // if only for its name
	}
	switch {
	case strings.HasPrefix(field, "__"):
	case s.IsRoot(typeName):
		if text := typeName + "." + field; !slices.Contains(a.Operations, text) {
			a.Operations = append(a.Operations, text)
			slices.Sort(a.Operations)
		}
	case !slices.Contains(a.Types[typeName], field):
		a.Types[typeName] = append(a.Types[typeName], field)
	}
}
