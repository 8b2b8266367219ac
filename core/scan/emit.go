package scan

import (
	"inkret/core/catalog"
	"inkret/core/detect"
	"inkret/core/kind"
	"inkret/core/place"
	"inkret/core/severity"
)

// reserve keeps a slot for a spot that is decided only after its value was read, so that spots stay in byte order.
func (w *walk) reserve() int {
	w.spots = append(w.spots, Spot{})
	w.cuts = append(w.cuts, len(w.pointers))
	return len(w.spots) - 1
}

// hold reserves a slot for the object or list that begins here.
func (w *walk) hold() int {
	slot := w.reserve()
	w.spots[slot].container = w.data[w.pos]
	return slot
}

// fill puts c into a reserved slot, or releases the slot if c is nil.
func (w *walk) fill(slot int, c *candidate, start int) {
	if c == nil {
		w.spots[slot].container = 0 // nothing waits for it any more
		if slot == len(w.spots)-1 {
			w.spots, w.cuts = w.spots[:slot], w.cuts[:slot]
		}
		return
	}
	sample := "{" + maskedPart + "}"
	if w.spots[slot].container == '[' {
		sample = "[" + maskedPart + "]"
	}
	w.write(slot, w.entry(), c, start, w.off()-start, sample)
}

const (
	maskedPart = "•••"
	nullSample = "null"
)

// emit reports c at the scalar that was just read. It returns the slot of the spot that counts it.
func (w *walk) emit(c *candidate, start int, text []byte, hit detect.Hit) (slot int) {
	slot = w.reserve()
	e, sample := w.entry(), maskedPart
	switch {
	case text == nil:
		sample = nullSample
	case w.data[w.pos-1] == '"' && e.sampled[c.kind] < c.severity:
		sample = detect.Mask(text, hit, c.class)
	}
	first := w.write(slot, e, c, start, w.off()-start, sample)
	if print := w.judge.Print; print != nil && len(text) >= shortestPrinted && c.class >= catalog.Personal &&
		!w.outlined {
		w.spots[first].print(print(text), first == slot)
	}
	return first
}

// mostPrints is the most prints of a spot that counts for others.
const mostPrints = 64

func (s *Spot) print(hash uint64, own bool) {
	if own {
		s.Print = hash
	} else if len(s.Prints) < mostPrints {
		s.Prints = append(s.Prints, hash)
	}
}

// shortestPrinted is the minimum length of values with a print; shorter ones are equal by chance.
const shortestPrinted = 5

// emitAt reports c at a place without a value.
func (w *walk) emitAt(c *candidate, start, weight int, sample string) {
	w.write(w.reserve(), w.entry(), c, start, weight, sample)
}

// pathNode is a path that was needed, with what a body has shown there so far. Its children are linked, so each
// path is written only once.
type pathNode struct {
	path    string
	step    string // the member's name, of a member
	body    uint64 // the body of which the rest tells
	sampled [kind.End]severity.Severity
	spots   [kind.End]int32 // the number of the first spot of each kind in it, from 1 on; 0 for none
	present Presence        // how it occurs in it, if that matters
	any     *pathNode       // of elements, and of names that are data
	deeper  *pathNode       // of all below it, where paths end
	last    *pathNode       // the member below it that was asked for last
	then    *pathNode       // the member beside it that was asked for after it
	members map[string]*pathNode
	noted   string // the endpoint for which it was noted last as a name that no grant names
	names   int    // of these below it, up to a few more than count
	namesOf string // for this endpoint
	like    like
	nths    map[int]*pathNode // of elements of which the number counts
}

// maxPaths limits the cached paths.
const maxPaths = 1 << 15

// rootOf returns the path of a body. prefix is the path of the text that contains it.
func (j *Judge) rootOf(prefix string) *pathNode {
	if j.nodes >= maxPaths {
		j.nodes = 0
		clear(j.roots)
	}
	root := j.roots[prefix]
	if root == nil {
		root = &pathNode{path: prefix + place.Root}
		j.roots[prefix] = root
		j.nodes++
	}
	return root
}

// below returns the path of step g below n.
func (j *Judge) below(n *pathNode, g *seg) *pathNode {
	if g.nth {
		return j.nth(n, g.index)
	}
	if g.any && n.any != nil {
		return n.any
	}
	if before := n.last; !g.any && before != nil {
		if before.step == string(g.word()) {
			return before
		}
		if before.then == nil || before.then.step != string(g.word()) {
			before.then = n.members[string(g.word())]
		}
		if before.then != nil {
			n.last = before.then
			return n.last
		}
	}
	next := new(pathNode)
	if g.any {
		next.path = n.path + place.Elements
	} else {
		next.path, next.step = string(place.AppendName([]byte(n.path), g.word())), string(g.word())
	}
	if j.nodes >= maxPaths { // hostile bodies make up names without end
		return next
	}
	j.nodes++
	if g.any {
		n.any = next
		return next
	}
	if n.members == nil {
		n.members = map[string]*pathNode{}
	}
	n.members[next.step], n.last = next, next
	return next
}

// maxSteps is the most steps that paths and pointers have. What is deeper is reported at the last of them, with
// [place.Below] behind its path.
const maxSteps = 64

// beyond returns the path that stands for all below n.
func (n *pathNode) beyond() *pathNode {
	if n.deeper == nil {
		n.deeper = &pathNode{path: n.path + place.Below}
	}
	return n.deeper
}

// entry returns the path of the value being read.
func (w *walk) entry() *pathNode {
	i := len(w.segs)
	for i > 0 && w.segs[i-1].node == nil {
		i--
	}
	e := w.root
	if i > 0 {
		e = w.segs[i-1].node
	}
	for ; i < min(len(w.segs), maxSteps); i++ {
		if o := w.segs[i].typed; o != nil {
			e = w.judge.rootOf(w.prefixPath + o.Within)
		}
		e = w.judge.below(e, &w.segs[i])
		w.segs[i].node = e
	}
	for ; i < len(w.segs); i++ {
		if i == maxSteps {
			e = e.beyond()
		}
		w.segs[i].node = e
	}
	if e.body != w.judge.body {
		e.body, e.present = w.judge.body, 0
		e.sampled, e.spots = [kind.End]severity.Severity{}, [kind.End]int32{}
	}
	return e
}

// apart are kinds of which each spot is looked at again.
var apart = [kind.End]bool{kind.UnexpectedField: true, kind.HiddenDuplicate: true, kind.OverPosting: true,
	kind.MissingField: true}

// counted counts c in an earlier spot like it, whose number it returns; 0 if there is none.
func (w *walk) counted(slot int, e *pathNode, c *candidate, start, weight int, sample string) int {
	first := int(e.spots[c.kind])
	if first == 0 {
		return 0
	}
	s := &w.spots[first-1]
	entity := ""
	if c.entity != nil {
		entity = c.entity.Name
	}
	if s.Severity != c.severity || s.Class != c.class || s.Detector != c.detector || s.Field != c.field ||
		s.Grant != c.grant || s.Entity != entity || s.Checked != c.checked || s.Named != c.named ||
		s.reason != c.reason {
		return 0
	}
	s.Folded++
	s.counted += w.weight(start, start+weight)
	if e.sampled[c.kind] < c.severity && sample != nullSample {
		s.Sample, e.sampled[c.kind] = sample, c.severity
	}
	if w.spots[slot].container = 0; slot == len(w.spots)-1 {
		w.spots, w.cuts = w.spots[:slot], w.cuts[:slot]
	}
	return first
}

// write puts c into a reserved slot at path e, or counts it in an earlier spot. It returns the slot of the spot.
func (w *walk) write(slot int, e *pathNode, c *candidate, start, weight int, sample string) int {
	if c.class >= catalog.Personal && !c.hollow {
		w.private = w.private || c.kind != kind.MissingField
		w.grave = w.grave || c.kind.Exposure()
	}
	if w.counts && (!apart[c.kind] || c.data && c.kind == kind.UnexpectedField) && w.window.src == nil {
		if first := w.counted(slot, e, c, start, weight, sample); first > 0 {
			return first - 1
		}
		if e.spots[c.kind] == 0 {
			e.spots[c.kind] = int32(slot + 1)
		}
	}
	s := &w.spots[slot]
	*s = Spot{Kind: c.kind, Severity: c.severity, Class: c.class, Path: e.path, Offset: start, Bytes: weight,
		Field: c.field, Detector: c.detector, Grant: c.grant, Checked: c.checked, Named: c.named, reason: c.reason}
	if c.entity != nil {
		s.Entity = c.entity.Name
	}
	if e.sampled[c.kind] < c.severity {
		s.Sample = sample
		if sample != nullSample { // a later value tells more
			e.sampled[c.kind] = c.severity
		}
	}
	from := len(w.pointers)
	w.pointers = w.pointer(w.pointers)
	w.cuts[slot] = from
	s.pointerEnd = len(w.pointers)
	return slot
}
