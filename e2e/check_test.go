package e2e

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// checked is what `inkret check --format json` prints, as far as it matters here.
type checked struct {
	Inkret  int
	Rules   int
	Service string
	Summary struct {
		Captures, Judged, Skipped int
		BySeverity                map[string]int `json:"by_severity"`
	}
	Findings []struct {
		Fingerprint, Kind, Severity, Endpoint, Audience, Path, Sample, Why string
		AudienceBy                                                         string `json:"audience_by"`
		Status                                                             any
		Spots, Captures                                                    int
		First                                                              struct {
			File    string
			Entry   int
			Pointer string
		}
	}
	Skipped []struct{ File, Reason string }
}

// planted lists the leaks of the harbour's release 1 that this version finds, as in docs/demo.md: kind, endpoint,
// audience, path.
var planted = []string{
	"secret-value GET /v1/berths visitor $.data[*].bookings[*].skipper.password_hash",
	"sensitive-field GET /v1/berths visitor $.data[*].bookings[*].skipper.account.api_key",
	"sensitive-field GET /v1/berths visitor $.data[*].bookings[*].skipper.account.iban",
	"unexpected-relation GET /v1/berths visitor $.data[*].bookings",
	"unexpected-field GET /v1/berths visitor $.data[*].repair_note",
	"unexpected-field GET /v1/berths/{berth_id} visitor $.data.repair_note",
	"secret-value POST /v1/skippers visitor $.data.password_hash",
	"sensitive-field POST /v1/skippers visitor $.data.email",
	"unexpected-field GET /v1/bookings skipper $.data[*].desk_note",
	"wrong-audience GET /v1/bookings/{booking_id} skipper $.data.note",
	"sensitive-field GET /v1/bookings/{booking_id} skipper $.data.owner.email",
	"unexpected-field GET /v1/bookings/{booking_id} harbour-office $.data.owner.loyalty_tier",
	"sensitive-field GET /v1/skippers/{skipper_id} skipper $.data.boats[*].insurance_no",
	"wrong-audience GET /v1/skippers/{skipper_id} harbour-office $.data.email",
	"unexpected-relation GET /v1/charges harbour-office $.data[*].booking",
	"wrong-audience GET /v1/inspections/{inspection_id} skipper $.data.remarks",
	"wrong-audience GET /v1/notices visitor $.data[*].duty",
	"wrong-audience GET /v1/notices skipper $.data[*].duty",
	"unknown-endpoint GET /v1/boats/{}  $",
	"sensitive-field GET /v1/boats/{} visitor $.boat.owner.phone",
	"unknown-endpoint GET /v1/search  $",
	"revealing-error GET /v1/search visitor $.query",
	"selection-ignored GET /v1/bookings skipper $",
	"cacheable-private GET /v1/notices visitor $",
	"cacheable-private GET /v1/notices harbour-office $",
	"heavy-excess GET /v1/berths visitor $",
	"over-posting POST /v1/bookings skipper $.discount",
	"unexpected-field POST /v1/bookings skipper $.data.discount",
	"sensitive-in-url GET /v1/berths/{berth_id} visitor query >> $.notify",
	"unexpected-relation GET /arrivals visitor script#state >> $.arrivals[*].skipper",
	"sensitive-field GET /arrivals visitor script#state >> $.arrivals[*].skipper.email",
}

// needsContract are kinds that a sweep cannot tell.
var needsContract = map[string]bool{"wrong-audience": true, "unexpected-relation": true, "unexpected-field": true,
	"renamed-field": true, "over-posting": true, "missing-field": true,
	"value-mismatch": true, "selection-ignored": true, "undeclared-response": true, "unknown-endpoint": true,
	"heavy-excess": true}

func TestCheckFindsThePlantedLeaks(t *testing.T) {
	_, dir := startDemo(t)
	home := t.TempDir()
	files, err := filepath.Glob(filepath.Join(dir, "*.har"))
	if err != nil || len(files) != 3 {
		t.Fatalf("the demo recorded %q, %v", files, err)
	}
	contracts := filepath.Join(home, "contracts")
	os.Mkdir(contracts, 0o755)
	for _, name := range []string{"fennick-quay.yaml", "catalogue.yaml", "harbour.graphql"} {
		if err := os.Rename(filepath.Join(dir, name), filepath.Join(contracts, name)); err != nil {
			t.Fatal(err)
		}
	}
	r := run(t, home, nil, append([]string{"check", "--contracts", contracts, "--format", "json"}, files...)...)
	got := decode[checked](t, r.out)
	if r.status != 1 || got.Inkret != 1 || got.Rules != 4 || got.Service != "fennick-quay" ||
		got.Summary.Captures != 38 || got.Summary.Judged != 37 || got.Summary.Skipped != 1 {
		t.Errorf("exit %d, %+v\n%s", r.status, got.Summary, r.err)
	}
	found := map[string]bool{}
	for _, f := range got.Findings {
		found[fmt.Sprintf("%s %s %s %s", f.Kind, f.Endpoint, f.Audience, f.Path)] = true
	}
	for _, p := range planted {
		if !found[p] {
			t.Errorf("not found: %s", p)
		}
	}
	for _, clean := range []string{"GET /v1/tides", "DELETE /v1/bookings/{booking_id}", "GET /v1/staff"} {
		for f := range found {
			if strings.Contains(f, clean+" ") {
				t.Errorf("an endpoint that does not leak has: %s", f)
			}
		}
	}
	if strings.Contains(r.out, "$2b$12$") || strings.Contains(r.out, "@sails.example") {
		t.Error("values are printed unmasked")
	}

	t.Run("fails on what is asked for", func(t *testing.T) {
		for severity, want := range map[string]int{"critical": 1, "info": 1} {
			if r := run(t, home, nil, append([]string{"check", "--contracts", contracts, "--fail-on", severity},
				files...)...); r.status != want {
				t.Errorf("--fail-on %s exits with %d, want %d", severity, r.status, want)
			}
		}
		office := filepath.Join(dir, "harbour-office.har")
		if r := run(t, home, nil, "check", "--contracts", contracts, "--audience", "harbour-office",
			office); strings.Contains(r.err, "no request has credentials") {
			t.Errorf("with the audience said it warns: %s", r.err)
		}
	})
	t.Run("a table for people", func(t *testing.T) {
		r := run(t, home, nil, append([]string{"check", "--contracts", contracts}, files...)...)
		for _, want := range []string{"!! critical", "$.data.password_hash  $2b$•••",
			"; the very same body went to harbour-office and visitor", "38 captures: 37 judged, 1 skipped"} {
			if !strings.Contains(r.out, want) {
				t.Errorf("the table lacks %q:\n%s", want, r.out)
			}
		}
		if strings.ContainsRune(r.out, '\x1b') || !strings.Contains(r.err, "visitor.har: no request has credentials") {
			t.Errorf("colours in a pipe, or no warning:\n%s", r.err)
		}
	})
	t.Run("without contracts it sweeps", func(t *testing.T) {
		r := run(t, home, nil, append([]string{"check", "--format", "json"}, files...)...)
		got := decode[checked](t, r.out)
		if r.status != 1 || got.Service != "" || got.Summary.BySeverity["critical"] == 0 {
			t.Errorf("exit %d, %+v", r.status, got)
		}
		for _, f := range got.Findings {
			if f.Audience != "" || needsContract[f.Kind] {
				t.Errorf("a sweep gives %s as %q at %s", f.Kind, f.Audience, f.Endpoint)
			}
		}
	})
	t.Run("from standard input", func(t *testing.T) {
		data, err := os.ReadFile(files[0])
		if err != nil {
			t.Fatal(err)
		}
		r := run(t, home, bytes.NewReader(data), "check", "--contracts", contracts, "--format", "json", "-")
		got := decode[checked](t, r.out)
		if r.status != 1 || len(got.Findings) == 0 || got.Findings[0].First.File != "standard input" {
			t.Errorf("exit %d, %d findings\n%s", r.status, len(got.Findings), r.err)
		}
	})
}

// TestCheckOfWhatCannotBeJudged tries invalid input and options. TestTheHarbourShowsWhatIsListed compares the
// documented lists of both releases with what is found: no more and no less.
func TestTheHarbourShowsWhatIsListed(t *testing.T) {
	text, err := os.ReadFile("../docs/demo-findings.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := strings.Split(string(text), "```\n")
	if len(blocks) != 5 {
		t.Fatalf("the page has %d parts", len(blocks))
	}
	for release, listed := range map[string]string{"1": blocks[1], "2": blocks[3]} {
		dir, contracts := t.TempDir(), t.TempDir()
		start(t, "demo", "--release", release, "--listen", "127.0.0.1:0", "--harbour", "127.0.0.1:0", "--recorder",
			"127.0.0.1:0", "--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0", "--recordings", dir)
		for _, name := range []string{"fennick-quay.yaml", "catalogue.yaml", "harbour.graphql", "harbour.sql"} {
			if err := os.Rename(filepath.Join(dir, name), filepath.Join(contracts, name)); err != nil {
				t.Fatal(err)
			}
		}
		r := run(t, dir, nil, "check", "--contracts", contracts, "--format", "json", dir)
		var found struct {
			Findings []struct {
				Kind, Endpoint, Audience, Path string
				Status                         any
			}
		}
		if err := json.Unmarshal([]byte(r.out), &found); err != nil {
			t.Fatalf("%v\n%s", err, r.err)
		}
		var lines []string
		for _, f := range found.Findings {
			status := "-"
			if f.Status != nil {
				status = fmt.Sprint(f.Status)
			}
			lines = append(lines, strings.Join([]string{f.Kind, f.Endpoint, cmp.Or(f.Audience, "-"), status, f.Path},
				" | "))
		}
		if got := strings.Join(lines, "\n") + "\n"; got != listed {
			t.Errorf("release %s shows\n%s\nlisted is\n%s", release, got, listed)
		}
	}
	if r := run(t, t.TempDir(), nil, "demo", "--release", "3"); r.status != 2 ||
		!strings.Contains(r.err, "there is no release 3") {
		t.Errorf("release 3: exit %d %s", r.status, r.err)
	}
}

func TestCheckOfWhatCannotBeJudged(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	const body = `{\"id\":1,\"password\":\"hunter2\"}`
	entry := func(body string) string {
		return `{"request":{"method":"GET","url":"https://a.example/x","headers":[]},"response":{"status":200,"headers":[],"content":{"mimeType":"application/json","text":"` + body + `"}}}`
	}
	har := func(entries ...string) string {
		return `{"log":{"version":"1.2","entries":[` + strings.Join(entries, ",") + `]}}`
	}
	good := file("good.har", har(entry(body)))
	deep := strings.Repeat("[", 10_001) + strings.Repeat("]", 10_001)
	contract := file("api.yaml",
		"inkret: 1\nservice: s\nentities: {A: {fields: {id: {type: integer}}}}\nendpoints: [{endpoint: GET /x, "+
			"responses: [{entity: A, grants: {id: }}]}]\n")
	os.Mkdir(filepath.Join(dir, "two"), 0o755)
	file("two/a.yaml", "inkret: 1\nservice: s\nentities: {A: {}}")
	file("two/b.yaml", "entities: {A: {}}")
	os.Mkdir(filepath.Join(dir, "none"), 0o755)
	for _, c := range []struct {
		name   string
		args   []string
		status int
		out    string // in standard output
		err    string // in standard error
	}{
		{"a good one", []string{good}, 1, "$.password", ""},
		{"against a contract", []string{"--contracts", contract, good}, 1,
			"not granted; the name tells of something secret", "no request has credentials"},
		{"cut off in the middle: what came before is judged",
			[]string{file("cut.har", har(entry(body))[:len(har(entry(body)))-3])}, 2, "$.password",
			"the file ends in the middle"},
		{"one good, one that is none", []string{good, file("page.har", "<html>")}, 2, "$.password",
			"page.har: this is no recording"},
		{"not there", []string{filepath.Join(dir, "nothing.har")}, 2, "", "nothing.har: there is no such file"},
		{"a folder, with files in it that are none", []string{dir}, 2, "7 captures: 3 judged, 4 skipped",
			"page.har: this is no recording that is read here"},
		{"an empty folder", []string{filepath.Join(dir, "none")}, 2, "", "has no file"},
		{"wrong version", []string{file("old.har", `{"log":{"version":"2.1","entries":[]}}`)}, 2, "",
			`HAR version "2.1" is not read`},
		{"no entry", []string{file("empty.har", har())}, 2, "0 captures", "no capture was judged"},
		{"an entry without response",
			[]string{file("noresp.har", har(`{"request":{"method":"GET","url":"https://a.example/"}}`))}, 2,
			"skipped 1: the entry has no response", "no capture was judged"},
		{"base64 that is none", []string{file("b64.har",
			har(strings.Replace(entry("%%"), `"text"`, `"encoding":"base64","text"`, 1)))}, 2,
			"content.text is not base64", "no capture was judged"},
		{"a body that claims JSON and is not", []string{file("html.har", har(entry("<html>"), entry(body)))}, 1,
			"the body is not JSON: no JSON value is written like this at byte 0", ""},
		{"ten thousand levels and one", []string{file("deep.har", har(entry(deep)))}, 2,
			"nests deeper than 10000 levels", "no capture was judged"},
		{"a contract with an unknown key and shape",
			[]string{"--contracts", file("bad.yaml",
				"inkret: 1\nservice: s\nshaeps: {}\nendpoints: [{endpoint: GET /x, responses: [{shape: card}]}]"),
				good}, 2, "",
			`bad.yaml:3:1: $.shaeps: key "shaeps" is not known`},
		{"all of its problems", []string{"--contracts", filepath.Join(dir, "bad.yaml"), good}, 2, "",
			"the contract cannot be used: 2 problems"},
		{"an entity in two files", []string{"--contracts", filepath.Join(dir, "two"), good}, 2, "",
			`entity "A" is defined twice, first at ` + filepath.Join(dir, "two", "a.yaml") + ":3:12"},
		{"a folder without contracts", []string{"--contracts", filepath.Join(dir, "none"), good}, 2, "",
			"holds no .yaml, .yml or .json file"},
		{"an audience nobody knows", []string{"--contracts", contract, "--audience", "pilot", good}, 2, "",
			`the contract has no audience "pilot"`},
		{"a format nobody knows", []string{"--format", "xml", good}, 2, "", `there is no format "xml"`},
		{"a severity nobody knows", []string{"--fail-on", "dire", good}, 2, "", `there is no severity "dire"`},
		{"an option nobody knows", []string{"--contract", contract, good}, 2, "", "see: inkret check --help"},
		{"no file", nil, 2, "", "name at least one recording"},
		{"another server", []string{"--contracts", contract, "--server", "https://b.example", good}, 2,
			"another server", "no capture was judged"},
		{"that server", []string{"--contracts", contract, "--server", "https://a.example", good}, 1, "$.password", ""},
		{"no server at all", []string{"--contracts", contract, "--server", "b.example", good}, 2, "",
			"does not begin with http:// or https://"},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := run(t, dir, nil, append([]string{"check"}, c.args...)...)
			if r.status != c.status || !strings.Contains(r.out, c.out) || !strings.Contains(r.err, c.err) {
				t.Errorf("exit %d, want %d\nprinted:\n%s\nwant in it %q\nsaid:\n%s\nwant in it %q", r.status, c.status,
					r.out, c.out, r.err, c.err)
			}
			if strings.Contains(r.out+r.err, "hunter2") {
				t.Error("the value is printed unmasked")
			}
		})
	}
}

func TestExceptionsDoNotFailACheck(t *testing.T) {
	dir := t.TempDir()
	contract, har := filepath.Join(dir, "c.yaml"), filepath.Join(dir, "r.har")
	os.WriteFile(contract, []byte(`inkret: 1
service: s
endpoints: [{endpoint: GET /x, responses: [{grants: {a: {type: integer}}}]}]
exceptions: [{endpoint: GET /x, path: $.password, kind: sensitive-field, reason: of the test}]
`), 0o644)
	os.WriteFile(har, []byte(`{"log":{"version":"1.2","entries":[{"request":{"method":"GET","url":"https://a.example/x","headers":[]},"response":{"status":200,"headers":[],"content":{"mimeType":"application/json","text":"{\"a\":1,\"password\":\"p\"}"}}}]}}`), 0o644)
	r := run(t, dir, nil, "check", "--contracts", contract, "--format", "json", har)
	if r.status != 0 || !strings.Contains(r.out, `"excepted": true`) {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
}

// TestOnlyWhatIsNewFails checks release 2 with release 1 as its baseline, in every format.
func TestOnlyWhatIsNewFails(t *testing.T) {
	home := t.TempDir()
	dirs := map[string]string{}
	for _, release := range []string{"1", "2"} {
		dir := t.TempDir()
		dirs[release] = dir
		start(t, "demo", "--release", release, "--listen", "127.0.0.1:0", "--harbour", "127.0.0.1:0", "--recorder",
			"127.0.0.1:0", "--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0", "--recordings", dir)
		os.Mkdir(filepath.Join(dir, "c"), 0o755)
		for _, name := range []string{"fennick-quay.yaml", "catalogue.yaml", "harbour.graphql", "harbour.sql"} {
			os.Rename(filepath.Join(dir, name), filepath.Join(dir, "c", name))
		}
	}
	check := func(release string, args ...string) result {
		t.Helper()
		args = append([]string{"check", "--contracts", filepath.Join(dirs[release], "c")}, args...)
		for _, who := range []string{"visitor", "skipper", "harbour-office"} {
			args = append(args, filepath.Join(dirs[release], who+".har"))
		}
		return run(t, home, nil, args...)
	}
	base := filepath.Join(home, "base.json")
	if err := os.WriteFile(base, []byte(check("1", "--format", "json").out), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		release, format string
		status          int
		has             string
	}{
		{"1", "table", 0, "78 of them known before; 0 known before are gone"},
		{"2", "table", 1, "7 of them known before; 71 known before are gone"},
		{"1", "junit", 0, `failures="0" skipped="78"`}, {"2", "junit", 1, `tests="16" failures="9"`},
		{"2", "sarif", 1, `"baselineState": "new"`},
		{"2", "csv", 1, "GET /v1/staff,harbour-office"}, {"2", "markdown", 1, "price seems to be berth"},
		{"2", "html", 1, "<title>What leaks: fennick-quay</title>"}, {"2", "json", 1, `"known": true`},
	} {
		r := check(c.release, "--baseline", base, "--format", c.format)
		if r.status != c.status || !strings.Contains(r.out, c.has) {
			t.Errorf("release %s as %s: exit %d, want %d and %q\n%.600s\n%s", c.release, c.format, r.status, c.status,
				c.has, r.out, r.err)
		}
	}
	if r := check("1", "--baseline", filepath.Join(dirs["1"], "visitor.har")); r.status != 2 ||
		!strings.Contains(r.err, "no report of inkret check") {
		t.Errorf("a baseline that is none: exit %d %s", r.status, r.err)
	}
}

func TestHelpAndCompletion(t *testing.T) {
	home := t.TempDir()
	for _, args := range [][]string{{"help"}, {"check", "--help"}, {"finding", "move", "--help"},
		{"capture", "upload", "--help"}, {"contract", "--help"}} {
		if r := run(t, home, nil, args...); r.status != 0 || !strings.Contains(r.out, "inkret "+args[0][:0]) {
			t.Errorf("%v exits with %d:\n%s%s", args, r.status, r.out, r.err)
		}
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		if r := run(t, home, nil, "completion", shell); r.status != 0 || !strings.Contains(r.out, "inkret") {
			t.Errorf("completion for %s exits with %d:\n%s", shell, r.status, r.err)
		}
	}
	if r := run(t, home, nil, "--generate-shell-completion"); !strings.Contains(r.out, "check") ||
		!strings.Contains(r.out, "finding") {
		t.Errorf("commands complete to:\n%s", r.out)
	}
	if r := run(t, home, nil, "chekc"); r.status != 2 || !strings.Contains(r.err, "did you mean: inkret check") {
		t.Errorf("a mistyped command exits with %d:\n%s", r.status, r.err)
	}
	if r := run(t, home, nil, "finding", "lsit"); r.status != 2 || !strings.Contains(r.err, `has no command "lsit"`) {
		t.Errorf("a mistyped second word exits with %d:\n%s", r.status, r.err)
	}
	var anything any
	if json.Unmarshal([]byte(run(t, home, nil, "--version").out), &anything) == nil {
		t.Error("the version is JSON")
	}
}
