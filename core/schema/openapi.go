package schema

import (
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"inkret/core/catalog"
	"inkret/core/document"
	"inkret/core/graph"
	"inkret/core/place"
)

// Describe parses an OpenAPI 3.0 or 3.1 document, or a JSON Schema (2020-12 and earlier drafts), in JSON or YAML.
// References within the document are followed; others are never fetched, but noted. Errors have line and column.
func Describe(name string, data []byte) (*Sketch, error) {
	if graph.Is(data) {
		return DescribeGraph(name, data)
	}
	var fault error
	root := document.Parse(name, data, func(at *document.Node, expected, found string) {
		if fault == nil {
			fault = fmt.Errorf("%s: %s; expected %s", at.Pos(), found, expected)
		}
	})
	if fault != nil {
		return nil, fault
	}
	if root == nil || root.Kind != document.Map {
		return nil, fmt.Errorf("%s: neither an OpenAPI document nor a JSON Schema", name)
	}
	d := &description{root: root, sketch: &Sketch{}, objects: map[*document.Node]*Object{}, names: map[string]bool{}}
	switch version := root.Get("openapi"); {
	case version != nil && !strings.HasPrefix(version.Text, "3.0") && !strings.HasPrefix(version.Text, "3.1"):
		return nil, fmt.Errorf("%s: OpenAPI %s is not read here; expected 3.0 or 3.1", version.Pos(), version.Text)
	case version != nil:
		d.openAPI()
		d.errors()
		d.sketch.standardForms()
		if unused := d.sketch.dropUnused(); len(unused) > 0 {
			d.note("schemas that no operation's body has are left out (%d): %s", len(unused), someOf(unused))
		}
		d.sketch.unite()
	case root.Get("swagger") != nil:
		return nil, fmt.Errorf("%s: version %s of the description is not read here; expected OpenAPI 3.0 or 3.1",
			root.Get("swagger").Pos(), root.Get("swagger").Text)
	case root.Get("$schema") != nil || root.Get("properties") != nil || root.Get("$defs") != nil ||
		root.Get("definitions") != nil || root.Get("type") != nil || root.Get("allOf") != nil:
		d.jsonSchema(name)
		d.sketch.standardForms()
		d.sketch.unite()
	default:
		return nil, fmt.Errorf("%s: neither an OpenAPI document nor a JSON Schema: it has no openapi, $schema, "+
			"properties or $defs", name)
	}
	return d.sketch, nil
}

// ErrNoObjects is returned for a description without objects.
var ErrNoObjects = errors.New("no object is described there")

type description struct {
	root    *document.Node
	sketch  *Sketch
	objects map[*document.Node]*Object
	names   map[string]bool

	resources, anchors map[string]*document.Node // by address, and by address and name; once looked for
}

func (d *description) note(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if !slices.Contains(d.sketch.Notes, text) {
		d.sketch.Notes = append(d.sketch.Notes, text)
	}
}

func (d *description) openAPI() {
	if info := d.root.Get("info"); info != nil {
		d.sketch.Title = textOf(info, "title")
	}
	for _, s := range itemsOf(d.root, "servers") {
		d.sketch.Servers = append(d.sketch.Servers, textOf(s, "url"))
	}
	for _, c := range pairsOf(d.root.Get("components"), "schemas") { // named ones first, so that they keep their names
		if d.isObject(c) {
			d.object(c, EntityName(c.Name.Text), "")
		}
	}
	for _, path := range pairsOf(d.root, "paths") {
		item := d.follow(path)
		if item == nil || item.Kind != document.Map {
			continue
		}
		for _, m := range item.Pairs {
			method := strings.ToUpper(m.Name.Text)
			if !slices.Contains([]string{"GET", "PUT", "POST", "DELETE", "OPTIONS", "HEAD", "PATCH", "TRACE", "QUERY"},
				method) || m.Kind != document.Map {
				continue
			}
			op := &Operation{Method: method, Path: path.Name.Text, Signed: d.signed(m)}
			for _, r := range pairsOf(m, "responses") {
				op.Answers = append(op.Answers, Answer{Status: strings.ToUpper(r.Name.Text),
					Content: d.content(d.follow(r), op)})
			}
			for i := range op.Answers {
				if op.Answers[i].Status == "DEFAULT" {
					op.Answers[i].Status = "default"
				}
			}
			if body := d.follow(m.Get("requestBody")); body != nil {
				op.Takes = append(op.Takes, d.content(body, op))
			}
			d.sketch.Operations = append(d.sketch.Operations, op)
		}
	}
}

// errors gathers what the described errors hold.
func (d *description) errors() {
	const most = 24
	s := d.sketch
	add := func(list *[]string, name string) {
		if name != "" && len(*list) < most && !slices.Contains(*list, name) && !slices.Contains(s.Errors, name) {
			*list = append(*list, name)
		}
	}
	for _, op := range s.Operations {
		for _, a := range op.Answers {
			if !a.IsError() || a.Object == nil {
				continue
			}
			if a.At != "" {
				add(&s.ErrorParts, split(a.At)[0])
				for _, name := range a.Beside {
					add(&s.ErrorParts, name)
				}
				continue
			}
			for _, m := range a.Object.Members {
				if m.Object == nil && !m.Many && !m.Open {
					add(&s.Errors, m.Name)
				} else {
					add(&s.ErrorParts, m.Name)
				}
			}
		}
	}
	s.ErrorParts = slices.DeleteFunc(s.ErrorParts, func(n string) bool { return slices.Contains(s.Errors, n) })
}

// signed reports whether an operation requires credentials.
func (d *description) signed(op *document.Node) bool {
	security := op.Get("security")
	if security == nil {
		security = d.root.Get("security")
	}
	if security == nil || len(security.Items) == 0 {
		return false
	}
	return !slices.ContainsFunc(security.Items, func(s *document.Node) bool { return len(s.Pairs) == 0 })
}

func (d *description) jsonSchema(file string) {
	d.sketch.Title = textOf(d.root, "title")
	for _, section := range []string{"$defs", "definitions"} {
		for _, c := range pairsOf(d.root, section) {
			if d.isObject(c) {
				d.object(c, EntityName(c.Name.Text), "")
			}
		}
	}
	if d.isObject(d.root) {
		name := d.sketch.Title
		if name == "" {
			name = regexp.MustCompile(`(\.schema)?\.\w+$`).ReplaceAllString(file[strings.LastIndexAny(file, `/\`)+1:],
				"")
		}
		d.object(d.root, EntityName(name), "").unnamed = false
	}
}

// content reads the JSON body of a response or request.
func (d *description) content(n *document.Node, op *Operation) Content {
	var schema *document.Node
	all := pairsOf(n, "content")
	for _, media := range all {
		name, _, _ := strings.Cut(strings.ToLower(media.Name.Text), ";")
		if name == "application/json" || strings.HasSuffix(name, "+json") || name == "*/*" || name == "application/*" {
			schema = media.Get("schema")
			break
		}
	}
	if schema == nil {
		return Content{Empty: true}
	}
	m := d.member("", schema, bodyName(op.Path))
	c := Content{Object: m.Object, Many: m.Many, Nullable: m.Form.Nullable, Form: m.Form}
	if c.Object != nil && !c.Many {
		if inside, beside := Unwrap(c.Object); inside != nil {
			c.Object.envelope = true
			c = Content{Object: inside.Object, At: string(place.AppendPointer(nil, []byte(inside.Name))),
				Many: inside.Many, Nullable: inside.Form.Nullable, Beside: beside}
			if slices.Contains(beside, IncludedName) {
				c.Included = d.included(schema)
			}
		}
	}
	return c
}

// included reads the resources of several types that a body holds beside its own (JSON:API 1.1, section 7.3), each told
// by the one value of its member type. It is nil where one of them is not told by that.
func (d *description) included(body *document.Node) (all []Typed) {
	list := d.property(body, IncludedName, 0)
	if list == nil {
		return nil
	}
	item := d.follow(list.Get("items"))
	if item == nil {
		return nil
	}
	kinds := []*document.Node{item}
	for _, key := range []string{"oneOf", "anyOf"} {
		if some := itemsOf(item, key); len(some) > 0 {
			kinds = some
		}
	}
	for _, one := range kinds {
		value := d.property(one, "type", 0)
		if value == nil {
			return nil
		}
		name := textOf(value, "const")
		if some := itemsOf(value, "enum"); name == "" && len(some) == 1 {
			name = some[0].Text
		}
		of := d.member("", one, EntityName(name)).Object
		if name == "" || of == nil {
			return nil
		}
		all = append(all, Typed{Type: name, Object: of})
	}
	return all
}

// property returns the schema of a member of an object, also of one that is composed, or nil.
func (d *description) property(of *document.Node, name string, depth int) *document.Node {
	const deepest = 8
	if of = d.follow(of); of == nil || depth > deepest {
		return nil
	}
	if properties := of.Get("properties"); properties != nil && properties.Get(name) != nil {
		return d.follow(properties.Get(name))
	}
	for _, part := range itemsOf(of, "allOf") {
		if found := d.property(part, name, depth+1); found != nil {
			return found
		}
	}
	return nil
}

// bodyName names an unnamed object after its path.
func bodyName(path string) string {
	parts := strings.Split(strings.Trim(path, "/"), "/")
	for i := len(parts) - 1; i >= 0; i-- {
		if parts[i] != "" && !strings.Contains(parts[i], "{") {
			return EntityName(parts[i])
		}
	}
	return "Body"
}

// longestChain limits chains of references.
const longestChain = 50

// follow follows a node's reference within the document, or returns nil.
func (d *description) follow(n *document.Node) *document.Node {
	for range longestChain {
		if n == nil || n.Kind != document.Map {
			return n
		}
		ref := n.Get("$ref")
		if ref == nil || ref.Kind != document.String {
			return n
		}
		at, local := d.refersTo(ref)
		if !local {
			d.note("%s refers to %q, which is another document and is not fetched", ref.Pos(), clip(ref.Text))
			return nil
		}
		if n = at; n == nil {
			d.note("%s refers to %q, which is not in the document", ref.Pos(), clip(ref.Text))
			return nil
		}
	}
	d.note("references lead in a circle at %s", n.Pos())
	return nil
}

// refersTo resolves a reference (RFC 3986 section 5.2, JSON Schema 2020-12 section 8.2) against the enclosing $id,
// by pointer or $anchor. local reports whether it is within this document; the node is nil if it does not exist.
func (d *description) refersTo(ref *document.Node) (at *document.Node, local bool) {
	to, err := url.Parse(ref.Text)
	if err != nil {
		return nil, true
	}
	if d.resources == nil {
		d.resources, d.anchors = map[string]*document.Node{}, map[string]*document.Node{}
		d.identify(d.root, &url.URL{}, 0)
	}
	to = baseOf(ref).ResolveReference(to)
	fragment := to.Fragment // decoded
	to.Fragment, to.RawFragment = "", ""
	resource := d.resources[to.String()]
	if resource == nil && to.String() == "" {
		resource = d.root
	}
	if resource == nil {
		return nil, false
	}
	if fragment != "" && !strings.HasPrefix(fragment, "/") {
		return d.anchors[to.String()+"#"+fragment], true
	}
	tokens, ok := place.SplitPointer(fragment)
	if !ok {
		return nil, true
	}
	return resource.Find(tokens), true
}

// identify records what $id and $anchor name. base is the base of the enclosing node.
func (d *description) identify(n *document.Node, base *url.URL, depth int) {
	if n == nil || depth > maxDepth || n.Aliased {
		return
	}
	if id := n.Get("$id"); n.Kind == document.Map && id != nil && id.Kind == document.String {
		if u, err := url.Parse(id.Text); err == nil {
			u.Fragment = ""
			base = base.ResolveReference(u)
		}
	}
	if n == d.root || n.Get("$id") != nil {
		d.resources[base.String()] = n
	}
	if n.Kind == document.Map {
		for _, key := range []string{"$anchor", "$dynamicAnchor"} {
			if a := n.Get(key); a != nil && a.Kind == document.String {
				d.anchors[base.String()+"#"+a.Text] = n
			}
		}
	}
	for _, in := range n.Pairs {
		d.identify(in, base, depth+1)
	}
	for _, in := range n.Items {
		d.identify(in, base, depth+1)
	}
}

// maxDepth limits how deep names are looked for.
const maxDepth = 200

// baseOf returns the base address for references at a node.
func baseOf(n *document.Node) *url.URL {
	var ids []string
	for in := n; in != nil; in = in.Parent {
		if id := in.Get("$id"); in.Kind == document.Map && id != nil && id.Kind == document.String && id != n {
			ids = append(ids, id.Text)
		}
	}
	base := &url.URL{}
	for i := len(ids) - 1; i >= 0; i-- {
		if u, err := url.Parse(ids[i]); err == nil {
			u.Fragment = ""
			base = base.ResolveReference(u)
		}
	}
	return base
}

func clip(s string) string {
	const most = 80
	if r := []rune(s); len(r) > most {
		return string(r[:most]) + "…"
	}
	return s
}

func (d *description) isObject(n *document.Node) bool {
	n = d.follow(n)
	if n == nil || n.Kind != document.Map {
		return false
	}
	return d.isWhole(n, map[*document.Node]bool{}) || d.variantsAreObjects(n)
}

// isWhole is isObject without variants. What was met before is not looked at again: schemas may consist of themselves.
func (d *description) isWhole(n *document.Node, met map[*document.Node]bool) bool {
	n = d.follow(n)
	if n == nil || n.Kind != document.Map || met[n] {
		return false
	}
	met[n] = true
	return n.Get("properties") != nil || slices.ContainsFunc(itemsOf(n, "allOf"),
		func(p *document.Node) bool { return d.isWhole(p, met) })
}

func (d *description) variants(n *document.Node) []*document.Node {
	var all []*document.Node
	for _, key := range []string{"oneOf", "anyOf"} {
		for _, v := range itemsOf(n, key) {
			if f := d.follow(v); f != nil && textOf(f, "type") != "null" {
				all = append(all, v)
			}
		}
	}
	return all
}

func (d *description) variantsAreObjects(n *document.Node) bool {
	all := d.variants(n)
	return len(all) > 0 && !slices.ContainsFunc(all, func(v *document.Node) bool {
		return !d.isWhole(v,
			map[*document.Node]bool{})
	})
}

// property is a member of an object, as described by its partial schemas.
type property struct {
	name     string
	node     *document.Node
	required bool
}

// properties merges an object's schema and the schemas it consists of.
func (d *description) properties(n *document.Node, seen map[*document.Node]bool, variant bool) []property {
	n = d.follow(n)
	if n == nil || seen[n] || n.Kind != document.Map {
		return nil
	}
	seen[n] = true
	required := map[string]bool{}
	for _, r := range itemsOf(n, "required") {
		required[r.Text] = !variant
	}
	var all []property
	add := func(more ...property) {
		for _, p := range more {
			if i := slices.IndexFunc(all, func(q property) bool { return q.name == p.name }); i >= 0 {
				all[i].required = all[i].required || p.required
				continue
			}
			all = append(all, p)
		}
	}
	for _, p := range itemsOf(n, "allOf") {
		add(d.properties(p, seen, variant)...)
	}
	for _, p := range pairsOf(n, "properties") {
		add(property{p.Name.Text, p, required[p.Name.Text]})
	}
	if d.variantsAreObjects(n) {
		for _, v := range d.variants(n) {
			add(d.properties(v, seen, true)...)
		}
	}
	for i := range all {
		all[i].required = all[i].required || required[all[i].name]
	}
	return all
}

// object returns the object of a schema, created once per schema. hint says what it is called where it stands.
func (d *description) object(n *document.Node, name, hint string) *Object {
	n = d.follow(n)
	if o := d.objects[n]; o != nil {
		return o
	}
	unnamed := true
	if tokens := split(n.Pointer()); len(tokens) > 1 && slices.Contains([]string{"schemas", "$defs", "definitions"},
		tokens[len(tokens)-2]) {
		name, unnamed = EntityName(tokens[len(tokens)-1]), false
		hint = name
	}
	o := &Object{Name: Free(name, func(s string) bool { return d.names[s] }), Source: n.Pointer(), unnamed: unnamed,
		hint: hint}
	d.objects[n], d.names[o.Name] = o, true
	d.sketch.Objects = append(d.sketch.Objects, o)
	for _, p := range d.properties(n, map[*document.Node]bool{}, false) {
		m := d.member(p.name, p.node, o.Name+EntityName(p.name))
		m.Optional = !p.required
		o.Members = append(o.Members, m)
	}
	return o
}

func split(pointer string) []string {
	tokens, _ := place.SplitPointer(pointer)
	return tokens
}

// member reads the schema of one value. name is for unnamed objects.
func (d *description) member(member string, n *document.Node, name string) *Member {
	return d.nested(member, n, name, 0)
}

// nested is member, inside of so many arrays.
func (d *description) nested(member string, n *document.Node, name string, depth int) *Member {
	m := &Member{Name: member}
	said := n
	for range longestChain { // wrappers with one part: nullable references and the like
		m.Note = firstOf(m.Note, oneLine(textOf(said, "description")))
		m.ReadOnly = m.ReadOnly || textOf(said, "readOnly") == "true"
		m.WriteOnly = m.WriteOnly || textOf(said, "writeOnly") == "true"
		m.Form.Nullable = m.Form.Nullable || textOf(said, "nullable") == "true" || d.allowsNull(said)
		next := d.follow(said)
		if next == said && next != nil && next.Get("properties") == nil {
			if parts := append(d.telling(itemsOf(next, "allOf")), d.variants(next)...); len(parts) == 1 {
				next = parts[0]
			}
		}
		if next == said || next == nil {
			said = next
			break
		}
		said = next
	}
	if said == nil || said.Kind != document.Map {
		m.Open = true
		return m
	}
	if d.isObject(said) {
		hint := name
		if member != "" {
			hint = EntityName(member)
		}
		m.Object = d.object(said, name, hint)
		return m
	}
	switch typeOf(said) {
	case "array":
		inner := said.Get("items")
		if inner == nil || depth > longestChain { // or it is made of itself
			m.Open, m.Form.Type = true, catalog.Array
			return m
		}
		item := d.nested(member, inner, name, depth+1)
		if item.Many {
			m.Open, m.Form.Type = true, catalog.Array
			return m
		}
		m.Object, m.Open = item.Object, item.Open
		nullable := m.Form.Nullable
		m.Form, m.Many = item.Form, true
		m.Form.Nullable = nullable
		return m
	case "object":
		m.Open, m.Form.Type = true, catalog.Object
		return m
	}
	m.Form = d.form(said, m.Form.Nullable)
	m.Open = m.Form.Type == "" && len(m.Form.Values) == 0 && len(d.variants(said)) == 0
	return m
}

// telling removes parts of a schema that only describe it.
func (d *description) telling(parts []*document.Node) []*document.Node {
	return slices.DeleteFunc(slices.Clone(parts), func(p *document.Node) bool {
		return p.Kind == document.Map && !slices.ContainsFunc(p.Pairs, func(k *document.Node) bool {
			return slices.Contains([]string{"$ref", "properties", "allOf", "oneOf", "anyOf", "type", "enum", "const",
				"items", "required", "format"}, k.Name.Text)
		})
	})
}

// someOf lists the first few names.
func someOf(names []string) string {
	const most = 8
	if more := len(names) - most; more > 0 {
		return strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", more)
	}
	return strings.Join(names, ", ")
}

func firstOf(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// allowsNull reports whether a schema permits null.
func (d *description) allowsNull(n *document.Node) bool {
	if n == nil || n.Kind != document.Map {
		return false
	}
	for _, t := range itemsOf(n, "type") {
		if t.Text == "null" || t.Kind == document.Null {
			return true
		}
	}
	for _, v := range append(itemsOf(n, "oneOf"), itemsOf(n, "anyOf")...) {
		if textOf(d.follow(v), "type") == "null" {
			return true
		}
	}
	return slices.ContainsFunc(itemsOf(n, "enum"), func(v *document.Node) bool { return v.Kind == document.Null })
}

// typeOf returns a schema's type besides null, if there is exactly one.
func typeOf(n *document.Node) string {
	t := n.Get("type")
	if t == nil {
		if n.Get("items") != nil {
			return "array"
		}
		return ""
	}
	if t.Kind != document.List {
		return t.Text
	}
	found := ""
	for _, one := range t.Items {
		switch {
		case one.Text == "null" || one.Kind == document.Null:
		case found != "":
			return ""
		default:
			found = one.Text
		}
	}
	return found
}

func (d *description) form(n *document.Node, nullable bool) catalog.Form {
	f := catalog.Form{Nullable: nullable}
	if t := typeOf(n); slices.Contains(catalog.TypeNames(), t) {
		f.Type = catalog.Type(t)
	}
	if format := textOf(n, "format"); slices.Contains(formats, format) {
		f.Format = format
	}
	if most, err := strconv.Atoi(textOf(n, "maxLength")); err == nil && most > 0 {
		f.Max = most
	}
	for _, v := range itemsOf(n, "enum") {
		if v.Kind != document.Map && v.Kind != document.List && v.Kind != document.Null {
			f.Values = append(f.Values, v.JSON())
		}
	}
	if c := n.Get("const"); c != nil && c.Kind != document.Map && c.Kind != document.List {
		f.Values = []string{c.JSON()}
	}
	if t := f.Type; t == "" && len(f.Values) == 0 {
		f.Type = d.shared(n, map[*document.Node]bool{})
	}
	return f
}

// shared returns the type that the variants of a schema share, if any. A variant that was met before adds nothing.
func (d *description) shared(n *document.Node, met map[*document.Node]bool) (t catalog.Type) {
	met[n] = true
	first := true
	for _, v := range d.variants(n) {
		if v = d.follow(v); met[v] {
			continue
		}
		one := catalog.Type(typeOf(v))
		if !slices.Contains(catalog.TypeNames(), string(one)) {
			one = d.shared(v, met)
		}
		if !first && one != t {
			return ""
		}
		t, first = one, false
	}
	return t
}

// formats lists the formats that values are checked against, and those that name what a value is.
var formats = []string{"date", "date-time", "time", "email", "uuid", "uri", "ipv4", "ipv6", "phone", "iban", "password",
	"byte", "binary"}

func textOf(n *document.Node, key string) string {
	if n == nil || n.Kind != document.Map {
		return ""
	}
	v := n.Get(key)
	if v == nil || v.Kind == document.Map || v.Kind == document.List {
		return ""
	}
	return v.Text
}

func itemsOf(n *document.Node, key string) []*document.Node {
	if n == nil || n.Kind != document.Map {
		return nil
	}
	if v := n.Get(key); v != nil && v.Kind == document.List {
		return v.Items
	}
	return nil
}

func pairsOf(n *document.Node, key string) []*document.Node {
	if n == nil || n.Kind != document.Map {
		return nil
	}
	if v := n.Get(key); v != nil && v.Kind == document.Map {
		return v.Pairs
	}
	return nil
}
