// Package catalog holds the catalogue of a service: its entities, their fields
// with a class each, and their relations.
//
// It knows nothing of contracts or bodies. A [Catalog] is a plain value; once
// built it must not be changed while others read it.
package catalog

import (
	"strings"
)

// Class is how sensitive a field is. Classes are ordered: a greater class is
// graver. The zero value is [Unclassed].
type Class uint8

const (
	// Unclassed fields have not been looked at yet; they are judged as internal.
	Unclassed Class = iota
	Public
	Internal
	Personal
	Secret
)

var classNames = [...]string{"", "public", "internal", "personal", "secret"}

// ClassNames lists the classes that may be written, least grave first.
func ClassNames() []string { return append([]string(nil), classNames[1:]...) }

// ParseClass reads a class by its name.
func ParseClass(name string) (Class, bool) {
	for i, n := range classNames {
		if i > 0 && n == name {
			return Class(i), true
		}
	}
	return Unclassed, false
}

// String is the class's name; the empty string for [Unclassed].
func (c Class) String() string { return classNames[c] }

// Judged is the class a field is judged by: an unclassed one counts as internal.
func (c Class) Judged() Class {
	if c == Unclassed {
		return Internal
	}
	return c
}

// Type is a JSON Schema 2020-12 type name; the empty string means any scalar.
type Type string

const (
	String  Type = "string"
	Integer Type = "integer"
	Number  Type = "number"
	Boolean Type = "boolean"
	Object  Type = "object"
	Array   Type = "array"
)

// TypeNames lists the types a field or grant may have.
func TypeNames() []string {
	return []string{"string", "integer", "number", "boolean", "object", "array"}
}

// Form is what a value must look like, apart from where it stands.
type Form struct {
	Type     Type
	Format   string
	Max      int      // code points; 0 means no limit
	Values   []string // the JSON text of each permitted value; empty means any
	Nullable bool
}

// Field is an attribute of an entity.
type Field struct {
	Name  string
	Class Class
	Note  string
	Form
}

// Relation links an entity to another one.
type Relation struct {
	Name   string
	Entity string
	Many   bool
}

// Entity is a stored thing.
type Entity struct {
	Name      string
	StoredAs  string
	Fields    []*Field    // in the order of the document
	Relations []*Relation // in the order of the document

	fields    map[string]*Field
	relations map[string]*Relation
	plain     map[string]any // by Fold of the name: *Field or *Relation
}

// AddField appends f. It reports false, and changes nothing, when the name is taken.
func (e *Entity) AddField(f *Field) bool {
	if e.taken(f.Name) {
		return false
	}
	e.Fields = append(e.Fields, f)
	e.fields[f.Name] = f
	e.remember(f.Name, f)
	return true
}

// AddRelation appends r. It reports false, and changes nothing, when the name is taken.
func (e *Entity) AddRelation(r *Relation) bool {
	if e.taken(r.Name) {
		return false
	}
	e.Relations = append(e.Relations, r)
	e.relations[r.Name] = r
	e.remember(r.Name, r)
	return true
}

func (e *Entity) taken(name string) bool {
	if e.fields == nil {
		e.fields, e.relations, e.plain = map[string]*Field{}, map[string]*Relation{}, map[string]any{}
	}
	return e.fields[name] != nil || e.relations[name] != nil
}

// remember keeps the first of several names that fold to the same word.
func (e *Entity) remember(name string, what any) {
	if key := Fold(name); e.plain[key] == nil {
		e.plain[key] = what
	}
}

// Field gives the field of exactly this name, or nil.
func (e *Entity) Field(name string) *Field {
	if e == nil {
		return nil
	}
	return e.fields[name]
}

// Relation gives the relation of exactly this name, or nil.
func (e *Entity) Relation(name string) *Relation {
	if e == nil {
		return nil
	}
	return e.relations[name]
}

// Lookup finds what a member name on the wire stands for: an exact name first,
// else one that is equal without regard to capitals, '_' and '-'. At most one
// of the results is not nil.
func (e *Entity) Lookup(name string) (*Field, *Relation) {
	if e == nil {
		return nil, nil
	}
	if f := e.fields[name]; f != nil {
		return f, nil
	}
	if r := e.relations[name]; r != nil {
		return nil, r
	}
	switch what := e.plain[Fold(name)].(type) {
	case *Field:
		return what, nil
	case *Relation:
		return nil, what
	}
	return nil, nil
}

// Names lists the entity's field and relation names in the document's order.
func (e *Entity) Names() []string {
	var names []string
	for _, f := range e.Fields {
		names = append(names, f.Name)
	}
	for _, r := range e.Relations {
		names = append(names, r.Name)
	}
	return names
}

// Catalog is the entities of one service.
type Catalog struct {
	Entities []*Entity // in the order of the document
	byName   map[string]*Entity
}

// Add appends e. It reports false, and changes nothing, when the name is taken.
func (c *Catalog) Add(e *Entity) bool {
	if c.byName == nil {
		c.byName = map[string]*Entity{}
	}
	if c.byName[e.Name] != nil {
		return false
	}
	c.Entities = append(c.Entities, e)
	c.byName[e.Name] = e
	return true
}

// Entity gives the entity of this name, or nil.
func (c *Catalog) Entity(name string) *Entity {
	if c == nil {
		return nil
	}
	return c.byName[name]
}

// Names lists the entities' names in the document's order.
func (c *Catalog) Names() []string {
	names := make([]string, len(c.Entities))
	for i, e := range c.Entities {
		names[i] = e.Name
	}
	return names
}

// Fold writes a name in lower case without '_' and '-', the form in which
// names are compared.
func Fold(name string) string {
	return strings.ToLower(strings.Map(func(r rune) rune {
		if r == '_' || r == '-' {
			return -1
		}
		return r
	}, name))
}
