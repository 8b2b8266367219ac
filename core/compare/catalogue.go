package compare

import (
	"cmp"
	"maps"
	"net/url"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exposure"
	"inkret/core/kind"
)

func (d *differ) audiences() {
	var was, is []string
	for _, a := range d.old.Audiences {
		was = append(was, a.Name)
		if b := d.new.Audience(a.Name); b == nil {
			// recordings that state this audience are no longer evaluated
			d.add(Change{Direction: Widening, Class: max(catalog.Personal, d.deepest(nil)), What: "audience",
				Audience: a.Name, Detail: "is no audience any more"})
		} else if a.Recognise.Words() != b.Recognise.Words() {
			d.add(Change{Direction: Neutral, What: "audience", Audience: a.Name, Detail: "is recognised by " +
				b.Recognise.Words() + " instead of " + a.Recognise.Words()})
		}
	}
	for _, a := range d.new.Audiences {
		is = append(is, a.Name)
		if d.old.Audience(a.Name) == nil {
			d.add(Change{Direction: Neutral, What: "audience", Audience: a.Name, Detail: "is a new audience"})
		}
	}
	if a, b := common(was, is), common(is, was); !slices.Equal(a, b) {
		d.add(d.reordered(Change{Direction: Neutral, What: "audience", Detail: "the order of trust is " +
			strings.Join(b, ", ")}))
	}
}

// reordered reports a new order of trust as a widening of what an audience sees that is now trusted less than
// another: the other could be granted the same next, which would not count as widening.
func (d *differ) reordered(ch Change) Change {
	for _, a := range d.new.Audiences {
		was := d.old.Audience(a.Name)
		if was == nil || !slices.ContainsFunc(d.new.Audiences[a.Index+1:], func(b *contract.Audience) bool {
			before := d.old.Audience(b.Name)
			return before != nil && before.Index < was.Index
		}) {
			continue
		}
		for _, e := range d.new.Endpoints {
			for _, k := range e.Cases() {
				if k.Audience != a {
					continue
				}
				for _, x := range exposure.Of(e.PlanOf(k)) {
					ch.Direction, ch.Class = Widening, max(ch.Class, d.gravest(x))
				}
			}
		}
	}
	return ch
}

func common(a, b []string) []string {
	var all []string
	for _, s := range a {
		if slices.Contains(b, s) {
			all = append(all, s)
		}
	}
	return all
}

// catalogue compares entities, fields and relations. Lowering a field's class widens, because its leaks are less
// severe from then on, wherever they are. Removing names of a field or relation does too.
func (d *differ) catalogue() {
	for _, e := range d.new.Catalog.Entities {
		old := d.old.Catalog.Entity(e.Name)
		if old == nil {
			d.add(Change{Direction: Neutral, What: "entity", Entity: e.Name, Detail: "is a new entity"})
			for _, f := range e.Fields {
				d.lowered(e, f)
			}
			continue
		}
		d.fields(old, e)
		d.relations(old, e)
	}
	for _, e := range d.old.Catalog.Entities {
		if d.new.Catalog.Entity(e.Name) == nil {
			d.add(d.ifMet(e, Change{What: "entity", Class: d.deepest(e), Entity: e.Name,
				Detail: "is no entity any more"}))
		}
	}
}

func (d *differ) fields(old, e *catalog.Entity) {
	for _, f := range e.Fields {
		was := old.Field(f.Name)
		switch {
		case was == nil:
			ch := Change{Direction: Neutral, What: "field", Entity: e.Name, Field: f.Name, Detail: "is a new field, " +
				className(f.Class)}
			// the telling name decided so far; now the catalogue does
			if class := detect.Name([]byte(f.Name)); class > f.Class.Judged() {
				ch.Class = class
				ch = d.ifMet(e, ch)
			}
			if !d.lowered(e, f) {
				d.add(ch)
			}
		case was.Class != f.Class:
			ch := Change{Direction: Neutral, What: "class", Entity: e.Name, Field: f.Name,
				Class:  max(was.Class.Judged(), f.Class.Judged()),
				Detail: className(f.Class) + " instead of " + className(was.Class)}
			switch {
			case f.Class.Judged() < was.Class.Judged():
				ch.Direction = Widening
			case f.Class.Judged() > was.Class.Judged():
				ch.Direction = Narrowing
			}
			d.add(ch)
		}
	}
	for _, f := range old.Fields {
		if e.Field(f.Name) == nil {
			ch := Change{Direction: Neutral, What: "field", Entity: e.Name, Field: f.Name,
				Detail: "is no field any more"}
			// otherwise it is reported just as severely, as unknown
			if f.Class >= catalog.Personal && detect.Name([]byte(f.Name)) < f.Class {
				ch.Class = f.Class
				ch = d.ifMet(e, ch)
			}
			d.add(ch)
		}
	}
}

// lowered reports a field that had a higher class when it last existed, under this name or another.
func (d *differ) lowered(e *catalog.Entity, f *catalog.Field) bool {
	class := d.kept[keptKey(e.Name, f.Name)]
	if class > f.Class.Judged() {
		d.add(Change{Direction: Widening, What: "class", Class: class, Entity: e.Name, Field: f.Name,
			Detail: className(f.Class) + "; when it was there last it was " + className(class)})
	}
	return class > f.Class.Judged()
}

func (d *differ) relations(old, e *catalog.Entity) {
	for _, r := range old.Relations {
		is := e.Relation(r.Name)
		ch := Change{What: "relation", Class: max(catalog.Internal, d.deepest(d.old.Catalog.Entity(r.Entity))),
			Entity: e.Name, Field: r.Name}
		switch {
		case is == nil:
			ch.Detail = "is no relation any more"
		case is.Entity != r.Entity:
			ch.Class = max(ch.Class, d.silenced(is.Entity))
			ch.Detail = "leads to " + is.Entity + " instead of " + r.Entity
		default:
			continue
		}
		d.add(d.ifMet(e, ch))
	}
	for _, r := range e.Relations {
		if class := d.silenced(r.Entity); old.Relation(r.Name) == nil && class > catalog.Unclassed {
			d.add(d.ifMet(e, Change{What: "relation", Class: class, Entity: e.Name, Field: r.Name,
				Detail: "is a new relation, to " + r.Entity}))
		}
	}
}

// silenced returns the highest class that telling names of an entity, or of what it is related to, have where the
// catalogue gives them a lower one. Where the catalogue now decides, the names no longer do.
func (d *differ) silenced(entity string) catalog.Class {
	class := catalog.Unclassed
	eachRelated(d.new.Catalog, d.new.Catalog.Entity(entity), map[string]bool{}, func(e *catalog.Entity) {
		for _, f := range e.Fields {
			if told := detect.Name([]byte(f.Name)); told > f.Class.Judged() {
				class = max(class, told)
			}
		}
	})
	return class
}

// eachRelated calls f once for an entity and for everything it is related to.
func eachRelated(c *catalog.Catalog, e *catalog.Entity, met map[string]bool, f func(*catalog.Entity)) {
	if e == nil || met[e.Name] {
		return
	}
	met[e.Name] = true
	f(e)
	for _, r := range e.Relations {
		eachRelated(c, c.Entity(r.Entity), met, f)
	}
}

// ifMet makes a change a widening if the old contracts can meet objects of the entity, and neutral otherwise.
func (d *differ) ifMet(e *catalog.Entity, ch Change) Change {
	ch.Direction = Neutral
	if d.met == nil {
		d.met = metIn(d.old)
	}
	if d.met[e.Name] {
		ch.Direction = Widening
	}
	return ch
}

// metIn lists the entities whose objects bodies may contain: those of responses, of what is granted in them, and
// everything related.
func metIn(c *contract.Contracts) map[string]bool {
	met := map[string]bool{}
	meet := func(e *catalog.Entity) { eachRelated(c.Catalog, e, met, func(*catalog.Entity) {}) }
	seen := map[*contract.GrantSet]bool{}
	var grants func(s *contract.GrantSet)
	grants = func(s *contract.GrantSet) {
		if s == nil || seen[s] {
			return
		}
		seen[s] = true
		meet(s.Entity)
		for _, g := range s.Grants {
			grants(g.Members())
			for _, a := range g.Alternatives() {
				grants(a.Body)
			}
		}
	}
	for _, e := range c.Endpoints {
		used := map[*contract.Response]bool{}
		for _, situation := range contract.Situations(&url.URL{Scheme: "https", Host: "compare.example"}, e) {
			for _, a := range c.Callers() {
				if r := e.Choose(a, &situation).Response; r != nil && !used[r] {
					used[r] = true
					meet(r.Entity)
					grants(r.Body)
					grants(r.Beside)
				}
			}
		}
	}
	return met
}

// deepest returns the highest class in an entity of the old contracts and everything it is related to; of all
// entities for nil.
func (d *differ) deepest(e *catalog.Entity) catalog.Class {
	class, met := catalog.Public, map[string]bool{}
	gravest := func(e *catalog.Entity) {
		for _, f := range e.Fields {
			class = max(class, f.Class.Judged())
		}
	}
	if e != nil {
		eachRelated(d.old.Catalog, e, met, gravest)
		return class
	}
	for _, e := range d.old.Catalog.Entities {
		gravest(e)
	}
	return class
}

// deepestOf returns the highest class in the entities of an endpoint.
func (d *differ) deepestOf(e *contract.Endpoint) catalog.Class {
	class := catalog.Public
	for _, r := range e.Responses {
		if r.Entity != nil {
			class = max(class, d.deepest(r.Entity))
		}
	}
	return class
}

// messages reports bodies that are read as other messages or types, or no more: what they leak is not looked for then.
func (d *differ) messages() {
	if at := d.new.ReadsGraphsOf(d.old); at != "" {
		d.add(Change{Direction: Widening, Class: catalog.Secret, What: "messages", Endpoint: at,
			Detail: "types of its schema are gone or lead elsewhere: what they hold is looked for no more"})
	}
	if d.new.ReadsMessagesOf(d.old) {
		return
	}
	d.add(Change{Direction: Widening, Class: catalog.Secret, What: "messages",
		Detail: "bodies that are messages are read by another descriptor, or are read no more"})
}

// recognisers reports values that are no longer recognised: those of a country, or of a custom detector.
func (d *differ) recognisers() {
	for _, country := range d.old.Countries {
		if !slices.Contains(d.new.Countries, country) {
			d.add(Change{Direction: Widening, Class: catalog.Personal, What: "country", Detail: "values of " + country +
				" are recognised no more"})
		}
	}
	for _, old := range d.old.Detectors {
		same := func(n detect.Custom) bool {
			return n.Pattern.String() == old.Pattern.String() && (n.Check == old.Check || n.Check == "") &&
				n.Class >= old.Class && n.Least <= old.Least && (n.Most == 0 || old.Most > 0 && n.Most >= old.Most)
		}
		if !slices.ContainsFunc(d.new.Detectors, same) {
			d.add(Change{Direction: Widening, Class: max(old.Class, catalog.Personal), What: "detector",
				Detail: "the detector " + old.Name + " recognises something else, or is gone"})
		}
	}
}

// exceptions reports new and removed exceptions. An exception that covers no more than an earlier one, for no
// longer, does not widen.
func (d *differ) exceptions() {
	for _, x := range d.new.Exceptions {
		if slices.ContainsFunc(d.old.Exceptions, x.Within) {
			continue
		}
		class := catalog.Internal
		if k, _ := kind.Parse(x.Kind); k.Grave() {
			class = catalog.Personal
		}
		d.add(Change{Direction: Widening, Class: class, What: "exception", Endpoint: x.Endpoint, Path: x.Path,
			Detail: x.Kind})
	}
	for _, x := range d.old.Exceptions {
		if !slices.ContainsFunc(d.new.Exceptions, x.Within) {
			d.add(Change{Direction: Narrowing, What: "exception", Endpoint: x.Endpoint, Path: x.Path, Detail: x.Kind})
		}
	}
}

// headers reports header fields that may carry more or less than before.
func (d *differ) headers() {
	was, is := headersOf(d.old), headersOf(d.new)
	for _, key := range slices.SortedFunc(maps.Keys(is), headerField.compare) {
		if class := is[key]; class > was[key] {
			d.add(Change{Direction: Widening, Class: class, What: "header", Endpoint: key.endpoint,
				Detail: "lets the header field " + key.name + " carry what is " + className(class)})
		}
	}
	for _, key := range slices.SortedFunc(maps.Keys(was), headerField.compare) {
		if is[key] < was[key] {
			d.add(Change{Direction: Narrowing, Class: was[key], What: "header", Endpoint: key.endpoint,
				Detail: "no longer lets the header field " + key.name + " carry what is " + className(was[key])})
		}
	}
}

// headerField is a header field in an endpoint's responses; the endpoint is written without parameter names.
type headerField struct{ endpoint, name string }

func (f headerField) compare(g headerField) int {
	return cmp.Or(strings.Compare(f.endpoint, g.endpoint), strings.Compare(f.name, g.name))
}

// headersOf returns the highest class that each endpoint's header fields may carry.
func headersOf(c *contract.Contracts) map[headerField]catalog.Class {
	all := map[headerField]catalog.Class{}
	note := func(endpoint string, responses []*contract.Response) {
		for _, r := range responses {
			for name, class := range r.Headers {
				key := headerField{endpoint, name}
				all[key] = max(all[key], class)
			}
		}
	}
	note("every endpoint", c.Responses)
	for _, e := range c.Endpoints {
		note(e.Template(), e.Responses)
	}
	return all
}

func className(c catalog.Class) string {
	if c == catalog.Unclassed {
		return "unclassed"
	}
	return c.String()
}
