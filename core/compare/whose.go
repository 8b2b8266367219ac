package compare

import (
	"slices"

	"inkret/core/contract"
)

// whose compares how it is told who makes a request, and whose records there are. What is no longer reported for it is
// measured; see [Difference.measure].
func (d *differ) whose() {
	var was, is []string
	for _, t := range d.old.Tellers {
		was = append(was, t.Text())
	}
	for _, t := range d.new.Tellers {
		is = append(is, t.Text())
	}
	for _, text := range was {
		if !slices.Contains(is, text) {
			d.add(Change{Direction: Neutral, What: "callers", Detail: "no longer tells who makes a request by " + text})
		}
	}
	for _, text := range is {
		if !slices.Contains(was, text) {
			d.add(Change{Direction: Neutral, What: "callers", Detail: "tells who makes a request by " + text})
		}
	}
	if a, b := common(was, is), common(is, was); !slices.Equal(a, b) {
		d.add(Change{Direction: Neutral, What: "callers", Detail: "asks in another order who makes a request"})
	}
	for _, e := range d.new.Catalog.Entities {
		old := d.old.Catalog.Entity(e.Name)
		switch {
		case old == nil || old.Owner == e.Owner:
		case e.Owner == "":
			d.add(Change{Direction: Neutral, What: "entity", Entity: e.Name, Detail: "no longer has an owner: " +
				old.Owner})
		default:
			d.add(Change{Direction: Neutral, What: "entity", Entity: e.Name, Detail: "is owned by who is its " +
				e.Owner})
		}
	}
	paths := func(c *contract.Contracts) map[string]string {
		all := map[string]string{}
		for _, e := range c.Endpoints {
			for _, r := range e.Responses {
				if r.PathOwner != "" {
					all[e.Template()] = e.Text
				}
			}
		}
		return all
	}
	before, now := paths(d.old), paths(d.new)
	for template, text := range before {
		if now[template] == "" {
			d.add(Change{Direction: Neutral, What: "owner", Endpoint: text,
				Detail: "no longer takes from its path whose a record is"})
		}
	}
	for template, text := range now {
		if before[template] == "" {
			d.add(Change{Direction: Neutral, What: "owner", Endpoint: text,
				Detail: "takes from its path whose a record is"})
		}
	}
}
