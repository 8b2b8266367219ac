package e2e

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"inkret/api/wire"
)

// TestGraphsInTheConsole looks at what the harbour answers in GraphQL: the endpoint's types, the wire, the finding, the
// map, the editor; and begins another service from its schema.
func TestGraphsInTheConsole(t *testing.T) {
	s, dir := startDemo(t)
	home := t.TempDir()
	if r := run(t, home, strings.NewReader(demoPassword+"\n"), "sign-in", s.url, "--email", demoReviewer,
		"--password-stdin"); r.status != 0 {
		t.Fatal(r.err)
	}
	listed := decode[wire.EndpointPage](t, run(t, home, nil, "endpoint", "list", "--format", "json", "--size",
		"100").out)
	id := ""
	for _, e := range listed.Items {
		if e.Endpoint == "POST /graphql" {
			id = e.ID
		}
	}
	b := newBrowser(t)
	b.signIn(s, demoReviewer)
	b.do("the endpoint's types", chromedp.Navigate(s.url+"/endpoints/"+id), shows("may be asked for:"),
		shows("Query.search"),
		shows("objects of this type, as Berth"), shows("Berth.length_m · number · public"),
		shows("Skipper · by its type"))
	b.do("the wire names type and field", shows("Skipper.account"), shows("Booking.skipper"), shows("Account.iban"),
		until(`document.querySelector('[role="treeitem"][aria-label^="who, "]').ariaLabel.includes("field skipper of Booking")`))
	b.do("a finding", chromedp.Click(`//a[contains(., "high unexpected-relation")]`, chromedp.BySearch),
		shows("Skipper >> $.account"), shows("/data/booking/who/account"), shows("Booking.skipper"))
	b.do("the map", chromedp.Navigate(s.url+"/exposure?entity=Account"), shows("Exposure map"), shows("Account.iban"),
		shows("POST /graphql"))
	b.do("an operation is taken out", chromedp.Navigate(s.url+"/endpoints/"+id+"/edit"), shows("granted by type"),
		shows("Query.search"), chromedp.Click(`//button[@aria-label="Take Query.search out"]`, chromedp.BySearch),
		until(`!document.body.innerText.includes("Query.search")`), shows("What changes"))
	b.do("a response begins with an envelope", chromedp.Click(`//button[contains(., "+ response")]`, chromedp.BySearch),
		chromedp.WaitVisible(`.ant-modal input`), shows("What stands around it"), settled(),
		chromedp.Click(`//label[contains(., "What stands around it")]//div[contains(@class, "ant-select")]`,
			chromedp.BySearch),
		settled(), chromedp.Click(`//div[contains(@class, "ant-select-item-option") and @title="Problem Details, of an error"]`,
			chromedp.BySearch), settled(), confirm("Add"), shows("instance"))
	drop := chromedp.SetUploadFiles(`.beginning-upload input[type="file"]`,
		[]string{filepath.Join(dir, "harbour.graphql")},
		chromedp.ByQuery)
	b.do("another service, from the schema", chromedp.Evaluate(`sessionStorage.clear()`, nil),
		chromedp.Navigate(s.url+"/new"),
		shows("a GraphQL schema or SQL"), chromedp.SendKeys(`input[maxlength="100"]`, "pier", chromedp.ByQuery), drop,
		shows("drafted from harbour.graphql"), shows("Skipper.email"),
		chromedp.Click(`//button[.//text()="Take all suggestions"]`,
			chromedp.BySearch), chromedp.Click(`//button[.//text()="Next: classes"]`, chromedp.BySearch),
		shows("Account.iban"),
		settled(), chromedp.Click(`//button[.//text()="Next: the contract"]`, chromedp.BySearch),
		shows("Put it in force"), settled(),
		chromedp.Click(`//button[.//text()="Put it in force"]`, chromedp.BySearch), shows("Now send a recording"))
	if r := run(t, home, nil, "contract", "export", "pier", "--output", filepath.Join(home, "out")); r.status != 0 {
		t.Errorf("what was put in force cannot be exported: %s", r.err)
	}
	if r := run(t, home, nil, "contract", "check", filepath.Join(home, "out")); r.status != 0 {
		t.Errorf("it does not load: %s%s", r.out, r.err)
	}
	quiet(b)
}

const spelledContract = `inkret: 1
service: %s
audiences: [{name: skipper}]
entities:
  Booking: {fields: {id: {}, reference: {type: string}}, relations: {skipper: {entity: Skipper}}}
  Skipper: {fields: {id: {}, name: {type: string}, email: {class: personal}}}
endpoints:
  - endpoint: POST /graphql
    graphql: {schema: quay.graphql}
    responses:
      - operations: [Query.booking]
        types:
          Booking: {entity: Booking, grants: {id: , ref: reference, skipper: {}}}
          Skipper: {entity: Skipper, grants: {id: , name: }}
`

const spelledTypes = `type Query { booking(id: ID!): Booking }
type Booking { id: ID! ref: String skipper: Skipper }
type Skipper { id: ID! name: String email: String }
`

// spelled is a request that asks for the e-mail address of a booking's skipper, and whether its result is a list.
type spelled struct {
	name, method, query, media, packed, body string
	list                                     bool
}

var spellings = []spelled{
	{name: "as usual", media: "application/json", body: `{"query":"{ b: booking(id: 1) { who: skipper { mail: email } } }"}`},
	{name: "escaped", media: "APPLICATION/JSON; charset=\"utf-8\"",
		body: `{"\u0071uer\u0079":"{ b: bo\u006fking(id: 1)\u007b who: skipper { mail: email } } }","variables":null}`},
	{name: "after a byte order mark", media: "application/json",
		body: "\ufeff \n{\"query\":\"\ufeff{b:booking(id:1){who:skipper{mail:email}}}\"}"},
	{name: "given twice", media: "application/json",
		body: `{"query":"{ booking(id: 1) { id } }","query":"{ b: booking(id: 1) { who: skipper { mail: email } } }"}`},
	{name: "one of two", media: "application/json", body: `{"operationName":"B","query":"query A { booking(id: 2) { ` +
		`id } } query B { b: booking(id: 1) { who: skipper { mail: email } } }"}`},
	{name: "by fragments", media: "application/json", body: `{"query":"# {\n query($y: Boolean = true) { ...Q ... on Query ` +
		`{ b: booking(id: 1) { who: skipper @include(if: $y) { ...S } } } } fragment S on Skipper { mail:email,,, } ` +
		`fragment Q on Query { b: booking(id: 1) { __typename @skip(if: true) } }"}`},
	{name: "in a batch", media: "application/json", list: true,
		body: `[{"query":"{ b: booking(id: 1) { who: skipper { mail: email } } }"}]`},
	{name: "as a change of the media type", media: "application/graphql+json",
		body: `{"query":"{ b: booking(id: 1) { who: skipper { mail: email } } }"}`},
	{name: "without a media type", body: `{"query":"{ b: booking(id: 1) { who: skipper { mail: email } } }"}`},
	{name: "as the text itself", media: "application/graphql", body: `{ b: booking(id: 1) { who: skipper { mail: email } } }`},
	{name: "as a form", media: "application/x-www-form-urlencoded",
		body: `query=%7b+b:+booking(id:+1)%7Bwho%3Askipper{mail:email}}}`},
	{name: "in parts", media: "multipart/form-data; boundary=quay", body: "--quay\r\nContent-Disposition: form-data; " +
		"name=operations\r\n\r\n{\"query\":\"{b:booking(id:1){who:skipper{mail:email}}}\"}\r\n--quay--\r\n"},
	{name: "packed", media: "application/json", packed: "gzip",
		body: `{"query":"{ b: booking(id: 1) { who: skipper { mail: email } } }"}`},
	{name: "in the address", method: "GET", query: "query=" +
		url.QueryEscape(`{ b: booking(id: 1) { who: skipper { mail: email } } }`)},
	{name: "in the address, escaped further", method: "GET",
		query: "x=1&qu%65ry=%7B%62%3Abooking(id:1)%7Bwho%3Askipper%7Bmail%3Aemail%7D%7D%7D&operationName="},
	{name: "in the address of a POST", query: "query=" +
		url.QueryEscape(`{ b: booking(id: 1) { who: skipper { mail: email } } }`)},
}

// ask sends the request.
func (s spelled) ask(t *testing.T, to string) {
	t.Helper()
	body := []byte(s.body)
	if s.packed != "" {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		z.Write(body)
		z.Close()
		body = b.Bytes()
	}
	method := "POST"
	if s.method != "" {
		method = s.method
	}
	request := must(http.NewRequest(method, to+"/graphql?"+s.query, bytes.NewReader(body)))
	for name, value := range map[string]string{"Content-Type": s.media, "Content-Encoding": s.packed} {
		if value != "" {
			request.Header.Set(name, value)
		}
	}
	if s.list {
		request.Header.Set("X-List", "1")
	}
	answer := must(http.DefaultClient.Do(request))
	io.Copy(io.Discard, answer.Body)
	answer.Body.Close()
}

// TestQueriesSpelledOtherwise asks for the same in many ways, through a recorder into a file and into the service: each
// way shows the same in a check, and check, upload and recorder agree.
func TestQueriesSpelledOtherwise(t *testing.T) {
	upstream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		const result = `{"data":{"b":{"who":{"mail":"ada@sails.example"}}}}`
		w.Header().Set("Content-Type", "application/graphql-response+json")
		if r.Header.Get("X-List") != "" {
			fmt.Fprintf(w, "[%s]", result)
			return
		}
		io.WriteString(w, result)
	}))
	defer upstream.Close()
	s, home := startDemo(t)
	signIn(t, s, home)
	files := map[string]string{}
	for _, name := range []string{"quay", "pier"} {
		dir := t.TempDir()
		files[name] = filepath.Join(dir, name+".yaml")
		for file, text := range map[string]string{files[name]: fmt.Sprintf(spelledContract, name),
			filepath.Join(dir, "quay.graphql"): spelledTypes} {
			if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if r := run(t, home, nil, "contract", "apply", files[name]); r.status != 0 {
			t.Fatal(r.err)
		}
	}
	recording := filepath.Join(home, "asked.lines")
	into := record(t, home, nil, "--upstream", upstream.URL, "--to", recording)
	live := record(t, home, nil, "--upstream", upstream.URL, "--service", "pier")
	for _, one := range spellings {
		one.ask(t, into.url)
		one.ask(t, live.url)
	}
	if into.end(t) != 0 || live.end(t) != 0 {
		t.Fatalf("recording: %s%s", into.said, live.said)
	}

	const leak = "sensitive-field POST /graphql Skipper >> $.email"
	lines := strings.SplitAfter(strings.TrimSpace(string(must(os.ReadFile(recording)))), "\n")
	if len(lines) != len(spellings) {
		t.Fatalf("%d were captured", len(lines))
	}
	for i, one := range spellings {
		r := run(t, home, strings.NewReader(lines[i]), "check", "--contracts", files["quay"], "--format", "json", "-")
		var told []string
		for _, f := range decode[checked](t, r.out).Findings {
			told = append(told, f.Kind+" "+f.Endpoint+" "+f.Path)
		}
		if !slices.Equal(told, []string{leak}) {
			t.Errorf("%s: %q\n%s", one.name, told, lines[i])
		}
	}
	if r := run(t, home, nil, "capture", "upload", "--service", "quay", recording); r.status != 0 {
		t.Fatal(r.err)
	}
	for _, service := range []string{"quay", "pier"} {
		list := func() (told []string) {
			r := run(t, home, nil, "finding", "list", "--service", service, "--format", "json")
			for _, f := range decode[wire.FindingPage](t, r.out).Items {
				told = append(told, fmt.Sprintln(f.Kind, f.Endpoint, f.Path, f.Captures, f.Spots))
			}
			return told
		}
		want := []string{fmt.Sprintln(leak, len(spellings), len(spellings))}
		waitFor(t, service+" has all", func() bool { return slices.Equal(list(), want) })
	}
}
