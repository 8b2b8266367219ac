package scan

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"

	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/severity"
)

// A body that is not held whole is read through a window: what lies before the value being
// read is dropped at the seams between members and elements. Offsets are of the body. The
// tokenizer knows nothing of it: where a value does not fit in what the window holds beyond
// a seam, the body is read anew through a wider one.

const (
	// windowAhead is how much of a body the window holds beyond a seam, to begin with: nearly
	// all values fit in it.
	windowAhead = 256 << 10
	wider       = 4
	// leastStep is how much of a body is read between two moves of the window at least.
	leastStep = 768 << 10
	// maxValue bounds one value, since detectors look at the whole of a string.
	maxValue = exchange.MaxBody
)

var errValue = fmt.Errorf("a value of over %d MiB", maxValue>>20)

// window is where a walk reads a body that is not held.
type window struct {
	src     io.ReadCloser // nil where the body is held
	buffer  []byte
	ahead   int
	slideAt int // the position from which on a seam moves the window
	foldAt  int // the number of spots from which on they are folded
}

// off gives where in the body the next unread byte stands.
func (t *tokens) off() int { return t.before + t.pos }

// seam is called between members and elements, where nothing of the window is kept but the
// names on the way here.
func (w *walk) seam() {
	if w.pos >= w.window.slideAt {
		w.slide()
	}
}

// slide drops what was read, and reads on.
func (w *walk) slide() {
	for i := range w.segs {
		w.segs[i].name = bytes.Clone(w.segs[i].name)
	}
	n := copy(w.window.buffer, w.data[w.pos:])
	w.before += w.pos
	w.data, w.pos = w.window.buffer[:n], 0
	for w.follows && len(w.data) < cap(w.data) {
		n, err := w.window.src.Read(w.data[len(w.data):cap(w.data)])
		w.data = w.data[:len(w.data)+n]
		if err != nil {
			if w.follows = false; !errors.Is(err, io.EOF) {
				w.readErr = err
			}
		}
	}
	if w.window.slideAt = math.MaxInt; w.follows {
		w.window.slideAt = len(w.data) - w.window.ahead
	}
}

// lasting gives a name that stays when the window moves on.
func (w *walk) lasting(name []byte) []byte {
	if w.follows {
		return bytes.Clone(name)
	}
	return name
}

// text is what a walk reads: bytes that are held, or a body that is not.
type text struct {
	data []byte
	long *exchange.Long
}

// open makes the start of a text what is read next.
func (w *walk) open(of text) {
	w.close()
	w.tokens = tokens{data: of.data}
	w.window.slideAt, w.window.foldAt = math.MaxInt, math.MaxInt
	if of.long == nil {
		return
	}
	r, err := of.long.Open()
	if err != nil {
		w.readErr = err
		return
	}
	if size := w.window.ahead + max(w.window.ahead, min(leastStep, 3*w.window.ahead)); len(w.window.buffer) != size {
		w.window.buffer = make([]byte, size)
	}
	w.window.src, w.follows, w.window.foldAt = r, true, manySpots
	w.slide()
}

// close ends the reading of a body that is not held.
func (w *walk) close() {
	if w.window.src != nil {
		w.window.src.Close()
		w.window.src = nil
	}
}

// through reads a text whole; one that is not held through a window wide enough.
func (w *walk) through(of text) error {
	w.window.ahead = w.judge.ahead
	for {
		err := w.body(of)
		w.close()
		switch {
		case !w.short:
			return err
		case w.window.ahead >= maxValue:
			w.readErr, w.err, w.follows = errValue, nil, false
			w.fail(len(w.data), "")
			return w.err
		}
		w.window.ahead *= wider
	}
}

// peek gives a reader of what comes next that leaves the walk where it is; see [walk.peeked].
func (w *walk) peek() tokens {
	return tokens{data: w.data, pos: w.pos, before: w.before, follows: w.follows}
}

// peeked ends a look at what comes next.
func (w *walk) peeked(t *tokens) { w.short = w.short || t.short || t.follows && t.pos == len(t.data) }

// manySpots is from how many spots on those of a body that is not held are folded.
const manySpots = 20_000

// folding is by what spots are folded into the first of their sort.
type folding struct {
	path     string
	kind     kind.Kind
	severity severity.Severity
}

// fold makes one of the spots of a sort that nothing waits for any more, so that a long
// body takes no room for each.
func (w *walk) fold() {
	settled := 0
	for i := range w.spots { // open objects and lists wait for theirs
		if w.spots[i].container != 0 && w.spots[i].Kind == 0 {
			settled = i + 1
		}
	}
	for i := range w.strays {
		settled = max(settled, w.strays[i].slot+1)
	}
	first := map[folding]int{}
	kept, pointers := settled, append([]byte(nil), w.pointers...)
	w.pointers = w.pointers[:0]
	for i := range w.spots {
		s := w.spots[i]
		text := pointers[w.cuts[i]:max(w.cuts[i], s.pointerEnd)]
		if i >= settled {
			if s.Kind == 0 {
				continue
			}
			of := folding{s.Path, s.Kind, s.Severity}
			if at, met := first[of]; met {
				w.spots[at].Folded += 1 + s.Folded
				w.spots[at].Bytes += s.Bytes
				continue
			}
			first[of] = kept
			w.spots[kept] = s
			i = kept
			kept++
		}
		w.cuts[i] = len(w.pointers)
		w.pointers = append(w.pointers, text...)
		w.spots[i].pointerEnd = len(w.pointers)
	}
	w.spots, w.cuts = w.spots[:kept], w.cuts[:kept]
	w.window.foldAt = kept + manySpots
}
