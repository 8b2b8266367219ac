package scan

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"mime/multipart"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"

	"inkret/core/contract"
	"inkret/core/exchange"
)

// asksQuay returns the contracts of an endpoint that answers GraphQL, with or without its schema.
func asksQuay(t testing.TB, schema bool) *contract.Contracts {
	text, err := os.ReadFile("testdata/graph/quay.yaml")
	if err != nil {
		t.Fatal(err)
	}
	types, err := os.ReadFile("testdata/graph/quay.graphql")
	if err != nil {
		t.Fatal(err)
	}
	files := []contract.File{{Name: "quay.yaml", Data: text}}
	if schema {
		files = append(files, contract.File{Name: "quay.graphql", Data: types})
	} else {
		text = bytes.ReplaceAll(text, []byte("graphql: {schema: quay.graphql}"), []byte("graphql: {}"))
		files[0].Data = bytes.ReplaceAll(text, []byte(", harbour: {}, piers: {}"), nil) // which the catalogue has not
	}
	c, err := contract.Read(files...)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// query returns a capture of a query by POST.
func query(audience, text, answer string) *exchange.Capture {
	body, _ := json.Marshal(map[string]any{"query": text, "variables": map[string]any{"id": 7}})
	return sent(audience, "POST", "/graphql", "application/json", string(body), answer)
}

func sent(audience, method, address, media, body, answer string) *exchange.Capture {
	u, _ := url.Parse("https://api.quay.example" + address)
	return &exchange.Capture{Audience: audience,
		Request: exchange.Request{Method: method, URL: u, Body: []byte(body),
			Header: exchange.Header{{Name: "Content-Type", Value: media}}},
		Response: exchange.Response{Status: 200, Body: []byte(answer),
			Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}}}
}

// told lists kind, path and pointer of what a capture gives.
func told(out *Outcome) string {
	var all []string
	for _, s := range out.Spots {
		all = append(all, fmt.Sprintf("%s %s at %s", s.Kind, s.Path, s.Pointer))
	}
	return strings.Join(all, "\n")
}

const leakedMail = `"ada.moor@sails.example"`

// TestResultsOfQueries judges results by the types of their objects, whatever the query calls them.
func TestResultsOfQueries(t *testing.T) {
	for _, c := range []struct{ name, query, answer, want string }{
		{"what is granted", `{berths{id number length}}`, `{"data":{"berths":[{"id":"1","number":"A1","length":9.5}]}}`,
			""},
		{"an alias is no other field", `{x:berths{n:number m:id}}`, `{"data":{"x":[{"n":"A1","m":"1"}]}}`, ""},
		{"an alias that is another field's name", `{booking(id:1){ref:note}}`, `{"data":{"booking":{"ref":"late"}}}`,
			"unexpected-field Booking >> $.note at /data/booking/ref"},
		{"a relation of which nothing is granted", `{booking(id:1){who:skipper{mail:email}}}`,
			`{"data":{"booking":{"who":{"mail":` + leakedMail + `}}}}`,
			"unexpected-relation Booking >> $.skipper at /data/booking/who\nsensitive-field Skipper >> $.email at " +
				"/data/booking/who/mail"},
		{"a granted field of a type without grants", `{booking(id:1){harbour{name}}}`,
			`{"data":{"booking":{"harbour":{"name":"F"}}}}`,
			"unexpected-relation Booking >> $.harbour at /data/booking/harbour"},
		{"its list", `{booking(id:1){piers{name}}}`, `{"data":{"booking":{"piers":[{"name":"F"},{"name":"G"}]}}}`,
			"unexpected-relation Booking >> $.piers at /data/booking/piers/0\nunexpected-relation Booking >> " +
				"$.piers at /data/booking/piers/1"},
		{"deeper", `{berths{neighbour{neighbour{secretCode}}}}`,
			`{"data":{"berths":[{"neighbour":{"neighbour":{"secretCode":"x"}}}]}}`,
			"unexpected-field Berth >> $.secretCode at /data/berths/0/neighbour/neighbour/secretCode"},
		{"an operation that is not listed", `{v:version}`, `{"data":{"v":"1.2"}}`,
			"unexpected-field Query >> $.version at /data/v"},
		{"all in it belongs to it", `{harbour{name piers{name}}}`,
			`{"data":{"harbour":{"name":"F","piers":[{"name":"G"}]}}}`,
			"unexpected-field Query >> $.harbour at /data/harbour"},
		{"but for what is sensitive", `{me{mail:email}}`, `{"data":{"me":{"mail":` + leakedMail + `}}}`,
			"unexpected-field Query >> $.me at /data/me\nsensitive-field Skipper >> $.email at /data/me/mail"},
		{"introspection", `{__schema{types{name}}}`, `{"data":{"__schema":{"types":[{"name":"Berth"}]}}}`,
			"unexpected-field Query >> $.__schema at /data/__schema"},
		{"names of types", `{__typename berths{t:__typename number}}`,
			`{"data":{"__typename":"Query","berths":[{"t":"Berth","number":"A1"}]}}`, ""},
		{"a named fragment", `query Q{berths{...f}} fragment f on Berth{number s:secretCode}`,
			`{"data":{"berths":[{"number":"A1","s":"x"}]}}`,
			"unexpected-field Berth >> $.secretCode at /data/berths/0/s"},
		{"fragments in fragments",
			`{berths{...a}} fragment a on Berth{...b ... on Node{... @include(if:true){id}}} fragment b on Berth{number}`,
			`{"data":{"berths":[{"number":"A1","id":"1"}]}}`, ""},
		{"a fragment that is another type's", `{search(text:"x"){... on Skipper{number:email}... on Berth{number}}}`,
			`{"data":{"search":[{"number":"A1"}]}}`, ""}, // both fit, and it is swept
		{"what a directive leaves out", `query($x:Boolean!){berths{number id @include(if:$x) length @skip(if:$x)}}`,
			`{"data":{"berths":[{"number":"A1"}]}}`, ""},
		{"what is asked for and not there", `{berths{number id}}`, `{"data":{"berths":[{"number":"A1"}]}}`,
			"missing-field Berth >> $.id at /data/berths/0/id"},
		{"another type of value", `{berths{number}}`, `{"data":{"berths":[{"number":7}]}}`,
			"value-mismatch Berth >> $.number at /data/berths/0/number"},
		{"a union by its names", `{search(text:"x"){__typename ... on Berth{number} ... on Skipper{e:email}}}`,
			`{"data":{"search":[{"__typename":"Berth","number":"A1"},{"__typename":"Skipper","e":` + leakedMail +
				`}]}}`,
			"unexpected-relation Query >> $.search at /data/search/1\nsensitive-field Skipper >> $.email at " +
				"/data/search/1/e"},
		{"a union by what fits", `{search(text:"x"){... on Berth{number} ... on Skipper{id e:email}}}`,
			`{"data":{"search":[{"number":"A1"},{"id":"3","e":` + leakedMail + `}]}}`,
			"unexpected-relation Query >> $.search at /data/search/1\nsensitive-field Skipper >> $.email at " +
				"/data/search/1/e"},
		{"an interface of which nothing tells", `{node(id:3){id}}`, `{"data":{"node":{"id":"3"}}}`, ""},
		{"it is swept", `{node(id:3){id ...on Skipper{email}...on Member{email}}}`,
			`{"data":{"node":{"id":"3","email":` + leakedMail + `}}}`,
			"sensitive-field Query >> $.node.email at /data/node/email"},
		{"null where it failed", `{booking(id:1){ref total}}`,
			`{"data":{"booking":{"ref":"x","total":null}},"errors":[{"message":"no","path":["booking","total"]}]}`, ""},
		{"the errors may come first", `{booking(id:1){ref total}}`,
			`{"errors":[{"message":"no","path":["booking","total"]}],"data":{"booking":{"ref":"x","total":null}}}`, ""},
		{"null of another reason", `{booking(id:1){ref total}}`,
			`{"data":{"booking":{"ref":"x","total":null}},"errors":[{"message":"no","path":["booking","ref"]}]}`,
			"value-mismatch Booking >> $.total at /data/booking/total"},
		{"null above what failed", `{booking(id:1){berth{number}}}`,
			`{"data":{"booking":null},"errors":[{"message":"no","path":["booking","berth","number"]}]}`, ""},
		{"an error alone", `{nope}`,
			`{"errors":[{"message":"Cannot query field nope","locations":[{"line":1,"column":2}]}]}`, ""},
		{"an error that tells", `{berths{number}}`,
			`{"data":null,"errors":[{"message":"SELECT email FROM skippers WHERE id = 7: connection refused at 10.0.0.12:5432"}]}`,
			"revealing-error $.errors[*].message at /errors/0/message"},
		{"extensions are open, and swept", `{berths{number}}`,
			`{"data":{"berths":[]},"extensions":{"tracing":{"ms":3},"user":{"email":` + leakedMail + `}}}`,
			"sensitive-field $.extensions.user.email at /extensions/user/email"},
		{"beside the data nothing else is", `{berths{number}}`, `{"data":{"berths":[]},"debug":true}`,
			"unexpected-field $.debug at /debug"},
		{"a member twice", `{berths{number}}`, `{"data":{"berths":[{"number":"A1","number":"A2"}]}}`,
			"hidden-duplicate Berth >> $.number at /data/berths/0/number"},
		{"what was not asked for", `{berths{number}}`,
			`{"data":{"berths":[{"number":"A1","secretCode":"x","id":"1"}]}}`,
			"unexpected-field Berth >> $.secretCode at /data/berths/0/secretCode"},
		{"of several operations the one that is named", ``, `{"data":{"v":"1"}}`, ""},
		{"a mutation", `mutation{book(berth:1){ref note}}`, `{"data":{"book":{"ref":"x","note":"y"}}}`,
			"unexpected-field Booking >> $.note at /data/book/note"},
		{"a selection of a mutation that is not listed", `mutation{drop(id:1)}`, `{"data":{"drop":true}}`,
			"unexpected-field Mutation >> $.drop at /data/drop"},
	} {
		if c.query == "" {
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			out := NewJudge(asksQuay(t, true)).Capture(query("skipper", c.query, c.answer))
			if got := told(&out); got != c.want || out.Skipped != "" {
				t.Errorf("%s\nwant %s\nskipped %q, unread %q", got, c.want, out.Skipped, out.Unread)
			}
			for i := range out.Spots {
				if s := &out.Spots[i]; s.Bytes > 0 &&
					!json.Valid([]byte("{"+c.answer[s.Offset:s.Offset+s.Bytes]+"}")) &&
					!json.Valid([]byte(c.answer[s.Offset:s.Offset+s.Bytes])) {
					t.Errorf("%s weighs %q", s.Path, c.answer[s.Offset:s.Offset+s.Bytes])
				}
			}
		})
	}
}

// TestWaysToAsk holds the ways in which a query can be sent, and those in which it cannot be read.
func TestWaysToAsk(t *testing.T) {
	const text, answer = `{booking(id:1){who:skipper{mail:email}}}`, `{"data":{"booking":{"who":{"mail":` + leakedMail +
		`}}}}`
	leak := "unexpected-relation Booking >> $.skipper at /data/booking/who\nsensitive-field Skipper >> $.email at " +
		"/data/booking/who/mail"
	swept := "sensitive-field $.data.booking.who.mail at /data/booking/who/mail"
	var upload bytes.Buffer
	form := multipart.NewWriter(&upload)
	form.WriteField("operations", `{"query":"`+text+`"}`)
	form.WriteField("map", `{}`)
	form.Close()
	for _, c := range []struct {
		name, method, address, media, body, want, unread string
	}{
		{"GET", "GET", "/graphql?query=" + url.QueryEscape(text), "", "", leak, ""},
		{"POST with the query in the address", "POST", "/graphql?query=" + url.QueryEscape(text), "", "", leak, ""},
		{"the text itself", "POST", "/graphql", "application/graphql", text, leak, ""},
		{"a form", "POST", "/graphql/", "application/x-www-form-urlencoded", "query=" + url.QueryEscape(text), leak,
			""},
		{"with files", "POST", "/graphql", form.FormDataContentType(), upload.String(), leak, ""},
		{"escaped otherwise", "POST", "/graphql", "application/json; charset=utf-8",
			`{"query":"\u007bbooking(id:1)\n{ who : skipper , { # note\n mail:email } } }"}`, leak, ""},
		{"one of two by its name", "POST", "/graphql", "application/json",
			`{"query":"query A{version} query B` + text + `","operationName":"B"}`, leak, ""},
		{"one of two without a name", "POST", "/graphql", "application/json", `{"query":"query A{version} query B` +
			text + `"}`, swept,
			"the request's query cannot be read"},
		{"a persisted query", "POST", "/graphql", "application/json",
			`{"extensions":{"persistedQuery":{"version":1,"sha256Hash":"ab"}}}`, swept,
			"the request has no query"},
		{"a persisted query by GET", "GET", "/graphql?extensions=%7B%7D", "", "", swept, "the request has no query"},
		{"no body", "POST", "/graphql", "application/json", "", swept, "the request has no query"},
		{"cut off", "POST", "/graphql", "application/json", `{"query":"{booking(id:1){who:skip`, swept,
			"the request's query cannot be read"},
		{"no query", "POST", "/graphql", "application/json", `{"query":"{booking(id:1){who:skip"}`, swept,
			"the request's query cannot be read"},
		{"fragments without an end", "POST", "/graphql", "application/json",
			`{"query":"{booking(id:1){...a}} fragment a on Booking{berth{neighbour{bookings{...a}}}}"}`, swept,
			"the request's query cannot be read"},
	} {
		t.Run(c.name, func(t *testing.T) {
			out := NewJudge(asksQuay(t, true)).Capture(sent("skipper", c.method, c.address, c.media, c.body, answer))
			if got := told(&out); got != c.want || out.Unread != c.unread || out.Endpoint != "POST /graphql" {
				t.Errorf("%s: %s\nwant %s; unread %q, want %q", out.Endpoint, got, c.want, out.Unread, c.unread)
			}
			for i := range out.Spots {
				if why := out.Spots[i].Why(); strings.Contains(why, "swept") != (c.unread != "") {
					t.Errorf("why: %s", why)
				}
			}
		})
	}
}

// TestResultsInParts judges batches, event streams and incremental delivery.
func TestResultsInParts(t *testing.T) {
	leak := "unexpected-relation Booking >> $.skipper at %s\nsensitive-field Skipper >> $.email at %s/mail"
	const asks = `{booking(id:1){ref who:skipper{mail:email}}}`
	const result = `{"data":{"booking":{"ref":"x","who":{"mail":` + leakedMail + `}}}}`
	part := func(texts ...string) string {
		return "--x\r\nContent-Type: application/json\r\n\r\n" + strings.Join(texts,
			"\r\n--x\r\nContent-Type: application/json\r\n\r\n") + "\r\n--x--\r\n"
	}
	const deferred = `{booking(id:1){ref ... @defer{who:skipper{mail:email}}}}`
	for _, c := range []struct{ name, request, media, answer, at string }{
		{"a batch", `[{"query":"{berths{number}}"},{"query":"` + asks + `"}]`, "application/json",
			`[{"data":{"berths":[]}},` + result + `]`, "/1/data/booking/who"},
		{"an event stream", `{"query":"subscription{booked{ref who:skipper{mail:email}}}"}`, "text/event-stream",
			"event: next\ndata: " + strings.Replace(result, "booking", "booked", 1) + "\n\nevent: complete\ndata:\n\n",
			"/0/data/booked/who"},
		{"events of a shared connection", `{"query":"` + asks + `"}`, "text/event-stream",
			"event: next\ndata: {\"id\":\"1\",\"payload\":" + result + "}\n\n", "/0/payload/data/booking/who"},
		{"parts", `{"query":"` + asks + `"}`, `multipart/mixed; boundary="x"`, part(`{"payload":null}`, `{"payload":`+
			result+`}`), "/1/payload/data/booking/who"},
		{"what comes later, by its path", `{"query":"` + deferred + `"}`,
			`multipart/mixed; boundary="x"; deferSpec=20220824`,
			part(`{"data":{"booking":{"ref":"x"}},"hasNext":true}`,
				`{"incremental":[{"path":["booking"],"data":{"who":{"mail":`+leakedMail+`}}}],"hasNext":false}`),
			"/1/incremental/0/data/who"},
		{"what comes later, by its number", `{"query":"` + deferred + `"}`, "text/event-stream",
			`data: {"data":{"booking":{"ref":"x"}},"pending":[{"id":"0","path":["booking"]}],"hasNext":true}` + "\n\n" +
				"data: {\"incremental\":[{\"id\":\"0\",\"data\":{\"who\":{\"mail\":" + leakedMail +
				"}}}],\"completed\":[{\"id\":\"0\"}],\"hasNext\":false}\n\n",
			"/1/incremental/0/data/who"},
	} {
		t.Run(c.name, func(t *testing.T) {
			one := sent("skipper", "POST", "/graphql", "application/json", c.request, c.answer)
			one.Response.Header[0].Value = c.media
			out := NewJudge(asksQuay(t, true)).Capture(one)
			if got, want := told(&out), fmt.Sprintf(leak, c.at, c.at); got != want || out.Unread != "" ||
				out.Skipped != "" {
				t.Errorf("%s\nwant %s\n%q %q", got, want, out.Unread, out.Skipped)
			}
		})
	}
}

// TestWithoutASchema knows types by what objects say of themselves.
func TestWithoutASchema(t *testing.T) {
	for _, c := range []struct{ name, query, answer, want string }{
		{"it is said", `{booking(id:1){t:__typename ref note}}`,
			`{"data":{"booking":{"t":"Booking","ref":"x","note":"y"}}}`,
			"unexpected-field Booking >> $.note at /data/booking/note"},
		{"it is not said", `{booking(id:1){ref note who:skipper{mail:email}}}`,
			`{"data":{"booking":{"ref":"x","note":"y","who":{"mail":` + leakedMail + `}}}}`,
			"sensitive-field Query >> $.booking.who.mail at /data/booking/who/mail"},
		{"further inside", `{booking(id:1){__typename who:skipper{__typename mail:email}}}`,
			`{"data":{"booking":{"__typename":"Booking","who":{"__typename":"Skipper","mail":` + leakedMail + `}}}}`,
			"unexpected-relation Booking >> $.skipper at /data/booking/who\nsensitive-field Skipper >> $.email at " +
				"/data/booking/who/mail"},
		{"operations", `{version}`, `{"data":{"version":"1"}}`, "unexpected-field Query >> $.version at /data/version"},
	} {
		t.Run(c.name, func(t *testing.T) {
			out := NewJudge(asksQuay(t, false)).Capture(query("skipper", c.query, c.answer))
			if got := told(&out); got != c.want {
				t.Errorf("%s\nwant %s", got, c.want)
			}
		})
	}
}

// TestWhoAsks judges results for other audiences, and records of other people.
func TestWhoAsks(t *testing.T) {
	const who = `{"data":{"booking":{"ref":"x","skipper":{"name":"Ada","email":` + leakedMail + `}}}}`
	const asks = `{booking(id:1){ref skipper{name email}}}`
	for _, c := range []struct{ audience, query, answer, want string }{
		{"skipper", asks, who, "wrong-audience Booking >> $.skipper at /data/booking/skipper"},
		{"staff", asks, who, ""},
		{"visitor", `{berths{number}}`, `{"data":{"berths":[{"number":"A1"}]}}`, ""},
		// what nobody is granted stands for itself
		{"visitor", asks, who, "wrong-audience Query >> $.booking at /data/booking\n" +
			"sensitive-field Skipper >> $.email at /data/booking/skipper/email"},
		{"skipper", `{berths{number}booking(id:1){s:skipper{a:email}}}`,
			`{"data":{"berths":[{"number":"A"}],"booking":{"s":{"a":` + leakedMail + `}}}}`,
			"wrong-audience Booking >> $.skipper at /data/booking/s"},
		{"guest", asks, who, "wrong-audience $.data at /data"},
		{"guest", asks, `{"data":null,"errors":[{"message":"no"}]}`, ""},
		{"owner", `{skipper(id:7){name email}}`, `{"data":{"skipper":{"id":"7","name":"Ada","email":` + leakedMail +
			`}}}`, ""},
		{"owner", `{skipper(id:8){number:id name mail:email}}`,
			`{"data":{"skipper":{"number":"8","name":"Ada","mail":` + leakedMail + `}}}`,
			"foreign-record Skipper >> $.email at /data/skipper/mail"},
	} {
		one := query(c.audience, c.query, c.answer)
		if c.audience != "visitor" {
			one.Request.URL.Path = "/others"
		}
		one.Request.Header = append(one.Request.Header, exchange.HeaderField{Name: "X-Skipper", Value: "7"})
		out := NewJudge(asksQuay(t, true)).Capture(one)
		if got := told(&out); got != c.want {
			t.Errorf("%s %s\n%s\nwant %s", c.audience, c.query, got, c.want)
		}
	}
}

// TestQueriesAskAlike asks for the same in random spellings: aliases, fragments, order, batches. What is found has the
// same paths, and as many of each.
func TestQueriesAskAlike(t *testing.T) {
	c := asksQuay(t, true)
	r := rand.New(rand.NewPCG(19, 2))
	leaks := 0
	for n := range 400 {
		tree := asTree(r, "Query", 4)
		plain, answer := tree.write(nil, r), tree.answer(nil)
		first := NewJudge(c).Capture(query("skipper", plain.query+plain.fragments, `{"data":`+answer+`}`))
		want := pathsOf(&first)
		leaks += len(want)
		for range 3 {
			names := &spelling{r: r}
			text := tree.write(names, r)
			one := query("skipper", text.query+text.fragments, `{"data":`+tree.answer(names)+`}`)
			out := NewJudge(c).Capture(one)
			if got := pathsOf(&out); !slices.Equal(got, want) {
				t.Fatalf("%d: %s\n%s\n%s\n%s\n%v\n%v", n, plain.query, text.query+text.fragments, one.Response.Body,
					out.Unread, got, want)
			}
		}
	}
	if leaks < 400 {
		t.Errorf("only %d leaks: the test tells little", leaks)
	}
}

func pathsOf(out *Outcome) (all []string) {
	for _, s := range out.Spots {
		all = append(all, s.Kind.String()+" "+s.Path)
	}
	slices.Sort(all)
	return all
}

// node is a field that is asked for.
type node struct {
	name, typeName string
	list           bool
	key            string
	below          []*node
}

// fieldsIn are the fields of the types of the test's schema, with the type of what they lead to.
var fieldsIn = map[string][][2]string{
	"Query": {{"berths", "[Berth"}, {"booking", "Booking"}, {"me", "Skipper"}, {"version", ""},
		{"harbour", "Harbour"}},
	"Berth": {{"id", ""}, {"number", ""}, {"secretCode", ""}, {"neighbour", "Berth"}, {"bookings", "[Booking"}},
	"Booking": {{"id", ""}, {"ref", ""}, {"note", ""}, {"berth", "Berth"}, {"skipper", "Skipper"},
		{"harbour", "Harbour"}},
	"Skipper": {{"id", ""}, {"name", ""}, {"email", ""}, {"bookings", "[Booking"}},
	"Harbour": {{"name", ""}, {"piers", "[Pier"}},
	"Pier":    {{"name", ""}},
}

func asTree(r *rand.Rand, of string, depth int) *node {
	n := &node{typeName: of}
	for _, f := range fieldsIn[of] {
		to := strings.TrimPrefix(f[1], "[")
		if r.IntN(3) == 0 || to != "" && depth == 0 {
			continue
		}
		one := &node{name: f[0]}
		if to != "" {
			one = asTree(r, to, depth-1)
			one.name, one.list = f[0], f[1] != to
		}
		n.below = append(n.below, one)
	}
	if len(n.below) == 0 {
		n.below = []*node{{name: "__typename"}}
	}
	return n
}

// spelling makes up aliases and fragments.
type spelling struct {
	r *rand.Rand
	n int
}

type written struct{ query, fragments string }

func (n *node) write(names *spelling, r *rand.Rand) written {
	var parts []string
	var fragments strings.Builder
	for _, b := range n.below {
		b.key = b.name
		field := b.name
		if names != nil && r.IntN(2) == 0 {
			names.n++
			b.key = fmt.Sprintf("%s%d", []string{"id", "email", "x", "ref"}[r.IntN(4)], names.n)
			field = b.key + " : " + b.name
		}
		if b.typeName != "" {
			inner := b.write(names, r)
			field += inner.query
			fragments.WriteString(inner.fragments)
		}
		if names != nil {
			switch r.IntN(4) {
			case 0:
				field = "... on " + n.typeName + " { " + field + " }"
			case 1:
				names.n++
				fmt.Fprintf(&fragments, " fragment f%d on %s { %s }", names.n, n.typeName, field)
				field = fmt.Sprintf("...f%d", names.n)
			}
		}
		parts = append(parts, field)
	}
	return written{"{" + strings.Join(parts, ",\n") + "}", fragments.String()}
}

func (n *node) answer(names *spelling) string {
	var parts []string
	for _, b := range n.below {
		value := map[string]string{"email": leakedMail, "note": `"late"`, "__typename": `"` + n.typeName + `"`}[b.name]
		switch {
		case b.typeName != "" && b.list:
			value = "[" + b.answer(names) + "]"
		case b.typeName != "":
			value = b.answer(names)
		case value == "":
			value = `"A1"`
		}
		key := b.name
		if names != nil {
			key = b.key
		}
		parts = append(parts, `"`+key+`":`+value)
	}
	return "{" + strings.Join(parts, ",") + "}"
}

// FuzzResults judges whatever a query asks for and whatever is answered: it ends, spots are in the body, and a second
// time the same comes of it.
func FuzzResults(f *testing.F) {
	f.Add(`{booking(id:1){who:skipper{mail:email}}}`, `{"data":{"booking":{"who":{"mail":"a@b.example"}}}}`)
	f.Add(`{search(text:"x"){__typename ...on Berth{number}}node(id:1){id}}`, `{"data":{"search":[{"__typename":"Berth"}],"node":null},"errors":[{"path":["node"]}]}`)
	f.Add(`subscription{booked{...f}} fragment f on Booking{berth{neighbour{bookings{ref}}}}`, `[{"data":null}]`)
	f.Add(`[`, `{"data":{"a":[[[{"__typename":"\u0042erth"}]]]}}`)
	with, without := asksQuay(f, true), asksQuay(f, false)
	f.Fuzz(func(t *testing.T, text, answer string) {
		for _, c := range []*contract.Contracts{with, without} {
			j := NewJudge(c)
			j.Seek = func(*Outcome) bool { return true }
			first := ""
			for range 2 {
				out := j.Capture(query("skipper", text, answer))
				for _, s := range out.Spots {
					if !s.Request && (s.Offset < 0 || s.Offset+s.Bytes > len(answer)) {
						t.Fatalf("a spot at %d of %d bytes in %q", s.Offset, s.Bytes, answer)
					}
				}
				if got := told(&out); first == "" {
					first = got
				} else if got != first {
					t.Fatalf("first %s\nthen %s", first, got)
				}
			}
		}
	})
}
