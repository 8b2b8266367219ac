package intake

import (
	"strconv"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// shortEscapes are what follows a backslash (RFC 8259 section 7), but for u.
var shortEscapes = [256]byte{'"': '"', '\\': '\\', '/': '/', 'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t'}

// unquoted decodes a valid JSON string, as [jsontext.AppendUnquote] does. Bodies in recordings are long and full of
// escapes: this takes half the time.
func unquoted(v []byte) []byte {
	out := make([]byte, len(v))
	n, last := 0, len(v)-1
	for i := 1; i < last; i++ {
		c := v[i]
		if c != '\\' {
			out[n] = c
			n++
			continue
		}
		i++
		if short := shortEscapes[v[i]]; short != 0 {
			out[n] = short
			n++
			continue
		}
		r := escaped(v[i-1:])
		i += 4
		if utf16.IsSurrogate(r) {
			if second := escaped(v[i+1:]); utf16.DecodeRune(r, second) != utf8.RuneError {
				r = utf16.DecodeRune(r, second)
				i += 6
			} else {
				r = utf8.RuneError
			}
		}
		n += utf8.EncodeRune(out[n:], r)
	}
	if out = out[:n]; !utf8.Valid(out) {
		out, _ = jsontext.AppendUnquote(out[:0], v) // it replaces what is not UTF-8
	}
	return out
}

// escaped returns the character of an escape with its number, which text begins with; -1 for another text.
func escaped(text []byte) rune {
	if len(text) < 6 || text[0] != '\\' || text[1] != 'u' {
		return -1
	}
	n, err := strconv.ParseUint(string(text[2:6]), 16, 32)
	if err != nil {
		return -1
	}
	return rune(n)
}
