package contract

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"inkret/core/catalog"
)

// documented is the example of docs/contract-format.md, completed with the
// entities that it refers to.
const documented = `inkret: 1
service: fennick-quay
servers: ["https://api.fennick-quay.example"]

audiences:
  - name: visitor
    recognise: {credentials: none}
  - name: skipper
    recognise: {claim: {name: role, value: skipper}}
  - name: harbour-office
    recognise: {header: {name: X-Desk, value: "*"}}

entities:
  Booking:
    stored_as: bookings
    fields:
      id:         {type: integer, class: internal}
      reference:  {type: string, class: public, max: 12}
      arrives_on: {type: string, format: date, class: public}
      leaves_on:  {type: string, format: date, class: public}
      desk_note:  {type: string, class: internal, nullable: true}
    relations:
      berth:   {entity: Berth}
      skipper: {entity: Skipper}
      charges: {entity: Charge, many: true}
  Berth:
    fields: {id: {type: integer, class: internal}, label: {type: string, class: public}, length_m: {type: number, class: public}}
    x-owner: moorings
  Skipper:
    fields: {id: {type: integer, class: internal}, display_name: {type: string, class: personal}}
  Charge:
    fields: {id: {type: integer}}

shapes:
  berth-card:
    entity: Berth
    grants:
      id:
      label:
      length: length_m

responses:
  - {statuses: [4XX, 5XX], grants: {title: {type: string}, detail: {type: string}}}

endpoints:
  - endpoint: GET /v1/bookings/{booking_id}
    team: reservations
    selection: {query: only, separator: ","}
    responses:
      - audiences: [skipper, harbour-office]
        statuses: [200]
        entity: Booking
        at: /data
        grants:
          id:
          ref: reference
          nights:  {derived: [arrives_on, leaves_on], type: integer}
          note:    {field: desk_note, optional: true, max: 500, audiences: [harbour-office]}
          weather: {external: coast-weather, type: object, open: true, optional: true}
          berth:   {shape: berth-card}
          owner:
            relation: skipper
            grants:
              id:
              name: {field: display_name, needed_by: [arrivals-board], reason: staff greet people by name}
          charges: {reference: id}
        beside:
          meta:  {open: true}
          links: {open: true}
  - endpoint: POST /v1/bookings
    accepts:
      - audiences: [skipper]
        entity: Booking
        grants: {arrives_on: , leaves_on: , berth_id: {relation: berth, reference: id}}
    responses:
      - {statuses: [201], entity: Booking, grants: {id: , ref: reference}}
detectors:
  - {name: berth code, class: personal, pattern: "FQ-[0-9]{4}", match: ["FQ-1234", "at FQ-0001 today"], no_match: ["FQ-12"]}
exceptions:
  - {endpoint: "GET /v1/bookings/{booking_id}", path: "$.data..*", kind: unexpected-field, reason: until the kiosk is gone, until: 2027-03-31}
`

func read(text string) (*Contracts, error) {
	return Read(File{Name: "api.yaml", Data: []byte(text)})
}

func TestDocumentedExampleIsRead(t *testing.T) {
	c, err := read(documented)
	if err != nil {
		t.Fatal(err)
	}
	if c.Service != "fennick-quay" || len(c.Audiences) != 3 || len(c.Catalog.Entities) != 4 || len(c.Endpoints) != 2 ||
		len(c.Detectors) != 1 || len(c.Exceptions) != 1 {
		t.Errorf("read %d audiences, %d entities, %d endpoints, %d detectors, %d exceptions of %q", len(c.Audiences),
			len(c.Catalog.Entities),
			len(c.Endpoints), len(c.Detectors), len(c.Exceptions), c.Service)
	}
	grants := c.Endpoints[0].Responses[0].Body
	for name, want := range map[string]struct {
		source  Source
		class   catalog.Class
		carries string
	}{
		"id":      {FromField, catalog.Internal, "Booking.id"},
		"ref":     {FromField, catalog.Public, "Booking.reference"},
		"nights":  {FromDerived, catalog.Public, "derived from arrives_on, leaves_on"},
		"note":    {FromField, catalog.Internal, "Booking.desk_note"},
		"weather": {FromExternal, catalog.Public, "from coast-weather"},
		"berth":   {FromRelation, catalog.Public, "Berth"},
		"charges": {FromRelation, catalog.Internal, "reference to Charge.id"},
	} {
		g := grants.grant(name)
		if g == nil {
			t.Errorf("there is no grant %q", name)
			continue
		}
		if g.Source != want.source || g.Class != want.class || g.Carries() != want.carries {
			t.Errorf("%s: source %d, class %s, carries %q; want %d, %s, %q", name, g.Source, g.Class, g.Carries(),
				want.source, want.class, want.carries)
		}
	}
	if note := grants.grant("note"); note.Form.Max != 500 || !note.Form.Nullable || !note.Optional ||
		note.Audiences != 1<<2 {
		t.Errorf("note has max %d, nullable %v, optional %v, audiences %b", note.Form.Max, note.Form.Nullable,
			note.Optional, note.Audiences)
	}
	if length := grants.grant("berth").Members().grant("length"); length.Field.Name != "length_m" ||
		length.Pos.Line != 40 {
		t.Errorf("the shape's grant carries %s, at line %d", length.Field.Name, length.Pos.Line)
	}
	if e := c.Endpoints[1]; !e.Judges || len(e.Accepts) != 1 || c.Endpoints[0].Judges {
		t.Errorf("accepts of POST: %v %d; of GET: %v", e.Judges, len(e.Accepts), c.Endpoints[0].Judges)
	}
}

func TestJSONIsAContractToo(t *testing.T) {
	c, err := read(`{"inkret": 1, "service": "s", "endpoints": [{"endpoint": "GET /a", "responses": [{"grants": {"b": null, "c": {"type": "string"}}}]}]}`)
	if err != nil {
		t.Fatal(err)
	}
	if got := len(c.Endpoints[0].Responses[0].Body.Grants); got != 2 {
		t.Errorf("%d grants are read, want 2", got)
	}
}

// small is a document with two entities; cases insert what they test.
func small(shapes, response string) string {
	return `inkret: 1
service: s
audiences: [{name: visitor}, {name: office}]
entities:
  A:
    fields: {id: {type: integer, class: internal}, name: {type: string, class: public}, mail: {type: string, class: personal}, pin: {class: secret}, doc: {type: object, class: internal}, tags: {type: array, class: public}}
    relations: {b: {entity: B}, bs: {entity: B, many: true}}
  B: {fields: {id: {type: integer, class: internal}}, relations: {a: {entity: A}}}
shapes: {` + shapes + `}
endpoints:
  - endpoint: GET /a/{id}
    responses:
      - ` + response + "\n"
}

// TestProblems checks the message of each possible problem.
func TestProblems(t *testing.T) {
	grants := func(g string) string { return small("", `{entity: A, grants: {`+g+`}}`) }
	cases := []struct{ name, text, want string }{
		{"not YAML", "inkret: [1,\nx: 2", "api.yaml:3:1: $: did not find expected ',' or ']'"},
		{"a tab", "inkret: 1\n\tservice: x", "found a tab character"},
		{"empty", "", "the file is empty"},
		{"two documents", "inkret: 1\nservice: s\n---\na: 1", "api.yaml:4:1: $: a second document begins here"},
		{"not UTF-8", "inkret: 1\nservice: \xff", "the file is not UTF-8"},
		{"a list on top", "- a", "$: a list stands here; expected a mapping with inkret"},
		{"no version", "service: s", "the format's version is missing"},
		{"another version", "inkret: 2\nservice: s", `api.yaml:1:9: $.inkret: a number "2" is no version`},
		{"no service", "inkret: 1", "the service has no name"},
		{"mistyped key on top", "inkret: 1\nservice: s\nendpoint: []",
			`api.yaml:3:1: $.endpoint: key "endpoint" is not known; expected inkret, service, servers`},
		{"with the word that was meant", "inkret: 1\nservice: s\nendpoint: []", `did you mean "endpoints"?`},
		{"a name twice in a mapping", "inkret: 1\nservice: s\nservice: t",
			`"service" is defined twice, first at api.yaml:2:1`},
		{"an audience twice", "inkret: 1\nservice: s\naudiences: [{name: a}, {name: a}]",
			`audience "a" is defined twice`},
		{"no server", "inkret: 1\nservice: s\nservers: [ftp://x]", `"ftp://x" does not begin with http:// or https://`},
		{"a server with a query", "inkret: 1\nservice: s\nservers: ['https://x/?a=b']",
			"has more than scheme, host, port and path"},
		{"unknown entity", small("", `{entity: Aa, grants: {}}`),
			`entity "Aa" is not known; expected A or B; did you mean "A"?`},
		{"unknown shape", small("card: {entity: A, grants: {id: }}", `{entity: A, shape: crad}`),
			`shape "crad" is not known; expected card; did you mean "card"?`},
		{"no shapes at all", small("", `{entity: A, shape: card}`), "expected one that is defined; there is none yet"},
		{"a shape of another entity", small("card: {entity: B, grants: {id: }}", `{entity: A, shape: card}`),
			`shape "card" is over B; expected a shape over A`},
		{"unknown field", grants("nmae: "),
			`$.endpoints[0].responses[0].grants.nmae: field or relation of A "nmae" is not known; expected id, name, mail, pin, doc, tags, b or bs; did you mean "name"?`},
		{"unknown field behind a name", grants("title: nam"), `did you mean "name"?`},
		{"unknown key of a grant", grants("name: {optionl: true}"), `key "optionl" is not known`},
		{"two sources", grants("x: {field: id, derived: [id]}"),
			"the grant has field and derived as sources; expected one source at the most"},
		{"a relation and a source", grants("x: {relation: b, constant: 1}"),
			"the grant has constant and relation as sources"},
		{"a relation that says nothing", grants("b: "),
			"the relation A.b does not say what of B it grants; expected shape, grants, reference, one_of or open"},
		{"a reference and an object", grants("b: {reference: id, grants: {id: }}"),
			"the grant has both reference and grants"},
		{"a reference to no field", grants("b: {reference: nr}"), `field of B "nr" is not known`},
		{"a reference without a relation", grants("name: {reference: id}"),
			`"name" is no relation that could be referred to`},
		{"unknown relation", grants("x: {relation: c, grants: {}}"),
			`relation of A "c" is not known; expected b or bs`},
		{"secret without a reason", grants("pin: "), `"pin" grants what is secret; expected a ` + "`reason`" +
			` with it`},
		{"class lowered without a reason", grants("mail: {class: public}"),
			"the class is lowered from personal to public"},
		{"an object without members", grants("doc: "), `"doc" is granted as object without saying what is in it`},
		{"an array without members", grants("tags: "), `"tags" is granted as array without saying what is in it`},
		{"no such type", grants("name: {type: text}"), `word "text" is not known; expected string, integer`},
		{"a length that is none", grants("name: {max: -1}"),
			`a number "-1" stands here; expected a whole number above 0`},
		{"a truth value that is none", grants("name: {optional: maybe}"), "expected true or false"},
		{"a list as a value", grants("name: [a]"), "a list stands behind the grant"},
		{"keys that are not any", grants("name: {keys: all}"), `word "all" is not known; expected any`},
		{"a field where no entity is known", small("", `{grants: {x: name}}`),
			`no entity is known here that could have the field "name"`},
		{"unknown audience", small("", `{audiences: [ofice], entity: A, grants: {}}`),
			`audience "ofice" is not known; expected visitor or office; did you mean "office"?`},
		{"no such status", small("", `{statuses: [2xx], grants: {}}`),
			`text "2xx" is no status; expected a code such as 200, a group such as 4XX, or default`},
		{"at is no pointer", small("", `{entity: A, at: data, grants: {}}`), `"data" is no JSON Pointer`},
		{"a condition that is none", small("", `{when: {cookie: {a: b}}, grants: {}}`),
			`key "cookie" is not known; expected query, header, media or body`},
		{"statuses of what is accepted",
			"inkret: 1\nservice: s\nendpoints: [{endpoint: GET /a, accepts: [{statuses: [200], grants: {}}]}]",
			`key "statuses" is not known`},
		{"a shape within itself", small("loop: {entity: A, grants: {b: {grants: {a: {shape: loop}}}}}",
			`{shape: loop}`), `shape "loop" contains itself (loop → loop); expected ` +
			"`many`, `nullable` or `optional`"},
		{"a tie", small("", "{entity: A, grants: {id: }}\n      - {entity: A, grants: {name: }}"),
			"nothing decides between this response and the one at api.yaml:13:9 for status 2XX"},
		{"no method", "inkret: 1\nservice: s\nendpoints: [{endpoint: /a}]",
			`"/a" is no endpoint; expected a method and a path`},
		{"a method in small letters", "inkret: 1\nservice: s\nendpoints: [{endpoint: get /a}]",
			`method "get" is not known`},
		{"a rest in the middle", "inkret: 1\nservice: s\nendpoints: [{endpoint: 'GET /{p+}/a'}]",
			"{p+} takes the rest of the path and stands in the middle"},
		{"a brace that stays open", "inkret: 1\nservice: s\nendpoints: [{endpoint: 'GET /{p'}]",
			"has a brace that opens or closes no parameter"},
		{"a segment that is no text", "inkret: 1\nservice: s\nendpoints: [{endpoint: 'GET /a%ff{p}'}]",
			"is no text in UTF-8 beside its parameters"},
		{"a parameter twice", "inkret: 1\nservice: s\nendpoints: [{endpoint: 'GET /{p}/{p}'}]",
			"the parameter {p} stands twice"},
		{"endpoints that are the same",
			"inkret: 1\nservice: s\nendpoints: [{endpoint: 'GET /a/{x}'}, {endpoint: 'GET /a/{y}/'}]",
			`"GET /a/{y}/" is the same endpoint as "GET /a/{x}" at api.yaml:3:24`},
		{"a pattern that does not compile",
			"inkret: 1\nservice: s\ndetectors: [{name: d, class: secret, pattern: '('}]",
			"the pattern does not compile"},
		{"an example that is not found",
			"inkret: 1\nservice: s\ndetectors: [{name: d, class: secret, pattern: 'a+', match: [bbb]}]",
			"the detector does not find its example"},
		{"a country of which no numbering is known", "inkret: 1\nservice: s\ncountries: [GB, XX]", "XX"},
		{"a counter-example that is found",
			"inkret: 1\nservice: s\ndetectors: [{name: d, class: secret, pattern: 'a+', no_match: [xaa]}]",
			"the detector finds its counter-example"},
		{"neither pattern nor words", "inkret: 1\nservice: s\ndetectors: [{name: d, class: secret}]", "pattern"},
		{"pattern and words", "inkret: 1\nservice: s\ndetectors: [{name: d, class: secret, pattern: a, words: [b]}]",
			"the detector has both"},
		{"no words", "inkret: 1\nservice: s\ndetectors: [{name: d, class: secret, words: []}]",
			"the detector has no words"},
		{"a word that is part of another",
			"inkret: 1\nservice: s\ndetectors: [{name: d, class: personal, words: [heron, 'slack water'], match: " +
				"['Pale Heron', 'at SLACK WATER.'], no_match: [herons, slackwater], length: [5, 40]}, {name: e, " +
				"class: secret, words: gull, match: [gulls]}]", "the detector does not find its example"},
		{"a length that is held",
			"inkret: 1\nservice: s\ndetectors: [{name: d, class: secret, pattern: 'k+', length: 4, match: [kkkk, " +
				"kkkkk]}]", "the detector does not find its example"},
		{"the most before the least",
			"inkret: 1\nservice: s\ndetectors: [{name: d, class: secret, pattern: 'k+', length: [9, 4]}]",
			"no value is at least 9 and at most 4 bytes long"},
		{"three lengths", "inkret: 1\nservice: s\ndetectors: [{name: d, class: secret, pattern: 'k+', length: [1, " +
			"2, 3]}]", "the length has 3 numbers"},
		{"a check digit is held",
			"inkret: 1\nservice: s\ndetectors: [{name: d, class: secret, pattern: '[0-9]{4}', check: luhn, match: " +
				"['1234']}]", "the detector does not find its example"},
		{"no such kind", "inkret: 1\nservice: s\nexceptions: [{endpoint: GET /a, path: $.a, kind: unexpected-feild, " +
			"reason: r}]", `kind "unexpected-feild" is not known`},
		{"a day that is none", "inkret: 1\nservice: s\nexceptions: [{endpoint: GET /a, path: $.a, kind: " +
			"missing-field, reason: r, until: 2027-02-30}]", `"2027-02-30" is no day`},
		{"an alias without anchor", "inkret: 1\nservice: s\nx-a: *nothing", "unknown anchor 'nothing'"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			_, err := read(c.text)
			if err == nil {
				t.Fatal("no problem is found")
			}
			if !strings.Contains(err.Error(), c.want) {
				t.Errorf("said:\n%v\nwant in it:\n%s", err, c.want)
			}
		})
	}
}

func TestAllProblemsAreReportedAtOnce(t *testing.T) {
	_, err := read(small("card: {entity: B, grants: {nothing: }}",
		`{entity: A, at: x, grants: {nmae: , mail: {class: public}, b: }, x-note: kept}`))
	var all Problems
	if !errors.As(err, &all) {
		t.Fatalf("the error is a %T", err)
	}
	if len(all) != 5 {
		t.Errorf("%d problems are reported, want 5:\n%v", len(all), err)
	}
	if !slices.IsSortedFunc(all, func(a, b Problem) int { return a.Line - b.Line }) {
		t.Errorf("the problems are not in the order of the file:\n%v", err)
	}
	for _, p := range all {
		if p.File != "api.yaml" || p.Line == 0 || p.Column == 0 || p.Path == "" || p.Found == "" || p.Expected == "" {
			t.Errorf("a problem lacks its place, what was found or what was expected: %+v", p)
		}
	}
}

func TestAProblemOnTheLastOfTenThousandLines(t *testing.T) {
	var b strings.Builder
	b.WriteString("inkret: 1\nservice: s\nendpoints:\n")
	for i := range 5000 {
		fmt.Fprintf(&b, "  - endpoint: GET /e%d\n    responses: [{grants: {a: {type: string}}}]\n", i)
	}
	b.WriteString("  - endpoint: GET /last\n    responces: []\n")
	_, err := read(b.String())
	if err == nil || !strings.HasPrefix(err.Error(),
		`api.yaml:10005:5: $.endpoints[5000].responces: key "responces" is not known`) {
		t.Errorf("said: %v", err)
	}
}

func TestAFolderIsReadAsOneDocument(t *testing.T) {
	a := File{"a.yaml", []byte("inkret: 1\nservice: s\nentities: {A: {fields: {id: {type: integer}}}}")}
	b := File{"b.yaml", []byte("inkret: 1\nservice: s\nendpoints: [{endpoint: GET /a, responses: [{entity: A, " +
		"grants: {id: }}]}]")}
	c, err := Read(a, b)
	if err != nil {
		t.Fatal(err)
	}
	if len(c.Catalog.Entities) != 1 || len(c.Endpoints) != 1 {
		t.Errorf("%d entities and %d endpoints are read", len(c.Catalog.Entities), len(c.Endpoints))
	}
	_, err = Read(a, File{"c.yaml", []byte("entities: {A: {}}")})
	if err == nil || !strings.Contains(err.Error(),
		`c.yaml:1:12: $.entities.A: entity "A" is defined twice, first at a.yaml:3:12`) {
		t.Errorf("an entity in two files gives: %v", err)
	}
	_, err = Read(a, File{"c.yaml", []byte("service: t")})
	if err == nil || !strings.Contains(err.Error(), `a second service "t"; expected "s", as at a.yaml:2:10`) {
		t.Errorf("two services give: %v", err)
	}
}

func TestAShapeMayContainItselfWhereItCanEnd(t *testing.T) {
	for _, end := range []string{"optional: true", "nullable: true", "many: true"} {
		if _, err := read(small("loop: {entity: A, grants: {id: , b: {grants: {a: {shape: loop, "+end+"}}}}}",
			`{shape: loop}`)); err != nil {
			t.Errorf("with %s: %v", end, err)
		}
	}
}

func TestGrantsBesideAShapeAddAndReplace(t *testing.T) {
	c, err := read(small("card: {entity: A, grants: {id: , name: }}",
		`{shape: card, grants: {name: {optional: true}, mail: {reason: r}}}`))
	if err != nil {
		t.Fatal(err)
	}
	body := c.Endpoints[0].Responses[0].Body
	var names []string
	for _, g := range body.Grants {
		names = append(names, g.Name)
	}
	if got := strings.Join(names, " "); got != "id name mail" {
		t.Errorf("granted: %s", got)
	}
	if !body.grant("name").Optional {
		t.Error("the shape's own grant of name was not replaced")
	}
}

func TestAliasesAndMergeKeys(t *testing.T) {
	c, err := read(`inkret: 1
service: s
x-common: &common {entity: A, grants: {id: }}
entities: {A: {fields: {id: {type: integer}}}}
endpoints:
  - endpoint: GET /a
    responses: [{<<: *common, statuses: [200]}, {<<: *common, statuses: [201], grants: {}}]
`)
	if err != nil {
		t.Fatal(err)
	}
	r := c.Endpoints[0].Responses
	if len(r[0].Body.Grants) != 1 || len(r[1].Body.Grants) != 0 {
		t.Errorf("merged grants: %d, overridden: %d; want 1 and 0", len(r[0].Body.Grants), len(r[1].Body.Grants))
	}
}

func TestAliasesCannotGrowWithoutEnd(t *testing.T) {
	var b strings.Builder
	b.WriteString("inkret: 1\nservice: s\nx-0: &a0 [x, x, x, x, x, x, x, x, x, x]\n")
	for i := 1; i < 12; i++ {
		fmt.Fprintf(&b, "x-%d: &a%d [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ", i-1), 10),
			", "))
	}
	_, err := read(b.String())
	if err == nil || !strings.Contains(err.Error(), "too deep or too large") {
		t.Errorf("said: %v", err)
	}
}

func TestNearestWord(t *testing.T) {
	known := []string{"audiences", "entities", "endpoints", "name"}
	for word, want := range map[string]string{"audience": "audiences", "endponts": "endpoints", "nmae": "name",
		"Entities": "entities", "zebra": "", "x": ""} {
		if got := Nearest(word, known); got != want {
			t.Errorf("nearest to %q is %q, want %q", word, got, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(documented)
	f.Add(small("card: {entity: A, grants: {id: }}", `{shape: card, at: /a/*/b}`))
	f.Add("inkret: 1\nservice: s\nendpoints:\n- endpoint: GET /{a}.json\n")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := read(text)
		if (c == nil) == (err == nil) {
			t.Errorf("contracts %v, error %v", c, err)
		}
	})
}

// TestAProblemOnTheLastOfManyLines checks that a long document is read to its end, and that a problem there has its
// line.
func TestAProblemOnTheLastOfManyLines(t *testing.T) {
	const lines = 10_000
	var b strings.Builder
	b.WriteString("inkret: 1\nservice: quay\nentities:\n  Boat:\n    fields:\n")
	for i := range lines - 6 {
		fmt.Fprintf(&b, "      field%d: {type: string}\n", i)
	}
	b.WriteString("      last: {type: strng}\n")
	_, err := Read(File{Name: "long.yaml", Data: []byte(b.String())})
	var problems Problems
	if !errors.As(err, &problems) || len(problems) != 1 || problems[0].Line != lines || problems[0].Near != "string" {
		t.Errorf("the problems are %v", err)
	}
}

// TestWhoseRecordsAreNamed checks what is an error of what a contract says of callers and owners, and what is none.
func TestWhoseRecordsAreNamed(t *testing.T) {
	const head = "inkret: 1\nservice: quay\naudiences: [{name: visitor}]\n"
	const entities = "entities: {Skipper: {owner: id, fields: {id: , name: }}, Boat: {fields: {hull: }}, Booking: " +
		"{owner: skipper, " +
		"fields: {ref: }, relations: {skipper: {entity: Skipper}}}}\n"
	const byPath, card = "owner: {path: who}", "shapes: {card: {entity: Boat, grants: {hull: {own: true}}}}"
	answer := func(path, response string) string {
		return "endpoints: [{endpoint: 'GET " + path + "', responses: [{" + response + "}]}]"
	}
	for text, want := range map[string]string{
		"callers: [{claim: sub}, {header: X}, {cookie: who}, {told_by: GET /me, at: /id}]": "",
		"callers: [{claim: {name: /person/id, from: {cookie: sid}}}]":                      "",

		"callers: [{}]":                                "0 ways to tell who makes a request",
		"callers: [{claim: sub, header: X}]":           "2 ways to tell who makes a request",
		"callers: [{told_by: GET /me}]":                "where the answer tells who it is",
		"callers: [{claim: sub, at: /id}]":             "no endpoint is named",
		"callers: [{told_by: GET /me, at: '/data/*'}]": "JSON Pointer of one value",
		"callers: [{told_by: me, at: /id}]":            `"me" is no endpoint`,
		"callers: [{claim: {name: sub, value: x}}]":    "value",

		answer("/a", "entity: Boat, own: true, grants: {hull: }"):                    "nothing says whose a record is",
		answer("/a", "own: true, grants: {hull: }"):                                  "nothing says whose a record is",
		answer("/a", "entity: Boat, grants: {hull: {own: true}}"):                    `"hull" is limited to`,
		answer("/a", "entity: Skipper, grants: {name: {own: true}}"):                 "",
		answer("/a", "entity: Booking, own: true, grants: {ref: }"):                  "",
		answer("/a/{who}", "entity: Boat, own: true, "+byPath+", grants: {hull: }"):  "",
		answer("/a/{who}", "entity: Boat, "+byPath+", grants: {hull: {own: true}}"):  "",
		answer("/a/{whom}", "entity: Boat, own: true, "+byPath+", grants: {hull: }"): `"whom"`,
		answer("/a/{who}", byPath+
			", grants: {hull: }"): "no entity whose records",
		"endpoints: [{endpoint: POST /a, accepts: [{entity: Skipper, own: true, grants: {name: }}]}]": "own",
		card: "nothing says whose a record is",
		card + "\n" + answer("/a/{who}", "entity: Boat, "+byPath+", shape: card"): "",
	} {
		_, err := Read(File{Name: "a.yaml", Data: []byte(head + entities + text + "\n")})
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s\n%v, want %q", text, err, want)
		}
	}
	bad := strings.Replace(entities, "owner: id", "owner: idd", 1)
	if _, err := Read(File{Name: "a.yaml", Data: []byte(head + bad)}); err == nil ||
		!strings.Contains(err.Error(), `"id"`) {
		t.Errorf("an owner that is no field: %v", err)
	}
}
