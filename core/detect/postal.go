package detect

import (
	"bytes"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A postal address: a street with a number, and a place with a postcode behind a comma or line end. Street words of
// several languages.

var (
	streetsBehind = strings.Fields(`street st st. road rd rd. avenue ave ave. lane drive close quay square terrace way court
		row`)  // 12 Old Quay Road
	streetEndings = strings.Fields(`straße strasse str. weg gasse platz allee damm ufer straat laan kade gracht plein vägen
		gatan gata vej gade`)  // Hafenstraße 12
	// rue du Quai 12
	streetsBefore = strings.Fields(`rue avenue boulevard calle avenida plaza via viale piazza rua ulica ul.`)
	// 12, rue du Quai
	streetsFrench = []string{"rue", "avenue", "boulevard"}
)

const (
	shortestPostal = 16
	longestPostal  = 200
	mostWords      = 4 // of a street's name
)

func postal(v []byte) Hit {
	if len(v) >= shortestPostal && len(v) <= longestPostal && hasPostcode(v) && hasStreet(v) {
		return personal("postal address", "address", 0, len(v))
	}
	return Hit{}
}

// hasPostcode looks behind each comma and line end for a postcode, with the name of a place before it or without.
func hasPostcode(v []byte) bool {
	for i, c := range v {
		if c != ',' && c != '\n' {
			continue
		}
		behind := v[i+1:]
		if placeAt(behind) || len(behind) > 0 && behind[0] == ' ' && placeAt(behind[1:]) {
			return true
		}
	}
	return false
}

// placeAt reports whether a text begins with a postcode, or with the name of a place and one.
func placeAt(v []byte) bool {
	const shortestPlace, longestPlace = 2, 30
	if postcodeAt(v) {
		return true
	}
	for at, n := 0, 0; at < len(v) && n <= longestPlace; n++ {
		r, size := utf8.DecodeRune(v[at:])
		if (r == ' ' || r == ',') && n >= shortestPlace && postcodeAt(bytes.TrimLeft(v[at:], " ,")) {
			return true
		}
		if !unicode.IsLetter(r) && r != '\'' && r != ' ' && r != '.' && r != '-' {
			break
		}
		at += size
	}
	return false
}

// postcodeAt reports whether a text begins with a postcode: 12345, 1234 AB, 123 45, 12-345 or AB1 2CD, with the letters
// of a country before it or without.
func postcodeAt(v []byte) bool {
	if n := capitals(v); (n == 1 || n == 2) && n < len(v) && v[n] == '-' {
		v = v[n+1:]
	}
	n := figures.run(v, 0)
	rest := v[n:]
	switch n {
	case 0:
		return britishCode(v)
	case 2:
		return len(rest) > 3 && rest[0] == '-' && figures.run(rest, 1) == 4 && ends(rest[4:])
	case 3:
		return len(rest) > 2 && rest[0] == ' ' && figures.run(rest, 1) == 3 && ends(rest[3:])
	case 4, 5:
		letters := bytes.TrimPrefix(rest, []byte(" "))
		return ends(rest) || capitals(letters) >= 2 && ends(letters[2:])
	}
	return false
}

// britishCode reports whether a text begins with a postcode such as AB1 2CD, AB12CD or A1B 2CD.
func britishCode(v []byte) bool {
	n := capitals(v)
	if n < 1 || n > 2 || n >= len(v) || !digit(v[n]) {
		return false
	}
	second := func(v []byte) bool {
		v = bytes.TrimPrefix(v, []byte(" "))
		return len(v) >= 3 && digit(v[0]) && capitals(v[1:]) >= 2 && ends(v[3:])
	}
	rest := v[n+1:]
	return second(rest) || len(rest) > 0 && (upper(rest[0]) || digit(rest[0])) && second(rest[1:])
}

// capitals returns how many capital letters of ASCII a text begins with.
func capitals(v []byte) (n int) {
	for n < len(v) && upper(v[n]) {
		n++
	}
	return n
}

// ends reports whether a word ends before a text.
func ends(rest []byte) bool { return len(rest) == 0 || !letterOrDigit(rest[0]) && rest[0] != '_' }

// hasStreet looks for the name of a street and a number beside it.
func hasStreet(v []byte) bool {
	words := bytes.Split(v, []byte(" "))
	for i, w := range words {
		if i+1 == len(words) {
			return false
		}
		if houseNumber(w, true) && streetBehind(words[i+1:]) ||
			houseNumber(w, false) && i+2 < len(words) && oneOf(words[i+1], streetsFrench) ||
			endsInStreet(w) && numberAt(words[i+1]) || oneOf(lastWord(w), streetsBefore) && numberBehind(words[i+1:]) {
			return true
		}
	}
	return false
}

// houseNumber reports whether a word ends in one to five digits, a letter behind them where one may be, with a comma or
// without.
func houseNumber(w []byte, letter bool) bool {
	w = bytes.TrimSuffix(w, []byte(","))
	w = lastWord(w)
	n := figures.run(w, 0)
	return n >= 1 && n <= 5 && (n == len(w) || letter && n+1 == len(w) && w[n]|0x20 >= 'a' && w[n]|0x20 <= 'z')
}

// lastWord returns the letters and digits that a text ends in, with a full stop behind them.
func lastWord(w []byte) []byte {
	start := len(w)
	if start > 0 && w[start-1] == '.' {
		start--
	}
	for start > 0 && (letterOrDigit(w[start-1]) || w[start-1] == '_') {
		start--
	}
	return w[start:]
}

// numberAt reports whether a word begins with one to five digits.
func numberAt(w []byte) bool {
	n := figures.run(w, 0)
	return n >= 1 && n <= 5 && ends(w[n:])
}

// streetBehind reports whether one to four words come first and then one for a street.
func streetBehind(words [][]byte) bool {
	for i, w := range words {
		if i > 0 && beginsWith(w, streetsBehind) {
			return true
		}
		if i == mostWords || !name(w) {
			return false
		}
	}
	return false
}

// numberBehind reports whether one to five words come first and then a number; the last of them may have a comma.
func numberBehind(words [][]byte) bool {
	for i, w := range words {
		if i > 0 && numberIn(words[i:]) {
			return true
		}
		last := bytes.TrimSuffix(w, []byte(","))
		if i > mostWords || !name(last) {
			return false
		}
		if len(last) < len(w) {
			return i+1 < len(words) && numberIn(words[i+1:])
		}
	}
	return false
}

// numberIn reports whether words begin with a number, with an n before it or without: 12, n12, nº 12.
func numberIn(words [][]byte) bool {
	w := words[0]
	if numberAt(w) || len(w) == 0 || w[0]|0x20 != 'n' {
		return numberAt(w)
	}
	rest := w[1:]
	for _, sign := range []string{"º", "°", "."} {
		if is := bytes.HasPrefix(rest, []byte(sign)); is {
			rest = rest[len(sign):]
			break
		}
	}
	return numberAt(rest) || len(rest) == 0 && len(words) > 1 && numberAt(words[1])
}

// name reports whether a word consists of letters, with signs as in names.
func name(w []byte) bool {
	for _, r := range string(w) {
		if !unicode.IsLetter(r) && r != '\'' && r != '.' && r != '-' {
			return false
		}
	}
	return len(w) > 0
}

// oneOf reports whether a word is one of a list, in any case.
func oneOf(w []byte, list []string) bool {
	for _, s := range list {
		if len(w) == len(s) && bytes.EqualFold(w, []byte(s)) {
			return true
		}
	}
	return false
}

// beginsWith reports whether a word begins with one of a list, in any case, and that one ends there.
func beginsWith(w []byte, list []string) bool {
	for _, s := range list {
		if len(w) >= len(s) && bytes.EqualFold(w[:len(s)], []byte(s)) && ends(w[len(s):]) {
			return true
		}
	}
	return false
}

// endsInStreet reports whether a word ends as streets do, in any case.
func endsInStreet(w []byte) bool {
	for _, s := range streetEndings {
		if len(w) >= len(s) && bytes.EqualFold(w[len(w)-len(s):], []byte(s)) {
			return true
		}
	}
	return false
}
