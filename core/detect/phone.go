package detect

import (
	"bytes"
	"net/netip"
	"slices"
	"strings"
)

// National phone numbers, written without a country code. They look like many other numbers, so they are recognised
// only for the countries that a contract lists.

// numberPlan describes a country's numbers (national numbering plans published by the ITU-T under E.129).
type numberPlan struct {
	trunk       string // dialled before a number from within the country; empty for none
	least, most int    // digits, the trunk prefix not counted
	first       string // what they begin with
}

// numberPlans holds the numbering plans by country code.
var numberPlans = map[string]numberPlan{
	"AT": {"0", 7, 12, "123456789"}, "AU": {"0", 9, 9, "23478"}, "BE": {"0", 8, 9, "123456789"},
	"BR": {"", 10, 11, "123456789"},
	"CA": {"", 10, 10, "23456789"}, "CH": {"0", 9, 9, "123456789"}, "DE": {"0", 7, 11, "123456789"},
	"DK": {"", 8, 8, "23456789"},
	"ES": {"", 9, 9, "6789"}, "FI": {"0", 6, 10, "123456789"}, "FR": {"0", 9, 9, "123456789"},
	"GB": {"0", 9, 10, "12378"},
	"IE": {"0", 7, 9, "12456789"}, "IN": {"", 10, 10, "6789"}, "IT": {"", 8, 11, "03"}, "JP": {"0", 9, 10, "123456789"},
	"NL": {"0", 9, 9, "1234567"}, "NO": {"", 8, 8, "23456789"}, "NZ": {"0", 8, 10, "234679"},
	"PL": {"", 9, 9, "123456789"},
	"PT": {"", 9, 9, "2379"}, "SE": {"0", 7, 9, "123456789"}, "US": {"", 10, 10, "23456789"},
	"ZA": {"0", 9, 9, "12345678"},
}

// Countries lists the countries whose national phone numbers can be recognised, as ISO 3166-1 alpha-2 codes.
func Countries() []string {
	var all []string
	for code := range numberPlans {
		all = append(all, code)
	}
	slices.Sort(all)
	return all
}

const (
	shortestNational = 8
	longestNational  = 20
	nationalTraits   = HasDigit | HasSpace | HasDash | HasDot | HasSlash | HasOther // brackets among them
)

// nationalPhone reports whether the whole of v is a phone number of one of the plans: digits in groups, of which
// the first may be in brackets, or without groups if it begins with a trunk prefix.
func nationalPhone(v []byte, plans []numberPlan) bool {
	var room [longestNational]byte
	digits := room[:0]
	groups, size, bracket := 1, 0, false
	for i, c := range v {
		switch {
		case digit(c):
			if size == 0 && i > 0 {
				groups++
			}
			digits = append(digits, c)
			size++
			continue
		case c == '(' && i == 0:
			bracket, groups = true, 0
			continue
		case c == ')' && bracket && size > 0:
			bracket, size = false, 0
			continue
		case c == ' ' && size == 0 && i > 0 && v[i-1] == ')':
			continue
		case (c == ' ' || c == '-' || c == '.' || c == '/') && size > 1 && i+1 < len(v):
			size = 0
			continue
		}
		return false
	}
	switch {
	case bracket, size == 1, len(digits) == 0, isDay(v), bytes.Count(digits, digits[:1]) == len(digits):
		return false
	case groups == 2 && bytes.IndexByte(v, '.') > 0: // a fraction
		return false
	}
	if _, err := netip.ParseAddr(string(v)); err == nil {
		return false
	}
	for _, p := range plans {
		rest, trunk := bytes.CutPrefix(digits, []byte(p.trunk))
		if !trunk || len(rest) < p.least || len(rest) > p.most || strings.IndexByte(p.first, rest[0]) < 0 {
			continue
		}
		if groups > 1 || p.trunk != "" {
			return true
		}
	}
	return false
}

// isDay reports whether the groups of v form a date: 4-2-2 or 2-2-4 digits.
func isDay(v []byte) bool {
	if len(v) != 10 {
		return false
	}
	for _, s := range []byte("-./ ") {
		if v[4] == s && v[7] == s || v[2] == s && v[5] == s {
			return true
		}
	}
	return false
}
