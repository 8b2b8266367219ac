package detect

import (
	"regexp"
	"regexp/syntax"
	"unicode"
	"unicode/utf8"

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

// Set is the detectors that judge values: the built-in ones and what a contract adds to
// them. The zero Set, and a nil one, has the built-in ones alone. It does not change and
// may be shared.
type Set struct {
	custom []Custom
	phones []numberPlan
	due    *tables // of what is added: a bit each, the last for all that find no bit of their own
}

const (
	sharedBit = 63
	phoneBit  = 62
	mostBits  = 62
)

// NewSet gives the built-in detectors and a team's own. Phone numbers are recognised as
// they are written within countries, too, codes of ISO 3166-1 alpha-2; see [Countries].
func NewSet(custom []Custom, countries []string) *Set {
	s := &Set{custom: custom}
	if len(custom) == 0 && len(countries) == 0 {
		return s
	}
	all := make([]recogniser, 0, len(custom))
	for i := range custom {
		d := &custom[i]
		least, traits := needs(d.Pattern)
		all = append(all, recogniser{least: max(d.Least, least), most: d.Most, all: traits})
	}
	if len(all) > mostBits {
		all = all[:mostBits]
	}
	s.due = tablesOf(all)
	for _, code := range countries {
		if p, ok := numberPlans[code]; ok {
			s.phones = append(s.phones, p)
		}
	}
	if len(s.phones) > 0 {
		s.due.add(phoneBit, &recogniser{least: shortestNational, most: longestNational, all: HasDigit, only: nationalTraits})
	}
	if len(custom) > mostBits {
		s.due.add(sharedBit, &recogniser{})
	}
	return s
}

// needs gives how long a text is at least in which a pattern finds something, and traits
// that it has.
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

// classTrait gives the trait that all of a class have, or none. Its ranges are in pairs.
func classTrait(ranges []rune) Trait {
	var all Trait
	for i := 0; i+1 < len(ranges); i += 2 {
		for r := ranges[i]; r <= min(ranges[i+1], utf8.RuneSelf); r++ {
			all |= traitOf(r)
		}
		if ranges[i+1] >= utf8.RuneSelf {
			all |= HasOther
		}
	}
	if all&(all-1) != 0 {
		return 0
	}
	return all
}

// Quiet reports that nothing can be recognised in a value of this length and these
// traits.
func (s *Set) Quiet(n int, t Trait) bool {
	return dueTables.due(n, t) == 0 && (s.due == nil || s.due.due(n, t) == 0)
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
	if s == nil || s.due == nil || hit.Class == catalog.Secret {
		return hit
	}
	if d := s.due.due(len(value), t); d != 0 {
		hit = s.added(d, hit, value)
	}
	return hit
}

// added gives the graver of hit and what is found by what was added to the built-in
// detectors.
func (s *Set) added(d due, hit Hit, value []byte) Hit {
	for i := range s.custom {
		c := &s.custom[i]
		if d&(1<<min(i, sharedBit)) == 0 && (i < mostBits || d&(1<<sharedBit) == 0) || c.Class <= hit.Class {
			continue
		}
		if m := c.find(value); m != nil {
			hit = Hit{Detector: c.Name, Class: c.Class, at: m[0], end: m[1]}
		}
	}
	if d&(1<<phoneBit) != 0 && !hit.Found() && nationalPhone(value, s.phones) {
		return personal("phone number", "phone", 0, len(value))
	}
	return hit
}
