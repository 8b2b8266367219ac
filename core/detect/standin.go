package detect

import (
	"bytes"
	"unicode/utf8"

	"inkret/core/catalog"
)

// Stand-ins replace values that are not kept. They contain nothing of the value except what it was recognised as,
// so that a body can be evaluated again.

// A stand-in of a recognised value begins with one of two private-use characters, for the whole value or a part of
// it, followed by a letter for what it was.
const (
	stoodWhole = '\ue000'
	stoodPart  = '\ue001'
	stoodKey   = '\ue002' // in place of a key that tells what the value beside it is
	firstCode  = '#'      // and on, up to the last of ASCII but for the backslash
)

// coded lists what a stand-in can be of, by position. Add new ones at the end: stand-ins are stored.
var coded = []Hit{
	{Detector: "detector of the contract", Class: catalog.Secret}, {Detector: "detector of the contract",
		Class: catalog.Personal},
	{Detector: "bcrypt hash", Class: catalog.Secret}, {Detector: "Argon2 hash", Class: catalog.Secret},
	{Detector: "scrypt hash", Class: catalog.Secret},
	{Detector: "PBKDF2 hash", Class: catalog.Secret}, {Detector: "crypt hash", Class: catalog.Secret},
	{Detector: "yescrypt hash", Class: catalog.Secret},
	{Detector: "signed token", Class: catalog.Secret}, {Detector: "private key", Class: catalog.Secret},
	{Detector: "card number", Class: catalog.Secret, checked: true},
	{Detector: "address with a password", Class: catalog.Secret}, {Detector: "address with a token",
		Class: catalog.Secret},
	{Detector: "one-time password secret", Class: catalog.Secret}, {Detector: "bearer token", Class: catalog.Secret},
	{Detector: "basic credentials", Class: catalog.Secret},
	{Detector: "session cookie", Class: catalog.Secret}, {Detector: "connection string", Class: catalog.Secret},
	{Detector: "access key", Class: catalog.Secret},
	{Detector: "e-mail address", Class: catalog.Personal, Format: "email"}, {Detector: "phone number",
		Class: catalog.Personal, Format: "phone"},
	{Detector: "IBAN", Class: catalog.Personal, Format: "iban"}, {Detector: "IP address", Class: catalog.Personal,
		Format: "ipv4"},
	{Detector: "IP address", Class: catalog.Personal, Format: "ipv6"}, {Detector: "hardware address",
		Class: catalog.Personal, Format: "mac"},
	{Detector: "coordinates", Class: catalog.Personal, Format: "coordinates"}, {Detector: "postal address",
		Class: catalog.Personal, Format: "address"},
	{Detector: "national number", Class: catalog.Personal, Format: nationalNumber,
		checked: true},
	{Detector: "secret, encoded", Class: catalog.Secret}, {Detector: "personal value, encoded",
		Class: catalog.Personal},
	{Detector: "phpass hash", Class: catalog.Secret}, {Detector: "salted hash", Class: catalog.Secret},
	{Detector: "SCRAM verifier", Class: catalog.Secret}, {Detector: "directory hash", Class: catalog.Secret},
}

// Positions of what stands for several detectors.
const (
	codedSecret, codedPersonal = 0, 1
	codedNumber                = 27
	codedSecretBehind          = 28
	codedPersonalBehind        = 29
)

// codeOf returns the position of a hit in coded.
func codeOf(h Hit) int {
	for i, c := range coded {
		if c.Detector == h.Detector && c.Format == h.Format {
			return i
		}
	}
	switch {
	case bytes.HasSuffix([]byte(h.Detector), []byte(", encoded")) && h.Class == catalog.Secret:
		return codedSecretBehind
	case bytes.HasSuffix([]byte(h.Detector), []byte(", encoded")):
		return codedPersonalBehind
	case h.Format == nationalNumber:
		return codedNumber
	case h.Class == catalog.Secret:
		return codedSecret
	}
	return codedPersonal
}

// StandIn returns a replacement for a value: text of the same length with letters and digits replaced, or text that
// only says what was recognised.
func (s *Set) StandIn(value []byte) []byte {
	const least = utf8.UTFMax
	if hit := s.Value(value, TraitsOf(value)); hit.Found() && len(value) >= least {
		mark := stoodPart
		if hit.Whole(value) {
			mark = stoodWhole
		}
		return marked(mark, codeOf(hit), len(value))
	}
	out := plainStandIn(value)
	if s.Value(out, TraitsOf(out)).Found() { // it would be taken for what value is not
		return bytes.Repeat([]byte{'x'}, len(value))
	}
	return out
}

// marked returns a stand-in of n bytes that says what is at a position of a list.
func marked(mark rune, position, n int) []byte {
	code := byte(firstCode + position)
	if code >= '\\' {
		code++
	}
	out := append(utf8.AppendRune(make([]byte, 0, n), mark), code)
	for len(out) < n {
		out = append(out, 'x')
	}
	return out
}

// markedAt undoes marked.
func markedAt(code byte) int {
	if code > '\\' {
		code--
	}
	return int(code) - firstCode
}

// StandInKey returns a replacement for the key of a pair: [Set.StandIn], or text that only says what kind of name it
// was. Keys of three bytes have no room for that.
func (s *Set) StandInKey(value []byte) []byte {
	told := Tell(value)
	if told.Class == catalog.Unclassed || len(value) < utf8.UTFMax || s.Value(value, TraitsOf(value)).Found() {
		return s.StandIn(value)
	}
	return marked(stoodKey, int(told.group), len(value))
}

// StandInOf returns a replacement for the text of a member, or in its list: the key of a pair and the names of columns
// keep what kind of name they are.
func (s *Set) StandInOf(member, value []byte) []byte {
	if part := PartOf(member); part == PairKey || part == ColumnNames {
		return s.StandInKey(value)
	}
	return s.StandIn(value)
}

// TellKey returns what the key of a pair, or its stand-in, says of the value beside it.
func TellKey(key []byte) Telling {
	mark, n := utf8.DecodeRune(key)
	if mark != stoodKey || len(key) <= n {
		return Tell(key)
	}
	i := markedAt(key[n])
	if i < 0 || i >= len(vocabulary) {
		return Telling{}
	}
	return Telling{vocabulary[i].class, uint8(i), vocabulary[i].form}
}

// Stood returns what was recognised in the value that a stand-in replaces.
func Stood(text []byte) Hit {
	mark, n := utf8.DecodeRune(text)
	if mark != stoodWhole && mark != stoodPart || len(text) <= n {
		return Hit{}
	}
	code := markedAt(text[n])
	if code < 0 || code >= len(coded) {
		return Hit{}
	}
	hit := coded[code]
	if hit.end = len(text); mark == stoodPart {
		hit.at = 1
	}
	return hit
}

// plainStandIn replaces letters and digits by others of their kind, and non-ASCII characters by question marks.
func plainStandIn(value []byte) []byte {
	out := make([]byte, len(value))
	keeps := dateTime(value) // which is none without its letters
	for i, c := range value {
		switch {
		case digit(c):
			c = '1'
		case keeps:
		case upper(c):
			c = 'A'
		case c >= 'a' && c <= 'z':
			c = 'a'
		case c >= 0x80:
			c = '?'
		}
		out[i] = c
	}
	return out
}

// dateTime reports whether a value is a date-time of RFC 3339.
func dateTime(v []byte) bool {
	const form = "1111-11-11T11:11:11"
	if len(v) <= len(form) {
		return false
	}
	for i := range form {
		switch c := v[i]; form[i] {
		case '1':
			if !digit(c) {
				return false
			}
		case 'T':
			if c != 'T' && c != 't' && c != ' ' {
				return false
			}
		default:
			if c != form[i] {
				return false
			}
		}
	}
	rest := v[len(form):]
	if rest[0] == '.' {
		n := figures.run(rest, 1)
		if n == 1 {
			return false
		}
		rest = rest[n:]
	}
	switch {
	case len(rest) == 1:
		return rest[0]|0x20 == 'z'
	case len(rest) == len("+11:11") && (rest[0] == '+' || rest[0] == '-'):
		return figures.run(rest, 1) == 3 && rest[3] == ':' && figures.run(rest, 4) == len(rest)
	}
	return false
}
