// Package compare holds things of one kind side by side: two states of a service's
// contracts ([Contracts]) and texts ([Unified], [Merge]).
//
// Whether a change of contracts lets more out is told by computation over what
// they compile to, for each endpoint, audience and status, never by their text.
package compare

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/exposure"
	"inkret/core/place"
	"inkret/core/probe"
)

// Direction is whether a change lets more out.
type Direction string

const (
	Neutral   Direction = "neutral"
	Narrowing Direction = "narrowing"
	Widening  Direction = "widening" // it may take away something too
)

// Change is one thing that differs.
type Change struct {
	Direction Direction
	What      string        // granted, withdrawn, moved, loosened, tightened, presence, accepted, class, exception, …
	Class     catalog.Class // the gravest that what it is about has, before or after
	Endpoint  string
	Audience  string
	Status    string
	Path      string
	Entity    string
	Field     string
	Detail    string
}

// Difference is what a change of contracts comes to.
type Difference struct {
	Direction Direction
	Reaches   catalog.Class // the gravest class that it lets out more of
	Words     []Sentence
	Changes   []Change
	Endpoints []string // that compile to something else
}

// Sentence tells several changes of one sort in words.
type Sentence struct {
	Direction Direction     `json:"direction"`
	Class     catalog.Class `json:"-"`
	Text      string        `json:"text"`
}

// Sensitive reports whether more of what is personal or secret is let out.
func (d *Difference) Sensitive() bool {
	return d.Direction == Widening && d.Reaches >= catalog.Personal
}

// Contracts tells in what new differs from old; a nil old is no contract at all.
func Contracts(old, new *contract.Contracts) *Difference {
	d := &differ{old: old, new: new}
	if old == nil {
		d.old = &contract.Contracts{Catalog: &catalog.Catalog{}}
	}
	d.audiences()
	d.catalogue()
	d.exceptions()
	byText := map[string]*contract.Endpoint{}
	for _, e := range d.old.Endpoints {
		byText[e.Template()] = e
	}
	for _, e := range new.Endpoints {
		d.endpoint(byText[e.Template()], e)
		delete(byText, e.Template())
	}
	for _, e := range d.old.Endpoints {
		if byText[e.Template()] != nil {
			d.endpoint(e, nil)
		}
	}
	if old != nil {
		d.endpoint(old.Everywhere(), new.Everywhere())
	} else {
		d.endpoint(nil, new.Everywhere())
	}
	out := d.finish()
	if !out.Sensitive() {
		out.measure(probe.Lost(old, new))
	}
	return out
}

type differ struct {
	old, new  *contract.Contracts
	changes   []Change
	endpoints []string
}

func (d *differ) add(c Change) { d.changes = append(d.changes, c) }

// seen is the exposures of one endpoint, by case and audience.
type seen map[string]map[string]exposure.Exposure // key: status, conditions, audience

func look(e *contract.Endpoint) (seen, []contract.Case) {
	all := seen{}
	if e == nil {
		return all, nil
	}
	cases := e.Cases()
	for _, c := range cases {
		all[c.Title()+"\n"+c.Audience.Name] = exposure.Of(e.PlanOf(c))
	}
	return all, cases
}

func (d *differ) endpoint(old, new *contract.Endpoint) {
	was, oldCases := look(old)
	is, newCases := look(new)
	text := ""
	if new != nil {
		text = new.Text
	} else {
		text = old.Text
	}
	before := len(d.changes)
	done := map[string]bool{}
	for _, c := range append(newCases, oldCases...) {
		key := c.Title() + "\n" + c.Audience.Name
		if done[key] {
			continue
		}
		done[key] = true
		d.cases(text, c, was, was[key], is[key])
	}
	d.accepts(text, old, new)
	if old == nil && new != nil && len(d.changes) == before && new.Text != "every endpoint" {
		d.add(Change{Direction: Neutral, What: "endpoint", Endpoint: text, Detail: "is contracted, and grants nothing"})
	}
	if old != nil && new == nil {
		d.add(Change{Direction: Narrowing, What: "endpoint", Endpoint: text, Detail: "has no contract any more; its bodies are only swept"})
	}
	if old != nil && new != nil && old.Team != new.Team {
		d.add(Change{Direction: Neutral, What: "team", Endpoint: text, Detail: fmt.Sprintf("belongs to team %s", quoteOr(new.Team, "nobody"))})
	}
	if old != nil && new != nil && old.Text != new.Text {
		d.add(Change{Direction: Neutral, What: "endpoint", Endpoint: text, Detail: "was written " + old.Text})
	}
	if len(d.changes) > before {
		d.endpoints = append(d.endpoints, text)
	}
}

func quoteOr(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

func (d *differ) cases(endpoint string, c contract.Case, before seen, was, is map[string]exposure.Exposure) {
	base := Change{Endpoint: endpoint, Audience: c.Audience.Name, Status: c.Title()}
	routes := map[string]exposure.Exposure{}
	for path, e := range was {
		if _, stays := is[path]; !stays {
			routes[e.Route] = e
		}
	}
	gone := map[string]bool{}
	for _, path := range sortedKeys(is) {
		e := is[path]
		ch := base
		ch.Path, ch.Entity, ch.Field, ch.Class = path, e.Entity, e.Field, d.gravest(e)
		old, there := was[path]
		if there && old.Route == e.Route {
			d.same(ch, old, e)
			continue
		}
		if there {
			w := base
			w.Path, w.Entity, w.Field, w.Class, w.Direction, w.What, w.Detail = path, old.Entity, old.Field, d.gravest(old), Narrowing, "withdrawn", old.Carries
			d.add(w)
			gone[path] = true
		}
		ch.Detail = e.Carries
		if moved, ok := routes[e.Route]; ok && !there {
			ch.Direction, ch.What, ch.Detail = Neutral, "moved", moved.Path
			gone[moved.Path] = true
			delete(routes, e.Route)
			d.add(ch)
			d.same(ch, moved, e)
			continue
		}
		ch.Direction, ch.What = Widening, "granted"
		if d.lessTrustedHad(c, before, e) {
			ch.Direction = Neutral
		}
		if e.Open {
			ch.What = "opened"
		}
		d.add(ch)
	}
	for _, path := range sortedKeys(was) {
		if _, stays := is[path]; stays || gone[path] {
			continue
		}
		e := was[path]
		ch := base
		ch.Path, ch.Entity, ch.Field, ch.Class, ch.Direction, ch.What, ch.Detail = path, e.Entity, e.Field, d.gravest(e), Narrowing, "withdrawn", e.Carries
		d.add(ch)
	}
}

func sortedKeys(m map[string]exposure.Exposure) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

// gravest is the class of what is exposed, before or after, whichever is graver:
// to class a field lower and grant it at once is no way around approval.
func (d *differ) gravest(e exposure.Exposure) catalog.Class {
	class := e.Class.Judged()
	for _, c := range []*contract.Contracts{d.old, d.new} {
		for _, name := range append([]string{e.Field}, e.Derived...) { // a class of its own takes nothing from what it is derived of
			if f := c.Catalog.Entity(e.Entity).Field(name); f != nil {
				class = max(class, f.Class.Judged())
			}
		}
	}
	if e.Open {
		class = max(class, catalog.Internal)
	}
	return class
}

// lessTrustedHad tells whether an audience that is trusted no more saw the same
// before: then nothing gets any further out.
func (d *differ) lessTrustedHad(c contract.Case, before seen, e exposure.Exposure) bool {
	for _, a := range d.old.Audiences {
		now := d.new.Audience(a.Name)
		if now == nil || now.Index >= c.Audience.Index {
			continue
		}
		for _, old := range before[c.Title()+"\n"+a.Name] {
			if old.Route == e.Route && (old.Open || !e.Open) {
				return true
			}
		}
	}
	return false
}

// same compares two exposures of one thing.
func (d *differ) same(ch Change, was, is exposure.Exposure) {
	loose, tight := formChange(was.Form, is.Form)
	if is.Open && !was.Open {
		ch.Direction, ch.What, ch.Detail = Widening, "opened", is.Carries
		d.add(ch)
	}
	if was.Open && !is.Open {
		ch.Direction, ch.What, ch.Detail = Narrowing, "tightened", "no longer open"
		d.add(ch)
	}
	if was.Many != is.Many && was.Path == is.Path {
		ch.Direction, ch.What, ch.Detail = Widening, "loosened", "stands as another kind of value"
		d.add(ch)
	}
	if loose != "" {
		ch.Direction, ch.What, ch.Detail = Widening, "loosened", loose
		d.add(ch)
	}
	if tight != "" {
		ch.Direction, ch.What, ch.Detail = Narrowing, "tightened", tight
		d.add(ch)
	}
	if was.Required != is.Required {
		ch.Direction, ch.What, ch.Detail = Neutral, "presence", "may be absent"
		if is.Required {
			ch.Detail = "must be there"
		}
		d.add(ch)
	}
}

// formChange says in words what a form asks less, and what it asks more.
func formChange(was, is catalog.Form) (loose, tight string) {
	var less, more []string
	note := func(a, b, what string) {
		switch {
		case a == b:
		case a != "" && b == "":
			less = append(less, "any "+what+" instead of "+a)
		case a == "" && b != "":
			more = append(more, what+" "+b)
		default:
			less = append(less, what+" "+b+" instead of "+a)
		}
	}
	note(string(was.Type), string(is.Type), "type")
	note(was.Format, is.Format, "format")
	switch {
	case was.Max == is.Max:
	case was.Max > 0 && (is.Max == 0 || is.Max > was.Max):
		less = append(less, fmt.Sprintf("%s instead of at most %d characters", length(is.Max), was.Max))
	default:
		more = append(more, fmt.Sprintf("at most %d characters", is.Max))
	}
	a, b := slices.Sorted(slices.Values(was.Values)), slices.Sorted(slices.Values(is.Values))
	if !slices.Equal(a, b) {
		within := len(b) > 0 && !slices.ContainsFunc(b, func(v string) bool { return len(a) > 0 && !slices.Contains(a, v) })
		if within {
			more = append(more, "only "+strings.Join(b, ", "))
		} else {
			less = append(less, "other values than "+strings.Join(a, ", "))
		}
	}
	return strings.Join(less, ", "), strings.Join(more, ", ")
}

func length(n int) string {
	if n == 0 {
		return "any length"
	}
	return fmt.Sprintf("%d", n)
}

// accepts compares what clients may send: that lets nothing out, and is told.
func (d *differ) accepts(endpoint string, old, new *contract.Endpoint) {
	if new == nil || old == nil && !new.Judges {
		return
	}
	if old != nil && old.Judges != new.Judges {
		detail := "judges what clients send"
		if !new.Judges {
			detail = "no longer judges what clients send"
		}
		d.add(Change{Direction: Neutral, What: "accepts", Endpoint: endpoint, Detail: detail})
	}
	for _, a := range d.new.Callers() {
		was, is := map[string]exposure.Exposure{}, exposure.Of(new.AcceptCase(a))
		if old != nil {
			if b := d.old.Audience(a.Name); b == nil && len(d.old.Audiences) == 0 {
				was = exposure.Of(old.AcceptCase(a))
			} else if b != nil {
				was = exposure.Of(old.AcceptCase(b))
			}
		}
		for _, path := range sortedKeys(is) {
			if _, there := was[path]; !there && path != place.Root {
				d.add(Change{Direction: Neutral, What: "accepted", Endpoint: endpoint, Audience: a.Name, Path: path, Entity: is[path].Entity, Field: is[path].Field})
			}
		}
		for _, path := range sortedKeys(was) {
			if _, there := is[path]; !there && path != place.Root && old.Judges && new.Judges {
				d.add(Change{Direction: Neutral, What: "refused", Endpoint: endpoint, Audience: a.Name, Path: path, Entity: was[path].Entity, Field: was[path].Field})
			}
		}
	}
}

func (d *differ) audiences() {
	var was, is []string
	for _, a := range d.old.Audiences {
		was = append(was, a.Name)
		if b := d.new.Audience(a.Name); b == nil {
			d.add(Change{Direction: Neutral, What: "audience", Audience: a.Name, Detail: "is no audience any more"})
		} else if a.Recognise.Words() != b.Recognise.Words() {
			d.add(Change{Direction: Widening, Class: catalog.Internal, What: "audience", Audience: a.Name, Detail: "is recognised by " + b.Recognise.Words() + " instead of " + a.Recognise.Words()})
		}
	}
	for _, a := range d.new.Audiences {
		is = append(is, a.Name)
		if d.old.Audience(a.Name) == nil {
			d.add(Change{Direction: Neutral, What: "audience", Audience: a.Name, Detail: "is a new audience"})
		}
	}
	if a, b := common(was, is), common(is, was); !slices.Equal(a, b) {
		d.add(Change{Direction: Neutral, What: "audience", Detail: "the order of trust is " + strings.Join(b, ", ")})
	}
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

// catalogue tells of fields that come, go, or are classed anew. To class lower what
// was personal or secret counts as widening: its leaks will be judged less gravely.
func (d *differ) catalogue() {
	for _, e := range d.new.Catalog.Entities {
		old := d.old.Catalog.Entity(e.Name)
		if old == nil {
			d.add(Change{Direction: Neutral, What: "entity", Entity: e.Name, Detail: "is a new entity"})
			continue
		}
		for _, f := range e.Fields {
			was := old.Field(f.Name)
			switch {
			case was == nil:
				d.add(Change{Direction: Neutral, What: "field", Entity: e.Name, Field: f.Name, Detail: "is a new field, " + className(f.Class)})
			case was.Class != f.Class:
				ch := Change{Direction: Neutral, What: "class", Entity: e.Name, Field: f.Name, Class: max(was.Class.Judged(), f.Class.Judged()),
					Detail: className(f.Class) + " instead of " + className(was.Class)}
				switch {
				case f.Class.Judged() < was.Class.Judged() && was.Class >= catalog.Personal:
					ch.Direction = Widening
				case f.Class.Judged() > was.Class.Judged():
					ch.Direction = Narrowing
				}
				d.add(ch)
			}
		}
		for _, f := range old.Fields {
			if e.Field(f.Name) == nil {
				d.add(Change{Direction: Neutral, What: "field", Entity: e.Name, Field: f.Name, Detail: "is no field any more"})
			}
		}
	}
	for _, e := range d.old.Catalog.Entities {
		if d.new.Catalog.Entity(e.Name) == nil {
			d.add(Change{Direction: Neutral, What: "entity", Entity: e.Name, Detail: "is no entity any more"})
		}
	}
}

func className(c catalog.Class) string {
	if c == catalog.Unclassed {
		return "unclassed"
	}
	return c.String()
}

// exceptions silence findings, so a new one counts as widening, of the gravest
// class that its kind can tell of.
func (d *differ) exceptions() {
	key := func(x *contract.Exception) string {
		return strings.Join([]string{x.Endpoint, x.Path, x.Kind, x.Until}, "\n")
	}
	old := map[string]bool{}
	for _, x := range d.old.Exceptions {
		old[key(x)] = true
	}
	for _, x := range d.new.Exceptions {
		if old[key(x)] {
			delete(old, key(x))
			continue
		}
		class := catalog.Internal
		if slices.Contains([]string{"secret-value", "sensitive-field", "personal-value", "wrong-audience", "unexpected-relation"}, x.Kind) {
			class = catalog.Personal
		}
		d.add(Change{Direction: Widening, Class: class, What: "exception", Endpoint: x.Endpoint, Path: x.Path, Detail: x.Kind})
	}
	for _, x := range d.old.Exceptions {
		if old[key(x)] {
			d.add(Change{Direction: Narrowing, What: "exception", Endpoint: x.Endpoint, Path: x.Path, Detail: x.Kind})
		}
	}
}

func (d *differ) finish() *Difference {
	out := &Difference{Direction: Neutral, Changes: d.changes, Endpoints: d.endpoints}
	for _, c := range d.changes {
		switch {
		case c.Direction == Widening:
			out.Direction = Widening
			out.Reaches = max(out.Reaches, c.Class)
		case c.Direction == Narrowing && out.Direction == Neutral:
			out.Direction = Narrowing
		}
	}
	out.Words = words(d.changes)
	return out
}
