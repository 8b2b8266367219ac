package exposure

import (
	"fmt"
	"sort"
	"strings"
	"testing"

	"inkret/core/contract"
)

func TestWhatIsLetOut(t *testing.T) {
	c, err := contract.Read(contract.File{Name: "c.yaml", Data: []byte(`inkret: 1
service: quay
audiences: [{name: visitor}, {name: office}]
entities:
  Boat: {fields: {id: {type: integer, class: internal}, name: {type: string, class: public}}, relations: {next: {entity: Boat}, parts: {entity: Boat, many: true}}}
shapes: {boat: {entity: Boat, grants: {id: , next: {shape: boat, optional: true}}}}
endpoints:
  - endpoint: GET /boats
    responses:
      - entity: Boat
        at: /data
        many: true
        shape: boat
        grants: {title: name, both: {derived: [id, name], type: string}, parts: {reference: id}, only: {field: name, audiences: [office]}, more: {open: true}}
        beside: {meta: {grants: {n: {type: integer}}}}
`)})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, k := range c.Endpoints[0].Cases() {
		for path, x := range Of(c.Endpoints[0].PlanOf(k)) {
			got = append(got, fmt.Sprintf("%s %s %s.%s %s", k.Audience.Name, path, x.Entity, x.Field, x.Route))
		}
	}
	sort.Strings(got)
	const want = `office $.data[*].both Boat. .derived from id, name/both
office $.data[*].id Boat.id .id
office $.data[*].more Boat. ./more
office $.data[*].next.id Boat.id >next.id
office $.data[*].only Boat.name .name
office $.data[*].parts[*] Boat.id >parts.id
office $.data[*].title Boat.name .name
office $.meta.n . ./n
visitor $.data[*].both Boat. .derived from id, name/both
visitor $.data[*].id Boat.id .id
visitor $.data[*].more Boat. ./more
visitor $.data[*].next.id Boat.id >next.id
visitor $.data[*].parts[*] Boat.id >parts.id
visitor $.data[*].title Boat.name .name
visitor $.meta.n . ./n`
	if text := strings.Join(got, "\n"); text != want {
		t.Errorf("let out is\n%s\nwant\n%s", text, want)
	}
	if len(Of(nil)) != 0 {
		t.Error("nothing lets something out")
	}
}

// TestEveryAlternativeIsLetOut checks that what several shapes carry at one path is listed for each of them, in any
// order.
func TestEveryAlternativeIsLetOut(t *testing.T) {
	const text = `inkret: 1
service: quay
entities:
  Boat: {fields: {id: {type: integer, class: internal}}, relations: {owner: {entity: Person}}}
  Person: {fields: {name: {type: string, class: public}, email: {type: string, class: personal}, phone: {type: string, class: personal}}}
shapes:
  one: {entity: Person, grants: {label: name, same: name}}
  two: {entity: Person, grants: {label: email, same: name}}
  three: {entity: Person, grants: {label: phone}}
endpoints:
  - endpoint: GET /boats
    responses: [{entity: Boat, grants: {owner: {one_of: [%s]}}}]
`
	var first string
	for _, order := range [][]string{{"one", "two", "three"}, {"three", "two", "one"}, {"two", "three", "one"}} {
		var all []string
		for i, name := range order {
			all = append(all, fmt.Sprintf("{when: {kind: %d}, shape: %s}", i, name))
		}
		c, err := contract.Read(contract.File{Name: "c.yaml", Data: []byte(fmt.Sprintf(text, strings.Join(all, ", ")))})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for key, x := range Of(c.Endpoints[0].PlanOf(c.Endpoints[0].Cases()[0])) {
			got = append(got, fmt.Sprintf("%q %s %s", key, x.Path, x.Field))
		}
		sort.Strings(got)
		text := strings.Join(got, "\n")
		if first == "" {
			first = text
		}
		if text != first || len(got) != 4 {
			t.Errorf("in the order %v it is\n%s\nit was\n%s", order, text, first)
		}
	}
}
