package contract

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"inkret/core/catalog"
	"inkret/core/place"
)

// Uneven exposure: an entity field reaches one audience under different names, types or formats at different
// endpoints.

// showing is a granted member that carries an entity field, at one path of one endpoint.
type showing struct {
	endpoint *Endpoint
	path     string
	set      *GrantSet // that it is granted in
	grant    *Grant
	to       Set
}

// form is the name and format under which a field is shown.
func (s *showing) form() string {
	return s.grant.Name + " (" + catalog.Form{Type: s.grant.Form.Type, Format: s.grant.Form.Format}.Words() + ")"
}

type carried struct {
	entity *catalog.Entity
	field  *catalog.Field
}

// unevenness indexes the grants of contracts by entity field.
type unevenness map[carried][]showing

func (c *Contracts) showings() unevenness {
	c.evenOnce.Do(func() {
		c.shown = unevenness{}
		for _, e := range c.Endpoints {
			for _, r := range e.Responses {
				w := evenWalk{c.shown, e, map[*GrantSet]bool{}, map[string]bool{}}
				w.grant(r.Root(), r.Audiences, place.Root)
			}
		}
	})
	return c.shown
}

type evenWalk struct {
	all      unevenness
	endpoint *Endpoint
	on       map[*GrantSet]bool // being walked: a shape that contains itself is gone into once
	met      map[string]bool
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
			w.all[key] = append(w.all[key], showing{w.endpoint, at, set, g, seen})
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
	places := map[string]map[string]*Endpoint{} // by form, the endpoints and paths
	var own string
	mine := map[*GrantSet]bool{}
	for i := range c.showings()[carried{g.Owner, g.Field}] {
		s := &c.shown[carried{g.Owner, g.Field}][i]
		if !s.to.has(audience) {
			continue
		}
		form := s.form()
		if places[form] == nil {
			places[form] = map[string]*Endpoint{}
		}
		places[form][s.endpoint.Text+" "+s.path] = s.endpoint
		if s.endpoint == e && s.grant.Pos == g.Pos && s.grant.Name == g.Name {
			own = form
			mine[s.set] = true
		}
	}
	if own == "" || len(places) < 2 {
		return ""
	}
	forms := make([]string, 0, len(places))
	for form := range places {
		forms = append(forms, form)
	}
	sort.Slice(forms, func(i, k int) bool {
		a, b := forms[i], forms[k]
		return len(places[a]) > len(places[b]) || len(places[a]) == len(places[b]) && a < b
	})
	usual := forms[0]
	if usual == own {
		return ""
	}
	for _, s := range c.shown[carried{g.Owner, g.Field}] {
		if mine[s.set] && s.form() == usual && s.to.has(audience) {
			return "" // it stands beside the usual one
		}
	}
	var elsewhere []string
	for _, other := range places[usual] {
		if other != e && !slices.Contains(elsewhere, other.Text) {
			elsewhere = append(elsewhere, other.Text)
		}
	}
	if len(elsewhere) == 0 {
		return ""
	}
	slices.Sort(elsewhere)
	const shown = 3
	more := ""
	if n := len(elsewhere); n > shown {
		elsewhere, more = elsewhere[:shown], fmt.Sprintf(" and %d more", n-shown)
	}
	return fmt.Sprintf("%s.%s is %s here and %s at %s%s", g.Owner.Name, g.Field.Name, own, usual,
		strings.Join(elsewhere, ", "), more)
}
