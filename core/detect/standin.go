package detect

import (
	"bytes"
	"regexp"
)

// longestStandIn bounds the values whose stand-in is made to be recognised.
const longestStandIn = 16 << 10

// StandIn gives a value of the same length that can stay where value must not:
// its letters and digits are replaced by others of their sort, and what is recognised
// in value is recognised in it, so that what holds it is judged alike. Of a value's
// form only what it is recognised by stays: the scheme of a hash, the header of a
// token, the network of a card, the country of an account.
func (s *Set) StandIn(value []byte) []byte {
	out := plainStandIn(value)
	traits := TraitsOf(value)
	hit := s.Value(value, traits)
	alike := func(v []byte) bool {
		now := s.Value(v, TraitsOf(v))
		return now.Detector == hit.Detector && (now.at == hit.at && now.end == hit.end || !hit.Found())
	}
	switch {
	case alike(out):
		return out
	case !hit.Found() || len(value) > longestStandIn: // what stands in would be taken for something
		return bytes.Repeat([]byte{'x'}, len(value))
	}
	part := out[hit.at:hit.end]
	switch hit.Detector {
	case "card number":
		keep(part, value[hit.at:hit.end], 4)
		checkDigit(part)
	case "IBAN":
		keep(part, value[hit.at:hit.end], 2)
		checkDigits(part)
	default:
		if builtIn(value, traits).Detector == hit.Detector {
			keepForm(out, value, hit, alike)
		}
	}
	if !alike(out) { // a detector of the contract's own, which knows more than a form
		return plainStandIn(value)
	}
	return out
}

// plainStandIn replaces letters and digits by others of their sort, and what is no
// ASCII by question marks.
func plainStandIn(value []byte) []byte {
	out := make([]byte, len(value))
	for i, c := range value {
		out[i] = standIn(c)
	}
	if dateTime.Match(value) { // without its letters it is none
		for i, c := range value {
			if !digit(c) {
				out[i] = c
			}
		}
	}
	return out
}

// dateTime is a date-time of RFC 3339.
var dateTime = regexp.MustCompile(`^\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d:\d\d(\.\d+)?([Zz]|[+-]\d\d:\d\d)$`)

func standIn(c byte) byte {
	switch {
	case digit(c):
		return '1'
	case upper(c):
		return 'A'
	case c >= 'a' && c <= 'z':
		return 'a'
	case c >= 0x80:
		return '?'
	}
	return c
}

// keep puts back the first n letters and digits.
func keep(part, value []byte, n int) {
	for i := 0; i < len(value) && n > 0; i++ {
		part[i] = value[i]
		if letterOrDigit(value[i]) {
			n--
		}
	}
}

// keepForm puts back the words that value is recognised by: those without whose
// letters it would not be.
func keepForm(out, value []byte, hit Hit, alike func([]byte) bool) {
	try := bytes.Clone(value)
	for i := range try {
		if i < hit.at || i >= hit.end {
			try[i] = out[i]
		}
	}
	for i := hit.at; i < hit.end; {
		end := i + 1
		for end < hit.end && letterOrDigit(value[i]) && letterOrDigit(value[end]) && digit(value[i]) == digit(value[end]) {
			end++
		}
		copy(try[i:end], out[i:end])
		if !alike(try) {
			copy(try[i:end], value[i:end])
		}
		i = end
	}
	copy(out, try)
}

// checkDigit makes the last digit the one that the others call for.
func checkDigit(part []byte) {
	last := bytes.LastIndexAny(part, "0123456789")
	for c := byte('0'); c <= '9' && last >= 0; c++ {
		if part[last] = c; luhn(part) {
			return
		}
	}
}

// checkDigits does so for the third and fourth of an account number.
func checkDigits(part []byte) {
	for n := 2; n <= 98; n++ {
		part[2], part[3] = byte('0'+n/10), byte('0'+n%10)
		if mod97(part) {
			return
		}
	}
}
