// Package advice reviews valid contracts for weaknesses that a careful reader would point out, and says how to fix
// each.
package advice

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exposure"
)

// Advice is one point to consider.
type Advice struct {
	contract.Pos
	Code     string   `json:"code"`
	Weight   Weight   `json:"weight"`
	Endpoint string   `json:"endpoint,omitempty"`
	About    string   `json:"about"` // a member, field, shape or response
	Text     string   `json:"text"`
	Mend     string   `json:"mend"`
	Also     []string `json:"also,omitempty"` // other places that take part in it
}

// Weight is how important an [Advice] is.
type Weight string

const (
	Serious Weight = "serious"
	Worth   Weight = "worth a look"
	Minor   Weight = "minor"
)

// Codes of advice.
const (
	SecretGranted   = "secret-granted"
	NoField         = "no-field"
	NeverChosen     = "never-chosen"
	Disagreement    = "disagreement"
	AcceptsServers  = "accepts-server-set"
	UnusedShape     = "unused-shape"
	NobodyNeeds     = "nobody-needs"
	NotSeen         = "not-seen"
	UnclassedField  = "unclassed-field"
	ReadWriteCopied = "write-copies-read"
	NotOwn          = "not-own"
	NobodyAsks      = "nobody-asks"
)

// Traffic reports what captures have shown; nil if there is no traffic.
type Traffic struct {
	// Shown reports whether a recent capture showed a field at an endpoint to an audience.
	Shown func(endpoint, audience, entity, field string) bool
	// Captured reports whether the endpoint was captured with the audience.
	Captured func(endpoint, audience string) bool
}

// On returns advice on contracts, in the order of the files.
func On(c *contract.Contracts, traffic *Traffic) []Advice {
	a := &adviser{c: c, uses: map[string]bool{}, told: map[string]bool{}}
	for _, e := range append(slices.Clone(c.Endpoints), c.Everywhere()) {
		a.endpoint(e)
		a.anybodys(e)
		if traffic != nil {
			a.unseen(e, traffic)
		}
	}
	for _, s := range c.Shapes {
		a.set(s.Body, "", false)
	}
	for _, s := range c.Shapes {
		if !a.uses[s.Name] {
			a.add(Advice{Pos: s.Pos, Code: UnusedShape, Weight: Minor, About: "shape " + s.Name,
				Text: "no response and no other shape uses it",
				Mend: "use it, or take it out"})
		}
	}
	a.disagreements()
	a.nobodyAsks()
	for _, e := range c.Catalog.Entities {
		for _, f := range e.Fields {
			if f.Class == catalog.Unclassed {
				a.add(Advice{Pos: c.Place(f), Code: UnclassedField, Weight: Worth, About: e.Name + "." + f.Name,
					Text: "has no class, and is judged as internal until it has one",
					Mend: "class it: public, internal, personal or secret"})
			}
		}
	}
	sort.SliceStable(a.all, func(i, k int) bool {
		x, y := a.all[i], a.all[k]
		if x.File != y.File {
			return x.File < y.File
		}
		return x.Line < y.Line
	})
	return a.all
}

type adviser struct {
	c    *contract.Contracts
	all  []Advice
	uses map[string]bool
	told map[string]bool
}

// add adds advice once per place.
func (a *adviser) add(one Advice) {
	key := one.Code + one.About + one.Pos.String()
	if !a.told[key] {
		a.told[key] = true
		a.all = append(a.all, one)
	}
}

func (a *adviser) endpoint(e *contract.Endpoint) {
	chosen := map[*contract.Response]bool{}
	for _, c := range e.Cases() {
		chosen[c.Choice.Response] = true
	}
	for _, r := range e.Responses {
		a.response(r)
		if !chosen[r] {
			a.add(Advice{Pos: r.Pos, Code: NeverChosen, Weight: Worth, Endpoint: e.Text, About: "response " +
				strings.Join(r.Statuses, ", "),
				Text: "no request can come to it: other responses stand before it for every audience and status " +
					"it names",
				Mend: "name other audiences or statuses, add a `when`, or take it out"})
		}
		a.set(r.Own(), e.Text, false)
		a.set(r.Beside, e.Text, false)
	}
	for _, r := range e.Accepts {
		a.response(r)
		a.set(r.Own(), e.Text, true)
		a.serverSet(e, r)
	}
}

func (a *adviser) response(r *contract.Response) {
	if s := r.ShapeName(); s != "" {
		a.uses[s] = true
	}
}

// set reviews grants as they are written.
func (a *adviser) set(s *contract.GrantSet, endpoint string, accepts bool) {
	if s == nil {
		return
	}
	for _, g := range s.Grants {
		if name := g.ShapeName(); name != "" {
			a.uses[name] = true
		}
		for _, alt := range g.Alternatives() {
			a.uses[alt.Name] = true
		}
		a.set(g.Own(), endpoint, accepts)
		if accepts {
			continue
		}
		about := carried(g)
		switch {
		case g.Class == catalog.Secret && g.Reason != "" && detect.HandedOut([]byte(g.Name)): // that is what it is for
		case g.Class == catalog.Secret:
			a.add(Advice{Pos: g.Pos, Code: SecretGranted, Weight: Serious, Endpoint: endpoint, About: about,
				Text: "what is secret goes out: " + orNone(g.Reason),
				Mend: "leave it out, or let a new one be made instead of showing the old"})
		case g.Class == catalog.Personal && len(g.NeededBy) == 0 && g.Source != contract.FromNothing &&
			g.Source != contract.FromGroup:
			a.add(Advice{Pos: g.Pos, Code: NobodyNeeds, Weight: Worth, Endpoint: endpoint, About: about,
				Text: "is personal, and nobody is named as needing it",
				Mend: "say who needs it by `needed_by`, or take the grant out"})
		}
		if s.Entity != nil && g.Source == contract.FromNothing && !g.Open && !g.Keyed && !g.Many {
			a.add(Advice{Pos: g.Pos, Code: NoField, Weight: Minor, Endpoint: endpoint, About: g.Name,
				Text: "carries no field of " + s.Entity.Name + ", so that its value is held against nothing",
				Mend: "say where it comes from: field, derived, external or constant"})
		}
	}
}

func orNone(reason string) string {
	if reason == "" {
		return "no reason is given"
	}
	return reason
}

func carried(g *contract.Grant) string {
	if c := g.Carries(); c != "" && c != g.Name && g.Source == contract.FromField {
		return c
	}
	return g.Name
}

// unsettable lists names of fields that clients must not set, because the server or somebody with other rights does
// (CWE-915).
var unsettable = regexp.MustCompile(`(?i)^(id|uuid|_id|(created|updated|modified|deleted|approved|verified)([_-]?(at|on|by|date|time))?|(is[_-]?)?(admin|superuser|staff)|roles?|permissions?|scopes?|owner([_-]?id)?|balance|(loyalty[_-]?)?tier|password[_-]?hash|version|status[_-]?changed.*)$`)

func (a *adviser) serverSet(e *contract.Endpoint, r *contract.Response) {
	var walk func(s *contract.GrantSet, depth int)
	walk = func(s *contract.GrantSet, depth int) {
		const deepest = 6
		if s == nil || depth > deepest {
			return
		}
		var copied []string
		for _, g := range s.Grants {
			if g.Source == contract.FromField && unsettable.MatchString(g.Field.Name) {
				a.add(Advice{Pos: g.Pos, Code: AcceptsServers, Weight: Serious, Endpoint: e.Text, About: carried(g),
					Text: "a client may send what only the server should set",
					Mend: "take it out of `accepts`; set it on the server"})
			}
			walk(g.Members(), depth+1)
			copied = append(copied, g.Name)
		}
		if depth == 0 && len(copied) > 3 {
			for _, read := range e.Responses {
				if sameNames(read.Body, copied) {
					a.add(Advice{Pos: r.Pos, Code: ReadWriteCopied, Weight: Worth, Endpoint: e.Text, About: "accepts",
						Text: "accepts exactly what the response shows",
						Mend: "write down what a client may set; it is rarely all that it sees",
						Also: []string{read.Pos.String()}})
				}
			}
		}
	}
	walk(r.Body, 0)
}

func sameNames(s *contract.GrantSet, names []string) bool {
	if s == nil || len(s.Grants) != len(names) {
		return false
	}
	return !slices.ContainsFunc(s.Grants, func(g *contract.Grant) bool { return !slices.Contains(names, g.Name) })
}

// disagreements finds list and detail views, and other responses for one entity, that show a field under different
// names, types or formats.
func (a *adviser) disagreements() {
	type place struct {
		g        *contract.Grant
		endpoint string
	}
	type ways struct {
		order []string
		at    map[string][]place
	}
	fields := map[string]*ways{}
	var names []string
	for _, e := range a.c.Endpoints {
		for _, r := range e.Responses {
			if r.Body == nil || r.Body.Entity == nil {
				continue
			}
			for _, g := range r.Body.Grants {
				if g.Source != contract.FromField || g.Owner != r.Body.Entity {
					continue
				}
				field := g.Owner.Name + "." + g.Field.Name
				w := fields[field]
				if w == nil {
					w = &ways{at: map[string][]place{}}
					fields[field] = w
					names = append(names, field)
				}
				form := g.Form
				way := fmt.Sprintf("%s (%s)", g.Name, form.Words())
				if w.at[way] == nil {
					w.order = append(w.order, way)
				}
				w.at[way] = append(w.at[way], place{g, e.Text})
			}
		}
	}
	for _, field := range names {
		w := fields[field]
		if len(w.order) < 2 {
			continue
		}
		sort.SliceStable(w.order, func(i, k int) bool { return len(w.at[w.order[i]]) > len(w.at[w.order[k]]) })
		usual := w.at[w.order[0]]
		for _, way := range w.order[1:] {
			for _, p := range w.at[way] {
				a.add(Advice{Pos: p.g.Pos, Code: Disagreement, Weight: Worth, Endpoint: p.endpoint, About: field,
					Text: fmt.Sprintf("is %s here and %s at %s", way, w.order[0], usual[0].endpoint),
					Mend: "let both use one shape, so that clients find the same under the same name",
					Also: []string{usual[0].g.Pos.String()}})
			}
		}
	}
}

// unseen finds granted fields that no capture showed.
func (a *adviser) unseen(e *contract.Endpoint, t *Traffic) {
	type gap struct {
		x         exposure.Exposure
		audiences []string
	}
	gaps := map[string]*gap{}
	var order []string
	for _, c := range e.Cases() {
		if c.Choice.Response == nil || c.Status[0] != '2' || !t.Captured(e.Text, c.Audience.Name) {
			continue
		}
		all := exposure.Of(e.PlanOf(c))
		paths := make([]string, 0, len(all))
		for path := range all {
			paths = append(paths, path)
		}
		sort.Strings(paths)
		for _, path := range paths {
			x := all[path]
			if x.Field == "" || x.Refers || t.Shown(e.Text, c.Audience.Name, x.Entity, x.Field) {
				continue
			}
			key := x.Entity + "." + x.Field
			if gaps[key] == nil {
				gaps[key] = &gap{x: x}
				order = append(order, key)
			}
			if !slices.Contains(gaps[key].audiences, c.Audience.Name) {
				gaps[key].audiences = append(gaps[key].audiences, c.Audience.Name)
			}
		}
	}
	for _, key := range order {
		g := gaps[key]
		a.add(Advice{Pos: g.x.Grant.Pos, Code: NotSeen, Weight: Minor, Endpoint: e.Text, About: key,
			Text: "is granted to " + strings.Join(g.audiences, ", ") + ", and no capture has shown it lately",
			Mend: "capture the endpoint again, or take the grant out"})
	}
}
