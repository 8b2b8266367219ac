package httpapi

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"inkret/api"
	"inkret/api/wire"
	"inkret/service"
	"inkret/service/base"
)

// site is the surface on loopback, with a token for each role.
type site struct {
	*httptest.Server
	tokens  map[string]string
	stop    func() // as when the service stops
	service *service.Service
	dir     string
}

func newSite(t *testing.T) *site {
	t.Helper()
	dir := t.TempDir()
	s, err := service.Open(t.Context(), service.Options{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	console := fstest.MapFS{
		"index.html":    {Data: []byte(`<meta name="inkret-nonce" content="` + nonceMark + `">`)},
		"assets/app.js": {Data: []byte("1")},
		"assets/big.js": {Data: bytes.Repeat([]byte("let tide = 'low';\n"), 1000)},
	}
	stopping := make(chan struct{})
	h, err := NewHandler(s, Options{Version: "test", Console: console, Public: "http://inkret.example",
		Stopping: stopping})
	if err != nil {
		t.Fatal(err)
	}
	out := &site{httptest.NewServer(h), map[string]string{}, sync.OnceFunc(func() { close(stopping) }), s, dir}
	t.Cleanup(func() { out.stop(); out.Close() })
	for _, role := range []string{base.Viewer, base.Reviewer, base.Lead, base.Administrator} {
		p, err := s.People.AddPerson(t.Context(), role, role+"@quay.example", role, "low tide at nine")
		if err != nil {
			t.Fatal(err)
		}
		if _, out.tokens[role], err = s.People.NewToken(t.Context(), base.Caller{}, p, base.Key{Name: "test"},
			0); err != nil {
			t.Fatal(err)
		}
	}
	return out
}

// answer is a response, read.
type answer struct {
	status int
	header http.Header
	body   string
}

func (s *site) call(t *testing.T, method, path, token, body string, headers ...string) answer {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, s.URL+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	response, err := s.Client().Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	data, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return answer{response.StatusCode, response.Header, string(data)}
}

// path fills the parameters of an operation's path.
func path(op api.Operation) string {
	return strings.NewReplacer("{service}", "none", "{finding_id}", "0123456789abcdef", "{endpoint_id}", "x",
		"{capture_id}", "1", "{batch_id}", "1", "{token_id}", "99", "{chunk}", "1", "{audience}", "x", "{number}", "1",
		"{form}", "schema", "{person_id}", "99", "{hook_id}", "99", "{delivery_id}", "99", "{session_id}", "99",
		"{change_id}", "99", "{draft_id}", "99", "{view_id}", "99", "{request_id}", "99", "{result_id}", "99",
		"{mail_id}",
		"99").Replace(op.Path)
}

// TestEveryOperationHoldsItsRole calls every operation as a stranger, with a
// token that is wrong, and as each role.
func TestEveryOperationHoldsItsRole(t *testing.T) {
	s := newSite(t)
	operations, err := api.Operations()
	if err != nil {
		t.Fatal(err)
	}
	if len(operations) < 20 {
		t.Fatalf("only %d operations are described", len(operations))
	}
	open := map[string]bool{"getHealth": true, "signIn": true, "setUp": true, "readLink": true, "getReadiness": true,
		"createToken": true, "getWays": true, "beginOpenID": true, "finishOpenID": true}
	for _, op := range operations {
		method := strings.ToUpper(op.Method)
		if (op.Role == "none") != open[op.ID] {
			t.Errorf("%s needs the role %s", op.ID, op.Role)
		}
		if op.ID == "signOut" {
			continue // it would end the token that the other calls use
		}
		for _, token := range []string{"", "inkret_wrong"} {
			a := s.call(t, method, path(op), token, "")
			if op.Role == "none" {
				continue
			}
			var p wire.Problem
			if a.status != http.StatusUnauthorized || a.header.Get("Content-Type") != "application/problem+json" ||
				json.Unmarshal([]byte(a.body), &p) != nil || p.Status != a.status ||
				p.Title != "Unauthorized" || a.header.Get("WWW-Authenticate") == "" {
				t.Errorf("%s with token %q gives %d, %s: %s", op.ID, token, a.status, a.header.Get("Content-Type"),
					a.body)
			}
		}
		if op.ID == "watchLive" {
			continue // it does not end; TestWatching watches
		}
		for role, token := range s.tokens {
			a := s.call(t, method, path(op), token, "")
			if may := op.Role == "none" || base.May(role, op.Role); may == (a.status == http.StatusForbidden) {
				t.Errorf("%s as %s gives %d", op.ID, role, a.status)
			}
			if a.status >= 500 {
				t.Errorf("%s as %s gives %d: %s", op.ID, role, a.status, a.body)
			}
		}
	}
}

func TestProblems(t *testing.T) {
	s := newSite(t)
	viewer, reviewer := s.tokens[base.Viewer], s.tokens[base.Reviewer]
	for _, c := range []struct {
		name, method, path, token, body string
		status                          int
		want                            string
	}{
		{"no such page of the API", "GET", "/api/v1/nothing", viewer, "", 404, "Not Found"},
		{"no such finding", "GET", "/api/v1/findings/0123456789abcdef", viewer, "", 404,
			"there is no finding 0123456789abcdef"},
		{"a state that is none", "GET", "/api/v1/findings?state=asleep", viewer, "", 400, "there is no state asleep"},
		{"a severity that is none", "GET", "/api/v1/findings?severity=dire", viewer, "", 400,
			"there is no severity dire"},
		{"a kind that is none", "GET", "/api/v1/findings?kind=x", viewer, "", 400, "there is no kind x"},
		{"page 0", "GET", "/api/v1/findings?page=0", viewer, "", 400,
			"the parameter page must be between 1 and 1000000"},
		{"too large a page", "GET", "/api/v1/captures?size=501", viewer, "", 400,
			"the parameter size must be between 1 and 500"},
		{"a page that is no number", "GET", "/api/v1/batches?page=x", viewer, "", 400, "page"},
		{"JSON that is none", "POST", "/api/v1/session", "", "{", 400, "Bad Request"},
		{"a wrong password", "POST", "/api/v1/session", "", `{"email":"viewer@quay.example","password":"x"}`, 401,
			"e-mail address or password is wrong"},
		{"a used link", "POST", "/api/v1/setup", "",
			`{"code":"x","name":"A","email":"a@b.example","password":"long enough for it"}`, 401,
			"this link was used already"},
		{"a token for nobody", "POST", "/api/v1/tokens", "", `{"name":"x"}`, 401, "needs somebody who is signed in"},
		{"a token for too long", "POST", "/api/v1/tokens", viewer, `{"name":"x","days":1000}`, 400,
			"the member /days must be between 1 and 366"},
		{"no such service", "GET", "/api/v1/services/none/contracts", viewer, "", 404, "there is no service"},
		{"a recording for no service", "POST", "/api/v1/services/none/batches?name=x", reviewer, "{}", 404,
			"there is no service"},
		{"a recording without a name", "POST", "/api/v1/services/none/batches", reviewer, "{}", 400, "name"},
		{"a page beyond the last", "GET", "/api/v1/findings?page=99999999", viewer, "", 400,
			"the parameter page must be between 1 and 1000000"},
		{"a trial for no service", "POST", "/api/v1/services/none/contracts/trial", viewer, "{}", 404,
			"there is no service"},
		{"a merge for no service", "POST", "/api/v1/services/none/contracts/merge", viewer, `{"base":1,"files":[]}`,
			404, "there is no revision 1"},
		{"a draft for no service", "POST", "/api/v1/services/none/contracts/drafts", viewer, `{"from":"captures"}`, 404,
			"there is no service"},
		{"a map for no service", "GET", "/api/v1/services/none/exposure", viewer, "", 404, "there is no service"},
		{"a reading of nothing", "POST", "/api/v1/services/none/readings", viewer,
			`{"source":"x.sql","form":"sql","text":"SELECT 1"}`, 404, "there is no service"},
		{"a revision that is not there", "GET", "/api/v1/services/none/revisions/3", viewer, "", 404,
			"there is no revision 3"},
		{"a viewer who classes", "POST", "/api/v1/services/none/fields", viewer, `{"fields":[]}`, 403,
			"this needs the role reviewer"},
		{"a reviewer who approves", "POST", "/api/v1/services/none/revisions/1/decision", reviewer, `{"approve":true}`,
			403, "this needs the role lead"},
		{"a sorting that is none", "GET", "/api/v1/captures?sort=beauty", viewer, "", 400,
			"the parameter sort must be one of: newest, recorded, bytes, excess, findings"},
		{"a status that is none", "GET", "/api/v1/captures?status=900", viewer, "", 400,
			"the parameter status has a form that is not allowed here"},
		{"a size below nothing", "GET", "/api/v1/captures?least_bytes=-1", viewer, "", 400,
			"the parameter least_bytes must be at least 0"},
		{"a time that is none", "GET", "/api/v1/captures?since=yesterday", viewer, "", 400, "since"},
		{"a chunk of a batch that is not there", "PUT", "/api/v1/batches/7/chunks/1", reviewer, "{}", 404,
			"there is no batch 7"},
		{"a misspelt filter", "GET", "/api/v1/findings?search=hash", viewer, "", 400,
			`there is no parameter \"search\" here`},
		{"a filter that is there twice", "GET", "/api/v1/findings?kind=secret-value&kind=x", viewer, "", 400,
			"the parameter kind is there 2 times"},
		{"a parameter where there is none", "GET", "/api/v1/kinds?q=x", viewer, "", 400, "this address takes none"},
		{"a misspelt dry run", "POST", "/api/v1/findings/changes", reviewer,
			`{"ids":["0123456789abcdef"],"to":"confirmed","tyr":true}`, 400, "there is no member /tyr here"},
		{"a dry run in capitals", "POST", "/api/v1/findings/changes", reviewer,
			`{"ids":["0123456789abcdef"],"to":"confirmed","TRY":true}`, 400, "there is no member /TRY here"},
		{"a member that answers have", "PATCH", "/api/v1/people/1", s.tokens[base.Administrator],
			`{"kept_out":true}`, 400, "there is no member /kept_out here"},
		{"a member deep inside", "PUT", "/api/v1/services/s/contracts", reviewer,
			`{"files":[{"name":"a","text":"","mode":1}]}`, 400, "there is no member /files/0/mode here"},
		{"a comment without end", "POST", "/api/v1/findings/0123456789abcdef/comments", viewer, `{"text":"` +
			strings.Repeat("ebb ", 75_000) + `"}`, 400, "the member /text must have at most 10000 characters"},
		{"a comment of the wrong type", "POST", "/api/v1/findings/0123456789abcdef/comments", viewer, `{"text":7}`, 400,
			"the member /text must be a string"},
		{"a comment that is null", "POST", "/api/v1/findings/0123456789abcdef/comments", viewer, `{"text":null}`, 400,
			"the member /text must not be null"},
		{"a list for a body", "POST", "/api/v1/findings/0123456789abcdef/comments", viewer, `[]`, 400,
			"the body must be an object"},
		{"no body", "POST", "/api/v1/findings/0123456789abcdef/comments", viewer, "", 400, "has no body"},
		{"an escape that is none", "GET", "/api/v1/findings?q=%zz", viewer, "", 400,
			"the query of the address cannot be read"},
		{"a recorder for no service", "POST", "/api/v1/services/none/live", reviewer, `{"name":"x"}`, 404,
			"there is no service"},
		{"a call again of nothing", "POST", "/api/v1/repeats", reviewer, `{}`, 400, "say which calls"},
		{"a call again that is not there", "POST", "/api/v1/repeats", reviewer, `{"capture":7}`, 404,
			"there is no capture 7"},
		{"credentials of nothing", "PUT", "/api/v1/services/none/credentials/x", s.tokens[base.Lead],
			`{"headers":[]}`, 400, "the member /headers must not be empty"},
		{"a keeping time of no service", "PUT", "/api/v1/services/none/keeping", s.tokens[base.Administrator],
			`{"days":1,"bodies":true}`, 404, "there is no service"},
		{"a withdrawal of nothing", "POST", "/api/v1/batches/7/withdrawal", reviewer, `{"reason":"x"}`, 404,
			"there is no batch 7"},
		{"a value of nothing", "POST", "/api/v1/captures/7/reveal", reviewer, `{"pointer":"/a","reason":"to see it"}`,
			404, "there is no capture 7"},
		{"a contract with a problem", "PUT", "/api/v1/services/s/contracts", reviewer,
			`{"files":[{"name":"a.yaml","text":"inkret: 1\nservice: s\nentitys: {}"}]}`, 422, `"near":"entities"`},
	} {
		a := s.call(t, c.method, c.path, c.token, c.body)
		if a.status != c.status || !strings.Contains(a.body, c.want) ||
			a.header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d %s %s; want %d, %q", c.name, a.status, a.header.Get("Content-Type"), a.body, c.status,
				c.want)
		}
	}
}

func TestSessionsAreCookies(t *testing.T) {
	s := newSite(t)
	a := s.call(t, "POST", "/api/v1/session", "", `{"email":"viewer@quay.example","password":"low tide at nine"}`)
	set := a.header.Get("Set-Cookie")
	if a.status != 200 || !strings.HasPrefix(set, sessionCookie+"=") || !strings.Contains(set, "HttpOnly") ||
		!strings.Contains(set, "SameSite=Strict") || !strings.Contains(set, "Path=/") {
		t.Fatalf("signing in gives %d and the cookie %q", a.status, set)
	}
	cookie, _, _ := strings.Cut(set, ";")
	if a := s.call(t, "GET", "/api/v1/session", "", "", "Cookie", cookie); a.status != 200 ||
		!strings.Contains(a.body, "viewer@quay.example") {
		t.Errorf("with the cookie: %d %s", a.status, a.body)
	}
	if a := s.call(t, "DELETE", "/api/v1/session", "", "", "Cookie", cookie, "Sec-Fetch-Site",
		"cross-site"); a.status != http.StatusForbidden {
		t.Errorf("another site may sign out: %d", a.status)
	}
	if a := s.call(t, "DELETE", "/api/v1/session", "", "", "Cookie", cookie); a.status != 204 ||
		!strings.Contains(a.header.Get("Set-Cookie"), "Max-Age=0") {
		t.Errorf("signing out gives %d, %q", a.status, a.header.Get("Set-Cookie"))
	}
	if a := s.call(t, "GET", "/api/v1/session", "", "", "Cookie", cookie); a.status != 401 {
		t.Errorf("after signing out: %d", a.status)
	}
}

func TestTheConsoleIsServedUnderAStrictPolicy(t *testing.T) {
	s := newSite(t)
	seen := map[string]bool{}
	for _, address := range []string{"/", "/findings/0123456789abcdef", "/index.html"} {
		a := s.call(t, "GET", address, "", "", "Accept", "text/html,application/xhtml+xml;q=0.9,*/*;q=0.8")
		policy := a.header.Get("Content-Security-Policy")
		_, rest, _ := strings.Cut(policy, "'nonce-")
		nonce, _, _ := strings.Cut(rest, "'")
		if a.status != 200 || nonce == "" || !strings.Contains(a.body, `content="`+nonce+`"`) || seen[nonce] {
			t.Errorf("%s gives %d, policy %q, body %s", address, a.status, policy, a.body)
		}
		seen[nonce] = true
		for _, never := range []string{"unsafe-inline", "unsafe-eval", "*"} {
			if strings.Contains(policy, never) {
				t.Errorf("the policy of %s has %s", address, never)
			}
		}
		for name, want := range map[string]string{"X-Content-Type-Options": "nosniff", "Referrer-Policy": "no-referrer",
			"Cache-Control": "no-store"} {
			if a.header.Get(name) != want {
				t.Errorf("%s has %s %q", address, name, a.header.Get(name))
			}
		}
	}
	if a := s.call(t, "GET", "/assets/app.js", "", ""); a.status != 200 || a.body != "1" ||
		!strings.Contains(a.header.Get("Cache-Control"), "immutable") {
		t.Errorf("a script gives %d %q, kept as %q", a.status, a.body, a.header.Get("Cache-Control"))
	}
	for _, address := range []string{"/assets/none.js", "/assets/../../etc/passwd"} {
		if a := s.call(t, "GET", address, "", ""); a.status == 200 && !strings.Contains(a.body, "inkret-nonce") {
			t.Errorf("%s gives %s", address, a.body)
		}
	}
}

// TestAddressesNobodyKnows are pages for a browser that shows one, and missing for everybody else.
func TestAddressesNobodyKnows(t *testing.T) {
	s := newSite(t)
	for _, address := range []string{"/nothing", "/findings/0123456789abcdef", "/api", "/api/v2/findings", "/metric",
		"/.env", "/healthz/", "/wp-login.php"} {
		for _, accept := range []string{"", "*/*", "application/json"} {
			if a := s.call(t, "GET", address, "", "", "Accept", accept); a.status != 404 {
				t.Errorf("%s for a program that accepts %q: %d", address, accept, a.status)
			}
		}
		page := s.call(t, "GET", address, "", "", "Accept", "text/html")
		if shown := !strings.HasPrefix(address, "/api/"); shown != (page.status == 200) {
			t.Errorf("%s for a browser: %d", address, page.status)
		}
	}
}

func TestInvitations(t *testing.T) {
	s := newSite(t)
	a := s.call(t, "POST", "/api/v1/people", s.tokens[base.Administrator],
		`{"email":"iva@quay.example","role":"viewer"}`)
	var invited wire.Invited
	if err := json.Unmarshal([]byte(a.body), &invited); err != nil || a.status != 201 ||
		!strings.HasPrefix(invited.Link, "http://inkret.example/set-up#") || !invited.Person.Pending {
		t.Fatalf("inviting gives %d %s", a.status, a.body)
	}
	_, code, _ := strings.Cut(invited.Link, "#")
	if a := s.call(t, "POST", "/api/v1/setup", "", `{"code":"`+code+
		`","name":"Iva","password":"long enough for it"}`); a.status != 200 || a.header.Get("Set-Cookie") == "" {
		t.Errorf("setting up gives %d %s", a.status, a.body)
	}
	if a := s.call(t, "GET", "/api/v1/people", s.tokens[base.Viewer], ""); !strings.Contains(a.body, `"Iva"`) {
		t.Errorf("people: %s", a.body)
	}
}

// TestScriptsArePackedAndAnswersAreNot checks that what a browser loads first is small, and that answers of the API
// are not compressed, since their length would depend on their content.
func TestScriptsArePackedAndAnswersAreNot(t *testing.T) {
	s := newSite(t)
	a := s.call(t, "GET", "/assets/big.js", "", "", "Accept-Encoding", "gzip")
	in, err := gzip.NewReader(strings.NewReader(a.body))
	if err != nil || a.header.Get("Content-Encoding") != "gzip" || len(a.body) > 1000 ||
		!strings.Contains(a.header.Get("Vary"), "Accept-Encoding") {
		t.Fatalf("a script is sent as %v, %d bytes, %v", a.header, len(a.body), err)
	}
	if text, err := io.ReadAll(in); err != nil || len(text) != 18_000 {
		t.Errorf("unpacked it has %d bytes, %v", len(text), err)
	}
	if a := s.call(t, "GET", "/assets/big.js", "", "", "Accept-Encoding",
		"identity"); a.header.Get("Content-Encoding") != "" || len(a.body) != 18_000 {
		t.Errorf("to one who unpacks nothing it is sent as %v, %d bytes", a.header, len(a.body))
	}
	if a := s.call(t, "GET", "/api/v1/people", s.tokens[base.Viewer], "", "Accept-Encoding",
		"gzip"); a.status != 200 || a.header.Get("Content-Encoding") != "" {
		t.Errorf("an answer is packed: %v", a.header)
	}
}
