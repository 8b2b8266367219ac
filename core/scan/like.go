package scan

import (
	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
)

// Bodies are alike: what no grant names comes again in each element, at the same place, and the same is told of
// it. So names are guessed from those of the object before, and a value of which the same is told as of the
// last one at its path is counted with that one.

// guesses are the members without a grant that objects had, by the grant that was next where they stood, in order.
type guesses struct{ at [][]*verdict }

// mostGuessed is the most members in a row that are guessed.
const mostGuessed = 64

// guessing is what is guessed of one object.
type guessing struct {
	of  *guesses
	row int // members without a grant since the last with one
}

// guess returns the verdict on the member without a grant that is most likely next, or nil.
func (w *walk) guess(g *guessing, o *contract.Object, next int) *verdict {
	if g.of == nil {
		if g.of = w.judge.guesses[o]; g.of == nil {
			g.of = &guesses{at: make([][]*verdict, len(o.Members)+1)}
			w.judge.guesses[o] = g.of
		}
	}
	if row := g.of.at[next]; g.row < len(row) {
		return row[g.row]
	}
	return nil
}

// met remembers a member without a grant.
func (g *guessing) met(v *verdict, next int) {
	if g.of == nil { // nothing is guessed
		return
	}
	row := &g.of.at[next]
	switch {
	case !v.kept || g.row >= mostGuessed:
	case g.row < len(*row):
		(*row)[g.row] = v
	case g.row == len(*row):
		*row = append(*row, v)
	}
	g.row++
}

// like is what was told of the last text at a path.
type like struct {
	v        *verdict
	how      mode
	told     bool
	class    catalog.Class
	detector string
	format   string
	spot     int32  // its number, from 1 on
	body     uint64 // in which that was
}

// remember notes what was told of a text, in the spot of that number.
func (w *walk) remember(v *verdict, how mode, told bool, hit *detect.Hit, slot int) {
	if w.counts && w.window.src == nil && !apart[w.spots[slot].Kind] && w.judge.Print == nil && !w.failed &&
		!w.closely &&
		w.side.dismissed == nil && !w.judge.AnyValue {
		w.entry().like = like{v, how, told, hit.Class, hit.Detector, hit.Format, int32(slot + 1), w.judge.body}
	}
}

// sameAsLast reads a text and counts it with the last one at its path, if the same is told of both. Otherwise it reads
// nothing.
func (w *walk) sameAsLast(v *verdict, how mode, start int) bool {
	l := &w.entry().like
	if l.body != w.judge.body || l.v != v || l.how != how || w.failed {
		return false
	}
	from := w.pos
	s, ok := w.tokens.string()
	if ok && !s.escaped && len(s.raw) > 0 && (len(s.raw) <= 2 || !mayEmbed(s.raw)) {
		hit := w.judge.detectors.Value(s.raw, s.traits)
		spot := &w.spots[l.spot-1]
		if hit.Detector == l.detector && hit.Class == l.class && hit.Format == l.format &&
			(l.class == catalog.Secret || v.tells.Holds(s.raw, false) == l.told) && spot.Sample != nullSample {
			spot.Folded++
			spot.counted += w.weight(start, w.off())
			if spot.Class >= catalog.Personal {
				w.private, w.grave = true, w.grave || spot.Kind.Exposure()
			}
			return true
		}
	}
	w.pos = from
	return false
}
