package contract

import (
	"encoding/json"
	"net/url"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/document"
	"inkret/core/exchange"
	"inkret/core/place"
)

// Whose records there are: who makes a request beyond the audience, and whose a record is.

// Teller is one way to tell who makes a request, beyond the audience.
type Teller struct {
	Claim  *Match
	Header string
	Cookie string
	ToldBy string   // the endpoint whose answer says who holds the request's credentials
	At     []string // the reference tokens of the place there
	Pos    Pos
}

// Text says in a word what tells it. Tellers with the same text tell the same.
func (t *Teller) Text() string {
	switch {
	case t.Claim != nil && t.Claim.FromCookie != "":
		return "claim " + t.Claim.Name + " in the cookie " + t.Claim.FromCookie
	case t.Claim != nil && t.Claim.FromHeader != "":
		return "claim " + t.Claim.Name + " in the header " + t.Claim.FromHeader
	case t.Claim != nil:
		return "claim " + t.Claim.Name
	case t.Header != "":
		return "header " + t.Header
	case t.Cookie != "":
		return "cookie " + t.Cookie
	}
	return t.ToldBy + " at " + place.Path(t.At)
}

// Fields lists the header fields that tell it, besides those that always carry credentials.
func (t *Teller) Fields() (names []string) {
	if t.Header != "" {
		names = append(names, t.Header)
	}
	if t.Claim != nil && t.Claim.FromHeader != "" {
		names = append(names, t.Claim.FromHeader)
	}
	return names
}

// of returns who makes a request, by the request alone.
func (t *Teller) of(r *exchange.Request) string {
	switch {
	case t.Claim != nil:
		for _, token := range t.Claim.tokens(r) {
			if text, ok := scalarText(claimAt(tokenClaims(token), t.Claim.Name)); ok && text != "" {
				return text
			}
		}
	case t.Header != "":
		text, _ := r.Header.Find(t.Header)
		return strings.TrimSpace(text)
	case t.Cookie != "":
		text, _ := r.Header.Cookie(t.Cookie)
		return strings.Trim(text, `"`)
	}
	return ""
}

// Who returns who makes a request: what its tellers say, in their order. known maps credentials, as
// [Contracts.Credentials] gives them, to who holds them; it is asked where a response tells.
func (c *Contracts) Who(r *exchange.Request, known func(credentials string) (string, bool)) (who string, ok bool) {
	credentials := ""
	for _, t := range c.Tellers {
		if t.ToldBy == "" {
			if who := t.of(r); who != "" {
				return who, true
			}
			continue
		}
		if credentials == "" {
			credentials = c.Credentials(r)
		}
		if who, ok := known(credentials); ok && credentials != "" {
			return who, true
		}
	}
	return "", false
}

// Credentials returns what a request is made with: the Authorization field, else the fields by which audiences are
// recognised and the cookies. It is empty for a request without any.
func (c *Contracts) Credentials(r *exchange.Request) string {
	if text, ok := r.Header.Find("Authorization"); ok && strings.TrimSpace(text) != "" {
		return "authorization " + strings.TrimSpace(text)
	}
	var all []string
	names := []string{"Cookie", "X-Api-Key"}
	for _, a := range c.Audiences {
		names = append(names, a.Recognise.Fields()...)
	}
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		if text, ok := r.Header.Find(name); ok && strings.TrimSpace(text) != "" {
			all = append(all, strings.ToLower(name)+" "+strings.TrimSpace(text))
		}
	}
	return strings.Join(all, "\n")
}

// Tells returns who a response says holds the credentials of its request, if it is one that says so: its status is
// 2XX, and its body is JSON.
func (c *Contracts) Tells(cap *exchange.Capture) (who string, ok bool) {
	if c == nil || c.told == nil || cap.Request.URL == nil || cap.Response.Status < 200 || cap.Response.Status > 299 {
		return "", false
	}
	segments, ours := c.Serves(cap.Request.URL)
	if !ours {
		return "", false
	}
	plain := make([]string, len(segments))
	for i, s := range segments {
		plain[i] = unescape(s)
	}
	e := c.told.find(cap.Request.Method, plain)
	if e == nil {
		return "", false
	}
	for _, t := range c.Tellers {
		if t.ToldBy == e.Text {
			if who, ok := textAt(cap.Response.Body, t.At); ok {
				return who, true
			}
		}
	}
	return "", false
}

// textAt returns the scalar at a place of a JSON text.
func textAt(body []byte, at []string) (string, bool) {
	raw := json.RawMessage(body)
	for _, token := range at {
		var object map[string]json.RawMessage
		if json.Unmarshal(raw, &object) != nil {
			return "", false
		}
		raw = object[token]
	}
	text, ok := scalarText(raw)
	return text, ok && text != ""
}

// PathOwner returns whose record is answered, where the response's contract takes that from the request's path.
func (c *Contracts) PathOwner(e *Endpoint, r *Response, u *url.URL) string {
	if r == nil || r.PathOwner == "" || u == nil {
		return ""
	}
	segments, _ := c.Serves(u)
	for i, s := range segments {
		segments[i], _, _ = strings.Cut(s, ";")
	}
	for _, p := range e.Parameters(segments) {
		if p.Name == r.PathOwner {
			return p.Value
		}
	}
	return ""
}

// Ownership says how it is told whose the records of an object are.
type Ownership struct {
	Entity *catalog.Entity
	Path   bool // the request's path says so if the record does not
	Whole  bool // all of a record is the caller's own business, not some members alone
	Names  map[string]Owning

	Gravest catalog.Class // of all that is granted in a record
}

// Owning is what a member says of a record's owner.
type Owning struct {
	Is bool            // it says so
	In *catalog.Entity // it holds a record whose owner it is; nil for a value
}

// Owns returns what a member of a record says of its owner.
func (o *Ownership) Owns(name []byte) Owning {
	if how, known := o.Names[string(name)]; known {
		return how
	}
	return ownerIn(o.Entity, string(name))
}

// ownerIn returns what a member of a record of an entity says of its owner.
func ownerIn(e *catalog.Entity, name string) Owning {
	if e == nil || e.Owner == "" {
		return Owning{}
	}
	field, relation := e.Lookup(name)
	switch {
	case field != nil && field.Name == e.Owner:
		return Owning{Is: true}
	case relation != nil && relation.Name == e.Owner:
		return Owning{Is: true, In: e.OwnerOf}
	}
	return Owning{}
}

// OwnerIn is [Ownership.Owns] for a record inside of the one that it is asked for.
func OwnerIn(e *catalog.Entity, name []byte) Owning { return ownerIn(e, string(name)) }

// ByPath stands in [Ownership.Ways] for the request's path.
const ByPath = "path"

// Ways lists how the owner is told: by a field or relation, written Entity.name, and by the request's path.
func (o *Ownership) Ways() (ways []string) {
	if o.Entity != nil && o.Entity.Owner != "" {
		ways = append(ways, o.Entity.Name+"."+o.Entity.Owner)
	}
	if o.Path {
		ways = append(ways, ByPath)
	}
	return ways
}

// OwnerWays lists how owners of records that are limited to the caller's own may be told; nil if nothing is limited.
func (c *Contracts) OwnerWays() (ways []string) {
	limited, byPath := false, false
	set := func(s *GrantSet) {
		if s != nil {
			limited = limited || slices.ContainsFunc(s.Grants,
				func(g *Grant) bool { return g.anyLimited(map[*GrantSet]bool{}) })
		}
	}
	for _, e := range append(slices.Clone(c.Endpoints), c.Everywhere()) {
		for _, r := range e.Responses {
			limited, byPath = limited || r.Limited, byPath || r.PathOwner != ""
			set(r.Body)
			set(r.Beside)
		}
	}
	if !limited {
		return nil
	}
	for _, e := range c.Catalog.Entities {
		if e.Owner != "" {
			ways = append(ways, e.Name+"."+e.Owner)
		}
	}
	if byPath {
		ways = append(ways, ByPath)
	}
	return ways
}

// anyLimited reports whether a grant, or one inside of it, is limited to the caller's own records.
func (g *Grant) anyLimited(above map[*GrantSet]bool) bool {
	if g.Limited {
		return true
	}
	inside := func(s *GrantSet) bool {
		if s == nil || above[s] {
			return false
		}
		above[s] = true
		return slices.ContainsFunc(s.Grants, func(g *Grant) bool { return g.anyLimited(above) })
	}
	return inside(g.Members()) || slices.ContainsFunc(g.oneOf, func(a alternative) bool { return inside(a.shape.Body) })
}

// ownership returns how it is told whose the records of an object are, nil if nothing in it is limited to the caller's
// own.
func (c *compiler) ownership(o *Object) *Ownership {
	owns := &Ownership{Entity: o.Entity, Whole: c.limits != nil && o.Entity == c.limits,
		Path: c.pathOwner && o.Entity == c.entity}
	limited := owns.Whole
	for _, m := range o.Members {
		limited = limited || m.Limited && !m.Foreign
		if !m.Foreign {
			owns.Gravest = max(owns.Gravest, m.Gravest)
		}
		if o.Entity == nil || o.Entity.Owner == "" || m.Grant.Owner != o.Entity {
			continue
		}
		g := m.Grant
		direct := g.Source == FromField && g.Field != nil && g.Field.Name == o.Entity.Owner
		related := g.Relation != nil && g.Relation.Name == o.Entity.Owner
		if owns.Names == nil && (direct || related) {
			owns.Names = map[string]Owning{}
		}
		switch {
		case direct:
			owns.Names[m.Name] = Owning{Is: true}
		case related:
			owns.Names[m.Name] = Owning{Is: true, In: o.Entity.OwnerOf}
		}
	}
	if !limited {
		return nil
	}
	return owns
}

func (r *reader) tellers(nodes []*document.Node) {
	var told []*Endpoint
	for _, n := range nodes {
		for _, item := range r.list(n) {
			if t := r.teller(item); t != nil {
				r.c.Tellers = append(r.c.Tellers, t)
				if t.ToldBy != "" {
					e := &Endpoint{Text: t.ToldBy, Pos: t.Pos, all: r.c}
					if r.template(e, item.Get("told_by")) {
						told = append(told, e)
					}
				}
			}
		}
	}
	if len(told) > 0 {
		r.c.told = buildRoutes(told)
	}
}

// teller reads one way to tell who makes a request.
func (r *reader) teller(n *document.Node) *Teller {
	if !r.keys(n, []string{"claim", "header", "cookie", "told_by", "at"}) {
		return nil
	}
	t, said := &Teller{Pos: n.Pos()}, 0
	for _, k := range []string{"claim", "header", "cookie", "told_by"} {
		if n.Get(k) != nil {
			said++
		}
	}
	if said != 1 {
		r.report(n, "one of claim, header, cookie and told_by", "it says %d ways to tell who makes a request", said)
		return nil
	}
	if c := n.Get("claim"); c != nil {
		if c.Kind != document.Map {
			t.Claim = &Match{Name: r.text(c), Values: []string{"*"}}
		} else if r.keys(c, []string{"name", "from"}) {
			t.Claim = &Match{Name: r.required(c, "name"), Values: []string{"*"}}
			if from := c.Get("from"); from != nil {
				r.claimFrom(from, t.Claim)
			}
		}
		if t.Claim == nil || t.Claim.Name == "" {
			return nil
		}
	}
	if h := n.Get("header"); h != nil {
		t.Header = r.text(h)
	}
	if c := n.Get("cookie"); c != nil {
		t.Cookie = r.text(c)
	}
	if e := n.Get("told_by"); e != nil {
		t.ToldBy = r.text(e)
	}
	at := n.Get("at")
	switch {
	case at == nil && t.ToldBy != "":
		r.report(n, "`at:`, such as /data/id", "it does not say where the answer tells who it is")
	case at != nil && t.ToldBy == "":
		r.report(at, "told_by with it", "`at` is a place in an answer, and no endpoint is named that answers")
	case at != nil:
		tokens, ok := place.Tokens(r.text(at))
		if !ok || slices.Contains(tokens, everyElement) {
			r.report(at, "the JSON Pointer of one value, such as /data/id", "%q is none", at.Text)
		}
		t.At = tokens
	}
	return t
}

// owner reads which field or relation of an entity says whose its records are.
func (r *reader) owner(e *catalog.Entity, n *document.Node) {
	name := r.text(n)
	if name == "" {
		return
	}
	relation := e.Relation(name)
	switch {
	case relation != nil:
		e.OwnerOf = r.c.Catalog.Entity(relation.Entity)
	case e.Field(name) == nil:
		r.unknown(n, "field or relation of "+e.Name, name, e.Names())
		return
	}
	e.Owner = name
}

// pathOwner reads which parameter of the path says whose a response's records are.
func (r *reader) pathOwner(resp *Response, n *document.Node) {
	if n == nil || !r.keys(n, []string{"path"}) {
		return
	}
	if resp.PathOwner = r.required(n, "path"); resp.Entity == nil && resp.PathOwner != "" {
		r.report(n, "`entity:` beside it", "an owner is named, and no entity whose records they could own")
	}
}

// pathOwners checks that the parameters that name owners are those of the endpoint's path.
func (r *reader) pathOwners(e *Endpoint) {
	var known []string
	for _, s := range e.Segments {
		known = append(known, s.params...)
	}
	for _, resp := range e.Responses {
		if resp.PathOwner != "" && !slices.Contains(known, resp.PathOwner) && len(e.Segments) > 0 {
			r.unknown(resp.where.Get("owner").Get("path"), "parameter of "+e.Text, resp.PathOwner, known)
		}
	}
}

// owned checks that whatever is limited to the caller's own records is of a record that somebody owns.
func (r *reader) owned() {
	fine, met := map[*Grant]bool{}, map[*Grant]*catalog.Entity{}
	var order []*Grant
	var visit func(set *GrantSet, path *catalog.Entity, above map[*GrantSet]bool)
	visit = func(set *GrantSet, path *catalog.Entity, above map[*GrantSet]bool) {
		if set == nil || above[set] {
			return
		}
		above[set] = true
		for _, g := range set.Grants {
			if g.Limited {
				if met[g] == nil {
					order = append(order, g)
				}
				met[g] = g.Owner
				fine[g] = fine[g] || g.Owner != nil && (g.Owner.Owner != "" || g.Owner == path)
			}
			visit(g.Members(), path, above)
			for _, a := range g.oneOf {
				visit(a.shape.Body, path, above)
			}
		}
		delete(above, set)
	}
	lists := [][]*Response{r.c.Responses}
	for _, e := range r.c.Endpoints {
		lists = append(lists, e.Responses)
	}
	for _, all := range lists {
		for _, resp := range all {
			var path *catalog.Entity
			if resp.PathOwner != "" {
				path = resp.Entity
			}
			if resp.Limited && (resp.Entity == nil || resp.Entity.Owner == "" && path == nil) {
				r.report(resp.where.Get("own"), ownerWanted(resp.Entity)+", or `owner: {path: NAME}` beside `entity`",
					"the response is limited to the caller's own records, and nothing says whose a record is")
			}
			visit(resp.Body, path, map[*GrantSet]bool{})
			visit(resp.Beside, path, map[*GrantSet]bool{})
		}
	}
	for _, s := range r.c.Shapes {
		visit(s.Body, nil, map[*GrantSet]bool{})
	}
	for _, g := range order {
		if !fine[g] {
			r.report(r.c.nodes[g].Get("own"), ownerWanted(met[g]),
				"%q is limited to the caller's own records, and nothing says whose a record is", g.Name)
		}
	}
}

func ownerWanted(e *catalog.Entity) string {
	if e == nil {
		return "an `entity` that has an owner"
	}
	return "`owner:` with a field or relation at the entity " + e.Name
}
