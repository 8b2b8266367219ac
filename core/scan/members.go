package scan

import (
	"bytes"
	"strings"

	"inkret/core/contract"
	"inkret/core/kind"
	"inkret/core/severity"
)

// manyNames is the number of names from which an object's names are hashed instead of compared one by one.
const manyNames = 24

// twice reports whether the current object, whose names begin at from in w.names, already has name, and remembers
// it.
func (w *walk) twice(from int, name []byte) bool {
	have := w.names[from:]
	w.names = append(w.names, w.lasting(name))
	if len(have) < manyNames {
		for _, other := range have {
			if bytes.Equal(other, name) {
				return true
			}
		}
		return false
	}
	if w.wide == nil {
		w.wide = map[int]map[string]struct{}{}
	}
	known := w.wide[from]
	if known == nil || len(have) == manyNames {
		known = make(map[string]struct{}, 2*manyNames)
		for _, other := range have {
			known[string(other)] = struct{}{}
		}
		w.wide[from] = known
	}
	_, is := known[string(name)]
	if !is {
		known[string(name)] = struct{}{}
	}
	return is
}

// duplicate reports that the member just read occurs twice in its object, beside whatever else is found there.
func (w *walk) duplicate(start int) {
	w.emitAt(&candidate{kind: kind.HiddenDuplicate, severity: severity.Medium,
		reason: "the name stands twice in one object: parsers differ in which one they see"},
		start, w.off()-start, maskedPart)
	last := len(w.spots) - 1
	pointer := w.pointers[w.cuts[last]:]
	if _, is := w.doubled[string(pointer)]; is { // it stands there a third time, and is one place
		w.spots, w.pointers, w.cuts = w.spots[:last], w.pointers[:w.cuts[last]], w.cuts[:last]
		return
	}
	if w.doubled == nil {
		w.doubled = map[string]struct{}{}
	}
	w.doubled[string(pointer)] = struct{}{}
}

// pick is a selection of members.
type pick struct {
	below map[string]*pick // an empty one below is all of that member
}

// pickTree parses a selection of members, each with its way as in a.b; nil selects all.
func pickTree(asked []string) *pick {
	if asked == nil {
		return nil
	}
	top := &pick{below: map[string]*pick{}}
	for _, way := range asked {
		at := top
		for _, name := range strings.Split(way, ".") {
			if at.below == nil {
				at.below = map[string]*pick{}
			}
			if at.below[name] == nil {
				at.below[name] = &pick{}
			}
			at = at.below[name]
		}
	}
	return top
}

// entityMember returns the member that holds the entity in this pass.
func (w *walk) entityMember() *contract.Member {
	if w.bare {
		return w.plan.Bare
	}
	return w.plan.Entity
}

// pickOf records whether a sent member was selected, and returns the selection inside that member.
func (w *walk) pickOf(picked *pick, m *contract.Member, how mode) *pick {
	if picked == nil {
		return nil
	}
	inner := picked.below[m.Name]
	switch {
	case inner == nil:
		if how == own && w.unasked == "" {
			w.unasked = m.Name
		}
		return nil
	case how == own:
		w.askedGranted = true
	}
	if inner.below == nil {
		return nil
	}
	return inner
}
