package draft

import (
	"fmt"
	"slices"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/document"
	"inkret/core/schema"
)

// FromEntity drafts an endpoint that returns an entity: public and internal fields are granted, relations as
// references.
func FromEntity(c *contract.Contracts, endpoint, entity string, many bool) (*document.Value, []Question, error) {
	e := c.Catalog.Entity(entity)
	if e == nil {
		return nil, nil, fmt.Errorf("there is no entity %q", entity)
	}
	var questions []Question
	grants := &document.Value{Kind: document.Map, Block: true}
	for _, f := range e.Fields {
		if q := left(e, f); q != nil {
			questions = append(questions, *q)
			continue
		}
		grants.Set(f.Name, plainGrant(f, false))
	}
	for _, r := range e.Relations {
		if id := reference(c.Catalog.Entity(r.Entity)); id != "" {
			grants.Set(r.Name, document.Mapping().Set("reference", document.Text(id)))
		}
	}
	response := document.Mapping().Set("statuses",
		(&document.Value{Kind: document.List}).Add(document.Count(200))).Set("entity", document.Text(entity))
	if many {
		response.Set("many", document.Truth(true))
	}
	response.Set("grants", grants)
	return entry(endpoint, response), questions, nil
}

func entry(endpoint string, responses ...*document.Value) *document.Value {
	list := &document.Value{Kind: document.List, Block: true}
	for _, r := range responses {
		list.Add(r)
	}
	return (&document.Value{Kind: document.Map, Block: true}).Set("endpoint", document.Text(endpoint)).Set("responses",
		list)
}

// left returns the question about a field that a draft does not grant.
func left(e *catalog.Entity, f *catalog.Field) *Question {
	switch f.Class {
	case catalog.Unclassed:
		return askAbout(e.Name, f.Name, "which class? left out until it has one")
	case catalog.Personal, catalog.Secret:
		return askAbout(e.Name, f.Name, fmt.Sprintf("who may see it? it is %s; left out", f.Class))
	case catalog.Internal:
		if detect.Kept(f.Name) {
			return askAbout(e.Name, f.Name, "who may see it? it is internal, and its name says so; left out")
		}
	}
	return nil
}

// askAbout asks about one field.
func askAbout(entity, field, text string) *Question {
	return &Question{ID: strings.TrimSpace("field " + entity + " " + field), Entity: entity, Field: field, Text: text}
}

func plainGrant(f *catalog.Field, optional bool) *document.Value {
	g := document.Mapping()
	switch f.Type {
	case catalog.Object:
		g.Set("open", document.Truth(true))
	case catalog.Array:
		g.Set("many", document.Truth(true))
	}
	if optional {
		g.Set("optional", document.Truth(true))
	}
	return nothingOr(g)
}

func reference(e *catalog.Entity) string {
	if e == nil {
		return ""
	}
	for _, name := range []string{"id", "uuid", "key", "code", "slug"} {
		if f := e.Field(name); f != nil && f.Class.Judged() <= catalog.Internal && f.Type != catalog.Object &&
			f.Type != catalog.Array {
			return name
		}
	}
	return ""
}

// FromEndpoint drafts an endpoint like another one, whose entry is n.
func FromEndpoint(n *document.Node, endpoint string) *document.Value {
	v := document.ValueOf(n)
	v.Block = true
	v.Set("endpoint", document.Text(endpoint))
	return v
}

// FromOperation drafts an endpoint as it was observed or described, with a contract's existing entities.
func FromOperation(c *contract.Contracts, op *schema.Operation) (*document.Value, []Question) {
	w := &matcher{contracts: c}
	var responses []*document.Value
	for _, status := range statuses(op) {
		for _, a := range answersOf(op, status) {
			if a.Object == nil {
				responses = append(responses, a.frame(status, len(c.Audiences), ""))
				continue
			}
			e, entity := w.entity(a.Object), ""
			if e != nil {
				entity = e.Name
			}
			r := a.frame(status, len(c.Audiences), entity)
			responses = append(responses, a.beside(r.Set("grants", w.grants(e, a.Object, 0)), nil))
		}
	}
	return entry(op.Method+" "+op.Path, responses...), w.questions
}

// matcher matches observed objects with a contract's entities.
type matcher struct {
	contracts *contract.Contracts
	questions []Question
	on        []*schema.Object // being gone into
}

// entity returns the entity that most members of an object belong to, if at least half do.
func (w *matcher) entity(o *schema.Object) *catalog.Entity {
	var best *catalog.Entity
	most := 0
	for _, e := range w.contracts.Catalog.Entities {
		known := 0
		for _, m := range o.Flat() {
			if f, r := e.Lookup(m.Name); f != nil || r != nil {
				known += 2
			}
		}
		if strings.EqualFold(e.Name, o.Name) {
			known++
		}
		if known > most {
			best, most = e, known
		}
	}
	if most < len(o.Flat()) {
		return nil
	}
	return best
}

func (w *matcher) grants(e *catalog.Entity, o *schema.Object, depth int) *document.Value {
	const deepest = 3
	all := &document.Value{Kind: document.Map, Block: true}
	if e == nil {
		w.questions = append(w.questions,
			*askAbout("", o.Name, "which entity is this? none of the catalogue has most of its members"))
		return document.Mapping()
	}
	w.on = append(w.on, o)
	defer func() { w.on = w.on[:len(w.on)-1] }()
	for _, m := range o.Members {
		f, r := e.Lookup(m.Name)
		switch {
		case m.Group != nil:
			g := document.Mapping().Set("grants", w.grants(e, m.Group, depth))
			if m.Optional {
				g.Set("optional", document.Truth(true))
			}
			all.Set(m.Name, g)
		case f != nil:
			if q := left(e, f); q != nil {
				w.questions = append(w.questions, *q)
				continue
			}
			g := plainGrant(f, m.Optional)
			if f.Name != m.Name && g.Kind == document.Null {
				g = document.Text(f.Name)
			} else if f.Name != m.Name {
				g.Set("field", document.Text(f.Name))
			}
			all.Set(m.Name, g)
		case r != nil:
			g := document.Mapping()
			if r.Name != m.Name {
				g.Set("relation", document.Text(r.Name))
			}
			target := w.contracts.Catalog.Entity(r.Entity)
			switch id := reference(target); {
			case m.Object != nil && depth < deepest && !slices.Contains(w.on, m.Object):
				g.Set("grants", w.grants(target, m.Object, depth+1))
			case id != "":
				g.Set("reference", document.Text(id))
			default:
				continue
			}
			if m.Optional {
				g.Set("optional", document.Truth(true))
			}
			all.Set(m.Name, g)
		default:
			w.questions = append(w.questions,
				*askAbout(e.Name, m.Name, "what is it? the catalogue has no such field; left out"))
		}
	}
	if len(all.Items) == 0 {
		return document.Mapping()
	}
	return all
}
