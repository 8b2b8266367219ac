package cli

import (
	"encoding/json"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/urfave/cli/v3"

	"inkret/httpapi"
	"inkret/service"
	"inkret/service/base"
)

const quayContract = `inkret: 1
service: quay
servers: ["https://quay.example"]
audiences: [{name: visitor}, {name: desk, recognise: {header: {name: X-Desk, value: "*"}}}]
entities:
  Boat: {fields: {name: {type: string, class: public}, berth: {type: integer}, owner_mail: {type: string, class: personal}}}
endpoints:
  - endpoint: GET /boats/{id}
    team: moorings
    responses: [{audiences: [visitor, desk], entity: Boat, grants: {name: }}]
`

const quayCapture = `{"started":"2026-05-01T08:00:00Z","request":{"method":"GET","url":"https://quay.example/boats/7"},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":"{\"name\":\"Tern\",\"owner_mail\":\"nell@sails.example\"}"}}
{"started":"2026-05-01T08:00:01Z","request":{"method":"GET","url":"https://quay.example/moons"},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":"{\"phase\":1}"}}
`

// running is a service on loopback with an administrator, whose token the command line has, and a lead.
func running(t *testing.T) *service.Service {
	t.Helper()
	s, err := service.Open(t.Context(), service.Options{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	stopping := make(chan struct{})
	h, err := httpapi.NewHandler(s, httpapi.Options{Version: "test", Stopping: stopping, Public: "http://127.0.0.1",
		Console: fstest.MapFS{"index.html": {Data: []byte("<html></html>")}}})
	if err != nil {
		t.Fatal(err)
	}
	site := httptest.NewServer(h)
	t.Cleanup(func() { close(stopping); site.Close(); s.Close() })
	noor, err := s.People.AddPerson(t.Context(), "Noor", "noor@quay.example", base.Administrator, "low tide at nine")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.People.AddPerson(t.Context(), "Teodor", "teodor@quay.example", base.Lead,
		"low tide at nine"); err != nil {
		t.Fatal(err)
	}
	_, token, err := s.People.NewToken(t.Context(), base.Caller{}, noor, base.Key{Name: "test"}, 0)
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("INKRET_URL", site.URL)
	t.Setenv("INKRET_TOKEN", token)
	t.Setenv("HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	return s
}

// closedPort is an address on loopback where nobody listens.
func closedPort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return "http://" + l.Addr().String()
}

// ranCase is one run of the command line: its arguments, its exit status, and a text that it or its problem must
// contain.
type ranCase struct {
	args   string // parts with blanks stand in quotes
	status int
	want   string // a regular expression; matches the output or the error
}

var quotedArgument = regexp.MustCompile(`'([^']*)'|(\S+)`)

func arguments(s string) (all []string) {
	for _, m := range quotedArgument.FindAllStringSubmatch(s, -1) {
		all = append(all, m[1]+m[2])
	}
	return all
}

// elsewhere lists commands that need a terminal, a network or a process of their own; the end-to-end tests run
// them.
var elsewhere = map[string]bool{"serve": true, "demo": true, "sign-in": true, "record": true, "waiting list": true,
	"waiting send": true, "waiting remove": true, "key change": true, "backup": true, "restore": true, "check": true,
	"draft": true, "init": true, "completion": true}

// TestEveryCommandAgainstAService runs each command in this process against a real service, in the order of a
// working day, and wrong uses of it. It fails for a command that has no line here.
func TestEveryCommandAgainstAService(t *testing.T) {
	running(t)
	dir := t.TempDir()
	for name, text := range map[string]string{"quay.yaml": quayContract, "wider.yaml": strings.Replace(quayContract,
		"grants: {name: }", "grants: {name: , owner_mail: }", 1), "monday.lines": quayCapture,
		"tables.sql": "CREATE TABLE boats (name text, colour text);"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	names := map[string]string{"DIR": dir, "CLOSED": closedPort(t)}
	seen := map[string]bool{}
	for _, c := range []ranCase{
		{"status", 0, `INKRET|test|signed in|Noor|noor`},
		{"service list", 0, "no service|No service|apply"},
		{"contract check DIR/quay.yaml --fail-on never", 0, "advice|Advice|berth"},
		{"contract check DIR/none.yaml", 2, "none.yaml"},
		{"contract compare DIR/quay.yaml DIR/wider.yaml", 0, "lets .* see Boat.owner_mail"},
		{"contract compare DIR/quay.yaml DIR/wider.yaml --fail-on-widening", 1, "owner_mail"},
		{"contract apply DIR/quay.yaml --check-only", 0, "quay"},
		{"contract apply DIR/quay.yaml --reason 'the first'", 0, "[Rr]evision 1"},
		{"service list", 0, "quay"},
		{"contract export quay", 0, "endpoint: GET /boats"},
		{"contract export quay --as typescript", 0, "export type"},
		{"contract export nobody", 2, "nobody"},
		{"contract advice quay", 0, "Boat|advice"},
		{"contract coverage quay", 0, "captured|endpoint"},
		{"contract shapes quay", 0, "shape"},
		{"contract revisions", 0, "the first"},
		{"contract revision quay 1", 0, "the first"},
		{"contract revision quay 9", 2, "revision 9"},
		{"capture upload --service quay DIR/monday.lines", 0, "2 captures"},
		{"capture upload --service quay DIR/none.har", 2, "none.har"},
		{"capture batches", 0, "monday"},
		{"capture list --leaking", 0, "/boats/7"},
		{"capture show 1", 0, "call +GET https://quay.example/boats/7(.|\n)*body \\{\\}(.|\n)*finding"},
		{"capture show 1 --format json", 0, "judged_by"},
		{"capture show one", 2, "name a capture by its number"},
		{"capture show 1 2", 2, "name a capture by its number"},
		{"capture show 99", 2, "capture 99"},
		{"endpoint list", 0, "GET /boats/"},
		{"endpoint list --with-contract --sort -open --format json", 0, "known\": true|\"known\":true"},
		{"endpoint list --without-contract --search zebra", 0, "No endpoints"},
		{"endpoint alike", 0, "No endpoints of quay without a contract look like one"},
		{"endpoint alike --format json", 0, `^\[\]`},
		{"endpoint alike --make 'GET /zebra/{id}'", 2, "covers no endpoint"},
		{"endpoint list --with-contract --without-contract", 2, "say --with-contract or"},
		{"endpoint show 8d4e71af3a26", 0, "contract  quay.yaml:[0-9]+\n\n +- endpoint: GET /boats/\\{id\\}\n"},
		{"endpoint show", 2, "inkret endpoint list"},
		{"endpoint show 0123456789ab", 2, "no endpoint"},
		{"capture compare 1 2", 0, "name|phase"},
		{"capture compare 1 99", 2, "capture 99"},
		{"capture reveal 1 /name --reason 'to be sure'", 0, "Tern"},
		{"capture reveal 1 /name", 2, "reason"},
		{"finding list --format json", 0, "owner_mail"},
		{"finding list --severity grave", 2, "grave"},
		{"finding show FINDING", 0, `owner_mail`},
		{"finding show 0000000000000000", 2, "0000000000000000"},
		{"finding comment FINDING 'known since April'", 0, "known since April"},
		{"finding move FINDING confirmed", 0, "confirmed"},
		{"finding move FINDING closed", 2, "closed by proof only"},
		{"finding change FINDING --label q3 --yes", 0, "1 finding"},
		{"finding changes", 0, "q3"},
		{"finding undo 2", 0, "1 finding"},
		{"finding standing", 0, "moorings +0 +1"},
		{"finding groups --by kind", 0, "sensitive-field"},
		{"finding labels", 0, "label"},
		{"finding follow FINDING", 0, ""},
		{"finding unfollow FINDING", 0, ""},
		{"finding keep-view high 'severity=high' --share", 0, "high"},
		{"finding views", 0, "severity=high"},
		{"finding list --view high", 0, "owner_mail"},
		{"finding list --view none", 2, "none"},
		{"finding follow-view 1", 0, ""},
		{"finding unfollow-view 1", 0, ""},
		{"finding drop-view 1", 0, ""},
		{"finding report --format csv", 0, "owner_mail"},
		{"finding report --format pdf", 2, "pdf"},
		{"explain over-posting", 0, "CWE-915"},
		{"entity list quay", 0, "Boat"},
		{"entity fields quay --class unclassed", 0, "berth"},
		{"entity class quay Boat.berth=internal --reason 'of the office'", 0, "[Rr]evision"},
		{"entity class quay Boat.none=internal", 2, "none"},
		{"entity read quay DIR/tables.sql", 0, "colour"},
		{"entity where quay Boat.owner_mail", 0, "GET /boats"},
		{"entity map quay", 0, "owner_mail"},
		{"contract apply DIR/wider.yaml --reason 'the desk calls them'", 1, "waits|approv"},
		{"contract approve quay 3", 2, "own|else"},
		{"contract revisions --page 99", 0, "There is no page 99: page 1 is the last, of 3 revisions"},
		{"contract revisions --page 2 --size 2", 0, "The last 1 of 3 revisions"},
		{"contract revisions --page 1 --size 2", 0, "2 of 3 revisions; --page 2 shows more"},
		{"contract decline quay 3 --comment 'not now'", 0, "declined"},
		{"contract revert quay 1 --reason 'as it was'", 0, "[Rr]evision 4"},
		{"request ask --service quay --audience visitor --needed-by desk --reason 'the list shows it' 'GET " +
			"/boats/{id}' Boat.berth", 0,
			"Request 1"},
		{"request list", 0, "Boat.berth"},
		{"request show 1", 0, "the list shows it"},
		{"request grant 1", 0, "granted"},
		{"request decline 1 --comment no", 2, "was granted by Noor already"},
		{"request ask --service quay --audience visitor --needed-by desk --reason 'and mail' 'GET /boats/{id}' " +
			"Boat.owner_mail", 0,
			"Request 2"},
		{"request decline 2", 2, "reason|why"},
		{"request decline 2 --comment no", 0, "declined"},
		{"request withdraw 2", 2, "declined"},
		{"service servers", 0, "quay.example +no"},
		{"service allow https://quay.example --address CLOSED", 0, ""},
		{"service servers --format json", 0, "https://quay.example"},
		{"service credentials list", 0, "redentials"},
		{"service credentials set desk", 0, "desk"},
		{"service credentials set nobody", 2, "nobody"},
		{"service credentials list --format json", 0, "X-Desk"},
		{"service credentials set desk --person bo", 0, "Kept for desk"},
		{"service credentials list", 0, "desk +bo +X-Desk"},
		{"capture matrix", 2, "say one of"},
		{"capture matrix --capture 1 --dry-run", 0, "Nothing was sent(.|\n)*as desk \\(bo\\), with X-Desk"},
		{"capture matrix --capture 99 --dry-run", 2, "capture 99"},
		{"capture matrix --capture 1 --format pdf", 2, "pdf"},
		{"capture matrix --capture 1", 0, "no answer"},
		{"capture matrix --batch 1", 2, "batch 1 is no matrix"},
		{"watch list", 0, "no watch"},
		{"watch propose", 0, "shows .*open"},
		{"watch make", 2, "name of the watch"},
		{"watch make nightly", 2, "which calls"},
		{"watch make nightly --proposed --every sometimes", 2, "whole hours"},
		{"watch make nightly --capture 1 --window night", 2, "no window"},
		{"watch make nightly --capture 1 --as desk:bo --every 6h --window 22:00-05:00", 0,
			"desk \\(bo\\), every 6 h, 22:00-05:00 UTC"},
		{"watch make nightly --capture 1", 2, "nightly.*already"},
		{"watch list", 0, "nightly +quay +1 +desk \\(bo\\)"},
		{"watch show 1", 0, "GET https://quay.example/boats/7"},
		{"watch show one", 2, "no number"},
		{"watch change 1", 2, "say what changes"},
		{"watch change 1 --every hourly --window all --as recorded", 0, "as recorded, every 1 h"},
		{"watch pause 1", 0, "paused"},
		{"watch resume 1", 0, "runs next"},
		{"watch run 1", 2, "no answer"},
		{"watch show 1 --format json", 0, "failing"},
		{"watch remove 1", 0, "removed"},
		{"watch remove 1", 2, "watch 1"},
		{"service credentials remove desk --person bo", 0, ""},
		{"service credentials remove desk", 0, ""},
		{"service credentials remove desk", 0, "No credentials are kept for desk"},
		{"capture repeat --capture 1 --audience visitor", 2, "nothing answers there"},
		{"service forbid https://quay.example", 0, ""},
		{"service second-person off --reason 'a team of one'", 0, "One person alone decides"},
		{"service second-person on --reason 'two now'", 0, "on"},
		{"service keeping", 0, "days|without end"},
		{"service keeping --days 9999", 2, "3660"},
		{"capture audience 1 desk", 0, "desk|judged"},
		{"capture audience 1 nobody", 2, "nobody"},
		{"capture decline 1", 2, "."},
		{"capture end 1", 0, "batch 1"},
		{"result list", 0, "result"},
		{"result show 1", 2, "result 1"},
		{"result send --service quay --line main DIR/checked.json", 1, "/results/1"},
		{"result send --service quay --line main DIR/quay.yaml", 2, "."},
		{"result show 1", 0, "owner_mail"},
		{"result main-line quay trunk", 0, "trunk"},
		{"result drop 1", 0, ""},
		{"notice list", 0, "notice|nothing|Nothing"},
		{"notice read 1", 0, ""},
		{"notice read", 2, "by its number"},
		{"person list", 0, "teodor@quay.example"},
		{"person invite iva@quay.example", 0, "set-up#"},
		{"person role iva@quay.example reviewer", 0, "reviewer"},
		{"person keep-out iva@quay.example", 0, "iva"},
		{"person let-in iva@quay.example", 0, "iva"},
		{"person reset teodor@quay.example", 0, "set-up#"},
		{"person role nobody@quay.example lead", 2, "nobody@quay.example"},
		{"token list", 0, "test"},
		{"token make pipeline --scope record", 0, "inkret_"},
		{"token end 99", 2, "99"},
		{"mail when daily", 0, "daily"},
		{"mail when sometimes", 2, "at-once, daily or never"},
		{"mail list", 0, "mail"},
		{"mail test", 2, "mail"},
		{"mail again 1", 2, "1"},
		{"hook add board CLOSED/told --address CLOSED", 0, "secret|board"},
		{"hook list", 0, "board"},
		{"hook test 1", 0, ""},
		{"hook deliveries 1", 0, "."},
		{"hook again 99", 2, "99"},
		{"hook drop 1", 0, ""},
		{"trail list --action reveal", 0, "to be sure"},
		{"trail verify", 0, "as they were|entries"},
		{"capture withdraw 1 --reason 'a test' --yes", 1, "A lead who is somebody else approves it"},
		{"finding nothing", 2, "nothing"},
		{"capture list --sort sideways", 2, "sort|sideways"},
		{"sign-out", 0, "Signed out"},
		{"finding list", 2, "sign in again"},
	} {
		line := c.args
		for name, value := range names {
			line = strings.ReplaceAll(line, name, value)
		}
		args := arguments(line)
		status, out, said := inkret(t, "X-Desk: berth 4\n", args...)
		if status != c.status || !regexp.MustCompile(c.want).MatchString(out+said) {
			t.Errorf("inkret %s: exit %d, want %d, saying %q\n%s%s", c.args, status, c.status, c.want, out, said)
		}
		if strings.Contains(out+said, "\x1b") || strings.Contains(said, "panic") || c.status == 2 && out+said == "" {
			t.Errorf("inkret %s: says\n%s%s", c.args, out, said)
		}
		if c.args == "finding list --format json" {
			var list struct{ Items []struct{ ID, Path string } }
			if err := json.Unmarshal([]byte(out), &list); err != nil {
				t.Fatalf("findings are not JSON: %v\n%s", err, out)
			}
			for _, f := range list.Items {
				if f.Path == "$.owner_mail" {
					names["FINDING"] = f.ID
				}
			}
			_, checked, _ := inkret(t, quayCapture, "check", "--contracts", filepath.Join(dir, "quay.yaml"), "--format",
				"json", "-")
			if err := os.WriteFile(filepath.Join(dir, "checked.json"), []byte(checked), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		seen[args[0]] = true
		if len(args) > 1 {
			seen[args[0]+" "+args[1]] = true
			if len(args) > 2 {
				seen[strings.Join(args[:3], " ")] = true
			}
		}
	}
	leaves(new(app).root(), "", func(path string, c *cli.Command) {
		if !seen[path] && !elsewhere[path] {
			t.Errorf("inkret %s has no line in this test", path)
		}
	})
}

// leaves calls f for every command that has none below it.
func leaves(c *cli.Command, path string, f func(path string, c *cli.Command)) {
	for _, one := range c.Commands {
		at := strings.TrimSpace(path + " " + one.Name)
		if len(one.Commands) == 0 {
			f(at, one)
		} else {
			leaves(one, at, f)
		}
	}
}
