package scan

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"inkret/core/contract"
	"inkret/core/exchange"
)

// pages is a contract for bodies in other notations and bodies in bodies.
const pages = `
inkret: 1
service: pages
audiences: [{name: visitor}, {name: office, recognise: {header: {name: X-Desk, value: "*"}}}]
entities:
  Skipper:
    fields:
      id:    {type: integer, class: internal}
      name:  {type: string, class: public}
      email: {type: string, class: personal}
endpoints:
  - endpoint: GET /page
    responses:
      - {entity: Skipper, at: "script#state >> $.user", grants: {id: , name: }}
  - endpoint: GET /office-page
    responses:
      - {audiences: [office], entity: Skipper, at: "script#state >> /user", grants: {id: , email: }}
  - endpoint: GET /text
    responses:
      - {entity: Skipper, at: /payload >> /user, grants: {id: , name: }}
  - endpoint: GET /payloads
    responses:
      - {grants: {id: {type: integer}, note: {type: string, class: personal}, plain: {type: string, optional: true}}}
  - endpoint: GET /list
    responses:
      - {entity: Skipper, many: true, grants: {id: , name: }}
  - endpoint: GET /feed
    responses:
      - {entity: Skipper, many: true, at: /skippers/skipper, grants: {id: , name: , active: {type: boolean, optional: true}, rank: {type: number, optional: true}}}
`

// answerOf judges a body of a media type.
func answerOf(t *testing.T, path, media, body string) Outcome {
	t.Helper()
	c := call(path, "visitor", body)
	c.Response.Header[0].Value = media
	return NewJudge(mustRead(t, pages)).Capture(c)
}

// placed writes spots with their pointers, bytes and offsets.
func placed(spots []Spot) string {
	var lines []string
	for _, s := range spots {
		lines = append(lines, fmt.Sprintf("%s %s at %s, %d bytes from %d", s.Kind, s.Path, s.Pointer, s.Bytes,
			s.Offset))
	}
	return strings.Join(lines, "\n")
}

func TestBodiesInBodies(t *testing.T) {
	encoded := base64.RawURLEncoding.EncodeToString([]byte(`{"user":{"id":1,"name":"Ada","email":"ada@quay.example"}}`))
	deep := `{"a":"ada@quay.example"}`
	for i := 0; i < 6; i++ {
		text, _ := json.Marshal(deep)
		deep = `{"in":` + string(text) + `}`
	}
	for _, c := range []struct{ name, path, media, body, want string }{
		{"a page is judged at the place of its contract, the rest swept", "/page", "text/html",
			`<b data-x='{"mail":"b@quay.example"}'></b><script id=state type=application/json>{"user":{"id":1,"name":"A","email":"ada@quay.example"}}</script>`,
			`sensitive-field b[data-x] >> $.mail at b[data-x] >> /mail, 23 bytes from 0
sensitive-field script#state >> $.user.email at script#state >> /user/email, 26 bytes from 108`},
		{"the place is absent", "/page", "text/html", `<script id=other type=application/json>{"id":1}</script>`,
			`missing-field script#state at script#state, 0 bytes from 0`},
		{"what is granted there fits", "/page", "text/html",
			`<script id=state type=application/json>{"user":{"id":1,"name":"A"}}</script>`, ``},
		{"JSON in a string, by its contract", "/text", "application/json",
			`{"payload":"{\"user\":{\"id\":1,\"name\":\"A\",\"token_x\":2}}"}`,
			`unexpected-field $.payload >> $.user.token_x at /payload >> /user/token_x, 11 bytes from 1`},
		{"and in base64", "/text", "application/json", `{"payload":"` + encoded + `"}`,
			`sensitive-field $.payload >> $.user.email at /payload >> /user/email, 26 bytes from 1`},
		{"a grant covers what is in its text up to its class", "/payloads", "application/json",
			`{"id":1,"note":"{\"mail\":\"a@b.example\",\"h\":\"` + bcrypt + `\"}"}`,
			`secret-value $.note >> $.h at /note >> /h, 66 bytes from 8`},
		{"not as text alone", "/payloads", "application/json",
			`{"id":1,"note":"","plain":"[{\"mail\":\"a@b.example\"}]"}`,
			`sensitive-field $.plain >> $[*].mail at /plain >> /0/mail, 20 bytes from 18`},
		{"what only begins like JSON is text", "/payloads", "application/json",
			`{"id":1,"note":"","plain":"[draft] a@b.example"}`, `personal-value $.plain at /plain, 29 bytes from 18`},
		{"a few levels deep", "/nobody", "application/json", deep,
			`personal-value $.in >> $.in >> $.in >> $.in >> $.in at /in >> /in >> /in >> /in >> /in, 56 bytes from 1
unknown-endpoint $ at , 0 bytes from 0`},
		{"four levels deep", "/nobody", "application/json", levels(4),
			`personal-value $.in >> $.in >> $.in >> $.in >> $.a at /in >> /in >> /in >> /in >> /a, 22 bytes from 1
unknown-endpoint $ at , 0 bytes from 0`},
		{"an element", "/nobody", "application/json", `[{"p":"{}"},{"p":"{\"m\":\"a@b.example\"}"}]`,
			`personal-value $[*].p >> $.m at /1/p >> /m, 17 bytes from 13
unknown-endpoint $ at , 0 bytes from 0`},
		{"lines are a list", "/list", "application/x-ndjson",
			"{\"id\":1,\"name\":\"A\"}\n{\"id\":2,\"name\":\"B\",\"email\":\"b@quay.example\"}\n",
			`sensitive-field $[*].email at /1/email, 24 bytes from 39`},
		{"events too", "/list", "text/event-stream",
			"data: {\"id\":1,\"name\":\"A\",\"phone\":\"+44 1632 960001\"}\n\n",
			`sensitive-field $[*].phone at /0/phone, 25 bytes from 25`},
		{"XML has no types and tells one from many by nothing", "/feed", "application/xml",
			`<skippers><skipper id="1"><name>A</name><active>true</active><rank>1.5</rank><email>a@b.example</email></skipper></skippers>`,
			`sensitive-field $.skippers.skipper.email at /skippers/skipper/email, 26 bytes from 77`},
		{"but its texts must fit", "/feed", "application/xml",
			`<skippers><skipper id="x"><name>A</name></skipper><skipper id="2"><name>B</name><rank>high</rank></skipper></skippers>`,
			`value-mismatch $.skippers.skipper[*].id at /skippers/skipper/0/id, 16 bytes from 10
value-mismatch $.skippers.skipper[*].rank at /skippers/skipper/1/rank, 17 bytes from 80`},
		{"a broken line ends the judgement", "/list", "application/x-ndjson",
			"{\"id\":1,\"name\":\"A\",\"email\":\"b@quay.example\"}\n{\"id\":",
			`sensitive-field $[*].email at /0/email, 24 bytes from 19`},
	} {
		t.Run(c.name, func(t *testing.T) {
			out := answerOf(t, c.path, c.media, c.body)
			if got := placed(out.Spots); got != c.want {
				t.Errorf("spots:\n%s\nwant:\n%s", got, c.want)
			}
			if broken := strings.Contains(c.name, "broken"); (out.Skipped != "") != broken {
				t.Errorf("skipped because %q", out.Skipped)
			}
		})
	}
}

// levels puts a mail address into n texts in each other.
func levels(n int) string {
	body := `{"a":"ada@quay.example"}`
	for range n {
		text, _ := json.Marshal(body)
		body = `{"in":` + string(text) + `}`
	}
	return body
}

func TestPagesOfAnotherAudience(t *testing.T) {
	c := call("/office-page", "visitor",
		`<script id=state type=application/json>{"user":{"id":1,"email":"a@b.example"}}</script>`)
	c.Response.Header[0].Value = "text/html"
	out := NewJudge(mustRead(t, pages)).Capture(c)
	if got := describe(out.Spots); got != "wrong-audience high script#state >> $.user" {
		t.Errorf("spots: %s", got)
	}
	if out.Excess != len(`"user":{"id":1,"email":"a@b.example"}`) {
		t.Errorf("excess is %d", out.Excess)
	}
}

func TestPagesAndBodiesWithNothingToRead(t *testing.T) {
	for media, want := range map[string]string{"text/html": "no JSON is baked into the page",
		"application/xml": "the body is not XML", "multipart/mixed": "names no boundary"} {
		if out := answerOf(t, "/nobody", media, `<p>hello</b>`); !strings.Contains(out.Skipped, want) {
			t.Errorf("%s: skipped because %q", media, out.Skipped)
		}
	}
}

func TestPlacesBeforeTheArrowsAreChecked(t *testing.T) {
	for at, want := range map[string]string{"' >> /a'": "names no place", "'/a~2 >> /b'": "names no place",
		"'script#s >> b'": "no JSON Pointer", "'$.a >> $.b..c'": "no JSON Pointer"} {
		text := "inkret: 1\nservice: s\nendpoints: [{endpoint: GET /a, responses: [{at: " + at +
			", grants: {a: {type: string}}}]}]"
		_, err := contract.Read(contract.File{Name: "test.yaml", Data: []byte(text)})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("at: %s: %v, want %q", at, err, want)
		}
	}
}

func TestPictureOfBodiesInBodies(t *testing.T) {
	contracts := mustRead(t, pages)
	drawn := func(path, media, body string) string {
		c := call(path, "visitor", body)
		c.Response.Header[0].Value = media
		wire := NewWire(contracts)
		out := NewJudge(contracts).Watch(c, wire)
		var b strings.Builder
		draw(wire.Root(out.Spots), 0, &b)
		return b.String()
	}
	if got, want := drawn("/page", "text/html",
		`<i data-a='{"n":1}'></i><script id=state type=application/json>{"user":{"id":1,"email":"a@b.example"}}</script>`), ` page swept  46
 i[data-a] object swept  7
  n number swept ••• 5
 script#state object granted  39
  user object granted  37
   id number granted 1 6
   email string ungranted a•••@••• 21 sensitive-field
   name absent missing  0 missing-field
`; got != want {
		t.Errorf("picture:\n%swant:\n%s", got, want)
	}
	if got, want := drawn("/payloads", "application/json", `{"id":1,"note":"{\"mail\":\"a@b.example\"}"}`),
		` object granted  44
 id number granted 1 6
 note string granted {•••} 35
   object swept  22
   mail string swept a•••@••• 20
`; got != want {
		t.Errorf("picture:\n%swant:\n%s", got, want)
	}
}

func TestFormsAreHeldAgainstWhatIsAccepted(t *testing.T) {
	c := send("/bookings", "skipper", `arrives_on=2026-05-01&role=desk`, `{"data":{"id":1,"role":"desk"}}`)
	c.Request.Header = exchange.Header{{Name: "Content-Type", Value: "application/x-www-form-urlencoded"}}
	if got := describeRequest(NewJudge(mustRead(t,
		posting)).Capture(c).Spots); got != "over-posting high $.role at /role, 9 bytes" {
		t.Errorf("spots: %s", got)
	}
}

// TestShortTextsThatLookLikeBase64 checks that words that happen to begin like base64 of JSON are read as text.
func TestShortTextsThatLookLikeBase64(t *testing.T) {
	contracts := mustRead(t, harbour)
	for _, first := range []string{"e", "W", "e3", "W3", "eyJ", "W10"} {
		for length := range 40 {
			word := (first + strings.Repeat("nd0A", 10))[:len(first)+length]
			out := NewJudge(contracts).Capture(call("/free", "visitor", `{"total":1,"extra":{"word":"`+word+
				`","words":["`+word+`="]}}`))
			if out.Skipped != "" || len(out.Spots) != 0 {
				t.Fatalf("%q: skipped %q, %s", word, out.Skipped, describe(out.Spots))
			}
		}
	}
	out := NewJudge(contracts).Capture(call("/free", "visitor",
		`{"total":1,"extra":{"a":"W3siZW1haWwiOiJhQGIuZXhhbXBsZSJ9XQ","b":"end","c":"Wes"}}`))
	if got := describe(out.Spots); got != "sensitive-field high $.extra.a >> $[*].email" {
		t.Errorf("base64 of JSON without padding gives %s", got)
	}
}

// TestJSONInAStringIsJudgedOnce has a body that is read twice: `at` is absent.
func TestJSONInAStringIsJudgedOnce(t *testing.T) {
	out := NewJudge(mustRead(t, harbour)).Capture(call("/bookings/7", "office",
		`{"id":7,"ref":"x","state":"{\"email\":\"a@b.example\"}"}`))
	want := "missing-field low $.data\nunexpected-field medium $.state\nsensitive-field high $.state >> $.email"
	if got := describe(out.Spots); !sameLines(strings.Split(got, "\n"), strings.Split(want, "\n")) ||
		len(out.Spots) != 3 {
		t.Errorf("spots\n%s\nwant\n%s", got, want)
	}
}

// TestWhereABodyBreaksOff checks that the fault in a body of another notation is told with its own byte and name.
func TestWhereABodyBreaksOff(t *testing.T) {
	for media, c := range map[string]struct{ body, says string }{
		"application/cbor": {"\xa2\x65email\x70ada@quay.example\x64note\x78\x3chalf",
			"the body is not CBOR: the body ends in the middle at byte 31"},
		"application/msgpack": {"\x92\x01", "the body is not MessagePack: the body ends in the middle at byte 2"},
		"application/stream+json": {"{\"a\":1}\n{\"b\":?}",
			"the body is not JSON: no JSON value is written like this at byte 13"},
		"application/x-ndjson": {"{\"a\":1}\n{\"b\":?}",
			"the body is not JSON: no JSON value is written like this at byte 13"},
	} {
		capture := call("/x", "", c.body)
		capture.Response.Header = exchange.Header{{Name: "Content-Type", Value: media}}
		if out := NewJudge(nil).Capture(capture); out.Skipped != c.says {
			t.Errorf("%s: %s; want %s", media, out.Skipped, c.says)
		}
	}
}
