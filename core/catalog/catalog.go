// Package catalog holds the catalogue of a service: its entities, their classified fields, and their relations.
//
// It knows nothing about contracts or bodies. A [Catalog] must not be changed while others read it.
package catalog

import (
	"strings"
)

// Class is how sensitive a field is. Greater is more sensitive. The zero value is [Unclassed].
type Class uint8

const (
	// Unclassed fields were not classified yet; they count as internal.
	Unclassed Class = iota
	Public
	Internal
	Personal
	Secret
)

var classNames = [...]string{"", "public", "internal", "personal", "secret"}

// ClassNames lists the classes, least sensitive first.
func ClassNames() []string { return append([]string(nil), classNames[1:]...) }

// ParseClass returns the class with a name.
func ParseClass(name string) (Class, bool) {
	for i, n := range classNames {
		if i > 0 && n == name {
			return Class(i), true
		}
	}
	return Unclassed, false
}

// String returns the class's name; the empty string for [Unclassed].
func (c Class) String() string { return classNames[c] }

// Judged returns the class that counts in evaluation: internal for unclassified fields.
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

// TypeNames lists the types of fields and grants.
func TypeNames() []string {
	return []string{"string", "integer", "number", "boolean", "object", "array"}
}

// Form is the type and format of a value.
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

// Entity is something that is stored.
type Entity struct {
	Name      string
	StoredAs  string
	Fields    []*Field    // in the order of the document
	Relations []*Relation // in the order of the document
	Owner     string      // the field or relation that says whose a record is; empty for none
	OwnerOf   *Entity     // where Owner is a relation: the entity it leads to

	fields    map[string]*Field
	relations map[string]*Relation
	plain     map[string]any // by Fold of the name: *Field or *Relation
}

// AddField appends f. If the name is taken, it reports false and changes nothing.
func (e *Entity) AddField(f *Field) bool {
	if e.taken(f.Name) {
		return false
	}
	e.Fields = append(e.Fields, f)
	e.fields[f.Name] = f
	e.remember(f.Name, f)
	return true
}

// AddRelation appends r. If the name is taken, it reports false and changes nothing.
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

// Field returns the field with exactly this name, or nil.
func (e *Entity) Field(name string) *Field {
	if e == nil {
		return nil
	}
	return e.fields[name]
}

// Relation returns the relation with exactly this name, or nil.
func (e *Entity) Relation(name string) *Relation {
	if e == nil {
		return nil
	}
	return e.relations[name]
}

// Lookup returns the field or relation for a member name: an exact match first, otherwise one that is equal without
// case, '_' and '-'. At most one result is not nil.
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

// Names lists the names of the entity's fields and relations in document order.
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

// Add appends e. If the name is taken, it reports false and changes nothing.
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

// Entity returns the entity with this name, or nil.
func (c *Catalog) Entity(name string) *Entity {
	if c == nil {
		return nil
	}
	return c.byName[name]
}

// Names lists the entities' names in document order.
func (c *Catalog) Names() []string {
	names := make([]string, len(c.Entities))
	for i, e := range c.Entities {
		names[i] = e.Name
	}
	return names
}

// Fold returns a name in lower case without '_' and '-', the form for comparing names.
func Fold(name string) string {
	return strings.ToLower(strings.Map(func(r rune) rune {
		if r == '_' || r == '-' {
			return -1
		}
		return r
	}, name))
}
