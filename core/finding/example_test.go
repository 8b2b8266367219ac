package finding_test

import (
	"fmt"
	"net/url"

	"inkret/core/finding"
)

// A finding is moved along its life by people; it is closed by proof alone.
func ExampleMove_Check() {
	fmt.Println(finding.Move{To: finding.InRepair}.Check(finding.New, "2026-05-01"))
	fmt.Println(finding.Move{To: finding.Closed}.Check(finding.InRepair, "2026-05-01"))
	// Output:
	// <nil>
	// a finding is closed by proof only: move it to awaiting-proof and capture the endpoint again
}

// The same query narrows the lists of the console, the command line and the API.
func ExampleParseQuery() {
	q, err := finding.ParseQuery(url.Values{"severity": {"critical,high"}, "field": {"email"}})
	fmt.Println(q.Severities, q.Field, err)
	_, err = finding.ParseQuery(url.Values{"severity": {"grave"}})
	fmt.Println(err)
	// Output:
	// [critical high] email <nil>
	// there is no severity grave
}
