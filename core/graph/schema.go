// Package graph reads GraphQL (specification of October 2021): schemas, and the queries of requests. It says what a
// query asks of an object of each type; what of that may be answered is for the contracts to say.
//
// [Read] reads a schema in the schema definition language or as the result of introspection. [Ask] reads what a request
// asks for, as one [Query] for each operation. [Selection.Of] collects the fields for one type of object.
package graph

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/vektah/gqlparser/v2/ast"
	"github.com/vektah/gqlparser/v2/gqlerror"
	"github.com/vektah/gqlparser/v2/parser"
)

// Schema is the types of a service.
type Schema struct {
	Query, Mutation, Subscription string // names of the root types; empty where there is none
	Types                         map[string]*Type
}

// Kind is the kind of a type.
type Kind string

// Kinds, as introspection names them.
const (
	Object    Kind = "OBJECT"
	Interface Kind = "INTERFACE"
	Union     Kind = "UNION"
	Scalar    Kind = "SCALAR"
	Enum      Kind = "ENUM"
	Input     Kind = "INPUT_OBJECT"
)

// Type is one named type.
type Type struct {
	Name, Description string
	Kind              Kind
	Fields            []*Field // of objects and interfaces
	Values            []string // of enums
	Possible          []string // object types of an interface or union
	At                int      // line of the file, from 1; 0 where that is not known
}

// Field is one field of a type.
type Field struct {
	Name, Description string
	Type              string // innermost named type
	List              bool   // of such
	NonNull           bool   // itself
	Arguments         []string
}

// Field returns a field by name, or nil.
func (t *Type) Field(name string) *Field {
	if t == nil {
		return nil
	}
	for _, f := range t.Fields {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// Composite reports whether values of the type are objects.
func (t *Type) Composite() bool {
	return t != nil && (t.Kind == Object || t.Kind == Interface || t.Kind == Union)
}

// scalars are the types that need no definition (section 3.5).
var scalars = []string{"Int", "Float", "String", "Boolean", "ID"}

// Is reports whether a file looks like a schema: its definition language, or the result of introspection.
func Is(data []byte) bool {
	data = bytes.TrimSpace(data)
	if len(data) > 0 && data[0] == '{' {
		if !bytes.Contains(data, []byte(`"__schema"`)) {
			return false
		}
		_, err := introspected(data)
		return err == nil
	}
	doc, err := parser.ParseSchemaWithLimit(&ast.Source{Input: string(data)}, mostTokens)
	return err == nil && len(doc.Definitions)+len(doc.Extensions) > 0
}

// Read reads a schema. The error says what is wrong with it, and where.
func Read(data []byte) (*Schema, error) {
	text := bytes.TrimSpace(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")))
	if len(text) == 0 {
		return nil, errors.New("the file is empty")
	}
	var s *Schema
	var err error
	if text[0] == '{' {
		s, err = introspected(text)
	} else {
		s, err = defined(data)
	}
	if err != nil {
		return nil, err
	}
	return s, s.check()
}

// mostTokens limits what is read of a schema.
const mostTokens = 4_000_000

// defined reads the schema definition language. Directives and descriptions may be any.
func defined(data []byte) (*Schema, error) {
	doc, err := parser.ParseSchemaWithLimit(&ast.Source{Input: string(data)}, mostTokens)
	if err != nil {
		return nil, located(err)
	}
	s := &Schema{Types: map[string]*Type{}}
	implements := map[string][]string{}
	for _, d := range slices.Concat(doc.Definitions, doc.Extensions) {
		t := s.Types[d.Name]
		if t == nil {
			t = &Type{Name: d.Name, Kind: Kind(d.Kind), Description: d.Description}
			if d.Position != nil {
				t.At = d.Position.Line
			}
			s.Types[d.Name] = t
		}
		for _, f := range d.Fields {
			if t.Field(f.Name) != nil {
				continue
			}
			of := &Field{Name: f.Name, Description: f.Description, Type: f.Type.Name(), List: f.Type.Elem != nil,
				NonNull: f.Type.NonNull}
			for _, a := range f.Arguments {
				of.Arguments = append(of.Arguments, a.Name)
			}
			t.Fields = append(t.Fields, of)
		}
		for _, v := range d.EnumValues {
			t.Values = append(t.Values, v.Name)
		}
		t.Possible = append(t.Possible, d.Types...)
		for _, i := range d.Interfaces {
			implements[i] = append(implements[i], d.Name)
		}
	}
	for name, by := range implements {
		if t := s.Types[name]; t != nil {
			for _, one := range by {
				if of := s.Types[one]; of != nil && of.Kind == Object && !slices.Contains(t.Possible, one) {
					t.Possible = append(t.Possible, one)
				}
			}
		}
	}
	s.Query, s.Mutation, s.Subscription = s.root("Query"), s.root("Mutation"), s.root("Subscription")
	for _, d := range slices.Concat(doc.Schema, doc.SchemaExtension) {
		for _, o := range d.OperationTypes {
			switch o.Operation {
			case ast.Query:
				s.Query = o.Type
			case ast.Mutation:
				s.Mutation = o.Type
			case ast.Subscription:
				s.Subscription = o.Type
			}
		}
	}
	return s, nil
}

// root returns the name of a root type that is not named otherwise (section 3.3.1), or nothing.
func (s *Schema) root(name string) string {
	if t := s.Types[name]; t != nil && t.Kind == Object {
		return name
	}
	return ""
}

// located writes an error of the parser with its line and column.
func located(err error) error {
	var one *gqlerror.Error
	if errors.As(err, &one) && len(one.Locations) > 0 {
		return fmt.Errorf("line %d, column %d: this is no definition of GraphQL", one.Locations[0].Line,
			one.Locations[0].Column)
	}
	return errors.New("it is no definition of GraphQL")
}

// introspection is the result of an introspection query (section 4).
type introspection struct {
	Data   *introspection `json:"data"`
	Schema *struct {
		Query        *named `json:"queryType"`
		Mutation     *named `json:"mutationType"`
		Subscription *named `json:"subscriptionType"`
		Types        []struct {
			Kind        Kind    `json:"kind"`
			Name        string  `json:"name"`
			Description string  `json:"description"`
			Possible    []named `json:"possibleTypes"`
			Values      []named `json:"enumValues"`
			Fields      []struct {
				Name        string  `json:"name"`
				Description string  `json:"description"`
				Args        []named `json:"args"`
				Type        typeRef `json:"type"`
			} `json:"fields"`
		} `json:"types"`
	} `json:"__schema"`
}

type named struct {
	Name string `json:"name"`
}

type typeRef struct {
	Kind   string   `json:"kind"`
	Name   string   `json:"name"`
	OfType *typeRef `json:"ofType"`
}

func introspected(data []byte) (*Schema, error) {
	var in introspection
	if err := json.Unmarshal(data, &in); err != nil {
		return nil, errors.New("it is neither a schema nor the result of introspection: it is no JSON")
	}
	if in.Schema == nil && in.Data != nil {
		in = *in.Data
	}
	if in.Schema == nil {
		return nil, errors.New("it is no result of introspection: it has no `__schema`")
	}
	s := &Schema{Types: map[string]*Type{}}
	nameOf := func(n *named) string {
		if n == nil {
			return ""
		}
		return n.Name
	}
	s.Query, s.Mutation, s.Subscription = nameOf(in.Schema.Query), nameOf(in.Schema.Mutation),
		nameOf(in.Schema.Subscription)
	for _, one := range in.Schema.Types {
		if strings.HasPrefix(one.Name, "__") || slices.Contains(scalars, one.Name) {
			continue
		}
		t := &Type{Name: one.Name, Description: one.Description, Kind: one.Kind}
		for _, p := range one.Possible {
			t.Possible = append(t.Possible, p.Name)
		}
		for _, v := range one.Values {
			t.Values = append(t.Values, v.Name)
		}
		for _, f := range one.Fields {
			of := &Field{Name: f.Name, Description: f.Description, NonNull: f.Type.Kind == "NON_NULL"}
			for _, a := range f.Args {
				of.Arguments = append(of.Arguments, a.Name)
			}
			for ref := &f.Type; ref != nil; ref = ref.OfType {
				of.List = of.List || ref.Kind == "LIST"
				of.Type = ref.Name
			}
			t.Fields = append(t.Fields, of)
		}
		s.Types[one.Name] = t
	}
	return s, nil
}

// check reports a schema that cannot be used: one without root types, or with fields of types that it does not have.
func (s *Schema) check() error {
	any := false
	for _, name := range []string{s.Query, s.Mutation, s.Subscription} {
		if name != "" && s.Types[name] == nil {
			return fmt.Errorf("the root type %s is not defined", name)
		}
		any = any || name != ""
	}
	if !any {
		return errors.New("the schema has no type Query")
	}
	for _, name := range s.Names() {
		t := s.Types[name]
		for _, f := range t.Fields {
			if t.Kind != Input && s.Types[f.Type] == nil && !slices.Contains(scalars, f.Type) {
				return fmt.Errorf("%s.%s is of the type %q, which is not defined", t.Name, f.Name, f.Type)
			}
		}
		for _, p := range t.Possible {
			if of := s.Types[p]; of == nil || of.Kind != Object {
				return fmt.Errorf("%s may be of the type %q, which is not defined as an object", t.Name, p)
			}
		}
	}
	return nil
}

// Names lists the names of all types in order.
func (s *Schema) Names() []string {
	var all []string
	if s == nil {
		return nil
	}
	for name := range s.Types {
		all = append(all, name)
	}
	slices.Sort(all)
	return all
}

// Objects lists the names of the types of objects in order, without those of roots.
func (s *Schema) Objects() []string {
	return slices.DeleteFunc(s.Names(), func(name string) bool {
		return s.Types[name].Kind != Object || s.IsRoot(name)
	})
}

// IsRoot reports whether a type is one that operations begin with. Without a schema, they have their usual names.
func (s *Schema) IsRoot(name string) bool {
	if s == nil {
		return name == "Query" || name == "Mutation" || name == "Subscription"
	}
	return name != "" && (name == s.Query || name == s.Mutation || name == s.Subscription)
}

// Operations lists the root fields as contracts write them: Query.berths.
func (s *Schema) Operations() []string {
	var all []string
	if s == nil {
		return nil
	}
	for _, root := range []string{s.Query, s.Mutation, s.Subscription} {
		if t := s.Types[root]; t != nil {
			for _, f := range t.Fields {
				all = append(all, root+"."+f.Name)
			}
		}
	}
	return all
}

// Type returns a type by name; nil if it is unknown or s is nil.
func (s *Schema) Type(name string) *Type {
	if s == nil {
		return nil
	}
	return s.Types[name]
}

// possible lists the types that objects of a static type may have; nil if that is not known.
func (s *Schema) possible(name string) []string {
	switch t := s.Type(name); {
	case t == nil:
		return nil
	case t.Kind == Object:
		return []string{name}
	default:
		return t.Possible
	}
}

// root returns the name of the root type of an operation.
func rootOf(s *Schema, kind ast.Operation) string {
	name := map[ast.Operation]string{ast.Query: "Query", ast.Mutation: "Mutation",
		ast.Subscription: "Subscription"}[kind]
	if s == nil {
		return name
	}
	return map[ast.Operation]string{ast.Query: s.Query, ast.Mutation: s.Mutation,
		ast.Subscription: s.Subscription}[kind]
}
