package main

import (
	"bytes"
	"encoding/json"
	"fmt"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/scan"
)

// graphTypes is the schema of what listContract grants.
const graphTypes = `type Query { items: [Booking!]! things: [Thing!]! }
union Thing = Booking | Berth
type Booking { id: ID! ref: String arrives_on: String note: String berth: Berth owner: Skipper charges: [Int!] }
type Berth { label: String length: Float }
type Skipper { id: ID name: String }
`

const graphEndpoint = `  - endpoint: POST /graphql
    graphql: {schema: bench.graphql}
    responses:
      - operations: [Query.items, Query.things]
        types:
          Booking: {entity: Booking, grants: {id: , ref: , berth: {}, owner: {}, arrives_on: , charges: {reference: id}, note: }}
          Berth: {entity: Berth, grants: {label: , length: }}
          Skipper: {entity: Skipper, grants: {id: , name: }}
  - endpoint: GET /data
    responses:
      - entity: Booking
        at: /data/items
        many: true
        grants: {id: , ref: , berth: {grants: {label: , length: }}, owner: {grants: {id: , name: }}, arrives_on: , charges: {reference: id}, note: }
  - endpoint: GET /typed
    responses:
      - grants: {data: {grants: {items: {many: true, one_of: [{when: {__typename: Booking}, shape: booking}, {when: {__typename: Berth}, shape: berth}]}}}}
shapes:
  berth: {entity: Berth, grants: {__typename: {type: string}, label: , length: }}
  booking:
    entity: Booking
    grants: {__typename: {type: string}, id: , ref: , berth: {grants: {label: , length: }}, owner: {grants: {id: , name: }}, arrives_on: , charges: {reference: id}, note: }
`

// graphs measures judging results of GraphQL relative to judging the same body by an ordinary contract.
func graphs() error {
	contracts, err := contract.Read(contract.File{Name: "bench.yaml", Data: []byte(listContract + graphEndpoint)},
		contract.File{Name: "bench.graphql", Data: []byte(graphTypes)})
	if err != nil {
		return err
	}
	asks := func(query string, body []byte) *exchange.Capture {
		c := capture("/graphql", body)
		c.Request.Method = "POST"
		c.Request.Body, _ = json.Marshal(map[string]string{"query": query}) // a text alone
		return c
	}
	const query = `{ items { id ref berth { label length } owner { id name } arrives_on charges note } }`
	const aliased = `{ items: items { id ref berth { label length } owner { id name } arrives_on charges email: note } }`
	j := scan.NewJudge(contracts)
	j.Counts = true
	for _, size := range []int{1 << 20, 2 << 10} {
		body := append(append([]byte(`{"data":`), listBody(size)...), '}')
		leaky := bytes.ReplaceAll(body, []byte(`"note"`), []byte(`"email"`))
		typed := bytes.ReplaceAll(body, []byte(`{"id":`), []byte(`{"__typename":"Booking","id":`))
		typed = bytes.ReplaceAll(typed, []byte(`"owner":{"__typename":"Booking",`), []byte(`"owner":{`))
		for _, one := range []struct {
			what          string
			graph, simple *exchange.Capture
		}{
			{"as granted", asks(query, body), capture("/data", body)},
			{"by other names", asks(aliased, leaky), capture("/data", body)},
			{"with a leak in each object", asks(`{ items { id ref berth { label length } owner { id name } arrives_on charges email } }`,
				leaky), capture("/data", leaky)},
			{"of a union", asks(`{ items: things { __typename ... on Booking { id ref berth { label length } owner { id name } `+
				`arrives_on charges note } } }`, typed), capture("/typed", typed)},
		} {
			if out := j.Capture(one.graph); out.Skipped != "" || out.Unread != "" {
				return fmt.Errorf("%s: %s%s", one.what, out.Skipped, out.Unread)
			}
			fmt.Printf("  a result of %4d kB, %-28s %.2f\n", len(one.graph.Response.Body)/1024, one.what,
				ratio(func() { j.Capture(one.graph) }, func() { j.Capture(one.simple) }))
		}
	}
	return nil
}
