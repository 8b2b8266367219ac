package draft

import (
	"net/url"
	"strings"
	"testing"

	"inkret/core/exchange"
	"inkret/core/schema"
)

// answered is a capture of a call without credentials.
func answeredWith(path, body string) *exchange.Capture {
	return &exchange.Capture{Request: exchange.Request{Method: "GET", URL: &url.URL{Scheme: "https", Host: "a.example",
		Path: path}}, Response: exchange.Response{Status: 200, Body: []byte(body),
		Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}}}
}

// TestStandardForms drafts from bodies in the forms that standards and habits give. The contract is ordinary
// text, fits its traffic, and finds what is planted in it.
func TestStandardForms(t *testing.T) {
	for name, c := range map[string]struct {
		bodies  map[string]string // by path
		want    []string
		planted map[string]string // by path
		finds   string
	}{
		"JSON:API": {map[string]string{
			"/boats": `{"data":[{"type":"boats","id":"1","attributes":{"label":"Tern","hull":"oak"},"relationships":{"owner":{"data":{"type":"people","id":"9"}}},"links":{"self":"/boats/1"}}],
				"included":[{"type":"people","id":"9","attributes":{"name":"Ada","rank":"mate"}},{"type":"berths","id":"3","attributes":{"pier":"A"},"relationships":{"boat":{"links":{"related":"/x"}}}}],
				"links":{"self":"/boats","next":null},"meta":{"total":1},"jsonapi":{"version":"1.1"}}`,
			"/boats/1": `{"data":{"type":"boats","id":"1","attributes":{"label":"Tern","hull":"oak"},"links":{"self":"/boats/1"}},"links":{"self":"x"}}`},
			[]string{"entity: Boat", "at: /data", "attributes: grants: label: hull:", "relationships: {open: true",
				"one_of:",
				"{when: {type: people}, shape: person}", "{when: {type: berths}, shape: berth}",
				" label: {type: string"},
			map[string]string{"/boats": `{"data":[],"included":[{"type":"people","id":"9","attributes":{"name":"Ada","rank":"x","iban_no":"x"}}]}`},
			"unexpected-field $.included[*].attributes.iban_no"},
		"another included type": {map[string]string{
			"/boats": `{"data":[{"type":"boats","id":"1","attributes":{"label":"Tern"}}],"included":[{"type":"berths","id":"3","attributes":{"pier":"A"}}]}`},
			[]string{"{when: {type: berths}, shape: berth}"},
			map[string]string{"/boats": `{"data":[],"included":[{"type":"accounts","id":"9","attributes":{"balance":3}}]}`},
			"unexpected-relation $.included[*]"},
		"HAL": {map[string]string{
			"/orders": `{"_links":{"self":{"href":"/orders"}},"_embedded":{"orders":[{"id":1,"state":"open","_links":{"self":{"href":"/orders/1"}},"_embedded":{"customer":{"id":4,"label":"x"}}}]},"page":{"size":20}}`},
			[]string{"at: /_embedded/orders", "entity: Order", "_links: {open: true}",
				"_embedded: grants: customer: {shape: customer}",
				"beside: {_links: {open: true}, page: {open: true}}"},
			map[string]string{"/orders": `{"_links":{},"_embedded":{"orders":[{"id":1,"state":"open","_links":{},"_embedded":{"customer":{"id":4,"label":"x"},"account":{"id":1,"balance":2}}}]},"page":{}}`},
			"unexpected-relation $._embedded.orders[*]._embedded.account"},
		"OData": {map[string]string{
			"/Boats": `{"@odata.context":"$metadata#Boats","@odata.count":1,"value":[{"@odata.etag":"W/1","Id":1,"Label":"Tern"}]}`},
			[]string{"at: /value", `"@odata.etag":`, `"@odata.context": {open: true}`},
			map[string]string{"/Boats": `{"@odata.context":"x","value":[{"@odata.etag":"W/1","Id":1,"Label":"Tern","Hull":"x"}]}`},
			"unexpected-field $.value[*].Hull"},
		"pages": {map[string]string{
			"/boats": `{"current_page":1,"data":[{"id":1,"label":"x"}],"first_page_url":"u","from":1,"last_page":2,"last_page_url":"u","links":[{"url":null,"label":"1","active":true}],"next_page_url":null,"path":"p","per_page":15,"prev_page_url":null,"to":1,"total":16}`},
			[]string{"at: /data", "entity: Boat", "per_page: {open: true}"},
			map[string]string{"/boats": `{"current_page":1,"data":[{"id":1,"label":"x","hull":"oak"}]}`},
			"unexpected-field $.data[*].hull"},
	} {
		var captures []*exchange.Capture
		for path, body := range c.bodies {
			captures = append(captures, answeredWith(path, body))
		}
		d := ownTraffic(t, name, captures)
		text := strings.Join(strings.Fields(d.Text), " ") // however its lines are broken
		for _, want := range c.want {
			if !strings.Contains(text, want) {
				t.Errorf("%s: there is no %q in\n%s", name, want, d.Text)
			}
		}
		for path, body := range c.planted {
			found := ""
			for _, f := range findings(read(t, d.Text), []*exchange.Capture{answeredWith(path, body)}) {
				found += f.Kind.String() + " " + f.Path + "\n"
			}
			if !strings.Contains(found, c.finds+"\n") {
				t.Errorf("%s: found is\n%swant %s by\n%s", name, found, c.finds, d.Text)
			}
		}
	}
}

// TestStandardFormsAreDescribed drafts from a description of resources of JSON:API.
func TestStandardFormsAreDescribed(t *testing.T) {
	s, err := schema.Describe("a.yaml", []byte(`openapi: 3.0.3
info: {title: quay, version: "1"}
paths:
  /boats: {get: {responses: {"200": {content: {application/vnd.api+json: {schema: {properties: {data: {type: array, items: {$ref: "#/components/schemas/Boat"}}, links: {type: object}, meta: {type: object}}}}}}}}}
components:
  schemas:
    Boat:
      required: [id, type, attributes]
      properties:
        id: {type: string}
        type: {type: string}
        attributes: {type: object, required: [label], properties: {label: {type: string}, email: {type: string}}}
        relationships: {type: object, properties: {owner: {type: object, properties: {data: {type: object}}}}}
`))
	if err != nil {
		t.Fatal(err)
	}
	d := Write(s, Options{})
	c := read(t, d.Text)
	if len(c.Catalog.Entities) != 1 || !strings.Contains(d.Text, "attributes:") ||
		!strings.Contains(d.Text, "relationships: {open: true, optional: true}") ||
		c.Catalog.Entity("Boat").Field("email") == nil {
		t.Errorf("drafted is\n%s", d.Text)
	}
	kept(t, s, d.Text)
}

// TestIncludedResourcesAreDescribed drafts from a description whose compound documents have resources of two
// types; where one of them has no type of its own, all of them are open.
func TestIncludedResourcesAreDescribed(t *testing.T) {
	const text = `openapi: 3.1.0
info: {title: quay, version: "1"}
paths:
  /boats/{boat_id}: {get: {responses: {"200": {content: {application/vnd.api+json: {schema: {allOf: [{$ref: "#/components/schemas/Page"}, {type: object, properties: {data: {$ref: "#/components/schemas/Boat"}}}]}}}}}}}
components:
  schemas:
    Page: {type: object, properties: {included: {type: array, items: {anyOf: [{$ref: "#/components/schemas/Person"}, {$ref: "#/components/schemas/Berth"}]}}, links: {type: object}}}
    Boat: {type: object, required: [id, type, attributes], properties: {id: {type: string}, type: {const: boats}, attributes: {type: object, properties: {label: {type: string}}}}}
    Person: {type: object, required: [id, type], properties: {id: {type: string}, type: {enum: [people]}, attributes: {type: object, properties: {rank: {type: string}, email: {type: string}}}}}
    Berth: {type: object, required: [id, type], properties: {id: {type: string}, type: {TYPE}, attributes: {type: object, properties: {pier: {type: string}}}}}
`
	for kind, want := range map[string]string{
		"const: berths": "one_of: - {when: {type: people}, shape: person} - {when: {type: berths}, shape: berth}",
		"type: string":  "included: {open: true",
	} {
		s, err := schema.Describe("a.yaml", []byte(strings.Replace(text, "TYPE", kind, 1)))
		if err != nil {
			t.Fatal(err)
		}
		d := Write(s, Options{})
		read(t, d.Text)
		if !strings.Contains(strings.Join(strings.Fields(d.Text), " "), want) {
			t.Errorf("%s: it does not have %s:\n%s", kind, want, d.Text)
		}
		kept(t, s, d.Text)
	}
}
