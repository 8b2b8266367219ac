package observe

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"inkret/core/exchange"
)

func capture(t *testing.T, method, address, body string, headers ...string) *exchange.Capture {
	t.Helper()
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	c := &exchange.Capture{Request: exchange.Request{Method: method, URL: u},
		Response: exchange.Response{Status: 200,
			Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}, Body: []byte(body)}}
	for i := 0; i < len(headers); i += 2 {
		c.Request.Header = append(c.Request.Header, exchange.HeaderField{Name: headers[i], Value: headers[i+1]})
	}
	return c
}

// learnt writes what was learnt in short: Object(seen) member:form …
func learnt(o *Observer) string {
	var b strings.Builder
	for _, one := range o.Sketch().Objects {
		fmt.Fprintf(&b, "%s(%d at %d, %d%%)", one.Name, one.Seen, one.Places, one.Sure)
		for _, m := range one.Members {
			fmt.Fprintf(&b, " %s:%s", m.Name, strings.ReplaceAll(m.Form.Words(), ", ", "/"))
			if m.Object != nil {
				fmt.Fprintf(&b, ">%s", m.Object.Name)
			}
			if m.Many {
				b.WriteString("[]")
			}
			if m.Optional {
				b.WriteString("?")
			}
			if m.Open {
				b.WriteString("*")
			}
		}
		b.WriteByte('\n')
	}
	return b.String()
}

func TestObjectsThatRecurAreOneEntity(t *testing.T) {
	o := New(nil)
	o.Add(capture(t, "GET", "https://a.example/v1/boats",
		`{"data":[{"id":1,"name":"Gull","owner":{"id":5,"mail":"a@b.example"}},{"id":2,"name":null,"extra":true,"owner":{"id":6,"mail":"c@b.example"}}],"meta":{"n":2}}`))
	o.Add(capture(t, "GET", "https://a.example/v1/boats/7",
		`{"data":{"id":7,"name":"Tide","owner":{"id":5,"mail":"a@b.example"},"tags":["a"],"by_day":{"2026":1,"2027":2}}}`))
	o.Add(capture(t, "GET", "https://a.example/v1/owners/5",
		`{"id":5,"mail":"a@b.example","boats":[{"id":1,"name":"Gull"}]}`))
	o.Add(capture(t, "GET", "https://a.example/v1/broken", `{"id":5,"half":`))
	const want = `Boat(4 at 3, 61%) id:integer name:string/nullable owner:any value>Owner? extra:boolean? tags:string[]? by_day:object?*
Owner(4 at 3, 77%) id:integer mail:string/email boats:any value>Boat[]?
Broken(1 at 1, 100%) id:integer half:any value
`
	if got := learnt(o); got != want {
		t.Errorf("learnt is\n%s\nwant\n%s", got, want)
	}
	var paths []string
	for _, op := range o.Sketch().Operations {
		paths = append(paths, op.Method+" "+op.Path+" "+op.Answers[0].At)
	}
	if got := strings.Join(paths,
		", "); got != "GET /v1/boats /data, GET /v1/boats/{boat_id} /data, GET /v1/owners/{owner_id} , GET "+
		"/v1/broken " {
		t.Errorf("operations are %s", got)
	}
	mail := o.Sketch().Object("Owner").Member("mail")
	if mail.Observed.Detector != "e-mail address" || mail.Observed.Values != 4 || mail.Observed.Distinct != 2 {
		t.Errorf("observed is %+v", mail.Observed)
	}
}

func TestCallers(t *testing.T) {
	o := New(nil)
	skipper := "Bearer e30.eyJyb2xlIjoic2tpcHBlciJ9.x" // {"role":"skipper"}
	o.Add(capture(t, "GET", "https://a.example/a", `{}`))
	o.Add(capture(t, "GET", "https://a.example/a", `{}`, "Authorization", skipper))
	o.Add(capture(t, "GET", "https://a.example/a", `{}`, "Cookie", "desk=1; other=2"))
	o.Add(capture(t, "GET", "https://a.example/a", `{}`, "Cookie", "desk=1"))
	var got []string
	for _, c := range o.Callers() {
		got = append(got, c.Name+": "+c.Recognise.Words())
	}
	if text := strings.Join(got,
		"; "); text != "anyone: no credentials; signed-in: cookie desk *; skipper: claim role skipper" {
		t.Errorf("callers are %s", text)
	}
}

func TestTemplates(t *testing.T) {
	for path, want := range map[string]string{
		"v1/boats/17": "GET /v1/boats/{boat_id}",
		"v1/boats/17/parts/3f2504e04f8911d39a0c0305e82c3301": "GET /v1/boats/{boat_id}/parts/{part_id}",
		"7/7":     "GET /{id}/{next_id}",
		"a-b/9/9": "GET /a-b/{a_b_id}/{next_a_b_id}",
		"":        "GET /",
	} {
		if got := Template("GET", strings.Split(path, "/")); got != want {
			t.Errorf("%s becomes %s, want %s", path, got, want)
		}
	}
}
