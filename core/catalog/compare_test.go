package catalog

import (
	"slices"
	"testing"
)

// harbour is a catalogue with two entities, changed by change.
func harbour(t *testing.T, change func(boat, owner *Entity)) *Catalog {
	t.Helper()
	boat, owner := &Entity{Name: "Boat", StoredAs: "boats"}, &Entity{Name: "Owner", StoredAs: "owners"}
	for _, f := range []*Field{
		{Name: "id", Class: Internal, Form: Form{Type: Integer}},
		{Name: "name", Class: Public, Form: Form{Type: String, Max: 40}},
		{Name: "kind", Form: Form{Type: String, Values: []string{`"sail"`, `"motor"`}}},
	} {
		boat.AddField(f)
	}
	boat.AddRelation(&Relation{Name: "owner", Entity: "Owner"})
	owner.AddField(&Field{Name: "id", Form: Form{Type: Integer}})
	owner.AddRelation(&Relation{Name: "boats", Entity: "Boat", Many: true})
	if change != nil {
		change(boat, owner)
	}
	c := &Catalog{}
	c.Add(boat)
	c.Add(owner)
	return c
}

func ids(all []Difference) []string {
	out := []string{}
	for _, d := range all {
		out = append(out, d.ID())
	}
	return out
}

func TestAReadingDiffers(t *testing.T) {
	for name, c := range map[string]struct {
		change  func(boat, owner *Entity)
		partial bool
		want    []string
	}{
		"in nothing": {nil, false, nil},
		"by classes and notes only": {func(b, _ *Entity) { b.Fields[0].Class, b.Fields[0].Note = Secret, "x" },
			false, nil},
		"by a new field": {func(b, _ *Entity) { b.AddField(&Field{Name: "hull"}) }, false,
			[]string{"new-field Boat.hull"}},
		"by a new relation": {func(b, _ *Entity) {
			b.AddRelation(&Relation{Name: "crew", Entity: "Owner",
				Many: true})
		}, false, []string{"new-relation Boat.crew"}},
		"by a relation's other name": {func(b, _ *Entity) { *b = *renamed(b, "keeper") }, false, nil},
		"by another relation in its place": {func(b, _ *Entity) {
			*b = *renamed(b, "crew")
			b.Relations[0].Many = true
		}, false, []string{"new-relation Boat.crew", "gone-relation Boat.owner"}},
		"in nothing where the store declares no relations": {func(b, _ *Entity) { b.Relations = nil }, false, nil},
		"by a longer text": {func(b, _ *Entity) { b.Fields[1].Max = 80 }, false,
			[]string{"changed-field Boat.name"}},
		"by another type": {func(b, _ *Entity) { b.Fields[1].Type = Integer }, false,
			[]string{"changed-field Boat.name"}},
		"by the order of values": {func(b, _ *Entity) { slices.Reverse(b.Fields[2].Values) }, false, nil},
		"by one more value": {func(b, _ *Entity) {
			b.Fields[2].Values = append(b.Fields[2].Values,
				`"row"`)
		}, false, []string{"changed-field Boat.kind"}},
		"by becoming nullable": {func(b, _ *Entity) { b.Fields[1].Nullable = true }, false,
			[]string{"changed-field Boat.name"}},
		"by what it does not know": {func(b, _ *Entity) { b.Fields[1].Form = Form{} }, false, nil},
		"by a to-one that is many": {func(b, _ *Entity) { b.Relations[0].Many = true }, false,
			[]string{"changed-relation Boat.owner"}},
		"by a field that is gone": {func(b, _ *Entity) { *b = *without(b, "kind") }, false,
			[]string{"gone-field Boat.kind"}},
		"by a gone one, partially": {func(b, _ *Entity) { *b = *without(b, "kind") }, true, nil},
		"by a table's other entity name": {func(b, o *Entity) { b.Name, o.Relations[0].Entity = "Vessel", "Vessel" },
			false, nil},
		"by another table": {func(b, o *Entity) {
			b.StoredAs, b.Name, o.Relations[0].Entity = "ships",
				"Ship", "Ship"
		}, false, []string{"new-entity Ship", "changed-relation Owner.boats", "gone-entity Boat"}},
	} {
		if got := ids(Compare(harbour(t, nil), harbour(t, c.change), c.partial)); !slices.Equal(got,
			append([]string{}, c.want...)) {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// renamed returns e with its first relation renamed.
func renamed(e *Entity, name string) *Entity {
	out := &Entity{Name: e.Name, StoredAs: e.StoredAs}
	for _, f := range e.Fields {
		out.AddField(f)
	}
	r := *e.Relations[0]
	r.Name = name
	out.AddRelation(&r)
	return out
}

// without is e without a field.
func without(e *Entity, name string) *Entity {
	out := &Entity{Name: e.Name, StoredAs: e.StoredAs}
	for _, f := range e.Fields {
		if f.Name != name {
			out.AddField(f)
		}
	}
	for _, r := range e.Relations {
		out.AddRelation(r)
	}
	return out
}

func TestDifferencesSayWhatWasAndIs(t *testing.T) {
	all := Compare(harbour(t, nil), harbour(t, func(b, _ *Entity) {
		b.Fields[1].Max, b.Fields[1].Nullable = 80, true
		b.Relations[0].Many = true
	}), false)
	if len(all) != 2 || all[0].Was != "at most 40, never null" || all[0].Is != "at most 80, nullable" ||
		all[1].Was != "to one Owner" || all[1].Is != "to many Owner" {
		t.Errorf("told is %+v", all)
	}
	if got := (Form{Type: String, Format: "date", Max: 3, Values: []string{"1"},
		Nullable: true}).Words(); got != "string, date, at most 3, one of 1, nullable" {
		t.Errorf("a form reads %q", got)
	}
}
