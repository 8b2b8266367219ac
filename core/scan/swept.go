package scan

import (
	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/kind"
	"inkret/core/severity"
)

// zone is a part of a body without grants, where everything is swept.
type zone struct {
	cover  catalog.Class   // classes up to this are granted here
	entity *catalog.Entity // of the objects, where a relation led here
	under  *verdict        // the telling name of the list whose elements these are, or nil
	table  []*verdict      // what the columns of the rows in this list tell
	row    []*verdict      // the same, of the row that these are the cells of

	selected *contract.Selected // what a query asks of the objects here; nil where there is none
}

// named is the candidate for a name that is itself a recognised value.
func (all *candidates) named(v *nameInfo, cover catalog.Class) *candidate {
	c := all.hit(v.hit, cover, "")
	if c != nil {
		c.named = true
	}
	return c
}

// hit is the candidate for a recognised value, where the grant covers classes up to cover and values of format.
func (all *candidates) hit(hit detect.Hit, cover catalog.Class, format string) *candidate {
	if !hit.Found() || hit.Class <= cover {
		return nil
	}
	if hit.Class == catalog.Secret {
		return all.add(candidate{kind: kind.SecretValue, severity: severity.Critical, class: hit.Class,
			detector: hit.Detector, checked: hit.Checked()})
	}
	if hit.Format != "" && (hit.Format == format || format == "idn-email" && hit.Format == "email" || format == "tel" &&
		hit.Format == "phone") {
		return nil
	}
	return all.add(candidate{kind: kind.PersonalValue, severity: severity.High, class: hit.Class,
		detector: hit.Detector, checked: hit.Checked()})
}

// revealing is the candidate for a text in an error response.
func (all *candidates) revealing(text []byte) *candidate {
	if what := detect.Revealing(text); what != "" {
		return all.add(candidate{kind: kind.RevealingError, severity: severity.Medium,
			reason: "the text of an error holds " + what})
	}
	return nil
}

// sensitive is the candidate for an ungranted member of a class.
func (all *candidates) sensitive(class catalog.Class) *candidate {
	return all.add(candidate{kind: kind.SensitiveField, severity: severity.ByClass(class), class: class})
}

// swept is the candidate for a verdict where only sensitive things are reported.
func (all *candidates) swept(v *verdict, cover catalog.Class) *candidate {
	if v.plain {
		return nil
	}
	c := all.named(&v.nameInfo, cover)
	switch {
	case v.field != nil:
		if class := v.field.Class; class >= catalog.Personal && class > cover {
			c = graver(all.sensitive(class), c)
		}
	case v.relation == nil && v.telling > cover:
		s := all.sensitive(v.telling)
		if s.telling = true; v.beside != "" {
			s.reason = "not granted; " + v.beside + " tells of something " + v.telling.String()
		}
		c = graver(s, c)
	}
	return c
}

// ungranted evaluates the outermost member without a grant.
func (w *walk) ungranted(v *verdict, entity *catalog.Entity, how mode, start int) bool {
	before, asked := w.grave, w.apart
	w.grave = false
	first := w.space()
	if w.occur(first); first == 'n' && w.notGiven(belowStray(asked)) {
		w.grave = before
		return true
	}
	if first == '"' && w.counts && w.sameAsLast(v, how, start) {
		w.grave = w.grave || before
		if how == own {
			w.excess += w.weight(start, w.off())
		}
		return true
	}
	structure := w.pool.add(candidate{entity: entity,
		data: w.segs[len(w.segs)-1].any && v.field == nil && v.relation == nil})
	value := w.pool.named(&v.nameInfo, 0)
	ok := true
	if first == '{' || first == '[' {
		slot := w.hold()
		full := w.filled()
		var objects bool
		ok, objects = w.sweepInside(zone{entity: v.related, under: v.under(first), selected: belowStray(asked)})
		structure = w.structure(structure, v, objects).hollowed(v, !full && !w.judge.AnyValue).ofRoot(asked)
		if w.judge.AnyValue {
			structure = w.named(v, structure, entity, full)
		}
		w.fill(slot, graver(structure, value).of(v, entity), start)
	} else {
		read := w.scalar(first)
		text, scalar := read.text, read.kind
		ok = read.ok
		w.embed(0, start)
		structure = w.structure(structure, v, false).hollowed(v, !w.judge.AnyValue && (scalar == contract.Null ||
			scalar == contract.Text && len(text) == 0 && ok)).ofRoot(asked)
		if text == nil && scalar != contract.Null {
			text = []byte{} // the body broke off in it
		}
		told := ok && w.told(&read, v)
		found := graver(w.named(v, structure, entity, told), value)
		if w.failed && scalar == contract.Text {
			found = graver(found, w.pool.revealing(text))
		}
		hit := w.recognised(&read)
		found = graver(found, w.pool.hit(hit, 0, "")).of(v, entity)
		slot := w.emit(found, start, text, hit)
		if scalar == contract.Text && len(text) > 0 {
			w.remember(v, how, told, &hit, slot)
		}
		if found.kind == kind.UnexpectedField && how == own && !found.data {
			w.strays = append(w.strays, stray{slot: len(w.spots) - 1, name: w.lasting(w.segs[len(w.segs)-1].name),
				verdict: v, kind: scalar})
		}
	}
	w.grave = w.grave || before
	if how == own {
		w.excess += w.weight(start, w.off())
	}
	return ok
}

// filled reports whether the object or array that begins here is not empty.
func (w *walk) filled() bool {
	t := w.peek()
	t.pos++
	b := t.space()
	w.peeked(&t)
	return b != '}' && b != ']'
}

// structure is the candidate for a member by its place, whatever its value.
func (w *walk) structure(c *candidate, v *verdict, objects bool) *candidate {
	switch {
	case v.field != nil:
		c.field, c.class = v.field.Name, v.field.Class
		if c.class >= catalog.Personal {
			c.kind, c.severity = kind.SensitiveField, severity.ByClass(c.class)
			return c
		}
		c.kind, c.severity = kind.UnexpectedField, severity.ByClass(c.class)
	case v.relation != nil:
		c.kind, c.field = kind.UnexpectedRelation, v.relation.Name
	case objects:
		c.kind = kind.UnexpectedRelation
	default:
		c.kind, c.severity = kind.UnexpectedField, severity.Medium
		if c.entity == nil {
			c.severity = severity.Low
		}
	}
	if c.kind == kind.UnexpectedRelation {
		if c.severity = severity.Medium; w.grave {
			c.severity = severity.High
		}
	}
	return c
}

// hollowed adjusts the candidate of a catalogued field whose value is null or empty: only its name is exposed.
func (c *candidate) hollowed(v *verdict, hollow bool) *candidate {
	if c != nil && hollow && c.kind == kind.SensitiveField && !c.telling && v != nil && v.field != nil {
		c.hollow, c.severity = true, severity.Medium
	}
	return c
}

// named adds the candidate for a telling name.
func (w *walk) named(v *verdict, c *candidate, entity *catalog.Entity, full bool) *candidate {
	if v.field != nil || v.relation != nil || v.telling == catalog.Unclassed || !full {
		return c
	}
	s := w.pool.sensitive(v.telling)
	s.entity = entity
	return graver(s, c)
}

// sweep reads a value where only sensitive things are reported. v describes its name, nil for an element; owner is
// the entity it belongs to, if known.
func (w *walk) sweep(z zone, v *verdict, owner *catalog.Entity, start int) bool {
	var c *candidate
	if v != nil {
		c = w.pool.swept(v, z.cover)
	}
	first := w.space()
	if w.occur(first); first == 'n' && w.notGiven(z.selected) {
		return true
	}
	if first == '{' || first == '[' {
		// members of an object have names of their own; elements of a list have this one
		if c != nil && c.telling && !(w.judge.AnyValue && w.filled()) {
			c = nil
		}
		if c != nil && !w.filled() {
			c = c.hollowed(v, !w.judge.AnyValue)
		}
		slot := w.hold()
		if z.under = v.under(first); v != nil {
			z.entity = v.related
		}
		ok, _ := w.sweepInside(z)
		w.fill(slot, c.of(v, owner), start)
		return ok
	}
	read := w.scalar(first)
	text := read.text
	if c != nil && c.telling && !w.told(&read, v) {
		c = nil
	}
	if !read.ok {
		w.drop(c, start)
		return false
	}
	c = c.hollowed(v, !w.judge.AnyValue && (read.kind == contract.Null || read.kind == contract.Text && len(text) == 0))
	if w.embeddedText != nil {
		w.embed(z.cover, start)
	}
	if w.failed && read.kind == contract.Text {
		c = graver(c, w.pool.revealing(text))
	}
	hit := w.recognised(&read)
	if hit.Found() {
		c = graver(c, w.pool.hit(hit, z.cover, ""))
	}
	if c != nil {
		w.emit(c.of(v, owner), start, text, hit)
	}
	return true
}

// under returns the verdict for the elements of a list with a telling name, or nil.
func (v *verdict) under(first byte) *verdict {
	if v == nil || first != '[' || v.telling == catalog.Unclassed || v.field != nil || v.relation != nil {
		return nil
	}
	return &verdict{nameInfo: nameInfo{telling: v.telling, tells: v.tells, beside: v.beside}}
}

// told reports whether the telling name applies to this value.
func (w *walk) told(s *scalar, v *verdict) bool {
	number := s.kind == contract.Integer || s.kind == contract.Number
	switch {
	case v == nil || !number && s.kind != contract.Text:
		return false
	case w.judge.AnyValue:
		return len(s.text) > 0 && v.telling != catalog.Unclassed
	}
	return v.tells.Holds(s.text, number)
}

// of sets the field of owner that a candidate is about.
func (c *candidate) of(v *verdict, owner *catalog.Entity) *candidate {
	if c != nil && c.field == "" && v != nil && v.field != nil {
		c.entity, c.field = owner, v.field.Name
	}
	return c
}

// sweepInside sweeps the members or elements of the object or array that begins here. objects reports whether it is
// an object, or contains one through arrays only.
func (w *walk) sweepInside(z zone) (ok, objects bool) {
	if !w.enter() {
		return false, false
	}
	if w.data[w.pos] == '{' {
		ok, objects = w.sweepObject(z), true
	} else {
		ok, objects = w.sweepArray(z)
	}
	w.depth--
	return ok, objects
}

func (w *walk) sweepObject(z zone) bool {
	if o, entity := w.inType(z); o != nil {
		z.entity = entity
		return w.sweepTyped(z, o)
	}
	w.pos++
	known, unnamed, kept := w.judge.namesOf(z.entity), len(w.names), len(w.pool)
	w.member(nil)
	top, ok := len(w.segs)-1, false
	next, said, names := &known.first, pair{}, header{}
	for first := true; ; first = false {
		w.seam()
		v, name, start, more := *next, []byte(nil), 0, false
		if v != nil {
			name, start, more = w.expected(v.key)
		}
		if !more {
			if name, start, more = w.name(first); !more {
				ok = w.err == nil
				break
			}
			v = w.judge.verdict(z.entity, name)
			if v.kept {
				*next = v
			}
		}
		next = &v.next
		twice := w.twice(unnamed, name)
		w.segs[top].rename(name)
		if v.data {
			w.segs[top].any, w.segs[top].masked = true, v.masked
			v = w.nameIn(v)
		} else if v.sightings < fewSightings || w.folds != nil {
			v.sightings++
			w.unnamed()
		}
		if len(w.names)-unnamed == manyDifferent+1 {
			w.tooMany()
		}
		if w.watch != nil {
			w.watch.Member(name, v.masked, start, Swept, nil)
		}
		failed := w.failed
		w.failed = failed || top == 0 && errorName(name)
		from := w.pos
		switch v.part {
		case detect.PairValue:
			ok = w.sweep(zone{cover: z.cover}, w.paired(v, said), z.entity, start)
		case detect.ColumnRows, detect.ColumnNames:
			ok = w.sweepTable(z, v, &names, start)
		default:
			ok = w.sweep(zone{cover: z.cover}, v, z.entity, start)
		}
		w.failed = failed
		if v.part == detect.PairKey && ok {
			said.read(w.lasting(w.data[from:w.pos]))
		}
		if twice && ok {
			w.duplicate(start)
		}
		if w.watch != nil {
			w.watch.End(w.off())
		}
		w.pool = w.pool[:kept]
		if !ok {
			break
		}
		more, good := w.more('}')
		if ok = good; !more {
			break
		}
	}
	w.pop()
	w.names = w.names[:unnamed]
	return ok
}

func (w *walk) sweepArray(z zone) (ok, objects bool) {
	w.pos++
	w.segs = append(w.segs, seg{any: z.row == nil, nth: z.row != nil})
	top, kept := len(w.segs)-1, len(w.pool)
	for i := 0; ; i++ {
		w.seam()
		if len(w.spots) >= w.window.foldAt {
			w.fold()
		}
		next := w.space()
		if next == ']' && i == 0 {
			w.pos++
			ok = true
			break
		}
		if w.segs[top].index = i; z.row != nil {
			w.segs[top].node = nil
		}
		start := w.off()
		if w.watch != nil {
			w.watch.Element(i, start)
		}
		switch {
		case z.row != nil:
			ok = w.sweep(zone{cover: z.cover, entity: z.entity}, z.cell(i), nil, start)
		case z.table != nil && next == '[':
			w.occur(next)
			ok, _ = w.sweepInside(zone{cover: z.cover, entity: z.entity, row: z.table})
		case next == '{' || next == '[':
			w.occur(next)
			good, inner := w.sweepInside(z)
			ok, objects = good, objects || inner
		default:
			ok = w.sweep(z, z.under, nil, start)
		}
		if w.watch != nil {
			w.watch.End(w.off())
		}
		w.pool = w.pool[:kept]
		if !ok {
			break
		}
		more, good := w.more(']')
		if ok = good; !more {
			break
		}
	}
	w.pop()
	return ok, objects
}
