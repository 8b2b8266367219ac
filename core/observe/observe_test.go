package observe

import (
	"fmt"
	"net/url"
	"slices"
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
		if got := paths(t, "/"+path+" {}"); !slices.Equal(got, []string{want}) {
			t.Errorf("%s becomes %s, want %s", path, got, want)
		}
	}
}

// paths observes calls, each an address and a body, and returns the endpoints that are proposed.
func paths(t *testing.T, calls ...string) (all []string) {
	t.Helper()
	o := New(nil)
	for _, call := range calls {
		address, body, _ := strings.Cut(call, " ")
		method := "GET"
		missing := strings.HasPrefix(address, "!")
		address = strings.TrimPrefix(address, "!")
		if body == "" {
			method = "DELETE"
		}
		c := capture(t, method, "https://a.example"+address, body)
		if body == "" {
			c.Response.Status = 204
		}
		if missing {
			c.Response.Status = 404
		}
		o.Add(c)
	}
	for _, op := range o.Sketch().Operations {
		all = append(all, op.Method+" "+op.Path)
	}
	slices.Sort(all)
	return all
}

// TestSegmentsThatVaryAreParameters by their form, and by the bodies of their siblings.
func TestSegmentsThatVaryAreParameters(t *testing.T) {
	const boat, person, short = `{"id":"x","label":"A","hull":"wood","mast":2}`, `{"id":"*","name":"B","born":"2001"}`,
		`{"id":1}`
	each := func(under, body string, values ...string) (all []string) {
		for _, v := range values {
			all = append(all, strings.Replace(under, "*", v, 1)+" "+strings.ReplaceAll(body, "*", v))
		}
		return all
	}
	for name, c := range map[string]struct {
		calls []string
		want  string
	}{
		"ids of 8":  {each("/boats/*", boat, "k3x9q2pa", "zz81mm0c"), "GET /boats/{boat_id}"},
		"ids of 11": {each("/clips/*", boat, "dQw4w9WgXcQ", "a1B2c3D4e5F"), "GET /clips/{clip_id}"},
		"ids of 15": {each("/records/*", boat, "ae41jc8i2m3k0p9", "b7x0q1w2e3r4t5y"),
			"GET /records/{record_id}"},
		"with a prefix": {each("/customers/*", short, "cus_9s6XKzkNRiz8i3", "cus_8aZ"),
			"GET /customers/{customer_id}"},
		"slugs": {each("/marinas/*", boat, "blue-water", "old-quay-north", "sand-bar"),
			"GET /marinas/{marina_id}"},
		"dates":           {each("/tides/*", boat, "2027-03-01"), "GET /tides/{tide_id}"},
		"addresses":       {each("/of/*", boat, "ada@quay.example", "bo%40quay.example"), "GET /of/{of_id}"},
		"names of people": {each("/users/*", person, "anna", "bert", "carl", "dora"), "GET /users/{user_id}"},
		"two words":       {each("/reports/*", boat, "daily", "weekly"), "GET /reports/daily|GET /reports/weekly"},
		"versions":        {each("/*/boats", boat, "v1", "v2"), "GET /v1/boats|GET /v2/boats"},
		"different bodies": {append(each("/a/*", boat, "boats"), each("/a/*", person, "people")...),
			"GET /a/boats|GET /a/people"},
		"oneself": {append(each("/users/*", person, "anna", "bert", "carl", "dora"), "/users/me "+person),
			"GET /users/me|GET /users/{user_id}"},
		"what is below": {slices.Concat(each("/users/*/boats", boat, "anna", "bert", "carl", "dora"),
			each("/users/*", "", "anna",
				"bert"), each("/users/*/logs/k3x9q2pa", person, "anna"), each("/users/*/logs/zz81mm0c", person,
				"bert")),
			"DELETE /users/{user_id}|GET /users/{user_id}/boats|GET /users/{user_id}/logs/{log_id}"},
		"records of collections": {slices.Concat(each("/collections/pbc_1125843985/records/*", boat, "ae41jc8i2m3k0p9",
			"b7x0q1w2e3r4t5y"),
			each("/collections/pbc_3142635823/records/*", person, "c7x0q1w2e3r4t5y", "de41jc8i2m3k0p9")),
			"GET /collections/pbc_1125843985/records/{record_id}|GET /collections/pbc_3142635823/records/{record_id}"},
		"collections by name": {slices.Concat(each("/collections/*/records", "["+boat+"]", "boats"),
			each("/collections/*/records",
				"["+person+"]", "people"), each("/collections/*/records", `[{"x":1,"y":2,"z":3}]`, "logs")),
			"GET /collections/boats/records|GET /collections/logs/records|GET /collections/people/records"},
		"what was not found": {append(each("/boats/*", boat, "17", "18"), "!/boats/none {}"), "GET /boats/{boat_id}"},
		"one kind of thing that varies": {slices.Concat(each("/items/*", boat, "17", "18", "19"),
			each("/items/*", person, "20", "21")),
			"GET /items/{item_id}"},
	} {
		if got := strings.Join(paths(t, c.calls...), "|"); got != c.want {
			t.Errorf("%s: %s, want %s", name, got, c.want)
		}
		slices.Reverse(c.calls)
		if got := strings.Join(paths(t, c.calls...), "|"); got != c.want && name != "with a prefix" {
			t.Errorf("%s, in the other order: %s, want %s", name, got, c.want)
		}
	}
}

// TestManyValuesAreOneParameter observes more values than are learnt apart.
func TestManyValuesAreOneParameter(t *testing.T) {
	var calls []string
	for i := range 5000 {
		calls = append(calls, fmt.Sprintf(`/users/name%c%c%c/boats/%d {"id":%d,"label":"x","hull":"y","keel":1,"mast":2}`, 'a'+i%26, 'a'+i/26%26,
			'a'+i/676, i, i))
	}
	if got := paths(t, calls...); !slices.Equal(got, []string{"GET /users/{user_id}/boats/{boat_id}"}) {
		t.Errorf("%d endpoints, as %.300s", len(got), strings.Join(got, " "))
	}
}

// TestEveryAudienceIsProposed that requests or recordings tell of.
func TestEveryAudienceIsProposed(t *testing.T) {
	o := New(nil)
	o.Add(capture(t, "GET", "https://a.example/a", `{}`))
	o.Add(capture(t, "GET", "https://a.example/a", `{}`, "X-Api-Key", "1"))
	o.Add(capture(t, "GET", "https://a.example/a", `{}`, "Cookie", "sid=1"))
	o.Add(capture(t, "GET", "https://a.example/a", `{}`, "Authorization", "Basic YTpi"))
	said := capture(t, "GET", "https://a.example/a", `{}`)
	said.Audience = "auditor"
	o.Add(said)
	var got []string
	for _, c := range o.Callers() {
		got = append(got, c.Name+": "+c.Recognise.Words())
	}
	const want = "anyone: no credentials; with-key: header X-Api-Key *; signed-in-by-cookie: cookie sid *; " +
		"signed-in: header Authorization *; auditor: "
	if text := strings.Join(got, "; "); !strings.HasPrefix(text, want) {
		t.Errorf("callers are %s", text)
	}
}
