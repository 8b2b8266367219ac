package scan

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"inkret/core/contract"
	"inkret/core/exchange"
)

// harbour is the contract that most cases here are judged by.
const harbour = `
inkret: 1
service: fennick-quay
audiences:
  - name: visitor
    recognise: {credentials: none}
  - name: skipper
    recognise: {header: {name: X-Role, value: skipper}}
  - name: office
    recognise: {header: {name: X-Desk, value: "*"}}
entities:
  Booking:
    fields:
      id:         {type: integer, class: internal}
      reference:  {type: string, class: public, max: 12}
      arrives_on: {type: string, format: date, class: public}
      desk_note:  {type: string, class: internal, nullable: true}
      colour:     {type: string, class: public}
      mystery:    {type: string}
    relations:
      berth:   {entity: Berth}
      skipper: {entity: Skipper}
      charges: {entity: Charge, many: true}
  Berth:
    fields:
      id:       {type: integer, class: internal}
      label:    {type: string, class: public}
      length_m: {type: number, class: public}
    relations:
      bookings: {entity: Booking, many: true}
  Skipper:
    fields:
      id:            {type: integer, class: internal}
      display_name:  {type: string, class: personal}
      email:         {type: string, format: email, class: personal}
      password_hash: {type: string, class: secret}
  Charge:
    fields:
      id:     {type: integer, class: internal}
      amount: {type: number, class: internal}
shapes:
  berth-card: {entity: Berth, grants: {label: , length: length_m}}
responses:
  - {statuses: [4XX], grants: {title: {type: string}, detail: {type: string, optional: true}}}
endpoints:
  - endpoint: GET /bookings/{id}
    responses:
      - audiences: [skipper, office]
        entity: Booking
        at: /data
        grants:
          id:
          ref: reference
          note:   {field: desk_note, optional: true, audiences: [office]}
          nights: {derived: [arrives_on], type: integer, optional: true}
          berth:  {shape: berth-card, optional: true}
          owner:  {relation: skipper, optional: true, grants: {id: , name: display_name}}
          charges: {reference: id, optional: true}
        beside:
          meta: {open: true}
  - endpoint: GET /bookings
    responses:
      - entity: Booking
        at: /items
        many: true
        grants: {id: , ref: reference}
  - endpoint: GET /plain
    responses:
      - entity: Booking
        grants: {id: , arrives_on: }
  - endpoint: GET /split
    responses:
      - {audiences: [visitor], entity: Booking, grants: {id: }}
      - audiences: [office]
        entity: Booking
        grants: {id: , desk_note: , skipper: {grants: {id: , email: }}}
  - endpoint: GET /office-only
    responses:
      - {audiences: [office], entity: Booking, at: /data, many: true, grants: {id: , skipper: {grants: {email: }}}}
  - endpoint: GET /free
    responses:
      - {grants: {total: {type: integer}, extra: {open: true, optional: true}, tags: {type: object, keys: any, optional: true}}}
`

func mustRead(t testing.TB, text string) *contract.Contracts {
	t.Helper()
	c, err := contract.Read(contract.File{Name: "test.yaml", Data: []byte(text)})
	if err != nil {
		t.Fatalf("the contract of the test does not read:\n%v", err)
	}
	return c
}

// call makes a capture of a GET as an audience of the harbour contract.
func call(path, audience, body string) *exchange.Capture {
	u, err := url.Parse("https://api.fennick-quay.example" + path)
	if err != nil {
		panic(err)
	}
	return &exchange.Capture{
		Audience: audience,
		Request:  exchange.Request{Method: "GET", URL: u},
		Response: exchange.Response{Status: 200, Body: []byte(body),
			Header: exchange.Header{{Name: "Content-Type", Value: "application/json; charset=utf-8"}}},
	}
}

func describe(spots []Spot) string {
	var lines []string
	for i := range spots {
		s := &spots[i]
		lines = append(lines, fmt.Sprintf("%s %s %s", s.Kind, s.Severity, s.Path))
	}
	return strings.Join(lines, "\n")
}

const (
	bcrypt = "$2b$12$abcdefghijklmnopqrstuuZ5y1B3C4D5E6F7G8H9I0J1K2L3M4N5O"
	card   = "4111 1111 1111 1111"
)

// TestSpots shows what each kind needs to be reported, and what not.
func TestSpots(t *testing.T) {
	contracts := mustRead(t, harbour)
	cases := []struct {
		name, path, audience, body string
		want                       string
	}{
		{"all granted", "/bookings/7", "skipper",
			`{"data":{"id":7,"ref":"FQ-1","berth":{"label":"A1","length":9.5}},"meta":{"took":3}}`, ``},
		{"a field that nobody is granted goes by its class", "/bookings/7", "skipper",
			`{"data":{"id":7,"ref":"x","colour":"red","mystery":"m","arrives_on":"2026-05-01"}}`,
			"unexpected-field low $.data.colour\nunexpected-field medium $.data.mystery\nunexpected-field low " +
				"$.data.arrives_on"},
		{"a name the catalogue does not know is unclassed", "/bookings/7", "skipper",
			`{"data":{"id":7,"ref":"x","rowversion":4}}`,
			"unexpected-field medium $.data.rowversion"},
		{"capitals, underscores and hyphens do not hide a field", "/bookings/7", "skipper",
			`{"data":{"id":7,"ref":"x","DESK-NOTE":"n","Colour":"c"}}`,
			"unexpected-field medium $.data['DESK-NOTE']\nunexpected-field low $.data.Colour"},
		{"a granted field sent under its own name is a renamed one", "/bookings/7", "skipper",
			`{"data":{"id":7,"reference":"x"}}`, "renamed-field medium $.data.reference"},
		{"whatever else is unexpected or missing", "/bookings/7", "skipper",
			`{"data":{"Reference":"x","colour":"red"}}`,
			"missing-field low $.data.id\nrenamed-field medium $.data.Reference\nunexpected-field low $.data.colour"},
		{"the only two of their sort, with words in common", "/bookings/7", "skipper",
			`{"data":{"id":7,"booking_ref":"x"}}`, "renamed-field medium $.data.booking_ref"},
		{"words that are not in common", "/bookings/7", "skipper", `{"data":{"id":7,"preference":"x"}}`,
			"missing-field low $.data.ref\nunexpected-field medium $.data.preference"},
		{"a value of another type", "/bookings/7", "skipper", `{"data":{"id":7,"booking_ref":5}}`,
			"missing-field low $.data.ref\nunexpected-field medium $.data.booking_ref"},
		{"not the only two", "/bookings/7", "skipper", `{"data":{"id":7,"booking_ref":"x","more":"y"}}`,
			"missing-field low $.data.ref\nunexpected-field medium $.data.booking_ref\nunexpected-field medium " +
				"$.data.more"},
		{"a field of its own", "/plain", "visitor", `{"id":7,"arrives-on":"2026-05-01","desk_note":"n"}`,
			"renamed-field medium $['arrives-on']\nunexpected-field medium $.desk_note"},
		{"what is sensitive stays so", "/bookings/7", "skipper", `{"data":{"id":7,"ref_token":"k7Q2m9Xw"}}`,
			"missing-field low $.data.ref\nsensitive-field critical $.data.ref_token"},
		{"a member granted to another audience", "/bookings/7", "skipper", `{"data":{"id":7,"ref":"x","note":"late"}}`,
			"wrong-audience medium $.data.note"},
		{"the same member for its own audience", "/bookings/7", "office", `{"data":{"id":7,"ref":"x","note":"late"}}`,
			`uneven-exposure info $.data.note`},
		{"a member granted in another audience's response", "/split", "visitor", `{"id":7,"desk_note":"late"}`,
			"wrong-audience medium $.desk_note"},
		{"a relation granted to others only is one spot of the gravest class in it", "/split", "visitor",
			`{"id":7,"skipper":{"id":1,"email":"ada@quay.example"}}`, "wrong-audience high $.skipper"},
		{"what not even they are granted in it stands for itself when sensitive", "/split", "visitor",
			`{"id":7,"skipper":{"id":1,"email":"ada@quay.example","display_name":"Ada","rank":1}}`,
			"wrong-audience high $.skipper\nsensitive-field high $.skipper.display_name"},
		{"a body of another audience is one spot at the entity", "/office-only", "visitor",
			`{"data":[{"id":7,"skipper":{"email":"ada@quay.example"}},{"id":8,"skipper":{"email":"b@quay.example"}}]}`,
			"wrong-audience high $.data"},
		{"what it does not grant either stands for itself", "/office-only", "visitor",
			`{"data":[{"id":7,"colour":"red","skipper":{"email":"a@b.example"}}]}`,
			"wrong-audience high $.data\nunexpected-field low $.data[*].colour"},
		{"a relation that is not granted", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","berth":{"id":1,"label":"A1","bookings":[{"id":9}]}}`,
			"unexpected-relation medium $.berth"},
		{"it is high when personal things are inside, which stand for themselves", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","skipper":{"id":1,"email":"a","rank":2}}`,
			"unexpected-relation high $.skipper\nsensitive-field high $.skipper.email"},
		{"with nothing in them it is not", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","skipper":{"id":1,"email":null,"rank":2}}`,
			"unexpected-relation medium $.skipper\nsensitive-field medium $.skipper.email"},
		{"the sensitive thing deep inside is found through catalogued relations", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","berth":{"bookings":[{"skipper":{"display_name":"Ada","password_hash":"` + bcrypt + `"}}]}}`,
			"unexpected-relation high $.berth\nsensitive-field high " +
				"$.berth.bookings[*].skipper.display_name\nsecret-value critical " +
				"$.berth.bookings[*].skipper.password_hash"},
		{"a catalogued relation is one whatever its value is", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","berth":null,"charges":[]}`,
			"unexpected-relation medium $.berth\nunexpected-relation medium $.charges"},
		{"an object nobody knows is a relation too", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","thing":{"a":1},"list":[[{"a":1}]],"plain":[1,2]}`,
			"unexpected-relation medium $.thing\nunexpected-relation medium $.list\nunexpected-field medium $.plain"},
		{"a reference sent as an object", "/bookings/7", "skipper",
			`{"data":{"id":7,"ref":"x","charges":[{"id":1,"amount":5}]}}`,
			"unexpected-relation medium $.data.charges"},
		{"a reference sent as one", "/bookings/7", "skipper", `{"data":{"id":7,"ref":"x","charges":[1,2]}}`, ``},
		{"a telling name in an entity", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","apiKey":"k1-0d9f8a7b","Phone-Number":"01632 960"}`,
			"sensitive-field critical $.apiKey\nsensitive-field high $['Phone-Number']"},
		{"a telling name without a value tells nothing", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","password":null,"token":""}`,
			"unexpected-field medium $.password\nunexpected-field medium $.token"},
		{"a name that says something about the thing", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","password_changed_at":"x","has_phone":1}`,
			"unexpected-field medium $.password_changed_at\nunexpected-field medium $.has_phone"},
		{"a recognised value is graver than its field", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","colour":"write to ada@quay.example"}`,
			"personal-value high $.colour"},
		{"between equals the higher row stands", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","email":"ada@quay.example"}`, "sensitive-field high $.email"},
		{"a granted value of a graver class", "/bookings/7", "skipper", `{"data":{"id":7,"ref":"ada@q.example"}}`,
			"personal-value high $.data.ref"},
		{"a grant of that class covers it", "/bookings/7", "skipper",
			`{"data":{"id":7,"ref":"x","owner":{"id":1,"name":"ada@q.example"}}}`, ``},
		{"a secret in a personal field", "/bookings/7", "skipper",
			`{"data":{"id":7,"ref":"x","owner":{"id":1,"name":"` + bcrypt + `"}}}`,
			"secret-value critical $.data.owner.name"},
		{"a number that has a card's check digit", "/free", "visitor", `{"total":4111111111111111}`, ""},
		{"a card number written as a number", "/free", "visitor",
			`{"total":1,"extra":{"pan":4111111111111111,"ids":[4111111111111111]}}`,
			"secret-value critical $.extra.pan"},
		{"open members are swept", "/free", "visitor",
			`{"total":1,"extra":{"deep":[{"token":"t0k3n-91","email":"","note":"card ` + card + `"}]}}`,
			"sensitive-field critical $.extra.deep[*].token\nsecret-value critical $.extra.deep[*].note"},
		{"the envelope has no class", "/bookings/7", "skipper", `{"data":{"id":7,"ref":"x"},"took":1}`,
			"unexpected-field low $.took"},
		{"several elements share a path", "/bookings", "visitor",
			`{"items":[{"id":1,"ref":"a","colour":"r"},{"id":2,"ref":"b","colour":"g"}]}`,
			"unexpected-field low $.items[*].colour\nunexpected-field low $.items[*].colour"},
		{"absent and not optional", "/bookings", "visitor", `{"items":[{"id":1}]}`, "missing-field low $.items[*].ref"},
		{"nothing is missing in what is empty", "/bookings", "visitor", `{"items":[]}`, ``},
		{"the entity's place is absent", "/bookings", "visitor", `{"took":1}`,
			"missing-field low $.items\nunexpected-field low $.took"},
		{"the body itself is the entity", "/bookings/7", "skipper", `{"id":7,"ref":"x","colour":"r","meta":{}}`,
			"missing-field low $.data\nunexpected-field low $.colour"},
		{"its elements are", "/bookings", "visitor", `[{"id":7,"ref":"x","colour":"r"}]`,
			"missing-field low $.items\nunexpected-field low $[*].colour"},
		{"one for many", "/bookings", "visitor", `{"items":{"id":1,"ref":"a","colour":"r"}}`,
			"value-mismatch low $.items\nunexpected-field low $.items.colour"},
		{"many for one", "/plain", "visitor", `[{"id":1,"arrives_on":"2026-05-01"}]`, "value-mismatch low $"},
		{"null for an entity", "/bookings/7", "skipper", `{"data":null}`, "value-mismatch low $.data"},
		{"types and formats", "/plain", "visitor", `{"id":"7","arrives_on":"2026-02-30"}`,
			"value-mismatch low $.id\nvalue-mismatch low $.arrives_on"},
		{"10.0 is an integer", "/plain", "visitor", `{"id":10.0,"arrives_on":"2024-02-29"}`, ``},
		{"a list under a telling name tells by its elements, an object by its members", "/free", "visitor",
			`{"total":1,"extra":{"passwords":["hunter2",null,true,"x",["deep"],{"a":"b"}],"authToken":{"duration":60},` +
				`"otp":{"enabled":true,"password":"hunter2"},"prompt_tokens":[12,13]}}`,
			"sensitive-field critical $.extra.passwords[*]\nsensitive-field critical $.extra.passwords[*]\n" +
				"sensitive-field critical $.extra.passwords[*][*]\nsensitive-field critical $.extra.otp.password"},
		{"and so where an entity is", "/plain", "visitor",
			`{"id":7,"arrives_on":"2026-05-01","tokens":["k7Q2m9XwP1","USDC"],"authToken":{"duration":60}}`,
			"unexpected-field medium $.tokens\nsensitive-field critical $.tokens[*]\nunexpected-relation medium " +
				"$.authToken"},
		{"names that are data share a path and are masked", "/free", "visitor",
			`{"total":1,"extra":{"ada@quay.example":1,"12345":{"token":"t0k3n-91"}}}`,
			"personal-value high $.extra[*]\nsensitive-field critical $.extra[*].token"},
		{"map keys share a path", "/free", "visitor", `{"total":1,"tags":{"a":"x","b":"mail ada@quay.example"}}`,
			"personal-value high $.tags[*]"},
		{"an unknown endpoint is swept", "/boats/12345", "visitor", `{"owner":{"password":"hunter2"},"name":"Gull"}`,
			"sensitive-field critical $.owner.password\nunknown-endpoint low $"},
		{"errors have a contract of their own", "/nope?status=404", "visitor", `{}`, "unknown-endpoint low $"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			out := NewJudge(contracts).Capture(call(c.path, c.audience, c.body))
			if out.Skipped != "" {
				t.Fatalf("skipped: %s", out.Skipped)
			}
			if got := describe(out.Spots); got != c.want {
				t.Errorf("spots of %s\n got:\n%s\nwant:\n%s", c.body, got, c.want)
			}
		})
	}
}
