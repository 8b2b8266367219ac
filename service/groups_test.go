package service

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"inkret/core/severity"
	"inkret/service/base"
	"inkret/service/findings"
	"inkret/service/review"
)

const shapedQuay = `inkret: 1
service: quay
audiences: [{name: visitor, recognise: {credentials: none}}, {name: office, recognise: {header: {name: X-Desk, value: "*"}}}]
entities:
  Skipper: {fields: {id: {type: integer, class: internal}, name: {type: string, class: public}, email: {type: string, class: personal}, phone: {type: string, class: personal}, born_on: {type: string, class: personal}, pin: {type: string, class: secret}}}
shapes:
  card: {entity: Skipper, grants: {id: , name: }}
endpoints:
  - endpoint: GET /skippers/{id}
    team: accounts
    responses: [{entity: Skipper, shape: card}]
  - endpoint: GET /crew/{id}
    team: crews
    responses: [{entity: Skipper, shape: card}]
  - endpoint: GET /guests/{id}
    responses: [{entity: Skipper, grants: {id: , name: }}]
`

func TestFindingsAreGathered(t *testing.T) {
	w := newWorld(t)
	w.alone()
	if _, _, err := w.Review.Apply(t.Context(), w.who, "quay",
		review.Proposed{Files: []base.ContractFile{{Name: "quay.yaml", Text: shapedQuay}}}); err != nil {
		t.Fatal(err)
	}
	row := `{"id":7,"name":"Ada","email":"ada@sails.example","phone":"+441632960007","born_on":"1990-03-07","pin":"4471-tide"}`
	row2 := strings.NewReplacer("ada@sails", "eve@sails", "7007", "7008").Replace(row)
	at := func(path, body string) string {
		return strings.ReplaceAll(recording(body), "/skippers/7", path)
	}
	w.upload("a.har", at("/skippers/7", row))
	w.upload("b.har", at("/crew/7", `{"id":8,"name":"Bo","email":"ada@sails.example","extra":true}`))
	w.upload("d.har", at("/skippers/7", row2))
	w.upload("e.har", at("/crew/7", `{"id":8,"name":"Eve","email":"eve@sails.example"}`))
	w.upload("c.har", at("/guests/7", `{"id":9,"name":"Cy","pin":"9-other"}`))
	groups := func(by, query string) string {
		t.Helper()
		q, err := url.ParseQuery(query)
		if err != nil {
			t.Fatal(err)
		}
		all, left, err := w.Findings.Groups(t.Context(), w.who, q, by)
		if err != nil || left != 0 {
			t.Fatalf("by %s of %q: %d left, %v", by, query, left, err)
		}
		var out []string
		for _, g := range all {
			q, err := url.ParseQuery(g.Query)
			if err != nil {
				t.Fatal(err)
			}
			filter, err := w.Findings.Filter(t.Context(), w.who, q)
			if err != nil {
				t.Fatalf("%s: %v", g.Query, err)
			}
			_, counts, err := w.Findings.Findings(t.Context(), filter, base.Page{Number: 1, Size: 1})
			if err != nil {
				t.Fatal(err)
			}
			n := 0
			for level, c := range counts {
				if n += c; g.Open[severity.Severity(level)] != c {
					t.Errorf("by %s, %s: %d of severity %d, and its list has %d", by, g.Name,
						g.Open[severity.Severity(level)], level, c)
				}
			}
			if n != g.Findings {
				t.Errorf("by %s, %s has %d findings, and its list %d", by, g.Name, g.Findings, n)
			}
			out = append(out, fmt.Sprintf("%s %d", g.Name, g.Findings))
		}
		return strings.Join(out, ", ")
	}
	for _, c := range []struct{ by, query, want string }{
		{"field", "", "Skipper.pin 2, Skipper.email 2, Skipper.born_on 1, Skipper.phone 1"},
		{"shape", "", "quay/card 6"},
		{"endpoint", "", "GET /skippers/{id} 4, GET /guests/{id} 1, GET /crew/{id} 2"},
		{"team", "", "accounts 4, no team 1, crews 2"},
		{"kind", "severity=critical", "sensitive-field 2"},
		{"value", "", "2 values of Skipper.email 2"},
		{"field", "endpoint=none", ""},
		{"field", "field=email&state=any", "Skipper.email 2"},
	} {
		if got := groups(c.by, c.query); got != c.want {
			t.Errorf("by %s of %q: %q, want %q", c.by, c.query, got, c.want)
		}
	}
	for _, c := range []struct{ by, query string }{{"colour", ""}, {"field", "colour=red"}, {"field", "shape=none"}} {
		q, _ := url.ParseQuery(c.query)
		if _, _, err := w.Findings.Groups(t.Context(), w.who, q, c.by); code(err) != base.Invalid {
			t.Errorf("by %s of %q: %v", c.by, c.query, err)
		}
	}
	// all of a shape are moved at once
	by, err := w.Findings.Filter(t.Context(), w.who, url.Values{"shape": {"card"}})
	if err != nil {
		t.Fatal(err)
	}
	if c, err := w.Findings.ChangeFindings(t.Context(), w.who, nil, &by, findings.Wish{To: "in-repair"}); err != nil ||
		c.Findings != 6 {
		t.Errorf("%+v, %v", c, err)
	}
	// and each of a row says what it likely comes of
	emails, _, err := w.Findings.Findings(t.Context(), base.FindingFilter{Field: "email", Sort: "-endpoint"},
		base.Page{Number: 1, Size: 5})
	if err != nil || len(emails) != 2 {
		t.Fatal(emails, err)
	}
	for i, want := range []int{1, 0} {
		v, err := w.Findings.Finding(t.Context(), w.who, emails[i].ID)
		if err != nil || len(v.Causes) != want || want == 1 && !strings.Contains(v.Causes[0].Text,
			"the stored Skipper seems to go out as it is: born_on, email, phone, pin leak") {
			t.Errorf("%s: %+v, %v", emails[i].Endpoint, v.Causes, err)
		}
	}
}
