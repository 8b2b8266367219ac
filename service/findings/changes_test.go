package findings

import (
	"testing"

	"inkret/core/finding"
	"inkret/store"
)

func TestAHeaderFieldIsTaughtAsOne(t *testing.T) {
	header := teachings(&store.Finding{Endpoint: "GET /x", Audience: "office", Path: "header >> $['X-Owner']",
		Kind: "personal-value", Facts: finding.Facts{Class: "personal"}})
	if want := "in the response of GET /x for office:\n      headers: {X-Owner: personal}"; len(header) != 2 ||
		header[0].Text != want {
		t.Errorf("of a header field it teaches %+v", header)
	}
}
