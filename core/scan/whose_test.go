package scan

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"testing"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/kind"
)

// theirs is a contract with records that are the caller's own business.
const theirsText = `inkret: 1
service: quay
audiences: [{name: visitor, recognise: {credentials: none}}, {name: skipper, recognise: {claim: {name: sub}}}]
callers: [{claim: sub}, {header: X-Skipper}, {cookie: who}, {told_by: GET /me, at: /data/id}]
entities:
  Skipper:
    owner: id
    fields: {id: {class: public}, name: {class: public, type: string}, email: {class: personal, type: string}, pin: {class: secret, type: string}}
    relations: {mate: {entity: Skipper}}
  Booking:
    owner: skipper
    fields: {ref: {class: public, type: string}, note: {class: internal, type: string}}
    relations: {skipper: {entity: Skipper}}
endpoints:
- endpoint: GET /skippers/{skipper_id}
  responses: [{entity: Skipper, grants: {name: , email: {own: true, optional: true}, mate: {optional: true, grants: {name: {optional: true}, email: {own: true, optional: true}}}}}]
- endpoint: GET /all
  responses: [{entity: Booking, many: true, own: true, at: /data, grants: {ref: , note: {optional: true}}}]
- endpoint: GET /renamed
  responses: [{entity: Skipper, own: true, grants: {number: {field: id}, name: }}]
- endpoint: GET /notes/{skipper_id}
  responses: [{entity: Skipper, own: true, owner: {path: skipper_id}, grants: {name: }}]
- endpoint: GET /me
  responses: [{at: /data, grants: {id: {}}}]
`

func bearer(claims string) string {
	part := base64.RawURLEncoding.EncodeToString
	return "Bearer " + part([]byte(`{"alg":"none"}`)) + "." + part([]byte(claims)) + ".x"
}

// TestWhoseRecordItIs holds records against who asked for them, in all the ways in which both are told.
func TestWhoseRecordItIs(t *testing.T) {
	c, err := contract.Read(contract.File{Name: "a.yaml", Data: []byte(theirsText)})
	if err != nil {
		t.Fatal(err)
	}
	seven := "Authorization: " + bearer(`{"sub":"7"}`)
	const none = ""
	for name, one := range map[string]struct {
		request, header, body string
		want                  string // kind, path and severity of what is told
		owner, caller         int    // undetermined
	}{
		"one's own": {"GET /skippers/7", seven, `{"id":7,"name":"A","email":"a@b.example"}`, none, 0, 0},
		"another's": {"GET /skippers/8", seven, `{"id":8,"name":"A","email":"a@b.example"}`,
			"foreign-record $.email high", 0, 0},
		"as a text": {"GET /skippers/8", seven, `{"id":"8","name":"A","email":"a@b.example"}`,
			"foreign-record $.email high", 0, 0},
		"own, as a text": {"GET /skippers/7", seven, `{"id":"7","name":"A","email":"a@b.example"}`, none, 0, 0},
		"own, escaped": {"GET /skippers/7", seven, `{"\u0069d":"\u0037","name":"A","email":"a@b.example"}`,
			none, 0, 0},
		"the owner behind": {"GET /skippers/8", seven, `{"name":"A","email":"a@b.example","id":8}`,
			"foreign-record $.email high", 0, 0},
		"own, the owner last": {"GET /skippers/7", seven, `{"name":"A","email":"a@b.example","id":7}`, none, 0, 0},
		"otherwise written": {"GET /skippers/8", seven, `{"ID":8,"name":"A","email":"a@b.example"}`,
			"foreign-record $.email high", 0, 0},
		"null is no owner": {"GET /skippers/8", seven, `{"id":null,"name":"A","email":"a@b.example"}`, none, 1, 0},
		"no owner":         {"GET /skippers/8", seven, `{"name":"A","email":"a@b.example"}`, none, 1, 0},
		"nobody known":     {"GET /skippers/8", none, `{"id":8,"name":"A","email":"a@b.example"}`, none, 0, 1},
		"a claim that is none": {"GET /skippers/8", "Authorization: " + bearer(`{"sub":null}`),
			`{"id":8,"name":"A","email":"a@b.example"}`, none, 0, 1},
		"a claim, a number": {"GET /skippers/8", "Authorization: " + bearer(`{"sub":8}`),
			`{"id":8,"name":"A","email":"a@b.example"}`, none, 0, 0},
		"by a header": {"GET /skippers/8", "X-Skipper: 7", `{"id":8,"name":"A","email":"a@b.example"}`,
			"foreign-record $.email high", 0, 0},
		"by a cookie": {"GET /skippers/8", "Cookie: a=b; who=7", `{"id":8,"name":"A","email":"a@b.example"}`,
			"foreign-record $.email high", 0, 0},
		"what is not granted": {"GET /skippers/8", seven, `{"id":8,"name":"A","pin":"x"}`,
			"sensitive-field $.pin critical", 0, 0},
		"null is somebody's": {"GET /skippers/8", seven, `{"id":8,"name":"A","email":null}`,
			"foreign-record $.email high", 0, 0},
		"graver inside it": {"GET /skippers/8", seven,
			`{"id":8,"name":"A","email":"$2b$12$R9h/cIPz0gi.URNNX3kh2OPST9/PgBkqquzi.Ss7KIUgO2t0jWMUW"}`,
			"secret-value $.email critical", 0, 0},
		"inside one's own": {"GET /skippers/7", seven,
			`{"id":7,"name":"A","mate":{"id":8,"name":"B","email":"b@b.example"}}`,
			"foreign-record $.mate.email high", 0, 0},
		"a list of all": {"GET /all", seven,
			`{"data":[{"ref":"a","skipper":{"id":7}},{"ref":"b","skipper":{"id":8}},{"ref":"c","skipper":9}]}`,
			"foreign-record $.data[*] medium, foreign-record $.data[*] medium, " +
				strings.Repeat("unexpected-relation $.data[*].skipper medium, ", 2) +
				"unexpected-relation $.data[*].skipper medium", 0, 0},
		"a reference": {"GET /all", seven, `{"data":[{"ref":"a","skipper":"7"}]}`,
			"unexpected-relation $.data[*].skipper medium", 0, 0},
		"somebody else's list of nothing": {"GET /all", seven, `{"data":[]}`, none, 0, 0},
		"under the contract's name": {"GET /renamed", seven, `{"number":8,"name":"A"}`, "foreign-record $ low", 0,
			0},
		"under both, its own first": {"GET /renamed", seven, `{"number":7,"name":"A"}`, none, 0, 0},
		"by the path":               {"GET /notes/8", seven, `{"name":"A"}`, "foreign-record $ low", 0, 0},
		"one's own path":            {"GET /notes/7;v=1", seven, `{"name":"A"}`, none, 0, 0},
		"the record before the path": {"GET /notes/8", seven, `{"id":7,"name":"A"}`, "unexpected-field $.id low",
			0, 0},
	} {
		judge := NewJudge(c)
		out := judge.Capture(asked(t, one.request, one.header, one.body))
		var got []string
		for _, s := range out.Spots {
			if s.Path != "$.id" && s.Path != "$.mate.id" && s.Path != "$.ID" || strings.Contains(one.want, s.Path+" ") {
				got = append(got, fmt.Sprint(s.Kind, " ", s.Path, " ", s.Severity))
			}
		}
		slices.Sort(got)
		if text := strings.Join(got, ", "); text != one.want || out.Undetermined.Owner != one.owner ||
			out.Undetermined.Caller != one.caller {
			t.Errorf("%s: %s, undetermined %+v, want %s", name, text, out.Undetermined, one.want)
		}
	}
}

// asked returns a capture with one header field, and a body in JSON.
func asked(t *testing.T, request, field, body string) *exchange.Capture {
	t.Helper()
	method, path, _ := strings.Cut(request, " ")
	r, err := exchange.ParseRequest(method + " https://q.example" + path)
	if err != nil {
		t.Fatal(err)
	}
	if name, value, ok := strings.Cut(field, ": "); ok {
		r.Header = exchange.Header{{Name: name, Value: value}}
	}
	return &exchange.Capture{Request: *r, Response: exchange.Response{Status: 200, Body: []byte(body),
		Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}}}
}

// TestResponsesTellWhoAsks checks that a response that says who holds credentials counts for other requests with
// them, for earlier ones once all is known, and that credentials of two people count for none.
func TestResponsesTellWhoAsks(t *testing.T) {
	c, err := contract.Read(contract.File{Name: "a.yaml", Data: []byte(theirsText)})
	if err != nil {
		t.Fatal(err)
	}
	const theirs = `{"id":8,"name":"A","email":"a@b.example"}`
	ask := func(j *Judge, field string) (foreign bool, caller int) {
		out := j.Capture(asked(t, "GET /skippers/8", field, theirs))
		return slices.ContainsFunc(out.Spots, func(s Spot) bool { return s.Kind == kind.ForeignRecord }),
			out.Undetermined.Caller
	}
	tell := func(j *Judge, field, body string, status int) {
		a := asked(t, "GET /me", field, body)
		a.Response.Status = status
		j.Capture(a)
	}
	j := NewJudge(c)
	if foreign, caller := ask(j, "Authorization: Basic abc"); foreign || caller != 1 {
		t.Errorf("before it is told: %v, %d", foreign, caller)
	}
	tell(j, "Authorization: Basic abc", `{"data":{"id":7}}`, 401)
	tell(j, "Authorization: Basic abc", `{"data":{"id":null}}`, 200)
	tell(j, "", `{"data":{"id":7}}`, 200)
	if len(j.Holders()) != 0 {
		t.Errorf("an answer that says nothing tells %v", j.Holders())
	}
	tell(j, "Authorization:  Basic abc", `{"data":{"id":7}}`, 200)
	if foreign, caller := ask(j, "authorization: Basic abc"); !foreign || caller != 0 {
		t.Errorf("once it is told: %v, %d", foreign, caller)
	}
	if foreign, caller := ask(j, "Authorization: Basic abd"); foreign || caller != 1 {
		t.Errorf("of other credentials: %v, %d", foreign, caller)
	}
	again := NewJudge(c)
	known := Known{}
	known.Hold(j.Holders())
	again.Know(known)
	if foreign, caller := ask(again, "Authorization: Basic abc"); !foreign || caller != 0 {
		t.Errorf("in a second reading: %v, %d", foreign, caller)
	}
	tell(j, "Authorization: Basic abc", `{"data":{"id":9}}`, 200)
	if foreign, caller := ask(j, "Authorization: Basic abc"); foreign || caller != 1 {
		t.Errorf("of two people: %v, %d", foreign, caller)
	}
	tell(j, "Authorization: Basic abc", `{"data":{"id":7}}`, 200)
	if foreign, _ := ask(j, "Authorization: Basic abc"); foreign {
		t.Error("what was of two people is of one again")
	}
}

// TestOutlinesKeepWhoseTheyAre checks that stand-ins for values are not taken for somebody else's, and that what was
// found out before holds.
func TestOutlinesKeepWhoseTheyAre(t *testing.T) {
	c, err := contract.Read(contract.File{Name: "a.yaml", Data: []byte(theirsText)})
	if err != nil {
		t.Fatal(err)
	}
	field := "Authorization: " + bearer(`{"sub":"7"}`)
	for body, foreign := range map[string]int{`{"data":[{"ref":"a","skipper":{"id":7}},{"ref":"b","skipper":{"id":8}}]}`: 1,
		`{"data":[{"ref":"a","skipper":{"id":7}}]}`: 0} {
		a := asked(t, "GET /all", field, body)
		out := NewJudge(c).Capture(a)
		a.Outlined, a.Who, a.Holder, a.Theirs = true, out.Who, out.Holder, out.Theirs
		a.Request.Header = nil
		a.Response.Body = []byte(strings.NewReplacer(`7`, `1`, `8`, `1`, `"a"`, `"x"`).Replace(body))
		out = NewJudge(c).Capture(a)
		n := 0
		for _, s := range out.Spots {
			if s.Kind == kind.ForeignRecord {
				n++
			}
		}
		if n != foreign || out.Undetermined.Total() != 0 || len(out.Theirs) != foreign {
			t.Errorf("the outline of %s has %d records of somebody else, undetermined %+v", body, n, out.Undetermined)
		}
	}
}
