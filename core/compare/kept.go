package compare

import (
	"strings"

	"inkret/core/catalog"
)

// Kept is the class of a field that was in force last, be the field there still or not. It holds until a
// revision lowers it that says so: to take a field away and bring it back, under its name or another, is no way
// to lower its class.
type Kept struct {
	Entity, StoredAs, Field string
	Type                    catalog.Type
	Class                   catalog.Class
}

// KeptOf lists what is in force by a catalogue, and what was before and is gone.
func KeptOf(c *catalog.Catalog, before []Kept) []Kept {
	var all []Kept
	met := map[string]bool{}
	for _, e := range c.Entities {
		for _, f := range e.Fields {
			met[keptKey(e.Name, f.Name)] = true
			all = append(all, Kept{e.Name, e.StoredAs, f.Name, f.Form.Type, f.Class.Judged()})
		}
	}
	for _, k := range before {
		if key := keptKey(k.Entity, k.Field); !met[key] {
			met[key] = true
			all = append(all, k)
		}
	}
	return all
}

func keptKey(entity, field string) string { return catalog.Fold(entity) + "." + catalog.Fold(field) }

// remember works out the classes that fields of the new contracts had before, if graver than what they have: by
// their names, in entities that were renamed, or as fields that are gone.
func (d *differ) remember(before []Kept) {
	d.kept = map[string]catalog.Class{}
	byEntity := map[string][]Kept{}
	for _, k := range KeptOf(d.old.Catalog, before) {
		name := catalog.Fold(k.Entity)
		byEntity[name] = append(byEntity[name], k)
	}
	for _, e := range d.new.Catalog.Entities {
		had := byEntity[catalog.Fold(e.Name)]
		if len(had) == 0 {
			for name, kept := range byEntity {
				if !d.has(name) && mayBe(e, kept) {
					had = append(had, kept...)
				}
			}
		}
		for _, f := range e.Fields {
			for _, k := range had {
				if k.Class > f.Class.Judged() && (catalog.Fold(k.Field) == catalog.Fold(f.Name) ||
					d.renamed(e, f, k, had)) {
					key := keptKey(e.Name, f.Name)
					d.kept[key] = max(d.kept[key], k.Class)
				}
			}
		}
	}
}

// has reports whether the new contracts have an entity, by its folded name.
func (d *differ) has(folded string) bool {
	for _, e := range d.new.Catalog.Entities {
		if catalog.Fold(e.Name) == folded {
			return true
		}
	}
	return false
}

// mayBe reports whether an entity may be one that is gone: it is stored in the same place, or half of its
// fields are called the same.
func mayBe(e *catalog.Entity, gone []Kept) bool {
	same := 0
	for _, k := range gone {
		if f, _ := e.Lookup(k.Field); f != nil {
			same++
		}
	}
	return e.StoredAs != "" && e.StoredAs == gone[0].StoredAs || same > 0 && same*2 >= len(e.Fields)
}

// renamed reports whether a new field may be one that is gone under another name: of the same type, and gone in
// the same revision, or with a name that says the same and more.
func (d *differ) renamed(e *catalog.Entity, f *catalog.Field, k Kept, had []Kept) bool {
	if k.Class < catalog.Personal || k.Type != f.Form.Type {
		return false
	}
	if is, _ := e.Lookup(k.Field); is != nil {
		return false
	}
	for _, other := range had {
		if catalog.Fold(other.Field) == catalog.Fold(f.Name) {
			return false // it was there beside it
		}
	}
	if was := d.old.Catalog.Entity(k.Entity); was != nil && was.Field(k.Field) != nil {
		return true
	}
	a, b := catalog.Fold(k.Field), catalog.Fold(f.Name)
	return strings.Contains(a, b) || strings.Contains(b, a)
}
