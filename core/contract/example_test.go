package contract_test

import (
	"fmt"
	"strings"

	"inkret/core/contract"
)

// Read reports all problems of a contract at once, each with its place.
func ExampleRead() {
	_, err := contract.Read(contract.File{Name: "quay.yaml", Data: []byte(`inkret: 1
service: quay
entities:
  Boat: {fields: {name: {type: string, class: public}}}
endpoints:
  - endpoint: GET /boats/{id}
    responses: [{entity: Boat, grants: {nam: }}]
`)})
	fmt.Println(strings.ReplaceAll(err.Error(), ": ", ":\n")) // a line each, to be short
	// Output:
	// quay.yaml:7:41:
	// $.endpoints[0].responses[0].grants.nam:
	// field or relation of Boat "nam" is not known; expected name; did you mean "name"?
}
