package contract

import (
	"fmt"
	"sort"
	"strconv"
	"strings"
)

// Case is one situation in which an endpoint answers: conditions, a status and an
// audience, with the response that judges it. A case without one grants nothing.
type Case struct {
	When     string // the responses' name, or their conditions in words; empty for none
	Status   string // as the contract writes it
	Audience *Audience
	Choice   Choice

	code int
}

// Callers are the audiences; where the contracts name none, one without a name that
// everybody is.
func (c *Contracts) Callers() []*Audience {
	if len(c.Audiences) == 0 {
		return []*Audience{{}}
	}
	return c.Audiences
}

// Everywhere is the responses that hold at every endpoint, as an endpoint.
func (c *Contracts) Everywhere() *Endpoint {
	return &Endpoint{Text: "every endpoint", Responses: c.Responses, all: c}
}

// Contracts are those that the endpoint is of.
func (e *Endpoint) Contracts() *Contracts { return e.all }

// Cases lists every situation that the endpoint's own responses tell apart.
func (e *Endpoint) Cases() []Case {
	var all []Case
	codes := map[string]int{}
	var statuses []string
	for _, r := range e.Responses {
		for _, s := range r.Statuses {
			if _, met := codes[s]; !met {
				statuses = append(statuses, s)
				codes[s] = 0
			}
		}
	}
	for s := range codes {
		codes[s] = example(s, codes)
	}
	for i, lead := range e.Responses {
		if e.sameWhen(i) {
			continue
		}
		var fits []*Response
		for _, r := range e.Responses {
			if len(r.When) == 0 || equalConditions(r.When, lead.When) {
				fits = append(fits, r)
			}
		}
		for _, s := range statuses {
			for _, a := range e.all.Callers() {
				c := Case{When: lead.whenWords(), Status: s, Audience: a, code: codes[s]}
				r, entry := best(fits, a, c.code)
				if entry != s {
					r = nil
				}
				if r != nil && len(lead.When) > 0 && len(r.When) == 0 {
					continue // the case without conditions is the same
				}
				c.Choice = Choice{Response: r, Status: s, For: a}
				all = append(all, c)
			}
		}
	}
	return all
}

// sameWhen tells whether a response before the i-th has the same conditions.
func (e *Endpoint) sameWhen(i int) bool {
	for _, r := range e.Responses[:i] {
		if equalConditions(r.When, e.Responses[i].When) {
			return true
		}
	}
	return false
}

// example is a code for which an entry of statuses decides and no other does.
func example(entry string, entries map[string]int) int {
	first, last := 200, 599
	if code, err := strconv.Atoi(entry); err == nil {
		return code
	}
	if entry != "default" {
		first = int(entry[0]-'0') * 100
		last = first + 99
	}
	for code := last; code >= first; code-- {
		if _, named := entries[strconv.Itoa(code)]; named {
			continue
		}
		if _, named := entries[strconv.Itoa(code/100)+"XX"]; named && entry == "default" {
			continue
		}
		return code
	}
	return last
}

func (r *Response) whenWords() string {
	if r.Name != "" || len(r.When) == 0 {
		return r.Name
	}
	var parts []string
	for _, c := range r.When {
		parts = append(parts, strings.TrimSpace(c.in+" "+c.name)+" "+strings.Join(c.values, "|"))
	}
	sort.Strings(parts)
	return strings.Join(parts, ", ")
}

// PlanOf compiles what a case grants; nil where it grants nothing.
func (e *Endpoint) PlanOf(c Case) *Plan {
	if c.Choice.Response == nil {
		return nil
	}
	return e.Plan(c.Choice, c.code)
}

// AcceptCase compiles what an audience may send, conditions on the request left
// aside; nil where requests are not judged.
func (e *Endpoint) AcceptCase(a *Audience) *Plan {
	if !e.Judges {
		return nil
	}
	var chosen *Response
	for _, r := range e.Accepts {
		if r.Audiences.has(a.Index) && (chosen == nil || r.Named && !chosen.Named) {
			chosen = r
		}
	}
	if chosen == nil {
		chosen = &nothing
	}
	return compile(chosen, nil, a.Index)
}

// Title names a case for people: its status and, where there is one, its condition.
func (c Case) Title() string {
	if c.When == "" {
		return c.Status
	}
	return fmt.Sprintf("%s [%s]", c.Status, c.When)
}

// Has reports whether an audience is in the set.
func (s Set) Has(a *Audience) bool { return s.has(a.Index) }

// ShapeName is the shape that a grant refers to, or the empty string.
func (g *Grant) ShapeName() string {
	if g.shape == nil {
		return ""
	}
	return g.shape.Name
}

// ShapeName is the shape that a response refers to, or the empty string.
func (r *Response) ShapeName() string {
	if r.shape == nil {
		return ""
	}
	return r.shape.Name
}

// Alternatives are the shapes of a grant's one_of.
func (g *Grant) Alternatives() []*Shape {
	var all []*Shape
	for _, a := range g.oneOf {
		all = append(all, a.shape)
	}
	return all
}

// Way reports whether the grant is of a member on the way of a response's `at`, in its envelope.
func (g *Grant) Way() bool { return g.way }

// Fits gives the members with the JSON texts of the values by which an alternative of the grant is told, by its index.
func (g *Grant) Fits(alternative int) map[string]string { return g.oneOf[alternative].when }

// Own is the grants that are written at the grant itself, without its shape's.
func (g *Grant) Own() *GrantSet { return g.own }

// For lists the audiences that the response holds for, by name.
func (r *Response) For(c *Contracts) []string {
	var names []string
	for _, a := range c.Audiences {
		if r.Audiences.has(a.Index) {
			names = append(names, a.Name)
		}
	}
	return names
}

// Own is the grants that are written at the response itself, without its shape's.
func (r *Response) Own() *GrantSet { return r.own }

// Template is the endpoint without its parameters' names: equal for endpoints that
// the same requests go to.
func (e *Endpoint) Template() string { return e.normalised() }

// Fields are the header fields, besides those that carry credentials whatever they hold, by which an audience
// is recognised.
func (r Recognise) Fields() (names []string) {
	if r.Header != nil {
		names = append(names, r.Header.Name)
	}
	if r.Claim != nil && r.Claim.FromHeader != "" {
		names = append(names, r.Claim.FromHeader)
	}
	return names
}

// Words says in words how an audience is recognised.
func (r Recognise) Words() string {
	var parts []string
	if r.None {
		parts = append(parts, "no credentials")
	}
	for _, m := range []struct {
		what string
		*Match
	}{{"claim", r.Claim}, {"header", r.Header}, {"cookie", r.Cookie}} {
		if m.Match != nil {
			words := m.what + " " + m.Name + " " + strings.Join(m.Values, "|")
			if m.FromCookie != "" {
				words += " in the cookie " + m.FromCookie
			} else if m.FromHeader != "" {
				words += " in the header " + m.FromHeader
			}
			parts = append(parts, words)
		}
	}
	if len(parts) == 0 {
		return "nothing"
	}
	return strings.Join(parts, " and ")
}

// Path is the endpoint's path as it is written, with {p+} as {p}.
func (e *Endpoint) Path() string {
	_, path, _ := strings.Cut(e.Text, " ")
	return strings.ReplaceAll(path, "+}", "}")
}

// ParameterNames lists the names of the path's parameters.
func (e *Endpoint) ParameterNames() []string {
	var all []string
	for _, s := range e.Segments {
		all = append(all, s.params...)
	}
	return all
}

// URL writes a server's address.
func (s Server) URL() string {
	host := s.Host
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	if s.Scheme == "https" && s.Port != "443" || s.Scheme == "http" && s.Port != "80" {
		host += ":" + s.Port
	}
	url := s.Scheme + "://" + host
	if len(s.Path) > 0 {
		url += "/" + strings.Join(s.Path, "/")
	}
	return url
}

// Behind gives the entity and the field whose value a grant carries as it is; both
// are empty where there is none.
func (g *Grant) Behind() (entity, field string) {
	switch {
	case g.Field == nil || g.Source != FromField && !g.Reference:
		return "", ""
	case g.Reference:
		return g.Relation.Entity, g.Field.Name
	case g.Owner != nil:
		return g.Owner.Name, g.Field.Name
	}
	return "", g.Field.Name
}
