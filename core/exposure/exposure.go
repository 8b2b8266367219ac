// Package exposure lists what a contract exposes: each value that a plan grants, with its path and the entity field
// it carries. Maps, comparisons and exports are built from it.
package exposure

import (
	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/place"
	"inkret/core/scan"
)

// Exposure is one granted value as one audience sees it.
type Exposure struct {
	Path     string // JSONPath
	Route    string // how the entity's field is reached, whatever the members are called
	Entity   string // where a field is behind it
	Field    string
	Derived  []string // names of fields of Entity that it is computed from
	Carries  string   // in words
	Class    catalog.Class
	Form     catalog.Form
	Open     bool // anything may be in it
	Refers   bool // a bare reference
	Many     bool
	Required bool
	Empty    bool // an object in which nothing is granted
	Keyed    bool // it is in an object used as a map, or is one
	Limited  bool // to the caller's own records
	Grant    *contract.Grant
}

// Of lists what a plan grants, by path; nothing for a nil plan. Recursive shapes are expanded once. If several
// shapes put different things at one path, the others follow after a line feed and their route.
func Of(p *contract.Plan) map[string]Exposure { return Deep(p, 1) }

// Deep is Of with recursive shapes expanded several times, up to some thousands of exposures, and with objects that
// grant nothing.
func Deep(p *contract.Plan, times int) map[string]Exposure {
	all := map[string]Exposure{}
	if p == nil {
		return all
	}
	w := walker{all: all, on: map[*contract.Object]int{}, times: times}
	w.member(p.Root, place.Root, "", 0, around{})
	return all
}

type walker struct {
	all   map[string]Exposure
	on    map[*contract.Object]int // being walked, and how often
	times int
}

// most limits the list where shapes are expanded more than once.
const most = 5000

// deepest limits the levels that are listed.
const deepest = 40

// around is what holds for all that is inside of something.
type around struct{ keyed, limited bool }

func (w *walker) member(m *contract.Member, path, route string, depth int, in around) {
	in.keyed, in.limited = in.keyed || m.Keyed, in.limited || m.Limited
	if m.Many || m.Keyed {
		path += "[*]"
	}
	g := m.Grant
	if g.Relation != nil {
		route += ">" + g.Relation.Name
	}
	if m.Object == nil && m.OneOf == nil || m.Open {
		e := Exposure{Path: path, Carries: g.Carries(), Class: m.Class, Form: m.Form, Open: m.Open, Refers: m.Refers,
			Many: m.Many, Required: m.Required, Keyed: in.keyed, Limited: in.limited, Grant: g}
		if e.Entity, e.Field = g.Behind(); e.Field != "" {
			e.Route = route + "." + e.Field
		} else {
			if g.Owner != nil {
				e.Entity = g.Owner.Name
			}
			for _, f := range g.Derived {
				e.Derived = append(e.Derived, f.Name)
			}
			e.Route = route + "." + e.Carries + "/" + m.Name
		}
		w.put(e)
	}
	if depth > deepest {
		return
	}
	before := len(w.all)
	if m.Object != nil {
		w.object(m.Object, path, route, depth, in)
	}
	for _, a := range m.OneOf {
		w.object(a.Object, path, route, depth, in)
	}
	// an empty object is exposed
	if w.times > 1 && before == len(w.all) && path != place.Root && (m.Object != nil || m.OneOf != nil) {
		w.all[path] = Exposure{Path: path, Route: route + ".{}/" + m.Name, Carries: g.Carries(), Class: catalog.Public,
			Empty: true, Keyed: in.keyed, Limited: in.limited, Grant: g}
	}
}

// put adds an exposure. Of several at one path, the one with the smallest route gets the path as its key, whatever
// their order.
func (w *walker) put(e Exposure) {
	there, taken := w.all[e.Path]
	switch {
	case !taken:
		w.all[e.Path] = e
	case there.Route == e.Route:
		there.Open, there.Many, there.Required = there.Open || e.Open, there.Many || e.Many, there.Required &&
			e.Required
		there.Limited = there.Limited && e.Limited
		w.all[e.Path] = there
	case e.Route < there.Route:
		w.all[e.Path], w.all[there.Path+"\n"+there.Route] = e, there
	default:
		w.all[e.Path+"\n"+e.Route] = e
	}
}

func (w *walker) object(o *contract.Object, path, route string, depth int, in around) {
	if w.on[o] >= w.times || w.on[o] > 0 && len(w.all) > most {
		return
	}
	w.on[o]++
	defer func() { w.on[o]-- }()
	in.limited = in.limited || o.Owns != nil && o.Owns.Whole
	for _, m := range o.Members {
		if !m.Foreign {
			at := path + place.Name(m.Name)
			if m.Grant.Typed() { // paths begin at the type
				at = m.Name + scan.Within + place.Root
			}
			w.member(m, at, route, depth+1, in)
		}
	}
}
