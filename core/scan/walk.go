package scan

import (
	"bytes"
	"fmt"
	"regexp"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/place"
)

// mode is how the grants of a place count.
type mode uint8

const (
	own     mode = iota // granted to this audience
	loud                // a body of another audience: what even that is not granted stands for itself
	foreign             // a relation of other audiences: one spot stands for all of it
	posted              // a request: what is not accepted is a spot, and nothing else is
)

// level is how far into a grant a value is.
type level uint8

const (
	whole   level = iota // the member's own value
	keyed                // the value of a member of a map
	element              // an element of an array
)

// zone is where no grant names the members and everything is swept.
type zone struct {
	cover  catalog.Class   // classes up to this are granted here
	entity *catalog.Entity // of the objects, where a relation led here
}

// seg is one step of the way to the value being read.
type seg struct {
	name   []byte // of a member; nil for an element
	masked string // stands for the name in pointers when it is sensitive
	index  int    // of an element
	any    bool   // [*] in paths
}

// nameInfo is what a member name says by itself.
type nameInfo struct {
	telling catalog.Class
	data    bool // the name is data, not a word: [*] in paths
	hit     detect.Hit
	masked  string
}

// verdict is what a name that no grant covers stands for in an object.
type verdict struct {
	nameInfo
	field    *catalog.Field
	relation *catalog.Relation
	related  *catalog.Entity
}

// maxNames bounds the verdicts kept per entity: hostile bodies make up names
// without end.
const maxNames = 8192

// walk is the state of one pass over one body. Its buffers are reused.
type walk struct {
	tokens
	judge    *Judge
	plan     *contract.Plan
	boundary *contract.Member // where a body of another audience begins; nil for one's own
	asked    *pick            // members asked for by a selection; nil asks for all
	failed   bool             // the status says that the request failed
	watch    Observer

	segs      []seg
	wide      map[int]map[string]struct{} // the names of wide objects, by where theirs begin in names
	names     [][]byte                    // member names that no bit of seen stands for, a frame each open object
	strays    []stray                     // unexpected fields, a frame each open object
	absentees []*contract.Member          // of the object that ends
	picked    *pick                       // what was asked for of the object being read; nil is all
	seen      []uint64                    // bits of the members seen, a frame each open object
	spots     []Spot
	pointers  []byte // of all spots, one after the other
	cuts      []int  // where each spot's pointer ends
	excess    int
	grave     bool // something personal or secret was found since it was cleared
	depth     int
	scratch   []byte
	pathText  []byte

	wayMissing bool // the first member of `at` is absent
	bareSeen   bool // the body itself has a member that the entity grants
	bare       bool // this pass judges the body itself as the entity

	private      bool   // something personal or secret is in the body
	askedGranted bool   // a member that was asked for is granted
	unasked      string // a granted member that was sent and not asked for
}

func (w *walk) reset(data []byte) {
	w.tokens = tokens{data: data}
	w.segs, w.seen, w.spots = w.segs[:0], w.seen[:0], w.spots[:0]
	w.pointers, w.cuts = w.pointers[:0], w.cuts[:0]
	w.excess, w.grave, w.depth = 0, false, 0
	clear(w.wide)
	w.wayMissing, w.bareSeen, w.bare = false, false, false
	w.private, w.askedGranted, w.unasked, w.picked, w.names = false, false, "", nil, w.names[:0]
	w.judge.body++
	if w.watch != nil {
		w.watch.Begin(w.plan != nil)
	}
}

// verdict gives what name stands for in an object of entity, nil for none known.
func (w *walk) verdict(entity *catalog.Entity, name []byte) *verdict {
	known := w.judge.verdicts[entity]
	if v := known[string(name)]; v != nil {
		return v
	}
	v := &verdict{nameInfo: w.judge.nameInfo(name)}
	if v.field, v.relation = entity.Lookup(string(name)); v.relation != nil {
		v.related = w.judge.contracts.Catalog.Entity(v.relation.Entity)
	}
	if known == nil {
		known = map[string]*verdict{}
		w.judge.verdicts[entity] = known
	}
	if len(known) < maxNames {
		known[string(name)] = v
	}
	return v
}

var (
	uuidName = regexp.MustCompile(`^[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}$`)
	dataName = regexp.MustCompile(`^([0-9]+|[0-9a-fA-F]{16,})$`)
)

func (j *Judge) nameInfo(name []byte) nameInfo {
	info := nameInfo{telling: detect.Name(name), hit: j.detectors.Value(name, detect.TraitsOf(name))}
	info.data = info.hit.Found() || dataName.Match(name) || uuidName.Match(name)
	if info.hit.Found() {
		info.masked = detect.MaskPart(name, info.hit)
	}
	return info
}

func (v *nameInfo) nameCandidate(cover catalog.Class) *candidate {
	return hitCandidate(v.hit, cover, "")
}

// hitCandidate is what a recognised value gives at a place whose grant covers
// classes up to cover and values of format.
func hitCandidate(hit detect.Hit, cover catalog.Class, format string) *candidate {
	if !hit.Found() || hit.Class <= cover {
		return nil
	}
	if hit.Class == catalog.Secret {
		return &candidate{kind: SecretValue, severity: Critical, class: hit.Class, detector: hit.Detector}
	}
	if hit.Format != "" && (hit.Format == format || format == "idn-email" && hit.Format == "email" || format == "tel" && hit.Format == "phone") {
		return nil
	}
	return &candidate{kind: PersonalValue, severity: High, class: hit.Class, detector: hit.Detector}
}

// revealing is what a text of an error response gives.
func revealing(text []byte) *candidate {
	if what := detect.Revealing(text); what != "" {
		return &candidate{kind: RevealingError, severity: Medium, reason: "the text of an error holds " + what}
	}
	return nil
}

func sensitive(class catalog.Class) *candidate {
	return &candidate{kind: SensitiveField, severity: ByClass(class), class: class}
}

// swept is what a verdict gives where only sensitive things are reported.
func (v *verdict) swept(cover catalog.Class) *candidate {
	c := v.nameCandidate(cover)
	switch {
	case v.field != nil:
		if class := v.field.Class; class >= catalog.Personal && class > cover {
			c = graver(sensitive(class), c)
		}
	case v.relation == nil && v.telling > cover:
		s := sensitive(v.telling)
		s.telling = true
		c = graver(s, c)
	}
	return c
}

// member pushes the way to a member; pop takes it back.
func (w *walk) member(name []byte) { w.segs = append(w.segs, seg{name: name}) }

func (w *walk) pop() { w.segs = w.segs[:len(w.segs)-1] }

func (w *walk) enter() bool {
	if w.depth++; w.depth > maxDepth {
		return w.fail(w.pos, fmt.Sprintf("the body nests deeper than %d levels", maxDepth))
	}
	return true
}

// name reads a member's name and its colon. It gives the name's text, its first
// byte, and false at the end of the object or of the body.
func (w *walk) name(first bool) (name []byte, start int, more bool) {
	c := w.space()
	if c == '}' && first {
		w.pos++
		return nil, 0, false
	}
	if c != '"' {
		w.fail(w.pos, "a member needs a name in quotes here")
		return nil, 0, false
	}
	start = w.pos
	s, ok := w.tokens.string()
	if !ok || !w.colon() {
		return nil, 0, false
	}
	if s.escaped {
		return unquote(nil, s.raw), start, true
	}
	return s.raw, start, true
}

// expected reads the name of m and its colon if that is what comes next: members
// mostly come in one order, and comparing costs less than reading.
func (w *walk) expected(m *contract.Member) (name []byte, start int, ok bool) {
	if !m.Plain || w.space() != '"' {
		return nil, 0, false
	}
	start = w.pos
	end := start + 1 + len(m.Name)
	if end >= len(w.data) || w.data[end] != '"' || string(w.data[start+1:end]) != m.Name {
		return nil, 0, false
	}
	w.pos = end + 1
	if !w.colon() {
		w.pos = start // name reads it again and says what is wrong
		w.err = nil
		return nil, 0, false
	}
	return w.data[start+1 : end], start, true
}

// granted judges a value that the grant m stands over. c is what is to be
// reported here already.
func (w *walk) granted(m *contract.Member, how mode, at level, start int, c *candidate) bool {
	if m == w.boundary && how == own && at == whole {
		before := w.excess
		c = graver(c, &candidate{kind: WrongAudience, severity: ByClass(m.Gravest), class: m.Gravest, entity: m.Entity, grant: m.Grant})
		ok := w.granted(m, loud, at, start, c)
		w.excess = before + w.pos - start
		return ok
	}
	if w.asked != nil && at == whole && w.entityMember() == m {
		w.picked = w.asked
		defer func() { w.picked = nil }()
	}
	switch b := w.space(); b {
	case '{':
		return w.grantedObject(m, how, at, start, c)
	case '[':
		return w.grantedArray(m, how, at, start, c)
	default:
		return w.grantedScalar(m, how, at, start, c, b)
	}
}

// mismatch adds a value that departs from its grant to what is to be reported.
func mismatch(c *candidate, m *contract.Member, how mode, reason string) *candidate {
	if how != own || reason == "" {
		return c
	}
	found := &candidate{kind: ValueMismatch, severity: Low, grant: m.Grant, reason: reason}
	if f := m.Grant.Field; f != nil {
		found.entity, found.field, found.class = m.Grant.Owner, f.Name, f.Class
	}
	return graver(c, found)
}

func (w *walk) grantedObject(m *contract.Member, how mode, at level, start int, c *candidate) bool {
	if m.Keyed && at == whole {
		return w.keyed(m, how, start, c)
	}
	if m.Many && at < element {
		c = mismatch(c, m, how, "one object is sent where a list is granted")
	}
	o := m.Object
	if m.OneOf != nil {
		o = w.choose(m.OneOf)
	}
	slot := w.reserve()
	ok := false
	switch {
	case o != nil:
		ok = w.object(o, m, how)
	case m.OneOf != nil, m.Refers:
		return w.ungrantedObjects(slot, start, c, m, how)
	case how == posted:
		ok = w.pass(w.depth)
	case m.Open:
		if t := m.Form.Type; t != "" && t != catalog.Object && !m.Many {
			c = mismatch(c, m, how, "an object is sent where "+string(t)+" is granted")
		}
		ok, _ = w.sweepInside(zone{cover: m.Class})
	default:
		c = mismatch(c, m, how, "an object is sent where a single value is granted")
		ok, _ = w.sweepInside(zone{cover: m.Class})
	}
	w.fill(slot, c, start)
	return ok
}

// ungrantedObjects judges an object, or array of objects, at a place whose grant
// permits a reference or one of several shapes and not this.
func (w *walk) ungrantedObjects(slot, start int, c *candidate, m *contract.Member, how mode) bool {
	if how == posted {
		w.fill(slot, nil, start)
		return w.postedMember([]byte(m.Name), nil, nil, start)
	}
	before := w.grave
	w.grave = false
	ok, _ := w.sweepInside(zone{entity: m.Entity})
	found := &candidate{kind: UnexpectedRelation, severity: Medium, entity: m.Grant.Owner, grant: m.Grant}
	if w.grave {
		found.severity = High
	}
	if m.Grant.Relation != nil {
		found.field = m.Grant.Relation.Name
	}
	found.reason = "granted as a reference and sent as an object"
	if m.OneOf != nil {
		found.reason = "none of the granted shapes fits this object"
	}
	w.grave = w.grave || before
	w.fill(slot, graver(c, found), start)
	if how == own {
		w.excess += w.pos - start
	}
	return ok
}

func (w *walk) grantedArray(m *contract.Member, how mode, at level, start int, c *candidate) bool {
	slot := w.reserve()
	if m.Open && !m.Many && m.Object == nil && how == posted {
		w.fill(slot, nil, start)
		return w.pass(w.depth)
	}
	if m.Open && !m.Many && m.Object == nil {
		if t := m.Form.Type; t != "" && t != catalog.Array {
			c = mismatch(c, m, how, "a list is sent where "+string(t)+" is granted")
		}
		ok, _ := w.sweepInside(zone{cover: m.Class})
		w.fill(slot, c, start)
		return ok
	}
	if !m.Many || at == element || m.Keyed && at == whole {
		c = mismatch(c, m, how, "a list is sent where one is granted")
	}
	if m.Refers && w.holdsObjects() {
		return w.ungrantedObjects(slot, start, c, m, how)
	}
	if !w.enter() {
		return false
	}
	w.pos++
	w.segs = append(w.segs, seg{any: true})
	top := len(w.segs) - 1
	ok := true
	for i := 0; ; i++ {
		next := w.space()
		if next == ']' && i == 0 {
			w.pos++
			break
		}
		w.segs[top].index = i
		begin := w.pos
		if w.watch != nil {
			w.watch.Element(i, begin)
		}
		if ok = w.granted(m, how, element, begin, nil); !ok {
			break
		}
		if w.watch != nil {
			w.watch.End(w.pos)
		}
		more, good := w.more(']')
		if ok = good; !more {
			break
		}
	}
	w.pop()
	w.depth--
	w.fill(slot, c, start)
	return ok
}

// holdsObjects looks ahead whether the array that begins here has an object as
// its first element that is no array or null.
func (w *walk) holdsObjects() bool {
	t := tokens{data: w.data, pos: w.pos}
	for {
		switch t.space() {
		case '[', ',':
			t.pos++
		case 'n':
			if !t.literal() {
				return false
			}
		case '{':
			return true
		default:
			return false
		}
	}
}

func (w *walk) grantedScalar(m *contract.Member, how mode, at level, start int, c *candidate, first byte) bool {
	text, hit, kind, ok := w.scalarValue(first)
	if !ok {
		w.drop(c, start)
		return false
	}
	if how == posted {
		return true
	}
	if how == own {
		c = mismatch(c, m, how, w.departs(m, at, kind, text))
	}
	if m.Class >= catalog.Personal && kind != isNull {
		w.private = true
	}
	if w.failed && kind == isString {
		c = graver(c, revealing(text))
	}
	if hit.Found() {
		w.private = true
		if found := hitCandidate(hit, m.Class, m.Form.Format); found != nil {
			found.grant = m.Grant
			if f := m.Grant.Field; f != nil {
				found.entity, found.field = m.Grant.Owner, f.Name
			}
			c = graver(c, found)
		}
	}
	if c != nil {
		w.emit(c, start, text, hit)
	}
	return true
}

// drop keeps what was to be reported of a value in which the body broke off.
func (w *walk) drop(c *candidate, start int) {
	if c != nil && !c.telling && c.kind != ValueMismatch {
		w.emit(c, start, nil, detect.Hit{})
	}
}

// scalarKind is the JSON type of a scalar.
type scalarKind uint8

const (
	isNull scalarKind = iota
	isBool
	isString
	isInteger
	isNumber
)

// scalarValue reads a scalar: its text (a string's with the escapes undone, valid
// until the next string is read) and what is recognised in it.
func (w *walk) scalarValue(first byte) (text []byte, hit detect.Hit, kind scalarKind, ok bool) {
	switch {
	case first == '"':
		s, ok := w.tokens.string()
		if !ok {
			return nil, hit, isString, false
		}
		text, traits := s.raw, s.traits
		if s.escaped {
			w.scratch = unquote(w.scratch[:0], s.raw)
			text, traits = w.scratch, detect.TraitsOf(w.scratch)
		}
		return text, w.judge.detectors.Value(text, traits), isString, true
	case first == '-' || first-'0' < 10:
		raw, integer, ok := w.number()
		if !ok {
			return nil, hit, isNumber, false
		}
		if !integer {
			return raw, hit, isNumber, true
		}
		return raw, w.judge.detectors.Value(raw, detect.HasDigit), isInteger, true
	case first == 'n':
		return nil, hit, isNull, w.literal()
	case first == 't' || first == 'f':
		from := w.pos
		ok := w.literal()
		return w.data[from:w.pos], hit, isBool, ok
	}
	return nil, hit, isNull, w.fail(w.pos, "no JSON value is written like this")
}

// keyed judges an object that is granted as a map.
func (w *walk) keyed(m *contract.Member, how mode, start int, c *candidate) bool {
	slot := w.reserve()
	if !w.enter() {
		return false
	}
	w.pos++
	ok, unnamed := true, len(w.names)
	for first := true; ; first = false {
		name, begin, more := w.name(first)
		if !more {
			ok = w.err == nil
			break
		}
		twice := w.twice(unnamed, name)
		info := w.judge.nameInfo(name)
		w.segs = append(w.segs, seg{name: name, masked: info.masked, any: true})
		if w.watch != nil {
			w.watch.Member(name, info.masked, begin, Granted, m)
		}
		var named *candidate
		if how != posted {
			named = info.nameCandidate(m.Class)
		}
		if ok = w.granted(m, how, keyed, begin, named); !ok {
			break
		}
		if twice && how != posted {
			w.duplicate(begin)
		}
		if w.watch != nil {
			w.watch.End(w.pos)
		}
		w.pop()
		more, good := w.more('}')
		if ok = good; !more {
			break
		}
	}
	w.depth--
	w.names = w.names[:unnamed]
	w.fill(slot, c, start)
	return ok
}

// choose looks ahead into an object for the members that tell which shape it is.
func (w *walk) choose(all []contract.Alternative) *contract.Object {
	t := tokens{data: w.data, pos: w.pos + 1}
	found := map[string]string{}
	for {
		if t.space() != '"' {
			break
		}
		s, ok := t.string()
		if !ok || !t.colon() {
			break
		}
		t.space()
		begin := t.pos
		if !t.pass(w.depth + 1) {
			break
		}
		found[string(unquote(nil, s.raw))] = string(t.data[begin:t.pos])
		if more, _ := t.more('}'); !more {
			break
		}
	}
	for i := range all {
		fits := true
		for name, value := range all[i].When {
			got, there := found[name]
			fits = fits && there && sameScalar(got, value)
		}
		if fits {
			return all[i].Object
		}
	}
	return nil
}

func sameScalar(a, b string) bool {
	if a == b || len(a) == 0 || a[0] != '"' || len(b) == 0 || b[0] != '"' {
		return a == b
	}
	return bytes.Equal(unquote(nil, []byte(a[1:len(a)-1])), unquote(nil, []byte(b[1:len(b)-1])))
}

// object judges the members of an object by its grants. holder is the grant
// that led here: where it is open too, other members are only swept.
func (w *walk) object(o *contract.Object, holder *contract.Member, how mode) bool {
	if !w.enter() {
		return false
	}
	begin := w.pos
	w.pos++
	frame := len(w.seen)
	for n := 0; n < len(o.Members); n += 64 {
		w.seen = append(w.seen, 0)
	}
	next, ok, empty, unnamed, strayed := 0, true, true, len(w.names), len(w.strays)
	picked := w.picked
	for first := true; ; first = false {
		var m *contract.Member
		name, start, more := []byte(nil), 0, false
		if next < len(o.Members) {
			if name, start, more = w.expected(o.Members[next]); more {
				m = o.Members[next]
			}
		}
		if m == nil {
			if name, start, more = w.name(first); !more {
				ok = w.err == nil
				break
			}
			m = o.Member(name)
		}
		empty = false
		w.member(name)
		twice := false
		if m == nil {
			twice = w.twice(unnamed, name)
		} else {
			next = m.Index + 1
			word, bit := &w.seen[frame+m.Index>>6], uint64(1)<<(m.Index&63)
			twice = *word&bit != 0
			*word |= bit
		}
		switch {
		case m != nil && (!m.Foreign || how == foreign):
			w.picked = w.pickOf(picked, m, how)
			if w.watch != nil {
				mark := Granted
				if how != own {
					mark = Foreign
				}
				w.watch.Member(name, "", start, mark, m)
			}
			if w.bare && w.depth <= 2 {
				w.bareSeen = true
			}
			ok = w.granted(m, how, whole, start, nil)
		case m != nil:
			if w.watch != nil {
				w.watch.Member(name, "", start, Foreign, m)
			}
			ok = w.foreignMember(m, how, start)
		default:
			if len(w.segs) == 1 && !w.bare && w.plan != nil && w.plan.Bare != nil && w.plan.Bare.Object != nil {
				if b := w.plan.Bare.Object.Member(name); b != nil && !b.Foreign {
					w.bareSeen = true
				}
			}
			ok = w.otherMember(o.Entity, name, holder, how, start)
		}
		if twice && ok && how != posted {
			w.duplicate(start)
		}
		if w.watch != nil {
			w.watch.End(w.pos)
		}
		w.pop()
		if !ok {
			break
		}
		more, good := w.more('}')
		if ok = good; !more {
			break
		}
	}
	w.picked = picked
	if ok && how == own {
		w.missing(o, w.seen[frame:], w.strays[strayed:], begin, empty)
	}
	w.seen, w.names, w.strays = w.seen[:frame], w.names[:unnamed], w.strays[:strayed]
	w.depth--
	return ok
}

// missing reports the members that are granted, not optional and were not seen:
// as renamed where another member took their place, strays being those.
func (w *walk) missing(o *contract.Object, seen []uint64, strays []stray, begin int, empty bool) {
	absent := w.absentees[:0]
	for i, m := range o.Members {
		if m.Foreign {
			break // those granted to this audience come first
		}
		if m.Required && seen[i>>6]&(1<<(i&63)) == 0 && !(empty && !m.Way) && w.wanted(m) {
			absent = append(absent, m)
		}
	}
	w.absentees = absent
	for _, m := range absent {
		if m.Way && len(w.segs) == 0 {
			w.wayMissing = true
		}
		if w.renamed(m, absent, strays) {
			continue
		}
		c := &candidate{kind: MissingField, severity: Low, grant: m.Grant}
		if f := m.Grant.Field; f != nil {
			c.entity, c.field, c.class = m.Grant.Owner, f.Name, f.Class
		}
		w.member([]byte(m.Name))
		w.emitAt(c, begin, 0, "")
		if w.watch != nil {
			w.watch.Absent(m)
		}
		w.pop()
	}
}

// wanted reports whether a selection in the request asks for the member.
func (w *walk) wanted(m *contract.Member) bool {
	return w.picked == nil || m.Way || w.picked.below[m.Name] != nil
}

// foreignMember judges a member that is granted to other audiences only: one
// spot for all of it, beside what even they are not granted.
func (w *walk) foreignMember(m *contract.Member, how mode, start int) bool {
	if how == posted {
		return w.postedMember([]byte(m.Name), nil, nil, start)
	}
	class := m.Class
	c := &candidate{kind: WrongAudience, grant: m.Grant}
	if m.Object != nil || m.OneOf != nil {
		class = m.Gravest
	}
	switch g := m.Grant; {
	case g.Relation != nil:
		c.entity, c.field = g.Owner, g.Relation.Name
	case g.Field != nil:
		c.entity, c.field = g.Owner, g.Field.Name
	}
	c.class, c.severity = class, ByClass(class)
	before := w.excess
	ok := w.granted(m, foreign, whole, start, c)
	w.excess = before
	if how == own {
		w.excess += w.pos - start
	}
	return ok
}

// otherMember judges a member that no grant names.
func (w *walk) otherMember(entity *catalog.Entity, name []byte, holder *contract.Member, how mode, start int) bool {
	v := w.verdict(entity, name)
	top := &w.segs[len(w.segs)-1]
	top.masked, top.any = v.masked, v.data
	switch {
	case holder.Open:
		if entity != nil {
			v = w.verdict(nil, name)
		}
		if w.watch != nil {
			w.watch.Member(name, v.masked, start, Open, holder)
		}
		if how == posted {
			return w.pass(w.depth)
		}
		return w.sweep(zone{cover: holder.Class}, v, nil, start)
	case how == posted:
		return w.postedMember(name, v, entity, start)
	case how == foreign:
		if w.watch != nil {
			w.watch.Member(name, v.masked, start, Ungranted, nil)
		}
		return w.sweep(zone{}, v, entity, start)
	}
	if w.watch != nil {
		w.watch.Member(name, v.masked, start, Ungranted, nil)
	}
	return w.ungranted(v, entity, how, start)
}

// ungranted judges the outermost member that no grant covers.
func (w *walk) ungranted(v *verdict, entity *catalog.Entity, how mode, start int) bool {
	before := w.grave
	w.grave = false
	first := w.space()
	structure := &candidate{entity: entity}
	value := v.nameCandidate(0)
	ok := true
	if first == '{' || first == '[' {
		slot := w.reserve()
		full := w.filled()
		var objects bool
		ok, objects = w.sweepInside(zone{entity: v.related})
		structure = w.structure(structure, v, objects)
		w.fill(slot, graver(w.named(v, structure, entity, full), value).of(v, entity), start)
	} else {
		text, hit, kind, good := w.scalarValue(first)
		ok = good
		structure = w.structure(structure, v, false)
		if text == nil && kind != isNull {
			text = []byte{} // the body broke off in it
		}
		full := kind == isInteger || kind == isNumber || kind == isString && len(text) > 0
		found := graver(w.named(v, structure, entity, full && ok), value)
		if w.failed && kind == isString {
			found = graver(found, revealing(text))
		}
		found = graver(found, hitCandidate(hit, 0, "")).of(v, entity)
		w.emit(found, start, text, hit)
		if found.kind == UnexpectedField && how == own {
			w.strays = append(w.strays, stray{slot: len(w.spots) - 1, name: w.segs[len(w.segs)-1].name, verdict: v, kind: kind})
		}
	}
	w.grave = w.grave || before
	if how == own {
		w.excess += w.pos - start
	}
	return ok
}

// filled reports whether the object or array that begins here has anything in it.
func (w *walk) filled() bool {
	t := tokens{data: w.data, pos: w.pos + 1}
	b := t.space()
	return b != '}' && b != ']'
}

// structure is the candidate that a member gives by where it stands, its value
// not regarded.
func (w *walk) structure(c *candidate, v *verdict, objects bool) *candidate {
	switch {
	case v.field != nil:
		c.field, c.class = v.field.Name, v.field.Class
		if c.class >= catalog.Personal {
			c.kind, c.severity = SensitiveField, ByClass(c.class)
			return c
		}
		c.kind, c.severity = UnexpectedField, ByClass(c.class)
	case v.relation != nil:
		c.kind, c.field = UnexpectedRelation, v.relation.Name
	case objects:
		c.kind = UnexpectedRelation
	default:
		c.kind, c.severity = UnexpectedField, Medium
		if c.entity == nil {
			c.severity = Low
		}
	}
	if c.kind == UnexpectedRelation {
		if c.severity = Medium; w.grave {
			c.severity = High
		}
	}
	return c
}

// named adds what a telling name gives to what the structure gives.
func (w *walk) named(v *verdict, c *candidate, entity *catalog.Entity, full bool) *candidate {
	if v.field != nil || v.relation != nil || v.telling == catalog.Unclassed || !full {
		return c
	}
	s := sensitive(v.telling)
	s.entity = entity
	return graver(s, c)
}

// sweep reads a value where only sensitive things are reported. v is what its
// name stands for, nil for an element; owner is the entity whose member it is,
// where one is known.
func (w *walk) sweep(z zone, v *verdict, owner *catalog.Entity, start int) bool {
	var c *candidate
	if v != nil {
		c = v.swept(z.cover)
	}
	first := w.space()
	if first == '{' || first == '[' {
		if c != nil && c.telling && !w.filled() {
			c = nil
		}
		slot := w.reserve()
		if v != nil {
			z.entity = v.related
		}
		ok, _ := w.sweepInside(z)
		w.fill(slot, c.of(v, owner), start)
		return ok
	}
	text, hit, kind, ok := w.scalarValue(first)
	if c != nil && c.telling && (kind == isNull || kind == isBool || kind == isString && len(text) == 0) {
		c = nil
	}
	if !ok {
		w.drop(c, start)
		return false
	}
	if w.failed && kind == isString {
		c = graver(c, revealing(text))
	}
	if c = graver(c, hitCandidate(hit, z.cover, "")); c != nil {
		w.emit(c.of(v, owner), start, text, hit)
	}
	return true
}

// of says which field of owner a candidate is about.
func (c *candidate) of(v *verdict, owner *catalog.Entity) *candidate {
	if c != nil && c.field == "" && v != nil && v.field != nil {
		c.entity, c.field = owner, v.field.Name
	}
	return c
}

// sweepInside sweeps the members or elements of the object or array that begins
// here. objects is whether it is an object or holds one through arrays alone.
func (w *walk) sweepInside(z zone) (ok, objects bool) {
	if !w.enter() {
		return false, false
	}
	defer func() { w.depth-- }()
	if w.data[w.pos] == '{' {
		w.pos++
		unnamed := len(w.names)
		defer func() { w.names = w.names[:unnamed] }()
		for first := true; ; first = false {
			name, start, more := w.name(first)
			if !more {
				return w.err == nil, true
			}
			twice := w.twice(unnamed, name)
			v := w.verdict(z.entity, name)
			w.segs = append(w.segs, seg{name: name, masked: v.masked, any: v.data})
			if w.watch != nil {
				w.watch.Member(name, v.masked, start, Swept, nil)
			}
			ok := w.sweep(zone{cover: z.cover}, v, z.entity, start)
			if twice && ok {
				w.duplicate(start)
			}
			if w.watch != nil {
				w.watch.End(w.pos)
			}
			w.pop()
			if !ok {
				return false, true
			}
			if more, ok := w.more('}'); !more {
				return ok, true
			}
		}
	}
	w.pos++
	w.segs = append(w.segs, seg{any: true})
	defer w.pop()
	top := len(w.segs) - 1
	for i := 0; ; i++ {
		next := w.space()
		if next == ']' && i == 0 {
			w.pos++
			return true, false
		}
		w.segs[top].index = i
		start := w.pos
		if w.watch != nil {
			w.watch.Element(i, start)
		}
		switch next {
		case '{', '[':
			good, inner := w.sweepInside(z)
			ok, objects = good, objects || inner
		default:
			ok = w.sweep(z, nil, nil, start)
		}
		if w.watch != nil {
			w.watch.End(w.pos)
		}
		if !ok {
			return false, objects
		}
		if more, ok := w.more(']'); !more {
			return ok, objects
		}
	}
}

// reserve keeps the place of a spot that is known only once its value is read,
// so that spots stay in the order of their bytes.
func (w *walk) reserve() int {
	w.spots = append(w.spots, Spot{})
	w.cuts = append(w.cuts, len(w.pointers))
	return len(w.spots) - 1
}

// fill puts c into a reserved place, or gives the place back when c is none.
func (w *walk) fill(slot int, c *candidate, start int) {
	if c == nil {
		if slot == len(w.spots)-1 {
			w.spots, w.cuts = w.spots[:slot], w.cuts[:slot]
		}
		return
	}
	container := byte('{')
	if at := bytes.IndexAny(w.data[start:min(len(w.data), w.pos)], "{["); at >= 0 {
		container = w.data[start+at]
	}
	sample := "{" + maskedPart + "}"
	if container == '[' {
		sample = "[" + maskedPart + "]"
	}
	w.write(slot, w.entry(), c, start, w.pos-start, sample)
}

const (
	maskedPart = "•••"
	nullSample = "null"
)

// emit reports c at the scalar that was just read.
func (w *walk) emit(c *candidate, start int, text []byte, hit detect.Hit) {
	slot := w.reserve()
	e, sample := w.entry(), maskedPart
	switch {
	case text == nil:
		sample = nullSample
	case w.data[w.pos-1] == '"' && e.sampled[c.kind] < c.severity:
		sample = detect.Mask(text, hit, c.class)
	}
	w.write(slot, e, c, start, w.pos-start, sample)
}

// emitAt reports c at a place that has no value.
func (w *walk) emitAt(c *candidate, start, weight int, sample string) {
	w.write(w.reserve(), w.entry(), c, start, weight, sample)
}

// pathEntry is a path that spots have, with what a body has shown at it so far.
type pathEntry struct {
	path    string
	body    uint64
	sampled [kinds]Severity
}

// maxPaths bounds the paths kept between bodies.
const maxPaths = 1 << 15

func (w *walk) entry() *pathEntry {
	p := append(w.pathText[:0], place.Root...)
	for i := range w.segs {
		if s := &w.segs[i]; s.any {
			p = append(p, place.Elements...)
		} else {
			p = place.AppendName(p, s.name)
		}
	}
	w.pathText = p
	e := w.judge.paths[string(p)]
	if e == nil {
		if len(w.judge.paths) >= maxPaths {
			clear(w.judge.paths)
		}
		e = &pathEntry{path: string(p)}
		w.judge.paths[e.path] = e
	}
	if e.body != w.judge.body {
		e.body, e.sampled = w.judge.body, [kinds]Severity{}
	}
	return e
}

// write puts c into a reserved place; e is where that is.
func (w *walk) write(slot int, e *pathEntry, c *candidate, start, weight int, sample string) {
	s := &w.spots[slot]
	*s = Spot{Kind: c.kind, Severity: c.severity, Class: c.class, Path: e.path, Offset: start, Bytes: weight,
		Field: c.field, Detector: c.detector, Grant: c.grant, reason: c.reason}
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
	for i := range w.segs {
		switch g := &w.segs[i]; {
		case g.masked != "":
			w.pointers = place.AppendPointer(w.pointers, []byte(g.masked))
		case g.name != nil:
			w.pointers = place.AppendPointer(w.pointers, g.name)
		default:
			w.pointers = place.AppendIndex(w.pointers, g.index)
		}
	}
	w.cuts[slot] = from
	s.pointerEnd = len(w.pointers)
	if c.class >= catalog.Personal {
		w.private = w.private || c.kind != MissingField
		w.grave = w.grave || c.kind.Exposure()
	}
}
