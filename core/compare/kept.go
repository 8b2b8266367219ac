package compare

import (
	"strings"

	"inkret/core/catalog"
)

// Kept is the last class of a field, which may be deleted by now. It holds until a revision explicitly lowers it:
// deleting a field and adding it again, under its name or another, does not lower its class.
type Kept struct {
	Entity, StoredAs, Field string
	Type                    catalog.Type
	Class                   catalog.Class
}

// KeptOf lists the classes of a catalogue's fields, and of earlier ones that are gone.
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

// remember returns the earlier classes of fields where they were higher: by name, in renamed entities, or as
// deleted fields.
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

// has reports whether the new contracts have an entity, by folded name.
func (d *differ) has(folded string) bool {
	for _, e := range d.new.Catalog.Entities {
		if catalog.Fold(e.Name) == folded {
			return true
		}
	}
	return false
}

// mayBe reports whether an entity may be a deleted one: it is stored in the same place, or half of its fields have
// the same names.
func mayBe(e *catalog.Entity, gone []Kept) bool {
	same := 0
	for _, k := range gone {
		if f, _ := e.Lookup(k.Field); f != nil {
			same++
		}
	}
	return e.StoredAs != "" && e.StoredAs == gone[0].StoredAs || same > 0 && same*2 >= len(e.Fields)
}

// renamed reports whether a new field may be a deleted one under another name: it has the same type, and was
// deleted in the same revision or has a name that contains the old one's words.
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
