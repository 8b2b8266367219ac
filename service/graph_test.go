package service

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/service/review"
	"inkret/store"
)

const graphHarbour = `inkret: 1
service: quay
audiences: [{name: skipper}]
entities:
  Booking: {fields: {id: {}, reference: {type: string}}, relations: {skipper: {entity: Skipper}}}
  Skipper: {fields: {id: {}, name: {type: string}, email: {class: personal}}}
endpoints:
  - endpoint: POST /graphql
    graphql: {schema: quay.graphql}
    responses:
      - operations: [Query.booking, Query.find]
        types:
          Booking: {entity: Booking, grants: {id: , ref: reference, skipper: {}}}
          Skipper: {entity: Skipper, grants: {id: , name: }}
`

const graphTypes = `type Query { booking(id: ID!): Booking find(text: String): [Hit!] }
union Hit = Booking | Skipper
type Booking { id: ID! ref: String skipper: Skipper }
type Skipper { id: ID! name: String email: String }
`

func graphFiles() []base.ContractFile {
	return []base.ContractFile{{Name: "quay.yaml", Text: graphHarbour}, {Name: "quay.graphql", Text: graphTypes}}
}

// asked is a capture line of a query and its answer.
func asked(when time.Time, query, answer string) string {
	body, _ := json.Marshal(map[string]any{"query": query, "variables": map[string]string{"id": secretToken}})
	line := map[string]any{"started": when.UTC().Format(time.RFC3339),
		"request": map[string]any{"method": "POST", "url": "https://q.example/graphql", "body": string(body),
			"headers": []any{map[string]string{"name": "Content-Type", "value": "application/json"}}},
		"response": map[string]any{"status": 200, "body": answer,
			"headers": []any{map[string]string{"name": "Content-Type", "value": "application/json"}}}}
	text, _ := json.Marshal(line)
	return string(text) + "\n"
}

const (
	askForMail = `query($id: ID!) { b: booking(id: $id) { ref who: skipper { mail: email } } }`
	mailGiven  = `{"data":{"b":{"ref":"x","who":{"mail":"ada@sails.example"}}}}`
	mailKept   = `{"data":{"b":{"ref":"x","who":{"mail":null}}},"errors":[{"message":"no","path":["b","who","mail"]}]}`
)

// TestResultsWithoutBodies judges results by what is kept of them without bodies: the same findings as by the bodies,
// and no value of a query is kept.
func TestResultsWithoutBodies(t *testing.T) {
	lines := asked(time.Date(2026, 5, 1, 10, 0, 0, 0, time.UTC), askForMail, mailGiven) +
		asked(time.Date(2026, 5, 1, 10, 1, 0, 0, time.UTC),
			`{ find(text: "`+secretToken+
				`") { t: __typename ... on Booking { ref } ... on Skipper { n: name e: email } } }`,
			`{"data":{"find":[{"t":"Skipper","n":"Ada","e":"ada@sails.example"},{"t":"Booking","ref":"x"}]}}`) +
		asked(time.Date(2026, 5, 1, 10, 2, 0, 0, time.UTC), askForMail, mailKept) +
		strings.NewReplacer(`"POST"`, `"GET"`, "/graphql", `/graphql?query=%7Bbooking(id:\"`+secretToken+
			`\"){skipper{mail:email}}}`).Replace(asked(time.Date(2026, 5, 1, 10, 3, 0, 0, time.UTC), "",
			`{"data":{"booking":{"skipper":{"mail":"ada@sails.example"}}}}`))
	for _, bodies := range []bool{true, false} {
		w := newWorld(t)
		w.alone()
		w.apply(graphFiles(), 1)
		if err := w.Evidence.SetKeeping(t.Context(), w.who, "quay", base.KeepingTime{Bodies: bodies}); err != nil {
			t.Fatal(err)
		}
		w.upload("monday.lines", lines)
		told := func() (all []string) {
			for _, f := range w.findings() {
				all = append(all, fmt.Sprintln(f.Kind, f.Endpoint, f.Audience, f.Path, f.Spots, f.Captures, f.Bytes))
			}
			slices.Sort(all)
			return all
		}
		before := told()
		if len(before) != 1 || !strings.HasPrefix(before[0],
			"sensitive-field POST /graphql skipper Skipper >> $.email 3 3") {
			t.Fatalf("bodies %v: %v", bodies, before)
		}
		if _, err := w.Evidence.Correct(t.Context(), w.who, 1, evidence.Said{Audience: "skipper"}); err != nil {
			t.Fatal(err)
		}
		if after := told(); !slices.Equal(before, after) {
			t.Errorf("judged anew (bodies %v): %v, was %v", bodies, after, before)
		}
		for id := int64(1); id <= 4; id++ {
			sealed, err := w.vault.OpenExchange(w.sealedOf(id))
			if err != nil {
				t.Fatal(err)
			}
			if text := sealed.URL + string(sealed.RequestBody) + string(sealed.ResponseBody); !bodies &&
				(strings.Contains(text, secretToken) || strings.Contains(text, "ada@")) {
				t.Errorf("kept without bodies is %s", text)
			}
		}
	}
}

// TestRepairsOfResultsAreProven proves a repair by an answer that was asked for the field, and by nothing else.
func TestRepairsOfResultsAreProven(t *testing.T) {
	leak := func(w *world) base.Finding {
		t.Helper()
		all := w.findings()
		if len(all) != 1 || all[0].Path != "Skipper >> $.email" {
			t.Fatalf("found %+v", all)
		}
		return all[0]
	}
	const elsewhere = `{ booking(id: 1) { skipper { email } } }`
	for _, c := range []struct {
		name, query, answer string
		proves              bool
	}{
		{"it was not asked for", `{ booking(id: 1) { skipper { name } } }`,
			`{"data":{"booking":{"skipper":{"name":"Ada"}}}}`, false},
		{"null proves nothing", askForMail, `{"data":{"b":{"ref":"x","who":{"mail":null}}}}`, false},
		{"there was no such object", askForMail, `{"data":{"b":{"ref":"x","who":null}}}`, false},
		{"another call is denied", elsewhere, `{"data":null,"errors":[{"message":"no"}]}`, false},
		{"the field failed", askForMail, mailKept, true},
		{"what it was inside of failed", askForMail, `{"data":{"b":{"ref":"x","who":null}},"errors":[{"message":"no","path":["b","who"]}]}`, true},
		{"where it could stand others came", `{ find(text: "a") { __typename ... on Booking { ref } ... on Skipper { email } } }`,
			`{"data":{"find":[{"__typename":"Booking","ref":"x"}]}}`, true},
		{"nothing came where it could stand", `{ find(text: "a") { __typename ... on Booking { ref } ... on Skipper { email } } }`,
			`{"data":{"find":[]}}`, false},
		{"of what came it cannot be told what it is", `{ find(text: "a") { ... on Booking { id } ... on Skipper { email id } ... on Skipper { id } } }`,
			`{"data":{"find":[{"x":1}]}}`, false},
		{"the call is denied", askForMail, `{"errors":[{"message":"no such field"}]}`, true},
	} {
		w := newWorld(t)
		w.alone()
		w.apply(graphFiles(), 1)
		w.upload("monday.lines", asked(w.clock.now, askForMail, mailGiven))
		if _, err := w.Findings.Move(t.Context(), w.who, leak(w).ID,
			finding.Move{To: finding.AwaitingProof}); err != nil {
			t.Fatal(err)
		}
		w.clock.now = w.clock.now.Add(time.Hour)
		w.upload("tuesday.lines", asked(w.clock.now, c.query, c.answer))
		if got := leak(w).State == string(finding.Closed); got != c.proves {
			t.Errorf("%s: it is %s", c.name, leak(w).State)
		}
	}
}

// TestTypesAreContracts widens what is granted of types: by a field, by an operation, by taking the schema away.
func TestTypesAreContracts(t *testing.T) {
	for _, c := range []struct {
		name, from, to, reaches string
		state                   store.RevisionState
	}{
		{"a personal field", "grants: {id: , name: }", "grants: {id: , name: , email: }", "personal", store.Waiting},
		{"nothing of a type", "          Skipper: {entity: Skipper, grants: {id: , name: }}\n", "", "", store.InForce},
		{"a relation less", "ref: reference, skipper: {}", "ref: reference", "", store.InForce},
		{"the schema", "{schema: quay.graphql}", "{}", "secret", store.Waiting},
	} {
		w := newWorld(t)
		files := graphFiles()
		for i := range files {
			files[i].Text = strings.Replace(files[i].Text, "service: quay", "service: docks", 1)
		}
		if _, _, err := w.Review.Apply(t.Context(), w.who, "docks", review.Proposed{Files: files}); err != nil {
			t.Fatal(err)
		}
		w.second(base.Lead)
		files = slices.Clone(files)
		if files[0].Text = strings.Replace(files[0].Text, c.from, c.to, 1); c.name == "the schema" {
			files = files[:1]
		}
		r, _, err := w.Review.Apply(t.Context(), w.who, "docks",
			review.Proposed{Files: files, Base: 1, Reason: "a test"})
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if r.Reaches != c.reaches || r.State != c.state {
			t.Errorf("%s: the revision is %s, %s, and reaches %q: %+v", c.name, r.State, r.Direction, r.Reaches,
				r.Words)
		}
	}
}

// sealedOf returns the sealed part of a capture.
func (w *world) sealedOf(id int64) []byte {
	w.t.Helper()
	c, err := w.store.Captures.Capture(w.t.Context(), id)
	if err != nil {
		w.t.Fatal(err)
	}
	return c.Sealed
}
