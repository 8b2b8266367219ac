package export_test

import (
	"fmt"

	"inkret/core/contract"
	"inkret/export"
)

// Contracts are written in open forms, for programs that know nothing of ours.
func ExampleTypeScript() {
	contracts, err := contract.Read(contract.File{Name: "quay.yaml", Data: []byte(`inkret: 1
service: quay
entities: {Boat: {fields: {name: {type: string, class: public}, length: {type: number, class: public}}}}
endpoints:
  - endpoint: GET /boats/{id}
    responses: [{entity: Boat, grants: {name: , length: {optional: true}}}]
`)})
	if err != nil {
		panic(err)
	}
	fmt.Print(string(export.TypeScript(contracts)))
	// Output:
	// // Written by Inkret from the contracts of quay: what each endpoint may expose.
	//
	// /** GET /boats/{id}, status 2XX. */
	// export type GetBoatsId2XX = {
	//   name: string;
	//   length?: number;
	// };
}
