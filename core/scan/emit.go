package scan

import (
	"bytes"

	"inkret/core/catalog"
	"inkret/core/detect"
	"inkret/core/place"
)

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
	if print := w.judge.Print; print != nil && len(text) >= shortestPrinted && c.class >= catalog.Personal && !w.outlined {
		w.spots[slot].Print = print(text)
	}
}

// shortestPrinted is the shortest value that has a print: shorter ones are the same by
// chance.
const shortestPrinted = 5

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
	p := append(append(w.pathText[:0], w.prefixPath...), place.Root...)
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
	w.pointers = w.pointer(w.pointers)
	w.cuts[slot] = from
	s.pointerEnd = len(w.pointers)
	if c.class >= catalog.Personal {
		w.private = w.private || c.kind != MissingField
		w.grave = w.grave || c.kind.Exposure()
	}
}
