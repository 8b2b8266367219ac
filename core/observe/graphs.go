package observe

import (
	"bytes"
	"maps"
	"slices"
	"strings"

	"inkret/core/exchange"
	"inkret/core/graph"
	"inkret/core/schema"
)

// Endpoints that answer GraphQL are learnt by what their requests ask for: the types are in their schema, not in the
// bodies.

// mostAsked limits the different requests of which is kept what they ask for.
const mostAsked = 5000

// asked is a request for something, once for all like it.
type asked struct {
	path, audience string
	request        exchange.Request
}

// graphs are the endpoints that answer GraphQL.
type graphs struct {
	asked []asked
	met   map[string]bool
	types map[string][]byte // results of introspection, by path
}

// asks notes a request for something in GraphQL. It reports whether it is one.
func (o *Observer) asks(c *exchange.Capture, path, audience string) bool {
	r := &c.Request
	media := r.Header.Get("Content-Type")
	if !graph.Asks(r.Method, r.URL, media, r.Body) || !isResult(c) {
		return false
	}
	g := &o.graphs
	if g.met == nil {
		g.met, g.types = map[string]bool{}, map[string][]byte{}
	}
	if g.types[path] == nil && bytes.Contains(c.Response.Body, []byte(`"__schema"`)) && graph.Is(c.Response.Body) {
		g.types[path] = bytes.Clone(c.Response.Body)
	}
	outline := graph.Outline(r.Method, r.URL, media, r.Body)
	key := path + "\n" + audience + "\n" + string(outline)
	if outline == nil || g.met[key] || len(g.asked) >= mostAsked {
		return true
	}
	g.met[key] = true
	g.asked = append(g.asked, asked{path, audience, exchange.Request{Method: "POST", URL: r.URL, Body: outline}})
	return true
}

// isResult reports whether a response looks like the result of a query.
func isResult(c *exchange.Capture) bool {
	body := bytes.TrimSpace(c.Response.Body)
	return exchange.Streams(c.Response.Header.Get("Content-Type")) || len(body) > 0 && (body[0] == '{' ||
		body[0] == '[') &&
		(bytes.Contains(body, []byte(`"data"`)) || bytes.Contains(body, []byte(`"errors"`)))
}

// Graphs lists the endpoints that answer GraphQL, by their paths, with what was asked for. types, which may be nil, is
// the schema of those that did not tell their own.
func (o *Observer) Graphs(types *schema.Graph) (all []schema.Graph) {
	paths := map[string]bool{}
	for _, a := range o.graphs.asked {
		paths[a.path] = true
	}
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		g := schema.Graph{Path: path}
		if types != nil {
			g.File, g.Text = types.File, types.Text
		} else if told := o.graphs.types[path]; told != nil {
			g.File, g.Text = strings.Trim(strings.ReplaceAll(path, "/", "-"), "-")+".schema.json", string(told)
		}
		s := g.Schema()
		by := map[string]*schema.AskedBy{}
		var order []string
		for _, a := range o.graphs.asked {
			if a.path != path {
				continue
			}
			if by[a.audience] == nil {
				by[a.audience] = &schema.AskedBy{Audience: a.audience, Types: map[string][]string{}}
				order = append(order, a.audience)
			}
			queries, _, err := graph.Ask(s, a.request.Method, a.request.URL, "application/json", a.request.Body)
			if err != nil {
				continue
			}
			for _, q := range queries {
				q.Data.Each(func(typeName, field string) { by[a.audience].Add(s, typeName, field) })
			}
		}
		slices.Sort(order)
		for _, name := range order {
			if one := by[name]; len(one.Operations) > 0 {
				g.Asked = append(g.Asked, *one)
			}
		}
		all = append(all, g)
	}
	return all
}

// Join adds what traffic showed of endpoints that answer GraphQL to a sketch, which may have their schema.
func (o *Observer) Join(s *schema.Sketch) {
	var types *schema.Graph
	if len(s.Graphs) > 0 {
		types = &s.Graphs[0]
	}
	all := o.Graphs(types)
	if len(all) == 0 {
		return
	}
	s.Graphs = all
	for _, g := range all {
		switch {
		case types != nil:
		case g.Text == "":
			s.Notes = append(s.Notes, "POST "+g.Path+
				" answers GraphQL, and nothing here tells its schema: until there is one, "+
				"objects are known only where they say their type")
		default:
			described, err := schema.DescribeGraph(g.File, []byte(g.Text))
			if err != nil {
				continue
			}
			for _, one := range described.Objects {
				if s.Object(one.Name) == nil {
					s.Objects = append(s.Objects, one)
				}
			}
		}
	}
}

// answersGraphs reports whether an endpoint is one that answers GraphQL: requests of which it cannot be told what they
// ask for belong to it, too.
func (o *Observer) answersGraphs(e found) bool {
	return (e.method == "POST" || e.method == "GET") && slices.ContainsFunc(o.graphs.asked, func(a asked) bool {
		return a.path == endpointOf(e.path)
	})
}
