package scan

import (
	"bytes"
	"strconv"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/kind"
	"inkret/core/severity"
)

// expected reads a name and its colon if they match key. Members usually come in the same order, and comparing is
// cheaper than parsing.
func (w *walk) expected(key string) (name []byte, start int, ok bool) {
	w.space()
	from := w.pos
	end := from + len(key)
	if end > len(w.data) || string(w.data[from:end]) != key || key == "" {
		return nil, 0, false
	}
	w.pos = end
	return w.data[from+1 : end-2], w.before + from, true
}

// quick reports whether values that match their grants need no further work.
func (w *walk) quick() bool {
	return w.watch == nil && !w.failed && !w.closely && !w.bare && w.places == nil
}

// expectedOnes reads members that stand in the order of their grants, one after the other, as long as their values are
// harmless. It returns the grant that is next, and whether the object ended. It is what most of most bodies is read by.
func (w *walk) expectedOnes(o *contract.Object, frame, next int) (int, bool) {
	for ; next < len(o.Members) && w.pos < w.window.slideAt; next++ {
		m := o.Members[next]
		from := w.pos
		end := from + len(m.Key)
		if end > len(w.data) || m.Key == "" || string(w.data[from:end]) != m.Key {
			return next, false
		}
		word, bit := &w.seen[frame+next>>6], uint64(1)<<(next&63)
		if *word&bit != 0 {
			return next, false
		}
		w.pos = end
		if !w.harmless(m, whole) {
			w.pos = from
			return next, false
		}
		*word |= bit
		if w.pos >= len(w.data) {
			w.pos, *word = from, *word&^bit
			return next, false
		}
		switch w.data[w.pos] {
		case ',':
			w.pos++
		case '}':
			w.pos++
			return next + 1, true
		default: // it may stand behind a space
			w.pos, *word = from, *word&^bit
			return next, false
		}
	}
	return next, false
}

// harmless reads the value of m if it is a text or number that matches its grant and cannot contain anything to
// detect, as most values are. Otherwise it reads nothing.
func (w *walk) harmless(m *contract.Member, at level) bool {
	if m.Foreign || m.Many && at < element || m == w.boundary || w.uneven != nil && w.uneven[m.Serial] != "" {
		return false
	}
	from := w.pos
	switch c := w.space(); {
	case c == '"':
		s, ok := w.tokens.string()
		if ok && !s.escaped && (len(s.raw) < m.Short || m.Dated && isDate(s.raw)) && (len(s.raw) <= 2 ||
			!mayEmbed(s.raw)) && w.judge.detectors.Quiet(len(s.raw), s.traits) {
			break
		}
		w.pos = from
		return false
	case c-'0' < 10 && m.Fits&contract.Integer != 0:
		raw, whole, ok := w.number()
		if ok && (whole && w.judge.detectors.Quiet(len(raw), detect.HasDigit) || !whole &&
			m.Fits&contract.Number != 0) {
			break
		}
		w.pos = from
		return false
	default:
		return false
	}
	w.shown[m.Serial] = true
	w.private = w.private || m.Class >= catalog.Personal
	return true
}

// granted evaluates a value under the grant m. c is what is already to be reported here.
func (w *walk) granted(m *contract.Member, how mode, at level, start int, c *candidate) bool {
	if how == own {
		w.shown[m.Serial] = true
	}
	if w.boundary != nil && w.isBoundary(m) && how == own && at == whole {
		if !w.thereIsSomething() {
			return w.granted(m, loud, at, start, c)
		}
		before := w.excess
		c = graver(c, w.pool.add(candidate{kind: kind.WrongAudience, severity: severity.ByClass(gravest(m)),
			class:  gravest(m),
			entity: m.Entity, grant: m.Grant}))
		ok := w.granted(m, loud, at, start, c)
		w.excess = before + w.weight(start, w.off())
		return ok
	}
	if w.uneven != nil && how == own && at == whole && w.uneven[m.Serial] != "" {
		c = graver(c, w.pool.add(candidate{kind: kind.UnevenExposure, severity: severity.Info, class: m.Class,
			entity: m.Grant.Owner,
			field:  m.Grant.Field.Name, grant: m.Grant, reason: w.uneven[m.Serial]}))
	}
	if w.asked != nil && at == whole && w.entityMember() == m {
		w.picked = w.asked
		defer func() { w.picked = nil }()
	}
	b := w.space()
	w.occur(b)
	if b == 'n' && w.notGivenOf(m) {
		return true
	}
	switch b {
	case '{':
		return w.grantedObject(m, how, at, start, c)
	case '[':
		return w.grantedArray(m, how, at, start, c)
	default:
		return w.grantedScalar(m, how, at, start, c, b)
	}
}

// thereIsSomething reports whether the value to be read is neither null nor an empty list.
func (w *walk) thereIsSomething() bool {
	t := w.peek()
	defer w.peeked(&t)
	switch t.space() {
	case 'n':
		return false
	case '[':
		t.pos++
		return t.space() != ']'
	}
	return true
}

// mismatch adds a value that violates its grant to what is to be reported.
func (all *candidates) mismatch(c *candidate, m *contract.Member, how mode, reason string) *candidate {
	if how != own || reason == "" {
		return c
	}
	found := all.add(candidate{kind: kind.ValueMismatch, severity: severity.Low, grant: m.Grant, reason: reason})
	if f := m.Grant.Field; f != nil {
		found.entity, found.field, found.class = m.Grant.Owner, f.Name, f.Class
	}
	return graver(c, found)
}

func (w *walk) grantedObject(m *contract.Member, how mode, at level, start int, c *candidate) bool {
	if m.Selected != nil {
		return w.selectedObject(m, how, start, c)
	}
	if len(m.Each) > 0 && at == whole { // one answer to all of them
		m = m.Each[0]
	}
	if m.Keyed && at == whole {
		return w.keyed(m, how, start, c)
	}
	if m.Many && at < element && !(w.part != nil && w.part.Untyped) {
		c = w.pool.mismatch(c, m, how, "one object is sent where a list is granted")
	}
	o := m.Object
	if m.OneOf != nil {
		o = w.choose(m.OneOf)
	}
	if o != nil && o.Owns != nil && how == own && w.whoseIs(o.Owns) == theirs {
		if o.Owns.Whole {
			return w.theirRecord(o, m, start, c)
		}
		w.theirs = true
	}
	if o != nil && c == nil { // nothing can be told of it as a whole
		return w.object(o, m, how)
	}
	slot := w.hold()
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
			c = w.pool.mismatch(c, m, how, "an object is sent where "+string(t)+" is granted")
		}
		ok, _ = w.sweepInside(zone{cover: m.Class})
	default:
		c = w.pool.mismatch(c, m, how, "an object is sent where a single value is granted")
		ok, _ = w.sweepInside(zone{cover: m.Class})
	}
	w.fill(slot, c, start)
	return ok
}

// ungrantedObjects evaluates an object, or an array of objects, where the grant permits a reference, or one of
// several shapes that does not apply.
func (w *walk) ungrantedObjects(slot, start int, c *candidate, m *contract.Member, how mode) bool {
	if how == posted {
		w.fill(slot, nil, start)
		return w.postedMember([]byte(m.Name), nil, nil, start)
	}
	before := w.grave
	w.grave = false
	ok, _ := w.sweepInside(zone{entity: m.Entity})
	found := w.pool.add(candidate{kind: kind.UnexpectedRelation, severity: severity.Medium, entity: m.Grant.Owner,
		grant: m.Grant})
	if w.grave {
		found.severity = severity.High
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
		w.excess += w.weight(start, w.off())
	}
	return ok
}

func (w *walk) grantedArray(m *contract.Member, how mode, at level, start int, c *candidate) bool {
	if nth := m.Nth(); nth != nil && at == whole && how != posted {
		return w.indexed(m, nth, how, start, c)
	}
	slot := w.hold()
	anything := m.Open && (!m.Many || at == element) && m.Object == nil // in a list, each element may be whatever it is
	if anything && how == posted {
		w.fill(slot, nil, start)
		return w.pass(w.depth)
	}
	if anything {
		if t := m.Form.Type; t != "" && t != catalog.Array {
			c = w.pool.mismatch(c, m, how, "a list is sent where "+string(t)+" is granted")
		}
		ok, _ := w.sweepInside(zone{cover: m.Class})
		w.fill(slot, c, start)
		return ok
	}
	if m.Selected == nil && (!m.Many || at == element || m.Keyed && at == whole) {
		c = w.pool.mismatch(c, m, how, "a list is sent where one is granted")
	}
	if m.Refers && w.holdsObjects() {
		return w.ungrantedObjects(slot, start, c, m, how)
	}
	if !w.enter() {
		return false
	}
	w.pos++
	w.segs = append(w.segs, seg{any: true})
	top, kept := len(w.segs)-1, len(w.pool)
	ok, quick := true, how == own && w.quick()
	for i := 0; ; i++ {
		w.seam()
		if len(w.spots) >= w.window.foldAt {
			w.fold()
		}
		w.pool = w.pool[:kept]
		next := w.space()
		if next == ']' && i == 0 {
			w.pos++
			break
		}
		if quick && w.harmless(m, element) {
			more, good := w.more(']')
			if ok = good; !more {
				break
			}
			continue
		}
		w.segs[top].index = i
		begin := w.off()
		if w.watch != nil {
			w.watch.Element(i, begin)
		}
		if m.Each != nil {
			ok = w.eachOf(m, i, how, begin)
		} else if m.Stars > 1 && next == '[' { // a list of lists
			inner := *m
			inner.Stars--
			ok = w.grantedArray(&inner, how, whole, begin, nil)
		} else {
			ok = w.granted(m, how, element, begin, nil)
		}
		if !ok {
			break
		}
		if w.watch != nil {
			w.watch.End(w.off())
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

// indexed evaluates a list of which `at` names one element; the other elements are beside it.
func (w *walk) indexed(m, nth *contract.Member, how mode, start int, c *candidate) bool {
	slot := w.hold()
	if !w.enter() {
		return false
	}
	w.pos++
	w.segs = append(w.segs, seg{any: true})
	top, kept, met, ok := len(w.segs)-1, len(w.pool), false, true
	for i := 0; ; i++ {
		w.seam()
		w.pool = w.pool[:kept]
		next := w.space()
		if next == ']' && i == 0 {
			w.pos++
			break
		}
		w.segs[top].index = i
		begin := w.off()
		if w.watch != nil {
			w.watch.Element(i, begin)
		}
		switch {
		case strconv.Itoa(i) == nth.Name:
			met = true
			ok = w.granted(nth, how, whole, begin, nil)
		case next == '{' || next == '[':
			w.occur(next)
			ok, _ = w.sweepInside(zone{})
		default:
			ok = w.sweep(zone{}, nil, nil, begin)
		}
		if w.watch != nil {
			w.watch.End(w.off())
		}
		if !ok {
			break
		}
		more, good := w.more(']')
		if ok = good; !more {
			break
		}
	}
	w.pop()
	w.depth--
	w.fill(slot, c, start)
	if ok && !met && how == own {
		w.wayMissing = w.wayMissing || len(w.segs) == 0
		w.segs = append(w.segs, seg{any: true})
		w.emitAt(&candidate{kind: kind.MissingField, severity: severity.Low, grant: nth.Grant,
			reason: "the place where the entity is granted is absent"}, start, 0, "")
		w.pop()
	}
	return ok
}

// holdsObjects looks ahead to see whether the array's first element, apart from arrays and null, is an object.
func (w *walk) holdsObjects() bool {
	t := w.peek()
	defer w.peeked(&t)
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
	v := w.scalar(first)
	switch {
	case !v.ok:
		w.drop(c, start)
		return false
	case how == posted:
		w.embeddedText = nil
		return true
	case m.Class >= catalog.Personal && v.kind != contract.Null:
		w.private = true
	}
	if w.embeddedText != nil {
		w.embed(m.Class, start)
	}
	fits := (!m.Many || at == element) && (m.Fits&v.kind != 0 || v.kind == contract.Text && len(v.text) < m.Short)
	if fits && c == nil && !w.failed && !w.closely && w.judge.detectors.Quiet(len(v.text), v.traits) {
		return true
	}
	if how == own && !fits {
		c = w.pool.mismatch(c, m, how, w.departs(m, at, v.kind, v.text))
	}
	w.scalarSpot(m, how, start, c, &v)
	return true
}

// scalarSpot reports what a scalar gives, if anything.
func (w *walk) scalarSpot(m *contract.Member, how mode, start int, c *candidate, v *scalar) {
	if w.failed && v.kind == contract.Text {
		c = graver(c, w.pool.revealing(v.text))
	}
	if c == nil && !w.closely && w.judge.detectors.Quiet(len(v.text), v.traits) {
		return
	}
	hit := w.recognised(v)
	if hit.Found() {
		w.private = true
		if found := w.pool.hit(hit, m.Class, m.Form.Format); found != nil {
			found.grant = m.Grant
			if f := m.Grant.Field; f != nil {
				found.entity, found.field = m.Grant.Owner, f.Name
			}
			c = graver(c, found)
		}
	}
	if c != nil {
		w.emit(c, start, v.text, hit)
	}
}

// drop keeps the findings of a value that is cut off.
func (w *walk) drop(c *candidate, start int) {
	if c != nil && !c.telling && c.kind != kind.ValueMismatch {
		w.emit(c, start, nil, detect.Hit{})
	}
}

// keyed evaluates an object that is granted as a map.
func (w *walk) keyed(m *contract.Member, how mode, start int, c *candidate) bool {
	slot := w.hold()
	if !w.enter() {
		return false
	}
	w.pos++
	ok, unnamed, kept := true, len(w.names), len(w.pool)
	for first := true; ; first = false {
		w.seam()
		w.pool = w.pool[:kept]
		name, begin, more := w.name(first)
		if !more {
			ok = w.err == nil
			break
		}
		twice := w.twice(unnamed, name)
		info := w.judge.nameInfo(name)
		w.segs = append(w.segs, seg{name: name, masked: info.masked, any: true})
		if how != posted {
			info = w.nameIn(&verdict{nameInfo: info}).nameInfo
		}
		if w.watch != nil {
			w.watch.Member(name, info.masked, begin, Granted, m)
		}
		var named *candidate
		if how != posted {
			named = w.pool.named(&info, m.Class)
		}
		ok = w.granted(m, how, keyed, begin, named)
		if twice && ok && how != posted {
			w.duplicate(begin)
		}
		if w.watch != nil {
			w.watch.End(w.off())
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
	w.depth--
	w.names = w.names[:unnamed]
	w.fill(slot, c, start)
	return ok
}

// choose looks ahead in an object for the members that select a shape.
func (w *walk) choose(all []contract.Alternative) *contract.Object {
	t := w.peek()
	defer w.peeked(&t)
	t.pos++
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

// object evaluates an object's members by its grants. holder is the grant that contains it; if it is open, other
// members are only swept.
func (w *walk) object(o *contract.Object, holder *contract.Member, how mode) bool {
	theirs := w.theirs
	if w.theirs = false; !w.enter() {
		return false
	}
	begin := w.off()
	w.pos++
	frame := w.frame(o)
	next, ok, empty, unnamed, strayed := 0, true, true, len(w.names), len(w.strays)
	picked, quick := w.picked, how == own && w.picked == nil && !theirs && w.quick()
	w.member(nil)
	top, kept := len(w.segs)-1, len(w.pool)
	w.segs[top].of(o)
	var guessed guessing
	for first := true; ; first = false {
		w.seam()
		w.pool = w.pool[:kept]
		if quick && top > 0 && next < len(o.Members) {
			before, ended := next, false
			if next, ended = w.expectedOnes(o, frame, next); next > before {
				first, empty, guessed.row = false, false, 0
			}
			if ended {
				break
			}
		}
		m, name, start, more := w.nextOf(o, next, first, &guessed)
		if !more {
			ok = w.err == nil
			break
		}
		twice := false
		if empty = false; m == nil {
			twice = w.twice(unnamed, name)
			guessed.met(w.stray, next)
		} else {
			next, guessed.row = m.Index+1, 0
			word, bit := &w.seen[frame+m.Index>>6], uint64(1)<<(m.Index&63)
			twice = *word&bit != 0
			*word |= bit
			if quick && !twice && !((top == 0 || o.Envelope) && errorName(name)) && w.harmless(m, whole) {
				more, good := w.more('}')
				if ok = good; !more {
					break
				}
				continue
			}
		}
		w.rename(top, name, m)
		failed := w.failed
		w.notice(o, top, name)
		if m != nil && (!m.Foreign || how == foreign) {
			w.picked = w.pickOf(picked, m, how)
		}
		w.theirs = theirs && m != nil && m.Limited
		ok = w.inObject(o, m, holder, how, name, start)
		w.failed = failed
		if twice && ok && how != posted {
			w.duplicate(start)
		}
		if w.watch != nil {
			w.watch.End(w.off())
		}
		if !ok {
			break
		}
		more, good := w.more('}')
		if ok = good; !more {
			break
		}
	}
	w.pop()
	w.picked = picked
	if ok && how == own && !fulfilled(o.Required, w.seen[frame:]) && (w.part == nil || !w.part.Sparse) {
		w.missing(o, w.seen[frame:], w.strays[strayed:], begin, empty)
	}
	w.seen, w.names, w.strays = w.seen[:frame], w.names[:unnamed], w.strays[:strayed]
	w.depth--
	return ok
}

// frame makes room for the members of an object that are seen, and returns where.
func (w *walk) frame(o *contract.Object) int {
	frame := len(w.seen)
	for n := 0; n < len(o.Members); n += 64 {
		w.seen = append(w.seen, 0)
	}
	return frame
}

// nextOf reads the name of a member, most likely that of the next grant, and returns its grant; nil if it has none, and
// the verdict on it is in w.stray.
func (w *walk) nextOf(o *contract.Object, next int, first bool, g *guessing) (m *contract.Member, name []byte,
	start int, more bool) {
	if next < len(o.Members) {
		if name, start, more = w.expected(o.Members[next].Key); more {
			return o.Members[next], name, start, true
		}
	}
	if w.stray = nil; o.Type == "" {
		w.stray = w.guess(g, o, next)
	}
	if w.stray != nil {
		if name, start, more = w.expected(w.stray.key); more {
			return nil, name, start, true
		}
	}
	if name, start, more = w.name(first); !more {
		return nil, nil, 0, false
	}
	if m = o.Member(name); m == nil {
		word := name
		if w.apart = o.Stray(name); w.apart != nil {
			word = w.apart.Name
		}
		w.stray = w.judge.verdict(o.Entity, word)
	}
	return m, name, start, more
}

// inObject evaluates one member of an object. m is its grant, or nil.
func (w *walk) inObject(o *contract.Object, m, holder *contract.Member, how mode, name []byte, start int) bool {
	switch {
	case m != nil && (!m.Foreign || how == foreign):
		others := w.theirs && !m.Foreign
		w.theirs = false
		if w.watch != nil {
			mark := Granted
			switch {
			case others || w.strange > 0:
				mark = Theirs
			case how != own:
				mark = Foreign
			}
			w.watch.Member(name, "", start, mark, m)
		}
		if w.bare && w.depth <= 2 {
			w.bareSeen = true
		}
		if others {
			return w.theirMember(m, start)
		}
		return w.granted(m, how, whole, start, nil)
	case m != nil:
		w.theirs = false
		if w.watch != nil {
			w.watch.Member(name, "", start, Foreign, m)
		}
		return w.foreignMember(m, how, start)
	default:
		if len(w.segs) == 1 && !w.bare && w.plan != nil && w.plan.Bare != nil && w.plan.Bare.Object != nil {
			if b := w.plan.Bare.Object.Member(name); b != nil && !b.Foreign {
				w.bareSeen = true
			}
		}
		return w.otherMember(o.Entity, name, holder, how, start)
	}
}

// errorName reports whether a member of the root holds an error, whatever the status.
func errorName(name []byte) bool { return string(name) == "error" || string(name) == "errors" }

// fulfilled reports whether all required members were seen.
func fulfilled(required, seen []uint64) bool {
	for i, bits := range required {
		if bits&^seen[i] != 0 {
			return false
		}
	}
	return true
}

// missing reports required members that were not seen. strays are the unexpected members, one of which may be a
// renamed one.
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
		c := w.pool.add(candidate{kind: kind.MissingField, severity: severity.Low, grant: m.Grant})
		if f := m.Grant.Field; f != nil {
			c.entity, c.field, c.class = m.Grant.Owner, f.Name, f.Class
		}
		w.member(m.Text)
		if o.Type != "" {
			w.segs[len(w.segs)-1].typed, w.segs[len(w.segs)-1].label = o, m.Label
		}
		w.emitAt(c, begin, 0, "")
		if w.watch != nil {
			if o.Type != "" {
				w.watch.Of(o.Type, string(w.segs[len(w.segs)-1].word()))
			}
			w.watch.Absent(m)
		}
		w.pop()
	}
}

// wanted reports whether the request selects the member.
func (w *walk) wanted(m *contract.Member) bool {
	return w.picked == nil || m.Way || w.picked.below[m.Name] != nil
}

// foreignMember evaluates a member that is granted to other audiences only: one spot for the member, and spots for
// whatever not even they are granted.
func (w *walk) foreignMember(m *contract.Member, how mode, start int) bool {
	if how == posted {
		return w.postedMember([]byte(m.Name), nil, nil, start)
	}
	class := m.Class
	c := w.pool.add(candidate{kind: kind.WrongAudience, grant: m.Grant})
	if m.Object != nil || m.OneOf != nil || m.Selected != nil {
		class = gravest(m)
	}
	switch g := m.Grant; {
	case g.Relation != nil:
		c.entity, c.field = g.Owner, g.Relation.Name
	case g.Field != nil:
		c.entity, c.field = g.Owner, g.Field.Name
	}
	c.class, c.severity = class, severity.ByClass(class)
	before := w.excess
	ok := w.granted(m, foreign, whole, start, c)
	w.excess = before
	if how == own {
		w.excess += w.weight(start, w.off())
	}
	return ok
}

// otherMember evaluates a member without a grant.
func (w *walk) otherMember(entity *catalog.Entity, name []byte, holder *contract.Member, how mode, start int) bool {
	v := w.stray
	top := &w.segs[len(w.segs)-1]
	top.masked, top.any = v.masked, v.data
	if v.data && how != posted {
		v = w.nameIn(v)
	}
	if how != posted {
		w.unnamed()
	}
	switch {
	case holder.Open:
		if entity != nil {
			v = w.judge.verdict(nil, name)
		}
		if w.watch != nil {
			w.watch.Member(name, v.masked, start, Open, holder)
		}
		if how == posted {
			return w.pass(w.depth)
		}
		return w.sweep(zone{cover: holder.Class, selected: belowStray(w.apart)}, v, nil, start)
	case how == posted:
		return w.postedMember(name, v, entity, start)
	case how == foreign:
		if w.watch != nil {
			w.watch.Member(name, v.masked, start, Ungranted, nil)
		}
		return w.sweep(zone{selected: belowStray(w.apart)}, v, entity, start)
	}
	if w.watch != nil {
		w.watch.Member(name, v.masked, start, Ungranted, nil)
	}
	return w.ungranted(v, entity, how, start)
}
