package draft

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"inkret/core/contract"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/made"
	"inkret/core/scan"
	"inkret/core/schema"
)

// findings judges captures by a contract and returns what it reports.
func findings(c *contract.Contracts, captures []*exchange.Capture) []*finding.Finding {
	judge, collector := scan.NewJudge(c), finding.NewCollector("x")
	for _, one := range captures {
		out := judge.Capture(one)
		collector.Add("f", one.Entry, &out)
	}
	return collector.Findings()
}

// kept fails if a sketch that was kept gives another draft.
func kept(t *testing.T, s *schema.Sketch, text string) {
	t.Helper()
	data, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	var back schema.Sketch
	if err := json.Unmarshal(data, &back); err != nil {
		t.Fatal(err)
	}
	if again := Write(&back, Options{}).Text; again != text {
		t.Errorf("a sketch that was kept gives another draft:\n%.2000s\nwas\n%.2000s", again, text)
	}
}

// generous answers every question so that everything is granted.
func generous(d *Draft) (all Answers) {
	for _, q := range d.Questions {
		switch {
		case q.Suggestion == Yes:
			all = all.With(To(q, Yes))
		case q.Suggestion == InternalGranted || q.Suggestion == InternalLeft || q.Suggestion == LeftOpen:
			all = all.With(To(q, InternalGranted))
		default: // no answer grants a secret: it is called personal
			all = all.With(To(q, PersonalGranted))
		}
	}
	return all
}

// TestALargeAPIIsDrafted draws a contract from a description of 800 paths with schemas as real ones have them: it
// loads, asks few questions about few entities, and judges the API's traffic without a finding that was not planted,
// save what it asks about.
func TestALargeAPIIsDrafted(t *testing.T) {
	for seed := range uint64(2) {
		api := made.New(seed).API(800)
		s, err := schema.Describe("wide.json", made.JSON(api.Description))
		if err != nil {
			t.Fatal(err)
		}
		d := Write(s, Options{})
		c := read(t, d.Text)
		t.Logf("%d operations, %d entities, %d questions, %d kB", d.Endpoints, d.Entities, len(d.Questions),
			len(d.Text)/1000)
		if d.Endpoints < 1200 || d.Entities > api.Resources*3/2 || len(d.Questions) > 300 {
			t.Errorf("%d endpoints, %d entities of %d resources, %d questions", d.Endpoints, d.Entities, api.Resources,
				len(d.Questions))
		}
		kept(t, s, d.Text)
		asked := map[Field]bool{}
		for _, q := range d.Questions {
			for _, f := range q.Concerns {
				asked[f] = true
			}
			if len(q.Answers) == 0 || q.Certainty == "" || q.ID == "" {
				t.Errorf("a question without answers: %+v", q)
			}
		}
		var captures []*exchange.Capture
		planted := 0
		api.Traffic(4, func(c *exchange.Capture) {
			if body := string(c.Response.Body); len(captures)%97 == 5 && strings.HasPrefix(body, `{"`) {
				c.Response.Body = []byte(strings.Replace(body, "{", `{"planted_extra":{"a":[{"b":1}]},`, 1))
				planted++
			}
			captures = append(captures, c)
		})
		found := map[bool]int{}
		for _, f := range findings(c, captures) {
			extra := strings.Contains(f.Path, "planted_extra")
			if found[extra]++; !extra && !asked[Field{f.Entity, f.Field}] {
				t.Errorf("%s at %s %s: %s", f.Kind, f.Endpoint, f.Path, f.Why)
			}
		}
		if planted == 0 || found[true] == 0 {
			t.Errorf("%d planted, found %v", planted, found)
		}
		again := Write(s, Options{Answers: generous(d)})
		if len(again.Questions) > 0 || again.Answered != len(d.Questions) {
			t.Errorf("after %d answers it asks %+v", again.Answered, again.Questions)
		}
		for _, f := range findings(read(t, again.Text), captures) {
			if !strings.Contains(f.Path, "planted_extra") && f.Kind != kind.CacheablePrivate &&
				f.Kind != kind.UnevenExposure {
				t.Errorf("all granted: %s at %s %s: %s", f.Kind, f.Endpoint, f.Path, f.Why)
			}
		}
		if t.Failed() {
			return
		}
	}
}

// TestOneKindOfThingIsOneEntity describes one thing in several ways.
func TestOneKindOfThingIsOneEntity(t *testing.T) {
	const head = `openapi: 3.0.3
info: {title: quay, version: "1"}
paths:
  /a: {get: {responses: {"200": {content: {application/json: {schema: {$ref: "#/components/schemas/%s"}}}}}}}
  /b: {get: {responses: {"200": {content: {application/json: {schema: {$ref: "#/components/schemas/%s"}}}}}}}
components:
  schemas:
%s`
	const boat, short = "properties: {id: {type: integer}, label: {type: string}, hull: {type: string}}",
		"properties: {id: {type: integer}, label: {type: string}}"
	for name, c := range map[string]struct {
		a, b, schemas string
		entities      int
	}{
		"nullable": {"Boat", "nullable-boat", "    Boat: {%s}\n    nullable-boat: {nullable: true, %[1]s}",
			1},
		"short":             {"full-boat", "BoatSummary", "    full-boat: {%s}\n    BoatSummary: {%[2]s}", 1},
		"same fields":       {"Boat", "Vessel", "    Boat: {%s}\n    Vessel: {%[1]s}", 1},
		"other fields":      {"Boat", "Berth", "    Boat: {%s}\n    Berth: {%[2]s}", 2},
		"nothing in common": {"Boat", "BoatV2", "    Boat: {%s}\n    BoatV2: {properties: {x: {type: string}}}", 2},
		"a field of two":    {"Boat", "BoatDTO", "    Boat: {%s}\n    BoatDTO: {properties: {id: {type: string}}}", 1},
		"field and relation": {"Boat", "SimpleBoat",
			"    Boat: {%s}\n    SimpleBoat: {properties: {id: {type: integer}, hull: {properties: {q: {type: " +
				"string}}}}}", 2},
	} {
		text := fmt.Sprintf(head, c.a, c.b, fmt.Sprintf(c.schemas+"%.0[1]s%.0[2]s\n", boat, short))
		s, err := schema.Describe("a.yaml", []byte(text))
		if err != nil {
			t.Fatalf("%s: %v in\n%s", name, err, text)
		}
		d := Write(s, Options{})
		got := read(t, d.Text)
		if len(got.Catalog.Entities) != c.entities {
			t.Errorf("%s: %d entities in\n%s", name, len(got.Catalog.Entities), d.Text)
		}
		if name == "field and relation" && !strings.Contains(d.Text, "hull: {relation: hull_2, ") &&
			!strings.Contains(d.Text, "hull: {shape: simple-boat-hull, relation: hull_2") {
			t.Errorf("%s: the two are not told apart in\n%s", name, d.Text)
		}
		if name == "a field of two" && !strings.Contains(d.Text, "id: {type: string") {
			t.Errorf("%s: the type is not said in\n%s", name, d.Text)
		}
	}
}

// TestAnswersAreKept checks that answers come back from a file as they went in, and that what is added to an entity
// later is asked about though its other fields were answered for.
func TestAnswersAreKept(t *testing.T) {
	const text = `openapi: 3.0.3
info: {title: quay, version: "1"}
paths:
  /boats/{id}: {get: {responses: {"200": {content: {application/json: {schema: {$ref: "#/components/schemas/Boat"}}}}}}}
components: {schemas: {Boat: {properties: {id: {type: integer}, created_at: {type: string}, email: {type: string}%s}}}}
`
	describe := func(more string) *schema.Sketch {
		s, err := schema.Describe("a.yaml", []byte(fmt.Sprintf(text, more)))
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	d := Write(describe(""), Options{})
	if len(d.Questions) != 2 || d.Questions[0].Suggestion != PersonalLeft ||
		d.Questions[1].Suggestion != InternalGranted {
		t.Fatalf("asked is %+v", d.Questions)
	}
	answers := Answers{}.With(To(d.Questions[0], PersonalGranted)).With(To(d.Questions[1], InternalLeft)).
		With(To(d.Questions[1], PublicGranted))
	back, err := ReadAnswers("a.answers", answers.Text())
	if err != nil || fmt.Sprint(back) != fmt.Sprint(answers) || len(back) != 2 {
		t.Fatalf("came back as %v, %v from\n%s", back, err, answers.Text())
	}
	d = Write(describe(""), Options{Answers: back})
	c := read(t, d.Text)
	if len(d.Questions) != 0 || strings.Contains(d.Text, "?") ||
		!strings.Contains(d.Text, "id: {type: integer, class: public}") {
		t.Errorf("asks %v after all was answered:\n%s", d.Questions, d.Text)
	}
	if n := len(c.Endpoints[0].Cases()[0].Choice.Response.Body.Grants); n != 3 {
		t.Errorf("%d members are granted in\n%s", n, d.Text)
	}
	d = Write(describe(", updated_at: {type: string}"), Options{Answers: back})
	if len(d.Questions) != 1 || d.Questions[0].Field != "updated_at" || len(d.Questions[0].Concerns) != 1 {
		t.Errorf("of a new field is asked %+v", d.Questions)
	}
	// answered with its entity, and asked by name once more entities have it: it is not asked again
	more := describe("").Objects[0]
	sketch := describe("")
	for i := range 3 {
		sketch.Objects = append(sketch.Objects, &schema.Object{Name: fmt.Sprintf("Other%d", i),
			Members: []*schema.Member{
				{Name: "id", Form: more.Members[0].Form}, {Name: "created_at", Form: more.Members[1].Form}}})
	}
	sketch.Operations = nil
	for _, q := range Write(sketch, Options{Answers: back}).Questions {
		if slices.Contains(q.Concerns, Field{"Boat", "id"}) {
			t.Errorf("answered before, it is asked again: %+v", q)
		}
	}
	for _, bad := range []string{"", "[]", "inkret-answers: 2\nanswers: []",
		"inkret-answers: 1\nanswers: [{question: x}]",
		"inkret-answers: 1\nanswers: [{question: x, answer: perhaps}]", "a: [", "inkret-answers: 1\nanswers: 5"} {
		if got, err := ReadAnswers("a.answers", []byte(bad)); err == nil && len(got) == 0 && bad[len(bad)-1] != '5' {
			t.Errorf("%q is read as %v", bad, got)
		}
	}
}
