package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"inkret/core/kind"
)

// kindCases give, for each kind, the calls that show it under kindContract: address, what is said besides, body.
var kindCases = map[kind.Kind][]kindCall{
	kind.SecretValue:        {{at: "/tides", body: `{"id":1,"x":"$2b$12$R9h/cIPz0gi.URNNX3kh2OPST9/PgBkqquzi.Ss7KIUgO2t0jWMUW"}`}},
	kind.SensitiveField:     {{at: "/tides", body: `{"id":1,"password":"driftwood lamp seventeen"}`}},
	kind.PersonalValue:      {{at: "/tides", body: `{"id":1,"x":"nell@sails.example"}`}},
	kind.WrongAudience:      {{at: "/tides", body: `{"id":1,"remark":"low"}`}},
	kind.ForeignRecord:      {{at: "/mine", own: `{"name":"X-Person","value":"7"}`, body: `{"owner":8,"remark":"low"}`}},
	kind.UnexpectedRelation: {{at: "/tides", body: `{"id":1,"berth":{"length":9}}`}},
	kind.UnexpectedField:    {{at: "/tides", body: `{"id":1,"colour":"grey"}`}},
	kind.RenamedField:       {{at: "/heights", body: `{"id":1,"height_metres":2}`}},
	kind.HiddenDuplicate:    {{at: "/tides", body: `{"id":1,"id":2}`}},
	kind.RevealingError:     {{at: "/tides", status: 500, body: `{"title":"SELECT id FROM tides WHERE id = 1: syntax error"}`}},
	kind.SensitiveInURL:     {{at: "/tides?email=nell@sails.example", body: `{"id":1}`}},
	kind.OverPosting:        {{method: "POST", at: "/tides", sent: `{"height":1,"approved":true}`, body: `{"id":1}`}},
	kind.CacheablePrivate: {
		{at: "/desk", audience: "desk", body: `{"id":1,"remark":"low"}`, field: `{"name":"Cache-Control","value":"public, max-age=60"}`}},
	kind.MissingField:       {{at: "/heights", body: `{"id":1}`}},
	kind.ValueMismatch:      {{at: "/tides", body: `{"id":"one"}`}},
	kind.SelectionIgnored:   {{at: "/desk?only=id", audience: "desk", body: `{"id":1,"remark":"low"}`}},
	kind.UndeclaredResponse: {{at: "/tides", status: 207, body: `{"id":1}`}},
	kind.UnknownEndpoint:    {{at: "/moons", body: `{"id":1}`}},
	kind.UnevenExposure: {{at: "/desk", audience: "desk", body: `{"id":1,"remark":"low"}`},
		{at: "/desk/old", audience: "desk", body: `{"id":1,"note":"low"}`},
		{at: "/desk/new", audience: "desk", body: `{"id":1,"remark":"low"}`}},
	kind.HeavyExcess: {{at: "/tides", body: `{"id":1,"colour":"` + strings.Repeat("grey and green ", 9000) + `"}`}},
}

const kindContract = `
inkret: 1
service: quay
servers: ["https://quay.example"]
audiences: [{name: visitor}, {name: desk}]
callers: [{header: X-Person}]
entities:
  Catch:
    owner: owner
    fields: {owner: {type: integer, class: public}, remark: {type: string, class: personal}}
  Tide:
    fields:
      id: {type: integer, class: public}
      height_metres: {type: number, class: public}
      remark: {type: string, class: personal}
    relations: {berth: {entity: Berth}}
  Berth: {fields: {length: {type: number, class: public}}}
responses:
  - {statuses: [4XX, 5XX], grants: {title: {type: string}}}
endpoints:
  - endpoint: GET /tides
    responses:
      - {audiences: [visitor], statuses: [200], entity: Tide, grants: {id: , height_metres: {optional: true}}}
      - {audiences: [desk], statuses: [200], entity: Tide, grants: {id: , remark: {optional: true}}}
  - endpoint: GET /mine
    responses: [{statuses: [200], entity: Catch, grants: {owner: , remark: {own: true}}}]
  - endpoint: POST /tides
    accepts: [{audiences: [visitor, desk], entity: Tide, grants: {height: height_metres}}]
    responses:
      - {audiences: [visitor, desk], statuses: [200], entity: Tide, grants: {id: }}
  - endpoint: GET /heights
    responses: [{entity: Tide, grants: {id: , height: height_metres}}]
  - endpoint: GET /desk
    selection: {query: only}
    responses: [{audiences: [desk], statuses: [200], entity: Tide, grants: {id: , remark: }}]
  - endpoint: GET /desk/old
    responses: [{audiences: [desk], statuses: [200], entity: Tide, grants: {id: , note: remark}}]
  - endpoint: GET /desk/new
    responses: [{audiences: [desk], statuses: [200], entity: Tide, grants: {id: , remark: }}]
`

// kindCall is one exchange of a case; what is empty is GET, 200, visitor and JSON.
type kindCall struct {
	method, at, audience, sent, body, field string
	own                                     string // a header field of the request
	status                                  int
}

func (c kindCall) line() string {
	if c.method == "" {
		c.method = "GET"
	}
	if c.status == 0 {
		c.status = 200
	}
	if c.audience == "" {
		c.audience = "visitor"
	}
	header, sent := `{"name":"Content-Type","value":"application/json"}`, ""
	if c.field != "" {
		header += "," + c.field
	}
	if c.sent != "" {
		text, _ := json.Marshal(c.sent)
		sent = `,"headers":[{"name":"Content-Type","value":"application/json"}],"body":` + string(text)
	}
	body, _ := json.Marshal(c.body)
	if c.own != "" {
		sent = `,"headers":[` + c.own + `]`
	}
	return fmt.Sprintf(`{"audience":%q,"started":"2026-05-01T08:00:00Z","request":{"method":%q,"url":%q%s},`+
		`"response":{"status":%d,"headers":[%s],"body":%s}}`+"\n", c.audience, c.method, "https://quay.example"+c.at, sent,
		c.status, header, body)
}

// TestEveryKindHasACase runs the program on a case of each kind. A kind that is added and has none fails.
func TestEveryKindHasACase(t *testing.T) {
	home := t.TempDir()
	contract := filepath.Join(home, "quay.yaml")
	if err := os.WriteFile(contract, []byte(kindContract), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, k := range kind.All() {
		if kindCases[k] == nil {
			t.Errorf("%s has no case here", k)
			continue
		}
		var lines string
		for _, c := range kindCases[k] {
			lines += c.line()
		}
		r := run(t, home, strings.NewReader(lines), "check", "--contracts", contract, "--format", "json", "-")
		var found checked
		if err := json.Unmarshal([]byte(r.out), &found); err != nil {
			t.Fatalf("%s: %v\n%s", k, err, r.err)
		}
		var names []string
		for _, f := range found.Findings {
			names = append(names, f.Kind)
		}
		if !strings.Contains(" "+strings.Join(names, " ")+" ", " "+k.String()+" ") {
			t.Errorf("of %s nothing is told, but %q %v", k, names, found.Skipped)
		}
	}
}
