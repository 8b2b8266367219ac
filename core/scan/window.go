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

// Bodies that are too large to hold in memory are read through a window. Between members and elements (at seams),
// everything before the current value is dropped. Offsets refer to the whole body. The tokenizer does not know
// about the window: if a value does not fit, the body is read again with a larger one.

const (
	// windowAhead is how much of a body the window initially holds beyond a seam; almost all values fit.
	windowAhead = 256 << 10
	wider       = 4
	// leastStep is how much is read at least between two moves of the window.
	leastStep = 768 << 10
	// maxValue limits one value, because detectors need the whole string.
	maxValue = exchange.MaxBody
)

var errValue = fmt.Errorf("a value of over %d MiB", maxValue>>20)

// window is the part of a body that is in memory.
type window struct {
	src     io.ReadCloser // nil where the body is held
	buffer  []byte
	ahead   int
	slideAt int // the position from which on a seam moves the window
	foldAt  int // the number of spots from which on they are folded
}

// off returns the offset of the next unread byte in the body.
func (t *tokens) off() int { return t.before + t.pos }

// seam is called between members and elements, where only the names on the current path must be kept.
func (w *walk) seam() {
	if w.pos >= w.window.slideAt {
		w.slide()
	}
}

// slide drops what was read and reads on.
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

// lasting returns a copy of a name that stays valid when the window moves.
func (w *walk) lasting(name []byte) []byte {
	if w.follows {
		return bytes.Clone(name)
	}
	return name
}

// text is the input of a walk: bytes in memory, or a body that is streamed.
type text struct {
	data []byte
	long *exchange.Long
}

// open starts reading a text.
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

// close ends reading a streamed body.
func (w *walk) close() {
	if w.window.src != nil {
		w.window.src.Close()
		w.window.src = nil
	}
}

// through reads a whole text; a streamed one through a window that is large enough.
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

// peek returns a tokenizer that looks ahead without moving the walk; see [walk.peeked].
func (w *walk) peek() tokens {
	return tokens{data: w.data, pos: w.pos, before: w.before, follows: w.follows}
}

// peeked ends looking ahead.
func (w *walk) peeked(t *tokens) { w.short = w.short || t.short || t.follows && t.pos == len(t.data) }

// manySpots is the number of spots from which those of a streamed body are folded.
const manySpots = 20_000

// folding is the key under which spots are folded into the first of their kind.
type folding struct {
	path     string
	kind     kind.Kind
	severity severity.Severity
}

// fold merges finished spots of the same kind into one, so that a large body does not need memory for each.
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
