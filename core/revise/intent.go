package revise

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/document"
)

// Intent is a requested change at one place of a contract. Exactly one wish is set.
type Intent struct {
	File, Pointer string // the endpoint, response or grant that it is about, as [contract.Contracts.Node] places it

	Grant     *NewGrant    // of a response or a grant: let a member go out, or be sent
	Change    *Said        // of a grant: say something else of it
	Remove    bool         // of a response or a grant: take it away
	Own       *bool        // of a response: limit its records to the caller's own
	Audiences *[]string    // of a response: who it is for; empty is everybody
	Team      *string      // of an endpoint; empty is none
	Respond   *NewResponse // of an endpoint: declare a response
	Accept    *NewResponse // of an endpoint: declare a body that may be sent
}

// NewGrant is a member to be granted: a field, a relation, or something derived from fields.
type NewGrant struct {
	Name      string // of the member; left out, as the field or relation
	Field     string
	Relation  string
	Reference string // of a relation: the field that stands for the other entity
	Shape     string // of a relation: whose grants it has; without it and a reference it has its own, none so far
	Derived   []string
	Type      string // of what is derived
	Reason    string // why; needed for what is secret
}

// Said is everything that a grant says except its source.
type Said struct {
	Name      string
	Optional  bool
	Own       bool // of the caller's own records only
	Max       int  // characters; 0 is no bound
	Audiences []string
	NeededBy  []string
	Reason    string
}

// NewResponse is a response, or an accepted request body, that grants nothing yet.
type NewResponse struct {
	Statuses  []string // of a response: codes, groups such as 2XX, or default
	Audiences []string // empty is everybody
	Entity    string
	At        string // a JSON Pointer (RFC 6901); empty is the body itself
	Many      bool
	Envelope  string // one of [Envelopes]: what stands around the entity; empty for nothing
}

// Intents converts intents to edits of the text. The error says which intent is impossible, and why.
func Intents(c *contract.Contracts, all []Intent) (Edits, error) {
	edits := Edits{}
	for _, i := range all {
		p := find(c, i.File, i.Pointer)
		if p == nil {
			return nil, fmt.Errorf("no endpoint, response or grant stands at %s of %s; look at the text as it is now",
				i.Pointer, i.File)
		}
		if err := p.carryOut(edits, &i); err != nil {
			return nil, fmt.Errorf("%s: %w", p.node.Pos(), err)
		}
	}
	return edits, nil
}

// spot is the place of an intent.
type spot struct {
	node     *document.Node
	endpoint *contract.Endpoint
	response *contract.Response // nil for an endpoint
	grant    *contract.Grant    // nil for an endpoint or a response
	shape    *contract.Shape    // where it is one
	entity   *catalog.Entity    // that what is granted in it belongs to; may be nil
}

// find returns what is at a place, or nil.
func find(c *contract.Contracts, file, pointer string) *spot {
	at := func(of any) *document.Node {
		if n := c.Node(of); n != nil && n.File == file && n.Pointer() == pointer {
			return n
		}
		return nil
	}
	for _, s := range c.Shapes {
		if n := at(s); n != nil {
			return &spot{node: n, shape: s, entity: s.Body.Entity}
		}
		if p := findIn(s.Body, at); p != nil {
			return p
		}
	}
	for _, e := range append(slices.Clone(c.Endpoints), c.Everywhere()) {
		if n := at(e); n != nil {
			return &spot{node: n, endpoint: e}
		}
		for _, r := range slices.Concat(e.Responses, e.Accepts) {
			if n := at(r); n != nil {
				return &spot{node: n, endpoint: e, response: r, entity: r.Entity}
			}
			for _, set := range []*contract.GrantSet{r.Own(), r.Beside} {
				if p := findIn(set, at); p != nil {
					p.endpoint, p.response = e, r
					return p
				}
			}
		}
	}
	return nil
}

func findIn(set *contract.GrantSet, at func(any) *document.Node) *spot {
	if set == nil {
		return nil
	}
	for _, g := range set.Grants {
		if n := at(g); n != nil {
			p := &spot{node: n, grant: g}
			if inner := g.Members(); inner != nil {
				p.entity = inner.Entity
			}
			return p
		}
		if p := findIn(g.Own(), at); p != nil {
			return p
		}
	}
	return nil
}

func (p *spot) carryOut(edits Edits, i *Intent) error {
	switch {
	case i.Grant != nil && (p.response != nil || p.grant != nil || p.shape != nil):
		return p.grantMember(edits, i.Grant)
	case i.Change != nil && p.grant != nil:
		return p.change(edits, i.Change)
	case i.Remove && (p.response != nil || p.grant != nil):
		edits.add(p.node.File, document.Op{Op: "remove", Path: p.node.Pointer()})
	case i.Own != nil && p.response != nil && p.grant == nil:
		var own *document.Value
		if *i.Own {
			own = document.Truth(true)
		}
		p.set(edits, "own", own)
	case i.Audiences != nil && p.response != nil && p.grant == nil:
		p.set(edits, "audiences", texts(*i.Audiences))
	case i.Team != nil && p.response == nil && p.endpoint != nil:
		var team *document.Value
		if *i.Team != "" {
			team = document.Text(*i.Team)
		}
		p.set(edits, "team", team)
	case i.Respond != nil && p.response == nil && p.endpoint != nil:
		if i.Respond.Envelope != "" && !slices.Contains(Envelopes, i.Respond.Envelope) {
			return fmt.Errorf("there is no envelope %q; expected %s", i.Respond.Envelope, strings.Join(Envelopes, ", "))
		}
		p.append(edits, "responses", i.Respond.value())
	case i.Accept != nil && p.response == nil && p.endpoint != nil:
		p.append(edits, "accepts", i.Accept.value())
	default:
		return errors.New("this cannot be wanted of what stands here")
	}
	return nil
}

// set sets a key, or removes it if v is nil.
func (p *spot) set(edits Edits, key string, v *document.Value) {
	path := under(p.node, key)
	switch {
	case v != nil:
		edits.add(p.node.File, document.Op{Op: "add", Path: path, Value: v})
	case p.node.Get(key) != nil:
		edits.add(p.node.File, document.Op{Op: "remove", Path: path})
	}
}

// append adds an item to a list, and creates the list if necessary.
func (p *spot) append(edits Edits, key string, v *document.Value) {
	op := document.Op{Op: "add", Path: under(p.node, key, "-"), Value: v}
	if p.node.Get(key) == nil {
		op.Path, op.Value = under(p.node, key), &document.Value{Kind: document.List, Items: []*document.Value{v}}
	}
	edits.add(p.node.File, op)
}

// grantMember grants a member at the place itself.
func (p *spot) grantMember(edits Edits, g *NewGrant) error {
	if p.entity == nil {
		return errors.New("no entity is named here whose members could be granted")
	}
	name := cmp.Or(g.Name, g.Field, g.Relation)
	v := document.Mapping()
	switch {
	case g.Field != "":
		f := p.entity.Field(g.Field)
		if f == nil {
			return fmt.Errorf("%s has no field %q", p.entity.Name, g.Field)
		}
		if accepted := p.endpoint != nil && slices.Contains(p.endpoint.Accepts, p.response); accepted &&
			g.Reason == "" &&
			f.Class == catalog.Secret {
			g.Reason = "the client sends it"
		}
		if f.Class == catalog.Secret && strings.TrimSpace(g.Reason) == "" {
			return fmt.Errorf("%s.%s is secret: say why it goes out", p.entity.Name, g.Field)
		}
		if name != g.Field {
			v.Set("field", document.Text(g.Field))
		}
		switch f.Form.Type {
		case catalog.Array:
			v.Set("many", document.Truth(true))
		case catalog.Object:
			v.Set("open", document.Truth(true))
		}
	case g.Relation != "":
		if p.entity.Relation(g.Relation) == nil {
			return fmt.Errorf("%s has no relation %q", p.entity.Name, g.Relation)
		}
		if name != g.Relation {
			v.Set("relation", document.Text(g.Relation))
		}
		switch {
		case g.Reference != "":
			v.Set("reference", document.Text(g.Reference))
		case g.Shape != "":
			v.Set("shape", document.Text(g.Shape))
		case p.grant != nil && p.grant.Typed(): // its type says what of it is granted
		default:
			v.Set("grants", document.Mapping())
		}
	case len(g.Derived) > 0 && name != "":
		v.Set("derived", document.Texts(g.Derived...))
		if g.Type != "" {
			v.Set("type", document.Text(g.Type))
		}
	default:
		return errors.New("say which field, relation or derived fields the member carries")
	}
	if reason := strings.TrimSpace(g.Reason); reason != "" {
		v.Set("reason", document.Text(reason))
	}
	added, err := (&holder{node: p.node}).add(name, short(v))
	for file, ops := range added {
		edits[file] = append(edits[file], ops...)
	}
	return err
}

// change changes what a grant says, except its source.
func (p *spot) change(edits Edits, s *Said) error {
	if s.Name == "" {
		return errors.New("a member has a name")
	}
	was, w := long(document.ValueOf(p.node)), document.Mapping()
	renamed := s.Name != p.grant.Name
	if _, field := p.grant.Behind(); renamed && field != "" && p.grant.Source == contract.FromField &&
		was.Get("field") == nil {
		w.Set("field", document.Text(field))
	}
	if renamed && p.grant.Relation != nil && was.Get("relation") == nil {
		w.Set("relation", document.Text(p.grant.Relation.Name))
	}
	for i, key := range was.Keys {
		if !slices.Contains([]string{"optional", "own", "max", "audiences", "needed_by", "reason"}, key) {
			w.Set(key, was.Items[i])
		}
	}
	if s.Optional {
		w.Set("optional", document.Truth(true))
	}
	if s.Own {
		w.Set("own", document.Truth(true))
	}
	// the field's own limit is not repeated
	if s.Max > 0 && (was.Get("max") != nil || s.Max != p.grant.Form.Max) {
		w.Set("max", document.Count(s.Max))
	}
	if len(s.Audiences) > 0 {
		w.Set("audiences", document.Texts(s.Audiences...))
	}
	if len(s.NeededBy) > 0 {
		w.Set("needed_by", document.Texts(s.NeededBy...))
	}
	if reason := strings.TrimSpace(s.Reason); reason != "" {
		w.Set("reason", document.Text(reason))
	}
	file, at := p.node.File, p.node.Pointer()
	edits.add(file, document.Op{Op: "replace", Path: at, Value: short(w)})
	if renamed {
		edits.add(file, document.Op{Op: "move", From: at, Path: at[:strings.LastIndexByte(at, '/')] + pointer(s.Name)})
	}
	return nil
}

// long returns the long form of a grant.
func long(v *document.Value) *document.Value {
	switch v.Kind {
	case document.Null:
		return document.Mapping()
	case document.Map:
		return v
	}
	return document.Mapping().Set("field", v)
}

// short returns the shortest equivalent form of a grant.
func short(v *document.Value) *document.Value {
	switch {
	case len(v.Keys) == 0:
		return document.Nothing()
	case len(v.Keys) == 1 && v.Keys[0] == "field" && v.Items[0].Kind == document.String:
		return v.Items[0]
	}
	return v
}

func (r *NewResponse) value() *document.Value {
	around := envelopes[r.Envelope]
	v := document.Mapping()
	if len(r.Audiences) > 0 {
		v.Set("audiences", texts(r.Audiences))
	}
	if len(r.Statuses) == 0 {
		r.Statuses = around.statuses
	}
	if len(r.Statuses) > 0 {
		statuses := &document.Value{Kind: document.List}
		for _, s := range r.Statuses {
			if code, err := strconv.Atoi(s); err == nil {
				statuses.Add(document.Count(code))
			} else {
				statuses.Add(document.Text(s))
			}
		}
		v.Set("statuses", statuses)
	}
	for _, one := range []struct{ key, text string }{{"entity", r.Entity}, {"at", cmp.Or(r.At, around.place(r.Many))}} {
		if one.text != "" {
			v.Set(one.key, document.Text(one.text))
		}
	}
	if r.Many {
		v.Set("many", document.Truth(true))
	}
	grants, beside := around.around(r.Many)
	if v.Set("grants", grants); len(beside.Items) > 0 {
		v.Set("beside", beside)
	}
	return v
}

// texts returns a list of texts, or nil if it is empty.
func texts(all []string) *document.Value {
	if len(all) == 0 {
		return nil
	}
	return document.Texts(all...)
}
