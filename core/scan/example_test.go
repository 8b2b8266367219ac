package scan_test

import (
	"fmt"
	"net/url"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/scan"
)

// A judge compares captures with a contract and returns the spots where more goes out than it grants.
func ExampleJudge() {
	contracts, err := contract.Read(contract.File{Name: "quay.yaml", Data: []byte(`inkret: 1
service: quay
audiences: [{name: visitor}]
entities: {Boat: {fields: {name: {type: string, class: public}}}}
endpoints:
  - endpoint: GET /boats/{id}
    responses: [{entity: Boat, grants: {name: }}]
`)})
	if err != nil {
		panic(err)
	}
	judge := scan.NewJudge(contracts)
	out := judge.Capture(&exchange.Capture{
		Request: exchange.Request{Method: "GET", URL: &url.URL{Scheme: "https", Host: "quay.example",
			Path: "/boats/7"}},
		Response: exchange.Response{Status: 200,
			Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}},
			Body:   []byte(`{"name":"Tern","owner_mail":"nell@sails.example"}`)}})
	for _, spot := range out.Spots {
		fmt.Println(spot.Severity, spot.Kind, spot.Path, spot.Sample)
	}
	// Output:
	// high sensitive-field $.owner_mail n•••@•••
}
