package schema

import (
	"fmt"
	"strings"
	"testing"

	"inkret/core/catalog"
)

// show writes a catalogue in short: Entity(table) field:form …, >relation:Entity, >>relation:Entity to many.
func show(c *catalog.Catalog) string {
	var b strings.Builder
	for _, e := range c.Entities {
		fmt.Fprintf(&b, "%s(%s)", e.Name, e.StoredAs)
		for _, f := range e.Fields {
			fmt.Fprintf(&b, " %s:%s", f.Name, strings.ReplaceAll(f.Form.Words(), ", ", "/"))
			if f.Note != "" {
				fmt.Fprintf(&b, "[%s]", f.Note)
			}
		}
		for _, r := range e.Relations {
			sign := " >"
			if r.Many {
				sign = " >>"
			}
			fmt.Fprintf(&b, "%s%s:%s", sign, r.Name, r.Entity)
		}
		b.WriteByte('\n')
	}
	return b.String()
}

func TestDDLOfDumpTools(t *testing.T) {
	for name, c := range map[string]struct{ sql, want string }{
		"PostgreSQL's": {`
-- PostgreSQL database dump
\restrict abc
SET statement_timeout = 0;
CREATE TYPE public.booking_state AS ENUM ('asked', 'it''s on', 'gone');
CREATE DOMAIN public.short AS character varying(12);
CREATE TABLE public.berths (
    id integer NOT NULL,
    label character varying(8) NOT NULL,
    length_m numeric(5,2),
    tags text[],
    CONSTRAINT berths_check CHECK ((length_m > (0)::numeric))
);
COMMENT ON TABLE public.berths IS 'where boats lie';
COMMENT ON COLUMN public.berths.label IS 'painted on the pier
in white';
CREATE TABLE public.bookings (
    id bigint NOT NULL,
    berth_id integer NOT NULL,
    state public.booking_state DEFAULT 'asked'::public.booking_state,
    code public.short,
    made timestamp with time zone DEFAULT now(),
    "Kind" text,
    CONSTRAINT k CHECK (("Kind" = ANY (ARRAY['a'::text, 'b'::text])))
);
COPY public.berths (id, label) FROM stdin;
1	A;1
2	CREATE TABLE x (
\.
CREATE FUNCTION f() RETURNS trigger AS $body$ BEGIN; CREATE TABLE no (a int); END; $body$ LANGUAGE plpgsql;
ALTER TABLE ONLY public.berths ADD CONSTRAINT berths_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.bookings
    ADD CONSTRAINT bookings_berth_fkey FOREIGN KEY (berth_id) REFERENCES public.berths(id) ON DELETE CASCADE;
`, `Berth(berths) id:integer label:string/at most 8[painted on the pier in white] length_m:number/nullable tags:array/nullable >>bookings:Booking
Booking(bookings) id:integer berth_id:integer state:string/one of "asked" "it's on" "gone"/nullable code:string/at most 12/nullable made:string/date-time/nullable Kind:string/one of "a" "b"/nullable >berth:Berth
`},
		"MySQL's": {"/*!40101 SET NAMES utf8 */;\nDROP TABLE IF EXISTS `skippers`;\n" + `CREATE TABLE ` + "`skippers`" +
			` (
  ` + "`id`" + ` int(10) unsigned NOT NULL AUTO_INCREMENT,
  ` + "`e mail`" + ` varchar(190) CHARACTER SET utf8 COLLATE utf8_bin NOT NULL DEFAULT '' COMMENT 'sign-in; unique',
  ` + "`active`" + ` tinyint(1) DEFAULT '1',
  ` + "`tier`" + ` enum('gold','tin') NOT NULL,
  ` + "`boat_id`" + ` int(10) unsigned DEFAULT NULL,
  PRIMARY KEY (` + "`id`" + `),
  UNIQUE KEY ` + "`e`" + ` (` + "`e mail`" + `(10)),
  KEY ` + "`b`" + ` (` + "`boat_id`" + `),
  CONSTRAINT ` + "`fk`" + ` FOREIGN KEY (` + "`boat_id`" + `) REFERENCES ` + "`boats`" + ` (` + "`id`" + `)
) ENGINE=InnoDB DEFAULT CHARSET=utf8 COMMENT='who sails';
CREATE TABLE ` + "`boats`" + ` (` + "`id`" + ` int NOT NULL, PRIMARY KEY (` + "`id`" + `));
INSERT INTO ` + "`boats`" + ` VALUES (1,'a;b'),(2,'CREATE TABLE y (');
`, `Skipper(skippers) id:integer e mail:string/at most 190[sign-in; unique] active:boolean/nullable tier:string/one of "gold" "tin" boat_id:integer/nullable >boat:Boat
Boat(boats) id:integer >>skippers:Skipper
`},
		"SQLite's, with a table that joins": {`PRAGMA foreign_keys=OFF; BEGIN TRANSACTION;
CREATE TABLE IF NOT EXISTS "people"(id INTEGER PRIMARY KEY, [name] TEXT, boss REFERENCES people, untyped);
CREATE TABLE clubs(id INTEGER PRIMARY KEY);
CREATE TABLE club_people(club_id INT REFERENCES clubs(id), person_id INT REFERENCES people(id), PRIMARY KEY(club_id, person_id));
CREATE TABLE passports(person_id INTEGER PRIMARY KEY REFERENCES people(id), number TEXT);
CREATE UNIQUE INDEX i ON clubs(id);
COMMIT;`, `Person(people) id:integer name:string/nullable boss:any value/nullable untyped:any value/nullable >person:Person >>people:Person >>clubs:Club >passport:Passport
Club(clubs) id:integer >>people:Person
Passport(passports) person_id:integer number:string/nullable >person:Person
`},
		"changes after the fact": {`CREATE TABLE a (x int, y int);
ALTER TABLE a ADD COLUMN z varchar(5) NOT NULL, DROP COLUMN y;
ALTER TABLE a RENAME COLUMN x TO w; ALTER TABLE a ALTER COLUMN w TYPE text; ALTER TABLE a ALTER w SET NOT NULL;
ALTER TABLE a MODIFY z varchar(9); ALTER TABLE a CHANGE z zz char(3) NOT NULL;
ALTER TABLE a RENAME TO audit.b; CREATE TABLE "B" (i int); CREATE TABLE b (i int); CREATE TABLE gone (i int); DROP TABLE gone;
ALTER TABLE nowhere ADD c int;`, `B(audit.b) w:string zz:string/at most 3
B2(B) i:integer/nullable
B3(b) i:integer/nullable
`},
	} {
		got, _, err := DDL([]byte(c.sql))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if text := show(got); text != c.want {
			t.Errorf("%s: got\n%s\nwant\n%s", name, text, c.want)
		}
	}
}

func TestFaultyDDLSaysWhere(t *testing.T) {
	long := strings.Repeat("-- line\n", 10_000)
	for sql, want := range map[string]string{
		long + "CREATE TABLE t (a int": "line 10001: the columns of table t are not closed",
		"\n\nSELECT 'x":                "line 3: a quote ' is not closed",
		"/* x":                         "line 1: a comment is not closed",
		"CREATE TABLE (a int);":        "line 1: CREATE TABLE names no table",
		"\xff":                         "not UTF-8",
		"DO $a$ x":                     "line 1: a text in $a$ is not closed",
	} {
		if _, _, err := DDL([]byte(sql)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.20q gives %v, want %s", sql, err, want)
		}
	}
}

func TestSQLTypes(t *testing.T) {
	for text, want := range map[string]string{"VARCHAR(40)": "string, at most 40",
		"character varying(3)": "string, at most 3", "bigint": "integer", "int unsigned": "integer",
		"numeric(10, 2)": "number", "double precision": "number", "timestamp(3) with time zone": "string, date-time",
		"uuid": "string, uuid", "jsonb": "object",
		"tinyint(1)": "boolean", "text[]": "array", "geometry": "any value", "": "any value", "bytea": "string"} {
		if got := Form(text).Words(); got != want {
			t.Errorf("%q is %s, want %s", text, got, want)
		}
	}
}

func TestNames(t *testing.T) {
	for name, want := range map[string]string{"berths": "Berth", "harbour_offices": "HarbourOffice",
		"companies": "Company", "boxes": "Box", "public.news": "News",
		"status": "Status", "addresses": "Address", "people": "Person", "größen": "Größen", "42": "42", "--": "Entity",
		"userID": "UserId"} {
		if got := EntityName(name); got != want {
			t.Errorf("%q becomes %q, want %q", name, got, want)
		}
	}
}

const harbour = `
openapi: 3.1.0
info: {title: Harbour API, version: "1"}
servers: [{url: "https://api.fennick-quay.example"}]
security: [{key: []}]
paths:
  /v1/berths/{berth-id}:
    get:
      security: []
      responses:
        "200": {content: {application/json: {schema: {type: object, properties: {data: {$ref: "#/components/schemas/Berth"}, meta: {type: object}}}}}}
        default: {content: {application/json: {schema: {$ref: "other.yaml#/Problem"}}}}
  /v1/skippers:
    post:
      requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Skipper"}}}}
      responses: {"201": {content: {application/problem+json: {schema: {$ref: "#/components/schemas/Nowhere"}}}}, "204": {}}
    get:
      responses: {"200": {content: {text/plain: {}, application/json: {schema: {type: array, items: {allOf: [{$ref: "#/components/schemas/Skipper"}, {description: one}]}}}}}}
  /v1/either:
    get:
      responses: {"200": {content: {application/json: {schema: {$ref: "#/components/schemas/Either"}}}}}
components:
  schemas:
    Berth:
      required: [id, label]
      properties:
        id: {type: integer}
        label: {type: string, maxLength: 8, description: painted on the pier}
        bookings: {type: array, items: {$ref: "#/components/schemas/Booking"}}
        tags: {type: array, items: {type: string}}
        grid: {type: array, items: {type: array, items: {type: number}}}
        next: {$ref: "#/components/schemas/Berth"}
        owner: {nullable: true, allOf: [{$ref: "#/components/schemas/Skipper"}]}
        anything: {}
        inner: {type: object, properties: {a: {type: boolean}}}
    Booking:
      allOf:
        - $ref: "#/components/schemas/Base"
        - {required: [state], properties: {berth: {$ref: "#/components/schemas/Berth"}, skipper: {oneOf: [{$ref: "#/components/schemas/Skipper"}, {type: "null"}]}, state: {enum: [open, closed]}}}
    Base: {properties: {id: {type: [integer, "null"]}, loop: {allOf: [{$ref: "#/components/schemas/Booking"}]}}}
    Either: {oneOf: [{properties: {a: {type: string}}, required: [a]}, {properties: {b: {type: string, format: date}}}]}
    Skipper: {properties: {id: {type: integer, readOnly: true}, email: {type: string, format: email}, password: {type: string, writeOnly: true}}}
    Circle: {$ref: "#/components/schemas/Circle"}
`

func TestDescriptions(t *testing.T) {
	s, err := Describe("api.yaml", []byte(harbour))
	if err != nil {
		t.Fatal(err)
	}
	const want = `Berth() id:integer label:string/at most 8[painted on the pier] tags:array grid:array anything:any value >>bookings:Booking >next:Berth >owner:Skipper >inner:BerthInner
Booking() id:integer/nullable state:any value/one of "open" "closed" >loop:Booking >berth:Berth >skipper:Skipper
Skipper() id:integer email:string/email password:string
BerthInner() a:boolean
Either() a:string b:string/date
`
	if got := show(s.Catalog()); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if got := strings.Join(s.Notes, "\n"); !strings.Contains(got,
		`"other.yaml#/Problem", which is another document and is not fetched`) ||
		!strings.Contains(got, "Nowhere\", which is not in the document") {
		t.Errorf("notes are %s", got)
	}
	var ops []string
	for _, op := range s.Operations {
		for _, a := range op.Answers {
			name := "-"
			if a.Object != nil {
				name = a.Object.Name
			}
			ops = append(ops, fmt.Sprintf("%s %s %s %s%s many=%v signed=%v %v", op.Method, op.Path, a.Status, name,
				a.At, a.Many, op.Signed, a.Beside))
		}
	}
	const wantOps = `GET /v1/berths/{berth-id} 200 Berth/data many=false signed=false [meta]
GET /v1/berths/{berth-id} default - many=false signed=false []
POST /v1/skippers 201 - many=false signed=true []
POST /v1/skippers 204 - many=false signed=true []
GET /v1/skippers 200 Skipper many=true signed=true []
GET /v1/either 200 Either many=false signed=true []`
	if got := strings.Join(ops, "\n"); got != wantOps {
		t.Errorf("operations are\n%s", got)
	}
	berth := s.Object("Berth")
	if berth.Member("id").Optional || !berth.Member("next").Optional || !berth.Member("owner").Form.Nullable ||
		!s.Object("Booking").Member("skipper").Form.Nullable ||
		!s.Object("Skipper").Member("password").WriteOnly || !s.Object("Skipper").Member("id").ReadOnly ||
		s.Object("Booking").Member("state").Optional {
		t.Error("what may be absent, null, read or written is not told")
	}
}

func TestJSONSchemas(t *testing.T) {
	s, err := Describe("boat.schema.json",
		[]byte(`{"$schema":"https://json-schema.org/draft/2020-12/schema","type":"object",
		"properties":{"name":{"type":"string"},"crew":{"type":"array","items":{"$ref":"#/$defs/hand"}},"parent":{"$ref":"#"}},
		"$defs":{"hand":{"type":"object","properties":{"na me":{"type":["string","null"],"maxLength":4},"rank":{"const":3}}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	const want = "Hand() na me:string/at most 4/nullable rank:any value/one of 3\nBoat() name:string >>crew:Hand " +
		">parent:Boat\n"
	if got := show(s.Catalog()); got != want {
		t.Errorf("got %s", got)
	}
}

func TestWhatIsNoDescription(t *testing.T) {
	for text, want := range map[string]string{
		"openapi: 4.0.0":       "x:1:10: OpenAPI 4.0.0 is not read here",
		"swagger: \"2.0\"":     "version 2.0 of the description is not read here",
		"a: [":                 "x:2:1",
		"just: this":           "neither an OpenAPI document nor a JSON Schema",
		"[1]":                  "neither an OpenAPI document nor a JSON Schema",
		"openapi: 3.0.1\na: b": "",
	} {
		_, err := Describe("x", []byte(text))
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%q gives %v", text, err)
		}
	}
}

func FuzzDDL(f *testing.F) {
	f.Add("CREATE TABLE a (b int REFERENCES c, PRIMARY KEY (b)); ALTER TABLE a ADD CHECK (b IN ('x'))")
	f.Add("COPY a FROM stdin;\n1\n\\.\n$x$ $x$;")
	f.Fuzz(func(t *testing.T, text string) { DDL([]byte(text)) })
}

func FuzzDescribe(f *testing.F) {
	f.Add(harbour)
	f.Fuzz(func(t *testing.T, text string) {
		if s, err := Describe("x", []byte(text)); err == nil {
			s.Catalog()
		}
	})
}

// TestSchemasMadeOfThemselves checks that schemas which lead to themselves in every way end.
func TestSchemasMadeOfThemselves(t *testing.T) {
	const text = `openapi: 3.1.0
info: {title: a, version: "1"}
paths:
  /a/{id}:
    get:
      responses: {"200": {description: "", content: {application/json: {schema: {$ref: "#/components/schemas/A"}}}}}
components:
  schemas:
    A:
      type: object
      properties:
        id: {type: integer}
        one: {$ref: "#/components/schemas/One"}
        both: {$ref: "#/components/schemas/Both"}
        list: {$ref: "#/components/schemas/List"}
        whole: {$ref: "#/components/schemas/Whole"}
        self: {$ref: "#/components/schemas/Self"}
        next: {anyOf: [{$ref: "#/components/schemas/A"}, {type: "null"}]}
    One: {oneOf: [{$ref: "#/components/schemas/One"}, {type: string}]}
    Both: {anyOf: [{oneOf: [{$ref: "#/components/schemas/Both"}, {type: integer}]}, {$ref: "#/components/schemas/Both"}]}
    List: {type: array, items: {$ref: "#/components/schemas/List"}}
    Whole: {allOf: [{$ref: "#/components/schemas/Whole"}, {$ref: "#/components/schemas/Whole"}, {$ref: "#/components/schemas/Whole"}]}
    Self: {$ref: "#/components/schemas/Self"}
`
	s, err := Describe("a.yaml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	a := s.Objects[0]
	for name, want := range map[string]catalog.Type{"one": catalog.String, "both": catalog.Integer,
		"list": catalog.Array} {
		if m := a.Member(name); m == nil || m.Form.Type != want {
			t.Errorf("%s is %+v, want %s", name, m, want)
		}
	}
	if m := a.Member("next"); m == nil || m.Object != a || !m.Form.Nullable {
		t.Errorf("next is %+v", m)
	}
	for _, name := range []string{"whole", "self"} {
		if m := a.Member(name); m == nil || !m.Open {
			t.Errorf("%s is %+v", name, m)
		}
	}
}
