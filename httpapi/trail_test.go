package httpapi

import (
	"database/sql"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	_ "modernc.org/sqlite"

	"inkret/api/wire"
	"inkret/service/base"
)

// changes are calls that change something, one for each kind of change, with who makes them; {made} is the id
// that the call before it gave.
var changes = []struct{ role, method, path, body, action string }{
	{base.Reviewer, "PUT", "/api/v1/services/quay/contracts", strings.Replace(worldContract("quay"),
		"grants: {id: }", "grants: {id: {optional: true}}", 1), "apply contracts"},
	{base.Reviewer, "POST", "/api/v1/services/quay/batches?name=more.har", strings.Replace(recorded(), "monday",
		"tuesday", 1) + " ", "take in recording"},
	{base.Reviewer, "POST", "/api/v1/services/quay/live", `{"name":"another"}`, "begin recording"},
	{base.Reviewer, "POST", "/api/v1/batches/2/end", ``, "end recording"},
	{base.Reviewer, "PUT", "/api/v1/batches/1/audience", `{"audience":"visitor"}`, "correct audience"},
	{base.Reviewer, "POST", "/api/v1/captures/1/reveal", `{"pointer":"/pin","reason":"for the trail"}`, "reveal"},
	{base.Viewer, "POST", "/api/v1/findings/{finding}/comments", `{"text":"a word"}`, "comment"},
	{base.Reviewer, "POST", "/api/v1/findings/{finding}/moves", `{"to":"confirmed"}`, "change findings"},
	{base.Reviewer, "POST", "/api/v1/requests",
		`{"service":"quay","endpoint":"GET /skippers","audience":"visitor","entity":"Skipper","field":"id","needed_by":"x","reason":"the list shows it"}`, "exposure requested"},
	{base.Reviewer, "POST", "/api/v1/requests/1/decision", `{"grant":false,"comment":"no"}`, "request declined"},
	{base.Reviewer, "POST", "/api/v1/services/quay/results?line=other",
		`{"inkret":1,"rules":4,"service":"quay","summary":{"captures":1,"judged":1,"skipped":0,"bytes":9,"excess_bytes":0,"by_severity":{}},"skipped":[],"findings":[]}`, "send result"},
	{base.Lead, "PUT", "/api/v1/services/quay/main-line", `{"line":"trunk"}`, "set main line"},
	{base.Lead, "PUT", "/api/v1/services/quay/credentials/visitor", `{"headers":[{"name":"X-A","value":"b"}]}`,
		"set credentials"},
	{base.Lead, "DELETE", "/api/v1/services/quay/credentials/visitor", ``, "remove credentials"},
	{base.Administrator, "PUT", "/api/v1/services/quay/keeping", `{"days":40,"bodies":true}`, "set keeping time"},
	{base.Lead, "PUT", "/api/v1/findings/due", `{"critical":1,"high":2,"medium":3,"low":4,"info":0}`,
		"due days set"},
	{base.Administrator, "POST", "/api/v1/people", `{"email":"new@quay.example","role":"viewer"}`, "invite"},
	{base.Administrator, "PATCH", "/api/v1/people/1", `{"role":"reviewer"}`, "change person"},
	{base.Administrator, "POST", "/api/v1/people/1/reset", ``, "make reset link"},
	{base.Reviewer, "POST", "/api/v1/tokens", `{"name":"x"}`, "make token"},
	{base.Administrator, "POST", "/api/v1/hooks",
		`{"name":"h","url":"http://127.0.0.1:9/x","address":"http://127.0.0.1:9"}`, "add hook"},
	{base.Lead, "POST", "/api/v1/hooks/1/test", ``, "test hook"},
	{base.Reviewer, "POST", "/api/v1/batches/2/withdrawal", `{"reason":"it was a trial"}`, "withdraw batch"},
	{base.Reviewer, "DELETE", "/api/v1/results/1", ``, "drop result"},
	{base.Viewer, "POST", "/api/v1/views", `{"name":"mine","query":"severity=high","shared":true}`, "keep view"},
	{base.Viewer, "DELETE", "/api/v1/views/1", ``, "drop view"},
	{base.Viewer, "PUT", "/api/v1/session/mail", `{"when":"never"}`, "set mailing"},
}

// database opens the file behind a site.
func (s *site) database(t *testing.T) *sql.DB {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(s.dir, "inkret.db")+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

// contents returns every row of the database as one text, except what changes by reading alone.
func contents(t *testing.T, db *sql.DB) string {
	t.Helper()
	var tables []string
	found, err := db.Query(`SELECT name FROM sqlite_master WHERE type = 'table' AND sql NOT LIKE 'CREATE VIRTUAL%' AND name NOT LIKE 'sqlite%' AND name NOT LIKE 'goose%' ORDER BY name`)
	if err != nil {
		t.Fatal(err)
	}
	for found.Next() {
		var name string
		found.Scan(&name)
		tables = append(tables, name)
	}
	found.Close()
	var b strings.Builder
	for _, table := range tables {
		if table == "coverage" { // numbers of the day, worked out again whenever they are read
			continue
		}
		all, err := db.Query(`SELECT * FROM "` + table + `"`)
		if err != nil {
			t.Fatal(err)
		}
		columns, _ := all.Columns()
		for all.Next() {
			row := make([]any, len(columns))
			for i := range row {
				row[i] = new(any)
			}
			if err := all.Scan(row...); err != nil {
				t.Fatal(err)
			}
			for i := range row {
				if columns[i] != "last_used" {
					fmt.Fprintf(&b, "%v|", *row[i].(*any))
				}
			}
			b.WriteString(table + "\n")
		}
		all.Close()
	}
	return b.String()
}

// TestNoChangeWithoutItsTrail tries each kind of change while the trail cannot be written: none may happen. Then it
// makes them and checks whom the trail names.
func TestNoChangeWithoutItsTrail(t *testing.T) {
	w := newWorld(t)
	db := w.database(t)
	fill := func(path string) string { return strings.ReplaceAll(path, "{finding}", w.finding["quay"]) }
	if _, err := db.Exec(`CREATE TRIGGER no_trail BEFORE INSERT ON trail BEGIN SELECT RAISE(ABORT, 'the trail is closed'); END`); err != nil {
		t.Fatal(err)
	}
	before := contents(t, db)
	for _, c := range changes {
		a := w.call(t, c.method, fill(c.path), w.tokens[c.role], c.body)
		if a.status < 500 && !(a.status == http.StatusNotFound && (strings.Contains(c.path, "/hooks/1") ||
			strings.Contains(c.path, "/views/1") ||
			strings.Contains(c.path, "credentials"))) {
			t.Errorf("%s happens without its entry on the trail: %d %s", c.action, a.status, a.body)
		}
		if leaked(a.body) != "" {
			t.Errorf("%s shows a value without its entry: %s", c.action, a.body)
		}
		if after := contents(t, db); after != before {
			t.Errorf("%s changes something without its entry on the trail:\n%s", c.action, changed(before, after))
			before = after
		}
	}
	if status := w.call(t, "POST", "/api/v1/session", "",
		`{"email":"viewer@quay.example","password":"low tide at nine"}`).status; status < 500 {
		t.Errorf("somebody signs in without an entry on the trail: %d", status)
	}
	if _, err := db.Exec(`DROP TRIGGER no_trail`); err != nil {
		t.Fatal(err)
	}
	for _, c := range changes {
		if a := w.call(t, c.method, fill(c.path), w.tokens[c.role], c.body); a.status >= 300 {
			t.Errorf("%s: %d %s", c.action, a.status, a.body)
			continue
		}
		e := ask[wire.TrailPage](t, w.site, "GET", "/api/v1/trail?size=1", base.Viewer, "", 200).Items[0]
		if e.Action != c.action || e.Email == nil || *e.Email != c.role+"@quay.example" || e.PersonID == nil ||
			e.Key == nil || !strings.HasPrefix(*e.Key, "token ") {
			t.Errorf("%s is on the trail as %+v", c.action, e)
		}
	}
}

// changed returns the lines in which two texts differ.
func changed(a, b string) string {
	was := map[string]bool{}
	for _, line := range strings.Split(a, "\n") {
		was[line] = true
	}
	var out []string
	for _, line := range strings.Split(b, "\n") {
		if !was[line] {
			out = append(out, line)
		}
	}
	text := strings.Join(out, "\n")
	return text[:min(len(text), 1000)]
}

// TestWhatElseIsOnTheTrail signs in and out, is refused, and takes things away.
func TestWhatElseIsOnTheTrail(t *testing.T) {
	w := newWorld(t)
	has := func(action, subject, email, detail string) {
		t.Helper()
		for _, e := range ask[wire.TrailPage](t, w.site, "GET", "/api/v1/trail?size=200", base.Viewer, "", 200).Items {
			if e.Action == action && strings.Contains(e.Subject, subject) && (e.Email == nil && email == "" ||
				e.Email != nil && *e.Email == email) && strings.Contains(e.Detail, detail) {
				return
			}
		}
		t.Errorf("the trail does not have: %s %s by %q, %s", action, subject, email, detail)
	}
	w.call(t, "POST", "/api/v1/session", "", `{"email":"viewer@quay.example","password":"wrong"}`)
	has("sign-in refused", "viewer@quay.example", "", "from 127.0.0.1")
	w.call(t, "POST", "/api/v1/session", "", `{"email":"my password by mistake","password":"wrong"}`)
	has("sign-in refused", "an unknown account", "", "from 127.0.0.1")
	in := w.call(t, "POST", "/api/v1/session", "", `{"email":"viewer@quay.example","password":"low tide at nine"}`)
	has("sign in", "viewer@quay.example", "viewer@quay.example", "from 127.0.0.1")
	cookie, _, _ := strings.Cut(in.header.Get("Set-Cookie"), ";")
	w.call(t, "DELETE", "/api/v1/session", "", "", "Cookie", cookie)
	has("sign out", "viewer@quay.example", "viewer@quay.example", "session ")
	w.call(t, "POST", "/api/v1/hooks", w.tokens[base.Reviewer], `{"name":"h","url":"https://h.example"}`)
	has("refused", "POST /api/v1/hooks", "reviewer@quay.example", "this needs the role administrator")
	for range 30 { // the same again is noted once in a while
		w.call(t, "POST", "/api/v1/hooks", w.tokens[base.Reviewer], `{"name":"h","url":"https://h.example"}`)
	}
	if p := ask[wire.TrailPage](t, w.site, "GET", "/api/v1/trail?action=refused", base.Viewer, "", 200); p.Total != 1 {
		t.Errorf("%d refusals are noted", p.Total)
	}
	w.call(t, "GET", "/api/v1/services/quay/report?format=csv", w.tokens[base.Lead], "")
	has("export report", "quay", "lead@quay.example", "")
	w.call(t, "GET", "/api/v1/services/quay/contracts/forms/openapi", w.tokens[base.Lead], "")
	has("export contracts", "quay", "lead@quay.example", "openapi")
	w.call(t, "GET", "/api/v1/services/quay/contracts", w.tokens[base.Viewer], "")
	has("export contracts", "quay", "viewer@quay.example", "as they are")
	invited := ask[wire.Invited](t, w.site, "POST", "/api/v1/people", base.Administrator,
		`{"email":"tamsin@quay.example","role":"viewer"}`, 201)
	_, code, _ := strings.Cut(invited.Link, "#")
	if a := w.call(t, "POST", "/api/v1/setup/link", "", `{"code":"`+code+`"}`); a.status != 200 ||
		!strings.Contains(a.body, `"reset":false`) {
		t.Errorf("what the link is for: %d %s", a.status, a.body)
	}
	w.call(t, "POST", "/api/v1/setup", "", `{"code":"`+code+`","name":"Tamsin","password":"driftwood and lamp oil"}`)
	has("use set-up link", "tamsin@quay.example", "tamsin@quay.example", "from 127.0.0.1")
	if a := w.call(t, "POST", "/api/v1/setup/link", "", `{"code":"`+code+`"}`); a.status != 401 {
		t.Errorf("a used link: %d %s", a.status, a.body)
	}
}
