package finding

import (
	"strings"
	"testing"

	"inkret/core/kind"
)

func TestWhatHoldsAPlace(t *testing.T) {
	beside := []Beside{{"1", kind.UnexpectedRelation, "$.a[*].b", "", ""}, {"2", kind.UnexpectedRelation, "$.a", "",
		""}, {"3", kind.MissingField, "$", "", ""}, {"4", kind.UnexpectedField, "$.a[*].b.c", "", ""}}
	for path, want := range map[string]string{"$.a[*].b.c.d": "2", "$.a": "", "$.a[*]": "2", "$.ab.c": "", "$": "",
		"query >> $.a.x": ""} {
		got := ""
		if h := Holder(path, beside); h != nil {
			got = h.ID
		}
		if got != want {
			t.Errorf("%s is held by %q, want %q", path, got, want)
		}
	}
}

func TestWhatAFindingLikelyComesOf(t *testing.T) {
	field := func(id, path, field string) Beside {
		return Beside{id, kind.SensitiveField, path, "Skipper", field}
	}
	relation := Beside{"r", kind.UnexpectedRelation, "$.data[*].bookings", "Berth", ""}
	inner := Beside{"i", kind.UnexpectedRelation, "$.data[*].bookings[*].skipper", "Booking", ""}
	row := []Beside{field("1", "$.data[*].bookings[*].skipper.email", "email"),
		field("2", "$.data[*].bookings[*].skipper.phone", "phone"), field("3", "$.data[*].bookings[*].skipper.born_on",
			"born_on")}
	for name, c := range map[string]struct {
		f      Beside
		beside []Beside
		want   string // causes, each with what it leads to
	}{
		"alone":                     {row[0], nil, ""},
		"among two of the same row": {row[0], row[:2], ""},
		"a whole row": {row[0], row,
			"the stored Skipper seems to go out as it is: born_on, email, phone leak in the same object>Skipper"},
		"the outermost holds it": {row[0], []Beside{inner, relation},
			"it comes with $.data[*].bookings, which is not granted either: once that is left out, this is gone>r"},
		"both": {row[0], append([]Beside{relation}, row...),
			"it comes with $.data[*].bookings, which is not granted either: once that is left out, this is gone>r; " +
				"the stored Skipper seems to go out as it is: born_on, email, phone leak in the same object>Skipper"},
		"a name that begins alike": {field("1", "$.data.booking", "a"),
			[]Beside{{"b", kind.UnexpectedRelation, "$.data.book", "Berth", ""}}, ""},
		"in another object": {field("1", "$.a.email", "email"), []Beside{field("2", "$.b.phone", "phone"),
			field("3", "$.b.born_on", "born_on")}, ""},
		"of another entity": {field("1", "$.a.email", "email"),
			[]Beside{{"2", kind.SensitiveField, "$.a.iban", "Account", "iban"}, {"3", kind.SensitiveField, "$.a.key",
				"Account", "key"}}, ""},
		"what is too little": {field("1", "$.a.email", "email"),
			[]Beside{{"2", kind.MissingField, "$.a", "Berth", ""}}, ""},
		"many fields": {field("1", "$.a", "a"), []Beside{field("2", "$.b", "b"), field("3", "$.c", "c"),
			field("4", "$.d", "d"), field("5", "$.e", "e"), field("6", "$.f", "f")},
			"the stored Skipper seems to go out as it is: a, b, c, d and 2 more leak in the same object>Skipper"},
		"the relation itself": {relation, append([]Beside{inner}, row...), ""},
		"inside of a page's data": {field("1", "script#state >> $.arrivals[*].skipper.email", "email"),
			[]Beside{{"s", kind.UnexpectedRelation, "script#state >> $.arrivals[*].skipper", "Booking", ""}},
			"it comes with script#state >> $.arrivals[*].skipper, which is not granted either: once that is left " +
				"out, this is gone>s"},
		"a name that must be quoted": {field("1", "$['a.b'].email", "email"),
			[]Beside{{"q", kind.UnexpectedField, "$['a.b']", "", ""}},
			"it comes with $['a.b'], which is not granted either: once that is left out, this is gone>q"},
	} {
		var got []string
		for _, cause := range Causes(c.f, c.beside) {
			got = append(got, cause.Text+">"+cause.Finding+cause.Entity)
		}
		if text := strings.Join(got, "; "); text != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", name, text, c.want)
		}
	}
}
