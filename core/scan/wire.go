package scan

import (
	"strings"
	"unicode/utf8"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/place"
)

// Wire is a picture of a body as it was sent: its values in order, each with its weight, its relation to the
// contract, and its spot, if any. Values are masked unless a grant of class public covers them or, for numbers and
// truth values, one of class internal. A Wire is an [Observer] of one body; [Wire.Root] is complete after the
// evaluation.
type Wire struct {
	detectors    *detect.Set
	pictures     []*bodyPicture // the body's, then those of what stands inside
	*bodyPicture                // the one being taken
	open         []*WireNode
	count        int
	skipping     int    // depth below a value that is left out
	Cut          int    // values left out
	of, field    string // of the member that is reported next
}

// bodyPicture is the picture of one body in a [Wire].
type bodyPicture struct {
	within string // the pointer of what it stands in, " >> " behind it
	data   []byte
	root   *WireNode
}

// WireNode is one value in a [Wire].
type WireNode struct {
	Name     string // of a member, masked where it is sensitive; of a text in a page its place there
	Inner    bool   // a body inside of what is above it
	Index    int    // of an element, -1 for a member and the body
	Kind     string // object, array, string, number, boolean, null, absent or page
	Mark     Mark
	Missing  bool
	Class    catalog.Class // of the grant that covers it
	Line     int           // of the grant
	Value    string        // masked
	Bytes    int
	Pointer  string
	Spot     *Spot
	Children []*WireNode
	More     int    // children left out
	Type     string // that its object is of, and the field of it that it stands for, where a query tells that
	Field    string

	start int
}

const (
	maxWireNodes    = 5000 // what a page can show and a person can read
	maxWireElements = 100  // of one array; the rest is alike
	maxWireText     = 300  // characters of one value
)

// NewWire returns an empty picture. c is the contracts that evaluate the body, or nil.
func NewWire(c *contract.Contracts) *Wire {
	return &Wire{detectors: c.Recognised()}
}

// Begin implements [Observer].
func (w *Wire) Begin(within string, data []byte, granted bool) {
	w.end()
	if w.bodyPicture == nil || w.within != within { // else it is taken a second time
		w.bodyPicture = &bodyPicture{within: within}
		w.pictures = append(w.pictures, w.bodyPicture)
	}
	w.data, w.root = data, &WireNode{Index: -1, Inner: within != ""}
	if w.root.Inner {
		w.root.Pointer = strings.TrimRight(within, " ")
	}
	if granted {
		w.root.Mark = Granted
	}
	w.open = append(w.open[:0], w.root)
	w.count++
	w.skipping = 0
}

// end completes the current picture.
func (w *Wire) end() {
	if w.bodyPicture != nil {
		w.finish(w.root, len(w.data))
	}
}

// below returns the pointer of what is below n.
func (n *WireNode) below() []byte {
	if strings.HasSuffix(n.Pointer, ">>") {
		return []byte(n.Pointer + " ")
	}
	return []byte(n.Pointer)
}

func (w *Wire) top() *WireNode { return w.open[len(w.open)-1] }

// add adds n below the value being read, if there is room.
func (w *Wire) add(n *WireNode) {
	parent := w.top()
	if w.skipping > 0 || w.count >= maxWireNodes || n.Index >= maxWireElements {
		if w.skipping++; w.skipping == 1 {
			parent.More++
		}
		w.Cut++
		return
	}
	w.count++
	parent.Children = append(parent.Children, n)
	w.open = append(w.open, n)
}

// Member implements [Observer].
func (w *Wire) Member(name []byte, masked string, start int, mark Mark, m *contract.Member) {
	shown := masked
	if shown == "" {
		shown = string(name)
	}
	n := &WireNode{Name: shown, Index: -1, Mark: mark, start: start}
	n.Pointer = string(place.AppendPointer(w.top().below(), []byte(shown)))
	n.Type, n.Field, w.of, w.field = w.of, w.field, "", ""
	n.grant(m)
	w.add(n)
}

// Of implements [Observer].
func (w *Wire) Of(typeName, field string) { w.of, w.field = typeName, field }

func (n *WireNode) grant(m *contract.Member) {
	if m == nil {
		return
	}
	n.Class, n.Line = m.Class, m.Grant.Pos.Line
}

// Element implements [Observer].
func (w *Wire) Element(index, start int) {
	parent := w.top()
	n := &WireNode{Index: index, Mark: parent.Mark, Class: parent.Class, Line: parent.Line, start: start}
	n.Pointer = string(place.AppendIndex(parent.below(), index))
	w.add(n)
}

// Absent implements [Observer].
func (w *Wire) Absent(m *contract.Member) {
	if w.skipping > 0 {
		return
	}
	parent := w.top()
	n := &WireNode{Name: m.Name, Index: -1, Kind: "absent", Mark: Granted, Missing: true}
	n.Pointer = string(place.AppendPointer(parent.below(), []byte(m.Name)))
	n.Type, n.Field, w.of, w.field = w.of, w.field, "", ""
	n.grant(m)
	parent.Children = append(parent.Children, n)
}

// End implements [Observer].
func (w *Wire) End(end int) {
	if w.skipping > 0 {
		w.skipping--
		return
	}
	w.finish(w.top(), end)
	w.open = w.open[:len(w.open)-1]
}

// finish sets kind and value of n, whose last byte is before end.
func (w *Wire) finish(n *WireNode, end int) {
	n.Bytes = end - n.start
	t := tokens{data: w.data[:end], pos: n.start}
	if n != w.root && (n.Name != "" || n.Index < 0) {
		if _, ok := t.string(); !ok || !t.colon() {
			return
		}
	}
	switch c := t.space(); c {
	case '{':
		n.Kind = "object"
	case '[':
		n.Kind = "array"
	case '"':
		n.Kind = "string"
		if s, ok := t.string(); ok {
			n.Value = w.text(n, s)
		}
	case 'n':
		n.Kind, n.Value = "null", "null"
	case 't', 'f':
		n.Kind, n.Value = "boolean", w.plain(n, t.pos, end)
	default:
		n.Kind, n.Value = "number", w.plain(n, t.pos, end)
	}
}

// plain shows or masks a number or truth value.
func (w *Wire) plain(n *WireNode, start, end int) string {
	text := w.data[min(start, end):end]
	shown := n.Mark == Granted && n.Class <= catalog.Internal && !w.detectors.Value(text, detect.TraitsOf(text)).Found()
	if !shown || len(text) > maxWireText {
		return maskedPart
	}
	return string(text)
}

// text shows a string of a public grant, or masks it.
func (w *Wire) text(n *WireNode, s str) string {
	value := unquote(nil, s.raw)
	if len(value) > 2 && mayEmbed(value) && embedded(value) != nil {
		return "{" + maskedPart + "}" // what is in it stands below it
	}
	hit := w.detectors.Value(value, detect.TraitsOf(value))
	if n.Mark != Granted { // its class is not known: nothing of it is shown
		return detect.Mask(value, hit, catalog.Secret)
	}
	if n.Class > catalog.Public || hit.Found() {
		return detect.Mask(value, hit, n.Class)
	}
	text := string(value)
	if !utf8.ValidString(text) {
		return maskedPart
	}
	if utf8.RuneCountInString(text) > maxWireText {
		text = string([]rune(text)[:maxWireText]) + "…"
	}
	return text
}

// Root returns the picture with the spots of its evaluation.
func (w *Wire) Root(spots []Spot) *WireNode {
	w.end()
	root := w.assemble()
	if root == nil {
		return nil
	}
	at := map[string]*Spot{}
	for i := range spots {
		if s := &spots[i]; !s.Request && !s.Kind.Whole() {
			at[s.Pointer] = s
		}
	}
	root.attach(at)
	return root
}

// Value returns the value at a pointer in clear: the text of a string, or any other value as sent. It reports false
// if there is none.
func (w *Wire) Value(pointer string) (string, bool) {
	w.end()
	for _, p := range w.pictures {
		places := map[string]*WireNode{}
		p.root.index(places)
		n := places[pointer]
		if n == nil || n.Missing || n.Kind == "page" {
			continue
		}
		t := tokens{data: p.data[:min(len(p.data), n.start+n.Bytes)], pos: n.start}
		if n != p.root && n.Index < 0 {
			if _, ok := t.string(); !ok || !t.colon() {
				return "", false
			}
		}
		if t.space() == '"' {
			s, ok := t.string()
			return string(unquote(nil, s.raw)), ok
		}
		return string(t.data[t.pos:]), true
	}
	return "", false
}

// Blank removes the values from a picture.
func (n *WireNode) Blank() {
	n.Value = ""
	for _, c := range n.Children {
		c.Blank()
	}
}

// assemble adds the pictures of inner bodies below the texts that contain them. Those of a page get a node of their
// own.
func (w *Wire) assemble() *WireNode {
	if len(w.pictures) == 0 {
		return nil
	}
	root := w.pictures[0].root
	if w.pictures[0].within != "" {
		root = &WireNode{Index: -1, Kind: "page"}
	}
	places := map[string]*WireNode{}
	root.index(places)
	for _, p := range w.pictures {
		if p.within == "" {
			continue
		}
		p.root.index(places)
		holder := places[strings.TrimSuffix(p.within, " >> ")]
		if holder == nil {
			if root.Kind != "page" { // what holds it was left out
				continue
			}
			holder, p.root.Name = root, strings.TrimSuffix(p.within, " >> ")
			root.Bytes += p.root.Bytes
		}
		holder.Children = append(holder.Children, p.root)
	}
	return root
}

// index records where a node and those below it are.
func (n *WireNode) index(places map[string]*WireNode) {
	places[n.Pointer] = n
	for _, c := range n.Children {
		c.index(places)
	}
}

func (n *WireNode) attach(at map[string]*Spot) {
	n.Spot = at[n.Pointer]
	for _, c := range n.Children {
		c.attach(at)
	}
}
