package revise

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"inkret/core/contract"
	"inkret/core/document"
)

// Use is a place that uses a shape.
type Use struct {
	Shape    string
	Endpoint string // the endpoint's text, or the shape that uses it in turn
	InShape  bool
	What     string // the response or member
	Node     *document.Node
	OneOf    bool
}

// Uses lists the uses of each shape in document order.
func Uses(c *contract.Contracts) map[string][]Use {
	w := walker{c: c, uses: map[string][]Use{}}
	w.all()
	return w.uses
}

// set is a written set of grants for an entity.
type set struct {
	entity   string
	endpoint string
	inShape  bool
	what     string
	holder   *document.Node // the response or grant that has `grants`
	grants   *document.Node
}

// walker visits everything with grants.
type walker struct {
	c    *contract.Contracts
	uses map[string][]Use
	sets []set
}

func (w *walker) all() {
	for _, s := range w.c.Shapes {
		w.grants(s.Body, s.Name, true)
	}
	for _, e := range append(slices.Clone(w.c.Endpoints), w.c.Everywhere()) {
		for _, list := range [][]*contract.Response{e.Responses, e.Accepts} {
			for i, r := range list {
				n := w.c.Node(r)
				what := "response " + strings.Join(r.Statuses, ", ")
				if len(e.Accepts) > 0 && i < len(e.Accepts) && r == e.Accepts[i] {
					what = "accepts"
				}
				if s := r.ShapeName(); s != "" {
					w.uses[s] = append(w.uses[s], Use{Shape: s, Endpoint: e.Text, What: what, Node: n})
				}
				entity := ""
				if r.Entity != nil {
					entity = r.Entity.Name
				}
				w.set(entity, e.Text, false, what, n)
				w.grants(r.Own(), e.Text, false)
				w.grants(r.Beside, e.Text, false)
			}
		}
	}
}

func (w *walker) set(entity, endpoint string, inShape bool, what string, n *document.Node) {
	if n == nil || entity == "" {
		return
	}
	if g := n.Get("grants"); g != nil && g.Kind == document.Map && n.Get("shape") == nil && !n.Aliased {
		w.sets = append(w.sets, set{entity, endpoint, inShape, what, n, g})
	}
}

func (w *walker) grants(s *contract.GrantSet, where string, inShape bool) {
	if s == nil {
		return
	}
	for _, g := range s.Grants {
		n := w.c.Node(g)
		if name := g.ShapeName(); name != "" {
			w.uses[name] = append(w.uses[name], Use{Shape: name, Endpoint: where, InShape: inShape, What: g.Name,
				Node: n})
		}
		for _, alt := range g.Alternatives() {
			w.uses[alt.Name] = append(w.uses[alt.Name], Use{Shape: alt.Name, Endpoint: where, InShape: inShape,
				What: g.Name, Node: n, OneOf: true})
		}
		if g.Own() != nil && g.Own().Entity != nil && (g.Source == contract.FromRelation ||
			g.Source == contract.FromEntity) {
			w.set(g.Own().Entity.Name, where, inShape, g.Name, n)
		}
		w.grants(g.Own(), where, inShape)
	}
}

// Touched lists the endpoints that a change of a shape affects, also through other shapes.
func Touched(c *contract.Contracts, shape string) []string {
	uses := Uses(c)
	met := map[string]bool{}
	var all []string
	var visit func(name string)
	visit = func(name string) {
		if met[name] {
			return
		}
		met[name] = true
		for _, u := range uses[name] {
			if u.InShape {
				visit(u.Endpoint)
			} else if !slices.Contains(all, u.Endpoint) {
				all = append(all, u.Endpoint)
			}
		}
	}
	visit(shape)
	sort.Strings(all)
	return all
}

// Proposal is a set of grants that several places repeat, and that could be a shape.
type Proposal struct {
	Name   string
	Entity string
	Grants []string
	Places []Place
}

// Place is a place that repeats the grants.
type Place struct {
	Endpoint string `json:"endpoint"`
	What     string `json:"what"`
	File     string `json:"file"`
	Pointer  string `json:"pointer"` // of the response or grant
	Line     int    `json:"line"`
}

// fewestCommon is the minimum number of common grants for a shape.
const fewestCommon = 3

// Proposals finds grants for one entity that several places repeat.
func Proposals(c *contract.Contracts) []Proposal {
	w := walker{c: c, uses: map[string][]Use{}}
	w.all()
	var all []Proposal
	taken := map[string]bool{}
	for _, s := range c.Shapes {
		taken[s.Name] = true
	}
	done := make([]bool, len(w.sets))
	for {
		var best []string
		var lead, mate int
		for i := range w.sets {
			for k := i + 1; k < len(w.sets); k++ {
				if done[i] || done[k] || w.sets[i].entity != w.sets[k].entity {
					continue
				}
				if names := common(w.sets[i].grants, w.sets[k].grants); len(names) > len(best) &&
					len(names)*2 >= min(len(w.sets[i].grants.Pairs), len(w.sets[k].grants.Pairs)) {
					best, lead, mate = names, i, k
				}
			}
		}
		if len(best) < fewestCommon {
			return all
		}
		p := Proposal{Entity: w.sets[lead].entity, Grants: best}
		for i, s := range w.sets {
			if done[i] || s.entity != p.Entity {
				continue
			}
			if i == lead || i == mate || len(within(best, common(w.sets[lead].grants, s.grants))) == len(best) {
				done[i] = true
				p.Places = append(p.Places, Place{s.endpoint, s.what, s.holder.File, s.holder.Pointer(), s.holder.Line})
			}
		}
		p.Name = strings.ToLower(p.Entity) + "-card"
		for n := 2; taken[p.Name]; n++ {
			p.Name = fmt.Sprintf("%s-card-%d", strings.ToLower(p.Entity), n)
		}
		taken[p.Name] = true
		all = append(all, p)
	}
}

// common lists the names that both grant in the same way.
func common(a, b *document.Node) []string {
	var names []string
	for _, p := range a.Pairs {
		if q := b.Get(p.Name.Text); q != nil &&
			string(document.ValueOf(p).Append(nil, 0)) == string(document.ValueOf(q).Append(nil, 0)) {
			names = append(names, p.Name.Text)
		}
	}
	return names
}

func within(names, all []string) []string {
	var in []string
	for _, n := range names {
		if slices.Contains(all, n) {
			in = append(in, n)
		}
	}
	return in
}

// PullOut turns repeated grants into a shape, and makes the places use it.
func PullOut(c *contract.Contracts, name string, p Proposal) (Edits, error) {
	for _, s := range c.Shapes {
		if s.Name == name {
			return nil, fmt.Errorf("there is a shape %q already", name)
		}
	}
	w := walker{c: c, uses: map[string][]Use{}}
	w.all()
	edits := Edits{}
	var first *set
	var others []*set
	for _, at := range p.Places {
		i := slices.IndexFunc(w.sets, func(s set) bool {
			return s.holder.File == at.File &&
				s.holder.Pointer() == at.Pointer
		})
		if i < 0 {
			return nil, fmt.Errorf("%s: no grants are written out at %s any more", at.File, at.Pointer)
		}
		s := &w.sets[i]
		if first == nil {
			first = s
		} else {
			others = append(others, s)
		}
		if len(common(first.grants, s.grants)) < len(p.Grants) && s != first {
			if missing := within(p.Grants, common(first.grants, s.grants)); len(missing) < len(p.Grants) {
				return nil, fmt.Errorf("%s: %s does not grant the same any more", at.File, at.Pointer)
			}
		}
		n := s.holder
		if len(s.grants.Pairs) == len(p.Grants) {
			edits.add(n.File, document.Op{Op: "move", From: s.grants.Pointer(), Path: under(n, "shape")})
			edits.add(n.File, document.Op{Op: "replace", Path: under(n, "shape"), Value: document.Text(name)})
			continue
		}
		rest := document.ValueOf(s.grants)
		for i := len(rest.Keys) - 1; i >= 0; i-- {
			if slices.Contains(p.Grants, rest.Keys[i]) {
				edits.add(n.File, document.Op{Op: "remove", Path: s.grants.Pointer() + pointer(rest.Keys[i])})
			}
		}
		edits.add(n.File, document.Op{Op: "add", Path: under(n, "shape"), Value: document.Text(name)})
	}
	if first == nil {
		return nil, fmt.Errorf("no place is to use the shape")
	}
	grants := &document.Value{Kind: document.Map, Block: true}
	for _, g := range p.Grants {
		pair := first.grants.Get(g)
		if pair == nil {
			return nil, fmt.Errorf("%s is not granted at %s", g, first.holder.Pointer())
		}
		one := commented(pair)
		for _, s := range others { // what is said of it elsewhere goes along
			if said := saidIn(s.grants.Get(g)); said != "" && !strings.Contains(one.Above, said) {
				one.Above = strings.TrimSpace(one.Above + "\n" + s.endpoint + ": " + said)
			}
		}
		grants.Set(g, one)
	}
	shape := (&document.Value{Kind: document.Map, Block: true}).Set("entity", document.Text(p.Entity)).Set("grants",
		grants)
	file := first.holder.File
	for _, s := range c.Shapes {
		if n := c.Node(s); n != nil && n.File == file {
			edits[file] = append([]document.Op{{Op: "add", Path: n.Parent.Pointer() + pointer(name), Value: shape}},
				edits[file]...)
			return edits, nil
		}
	}
	edits[file] = append([]document.Op{{Op: "add", Path: pointer("shapes"),
		Value: (&document.Value{Kind: document.Map, Block: true}).Set(name, shape)}}, edits[file]...)
	return edits, nil
}

// Inline replaces all uses of a shape by its grants, and removes it.
func Inline(c *contract.Contracts, name string) (Edits, error) {
	i := slices.IndexFunc(c.Shapes, func(s *contract.Shape) bool { return s.Name == name })
	if i < 0 {
		return nil, fmt.Errorf("there is no shape %q", name)
	}
	shape := c.Node(c.Shapes[i])
	edits := Edits{}
	for _, u := range Uses(c)[name] {
		switch {
		case u.OneOf:
			return nil, fmt.Errorf("%s: a one_of at %s needs the shape", u.Node.Pos(), u.Endpoint)
		case u.InShape && u.Endpoint == name:
			return nil, fmt.Errorf("shape %q contains itself and cannot be written out", name)
		case u.Node.Aliased:
			return nil, fmt.Errorf("%s: an alias uses the shape; change it in the text", u.Node.Pos())
		}
		merged := &document.Value{Kind: document.Map, Block: true}
		own := u.Node.Get("grants")
		for _, p := range shape.Get("grants").Pairs {
			if own == nil || own.Get(p.Name.Text) == nil {
				merged.Set(p.Name.Text, commented(p))
			}
		}
		if own != nil {
			for _, p := range own.Pairs {
				merged.Set(p.Name.Text, commented(p))
			}
			edits.add(u.Node.File, document.Op{Op: "remove", Path: under(u.Node, "shape")})
			edits.add(u.Node.File, document.Op{Op: "replace", Path: under(u.Node, "grants"), Value: merged})
			continue
		}
		edits.add(u.Node.File, document.Op{Op: "move", From: under(u.Node, "shape"), Path: under(u.Node, "grants")})
		edits.add(u.Node.File, document.Op{Op: "replace", Path: under(u.Node, "grants"), Value: merged})
		if u.Node.Get("entity") == nil && !isRelation(c, u) {
			edits.add(u.Node.File, document.Op{Op: "add", Path: under(u.Node, "entity"),
				Value: document.Text(c.Shapes[i].Body.Entity.Name)})
		}
	}
	edits.add(shape.File, document.Op{Op: "remove", Path: shape.Pointer()})
	return edits, nil
}

// saidIn collects the comments of a grant and inside it.
func saidIn(n *document.Node) string {
	all := n.Comment
	for _, in := range slices.Concat(n.Pairs, n.Items) {
		all = strings.TrimSpace(all + "\n" + saidIn(in))
	}
	return all
}

// commented copies a grant with its comments.
func commented(n *document.Node) *document.Value {
	v := document.Copy(n)
	v.Above = n.Comment
	return v
}

// isRelation reports whether a use is a grant whose entity comes from a relation.
func isRelation(c *contract.Contracts, u Use) bool {
	found := false
	var look func(s *contract.GrantSet)
	look = func(s *contract.GrantSet) {
		if s == nil || found {
			return
		}
		for _, g := range s.Grants {
			if c.Node(g) == u.Node {
				found = g.Source == contract.FromRelation
				return
			}
			look(g.Own())
		}
	}
	for _, s := range c.Shapes {
		look(s.Body)
	}
	for _, e := range append(slices.Clone(c.Endpoints), c.Everywhere()) {
		for _, r := range append(slices.Clone(e.Responses), e.Accepts...) {
			look(r.Own())
			look(r.Beside)
		}
	}
	return found
}
