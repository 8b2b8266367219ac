package contract

import (
	"encoding/base64"
	"net/url"
	"slices"
	"strings"
	"testing"

	"inkret/core/exchange"
)

func TestPathsFindTheirEndpoint(t *testing.T) {
	c, err := read(`inkret: 1
service: s
endpoints:
  - endpoint: GET /
  - endpoint: GET /a/b
  - endpoint: GET /a/{id}
  - endpoint: GET /a/{id}/c
  - endpoint: GET /a/{name}.json
  - endpoint: GET /a/{name}-{part}.json
  - endpoint: POST /a/{id}
  - endpoint: GET /files/{path+}
  - endpoint: GET /x/fixed/y
  - endpoint: GET /x/{any}/z
  - endpoint: GET /caf%C3%A9
`)
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range []struct{ method, path, want string }{
		{"GET", "/", "GET /"},
		{"GET", "", "GET /"},
		{"GET", "/a/b", "GET /a/b"},
		{"GET", "/a/b/", "GET /a/b"},
		{"GET", "/a/7", "GET /a/{id}"},
		{"POST", "/a/b", "POST /a/{id}"}, // the literal has no POST: the parameter is tried
		{"GET", "/a/b/c", "GET /a/{id}/c"},
		{"GET", "/a/list.json", "GET /a/{name}.json"},
		{"GET", "/a/one-two.json", "GET /a/{name}-{part}.json"},
		{"GET", "/a/.json", "GET /a/{id}"},
		{"GET", "/a//", ""},
		{"GET", "/files/x", "GET /files/{path+}"},
		{"GET", "/files/x/y/z.txt", "GET /files/{path+}"},
		{"GET", "/files", ""},
		{"GET", "/x/fixed/z", "GET /x/{any}/z"}, // back from the literal that leads nowhere
		{"GET", "/caf%C3%A9", "GET /caf%C3%A9"},
		{"GET", "/a/b%2Fc", "GET /a/{id}"}, // split first, decoded then
		{"GET", "/%61/b", "GET /a/b"},
		{"DELETE", "/a/7", ""},
		{"GET", "/nowhere", ""},
	} {
		u, err := url.Parse("https://any.example" + one.path)
		if err != nil {
			t.Fatal(err)
		}
		segments, _ := c.Serves(u)
		got := ""
		if e := c.Find(one.method, segments); e != nil {
			got = e.Text
		}
		if got != one.want {
			t.Errorf("%s %s finds %q, want %q", one.method, one.path, got, one.want)
		}
	}
}

func TestServers(t *testing.T) {
	c, err := read(`inkret: 1
service: s
servers: ["https://api.example/v2", "https://api.example/v2/inner", "http://plain.example:8080"]
`)
	if err != nil {
		t.Fatal(err)
	}
	for address, want := range map[string]string{
		"https://api.example/v2/a":         "a",
		"https://API.example:443/v2/a":     "a",
		"https://api.example/v2/inner/a":   "a", // the longest prefix wins
		"https://api.example/v2/innermost": "innermost",
		"https://api.example/v2":           "",
		"https://api.example/v22/a":        "another server",
		"http://api.example/v2/a":          "another server",
		"https://api.example:8443/v2/a":    "another server",
		"http://plain.example:8080/a/b":    "a/b",
		"http://plain.example/a":           "another server",
	} {
		u, err := url.Parse(address)
		if err != nil {
			t.Fatal(err)
		}
		got := "another server"
		if segments, ok := c.Serves(u); ok {
			got = strings.Join(segments, "/")
		}
		if got != want {
			t.Errorf("%s leads to %q, want %q", address, got, want)
		}
	}
}

func TestGeneralise(t *testing.T) {
	for path, want := range map[string]string{
		"boats/12345":                            "boats/{}",
		"boats/12345/crew":                       "boats/{}/crew",
		"b/0d9f1c1e-5a0b-4c3d-9e8f-001122334455": "b/{}",
		"b/deadbeefdeadbeef":                     "b/{}",
		"b/deadbeef":                             "b/deadbeef",
		"t/abcdefghijklmnopqrst1":                "t/{}",
		"t/abcdefghijklmnopqrstuvw":              "t/abcdefghijklmnopqrstuvw", // no digit: a word
		"v1/berths":                              "v1/berths",
	} {
		if got := Generalise("GET", strings.Split(path, "/"), nil); got != "GET /"+want {
			t.Errorf("%s is written %q, want %q", path, got, "GET /"+want)
		}
	}
}

// bearer returns an unsigned JWT with these claims, as JSON. TestClaimsWhereverTheyAre reads tokens with and
// without the scheme's name, from cookies and other fields, and nested claims.
func TestClaimsWhereverTheyAre(t *testing.T) {
	c, err := read(`inkret: 1
service: s
audiences:
  - {name: visitor, recognise: {credentials: none}}
  - {name: member, recognise: {claim: {name: scope, value: member}}}
  - {name: skipper, recognise: {claim: {name: role, value: skipper, from: {cookie: session}}}}
  - {name: crew, recognise: {claim: {name: /realm_access/roles, value: crew}}}
  - {name: desk, recognise: {claim: {name: /a~1b/0/x, value: desk, from: {header: X-Desk-Token}}}}
`)
	if err != nil {
		t.Fatal(err)
	}
	token := func(claims string) string { return strings.TrimPrefix(bearer(claims)[0].Value, "bearer ") }
	field := func(name, value string) exchange.Header { return exchange.Header{{Name: name, Value: value}} }
	for _, one := range []struct {
		name   string
		header exchange.Header
		want   string
		by     string
	}{
		{"with the scheme", field("Authorization", "Bearer  "+token(`{"scope":"read member"}`)), "member", Recognised},
		{"without it", field("Authorization", token(`{"scope":["member"]}`)), "member", Recognised},
		{"another scheme", field("Authorization", "DPoP "+token(`{"scope":"member"}`)), "member", Assumed},
		{"in a cookie", field("Cookie", "a=b; session="+token(`{"role":"skipper"}`)), "skipper", Recognised},
		{"in another cookie", field("Cookie", "a="+token(`{"role":"skipper"}`)), "member", Assumed},
		{"in Authorization, wanted in a cookie", bearer(`{"role":"skipper"}`), "member", Assumed},
		{"within a claim", bearer(`{"realm_access":{"roles":["x","crew"]}}`), "crew", Recognised},
		{"not within it", bearer(`{"realm_access":["crew"]}`), "member", Assumed},
		{"a name that only looks like a pointer", bearer(`{"/realm_access/roles":"crew"}`), "crew", Recognised},
		{"in a field", field("x-desk-token", token(`{"a/b":[{"x":"desk"}]}`)), "desk", Recognised},
		{"out of the list", field("x-desk-token", token(`{"a/b":[]}`)), "visitor", Recognised},
	} {
		if a, by := c.AudienceOf("", &exchange.Request{Header: one.header}); a == nil || a.Name != one.want ||
			by != one.by {
			t.Errorf("%s: %v by %s, want %s by %s", one.name, a, by, one.want, one.by)
		}
	}
	if m := c.Audiences[4].Recognise; !slices.Equal(m.Fields(), []string{"X-Desk-Token"}) ||
		!strings.Contains(m.Words(),
			"in the header X-Desk-Token") {
		t.Errorf("%v %s", m.Fields(), m.Words())
	}
	for _, from := range []string{"{}", "{cookie: a, header: b}", "{query: a}"} {
		if _, err := read("inkret: 1\nservice: s\naudiences:\n  - {name: v, recognise: {claim: {name: r, value: " +
			"x, from: " +
			from + "}}}\n"); err == nil {
			t.Errorf("from: %s is read", from)
		}
	}
}

func bearer(claims string) exchange.Header {
	part := base64.RawURLEncoding.EncodeToString
	return exchange.Header{{Name: "authorization", Value: "bearer " + part([]byte(`{"alg":"none"}`)) + "." +
		part([]byte(claims)) + ".x"}}
}

func TestAudiencesAreRecognised(t *testing.T) {
	c, err := read(`inkret: 1
service: s
audiences:
  - {name: visitor, recognise: {credentials: none}}
  - {name: member, recognise: {cookie: {name: sid, value: "*"}}}
  - {name: skipper, recognise: {claim: {name: role, value: [skipper, captain]}}}
  - {name: office, recognise: {header: {name: X-Desk, value: "*"}, claim: {name: role, value: office}}}
`)
	if err != nil {
		t.Fatal(err)
	}
	withDesk := append(bearer(`{"role":"office"}`), exchange.HeaderField{Name: "x-desk", Value: "2"})
	for _, one := range []struct {
		name   string
		header exchange.Header
		said   string
		want   string
		by     string
	}{
		{"no credentials", nil, "", "visitor", Recognised},
		{"a cookie", exchange.Header{{Name: "Cookie", Value: "a=b; sid=1"}}, "", "member", Recognised},
		{"another cookie", exchange.Header{{Name: "Cookie", Value: "a=b"}}, "", "member", Assumed},
		{"a claim by equality", bearer(`{"role":"captain"}`), "", "skipper", Recognised},
		{"a claim in an array", bearer(`{"role":["crew","skipper"]}`), "", "skipper", Recognised},
		{"a claim among words", bearer(`{"role":"crew skipper"}`), "", "skipper", Recognised},
		{"a part of a word", bearer(`{"role":"skippers"}`), "", "member", Assumed},
		{"a claim of another type", bearer(`{"role":{"skipper":true}}`), "", "member", Assumed},
		{"all conditions must hold", bearer(`{"role":"office"}`), "", "member", Assumed},
		{"all conditions hold", withDesk, "", "office", Recognised},
		{"what was said comes first", withDesk, "member", "member", Said},
		{"no token at all", exchange.Header{{Name: "Authorization", Value: "Bearer x.y"}}, "", "member", Assumed},
	} {
		a, by := c.AudienceOf(one.said, &exchange.Request{Header: one.header})
		if a == nil || a.Name != one.want || by != one.by {
			t.Errorf("%s: %v by %s, want %s by %s", one.name, a, by, one.want, one.by)
		}
	}
}

func TestWhichResponseJudges(t *testing.T) {
	c, err := read(`inkret: 1
service: s
audiences: [{name: visitor}, {name: skipper}, {name: office}]
responses:
  - {name: top error, statuses: [4XX]}
endpoints:
  - endpoint: GET /a
    responses:
      - {name: all}
      - {name: exact, statuses: [200]}
      - {name: office, audiences: [office], statuses: [200]}
      - {name: full, audiences: [office], statuses: [200], when: {query: {view: full}}}
      - {name: xml, statuses: [200], when: {media: application/xml}}
      - {name: header, audiences: [skipper], statuses: [200], when: {header: {X-Mode: ["a", "b"]}}}
      - {name: rest, statuses: [default]}
  - endpoint: GET /b
    responses:
      - {name: office, audiences: [office], statuses: [200]}
      - {name: skipper, audiences: [skipper], statuses: [200]}
      - {name: own error, audiences: [office], statuses: [404]}
  - endpoint: POST /q
    responses:
      - {name: arrivals, when: {body: {/operation: arrivals}}}
      - {name: deep, when: {body: {/operation: deep, /a/0/b: "*"}}}
`)
	if err != nil {
		t.Fatal(err)
	}
	for _, one := range []struct {
		name, method, path, audience, header, body string
		status                                     int
		want, entry                                string
		wrong                                      bool
	}{
		{name: "exact before group", path: "/a", audience: "visitor", status: 200, want: "exact", entry: "200"},
		{name: "group", path: "/a", audience: "visitor", status: 201, want: "all", entry: "2XX"},
		{name: "default", path: "/a", audience: "visitor", status: 500, want: "rest", entry: "default"},
		{name: "named before unnamed", path: "/a", audience: "office", status: 200, want: "office", entry: "200"},
		{name: "more conditions before fewer", path: "/a?view=full", audience: "office", status: 200, want: "full",
			entry: "200"},
		{name: "a condition that does not hold", path: "/a?view=short", audience: "office", status: 200, want: "office",
			entry: "200"},
		{name: "by media type", path: "/a", audience: "visitor", header: "application/xml", status: 200, want: "xml",
			entry: "200"},
		{name: "the endpoint's own first", path: "/a", audience: "visitor", status: 404, want: "rest",
			entry: "default"},
		{name: "then those at the top", path: "/b", audience: "visitor", status: 403, want: "top error", entry: "4XX"},
		{name: "none for the audience: the most trusted one that has one", path: "/b", audience: "visitor", status: 200,
			want: "office", entry: "200", wrong: true},
		{name: "an own response for others keeps the top ones away", path: "/b", audience: "visitor", status: 404,
			want: "own error", entry: "404", wrong: true},
		{name: "no response fits", path: "/b", audience: "visitor", status: 500, want: ""},
		{name: "by the request's body", method: "POST", path: "/q", audience: "visitor",
			body: `{"operation":"arrivals"}`, status: 200, want: "arrivals", entry: "2XX"},
		{name: "deep in the request's body", method: "POST", path: "/q", audience: "visitor",
			body: `{"operation":"deep","a":[{"b":true}]}`, status: 200, want: "deep", entry: "2XX"},
		{name: "a body that does not fit", method: "POST", path: "/q", audience: "visitor",
			body: `{"operation":"other"}`, status: 200, want: ""},
	} {
		u, err := url.Parse("https://x.example" + one.path)
		if err != nil {
			t.Fatal(err)
		}
		if one.method == "" {
			one.method = "GET"
		}
		cap := &exchange.Capture{Request: exchange.Request{Method: one.method, URL: u, Body: []byte(one.body)},
			Response: exchange.Response{Status: one.status,
				Header: exchange.Header{{Name: "Content-Type", Value: one.header}}}}
		segments, _ := c.Serves(u)
		choice := c.Find(one.method, segments).Choose(c.Audience(one.audience), cap)
		got := ""
		if choice.Response != nil {
			got = choice.Response.Name
		}
		if got != one.want || choice.Status != one.entry || choice.Wrong != one.wrong {
			t.Errorf("%s: %q by %q, wrong audience %v; want %q by %q, %v", one.name, got, choice.Status, choice.Wrong,
				one.want, one.entry, one.wrong)
		}
	}
}
