// Package matrix sets what several callers were answered to the same call side by side: members of the body as rows,
// callers as columns.
package matrix

import (
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/kind"
	"inkret/core/place"
	"inkret/core/scan"
)

// State is how a member stands for a caller.
type State string

// States, from what matters most to what matters least where elements of a list differ.
const (
	Theirs   State = "theirs"   // in a record of another person, of whom the caller should see nothing there
	Leaking  State = "leaking"  // sent, and not granted
	Sent     State = "sent"     // sent, and no contract says of it
	Granted  State = "granted"  // sent, and granted
	Absent   State = "absent"   // granted, and not sent
	Withheld State = "withheld" // not granted, and not sent
	Refused  State = "refused"  // the call as a whole
)

var ranks = map[State]int{Theirs: 7, Leaking: 6, Sent: 5, Granted: 4, Absent: 3, Withheld: 2, Refused: 1}

// Column is what one caller was answered.
type Column struct {
	Refused bool           // no body was given that could be judged
	Body    *scan.WireNode // with the spots of its evaluation
	Outcome *scan.Outcome
}

// Row is one member of the bodies, elements of a list taken together.
type Row struct {
	Path    string        // JSONPath, with [*] for elements and names that are data
	Class   catalog.Class // the gravest that is known of it
	States  []State       // one a column
	Differs bool          // callers who were answered stand differently
}

// Most is how many rows a matrix has at the most.
const Most = 1000

// Of sets columns side by side: the rows that differ first, then by path. more is how many rows were left out.
func Of(columns []Column) (rows []Row, more int) {
	at := map[string]*Row{}
	for i, c := range columns {
		if c.Refused || c.Body == nil {
			continue
		}
		w := walker{column: i, columns: len(columns), rows: at}
		w.node(c.Body, place.Root, "")
	}
	for path, r := range at {
		for i, c := range columns {
			switch {
			case c.Refused || c.Body == nil:
				r.States[i] = Refused
			case r.States[i] == "" && c.grants(path):
				r.States[i] = Absent
			case r.States[i] == "":
				r.States[i] = Withheld
			}
		}
		r.Differs = differs(r.States)
		rows = append(rows, *r)
	}
	slices.SortFunc(rows, func(a, b Row) int {
		if a.Differs != b.Differs {
			if a.Differs {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Path, b.Path)
	})
	if len(rows) > Most {
		rows, more = rows[:Most], len(rows)-Most
	}
	return rows, more
}

// grants reports whether the caller's grants lead to a path.
func (c *Column) grants(path string) bool {
	return c.Outcome != nil && c.Outcome.Response != nil && c.Outcome.Outermost(path) == ""
}

// differs reports whether the states of those who were answered are not all the same.
func differs(states []State) bool {
	first := State("")
	for _, s := range states {
		switch {
		case s == Refused:
		case first == "":
			first = s
		case s != first:
			return true
		}
	}
	return false
}

type walker struct {
	column, columns int
	rows            map[string]*Row
}

// node notes how a value and all in it stand. above is what holds of what it stands in.
func (w *walker) node(n *scan.WireNode, path string, above State) {
	s := stateOf(n, above)
	if n.Kind == "page" {
		s = above
	} else {
		w.put(path, s, n)
	}
	for _, c := range n.Children {
		below := path
		switch {
		case c.Inner && c.Name != "":
			below = c.Name + " >> " + place.Root
		case c.Inner:
			below = path + " >> " + place.Root
		case c.Type != "":
			below = c.Type + scan.Within + place.Root + place.Name(c.Field)
		case c.Index >= 0 || scan.DataName(c.Name):
			below += place.Elements
		default:
			below += place.Name(c.Name)
		}
		w.node(c, below, s)
	}
}

func (w *walker) put(path string, s State, n *scan.WireNode) {
	r := w.rows[path]
	if r == nil {
		r = &Row{Path: path, States: make([]State, w.columns)}
		w.rows[path] = r
	}
	if ranks[s] > ranks[r.States[w.column]] {
		r.States[w.column] = s
	}
	if r.Class = max(r.Class, n.Class); n.Spot != nil {
		r.Class = max(r.Class, n.Spot.Class)
	}
}

// stateOf returns how a value stands, by its mark, its spot and what it stands in.
func stateOf(n *scan.WireNode, above State) State {
	switch {
	case n.Missing:
		return Absent
	case n.Spot != nil && n.Spot.Kind == kind.ForeignRecord, n.Mark == scan.Theirs:
		return Theirs
	case n.Spot != nil && (n.Spot.Kind.Member() || n.Spot.Kind.Sensitive()):
		return Leaking
	}
	switch n.Mark {
	case scan.Granted, scan.Open:
		if above == Theirs {
			return Theirs
		}
		return Granted
	case scan.Foreign, scan.Ungranted:
		return Leaking
	}
	switch above { // it is only swept
	case Leaking, Theirs, Granted:
		return above
	}
	return Sent
}
