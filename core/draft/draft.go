// Package draft writes first contracts from what bodies look like, according to an API description or recorded
// traffic, from an entity, or from another endpoint.
//
// A draft grants what is exposed today, except sensitive fields and fields that cannot be classified; these are
// left out, with a question.
package draft

import (
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"sort"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/document"
	"inkret/core/observe"
	"inkret/core/revise"
	"inkret/core/schema"
)

// Draft is a contract file and its open questions.
type Draft struct {
	Text      string
	Service   string
	Endpoints int
	Entities  int
	Questions []Question // that are open, most important first
	Answered  int        // how many were answered before
	Audiences []string   // from least to most trusted
	Fields    []Classed  // what is done with each
	Schemas   []Schema   // files that belong beside it
}

// Options add what the sketch does not say.
type Options struct {
	Service string           // its name; made of the sketch's title or server when empty
	Callers []observe.Caller // audiences that traffic tells of
	From    string           // what it was drafted from, for the first line
	Answers Answers          // to questions that were asked before
}

// writer writes one draft.
type writer struct {
	sketch    *schema.Sketch
	answers   Answers
	answered  int
	questions []Question
	classes   map[*schema.Member]detect.Suggestion
	decided   map[*schema.Member]decision // of entities
	bodies    []*schema.Object            // what bodies have: entities and variants
	component map[*schema.Object]int      // strongly connected component
	shapes    map[*schema.Object]string
	schemas   []Schema
}

// Write drafts a contract file. The result is always valid. With the same sketch and more answers, it asks less.
func Write(sketch *schema.Sketch, o Options) *Draft {
	sortOperations(sketch)
	w := &writer{sketch: sketch, answers: o.Answers, classes: map[*schema.Member]detect.Suggestion{},
		decided: map[*schema.Member]decision{}, shapes: map[*schema.Object]string{}, bodies: bodiesOf(sketch)}
	w.component = components(w.bodies)
	w.decide()
	root := document.Mapping()
	root.Set("inkret", document.Count(contract.Version))
	service := o.Service
	if service == "" {
		service = serviceName(sketch)
	}
	root.Set("service", document.Text(service))
	if servers := usable(sketch.Servers); len(servers) > 0 {
		root.Set("servers", document.Texts(servers...))
	}
	callers := o.Callers
	if len(callers) == 0 {
		callers = []observe.Caller{{Name: observe.Anyone, Recognise: contract.Recognise{None: true}},
			{Name: observe.SignedIn}}
	}
	audiences := &document.Value{Kind: document.List, Block: true}
	var names []string
	for _, c := range callers {
		audiences.Add(audience(c))
		names = append(names, c.Name)
	}
	root.Set("audiences", audiences)
	if tellers := w.tellers(); len(tellers.Items) > 0 {
		root.Set("callers", tellers)
	}
	root.Set("entities", w.entities())
	if shapes := w.allShapes(); len(shapes.Items) > 0 {
		root.Set("shapes", shapes)
	}
	errors := w.errors()
	root.Set("responses", (&document.Value{Kind: document.List, Block: true}).Add(document.Mapping().Set("statuses",
		document.Texts("4XX", "5XX")).Set("grants", errors)))
	endpoints := w.endpoints(callers)
	w.graphs(endpoints, callers)
	root.Set("endpoints", endpoints)

	head := "# A first contract, drafted by Inkret"
	if o.From != "" {
		head += " from " + comment(o.From)
	}
	head += ".\n"
	if n := len(w.questions); n > 0 {
		head += fmt.Sprintf("# %s below, each above the first field it is about: class it, and grant it "+
			"where it is needed.\n", plural(n, "question"))
	}
	return &Draft{Text: head + string(root.Append(nil, 0)), Service: service, Endpoints: len(endpoints.Items),
		Entities: len(sketch.Objects), Questions: sorted(w.questions), Answered: w.answered, Audiences: names,
		Fields: w.classed(), Schemas: w.schemas}
}

// errors writes what error bodies may say: plain members that do not tell of anything sensitive, and, swept, their
// parts.
func (w *writer) errors() *document.Value {
	errors := document.Mapping()
	maybe := func(g *document.Value) *document.Value {
		return g.Set("nullable", document.Truth(true)).Set("optional", document.Truth(true))
	}
	for _, name := range w.sketch.Errors {
		if s := detect.Suggest("", name, detect.Evidence{}); s.Class < catalog.Internal || !detect.Kept(name) &&
			s.Class < catalog.Personal {
			errors.Set(name, maybe(document.Mapping()))
		}
	}
	for _, name := range w.sketch.ErrorParts {
		errors.Set(name, maybe(document.Mapping().Set("open", document.Truth(true))))
	}
	if len(errors.Items) == 0 {
		for _, name := range []string{"title", "detail"} {
			errors.Set(name, document.Mapping().Set("type", document.Text("string")).Set("optional",
				document.Truth(true)))
		}
	}
	return errors
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// comment makes foreign text fit into one comment line.
func comment(s string) string {
	return strings.Join(strings.FieldsFunc(s, func(r rune) bool {
		return r < ' ' || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 || r == 0xFEFF
	}), " ")
}

func sortOperations(s *schema.Sketch) {
	sort.SliceStable(s.Operations, func(i, k int) bool {
		a, b := s.Operations[i], s.Operations[k]
		return a.Path < b.Path || a.Path == b.Path && a.Method < b.Method
	})
}

var notInName = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

func serviceName(s *schema.Sketch) string {
	name := s.Title
	if name == "" && len(s.Servers) > 0 {
		if server, err := contract.ParseServer(s.Servers[0]); err == nil && !bare(server.Host) {
			name = strings.TrimPrefix(strings.TrimSuffix(server.Host, ".example"), "api.")
		}
	}
	if name = strings.Trim(strings.ToLower(notInName.ReplaceAllString(name, "-")), "-._"); name == "" {
		return "service"
	}
	return name
}

// bare reports whether a host has no name: it is an address, or this machine.
func bare(host string) bool {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	_, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err == nil || host == "localhost"
}

// usable returns the servers that a contract can name.
func usable(servers []string) []string {
	var all []string
	for _, s := range servers {
		if _, err := contract.ParseServer(s); err == nil && !slices.Contains(all, s) {
			all = append(all, s)
		}
	}
	const most = 8
	return all[:min(len(all), most)]
}

func audience(c observe.Caller) *document.Value {
	v := document.Mapping()
	v.Set("name", document.Text(c.Name))
	pair := func(kind string, m *contract.Match, value string) *document.Value {
		return v.Set("recognise", document.Mapping().Set(kind, document.Mapping().Set("name",
			document.Text(m.Name)).Set("value", document.Text(value))))
	}
	switch r := c.Recognise; {
	case r.None:
		return v.Set("recognise", document.Mapping().Set("credentials", document.Text("none")))
	case r.Claim != nil:
		return pair("claim", r.Claim, r.Claim.Values[0])
	case r.Cookie != nil:
		return pair("cookie", r.Cookie, "*")
	case r.Header != nil:
		return pair("header", r.Header, "*")
	case c.Name == observe.SignedIn:
		return pair("header", &contract.Match{Name: "Authorization"}, "*")
	}
	return v // recordings say it
}

// tellers writes who makes requests, as traffic shows it, and asks.
func (w *writer) tellers() *document.Value {
	all := &document.Value{Kind: document.List, Block: true}
	for _, t := range w.sketch.Tellers {
		v := document.Mapping()
		if t.Claim != "" {
			v.Set("claim", document.Text(t.Claim))
		} else {
			v.Set("told_by", document.Text(t.ToldBy)).Set("at", document.Text(t.At))
		}
		above, goes := w.confirm(Question{ID: strings.TrimSpace("caller " + t.Claim + t.ToldBy + " " + t.At),
			Text: "is this who makes a request? then `own: true` at a grant or response limits it to their own " +
				"records"})
		if v.Above = above; goes {
			all.Add(v)
		}
	}
	return all
}

// suggest classifies a member, once.
func (w *writer) suggest(o *schema.Object, m *schema.Member) detect.Suggestion {
	if s, ok := w.classes[m]; ok {
		return s
	}
	note := m.Note
	s := detect.Suggest(o.Name, m.Name, detect.Evidence{Note: note, Form: m.Form, Detector: m.Observed.Detector,
		Class: m.Observed.Class})
	w.classes[m] = s
	return s
}

// entities writes the entities with their classes, and the questions above their fields.
func (w *writer) entities() *document.Value {
	all := &document.Value{Kind: document.Map, Block: true}
	for _, o := range w.sketch.Objects {
		fields, relations := &document.Value{Kind: document.Map, Block: true}, &document.Value{Kind: document.Map,
			Block: true}
		for _, m := range o.Members {
			if m.Object != nil {
				v := document.Mapping().Set("entity", document.Text(m.Object.Entity().Name))
				if m.Many {
					v.Set("many", document.Truth(true))
				}
				relations.Set(m.Name, v)
				continue
			}
			v, d := form(m), w.decided[m]
			if v.Above = d.above; d.class != catalog.Unclassed {
				v.Set("class", document.Text(d.class.String()))
			}
			if m.Note != "" {
				v.Set("note", document.Text(comment(clip(m.Note))))
			}
			fields.Set(m.Name, v)
		}
		e := &document.Value{Kind: document.Map, Block: true}
		if o.Seen > 0 {
			e.Above = fmt.Sprintf("seen %s at %s, which agree to %d%%", times(o.Seen), plural(o.Places, "place"),
				o.Sure)
		}
		if o.Owner != "" {
			v := document.Text(o.Owner)
			above, goes := w.confirm(Question{ID: "owner of " + o.Name + ": " + o.Owner, Entity: o.Name, Field: o.Owner,
				Text: "does this say whose record it is? what stands there is who made requests"})
			if v.Above = above; goes {
				e.Set("owner", v)
			}
		}
		if o.Stored != "" {
			e.Set("stored_as", document.Text(o.Stored))
		}
		if len(fields.Items) > 0 {
			e.Set("fields", fields)
		}
		if len(relations.Items) > 0 {
			e.Set("relations", relations)
		}
		all.Set(o.Name, e)
	}
	return all
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

func clip(s string) string {
	const most = 160
	if r := []rune(s); len(r) > most {
		return string(r[:most]) + "…"
	}
	return s
}

func form(m *schema.Member) *document.Value { return revise.Form(formOf(m)) }

func formOf(m *schema.Member) catalog.Form {
	f := m.Form
	if m.Many {
		f.Type = catalog.Array
	}
	return f
}

func nothingOr(g *document.Value) *document.Value {
	if len(g.Items) == 0 {
		return document.Nothing()
	}
	return g
}

func (w *writer) endpoints(callers []observe.Caller) *document.Value {
	all := &document.Value{Kind: document.List, Block: true}
	met := map[string]bool{}
	for _, op := range w.sketch.Operations {
		text := op.Method + " " + endpointPath(op.Path)
		key, ok := contract.Template(text)
		if !ok || met[key] {
			continue
		}
		met[key] = true
		e := &document.Value{Kind: document.Map, Block: true}
		e.Set("endpoint", document.Text(text))
		responses := &document.Value{Kind: document.List, Block: true}
		for _, status := range statuses(op) {
			for _, r := range w.responses(op, status, callers) {
				responses.Add(r)
			}
		}
		if len(responses.Items) > 0 {
			e.Set("responses", responses)
		}
		for _, take := range op.Takes {
			if take.Object != nil {
				entry := document.Mapping().Set("entity", document.Text(take.Object.Entity().Name))
				if take.At != "" {
					entry.Set("at", document.Text(take.At))
				}
				if take.Many {
					entry.Set("many", document.Truth(true))
				}
				entry.Set("grants", w.accepted(take.Object, take.Sent, 0))
				e.Set("accepts", (&document.Value{Kind: document.List, Block: true}).Add((&answered{
					Content: take}).beside(entry, nil)))
			}
		}
		all.Add(e)
	}
	return all
}

var (
	parameters  = regexp.MustCompile(`\{[^{}/]*\}`)
	notParam    = regexp.MustCompile(`[^A-Za-z0-9_]+`)
	pathUnclean = regexp.MustCompile(`(?s)[?#].*$`)
	unwritten   = regexp.MustCompile(`[{}\x00-\x20\x7f]`)
)

// endpointPath converts a path to a valid template: its parameters have names of their own, and braces that are
// none are escaped.
func endpointPath(path string) string {
	path = "/" + strings.Trim(pathUnclean.ReplaceAllString(path, ""), "/")
	var b strings.Builder
	n, last, taken := 0, 0, map[string]bool{}
	for _, m := range parameters.FindAllStringIndex(path, -1) {
		n++
		name := strings.Trim(notParam.ReplaceAllString(path[m[0]:m[1]], "_"), "_")
		if name == "" || name[0] >= '0' && name[0] <= '9' || taken[name] {
			name = fmt.Sprintf("p%d", n)
		}
		taken[name] = true
		b.WriteString(escapeBraces(path[last:m[0]]) + "{" + name + "}")
		last = m[1]
	}
	return b.String() + escapeBraces(path[last:])
}

// escapeBraces writes a part of a path that has no parameter so that a template can have it.
func escapeBraces(part string) string {
	return unwritten.ReplaceAllStringFunc(part, url.PathEscape)
}

var statusText = regexp.MustCompile(`^([1-5]\d\d|[1-5]XX|default)$`)

func statuses(op *schema.Operation) []string {
	var all []string
	for _, a := range op.Answers {
		if statusText.MatchString(a.Status) && !slices.Contains(all, a.Status) && !a.IsError() {
			all = append(all, a.Status)
		}
	}
	return all
}

// answered is what an operation answers with one status, to audiences to whom it answers alike.
type answered struct {
	audiences []string
	schema.Content
}

// answersOf groups an operation's answers with a status by what is in them. What is in no body, as in an empty
// list, goes with the first group in the same envelope.
func answersOf(op *schema.Operation, status string) (all []*answered) {
	add := func(a *schema.Answer, fits func(*answered) bool) {
		i := slices.IndexFunc(all, fits)
		if i < 0 {
			i, all = len(all), append(all, &answered{Content: a.Content})
		}
		all[i].Nullable = all[i].Nullable || a.Nullable
		for _, name := range a.Beside {
			if !slices.Contains(all[i].Beside, name) {
				all[i].Beside = append(slices.Clone(all[i].Beside), name)
			}
		}
		if a.Audience != "" && !slices.Contains(all[i].audiences, a.Audience) {
			all[i].audiences = append(all[i].audiences, a.Audience)
		}
	}
	for _, hollow := range []bool{false, true} {
		for i := range op.Answers {
			a := &op.Answers[i]
			switch {
			case a.Status != status || (a.Object == nil) != hollow:
			case hollow:
				add(a, func(b *answered) bool { return b.At == a.At && b.Many == a.Many })
			default:
				add(a, func(b *answered) bool {
					return b.Object == a.Object && b.At == a.At && b.Many == a.Many && slices.Equal(b.Beside, a.Beside)
				})
			}
		}
	}
	return all
}

// frame writes a response with all but what it grants of its entity. audiences says how many there are.
func (a *answered) frame(status string, audiences int, entity string) *document.Value {
	r := document.Mapping()
	if len(a.audiences) > 0 && len(a.audiences) < audiences {
		r.Set("audiences", document.Texts(a.audiences...))
	}
	code := &document.Value{Kind: document.Number, Text: status}
	if strings.Contains(status, "X") {
		code = document.Text(status)
	}
	r.Set("statuses", (&document.Value{Kind: document.List}).Add(code))
	if entity != "" {
		r.Set("entity", document.Text(entity))
	}
	if a.At != "" {
		r.Set("at", document.Text(a.At))
	}
	if a.Many {
		r.Set("many", document.Truth(true))
	}
	if a.Nullable {
		r.Set("nullable", document.Truth(true))
	}
	if a.Object == nil {
		return a.beside(r.Set("grants", document.Mapping()), nil)
	}
	return r
}

// beside writes that an envelope's other members are open, save resources of several types, which have shapes.
func (a *answered) beside(r *document.Value, shapes map[*schema.Object]string) *document.Value {
	beside := document.Mapping()
	for _, name := range a.Beside {
		if name != schema.IncludedName || len(a.Included) == 0 || shapes == nil {
			beside.Set(name, document.Mapping().Set("open", document.Truth(true)))
			continue
		}
		types := &document.Value{Kind: document.List, Block: true}
		for _, t := range a.Included {
			types.Add(document.Mapping().Set("when", document.Mapping().Set("type", document.Text(t.Type))).Set("shape",
				document.Text(shapes[t.Object])))
		}
		beside.Set(name, document.Mapping().Set("many", document.Truth(true)).Set("one_of", types))
	}
	if len(beside.Items) > 0 {
		r.Set("beside", beside)
	}
	return r
}

// responses writes what an operation answers with one status.
func (w *writer) responses(op *schema.Operation, status string, callers []observe.Caller) (all []*document.Value) {
	for _, a := range answersOf(op, status) {
		if len(a.audiences) == 0 && op.Signed {
			a.audiences = []string{observe.SignedIn}
		}
		if a.Object == nil {
			all = append(all, a.frame(status, len(callers), ""))
			continue
		}
		r := a.frame(status, len(callers), a.Object.Entity().Name)
		all = append(all, a.beside(r.Set("shape", document.Text(w.shapes[a.Object])), w.shapes))
	}
	return all
}

// setByServer lists names of fields that only the server sets.
var setByServer = regexp.MustCompile(`(?i)^(id|uuid|_id|(created|updated|modified|deleted|inserted)([_-]?(at|on|by|date|time))?)$`)

// maxDepth bounds how deep what was sent is gone into.
const maxDepth = 20

// accepted writes what clients may send of an object.
func (w *writer) accepted(o *schema.Object, sent []string, depth int) *document.Value {
	deepest := 2
	below := func(*schema.Object) []string { return nil }
	if sent != nil { // it was observed, so all that is in it was sent, however deep
		deepest = maxDepth
		below = func(o *schema.Object) (names []string) {
			for _, m := range o.Members {
				names = append(names, m.Name)
			}
			return append(names, "")
		}
	}
	all := &document.Value{Kind: document.Map, Block: depth == 0}
	for _, m := range o.Members {
		if sent != nil && !slices.Contains(sent, m.Name) {
			continue
		}
		if m.ReadOnly || sent == nil && setByServer.MatchString(m.Name) {
			continue
		}
		g := document.Mapping()
		switch {
		case m.Group != nil:
			g.Set("grants", w.accepted(m.Group, below(m.Group), depth+1))
		case m.Object != nil && depth < deepest:
			g.Set("grants", w.accepted(m.Object, below(m.Object), depth+1))
			if m.Form.Nullable {
				g.Set("nullable", document.Truth(true))
			}
		case m.Object != nil:
			continue
		case m.Many && !m.Open:
			g.Set("many", document.Truth(true))
		case m.Open || m.Form.Type == catalog.Object || m.Form.Type == catalog.Array:
			g.Set("open", document.Truth(true))
		}
		w.under(g, m)
		if m.Object == nil && m.Group == nil && w.decided[m.Of()].class == catalog.Secret {
			g.Set("reason", document.Text("the client sends it"))
		}
		if m.Optional {
			g.Set("optional", document.Truth(true))
		}
		all.Set(m.Name, nothingOr(g))
	}
	if len(all.Items) == 0 {
		return document.Mapping()
	}
	return all
}
