package scan

import (
	"cmp"
	"iter"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/detect"
)

// A value that is recognised by its check digit alone may be so by chance: of random numbers of 16 digits, three in a
// hundred are card numbers. Such values are judged together with all that stands at the same place of an endpoint in
// a run. Because that is known only at the end, a run that met such a value is read again: once to count
// ([Judge.Count]), and where a column has too few of them once more without it ([Judge.Know]).

// Column is all texts at one place of an endpoint: values, or names that are data.
type Column struct {
	Endpoint string `json:"endpoint"`
	Request  bool   `json:"request,omitempty"` // it is in the request, not in the response
	Path     string `json:"path"`
	Names    bool   `json:"names,omitempty"`
}

// ofNames ends the paths under which columns of names are kept; no path has such a byte.
const ofNames = "\x00"

func (c Column) key() string {
	if c.Names {
		return c.Path + ofNames
	}
	return c.Path
}

// Tally counts the strings of a column.
type Tally struct{ Strings, Recognised int }

// fewStrings is the number of strings below which each counts for itself.
const fewStrings = 20

// Chance reports whether what was recognised is likely to be so by chance.
func (t Tally) Chance() bool { return t.Strings >= fewStrings && 2*t.Recognised < t.Strings }

// Add adds the tallies of another judge.
func (t *Tally) Add(other Tally) {
	t.Strings += other.Strings
	t.Recognised += other.Recognised
}

// columns holds something for columns, by endpoint, direction and path.
type columns[T any] map[string]map[bool]map[string]T

func (c columns[T]) set(at Column, to T) {
	if c[at.Endpoint] == nil {
		c[at.Endpoint] = map[bool]map[string]T{}
	}
	if c[at.Endpoint][at.Request] == nil {
		c[at.Endpoint][at.Request] = map[string]T{}
	}
	c[at.Endpoint][at.Request][at.key()] = to
}

// Count makes the judge count the strings of columns in what it evaluates from now on.
func (j *Judge) Count(all []Column) {
	j.counted = columns[*Tally]{}
	for _, c := range all {
		j.counted.set(c, &Tally{})
	}
}

// Tallies returns what was counted, and adds it to a total.
func (j *Judge) Tallies(total map[Column]Tally) {
	for endpoint, directions := range j.counted {
		for request, paths := range directions {
			for path, t := range paths {
				at := Column{Endpoint: endpoint, Request: request}
				at.Path, at.Names = strings.CutSuffix(path, ofNames)
				sum := total[at]
				sum.Add(*t)
				total[at] = sum
			}
		}
	}
}

// ByChance lists the columns in which what was recognised is likely to be so by chance, in order.
func ByChance(total map[Column]Tally) []Column {
	var all []Column
	for c, t := range total {
		if t.Chance() {
			all = append(all, c)
		}
	}
	slices.SortFunc(all, Column.Compare)
	return all
}

// Compare orders columns by endpoint and path.
func (c Column) Compare(other Column) int {
	request := func(c Column) int {
		if c.Request {
			return 1
		}
		return 0
	}
	return cmp.Or(cmp.Compare(c.Endpoint, other.Endpoint), cmp.Compare(c.key(), other.key()),
		cmp.Compare(request(c), request(other)))
}

// Columns yields the columns of the spots that only a check digit tells.
func (o *Outcome) Columns() iter.Seq[Column] {
	return func(yield func(Column) bool) {
		for i := range o.Spots {
			if s := &o.Spots[i]; s.Checked && !yield(Column{o.Endpoint, s.Request, s.Path, s.Named}) {
				return
			}
		}
	}
}

// AnyEndpoint in what is known stands for every endpoint of which nothing else is.
const AnyEndpoint = ""

// Known is what only a whole run tells.
type Known struct {
	Chance []Column `json:"chance,omitempty"` // columns in which check digits count for nothing
	Data   []Column `json:"data,omitempty"`   // places below which names are data
	// who holds which credentials, by their keyed hashes
	Holders map[uint64]uint64 `json:"holders,omitempty"`
}

// At returns what is known of an endpoint, for whatever it is called elsewhere.
func (k Known) At(endpoint string) (of Known) {
	of.Holders = k.Holders
	for _, c := range k.Chance {
		if c.Endpoint == endpoint {
			of.Chance = append(of.Chance, Column{AnyEndpoint, c.Request, c.Path, c.Names})
		}
	}
	for _, c := range k.Data {
		if c.Endpoint == endpoint {
			of.Data = append(of.Data, Column{Path: c.Path})
		}
	}
	return of
}

// Know makes the judge use what is known of a run from now on.
func (j *Judge) Know(k Known) {
	j.dismissed, j.folded = columns[struct{}]{}, columns[struct{}]{}
	j.knowHolders(k.Holders)
	for _, c := range k.Chance {
		j.dismissed.set(c, struct{}{})
	}
	for _, c := range k.Data {
		j.folded.set(c, struct{}{})
	}
}

// side is the columns of one endpoint in one direction. Both maps are nil for almost all captures.
type side struct {
	detectors *detect.Set
	counted   map[string]*Tally
	dismissed map[string]struct{}
}

func (j *Judge) sideOf(endpoint string, request bool) side {
	s := side{j.detectors, j.counted[endpoint][request], j.dismissed[endpoint][request]}
	if s.dismissed == nil {
		s.dismissed = j.dismissed[AnyEndpoint][request]
	}
	return s
}

// quiet reports that no column is looked at.
func (s *side) quiet() bool { return s.counted == nil && s.dismissed == nil }

// hit returns what is recognised in the string at a path, where detectors found hit: nothing, or something else that
// is in it, where its column is dismissed.
func (s *side) hit(path string, text []byte, hit detect.Hit) detect.Hit {
	if t := s.counted[path]; t != nil {
		t.Strings++
		if hit.Checked() {
			t.Recognised++
		}
	}
	if hit.Checked() {
		if _, is := s.dismissed[path]; is {
			return s.detectors.Unchecked(text, detect.TraitsOf(text))
		}
	}
	return hit
}

// nameIn returns the verdict on a name that is data, the step on top of the way, together with its column.
func (w *walk) nameIn(v *verdict) *verdict {
	if w.side.counted == nil && (w.side.dismissed == nil || !v.hit.Checked()) {
		return v
	}
	hit := w.side.hit(w.entry().path+ofNames, w.segs[len(w.segs)-1].name, v.hit)
	if hit == v.hit {
		return v
	}
	if v.apart == nil || v.apart.hit != hit {
		other := *v
		other.hit, other.kept = hit, false
		other.plain = !hit.Found() && (v.field == nil || v.field.Class < catalog.Personal)
		v.apart = &other
	}
	return v.apart
}
