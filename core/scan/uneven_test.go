package scan

import (
	"strings"
	"testing"
)

const unevenContract = `inkret: 1
service: s
audiences: [{name: visitor}, {name: office}]
entities:
  Berth:
    fields: {id: {type: integer, class: internal}, label: {type: string, class: public}, price: {type: number, class: public}, since: {type: string, format: date, class: public}}
    relations: {next: {entity: Berth}}
shapes:
  card: {entity: Berth, grants: {id: , label: , price: }}
  nested: {entity: Berth, grants: {label: , next: {shape: nested, optional: true}}}
endpoints:
  - endpoint: GET /berths
    responses: [{many: true, shape: card}]
  - endpoint: GET /berths/{id}
    responses: [{shape: card}]
  - endpoint: GET /free
    responses: [{entity: Berth, many: true, grants: {id: , label: , price_eur: price, since: }}]
  - endpoint: GET /mine
    responses: [{entity: Berth, at: /data, grants: {number: id, price: {type: string}, since: {format: date-time}}}]
  - endpoint: GET /desk
    responses:
      - {audiences: [office], entity: Berth, grants: {id: , title: label}}
      - {audiences: [visitor], entity: Berth, grants: {id: , name: label}}
  - endpoint: GET /both
    responses: [{entity: Berth, grants: {label: , also: label}}]
  - endpoint: GET /nested
    responses: [{shape: nested}]
  - endpoint: GET /others
    responses: [{audiences: [office], entity: Berth, grants: {id: , no: id}}]
`

func TestUnevenExposure(t *testing.T) {
	contracts := mustRead(t, unevenContract)
	for _, c := range []struct{ name, path, audience, body, want string }{
		{"as most have it", "/berths/7", "visitor", `{"id":7,"label":"A7","price":4}`, ``},
		{"another name", "/free", "visitor",
			`[{"id":7,"label":"A7","price_eur":4,"since":"2026-05-01"},{"id":8,"label":"A8","price_eur":4,"since":"2026-05-01"}]`,
			"uneven-exposure info $[*].price_eur\nuneven-exposure info $[*].price_eur"},
		{"another name, type and format: of two forms that are as frequent the first by its text is usual", "/mine",
			"visitor", `{"data":{"number":7,"price":"4.00","since":"2026-05-01T10:00:00Z"}}`,
			"uneven-exposure info $.data.number\nuneven-exposure info $.data.price\nuneven-exposure info $.data.since"},
		{"something graver at the place stands for it", "/mine", "visitor",
			`{"data":{"number":"x","price":"4.00","since":"2026-05-01T10:00:00Z"}}`,
			"value-mismatch low $.data.number\nuneven-exposure info $.data.price\nuneven-exposure info $.data.since"},
		{"for each audience by itself", "/desk", "office", `{"id":7,"title":"A7"}`, "uneven-exposure info $.title"},
		{"the usual name beside it", "/both", "visitor", `{"label":"A7","also":"A7"}`, ``},
		{"a shape within itself", "/nested", "visitor", `{"label":"A7","next":{"label":"A8","next":{"label":"A9"}}}`,
			``},
		{"what is not there is not told", "/mine", "visitor", `{"data":{"number":7,"price":null}}`,
			"uneven-exposure info $.data.number\nvalue-mismatch low $.data.price\nmissing-field low $.data.since"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := strings.Split(describe(NewJudge(contracts).Capture(call(c.path, c.audience, c.body)).Spots), "\n")
			if want := strings.Split(c.want, "\n"); len(got) != len(want) || !sameLines(got, want) {
				t.Errorf("spots of %s\n got:\n%s\nwant:\n%s", c.body, strings.Join(got, "\n"), c.want)
			}
		})
	}
	out := NewJudge(contracts).Capture(call("/free", "visitor",
		`[{"id":7,"label":"A7","price_eur":4,"since":"2026-05-01"}]`))
	if len(out.Spots) != 1 || out.Excess != 0 {
		t.Fatalf("%d spots, %d bytes of excess", len(out.Spots), out.Excess)
	}
	if s := out.Spots[0]; s.Entity != "Berth" || s.Field != "price" ||
		s.Why() != "Berth.price is price_eur (number) here and price (number) at GET /berths, GET /berths/{id}" {
		t.Errorf("%s.%s: %s", s.Entity, s.Field, s.Why())
	}
}
