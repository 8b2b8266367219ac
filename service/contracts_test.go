package service

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"inkret/core/catalog"
	"inkret/core/document"
	"inkret/core/revise"
	"inkret/core/schema"
	"inkret/service/base"
	"inkret/service/review"
	"inkret/store"
)

// quay is the harbour's contract with something in it replaced.
func quay(t *testing.T, replace ...string) []base.ContractFile {
	t.Helper()
	text := harbour
	for i := 0; i < len(replace); i += 2 {
		if strings.Count(text, replace[i]) != 1 {
			t.Fatalf("%q is not once in the contract", replace[i])
		}
		text = strings.Replace(text, replace[i], replace[i+1], 1)
	}
	return []base.ContractFile{{Name: "quay.yaml", Text: text}}
}

// second is somebody else who may approve.
func (w *world) second(role string) base.Caller {
	w.t.Helper()
	p, err := w.People.AddPerson(w.t.Context(), "Iva Second", role+"@quay.example", role, "low tide at nine")
	if err != nil {
		w.t.Fatal(err)
	}
	return base.Caller{Person: p}
}

func (w *world) apply(files []base.ContractFile, base int) store.Revision {
	w.t.Helper()
	r, _, err := w.Review.Apply(w.t.Context(), w.who, "quay", review.Proposed{Files: files, Base: base,
		Reason: "a test"})
	if err != nil {
		w.t.Fatal(err)
	}
	return r
}

func (w *world) inForce() int {
	w.t.Helper()
	r, err := w.Review.Export(w.t.Context(), "quay")
	if err != nil {
		w.t.Fatal(err)
	}
	return r.Number
}

func TestASecondPersonApprovesWhatWidensTowardPersonal(t *testing.T) {
	w := newWorld(t)
	w.upload("a.har", recording(`{"id":7,"name":"Ada","email":"ada@sails.example"}`))
	emails := quay(t, "name: }", "name: , email: {needed_by: [desk]}}")
	r := w.apply(emails, 1)
	if r.State != store.Waiting || r.Direction != "widening" || r.Reaches != "personal" || w.inForce() != 1 {
		t.Fatalf("the revision is %s, %s to %s; revision %d is in force", r.State, r.Direction, r.Reaches, w.inForce())
	}
	if r.Words[0].Text != "lets visitor and office see Skipper.email at GET /skippers/{id}" {
		t.Errorf("it says %v", r.Words)
	}
	if _, err := w.Review.Decide(t.Context(), w.who, "quay", r.Number, review.Decision{Grant: true}); err == nil ||
		!strings.Contains(err.Error(), "of their own") {
		t.Errorf("approving one's own: %v", err)
	}
	lead := w.second(base.Lead)
	if _, err := w.Review.Decide(t.Context(), lead, "quay", r.Number, review.Decision{Comment: " "}); err == nil {
		t.Error("declined without a reason")
	}
	done, err := w.Review.Decide(t.Context(), lead, "quay", r.Number, review.Decision{Grant: true,
		Comment: "the desk calls them"})
	if err != nil || done.State != store.InForce || done.DecidedBy != "Iva Second" ||
		done.Decision != "the desk calls them" || w.inForce() != 2 {
		t.Fatalf("approved: %+v, %v", done, err)
	}
	if _, err := w.Review.Decide(t.Context(), lead, "quay", r.Number, review.Decision{Comment: "no"}); err == nil {
		t.Error("decided twice")
	}
	// what the contract now permits is no leak any more, and says why
	all, _, err := w.Findings.Findings(t.Context(), base.FindingFilter{Field: "email"}, base.Page{Number: 1, Size: 10})
	if err != nil || len(all) != 1 || all[0].State != "not-a-leak" {
		t.Fatalf("the finding is %+v, %v", all, err)
	}
	v, err := w.Findings.Finding(t.Context(), base.Caller{}, all[0].ID)
	if last := v.History[len(v.History)-1]; err != nil || last.Revision != 2 || last.Became != "not-a-leak" {
		t.Errorf("its history ends in %+v", last)
	}
	// and a leak again when it no longer does
	back, changed, err := w.Review.Revert(t.Context(), w.who, "quay", 1, "enough of that")
	if err != nil || !changed || back.Number != 3 || back.State != store.InForce || back.Direction != "narrowing" {
		t.Fatalf("reverted: %+v, %v", back, err)
	}
	if v, _ := w.Findings.Finding(t.Context(), base.Caller{}, all[0].ID); v.State != "returned" {
		t.Errorf("after narrowing, the finding is %s", v.State)
	}
	list, total, err := w.Review.Revisions(t.Context(), "quay", "", base.Page{Number: 1, Size: 10})
	if err != nil || total != 3 || list[0].Number != 3 || list[2].State != store.Earlier {
		t.Errorf("revisions are %v, %v", list, err)
	}
	whole, err := w.Review.RevisionOf(t.Context(), "quay", 2)
	if err != nil {
		t.Fatal(err)
	}
	if text, err := w.Review.RevisionText(t.Context(), whole); err != nil || !strings.Contains(text, "\n+") ||
		!strings.Contains(text, "email: {needed_by") {
		t.Errorf("the difference as text is %q, %v", text, err)
	}
}

// TestNobodySilencesTheJudgeAlone makes changes that no grant shows, each of which once let a leak pass by one
// person's hand.
func TestNobodySilencesTheJudgeAlone(t *testing.T) {
	w := newWorld(t)
	w.upload("a.har", recording(leaky))
	for name, files := range map[string][]base.ContractFile{
		"another host": quay(t, "audiences: [", "servers: [\"https://elsewhere.example\"]\naudiences: ["),
		"another entity": quay(t, "entities:\n",
			"entities:\n  Boat: {fields: {id: , name: , password_hash: {type: string, class: public}}}\n",
			"entity: Skipper, grants", "entity: Boat, grants"),
		"a lower class": quay(t, "password_hash: {type: string, class: secret}",
			"password_hash: {type: string, class: public}"),
		"an endpoint less": quay(t, "GET /skippers/{id}", "GET /skippers/{id}/card"),
		"an exception": quay(t, "endpoints:\n",
			"exceptions: [{endpoint: 'GET /skippers/{id}', path: $.password_hash, kind: sensitive-field, reason: "+
				"r}]\nendpoints:\n"),
		"a field for an unknown": quay(t, "name: }",
			"name: , password_hash: {external: vault, type: string, optional: true}}"),
		"derived, and said public": quay(t, "name: }}",
			"name: , mark: {derived: [password_hash], class: public, reason: r, type: string, optional: true}}}"),
		"an audience less": quay(t, `, {name: office, recognise: {header: {name: X-Desk, value: "*"}}}`, ""),
		"visitors as the office": quay(t,
			"{credentials: none}}, {name: office, recognise: {header: {name: X-Desk, value: \"*\"}}}",
			"{cookie: {name: never, value: x}}}, {name: office, recognise: {credentials: none}}", "name: }",
			"name: , email: {audiences: [office], optional: true}}"),
		"a condition never met": quay(t, "{entity: Skipper, grants",
			"{entity: Skipper, when: {query: {never: never}}, grants"),
		"a status never sent": quay(t, "{entity: Skipper, grants", "{entity: Skipper, statuses: [299], grants"),
		"a place elsewhere":   quay(t, "{entity: Skipper, grants", "{entity: Skipper, at: /never, grants"),
		"no entity at all": quay(t, "{entity: Skipper, grants: {id: , name: }}",
			"{grants: {id: {type: integer}, name: {type: string}}}"),
		"keys for members": quay(t, "name: }",
			"name: , password_hash: {keys: any, type: string, external: vault, optional: true}}"),
		"a format that covers": quay(t, "name: }",
			"name: , email: {external: post, type: string, format: email, optional: true}}"),
		"everybody open": quay(t, "{entity: Skipper, grants: {id: , name: }}",
			"{at: /never, entity: Skipper, grants: {id: }, beside: {password_hash: {open: true, class: secret, "+
				"reason: r}}}"),
		"open, and said a secret": quay(t, "name: }",
			"name: , meta: {open: true, class: secret, reason: r, optional: true}}"),
	} {
		t.Run(name, func(t *testing.T) {
			trial, err := w.Review.Try(t.Context(), w.who, "quay", review.Change{Files: files})
			r := w.apply(files, 1)
			if err != nil || r.State != store.Waiting || !trial.NeedsApproval || w.inForce() != 1 {
				t.Errorf("it is %s, %s to %s: %v; a trial says it needs approval: %v, %v", r.State, r.Direction,
					r.Reaches, r.Words, trial.NeedsApproval, err)
			}
		})
	}
	if f := w.theHash(); f.State != "new" {
		t.Errorf("the leak is %s", f.State)
	}
	for name, files := range map[string][]base.ContractFile{
		"another name of a parameter": quay(t, "/skippers/{id}", "/skippers/{skipper}"),
		"a name for a response":       quay(t, "{entity: Skipper, grants", "{name: card, entity: Skipper, grants"),
		"a status written out":        quay(t, "{entity: Skipper, grants", "{statuses: [2XX], entity: Skipper, grants"),
		"a grant less":                quay(t, "{id: , name: }", "{id: }"),
	} {
		if r := w.apply(files, 0); r.State != store.InForce {
			t.Errorf("%s waits: %s to %s, %v", name, r.Direction, r.Reaches, r.Words)
		}
		w.apply(quay(t), 0)
	}
}

func TestDeclinedAndOutdatedRevisions(t *testing.T) {
	w := newWorld(t)
	lead := w.second(base.Lead)
	declined := w.apply(quay(t, "name: }", "name: , email: }"), 0)
	if r, err := w.Review.Decide(t.Context(), lead, "quay", declined.Number,
		review.Decision{Comment: "who needs it?"}); err != nil ||
		r.State != store.Declined || w.inForce() != 1 {
		t.Errorf("declined: %+v, %v", r, err)
	}
	waiting := w.apply(quay(t, "name: }", "name: , email: }"), 0)
	other := w.apply(quay(t, "team: accounts", "team: desk"), 1)
	if w.inForce() != other.Number || other.Direction != "neutral" {
		t.Errorf("revision %d is in force", w.inForce())
	}
	if _, err := w.Review.Decide(t.Context(), lead, "quay", waiting.Number, review.Decision{Grant: true}); err == nil ||
		!strings.Contains(err.Error(), "is in force by now") {
		t.Errorf("approving what is outdated: %v", err)
	}
	_, _, err := w.Review.Apply(t.Context(), w.who, "quay",
		review.Proposed{Files: quay(t, "team: accounts", "team: mooring"),
			Base: 1})
	if p, ok := err.(*base.Problem); !ok || p.Code != base.Conflict {
		t.Errorf("applying over somebody's change: %v", err)
	}
}

func TestTwoPeoplesChangesAreMerged(t *testing.T) {
	w := newWorld(t)
	w.apply(quay(t, "team: accounts", "team: desk"), 1)
	m, err := w.Review.Merge(t.Context(), "quay", 1, quay(t, "class: public}, email", "class: internal}, email"))
	if err != nil || len(m.Conflicts) != 0 || !strings.Contains(m.Files[0].Text, "team: desk") ||
		!strings.Contains(m.Files[0].Text, "class: internal}, email") || m.Theirs.Number != 2 {
		t.Errorf("merged: %+v, %v", m, err)
	}
	m, err = w.Review.Merge(t.Context(), "quay", 1, append(quay(t, "team: accounts", "team: mine"),
		base.ContractFile{Name: "more.yaml", Text: "inkret: 1\n"}))
	if err != nil || len(m.Conflicts["quay.yaml"]) != 1 || !strings.Contains(m.Files[0].Text, "team: mine") ||
		len(m.Files) != 2 {
		t.Errorf("with a conflict: %+v, %v", m, err)
	}
	if _, err := w.Review.Merge(t.Context(), "quay", 9, nil); err == nil {
		t.Error("merged from a revision that is not there")
	}
}

func TestAChangeIsTriedOutOnTraffic(t *testing.T) {
	w := newWorld(t)
	w.upload("a.har", recording(leaky, clean, `{"id":7,"name":"Ada","extra":1}`))
	trial, err := w.Review.Try(t.Context(), w.who, "quay", review.Change{Effect: true,
		Edits: review.Edits{"quay.yaml": {
			{Op: "add", Path: "/endpoints/0/responses/0/grants/extra", Value: value(t, `{"type":"integer"}`)},
			{Op: "remove", Path: "/endpoints/0/responses/0/grants/name"},
		}}})
	if err != nil || trial.Effect.Captures != 3 {
		t.Fatalf("tried: %+v, %v", trial, err)
	}
	kinds := func(all []store.Finding) string {
		var out []string
		for _, f := range all {
			out = append(out, f.Kind+" "+f.Path)
		}
		slices.Sort(out)
		return strings.Join(out, ", ")
	}
	if gone, came := kinds(trial.Effect.Gone), kinds(trial.Effect.Came); gone != "unexpected-field $.extra" ||
		came != "missing-field $.extra, unexpected-field $.name" {
		t.Errorf("gone %s; came %s", gone, came)
	}
	if trial.Difference.Direction != "widening" || trial.NeedsApproval || w.inForce() != 1 ||
		!strings.Contains(trial.Text, "+") {
		t.Errorf("it is %s, approval %v", trial.Difference.Direction, trial.NeedsApproval)
	}
	w.apply(trial.Files, 1)
	after, _, err := w.Findings.Findings(t.Context(), base.FindingFilter{States: []string{"new"}},
		base.Page{Number: 1, Size: 50})
	if err != nil || kinds(after) != "missing-field $.extra, sensitive-field $.password_hash, unexpected-field "+
		"$.name" &&
		kinds(after) != "missing-field $.extra, secret-value $.password_hash, unexpected-field $.name" {
		t.Errorf("then there are %s, %v", kinds(after), err)
	}
	for _, f := range after {
		if v, err := w.Findings.Finding(t.Context(), base.Caller{}, f.ID); err != nil || len(v.Evidence) == 0 {
			t.Errorf("%s %s has no evidence: %v", f.Kind, f.Path, err)
		}
	}
	faulty, err := w.Review.Try(t.Context(), w.who, "quay",
		review.Change{Files: quay(t, "Skipper, grants", "Skiper, grants")})
	if err != nil || len(faulty.Problems) != 1 || faulty.Contracts != nil {
		t.Errorf("faulty files: %+v, %v", faulty, err)
	}
	for name, c := range map[string]review.Change{
		"nowhere":  {Edits: review.Edits{"quay.yaml": {{Op: "remove", Path: "/nothing"}}}},
		"no shape": {Inline: "nothing"},
		"broken":   {Files: quay(t, "Skipper, grants", "Skiper, grants"), Inline: "nothing"},
	} {
		if _, err := w.Review.Try(t.Context(), w.who, "quay", c); err == nil {
			t.Errorf("%s: it is carried out", name)
		}
	}
}

func value(t *testing.T, text string) *document.Value {
	t.Helper()
	v, err := document.FromJSON([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// TestAnEndpointThatGetsAContract: what was only swept is judged anew, and what is
// granted goes.
func TestAnEndpointThatGetsAContract(t *testing.T) {
	w := newWorld(t)
	w.upload("a.har", strings.ReplaceAll(recording(`{"id":7,"name":"Ada"}`), "/skippers/7", "/crew/7"))
	before, _, _ := w.Findings.Findings(t.Context(), base.FindingFilter{}, base.Page{Number: 1, Size: 50})
	if len(before) == 0 || !slices.ContainsFunc(before,
		func(f store.Finding) bool { return f.Kind == "unknown-endpoint" }) {
		t.Fatalf("findings are %v", before)
	}
	d, err := w.Review.Draft(t.Context(), "quay", review.DraftOf{From: "captures"})
	if err != nil || !slices.Equal(d.Endpoints, []string{"GET /crew/{crew_id}"}) ||
		!strings.Contains(d.Text, "entity: Skipper") {
		t.Fatalf("drafted %+v, %v", d, err)
	}
	w.apply(d.Files, 1)
	after, _, _ := w.Findings.Findings(t.Context(), base.FindingFilter{States: []string{"new", "returned"}},
		base.Page{Number: 1, Size: 50})
	for _, f := range after {
		if f.Kind == "unknown-endpoint" || f.Kind == "unexpected-field" {
			t.Errorf("%s at %s %s is still there", f.Kind, f.Endpoint, f.Path)
		}
	}
	for name, of := range map[string]review.DraftOf{"an entity": {From: "entity", Endpoint: "GET /all",
		Entity: "Skipper",
		Many:   true}, "another endpoint": {From: "endpoint", Endpoint: "GET /all", Like: "GET /skippers/{id}"},
		"a description": {From: "description", Source: "x.yaml",
			Text: []byte("openapi: 3.1.0\npaths: {/all: {get: {responses: {\"200\": {content: {application/json: " +
				"{schema: {properties: {id: {}, name: {}}}}}}}}}}")}} {
		if d, err := w.Review.Draft(t.Context(), "quay", of); err != nil ||
			!slices.Equal(d.Endpoints, []string{"GET /all"}) ||
			!strings.Contains(d.Text, "name") {
			t.Errorf("from %s: %+v, %v", name, d, err)
		}
	}
	for name, of := range map[string]review.DraftOf{"nothing": {From: "dreams"}, "no such entity": {From: "entity",
		Entity: "X"}, "an endpoint there is": {From: "entity", Endpoint: "GET /skippers/{x}", Entity: "Skipper"},
		"no such endpoint": {From: "endpoint", Like: "GET /x"}, "nothing new": {From: "captures"},
		"faulty text": {From: "description", Text: []byte("x")}} {
		if d, err := w.Review.Draft(t.Context(), "quay", of); err == nil {
			t.Errorf("%s: drafted %v", name, d.Endpoints)
		}
	}
}

func TestFieldsAreClassedAndWhoDidIsKept(t *testing.T) {
	w := newWorld(t)
	w.apply(quay(t, "name: {type: string, class: public}", "name: {type: string}"), 0)
	w.upload("a.har", recording(`{"id":7,"name":"Ada","email":"ada@sails.example"}`))
	queue, total, err := w.Review.Fields(t.Context(), "quay", review.FieldFilter{Class: review.Unclassed},
		base.Page{Number: 1, Size: 10})
	if err != nil || total != 1 || queue[0].Name != "name" || queue[0].Suggestion.Class != catalog.Personal ||
		!slices.Equal(queue[0].Endpoints, []string{"GET /skippers/{id}"}) {
		t.Fatalf("the queue is %+v, %v", queue, err)
	}
	r, err := w.Review.ClassFields(t.Context(), w.who, "quay", []revise.ClassOf{{Entity: "Skipper", Field: "name",
		Class: catalog.Internal}}, 0, "")
	if err != nil || r.Reason != "classed Skipper.name as internal" || r.State != store.InForce {
		t.Fatalf("classed: %+v, %v", r, err)
	}
	all, _, err := w.Review.Fields(t.Context(), "quay", review.FieldFilter{Words: "skipper name"},
		base.Page{Number: 1, Size: 10})
	if err != nil || len(all) != 1 || all[0].Classing == nil || all[0].Classing.Author != "Noor Adeyar" ||
		all[0].Classing.Class != "internal" {
		t.Errorf("then it is %+v, %v", all, err)
	}
	secret, _, err := w.Review.Fields(t.Context(), "quay", review.FieldFilter{Entity: "Skipper", Suggested: "personal"},
		base.Page{Number: 1, Size: 10})
	if err != nil || len(secret) != 2 { // name, email
		t.Errorf("suggested personal are %+v", secret)
	}
	if _, err := w.Review.ClassFields(t.Context(), w.who, "quay", []revise.ClassOf{{Entity: "Skipper", Field: "x"}}, 0,
		""); err == nil {
		t.Error("a field that is not there is classed")
	}
	// classing lower what was personal is a widening
	if r, err := w.Review.ClassFields(t.Context(), w.who, "quay", []revise.ClassOf{{Entity: "Skipper", Field: "email",
		Class: catalog.Public}}, 0, ""); err != nil || r.State != store.Waiting {
		t.Errorf("classing e-mail public is %s, %v", r.State, err)
	}
}

func TestADriftingColumnIsCaught(t *testing.T) {
	w := newWorld(t)
	w.upload("a.har", recording(`{"id":7,"name":"Ada","winter_berth":"B"}`))
	reading := review.Reading{Source: "harbour.sql", Form: review.ReadSQL,
		Text: []byte("CREATE TABLE skippers (id integer NOT NULL, name text NOT NULL, email text NOT NULL, " +
			"winter_berth text); CREATE TABLE cranes (id int)")}
	v, err := w.Review.ReadEntities(t.Context(), "quay", reading)
	if err != nil {
		t.Fatal(err)
	}
	var ids []string
	for _, d := range v.Differences {
		ids = append(ids, d.ID())
	}
	if want := []string{"new-field Skipper.winter_berth", "gone-field Skipper.password_hash",
		"new-entity Crane"}; !slices.Equal(ids, want) {
		t.Fatalf("differences are %q", ids)
	}
	r, _, err := w.Review.TakeEntities(t.Context(), w.who, "quay", review.Taking{Reading: reading})
	if err != nil || r.State != store.InForce || r.Reason != "read from harbour.sql" {
		t.Fatalf("taken over: %+v, %v", r, err)
	}
	c, _ := w.Review.Contracts(t.Context(), "quay")
	if c.Catalog.Entity("Skipper").Field("password_hash") == nil || c.Catalog.Entity("Crane") == nil {
		t.Error("what is gone was taken out unasked, or what is new not taken over")
	}
	queue, _, _ := w.Review.Fields(t.Context(), "quay", review.FieldFilter{Class: review.Unclassed, Entity: "Skipper"},
		base.Page{Number: 1, Size: 10})
	if len(queue) != 1 || queue[0].Name != "winter_berth" ||
		!slices.Equal(queue[0].Endpoints, []string{"GET /skippers/{id}"}) || queue[0].Leaks != 1 {
		t.Errorf("the queue is %+v", queue)
	}
	if _, v, err := w.Review.TakeEntities(t.Context(), w.who, "quay", review.Taking{Reading: reading,
		Differences: []string{"gone-field Skipper.password_hash"}, Reason: "dropped"}); err != nil ||
		len(v.Differences) != 1 {
		t.Errorf("taking out by name: %+v, %v", v, err)
	}
	if c, _ := w.Review.Contracts(t.Context(), "quay"); c.Catalog.Entity("Skipper").Field("password_hash") != nil &&
		w.inForce() == 3 {
		t.Error("what was named is not taken out")
	}
	// a service that is not there yet begins with its catalogue
	if r, _, err := w.Review.TakeEntities(t.Context(), w.who, "fresh",
		review.Taking{Reading: review.Reading{Source: "db",
			Form: review.ReadTables,
			Tables: []schema.Table{{Name: "cranes",
				Columns: []schema.Column{{Name: "id", Type: "integer"}}}}}}); err != nil || r.Number != 1 {
		t.Errorf("a fresh service: %+v, %v", r, err)
	}
	if v, err := w.Review.ReadEntities(t.Context(), "quay", review.Reading{Source: "traffic",
		Form: review.ReadTraffic}); err != nil ||
		v.Entities != 1 {
		t.Errorf("from traffic: %+v, %v", v, err)
	}
	for name, r := range map[string]review.Reading{"nothing": {Form: "dreams"}, "no tables": {Form: review.ReadSQL,
		Text: []byte("SELECT 1")}, "broken": {Form: review.ReadSQL, Text: []byte("CREATE TABLE x (")},
		"no description": {Form: review.ReadDescription, Text: []byte("x")}} {
		if v, err := w.Review.ReadEntities(t.Context(), "quay", r); err == nil {
			t.Errorf("%s: read %v", name, v)
		}
	}
	if _, err := w.Review.ReadEntities(t.Context(), "no name!", reading); err == nil {
		t.Error("a name that is none is read for")
	}
}

func TestWhereAFieldGoesAndWhatIsCovered(t *testing.T) {
	w := newWorld(t)
	w.apply(quay(t, "endpoints:\n",
		"endpoints:\n  - {endpoint: GET /crew, responses: [{audiences: [office], entity: Skipper, many: true, "+
			"grants: {who: name}}]}\n"), 0)
	w.upload("a.har", recording(leaky))
	w.upload("b.har", strings.ReplaceAll(recording(`{"a":1}`), "/skippers/7", "/nowhere"))
	flow := func(field string) string {
		all, err := w.Review.Where(t.Context(), "quay", "Skipper", field)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, f := range all {
			out = append(out, fmt.Sprintf("%s %s %s %s", f.State, f.Endpoint, f.Audience, f.Path))
		}
		return strings.Join(out, "\n")
	}
	if got := flow("name"); got != "promised GET /crew office $[*].who\npromised GET /skippers/{id} visitor "+
		"$.name\ngranted GET /skippers/{id} office $.name" {
		t.Errorf("name goes\n%s", got)
	}
	if got := flow("password_hash"); got != "leaking GET /skippers/{id} office $.password_hash" {
		t.Errorf("the hash goes\n%s", got)
	}
	if _, err := w.Review.Where(t.Context(), "quay", "Skipper", "nothing"); err == nil {
		t.Error("a field that is not there goes somewhere")
	}
	m, err := w.Review.Map(t.Context(), "quay", review.MapFilter{})
	if err != nil || len(m.Rows) != 4 || len(m.Columns) != 4 {
		t.Fatalf("the map is %+v, %v", m, err)
	}
	states := map[string]review.FlowState{}
	for _, c := range m.Cells {
		states[m.Rows[c.Row].Field+" "+m.Columns[c.Column].Endpoint+" "+m.Columns[c.Column].Audience] = c.State
	}
	for key, want := range map[string]review.FlowState{"name GET /crew office": review.FlowPromised,
		"name GET /skippers/{id} office":          review.FlowGranted,
		"password_hash GET /skippers/{id} office": review.FlowLeaking,
		"email GET /skippers/{id} office":         ""} {
		if states[key] != want {
			t.Errorf("%s is %q, want %q", key, states[key], want)
		}
	}
	if m, _ := w.Review.Map(t.Context(), "quay", review.MapFilter{Audience: "visitor", Class: "secret",
		Team:   "accounts",
		Entity: "Skipper"}); len(m.Rows) != 1 || len(m.Columns) != 1 {
		t.Errorf("narrowed it is %+v", m)
	}
	c, err := w.Review.Coverage(t.Context(), "quay")
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]int{review.Endpoints: 3, review.WithoutContract: 1, review.Contracted: 2,
		review.NeverCaptured: 1, review.Responses: 3,
		review.NeverExercised: 2, review.Fields: 4, review.FieldsUnclassed: 0, review.AudienceEndpoints: 3,
		review.NeverTried: 2}
	for key, n := range want {
		if c.Numbers[key] != n {
			t.Errorf("%s is %d, want %d", key, c.Numbers[key], n)
		}
	}
	if len(c.Gaps) != 6 || len(c.Trend) != 1 || c.Trend[0].Day != "2026-05-01" ||
		c.Trend[0].Numbers[review.NeverTried] != 2 {
		t.Errorf("gaps are %+v, the trend %+v", c.Gaps, c.Trend)
	}
	w.clock.now = w.clock.now.Add(24 * time.Hour)
	w.upload("c.har", recording(clean, clean))
	if c, _ := w.Review.Coverage(t.Context(), "quay"); len(c.Trend) != 2 {
		t.Errorf("the trend has %d days", len(c.Trend))
	}
	all, err := w.Review.Advice(t.Context(), "quay")
	if err != nil || len(all) == 0 || all[0].Code != "disagreement" {
		t.Errorf("advice is %+v, %v", all, err)
	}
	entities, err := w.Review.Entities(t.Context(), "quay")
	if err != nil || len(entities) != 1 || entities[0].Leaks != 1 || entities[0].Endpoints != 2 {
		t.Errorf("entities are %+v, %v", entities, err)
	}
	for form, begins := range map[string]string{"openapi": "{", "typescript": "// ", "json-schema": "{"} {
		if x, err := w.Review.ExportAs(t.Context(), w.who, "quay", form); err != nil || len(x.Files) == 0 ||
			!strings.HasPrefix(x.Files[0].Text, begins) {
			t.Errorf("%s: %+v, %v", form, x, err)
		}
	}
	if _, err := w.Review.ExportAs(t.Context(), w.who, "quay", "stone"); err == nil {
		t.Error("written in a form that is none")
	}
}

func TestShapesOfAService(t *testing.T) {
	w := newWorld(t)
	two := quay(t, "responses: [{entity: Skipper, grants: {id: , name: }}]",
		"responses: [{entity: Skipper, grants: {id: , name: , email: }}]\n  - {endpoint: GET /crew, responses: "+
			"[{entity: Skipper, many: true, grants: {id: , name: , email: }}]}")
	lead := w.second(base.Lead)
	r := w.apply(two, 0)
	if _, err := w.Review.Decide(t.Context(), lead, "quay", r.Number, review.Decision{Grant: true}); err != nil {
		t.Fatal(err)
	}
	_, shapes, proposals, err := w.Review.Shapes(t.Context(), "quay")
	if err != nil || len(shapes) != 0 || len(proposals) != 1 || len(proposals[0].Places) != 2 {
		t.Fatalf("shapes %v, proposals %+v, %v", shapes, proposals, err)
	}
	trial, err := w.Review.Try(t.Context(), w.who, "quay", review.Change{PullOut: "skipper-card", Places: proposals[0]})
	if err != nil || trial.Difference.Direction != "neutral" || len(trial.Difference.Words) != 0 ||
		trial.NeedsApproval {
		t.Fatalf("pulled out: %+v, %v", trial, err)
	}
	w.apply(trial.Files, 0)
	if _, shapes, _, err := w.Review.Shapes(t.Context(), "quay"); err != nil || len(shapes) != 1 ||
		len(shapes[0].Uses) != 2 ||
		!slices.Equal(shapes[0].Touches, []string{"GET /crew", "GET /skippers/{id}"}) {
		t.Errorf("then shapes are %+v, %v", shapes, err)
	}
}
