package httpapi

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"

	"inkret/api"
	"inkret/api/wire"
	"inkret/core/finding"
)

// TestFiltersOfChangesAreThoseOfTheList reads the same words, and refuses what it does not know.
func TestFiltersOfChangesAreThoseOfTheList(t *testing.T) {
	s := newSite(t)
	for filter, want := range map[string]string{
		"": "", "?state=any&severity=critical,high&kind=secret-value&q=a b&sort=-path&page=2&size=5": "",
		"assigned=me&due=over&label=Q2": "", "assigned=nobody&due=2027-03-31&batch=7": "",
		"assigned=team:moorings&team=accounts&entity=E&field=f&audience=visitor&endpoint=x": "",
		"assigned=viewer@quay.example": "",
		"colour=red":                   "no filter colour", "state=lost": "no state lost", "kind=leak": "no kind leak",
		"severity=dire": "no severity dire", "due=soon": "`over`, or a day", "batch=x": "by its number",
		"assigned=nobody@nowhere.example": "nobody with the e-mail address", "%zz": "no query",
	} {
		body, _ := json.Marshal(map[string]any{"filter": filter, "add_labels": []string{"q2"}, "try": true})
		a := s.call(t, "POST", "/api/v1/findings/changes", s.tokens["reviewer"], string(body))
		if want == "" && a.status != http.StatusOK || want != "" && (a.status != http.StatusBadRequest &&
			a.status != http.StatusUnprocessableEntity || !strings.Contains(a.body, want)) {
			t.Errorf("%q: %d %s", filter, a.status, a.body)
		}
	}
	for _, body := range []string{`{"to":"confirmed"}`, `{"ids":["0123456789abcdef"],"filter":"","to":"confirmed"}`} {
		if a := s.call(t, "POST", "/api/v1/findings/changes", s.tokens["reviewer"], body); !strings.Contains(a.body,
			"either `ids` or a `filter`") {
			t.Errorf("%s: %d %s", body, a.status, a.body)
		}
	}
}

func TestSharedThingsThroughTheSurface(t *testing.T) {
	s := newSite(t)
	get := func(path, role string, into any) {
		t.Helper()
		a := s.call(t, "GET", path, s.tokens[role], "")
		if a.status != http.StatusOK {
			t.Fatalf("%s: %d %s", path, a.status, a.body)
		}
		if err := json.Unmarshal([]byte(a.body), into); err != nil {
			t.Fatal(err)
		}
	}
	var due wire.BySeverity
	get("/api/v1/findings/due", "viewer", &due)
	if due != (wire.BySeverity{Critical: 3, High: 14, Medium: 60}) {
		t.Errorf("due within %+v", due)
	}
	if a := s.call(t, "PUT", "/api/v1/findings/due", s.tokens["lead"],
		`{"critical":1,"high":2,"medium":3,"low":4,"info":5}`); a.status != http.StatusOK {
		t.Errorf("%d %s", a.status, a.body)
	}
	if get("/api/v1/findings/due", "viewer", &due); due != (wire.BySeverity{Critical: 1, High: 2, Info: 5, Low: 4,
		Medium: 3}) {
		t.Errorf("due within %+v", due)
	}
	if a := s.call(t, "POST", "/api/v1/views", s.tokens["viewer"],
		`{"name":"mine","query":"?assigned=me","shared":true}`); a.status != http.StatusCreated ||
		!strings.Contains(a.body, `"query":"assigned=me"`) {
		t.Errorf("%d %s", a.status, a.body)
	}
	if a := s.call(t, "POST", "/api/v1/views", s.tokens["viewer"],
		`{"name":"mine","query":"colour=red"}`); a.status < 400 {
		t.Errorf("a view of a filter that is none: %d %s", a.status, a.body)
	}
	var views []wire.SavedView
	if get("/api/v1/views", "lead", &views); len(views) != 1 || views[0].Own || views[0].Author != "viewer" {
		t.Errorf("views %+v", views)
	}
	var notices wire.NoticePage
	if get("/api/v1/notices", "viewer", &notices); notices.Total != 0 || notices.Items == nil {
		t.Errorf("notices %+v", notices)
	}
	var requests wire.RequestPage
	if get("/api/v1/requests?state=open,declined&mine=true", "viewer", &requests); requests.Total != 0 ||
		requests.Items == nil {
		t.Errorf("requests %+v", requests)
	}
	if a := s.call(t, "GET", "/api/v1/requests?state=lost", s.tokens["viewer"], ""); a.status < 400 ||
		!strings.Contains(a.body, "no state lost") {
		t.Errorf("%d %s", a.status, a.body)
	}
}

// TestTheDescriptionHasEveryFilter compares the parameters of the list of findings in the description with the
// filters that there are.
func TestTheDescriptionHasEveryFilter(t *testing.T) {
	all, err := api.Operations()
	if err != nil {
		t.Fatal(err)
	}
	at := slices.IndexFunc(all, func(o api.Operation) bool { return o.ID == "listFindings" })
	var described []string
	for _, p := range all[at].Query {
		described = append(described, p.Name)
	}
	want := []string{"page", "size"}
	for _, f := range finding.Filters() {
		want = append(want, f.Name)
	}
	slices.Sort(described)
	slices.Sort(want)
	if !slices.Equal(described, want) {
		t.Errorf("the description has %v, the filters are %v", described, want)
	}
}
