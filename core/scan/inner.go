package scan

import (
	"bytes"
	"encoding/base64"
	"errors"
	"sort"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/place"
	"inkret/core/severity"
)

// Bodies inside bodies: a string that contains JSON is evaluated after the body around it, as a separate body whose
// places begin with the string's place.

// inner is a body inside another.
type inner struct {
	path, pointer string // of what it stands in, " >> " behind them; empty for the capture's body
	text          text
	cover         catalog.Class // classes up to this are granted there
	part          *exchange.Part
	at            int // byte of the capture's body
	depth         int
}

// Within stands in a path between what a body stands in, or the type of an object, and the path in it.
const Within = within

const (
	within = " >> "
	// maxInner limits how deeply bodies are nested in bodies.
	maxInner = 4
	// manyInner limits the number of bodies in one body.
	manyInner = 10_000
)

// embedded returns the JSON object or list that a string contains as text or base64 (RFC 4648, either alphabet), or
// nil.
func embedded(text []byte) []byte {
	switch text = bytes.TrimSpace(text); {
	case len(text) < 3:
		return nil
	case text[0] == '{' || text[0] == '[':
		if isJSON(text) {
			return bytes.Clone(text)
		}
		return nil
	}
	plain := make([]byte, base64.RawStdEncoding.DecodedLen(len(text))) // as much as text without padding can hold
	for _, alphabet := range []*base64.Encoding{base64.RawURLEncoding, base64.RawStdEncoding} {
		n, err := alphabet.Decode(plain, bytes.TrimRight(text, "="))
		if err == nil && isJSON(bytes.TrimSpace(plain[:n])) {
			return bytes.TrimSpace(plain[:n])
		}
	}
	return nil
}

// mayEmbed is a cheap test for [embedded]: '{' and '[' as they are, or as base64 begins with them.
func mayEmbed(text []byte) bool {
	switch text[0] {
	case '{', '[', 'e', 'W', ' ', '\n', '\t', '\r':
		return true
	}
	return false
}

func isJSON(text []byte) bool {
	if len(text) < 3 || text[0] != '{' && text[0] != '[' {
		return false
	}
	t := tokens{data: text}
	if !t.pass(0) || t.space() != 0 || t.pos != len(text) {
		return false
	}
	t = tokens{data: text, pos: 1}
	c := t.space()
	return c != '}' && c != ']'
}

// embed queues the JSON found in the string that was just read. cover is the highest class that the string's grant
// covers.
func (w *walk) embed(cover catalog.Class, start int) {
	held := text{data: w.embeddedText}
	w.embeddedText = nil
	if held.data == nil || len(w.inner) >= manyInner {
		return
	}
	e := w.entry()
	w.inner = append(w.inner, inner{path: e.path + within, pointer: w.prefixPointer + string(w.pointer(nil)) + within,
		text: held, cover: cover, at: w.origin(start), depth: w.nesting + 1})
}

// origin maps byte i of what is being read to the byte of the capture's body.
func (w *walk) origin(i int) int {
	switch {
	case w.part != nil:
		return w.part.Origin(i)
	case w.nesting > 0:
		return w.base
	}
	return i
}

// weight returns the length from start to end in the capture's body.
func (w *walk) weight(start, end int) int {
	if w.part == nil {
		return end - start
	}
	return w.part.Weight(start, end)
}

// judged is the combined result of a capture's bodies.
type judged struct {
	spots   []Spot
	excess  int
	private bool
	bytes   int // of the body, where it was not held
	err     error
}

// bodies evaluates the parts of a body, and then the bodies inside them. The plan applies to the part at the
// response's place; everything else is swept.
func (w *walk) bodies(c *exchange.Capture, r *contract.Response, plan *contract.Plan) judged {
	var parts []exchange.Part
	var err error
	media := c.Response.Header.Get("Content-Type")
	switch {
	case c.Response.Long != nil:
		parts = append(w.parts[:0], exchange.Part{})
	case w.message.Type != nil && exchange.HoldsMessages(media):
		var one exchange.Part
		one, err = exchange.MessagePart(media, c.Response.Header.Get("Grpc-Encoding"), c.Response.Body, w.message)
		parts = append(w.parts[:0], one)
	case plan.Result():
		parts, err = exchange.Results(media, c.Response.Body)
	default:
		parts, err = exchange.Parts(w.parts[:0], media, c.Response.Body)
	}
	w.parts = parts
	if err != nil {
		return judged{err: err}
	}
	outer := ""
	if r != nil {
		outer = r.Inner
	}
	todo := w.inner[:0]
	for i := range parts {
		p := &parts[i]
		next := inner{text: text{p.Text, c.Response.Long}}
		if !p.Same() {
			next.part = p
		}
		if p.Place != "" {
			next.path, next.pointer = p.Place+within, p.Pointer+within
		}
		todo = append(todo, next)
	}
	w.inner = todo
	var all judged
	boundary := w.boundary
	alone, met := len(parts) == 1, false
	for i := 0; i < len(w.inner); i++ {
		one := w.inner[i]
		w.prefixPath, w.prefixPointer, w.part, w.base, w.nesting, w.cover = one.path, one.pointer, one.part, one.at,
			one.depth, one.cover
		w.plan, w.boundary = nil, boundary
		if plan != nil && one.path == outerPath(outer) {
			w.plan, met = plan, true
		}
		w.met = len(w.inner)
		err := w.through(one.text)
		if one.text.long != nil {
			all.bytes = w.before + len(w.data)
		}
		if err != nil && all.err == nil && one.depth == 0 && one.path == "" {
			all.err = err
			if at := (*SyntaxError)(nil); w.part != nil && errors.As(err, &at) {
				all.err = &SyntaxError{Offset: w.part.Origin(at.Offset), Reason: at.Reason}
			}
		}
		spots := w.finish()
		all.private = all.private || w.private
		if one.depth == 0 || w.plan != nil {
			all.excess += w.excess
		}
		if alone && len(w.inner) == 1 {
			all.spots = spots
			break
		}
		all.spots = append(all.spots, spots...)
	}
	if plan != nil && outer != "" && !met && all.err == nil {
		all.spots = append(all.spots, Spot{Kind: kind.MissingField, Severity: severity.Low, Path: outer, Pointer: outer,
			reason: "the place where the entity is granted is absent"})
	}
	if !alone || len(w.inner) > 1 {
		sort.SliceStable(all.spots, func(i, k int) bool { return all.spots[i].Offset < all.spots[k].Offset })
	}
	w.prefixPath, w.prefixPointer, w.part, w.base, w.nesting, w.cover = "", "", nil, 0, 0, 0
	return all
}

func outerPath(outer string) string {
	if outer == "" {
		return ""
	}
	return outer + within
}

// pointer appends the JSON Pointer of the value being read.
func (w *walk) pointer(dst []byte) []byte {
	segs := w.segs[:min(len(w.segs), maxSteps)]
	for i := range segs {
		switch g := &segs[i]; {
		case g.masked != "":
			dst = place.AppendPointer(dst, []byte(g.masked))
		case g.name != nil:
			dst = place.AppendPointer(dst, g.name)
		default:
			dst = place.AppendIndex(dst, g.index)
		}
	}
	return dst
}
