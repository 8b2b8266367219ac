package made

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"inkret/core/exchange"
)

// API is a described API of many resources, with schemas as large descriptions have them: each resource is described
// in full, in short, as nullable and in ways of its own, in parts and in circles; lists come in envelopes; requests
// and small parts have schemas without names.
type API struct {
	Description Tree // OpenAPI 3.0
	Resources   int
	schemas     Tree
	m           *Maker
}

var (
	shipped = []string{"anchor", "barge", "beacon", "berth", "boom", "buoy", "cabin", "cable", "cargo", "chain",
		"chart",
		"compass", "crane", "crate", "deck", "dock", "dredge", "engine", "ferry", "fender", "flag", "fleet", "frame",
		"gangway", "gauge", "hatch", "hawser", "hull", "jetty", "keel", "ladder", "lamp", "lantern", "launch", "ledger",
		"lock", "log", "mast", "mooring", "net", "oar", "paddle", "pallet", "pier", "pilot", "pontoon", "pump", "quay",
		"raft", "ramp", "rig", "rope", "rudder", "sail", "sensor", "shed", "signal", "slip", "spar", "tackle", "tank",
		"tide", "tiller", "tow", "tug", "valve", "voyage", "winch", "wharf", "yard"}
	adjectives = []string{"draft", "upper", "lower", "outer", "nominal", "spare", "planned", "actual", "first", "daily"}
	measures   = []string{"depth", "width", "reach", "load", "angle", "speed", "limit", "share", "count", "grade",
		"side",
		"phase"}
)

// API describes an API of about so many paths.
func (m *Maker) API(paths int) *API {
	a := &API{m: m, schemas: Tree{}}
	routes := Tree{}
	a.schemas["simple-user"] = object(Tree{"id": kind("integer"), "login": kind("string"), "url": uri(),
		"avatar_url": uri(), "name": nullable(kind("string")), "email": nullable(Tree{"type": "string",
			"format": "email"}), "site_admin": kind("boolean")}, "id", "login", "url")
	a.schemas["nullable-simple-user"] = nullable(a.schemas["simple-user"].(Tree))
	a.schemas["public-user"] = Tree{"allOf": []any{to("simple-user"), object(Tree{"bio": nullable(kind("string")),
		"followers": kind("integer"), "created_at": moment()}, "followers")}}
	a.schemas["private-user"] = Tree{"allOf": []any{to("public-user"), object(Tree{"phone": nullable(kind("string")),
		"two_factor": kind("boolean"), "internal_remark": nullable(kind("string"))})}}
	a.schemas["basic-error"] = object(Tree{"message": kind("string"), "documentation_url": uri()})
	for n := 0; len(routes) < paths; n++ {
		name := shipped[n%len(shipped)]
		if n >= len(shipped) {
			name = adjectives[n/len(shipped)%len(adjectives)] + "-" + name
		}
		a.resource(name)
		for path, item := range a.routes(name) {
			routes[path] = item
		}
		a.Resources++
	}
	a.Description = Tree{"openapi": "3.0.3", "info": Tree{"title": "Wide Water", "version": "1"},
		"servers": []any{Tree{"url": "https://api.wide-water.example"}}, "paths": routes,
		"components": Tree{"schemas": a.schemas}}
	return a
}

// resource describes one resource in all its ways.
func (a *API) resource(name string) {
	m, under := a.m, strings.ReplaceAll(name, "-", "_")
	short := Tree{"id": kind("integer"), "node_key": kind("string"), "name": kind("string"), "url": uri(),
		"html_url": uri(), "state": Tree{"type": "string", "enum": []any{"open", "closed"}, "example": "open"}}
	more := Tree{"created_at": moment(), "updated_at": nullable(moment()), "description": nullable(kind("string")),
		"owner": to("simple-user"), "reviewer": to("nullable-simple-user"),
		"permissions": object(Tree{"admin": kind("boolean"), "push": kind("boolean"), "pull": kind("boolean")}, "pull"),
		"topics":      list(kind("string")), "settings": Tree{"type": "object", "additionalProperties": true},
		"parent": Tree{"nullable": true, "allOf": []any{to(name)}}, "children": list(to("minimal-" + name)),
		"_links": object(Tree{"self": object(Tree{"href": uri()}, "href"), "html": object(Tree{"href": uri()}, "href")},
			"self")}
	for range 3 + m.IntN(6) {
		field := one(m, adjectives...) + "_" + one(m, measures...)
		more[field] = one(m, kind("integer"), kind("number"), nullable(kind("string")), kind("boolean"))
	}
	if m.chance(3) {
		more[one(m, "internal_margin", "staff_remark", "access_token", "private_note")] = nullable(kind("string"))
	}
	for range m.IntN(3) {
		other := one(m, shipped...)
		if a.schemas["simple-"+other] != nil {
			more[other] = one(m, to("simple-"+other), to("nullable-simple-"+other), to("minimal-"+other))
		}
	}
	minimal := Tree{"id": kind("integer"), "name": kind("string"), "url": uri()}
	needed := []string{"id", "name", "url"}
	a.schemas["minimal-"+name] = object(minimal, needed...)
	a.schemas["simple-"+name] = object(short, needed...)
	a.schemas["nullable-simple-"+name] = nullable(object(short, needed...))
	a.schemas[name] = Tree{"title": strings.ToUpper(name), "allOf": []any{to("simple-" + name), object(more,
		"created_at", "owner", "permissions", "_links")}}
	full := maps.Clone(more)
	maps.Copy(full, short)
	full[under+"_count"], full["network_count"] = kind("integer"), kind("integer")
	a.schemas["full-"+name] = object(full, "id", "name", "owner")
	a.schemas["webhook-"+name+"-created"] = object(Tree{"action": kind("string"), name: to(name),
		"sender": to("simple-user"), "installation": object(Tree{"id": kind("integer"), "node_key": kind("string")})})
}

// routes describes the paths of a resource.
func (a *API) routes(name string) Tree {
	all, under := Tree{}, strings.ReplaceAll(name, "-", "_")
	base := "/orgs/{org}/" + name + "s"
	item := base + "/{" + under + "_id}"
	body := object(Tree{"name": kind("string"), "description": kind("string"), "state": kind("string"),
		"auto_start": kind("boolean")}, "name")
	wrapped := object(Tree{"total_count": kind("integer"), "items": list(to("minimal-" + name))}, "total_count",
		"items")
	all[base] = Tree{"get": answers("200", wrapped), "post": sent(body, "201", to("full-"+name))}
	all[item] = Tree{"get": answers("200", to("full-"+name)), "patch": sent(body, "200", to(name)),
		"delete": answers("204", nil)}
	all["/"+name+"s"] = Tree{"get": answers("200", list(to("minimal-"+name)))}
	all["/user/"+name+"s"] = Tree{"get": answers("200", list(to(name)))}
	all["/search/"+name+"s"] = Tree{"get": answers("200", object(Tree{"total_count": kind("integer"),
		"incomplete_results": kind("boolean"), "items": list(Tree{"allOf": []any{to("simple-" + name),
			object(Tree{"score": kind("number")}, "score")}})}, "items", "total_count"))}
	all[item+"/reviewers"] = Tree{"get": answers("200", list(to("simple-user"))), "post": sent(object(Tree{
		"reviewers": list(kind("string"))}), "201", to(name))}
	all[item+"/permissions"] = Tree{"get": answers("200", object(Tree{"enabled": kind("boolean"),
		"allowed_actions": kind("string"), "selected_url": uri()}, "enabled")),
		"put": sent(object(Tree{"enabled": kind("boolean"), "allowed_actions": kind("string")}), "204", nil)}
	all[item+"/events"] = Tree{"get": answers("200", list(object(Tree{"id": kind("integer"), "event": kind("string"),
		"actor": to("nullable-simple-user"), "created_at": moment(), "commit_url": nullable(uri())}, "id", "event",
		"created_at")))}
	all[item+"/count"] = Tree{"get": answers("200", object(Tree{"count": kind("integer")}, "count"))}
	all[item+"/lock"] = Tree{"put": sent(object(Tree{"reason": kind("string")}), "200", object(Tree{
		"locked": kind("boolean"), "message": kind("string")}, "locked")), "delete": answers("204", nil)}
	all[item+"/parent"] = Tree{"get": answers("200", nullable(Tree{"allOf": []any{to(name)}}))}
	all[item+"/owner"] = Tree{"get": answers("200", Tree{"oneOf": []any{to("private-user"), to("public-user")}})}
	return all
}

func kind(t string) Tree { return Tree{"type": t, "example": "made up", "description": "A " + t + "."} }
func uri() Tree {
	return Tree{"type": "string", "format": "uri", "example": "https://wide-water.example/1"}
}
func moment() Tree      { return Tree{"type": "string", "format": "date-time"} }
func list(of Tree) Tree { return Tree{"type": "array", "items": of} }
func to(name string) Tree {
	return Tree{"$ref": "#/components/schemas/" + name}
}

func nullable(of Tree) Tree {
	of = maps.Clone(of)
	of["nullable"] = true
	return of
}

func object(members Tree, needed ...string) Tree {
	return Tree{"type": "object", "properties": members, "required": needed, "examples": Tree{"one": members}}
}

func content(of Tree) Tree {
	return Tree{"application/json": Tree{"schema": of, "examples": Tree{"default": Tree{"value": of}}}}
}

func answers(status string, of Tree) Tree {
	a := Tree{"description": "Answer."}
	if of != nil {
		a["content"] = content(of)
	}
	return Tree{"responses": Tree{status: a, "404": Tree{"description": "Not found.",
		"content": content(to("basic-error"))}}}
}

func sent(body Tree, status string, of Tree) Tree {
	t := answers(status, of)
	t["requestBody"] = Tree{"content": content(body)}
	return t
}

// Traffic answers every operation of the API so many times, as described.
func (a *API) Traffic(times int, take func(*exchange.Capture)) {
	paths, _ := a.Description["paths"].(Tree)
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		item, _ := paths[path].(Tree)
		for _, method := range slices.Sorted(maps.Keys(item)) {
			op, _ := item[method].(Tree)
			for range times {
				take(a.answer(strings.ToUpper(method), path, op))
			}
		}
	}
}

func (a *API) answer(method, path string, op Tree) *exchange.Capture {
	for strings.Contains(path, "{") {
		from, until := strings.IndexByte(path, '{'), strings.IndexByte(path, '}')
		path = path[:from] + fmt.Sprint(1+a.m.IntN(9000)) + path[until+1:]
	}
	c := &exchange.Capture{Request: exchange.Request{Method: method, URL: &url.URL{Scheme: "https",
		Host: "api.wide-water.example", Path: path}}}
	for status, r := range op["responses"].(Tree) {
		if status[0] != '2' {
			continue
		}
		_, _ = fmt.Sscan(status, &c.Response.Status)
		if all, ok := r.(Tree)["content"].(Tree); ok {
			c.Response.Header = exchange.Header{{Name: "Content-Type", Value: "application/json"}}
			c.Response.Body = JSON(a.value(all["application/json"].(Tree)["schema"].(Tree), 0))
		}
	}
	return c
}

// value makes a value of a schema. Deep down, nothing that may be absent is there.
func (a *API) value(schema Tree, depth int) any {
	const deepest = 4
	m := a.m
	if schema["nullable"] == true && (m.chance(4) || depth > deepest) {
		return nil
	}
	if ref, ok := schema["$ref"].(string); ok {
		return a.value(a.schemas[ref[strings.LastIndexByte(ref, '/')+1:]].(Tree), depth)
	}
	if some, ok := schema["oneOf"].([]any); ok {
		return a.value(one(m, some...).(Tree), depth)
	}
	if parts, ok := schema["allOf"].([]any); ok {
		whole := Tree{}
		for _, p := range parts {
			if o, ok := a.value(p.(Tree), depth).(Tree); ok {
				maps.Copy(whole, o)
			}
		}
		return whole
	}
	if values, ok := schema["enum"].([]any); ok {
		return one(m, values...)
	}
	switch schema["type"] {
	case "object":
		o := Tree{}
		members, _ := schema["properties"].(Tree)
		needed, _ := schema["required"].([]string)
		for _, name := range slices.Sorted(maps.Keys(members)) {
			if slices.Contains(needed, name) || depth <= deepest && !m.chance(5) {
				o[name] = a.value(members[name].(Tree), depth+1)
			}
		}
		return o
	case "array":
		all := []any{}
		for range m.IntN(3) {
			if depth <= deepest {
				all = append(all, a.value(schema["items"].(Tree), depth+1))
			}
		}
		return all
	case "integer":
		return m.IntN(5000)
	case "number":
		return float64(m.IntN(900)) + 0.5
	case "boolean":
		return m.chance(2)
	}
	switch schema["format"] {
	case "date-time":
		return "2026-05-04T10:00:00Z"
	case "uri":
		return "https://wide-water.example/things"
	case "email":
		return "mara@sails.example"
	}
	return one(m, "calm", "brisk", "steady", "slow")
}
