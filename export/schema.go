// Package export writes contracts in open formats, one file per format: JSON Schema 2020-12, OpenAPI 3.1, and
// TypeScript declarations. Equal contracts give equal bytes.
package export

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/document"
)

// schemas writes grants as JSON Schema 2020-12, and shapes as definitions.
type schemas struct {
	audience *contract.Audience // only what is granted to it; nil for what anyone is
	prefix   string             // before a definition's name in a $ref
	base     contract.Set       // whom what is being written is for, where it is not for one audience
	strict   bool               // no other members are allowed
	shapes   map[string]*contract.Shape
	used     map[string]*document.Value
	all      *contract.Contracts
	names    map[string]string // of definitions, by shape; those that are missing are called as the shape
}

// nameOf returns the name of a shape's definition.
func (s *schemas) nameOf(shape string) string {
	if n, ok := s.names[shape]; ok {
		return n
	}
	return shape
}

func newSchemas(c *contract.Contracts, a *contract.Audience, prefix string, strict bool) *schemas {
	s := &schemas{audience: a, prefix: prefix, strict: strict, base: ^contract.Set(0),
		shapes: map[string]*contract.Shape{}, used: map[string]*document.Value{}, all: c}
	for _, shape := range c.Shapes {
		s.shapes[shape.Name] = shape
	}
	return s
}

func (s *schemas) granted(g *contract.Grant) bool {
	if s.audience != nil {
		return g.Audiences.Has(s.audience)
	}
	return g.Audiences != 0
}

// everybody reports whether a grant applies to all audiences of the schema.
func (s *schemas) everybody(g *contract.Grant) bool {
	return s.audience != nil || s.base&^g.Audiences == 0 || s.all.Names(g.Audiences) == nil
}

// response writes the body of a response or an accepted request.
func (s *schemas) response(r *contract.Response) *document.Value {
	s.base = r.Audiences
	defer func() { s.base = ^contract.Set(0) }()
	if r.Graph != nil {
		return result()
	}
	return s.grant(r.Root())
}

// result writes the result of a query of GraphQL (its specification, section 7.1): what stands in its data depends on
// the query, and is granted by type.
func result() *document.Value {
	open := func(kind string) *document.Value { return document.Mapping().Set("type", text(kind)) }
	return open("object").Set("description",
		text("the result of a query of GraphQL, whose objects are granted by type")).Set(
		"properties", document.Mapping().Set("data", nullable(open("object"))).Set("errors",
			open("array").Set("items", open("object"))).Set("extensions", open("object")))
}

// grant writes one granted value.
func (s *schemas) grant(g *contract.Grant) *document.Value {
	v := s.single(g)
	null := g.Form.Nullable && !slices.Contains(g.Form.Values, "null")
	if null && (g.Keyed || g.Many) { // each of them, and all together
		v = nullable(v)
	}
	if g.Keyed {
		v = document.Mapping().Set("type", text("object")).Set("additionalProperties", v)
	}
	if g.Many {
		v = document.Mapping().Set("type", text("array")).Set("items", v)
	}
	if null || g.Open && g.Many {
		v = nullable(v)
	}
	if g.Reason != "" && v.Get("$ref") == nil {
		v.Set("description", text(g.Reason))
	}
	return v
}

func (s *schemas) single(g *contract.Grant) *document.Value {
	switch {
	case g.Open && g.Members() == nil:
		v := document.Mapping()
		if t := g.Form.Type; t != "" && !(g.Many && t == catalog.Array) {
			v.Set("type", text(string(t)))
		}
		return v
	case len(g.Alternatives()) > 0 && s.strict:
		return s.firstThatFits(g)
	case len(g.Alternatives()) > 0:
		any := &document.Value{Kind: document.List}
		for _, shape := range g.Alternatives() {
			any.Add(s.reference(shape.Name))
		}
		return document.Mapping().Set("anyOf", any)
	case g.ShapeName() != "" && g.Own() == nil:
		return s.reference(g.ShapeName())
	case g.Members() != nil:
		return s.object(g.Members(), g.Open)
	}
	return s.form(g)
}

// firstThatFits writes several shapes as the judge applies them: the first one whose members have their values, and
// nothing if none applies.
func (s *schemas) firstThatFits(g *contract.Grant) *document.Value {
	shapes := g.Alternatives()
	var all []*document.Value
	for _, shape := range shapes { // in the order in which they are met
		all = append(all, s.reference(shape.Name))
	}
	rest := document.Truth(false)
	for i := len(shapes) - 1; i >= 0; i-- {
		fits, names := document.Mapping(), slices.Sorted(maps.Keys(g.Fits(i)))
		for _, name := range names {
			if one, err := document.FromJSON([]byte(g.Fits(i)[name])); err == nil {
				fits.Set(name, document.Mapping().Set("const", one))
			}
		}
		if len(names) == 0 {
			rest = all[i]
			continue
		}
		rest = document.Mapping().Set("if", document.Mapping().Set("properties", fits).Set("required",
			document.Texts(names...))).Set("then", all[i]).Set("else", rest)
	}
	return rest
}

func text(t string) *document.Value { return document.Text(t) }

func (s *schemas) reference(shape string) *document.Value {
	if _, met := s.used[shape]; !met {
		s.used[shape] = nil // met: a shape that contains itself ends here
		before := s.base
		s.base = ^contract.Set(0) // a shape is for all who use it
		defer func() { s.base = before }()
		s.used[shape] = s.object(s.shapes[shape].Body, false)
	}
	if s.prefix == "" { // TypeScript, which has names of its own
		return document.Mapping().Set("$ref", text(shape))
	}
	return document.Mapping().Set("$ref", text(s.prefix+inPointer(s.nameOf(shape))))
}

func (s *schemas) object(set *contract.GrantSet, open bool) *document.Value {
	properties, required, always := document.Mapping(), &document.Value{Kind: document.List},
		&document.Value{Kind: document.List}
	for _, g := range set.Grants {
		if !s.granted(g) {
			continue
		}
		p := s.grant(g)
		if names := s.all.Names(g.Audiences); !s.everybody(g) && names != nil && p.Get("$ref") == nil {
			p.Set("x-inkret-audiences", document.Texts(names...))
		}
		properties.Set(g.Name, p)
		switch {
		case g.Optional || !s.everybody(g):
		case g.Way() && s.strict: // an envelope is never empty
			always.Add(text(g.Name))
		default:
			required.Add(text(g.Name))
		}
	}
	v := document.Mapping().Set("type", text("object"))
	if set.Entity != nil {
		v.Set("title", text(set.Entity.Name))
	}
	if len(properties.Items) > 0 {
		v.Set("properties", properties)
	}
	if len(always.Items) > 0 {
		v.Set("required", always)
	}
	switch {
	case len(required.Items) == 0:
	case s.strict: // nothing is missing in what is empty
		v.Set("if", document.Mapping().Set("minProperties", document.Count(1))).Set("then",
			document.Mapping().Set("required", required))
	default:
		v.Set("required", required)
	}
	if s.strict && !open {
		v.Set("additionalProperties", document.Truth(false))
	}
	return v
}

// form writes a value that is not an object. No type means any scalar.
func (s *schemas) form(g *contract.Grant) *document.Value {
	v := document.Mapping()
	f := g.Form
	switch {
	case len(f.Values) > 0:
	case f.Type == "" || g.Many && f.Type == catalog.Array:
		v.Set("type", document.Texts("string", "number", "boolean"))
	default:
		v.Set("type", text(string(f.Type)))
	}
	if f.Format != "" {
		v.Set("format", text(f.Format))
	}
	if f.Max > 0 {
		v.Set("maxLength", document.Count(f.Max))
	}
	if len(f.Values) == 1 && g.Source == contract.FromConstant {
		if one, err := document.FromJSON([]byte(f.Values[0])); err == nil {
			v.Set("const", one)
		}
	} else if len(f.Values) > 0 {
		list := &document.Value{Kind: document.List}
		for _, raw := range f.Values {
			if one, err := document.FromJSON([]byte(raw)); err == nil {
				list.Add(one)
			}
		}
		v.Set("enum", list)
	}
	return v
}

// nullable permits null in place of v.
func nullable(v *document.Value) *document.Value {
	t := v.Get("type")
	if t == nil || v.Get("enum") != nil || v.Get("const") != nil {
		if len(v.Items) == 0 {
			return v
		}
		return document.Mapping().Set("anyOf",
			(&document.Value{Kind: document.List}).Add(v).Add(document.Mapping().Set("type", text("null"))))
	}
	if t.Kind == document.List {
		t.Add(text("null"))
	} else {
		v.Set("type", document.Texts(t.Text, "null"))
	}
	return v
}

// definitions returns the used shapes by name.
func (s *schemas) definitions() *document.Value {
	names := make([]string, 0, len(s.used))
	for n := range s.used {
		names = append(names, n)
	}
	sort.Strings(names)
	v := document.Mapping()
	for _, n := range names {
		v.Set(s.nameOf(n), s.used[n])
	}
	return v
}

// JSONSchema exports what a response grants to an audience as JSON Schema 2020-12. file is its name: endpoint,
// status and audience.
type JSONSchema struct {
	File string
	Data []byte
}

// JSONSchemas exports a schema for each response and audience.
func JSONSchemas(c *contract.Contracts) []JSONSchema {
	var all []JSONSchema
	var names, titles []string
	for _, e := range c.Endpoints {
		for _, k := range e.Cases() {
			r := k.Choice.Response
			if r == nil {
				continue
			}
			who := k.Audience.Name
			if who == "" {
				who = "everybody"
			}
			s := newSchemas(c, k.Audience, "#/$defs/", true)
			body := s.response(r)
			root := document.Mapping().Set("$schema", text("https://json-schema.org/draft/2020-12/schema"))
			root.Set("title", text(fmt.Sprintf("%s, status %s, for %s", e.Text, k.Title(), who)))
			if body.Get("title") != nil {
				root.Set("description", text("Entity: "+body.Get("title").Text))
			}
			for i, key := range body.Keys {
				if key != "title" {
					root.Set(key, body.Items[i])
				}
			}
			if defs := s.definitions(); len(defs.Items) > 0 {
				root.Set("$defs", defs)
			}
			all = append(all, JSONSchema{Data: JSON(root)})
			names, titles = append(names, fileName(e.Text)+"."+k.Status+fileName("."+k.When)+"."+fileName(who)),
				append(titles, root.Get("title").Text)
		}
	}
	for i, name := range apart(names, titles, "-") {
		all[i].File = name + ".schema.json"
	}
	return all
}

// fileName makes a text safe for use in a file name; dots stay except at the end.
func fileName(s string) string {
	name := strings.Join(detect.Words(nil, []byte(s)), "-")
	if strings.HasPrefix(s, ".") && name != "" {
		return "." + name
	}
	return name
}

// JSON encodes a value as indented JSON, members in their order.
func JSON(v *document.Value) []byte {
	raw, err := v.MarshalJSON()
	var out bytes.Buffer
	if err != nil || json.Indent(&out, raw, "", "  ") != nil {
		return raw
	}
	return append(out.Bytes(), '\n')
}
