package scan

import (
	"slices"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/kind"
	"inkret/core/severity"
)

// stray is a member reported as unexpected, which may be a granted member under another name.
type stray struct {
	slot    int // of its spot
	name    []byte
	verdict *verdict
	kind    contract.Scalar
	taken   bool
}

// renamed reports whether a missing member is present under another name, and changes the spot of that member
// accordingly. Either the other name is that of the grant's field, or both are the only candidates in the object,
// the value matches the type, all words of one name are in the other, and the other name is not a field of its own.
func (w *walk) renamed(m *contract.Member, absent []*contract.Member, strays []stray) bool {
	if m.Way {
		return false
	}
	for i := range strays {
		s := &strays[i]
		if s.taken || w.spots[s.slot].Kind != kind.UnexpectedField {
			continue
		}
		sameField := m.Grant.Source == contract.FromField && s.verdict.field == m.Grant.Field
		only := len(absent) == 1 && len(strays) == 1 && s.verdict.field == nil && s.verdict.relation == nil &&
			fitsType(&m.Form, s.kind) && wordsWithin(m.Name, string(s.name))
		if !sameField && !only {
			continue
		}
		s.taken = true
		spot := &w.spots[s.slot]
		spot.Kind, spot.Severity, spot.Grant = kind.RenamedField, severity.Medium, m.Grant
		spot.reason = m.Name + " seems to be " + string(s.name) + " now"
		if f := m.Grant.Field; f != nil {
			spot.Entity, spot.Field, spot.Class = m.Grant.Owner.Name, f.Name, f.Class
		}
		return true
	}
	return false
}

// fitsType checks a scalar against a form's type only.
func fitsType(f *catalog.Form, kind contract.Scalar) bool {
	if kind == contract.Null {
		return f.Nullable
	}
	switch f.Type {
	case "":
		return true
	case catalog.String:
		return kind == contract.Text
	case catalog.Integer:
		return kind == contract.Integer
	case catalog.Number:
		return kind == contract.Integer || kind == contract.Number
	case catalog.Boolean:
		return kind == contract.Bool
	}
	return false
}

// wordsWithin reports whether all words of one name are among those of the other.
func wordsWithin(a, b string) bool {
	few, many := detect.Words(nil, []byte(a)), detect.Words(nil, []byte(b))
	if len(few) > len(many) {
		few, many = many, few
	}
	for _, word := range few {
		if !slices.Contains(many, word) {
			return false
		}
	}
	return len(few) > 0
}
