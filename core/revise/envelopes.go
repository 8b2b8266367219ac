package revise

import "inkret/core/document"

// Envelopes are the forms that standards and habits give bodies: what a response begins with that has one.
var Envelopes = []string{"page", "json-api", "hal", "odata", "problem"}

// envelope is what stands around an entity, or in its place.
type envelope struct {
	at       string            // of one; empty for the body itself
	list     string            // of a list
	statuses []string          // that a response has where nothing is said
	grants   map[string]string // of the entity's object: member to what is said of it
	beside   []string          // members that are open
	texts    []string          // members beside it that are texts or numbers
	plain    []string          // members of the object that are texts, and may be missing
}

var envelopes = map[string]envelope{
	"page": {list: "/data", beside: []string{"meta", "links"}},
	// JSON:API 1.1, section 7
	"json-api": {at: "/data", list: "/data", beside: []string{"included", "links", "meta", "jsonapi"},
		grants: map[string]string{"type": "text", "id": "text", "attributes": "group", "relationships": "open",
			"links": "open"}},
	// Hypertext Application Language
	"hal": {list: "/_embedded/items", beside: []string{"_links", "page"}, grants: map[string]string{"_links": "open"}},
	// OData JSON Format 4.01
	"odata": {list: "/value", texts: []string{"@odata.context", "@odata.count", "@odata.nextLink"}},
	// Problem Details, RFC 9457 section 3.1
	"problem": {statuses: []string{"4XX", "5XX"}, plain: []string{"type", "title", "status", "detail", "instance"}},
}

// place returns where the entity stands, or a list of them.
func (e envelope) place(many bool) string {
	if many {
		return e.list
	}
	return e.at
}

// around writes the grants that the envelope has in the entity's object, and beside it.
func (e envelope) around(many bool) (grants, beside *document.Value) {
	grants, beside = document.Mapping(), document.Mapping()
	open := func() *document.Value { return document.Mapping().Set("open", document.Truth(true)) }
	optional := func(v *document.Value) *document.Value { return v.Set("optional", document.Truth(true)) }
	for _, name := range []string{"type", "id", "attributes", "relationships", "links", "_links"} {
		switch e.grants[name] {
		case "text":
			grants.Set(name, document.Mapping().Set("type", document.Text("string")))
		case "group":
			grants.Set(name, document.Mapping().Set("grants", document.Mapping()))
		case "open":
			grants.Set(name, optional(open()))
		}
	}
	for _, name := range e.plain {
		grants.Set(name, optional(document.Mapping()))
	}
	if e.place(many) == "" {
		return grants, beside
	}
	for _, name := range e.beside {
		beside.Set(name, open())
	}
	for _, name := range e.texts {
		beside.Set(name, document.Mapping())
	}
	return grants, beside
}
