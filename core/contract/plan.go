package contract

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"

	"inkret/core/catalog"
	"inkret/core/exchange"
	"inkret/core/place"
)

// Plan is one response compiled for one audience and status. It is immutable and may be shared.
type Plan struct {
	Root   *Member  // the body itself
	Entity *Member  // where the entity stands: Root, or a member on the way of `at`
	Bare   *Member  // judges a body in which `at` is absent; nil when there is no `at`
	Listed bool     // the body itself is granted as an array
	At     []string // the tokens of `at`

	Members []*Member // all of them, each at its Serial

	graph                       *Graph // where it grants by type
	data, typeName              *Member
	payload, incremental, items *Member
	beside, streamed            []*Member
}

// Member is a granted member as seen by one audience.
type Member struct {
	Name    string
	Grant   *Grant
	Foreign bool   // granted to other audiences only
	Limited bool   // to the caller's own records
	Way     bool   // on the way of `at`
	Index   int    // in Object.Members
	Serial  int    // in Plan.Members
	Text    []byte // the name
	Key     string // the name as JSON mostly writes it, with its quotes and colon; empty where it has escapes

	Class    catalog.Class // of the member's own value
	Gravest  catalog.Class // of all that is granted in it
	Form     catalog.Form
	Many     bool
	Stars    int // how many lists within lists of its elements `at` names
	Required bool
	Open     bool
	Keyed    bool
	Refers   bool // a bare reference is granted

	Object *Object // what its objects may hold; nil where it is no object
	// Selected says what a query asks of its objects, whose types grant; Each what the elements of a list are granted
	// one by one; Label what a query's alias stands for.
	Selected *Selected
	Each     []*Member
	Label    []byte
	OneOf    []Alternative
	Entity   *catalog.Entity // of its objects

	// Fits holds the kinds of scalars that always match the grant's form; Short is the length up to which any text
	// matches.
	Fits  Scalar
	Short int
	Dated bool // dates alone fit, of any day

	texts  map[string]bool // Form.Values that are strings
	others []string        // the JSON text of the rest
}

// Scalar is a set of JSON scalar kinds, combined with |.
type Scalar uint8

const (
	Null Scalar = 1 << iota
	Bool
	Text
	Integer // a number without fraction and exponent
	Number  // any other
)

// scalars returns the kinds that a type permits without looking at the value.
var scalars = map[catalog.Type]Scalar{
	"": Bool | Text | Integer | Number, catalog.String: Text, catalog.Integer: Integer,
	catalog.Number: Integer | Number, catalog.Boolean: Bool,
}

// Key returns a member's name as usually written in JSON, with quotes and colon; empty if it needs escapes.
func Key(name string) string {
	if strings.IndexFunc(name, func(r rune) bool { return r < ' ' || r == '"' || r == '\\' }) >= 0 {
		return ""
	}
	return `"` + name + `":`
}

// longest is the length up to which any text fits a grant without a limit.
const longest = math.MaxInt

// fit computes which values match m without looking at them. element is set for elements of a list.
func (m *Member) fit() {
	if m.Keyed || m.Object != nil || m.OneOf != nil {
		return
	}
	f := &m.Form
	if f.Nullable || m.Open && f.Type == "" {
		m.Fits |= Null
	}
	if len(f.Values) > 0 {
		return
	}
	m.Fits |= scalars[f.Type] &^ Text
	m.Dated = f.Type == catalog.String && f.Format == "date" && f.Max == 0
	switch {
	case scalars[f.Type]&Text == 0 || f.Format != "":
	case f.Max > 0:
		m.Short = f.Max
	default:
		m.Short = longest
	}
}

// Permits reports whether a scalar is among the permitted values: the text of a string, or the JSON text of
// anything else.
func (m *Member) Permits(isString bool, text []byte) bool {
	if isString {
		return m.texts[string(text)]
	}
	for _, o := range m.others {
		if o == string(text) {
			return true
		}
		a, errA := strconv.ParseFloat(o, 64)
		b, errB := strconv.ParseFloat(string(text), 64)
		if errA == nil && errB == nil && a == b {
			return true
		}
	}
	return false
}

func (m *Member) permit(values []string) {
	for _, v := range values {
		var text string
		if json.Unmarshal([]byte(v), &text) != nil || v == "null" {
			m.others = append(m.others, v)
			continue
		}
		if m.texts == nil {
			m.texts = map[string]bool{}
		}
		m.texts[text] = true
	}
}

// Alternative is an object that applies if members have these values.
type Alternative struct {
	When   map[string]string // member to the JSON text of its value
	Object *Object
}

// Object is what an object at one place may contain.
type Object struct {
	Entity  *catalog.Entity
	Members []*Member // granted to this audience first, in the order of the document
	// Required has a bit, by Index, for each member that must be present.
	Required []uint64
	Owns     *Ownership // how it is told whose a record is; nil where nothing is limited to the caller's own

	// Of objects that are granted by type: its name, and what stands before "$" in the paths of its members; whether it
	// has grants, or only such of other audiences; and the most severe class of them.
	Type, Within     string
	Granted, Foreign bool
	Gravest          catalog.Class
	Envelope         bool // the result of a query, around its data

	strays map[string]*Stray
	byName map[string]*Member
}

// Member returns the member with this name, or nil. It neither keeps nor copies name.
func (o *Object) Member(name []byte) *Member { return o.byName[string(name)] }

type planKey struct {
	response *Response
	audience int
	status   int
}

// Plan compiles the response for an audience and a status. Compiled plans are cached in the endpoint.
func (e *Endpoint) Plan(choice Choice, status int) *Plan {
	audience := 0
	if choice.For != nil {
		audience = choice.For.Index
	}
	key := planKey{choice.Response, audience, status}
	if p, ok := e.plans.Load(key); ok {
		return p.(*Plan)
	}
	others := []*Response{}
	for _, o := range e.Responses {
		if o == choice.Response || o.Audiences.has(audience) || o.Inner != choice.Response.Inner ||
			(o.Graph == nil) != (choice.Response.Graph == nil) ||
			!equalConditions(o.When, choice.Response.When) && len(o.When) > 0 {
			continue
		}
		for _, s := range o.Statuses {
			if holds(s, status) > 0 {
				others = append(others, o)
				break
			}
		}
	}
	p, _ := e.plans.LoadOrStore(key, compile(choice.Response, others, audience))
	return p.(*Plan)
}

// accepted is the cache key for plans of request bodies.
const accepted = -1

// AcceptPlan compiles what an audience may send. Nothing is granted if no entry of accepts applies.
func (e *Endpoint) AcceptPlan(aud *Audience, cap *exchange.Capture) *Plan {
	audience := 0
	if aud != nil {
		audience = aud.Index
	}
	var chosen *Response
	for _, r := range e.Accepts {
		if aud != nil && !r.Audiences.has(audience) || !r.conditionsHold(cap) {
			continue
		}
		if chosen == nil || r.Named && !chosen.Named || r.Named == chosen.Named && len(r.When) > len(chosen.When) {
			chosen = r
		}
	}
	if chosen == nil {
		chosen = &nothing
	}
	key := planKey{chosen, audience, accepted}
	if p, ok := e.plans.Load(key); ok {
		return p.(*Plan)
	}
	p, _ := e.plans.LoadOrStore(key, compile(chosen, nil, audience))
	return p.(*Plan)
}

// nothing is a response that grants nothing.
var nothing = Response{Audiences: ^Set(0), Body: &GrantSet{}}

func compile(r *Response, others []*Response, audience int) *Plan {
	c := compiler{audience: audience, objects: map[string]*Object{}, pathOwner: r.PathOwner != "", entity: r.Entity}
	if r.Limited {
		c.limits = r.Entity
	}
	sources := []source{{r.rootGrant(r.At), ^Set(0)}}
	bare := []source{{r.rootGrant(nil), ^Set(0)}}
	for _, o := range others {
		sources = append(sources, source{o.rootGrant(o.At), o.Audiences})
		if len(o.At) > 0 && len(r.At) > 0 {
			bare = append(bare, source{o.rootGrant(nil), o.Audiences})
		}
	}
	p := &Plan{Root: c.member(sources), At: r.At}
	p.Entity = p.Root
	for _, token := range r.At {
		if token != everyElement {
			p.Entity = p.Entity.Object.byName[token]
		}
	}
	p.Listed = p.Root.Many || p.Root.Nth() != nil
	if len(r.At) > 0 {
		p.Bare = c.member(bare)
	}
	if r.Graph != nil {
		c.envelope(p, r.Graph)
	}
	p.Members = c.members
	return p
}

// Nth returns the member that `at` names by a number, which in a list is the element with this index; nil if there
// is none.
func (m *Member) Nth() *Member {
	if m.Object == nil || m.Many {
		return nil
	}
	for _, one := range m.Object.Members {
		if one.Way && digits.MatchString(one.Name) {
			return one
		}
	}
	return nil
}

// Covers returns how many of the steps from the body's root on lead to something that is granted.
func (p *Plan) Covers(steps []place.Step) int { return p.Root.covers(steps) }

func (m *Member) covers(steps []place.Step) int {
	switch {
	case len(steps) == 0:
		return 0
	case m.Open:
		return len(steps)
	case steps[0].Any && (m.Many || m.Keyed):
		return 1 + m.covers(steps[1:])
	case steps[0].Any && m.Nth() != nil:
		return 1 + m.Nth().covers(steps[1:])
	case steps[0].Any:
		return 0
	}
	most := 0
	for _, o := range m.objects() {
		if inner := o.byName[steps[0].Name]; inner != nil && !inner.Foreign {
			most = max(most, 1+inner.covers(steps[1:]))
		}
	}
	return most
}

// objects lists what its objects may hold.
func (m *Member) objects() []*Object {
	var all []*Object
	if m.Object != nil {
		all = append(all, m.Object)
	}
	for _, a := range m.OneOf {
		all = append(all, a.Object)
	}
	return all
}

// everyElement is the token of `at` that stands for every element.
const everyElement = "*"

// rootGrant turns a response into one grant of the whole body: the members on the way of `at`, with what `beside`
// grants next to them, and the entity at the end.
func (r *Response) rootGrant(at []string) *Grant {
	return r.wayGrant("", at, r.Beside)
}

// Root returns the response as one grant of the whole body, including the envelope.
func (r *Response) Root() *Grant { return r.rootGrant(r.At) }

func (r *Response) wayGrant(name string, at []string, beside *GrantSet) *Grant {
	g := &Grant{Name: name, Pos: r.Pos, Audiences: ^Set(0), Source: FromGroup, Class: catalog.Public}
	for len(at) > 0 && at[0] == everyElement {
		g.Many, at = true, at[1:]
		g.stars++
	}
	if len(at) == 0 {
		g.Source, g.entity, g.Audiences = FromEntity, r.Entity, r.Audiences
		g.Many = g.Many || r.Many
		g.Form.Nullable = r.Nullable
		g.own = r.Body
		if r.shape != nil && r.own == nil {
			g.shape, g.own = r.shape, nil
		}
		if beside != nil && (len(r.At) > 0 || !g.Many) { // beside a list there is nothing
			set := &GrantSet{Entity: r.Entity, Grants: append([]*Grant(nil), r.Body.Grants...)}
			for _, b := range beside.Grants {
				if set.grant(b.Name) == nil {
					set.Grants = append(set.Grants, b.asOptional())
				}
			}
			g.shape, g.own = nil, set
		}
		return g
	}
	set := &GrantSet{}
	var inside *GrantSet
	if beside != nil {
		for _, b := range beside.Grants {
			if b.Name == at[0] {
				inside = b.Members()
				continue
			}
			set.Grants = append(set.Grants, b.asOptional())
		}
	}
	next := r.wayGrant(at[0], at[1:], inside)
	next.way = true
	set.Grants = append(set.Grants, next)
	g.own = set
	return g
}

func (g *Grant) asOptional() *Grant {
	return &Grant{Name: g.Name, Pos: g.Pos, Audiences: g.Audiences, Source: g.Source, Field: g.Field, Owner: g.Owner,
		Derived: g.Derived, External: g.External, Relation: g.Relation, Reference: g.Reference, Class: g.Class,
		Form: g.Form, typed: g.typed, byType: g.byType,
		Many: g.Many, Optional: true, Open: g.Open, Keyed: g.Keyed, Limited: g.Limited, Reason: g.Reason,
		NeededBy: g.NeededBy,
		entity:   g.entity, shape: g.shape, own: g.own, oneOf: g.oneOf}
}

// source is a grant and the audiences it can apply to.
type source struct {
	grant *Grant
	mask  Set
}

func (s source) holders() Set { return s.mask & s.grant.Audiences }

// compiler builds the members and objects of one plan. Objects are shared by their sources, so that recursive
// shapes terminate.
type compiler struct {
	audience  int
	objects   map[string]*Object
	members   []*Member
	entity    *catalog.Entity // of the response
	limits    *catalog.Entity // of which all records are the caller's own business
	pathOwner bool            // the path may say whose a record of the entity is
}

// member compiles the grants of one name for the audience. Its own grant decides; those of other audiences add what
// is foreign.
func (c *compiler) member(sources []source) *Member {
	lead := sources[0]
	for _, s := range sources {
		if s.holders().has(c.audience) {
			lead = s
			break
		}
	}
	g := lead.grant
	m := &Member{
		Name: g.Name, Text: []byte(g.Name), Grant: g, Way: g.way, Class: g.Class, Gravest: g.Class, Form: g.Form,
		Many:    g.Many,
		Stars:   g.stars,
		Foreign: !lead.holders().has(c.audience), Limited: g.Limited, Open: g.Open, Keyed: g.Keyed, Refers: g.Reference,
		Entity: g.entity,
	}
	m.Serial = len(c.members)
	c.members = append(c.members, m)
	m.Required = !m.Foreign && !g.Optional
	m.permit(g.Form.Values)
	m.Key = Key(m.Name)
	if m.Many && m.Form.Type == catalog.Array {
		m.Form.Type = "" // the array itself; nothing is said of its elements
	}
	var nested []set
	for _, s := range sources {
		mask := s.holders()
		if s != lead {
			mask &^= 1 << c.audience
		}
		if members := s.grant.Members(); members != nil && mask != 0 {
			nested = append(nested, set{members, mask})
		}
	}
	if g.Members() != nil {
		m.Object = c.object(nested)
		for _, inner := range m.Object.Members {
			m.Gravest = max(m.Gravest, inner.Gravest)
		}
	}
	for _, alt := range g.oneOf {
		o := c.object([]set{{alt.shape.Body, lead.holders()}})
		m.OneOf = append(m.OneOf, Alternative{alt.when, o})
		for _, inner := range o.Members {
			m.Gravest = max(m.Gravest, inner.Gravest)
		}
	}
	m.fit()
	return m
}

// set is a grant set and the audiences it can apply to.
type set struct {
	*GrantSet
	mask Set
}

func (c *compiler) object(sets []set) *Object {
	var key strings.Builder
	for _, s := range sets {
		fmt.Fprintf(&key, "%p %x;", s.GrantSet, s.mask)
	}
	if o := c.objects[key.String()]; o != nil {
		return o
	}
	o := &Object{byName: map[string]*Member{}}
	c.objects[key.String()] = o
	var names []string
	grants := map[string][]source{}
	for _, s := range sets {
		if o.Entity == nil {
			o.Entity = s.Entity
		}
		for _, g := range s.Grants {
			src := source{g, s.mask}
			if src.holders() == 0 {
				continue
			}
			if grants[g.Name] == nil {
				names = append(names, g.Name)
			}
			grants[g.Name] = append(grants[g.Name], src)
		}
	}
	var foreign []*Member
	for _, name := range names {
		m := c.member(grants[name])
		o.byName[name] = m
		if m.Foreign {
			foreign = append(foreign, m)
			continue
		}
		o.Members = append(o.Members, m)
	}
	o.Members = append(o.Members, foreign...)
	o.Required = make([]uint64, (len(o.Members)+63)/64)
	for i, m := range o.Members {
		if m.Index = i; m.Required {
			o.Required[i>>6] |= 1 << (i & 63)
		}
	}
	o.Owns = c.ownership(o)
	return o
}
