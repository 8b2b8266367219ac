package contract

import (
	"fmt"
	"net/textproto"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"inkret/core/catalog"
	"inkret/core/detect"
	"inkret/core/document"
	"inkret/core/graph"
	"inkret/core/kind"
	"inkret/core/message"
	"inkret/core/place"
)

// Version is the contract format version that this package reads.
const Version = 1

// File is one contract file. The name is used in errors.
type File struct {
	Name string
	Data []byte
}

// Read parses and validates files as one document. The error is a [Problems] with everything that is wrong; the
// result is nil then.
func Read(files ...File) (*Contracts, error) {
	r := &reader{
		c:         &Contracts{Catalog: &catalog.Catalog{}, nodes: map[any]*document.Node{}},
		shapes:    map[string]*Shape{},
		templates: map[string]*document.Node{},
		sets:      map[string]*message.Set{},
		schemas:   map[string]*graph.Schema{},
	}
	r.document(files)
	if len(r.problems) > 0 {
		return nil, r.problems.sorted()
	}
	r.c.routes = buildRoutes(r.c.Endpoints)
	return r.c, nil
}

// reader reads a document in the order of its references: audiences, entities, shapes, responses, endpoints.
type reader struct {
	problems  Problems
	c         *Contracts
	files     map[string]File         // by name
	sets      map[string]*message.Set // that were read, by the names of their files
	schemas   map[string]*graph.Schema
	inType    *typeOf // whose grants are being read; nil where they are not of a type
	graph     *Graph  // of the endpoint being read
	shapes    map[string]*Shape
	templates map[string]*document.Node // normalised endpoint to where it was defined
	entities  []string
	shapeName []string
}

var topKeys = []string{"inkret", "service", "servers", "audiences", "entities", "shapes", "responses", "endpoints",
	"detectors", "countries", "exceptions", "protobuf", "callers"}

func (r *reader) document(files []File) {
	sections := map[string][]*document.Node{}
	for _, f := range r.documents(files) {
		root := document.Parse(f.Name, f.Data, r.fault)
		if root == nil || !r.keys(root, topKeys) {
			continue
		}
		for _, p := range root.Pairs {
			sections[p.Name.Text] = append(sections[p.Name.Text], p)
		}
		if len(files) == 1 && root.Get("inkret") == nil {
			r.report(root, "`inkret: 1` on the first line", "the format's version is missing")
		}
	}
	if len(files) > 1 && len(sections["inkret"]) == 0 && len(r.problems) == 0 {
		r.report(&document.Node{File: files[0].Name, Line: 1, Column: 1}, "`inkret: 1` in one of the files",
			"the format's version is missing")
	}
	for _, n := range sections["inkret"] {
		if n.Text != strconv.Itoa(Version) || n.Kind != document.Number {
			r.report(n, "1", "%s is no version of the format that is known here", n.Describe())
		}
	}
	r.service(sections["service"], files)
	for _, n := range sections["servers"] {
		for _, item := range r.list(n) {
			r.server(item)
		}
	}
	for _, n := range sections["audiences"] {
		for _, item := range r.list(n) {
			r.audience(item)
		}
	}
	r.tellers(sections["callers"])
	r.messages(sections["protobuf"])
	r.readEntities(sections["entities"])
	r.readShapes(sections["shapes"])
	for _, n := range sections["responses"] {
		for _, item := range r.list(n) {
			if resp := r.response(item, false); resp != nil {
				r.c.Responses = append(r.c.Responses, resp)
			}
		}
	}
	r.ties(r.c.Responses)
	for _, resp := range r.c.Responses {
		r.messageOf(resp, r.c.messages)
	}
	for _, n := range sections["endpoints"] {
		for _, item := range r.list(n) {
			r.endpoint(item)
		}
	}
	r.owned()
	for _, n := range sections["detectors"] {
		for _, item := range r.list(n) {
			r.detector(item)
		}
	}
	for _, n := range sections["countries"] {
		for _, item := range r.listOrOne(n) {
			r.country(item)
		}
	}
	r.c.values = detect.NewSet(r.c.Detectors, r.c.Countries)
	for _, n := range sections["exceptions"] {
		for _, item := range r.list(n) {
			r.exception(item)
		}
	}
}

func (r *reader) service(nodes []*document.Node, files []File) {
	for i, n := range nodes {
		name := r.text(n)
		switch {
		case name == "":
		case !serviceName.MatchString(name):
			r.report(n, "letters, digits, '.', '_' and '-'", "%q is no service name", name)
		case i > 0 && name != r.c.Service:
			r.report(n, fmt.Sprintf("%q, as at %s", r.c.Service, nodes[0].Pos()), "a second service %q", name)
		default:
			r.c.Service = name
		}
	}
	if len(nodes) == 0 && len(files) > 0 && len(r.problems) == 0 {
		r.report(&document.Node{File: files[0].Name, Line: 1, Column: 1}, "`service: NAME`", "the service has no name")
	}
}

func (r *reader) server(n *document.Node) {
	text := r.text(n)
	if text == "" {
		return
	}
	s, err := ParseServer(text)
	if err != nil {
		r.report(n, "an address like https://api.example/v2", "%v", err)
		return
	}
	r.c.Servers = append(r.c.Servers, s)
}

// ParseServer parses a base address: http or https, a host, an optional port, and an optional path of whole
// segments; no user, query or fragment.
func ParseServer(text string) (Server, error) {
	u, err := url.Parse(text)
	switch {
	case err != nil:
		return Server{}, fmt.Errorf("%q is no address", text)
	case u.Scheme != "http" && u.Scheme != "https":
		return Server{}, fmt.Errorf("%q does not begin with http:// or https://", text)
	case u.Hostname() == "":
		return Server{}, fmt.Errorf("%q names no host", text)
	case u.User != nil || u.RawQuery != "" || u.Fragment != "":
		return Server{}, fmt.Errorf("%q has more than scheme, host, port and path", text)
	}
	s := Server{Scheme: u.Scheme, Host: strings.ToLower(u.Hostname()), Port: portOf(u)}
	if path := strings.Trim(u.EscapedPath(), "/"); path != "" {
		s.Path = strings.Split(path, "/")
	}
	return s, nil
}

func portOf(u *url.URL) string {
	if p := u.Port(); p != "" {
		return p
	}
	switch strings.ToLower(u.Scheme) {
	case "https", "wss":
		return "443"
	}
	return "80"
}

func (r *reader) audience(n *document.Node) {
	if !r.keys(n, []string{"name", "recognise"}) {
		return
	}
	name := r.required(n, "name")
	if name == "" {
		return
	}
	if old := r.c.Audience(name); old != nil {
		r.report(n.Get("name"), "each name once", "audience %q is defined twice, first at %s", name, old.Pos)
		return
	}
	if len(r.c.Audiences) == maxAudiences {
		r.report(n, fmt.Sprintf("at most %d audiences", maxAudiences), "one audience too many")
		return
	}
	a := &Audience{Name: name, Index: len(r.c.Audiences), Pos: n.Get("name").Pos()}
	if rec := n.Get("recognise"); rec != nil {
		r.recognise(rec, &a.Recognise)
	}
	r.c.Audiences = append(r.c.Audiences, a)
}

// recognise reads how requests of an audience are recognised.
func (r *reader) recognise(n *document.Node, into *Recognise) {
	if !r.keys(n, []string{"credentials", "claim", "header", "cookie"}) {
		return
	}
	if cred := n.Get("credentials"); cred != nil && r.choice(cred, "none") != "" {
		into.None = true
	}
	into.Claim = r.match(n.Get("claim"), "from")
	into.Header = r.match(n.Get("header"))
	into.Cookie = r.match(n.Get("cookie"))
	if claim := n.Get("claim"); into.Claim != nil && claim.Get("from") != nil {
		r.claimFrom(claim.Get("from"), into.Claim)
	}
}

// claimFrom reads where the token of a claim is found.
func (r *reader) claimFrom(n *document.Node, into *Match) {
	if !r.keys(n, []string{"cookie", "header"}) {
		return
	}
	if c := n.Get("cookie"); c != nil {
		into.FromCookie = r.text(c)
	}
	if h := n.Get("header"); h != nil {
		into.FromHeader = r.text(h)
	}
	if (into.FromCookie == "") == (into.FromHeader == "") {
		r.report(n, "{cookie: NAME} or {header: NAME}", "it does not say where the token is")
	}
}

func (r *reader) match(n *document.Node, more ...string) *Match {
	if n == nil || !r.keys(n, append([]string{"name", "value"}, more...)) {
		return nil
	}
	m := &Match{Name: r.required(n, "name"), Values: []string{"*"}}
	if v := n.Get("value"); v != nil {
		m.Values = r.scalars(v)
	}
	return m
}

func (r *reader) readEntities(sections []*document.Node) {
	type pending struct {
		entity *catalog.Entity
		n      *document.Node
	}
	var all []pending
	first := map[string]*document.Node{}
	for _, section := range sections {
		for _, n := range r.mapping(section) {
			name := n.Name.Text
			e := &catalog.Entity{Name: name}
			if !r.c.Catalog.Add(e) {
				r.report(n.Name, "each name once", "entity %q is defined twice, first at %s", name,
					first[name].Name.Pos())
				continue
			}
			first[name] = n
			r.c.nodes[e] = n
			all = append(all, pending{e, n})
		}
	}
	r.entities = r.c.Catalog.Names()
	for _, p := range all {
		if p.n.Kind == document.Null || !r.keys(p.n, []string{"stored_as", "owner", "fields", "relations"}) {
			continue
		}
		if s := p.n.Get("stored_as"); s != nil {
			p.entity.StoredAs = r.text(s)
		}
		if f := p.n.Get("fields"); f != nil {
			for _, n := range r.mapping(f) {
				f := r.field(n)
				r.c.nodes[f] = n
				p.entity.AddField(f)
			}
		}
		if rel := p.n.Get("relations"); rel != nil {
			for _, n := range r.mapping(rel) {
				r.relation(p.entity, n)
			}
		}
		if o := p.n.Get("owner"); o != nil {
			r.owner(p.entity, o)
		}
	}
}

func (r *reader) field(n *document.Node) *catalog.Field {
	f := &catalog.Field{Name: n.Name.Text}
	if n.Kind == document.Null || !r.keys(n, []string{"type", "format", "max", "values", "nullable", "class", "note"}) {
		return f
	}
	f.Form = r.form(n, catalog.Form{})
	f.Class = r.class(n.Get("class"))
	if note := n.Get("note"); note != nil {
		f.Note = r.text(note)
	}
	return f
}

func (r *reader) relation(e *catalog.Entity, n *document.Node) {
	if !r.keys(n, []string{"entity", "many"}) {
		return
	}
	rel := &catalog.Relation{Name: n.Name.Text, Entity: r.required(n, "entity")}
	if rel.Entity != "" && r.c.Catalog.Entity(rel.Entity) == nil {
		r.unknown(n.Get("entity"), "entity", rel.Entity, r.entities)
	}
	rel.Many = r.truth(n.Get("many"))
	r.c.nodes[rel] = n
	if !e.AddRelation(rel) {
		r.report(n.Name, "each name once", "%s has a field named %q already", e.Name, rel.Name)
	}
}

// form reads type, format, max, values and nullable; what is not set keeps its value.
func (r *reader) form(n *document.Node, f catalog.Form) catalog.Form {
	if t := n.Get("type"); t != nil {
		f.Type = catalog.Type(r.choice(t, catalog.TypeNames()...))
	}
	if t := n.Get("format"); t != nil {
		f.Format = r.text(t)
	}
	if t := n.Get("max"); t != nil {
		f.Max = r.count(t)
	}
	if t := n.Get("values"); t != nil {
		f.Values = nil
		for _, item := range r.list(t) {
			if item.Kind == document.Map || item.Kind == document.List {
				r.report(item, "a text, number, truth value or null", "%s is no single value", item.Describe())
				continue
			}
			f.Values = append(f.Values, item.JSON())
		}
	}
	if t := n.Get("nullable"); t != nil {
		f.Nullable = r.truth(t)
	}
	return f
}

func (r *reader) class(n *document.Node) catalog.Class {
	if n == nil {
		return catalog.Unclassed
	}
	c, _ := catalog.ParseClass(r.choice(n, catalog.ClassNames()...))
	return c
}

var responseKeys = []string{"audiences", "statuses", "when", "name", "entity", "at", "many", "nullable", "shape",
	"grants", "beside", "headers", "operations", "types", "message", "own", "owner"}

// response reads a response or, if accepts is set, an entry of accepts.
func (r *reader) response(n *document.Node, accepts bool) *Response {
	known := responseKeys
	if accepts {
		known = append([]string{}, known...)
		known = append(known[:1], known[2:]...)
		known = known[:len(known)-5] // no message or type, as requests are read as JSON, and nobody's records
	}
	if !r.keys(n, known) {
		return nil
	}
	resp := &Response{Pos: n.Pos(), Audiences: ^Set(0), Statuses: []string{"2XX"}, where: n}
	if name := n.Get("name"); name != nil {
		resp.Name = r.text(name)
	}
	if a := n.Get("audiences"); a != nil {
		resp.Named, resp.Audiences = true, r.audienceSet(a)
	}
	if s := n.Get("statuses"); s != nil {
		resp.Statuses = nil
		for _, item := range r.list(s) {
			if text := r.scalar(item); !statusEntry.MatchString(text) {
				r.report(item, "a code such as 200, a group such as 4XX, or default", "%s is no status",
					item.Describe())
			} else {
				resp.Statuses = append(resp.Statuses, text)
			}
		}
	}
	r.c.nodes[resp] = n
	resp.When = r.conditions(n.Get("when"))
	if e := n.Get("entity"); e != nil {
		resp.Entity = r.entity(e)
	}
	if at := n.Get("at"); at != nil {
		r.at(resp, at)
	}
	resp.Many, resp.Nullable = r.truth(n.Get("many")), r.truth(n.Get("nullable"))
	resp.Limited = r.truth(n.Get("own"))
	if s := n.Get("shape"); s != nil {
		resp.shape = r.shape(s)
		if resp.shape != nil && resp.Entity == nil {
			resp.Entity = resp.shape.Body.Entity
		}
		r.sameEntity(s, resp.shape, resp.Entity)
	}
	if g := n.Get("grants"); g != nil {
		resp.own = r.grants(g, resp.Entity, catalog.Unclassed)
	}
	r.pathOwner(resp, n.Get("owner"))
	resp.Body = together(resp.Entity, resp.shape, resp.own)
	if !accepts {
		r.graphResponse(resp, n, r.graph)
	}
	if b := n.Get("beside"); b != nil {
		resp.Beside = r.grants(b, nil, catalog.Unclassed)
	}
	if h := n.Get("headers"); h != nil {
		resp.Headers = map[string]catalog.Class{}
		for _, field := range r.mapping(h) {
			resp.Headers[textproto.CanonicalMIMEHeaderKey(field.Name.Text)] = r.class(field)
		}
	}
	return resp
}

func (r *reader) at(resp *Response, n *document.Node) {
	if n.Kind == document.String && n.Text == "" {
		return // the body itself
	}
	text := r.text(n)
	inner := text
	if i := strings.LastIndex(text, ">>"); i >= 0 {
		outer, ok := outerPlace(text[:i])
		if !ok {
			r.report(n, "the place of the text that holds the body, as in script#state >> /user",
				"%q names no place before its last >>", text)
			return
		}
		resp.Inner, inner = outer, strings.TrimSpace(text[i+2:])
	}
	tokens, ok := place.Tokens(inner)
	if !ok {
		r.report(n, "a JSON Pointer such as /data, or nothing for the body itself", "%q is no JSON Pointer", text)
		return
	}
	resp.At = tokens
}

// outerPlace normalises what stands before `>>` as findings write it: JSON Pointers and JSONPaths as JSONPaths,
// names of places in a page unchanged.
func outerPlace(text string) (string, bool) {
	steps := strings.Split(text, ">>")
	for i, step := range steps {
		step = strings.TrimSpace(step)
		if step == "" {
			return "", false
		}
		if step[0] == '/' || step[0] == '$' {
			tokens, ok := place.Tokens(step)
			if !ok {
				return "", false
			}
			step = place.Path(tokens)
		}
		steps[i] = step
	}
	return strings.Join(steps, " >> "), true
}

func (r *reader) audienceSet(n *document.Node) Set {
	var set Set
	for _, item := range r.list(n) {
		name := r.text(item)
		if name == "" {
			continue
		}
		if a := r.c.Audience(name); a != nil {
			set |= 1 << a.Index
			continue
		}
		r.unknown(item, "audience", name, r.c.audienceNames())
	}
	return set
}

func (r *reader) conditions(n *document.Node) []condition {
	if n == nil || !r.keys(n, []string{"query", "header", "media", "body"}) {
		return nil
	}
	var all []condition
	for _, p := range n.Pairs {
		if p.Name.Text == "media" {
			all = append(all, condition{in: "media", values: r.scalars(p)})
			continue
		}
		for _, v := range r.mapping(p) {
			if p.Name.Text == "body" {
				if _, ok := place.SplitPointer(v.Name.Text); !ok {
					r.report(v.Name, "a JSON Pointer into the request body, such as /operation",
						"%q is no JSON Pointer", v.Name.Text)
				}
			}
			all = append(all, condition{in: p.Name.Text, name: v.Name.Text, values: r.scalars(v)})
		}
	}
	return all
}

var endpointKeys = []string{"endpoint", "team", "selection", "protobuf", "graphql", "responses", "accepts"}

func (r *reader) endpoint(n *document.Node) {
	if !r.keys(n, endpointKeys) {
		return
	}
	e := &Endpoint{Text: r.required(n, "endpoint"), Pos: n.Pos(), all: r.c}
	e.messages = r.messagesIn(n.Get("protobuf"))
	e.graph = r.graphOf(n.Get("graphql"))
	r.graph = e.graph
	defer func() { r.graph = nil }()
	r.c.nodes[e] = n
	if e.Text != "" && r.template(e, n.Get("endpoint")) {
		key := e.normalised()
		if old := r.templates[key]; old != nil {
			r.report(n.Get("endpoint"), "each endpoint once", "%q is the same endpoint as %q at %s", e.Text, old.Text,
				old.Pos())
		} else {
			r.templates[key] = n.Get("endpoint")
		}
	}
	if t := n.Get("team"); t != nil {
		e.Team = r.text(t)
	}
	if s := n.Get("selection"); s != nil && r.keys(s, []string{"query", "separator"}) {
		e.Selection = &Selection{Query: r.required(s, "query"), Separator: ","}
		if sep := s.Get("separator"); sep != nil {
			e.Selection.Separator = r.text(sep)
		}
	}
	if list := n.Get("responses"); list != nil {
		for _, item := range r.list(list) {
			if resp := r.response(item, false); resp != nil {
				e.Responses = append(e.Responses, resp)
			}
		}
		r.ties(e.Responses)
		r.pathOwners(e)
		for _, resp := range e.Responses {
			r.messageOf(resp, e.messages, r.c.messages)
		}
	}
	if list := n.Get("accepts"); list != nil {
		e.Judges = true
		for _, item := range r.list(list) {
			if resp := r.response(item, true); resp != nil {
				e.Accepts = append(e.Accepts, resp)
			}
		}
		r.ties(e.Accepts)
	}
	r.c.Endpoints = append(r.c.Endpoints, e)
}

// excluding reports whether the conditions of two responses exclude each other: they are about the same thing and
// list different values.
func excluding(a, b []condition) bool {
	for _, x := range a {
		for _, y := range b {
			same := x.name == y.name || x.in == "header" && strings.EqualFold(x.name, y.name)
			if x.in == y.in && same && !contains(x.values, "*") && !contains(y.values, "*") &&
				!slices.ContainsFunc(x.values, func(v string) bool { return contains(y.values, v) }) {
				return true
			}
		}
	}
	return false
}

// ties reports pairs of responses of which either could apply.
func (r *reader) ties(all []*Response) {
	for i, b := range all {
		for _, a := range all[:i] {
			if a.Named != b.Named || a.Audiences&b.Audiences == 0 || len(a.When) != len(b.When) ||
				excluding(a.When, b.When) {
				continue
			}
			for _, s := range a.Statuses {
				if contains(b.Statuses, s) {
					r.report(b.where, "other audiences, another status or a `when` that tells them apart",
						"nothing decides between this response and the one at %s for status %s", a.Pos, s)
					break
				}
			}
		}
	}
}

func equalConditions(a, b []condition) bool {
	if len(a) != len(b) {
		return false
	}
	for _, x := range a {
		if !slices.ContainsFunc(b, func(y condition) bool {
			return x.in == y.in && x.name == y.name && slices.Equal(x.values, y.values)
		}) {
			return false
		}
	}
	return true
}

func contains(all []string, s string) bool {
	for _, a := range all {
		if a == s {
			return true
		}
	}
	return false
}

func (r *reader) detector(n *document.Node) {
	if !r.keys(n, []string{"name", "class", "pattern", "words", "length", "check", "match", "no_match"}) {
		return
	}
	d := detect.Custom{Name: r.required(n, "name")}
	for _, other := range r.c.Detectors {
		if other.Name == d.Name && d.Name != "" {
			r.report(n.Get("name"), "each name once", "detector %q is defined twice", d.Name)
		}
	}
	if c := n.Get("class"); c != nil {
		d.Class, _ = catalog.ParseClass(r.choice(c, "secret", "personal"))
	} else {
		r.report(n, "`class: secret` or `class: personal`", "the detector has no class")
	}
	if c := n.Get("check"); c != nil {
		d.Check = r.choice(c, "luhn", "iban")
	}
	if l := n.Get("length"); l != nil {
		r.detectorLength(&d, l)
	}
	if d.Pattern = r.detectorPattern(n); d.Pattern == nil {
		return
	}
	if m := n.Get("match"); m != nil {
		for _, item := range r.listOrOne(m) {
			if text := r.scalar(item); !d.Matches([]byte(text)) {
				r.report(item, "a value that the pattern and the check find", "the detector does not find its example")
			}
		}
	}
	if m := n.Get("no_match"); m != nil {
		for _, item := range r.listOrOne(m) {
			if text := r.scalar(item); d.Matches([]byte(text)) {
				r.report(item, "a value that the detector leaves alone", "the detector finds its counter-example")
			}
		}
	}
	r.c.Detectors = append(r.c.Detectors, d)
}

// country reads an ISO 3166-1 code whose telephone numbering plan is known.
func (r *reader) country(n *document.Node) {
	if code := r.choice(n, detect.Countries()...); code != "" {
		r.c.Countries = append(r.c.Countries, code)
	}
}

// detectorPattern reads what a detector looks for: a pattern, or words of which one must occur as a whole, in any
// case. It is nil after a problem.
func (r *reader) detectorPattern(n *document.Node) *regexp.Regexp {
	words, pattern := n.Get("words"), n.Get("pattern")
	switch {
	case words != nil && pattern != nil:
		r.report(words, "a pattern or words, not both", "the detector has both")
		return nil
	case words != nil:
		var all []string
		for _, item := range r.listOrOne(words) {
			if word := r.text(item); strings.TrimSpace(word) != "" {
				all = append(all, regexp.QuoteMeta(strings.TrimSpace(word)))
			}
		}
		if len(all) == 0 {
			r.report(words, "at least one word", "the detector has no words")
			return nil
		}
		return regexp.MustCompile(`(?i)(?:^|[^\p{L}\p{N}])(?:` + strings.Join(all, "|") + `)(?:$|[^\p{L}\p{N}])`)
	}
	re, err := regexp.Compile(r.required(n, "pattern"))
	if err != nil {
		r.report(n.Get("pattern"), "a regular expression in RE2's syntax", "the pattern does not compile: %v", err)
		return nil
	}
	return re
}

// detectorLength reads the length of the values that a detector looks at, in bytes: a number, or minimum and
// maximum.
func (r *reader) detectorLength(d *detect.Custom, n *document.Node) {
	bounds := r.listOrOne(n)
	if len(bounds) != 1 && len(bounds) != 2 {
		r.report(n, "a number of bytes, or the least and the most as in [8, 40]", "the length has %d numbers",
			len(bounds))
		return
	}
	d.Least, d.Most = r.count(bounds[0]), r.count(bounds[len(bounds)-1])
	if d.Most < d.Least {
		r.report(n, "the least first", "no value is at least %d and at most %d bytes long", d.Least, d.Most)
	}
}

func (r *reader) exception(n *document.Node) {
	if !r.keys(n, []string{"endpoint", "path", "kind", "reason", "until"}) {
		return
	}
	x := &Exception{Endpoint: r.required(n, "endpoint"), Path: r.required(n, "path"), Kind: r.required(n, "kind"),
		Reason: r.required(n, "reason"), Pos: n.Pos()}
	if _, known := kind.Parse(x.Kind); x.Kind != "" && !known {
		r.unknown(n.Get("kind"), "kind", x.Kind, kind.Names())
	}
	if u := n.Get("until"); u != nil {
		x.Until = r.text(u)
		if _, err := time.Parse(time.DateOnly, x.Until); err != nil {
			r.report(u, "a day such as 2027-03-31", "%q is no day", x.Until)
		}
	}
	r.c.Exceptions = append(r.c.Exceptions, x)
}

// IsServiceName reports whether a service may be called so.
func IsServiceName(name string) bool { return serviceName.MatchString(name) }
