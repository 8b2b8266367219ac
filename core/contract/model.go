// Package contract holds contract documents: what each endpoint of a service may expose, and to whom.
//
// [Read] parses files into a [Contracts] and reports all problems at once, with positions. [Contracts.Find] returns
// the endpoint of a request, and [Endpoint.Plan] compiles one response for one audience into a [Plan], which the
// scan compares with a body.
//
// The file format is version 1 of docs/contract-format.md.
package contract

import (
	"regexp"
	"strconv"
	"strings"
	"sync"

	"google.golang.org/protobuf/reflect/protoreflect"

	"inkret/core/catalog"
	"inkret/core/detect"
	"inkret/core/document"
	"inkret/core/message"
	"inkret/core/place"
)

// Contracts is one contract document, parsed and validated. It is safe for concurrent use.
type Contracts struct {
	Service    string
	Servers    []Server
	Audiences  []*Audience // from least to most trusted
	Tellers    []*Teller   // who makes a request, beyond the audience, tried in order
	Catalog    *catalog.Catalog
	Shapes     []*Shape
	Responses  []*Response // tried where an endpoint has none of its own for a status
	Endpoints  []*Endpoint
	Detectors  []detect.Custom
	Countries  []string // whose people's phone numbers are recognised as they are written there
	values     *detect.Set
	messages   *message.Set // what bodies consist of that are messages, or nil
	Exceptions []*Exception

	evenOnce sync.Once
	shown    map[carried]*shown // see [Contracts.showings]

	routes *route
	told   *route                 // the endpoints whose answers tell who holds credentials; nil where none does
	nodes  map[any]*document.Node // where an entity, field, relation, shape, endpoint, response or grant is written
}

// Recognised returns the detectors: the built-in ones and those that the contracts, which may be nil, add.
func (c *Contracts) Recognised() *detect.Set {
	if c == nil || c.values == nil {
		return &detect.Set{}
	}
	return c.values
}

// Node returns where something is written: an [Endpoint], [Response], [Grant] or [Shape], or an entity, field or
// relation of the catalogue. It is nil for things that are not written anywhere.
func (c *Contracts) Node(of any) *document.Node { return c.nodes[of] }

// Place returns the position where something is written; see [Contracts.Node].
func (c *Contracts) Place(of any) Pos {
	if n := c.nodes[of]; n != nil {
		if n.Name != nil {
			return n.Name.Pos()
		}
		return n.Pos()
	}
	return Pos{}
}

// Server is a base address of the service.
type Server struct {
	Scheme, Host, Port string   // lower case; the port filled in from the scheme
	Path               []string // whole segments
}

// Set is a set of audiences; bit i stands for Contracts.Audiences[i].
type Set uint64

// maxAudiences is the capacity of a [Set].
const maxAudiences = 64

func (s Set) has(audience int) bool { return s&(1<<audience) != 0 }

// Audience is a kind of caller.
type Audience struct {
	Name      string
	Index     int // in Contracts.Audiences: greater is more trusted
	Recognise Recognise
	Pos       Pos
}

// Recognise says how requests of an audience are recognised. All conditions that are set must hold.
type Recognise struct {
	None   bool // no Authorization and no Cookie
	Claim  *Match
	Header *Match
	Cookie *Match
}

// Match is a name and its matching values; "*" matches any. The name of a claim may be a JSON Pointer into the
// token, which is read from the Authorization field, or from the given cookie or field.
type Match struct {
	Name       string
	Values     []string
	FromCookie string
	FromHeader string
}

func (m *Match) fits(value string) bool {
	for _, v := range m.Values {
		if v == "*" || v == value {
			return true
		}
	}
	return false
}

// Shape is a named, reusable set of grants for one entity.
type Shape struct {
	Name string
	Pos  Pos
	Body *GrantSet
}

// GrantSet is a set of grants for one entity, which is nil if unknown.
type GrantSet struct {
	Entity *catalog.Entity
	Grants []*Grant // in the order of the document, a shape's before its additions
}

// Grant returns the grant for a member, or nil.
func (s *GrantSet) grant(name string) *Grant {
	for _, g := range s.Grants {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// Source is where the value of a granted member comes from.
type Source uint8

const (
	FromNothing  Source = iota // nothing is said; any value
	FromField                  // an entity field, as it is or renamed
	FromDerived                // computed from entity fields
	FromExternal               // fetched from elsewhere
	FromConstant               // always the same value
	FromRelation               // a relation of the entity
	FromGroup                  // members of the same entity, grouped
	FromEntity                 // another entity begins
)

// Grant permits one member, with its source and conditions.
type Grant struct {
	Name      string
	Pos       Pos
	Audiences Set // as written; all bits when left out
	Source    Source
	Field     *catalog.Field // FromField, and what a reference refers to
	Owner     *catalog.Entity
	Derived   []*catalog.Field
	External  string
	Relation  *catalog.Relation
	Reference bool // a bare reference to the related entity
	Class     catalog.Class
	Form      catalog.Form
	Many      bool
	Optional  bool
	Open      bool
	Keyed     bool // an object used as a map
	Limited   bool // to the caller's own records
	Reason    string
	NeededBy  []string

	way    bool            // on the way of `at`
	typed  bool            // it stands for the objects of a type
	byType bool            // its objects are granted by their type
	stars  int             // how many lists within lists `at` names here
	entity *catalog.Entity // of the objects granted here
	shape  *Shape
	own    *GrantSet // spelled out beside or instead of the shape
	oneOf  []alternative

	once   sync.Once
	nested *GrantSet
}

// alternative is one entry of one_of: a shape that applies if all of when holds.
type alternative struct {
	when  map[string]string // member to the JSON text of its value
	shape *Shape
}

// Response is a permitted response or, in accepts, a permitted request body.
type Response struct {
	Name      string
	Pos       Pos
	Named     bool // audiences are named
	Audiences Set
	Statuses  []string // as written: "200", "4XX", "default"
	When      []condition
	Entity    *catalog.Entity
	At        []string // reference tokens; "*" is every element
	Inner     string   // the part of `at` before ">>" as findings write it, where the body is inside another
	Many      bool
	Nullable  bool
	Limited   bool      // all records of the entity to the caller's own
	PathOwner string    // the parameter of the path that says whose a record is if it does not; empty for none
	Body      *GrantSet // the entity's grants; shape and grants taken together
	Beside    *GrantSet
	Headers   map[string]catalog.Class // what header fields may carry, by their names in canonical capitals

	Graph *Graph // where it grants by type; nil where it grants by place

	shape   *Shape
	own     *GrantSet
	where   *document.Node
	message protoreflect.MessageDescriptor // of bodies that are messages; nil where none is named
}

// condition limits a response to some requests.
type condition struct {
	in     string // query, header, media or body
	name   string // parameter, header, or JSON Pointer into the request body
	values []string
}

// Endpoint is a method and a path template with its contract.
type Endpoint struct {
	Text      string // as written: GET /v1/bookings/{booking_id}
	Method    string
	Segments  []segment
	Team      string
	Selection *Selection
	Responses []*Response
	Accepts   []*Response
	Judges    bool // accepts was written, be it empty
	Pos       Pos

	all      *Contracts
	messages *message.Set // of its own, or nil
	graph    *Graph       // where it answers GraphQL
	plans    sync.Map     // planKey to *Plan
	uneven   sync.Map     // *Plan to what Uneven says
}

// Selection says that clients may select granted members by name.
type Selection struct {
	Query     string
	Separator string
}

// Exception marks findings as excepted: they are listed but do not count.
type Exception struct {
	Endpoint string
	Path     string // equal text, or ending in ..* for all below
	Kind     string
	Reason   string
	Until    string // last day, UTC, as YYYY-MM-DD; empty: for good
	Pos      Pos
}

// Covers reports whether the exception's path equals a path, or ends in ..* and is above it.
func (x *Exception) Covers(path string) bool {
	above, all := strings.CutSuffix(x.Path, place.Below)
	if !all {
		return x.Path == path
	}
	rest, below := strings.CutPrefix(path, above)
	return below && rest != "" && (rest[0] == '.' || rest[0] == '[' || rest[0] == ' ')
}

// Within reports whether another exception covers everything that this one does, for at least as long.
func (x *Exception) Within(o *Exception) bool {
	place := x.Path == o.Path || o.Covers(strings.TrimSuffix(x.Path, place.Below))
	return x.Endpoint == o.Endpoint && x.Kind == o.Kind && place && (o.Until == "" || x.Until != "" &&
		x.Until <= o.Until)
}

var (
	serviceName  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)
	statusEntry  = regexp.MustCompile(`^([1-5][0-9][0-9]|[1-5]XX|default)$`)
	methodTokens = map[string]bool{
		"GET": true, "HEAD": true, "POST": true, "PUT": true, "PATCH": true, "DELETE": true, "OPTIONS": true,
		"TRACE": true, "QUERY": true,
	}
)

// holds returns how closely an entry of statuses matches a code: 3 exactly, 2 as a group, 1 as default, 0 not at
// all.
func holds(entry string, status int) int {
	code := strconv.Itoa(status)
	switch {
	case entry == code:
		return 3
	case len(entry) == 3 && entry[1:] == "XX" && entry[0] == code[0]:
		return 2
	case entry == "default":
		return 1
	}
	return 0
}

// Audience returns the audience with this name, or nil.
func (c *Contracts) Audience(name string) *Audience {
	for _, a := range c.Audiences {
		if a.Name == name {
			return a
		}
	}
	return nil
}

// Members returns the grants of a grant's objects, from its shape and its own; nil if it grants no objects.
func (g *Grant) Members() *GrantSet {
	g.once.Do(func() {
		if g.shape != nil || g.own != nil {
			g.nested = together(g.entity, g.shape, g.own)
		}
	})
	return g.nested
}

// together merges a shape with the grants written beside it, which add to the shape's or replace them by name.
func together(entity *catalog.Entity, shape *Shape, own *GrantSet) *GrantSet {
	if shape == nil && own != nil {
		return own
	}
	set := &GrantSet{Entity: entity}
	if shape == nil {
		return set
	}
	if set.Entity == nil {
		set.Entity = shape.Body.Entity
	}
	for _, g := range shape.Body.Grants {
		if own != nil && own.grant(g.Name) != nil {
			continue
		}
		set.Grants = append(set.Grants, g)
	}
	if own != nil {
		set.Grants = append(set.Grants, own.Grants...)
	}
	return set
}

// Carries describes the source of a granted member's value.
func (g *Grant) Carries() string {
	owner := func(name string) string {
		if g.Owner != nil {
			return g.Owner.Name + "." + name
		}
		return name
	}
	switch g.Source {
	case FromField:
		return owner(g.Field.Name)
	case FromDerived:
		names := make([]string, len(g.Derived))
		for i, f := range g.Derived {
			names[i] = f.Name
		}
		return "derived from " + strings.Join(names, ", ")
	case FromExternal:
		return "from " + g.External
	case FromConstant:
		return "always " + strings.Join(g.Form.Values, ", ")
	case FromRelation:
		if g.Reference && g.Field != nil {
			return "reference to " + g.Relation.Entity + "." + g.Field.Name
		}
		return g.Relation.Entity
	case FromEntity:
		if g.entity != nil {
			return g.entity.Name
		}
	}
	return ""
}

// Names lists the audiences of a set, from least to most trusted; nil for all.
func (c *Contracts) Names(s Set) []string {
	var names []string
	for _, a := range c.Audiences {
		if s.has(a.Index) {
			names = append(names, a.Name)
		}
	}
	if len(names) == len(c.Audiences) {
		return nil
	}
	return names
}

// Names lists the names of the endpoint in findings: its text, and for each named response the text followed by the
// name in brackets.
func (e *Endpoint) Names() []string {
	var names []string
	plain := len(e.Responses) == 0
	for _, r := range e.Responses {
		if r.Name == "" {
			plain = true
		}
	}
	if plain {
		names = append(names, e.Text)
	}
	for _, r := range e.Responses {
		if name := e.nameOf(r); !contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

func (e *Endpoint) nameOf(r *Response) string {
	if r.Name == "" {
		return e.Text
	}
	return e.Text + " [" + r.Name + "]"
}
