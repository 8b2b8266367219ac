package contract

import (
	"reflect"
	"slices"
)

// Differing lists the templates of endpoints that differ between two states of contracts, so that exchanges may be
// evaluated differently. nil means all endpoints and unknown requests, because something global differs.
func Differing(old, new *Contracts) map[string]bool {
	if !reflect.DeepEqual(old.Servers, new.Servers) || !slices.Equal(old.Countries, new.Countries) ||
		len(old.Audiences) != len(new.Audiences) || len(old.Detectors) != len(new.Detectors) ||
		len(old.Catalog.Entities) != len(new.Catalog.Entities) || len(old.Shapes) != len(new.Shapes) ||
		len(old.Responses) != len(new.Responses) {
		return nil
	}
	for i, a := range old.Audiences {
		if b := new.Audiences[i]; a.Name != b.Name || !reflect.DeepEqual(a.Recognise, b.Recognise) {
			return nil
		}
	}
	if !slices.EqualFunc(old.Tellers, new.Tellers, func(a, b *Teller) bool { return a.Text() == b.Text() }) {
		return nil
	}
	for i := range old.Detectors {
		a, b := &old.Detectors[i], &new.Detectors[i]
		if a.Name != b.Name || a.Class != b.Class || a.Check != b.Check || a.Least != b.Least || a.Most != b.Most ||
			a.Pattern.String() != b.Pattern.String() {
			return nil
		}
	}
	for i, e := range old.Catalog.Entities {
		if !old.Node(e).Same(new.Node(new.Catalog.Entities[i])) || e.Name != new.Catalog.Entities[i].Name {
			return nil
		}
	}
	for i, s := range old.Shapes {
		if !old.Node(s).Same(new.Node(new.Shapes[i])) || s.Name != new.Shapes[i].Name {
			return nil
		}
	}
	for i, r := range old.Responses {
		if !old.Node(r).Same(new.Node(new.Responses[i])) {
			return nil
		}
	}
	only, was := map[string]bool{}, map[string]*Endpoint{}
	for _, e := range old.Endpoints {
		was[e.Template()] = e
	}
	for _, e := range new.Endpoints {
		if before := was[e.Template()]; before == nil || !old.Node(before).Same(new.Node(e)) ||
			!sameGraphs(before.graph, e.graph) {
			only[e.Template()] = true
		}
		delete(was, e.Template())
	}
	for template := range was {
		only[template] = true
	}
	return only
}

// Meets reports whether some request may match both endpoints.
func (e *Endpoint) Meets(o *Endpoint) bool {
	if e.Method != o.Method {
		return false
	}
	for i := 0; i < len(e.Segments) || i < len(o.Segments); i++ {
		if i < len(e.Segments) && e.Segments[i].rest || i < len(o.Segments) && o.Segments[i].rest {
			return i < len(e.Segments) && i < len(o.Segments)
		}
		if i >= len(e.Segments) || i >= len(o.Segments) {
			return false
		}
		a, b := e.Segments[i], o.Segments[i]
		switch {
		case len(a.params) == 0 && len(b.params) == 0 && a.literal != b.literal:
			return false
		case len(a.params) == 0 && b.pattern != nil && !b.pattern.MatchString(a.literal):
			return false
		case len(b.params) == 0 && a.pattern != nil && !a.pattern.MatchString(b.literal):
			return false
		}
	}
	return true
}
