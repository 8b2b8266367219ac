package observe

import (
	"cmp"
	"maps"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/place"
	"inkret/core/schema"
)

func singular(s string) string { return schema.Singular(s) }

// cluster is a set of places whose objects seem to be of one kind.
type cluster struct {
	object *schema.Object
	spots  []*spot
	names  map[string]bool
	hints  map[string]bool // what its objects are called where they stand
}

// Two places have one kind of object if their names agree and this share of the smaller one's members is in the
// other, or if their names differ and this share of all members is common.
const (
	sameName  = 0.5
	sameShape = 0.8
	fewest    = 3 // members that differently named objects must have in common
)

// sketcher builds a sketch.
type sketcher struct {
	sketch   *schema.Sketch
	clusters []*cluster
	of       map[*spot]*cluster
	objects  map[*spot]*schema.Object
	values   map[*schema.Member]map[uint64]bool // that stood there, as keyed hashes
	bodies   []body
	same     map[string]*spot // bodies by what they have
	bearers  bool             // there are callers who are signed in otherwise than by cookie
}

// body is a body with where it goes.
type body struct {
	s    *spot
	c    *schema.Content
	path string
}

// Sketch ends the observation, once, and proposes what was observed: endpoints with their bodies, and the
// objects in them. Objects with similar members are variants of one entity. Of errors, it tells what they say.
func (o *Observer) Sketch() *schema.Sketch {
	k := &sketcher{sketch: &schema.Sketch{}, of: map[*spot]*cluster{}, objects: map[*spot]*schema.Object{},
		values: map[*schema.Member]map[uint64]bool{}, same: map[string]*spot{}, bearers: o.bearers > 0}
	k.sketch.Servers = busiest(o.hosts)
	all := slices.DeleteFunc(o.endpointsFound(), o.answersGraphs)
	for _, e := range all {
		k.operation(e)
	}
	ofPath := map[string]*cluster{}
	// objects directly in a body are named first
	for _, b := range k.bodies {
		inner, at, beside := unwrap(b.s)
		b.c.At, b.c.Many, b.c.Nullable, b.c.Beside, b.c.Form = at, inner.many, inner.nulls > 0, beside, inner.form()
		if !inner.isObject() {
			continue
		}
		of := ofPath[b.path] // what one path answers and takes is one kind of thing
		if of != nil && k.of[inner] == nil && slices.ContainsFunc(inner.names,
			func(n string) bool { return of.names[n] }) {
			k.add(of, inner, nameOf(b.path))
		}
		if c := k.assign(inner, nameOf(b.path)); of == nil {
			ofPath[b.path] = c
		}
	}
	for _, b := range k.bodies {
		if inner, _, _ := unwrap(b.s); inner.isObject() {
			k.descend(inner)
		}
		k.types(b, func(of string, s *spot) {
			k.assign(s, schema.EntityName(of))
			k.descend(s)
		})
	}
	for _, c := range k.clusters {
		for _, s := range c.spots {
			if k.objects[s] = c.object; len(c.spots) > 1 || s.hasGroup() {
				k.objects[s] = &schema.Object{Name: c.object.Name, Kind: c.object}
			}
		}
	}
	for _, c := range k.clusters {
		k.fill(c)
	}
	for _, b := range k.bodies {
		inner, _, _ := unwrap(b.s)
		b.c.Object = k.objects[inner]
		k.types(b, func(of string, s *spot) {
			b.c.Included = append(b.c.Included, schema.Typed{Type: of, Object: k.objects[s]})
		})
	}
	o.whose(k, all)
	return k.sketch
}

// types goes over the resources that a body includes, by their types.
func (k *sketcher) types(b body, f func(of string, s *spot)) {
	all := b.s.members[schema.IncludedName]
	if b.s.many || all == nil || !all.typed() {
		return
	}
	for _, of := range slices.Sorted(maps.Keys(all.byType)) {
		if s := all.byType[of]; s.isObject() {
			f(of, s)
		}
	}
}

// hasGroup reports whether some of an object's members are in a group.
func (s *spot) hasGroup() bool {
	return slices.ContainsFunc(s.names, func(n string) bool { return s.roleOf(n) == group })
}

// operation adds an endpoint to the sketch, and its bodies to those that are looked at.
func (k *sketcher) operation(e found) {
	op := &schema.Operation{Method: e.method, Path: e.path}
	keys := slices.SortedFunc(maps.Keys(e.counts), func(a, b answerKey) int {
		return cmp.Or(strings.Compare(a.status, b.status), strings.Compare(a.audience, b.audience))
	})
	op.Answers = make([]schema.Answer, len(keys))
	for i, a := range keys {
		op.Answers[i] = schema.Answer{Status: a.status, Audience: a.audience, Captures: e.counts[a]}
		if a.audience == ByCookie && !k.bearers {
			op.Answers[i].Audience = SignedIn
		}
		s := e.answers[a]
		switch {
		case s == nil:
			op.Answers[i].Empty = true
		case a.status[0] >= '4':
			k.error(s)
		default:
			k.bodies = append(k.bodies, body{k.once(s, e.path), &op.Answers[i].Content, e.path})
		}
	}
	if e.takes != nil {
		op.Takes = make([]schema.Content, 1)
		inner, _, _ := unwrap(e.takes)
		op.Takes[0].Sent = inner.names
		k.bodies = append(k.bodies, body{e.takes, &op.Takes[0], e.path})
	}
	k.sketch.Operations = append(k.sketch.Operations, op)
}

// once returns one place for all bodies of one name that have the same members all the way down.
func (k *sketcher) once(s *spot, path string) *spot {
	print := string(s.print([]byte(nameOf(path))))
	first := k.same[print]
	if first == nil {
		k.same[print] = s
		return s
	}
	if first != s {
		first.join(s)
	}
	return first
}

// print writes what stands at a place and below it, but no value.
func (s *spot) print(to []byte) []byte {
	for _, kind := range []jsontext.Kind{'{', '[', '"', '0', 't'} {
		if s.kinds[kind] > 0 {
			to = append(to, byte(kind))
		}
	}
	if s.many {
		to = append(to, '*')
	}
	to = append(to, '(')
	for _, name := range slices.Sorted(slices.Values(s.names)) {
		to = s.members[name].print(append(strconv.AppendQuote(to, name), ':'))
	}
	for _, of := range slices.Sorted(maps.Keys(s.byType)) {
		to = s.byType[of].print(append(strconv.AppendQuote(to, of), '='))
	}
	return append(to, ')')
}

// error notes what an error says.
func (k *sketcher) error(s *spot) {
	const most = 24
	for _, name := range s.names {
		m, list := s.members[name], &k.sketch.Errors
		if m.kinds['{'] > 0 || m.many {
			list = &k.sketch.ErrorParts
		}
		if len(*list) < most && !slices.Contains(*list, name) {
			*list = append(*list, name)
		}
	}
	k.sketch.Errors = slices.DeleteFunc(k.sketch.Errors,
		func(n string) bool { return slices.Contains(k.sketch.ErrorParts, n) })
}

func busiest(counts map[string]int) []string {
	var all []string
	for name := range counts {
		all = append(all, name)
	}
	sort.Slice(all, func(i, k int) bool {
		return counts[all[i]] > counts[all[k]] || counts[all[i]] == counts[all[k]] && all[i] < all[k]
	})
	return all
}

// general are words that say nothing of what a path is about.
var general = set("record records item items entry entries list search all data result results document documents " +
	"docs row rows object objects value values query index latest export")

// nameOf names the objects in a path's bodies by its last literal segment that says what it is about.
func nameOf(path string) string {
	parts := strings.Split(strings.Trim(path, "/"), "/")
	last := "Body"
	for i := len(parts) - 1; i >= 0; i-- {
		if parts[i] == "" || strings.Contains(parts[i], "{") {
			continue
		}
		if !general[strings.ToLower(parts[i])] {
			return schema.EntityName(parts[i])
		}
		if last == "Body" {
			last = schema.EntityName(parts[i])
		}
	}
	return last
}

func (s *spot) isObject() bool {
	return s.kinds['{'] > 0 && s.kinds['{'] >= s.seen-s.nulls && s.kinds['['] == 0 && !s.keyed && len(s.members) > 0
}

// unwrap finds the object that a body is about, inside an envelope.
func unwrap(s *spot) (inner *spot, at string, beside []string) {
	if s.many || !s.isObject() {
		return s, "", nil
	}
	if in := s.members["_embedded"]; in != nil && s.roleOf("_embedded") == group && len(in.names) == 1 &&
		in.present >= s.kinds['{'] { // a list in HAL
		name := in.names[0]
		if list := in.members[name]; list.many && list.single == 0 && list.present >= in.kinds['{'] &&
			(list.isObject() || list.seen == 0 && list.kinds['['] == 0) {
			for _, other := range s.names {
				if other != "_embedded" {
					beside = append(beside, other)
				}
			}
			return list, string(place.AppendPointer([]byte("/_embedded"), []byte(name))), beside
		}
	}
	shape := &schema.Object{}
	for _, name := range s.names {
		m := &schema.Member{Name: name}
		in := s.members[name]
		empty := in.many && in.seen == 0 && in.kinds['['] == 0 // lists
		if in.present >= s.kinds['{'] && (in.isObject() && (!in.many || in.single == 0) || empty) {
			m.Object = shape // any object: only that it is one counts here
		}
		shape.Members = append(shape.Members, m)
	}
	inside, beside := schema.Unwrap(shape)
	if inside == nil {
		return s, "", nil
	}
	return s.members[inside.Name], string(place.AppendPointer(nil, []byte(inside.Name))), beside
}

// assign adds a place to the kind of object that it fits best.
func (k *sketcher) assign(s *spot, name string) *cluster {
	if c := k.of[s]; c != nil {
		return c
	}
	var best *cluster
	most := 0.0
	for _, c := range k.clusters {
		common, names := 0, s.tellingNames()
		for _, n := range names {
			if c.names[n] {
				common++
			}
		}
		smaller, all := min(len(names), len(c.names)), max(1, len(names)+len(c.names)-common)
		fits := float64(common) / float64(all)
		switch {
		case c.hints[name] && float64(common) >= sameName*float64(smaller):
			fits++ // the name agrees too
		case common < fewest || fits < sameShape || commonOwn(names, c.names) < fewest:
			continue
		}
		if fits > most {
			best, most = c, fits
		}
	}
	if best == nil {
		taken := func(n string) bool { return k.sketch.Object(n) != nil }
		best = &cluster{object: &schema.Object{Name: schema.Free(name, taken)}, names: map[string]bool{},
			hints: map[string]bool{}}
		k.clusters = append(k.clusters, best)
		k.sketch.Objects = append(k.sketch.Objects, best.object)
	}
	k.add(best, s, name)
	return best
}

// commonOwn counts the names that are among others, besides those that objects of all sorts have.
func commonOwn(names []string, among map[string]bool) (n int) {
	for _, name := range names {
		if among[name] && !housekeeping.MatchString(name) && name != "name" {
			n++
		}
	}
	return n
}

// add adds a place to a kind of object.
func (k *sketcher) add(c *cluster, s *spot, name string) {
	c.spots, c.hints[name], k.of[s] = append(c.spots, s), true, c
	for _, n := range s.tellingNames() {
		c.names[n] = true
	}
}

func (k *sketcher) descend(s *spot) {
	for _, name := range s.names {
		m := s.members[name]
		switch role := s.roleOf(name); {
		case role == group:
			k.descend(m)
		case role == part && m.isObject():
			k.assign(m, schema.EntityName(name))
			k.descend(m)
		}
	}
}

// fill builds the objects of a cluster: one for each place, all variants of its entity.
func (k *sketcher) fill(c *cluster) {
	agreeing, objects := 0.0, 0
	names := map[string]bool{}
	for _, s := range c.spots {
		for _, n := range s.tellingNames() {
			names[n] = true
		}
		objects += s.kinds['{']
	}
	for _, s := range c.spots {
		agreeing += float64(len(s.tellingNames())) / float64(max(1, len(names)))
	}
	hashes := map[*schema.Member]map[uint64]bool{}
	for _, s := range c.spots {
		maps.Copy(hashes, k.members(s, k.objects[s]))
		c.object.Reserve(k.objects[s])
	}
	for _, s := range c.spots {
		object := k.objects[s]
		if object != c.object {
			c.object.Take(object)
		}
		for _, m := range object.Flat() {
			if k.values[m.Of()] == nil {
				k.values[m.Of()] = map[uint64]bool{}
			}
			maps.Copy(k.values[m.Of()], hashes[m])
		}
	}
	k.count(c, objects, agreeing)
}

// members adds what a place showed to its object, and returns the hashes of values by member.
func (k *sketcher) members(s *spot, object *schema.Object) map[*schema.Member]map[uint64]bool {
	hashes := map[*schema.Member]map[uint64]bool{}
	for _, name := range s.names {
		in := s.members[name]
		m := &schema.Member{Name: name, Form: in.form(), Many: in.many, Optional: in.present < s.kinds['{']}
		role := s.roleOf(name)
		if role == group {
			m.Group, m.Form.Type = &schema.Object{Name: object.Name, Kind: object.Kind}, ""
			maps.Copy(hashes, k.members(in, m.Group))
			object.Members = append(object.Members, m)
			continue
		}
		if role == part && in.isObject() {
			m.Object = k.objects[in]
		}
		m.Open = in.keyed || m.Object == nil && (in.kinds['{'] > 0 || in.kinds['['] > 0)
		if in.many && in.single > 0 { // now one, now many: anything may stand there
			m.Object, m.Open = nil, true
		}
		if m.Open {
			m.Form.Type, m.Form.Format, m.Many = in.openType(), "", false
		}
		m.Observed = schema.Observed{Detector: in.detector(), Class: in.class, Values: in.seen - in.nulls,
			Distinct: len(in.distinct)}
		object.Members = append(object.Members, m)
		hashes[m] = in.distinct
	}
	return hashes
}

// count notes how often the objects of a cluster were seen, and what not all of them have.
func (k *sketcher) count(c *cluster, objects int, agreeing float64) {
	for _, f := range c.object.Members {
		for _, s := range c.spots {
			f.Optional = f.Optional || !slices.ContainsFunc(k.objects[s].Flat(),
				func(m *schema.Member) bool { return m.Of() == f })
		}
	}
	c.object.Seen, c.object.Places = objects, len(c.spots)
	c.object.Sure = int(100 * agreeing / float64(len(c.spots)))
}

// openType returns the type of what stands at an open place: objects, arrays, or now this and now that.
func (s *spot) openType() catalog.Type {
	switch {
	case s.many && s.single == 0:
		return catalog.Array
	case !s.many && s.kinds['{'] == s.seen-s.nulls:
		return catalog.Object
	}
	return ""
}

// join adds what another place showed, and what was below it.
func (s *spot) join(o *spot) {
	s.add(o)
	for of, one := range o.byType {
		if s.byType == nil {
			s.byType = map[string]*spot{}
		}
		if s.byType[of] == nil {
			s.byType[of] = one
		} else {
			s.byType[of].join(one)
		}
	}
	for _, name := range o.names {
		if s.members[name] == nil {
			s.members[name], s.names = o.members[name], append(s.names, name)
		} else {
			s.members[name].join(o.members[name])
		}
	}
}

// add adds what another place showed.
func (s *spot) add(o *spot) {
	s.single += o.single
	s.seen, s.nulls, s.integers, s.arrays, s.present = s.seen+o.seen, s.nulls+o.nulls, s.integers+o.integers, s.arrays+
		o.arrays, s.present+o.present
	s.longest, s.class, s.many, s.keyed = max(s.longest, o.longest), max(s.class, o.class), s.many || o.many, s.keyed ||
		o.keyed
	for kind, n := range o.kinds {
		s.kinds[kind] += n
	}
	for f, n := range o.formats {
		s.formats[f] += n
	}
	for d, n := range o.hits {
		s.hits[d] += n
	}
	for v := range o.distinct {
		if len(s.distinct) <= maxDistinct {
			s.distinct[v] = true
		}
	}
}

// Caller is an audience seen in traffic.
type Caller struct {
	Name      string
	Recognise contract.Recognise
	Requests  int
}

// Callers proposes audiences, from least to most trusted: callers without credentials, those with a key, those who are
// signed in, each role in tokens, and those that recordings name.
func (o *Observer) Callers() []Caller {
	all := []Caller{{Anyone, contract.Recognise{None: true}, o.anonymous}}
	if names := busiest(o.keys); len(names) > 0 {
		all = append(all, Caller{WithKey, contract.Recognise{Header: &contract.Match{Name: names[0],
			Values: []string{"*"}}}, o.keys[names[0]]})
	}
	if names := busiest(o.cookies); len(names) > 0 {
		name := SignedIn
		if o.bearers > 0 {
			name = ByCookie
		}
		all = append(all, Caller{name, contract.Recognise{Cookie: &contract.Match{Name: names[0],
			Values: []string{"*"}}}, o.cookies[names[0]]})
	}
	if o.bearers > 0 || o.signedIn == 0 {
		all = append(all, Caller{SignedIn, contract.Recognise{Header: &contract.Match{Name: "Authorization",
			Values: []string{"*"}}}, o.bearers})
	}
	for _, role := range busiest(o.roles) {
		all = append(all, Caller{role, contract.Recognise{Claim: &contract.Match{Name: "role", Values: []string{role}}},
			o.roles[role]})
	}
	for _, name := range slices.Sorted(maps.Keys(o.said)) {
		if !slices.ContainsFunc(all, func(c Caller) bool { return c.Name == name }) {
			all = append(all, Caller{Name: name, Requests: o.said[name]})
		}
	}
	return all
}
