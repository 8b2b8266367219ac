package contract

import (
	"net/url"
	"strings"
	"testing"

	"inkret/core/exchange"
	"inkret/core/graph"
)

const graphText = `inkret: 1
service: quay
audiences: [{name: skipper}, {name: staff}]
entities:
  Berth: {fields: {id: {}, number: {}}, relations: {bookings: {entity: Booking, many: true}}}
  Booking: {fields: {id: {}, reference: {}}}
shapes: {berth-card: {entity: Berth, grants: {id: , number: }}, booking-card: {entity: Booking, grants: {id: , reference: }}}
endpoints:
- endpoint: POST /graphql
  graphql: {schema: quay.graphql}
  responses:
  - audiences: [skipper]
    operations: [Query.berths]
    types:
      Berth: {shape: berth-card, grants: {bookings: {}}}
`

const graphTypes = `schema { query: Root }
type Root { berths: [Berth!]! bookings: [Booking] }
interface Node { id: ID! }
type Berth implements Node { id: ID! number: String bookings: [Booking!] position: Position }
type Booking implements Node { id: ID! reference: String }
type Position { lat: Float }
enum State { OPEN SHUT }
`

// introspectedTypes is what introspection answers for the same types, cut down to what is read.
const introspectedTypes = `{"data":{"__schema":{"queryType":{"name":"Root"},"mutationType":null,"types":[
{"kind":"OBJECT","name":"Root","fields":[{"name":"berths","args":[],"type":{"kind":"NON_NULL","ofType":{"kind":"LIST","ofType":{"kind":"NON_NULL","ofType":{"kind":"OBJECT","name":"Berth"}}}}},
 {"name":"bookings","args":[],"type":{"kind":"LIST","ofType":{"kind":"OBJECT","name":"Booking"}}}]},
{"kind":"INTERFACE","name":"Node","fields":[{"name":"id","args":[],"type":{"kind":"SCALAR","name":"ID"}}],"possibleTypes":[{"name":"Berth"},{"name":"Booking"}]},
{"kind":"OBJECT","name":"Berth","fields":[{"name":"id","type":{"kind":"SCALAR","name":"ID"}},{"name":"number","type":{"kind":"SCALAR","name":"String"}},
 {"name":"bookings","type":{"kind":"LIST","ofType":{"kind":"OBJECT","name":"Booking"}}},{"name":"position","type":{"kind":"OBJECT","name":"Position"}}]},
{"kind":"OBJECT","name":"Booking","fields":[{"name":"id","type":{"kind":"SCALAR","name":"ID"}},{"name":"reference","type":{"kind":"SCALAR","name":"String"}}]},
{"kind":"OBJECT","name":"Position","fields":[{"name":"lat","type":{"kind":"SCALAR","name":"Float"}}]},
{"kind":"SCALAR","name":"String"},{"kind":"OBJECT","name":"__Type","fields":[]}]}}}`

func readGraph(text, types string) (*Contracts, error) {
	return Read(File{Name: "quay.yaml", Data: []byte(text)}, File{Name: "quay.graphql", Data: []byte(types)})
}

// TestTypesOfAnEndpoint changes one thing at a time: each mistake has one message, at its place, with what is
// next to it.
func TestTypesOfAnEndpoint(t *testing.T) {
	text := strings.ReplaceAll(graphText, "Query.berths", "Root.berths")
	for _, types := range []string{graphTypes, introspectedTypes} {
		if _, err := readGraph(text, types); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct{ from, to, says, near string }{
		{"Root.berths", "Root.berth", `operation "Root.berth" is not known`, "Root.berths"},
		{"Root.berths", "Query.berths", `operation "Query.berths" is not known`, "Root.berths"},
		{"Root.berths", "berths", `"berths" is no operation`, ""},
		{"[Root.berths]", "[Root.berths, Root.berths]", `"Root.berths" is listed twice`, ""},
		{"      Berth:", "      Berht:", `type "Berht" is not known`, "Berth"},
		{"      Berth:", "      Node:", "Node is no type of objects", ""},
		{"      Berth:", "      Root:", "Root is the type that operations begin with", ""},
		{"grants: {bookings: {}}", "grants: {boookings: {}}", `field or relation of Berth "boookings" is not known`,
			"bookings"},
		{"grants: {bookings: {}}", "grants: {position: {}, positon: {type: string}}",
			`field of the type Berth "positon" is not known`, "position"},
		{"{shape: berth-card, grants: {bookings: {}}}", "{shape: booking-card, entity: Berth}",
			`shape "booking-card" is over Booking`, ""},
		{"{shape: berth-card, grants: {bookings: {}}}", "{entity: Berth}",
			"the type Berth is named and nothing of it is granted", ""},
		{"quay.graphql", "quays.graphql", `there is no file "quays.graphql"`, ""},
		{"quay.graphql", "../quay.graphql", `"../quay.graphql" is in another folder`, ""},
		{"  graphql: {schema: quay.graphql}\n", "", "operations belongs to an endpoint that answers GraphQL", ""},
		{"    operations:", "    shape: berth-card\n    operations:", "the response has both shape and types", ""},
		{"schema: quay", "schemas: quay", `key "schemas" is not known`, "schema"},
	} {
		_, err := readGraph(strings.Replace(text, c.from, c.to, 1), graphTypes)
		problems, ok := err.(Problems)
		if !ok || !strings.Contains(problems[0].Error(), c.says) || problems[0].Near != c.near {
			t.Errorf("%s → %s: %v, want %q near %q", c.from, c.to, err, c.says, c.near)
		}
	}
	for types, says := range map[string]string{
		"type Query { a: Nothing }":   `Query.a is of the type "Nothing", which is not defined`,
		"type Berth { a: Int }":       "the schema has no type Query",
		"type Query {\n a: [Int\n}":   "line 3, column 1: this is no definition of GraphQL",
		`{"data": {}}`:                "it is no result of introspection: it has no `__schema`",
		"":                            "the file is empty",
		"union U = A type Query{u:U}": `U may be of the type "A", which is not defined as an object`,
	} {
		if _, err := readGraph(text, types); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want %q", types, err, says)
		}
	}
}

// TestGetsOfGraphsCount finds the endpoint for GET requests, unless one of its own has them.
func TestGetsOfGraphsCount(t *testing.T) {
	text := strings.ReplaceAll(graphText, "Query.berths", "Root.berths")
	c, err := readGraph(text, graphTypes)
	if err != nil {
		t.Fatal(err)
	}
	own, err := readGraph(text+"- endpoint: GET /graphql\n  responses: [{grants: {page: {}}}]\n", graphTypes)
	if err != nil {
		t.Fatal(err)
	}
	for method, want := range map[string][2]string{"POST": {"POST /graphql", "POST /graphql"},
		"GET": {"POST /graphql", "GET /graphql"},
		"PUT": {"", ""}} {
		for i, all := range []*Contracts{c, own} {
			got := ""
			if e := all.Find(method, []string{"graphql"}); e != nil {
				got = e.Text
			}
			if got != want[i] {
				t.Errorf("%s: %q, want %q", method, got, want[i])
			}
		}
	}
	if names := Missing([]File{{Name: "a/quay.yaml", Data: []byte(text)}}); len(names) != 1 ||
		names[0] != "a/quay.graphql" {
		t.Errorf("missing %q", names)
	}
	r := &exchange.Request{Method: "GET", URL: &url.URL{RawQuery: "query={berths{number}}"}}
	g := c.Find("GET", []string{"graphql"}).Graph()
	if all, _, err := graph.Ask(g.Schema, r.Method, r.URL, "", nil); err != nil || all[0].Root != "Root" {
		t.Error(all, err)
	}
}
