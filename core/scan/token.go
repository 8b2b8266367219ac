package scan

import (
	"fmt"
	"unicode/utf16"
	"unicode/utf8"

	"inkret/core/detect"
)

// SyntaxError says where a body is no longer valid JSON (RFC 8259).
type SyntaxError struct {
	Offset int // of the byte at which it broke
	Reason string
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("%s at byte %d", e.Reason, e.Offset) }

// maxDepth limits nesting, as in encoding/json. Deeper bodies are only known as attacks.
const maxDepth = 10_000

// tokens is a JSON tokenizer. Strings follow RFC 8259; invalid UTF-8 and lone surrogates are read as U+FFFD, as
// client parsers do.
type tokens struct {
	data []byte
	pos  int // of the next unread byte
	err  *SyntaxError

	// for a body that is read through a window; see window.go
	before  int   // where data stands in the body
	follows bool  // more follows data
	short   bool  // something was looked for behind data that may follow it
	readErr error // why nothing follows
}

func (t *tokens) fail(at int, reason string) bool {
	if t.err == nil {
		if at >= len(t.data) {
			t.short = t.follows
			at, reason = len(t.data), "the body ends in the middle"
			if t.readErr != nil {
				reason = "the body cannot be read further (" + t.readErr.Error() + ")"
			}
		}
		t.err = &SyntaxError{t.before + at, reason}
	}
	return false
}

// byteMarks holds the traits of each byte, and whether it ends the plain run of a string.
var byteMarks = func() (m [256]uint32) {
	for i := range m {
		m[i] = uint32(detect.Traits[i])
		if i < 0x20 || i == '"' || i == '\\' {
			m[i] |= stops
		}
	}
	return m
}()

const stops = 1 << 31

// space skips white space and returns the next byte, or 0 at the end.
func (t *tokens) space() byte {
	data, i := t.data, t.pos
	for i < len(data) {
		c := data[i]
		if c > ' ' || c != ' ' && c != '\n' && c != '\t' && c != '\r' {
			t.pos = i
			return c
		}
		i++
	}
	t.pos = i
	return 0
}

// str is a string token: its raw bytes between the quotes, their traits, and whether it has escapes.
type str struct {
	raw     []byte
	traits  detect.Trait
	escaped bool
}

// string reads a string; the next byte is its opening quote.
func (t *tokens) string() (s str, ok bool) {
	data := t.data
	start := t.pos + 1
	var marks uint32
	for i := start; i < len(data); {
		for i+8 <= len(data) { // eight bytes at a time while none of them ends the run
			c := data[i : i+8 : i+8]
			m := byteMarks[c[0]] | byteMarks[c[1]] | byteMarks[c[2]] | byteMarks[c[3]] |
				byteMarks[c[4]] | byteMarks[c[5]] | byteMarks[c[6]] | byteMarks[c[7]]
			if m&stops != 0 {
				break
			}
			marks |= m
			i += 8
		}
		if i == len(data) {
			break
		}
		m := byteMarks[data[i]]
		if m&stops == 0 {
			marks |= m
			i++
			continue
		}
		// traits of the raw text do not count: escapes are decoded first
		switch data[i] {
		case '"':
			t.pos = i + 1
			s.raw, s.traits = data[start:i], detect.Trait(marks&^stops)
			return s, true
		case '\\':
			s.escaped = true
			if i+1 >= len(data) {
				return s, t.fail(len(data), "")
			}
			switch data[i+1] {
			case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
				i += 2
			case 'u':
				for k := i + 2; k < i+6; k++ {
					if k >= len(data) || hexDigit(data[k]) < 0 {
						return s, t.fail(k, "a \\u escape has four hexadecimal digits")
					}
				}
				i += 6
			default:
				return s, t.fail(i+1, "no such escape in a string")
			}
		default:
			return s, t.fail(i, "a control character stands in a string")
		}
	}
	return s, t.fail(len(data), "")
}

func hexDigit(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c|0x20 >= 'a' && c|0x20 <= 'f':
		return int(c|0x20-'a') + 10
	}
	return -1
}

// number reads a number; the next byte is '-' or a digit. whole reports whether it has neither fraction nor
// exponent.
func (t *tokens) number() (raw []byte, whole, ok bool) {
	data, i := t.data, t.pos
	if n := i; data[n]-'1' < 9 { // mostly they are short, whole and positive
		for n++; n < len(data) && data[n]-'0' < 10; n++ {
		}
		if n < len(data) && data[n] != '.' && data[n]|0x20 != 'e' {
			t.pos = n
			return data[i:n], true, true
		}
	}
	digits := func() bool {
		from := i
		for i < len(data) && data[i]-'0' < 10 {
			i++
		}
		return i > from
	}
	if data[i] == '-' {
		i++
	}
	whole = true
	switch {
	case i < len(data) && data[i] == '0':
		i++
	case !digits():
		return nil, false, t.fail(i, "a number needs a digit here")
	}
	if i < len(data) && data[i] == '.' {
		i++
		if whole = false; !digits() {
			return nil, false, t.fail(i, "a number needs a digit after its point")
		}
	}
	if i < len(data) && data[i]|0x20 == 'e' {
		i++
		if i < len(data) && (data[i] == '+' || data[i] == '-') {
			i++
		}
		if whole = false; !digits() {
			return nil, false, t.fail(i, "a number needs a digit in its exponent")
		}
	}
	if i == len(data) && t.follows {
		return nil, false, t.fail(i, "")
	}
	raw = data[t.pos:i]
	t.pos = i
	return raw, whole, true
}

// literal reads null, true or false.
func (t *tokens) literal() bool {
	want := "null"
	switch t.data[t.pos] {
	case 't':
		want = "true"
	case 'f':
		want = "false"
	}
	for k := 0; k < len(want); k++ {
		if i := t.pos + k; i >= len(t.data) || t.data[i] != want[k] {
			return t.fail(i, "no JSON value is written like this")
		}
	}
	t.pos += len(want)
	return true
}

// unquote appends the decoded text of a raw string to dst.
func unquote(dst, raw []byte) []byte {
	for i := 0; i < len(raw); {
		c := raw[i]
		if c != '\\' {
			dst = append(dst, c)
			i++
			continue
		}
		switch c = raw[i+1]; c {
		case 'b':
			c = '\b'
		case 'f':
			c = '\f'
		case 'n':
			c = '\n'
		case 'r':
			c = '\r'
		case 't':
			c = '\t'
		case 'u':
			r := escape(raw[i:])
			i += 6
			if utf16.IsSurrogate(r) {
				low := rune(-1)
				if i+6 <= len(raw) && raw[i] == '\\' && raw[i+1] == 'u' {
					low = escape(raw[i:])
				}
				if r = utf16.DecodeRune(r, low); r != utf8.RuneError {
					i += 6
				}
			}
			dst = utf8.AppendRune(dst, r)
			continue
		}
		dst = append(dst, c)
		i += 2
	}
	return dst
}

func escape(raw []byte) rune {
	r := 0
	for _, c := range raw[2:6] {
		r = r<<4 | hexDigit(c)
	}
	return rune(r)
}

// pass skips a value.
func (t *tokens) pass(depth int) bool {
	if depth > maxDepth {
		return t.fail(t.pos, fmt.Sprintf("the body nests deeper than %d levels", maxDepth))
	}
	switch c := t.space(); c {
	case '{', '[':
		closing := c + 2 // '}' follows '{' by two, ']' follows '[' by two
		t.pos++
		for first := true; ; first = false {
			next := t.space()
			if next == closing && first {
				t.pos++
				return true
			}
			if c == '{' {
				if next != '"' {
					return t.fail(t.pos, "a member needs a name in quotes here")
				}
				if _, ok := t.string(); !ok || !t.colon() {
					return false
				}
			}
			if !t.pass(depth + 1) {
				return false
			}
			if more, ok := t.more(closing); !ok || !more {
				return ok
			}
		}
	case '"':
		_, ok := t.string()
		return ok
	default:
		return t.scalar(c)
	}
}

// scalar skips a value that is neither string, object nor array; c is its first byte.
func (t *tokens) scalar(c byte) bool {
	switch {
	case c == '-' || c-'0' < 10:
		_, _, ok := t.number()
		return ok
	case c == 'n' || c == 't' || c == 'f':
		return t.literal()
	}
	return t.fail(t.pos, "no JSON value is written like this")
}

func (t *tokens) colon() bool {
	if t.pos < len(t.data) && t.data[t.pos] == ':' {
		t.pos++
		return true
	}
	if t.space() != ':' {
		return t.fail(t.pos, "a colon is missing after a name")
	}
	t.pos++
	return true
}

// more reads what follows a member or element: a comma, or the closing bracket.
func (t *tokens) more(closing byte) (more, ok bool) {
	if t.pos < len(t.data) && t.data[t.pos] == ',' {
		t.pos++
		return true, true
	}
	switch t.space() {
	case ',':
		t.pos++
		return true, true
	case closing:
		t.pos++
		return false, true
	}
	return false, t.fail(t.pos, "a comma or closing bracket is missing")
}
