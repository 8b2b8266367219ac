package draft

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"testing"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/observe"
	"inkret/core/scan"
	"inkret/core/schema"
)

// graphFields are the types of a made-up schema; what leads to objects names their type.
var graphFields = map[string][]string{
	"Query":             {"pier: Pier", "piers: PierConnection", "keeper: Keeper", "find: Found"},
	"PierConnection":    {"edges: [PierEdge]", "totalCount: Int"},
	"PierEdge":          {"node: Pier", "cursor: String"},
	"Pier":              {"id: ID", "label: String", "depth: Float", "keeper: Keeper", "lamps: [Lamp]", "state: State"},
	"Keeper":            {"id: ID", "name: String", "email: String", "passwordHash: String", "pier: Pier"},
	"Lamp":              {"id: ID", "colour: String", "tags: [String]", "extra: JSON"},
	"union Found":       {"Pier", "Keeper"},
	"enum State":        {"OPEN", "SHUT"},
	"scalar JSON":       {},
	"Mutation":          {"mend(lamp: ID!): Lamp"},
	"interface Named":   {"id: ID"},
	"input LampInput":   {"colour: String"},
	"Unused":            {"id: ID", "token: String"},
	"extend type Pier ": {"opened: String"},
}

func graphSchema() string {
	var b strings.Builder
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for n := range graphFields {
			if !yield(n) {
				return
			}
		}
	}) {
		all := graphFields[name]
		switch {
		case strings.HasPrefix(name, "union"):
			fmt.Fprintf(&b, "%s = %s\n", name, strings.Join(all, " | "))
		case strings.HasPrefix(name, "scalar"):
			b.WriteString(name + "\n")
		case strings.Contains(name, " "):
			fmt.Fprintf(&b, "%s { %s }\n", name, strings.Join(all, "\n"))
		default:
			fmt.Fprintf(&b, "type %s { %s }\n", name, strings.Join(all, "\n"))
		}
	}
	return b.String()
}

// TestDraftsOfSchemas drafts from a schema alone: it loads, asks about what is sensitive, and grants the rest by type.
func TestDraftsOfSchemas(t *testing.T) {
	sketch, err := schema.DescribeGraph("harbour.graphql", []byte(graphSchema()))
	if err != nil {
		t.Fatal(err)
	}
	d := Write(sketch, Options{})
	c, err := contract.Read(contract.File{Name: "draft.yaml", Data: []byte(d.Text)},
		contract.File{Name: d.Schemas[0].Name, Data: []byte(d.Schemas[0].Text)})
	if err != nil {
		t.Fatalf("%v\n%s", err, d.Text)
	}
	if d.Endpoints != 1 || d.Schemas[0].Name != "harbour.graphql" {
		t.Errorf("%d endpoints, schemas %v", d.Endpoints, d.Schemas)
	}
	for _, want := range []string{
		"operations: [Query.pier, Query.piers, Query.keeper, Query.find, Mutation.mend]",
		"PierConnection: {grants: {edges: {}, totalCount: {}}}",
		"Pier: {entity: Pier, grants: {id: , label: , depth: , keeper: {}, lamps: {}, state: , opened: }}",
		"Lamp: {entity: Lamp, grants: {id: , colour: , tags: {many: true}, extra: {open: true}}}",
		"Keeper: {entity: Keeper, grants: {id: , name: , pier: {}}}",
		"state: {type: string, values: [OPEN, SHUT], nullable: true",
		"# ? who may see it? passwordHash is secret",
	} {
		if !strings.Contains(d.Text, want) {
			t.Errorf("it does not have %s:\n%s", want, d.Text)
		}
	}
	if c.Catalog.Entity("PierConnection") != nil || c.Catalog.Entity("Query") != nil ||
		c.Catalog.Entity("LampInput") != nil {
		t.Error("pages, roots or inputs are entities")
	}
}

// graphCall makes up a query and its answer.
func graphCall(r *rand.Rand, audience string) *exchange.Capture {
	aliases := 0
	var write func(of string, depth int) (query, answer string)
	write = func(of string, depth int) (string, string) {
		var q, a []string
		for _, f := range graphFields[of] {
			name, typeName, _ := strings.Cut(f, ": ")
			inner := strings.Trim(typeName, "[]")
			value := `"A1"`
			_, object := graphFields[inner]
			switch {
			case r.IntN(3) == 0 || strings.Contains(name, "(") || object && depth == 0:
				continue
			case inner == "Found":
				onePier, pier := write("Pier", 0)
				oneKeeper, keeper := write("Keeper", 0)
				value = strings.Replace([]string{pier, keeper}[r.IntN(2)], "{", `{"__typename":"`+
					[]string{"Pier", "Keeper"}[0]+`",`, 1)
				if value[len(`{"__typename":"Pier",`):] == keeper[1:] {
					value = strings.Replace(value, "Pier", "Keeper", 1)
				}
				q = append(q, name+"{__typename ... on Pier"+onePier+"... on Keeper"+oneKeeper+"}")
				a = append(a, `"`+name+`":`+value)
				continue
			case object:
				var query string
				query, value = write(inner, depth-1)
				aliases++
				name2 := fmt.Sprintf("x%d", aliases)
				q = append(q, name2+":"+name+query)
				if inner != typeName {
					value = "[" + value + "]"
				}
				a = append(a, `"`+name2+`":`+value)
				continue
			case typeName == "Float" || typeName == "Int":
				value = "3"
			case inner != typeName:
				value = `["a"]`
			case typeName == "State":
				value = `"OPEN"`
			case typeName == "JSON":
				value = `{"k":1}`
			case name == "email":
				value = `"ada.moor@sails.example"`
			}
			q, a = append(q, name), append(a, `"`+name+`":`+value)
		}
		if len(q) == 0 {
			q, a = []string{"t:__typename"}, []string{`"t":"` + of + `"`}
		}
		return "{" + strings.Join(q, " ") + "}", "{" + strings.Join(a, ",") + "}"
	}
	query, answer := write("Query", 3)
	body, _ := json.Marshal(map[string]string{"query": query})
	c := &exchange.Capture{Audience: audience, Request: exchange.Request{Method: "POST",
		URL: &url.URL{Scheme: "https", Host: "api.quay.example", Path: "/api/graphql"}, Body: body,
		Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}}}
	c.Response = exchange.Response{Status: 200, Body: []byte(`{"data":` + answer + `}`),
		Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}}
	return c
}

// TestDraftsOfQueries drafts from a schema and random queries of two audiences, and checks the draft against them: only
// what it asks about is told.
func TestDraftsOfQueries(t *testing.T) {
	sensitive := 0
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 19))
		o := observe.New(nil)
		var all []*exchange.Capture
		for range 1 + r.IntN(8) {
			c := graphCall(r, []string{"guest", "member"}[r.IntN(2)])
			all = append(all, c)
			o.Add(c)
		}
		sketch, err := schema.DescribeGraph("harbour.graphql", []byte(graphSchema()))
		if err != nil {
			t.Fatal(err)
		}
		sketch.Join(o.Sketch())
		o.Join(sketch)
		d := Write(sketch, Options{Callers: o.Callers()})
		contracts, err := contract.Read(contract.File{Name: "draft.yaml", Data: []byte(d.Text)},
			contract.File{Name: d.Schemas[0].Name, Data: []byte(d.Schemas[0].Text)})
		if err != nil {
			t.Fatalf("%d: %v\n%s", seed, err, d.Text)
		}
		if strings.Contains(d.Text, "Unused: {entity") {
			t.Errorf("%d: what nobody asked for is granted:\n%s", seed, d.Text)
		}
		judge := scan.NewJudge(contracts)
		for _, c := range all {
			out := judge.Capture(c)
			if out.Endpoint != "POST /api/graphql" || out.Skipped != "" || out.Unread != "" {
				t.Fatalf("%d: %s %s %s", seed, out.Endpoint, out.Skipped, out.Unread)
			}
			for _, s := range out.Spots {
				if sensitive++; s.Kind != kind.SensitiveField && s.Kind != kind.PersonalValue {
					t.Fatalf("%d: %s at %s (%s): %s\n%s\n%s\n%s", seed, s.Kind, s.Path, s.Pointer, s.Why(),
						c.Request.Body,
						c.Response.Body, d.Text)
				}
			}
		}
	}
	if sensitive < 30 {
		t.Errorf("only %d sensitive fields: the test tells little", sensitive)
	}
}
