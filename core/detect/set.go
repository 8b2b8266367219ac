package detect

import (
	"regexp"

	"inkret/core/catalog"
)

// Custom is a team's own detector.
type Custom struct {
	Name    string
	Class   catalog.Class
	Pattern *regexp.Regexp
	Check   string // "", "luhn" or "iban"
	Least   int    // bytes of a value that is looked at
	Most    int    // 0 is no bound
}

// Matches reports whether the detector finds something in value.
func (d *Custom) Matches(value []byte) bool { return d.find(value) != nil }

func (d *Custom) find(value []byte) []int {
	if len(value) < d.Least || d.Most > 0 && len(value) > d.Most {
		return nil
	}
	if d.Check == "" {
		return d.Pattern.FindIndex(value)
	}
	for _, m := range d.Pattern.FindAllIndex(value, -1) {
		if text := value[m[0]:m[1]]; d.Check == "luhn" && luhn(text) || d.Check == "iban" && mod97(text) {
			return m
		}
	}
	return nil
}

// Set is the detectors that judge values: the built-in ones and a team's own.
type Set struct {
	Custom []Custom
}

// Quiet reports that nothing can be recognised in a value of this length and these
// traits.
func (s *Set) Quiet(n int, t Trait) bool {
	return dueTables.due(n, t) == 0 && (len(s.Custom) == 0 || t == 0)
}

// Value recognises the gravest thing in a string, or in the text of a number.
// Secrets, e-mail addresses and IBANs are found anywhere in it, other values as
// the whole of it. t are the traits of value.
func (s *Set) Value(value []byte, t Trait) Hit {
	var hit Hit
	if d := dueTables.due(len(value), t); d != 0 {
		if hit = d.recognise(value, t); !hit.Found() && d&behindEncoding != 0 {
			hit = encoded(value)
		}
	}
	if s == nil || len(s.Custom) == 0 || hit.Class == catalog.Secret {
		return hit
	}
	for i := range s.Custom {
		d := &s.Custom[i]
		if d.Class <= hit.Class {
			continue
		}
		if m := d.find(value); m != nil {
			hit = Hit{Detector: d.Name, Class: d.Class, at: m[0], end: m[1]}
		}
	}
	return hit
}
