// Package compare compares two states of a service's contracts ([Contracts]) and texts ([Unified], [Merge]).
//
// Whether a change exposes more is computed from what the contracts compile to, for each endpoint, audience and
// status, never from their text.
package compare

import (
	"fmt"
	"net/url"
	"slices"
	"sort"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/exposure"
	"inkret/core/place"
	"inkret/core/probe"
)

// Direction is whether a change exposes more or less.
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

// Difference is the result of comparing contracts.
type Difference struct {
	Direction Direction
	Reaches   catalog.Class // the gravest class that it lets out more of
	Words     []Sentence
	Changes   []Change
	Endpoints []string // that compile to something else
}

// Sentence describes several changes of one kind.
type Sentence struct {
	Direction Direction     `json:"direction"`
	Class     catalog.Class `json:"-"`
	Text      string        `json:"text"`
}

// Sensitive reports whether more personal or secret data is exposed.
func (d *Difference) Sensitive() bool {
	return d.Direction == Widening && d.Reaches >= catalog.Personal
}

// Contracts compares two states of contracts. old is nil for the first contracts.
func Contracts(old, new *contract.Contracts) *Difference { return Since(old, new, nil) }

// Since is Contracts for states whose deleted fields' classes are known.
func Since(old, new *contract.Contracts, before []Kept) *Difference {
	d := &differ{old: old, new: new}
	if old == nil {
		d.old = &contract.Contracts{Catalog: &catalog.Catalog{}}
	}
	d.remember(before)
	d.callers = takenFor(d.old, d.new)
	d.audiences()
	d.catalogue()
	d.recognisers()
	d.whose()
	d.messages()
	d.exceptions()
	d.headers()
	var only map[string]bool // the templates of endpoints that differ; nil is all
	if old != nil {
		only = contract.Differing(old, new)
	}
	byText := map[string]*contract.Endpoint{}
	for _, e := range d.old.Endpoints {
		byText[e.Template()] = e
	}
	for _, e := range new.Endpoints {
		if template := e.Template(); only == nil || only[template] {
			d.endpoint(byText[template], e)
		}
		delete(byText, e.Template())
	}
	for _, e := range d.old.Endpoints {
		if byText[e.Template()] != nil {
			d.endpoint(e, nil)
		}
	}
	if only != nil { // what holds everywhere is as it was
	} else if old != nil {
		d.endpoint(old.Everywhere(), new.Everywhere())
	} else {
		d.endpoint(nil, new.Everywhere())
	}
	out := d.finish()
	out.measure(probe.Lost(old, new))
	return out
}

type differ struct {
	old, new  *contract.Contracts
	callers   []taken
	met       map[string]bool          // entities that bodies may hold by the old contracts, once looked for
	kept      map[string]catalog.Class // by entity and field, folded: the class that a field of new had, if graver
	changes   []Change
	endpoints []string
}

func (d *differ) add(c Change) { d.changes = append(d.changes, c) }

func (d *differ) endpoint(old, new *contract.Endpoint) {
	text := ""
	if new != nil {
		text = new.Text
	} else {
		text = old.Text
	}
	before := len(d.changes)
	d.situations(text, old, new)
	d.accepts(text, old, new)
	if old == nil && new != nil && len(d.changes) == before && new.Text != everywhere {
		d.add(Change{Direction: Neutral, What: "endpoint", Endpoint: text, Detail: "is contracted, and grants nothing"})
	}
	if old != nil && new == nil {
		ch := Change{Direction: Widening, What: "endpoint", Class: d.deepestOf(old), Endpoint: text,
			Detail: "has no contract any more; its bodies are only swept"}
		if by := takesOver(d.new, old); by != nil {
			ch.Class, ch.Detail = catalog.Secret, "has no contract any more; its requests go to "+by.Text
		}
		d.add(ch)
	}
	if old != nil && new != nil && old.Team != new.Team {
		d.add(Change{Direction: Neutral, What: "team", Endpoint: text, Detail: fmt.Sprintf("belongs to team %s",
			quoteOr(new.Team, "nobody"))})
	}
	if old != nil && new != nil && old.Text != new.Text {
		d.add(Change{Direction: Neutral, What: "endpoint", Endpoint: text, Detail: "was written " + old.Text})
	}
	if len(d.changes) > before {
		d.endpoints = append(d.endpoints, text)
	}
}

// everywhere is the text that stands for the shared responses.
const everywhere = "every endpoint"

// side is what one state of the contracts says about an endpoint, which may be nil.
type side struct {
	*contract.Contracts
	endpoint *contract.Endpoint
	seen     map[seenKey]map[string]exposure.Exposure
}

type seenKey struct {
	response *contract.Response
	audience int
}

// shows returns what an audience may see in a situation, and the response that grants it, or nil.
func (s *side) shows(audience string, c *exchange.Capture) (*contract.Response, string, map[string]exposure.Exposure) {
	a := s.Audience(audience)
	if s.endpoint == nil || a == nil && len(s.Audiences) > 0 {
		return nil, "", nil
	}
	if a == nil {
		a = s.Callers()[0]
	}
	choice := s.endpoint.Choose(a, c)
	if choice.Response == nil || choice.Wrong {
		return nil, "", nil
	}
	key := seenKey{choice.Response, a.Index}
	if s.seen[key] == nil {
		// deep enough to notice a shape that became recursive
		s.seen[key] = exposure.Deep(s.endpoint.Plan(choice, c.Response.Status), 2)
	}
	return choice.Response, choice.Title(), s.seen[key]
}

// judging returns the response that evaluates bodies, even one for other audiences, or nil.
func (s *side) judging(audience string, c *exchange.Capture) *contract.Response {
	if s.endpoint == nil {
		return nil
	}
	return s.endpoint.Choose(s.Audience(audience), c).Response
}

// judgedAs reports bodies that are now evaluated against another entity, or none: what the catalogue says about the
// old one is no longer reported. others means that the old response was not for this audience.
func (d *differ) judgedAs(ch Change, old, new *contract.Response, others bool) {
	if old == nil || old.Entity == nil {
		return
	}
	ch.Direction, ch.What, ch.Class = Widening, "judged", max(catalog.Internal, d.deepest(old.Entity))
	switch {
	case others && new != nil && old.Body != nil && len(old.Body.Grants) > 0 && (new.Body == nil ||
		len(new.Body.Grants) == 0):
		ch.Detail = "grants nothing any more: that others get it is told by its members alone"
	case new == nil:
		ch.Detail = "declares no answer of this status any more; such bodies are only swept"
	case new.Entity == nil:
		ch.Detail = "judges bodies as no entity instead of " + old.Entity.Name
	case !slices.Equal(new.At, old.At):
		ch.Detail = "looks for " + new.Entity.Name + " at " + quoteOr(pointer(new.At), "the root") + " instead of " +
			quoteOr(pointer(old.At), "the root")
	case new.Entity.Name != old.Entity.Name:
		ch.Detail = "judges bodies as " + new.Entity.Name + " instead of " + old.Entity.Name
		ch.Class = max(ch.Class, d.silenced(new.Entity.Name))
	default:
		return
	}
	d.add(ch)
}

func pointer(tokens []string) string {
	if len(tokens) == 0 {
		return ""
	}
	return "/" + strings.Join(tokens, "/")
}

// takesOver returns the endpoint that receives the requests of a missing one.
func takesOver(c *contract.Contracts, e *contract.Endpoint) *contract.Endpoint {
	if e.Text == everywhere || len(c.Endpoints) == 0 {
		return nil
	}
	path := e.Requests(&url.URL{})[0].URL.Path
	return c.Find(e.Method, strings.Split(strings.Trim(path, "/"), "/"))
}

// own reports whether a response belongs to the endpoint itself, and is not a shared one.
func (s *side) own(r *contract.Response) bool {
	return r != nil && s.endpoint.Text != everywhere && slices.Contains(s.endpoint.Responses, r)
}

// situations compares what each audience may see in each situation that either state distinguishes.
func (d *differ) situations(text string, old, new *contract.Endpoint) {
	if old == nil {
		old = takesOver(d.old, new)
	} else if new == nil {
		new = takesOver(d.new, old)
	}
	was, is := &side{d.old, old, map[seenKey]map[string]exposure.Exposure{}},
		&side{d.new, new, map[seenKey]map[string]exposure.Exposure{}}
	var same []*contract.Endpoint
	for _, e := range []*contract.Endpoint{new, old} {
		if e != nil {
			same = append(same, e)
		}
	}
	type pair struct {
		old, new *contract.Response
		taken    taken
	}
	done := map[pair]bool{}
	for _, c := range contract.Situations(&url.URL{Scheme: "https", Host: "compare.example"}, same...) {
		for _, who := range d.callers {
			oldResponse, oldTitle, before := was.shows(who.was, &c)
			newResponse, title, after := is.shows(who.is, &c)
			p := pair{oldResponse, newResponse, who}
			if done[p] || oldResponse == nil && newResponse == nil || text != everywhere && !was.own(oldResponse) &&
				!is.own(newResponse) || text == everywhere && !d.reached(who, &c) {
				continue
			}
			done[p] = true
			if title == "" {
				title = oldTitle
			}
			told := len(d.changes)
			if text != everywhere && new != nil {
				d.judgedAs(Change{Endpoint: text, Audience: who.name(), Status: title}, was.judging(who.was, &c),
					is.judging(who.is, &c), oldResponse == nil)
			}
			d.cases(Change{Endpoint: text, Audience: who.name(), Status: title}, before, after,
				func(e exposure.Exposure) bool { return d.lessTrustedHad(who.was, was, &c, e) })
			if who.was != who.is { // what they get more is what matters
				kept := slices.DeleteFunc(d.changes[told:], func(c Change) bool { return c.Direction != Widening })
				d.changes = d.changes[:told+len(kept)]
			}
		}
	}
}

// reached reports whether an endpoint has no response of its own for a situation, in either state.
func (d *differ) reached(who taken, c *exchange.Capture) bool {
	for i, all := range []*contract.Contracts{d.old, d.new} {
		a := all.Audience([]string{who.was, who.is}[i])
		for _, e := range all.Endpoints {
			if r := e.Choose(a, c).Response; r != nil && slices.Contains(all.Responses, r) {
				return true
			}
		}
	}
	return false
}

// taken is the pair of audiences that a caller is recognised as, by the old and the new contracts.
type taken struct{ was, is string }

func (t taken) name() string {
	if t.was == t.is {
		return t.is
	}
	return t.is + " (so far " + t.was + ")"
}

// takenFor lists how callers are recognised by both states.
func takenFor(old, new *contract.Contracts) []taken {
	var all []taken
	add := func(t taken) {
		if !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	for _, a := range append(slices.Clone(new.Callers()), old.Callers()...) {
		add(taken{a.Name, a.Name})
	}
	for _, r := range contract.Callers(exchange.Request{URL: &url.URL{}}, old, new) {
		was, _ := old.AudienceOf("", &r)
		is, _ := new.AudienceOf("", &r)
		if was != nil && is != nil {
			add(taken{was.Name, is.Name})
		}
	}
	return all
}

// cases compares what an audience saw and sees in one situation. shared reports what a less trusted audience saw.
func (d *differ) cases(base Change, was, is map[string]exposure.Exposure, shared func(exposure.Exposure) bool) {
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
		ch.Path, ch.Entity, ch.Field, ch.Class = e.Path, e.Entity, e.Field, d.gravest(e)
		old, there := was[path]
		if e.Empty && within(was, path) {
			continue
		}
		if there && old.Route == e.Route {
			d.same(ch, old, e)
			continue
		}
		// what is covered stays
		if there && e.Class.Judged() < catalog.Personal && ch.Class <= d.gravest(old) && (old.Open || !e.Open) {
			ch.Direction, ch.What, ch.Detail = Neutral, "moved", e.Path
			if d.add(ch); e.Carries != old.Carries {
				d.changes[len(d.changes)-1].What, d.changes[len(d.changes)-1].Detail = "carries",
					quoteOr(e.Carries, "anything")+" instead of "+quoteOr(old.Carries, "anything")
			}
			d.same(ch, old, e)
			continue
		}
		if there {
			w := base
			w.Path, w.Entity, w.Field, w.Class, w.Direction, w.What, w.Detail = old.Path, old.Entity, old.Field,
				d.gravest(old), Narrowing, "withdrawn", old.Carries
			d.add(w)
			gone[path] = true
		}
		ch.Detail = e.Carries
		if moved, ok := routes[e.Route]; ok && !there {
			ch.Direction, ch.What, ch.Detail = Widening, "moved", moved.Path // the name that is new was reported so far
			if bare(moved.Path) == bare(e.Path) && moved.Open && e.Open {
				ch.Direction = Neutral
			} else if bare(moved.Path) == bare(e.Path) {
				ch.What, ch.Detail = "loosened", "stands as another kind of value"
			}
			gone[keyOf(was, moved)] = true
			delete(routes, e.Route)
			d.add(ch)
			d.same(ch, moved, e)
			continue
		}
		ch.Direction, ch.What = Widening, "granted"
		if shared(e) {
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
		if e.Empty && within(is, path) {
			continue
		}
		ch := base
		ch.Path, ch.Entity, ch.Field, ch.Class, ch.Direction, ch.What, ch.Detail = e.Path, e.Entity, e.Field,
			d.gravest(e), Narrowing, "withdrawn", e.Carries
		d.add(ch)
	}
}

// keyOf is the key of an exposure for comparison.
func keyOf(all map[string]exposure.Exposure, e exposure.Exposure) string {
	if at, ok := all[e.Path]; ok && at.Route == e.Route {
		return e.Path
	}
	return e.Path + "\n" + e.Route
}

// within reports whether something is granted at a path or inside it.
func within(all map[string]exposure.Exposure, path string) bool {
	for other := range all {
		if strings.HasPrefix(bare(other), bare(path)) {
			return true
		}
	}
	return false
}

// bare is a path without its element steps.
func bare(path string) string { return strings.ReplaceAll(path, "[*]", "") }

func sortedKeys(m map[string]exposure.Exposure) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

// gravest returns the higher class of what was and is exposed, so that lowering a field's class and granting it in
// one step does not avoid approval.
func (d *differ) gravest(e exposure.Exposure) catalog.Class {
	class := e.Class.Judged()
	for _, c := range []*contract.Contracts{d.old, d.new} {
		// a class of its own does not lower that of what it is derived from
		for _, name := range append([]string{e.Field}, e.Derived...) {
			if f := c.Catalog.Entity(e.Entity).Field(name); f != nil {
				class = max(class, f.Class.Judged())
			}
		}
	}
	for _, name := range append([]string{e.Field}, e.Derived...) {
		class = max(class, d.kept[keptKey(e.Entity, name)])
	}
	if e.Open {
		class = max(class, catalog.Internal)
	}
	return class
}

// lessTrustedHad reports whether an audience that is less trusted, in both orders, saw the same in the situation;
// then nothing is newly exposed.
func (d *differ) lessTrustedHad(audience string, was *side, c *exchange.Capture, e exposure.Exposure) bool {
	whose, now := d.old.Audience(audience), d.new.Audience(audience)
	if now == nil {
		return false
	}
	for _, a := range d.old.Audiences {
		b := d.new.Audience(a.Name)
		if b == nil || b.Index >= now.Index || whose != nil && a.Index >= whose.Index {
			continue
		}
		_, _, had := was.shows(a.Name, c)
		for _, old := range had {
			if old.Route == e.Route && (old.Open || !e.Open) {
				return true
			}
		}
	}
	return false
}

// same compares two exposures of the same thing.
func (d *differ) same(ch Change, was, is exposure.Exposure) {
	loose, tight := formChange(was.Form, is.Form)
	switch {
	case was.Limited && !is.Limited:
		one := ch
		// or nobody was found to be somebody else
		if one.Direction, one.What = Neutral, "anybodys"; len(d.old.Tellers) > 0 {
			one.Direction = Widening
		}
		d.add(one)
	case is.Limited && !was.Limited:
		one := ch
		one.Direction, one.What = Narrowing, "own"
		d.add(one)
	}
	if is.Open && !was.Open {
		ch.Direction, ch.What, ch.Detail = Widening, "opened", is.Carries
		d.add(ch)
	}
	if was.Open && !is.Open {
		ch.Direction, ch.What, ch.Detail = Narrowing, "tightened", "no longer open"
		d.add(ch)
	}
	if was.Open && is.Open {
		return // whatever is in it, and however it stands
	}
	if is.Keyed && !was.Keyed { // names in it are data from then on, and tell nothing
		one := ch
		one.Class = catalog.Secret
		one.Direction, one.What, one.Detail = Widening, "loosened", "stands in an object used as a map"
		d.add(one)
	}
	if was.Many != is.Many && was.Path == is.Path {
		ch.Direction, ch.What, ch.Detail = Widening, "loosened", "stands as another kind of value"
		d.add(ch)
	}
	if is.Class > was.Class && is.Class >= catalog.Personal {
		one := ch
		one.Class = max(ch.Class, is.Class)
		one.Direction, one.What, one.Detail = Widening, "loosened", "values that are "+is.Class.String()+" pass in it"
		d.add(one)
	}
	if is.Form.Format != was.Form.Format && was.Class < catalog.Personal && slices.Contains(telling, is.Form.Format) {
		one := ch
		one.Class = max(ch.Class, catalog.Personal)
		one.Direction, one.What, one.Detail = Widening, "loosened", "what is a value of the format "+is.Form.Format+
			" passes in it"
		d.add(one)
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

// telling lists formats of personal values; where one is granted, such a value is no leak.
var telling = []string{"email", "idn-email", "phone", "tel", "iban", "ipv4", "ipv6", "mac", "national-id", "address",
	"coordinates"}

// formChange describes what a form asks less, and what it asks more.
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
	if was.Type == catalog.Number && is.Type == catalog.Integer {
		more = append(more, "type integer instead of number")
	} else {
		note(string(was.Type), string(is.Type), "type")
	}
	note(was.Format, is.Format, "format")
	if is.Nullable && !was.Nullable {
		less = append(less, "null as well")
	} else if was.Nullable && !is.Nullable {
		more = append(more, "not null")
	}
	switch {
	case was.Max == is.Max:
	case was.Max > 0 && (is.Max == 0 || is.Max > was.Max):
		less = append(less, fmt.Sprintf("%s instead of at most %d characters", length(is.Max), was.Max))
	default:
		more = append(more, fmt.Sprintf("at most %d characters", is.Max))
	}
	a, b := slices.Sorted(slices.Values(was.Values)), slices.Sorted(slices.Values(is.Values))
	if !slices.Equal(a, b) {
		within := len(b) > 0 && !slices.ContainsFunc(b, func(v string) bool {
			return len(a) > 0 &&
				!slices.Contains(a, v)
		})
		if within {
			more = append(more, "only "+strings.Join(b, ", "))
		} else {
			less = append(less, "other values than "+strings.Join(a, ", "))
		}
	}
	if len(b) > 0 && len(a) > 0 && !slices.ContainsFunc(b, func(v string) bool { return !slices.Contains(a, v) }) {
		less = nil // one of these values it was before, whatever else is asked
	}
	return strings.Join(less, ", "), strings.Join(more, ", ")
}

func length(n int) string {
	if n == 0 {
		return "any length"
	}
	return fmt.Sprintf("%d", n)
}

// sentAs reports whether a member is present, as one value or as many.
func sentAs(all map[string]exposure.Exposure, path string) bool {
	for other := range all {
		if bare(other) == bare(path) {
			return true
		}
	}
	return false
}

// accepts compares what clients may send. Accepting more exposes nothing and therefore reaches no class, but it is
// reported less.
func (d *differ) accepts(endpoint string, old, new *contract.Endpoint) {
	if new == nil || old == nil && !new.Judges {
		return
	}
	if old != nil && old.Judges != new.Judges {
		ch := Change{Direction: Narrowing, What: "accepts", Endpoint: endpoint, Detail: "judges what clients send"}
		if !new.Judges {
			ch.Direction, ch.Detail = Widening, "no longer judges what clients send"
		}
		d.add(ch)
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
			if _, there := was[path]; !there && path != place.Root && !sentAs(was, path) && (old == nil || old.Judges) {
				d.add(Change{Direction: Widening, What: "accepted", Endpoint: endpoint, Audience: a.Name, Path: path,
					Entity: is[path].Entity, Field: is[path].Field})
			}
		}
		for _, path := range sortedKeys(was) {
			if _, there := is[path]; !there && path != place.Root && !sentAs(is, path) && old.Judges && new.Judges {
				d.add(Change{Direction: Narrowing, What: "refused", Endpoint: endpoint, Audience: a.Name, Path: path,
					Entity: was[path].Entity, Field: was[path].Field})
			}
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

func quoteOr(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}
