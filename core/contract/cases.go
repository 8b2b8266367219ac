package contract

import (
	"fmt"
	"sort"
	"strconv"
	"strings"
)

// Case is one situation in which an endpoint responds: conditions, a status and an audience, with the response that
// applies. Without a response, nothing is granted.
type Case struct {
	When     string // the responses' name, or their conditions in words; empty for none
	Status   string // as the contract writes it
	Audience *Audience
	Choice   Choice

	code int
}

// Callers returns the audiences, or one unnamed audience that stands for everybody if the contracts define none.
func (c *Contracts) Callers() []*Audience {
	if len(c.Audiences) == 0 {
		return []*Audience{{}}
	}
	return c.Audiences
}

// Everywhere returns the shared responses, which apply to every endpoint, as an endpoint.
func (c *Contracts) Everywhere() *Endpoint {
	return &Endpoint{Text: "every endpoint", Responses: c.Responses, all: c}
}

// Contracts returns the contracts that the endpoint belongs to.
func (e *Endpoint) Contracts() *Contracts { return e.all }

// Cases lists all situations that the endpoint's own responses distinguish.
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

// sameWhen reports whether an earlier response has the same conditions as the i-th.
func (e *Endpoint) sameWhen(i int) bool {
	for _, r := range e.Responses[:i] {
		if equalConditions(r.When, e.Responses[i].When) {
			return true
		}
	}
	return false
}

// example returns a status code that only this entry of statuses matches.
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

// PlanOf compiles the grants of a case; nil if nothing is granted.
func (e *Endpoint) PlanOf(c Case) *Plan {
	if c.Choice.Response == nil {
		return nil
	}
	return e.Plan(c.Choice, c.code)
}

// AcceptCase compiles what an audience may send, ignoring conditions on the request; nil if requests are not
// evaluated.
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

// Title returns the display name of a case: its status and condition.
func (c Case) Title() string {
	if c.When == "" {
		return c.Status
	}
	return fmt.Sprintf("%s [%s]", c.Status, c.When)
}

// Has reports whether the set contains an audience.
func (s Set) Has(a *Audience) bool { return s.has(a.Index) }

// ShapeName returns the name of the shape that a grant uses, or the empty string.
func (g *Grant) ShapeName() string {
	if g.shape == nil {
		return ""
	}
	return g.shape.Name
}

// ShapeName returns the name of the shape that a response uses, or the empty string.
func (r *Response) ShapeName() string {
	if r.shape == nil {
		return ""
	}
	return r.shape.Name
}

// Alternatives returns the shapes of a grant's one_of.
func (g *Grant) Alternatives() []*Shape {
	var all []*Shape
	for _, a := range g.oneOf {
		all = append(all, a.shape)
	}
	return all
}

// Way reports whether the grant stands for a member on the way of a response's `at`, in the envelope.
func (g *Grant) Way() bool { return g.way }

// Fits returns the members and values (as JSON texts) that select an alternative of one_of, by its index.
func (g *Grant) Fits(alternative int) map[string]string { return g.oneOf[alternative].when }

// Own returns the grants written at the grant itself, without those of its shape.
func (g *Grant) Own() *GrantSet { return g.own }

// For lists the audiences of the response by name.
func (r *Response) For(c *Contracts) []string {
	var names []string
	for _, a := range c.Audiences {
		if r.Audiences.has(a.Index) {
			names = append(names, a.Name)
		}
	}
	return names
}

// Own returns the grants written at the response itself, without those of its shape.
func (r *Response) Own() *GrantSet { return r.own }

// Template returns the endpoint without parameter names. Endpoints with equal templates receive the same requests.
func (e *Endpoint) Template() string { return e.normalised() }

// Fields lists the header fields that recognise an audience, besides those that always carry credentials.
func (r Recognise) Fields() (names []string) {
	if r.Header != nil {
		names = append(names, r.Header.Name)
	}
	if r.Claim != nil && r.Claim.FromHeader != "" {
		names = append(names, r.Claim.FromHeader)
	}
	return names
}

// Words describes how an audience is recognised.
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

// Path returns the endpoint's path as written, with {p+} as {p}.
func (e *Endpoint) Path() string {
	_, path, _ := strings.Cut(e.Text, " ")
	return strings.ReplaceAll(path, "+}", "}")
}

// ParameterNames lists the path parameters.
func (e *Endpoint) ParameterNames() []string {
	var all []string
	for _, s := range e.Segments {
		all = append(all, s.params...)
	}
	return all
}

// URL returns a server's address.
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

// Behind returns the entity and field whose value a grant carries unchanged. Both are empty if there is none.
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
