package httpapi

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"inkret/api/wire"
	"inkret/service/base"
)

// ask calls an operation and reads its answer.
func ask[T any](t *testing.T, s *site, method, path, role, body string, status int) T {
	t.Helper()
	a := s.call(t, method, path, s.tokens[role], body)
	var out T
	if a.status != status {
		t.Fatalf("%s %s as %s: %d %s", method, path, role, a.status, a.body)
	}
	if a.body != "" {
		if err := json.Unmarshal([]byte(a.body), &out); err != nil {
			t.Fatalf("%s %s: %v in %s", method, path, err, a.body)
		}
	}
	return out
}

const quayContract = `{"files":[{"name":"q.yaml","text":"inkret: 1\nservice: quay\naudiences: [{name: visitor, recognise: {credentials: none}}]\nentities: {Skipper: {fields: {id: {type: integer, class: internal}, pin: {type: string, class: secret}}}}\nendpoints: [{endpoint: GET /skippers, responses: [{entity: Skipper, grants: {id: }}]}]\n"}]}`

func TestResultsThroughTheSurface(t *testing.T) {
	s := newSite(t)
	ask[wire.Revision](t, s, "PUT", "/api/v1/services/quay/contracts", base.Reviewer, quayContract, 200)
	result := func(service, print, severity string) string {
		return `{"inkret":1,"rules":3,"service":"` + service +
			`","summary":{"captures":3,"judged":2,"skipped":1,"bytes":900,"excess_bytes":40,"by_severity":{"high":1}},"skipped":[],
			"findings":[{"fingerprint":"` + print + `","kind":"sensitive-field","severity":"` + severity +
			`","cwe":213,"endpoint":"GET /skippers","audience":"visitor","direction":"response","status":200,"path":"$.pin","entity":"Skipper","field":"pin","class":"secret","spots":2,"captures":1,"bytes":20,"sample":"1•••","why":"not granted","first":{"file":"a.har","entry":0,"pointer":"/pin"}}]}`
	}
	first := ask[wire.ResultDetail](t, s, "POST", "/api/v1/services/quay/results?line=main&revision=4f1d",
		base.Reviewer,
		result("quay", "0123456789abcdef", "high"), 201)
	if !first.Result.Main || len(first.Fresh) != 1 || first.Fresh[0].Status != "200" || first.Against != nil ||
		first.Result.Summary.ExcessBytes != 40 || first.Result.BySeverity.High != 1 ||
		*first.URL != "http://inkret.example/results/1" {
		t.Errorf("%+v", first)
	}
	second := ask[wire.ResultDetail](t, s, "POST",
		"/api/v1/services/quay/results?line=berths&link=https%3A%2F%2Fbuilds.example%2F7", base.Reviewer,
		result("quay", "fedcba9876543210", "low"), 201)
	if second.Against.ID != 1 || len(second.Fresh) != 1 || len(second.Gone) != 1 ||
		*second.Result.Link != "https://builds.example/7" {
		t.Errorf("%+v", second)
	}
	if again := ask[wire.ResultDetail](t, s, "GET", "/api/v1/results/2", base.Viewer, "", 200); len(again.Gone) != 1 ||
		again.Gone[0].Fingerprint != "0123456789abcdef" {
		t.Errorf("%+v", again)
	}
	if list := ask[wire.ResultPage](t, s, "GET", "/api/v1/results?line=berths&service=quay", base.Viewer, "",
		200); list.Total != 1 || list.Items[0].ID != 2 {
		t.Errorf("%+v", list)
	}
	if text := s.call(t, "GET", "/api/v1/results/1", s.tokens[base.Viewer], "").body; strings.Contains(text,
		"•••") || strings.Contains(text, "not granted") {
		t.Errorf("samples are kept: %s", text)
	}
	for name, c := range map[string]struct {
		method, path, role, body string
		status                   int
		says                     string
	}{
		"of another service": {"POST", "/api/v1/services/quay/results?line=x", base.Reviewer,
			result("till", "0123456789abcdef", "high"), 400, "of the service till"},
		"no severity": {"POST", "/api/v1/services/quay/results?line=x", base.Reviewer,
			result("quay", "0123456789abcdef", "dire"), 400, "/findings/0/severity must be one of"},
		"no line": {"POST", "/api/v1/services/quay/results", base.Reviewer,
			result("quay", "0123456789abcdef", "high"), 400, "line"},
		"by a viewer": {"POST", "/api/v1/services/quay/results?line=x", base.Viewer, "{}", 403,
			"needs the role reviewer"},
		"a reviewer's main": {"PUT", "/api/v1/services/quay/main-line", base.Reviewer, `{"line":"trunk"}`, 403,
			"needs the role lead"},
		"an empty main": {"PUT", "/api/v1/services/quay/main-line", base.Lead, `{"line":" "}`, 400,
			"has a name"},
	} {
		if a := s.call(t, c.method, c.path, s.tokens[c.role], c.body); a.status != c.status ||
			!strings.Contains(a.body, c.says) {
			t.Errorf("%s: %d %s", name, a.status, a.body)
		}
	}
}

func TestTokensAndRolesThroughTheSurface(t *testing.T) {
	s := newSite(t)
	ask[wire.Revision](t, s, "PUT", "/api/v1/services/quay/contracts", base.Reviewer, quayContract, 200)
	made := ask[wire.CreatedToken](t, s, "POST", "/api/v1/tokens", base.Reviewer,
		`{"name":"nightly","scope":"record","service":"quay","days":3}`, 201)
	if made.Token.Scope != wire.Record || *made.Token.Service != "quay" {
		t.Errorf("%+v", made.Token)
	}
	s.tokens["nightly"] = made.Secret
	ask[wire.Revision](t, s, "PUT", "/api/v1/services/till/contracts", base.Reviewer, strings.ReplaceAll(quayContract,
		"service: quay", "service: till"), 200)
	for path, status := range map[string]int{"GET /api/v1/findings": 200, "POST /api/v1/services/quay/live": 201,
		"POST /api/v1/services/till/live": 403, "POST /api/v1/services/none/live": 404,
		"POST /api/v1/findings/changes": 403, "POST /api/v1/tokens": 403, "PUT /api/v1/services/quay/contracts": 403,
		"POST /api/v1/views": 403, "DELETE /api/v1/tokens/1": 403} {
		method, at, _ := strings.Cut(path, " ")
		if a := s.call(t, method, at, made.Secret, `{"name":"x"}`); a.status != status &&
			!(status == 201 && a.status < 300) {
			t.Errorf("%s with a token that records: %d %s, want %d", path, a.status, a.body, status)
		}
	}
	for _, body := range []string{`{"name":"x","scope":"sing"}`, `{"name":"x","service":"none"}`} {
		if a := s.call(t, "POST", "/api/v1/tokens", s.tokens[base.Reviewer],
			body); a.status != http.StatusBadRequest && a.status != http.StatusNotFound {
			t.Errorf("%s: %d %s", body, a.status, a.body)
		}
	}
	people := ask[[]wire.Person](t, s, "GET", "/api/v1/people", base.Viewer, "", 200)
	for _, p := range people {
		if p.Role != "viewer" {
			continue
		}
		changed := ask[wire.Person](t, s, "PATCH", "/api/v1/people/"+jsonOf(p.ID), base.Administrator,
			`{"service_roles":[{"service":"quay","role":"lead"}]}`, 200)
		if len(*changed.ServiceRoles) != 1 || *(*changed.ServiceRoles)[0].Role != "lead" {
			t.Errorf("%+v", changed)
		}
	}
	ask[struct{}](t, s, "PUT", "/api/v1/services/quay/main-line", base.Viewer, `{"line":"trunk"}`, 204)
	if a := s.call(t, "PUT", "/api/v1/findings/due", s.tokens[base.Viewer],
		`{"critical":1,"high":1,"medium":1,"low":1,"info":1}`); a.status != http.StatusForbidden {
		t.Errorf("lead at one service sets what holds for all: %d %s", a.status, a.body)
	}
}

func jsonOf(v any) string {
	text, _ := json.Marshal(v)
	return string(text)
}

func TestMailAndWaysThroughTheSurface(t *testing.T) {
	s := newSite(t)
	if m := ask[wire.Mailing](t, s, "GET", "/api/v1/session/mail", base.Viewer, "", 200); m.When != "daily" ||
		m.Server {
		t.Errorf("to begin with %+v", m)
	}
	ask[struct{}](t, s, "PUT", "/api/v1/session/mail", base.Viewer, `{"when":"at-once"}`, 204)
	if m := ask[wire.Mailing](t, s, "GET", "/api/v1/session/mail", base.Viewer, "", 200); m.When != "at-once" {
		t.Errorf("then %+v", m)
	}
	if a := s.call(t, "PUT", "/api/v1/session/mail", s.tokens[base.Viewer],
		`{"when":"hourly"}`); a.status != http.StatusBadRequest {
		t.Errorf("hourly: %d %s", a.status, a.body)
	}
	if a := s.call(t, "POST", "/api/v1/session/mail/test", s.tokens[base.Viewer],
		""); a.status != http.StatusConflict || !strings.Contains(a.body, "--mail-server") {
		t.Errorf("without a server: %d %s", a.status, a.body)
	}
	if a := s.call(t, "GET", "/api/v1/session/ways", "", ""); a.status != 200 || strings.TrimSpace(a.body) != "{}" {
		t.Errorf("ways to sign in: %d %s", a.status, a.body)
	}
	if a := s.call(t, "GET", "/api/v1/session/openid", "", ""); a.status != http.StatusNotFound ||
		!strings.Contains(a.body, "no provider") {
		t.Errorf("without a provider: %d %s", a.status, a.body)
	}
	s.Client().CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	if a := s.call(t, "GET", "/api/v1/session/openid/done?code=x&state=y", "", "", "Cookie",
		"inkret_sign_in=AAAA"); a.status != http.StatusSeeOther ||
		a.header.Get("Location") != "/sign-in?refused=sign-in-expired" || a.header.Get("Set-Cookie") != "" {
		t.Errorf("a forged ticket: %d %v", a.status, a.header)
	}
	view := ask[wire.SavedView](t, s, "POST", "/api/v1/views", base.Viewer,
		`{"name":"Grave","query":"severity=critical","shared":true}`, 201)
	ask[struct{}](t, s, "PUT", "/api/v1/views/"+jsonOf(view.ID)+"/follow", base.Reviewer, "", 204)
	if all := ask[[]wire.SavedView](t, s, "GET", "/api/v1/views", base.Reviewer, "", 200); len(all) != 1 ||
		!all[0].Follows || all[0].Own {
		t.Errorf("views %+v", all)
	}
	ask[struct{}](t, s, "DELETE", "/api/v1/views/"+jsonOf(view.ID)+"/follow", base.Reviewer, "", 204)
	if a := s.call(t, "PUT", "/api/v1/views/99/follow", s.tokens[base.Viewer], ""); a.status != http.StatusNotFound {
		t.Errorf("a view that is not there: %d %s", a.status, a.body)
	}
}

func TestReportsThroughTheSurface(t *testing.T) {
	s := newSite(t)
	ask[wire.Revision](t, s, "PUT", "/api/v1/services/quay/contracts", base.Reviewer, quayContract, 200)
	har := `{"log":{"version":"1.2","entries":[{"startedDateTime":"2026-05-01T10:00:00Z","request":{"method":"GET","url":"https://q.example/skippers","headers":[]},"response":{"status":200,"headers":[],"content":{"mimeType":"application/json","text":"{\"id\":1,\"pin\":\"4471-tide\"}"}}}]}}`
	if a := s.call(t, "POST", "/api/v1/services/quay/batches?name=a.har", s.tokens[base.Reviewer], har,
		"Content-Type", "application/octet-stream"); a.status != 200 {
		t.Fatalf("%d %s", a.status, a.body)
	}
	for format, begins := range map[string]string{"html": "<!doctype html>", "sarif": "{", "junit": "<?xml", "csv": "",
		"markdown": "###", "json": "{"} {
		a := s.call(t, "GET", "/api/v1/services/quay/report?format="+format+"&filter=state%3Dany",
			s.tokens[base.Viewer], "")
		if a.status != 200 || !strings.HasPrefix(strings.TrimSpace(a.body), begins) ||
			!strings.Contains(a.body, "GET /skippers") || !strings.HasPrefix(a.header.Get("Content-Disposition"),
			`attachment; filename="quay-`) ||
			a.header.Get("Content-Type") != "application/octet-stream" || strings.Contains(a.body, "4471-tide") {
			t.Errorf("as %s: %d %v\n%.200s", format, a.status, a.header, a.body)
		}
	}
	for path, status := range map[string]int{"quay/report?format=pdf": 400, "quay/report": 400,
		"none/report?format=csv": 404, "quay/report?format=csv&filter=colour%3Dred": 400,
		"quay/report?format=csv&filter=%25zz": 400, "quay/report?format=csv&fail_on=dire": 400} {
		if a := s.call(t, "GET", "/api/v1/services/"+path, s.tokens[base.Viewer], ""); a.status != status ||
			a.header.Get("Content-Disposition") != "" {
			t.Errorf("%s: %d %s", path, a.status, a.body)
		}
	}
	groups := ask[wire.FindingGroups](t, s, "GET", "/api/v1/findings/groups?by=field&filter=state%3Dany", base.Viewer,
		"",
		200)
	if len(groups.Groups) != 1 || groups.Groups[0].Name != "Skipper.pin" || groups.Groups[0].BySeverity.Critical != 1 {
		t.Errorf("%+v", groups)
	}
	list := ask[wire.FindingPage](t, s, "GET", "/api/v1/findings?"+groups.Groups[0].Query, base.Viewer, "", 200)
	if list.Total != 1 {
		t.Errorf("its list has %d", list.Total)
	}
	for _, path := range []string{"/api/v1/findings/groups?by=colour", "/api/v1/findings/groups",
		"/api/v1/findings?value=1;DROP", "/api/v1/findings?shape=none"} {
		if a := s.call(t, "GET", path, s.tokens[base.Viewer], ""); a.status != http.StatusBadRequest {
			t.Errorf("%s: %d %s", path, a.status, a.body)
		}
	}
}
