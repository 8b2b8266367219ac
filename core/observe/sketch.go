package observe

import (
	"slices"
	"sort"
	"strings"

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
	values   map[*schema.Member]map[uint64]bool // that stood there, as keyed hashes
}

// Sketch proposes what was observed: endpoints with their bodies, and the objects in them. Objects with similar
// members are one. Error responses are ignored.
func (o *Observer) Sketch() *schema.Sketch {
	k := &sketcher{sketch: &schema.Sketch{}, of: map[*spot]*cluster{},
		values: map[*schema.Member]map[uint64]bool{}}
	k.sketch.Servers = busiest(o.hosts)
	type body struct {
		s    *spot
		c    *schema.Content
		path string
	}
	var bodies []body
	for _, key := range o.order {
		e := o.endpoints[key]
		op := &schema.Operation{Method: e.method, Path: e.path}
		var keys []answerKey
		for a := range e.counts {
			keys = append(keys, a)
		}
		sort.Slice(keys, func(i, j int) bool {
			return keys[i].status < keys[j].status || keys[i].status == keys[j].status &&
				keys[i].audience < keys[j].audience
		})
		op.Answers = make([]schema.Answer, len(keys))
		for i, a := range keys {
			op.Answers[i] = schema.Answer{Status: a.status, Audience: a.audience, Captures: e.counts[a]}
			if s := e.answers[a]; s == nil {
				op.Answers[i].Empty = true
			} else if a.status[0] >= '4' {
				for _, name := range s.names {
					if slices.Contains(shownErrors, name) && !slices.Contains(k.sketch.Errors, name) &&
						s.members[name].kinds['{'] == 0 {
						k.sketch.Errors = append(k.sketch.Errors, name)
					}
				}
			} else {
				bodies = append(bodies, body{s, &op.Answers[i].Content, e.path})
			}
		}
		if e.takes != nil {
			op.Takes = make([]schema.Content, 1)
			op.Takes[0].Sent = e.takes.names
			bodies = append(bodies, body{e.takes, &op.Takes[0], e.path})
		}
		k.sketch.Operations = append(k.sketch.Operations, op)
	}
	// objects directly in a body are named first
	for _, b := range bodies {
		inner, at, beside := unwrap(b.s)
		b.c.At, b.c.Many, b.c.Nullable, b.c.Beside, b.c.Form = at, inner.many, inner.nulls > 0, beside, inner.form()
		if inner.isObject() {
			k.assign(inner, nameOf(b.path))
		}
	}
	for _, b := range bodies {
		inner, _, _ := unwrap(b.s)
		if inner.isObject() {
			k.descend(inner)
		}
	}
	for _, c := range k.clusters {
		k.fill(c)
	}
	for _, b := range bodies {
		if inner, _, _ := unwrap(b.s); k.of[inner] != nil {
			b.c.Object = k.of[inner].object
		}
	}
	o.whose(k)
	return k.sketch
}

// shownErrors lists members of error bodies that are meant to be shown (RFC 9457 and earlier habits).
var shownErrors = []string{"type", "title", "status", "detail", "instance", "error", "message", "code"}

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

// nameOf names the objects in a path's bodies by its last literal segment.
func nameOf(path string) string {
	parts := strings.Split(strings.Trim(path, "/"), "/")
	for i := len(parts) - 1; i >= 0; i-- {
		if parts[i] != "" && !strings.Contains(parts[i], "{") {
			return schema.EntityName(parts[i])
		}
	}
	return "Body"
}

func (s *spot) isObject() bool {
	return s.kinds['{'] > 0 && s.kinds['{'] >= s.seen-s.nulls && !s.keyed && len(s.members) > 0
}

// unwrap finds the object that a body is about, inside an envelope.
func unwrap(s *spot) (inner *spot, at string, beside []string) {
	if s.many || !s.isObject() {
		return s, "", nil
	}
	shape := &schema.Object{}
	for _, name := range s.names {
		m := &schema.Member{Name: name}
		if s.members[name].isObject() || s.members[name].many {
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
		common := 0
		for _, n := range s.names {
			if c.names[n] {
				common++
			}
		}
		smaller, all := min(len(s.names), len(c.names)), len(s.names)+len(c.names)-common
		fits := float64(common) / float64(all)
		switch {
		case c.hints[name] && float64(common) >= sameName*float64(smaller):
			fits++ // the name agrees too
		case common < fewest || fits < sameShape:
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
	best.spots = append(best.spots, s)
	best.hints[name] = true
	for _, n := range s.names {
		best.names[n] = true
	}
	k.of[s] = best
	return best
}

func (k *sketcher) descend(s *spot) {
	for _, name := range s.names {
		m := s.members[name]
		if m.isObject() {
			k.assign(m, schema.EntityName(name))
			k.descend(m)
		}
	}
}

// fill builds one object from the places of a cluster.
func (k *sketcher) fill(c *cluster) {
	agreeing, objects := 0.0, 0
	var names []string
	for _, s := range c.spots {
		for _, n := range s.names {
			if !slices.Contains(names, n) {
				names = append(names, n)
			}
		}
		objects += s.kinds['{']
	}
	for _, s := range c.spots {
		agreeing += float64(len(s.names)) / float64(len(names))
	}
	c.object.Seen, c.object.Places = objects, len(c.spots)
	c.object.Sure = int(100 * agreeing / float64(len(c.spots)))
	for _, name := range names {
		m := &schema.Member{Name: name}
		whole := newSpot()
		for _, s := range c.spots {
			in := s.members[name]
			if in == nil {
				m.Optional = true
				continue
			}
			m.Optional = m.Optional || in.present < s.kinds['{']
			whole.add(in)
			if of := k.of[in]; of != nil {
				m.Object = of.object
			}
		}
		m.Form, m.Many = whole.form(), whole.many
		m.Open = whole.keyed || m.Object == nil && (whole.kinds['{'] > 0 || whole.kinds['['] > 0)
		if m.Open {
			m.Form.Type = catalog.Object
			if whole.many {
				m.Form.Type = catalog.Array
			}
		}
		m.Observed = schema.Observed{Detector: whole.detector(), Class: whole.class, Values: whole.seen - whole.nulls,
			Distinct: len(whole.distinct)}
		k.values[m] = whole.distinct
		c.object.Members = append(c.object.Members, m)
	}
}

// add merges what another place showed.
func (s *spot) add(o *spot) {
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

// Callers proposes audiences, from least to most trusted: callers without credentials, each role in tokens, and all
// others.
func (o *Observer) Callers() []Caller {
	var all []Caller
	all = append(all, Caller{Anyone, contract.Recognise{None: true}, o.anonymous})
	with := 0
	for _, role := range slices.Backward(busiest(o.roles)) {
		with += o.roles[role]
		all = append(all, Caller{role, contract.Recognise{Claim: &contract.Match{Name: "role", Values: []string{role}}},
			o.roles[role]})
	}
	slices.SortStableFunc(all[1:], func(a, b Caller) int { return b.Requests - a.Requests })
	if o.signedIn > with || o.signedIn == 0 {
		rest := Caller{Name: SignedIn, Requests: o.signedIn - with,
			Recognise: contract.Recognise{Header: &contract.Match{Name: "Authorization", Values: []string{"*"}}}}
		if names := busiest(o.cookies); len(names) > 0 {
			rest.Recognise = contract.Recognise{Cookie: &contract.Match{Name: names[0], Values: []string{"*"}}}
		}
		all = slices.Insert(all, 1, rest)
	}
	return all
}
