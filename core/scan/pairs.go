package scan

import (
	"bytes"

	"inkret/core/catalog"
	"inkret/core/detect"
)

// Key-value lists say in one member what another means: {"key": "password", "value": "x"}. The value is judged as if
// it stood under that name.

// Where a telling name stands, besides the member's own.
const (
	besideKey    = "the key beside it"
	besideColumn = "the name of its column"
)

// pair is the key that was read in an object, as JSON; nil for none.
type pair struct{ key []byte }

// longestKey limits the keys that are read: what is longer is no name.
const longestKey = 100

// read remembers a key, if it is a text.
func (p *pair) read(value []byte) {
	if value = bytes.TrimLeft(value, " \t\r\n"); len(value) > 2 && len(value) <= longestKey && value[0] == '"' {
		p.key = value
	}
}

// paired returns the verdict on the value of a pair: what its key tells, or v where it tells nothing. Where no key was
// read yet, it is looked for behind the value.
func (w *walk) paired(v *verdict, said pair) *verdict {
	if v.field != nil || v.relation != nil || v.telling != catalog.Unclassed {
		return v
	}
	if said.key == nil {
		said = w.keyBehind()
	}
	if said.key == nil {
		return v
	}
	key := unquote(nil, said.key[1:len(said.key)-1])
	told := detect.TellKey(key)
	if told.Class == catalog.Unclassed || w.judge.isValue(key) {
		return v
	}
	return &verdict{nameInfo: nameInfo{telling: told.Class, tells: told, beside: besideKey}}
}

// mostBehind limits how many members behind a value are read in search of its key.
const mostBehind = 4

// keyBehind looks for the key behind a value that is neither object nor list.
func (w *walk) keyBehind() (said pair) {
	t := w.peek()
	defer w.peeked(&t)
	if c := t.space(); c == '{' || c == '[' || !t.pass(0) {
		return said
	}
	t.behind(func(name []byte, first byte, value []byte) bool {
		if first == '{' || first == '[' {
			return false
		}
		if detect.PartOf(name) != detect.PairKey {
			return true
		}
		said.read(value)
		return false
	})
	return said
}

// behind calls f with the names and values of the next few members of an object, and with the byte that each
// value begins with, as long as f reports true.
func (t *tokens) behind(f func(name []byte, first byte, value []byte) bool) {
	for range mostBehind {
		if more, ok := t.more('}'); !ok || !more || t.space() != '"' {
			return
		}
		name, ok := t.string()
		if !ok || !t.colon() {
			return
		}
		first, from := t.space(), t.pos
		if !t.pass(0) || !f(name.raw, first, t.data[from:t.pos]) {
			return
		}
	}
}
