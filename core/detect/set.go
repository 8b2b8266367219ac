package detect

import (
	"math/bits"
	"regexp"
	"regexp/syntax"
	"slices"
	"unicode"
	"unicode/utf8"

	"inkret/core/catalog"
)

// Custom is a detector defined by a team.
type Custom struct {
	Name    string
	Class   catalog.Class
	Pattern *regexp.Regexp
	Check   string // "", "luhn" or "iban"
	Least   int    // bytes of a value that is looked at
	Most    int    // 0 is no bound
}

// Matches reports whether the detector matches value.
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

// Set is a set of detectors: the built-in ones, and those that a contract adds. A nil or zero Set has only the
// built-in ones. It is immutable and may be shared.
type Set struct {
	custom []Custom
	phones []numberPlan
	due    []*tables // of what is added, a bit each: of the phones first, then of custom
}

// perTable is the number of detectors per table.
const perTable = 64

// NewSet returns the built-in detectors and custom ones. National phone numbers are recognised for the given
// countries, as ISO 3166-1 alpha-2 codes; see [Countries].
func NewSet(custom []Custom, countries []string) *Set {
	s := &Set{custom: custom}
	if len(custom) == 0 && len(countries) == 0 {
		return s
	}
	for _, code := range countries {
		if p, ok := numberPlans[code]; ok {
			s.phones = append(s.phones, p)
		}
	}
	phones := recogniser{least: 2, most: 1} // nothing
	if len(s.phones) > 0 {
		phones = recogniser{least: shortestNational, most: longestNational, all: HasDigit, only: nationalTraits}
	}
	all := []recogniser{phones}
	for i := range custom {
		d := &custom[i]
		least, traits := needs(d.Pattern)
		all = append(all, recogniser{least: max(d.Least, least), most: d.Most, all: traits})
	}
	for some := range slices.Chunk(all, perTable) {
		s.due = append(s.due, tablesOf(some))
	}
	return s
}

// needs returns the minimum length of a text that a pattern matches, and the traits it must have.
func needs(pattern *regexp.Regexp) (least int, all Trait) {
	re, err := syntax.Parse(pattern.String(), syntax.Perl)
	if err != nil {
		return 0, 0
	}
	return needsOf(re)
}

func needsOf(re *syntax.Regexp) (least int, all Trait) {
	switch re.Op {
	case syntax.OpLiteral:
		for _, r := range re.Rune {
			least++
			if re.Flags&syntax.FoldCase == 0 || unicode.SimpleFold(r) == r {
				all |= traitOf(r)
			}
		}
	case syntax.OpCharClass:
		return 1, classTrait(re.Rune)
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		return 1, 0
	case syntax.OpCapture, syntax.OpPlus:
		return needsOf(re.Sub[0])
	case syntax.OpRepeat:
		if re.Min > 0 {
			least, all = needsOf(re.Sub[0])
			least *= re.Min
		}
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			n, t := needsOf(sub)
			least, all = least+n, all|t
		}
	case syntax.OpAlternate:
		least, all = needsOf(re.Sub[0])
		for _, sub := range re.Sub[1:] {
			n, t := needsOf(sub)
			least, all = min(least, n), all&t
		}
	}
	return least, all
}

func traitOf(r rune) Trait {
	if r >= utf8.RuneSelf {
		return HasOther
	}
	return Traits[r]
}

// classTrait returns the traits that all characters in a class have. Its ranges are pairs.
func classTrait(ranges []rune) Trait {
	if len(ranges) < 2 {
		return 0
	}
	all := ^Trait(0)
	for i := 0; i+1 < len(ranges); i += 2 {
		for r := ranges[i]; r <= min(ranges[i+1], utf8.RuneSelf); r++ {
			all &= traitOf(r)
		}
		if ranges[i+1] >= utf8.RuneSelf {
			all &= HasOther
		}
	}
	return all
}

// Quiet reports that nothing can be recognised in a value of this length with these traits.
func (s *Set) Quiet(n int, t Trait) bool {
	return dueTables.due(n, t) == 0 && (s.due == nil || s.quiet(n, t))
}

// quiet is Quiet for the added detectors.
func (s *Set) quiet(n int, t Trait) bool {
	for _, d := range s.due {
		if d.due(n, t) != 0 {
			return false
		}
	}
	return true
}

// Value returns the most sensitive match in a string, or in the text of a number. Secrets, e-mail addresses and
// IBANs are found anywhere in it, other values only as a whole. t is the traits of value.
func (s *Set) Value(value []byte, t Trait) Hit {
	var hit Hit
	if d := dueTables.due(len(value), t); d != 0 {
		if hit = d.recognise(value); !hit.Found() && d&behindEncoding != 0 {
			hit = encoded(value)
		}
	}
	if s == nil {
		return hit
	}
	for i := 0; i < len(s.due) && hit.Class != catalog.Secret; i++ {
		if d := s.due[i].due(len(value), t); d != 0 {
			hit = s.added(i*perTable, d, hit, value)
		}
	}
	return hit
}

// Unchecked is Value without what only a check digit tells.
func (s *Set) Unchecked(value []byte, t Trait) Hit {
	d := dueTables.due(len(value), t)
	hit := (d &^ checked).recognise(value)
	if !hit.Found() && d&behindEncoding != 0 {
		if hit = encoded(value); hit.checked {
			hit = Hit{}
		}
	}
	for i := 0; s != nil && i < len(s.due) && hit.Class != catalog.Secret; i++ {
		if d := s.due[i].due(len(value), t); d != 0 {
			hit = s.added(i*perTable, d, hit, value)
		}
	}
	return hit
}

// added returns the more sensitive of hit and what the selected added detectors find. first is the position of
// their first.
func (s *Set) added(first int, d due, hit Hit, value []byte) Hit {
	for ; d != 0; d &= d - 1 {
		i := first + bits.TrailingZeros64(uint64(d))
		if i == 0 {
			if !hit.Found() && nationalPhone(value, s.phones) {
				hit = personal("phone number", "phone", 0, len(value))
			}
			continue
		}
		c := &s.custom[i-1]
		if c.Class <= hit.Class {
			continue
		}
		if m := c.find(value); m != nil {
			hit = Hit{Detector: c.Name, Class: c.Class, at: m[0], end: m[1]}
		}
	}
	return hit
}

// IsValue reports whether the built-in detectors recognise something in a text, which must then not be shown.
func IsValue(text []byte) bool { return (*Set)(nil).Value(text, TraitsOf(text)).Found() }
