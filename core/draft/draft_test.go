package draft

import (
	"bytes"
	"fmt"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/document"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/observe"
	"inkret/core/scan"
	"inkret/core/schema"
	"inkret/demo"
	"inkret/intake"
)

func read(t testing.TB, text string) *contract.Contracts {
	t.Helper()
	c, err := contract.Read(contract.File{Name: "draft.yaml", Data: []byte(text)})
	if err != nil {
		t.Fatalf("the draft cannot be read: %v in\n%.3000s", err, text)
	}
	return c
}

// recording is a recording of the demo's harbour, made as all audiences.
func recording(t testing.TB) []*exchange.Capture {
	t.Helper()
	harbour := httptest.NewServer(demo.NewHarbour(1))
	defer harbour.Close()
	var all []*exchange.Capture
	for _, a := range demo.Audiences {
		var har bytes.Buffer
		if err := demo.Record(t.Context(), harbour.Listener.Addr().String(), a, &har); err != nil {
			t.Fatal(err)
		}
		if err := intake.Read(string(a), &har, intake.Options{}, func(c *exchange.Capture) error {
			all = append(all, c)
			return nil
		}); err != nil {
			t.Fatal(err)
		}
	}
	return all
}

// TestDraftFromTraffic checks that a draft from the harbour's recording is valid and grants nothing sensitive, and
// that a check of that recording then reports exactly what the draft left out.
func TestDraftFromTraffic(t *testing.T) {
	o := observe.New(nil)
	captures := recording(t)
	for _, c := range captures {
		o.Add(c)
	}
	d := Write(o.Sketch(), Options{Callers: o.Callers(), From: "a recording\nwith a break"})
	c := read(t, d.Text)
	if strings.Contains(d.Text, "\nwith") {
		t.Error("text from outside broke out of the comment")
	}
	for _, e := range c.Endpoints {
		for _, k := range e.Cases() {
			if r := k.Choice.Response; r != nil && r.Body != nil {
				gravest(t, e.Text, r.Body, map[*contract.GrantSet]bool{})
			}
		}
	}
	judge, collector := scan.NewJudge(c), finding.NewCollector("x")
	for _, one := range captures {
		out := judge.Capture(one)
		collector.Add("f", one.Entry, &out)
	}
	asked := map[string]bool{}
	for _, q := range d.Questions {
		for _, f := range q.Concerns {
			asked[f.Entity+"."+f.Field] = true
		}
	}
	left := 0
	for _, f := range collector.Findings() {
		switch f.Kind {
		case kind.UnexpectedField, kind.SensitiveField:
			if f.Entity != "" && f.Field != "" && !asked[f.Entity+"."+f.Field] {
				t.Errorf("%s at %s %s was neither granted nor asked about", f.Kind, f.Endpoint, f.Path)
			}
			left++
		case kind.MissingField, kind.UnexpectedRelation, kind.ValueMismatch:
			t.Errorf("the draft departs from what it was drafted from: %s at %s %s: %s", f.Kind, f.Endpoint, f.Path,
				f.Why)
		}
	}
	if left == 0 || len(d.Questions) < 10 {
		t.Errorf("%d findings are left and %d questions asked", left, len(d.Questions))
	}
	var names []string
	for _, e := range c.Catalog.Entities {
		names = append(names, e.Name)
	}
	for _, want := range []string{"Berth", "Booking", "Skipper", "Account"} {
		if !slices.Contains(names, want) {
			t.Errorf("no entity %s is proposed: %v", want, names)
		}
	}
	var audiences []string
	for _, a := range c.Audiences {
		audiences = append(audiences, a.Name)
	}
	if audiences[0] != observe.Anyone || !slices.Contains(audiences, "skipper") {
		t.Errorf("audiences are %v", audiences)
	}
	for _, e := range c.Endpoints {
		if regexp.MustCompile(`/\d+(/|$)`).MatchString(e.Text) {
			t.Errorf("%s has a number where a parameter belongs", e.Text)
		}
	}
}

func gravest(t *testing.T, endpoint string, s *contract.GrantSet, met map[*contract.GrantSet]bool) {
	if s == nil || met[s] {
		return
	}
	met[s] = true
	for _, g := range s.Grants {
		if g.Class >= catalog.Personal {
			t.Errorf("%s grants %s, which is %s", endpoint, g.Name, g.Class)
		}
		gravest(t, endpoint, g.Members(), met)
	}
}

const api = `openapi: 3.0.3
info: {title: "Fennick: Quay", version: "1"}
servers: [{url: "https://a.example/v1"}, {url: "/relative"}]
paths:
  /berths/{berth-id}/: {get: {responses: {"200": {content: {application/json: {schema: {$ref: "#/components/schemas/Berth"}}}}}}}
  /berths/{other}: {get: {responses: {"200": {}}}}
  /skippers: {post: {requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Skipper"}}}}, responses: {"2XX": {content: {application/json: {schema: {$ref: "#/components/schemas/Skipper"}}}}, "404": {}}}}
components:
  schemas:
    Berth: {required: [id, label], properties: {id: {type: integer}, label: {type: string}, next: {$ref: "#/components/schemas/Berth"}, bookings: {type: array, items: {$ref: "#/components/schemas/Booking"}}}}
    Booking: {properties: {berth: {$ref: "#/components/schemas/Berth"}, "odd name: #": {type: string, enum: ["a: b", "yes"]}, state: {type: string}}}
    Skipper: {properties: {id: {type: integer}, email: {type: string}, password: {type: string, writeOnly: true}, created_at: {type: string}, berths: {type: array, items: {$ref: "#/components/schemas/Berth"}}}}
`

func TestDraftFromADescription(t *testing.T) {
	s, err := schema.Describe("api.yaml", []byte(api))
	if err != nil {
		t.Fatal(err)
	}
	d := Write(s, Options{})
	c := read(t, d.Text)
	if c.Service != "fennick-quay" || len(c.Servers) != 1 || len(c.Endpoints) != 2 {
		t.Errorf("service %s, %d servers, %d endpoints", c.Service, len(c.Servers), len(c.Endpoints))
	}
	for _, want := range []string{"next: {shape: berth, optional: true}", "bookings: {shape: booking, optional: true}",
		"password: {reason: the client sends it, optional: true}"} {
		if !strings.Contains(d.Text, want) {
			t.Errorf("%q: %s", want, d.Text)
		}
	}
	accepts := c.Endpoints[1].Accepts[0].Body.Grants
	for _, g := range accepts {
		if g.Name == "id" || g.Name == "created_at" {
			t.Errorf("a client may set %s", g.Name)
		}
	}
}

// TestLargeDescriptionsAreDrafted takes a description of 800 paths and 1,000 numbered schemas of the same fields that
// refer to each other in long chains and circles.
func TestLargeDescriptionsAreDrafted(t *testing.T) {
	s, err := schema.Describe("large.json", Large(800, 1000))
	if err != nil {
		t.Fatal(err)
	}
	d := Write(s, Options{})
	if c := read(t, d.Text); len(c.Endpoints) != 800 || len(c.Catalog.Entities) != 2 {
		t.Errorf("%d endpoints, %d entities", len(c.Endpoints), len(c.Catalog.Entities))
	}
	if len(d.Text) > 1<<20 {
		t.Errorf("the draft has %d bytes", len(d.Text))
	}
}

func TestDraftsAgainstAContract(t *testing.T) {
	files := []contract.File{}
	for _, name := range []string{"catalogue.yaml", "fennick-quay.yaml", "harbour.graphql"} {
		data, err := os.ReadFile("../../demo/contracts/" + name)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, contract.File{Name: name, Data: data})
	}
	c, err := contract.Read(files...)
	if err != nil {
		t.Fatal(err)
	}
	entry, questions, err := FromEntity(c, "GET /v1/staff/{id}", "Skipper", true)
	if err != nil {
		t.Fatal(err)
	}
	text := string(entry.Append(nil, 0))
	if !strings.Contains(text, "      id:\n") || strings.Contains(text, "email") || strings.Contains(text, "loyalty") ||
		len(questions) != 6 || !strings.Contains(text, "boats: {reference: id}") {
		t.Errorf("drafted from an entity is\n%s%v", text, questions)
	}
	if _, _, err := FromEntity(c, "GET /x", "Nothing", false); err == nil {
		t.Error("an entity that is not there is drafted from")
	}
	copied := FromEndpoint(c.Node(c.Endpoints[0]), "GET /v2/berths")
	if copied.Get("endpoint").Text != "GET /v2/berths" || copied.Get("responses") == nil {
		t.Error("an endpoint is not copied")
	}
	o := observe.New(c)
	for _, one := range recording(t) {
		o.Add(one)
	}
	drafted := 0
	for _, op := range o.Sketch().Operations {
		entry, _ := FromOperation(c, op)
		root := document.Mapping().Set("inkret", document.Count(1)).Set("endpoints",
			(&document.Value{Kind: document.List}).Add(entry))
		again, err := contract.Read(files[0], contract.File{Name: "new.yaml", Data: root.Append(nil, 0)},
			contract.File{Name: "a.yaml", Data: []byte(audiencesOnly(string(files[1].Data)))})
		if err != nil {
			t.Errorf("%s %s: %v in\n%s", op.Method, op.Path, err, root.Append(nil, 0))
			continue
		}
		for _, r := range again.Endpoints[0].Responses {
			gravest(t, op.Path, r.Body, map[*contract.GrantSet]bool{})
			drafted += len(r.Body.Grants)
		}
	}
	if drafted < 20 {
		t.Errorf("only %d grants were drafted", drafted)
	}
}

// audiencesOnly is a contract file up to its shapes or endpoints: service, servers, audiences.
func audiencesOnly(text string) string {
	return text[:regexp.MustCompile(`\n(shapes|responses|endpoints):`).FindStringIndex(text)[0]]
}

// Large makes an OpenAPI document of so many paths and schemas.
func Large(paths, schemas int) []byte {
	var b strings.Builder
	b.WriteString(`{"openapi":"3.1.0","info":{"title":"large","version":"1"},"paths":{`)
	for i := range paths {
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, `"/v1/things%d/{thing_id}":{"get":{"responses":{"200":{"content":{"application/json":{"schema":{"$ref":"#/components/schemas/Thing%d"}}}}}}}`, i, i%schemas)
	}
	b.WriteString(`},"components":{"schemas":{`)
	for i := range schemas {
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, `"Thing%d":{"type":"object","required":["id"],"properties":{"id":{"type":"integer"},"name":{"type":"string"},"email":{"type":"string"},"next":{"$ref":"#/components/schemas/Thing%d"},"others":{"type":"array","items":{"$ref":"#/components/schemas/Thing%d"}},"part":{"type":"object","properties":{"a":{"type":"string"}}}}}`,
			i, (i+1)%schemas, (i*7+3)%schemas)
	}
	b.WriteString(`}}}`)
	return []byte(b.String())
}

// TestADraftAsksWhoseRecordsThereAre checks that what traffic shows of callers and owners is proposed, as
// questions, in a contract that can be read, and that what is asked can be answered by `own: true`.
func TestADraftAsksWhoseRecordsThereAre(t *testing.T) {
	o := observe.New(nil)
	for _, c := range recording(t) {
		o.Add(c)
	}
	s := o.Sketch()
	s.Tellers = []schema.Teller{{Claim: "sub"}, {ToldBy: "GET /v1/me", At: "/data/id"}}
	s.Objects[0].Owner = s.Objects[0].Members[0].Name
	d := Write(s, Options{Callers: o.Callers()})
	c := read(t, d.Text)
	if len(c.Tellers) != 2 || c.Tellers[1].Text() != "GET /v1/me at $.data.id" ||
		c.Catalog.Entity(s.Objects[0].Name).Owner != s.Objects[0].Owner {
		t.Errorf("callers are %+v, the owner is %q", c.Tellers, c.Catalog.Entity(s.Objects[0].Name).Owner)
	}
	asked := 0
	for _, q := range d.Questions {
		if strings.Contains(q.Text, "who makes a request") || strings.Contains(q.Text, "whose record") {
			asked++
		}
	}
	if asked < 3 {
		t.Errorf("%d of the questions are about callers and owners: %+v", asked, d.Questions)
	}
	limited := strings.Replace(d.Text, "entity: "+s.Objects[0].Name+",", "entity: "+s.Objects[0].Name+", own: true,", 1)
	if limited != d.Text {
		read(t, limited)
	}
}

// TestNothingInternalIsGrantedSilently checks that what is meant for the house is left out and asked about, and that
// what belongs to the works is granted with one question.
func TestNothingInternalIsGrantedSilently(t *testing.T) {
	const described = `openapi: 3.0.3
info: {title: quay, version: "1"}
paths:
  /boats/{id}:
    get:
      responses:
        "200":
          description: a boat
          content:
            application/json:
              schema: {$ref: "#/components/schemas/Boat"}
components:
  schemas:
    Boat:
      type: object
      properties:
        id: {type: integer}
        label: {type: string, description: "Pass one or more labels"}
        private_note: {type: string}
        internal_margin: {type: number}
        purchase_price: {type: number}
        staff_remark: {type: string}
        tokenKey: {type: string}
        created_at: {type: string, format: date-time}
`
	s, err := schema.Describe("a.yaml", []byte(described))
	if err != nil {
		t.Fatal(err)
	}
	d := Write(s, Options{})
	c := read(t, d.Text)
	var granted []string
	for _, g := range c.Endpoints[0].Cases()[0].Choice.Response.Body.Grants {
		granted = append(granted, g.Name)
	}
	if got := strings.Join(granted, " "); got != "id label created_at" {
		t.Errorf("granted are %s in\n%s", got, d.Text)
	}
	asked := map[string]string{}
	for _, q := range d.Questions {
		asked[q.Field] = q.Text
	}
	for _, field := range []string{"private_note", "internal_margin", "purchase_price", "staff_remark", "tokenKey"} {
		if !strings.Contains(asked[field], "who may see it?") {
			t.Errorf("of %s is asked %q", field, asked[field])
		}
	}
	if len(asked) != 6 || !strings.Contains(asked["id"], "id, created_at") ||
		!strings.Contains(d.Text, "# ? do callers need id, created_at?") {
		t.Errorf("asked is %q in\n%s", asked, d.Text)
	}
}

// TestServicesAreNamed by what they are drafted from, and not after an address.
func TestServicesAreNamed(t *testing.T) {
	for server, want := range map[string]string{"https://api.fennick-quay.example/v1": "fennick-quay",
		"http://127.0.0.1:8080": "service", "http://[::1]:80": "service", "http://localhost:3000": "service",
		"https://quay.example.org": "quay.example.org"} {
		if d := Write(&schema.Sketch{Servers: []string{server}}, Options{}); d.Service != want {
			t.Errorf("%s is called %s, want %s", server, d.Service, want)
		}
	}
}
