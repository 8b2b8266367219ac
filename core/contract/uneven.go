package contract

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"inkret/core/catalog"
	"inkret/core/document"
	"inkret/core/place"
)

// Uneven exposure: an entity field reaches one audience under different names, types or formats at different
// endpoints. Those that answer GraphQL are not compared: clients call fields as they like.

// showing is a granted member that carries an entity field, at one path of one endpoint.
type showing struct {
	endpoint *Endpoint
	path     string
	form     string    // the name and format under which the field is shown
	set      *GrantSet // that it is granted in
	to       Set
}

type carried struct {
	entity *catalog.Entity
	field  *catalog.Field
}

// written is where in the contract an endpoint's grant is written.
type written struct {
	endpoint *Endpoint
	at       document.Pos
	name     string
}

// shown is how a field is shown to all.
type shown struct {
	all []showing
	of  map[written][]int // in all
	to  sync.Map          // audience's index to *commonest
}

// commonest is how most places show a field to one audience.
type commonest struct {
	form      string // empty where all show it alike
	within    map[*GrantSet]bool
	endpoints []string // in order of text
}

// showings indexes the grants of contracts by entity field.
func (c *Contracts) showings() map[carried]*shown {
	c.evenOnce.Do(func() {
		c.shown = map[carried]*shown{}
		for _, e := range c.Endpoints {
			for _, r := range e.Responses {
				if r.Graph != nil { // its names follow another convention
					continue
				}
				w := evenWalk{c.shown, e, map[*GrantSet]bool{}}
				w.grant(r.Root(), r.Audiences, place.Root)
			}
		}
	})
	return c.shown
}

// usually returns how most places show the field to an audience, found once.
func (s *shown) usually(audience int) *commonest {
	if u, ok := s.to.Load(audience); ok {
		return u.(*commonest)
	}
	places := map[string]map[string]bool{} // by form: the endpoints with their paths
	for i := range s.all {
		if one := &s.all[i]; one.to.has(audience) {
			if places[one.form] == nil {
				places[one.form] = map[string]bool{}
			}
			places[one.form][one.endpoint.Text+" "+one.path] = true
		}
	}
	u := &commonest{within: map[*GrantSet]bool{}}
	if len(places) > 1 {
		u.form = slices.MinFunc(slices.Collect(maps.Keys(places)), func(a, b string) int {
			return cmp.Or(len(places[b])-len(places[a]), strings.Compare(a, b))
		})
		for i := range s.all {
			if one := &s.all[i]; one.form == u.form && one.to.has(audience) {
				u.within[one.set] = true
				u.endpoints = append(u.endpoints, one.endpoint.Text)
			}
		}
		slices.Sort(u.endpoints)
		u.endpoints = slices.Compact(u.endpoints)
	}
	s.to.Store(audience, u)
	return u
}

type evenWalk struct {
	all      map[carried]*shown
	endpoint *Endpoint
	on       map[*GrantSet]bool // being walked: a shape that contains itself is gone into once
}

func (w *evenWalk) grant(g *Grant, to Set, path string) {
	if g.Many || g.Keyed {
		path += place.Elements
	}
	for _, alt := range g.oneOf {
		w.set(alt.shape.Body, to, path)
	}
	if members := g.Members(); members != nil {
		w.set(members, to, path)
	}
}

func (w *evenWalk) set(set *GrantSet, to Set, path string) {
	if w.on[set] {
		return
	}
	w.on[set] = true
	for _, g := range set.Grants {
		seen := to & g.Audiences
		if seen == 0 {
			continue
		}
		at := path + place.Name(g.Name)
		if g.Source == FromField && g.Owner != nil && !g.Reference {
			key := carried{g.Owner, g.Field}
			s := w.all[key]
			if s == nil {
				s = &shown{of: map[written][]int{}}
				w.all[key] = s
			}
			of := written{w.endpoint, g.Pos, g.Name}
			s.of[of] = append(s.of[of], len(s.all))
			form := g.Name + " (" + catalog.Form{Type: g.Form.Type, Format: g.Form.Format}.Words() + ")"
			s.all = append(s.all, showing{w.endpoint, at, form, set, seen})
		}
		w.grant(g, seen, at)
	}
	delete(w.on, set)
}

// Uneven returns, for each member of a plan by Serial, why it carries its field differently than most places
// granted to the audience, or the empty string. It returns nil if there is no such member.
func (e *Endpoint) Uneven(p *Plan, audience *Audience) []string {
	if why, ok := e.uneven.Load(p); ok {
		return why.([]string)
	}
	index := 0
	if audience != nil {
		index = audience.Index
	}
	var all []string
	for _, m := range p.Members {
		g := m.Grant
		if m.Foreign || g.Source != FromField || g.Owner == nil || g.Reference {
			continue
		}
		if why := e.all.unevenAt(e, g, index); why != "" {
			if all == nil {
				all = make([]string, len(p.Members))
			}
			all[m.Serial] = why
		}
	}
	e.uneven.Store(p, all)
	return all
}

// unevenAt returns how a grant departs from the usual form of its field for an audience.
func (c *Contracts) unevenAt(e *Endpoint, g *Grant, audience int) string {
	s := c.showings()[carried{g.Owner, g.Field}]
	if s == nil {
		return ""
	}
	u, own, beside := s.usually(audience), "", false
	for _, i := range s.of[written{e, g.Pos, g.Name}] {
		if one := &s.all[i]; one.to.has(audience) {
			own, beside = one.form, beside || u.within[one.set]
		}
	}
	if u.form == "" || own == "" || own == u.form || beside { // beside: it stands beside the usual one
		return ""
	}
	elsewhere := slices.DeleteFunc(slices.Clone(u.endpoints), func(text string) bool { return text == e.Text })
	if len(elsewhere) == 0 {
		return ""
	}
	const shown = 3
	more := ""
	if n := len(elsewhere); n > shown {
		elsewhere, more = elsewhere[:shown], fmt.Sprintf(" and %d more", n-shown)
	}
	return fmt.Sprintf("%s.%s is %s here and %s at %s%s", g.Owner.Name, g.Field.Name, own, u.form,
		strings.Join(elsewhere, ", "), more)
}
