package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"inkret/api/wire"
)

// demoContracts writes the demo's contracts to a folder, each text changed as told, and gives the folder.
func demoContracts(t testing.TB, replace ...string) string {
	t.Helper()
	dir := t.TempDir()
	for _, name := range []string{"catalogue.yaml", "fennick-quay.yaml", "harbour.graphql"} {
		data, err := os.ReadFile("../demo/contracts/" + name)
		if err != nil {
			t.Fatal(err)
		}
		text := string(data)
		for i := 0; i+1 < len(replace) && strings.HasSuffix(name, ".yaml"); i += 2 {
			text = strings.ReplaceAll(text, replace[i], replace[i+1])
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// TestNobodyWidensAlone applies, as one reviewer with the ordinary command, contracts that silence the judge in
// ways that no grant shows: each waits for a second person. What silences nothing is in force at once.
func TestNobodyWidensAlone(t *testing.T) {
	s, _ := startDemo(t)
	noor := as(t, s, "noor")
	open := func() int {
		t.Helper()
		return decode[wire.FindingPage](t, run(t, noor, nil, "finding", "list", "--size", "1", "--format",
			"json").out).Total
	}
	before := open()
	for name, replace := range map[string][]string{
		"another server": {"https://api.fennick-quay.example", "https://elsewhere.example",
			"http://api.fennick-quay.example", "http://elsewhere.example"},
		"an audience less": {"  - name: visitor\n    recognise: {credentials: none}\n", "",
			"[visitor, skipper]", "[skipper]",
			"      - audiences: [visitor]\n        operations: [Query.berths, Query.search]\n" +
				"        types:\n          Berth: {shape: berth-card}\n", ""},
		"the order of trust": {"  - name: skipper\n    recognise: {claim: {name: role, value: skipper}}\n  - " +
			"name: harbour-office\n    recognise: {header: {name: X-Desk, value: \"*\"}}\n",
			"  - name: harbour-office\n    recognise: {header: {name: X-Desk, value: \"*\"}}\n  - name: skipper\n   " +
				" recognise: {claim: {name: role, value: skipper}}\n"},
		"visitors as the office": {"recognise: {credentials: none}", "recognise: {cookie: {name: never, value: x}}",
			`recognise: {header: {name: X-Desk, value: "*"}}`, "recognise: {credentials: none}"},
		"a condition never met": {"  - endpoint: GET /v1/berths\n    team: moorings\n    responses:\n      - " +
			"entity: Berth\n", "  - endpoint: GET /v1/berths\n    team: moorings\n    responses:\n      - entity: " +
			"Berth\n        when: {query: {never: never}}\n"},
		"another place": {"        at: /data\n        many: true\n        shape: berth-card\n",
			"        at: /nowhere\n        many: true\n        shape: berth-card\n"},
		"an exception for all": {"endpoints:\n  - endpoint: GET /v1/berths\n",
			"exceptions:\n  - {endpoint: GET /v1/berths, path: $..*, kind: sensitive-field, reason: " +
				"quiet}\nendpoints:\n  - endpoint: GET /v1/berths\n"},
		"a class said of a grant": {"meta: {grants: {count: {type: integer}}}",
			"meta: {open: true, class: secret, reason: quiet}"},
		"an endpoint of another's": {"  - endpoint: GET /v1/bookings/{booking_id}\n",
			"  - endpoint: GET /v1/bookings/{other+}\n"},
		"another entity": {"      - entity: Berth\n        at: /data\n        shape: berth-card\n        " +
			"grants:\n          depth: depth_m\n          services:\n",
			"      - at: /data\n        grants: {id: {type: integer}, label: {type: string}, length: {type: " +
				"number}, price: {type: number}, depth: {type: number}, services: {open: true}}\n"},
		"a secret classed lower": {"class: secret", "class: internal"},
		"a personal field as named": {"email:         {type: string, format: email, class: personal",
			"e_mail:        {type: string, format: email, class: public", "email:", "email: e_mail #"},
	} {
		dir := demoContracts(t, replace...)
		r := run(t, noor, nil, "contract", "apply", dir, "--reason", name)
		if r.status != 1 || !strings.Contains(r.out+r.err, "waits") {
			t.Errorf("%s: exit %d\n%s%s", name, r.status, r.out, r.err)
		}
		if now := open(); now != before {
			t.Fatalf("%s: %d findings are open, there were %d", name, now, before)
		}
	}
	for name, replace := range map[string][]string{
		"parameters named otherwise": {"{booking_id}", "{booking}", "{berth_id}", "{id}"},
		"comments and line ends":     {"\n", "\r\n"},
		"a status written out": {"        at: /data\n        shape: berth-card\n        grants:\n          " +
			"depth: depth_m", "        statuses: [200]\n        at: /data\n        shape: berth-card\n        " +
			"grants:\n          depth: depth_m"},
	} {
		r := run(t, noor, nil, "contract", "apply", demoContracts(t, replace...), "--reason", name)
		if r.status != 0 || strings.Contains(r.out+r.err, "waits") {
			t.Errorf("%s: exit %d\n%s%s", name, r.status, r.out, r.err)
		}
		if now := open(); now != before {
			t.Errorf("%s: %d findings are open, there were %d", name, now, before)
		}
	}
	// who can approve is told of each
	teodor := as(t, s, "teodor")
	walk(t, []step{{teodor, "notice list --unread --size 100", 0, "waits for approval: a secret classed lower", ""},
		{teodor, "notice list --unread", 0, "of fennick-quay", ""}})
}

// TestFindingsGoAlongWithNames: what was said and decided of a finding is there under the endpoint's new name,
// by its old id, too.
func TestFindingsGoAlongWithNames(t *testing.T) {
	s, _ := startDemo(t)
	noor, teodor := as(t, s, "noor"), as(t, s, "teodor")
	var one wire.Finding
	for _, f := range decode[wire.FindingPage](t, run(t, noor, nil, "finding", "list", "--size", "500", "--format",
		"json").out).Items {
		if strings.Contains(f.Endpoint, "{booking_id}") {
			one = f
		}
	}
	if one.ID == "" {
		t.Fatal("the demo has no finding at a booking")
	}
	walk(t, []step{
		{noor, "finding change " + one.ID +
			" --assign teodor@fennick-quay.example --due 2030-01-31 --comment \"yours\" --yes", 0, "", ""},
		{noor, "finding comment " + one.ID + " \"seen on the quay\"", 0, "", ""},
		{noor, "contract apply " + demoContracts(t, "{booking_id}", "{booking}") + " --reason names", 0, "", ""},
		{noor, "finding show " + one.ID, 0, strings.Replace(one.Endpoint, "{booking_id}", "{booking}", 1), ""},
		{noor, "finding show " + one.ID, 0, "seen on the quay", ""},
		{noor, "finding show " + one.ID, 0, "2030-01-31", ""},
		{noor, "finding show " + one.ID, 0, "was " + one.Endpoint, ""},
		{teodor, "finding list --assigned me", 0, "{booking}", ""},
	})
}

// TestWhoHasAFindingIsToldOnTheCommandLine of three moves, a mention in bold and a change of many.
func TestWhoHasAFindingIsToldOnTheCommandLine(t *testing.T) {
	s, _ := startDemo(t)
	noor, teodor, iva := as(t, s, "noor"), as(t, s, "teodor"), as(t, s, "iva")
	one := decode[wire.FindingPage](t, run(t, noor, nil, "finding", "list", "--state", "new", "--severity", "medium",
		"--format", "json").out).Items[0].ID
	walk(t, []step{
		{noor, "finding change " + one + " --assign teodor@fennick-quay.example --yes", 0, "", ""},
		{noor, "finding move " + one + " confirmed --comment \"ask **@iva**\"", 0, "", ""},
		{noor, "finding move " + one + " in-repair", 0, "", ""},
		{noor, "finding move " + one + " awaiting-proof", 0, "", ""},
		{noor, "finding change " + one + " --label summer --yes", 0, "", ""},
		{teodor, "notice list", 0, "new to confirmed", ""},
		{teodor, "notice list", 0, "in-repair to awaiting-proof", ""},
		{teodor, "notice list", 0, "labels: summer", ""},
		{iva, "notice list", 0, "mentioned by", ""},
	})
	if r := run(t, noor, nil, "notice", "list"); strings.Contains(r.out, "in-repair to awaiting-proof") {
		t.Errorf("who did it is told:\n%s", r.out)
	}
}

// TestContractTextThroughTheInterface ticks a member in files of other kinds than YAML with line feeds, and
// reads what comes back.
func TestContractTextThroughTheInterface(t *testing.T) {
	s, _ := startDemo(t)
	noor := as(t, s, "noor")
	token := decode[wire.CreatedToken](t, run(t, noor, nil, "token", "make", "text", "--scope", "everything",
		"--format", "json").out)
	first := filepath.Join(t.TempDir(), "corner.yaml")
	if err := os.WriteFile(first, []byte("inkret: 1\nservice: corner\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	walk(t, []step{{noor, "contract apply " + first, 0, "", ""}})
	try := func(text string, edits string) (status int, out string) {
		t.Helper()
		body := `{"files":[{"name":"c.json","text":` + string(must(json.Marshal(text))) + `}],"edits":` + edits + `}`
		request, err := http.NewRequestWithContext(t.Context(), "POST", s.url+"/api/v1/services/corner/contracts/trial",
			strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("Authorization", "Bearer "+token.Secret)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatalf("the connection broke: %v", err)
		}
		defer answer.Body.Close()
		var read struct {
			Files  []struct{ Text string }
			Detail string
		}
		if err := json.NewDecoder(answer.Body).Decode(&read); err != nil {
			t.Fatal(err)
		}
		if len(read.Files) > 0 {
			return answer.StatusCode, read.Files[0].Text
		}
		return answer.StatusCode, read.Detail
	}
	const inJSON = `{"inkret": 1, "service": "corner",
  "entities": {"Boat": {"fields": {"id": {"class": "public"}, "name": {"class": "public"}}}},
  "endpoints": [{"endpoint": "GET /boats", "responses": [{"entity": "Boat", "grants": {
    "id": {}
  }}]}]}`
	status, text := try(inJSON,
		`[{"file":"c.json","op":"add","path":"/endpoints/0/responses/0/grants/name","value":{"optional":true,"needed_by":["z","a"],"class":"public"}}]`)
	if status != 200 || !json.Valid([]byte(text)) ||
		!strings.Contains(text, "\n    \"name\": {\"optional\": true, \"needed_by\": [\"z\", \"a\"], \"class\": "+
			"\"public\"}") {
		t.Errorf("JSON: %d\n%s", status, text)
	}
	crlf := "inkret: 1\r\nservice: corner\r\n# a comment\r\nentities: {Boat: {fields: {id: {class: public}, name: " +
		"{class: public}}}}\r\nendpoints:\r\n  - endpoint: GET /boats # another\r\n    responses: [{entity: Boat, " +
		"grants: {id: }}]\r\n"
	status, text = try(crlf,
		`[{"file":"c.json","op":"add","path":"/endpoints/0/responses/0/grants/name","value":null}]`)
	if status != 200 || strings.Count(text, "\n") != strings.Count(text, "\r\n") ||
		!strings.Contains(text, "grants: {id: , name: }") || strings.Count(text, "#") != 2 {
		t.Errorf("CR LF: %d\n%q", status, text)
	}
	dir := t.TempDir()
	file := filepath.Join(dir, "wrong.yaml")
	if err := os.WriteFile(file,
		[]byte("# one\r\n# two\r\ninkret: 1\r\n# three\r\nservice: corner\r\nendpionts: []\r\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	walk(t, []step{{noor, "contract check " + file, 2, "wrong.yaml:6:1", ""}})
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}
