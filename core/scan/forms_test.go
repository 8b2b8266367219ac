package scan

import "testing"

const forms = `
inkret: 1
service: s
entities:
  Crew:
    fields:
      id:     {type: integer, class: public}
      rank:   {type: string, class: public, max: 8}
      paid:   {type: boolean, class: public}
      share:  {type: number, class: public, nullable: true}
      since:  {type: string, format: date, class: public}
      mail:   {type: string, format: email, class: personal}
      level:  {type: string, class: public, values: [low, high]}
      secret: {type: string, class: secret}
    relations: {boat: {entity: Boat}, mates: {entity: Crew, many: true}}
  Boat:
    fields: {id: {type: integer, class: public}, name: {type: string, class: public}, key: {type: string, class: secret}}
    relations: {owner: {entity: Crew}}
endpoints:
  - endpoint: GET /one
    responses: [{entity: Crew, at: /data, grants: {id: , rank: {optional: true}, paid: {optional: true}, share: {optional: true}, since: {optional: true}, mail: {optional: true, reason: shown}, level: {optional: true}}}]
  - endpoint: GET /list
    responses: [{entity: Crew, at: /data, many: true, grants: {id: }}]
  - endpoint: GET /bare
    responses: [{entity: Crew, many: true, grants: {id: }}]
  - endpoint: GET /boat
    responses: [{entity: Crew, at: /data, grants: {id: , boat: {grants: {id: , name: }, optional: true}, mates: {many: true, optional: true, grants: {id: , boat: {reference: id, optional: true}}}}}]
  - endpoint: GET /flag
    responses: [{entity: Crew, grants: {id: , was_paid: paid}}]
  - endpoint: GET /share
    responses: [{entity: Crew, grants: {id: , part: share}}]
  - endpoint: GET /total
    responses: [{entity: Crew, grants: {id: , total: {derived: [share], type: number}}}]
`

// TestForms checks which forms of a value, an envelope or a relation differ from the grant, and which do not.
func TestForms(t *testing.T) {
	contracts := mustRead(t, forms)
	for _, c := range []struct{ name, path, body, want string }{
		{"all as granted", "/one",
			`{"data":{"id":1,"rank":"mate","paid":true,"share":0.5,"since":"2026-05-01","mail":"a@b.example","level":"low"}}`, `uneven-exposure info $.data.share`},
		{"an integer with a point is one", "/one", `{"data":{"id":1.0}}`, ``},
		{"an integer is a number", "/one", `{"data":{"id":1,"share":2}}`, `uneven-exposure info $.data.share`},
		{"a fraction is no integer", "/one", `{"data":{"id":1.5}}`, `value-mismatch low $.data.id`},
		{"a number in quotes is none", "/one", `{"data":{"id":"1","share":"0.5"}}`,
			"value-mismatch low $.data.id\nvalue-mismatch low $.data.share"},
		{"a boolean as a number", "/one", `{"data":{"id":1,"paid":1}}`, `value-mismatch low $.data.paid`},
		{"null where it may be", "/one", `{"data":{"id":1,"share":null}}`, `uneven-exposure info $.data.share`},
		{"null where it may not", "/one", `{"data":{"id":null}}`, `value-mismatch low $.data.id`},
		{"absent is another thing than null", "/one", `{"data":{}}`, ``},
		{"and so is an empty text", "/one", `{"data":{"id":1,"rank":"","since":""}}`,
			`value-mismatch low $.data.since`},
		{"as long as it may be", "/one", `{"data":{"id":1,"rank":"boatswai"}}`, ``},
		{"one letter longer", "/one", `{"data":{"id":1,"rank":"boatswain"}}`, `value-mismatch low $.data.rank`},
		{"letters count, not bytes", "/one", `{"data":{"id":1,"rank":"äöüßéàçñ"}}`, ``},
		{"padded to the column's width", "/one", `{"data":{"id":1,"rank":"mate    "}}`,
			`value-mismatch low $.data.rank`},
		{"a blank at the end is no padding", "/one", `{"data":{"id":1,"rank":"mate "}}`, ``},
		{"a date that there is not", "/one", `{"data":{"id":1,"since":"2026-02-30"}}`,
			`value-mismatch low $.data.since`},
		{"a value of the set", "/one", `{"data":{"id":1,"level":"middle"}}`, `value-mismatch low $.data.level`},
		{"an object for a value", "/one", `{"data":{"id":{"of":1}}}`, `value-mismatch low $.data.id`},
		{"a list for a value", "/one", `{"data":{"id":[1]}}`, `value-mismatch low $.data.id`},
		{"no envelope", "/one", `{"id":1}`, `missing-field low $.data`},
		{"two envelopes", "/one", `{"data":{"data":{"id":1}}}`,
			"missing-field low $.data.id\nunexpected-relation medium $.data.data"},
		{"a list of one for a single thing", "/one", `{"data":[{"id":1}]}`, `value-mismatch low $.data`},
		{"one for a list", "/list", `{"data":{"id":1}}`, `value-mismatch low $.data`},
		{"an empty list", "/list", `{"data":[]}`, ``},
		{"null for a list", "/list", `{"data":null}`, `value-mismatch low $.data`},
		{"a bare list where an envelope was promised", "/list", `[{"id":1}]`, `missing-field low $.data`},
		{"a bare list that was promised", "/bare", `[{"id":1},{"id":2}]`, ``},
		{"an envelope where a bare list was promised", "/bare", `{"data":[{"id":1}]}`,
			"value-mismatch low $\nmissing-field low $.id\nunexpected-relation medium $.data"},
		{"a reference for an object", "/boat", `{"data":{"id":1,"boat":7}}`, `value-mismatch low $.data.boat`},
		{"an object for a reference, in a list", "/boat",
			`{"data":{"id":1,"mates":[{"id":2,"boat":{"id":7,"key":"k"}}]}}`,
			"unexpected-relation high $.data.mates[*].boat\nsensitive-field critical $.data.mates[*].boat.key"},
		{"a to-one as a list", "/boat", `{"data":{"id":1,"boat":[{"id":7,"name":"Gull"}]}}`,
			`value-mismatch low $.data.boat`},
		{"a relation inside of a relation", "/boat",
			`{"data":{"id":1,"boat":{"id":7,"name":"Gull","owner":{"id":1,"secret":"s","mail":"a@b.example"}}}}`,
			"unexpected-relation high $.data.boat.owner\nsensitive-field critical " +
				"$.data.boat.owner.secret\nsensitive-field high $.data.boat.owner.mail"},
		{"a boolean that takes the place of another", "/flag", `{"id":1,"paid_was":true}`,
			`renamed-field medium $.paid_was`},
		{"a text does not", "/flag", `{"id":1,"paid_was":"yes"}`,
			"missing-field low $.was_paid\nunexpected-field medium $.paid_was"},
		{"an integer takes a number's", "/share", `{"id":1,"crew_part":3}`, `renamed-field medium $.crew_part`},
		{"null takes that of what may be null", "/share", `{"id":1,"crew_part":null}`,
			`renamed-field medium $.crew_part`},
		{"an object takes nobody's", "/share", `{"id":1,"crew_part":{"of":3}}`,
			"missing-field low $.part\nunexpected-relation medium $.crew_part"},
		{"a derived value is held against its type alone", "/total", `{"id":1,"total":99}`, ``},
		{"and told where that is another", "/total", `{"id":1,"total":"99"}`, `value-mismatch low $.total`},
	} {
		t.Run(c.name, func(t *testing.T) {
			out := NewJudge(contracts).Capture(call(c.path, "", c.body))
			if got := describe(out.Spots); got != c.want {
				t.Errorf("%s gives\n%s\nwant\n%s", c.body, got, c.want)
			}
		})
	}
}
