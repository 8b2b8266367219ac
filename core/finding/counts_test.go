package finding

import (
	"fmt"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/scan"
)

const countsContract = `inkret: 1
service: quay
audiences: [{name: visitor}]
entities:
  Boat:
    fields: {id: {type: integer, class: public}, name: {type: string, class: public, max: 6}, pin: {type: string, class: secret}, mail: {type: string, class: personal}}
    relations: {owner: {entity: Boat}}
endpoints:
  - endpoint: GET /boats
    responses: [{entity: Boat, at: /items, many: true, grants: {id: , name: , mail: }}]
  - endpoint: GET /open
    responses: [{entity: Boat, at: /items, many: true, grants: {id: , owner: {open: true}}}]
`

// valuesByChance are JSON values, clean and leaking, and of the wrong type.
var valuesByChance = []string{`1`, `"Tern"`, `"a name that is too long"`, `null`, `""`, `true`, `[]`, `{}`,
	`"ada@quay.example"`,
	`"$2b$12$R9h/cIPz0gi.URNNX3kh2OPST9/PgBkqquzi.Ss7KIUgO2t0jWMUW"`, `"4111 1111 1111 1111"`,
	`["x","bo@quay.example"]`,
	`{"mail":"ada@quay.example","pin":"1234"}`, `{"a":{"iban":"DE89370400440532013000"}}`,
	`"{\"email\":\"in@quay.example\"}"`, `[{"pin":"9911"},{"pin":null}]`}

// TestCountingInTheFirstSpotLosesNothing compares findings of bodies by chance, their spots kept one by one and counted
// in the first of their kind.
func TestCountingInTheFirstSpotLosesNothing(t *testing.T) {
	contracts, err := contract.Read(contract.File{Name: "quay.yaml", Data: []byte(countsContract)})
	if err != nil {
		t.Fatal(err)
	}
	folded := 0
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 17))
		var items []string
		for range r.IntN(12) {
			var members []string
			for range r.IntN(6) {
				name := []string{"id", "name", "pin", "mail", "owner", "email", "password", "note", "42",
					"title"}[r.IntN(10)]
				members = append(members, fmt.Sprintf("%q:%s", name, valuesByChance[r.IntN(len(valuesByChance))]))
			}
			items = append(items, "{"+strings.Join(members, ",")+"}")
		}
		body := `{"items":[` + strings.Join(items, ",") + `]}`
		path := []string{"/boats", "/open", "/elsewhere"}[r.IntN(3)]
		status := []int{200, 200, 404}[r.IntN(3)]
		said := func(counts bool) string {
			judge, collector := scan.NewJudge(contracts), NewCollector("quay")
			judge.Counts = counts
			judge.Print = func(v []byte) uint64 { return uint64(len(v)) + uint64(v[0])<<8 + 1 }
			var text strings.Builder
			for entry := range 2 {
				out := judge.Capture(&exchange.Capture{
					Request: exchange.Request{Method: "GET", URL: &url.URL{Scheme: "https", Host: "quay.example",
						Path: path}},
					Response: exchange.Response{Status: status, Body: []byte(body),
						Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}}})
				collector.Add("a.har", entry, &out)
				for _, s := range out.Spots {
					folded += s.Folded
				}
				fmt.Fprintln(&text, out.Skipped, out.Excess, out.Bytes)
			}
			for _, f := range collector.Findings() {
				fmt.Fprintln(&text, f.Identity, f.Severity, f.Facts, f.Bytes, f.Detector, f.First, f.Prints(), f.Grant)
			}
			return text.String()
		}
		if one, counted := said(false), said(true); one != counted {
			t.Fatalf("seed %d: %s\none by one:\n%s\ncounted:\n%s", seed, body, one, counted)
		}
	}
	if folded == 0 {
		t.Error("nothing was counted in another")
	}
}
