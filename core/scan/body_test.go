package scan

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"inkret/core/exchange"
	"inkret/core/kind"
)

func TestSpotsSayWhereExactly(t *testing.T) {
	contracts := mustRead(t, harbour)
	body := `{"data":{"id":7,"ref":"x", "skip\u0070er~/x" : {"a": "ada@quay.example"} ,"colour":"red"},"meta":{}}`
	out := NewJudge(contracts).Capture(call("/bookings/7", "skipper", body))
	type want struct{ pointer, sent, path string }
	wants := []want{
		{`/data/skipper~0~1x`, `"skip\u0070er~/x" : {"a": "ada@quay.example"}`, `$.data['skipper~/x']`},
		{`/data/skipper~0~1x/a`, `"a": "ada@quay.example"`, `$.data['skipper~/x'].a`},
		{`/data/colour`, `"colour":"red"`, `$.data.colour`},
	}
	if len(out.Spots) != len(wants) {
		t.Fatalf("%d spots, want %d:\n%s", len(out.Spots), len(wants), describe(out.Spots))
	}
	excess := 0
	for i, w := range wants {
		s := out.Spots[i]
		if sent := body[s.Offset : s.Offset+s.Bytes]; s.Pointer != w.pointer || sent != w.sent || s.Path != w.path {
			t.Errorf("spot %d: %s, %s, %q; want %s, %s, %q", i, s.Pointer, s.Path, sent, w.pointer, w.path, w.sent)
		}
		if i != 1 { // within the first
			excess += len(w.sent)
		}
	}
	if out.Bytes != len(body) || out.Excess != excess {
		t.Errorf("%d bytes, %d excess; want %d, %d", out.Bytes, out.Excess, len(body), excess)
	}
}

func TestElementsCountByIndex(t *testing.T) {
	out := NewJudge(mustRead(t, harbour)).Capture(call("/bookings", "visitor",
		`{"items":[{"id":1,"ref":"a"},{"id":2,"ref":"b","colour":1},{"id":3}]}`))
	got := []string{}
	for _, s := range out.Spots {
		got = append(got, s.Pointer)
	}
	if want := "/items/1/colour /items/2/ref"; strings.Join(got, " ") != want {
		t.Errorf("spots at %v, want %s", got, want)
	}
}

func TestExcessCountsTheOutermostOnce(t *testing.T) {
	contracts := mustRead(t, harbour)
	for body, want := range map[string]string{
		`{"id":7,"arrives_on":"2026-05-01","berth":{"id":1,"skipper":{"email":"a@b.example"}}}`: `"berth":{"id":1,"skipper":{"email":"a@b.example"}}`,
		`{"id":7,"arrives_on":"2026-05-01"}`:                                                    ``,
	} {
		out := NewJudge(contracts).Capture(call("/plain", "visitor", body))
		if out.Excess != len(want) {
			t.Errorf("excess of %s is %d, want %d", body, out.Excess, len(want))
		}
	}
	out := NewJudge(contracts).Capture(call("/office-only", "visitor", `{"data":[{"id":7,"colour":"red"}]}`))
	if want := len(`"data":[{"id":7,"colour":"red"}]`); out.Excess != want {
		t.Errorf("excess of another audience's body is %d, want %d", out.Excess, want)
	}
}

func TestWhatIsNotJudged(t *testing.T) {
	contracts := mustRead(t, harbour+"servers: [\"https://api.fennick-quay.example\"]\n")
	change := func(f func(*exchange.Capture)) *exchange.Capture {
		c := call("/plain", "visitor", `{"id":1}`)
		f(c)
		return c
	}
	for want, c := range map[string]*exchange.Capture{
		"another server":         change(func(c *exchange.Capture) { c.Request.URL.Host = "cdn.example" }),
		"has no body":            change(func(c *exchange.Capture) { c.Request.Method = "HEAD" }),
		"status 204 has no body": change(func(c *exchange.Capture) { c.Response.Status = 204 }),
		"status 304 has no body": change(func(c *exchange.Capture) { c.Response.Status = 304 }),
		"the body is empty":      change(func(c *exchange.Capture) { c.Response.Body = nil }),
		"a CORS preflight": change(func(c *exchange.Capture) {
			c.Request.Method, c.Request.Header = "OPTIONS", exchange.Header{{Name: "access-control-request-method",
				Value: "PUT"}}
		}),
		"image/png is not a body":     change(func(c *exchange.Capture) { c.Response.Header[0].Value = "image/png" }),
		"was not recorded":            change(func(c *exchange.Capture) { c.Response.Missing = "was not recorded" }),
		"no address that can be read": change(func(c *exchange.Capture) { c.Request.URL = nil }),
		"the body is not JSON":        change(func(c *exchange.Capture) { c.Response.Body = []byte("<html>") }),
		"a body without a media type": change(func(c *exchange.Capture) {
			c.Response.Header, c.Response.Body = nil,
				[]byte("text")
		}),
		"something follows the value":  change(func(c *exchange.Capture) { c.Response.Body = []byte(`{"id":1} x`) }),
		"ends in the middle at byte 7": change(func(c *exchange.Capture) { c.Response.Body = []byte(`{"id":1`) }),
		"nests deeper than 10000 levels": change(func(c *exchange.Capture) {
			c.Response.Body = []byte(strings.Repeat("[", 10_001) + strings.Repeat("]", 10_001))
		}),
		"control character stands": change(func(c *exchange.Capture) {
			c.Response.Body = []byte("{\"id\":\"a\nb\"}")
		}),
		"the body ends in the middle":       change(func(c *exchange.Capture) { c.Response.Body = []byte("   ") }),
		"a colon is missing after a name":   change(func(c *exchange.Capture) { c.Response.Body = []byte(`{"id" 1}`) }),
		"a member needs a name in quotes":   change(func(c *exchange.Capture) { c.Response.Body = []byte(`{id:1}`) }),
		"a number needs a digit":            change(func(c *exchange.Capture) { c.Response.Body = []byte(`{"id":-}`) }),
		"no such escape in a string":        change(func(c *exchange.Capture) { c.Response.Body = []byte(`{"id":"\x"}`) }),
		"a \\u escape has four hexadecimal": change(func(c *exchange.Capture) { c.Response.Body = []byte(`{"id":"\u12g4"}`) }),
	} {
		out := NewJudge(contracts).Capture(c)
		if !strings.Contains(out.Skipped, want) {
			t.Errorf("skipped because %q, want %q", out.Skipped, want)
		}
		for _, s := range out.Spots {
			if s.Kind == kind.UnknownEndpoint || s.Kind == kind.UndeclaredResponse {
				t.Errorf("%s: %s is reported of what was not judged", want, s.Kind)
			}
		}
	}
}

func TestSpotsBeforeTheBreakAreReported(t *testing.T) {
	out := NewJudge(mustRead(t, harbour)).Capture(call("/plain", "visitor",
		`{"id":7,"password":"hunter2","skipper":{"email":"a@b.example","x":`))
	want := "sensitive-field critical $.password\nunexpected-relation high $.skipper\nsensitive-field high " +
		"$.skipper.email"
	if got := describe(out.Spots); got != want || !strings.Contains(out.Skipped, "at byte 66") {
		t.Errorf("skipped because %q, spots:\n%s\nwant:\n%s", out.Skipped, got, want)
	}
}

// TestABreakInAMapKeepsThePlaces breaks a body off within a map that only others are granted: the object around it
// is still reported at its own place.
func TestABreakInAMapKeepsThePlaces(t *testing.T) {
	contracts := mustRead(t, `
inkret: 1
service: s
audiences: [{name: visitor}, {name: office}]
entities: {A: {fields: {id: {type: integer, class: internal}}}}
endpoints:
  - endpoint: GET /x
    responses: [{entity: A, grants: {id: , counts: {keys: any, type: integer, audiences: [office]}}}]
`)
	out := NewJudge(contracts).Capture(call("/x", "visitor", `{"id":1,"counts":{"a":1,"b":`))
	if got, want := describe(out.Spots), "wrong-audience low $.counts"; got != want ||
		out.Spots[0].Pointer != "/counts" {
		t.Errorf("spots:\n%s\nwant:\n%s", got, want)
	}
}

func TestTenThousandLevelsAreJudged(t *testing.T) {
	deep := strings.Repeat(`{"a":`, 9_998) + `{"password":"x"}` + strings.Repeat("}", 9_998)
	out := NewJudge(nil).Capture(call("/x", "", deep))
	if out.Skipped != "" || len(out.Spots) != 1 || out.Spots[0].Kind != kind.SensitiveField {
		t.Errorf("skipped because %q, %d spots", out.Skipped, len(out.Spots))
	}
}

// TestPathsHaveAnEnd reports what is deeper than paths have steps at the last of these, and counts it there.
func TestPathsHaveAnEnd(t *testing.T) {
	way := func(steps int) string { return "$" + strings.Repeat(".a", steps) }
	for _, c := range []struct {
		above       int // members around the password
		path, token string
	}{
		{maxSteps - 3, way(maxSteps-3) + ".password", way(maxSteps-3) + ".b[*].token"},
		{maxSteps - 1, way(maxSteps-1) + ".password", way(maxSteps-1) + ".b..*"},
		{maxSteps, way(maxSteps) + "..*", way(maxSteps) + "..*"},
		{maxSteps + 3, way(maxSteps) + "..*", way(maxSteps) + "..*"},
	} {
		body := strings.Repeat(`{"a":`, c.above) + `{"password":"x","b":[{"token":"y8Zk2Lq0"}]}` + strings.Repeat("}", c.above)
		out := NewJudge(nil).Capture(call("/x", "", body))
		if len(out.Spots) != 2 {
			t.Fatalf("%d around: %+v", c.above, out.Spots)
		}
		first, second := out.Spots[0], out.Spots[1]
		steps := strings.Count(first.Pointer, "/")
		if first.Path != c.path || steps != min(c.above+1, maxSteps) || first.Offset != strings.Index(body, `"password"`) {
			t.Errorf("%d around: %s, with %d steps, at byte %d", c.above, first.Path, steps, first.Offset)
		}
		if second.Path != c.token || second.Offset != strings.Index(body, `"token"`) {
			t.Errorf("%d around, behind: %s at byte %d", c.above, second.Path, second.Offset)
		}
	}
}

func TestAMillionMembersAreJudged(t *testing.T) {
	var b bytes.Buffer
	b.WriteByte('{')
	for i := range 1_000_000 {
		fmt.Fprintf(&b, `"m%d":%d,`, i, i)
	}
	b.WriteString(`"secret":"x"}`)
	j := NewJudge(mustRead(t, harbour))
	out := j.Capture(call("/free", "visitor", b.String()))
	if out.Skipped != "" || len(out.Spots) != 1_000_003 { // total is missing, and all of it is excess
		t.Errorf("skipped because %q, %d spots", out.Skipped, len(out.Spots))
	}
	if j.nodes > maxPaths || len(j.names[nil].known) > maxNames {
		t.Errorf("%d paths and %d names are kept between bodies", j.nodes, len(j.names[nil].known))
	}
}

func TestTheBoundaryOfAJudgeIsOneBody(t *testing.T) {
	j := NewJudge(mustRead(t, harbour))
	leaky := call("/plain", "visitor", `{"id":7,"arrives_on":"2026-05-01","email":"ada@quay.example"}`)
	first := describe(j.Capture(leaky).Spots)
	clean := j.Capture(call("/plain", "visitor", `{"id":7,"arrives_on":"2026-05-01"}`))
	if len(clean.Spots) != 0 || clean.Excess != 0 {
		t.Errorf("a clean body after a leaking one has:\n%s", describe(clean.Spots))
	}
	again := j.Capture(leaky)
	if describe(again.Spots) != first || again.Spots[0].Sample != "a•••@•••" {
		t.Errorf("the same body again gives:\n%s sample %q", describe(again.Spots), again.Spots[0].Sample)
	}
}

func TestOutcomeNamesTheExchange(t *testing.T) {
	contracts := mustRead(t, harbour)
	for _, c := range []struct {
		path, audience                string
		status                        int
		endpoint, entry, by, spotKind string
	}{
		{"/bookings/7", "skipper", 200, "GET /bookings/{id}", "2XX", "said", ""},
		{"/bookings/7", "", 404, "GET /bookings/{id}", "4XX", "recognised", ""},
		{"/bookings/7", "office", 500, "GET /bookings/{id}", "500", "said", "undeclared-response"},
		{"/nowhere/77", "office", 200, "GET /nowhere/{}", "200", "said", "unknown-endpoint"},
	} {
		cap := call(c.path, c.audience, `{"title":"x","data":{"id":1,"ref":"r"}}`)
		cap.Response.Status = c.status
		out := NewJudge(contracts).Capture(cap)
		if out.Endpoint != c.endpoint || out.Status != c.entry || out.AudienceBy != c.by {
			t.Errorf("%s %d: %q, status %q, audience by %q; want %q, %q, %q", c.path, c.status, out.Endpoint,
				out.Status, out.AudienceBy, c.endpoint, c.entry, c.by)
		}
		got := ""
		for _, s := range out.Spots {
			if s.Kind == kind.UndeclaredResponse || s.Kind == kind.UnknownEndpoint {
				got = s.Kind.String()
			}
		}
		if got != c.spotKind {
			t.Errorf("%s %d: kind %q, want %q", c.path, c.status, got, c.spotKind)
		}
	}
}

// TestEqualBodiesAreTold checks that equal bodies get equal marks and others do not; outlines get none, since those
// of different bodies may be equal.
func TestEqualBodiesAreTold(t *testing.T) {
	j := NewJudge(mustRead(t, harbour))
	body := func(audience, text string, outlined bool) uint64 {
		c := call("/bookings/7", audience, text)
		c.Outlined = outlined
		return j.Capture(c).Body
	}
	one, other := `{"title":"x","data":{"id":1,"ref":"r"}}`, `{"title":"x","data":{"id":2,"ref":"r"}}`
	if mark := body("skipper", one, false); mark == 0 || mark != body("office", one, false) ||
		mark == body("office", other, false) {
		t.Error("equal bodies are not told from others")
	}
	if body("skipper", one, true) != 0 {
		t.Error("an outline is compared as if it were the body")
	}
}

func TestWithoutContractsABodyIsSwept(t *testing.T) {
	out := NewJudge(nil).Capture(call("/v1/things/7?x=1", "",
		`{"a":{"passwordHash":"x","note":"ada@quay.example"},"b":[1,2]}`))
	want := "sensitive-field critical $.a.passwordHash\npersonal-value high $.a.note"
	if got := describe(out.Spots); got != want || out.Endpoint != "GET /v1/things/{}" || out.Audience != "" ||
		out.Excess != 0 {
		t.Errorf("%s, audience %q, excess %d, spots:\n%s", out.Endpoint, out.Audience, out.Excess, got)
	}
}

// sources are grants and forms that the cases of the harbour do not have.
const sources = `
inkret: 1
service: s
audiences: [{name: everybody}]
entities:
  A:
    fields: {id: {type: integer, class: internal}, kind: {type: string, class: public}, doc: {type: object, class: personal}, tags: {type: array, class: public}, mail: {type: string, format: email, class: public}}
    relations: {owner: {entity: B}, next: {entity: A}}
  B: {fields: {id: {type: integer, class: internal}, name: {type: string, class: public}, size: {type: number, class: public}}}
shapes:
  boat: {entity: B, grants: {name: , kind: {constant: boat}}}
  dock: {entity: B, grants: {size: , kind: {constant: dock}}}
  tree: {entity: A, grants: {id: , next: {shape: tree, optional: true, nullable: true}}}
endpoints:
  - endpoint: GET /one-of
    responses: [{entity: A, grants: {owner: {one_of: [{when: {kind: boat}, shape: boat}, {when: {kind: dock}, shape: dock}]}}}]
  - endpoint: GET /tree
    responses: [{shape: tree}]
  - endpoint: GET /group
    responses: [{entity: A, grants: {ids: {grants: {id: , kind: }}, doc: {open: true, optional: true}, tags: {many: true, optional: true}}}]
  - endpoint: GET /map
    responses: [{grants: {counts: {keys: any, type: integer}}}]
  - endpoint: GET /form
    responses: [{grants: {v: {type: string, max: 3, values: [a, bcd, 5, "long one"], optional: true}, n: {type: integer, values: [1, 2], optional: true}, w: {format: uuid, optional: true}, when: {format: date-time, optional: true}, at: {format: time, optional: true}, u: {format: uri, optional: true}, ip: {format: ipv4, optional: true}, ip6: {format: ipv6, optional: true}, b: {type: boolean, nullable: true, optional: true}}}]
  - endpoint: GET /deep
    responses: [{entity: A, at: /result/rows/*/row, grants: {id: }}]
  - endpoint: GET /nullable
    responses: [{entity: A, at: /data, nullable: true, grants: {id: }}]
  - endpoint: GET /beside
    responses: [{entity: A, at: "", grants: {id: }, beside: {meta: {type: string}}}]
  - endpoint: GET /beside-list
    responses: [{entity: A, many: true, grants: {id: }, beside: {meta: {type: string}}}]
  - endpoint: GET /format
    responses: [{entity: A, grants: {mail: , kind: }}]
  - endpoint: GET /selected
    selection: {query: only}
    responses: [{entity: A, grants: {id: , kind: , owner: {grants: {id: , name: }}}}]
`

func TestOtherGrants(t *testing.T) {
	contracts := mustRead(t, sources)
	for _, c := range []struct{ name, path, body, want string }{
		{"the first shape that fits judges", "/one-of", `{"owner":{"name":"n","kind":"boat"}}`, ``},
		{"the discriminator may come last", "/one-of", `{"owner":{"size":4,"kind":"dock"}}`, ``},
		{"what the chosen shape does not grant", "/one-of", `{"owner":{"kind":"dock","size":4,"name":"n"}}`,
			"unexpected-field low $.owner.name"},
		{"none fitting grants nothing", "/one-of", `{"owner":{"kind":"pier"}}`, "unexpected-relation medium $.owner"},
		{"a shape within itself", "/tree", `{"id":1,"next":{"id":2,"next":{"id":3,"kind":"x","next":null}}}`,
			"unexpected-field low $.next.next.kind"},
		{"grouped members", "/group",
			`{"ids":{"id":1,"kind":"x"},"doc":{"deep":{"mail":"a@b.example"}},"tags":["a","b"]}`, ``},
		{"a group is not its entity's members", "/group", `{"ids":{"id":1,"kind":"x"},"id":1}`,
			"unexpected-field medium $.id"},
		{"an array of values", "/group", `{"ids":{"id":1,"kind":"x"},"tags":["a",{"x":1}]}`,
			"value-mismatch low $.tags[*]"},
		{"a map's values are judged by the rest", "/map", `{"counts":{"a":1,"b":"x","2026":3}}`,
			"value-mismatch low $.counts[*]"},
		{"a list for a map", "/map", `{"counts":[1]}`, "value-mismatch low $.counts"},
		{"values", "/form", `{"v":"a","n":1}`, ``},
		{"other values", "/form", `{"v":"b","n":3}`, "value-mismatch low $.v\nvalue-mismatch low $.n"},
		{"equal numbers", "/form", `{"n":1.0}`, ``},
		{"too long", "/form", `{"v":"long one"}`, "value-mismatch low $.v"},
		{"formats that fit", "/form",
			`{"w":"0d9f1c1e-5a0b-4c3d-9e8f-001122334455","when":"2026-05-01T10:00:00.5+02:00","at":"10:00:00Z","u":"https://x.example","ip":"10.0.0.1","ip6":"::1","b":null}`, ``},
		{"formats that do not", "/form",
			`{"w":"x","when":"2026-05-01","at":"25:00:00Z","u":"x y","ip":"::1","ip6":"10.0.0.1","b":"no"}`,
			"value-mismatch low $.w\nvalue-mismatch low $.when\nvalue-mismatch low $.at\nvalue-mismatch low " +
				"$.u\nvalue-mismatch low $.ip\nvalue-mismatch low $.ip6\nvalue-mismatch low $.b"},
		{"at, with every element", "/deep", `{"result":{"rows":[{"row":{"id":1}},{"row":{"id":"x"}},{}]}}`,
			"missing-field low $.result.rows[*].row\nvalue-mismatch low $.result.rows[*].row.id"},
		{"the way to at", "/deep", `{"result":{}}`, "missing-field low $.result.rows"},
		{"beside an entity that is the body", "/beside", `{"id":1,"meta":"x","more":1}`,
			"unexpected-field medium $.more"},
		{"beside a list there is nothing", "/beside-list", `[{"id":1,"meta":"x"}]`,
			"unexpected-field medium $[*].meta"},
		{"null where nullable", "/nullable", `{"data":null}`, ``},
		{"a format that names the value covers it", "/format", `{"mail":"a@b.example","kind":"c@d.example"}`,
			"personal-value high $.kind"},
		{"nothing selected, all are expected", "/selected", `{"id":1}`,
			"missing-field low $.kind\nmissing-field low $.owner"},
		{"what was not asked for is not missing", "/selected?only=id", `{"id":1}`, ``},
		{"what was asked for is", "/selected?only=id,kind&only=owner", `{"id":1,"owner":{"id":2}}`,
			"missing-field low $.kind\nmissing-field low $.owner.name"},
		{"a part of a relation was asked for", "/selected?only=owner.id", `{"owner":{"id":2}}`, ``},
		{"and is not there", "/selected?only=owner.name", `{"owner":{}, "x":1}`, "unexpected-field medium $.x"},
		{"another part of it was sent", "/selected?only=owner.name", `{"owner":{"id":2,"name":"n"}}`,
			"selection-ignored low $"},
		{"all was sent", "/selected?only=id", `{"id":1,"kind":"k","owner":{"id":2,"name":"n"}}`,
			"selection-ignored low $"},
		{"only what is not granted was asked for", "/selected?only=mail", `{"id":1,"kind":"k"}`, ``},
		{"a name twice, granted", "/map", `{"counts":{},"counts":{}}`, "hidden-duplicate medium $.counts"},
		{"a name twice, written differently", "/map", `{"counts":{"a":1,"\u0061":2}}`,
			"hidden-duplicate medium $.counts[*]"},
		{"a name twice, unexpected", "/map", `{"counts":{},"x":1,"x":2}`,
			"unexpected-field low $.x\nunexpected-field low $.x\nhidden-duplicate medium $.x"},
		{"a name twice, deep in what is not granted", "/map", `{"counts":{},"x":{"y":[{"z":1,"z":1}]}}`,
			"unexpected-relation medium $.x\nhidden-duplicate medium $.x.y[*].z"},
		{"a name in two objects", "/map", `{"counts":{},"x":[{"z":1},{"z":1}]}`, "unexpected-relation medium $.x"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := describe(NewJudge(contracts).Capture(call(c.path, "", c.body)).Spots)
			gotLines, wantLines := strings.Split(got, "\n"), strings.Split(c.want, "\n")
			if len(gotLines) != len(wantLines) || !sameLines(gotLines, wantLines) {
				t.Errorf("spots of %s\n got:\n%s\nwant:\n%s", c.body, got, c.want)
			}
		})
	}
}

func sameLines(a, b []string) bool {
	left := map[string]int{}
	for _, line := range a {
		left[line]++
	}
	for _, line := range b {
		if left[line]--; left[line] < 0 {
			return false
		}
	}
	return true
}

// TestWhy checks that every kind has a reason in words, not only its name.
func TestWhy(t *testing.T) {
	contracts := mustRead(t, harbour)
	for body, want := range map[string]string{
		`{"id":7,"arrives_on":"2026-05-01","email":"a@b.example"}`: "not granted; the name tells of something " +
			"personal",
		`{"id":7,"arrives_on":"2026-05-01","desk_note":"n"}`: "not granted; Booking.desk_note is internal",
		`{"id":7,"arrives_on":"2026-05-01","mystery":"n"}`:   "not granted; Booking.mystery is unclassed",
		`{"id":7,"arrives_on":"2026-05-01","other":"n"}`:     "not granted; the catalogue does not know it",
		`{"id":7,"arrives_on":"2026-05-01","berth":{}}`:      "not granted; Booking.berth is a relation",
		`{"id":7,"arrives_on":"2026-05-01","x":{"y":1}}`:     "not granted; a whole object is sent",
		`{"id":7,"arrives_on":"2026-05-01","x":"` + bcrypt +
			`"}`: "not granted; the value is recognised as a bcrypt hash",
		`{"id":7,"arrives_on":"2026-05-01","colour":"+44 1632 960123"}`: "not granted; the value of Booking.colour " +
			"is recognised as a phone number",
		`{"id":7}`:                             "granted, not optional, and not sent",
		`{"id":7.5,"arrives_on":"2026-05-01"}`: "number is sent where integer is granted",
	} {
		out := NewJudge(contracts).Capture(call("/plain", "visitor", body))
		if len(out.Spots) != 1 || out.Spots[0].Why() != want {
			t.Errorf("%s: %d spots, why %q; want %q", body, len(out.Spots), out.Spots[0].Why(), want)
		}
	}
}

// valid asks the tokenizer for its verdict on a text.
func valid(data []byte) bool {
	t := tokens{data: data}
	return t.pass(0) && t.space() == 0 && t.pos == len(data)
}

// TestTokenizerAgreesWithEncodingJSON compares the verdict with that of encoding/json on random and mutated texts.
func TestTokenizerAgreesWithEncodingJSON(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	seeds := []string{`{"a":[1,-2.5e10,"x\u00e9\n",null,true,false,{}],"b":{"c":""}}`, `[]`, `"\ud83d\ude00\ud800"`,
		`0`, `-0.0E+1`, " [ 1 , 2 ]\n", `{"":{"":[[[]]]}}`, "\"\xff\""}
	alphabet := []byte(`{}[]",:\u0123456789eE+-.truefalsn x` + "\x00\x1f\xc3\xa9\n")
	for range 200_000 {
		text := []byte(seeds[random.IntN(len(seeds))])
		for range random.IntN(4) {
			at := random.IntN(len(text) + 1)
			switch c := alphabet[random.IntN(len(alphabet))]; random.IntN(3) {
			case 0:
				text = append(text[:at:at], append([]byte{c}, text[at:]...)...)
			case 1:
				if at < len(text) {
					text = append(text[:at:at], text[at+1:]...)
				}
			default:
				if at < len(text) {
					text[at] = c
				}
			}
		}
		if got, want := valid(text), json.Valid(text); got != want {
			t.Fatalf("%q is valid: %v, says encoding/json: %v", text, got, want)
		}
	}
}

func TestUnquoteAgreesWithEncodingJSON(t *testing.T) {
	for _, text := range []string{`plain`, `\"\\\/\b\f\n\r\t`, `\u0041\u00e9\u20ac`, `\ud83d\ude00`, `\ud83d`,
		`\ude00x`, `\ud83d\u0041`, `a\ud800\ud800b`} {
		var want string
		if err := json.Unmarshal([]byte(`"`+text+`"`), &want); err != nil {
			t.Fatal(err)
		}
		if got := string(unquote(nil, []byte(text))); got != want {
			t.Errorf("%s reads as %q, want %q", text, got, want)
		}
	}
}

func TestJudgingCostsNoAllocationPerToken(t *testing.T) {
	contracts := mustRead(t, harbour)
	j := NewJudge(contracts)
	item := `{"id":1,"ref":"FQ-10037"},`
	of := func(n int) float64 {
		c := call("/bookings", "visitor", `{"items":[`+strings.Repeat(item, n)+`{"id":1,"ref":"a"}]}`)
		return testing.AllocsPerRun(20, func() { j.Capture(c) })
	}
	if few, many := of(10), of(2_000); many > few+2 {
		t.Errorf("10 elements cost %.0f allocations and 2000 cost %.0f", few, many)
	}
}

func FuzzCapture(f *testing.F) {
	for _, seed := range []string{`{"data":{"id":7,"ref":"x","skipper":{"email":"a@b.example"}}}`,
		`{"data":[{"id":1},[2]]}`, `[{"id":7}]`, `{"data":{"charges":[{"a":1},2]}}`, `{"data":`, `null`,
		`{"data":{"a\u0062":"\ud83d"}}`} {
		f.Add([]byte(seed))
	}
	contracts := mustRead(f, harbour)
	f.Fuzz(func(t *testing.T, body []byte) {
		for _, path := range []string{"/bookings/7", "/bookings", "/office-only", "/split", "/free", "/nowhere"} {
			c := call(path, "visitor", "")
			c.Response.Body = body
			wire := NewWire(contracts)
			out := NewJudge(contracts).Watch(c, wire)
			if len(body) > 0 && (out.Skipped == "") != json.Valid(body) {
				t.Fatalf("skipped because %q, and encoding/json says valid: %v", out.Skipped, json.Valid(body))
			}
			for _, s := range out.Spots {
				if s.Offset < 0 || s.Bytes < 0 || s.Offset+s.Bytes > len(body) || s.Kind == 0 || s.Severity == 0 {
					t.Fatalf("a spot of %d bytes at %d in %d: %+v", s.Bytes, s.Offset, len(body), s)
				}
			}
			if out.Excess > len(body) {
				t.Fatalf("%d bytes of %d are excess", out.Excess, len(body))
			}
			if out.Skipped == "" {
				wire.Root(out.Spots)
			}
			if window := throughWindow(contracts, c); len(body) > 0 && sameVerdict(&out, &window) != "" {
				t.Fatalf("held and through a window: %s", sameVerdict(&out, &window))
			}
		}
	})
}
