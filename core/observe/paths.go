package observe

import (
	"cmp"
	"maps"
	"regexp"
	"slices"
	"strings"

	"inkret/core/contract"
	"inkret/core/detect"
)

// Which segments of paths are parameters. A segment that is data by its form is one at once. Others are learnt as they
// are; then those that vary among siblings whose bodies look alike become one parameter. Where what is told apart by a
// parameter has different bodies, as the records of different collections have, its values stay in the path.

// node is one segment of paths, and all that was seen below it.
type node struct {
	literal   map[string]*node
	order     []string // of the literal ones, as first seen
	param     *node    // what stands for data
	words     bool     // words are data there too
	endpoints map[string]*endpoint
	next      int // how many literal segments there are when they are compared again
}

func newNode() *node {
	return &node{literal: map[string]*node{}, endpoints: map[string]*endpoint{}, next: mostLiterals}
}

// endpoint is what was observed at a method and a path, apart for each of the values that its parameters had.
type endpoint struct {
	method   string
	path     string // where a contract names it; otherwise it is the place in the tree
	first    int    // when it was first seen, in order
	variants []*variant
	index    map[string]*variant // of those not yet compared, by values
}

// variant is what was observed at an endpoint for some values of its parameters.
type variant struct {
	values  map[int]map[string]bool // by position in the path; of too many, none is kept
	answers map[answerKey]*spot
	counts  map[answerKey]int
	takes   *spot
	echoes  map[int]bool // positions of segments that stand in a body
}

const (
	mostLiterals = 48 // siblings that are learnt apart before they are compared
	mostVariants = 48 // values that are learnt apart before they are compared
	mostValues   = 16 // values of a parameter that are told apart in the end
	mostApart    = 32 // different bodies of one endpoint; beyond, they are of one kind that varies
)

func newVariant() *variant {
	return &variant{values: map[int]map[string]bool{}, answers: map[answerKey]*spot{}, counts: map[answerKey]int{},
		echoes: map[int]bool{}}
}

// at returns the place of a path in the tree, with the values that its parameters have.
func (o *Observer) at(segments []string) (*node, map[int]string) {
	values := map[int]string{}
	n := o.root
	for i, s := range segments {
		text := contract.Unescaped(s)
		below := n.literal[s]
		if below == nil && !n.data(text) && len(n.literal) >= n.next {
			n.compare(i)
			n.next, o.places = 2*max(mostLiterals, len(n.literal)), o.root.places()
		}
		switch {
		case below != nil:
		case n.data(text):
			if n.param == nil {
				n.param = newNode()
			}
			below, values[i] = n.param, s
		default:
			below = newNode()
			n.literal[s], n.order = below, append(n.order, s)
		}
		n = below
	}
	return n, values
}

// parameters notes where an endpoint of a contract has parameters: there, words are data.
func (n *node) parameters(e *contract.Endpoint) {
	_, path, _ := strings.Cut(e.Text, " /")
	for _, s := range strings.Split(path, "/") {
		if strings.HasPrefix(s, "{") && strings.HasSuffix(s, "}") {
			if n.param == nil {
				n.param = newNode()
			}
			n.words, n = true, n.param
			continue
		}
		if n.literal[s] == nil {
			n.literal[s], n.order = newNode(), append(n.order, s)
		}
		n = n.literal[s]
	}
}

// data reports whether a segment below a node is data: by its form, or because others like it are.
func (n *node) data(s string) bool {
	return contract.IsParameter(s) || detect.IsValue([]byte(s)) || n.param != nil &&
		(coded(s) || n.words && !reserved[strings.ToLower(s)])
}

// variant returns what is learnt of an endpoint for values of its parameters.
func (e *endpoint) variant(values map[int]string) *variant {
	var key strings.Builder
	for _, i := range slices.Sorted(maps.Keys(values)) {
		key.WriteString(values[i] + "\x00")
	}
	if v := e.index[key.String()]; v != nil {
		return v
	}
	if len(e.index) >= mostVariants {
		e.settle()
	}
	v := newVariant()
	for i, s := range values {
		v.values[i] = map[string]bool{s: true}
	}
	e.variants = append(e.variants, v)
	if e.index == nil {
		e.index = map[string]*variant{}
	}
	e.index[key.String()] = v
	return v
}

// settle joins the variants whose bodies look alike.
func (e *endpoint) settle() {
	var apart []*variant
	for _, v := range e.variants {
		i := slices.IndexFunc(apart, func(a *variant) bool { return v.against(a).is == alike })
		if i < 0 {
			i = slices.IndexFunc(apart, func(a *variant) bool { return v.against(a).is == unknown })
		}
		if i < 0 {
			apart = append(apart, v)
		} else {
			apart[i].join(v)
		}
	}
	if len(apart) > mostApart {
		for _, v := range apart[1:] {
			apart[0].join(v)
		}
		apart = apart[:1]
	}
	e.variants, e.index = apart, nil
}

// likeness is how much two bodies, or all that two places have, are alike.
type likeness struct {
	is     verdict
	common int  // members that tell, in both
	nearly bool // hardly any is in one of them only
}

type verdict int

const (
	unknown verdict = iota // there is nothing to compare
	alike
	different
)

// Bodies are alike that have this share of the smaller one's telling members in common, and nearly the same with this
// share of all.
const (
	sharedMembers = 0.5
	nearlyAll     = 0.8
)

// against compares bodies of success.
func (v *variant) against(o *variant) (best likeness) {
	for key, s := range v.answers {
		other := o.answers[key]
		if other == nil || key.status[0] != '2' {
			continue
		}
		switch l := s.against(other); {
		case l.is == different:
			return l
		case l.is == alike && (best.is == unknown || l.common > best.common):
			best = l
		}
	}
	return best
}

// against compares the members of two bodies, inside of their envelopes.
func (s *spot) against(o *spot) likeness {
	x, y := s.telling(), o.telling()
	if x == nil || y == nil {
		return likeness{}
	}
	common := 0
	for name := range x {
		if y[name] {
			common++
		}
	}
	l := likeness{is: different, common: common,
		nearly: float64(common) >= nearlyAll*float64(len(x)+len(y)-common)}
	if float64(common) >= sharedMembers*float64(min(len(x), len(y))) {
		l.is = alike
	}
	return l
}

// telling returns what tells a body's objects apart, nil for none. It is found once for all that was learnt so far.
func (s *spot) telling() map[string]bool {
	if learnt := s.seen + s.arrays; s.toldAt != learnt {
		s.toldAt, s.told = learnt, nil
		if inner, _, _ := unwrap(s); inner.isObject() {
			s.told = inner.leaves()
		}
	}
	return s.told
}

// housekeeping matches members that bodies of all sorts have.
var housekeeping = regexp.MustCompile(`(?i)^(_?id|uuid|type|kind|url|href|self|links?|meta|object|` +
	`(created|updated|modified|deleted|inserted|collection|table|entity)([_-]?(at|on|by|date|time|id|name))?|_.*)$`)

// leaves lists what an object has, down to a depth, besides housekeeping; with it where there is nothing else.
func (s *spot) leaves() map[string]bool {
	const deepest = 3
	own, all := map[string]bool{}, map[string]bool{}
	var walk func(s *spot, path string, depth int)
	walk = func(s *spot, path string, depth int) {
		for _, name := range s.names {
			if m := s.members[name]; m.isObject() && depth < deepest {
				walk(m, path+name+"\x00", depth+1)
				continue
			}
			all[path+name] = true
			if !housekeeping.MatchString(name) {
				own[path+name] = true
			}
		}
	}
	walk(s, "", 1)
	if len(own) == 0 {
		return all
	}
	return own
}

// join adds what another variant showed.
func (v *variant) join(o *variant) {
	for i, values := range o.values {
		if v.values[i] == nil {
			v.values[i] = map[string]bool{}
		}
		if maps.Copy(v.values[i], values); len(v.values[i]) > mostValues || values == nil {
			v.values[i] = nil // too many to be told apart
		}
	}
	for key, n := range o.counts {
		v.counts[key] += n
	}
	maps.Copy(v.echoes, o.echoes)
	for key, s := range o.answers {
		if v.answers[key] == nil {
			v.answers[key] = s
		} else {
			v.answers[key].join(s)
		}
	}
	if v.takes == nil {
		v.takes = o.takes
	} else if o.takes != nil {
		v.takes.join(o.takes)
	}
}

// reserved are words that are no data among siblings that are.
var reserved = set("me self myself current mine new search count stats latest all default export import bulk batch " +
	"status health login logout")

func set(list string) map[string]bool {
	all := map[string]bool{}
	for _, w := range strings.Fields(list) {
		all[w] = true
	}
	return all
}

var (
	prefixed = regexp.MustCompile(`^[a-z]{2,6}_[A-Za-z0-9]*\d[A-Za-z0-9]*$`)
	version  = regexp.MustCompile(`^v?\d+([._-]\d+)*([a-z]+\d*)?$`)
	mixture  = regexp.MustCompile(`^[A-Za-z0-9_-]{6,}$`)
	aSlug    = regexp.MustCompile(`^[a-z0-9]+([-_][a-z0-9]+)+$`)
)

// coded reports whether a segment looks like a code: an identifier with a prefix, or letters and digits that alternate.
func coded(s string) bool {
	switch {
	case strings.Contains(s, "@"), prefixed.MatchString(s):
		return true
	case version.MatchString(s), !mixture.MatchString(s):
		return false
	}
	turns, before, digits, upper := 0, 0, 0, 0
	for _, r := range s {
		sort := 1
		switch {
		case r >= '0' && r <= '9':
			sort, digits = 2, digits+1
		case r >= 'A' && r <= 'Z':
			upper++
		case r == '-' || r == '_':
			continue
		}
		if before != 0 && sort != before {
			turns++
		}
		before = sort
	}
	return digits > 0 && (turns >= 3 || turns >= 2 && len(s) >= 8 || upper > 0 && upper < len(s)-digits)
}

// isData reports whether a segment is data, one of so many siblings with like bodies. echoed says that it stands in its
// own bodies; so do identifiers, while names of collections do not.
func isData(s string, siblings int, like likeness, echoed bool) bool {
	const some, slugs, enough = 2, 3, 4
	const many, manyMembers = 24, 4
	text := contract.Unescaped(s)
	switch {
	case reserved[strings.ToLower(text)]:
		return false
	case coded(text):
		return siblings >= some
	case aSlug.MatchString(text) && !version.MatchString(text):
		return siblings >= slugs && like.nearly && like.common >= fewest || siblings >= some && echoed
	}
	return siblings >= enough && echoed || siblings >= many && like.nearly && like.common >= manyMembers
}

// compare makes one parameter of the literal segments below a node whose bodies look alike. depth is their position.
func (n *node) compare(depth int) {
	for _, s := range n.order {
		n.literal[s].compare(depth + 1)
	}
	if n.param != nil {
		n.param.compare(depth + 1)
	}
	type group struct {
		segments []string
		like     likeness // the least
	}
	var groups []*group
	for _, s := range n.order {
		var in *group
		var like likeness
		for _, g := range groups {
			if like = n.literal[g.segments[0]].against(n.literal[s]); like.is == alike {
				in = g
				break
			}
		}
		if in == nil {
			in = &group{like: likeness{common: maxNames, nearly: true}}
			groups, like = append(groups, in), in.like
		}
		in.segments = append(in.segments, s)
		in.like.common, in.like.nearly = min(in.like.common, like.common), in.like.nearly && like.nearly
	}
	merged := false
	for _, g := range groups {
		siblings := len(g.segments)
		joins := n.param != nil && n.param.against(n.literal[g.segments[0]]).is == alike // what is data already
		if joins {
			siblings += 2
		}
		echoes := 0
		for _, s := range g.segments {
			if n.literal[s].echoes(depth) {
				echoes++
			}
		}
		for _, s := range g.segments {
			failed := n.param != nil && !n.literal[s].succeeds() && !reserved[strings.ToLower(s)]
			if !failed && !isData(s, siblings, g.like, 2*echoes >= len(g.segments)) &&
				!(joins && n.data(contract.Unescaped(s))) {
				continue
			}
			if n.param == nil {
				n.param = newNode()
			}
			n.words = n.words || !coded(contract.Unescaped(s))
			n.param.join(n.literal[s], depth, s)
			delete(n.literal, s)
			merged = true
		}
	}
	if merged {
		n.order = slices.DeleteFunc(n.order, func(s string) bool { return n.literal[s] == nil })
		n.param.compare(depth + 1)
	}
}

// succeeds reports whether something was answered with success at a node or below it.
func (n *node) succeeds() bool {
	for _, e := range n.endpoints {
		for _, v := range e.variants {
			for answer := range v.counts {
				if answer.status[0] < '4' {
					return true
				}
			}
		}
	}
	for _, below := range n.literal {
		if below.succeeds() {
			return true
		}
	}
	return n.param != nil && n.param.succeeds()
}

// echoes reports whether a body at or below a node holds the segment of the path at a position.
func (n *node) echoes(depth int) bool {
	for _, e := range n.endpoints {
		for _, v := range e.variants {
			if v.echoes[depth] {
				return true
			}
		}
	}
	for _, below := range n.literal {
		if below.echoes(depth) {
			return true
		}
	}
	return n.param != nil && n.param.echoes(depth)
}

// against compares what two nodes have, and have below them, at the same paths: the best of it counts.
func (n *node) against(o *node) (best likeness) {
	better := func(l likeness) {
		if l.is == alike && (best.is != alike || l.common > best.common) {
			best = l
		}
	}
	for method, e := range n.endpoints {
		if other := o.endpoints[method]; other != nil {
			for _, v := range e.variants {
				for _, w := range other.variants {
					better(v.against(w))
				}
			}
		}
	}
	for s, below := range n.literal {
		if other := o.literal[s]; other != nil {
			better(below.against(other))
		}
	}
	if n.param != nil && o.param != nil {
		better(n.param.against(o.param))
	}
	return best
}

// join adds what is at and below another node, whose segment becomes a value of a parameter at a position.
func (n *node) join(o *node, depth int, segment string) {
	for method, e := range o.endpoints {
		into := n.endpoints[method]
		if into == nil {
			into = &endpoint{method: method, first: e.first}
			n.endpoints[method] = into
		}
		into.first = min(into.first, e.first)
		for _, v := range e.variants {
			v.values[depth] = map[string]bool{segment: true}
			into.variants = append(into.variants, v)
		}
		if into.index = nil; len(into.variants) > mostVariants {
			into.settle()
		}
	}
	for _, s := range o.order {
		if n.literal[s] == nil {
			n.literal[s], n.order = newNode(), append(n.order, s)
		}
		n.literal[s].join(o.literal[s], depth, segment)
	}
	if o.param != nil {
		if n.param == nil {
			n.param = newNode()
		}
		n.param.join(o.param, depth, segment)
		n.words = n.words || o.words
	}
}

// places counts the places that are learnt of a node and below it.
func (n *node) places() (all int) {
	for _, e := range n.endpoints {
		for _, v := range e.variants {
			for _, s := range v.answers {
				all += s.places()
			}
			if v.takes != nil {
				all += v.takes.places()
			}
		}
	}
	for _, below := range n.literal {
		all += below.places()
	}
	if n.param != nil {
		all += n.param.places()
	}
	return all
}

func (s *spot) places() int {
	all := len(s.members)
	for _, m := range s.members {
		all += m.places()
	}
	return all
}

// found is an endpoint as it is proposed.
type found struct {
	method, path string
	first        int
	*variant
}

// endpointsFound proposes endpoints: those of contracts first, then what the tree holds, in the order in which
// they were seen.
func (o *Observer) endpointsFound() []found {
	var all []found
	for _, e := range o.known {
		for _, v := range e.variants { // a single one: its values are not looked at
			all = append(all, found{e.method, e.path, e.first, v})
		}
	}
	o.root.compare(0)
	var walk func(n *node, path []string)
	walk = func(n *node, path []string) {
		for _, e := range n.endpoints {
			e.settle()
			all = append(all, e.apart(path)...)
		}
		for _, s := range n.order {
			walk(n.literal[s], append(slices.Clone(path), s))
		}
		if n.param != nil {
			walk(n.param, append(slices.Clone(path), "{}"))
		}
	}
	walk(o.root, nil)
	slices.SortFunc(all, func(a, b found) int {
		return cmp.Or(a.first-b.first, strings.Compare(a.method, b.method), strings.Compare(a.path, b.path))
	})
	return all
}

// apart proposes one endpoint, or several where different values of one parameter have different bodies.
func (e *endpoint) apart(path []string) (all []found) {
	at := e.tells(path)
	if at < 0 {
		whole := e.variants[0]
		for _, v := range e.variants[1:] {
			whole.join(v)
		}
		return []found{{e.method, named(path), e.first, whole}}
	}
	several := 0
	for _, v := range e.variants {
		if len(v.values[at]) > 1 {
			several++
		}
	}
	for _, v := range e.variants {
		if len(v.values[at]) > 1 && several == 1 {
			all = append(all, found{e.method, named(path), e.first, v})
			continue
		}
		for _, value := range slices.Sorted(maps.Keys(v.values[at])) {
			one := slices.Clone(path)
			one[at] = value
			all = append(all, found{e.method, named(one), e.first, v})
		}
	}
	return all
}

// tells returns the position of the parameter whose values tell different bodies apart, or -1.
func (e *endpoint) tells(path []string) int {
	if len(e.variants) < 2 {
		return -1
	}
	best, fewest := -1, 0
	for i, s := range path {
		if s != "{}" {
			continue
		}
		owner, fits, last := map[string]*variant{}, true, i == len(path)-1
		for _, v := range e.variants {
			values := v.values[i]
			fits = fits && len(values) > 0 && (!last || v.lists()) && v.told(values)
			for value := range values {
				if other := owner[value]; other != nil && other != v {
					fits = false
				}
				owner[value] = v
			}
		}
		if fits && (best < 0 || len(owner) < fewest) {
			best, fewest = i, len(owner)
		}
	}
	return best
}

// told reports whether values of a parameter are few enough, for what they are, to say which body there is.
func (v *variant) told(values map[string]bool) bool {
	const mostNames, leastCalls = 4, 2
	calls := 0
	for _, n := range v.counts {
		calls += n
	}
	for value := range values {
		if contract.IsParameter(value) && (len(values) > 1 || calls < leastCalls) {
			return false
		}
	}
	return len(values) <= mostNames
}

// lists reports whether all bodies of success are lists.
func (v *variant) lists() bool {
	for key, s := range v.answers {
		if inner, _, _ := unwrap(s); key.status[0] == '2' && !inner.many {
			return false
		}
	}
	return len(v.answers) > 0
}

// named writes a path with a parameter for each segment that is {}, named after the segment before it.
func named(segments []string) string {
	segments = slices.Clone(segments)
	taken := map[string]bool{}
	before := ""
	for i, s := range segments {
		if s != "{}" {
			before = s
			continue
		}
		name := strings.ToLower(notName.ReplaceAllString(singular(before), "_")) + "_id"
		if name == "_id" || !letterFirst.MatchString(name) {
			name = "id"
		}
		for taken[name] {
			name = "next_" + name
		}
		taken[name] = true
		segments[i] = "{" + name + "}"
	}
	return "/" + strings.Join(segments, "/")
}

var (
	notName     = regexp.MustCompile(`[^A-Za-z0-9_]+`)
	letterFirst = regexp.MustCompile(`^[A-Za-z_]`)
)
