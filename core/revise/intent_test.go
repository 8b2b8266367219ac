package revise

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"inkret/core/contract"
	"inkret/core/made"
)

const quay = `inkret: 1
service: quay
audiences: [{name: visitor}, {name: desk}]
entities:
  Boat:
    fields:
      name: {type: string, class: public, max: 40}
      colours: {type: array, class: public}
      extras: {type: object, class: internal}
      key: {type: string, class: secret}
    relations: {owner: {entity: Person}}
  Person: {fields: {id: {type: integer, class: public}, email: {type: string, class: personal}}}
shapes:
  card: {entity: Person, grants: {id: }}
endpoints:
  - endpoint: GET /boats/{id}   # the boat's page
    responses:
      - audiences: [visitor]
        entity: Boat
        grants:
          name:      # as it is painted
          hue: {field: colours, many: true}
          owner: {shape: card}
  - {endpoint: POST /boats, responses: [{entity: Boat, grants: {name: }}], accepts: [{entity: Boat, grants: {name: }}]}
`

// TestIntentsAreWritten compares the text written for each intent with what a person would write.
func TestIntentsAreWritten(t *testing.T) {
	desk := "/endpoints/0/responses/0"
	none, one, both := []string{}, []string{"desk"}, []string{"visitor", "desk"}
	for name, c := range map[string]struct {
		intent Intent
		want   string // a line that is there then; with - before it, one that is not
		err    string
	}{
		"a field":     {Intent{Pointer: desk, Grant: &NewGrant{Field: "name", Name: "title"}}, "title: name", ""},
		"a list":      {Intent{Pointer: desk, Grant: &NewGrant{Field: "colours"}}, "colours: {many: true}", ""},
		"an object":   {Intent{Pointer: desk, Grant: &NewGrant{Field: "extras"}}, "extras: {open: true}", ""},
		"a secret":    {Intent{Pointer: desk, Grant: &NewGrant{Field: "key"}}, "", "say why it goes out"},
		"a blank why": {Intent{Pointer: desk, Grant: &NewGrant{Field: "key", Reason: " "}}, "", "say why it goes out"},
		"with reason": {Intent{Pointer: desk, Grant: &NewGrant{Field: "key", Reason: "asked"}}, "key: {reason: asked}",
			""},
		"a secret in": {Intent{Pointer: "/endpoints/1/accepts/0", Grant: &NewGrant{Field: "key"}},
			"the client sends it", ""},
		"a reference": {Intent{Pointer: "/endpoints/1/responses/0", Grant: &NewGrant{Relation: "owner",
			Reference: "id"}}, "owner: {reference: id}", ""},
		"by a shape": {Intent{Pointer: desk, Grant: &NewGrant{Relation: "owner", Name: "by", Shape: "card"}},
			"by: {relation: owner, shape: card}", ""},
		"of its own": {Intent{Pointer: "/endpoints/1/responses/0", Grant: &NewGrant{Relation: "owner"}},
			"owner: {grants: {}}", ""},
		"into a shape": {Intent{Pointer: desk + "/grants/owner", Grant: &NewGrant{Field: "email"}},
			"owner: {shape: card, grants: {email: }}", ""},
		"a shape's own": {Intent{Pointer: "/shapes/card", Grant: &NewGrant{Field: "email"}},
			"card: {entity: Person, grants: {id: , email: }}", ""},
		"out of a shape": {Intent{Pointer: "/shapes/card/grants/id", Remove: true},
			"card: {entity: Person, grants: {}}", ""},
		"said in a shape": {Intent{Pointer: "/shapes/card/grants/id", Change: &Said{Name: "number", Optional: true}},
			"number: {field: id, optional: true}", ""},
		"a shape goes":          {Intent{Pointer: "/shapes/card", Remove: true}, "", "cannot be wanted"},
		"a response of a shape": {Intent{Pointer: "/shapes/card", Respond: &NewResponse{}}, "", "cannot be wanted"},
		"a team of a grant":     {Intent{Pointer: "/shapes/card/grants/id", Team: new(string)}, "", "cannot be wanted"},
		"derived": {Intent{Pointer: desk, Grant: &NewGrant{Name: "label", Derived: []string{"name"},
			Type: "string"}}, "label: {derived: [name], type: string}", ""},
		"nothing":     {Intent{Pointer: desk, Grant: &NewGrant{Name: "x"}}, "", "say which field"},
		"no field":    {Intent{Pointer: desk, Grant: &NewGrant{Field: "length"}}, "", `Boat has no field "length"`},
		"no relation": {Intent{Pointer: desk, Grant: &NewGrant{Relation: "crew"}}, "", `Boat has no relation "crew"`},
		"no entity": {Intent{Pointer: desk + "/grants/name", Grant: &NewGrant{Field: "name"}}, "",
			"no entity is named"},
		"renamed": {Intent{Pointer: desk + "/grants/name", Change: &Said{Name: "title"}}, "title: name", ""},
		"renamed back": {Intent{Pointer: desk + "/grants/hue", Change: &Said{Name: "colours"}},
			"colours: {field: colours, many: true}", ""},
		"a relation": {Intent{Pointer: desk + "/grants/owner", Change: &Said{Name: "by"}},
			"by: {relation: owner, shape: card}", ""},
		"said": {Intent{Pointer: desk + "/grants/name", Change: &Said{Name: "name", Optional: true,
			Audiences: one, NeededBy: []string{"print"}, Reason: " why "}},
			"name: {optional: true, audiences: [desk], needed_by: [print], reason: why}", ""},
		"its own max": {Intent{Pointer: desk + "/grants/name", Change: &Said{Name: "name", Max: 9}}, "name: {max: 9}",
			""},
		"the field's": {Intent{Pointer: desk + "/grants/name", Change: &Said{Name: "name", Max: 40}}, "-name: {max",
			""},
		"no name":     {Intent{Pointer: desk + "/grants/name", Change: &Said{}}, "", "a member has a name"},
		"gone":        {Intent{Pointer: desk + "/grants/hue", Remove: true}, "-hue", ""},
		"no response": {Intent{Pointer: desk, Remove: true}, "-painted", ""},
		"everybody":   {Intent{Pointer: desk, Audiences: &none}, "-audiences: [visitor]", ""},
		"two":         {Intent{Pointer: desk, Audiences: &both}, "audiences: [visitor, desk]", ""},
		"a team":      {Intent{Pointer: "/endpoints/0", Team: ptr("moorings")}, "team: moorings", ""},
		"no team":     {Intent{Pointer: "/endpoints/0", Team: ptr("")}, "-team", ""},
		"a response": {Intent{Pointer: "/endpoints/0", Respond: &NewResponse{Statuses: []string{"404", "5XX"},
			Audiences: one, Entity: "Boat", At: "/data", Many: true}},
			"audiences: [desk], statuses: [404, 5XX], entity: Boat, at: /data, many: true, grants: {}", ""},
		"a page of them": {Intent{Pointer: "/endpoints/0", Respond: &NewResponse{Entity: "Boat", Many: true,
			Envelope: "page"}},
			"entity: Boat, at: /data, many: true, grants: {}, beside: {meta: {open: true}, links: {open: true}}", ""},
		"a resource": {Intent{Pointer: "/endpoints/0", Respond: &NewResponse{Entity: "Boat", Envelope: "json-api"}},
			"attributes: {grants: {}}", ""},
		"a list by HAL": {Intent{Pointer: "/endpoints/0", Respond: &NewResponse{Entity: "Boat", Many: true,
			At:       "/_embedded/boats",
			Envelope: "hal"}}, "beside: {_links: {open: true}, page: {open: true}}", ""},
		"one by HAL": {Intent{Pointer: "/endpoints/0", Respond: &NewResponse{Entity: "Boat", Envelope: "hal"}},
			"entity: Boat, grants: {_links: {open: true, optional: true}}}", ""},
		"by OData": {Intent{Pointer: "/endpoints/0", Respond: &NewResponse{Entity: "Boat", Many: true,
			Envelope: "odata"}},
			`beside: {"@odata.context": {}`, ""},
		"a problem": {Intent{Pointer: "/endpoints/0", Respond: &NewResponse{Envelope: "problem"}},
			"title: {optional: true}", ""},
		"in nothing known": {Intent{Pointer: "/endpoints/0", Respond: &NewResponse{Envelope: "parcel"}}, "",
			"there is no envelope \"parcel\"; expected page, json-api"},
		"accepted":    {Intent{Pointer: "/endpoints/0", Accept: &NewResponse{Entity: "Boat"}}, "accepts:", ""},
		"elsewhere":   {Intent{Pointer: "/endpoints/7", Remove: true}, "", "no endpoint, response or grant stands at"},
		"of nothing":  {Intent{Pointer: desk}, "", "cannot be wanted of what stands here"},
		"an endpoint": {Intent{Pointer: "/endpoints/0", Remove: true}, "", "cannot be wanted of what stands here"},
	} {
		files := []contract.File{{Name: "quay.yaml", Data: []byte(quay)}}
		c.intent.File = "quay.yaml"
		edits, err := Intents(read(t, files), []Intent{c.intent})
		if c.err != "" || err != nil {
			if err == nil || c.err == "" || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v, want %q", name, err, c.err)
			}
			continue
		}
		files, _ = apply(t, files, edits, nil)
		text := string(files[0].Data)
		if not, is := strings.CutPrefix(c.want, "-"); is && strings.Contains(text, not) || !is &&
			!strings.Contains(text, c.want) {
			t.Errorf("%s: %q, but it is\n%s", name, c.want, text)
		}
		if !strings.Contains(text, "# the boat's page") || name != "no response" && name != "renamed" &&
			!strings.Contains(text, "# as it is painted") {
			t.Errorf("%s: comments are lost\n%s", name, text)
		}
	}
}

func ptr[T any](v T) *T { return &v }

// TestIntentsAtRandom applies random intents to random contracts. The result must be readable, and grant what was
// asked for and nothing else.
func TestIntentsAtRandom(t *testing.T) {
	done := 0
	for seed := range uint64(400) {
		m, random := made.New(seed), rand.New(rand.NewPCG(seed, 4711))
		files := []contract.File{{Name: "made.json", Data: made.JSON(m.Contract())}}
		before, err := contract.Read(files...)
		if err != nil {
			continue
		}
		places := placesOf(before)
		if len(places) == 0 {
			continue
		}
		r := places[random.IntN(len(places))]
		if r.Entity == nil || len(r.Entity.Fields) == 0 {
			continue
		}
		f := r.Entity.Fields[random.IntN(len(r.Entity.Fields))]
		name := fmt.Sprintf("wanted_%d", seed)
		n := before.Node(r)
		wants := []Intent{{File: n.File, Pointer: n.Pointer(), Grant: &NewGrant{Field: f.Name, Name: name,
			Reason: "wanted"}}}
		edits, err := Intents(before, wants)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		if files, err = Apply(files, edits); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		after, err := contract.Read(files...)
		if err != nil {
			t.Fatalf("seed %d: what is written has problems: %v\n%s", seed, err, files[0].Data)
		}
		now := placesOf(after)[slices.Index(places, r)]
		names := func(r *contract.Response) (all []string) {
			for _, g := range r.Body.Grants {
				all = append(all, g.Name)
			}
			slices.Sort(all)
			return all
		}
		want := append(names(r), name)
		slices.Sort(want)
		if got := names(now); !slices.Equal(got, want) {
			t.Errorf("seed %d: granted are %q, want %q", seed, got, want)
		}
		// and taken away again the contract is what it was
		at := after.Node(now)
		edits, err = Intents(after, []Intent{{File: at.File, Pointer: at.Pointer() + "/grants/" + name, Remove: true}})
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		if files, err = Apply(files, edits); err != nil {
			t.Fatal(err)
		}
		if back, err := contract.Read(files...); err != nil ||
			!slices.Equal(names(placesOf(back)[slices.Index(places, r)]),
				names(r)) {
			t.Errorf("seed %d: taken away again it is not as before: %v", seed, err)
		}
		done++
	}
	if done < 100 {
		t.Errorf("only %d contracts were tried", done)
	}
}

func placesOf(c *contract.Contracts) (all []*contract.Response) {
	for _, e := range c.Endpoints {
		for _, r := range e.Responses {
			if r.Body != nil && c.Node(r) != nil {
				all = append(all, r)
			}
		}
	}
	return all
}
