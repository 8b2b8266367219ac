package catalog

import (
	"fmt"
	"slices"
	"strings"
)

// Difference is one difference between what was read from a store and the catalogue.
type Difference struct {
	Kind   DifferenceKind
	Entity string // as the catalogue calls it, else as it was read
	Name   string // of the field or relation; empty for an entity
	Was    string // in the catalogue, in words
	Is     string // in the store, in words
	Field  *Field // as read, of a new or changed field
	Rel    *Relation
	Read   *Entity // as read, of a new entity
}

// ID identifies a difference within its reading, such as "new-field Boat.colour".
func (d Difference) ID() string {
	if d.Name == "" {
		return string(d.Kind) + " " + d.Entity
	}
	return string(d.Kind) + " " + d.Entity + "." + d.Name
}

// DifferenceKind is the kind of a [Difference].
type DifferenceKind string

const (
	NewEntity       DifferenceKind = "new-entity"
	NewField        DifferenceKind = "new-field"
	NewRelation     DifferenceKind = "new-relation"
	GoneEntity      DifferenceKind = "gone-entity"
	GoneField       DifferenceKind = "gone-field"
	GoneRelation    DifferenceKind = "gone-relation"
	ChangedField    DifferenceKind = "changed-field"
	ChangedRelation DifferenceKind = "changed-relation"
)

// Compare compares a reading with the catalogue. Entities are matched by where they are stored, then by name.
// partial means that the reading may be incomplete, as with traffic and API descriptions, so nothing is
// reported as gone. Nor is a relation gone where the store declares none of its entity. Classes are not
// compared, and of a field's form and note only what the reading knows.
func Compare(old, read *Catalog, partial bool) []Difference {
	var all []Difference
	met := map[*Entity]bool{}
	known := map[string]*Entity{} // by what it is called in the reading
	for _, e := range read.Entities {
		known[e.Name] = old.match(e)
	}
	for _, e := range read.Entities {
		is := known[e.Name]
		if is == nil {
			all = append(all, Difference{Kind: NewEntity, Entity: e.Name, Is: fmt.Sprintf("%d fields, %d relations",
				len(e.Fields), len(e.Relations)), Read: e})
			continue
		}
		met[is] = true
		all = append(all, compareEntity(is, e, known, partial)...)
	}
	for _, e := range old.Entities {
		if !met[e] && !partial && e.StoredAs != "" {
			all = append(all, Difference{Kind: GoneEntity, Entity: e.Name, Was: "stored as " + e.StoredAs})
		}
	}
	return all
}

// match finds the catalogued entity of a read one.
func (c *Catalog) match(read *Entity) *Entity {
	for _, e := range c.Entities {
		if e.StoredAs != "" && e.StoredAs == read.StoredAs {
			return e
		}
	}
	if e := c.Entity(read.Name); e != nil && (e.StoredAs == "" || read.StoredAs == "") {
		return e
	}
	return nil
}

func compareEntity(is, read *Entity, known map[string]*Entity, partial bool) []Difference {
	var all []Difference
	for _, f := range read.Fields {
		have := is.Field(f.Name)
		switch {
		case have == nil && is.Relation(f.Name) == nil:
			all = append(all, Difference{Kind: NewField, Entity: is.Name, Name: f.Name, Is: f.words(), Field: f})
		case have != nil:
			if was, now := have.differs(f); was != now {
				all = append(all, Difference{Kind: ChangedField, Entity: is.Name, Name: f.Name, Was: was, Is: now,
					Field: f})
			}
		}
	}
	for _, f := range is.Fields {
		if read.Field(f.Name) == nil && read.Relation(f.Name) == nil && !partial {
			all = append(all, Difference{Kind: GoneField, Entity: is.Name, Name: f.Name, Was: f.words()})
		}
	}
	met := map[*Relation]bool{}
	reached := map[string]bool{}
	for _, e := range known {
		if e != nil {
			reached[e.Name] = true
		}
	}
	for _, r := range read.Relations {
		target := r.Entity
		if e := known[r.Entity]; e != nil {
			target = e.Name
		}
		have := is.Relation(r.Name)
		if have == nil { // a relation to the same entity may be called something else here
			for _, other := range is.Relations {
				if other.Entity == target && other.Many == r.Many && !met[other] && read.Relation(other.Name) == nil {
					have = other
					break
				}
			}
		}
		switch {
		case have == nil && is.Field(r.Name) == nil:
			all = append(all, Difference{Kind: NewRelation, Entity: is.Name, Name: r.Name, Is: relationWords(target,
				r.Many), Rel: &Relation{Name: r.Name, Entity: target, Many: r.Many}})
		case have != nil:
			met[have] = true
			if was, now := relationWords(have.Entity, have.Many), relationWords(target, r.Many); was != now &&
				!partial {
				all = append(all, Difference{Kind: ChangedRelation, Entity: is.Name, Name: have.Name, Was: was, Is: now,
					Rel: &Relation{Name: have.Name, Entity: target, Many: r.Many}})
			}
		}
	}
	for _, r := range is.Relations {
		// where the store declares no relation of the entity, and of what is not stored there, they were
		// written by hand
		if !met[r] && !partial && len(read.Relations) > 0 && reached[r.Entity] {
			all = append(all, Difference{Kind: GoneRelation, Entity: is.Name, Name: r.Name, Was: relationWords(r.Entity,
				r.Many)})
		}
	}
	return all
}

func relationWords(entity string, many bool) string {
	if many {
		return "to many " + entity
	}
	return "to one " + entity
}

// words describes a field's values.
func (f *Field) words() string { return strings.Join(f.Form.parts(), ", ") }

func (f Form) parts() []string {
	parts := []string{string(f.Type)}
	if f.Type == "" {
		parts[0] = "any value"
	}
	if f.Format != "" {
		parts = append(parts, f.Format)
	}
	if f.Max > 0 {
		parts = append(parts, fmt.Sprintf("at most %d", f.Max))
	}
	if len(f.Values) > 0 {
		parts = append(parts, "one of "+strings.Join(f.Values, " "))
	}
	if f.Nullable {
		parts = append(parts, "nullable")
	}
	return parts
}

// Words describes a form.
func (f Form) Words() string { return strings.Join(f.parts(), ", ") }

// differs describes how a field and its reading differ; equal texts mean no difference. What the reading does not
// know is ignored.
func (f *Field) differs(read *Field) (was, is string) {
	var a, b []string
	note := func(differ bool, x, y string) {
		if differ {
			a, b = append(a, x), append(b, y)
		}
	}
	if read.Type != "" && f.Type != "" {
		note(read.Type != f.Type, string(f.Type), string(read.Type))
	}
	if read.Format != "" {
		note(read.Format != f.Format && f.Format != "", f.Format, read.Format)
	}
	if read.Max > 0 && f.Max > 0 {
		note(read.Max != f.Max, fmt.Sprintf("at most %d", f.Max), fmt.Sprintf("at most %d", read.Max))
	}
	if len(read.Values) > 0 && len(f.Values) > 0 {
		x, y := slices.Sorted(slices.Values(f.Values)), slices.Sorted(slices.Values(read.Values))
		note(!slices.Equal(x, y), strings.Join(x, " "), strings.Join(y, " "))
	}
	if read.Type != "" { // a reading that knows no type knows nothing of null either
		note(read.Nullable && !f.Nullable, "never null", "nullable")
	}
	return strings.Join(a, ", "), strings.Join(b, ", ")
}
