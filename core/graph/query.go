package graph

import (
	"bytes"
	"encoding/json"
	"errors"
	"mime"
	"mime/multipart"
	"net/url"
	"slices"
	"strings"

	"github.com/vektah/gqlparser/v2/ast"
	"github.com/vektah/gqlparser/v2/parser"
)

// Query is one operation that a request asks for.
type Query struct {
	Root string // name of the root type
	Data *Selection

	fragments map[string]*ast.FragmentDefinition
	schema    *Schema
	left      *int // fields that may still be collected, of all queries of the request
}

// Selection is what a query asks of the objects at one place. It is not safe for concurrent use.
type Selection struct {
	Type     string   // static type of the objects there; empty where it is not known
	Possible []string // types that they may have; nil where that is not known

	query *Query
	sets  []ast.SelectionSet
	of    map[string]*Fields
}

// Fields are what a query asks of an object of one type, in the order of the query.
type Fields struct {
	All []*Asked
	by  map[string]*Asked
}

// By returns what is asked for under a name of the response, or nil.
func (f *Fields) By(key []byte) *Asked {
	if f == nil {
		return nil
	}
	return f.by[string(key)]
}

// Asked is a field of a response.
type Asked struct {
	Key      string // its name in the response: the alias, where there is one
	Name     string // as the schema has it
	Type     string // innermost named type of its values; empty where it is not known
	Scalar   bool   // the type is known, and its values are no objects
	List     bool   // values are lists, as far as is known
	Optional bool   // a directive may leave it out, or a fragment that may not hold
	Inner    *Selection
}

// TypeName is the name of the field that every object has (section 4.1.1).
const TypeName = "__typename"

// Why a request is not read.
var (
	ErrNoQuery = errors.New("the request has no query")
	errQuery   = errors.New("the request's query cannot be read")
)

// mostRequests limits the operations of a batch; mostFields the fields that are collected for one request.
const (
	mostRequests    = 1000
	mostQueryTokens = 50_000
	mostFields      = 500_000
)

// Request is the JSON of a request (GraphQL over HTTP, section 5.2), without its variables.
type Request struct {
	Query     string `json:"query"`
	Operation string `json:"operationName"`
}

// Ask reads what a request asks for: one query, or several in a batch; list says that they came as one. schema may be
// nil. The error, which is plain text, says why nothing is known.
func Ask(s *Schema, method string, u *url.URL, contentType string, body []byte) (all []*Query, list bool, err error) {
	requests, list, err := Requests(method, u, contentType, body)
	if err != nil {
		return nil, false, err
	}
	left := mostFields
	for _, r := range requests {
		q, err := r.parse(s, &left)
		if err != nil {
			return nil, false, err
		}
		all = append(all, q)
	}
	return all, list, nil
}

// Requests reads what a request sends, one for each operation of a batch; list says that they came as one. Each has a
// query.
func Requests(method string, u *url.URL, contentType string, body []byte) (all []Request, list bool, err error) {
	all, list, err = requested(method, u, contentType, body)
	if err == nil && slices.ContainsFunc(all, func(r Request) bool { return strings.TrimSpace(r.Query) == "" }) {
		err = ErrNoQuery
	}
	return all, list, err
}

// Parse reads one request.
func (r Request) Parse(s *Schema) (*Query, error) {
	left := mostFields
	return r.parse(s, &left)
}

func requested(method string, u *url.URL, contentType string, body []byte) (all []Request, list bool, err error) {
	media, params, _ := mime.ParseMediaType(contentType)
	values := u.Query()
	if method == "GET" || values.Has("query") && len(bytes.TrimSpace(body)) == 0 {
		return []Request{{values.Get("query"), values.Get("operationName")}}, false, nil
	}
	switch media {
	case "application/graphql":
		return []Request{{string(body), values.Get("operationName")}}, false, nil
	case "application/x-www-form-urlencoded":
		form, err := url.ParseQuery(string(body))
		if err != nil {
			return nil, false, errQuery
		}
		return []Request{{form.Get("query"), form.Get("operationName")}}, false, nil
	case "multipart/form-data":
		r := multipart.NewReader(bytes.NewReader(body), params["boundary"])
		for {
			p, err := r.NextPart()
			if err != nil {
				return nil, false, ErrNoQuery
			}
			if p.FormName() == "operations" {
				var text bytes.Buffer
				if _, err := text.ReadFrom(p); err != nil {
					return nil, false, errQuery
				}
				body = text.Bytes()
				break
			}
		}
	}
	body = bytes.TrimSpace(bytes.TrimPrefix(body, []byte("\xef\xbb\xbf")))
	if len(body) == 0 {
		return nil, false, ErrNoQuery
	}
	if body[0] == '[' {
		if json.Unmarshal(body, &all) != nil || len(all) == 0 || len(all) > mostRequests {
			return nil, false, errQuery
		}
		return all, true, nil
	}
	var one Request
	if json.Unmarshal(body, &one) != nil {
		return nil, false, errQuery
	}
	return []Request{one}, false, nil
}

func (r Request) parse(s *Schema, left *int) (*Query, error) {
	doc, err := parser.ParseQueryWithTokenLimit(&ast.Source{Input: r.Query}, mostQueryTokens)
	if err != nil {
		return nil, errQuery
	}
	q := &Query{schema: s, fragments: map[string]*ast.FragmentDefinition{}, left: left}
	for _, f := range doc.Fragments {
		q.fragments[f.Name] = f
	}
	op := doc.Operations.ForName(r.Operation)
	if r.Operation == "" && len(doc.Operations) == 1 {
		op = doc.Operations[0]
	}
	if op == nil || r.Operation == "" && len(doc.Operations) > 1 || q.circular() {
		return nil, errQuery
	}
	if q.Root = rootOf(s, op.Operation); q.Root == "" {
		return nil, errQuery
	}
	q.Data = &Selection{Type: q.Root, Possible: []string{q.Root}, query: q, sets: []ast.SelectionSet{op.SelectionSet}}
	return q, nil
}

// circular reports whether a fragment contains itself, which no server answers (section 5.5.2.2).
func (q *Query) circular() bool {
	const open, done = 1, 2
	state := map[string]int{}
	var visit func(name string) bool
	var inside func(set ast.SelectionSet) bool
	inside = func(set ast.SelectionSet) bool {
		for _, one := range set {
			switch one := one.(type) {
			case *ast.Field:
				if inside(one.SelectionSet) {
					return true
				}
			case *ast.InlineFragment:
				if inside(one.SelectionSet) {
					return true
				}
			case *ast.FragmentSpread:
				if visit(one.Name) {
					return true
				}
			}
		}
		return false
	}
	visit = func(name string) bool {
		f := q.fragments[name]
		if f == nil || state[name] == done {
			return false
		}
		if state[name] == open {
			return true
		}
		state[name] = open
		found := inside(f.SelectionSet)
		state[name] = done
		return found
	}
	for name := range q.fragments {
		if visit(name) {
			return true
		}
	}
	return false
}

// Of returns what is asked of an object of a type (CollectFields, section 6.3.2). An empty type stands for one that is
// not known: whatever may be asked for is collected. It is nil for a nil selection.
func (s *Selection) Of(typeName string) *Fields {
	if s == nil {
		return nil
	}
	if f := s.of[typeName]; f != nil {
		return f
	}
	c := collector{query: s.query, typeName: typeName, fields: &Fields{by: map[string]*Asked{}},
		met: map[string]bool{}}
	for _, set := range s.sets {
		c.collect(set, false)
	}
	for i := 0; i < len(c.later); i++ { // fields of fragments that may not hold do not take the place of others
		c.collect(c.later[i], true)
	}
	if s.of == nil {
		s.of = map[string]*Fields{}
	}
	s.of[typeName] = c.fields
	return c.fields
}

type collector struct {
	query    *Query
	typeName string
	fields   *Fields
	met      map[string]bool // fragments
	later    []ast.SelectionSet
}

func (c *collector) collect(set ast.SelectionSet, optional bool) {
	for _, one := range set {
		if *c.query.left <= 0 {
			return
		}
		*c.query.left--
		switch one := one.(type) {
		case *ast.Field:
			c.field(one, optional || conditional(one.Directives))
		case *ast.InlineFragment:
			c.fragment(one.TypeCondition, one.SelectionSet, optional || conditional(one.Directives))
		case *ast.FragmentSpread:
			f := c.query.fragments[one.Name]
			if f == nil || c.met[one.Name] {
				continue
			}
			c.met[one.Name] = true
			c.fragment(f.TypeCondition, f.SelectionSet, optional || conditional(one.Directives))
		}
	}
}

// fragment collects a fragment, if it applies to the type.
func (c *collector) fragment(condition string, set ast.SelectionSet, optional bool) {
	possible := c.query.schema.possible(condition)
	switch {
	case condition == "" || condition == c.typeName:
		c.collect(set, optional)
	case c.typeName != "" && possible != nil:
		if slices.Contains(possible, c.typeName) {
			c.collect(set, optional)
		}
	default: // it is not known whether it applies
		c.later = append(c.later, set)
	}
}

func (c *collector) field(f *ast.Field, optional bool) {
	key := f.Alias
	if key == "" {
		key = f.Name
	}
	if have := c.fields.by[key]; have != nil {
		if have.Name == f.Name {
			have.Optional = have.Optional && optional
			if len(f.SelectionSet) > 0 && have.Inner != nil {
				have.Inner.sets = append(have.Inner.sets, f.SelectionSet)
			}
		}
		return
	}
	a := &Asked{Key: key, Name: f.Name, Optional: optional}
	schema := c.query.schema
	if of := schema.Type(c.typeName).Field(f.Name); of != nil {
		a.Type, a.List = of.Type, of.List
		a.Scalar = !schema.Type(of.Type).Composite()
	}
	if len(f.SelectionSet) > 0 {
		a.Inner = &Selection{Type: a.Type, Possible: schema.possible(a.Type), query: c.query,
			sets: []ast.SelectionSet{f.SelectionSet}}
	}
	c.fields.by[key] = a
	c.fields.All = append(c.fields.All, a)
}

// conditional reports whether a directive may leave out what it stands at, or send it later.
func conditional(all ast.DirectiveList) bool {
	return slices.ContainsFunc(all, func(d *ast.Directive) bool {
		return d.Name == "skip" || d.Name == "include" || d.Name == "defer"
	})
}

// NameKey returns the name in the response under which objects here say their type, whatever their type is; empty if
// they may not say it.
func (s *Selection) NameKey() string {
	if s == nil {
		return ""
	}
	for _, a := range s.Of("").All {
		if a.Name == TypeName {
			return a.Key
		}
	}
	return ""
}

// Fitting returns the one type of those that are possible whose selection has exactly these members; nothing if none or
// several have.
func (s *Selection) Fitting(has func(key string) bool, count int) string {
	one := ""
	for _, name := range s.Possible {
		f, fits, present := s.Of(name), true, 0
		for _, a := range f.All {
			there := has(a.Key)
			if there {
				present++
			}
			fits = fits && (there || a.Optional)
		}
		if !fits || present != count {
			continue
		}
		if one != "" {
			return ""
		}
		one = name
	}
	return one
}

// Below returns the selection at a path of the response (names of members; indexes are left out), as far as types that
// are known lead there.
func (s *Selection) Below(path []string) *Selection {
	for _, key := range path {
		if s == nil {
			return nil
		}
		var next *Selection
		for _, name := range append(slices.Clone(s.Possible), "") {
			if a := s.Of(name).By([]byte(key)); a != nil && a.Inner != nil {
				next = a.Inner
				break
			}
		}
		s = next
	}
	return s
}

// Each calls do for each field of each type that may be asked for here, at any depth.
func (s *Selection) Each(do func(typeName, field string)) {
	if s == nil {
		return
	}
	for _, name := range s.Possible {
		for _, a := range s.Of(name).All {
			do(name, a.Name)
			a.Inner.Each(do)
		}
	}
}
