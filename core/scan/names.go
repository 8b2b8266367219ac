package scan

import "slices"

// A place below which a run has seen very many different names that no grant names holds data, as a map of users by
// their logins does: the names are no members, and their paths are one, with [*]. Because that is known only at the
// end, a run that met such a place is read again ([Judge.Know]).

// manyDifferent is the number of names up to which each stands for itself.
const manyDifferent = 500

// fewSightings is how often a judge notes where it sees a name. Names that are data are seen less often than that;
// those of members cost nothing from then on.
const fewSightings = 64

// Name is a name that no grant names, and the path it was seen below.
type Name struct {
	Below, Name string
	Many        bool // one object alone had too many
}

// Names are the names that a run has seen, by where they stood. They are bounded: where it has been seen that there are
// too many, no more are kept.
type Names struct {
	seen map[Column]map[string]struct{}
	kept int
}

// mostNames limits the names that are kept in all.
const mostNames = 1 << 18

// Add adds the names that a capture showed first.
func (n *Names) Add(out *Outcome) {
	for _, one := range out.Names {
		n.add(Column{Endpoint: out.Endpoint, Path: one.Below}, one.Name, one.Many)
	}
}

func (n *Names) add(at Column, name string, many bool) {
	if n.seen == nil {
		n.seen = map[Column]map[string]struct{}{}
	}
	have, known := n.seen[at]
	switch {
	case known && have == nil || n.kept >= mostNames:
		return
	case many:
		n.full(at)
		return
	case !known:
		have = map[string]struct{}{}
		n.seen[at] = have
	}
	if _, is := have[name]; is {
		return
	}
	have[name] = struct{}{}
	if n.kept++; len(have) > manyDifferent {
		n.full(at)
	}
}

// full notes that there are too many names at a place.
func (n *Names) full(at Column) {
	n.kept -= len(n.seen[at])
	n.seen[at] = nil
}

// Merge adds the names that another part of the run has seen.
func (n *Names) Merge(other *Names) {
	for at, names := range other.seen {
		if names == nil {
			n.add(at, "", true)
		}
		for name := range names {
			n.add(at, name, false)
		}
	}
}

// Data lists the places below which names are data, in order.
func (n *Names) Data() []Column {
	var all []Column
	for at, names := range n.seen {
		if names == nil {
			all = append(all, at)
		}
	}
	slices.SortFunc(all, Column.Compare)
	return all
}

// foldedAt returns the places of an endpoint below which names are data.
func (j *Judge) foldedAt(endpoint string) map[string]struct{} {
	if at := j.folded[endpoint]; at != nil {
		return at[false]
	}
	return j.folded[AnyEndpoint][false]
}

// unnamed notes a name that no grant names, the step on top of the way.
func (w *walk) unnamed() {
	top := &w.segs[len(w.segs)-1]
	if top.any || len(w.segs) > maxSteps {
		return
	}
	if w.folds != nil {
		if _, is := w.folds[w.above().path]; is {
			top.any, top.node = true, nil
			return
		}
	}
	// where there are too many already, the run is read again, and more names of their own would only cost
	if above := w.above(); above.namesOf == w.endpoint && above.names > manyDifferent {
		top.any, top.node = true, nil
		return
	}
	n := w.entry()
	if n.noted == w.endpoint {
		return
	}
	n.noted = w.endpoint
	w.fewer(w.above(), Name{Below: w.above().path, Name: n.step}, 1)
}

// fewer notes a name, unless more than count are noted for the endpoint already.
func (w *walk) fewer(above *pathNode, name Name, counts int) {
	if above.namesOf != w.endpoint {
		above.namesOf, above.names = w.endpoint, 0
	}
	if above.names <= manyDifferent {
		above.names += counts
		w.fresh = append(w.fresh, name)
	}
}

// tooMany notes that the object being read has more names than a few hundred.
func (w *walk) tooMany() {
	above := w.above()
	w.fewer(above, Name{Below: above.path, Many: true}, manyDifferent+1)
}

// above returns the path of the object whose member is being read.
func (w *walk) above() *pathNode {
	if o := w.segs[len(w.segs)-1].typed; o != nil {
		return w.judge.rootOf(w.prefixPath + o.Within)
	}
	if len(w.segs) == 1 {
		return w.root
	}
	w.entry()
	return w.segs[len(w.segs)-2].node
}
