package draft

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/observe"
	"inkret/core/schema"
)

// wildNames are names as descriptions have them, and some that a contract's grammar could trip over.
var wildNames = []string{"id", "name", "email", "created_at", "createdAt", "$id", "@type", "@odata.id", "a.b", "a b",
	"x-y", "",
	"-", "null", "true", "yes", "1", "1.5", "0x10", "~", "a: b", "a#b", "#a", "&a", "*a", "!a", "'", `"`, `\`, "\n",
	"\t", "é",
	"naïve", "ключ", "名前", "[*]", "$", "..", "a/b", "~1", "{id}", "?", "|", ">", "%", "`", "_links", "_embedded", "+1",
	"-1",
	"type", "attributes", "relationships", "entity", "fields", "grants", "many", "open", "class", "values", "format",
	"own", "owner", "shape",
	"2024-01-01",
	strings.Repeat("very_long_name_", 12),
	"=", ",", "{", "}", "[", "]", "inkret", "<<", "NaN", ".inf", "0b1", "0o7", "1_000", "1e3", "12:30:45", " lead",
	"trail ",
	"\u2028", "\ufeff", "\u0085", "\u0000"}

// wild describes an API by chance, with what descriptions of real ones have: variants, circles, allOf and
// oneOf, nullable parts, enumerations of all sorts, several statuses, and names from [wildNames].
func wild(r *rand.Rand, paths, schemas int) []byte {
	pick := func(all []string) string { return all[r.IntN(len(all))] }
	type object = map[string]any
	name := func(i int) string {
		return fmt.Sprintf("%s%d", []string{"Thing", "nullable-thing", "Thing.Full", "simple_thing", "Thing«T»"}[i%5],
			i/5)
	}
	ref := func() object { return object{"$ref": "#/components/schemas/" + name(r.IntN(schemas))} }
	var form func(depth int) object
	form = func(depth int) object {
		o := object{}
		switch n := r.IntN(16); {
		case n < 4:
			o["type"] = pick([]string{"string", "integer", "number", "boolean", "null", "file", ""})
		case n < 5:
			o["type"] = []string{"string", "null"}
		case n < 6:
			o["type"], o["enum"] = "string", []any{pick(wildNames), pick(wildNames), nil, 1.5, true, "a", "a"}
		case n < 7:
			o["type"], o["format"] = "string", pick([]string{"date-time", "email", "uri", "binary", "x", "", "password",
				"iban"})
		case n < 8:
			o["type"], o["maxLength"], o["const"] = "string", r.IntN(3)-1, pick(wildNames)
		case n < 10:
			return ref()
		case n < 11 && depth < 4:
			o["type"], o["items"] = "array", form(depth+1)
		case n < 12 && depth < 4:
			o[pick([]string{"allOf", "oneOf", "anyOf"})] = []any{form(depth + 1), ref(), form(depth + 1)}
		case n < 13 && depth < 4:
			o["additionalProperties"] = form(depth + 1)
		case depth < 4:
			parts := object{}
			for range r.IntN(6) {
				parts[pick(wildNames)] = form(depth + 1)
			}
			o["type"], o["properties"], o["required"] = "object", parts, []string{pick(wildNames), "id"}
		}
		if r.IntN(8) == 0 {
			o["nullable"] = true
		}
		if r.IntN(6) == 0 {
			o["description"], o["example"] = pick(wildNames)+" # "+pick(wildNames), pick(wildNames)
		}
		if r.IntN(20) == 0 {
			o[pick([]string{"readOnly", "writeOnly"})] = true
		}
		return o
	}
	all := object{}
	for i := range schemas {
		all[name(i)] = form(0)
	}
	routes := object{}
	for i := range paths {
		operations := object{}
		for range 1 + r.IntN(3) {
			answers := object{}
			for range 1 + r.IntN(3) {
				answers[pick([]string{"200", "201", "204", "2XX", "default", "404", "x",
					"200 "})] = object{"description": "",
					"content": object{pick([]string{"application/json", "*/*", "text/csv",
						"application/hal+json"}): object{
						"schema": form(1)}}}
			}
			operations[pick([]string{"get", "post", "put", "delete", "patch", "head",
				"x-note"})] = object{"responses": answers,
				"requestBody": object{"content": object{"application/json": object{"schema": form(1)}}}}
		}
		routes[fmt.Sprintf("/%s/%s/{%s}", pick([]string{"things", "a b", "%2F", "é", "x?y", "x#y", "{", "}", "*", ".",
			"..", "a:b"}),
			pick([]string{"", "more", "{id}", "{id}.json", "{a}{b}", "{a},{b}", "@{a}"}), pick(wildNames))+
			fmt.Sprint(i%40)] = operations
	}
	text, _ := json.Marshal(object{"openapi": "3.1.0", "info": object{"title": pick(wildNames), "version": "1"},
		"servers": []any{object{"url": pick([]string{"/", "https://a.example/v1", "{x}", "http://[::1]:80", "",
			"//a"})}},
		"paths": routes, "components": object{"schemas": all}})
	return text
}

// loads fails if a draft of a description does not load.
func loads(t *testing.T, text []byte) {
	s, err := schema.Describe("a.yaml", text)
	if err != nil {
		return
	}
	d := Write(s, Options{From: "a.yaml"})
	if _, err := contract.Read(contract.File{Name: "draft.yaml", Data: []byte(d.Text)}); err != nil {
		t.Fatalf("the draft does not load: %v\n%.2000s\nof\n%.2000s", err, d.Text, text)
	}
}

// TestDraftsAlwaysLoad drafts from descriptions made by chance.
func TestDraftsAlwaysLoad(t *testing.T) {
	for seed := range uint64(150) {
		r := rand.New(rand.NewPCG(seed, 19))
		loads(t, wild(r, 1+r.IntN(30), 1+r.IntN(30)))
	}
}

// FuzzDraft drafts from changed descriptions.
func FuzzDraft(f *testing.F) {
	f.Add([]byte(api))
	for seed := range uint64(20) {
		f.Add(wild(rand.New(rand.NewPCG(seed, 7)), 3, 4))
	}
	f.Fuzz(loads)
}

// TestDraftsOfOddAddressesLoad drafts from traffic with addresses that are escaped, or are no text.
func TestDraftsOfOddAddressesLoad(t *testing.T) {
	o := observe.New(nil)
	for _, path := range []string{"/a%7Bb/x", "/%ff/12345", "/a{b}/x", "/b%20c/x", "/a%2Fb/12", "/{id}/{id}"} {
		r, err := exchange.ParseRequest("GET https://a.example" + path)
		if err != nil {
			continue
		}
		o.Add(&exchange.Capture{Request: *r, Response: exchange.Response{Status: 200, Body: []byte(`{"id":1,"a":"x"}`),
			Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}}})
	}
	if c := read(t, Write(o.Sketch(), Options{Callers: o.Callers()}).Text); len(c.Endpoints) < 6 {
		t.Errorf("%d endpoints are drafted", len(c.Endpoints))
	}
}
