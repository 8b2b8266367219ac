package cli

import (
	"strings"
	"testing"
)

// TestChangesAreAskedForAsSaid checks the request that each flag leads to.
func TestChangesAreAskedForAsSaid(t *testing.T) {
	a := answering(t, 200, `{"at":"2027-03-31T08:00:00Z","author":"Noor","words":"to confirmed","matched":3,"findings":2,"left":1,"id":5,"refused":[{"id":"00ff","why":"it is so already"}],"reasons":[{"why":"it is so already","findings":1}]}`)
	for flags, want := range map[string]string{
		"--filter state=new --to confirmed":                      `{"filter":"state=new","to":"confirmed"}`,
		"--filter q=x --to waived --until 2027-03-31 -m because": `{"comment":"because","filter":"q=x","to":"waived","until":"2027-03-31"}`,
		"9f2c51d07a3be846 0b7d51d07a3be846 --assign me":          `{"ids":["9f2c51d07a3be846","0b7d51d07a3be846"],"person":"me"}`,
		"9f2c51d07a3be846 --team moorings --due 2027-04-01":      `{"due":"2027-04-01","ids":["9f2c51d07a3be846"],"team":"moorings"}`,
		"9f2c51d07a3be846 --team - --due never":                  `{"due":"","ids":["9f2c51d07a3be846"],"team":""}`,
		"9f2c51d07a3be846 --label a --label b --unlabel c":       `{"add_labels":["a","b"],"ids":["9f2c51d07a3be846"],"remove_labels":["c"]}`,
	} {
		args := strings.Fields(flags)
		var named []string
		for len(args) > 0 && !strings.HasPrefix(args[0], "-") {
			named, args = append(named, args[0]), args[1:]
		}
		status, out, said := inkret(t, "", append(append([]string{"finding", "change", "--yes"}, args...), named...)...)
		if status != 0 || a.path != "/api/v1/findings/changes" || a.body != want {
			t.Errorf("%s: exit %d, asked %s, want %s\n%s", flags, status, a.body, want, said)
		}
		if !strings.Contains(out, "2 findings of 3 changed: to confirmed.") ||
			!strings.Contains(out, "1: it is so already") || !strings.Contains(out, "inkret finding undo 5") {
			t.Errorf("it says\n%s", out)
		}
	}
	if status, out, _ := inkret(t, "", "finding", "change", "--filter", "q=x", "--to", "confirmed",
		"--try"); status != 0 || !strings.Contains(a.body, `"try":true`) || !strings.Contains(out, "would change") {
		t.Errorf("trying: exit %d, asked %s\n%s", status, a.body, out)
	}
	if status, _, said := inkret(t, "", "finding", "change", "--filter", "q=x", "--to",
		"confirmed"); status != exitFailed || !strings.Contains(a.body, `"try":true`) ||
		!strings.Contains(said, "--yes") {
		t.Errorf("nobody to ask: exit %d, asked %s\n%s", status, a.body, said)
	}
	for _, args := range [][]string{{"finding", "change", "--to", "confirmed"}, {"finding", "change", "--filter", "q=x",
		"9f2c51d07a3be846"}, {"finding", "undo", "x"}, {"finding", "keep-view", "name"}, {"request", "ask", "GET /x",
		"Skipper", "--audience", "a", "--needed-by", "b", "--reason", "c"}, {"request", "show"}} {
		if status, _, said := inkret(t, "", args...); status != exitFailed || said == "" {
			t.Errorf("%q: exit %d, %s", args, status, said)
		}
	}
}

func TestRequestsOnTheCommandLine(t *testing.T) {
	const request = `{"id":7,"service":"quay","endpoint":"GET /skippers/{id}","audience":"office","entity":"Skipper","field":"phone","class":"personal","needed_by":"desk","reason":"r","author":"Iva","own":true,"at":"2027-03-31T08:00:00Z","state":"open","grant":"phone: {reason: r}"}`
	a := answering(t, 200, request)
	status, out, said := inkret(t, "", "request", "ask", "--service", "quay", "--audience", "office", "--needed-by",
		"desk", "--reason", "r", "--as", "call", "GET /skippers/{id}", "Skipper.phone")
	if want := `{"audience":"office","endpoint":"GET /skippers/{id}","entity":"Skipper","field":"phone","member":"call","needed_by":"desk","reason":"r","service":"quay"}`; status != 0 || a.body != want {
		t.Errorf("exit %d, asked %s, want %s\n%s", status, a.body, want, said)
	}
	for _, want := range []string{"Request 7, open", "Skipper.phone (personal)", "phone: {reason: r}",
		"inkret request grant|decline 7", "/requests/7"} {
		if !strings.Contains(out, want) {
			t.Errorf("it says\n%s\nwithout %q", out, want)
		}
	}
	for words, want := range map[string]string{
		"grant 7":                             `{"grant":true}`,
		"grant --max 40 --optional -m less 7": `{"comment":"less","grant":true,"less":{"max":40,"optional":true}}`,
		"grant --as call 7":                   `{"grant":true,"less":{"member":"call"}}`,
		"decline -m no 7":                     `{"comment":"no","grant":false}`,
	} {
		if status, _, said := inkret(t, "", append([]string{"request"}, strings.Fields(words)...)...); status != 0 ||
			a.path != "/api/v1/requests/7/decision" || a.body != want {
			t.Errorf("%s: exit %d, %s %s, want %s\n%s", words, status, a.path, a.body, want, said)
		}
	}
	if status, _, _ := inkret(t, "", "request", "withdraw", "7"); status != 0 || a.method != "DELETE" {
		t.Errorf("withdraw: exit %d, %s", status, a.method)
	}
}

func TestListingsOfWhatPeopleKeep(t *testing.T) {
	for _, c := range []struct{ answer, args, path, query, want string }{
		{`{"items":[{"id":3,"at":"2027-03-31T08:00:00Z","kind":"mentioned","author":"Iva","finding_id":"9f2c51d07a3be846","finding":"secret-value at GET /x $.y","text":"look\u001b[31m","read":false}],"total":1,"page":1,"size":50,"unread":1}`, "notice list --unread", "/api/v1/notices", "unread=true", "mentioned by Iva"},
		{`[{"label":"later","findings":4}]`, "finding labels", "/api/v1/findings/labels", "", "     4  later"},
		{`[{"id":2,"at":"2027-03-31T08:00:00Z","author":"Iva","words":"due 2027-04-01","findings":4,"undone":true}]`,
			"finding changes", "/api/v1/findings/changes", "", "due 2027-04-01"},
		{`[{"id":2,"name":"berths","query":"q=berth","shared":true,"author":"Iva","own":false}]`, "finding views",
			"/api/v1/views", "", "q=berth"},
		{`{"items":[],"total":0,"page":1,"size":50}`, "request list --state any --mine", "/api/v1/requests",
			"state=any&mine=true", ""},
		{`{"undone":3,"left":[{"id":"00ff","why":"it was changed since"}]}`, "finding undo 4",
			"/api/v1/findings/changes/4/undo", "", "3 findings as before.\n  00ff left: it was changed since"},
	} {
		a := answering(t, 200, c.answer)
		status, out, said := inkret(t, "", strings.Fields(c.args)...)
		if status != 0 || a.path != c.path || !strings.Contains(out, c.want) || strings.Contains(out, "\x1b[31m") {
			t.Errorf("%s: exit %d, asked %s\n%s%s", c.args, status, a.path, out, said)
		}
		for _, pair := range strings.Split(c.query, "&") {
			if name, value, _ := strings.Cut(pair, "="); a.query.Get(name) != value {
				t.Errorf("%s asked with %s", c.args, a.query.Encode())
			}
		}
		if status, out, _ := inkret(t, "", append(strings.Fields(c.args), "--format", "json")...); status != 0 ||
			!strings.HasPrefix(out, "{") && !strings.HasPrefix(out, "[") {
			t.Errorf("%s as JSON: exit %d\n%s", c.args, status, out)
		}
	}
}

func TestAViewNarrowsTheList(t *testing.T) {
	a := answering(t, 200, `[{"id":2,"name":"Berths","query":"state=any&q=berth&assigned=me","shared":true,"author":"Iva","own":true}]`)
	if status, _, said := inkret(t, "", "finding", "list", "--view", "nothing"); status != exitFailed ||
		!strings.Contains(said, `no view "nothing"`) {
		t.Errorf("exit %d, %s", status, said)
	}
	// the list itself is answered with views here
	inkret(t, "", "finding", "list", "--view", "berths", "--assigned", "nobody")
	if a.path != "/api/v1/findings" || a.query.Get("q") != "berth" || a.query.Get("state") != "any" ||
		a.query.Get("assigned") != "nobody" {
		t.Errorf("asked %s with %s", a.path, a.query.Encode())
	}
}

// TestTokensAndRolesOnTheCommandLine checks the request that each command sends.
func TestTokensAndRolesOnTheCommandLine(t *testing.T) {
	a := answering(t, 201, `{"secret":"inkret_x","person":{"id":7,"name":"Iva","email":"iva@q.example","role":"viewer","pending":false},"token":{"id":3,"name":"n","created":"2027-03-31T08:00:00Z","expires":"2027-04-30T08:00:00Z","scope":"record"}}`)
	for flags, want := range map[string]string{
		"nightly": `{"days":90,"name":"nightly","scope":"record"}`,
		"nightly --scope read --service harbour --days 3": `{"days":3,"name":"nightly","scope":"read","service":"harbour"}`,
	} {
		if status, out, said := inkret(t, "", append([]string{"token", "make"},
			strings.Fields(flags)...)...); status != 0 || a.path != "/api/v1/tokens" || a.body != want ||
			!strings.Contains(out, "inkret_x") {
			t.Errorf("%s: exit %d, asked %s, want %s\n%s%s", flags, status, a.body, want, out, said)
		}
	}
	for _, args := range [][]string{{"token", "make"}, {"token", "end", "x"}, {"person", "role", "iva@q.example",
		"captain"}, {"person", "role", "iva@q.example", "-"}, {"mail", "when", "hourly"}, {"mail", "again", "one"},
		{"result", "send", "--line", "main"}, {"result", "show", "-1"}, {"result", "main-line", "x"},
		{"finding", "follow-view", "mine"}} {
		if status, _, said := inkret(t, "", args...); status != exitFailed || said == "" {
			t.Errorf("%q: exit %d, %s", args, status, said)
		}
	}
}

// TestServersThatCannotBe checks that such servers are refused before anything is opened.
func TestServersThatCannotBe(t *testing.T) {
	for flags, says := range map[string]string{
		"--mail-server mail.example --mail-from a@b.example":       "is written smtp://",
		"--mail-server smtp://mail.example":                        "no address that mail can come from",
		"--mail-from a@b.example":                                  "needs a --mail-server",
		"--digest-hour 24":                                         "is no hour",
		"--sign-in-issuer http://login.example --sign-in-client x": "by https",
		"--sign-in-issuer https://login.example":                   "id is missing",
		"--sign-in-client x":                                       "needs a --sign-in-issuer",
	} {
		if status, _, said := inkret(t, "", append([]string{"serve", "--data", t.TempDir()},
			strings.Fields(flags)...)...); status != exitFailed || !strings.Contains(said, says) {
			t.Errorf("%s: exit %d, %s", flags, status, said)
		}
	}
}
