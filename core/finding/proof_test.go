package finding

import (
	"testing"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/scan"
)

func TestParents(t *testing.T) {
	for path, want := range map[string]string{
		"$": "$", "$.a": "$", "$.data[*].owner.email": "$.data[*].owner", "$[*]": "$", "$[*].x": "$[*]",
		"$.tags[*]": "$.tags", "$['a.b']": "$", "$.a[*]..*": "$.a[*]", "$.x['it\\'s.y']": "$.x",
		"script#state >> $.arrivals[*].skipper": "script#state >> $.arrivals[*]",
		"$.payload >> $.user":                   "$.payload >> $", "$.payload >> $": "$.payload >> $",
	} {
		if got := Parent(path); got != want {
			t.Errorf("above %s is %s, want %s", path, got, want)
		}
	}
}

// TestWhatProvesARepair checks captures against a leaked address that is said to be mended.
func TestWhatProvesARepair(t *testing.T) {
	c, err := contract.Read(contract.File{Name: "a.yaml", Data: []byte(`inkret: 1
service: quay
audiences: [{name: visitor, recognise: {credentials: none}}, {name: office, recognise: {header: {name: X-Desk, value: "*"}}}]
entities: {Crew: {fields: {name: {class: public, type: string}, email: {class: personal, type: string}}}}
endpoints: [{endpoint: GET /crew, responses: [{entity: Crew, at: /data, many: true, grants: {name: }}]}]
`)})
	if err != nil {
		t.Fatal(err)
	}
	waits := &Awaiting{Identity: Identity{Service: "quay", Endpoint: "GET /crew", Audience: "visitor",
		Direction: Response, Status: "2XX", Path: "$.data[*].email", Kind: kind.SensitiveField}}
	judge := scan.NewJudge(c)
	judge.Occurs = map[string]struct{}{}
	for name, one := range map[string]struct {
		request, body string
		status        int
		covers, leaks bool
	}{
		"mended": {"GET https://q.example/crew", `{"data":[{"name":"Ada"}]}`, 200, true, false},
		"still there": {"GET https://q.example/crew", `{"data":[{"name":"Ada","email":"a@b.example"}]}`,
			200, true, true},
		"null is still there": {"GET https://q.example/crew", `{"data":[{"name":"Ada","email":null}]}`, 200,
			true, true},
		"an empty list":        {"GET https://q.example/crew", `{"data":[]}`, 200, false, false},
		"nothing where it was": {"GET https://q.example/crew", `{"items":[{"name":"Ada"}]}`, 200, false, false},
		"another status":       {"GET https://q.example/crew", `{"data":[{"name":"Ada"}]}`, 404, false, false},
		"another endpoint":     {"GET https://q.example/boats", `{"data":[{"name":"Ada"}]}`, 200, false, false},
		"a body that breaks off": {"GET https://q.example/crew", `{"data":[{"name":"Ada"},{"na`, 200, false,
			false},
		"another leak, same place": {"GET https://q.example/crew", `{"data":[{"name":"Ada","email":{"of":1}}]}`, 200,
			true, true},
		"what is moved elsewhere": {"GET https://q.example/crew",
			`{"data":[{"name":"Ada","contact":{"email":"a@b.example"}}]}`, 200, true, false},
		"a body that is of no entity": {"GET https://q.example/crew", `"gone"`, 200, false, false},
	} {
		r, err := exchange.ParseRequest(one.request)
		if err != nil {
			t.Fatal(err)
		}
		clear(judge.Occurs)
		out := judge.Capture(&exchange.Capture{Request: *r, Response: exchange.Response{Status: one.status,
			Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}, Body: []byte(one.body)}})
		if covers, leaks := waits.Shows(&out, judge.Occurs); covers != one.covers || leaks != one.leaks {
			t.Errorf("%s: covers %v and leaks %v, want %v and %v", name, covers, leaks, one.covers, one.leaks)
		}
	}
}
