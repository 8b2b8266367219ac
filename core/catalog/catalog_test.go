package catalog

import (
	"strings"
	"testing"
)

func booking(t *testing.T) *Entity {
	t.Helper()
	e := &Entity{Name: "Booking"}
	for _, f := range []*Field{{Name: "desk_note", Class: Internal}, {Name: "deskNote", Class: Secret}, {Name: "id"}} {
		if !e.AddField(f) {
			t.Fatalf("field %s is not added", f.Name)
		}
	}
	if !e.AddRelation(&Relation{Name: "berth", Entity: "Berth"}) {
		t.Fatal("the relation is not added")
	}
	return e
}

func TestANameIsTakenOnce(t *testing.T) {
	e := booking(t)
	if e.AddField(&Field{Name: "id"}) || e.AddField(&Field{Name: "berth"}) ||
		e.AddRelation(&Relation{Name: "desk_note"}) || e.AddRelation(&Relation{Name: "berth"}) {
		t.Error("a name is taken twice")
	}
	if got := strings.Join(e.Names(), " "); got != "desk_note deskNote id berth" {
		t.Errorf("names are %s", got)
	}
	c := &Catalog{}
	if !c.Add(e) || c.Add(&Entity{Name: "Booking"}) || c.Entity("Booking") != e || c.Entity("Berth") != nil ||
		len(c.Names()) != 1 {
		t.Error("an entity is not there once")
	}
	if (*Catalog)(nil).Entity("Booking") != nil || (*Entity)(nil).Field("id") != nil ||
		(*Entity)(nil).Relation("berth") != nil {
		t.Error("none that is known has something")
	}
}

func TestLookup(t *testing.T) {
	e := booking(t)
	for name, want := range map[string]string{
		"desk_note": "desk_note", "deskNote": "deskNote", // an exact name first
		"DESK-NOTE": "desk_note", "desknote": "desk_note", // else the first that folds to it
		"ID": "id", "be_rth": "berth", "Berth": "berth", "note": "", "": "",
	} {
		f, r := e.Lookup(name)
		got := ""
		switch {
		case f != nil && r != nil:
			t.Errorf("%q is a field and a relation", name)
		case f != nil:
			got = f.Name
		case r != nil:
			got = r.Name
		}
		if got != want {
			t.Errorf("%q stands for %q, want %q", name, got, want)
		}
	}
	if f, r := (*Entity)(nil).Lookup("id"); f != nil || r != nil {
		t.Error("a name stands for something where no entity is known")
	}
}

func TestClasses(t *testing.T) {
	if !(Unclassed < Public && Public < Internal && Internal < Personal && Personal < Secret) {
		t.Error("classes are not in the order of their gravity")
	}
	for _, name := range ClassNames() {
		if c, ok := ParseClass(name); !ok || c.String() != name || c.Judged() != c {
			t.Errorf("%s is read as %v, %v", name, c, ok)
		}
	}
	if _, ok := ParseClass(""); ok || Unclassed.Judged() != Internal {
		t.Error("unclassed is a class that can be written, or is not judged as internal")
	}
}
