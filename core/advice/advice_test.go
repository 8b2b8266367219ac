package advice

import (
	"fmt"
	"strings"
	"testing"

	"inkret/core/contract"
)

const text = `inkret: 1
service: quay
audiences: [{name: visitor, recognise: {credentials: none}}, {name: skipper}]
entities:
  Boat:
    fields:
      id: {type: integer, class: internal}
      name: {type: string, class: public}
      built: {type: string, class: public}
      key_code: {type: string, class: secret}
      owner_id: {type: integer, class: internal}
      tier: {type: string}
  Person:
    fields:
      email: {type: string, class: personal}
shapes:
  lonely: {entity: Boat, grants: {id: }}
  used: {entity: Person, grants: {email: }}
endpoints:
  - endpoint: GET /boats
    responses:
      - entity: Boat
        many: true
        grants:
          id:
          title: name
          built: {format: date}
  - endpoint: GET /boats/{id}
    responses:
      - entity: Boat
        grants:
          id:
          name:
          built:
          color: {type: string}
          key_code: {reason: shown once}
      - {audiences: [visitor], entity: Boat, grants: {id: }}
      - {audiences: [skipper], entity: Boat, grants: {id: }}
  - endpoint: PATCH /boats/{id}
    accepts:
      - {entity: Boat, grants: {id: , name: , owner_id: , built: }}
    responses:
      - {entity: Boat, grants: {id: , name: , owner_id: , built: }}
  - endpoint: GET /people
    responses: [{shape: used, many: true}]
  - endpoint: GET /staff
    responses: [{entity: Person, many: true, grants: {email: {needed_by: [desk]}}}]
`

func TestAdvice(t *testing.T) {
	c, err := contract.Read(contract.File{Name: "c.yaml", Data: []byte(text)})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, a := range On(c, nil) {
		if a.Text == "" || a.Mend == "" || a.Weight == "" || a.Line == 0 {
			t.Errorf("%s at %s says too little: %+v", a.Code, a.About, a)
		}
		got = append(got, fmt.Sprintf("%d %s %s", a.Line, a.Code, a.About))
	}
	const want = `12 unclassed-field Boat.tier
17 unused-shape shape lonely
18 nobody-needs Person.email
26 disagreement Boat.name
27 disagreement Boat.built
30 never-chosen response 2XX
35 no-field color
36 secret-granted Boat.key_code
41 accepts-server-set Boat.id
41 accepts-server-set Boat.owner_id
41 write-copies-read accepts`
	if text := strings.Join(got, "\n"); text != want {
		t.Errorf("got\n%s\nwant\n%s", text, want)
	}
}

// TestWhatIsHandedOutForAReason advises on grants of what an endpoint is there to hand out, and of what nobody
// should be shown.
func TestWhatIsHandedOutForAReason(t *testing.T) {
	for name, advised := range map[string]bool{"token": false, "refresh_token": false, "apiKey": false,
		"recovery_code": false, "license_key": false, "password_hash": true, "card_number": true, "secret": true,
		"spare": true} {
		c, err := contract.Read(contract.File{Name: "c.yaml", Data: []byte(strings.ReplaceAll(`inkret: 1
service: quay
audiences: [{name: visitor}]
entities: {Session: {fields: {NAME: {type: string, class: secret}}}}
endpoints:
  - endpoint: POST /session
    responses: [{entity: Session, grants: {NAME: {class: secret, reason: it is what they come for}}}]
`, "NAME", name))})
		if err != nil {
			t.Fatal(err)
		}
		if all := On(c, nil); len(all) > 0 != advised {
			t.Errorf("on %s there is %+v", name, all)
		}
	}
}

func TestWhatNoCaptureHasShown(t *testing.T) {
	c, err := contract.Read(contract.File{Name: "c.yaml", Data: []byte(text)})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, a := range On(c, &Traffic{
		Captured: func(endpoint, audience string) bool { return endpoint == "GET /boats" && audience == "visitor" },
		Shown:    func(_, _, _, field string) bool { return field != "built" },
	}) {
		if a.Code == NotSeen {
			got = append(got, a.Endpoint+" "+a.About+" "+a.Text)
		}
	}
	if len(got) != 1 || got[0] != "GET /boats Boat.built is granted to visitor, and no capture has shown it lately" {
		t.Errorf("got %v", got)
	}
}
