package compare

import (
	"bytes"
	"slices"
	"sort"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"inkret/core/detect"
	"inkret/core/exchange"
	"inkret/core/place"
)

// Shift is how a place of a body changed.
type Shift string

const (
	Gone    Shift = "gone"
	Added   Shift = "added"
	Renamed Shift = "renamed"
	Retyped Shift = "retyped"
	Resized Shift = "resized" // the same, and of another weight
	Same    Shift = "same"
)

// BodyPlace is a place in one body; elements of a list count as one place.
type BodyPlace struct {
	Types  []string // JSON types of the values there, sorted
	Values int      // how many there are
	Bytes  int      // of all of them, names included
}

// BodyChange is a place in two bodies side by side.
type BodyChange struct {
	Path   string // JSONPath, with [*] for elements and names that are data
	From   string // what it was called, where it is renamed
	Shift  Shift
	Before *BodyPlace // nil where it was not
	After  *BodyPlace // nil where it is no more
	Below  int        // places inside of it that came or went with it
}

// Saved returns how many bytes were saved.
func (c *BodyChange) Saved() int {
	n := 0
	if c.Before != nil {
		n += c.Before.Bytes
	}
	if c.After != nil {
		n -= c.After.Bytes
	}
	return n
}

// Body is a body to compare, with its content type.
type Body struct {
	Type string
	Data []byte // codings and charset undone
}

// Bodies compares a body with the one before it by structure: the places in either, in the order of their paths.
// The contents of something that was added or removed as a whole count with it.
func Bodies(before, after Body) []BodyChange {
	was, is := measure(before), measure(after)
	renamed := renames(was, is)
	var all []BodyChange
	for _, path := range slices.Compact(slices.Sorted(keysOf(was.places, is.places))) {
		b, a := was.places[path], is.places[path]
		c := BodyChange{Path: path, Before: b, After: a}
		switch from := renamed.from[path]; {
		case renamed.to[path] != "" || inside(path, renamed.to):
			continue // told where it is now
		case from != "":
			c.Shift, c.From, c.Before = Renamed, from, was.places[from]
		case inside(path, renamed.from):
			continue
		case a == nil:
			c.Shift = Gone
		case b == nil:
			c.Shift = Added
		case !slices.Equal(a.Types, b.Types):
			c.Shift = Retyped
		case a.Bytes != b.Bytes || a.Values != b.Values:
			c.Shift = Resized
		default:
			c.Shift = Same
		}
		if c.Shift == Gone || c.Shift == Added {
			if i := slices.IndexFunc(all, func(top BodyChange) bool {
				return top.Shift == c.Shift &&
					below(path, top.Path)
			}); i >= 0 {
				all[i].Below++
				continue
			}
		}
		all = append(all, c)
	}
	return all
}

func keysOf(maps ...map[string]*BodyPlace) func(func(string) bool) {
	return func(yield func(string) bool) {
		for _, m := range maps {
			for path := range m {
				if !yield(path) {
					return
				}
			}
		}
	}
}

// below reports whether a path is inside another.
func below(path, top string) bool {
	rest, ok := strings.CutPrefix(path, top)
	return ok && rest != "" && (rest[0] == '.' || rest[0] == '[' || rest[0] == ' ')
}

func inside(path string, tops map[string]string) bool {
	for top := range tops {
		if below(path, top) {
			return true
		}
	}
	return false
}

// renaming is a pair of places that was probably renamed.
type renaming struct{ to, from map[string]string }

// renames pairs removed with added members of the same object: the only two of their type, or those where one
// name's words contain the other's.
func renames(was, is *measured) renaming {
	r := renaming{map[string]string{}, map[string]string{}}
	gone, came := map[string][]string{}, map[string][]string{}
	collect := func(into map[string][]string, of, other *measured) {
		for path, parent := range of.parents {
			if other.places[path] == nil && other.places[parent] != nil {
				into[parent] = append(into[parent], path)
			}
		}
	}
	collect(gone, was, is)
	collect(came, is, was)
	for parent, left := range gone {
		sort.Strings(left)
		right := came[parent]
		sort.Strings(right)
		for _, old := range left {
			var fits []string
			for _, now := range right {
				if r.from[now] == "" && slices.Equal(was.places[old].Types, is.places[now].Types) &&
					alike(was.names[old], is.names[now]) {
					fits = append(fits, now)
				}
			}
			if len(fits) == 0 && len(left) == 1 && len(right) == 1 &&
				was.places[old].Values == is.places[right[0]].Values && slices.Equal(was.places[old].Types,
				is.places[right[0]].Types) && !slices.Contains(was.places[old].Types, "object") {
				fits = right
			}
			if len(fits) == 1 {
				r.to[old], r.from[fits[0]] = fits[0], old
			}
		}
	}
	return r
}

// alike reports whether one name's words contain all of the other's.
func alike(a, b string) bool {
	few, many := detect.Words(nil, []byte(a)), detect.Words(nil, []byte(b))
	if len(few) > len(many) {
		few, many = many, few
	}
	return len(few) > 0 && !slices.ContainsFunc(few, func(w string) bool { return !slices.Contains(many, w) })
}

// measured is a body as a list of places.
type measured struct {
	places  map[string]*BodyPlace
	parents map[string]string // of members
	names   map[string]string
	set     detect.Set
}

func measure(b Body) *measured {
	m := &measured{places: map[string]*BodyPlace{}, parents: map[string]string{}, names: map[string]string{}}
	parts, err := exchange.Parts(nil, b.Type, b.Data)
	if err == nil && len(parts) > 0 {
		for i := range parts {
			prefix := place.Root
			if parts[i].Place != "" {
				prefix = parts[i].Place + " >> " + place.Root
			}
			m.text(prefix, parts[i].Text)
		}
		return m
	}
	m.text(place.Root, b.Data)
	return m
}

func (m *measured) text(path string, text []byte) {
	r := &bodyReader{measured: m, text: text, d: jsontext.NewDecoder(bytes.NewBuffer(slices.Clone(text)),
		jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))}
	r.value(path, -1)
}

type bodyReader struct {
	*measured
	text []byte
	d    *jsontext.Decoder
}

// next returns the start of the next token.
func (r *bodyReader) next() int {
	at := int(r.d.InputOffset())
	for at < len(r.text) && strings.IndexByte(" \t\r\n,:", r.text[at]) >= 0 {
		at++
	}
	return at
}

var typeNames = map[jsontext.Kind]string{'n': "null", 't': "boolean", 'f': "boolean", '"': "string", '0': "number",
	'{': "object", '[': "array"}

// value reads a value at a path; start is where its name begins, or -1. It returns false if the body is cut off.
func (r *bodyReader) value(path string, start int) bool {
	kind := r.d.PeekKind()
	if start < 0 {
		start = r.next()
	}
	if typeNames[kind] == "" {
		return false
	}
	ok := true
	switch kind {
	case '{':
		ok = r.object(path)
	case '[':
		r.d.ReadToken()
		for ok && r.d.PeekKind() != ']' {
			ok = r.value(path+place.Elements, -1)
		}
		if ok {
			_, err := r.d.ReadToken()
			ok = err == nil
		}
	default:
		_, err := r.d.ReadToken()
		ok = err == nil
	}
	p := r.places[path]
	if p == nil {
		p = &BodyPlace{}
		r.places[path] = p
	}
	if name := typeNames[kind]; !slices.Contains(p.Types, name) {
		p.Types = append(p.Types, name)
		sort.Strings(p.Types)
	}
	p.Values++
	p.Bytes += int(r.d.InputOffset()) - start
	return ok
}

func (r *bodyReader) object(path string) bool {
	r.d.ReadToken()
	for r.d.PeekKind() == '"' {
		start := r.next()
		t, err := r.d.ReadToken()
		if err != nil {
			return false
		}
		name := []byte(t.String())
		child := string(place.AppendName([]byte(path), name))
		if r.isData(name) {
			child = path + place.Elements
		} else {
			r.parents[child], r.names[child] = path, string(name)
		}
		if !r.value(child, start) {
			return false
		}
	}
	_, err := r.d.ReadToken()
	return err == nil
}

// isData reports whether a member's name is data, such as an id or an address.
func (m *measured) isData(name []byte) bool {
	digits := len(name) > 0
	for _, c := range name {
		digits = digits && c >= '0' && c <= '9'
	}
	return digits || m.set.Value(name, detect.TraitsOf(name)).Found()
}
