package scan

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/graph"
	"inkret/core/kind"
	"inkret/core/place"
	"inkret/core/severity"
)

// Results of GraphQL are judged by the plan for their request (see [contract.Plan.For]): it has what the query asks for
// under the names that the query gives to it, and says of each object which type it is of. Paths begin at the type.

// asking returns the plan for what a capture's request asks for. why says why that is not known; the body is swept
// then.
func (j *Judge) asking(c *exchange.Capture, e *contract.Endpoint, plan *contract.Plan) (_ *contract.Plan, why string) {
	if !plan.Result() || c.ByType {
		return plan, ""
	}
	r, media := &c.Request, c.Request.Header.Get("Content-Type")
	requests, list, err := graph.Requests(r.Method, r.URL, media, r.Body)
	if err != nil {
		return nil, err.Error()
	}
	streamed := exchange.Streams(c.Response.Header.Get("Content-Type"))
	if !list && !streamed {
		return j.askingOne(e, plan, requests[0])
	}
	queries, list, err := graph.Ask(e.Graph().Schema, r.Method, r.URL, media, r.Body)
	if err != nil {
		return nil, err.Error()
	}
	var paths [][]string
	if streamed {
		paths = laterPaths(c)
	}
	return plan.For(j.contracts, queries, list, streamed, paths), ""
}

// askedFor is a request of which the plan is kept.
type askedFor struct {
	plan *contract.Plan
	graph.Request
}

// mostAsked limits the plans for requests that are kept, and the length of their queries.
const (
	mostAsked    = 256
	longestAsked = 16 << 10
)

// askingOne returns the plan for one request. Clients ask for the same again and again.
func (j *Judge) askingOne(e *contract.Endpoint, plan *contract.Plan, r graph.Request) (*contract.Plan, string) {
	key := askedFor{plan, r}
	if p := j.asked[key]; p != nil {
		return p, ""
	}
	q, err := r.Parse(e.Graph().Schema)
	if err != nil {
		return nil, err.Error()
	}
	p := plan.For(j.contracts, []*graph.Query{q}, false, false, nil)
	if len(r.Query) <= longestAsked {
		if j.asked == nil || len(j.asked) >= mostAsked {
			j.asked = map[askedFor]*contract.Plan{}
		}
		j.asked[key] = p
	}
	return p, ""
}

// laterPaths reads where in a result belongs what is sent after it, in the order in which it is sent.
func laterPaths(c *exchange.Capture) (all [][]string) {
	parts, err := exchange.Results(c.Response.Header.Get("Content-Type"), c.Response.Body)
	if err != nil || len(parts) == 0 {
		return nil
	}
	type piece struct {
		ID      string `json:"id"`
		Path    []any  `json:"path"`
		SubPath []any  `json:"subPath"`
	}
	type message struct {
		piece
		Pending     []piece          `json:"pending"`
		Incremental []piece          `json:"incremental"`
		Data        *json.RawMessage `json:"data"`
		Items       *json.RawMessage `json:"items"`
	}
	var messages []json.RawMessage
	if json.Unmarshal(parts[0].Text, &messages) != nil {
		return nil
	}
	names := func(path []any) []string {
		var all []string
		for _, step := range path {
			if name, is := step.(string); is {
				all = append(all, name)
			}
		}
		return all
	}
	waiting := map[string][]string{}
	for _, text := range messages {
		var m message
		if json.Unmarshal(text, &m) != nil {
			continue
		}
		for _, p := range m.Pending {
			waiting[p.ID] = names(p.Path)
		}
		if len(m.Path) > 0 && (m.Data != nil || m.Items != nil) {
			m.Incremental = append(m.Incremental, m.piece)
		}
		for _, p := range m.Incremental {
			path := names(p.Path)
			if p.ID != "" {
				path = append(slices.Clone(waiting[p.ID]), names(p.SubPath)...)
			}
			all = append(all, path)
		}
	}
	return all
}

// queried holds what concerns the result of a query.
type queried struct {
	errors  []string // pointers of values that are null because of an error, once looked for
	sought  bool
	later   int                                    // pieces of a result that were read
	came    map[*contract.Selected]map[string]bool // types of the objects that came, if it matters
	errored bool                                   // the result has errors
	given   bool                                   // it has data
}

// failedHere reports whether the value that was just read is null because something failed there, as the result's
// errors say.
func (w *walk) failedHere() bool {
	if !w.plan.Result() {
		return false
	}
	if w.window.src != nil {
		return true // it cannot be looked up
	}
	if !w.sought {
		w.sought = true
		w.errors = failures(w.data)
	}
	here := string(w.pointer(nil))
	for _, at := range w.errors {
		if at == here || strings.HasPrefix(at, here+"/") {
			return true
		}
	}
	return false
}

// notGiven reads null that stands where something failed, which is granted everywhere (GraphQL section 6.4.4).
// Otherwise it reads nothing.
func (w *walk) notGiven(s *contract.Selected) bool {
	if !w.plan.Result() || !w.failedHere() || !w.literal() {
		return false
	}
	if w.places != nil && s != nil {
		s.Each(w.denied)
	}
	return true
}

// notGivenOf is notGiven for what is granted. Of a whole result that failed nothing is known of what is in it.
func (w *walk) notGivenOf(m *contract.Member) bool {
	if m.Way {
		return w.notGiven(nil)
	}
	return w.notGiven(m.Selected)
}

// denied notes that a field of a type was asked for and not given.
func (w *walk) denied(typeName, field string) {
	at := w.prefixPath + typeName + within + place.Root
	w.places[at] |= Denied
	w.places[string(place.AppendName([]byte(at), []byte(field)))] |= Denied
}

// neverCame notes the fields that were asked for of types of which no object came, where others did.
func (w *walk) neverCame() {
	for s, types := range w.came {
		s.Others(types, w.denied)
	}
	w.came = nil
}

// failures returns the places in the results of a body of which errors say that they failed. An error that names none
// is one of the whole result.
func failures(body []byte) (all []string) {
	type result struct {
		Errors []struct {
			Path []any `json:"path"`
		} `json:"errors"`
	}
	add := func(before string, r result) {
		for _, e := range r.Errors {
			at := before + "/data"
			for _, step := range e.Path {
				switch step := step.(type) {
				case string:
					at += "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(step)
				case float64:
					at += "/" + strings.TrimSuffix(strings.TrimRight(jsonText(step), "0"), ".")
				}
			}
			all = append(all, at)
		}
	}
	var one result
	if json.Unmarshal(body, &one) == nil {
		add("", one)
		return all
	}
	var many []result
	if json.Unmarshal(body, &many) == nil {
		for i, r := range many {
			add("/"+jsonText(float64(i)), r)
		}
	}
	return all
}

func jsonText(n float64) string {
	text, err := json.Marshal(n)
	if err != nil {
		return ""
	}
	return string(text)
}

// firstText returns the text of the first member of the object that begins here, if it has a name and no escapes; else
// nil.
func (w *walk) firstText(name string) []byte {
	rest := w.data[w.pos:]
	if len(rest) < len(name)+6 || rest[0] != '{' || rest[1] != '"' || string(rest[2:2+len(name)]) != name ||
		string(rest[2+len(name):5+len(name)]) != `":"` {
		return nil
	}
	rest = rest[5+len(name):]
	end := bytes.IndexByte(rest[:min(len(rest), longestType)], '"')
	if end < 0 || bytes.IndexByte(rest[:end], '\\') >= 0 {
		return nil
	}
	return rest[:end]
}

// longestType is the length up to which a type's name is looked for at once.
const longestType = 128

// objectOf returns what the object that begins here may hold, by its type; nil if the type is not known.
func (w *walk) objectOf(s *contract.Selected) *contract.Object {
	if only := s.Only(); only != "" {
		return s.Of(only)
	}
	key, typeName, count := s.NameKey(), "", 0
	if key != "" { // where it comes first, as it mostly does
		if name := w.firstText(key); name != nil {
			return s.Named(name)
		}
	}
	var names []string
	t := w.peek()
	defer w.peeked(&t)
	for t.pos++; ; {
		if t.space() != '"' {
			break
		}
		name, ok := t.string()
		if !ok || !t.colon() {
			break
		}
		text := name.raw
		if name.escaped {
			text = unquote(nil, name.raw)
		}
		if count++; key != "" && string(text) == key && t.space() == '"' {
			if value, ok := t.string(); ok {
				typeName = string(value.raw)
			}
			break
		}
		if key == "" {
			names = append(names, string(text))
		}
		if !t.pass(w.depth + 1) {
			break
		}
		if more, _ := t.more('}'); !more {
			break
		}
	}
	if typeName == "" && key == "" {
		typeName = s.Fitting(func(key string) bool { return slices.Contains(names, key) }, count)
	}
	if typeName == "" {
		return nil
	}
	return s.Of(typeName)
}

// result notes what the result of a query is, and why one was swept.
func (w *walk) result(out *Outcome, c *exchange.Capture, plan *contract.Plan, spots []Spot) {
	if w.places != nil {
		w.neverCame()
	}
	if out.Result = plan.Result() && !c.ByType; out.Result {
		out.Refused = w.errored && !w.given
	}
	for i := range spots {
		if out.Unread != "" {
			spots[i].reason = spots[i].Why() + "; the body was swept, as " + out.Unread
		}
	}
}

// selectedObject evaluates an object whose type grants.
func (w *walk) selectedObject(m *contract.Member, how mode, start int, c *candidate) bool {
	o := w.objectOf(m.Selected)
	w.comes(m.Selected, o)
	if o != nil && o.Granted && (!o.Foreign || how == foreign) {
		w.occurType(o)
		if o.Owns != nil && how == own && w.whoseIs(o.Owns) == theirs {
			if o.Owns.Whole {
				return w.theirRecord(o, m, start, c)
			}
			w.theirs = true
		}
		if c == nil {
			return w.object(o, m, how)
		}
		slot := w.hold()
		ok := w.object(o, m, how)
		w.fill(slot, c, start)
		return ok
	}
	switch {
	case how == posted:
		return w.pass(w.depth)
	case o != nil && o.Foreign:
		return w.foreignObject(o, m, how, start, c)
	}
	slot, before := w.hold(), w.grave
	w.grave = false
	ok, _ := w.sweepInside(zone{entity: m.Entity, selected: m.Selected})
	if o == nil { // what it is cannot be told
		w.grave = w.grave || before
		w.fill(slot, c, start)
		return ok
	}
	found := w.pool.add(candidate{kind: kind.UnexpectedRelation, severity: severity.Medium, entity: m.Grant.Owner,
		grant: m.Grant, reason: "not granted; " + o.Type + " is a type of which nothing is granted here"})
	if w.grave {
		found.severity = severity.High
	}
	if m.Grant.Relation != nil {
		found.field = m.Grant.Relation.Name
	}
	w.grave = w.grave || before
	w.fillHolder(slot, graver(c, found), start)
	if how == own {
		w.excess += w.weight(start, w.off())
	}
	return ok
}

// foreignObject evaluates an object whose type is granted to other audiences only: one spot stands for it.
func (w *walk) foreignObject(o *contract.Object, m *contract.Member, how mode, start int, c *candidate) bool {
	found := w.pool.add(candidate{kind: kind.WrongAudience, severity: severity.ByClass(o.Gravest), class: o.Gravest,
		entity: o.Entity, grant: m.Grant,
		reason: o.Type + " is granted to other audiences only; the gravest granted of it is " + o.Gravest.String()})
	w.occurType(o)
	slot, before := w.hold(), w.excess
	ok := w.object(o, m, foreign)
	if w.excess = before; how == own {
		w.excess += w.weight(start, w.off())
	}
	w.fillHolder(slot, graver(c, found), start)
	return ok
}

// fillHolder is fill with the path of the member that holds the value, where that is an element of its list.
func (w *walk) fillHolder(slot int, c *candidate, start int) {
	n := len(w.segs)
	for n > 1 && w.segs[n-1].name == nil {
		n--
	}
	all := w.segs
	w.segs = all[:n]
	e := w.entry()
	w.segs = all
	sample := "{" + maskedPart + "}"
	w.write(slot, e, c, start, w.off()-start, sample)
}

// occurType notes that an object of a type occurs, and what was asked for of it.
func (w *walk) occurType(o *contract.Object) {
	if w.places == nil || o.Type == "" {
		return
	}
	w.places[w.prefixPath+o.Within+place.Root] |= Filled
}

// comes notes the type of an object that was asked for; nil for one that cannot be told.
func (w *walk) comes(s *contract.Selected, o *contract.Object) {
	if w.places == nil {
		return
	}
	if w.came == nil {
		w.came = map[*contract.Selected]map[string]bool{}
	}
	if w.came[s] == nil {
		w.came[s] = map[string]bool{}
	}
	name := ""
	if o != nil {
		name = o.Type
	}
	w.came[s][name] = true
}

// isBoundary reports whether the body of another audience begins at a member.
func (w *walk) isBoundary(m *contract.Member) bool {
	return m == w.boundary || w.plan.Result() && m.Grant == w.boundary.Grant
}

// gravest returns the most severe class of all that is granted in a member.
func gravest(m *contract.Member) catalog.Class {
	if m.Selected != nil {
		return max(m.Class, m.Selected.Gravest())
	}
	return m.Gravest
}

// belowStray returns what a query asks of the objects of a field without a grant.
func belowStray(s *contract.Stray) *contract.Selected {
	if s == nil {
		return nil
	}
	return s.Inner
}

// ofRoot makes a field of a root type, of which nothing else is known, an unexpected field with all that is in it.
func (c *candidate) ofRoot(s *contract.Stray) *candidate {
	if s != nil && s.Root && (c.kind == kind.UnexpectedRelation || c.kind == kind.UnexpectedField) {
		c.kind, c.severity = kind.UnexpectedField, severity.Low
		c.reason = "not granted; " + string(s.Name) + " is not among the operations"
	}
	return c
}

// eachOf evaluates an element of a list in which each is granted something else.
func (w *walk) eachOf(m *contract.Member, i int, how mode, start int) bool {
	if m.Name == "incremental" {
		i = w.later
		w.later++
	}
	if i < len(m.Each) {
		return w.granted(m.Each[i], how, element, start, nil)
	}
	return w.sweep(zone{}, nil, nil, start)
}

// rename moves the step on top to a member, whose grant is m. Where a query calls a field otherwise, the field stands
// in paths.
func (w *walk) rename(top int, name []byte, m *contract.Member) {
	w.segs[top].rename(name)
	switch {
	case w.segs[top].typed == nil:
		return
	case m != nil:
		w.segs[top].label = m.Label
	case w.apart != nil:
		w.segs[top].label = w.apart.Name
	}
	if w.watch != nil {
		w.watch.Of(w.segs[top].typed.Type, string(w.segs[top].word()))
	}
}

// inType returns what the object that begins here is, while it is swept: it says what its members stand for.
func (w *walk) inType(z zone) (*contract.Object, *catalog.Entity) {
	if z.selected == nil {
		return nil, z.entity
	}
	o := w.objectOf(z.selected)
	w.comes(z.selected, o)
	if o == nil {
		return nil, z.entity
	}
	w.occurType(o)
	if o.Entity != nil {
		return o, o.Entity
	}
	return o, z.entity
}

// sweepTyped sweeps an object whose type is known: names are those of the schema, and what its type grants is covered.
func (w *walk) sweepTyped(z zone, o *contract.Object) bool {
	w.pos++
	unnamed, kept := len(w.names), len(w.pool)
	w.member(nil)
	top, ok := len(w.segs)-1, false
	w.segs[top].typed = o
	for first := true; ; first = false {
		w.seam()
		name, start, more := w.name(first)
		if !more {
			ok = w.err == nil
			break
		}
		twice := w.twice(unnamed, name)
		m := o.Member(name)
		asked := o.Stray(name)
		w.apart = asked
		w.rename(top, name, m)
		v := w.judge.verdict(z.entity, w.segs[top].word())
		if m == nil && v.data {
			w.segs[top].any, w.segs[top].masked = true, v.masked
			v = w.nameIn(v)
		}
		if w.watch != nil {
			w.watch.Member(name, v.masked, start, Swept, m)
		}
		if m != nil && !m.Foreign {
			ok = w.sweep(zone{cover: max(z.cover, m.Class), entity: m.Entity, selected: m.Selected}, nil, nil, start)
		} else {
			below := zone{cover: z.cover, selected: belowStray(asked)}
			if m != nil {
				below.selected = m.Selected
			}
			ok = w.sweep(below, v, z.entity, start)
		}
		if twice && ok {
			w.duplicate(start)
		}
		if w.watch != nil {
			w.watch.End(w.off())
		}
		w.pool = w.pool[:kept]
		if !ok {
			break
		}
		more, good := w.more('}')
		if ok = good; !more {
			break
		}
	}
	w.pop()
	w.names = w.names[:unnamed]
	return ok
}

// of says that the members of an object stand at the step; paths begin at the object's type, where it has one.
func (g *seg) of(o *contract.Object) {
	if o.Type != "" {
		g.typed = o
	}
}

// notice notes that a member of the root holds errors, and of the result of a query whether it has errors and data.
func (w *walk) notice(o *contract.Object, top int, name []byte) {
	w.failed = w.failed || (top == 0 || o.Envelope) && errorName(name)
	if !o.Envelope {
		return
	}
	if w.space(); w.pos >= len(w.data) {
		return
	}
	switch first := w.data[w.pos]; {
	case errorName(name) && first == '[' && w.filled():
		w.errored = true
	case string(name) == "data" && first == '{':
		w.given = true
	}
}
