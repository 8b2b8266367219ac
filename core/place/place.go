// Package place writes positions in JSON documents: as JSON Pointers (RFC 6901), which name one place, and as
// normalized JSONPaths (RFC 9535 section 2.7), which here may also stand for all elements.
package place

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// Root is the JSONPath of a body.
const Root = "$"

// Elements is the JSONPath segment for all elements of an array or all members of a map.
const Elements = "[*]"

// Below is the JSONPath segment for everything below a place.
const Below = "..*"

// AppendPointer appends a reference token to a JSON Pointer.
func AppendPointer(dst []byte, name []byte) []byte {
	dst = append(dst, '/')
	for _, c := range name {
		switch c {
		case '~':
			dst = append(dst, '~', '0')
		case '/':
			dst = append(dst, '~', '1')
		default:
			dst = append(dst, c)
		}
	}
	return dst
}

// AppendIndex appends an array index to a JSON Pointer.
func AppendIndex(dst []byte, index int) []byte {
	return strconv.AppendInt(append(dst, '/'), int64(index), 10)
}

// SplitPointer returns the reference tokens of a JSON Pointer. It reports false for invalid pointers.
func SplitPointer(pointer string) ([]string, bool) {
	if pointer == "" {
		return nil, true
	}
	if pointer[0] != '/' {
		return nil, false
	}
	tokens := strings.Split(pointer[1:], "/")
	for i, t := range tokens {
		for j := 0; j < len(t); j++ {
			if t[j] == '~' && (j+1 == len(t) || t[j+1] != '0' && t[j+1] != '1') {
				return nil, false
			}
		}
		tokens[i] = strings.ReplaceAll(strings.ReplaceAll(t, "~1", "/"), "~0", "~")
	}
	return tokens, true
}

// AppendName appends a member name to a JSONPath: `.name` for plain identifiers, otherwise `['…']` with the
// escapes of RFC 9535 section 2.7.
func AppendName(dst []byte, name []byte) []byte {
	if identifier(name) {
		return append(append(dst, '.'), name...)
	}
	dst = append(dst, '[', '\'')
	for i := 0; i < len(name); {
		c := name[i]
		if c >= utf8.RuneSelf {
			r, n := utf8.DecodeRune(name[i:])
			dst = utf8.AppendRune(dst, r)
			i += n
			continue
		}
		i++
		switch c {
		case '\b':
			dst = append(dst, `\b`...)
		case '\t':
			dst = append(dst, `\t`...)
		case '\n':
			dst = append(dst, `\n`...)
		case '\f':
			dst = append(dst, `\f`...)
		case '\r':
			dst = append(dst, `\r`...)
		case '\'':
			dst = append(dst, `\'`...)
		case '\\':
			dst = append(dst, `\\`...)
		default:
			if c < 0x20 {
				const hex = "0123456789abcdef"
				dst = append(dst, '\\', 'u', '0', '0', hex[c>>4], hex[c&15])
			} else {
				dst = append(dst, c)
			}
		}
	}
	return append(dst, '\'', ']')
}

// Name is [AppendName] for a single name.
func Name(name string) string { return string(AppendName(nil, []byte(name))) }

func identifier(name []byte) bool {
	for i, c := range name {
		letter := c == '_' || c|0x20 >= 'a' && c|0x20 <= 'z'
		if !letter && (i == 0 || c < '0' || c > '9') {
			return false
		}
	}
	return len(name) > 0
}

// Tokens returns the steps of a JSON Pointer, or of a JSONPath with names and [*] only; "*" stands for every
// element. It reports false for anything else.
func Tokens(text string) ([]string, bool) {
	if !strings.HasPrefix(text, Root) {
		return SplitPointer(text)
	}
	var tokens []string
	for rest := text[len(Root):]; rest != ""; {
		switch {
		case strings.HasPrefix(rest, Elements):
			tokens, rest = append(tokens, "*"), rest[len(Elements):]
		case rest[0] == '.':
			end := strings.IndexAny(rest[1:], ".[") + 1
			if end == 0 {
				end = len(rest)
			}
			if !identifier([]byte(rest[1:end])) {
				return nil, false
			}
			tokens, rest = append(tokens, rest[1:end]), rest[end:]
		case strings.HasPrefix(rest, "['"):
			end := strings.Index(rest, "']")
			if end < 2 || strings.Contains(rest[:end], `\`) {
				return nil, false
			}
			tokens, rest = append(tokens, rest[2:end]), rest[end+2:]
		default:
			return nil, false
		}
	}
	return tokens, true
}

// Path returns the JSONPath for the result of [Tokens].
func Path(tokens []string) string {
	path := []byte(Root)
	for _, t := range tokens {
		if t == "*" {
			path = append(path, Elements...)
		} else {
			path = AppendName(path, []byte(t))
		}
	}
	return string(path)
}

// Step is one step of a path.
type Step struct {
	Name string // of a member
	Any  bool   // every element, or every member of a map
	text string // as paths write it
}

// Steps returns the steps of a path as findings write it. It reports false for anything else.
func Steps(path string) ([]Step, bool) {
	rest, ok := strings.CutPrefix(path, Root)
	var steps []Step
	for ok && rest != "" {
		var s Step
		switch {
		case strings.HasPrefix(rest, Elements), strings.HasPrefix(rest, Below):
			s.Any, s.text = true, rest[:len(Elements)]
		case rest[0] == '.':
			end := 1 + len(rest[1:]) - len(strings.TrimLeft(rest[1:], letters))
			s.Name, s.text, ok = rest[1:end], rest[:end], end > 1
		case strings.HasPrefix(rest, "['"):
			s.Name, s.text, ok = quoted(rest)
		default: // of an element that is told apart from others
			s.Any = true
			end := strings.IndexByte(rest, ']')
			s.text, ok = rest[:end+1], rest[0] == '[' && end > 1
		}
		steps, rest = append(steps, s), rest[len(s.text):]
	}
	return steps, ok
}

const letters = "_0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"

// quoted reads a name as [AppendName] writes it between brackets.
func quoted(rest string) (name, text string, ok bool) {
	var plain []byte
	for i := len("['"); i < len(rest); i++ {
		switch c := rest[i]; {
		case c == '\'':
			end := min(i+len("']"), len(rest))
			return string(plain), rest[:end], rest[i:end] == "']"
		case c != '\\' || i+1 == len(rest):
			plain = append(plain, c)
		case rest[i+1] == 'u' && i+5 < len(rest):
			code, err := strconv.ParseUint(rest[i+2:i+6], 16, 8)
			if err != nil {
				return "", "", false
			}
			plain = append(plain, byte(code))
			i += len("u0000")
		default:
			i++
			if at := strings.IndexByte("btnfr", rest[i]); at >= 0 {
				plain = append(plain, "\b\t\n\f\r"[at])
			} else {
				plain = append(plain, rest[i])
			}
		}
	}
	return "", "", false
}

// Joined returns the path of steps below a root.
func Joined(steps []Step) string {
	var b strings.Builder
	for _, s := range steps {
		b.WriteString(s.text)
	}
	return b.String()
}
