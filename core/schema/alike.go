package schema

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"inkret/core/catalog"
	"inkret/core/detect"
)

// Descriptions have many schemas for one kind of thing: in full, in short, nullable, for requests, and without a name
// wherever it is used. Here they become one entity with several shapes.

// variantWords say how much of a thing a schema has, or what for, but not which thing it is.
var variantWords = func() map[string]bool {
	all := map[string]bool{}
	for _, w := range strings.Fields("nullable simple minimal minimum mini full short long brief basic summary " +
		"detail details detailed complete extended partial compact lite light preview public private request " +
		"response reply " +
		"input output in out dto model schema item items list entry object create created update updated patch new " +
		"read write base with v webhook webhooks") {
		all[w] = true
	}
	return all
}()

// Shares of members that two schemas have in common when they are one kind of thing.
const (
	commonUnderOneName = 0.5 // of the smaller one's
	commonOtherwise    = 0.8 // of all
	fewestOtherwise    = 5   // members that differently named schemas have in common
)

// stem returns a schema's name without what only says how much of the thing it has. Words are separated by spaces.
func stem(name string) string {
	var left []string
	all := detect.Words(nil, []byte(name))
	for _, w := range all {
		if w = strings.TrimRight(w, "0123456789"); w != "" && !variantWords[w] {
			left = append(left, Singular(w))
		}
	}
	if len(left) == 0 {
		left = all
	}
	return strings.Join(left, " ")
}

// kinds groups objects that are one kind of thing (union-find, Galler and Fischer, CACM 1964). What has names of
// different things is not grouped, save where all members are the same.
type kinds struct {
	all    []*Object
	number map[*Object]int
	parent []int
	names  []map[string]bool // of the members of a group, at its root
	titles []string          // what a description calls the thing, at the group's root; empty for nothing
	moved  bool              // something was grouped since it was last reset
}

func newKinds(all []*Object) *kinds {
	k := &kinds{all: all, number: map[*Object]int{}, parent: make([]int, len(all)),
		names: make([]map[string]bool, len(all)), titles: make([]string, len(all))}
	for i, o := range all {
		k.number[o], k.parent[i], k.names[i] = i, i, map[string]bool{}
		for _, m := range o.Flat() {
			k.names[i][m.Name] = true
		}
		if !o.unnamed {
			k.titles[i] = stem(o.Name)
		}
	}
	return k
}

func (k *kinds) root(o *Object) int {
	return k.rootOf(k.number[o])
}

func (k *kinds) rootOf(i int) int {
	for k.parent[i] != i {
		k.parent[i] = k.parent[k.parent[i]]
		i = k.parent[i]
	}
	return i
}

// one groups two objects with what they are grouped with, unless these have different names.
func (k *kinds) one(a, b *Object) {
	i, j := k.root(a), k.root(b)
	if k.titles[i] == "" || k.titles[j] == "" || k.titles[i] == k.titles[j] {
		k.join(i, j)
	}
}

func (k *kinds) join(i, j int) {
	if i == j {
		return
	}
	if j < i { // what was described first leads
		i, j = j, i
	}
	k.parent[j], k.moved = i, true
	k.titles[i] = firstOf(k.titles[i], k.titles[j])
	maps.Copy(k.names[i], k.names[j])
	k.names[j] = nil
}

// common counts the members that two groups have in common, and those of the smaller group and of both.
func (k *kinds) common(a, b *Object) (common, smaller, both int) {
	x, y := k.names[k.root(a)], k.names[k.root(b)]
	if len(x) > len(y) {
		x, y = y, x
	}
	for name := range x {
		if y[name] {
			common++
		}
	}
	return common, len(x), len(x) + len(y) - common
}

// overlap reports whether two groups have a share of the smaller one's members in common.
func (k *kinds) overlap(a, b *Object) bool {
	common, smaller, _ := k.common(a, b)
	return float64(common) >= commonUnderOneName*float64(smaller)
}

// byName groups schemas whose names differ only in how much of a thing they have, and schemas without a name with
// those of the name that they have where they stand.
func (k *kinds) byName() {
	under := map[string][]*Object{}
	for _, named := range []bool{true, false} {
		for _, o := range k.all {
			if o.unnamed == named {
				continue
			}
			s := stem(o.Name)
			if o.unnamed {
				s = stem(o.hint)
			}
			for _, other := range under[s] {
				if k.overlap(o, other) {
					k.one(o, other)
				}
			}
			under[s] = append(under[s], o)
		}
	}
}

// byMembers groups schemas without a name with those that have the same members, or nearly the same where these are
// many, if there is one such kind; and kinds of different names with the same members.
func (k *kinds) byMembers() {
	var nameless, named []*Object
	same, whole := map[string]*Object{}, map[string]int{}
	for _, o := range k.all {
		if k.titles[k.root(o)] != "" {
			named = append(named, o)
			continue
		}
		nameless = append(nameless, o)
		if print := k.print(o.Flat()); same[print] == nil {
			same[print] = o
		} else {
			k.one(same[print], o)
		}
	}
	for _, o := range nameless {
		var fitting *Object
		several := false
		for _, other := range named {
			if k.root(o) == k.root(other) || !near(o, other) {
				continue
			}
			several = several || fitting != nil && k.root(fitting) != k.root(other)
			fitting = other
		}
		if fitting != nil && !several {
			k.one(o, fitting)
		}
	}
	members := map[int][]*Member{}
	for _, o := range k.all {
		members[k.root(o)] = append(members[k.root(o)], o.Flat()...)
	}
	for _, o := range k.all {
		r := k.root(o)
		print := k.print(members[r])
		if first, ok := whole[print]; ok && print != "" {
			k.join(k.rootOf(first), r)
		} else {
			whole[print] = r
		}
	}
}

// near reports whether two schemas have nearly the same members.
func near(a, b *Object) bool {
	if len(a.Members) > len(b.Members) {
		a, b = b, a
	}
	if len(a.Members) < fewestOtherwise && len(a.Members) != len(b.Members) ||
		float64(len(a.Members)) < commonOtherwise*float64(len(b.Members)) {
		return false
	}
	common := 0
	for _, m := range a.Members {
		if b.Member(m.Name) != nil {
			common++
		}
	}
	if common < fewestOtherwise {
		return common == len(a.Members) && common == len(b.Members)
	}
	return float64(common) >= commonOtherwise*float64(len(a.Members)+len(b.Members)-common)
}

// print writes members with their types, each once and in order.
func (k *kinds) print(members []*Member) string {
	var all []string
	for _, m := range members {
		what := string(m.Form.Type)
		if m.Object != nil {
			what = "{" + strconv.Itoa(k.root(m.Object)) + "}"
		}
		if m.Many {
			what += "[]"
		}
		all = append(all, strconv.Quote(m.Name)+" "+what)
	}
	slices.Sort(all)
	return strings.Join(slices.Compact(all), "\n")
}

// byPath groups what the operations of one path answer and take, if it has members in common or occurs nowhere else.
func (k *kinds) byPath(operations []*Operation) {
	used := map[int]map[string]bool{} // by group: the paths
	note := func(o *Object, path string) {
		if o == nil {
			return
		}
		if r := k.root(o); used[r] == nil {
			used[r] = map[string]bool{path: true}
		} else {
			used[r][path] = true
		}
	}
	held := map[*Object]int{} // how often others hold it
	for _, o := range k.all {
		for _, below := range o.Below() {
			held[below]++
		}
	}
	answered := map[string][]*Object{}
	for _, op := range operations {
		path := anyParameter.ReplaceAllString(op.Path, "{}")
		for _, a := range op.Answers {
			if a.Object != nil && !a.IsError() {
				note(a.Object, path)
				answered[path] = append(answered[path], a.Object)
			}
		}
		for _, t := range op.Takes {
			note(t.Object, path)
		}
	}
	for _, op := range operations {
		path := anyParameter.ReplaceAllString(op.Path, "{}")
		of := answered[path]
		for _, t := range op.Takes {
			if t.Object != nil {
				of = append(slices.Clone(of), t.Object)
			}
		}
		for _, o := range of[min(1, len(of)):] {
			alone := o.unnamed && len(used[k.root(o)]) == 1 && held[o] == 0
			if k.root(o) != k.root(of[0]) && (alone || k.overlap(o, of[0])) {
				k.one(o, of[0])
			}
		}
	}
}

// within groups what members of one name hold in grouped objects.
func (k *kinds) within() {
	for k.moved = true; k.moved; {
		k.moved = false
		first := map[int]map[string]*Object{}
		for _, o := range k.all {
			r := k.root(o)
			if first[r] == nil {
				first[r] = map[string]*Object{}
			}
			for _, m := range o.Flat() {
				if m.Object == nil {
					continue
				}
				other := first[r][m.Name]
				if other == nil {
					first[r][m.Name] = m.Object
				} else if k.root(other) != k.root(m.Object) && k.overlap(other, m.Object) {
					k.one(other, m.Object)
				}
			}
		}
	}
}

// unite makes objects of one kind one entity, whose variants they then are.
func (s *Sketch) unite() {
	k := newKinds(s.Objects)
	k.byName()
	k.within()
	k.byPath(s.Operations)
	k.within()
	k.byMembers()
	k.within()
	groups := map[int][]*Object{}
	var order []int
	for _, o := range k.all {
		r := k.root(o)
		if groups[r] == nil {
			order = append(order, r)
		}
		groups[r] = append(groups[r], o)
	}
	taken := map[string]bool{}
	for _, r := range order {
		if !apart(groups[r]) {
			taken[groups[r][0].Name] = true
		}
	}
	s.Objects = nil
	for _, r := range order {
		e := groups[r][0]
		if apart(groups[r]) {
			e = &Object{Name: Free(k.nameOf(groups[r]), func(n string) bool { return taken[n] })}
			taken[e.Name], e.unnamed = true, true
			for _, o := range groups[r] {
				e.unnamed = e.unnamed && o.unnamed
				e.Source = firstOf(e.Source, o.Source)
				o.Kind = e
			}
		}
		s.Objects = append(s.Objects, e)
	}
	for i, r := range order {
		if e := s.Objects[i]; apart(groups[r]) {
			for _, o := range groups[r] {
				e.Reserve(o)
			}
			for _, o := range groups[r] {
				e.Take(o)
			}
		}
	}
}

// apart reports whether an entity is apart from what shows it.
func apart(group []*Object) bool { return len(group) > 1 || group[0].grouped() }

// nameOf names a group: by the words its names share, else by what its first named one is called.
func (k *kinds) nameOf(group []*Object) string {
	stems := map[string]int{}
	best, named := "", false
	for _, o := range group {
		s := stem(o.Name)
		if o.unnamed {
			s = stem(o.hint)
		}
		if !o.unnamed && !named {
			clear(stems)
			best, named = "", true
		}
		if o.unnamed && named {
			continue
		}
		if stems[s]++; best == "" || stems[s] > stems[best] {
			best = s
		}
	}
	return EntityName(strings.ReplaceAll(best, " ", "_"))
}

// Reserve keeps the names of a variant's groups for these. It must come before the first Take.
func (o *Object) Reserve(variant *Object) {
	for _, m := range variant.Members {
		if m.Group == nil {
			continue
		}
		if o.groups == nil {
			o.groups = map[string]bool{}
		}
		o.groups[m.Name] = true
		o.Reserve(m.Group)
	}
}

// Take adds the members of a variant to its entity. What they hold must know its entity by then.
func (o *Object) Take(variant *Object) {
	for _, m := range variant.Members {
		if m.Group != nil {
			m.Group.Kind = o
			o.Take(m.Group)
			continue
		}
		m.Field = o.take(m)
	}
}

// take adds a variant's member to its entity and returns the entity's: the same one, or where that is another kind of
// thing one with a name of its own.
func (o *Object) take(m *Member) *Member {
	var of *Object
	if m.Object != nil {
		of = m.Object.Entity()
	}
	name := m.Name
	for n := 2; ; n++ {
		f := o.Member(name)
		if o.groups[name] {
			name = m.Name + "_" + strconv.Itoa(n)
			continue
		}
		if f == nil {
			f = &Member{Name: name, Form: m.Form, Note: m.Note, Object: of, Many: m.Many, Open: m.Open,
				Optional: m.Optional, ReadOnly: m.ReadOnly, WriteOnly: m.WriteOnly, Observed: m.Observed}
			o.Members = append(o.Members, f)
			return f
		}
		if f.Object == of && f.Many == m.Many && f.Open == m.Open {
			f.Form = joined(f.Form, m.Form)
			f.Note = firstOf(f.Note, m.Note)
			f.Optional = f.Optional || m.Optional
			f.ReadOnly, f.WriteOnly = f.ReadOnly && m.ReadOnly, f.WriteOnly && m.WriteOnly
			f.Observed = f.Observed.with(m.Observed)
			return f
		}
		name = m.Name + "_" + strconv.Itoa(n)
	}
}

// with joins what was observed of two places.
func (o Observed) with(p Observed) Observed {
	if p.Class > o.Class || o.Detector == "" {
		o.Class, o.Detector = max(o.Class, p.Class), p.Detector
	}
	o.Values, o.Distinct = o.Values+p.Values, max(o.Distinct, p.Distinct)
	return o
}

// joined returns the form that values of two forms have.
func joined(a, b catalog.Form) catalog.Form {
	f := catalog.Form{Nullable: a.Nullable || b.Nullable}
	switch numbers := a.Type == catalog.Integer && b.Type == catalog.Number ||
		a.Type == catalog.Number && b.Type == catalog.Integer; {
	case a.Type == b.Type:
		f.Type = a.Type
	case numbers:
		f.Type = catalog.Number
	}
	if a.Format == b.Format {
		f.Format = a.Format
	}
	if a.Max > 0 && b.Max > 0 {
		f.Max = max(a.Max, b.Max)
	}
	if len(a.Values) > 0 && len(b.Values) > 0 && f.Type == a.Type {
		f.Values = slices.Clone(a.Values)
		for _, v := range b.Values {
			if !slices.Contains(f.Values, v) {
				f.Values = append(f.Values, v)
			}
		}
	}
	return f
}
