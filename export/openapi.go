package export

import (
	"sort"
	"strings"

	"inkret/core/contract"
	"inkret/core/document"
)

// OpenAPI exports a service as one OpenAPI 3.1 document. If audiences get different things at one status, their
// schemas are in anyOf, each with `x-inkret-audiences`.
func OpenAPI(c *contract.Contracts) []byte {
	s := newSchemas(c, nil, "#/components/schemas/", false)
	s.names = componentNames(c)
	operations := operationNames(c)
	called := map[string]string{} // the path of each template, as the first endpoint writes it
	root := document.Mapping().Set("openapi", text("3.1.0"))
	root.Set("info", document.Mapping().Set("title", text(c.Service)).Set("version", text("contract")).
		Set("description", text("Written by Inkret from the contracts of "+c.Service+
			": what each endpoint may expose.")))
	if len(c.Servers) > 0 {
		servers := &document.Value{Kind: document.List}
		for _, server := range c.Servers {
			servers.Add(document.Mapping().Set("url", text(server.URL())))
		}
		root.Set("servers", servers)
	}
	paths := document.Mapping()
	for _, e := range c.Endpoints {
		_, template, _ := strings.Cut(e.Template(), "/")
		if called[template] == "" {
			called[template] = e.Path()
		}
		path := called[template]
		item := paths.Get(path)
		if item == nil {
			item = document.Mapping()
			if names := e.ParameterNames(); len(names) > 0 {
				parameters := &document.Value{Kind: document.List}
				for _, name := range names {
					parameters.Add(document.Mapping().Set("name", text(name)).Set("in", text("path")).Set("required",
						document.Truth(true)).
						Set("schema", document.Mapping().Set("type", document.Texts("string", "number", "boolean"))))
				}
				item.Set("parameters", parameters)
			}
			paths.Set(path, item)
		}
		method := strings.ToLower(e.Method)
		if method == "query" { // no operation of OpenAPI 3.1 is called so
			method = "x-query"
		}
		item.Set(method, operation(s, e, operations[e.Text]))
	}
	root.Set("paths", paths)
	if defs := s.definitions(); len(defs.Items) > 0 {
		root.Set("components", document.Mapping().Set("schemas", defs))
	}
	return JSON(root)
}

func operation(s *schemas, e *contract.Endpoint, name string) *document.Value {
	op := document.Mapping()
	if e.Team != "" {
		op.Set("tags", document.Texts(e.Team))
	}
	op.Set("operationId", text(name))
	responses := document.Mapping()
	for _, status := range statusesOf(e) {
		var bodies []*document.Value
		var who []string
		for _, r := range e.Responses {
			if !hasStatus(r, status) {
				continue
			}
			v := s.response(r)
			if names := s.all.Names(r.Audiences); names != nil && r.Named {
				who = append(who, names...)
				if v.Get("$ref") == nil {
					v.Set("x-inkret-audiences", document.Texts(names...))
				}
			}
			bodies = append(bodies, v)
		}
		response := document.Mapping().Set("description", text(describe(who)))
		schema := bodies[0]
		if len(bodies) > 1 {
			any := &document.Value{Kind: document.List}
			for _, b := range bodies {
				any.Add(b)
			}
			schema = document.Mapping().Set("anyOf", any)
		}
		if status != "204" && status != "304" {
			response.Set("content", document.Mapping().Set("application/json", document.Mapping().Set("schema",
				schema)))
		}
		responses.Set(status, response)
	}
	if len(responses.Items) == 0 {
		responses.Set("default", document.Mapping().Set("description", text("nothing is contracted")))
	}
	if len(e.Accepts) > 0 {
		any := &document.Value{Kind: document.List}
		for _, a := range e.Accepts {
			any.Add(s.response(a))
		}
		schema := any.Items[0]
		if len(any.Items) > 1 {
			schema = document.Mapping().Set("anyOf", any)
		}
		op.Set("requestBody", document.Mapping().Set("content", document.Mapping().Set("application/json",
			document.Mapping().Set("schema", schema))))
	}
	return op.Set("responses", responses)
}

func describe(audiences []string) string {
	if len(audiences) == 0 {
		return "for everybody"
	}
	return "for " + strings.Join(audiences, ", ")
}

// statusesOf lists an endpoint's statuses as OpenAPI writes them.
func statusesOf(e *contract.Endpoint) []string {
	met := map[string]bool{}
	var all []string
	for _, r := range e.Responses {
		for _, s := range r.Statuses {
			if !met[s] {
				met[s] = true
				all = append(all, s)
			}
		}
	}
	sort.Strings(all)
	return all
}

func hasStatus(r *contract.Response, status string) bool {
	for _, s := range r.Statuses {
		if s == status {
			return true
		}
	}
	return false
}
