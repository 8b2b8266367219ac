package service

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"inkret/core/finding"
	"inkret/service/base"
	"inkret/service/review"
	"inkret/store"
)

// TestAddressesBecomeOneEndpoint records many addresses without a contract. They are proposed as one endpoint;
// once they are one, their findings are, with all that was decided of any of them, and what comes later is seen
// as the same.
func TestAddressesBecomeOneEndpoint(t *testing.T) {
	w := newWorld(t)
	people := []string{"anna", "bert", "carl", "dora", "emil"}
	body := func(who string) string {
		return fmt.Sprintf(`{"login":%q,"level":"12","email":"%s@sails.example"}`, who, who)
	}
	for i, who := range people {
		w.upload(fmt.Sprintf("%d.lines", i), lineAt("/people/"+who, body(who))+lineAt("/people/"+who+"/boats",
			`[{"hull":"oak","label":"x","email":"bo@sails.example"}]`))
	}
	w.upload("other.lines", lineAt("/tides", `{"high":3}`)+lineAt("/winds", `{"sea":"calm"}`))
	of := func(path, endpoint string) (all []base.Finding) {
		for _, f := range w.findings() {
			if f.Path == path && strings.HasPrefix(f.Endpoint, endpoint) {
				all = append(all, f)
			}
		}
		return all
	}
	mails := of("$.email", "GET /people/")
	if len(mails) != len(people) {
		t.Fatalf("%d findings of addresses of mail", len(mails))
	}
	var bert base.Finding
	for _, f := range mails {
		if f.Endpoint == "GET /people/bert" {
			bert = f
		}
	}
	if _, err := w.Findings.Move(t.Context(), w.who, bert.ID, finding.Move{To: finding.Confirmed}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Findings.Comment(t.Context(), w.who, bert.ID, "the list of people knows"); err != nil {
		t.Fatal(err)
	}
	proposed, err := w.Review.Alike(t.Context(), "quay")
	if err != nil || len(proposed) != 2 {
		t.Fatalf("proposed are %+v, %v", proposed, err)
	}
	for _, p := range proposed {
		if !slices.Contains([]string{"GET /people/{people_id}", "GET /people/{people_id}/boats",
			"GET /people/{person_id}",
			"GET /people/{person_id}/boats"}, p.Endpoint) || len(p.Endpoints) != len(people) ||
			p.Captures != len(people) {
			t.Errorf("proposed is %+v", p)
		}
	}
	if _, err := w.Review.MakeOne(t.Context(), w.who, "quay", "GET /nothing/{x}"); code(err) != base.NotFound {
		t.Errorf("nothing is made one: %v", err)
	}
	short := proposed[slices.IndexFunc(proposed, func(p review.Alike) bool {
		return !strings.HasSuffix(p.Endpoint,
			"boats")
	})]
	r, err := w.Review.MakeOne(t.Context(), w.who, "quay", short.Endpoint)
	if err != nil || r.State != store.InForce {
		t.Fatalf("made one: %+v, %v", r, err)
	}
	one := of("$.email", "GET /people/")
	if len(one) != 1 || one[0].Endpoint != short.Endpoint || one[0].State != "confirmed" ||
		one[0].Captures != len(people) {
		t.Fatalf("the findings are %+v", one)
	}
	v, err := w.Findings.Finding(t.Context(), w.who, one[0].ID)
	if err != nil || !slices.ContainsFunc(v.History, func(e store.Event) bool {
		return strings.Contains(e.Comment,
			"list of people")
	}) ||
		len(v.Evidence) != len(people) {
		t.Errorf("its history is %+v with %d pieces of evidence, %v", v.History, len(v.Evidence), err)
	}
	for _, f := range w.findings() {
		if f.Kind == "unknown-endpoint" && finding.State(f.State).Open() && covered(f.Endpoint) {
			t.Errorf("%s is still unknown: %s", f.Endpoint, f.State)
		}
	}
	w.agrees()
	if w.upload("later.lines", lineAt("/people/fred", body("fred"))); len(of("$.email", "GET /people/")) != 1 {
		t.Errorf("what comes later is another finding")
	}
	w.agrees()
	if proposed, err = w.Review.Alike(t.Context(), "quay"); err != nil || len(proposed) != 1 {
		t.Errorf("then proposed are %+v, %v", proposed, err)
	}
}

// covered reports whether an endpoint is one of a person, and not of their boats.
func covered(endpoint string) bool {
	return strings.HasPrefix(endpoint, "GET /people/") && !strings.HasSuffix(endpoint, "/boats")
}
