package cli

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/urfave/cli/v3"
)

// asked is a service that records requests and always gives the same answer.
type asked struct {
	method, path string
	query        url.Values
	body         string
}

func answering(t *testing.T, status int, answer string) *asked {
	t.Helper()
	a := &asked{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var body bytes.Buffer
		body.ReadFrom(r.Body)
		a.method, a.path, a.query, a.body = r.Method, r.URL.Path, r.URL.Query(), body.String()
		if r.Header.Get("Authorization") != "Bearer of-the-test" {
			t.Errorf("%s is asked without the token", r.URL)
		}
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		w.Write([]byte(answer))
	}))
	t.Cleanup(s.Close)
	t.Setenv("INKRET_URL", s.URL)
	t.Setenv("INKRET_TOKEN", "of-the-test")
	return a
}

// inkret runs the command line in this process.
func inkret(t *testing.T, stdin string, args ...string) (status int, out, errOut string) {
	t.Helper()
	var o, e bytes.Buffer
	status = Run(t.Context(), append([]string{"inkret"}, args...), strings.NewReader(stdin), &o, &e)
	return status, o.String(), e.String()
}

// TestFlagsBecomeQueries checks the query that each filter of a list becomes.
func TestFlagsBecomeQueries(t *testing.T) {
	a := answering(t, 200, `{"items":[],"total":0,"page":1,"size":50}`)
	for flag, want := range map[string]string{
		"--batch 7": "batch=7", "--service quay": "service=quay", "--endpoint 0a1b": "endpoint=0a1b",
		"--audience skipper": "audience=skipper", "--finding 00ff": "finding=00ff",
		"--repeats 41": "repeats=41", "--search berths": "words=berths", "--least-bytes 10": "least_bytes=10",
		"--most-bytes 20": "most_bytes=20", "--leaking": "leaking=true",
		"--clean": "clean=true", "--skipped": "skipped=true", "--sort excess": "sort=excess", "--page 3": "page=3",
		"--size 7": "size=7", "--since 2027-03-31T08:00:00Z": "since=2027-03-31T08:00:00Z",
		"--until 2027-03-31T08:00:00+02:00": "until=2027-03-31T08:00:00+02:00", "--status 404": "status=404",
	} {
		status, _, said := inkret(t, "", append([]string{"capture", "list"}, strings.Fields(flag)...)...)
		name, value, _ := strings.Cut(want, "=")
		if status != 0 || a.path != "/api/v1/captures" || a.query.Get(name) != value {
			t.Errorf("capture list %s asks %s?%s, exit %d: %s", flag, a.path, a.query.Encode(), status, said)
		}
	}
	if inkret(t, "", "capture", "list", "--status", "4XX, 500"); strings.Join(a.query["status"], "|") != "4XX|500" {
		t.Errorf("several statuses are asked for as %q", a.query["status"])
	}
}

// TestProblemsOfTheServiceAreTold checks that people learn what is wrong and what to do next, and that no control
// character reaches the terminal.
func TestProblemsOfTheServiceAreTold(t *testing.T) {
	answering(t, 409, `{"type":"about:blank","title":"Conflict","status":409,"detail":"no credentials are kept for \"x\" \u001b[31m","next":"set them: inkret service credentials set x"}`)
	status, out, said := inkret(t, "", "capture", "repeat", "--capture", "7")
	if status != exitFailed || out != "" || !strings.Contains(said, "no credentials are kept") ||
		!strings.Contains(said, "--writes") || strings.Contains(said, "\x1b") {
		t.Errorf("exit %d\n%q\n%q", status, out, said)
	}
	answering(t, 500, `<html>`)
	if status, _, said := inkret(t, "", "trail", "list"); status != exitFailed || !strings.Contains(said, "500") ||
		!strings.Contains(said, "Inkret service") {
		t.Errorf("what is no answer of a service: exit %d %q", status, said)
	}
	t.Setenv("INKRET_URL", "http://127.0.0.1:1")
	if status, _, said := inkret(t, "", "trail", "list"); status != exitFailed ||
		!strings.Contains(said, "no service answers at http://127.0.0.1:1") {
		t.Errorf("nobody there: exit %d %q", status, said)
	}
}

func TestCredentialsAreReadFromStandardInput(t *testing.T) {
	a := answering(t, 204, ``)
	status, out, said := inkret(t, "Authorization: Bearer a:b\r\n\n X-Desk : 2 \n", "service", "credentials", "set",
		"office", "--service", "quay")
	if status != 0 || a.method != "PUT" || a.path != "/api/v1/services/quay/credentials/office" ||
		a.body != `{"headers":[{"name":"Authorization","value":"Bearer a:b"},{"name":"X-Desk","value":"2"}]}` {
		t.Errorf("exit %d, %s %s %s %s", status, a.method, a.path, a.body, said)
	}
	if !strings.Contains(out, "2 header fields") || strings.Contains(out+said, "a:b") {
		t.Errorf("it says %q %q", out, said)
	}
}

func TestRecordingsOfAFolder(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"b.har", "a/2.warc", "a/1.har", ".hidden", ".git/config", "a/.note"} {
		path := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(path), 0o755)
		if err := os.WriteFile(path, []byte("x"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	all, err := recordings([]string{"-", dir, filepath.Join(dir, "b.har"), "nothing"})
	if err != nil {
		t.Fatal(err)
	}
	var shown []string
	for _, f := range all {
		word := f.shown
		if f.found {
			word += "*"
		}
		shown = append(shown, word)
	}
	if got, want := strings.Join(shown, " | "),
		"standard input | a/1.har* | a/2.warc* | b.har* | b.har | nothing"; got != want {
		t.Errorf("recordings are %s, want %s", got, want)
	}
	if _, err := recordings([]string{filepath.Join(dir, ".git"), t.TempDir()}); err == nil ||
		!strings.Contains(err.Error(), "has no file") {
		t.Errorf("an empty folder: %v", err)
	}
}

// TestNothingIsDoneUnasked checks that a withdrawal is only shown when nobody can confirm it.
func TestNothingIsDoneUnasked(t *testing.T) {
	a := answering(t, 200, `{"captures":3,"gone":[],"stay":[],"fewer":2}`)
	status, out, said := inkret(t, "y\n", "capture", "withdraw", "7", "--reason", "by mistake")
	if status != exitFailed || a.method != "GET" || !strings.Contains(out, "Batch 7 has 3 captures") ||
		!strings.Contains(out, "2 findings that other batches show") || !strings.Contains(said, "--yes") {
		t.Errorf("exit %d after %s %s\n%s\n%s", status, a.method, a.path, out, said)
	}
	if status, _, _ := inkret(t, "", "capture", "withdraw", "7", "--reason", "by mistake", "--yes"); status != 0 ||
		a.method != "POST" || a.body != `{"reason":"by mistake"}` {
		t.Errorf("exit %d after %s %s %s", status, a.method, a.path, a.body)
	}
}

// TestSizes reads sizes with units; others are refused before anything is done.
func TestSizes(t *testing.T) {
	for _, wrong := range []string{"lots", "-1", "5 parsecs", "99999999 EB"} {
		status, _, said := inkret(t, "", "record", "--upstream", "http://127.0.0.1:1", "--to",
			filepath.Join(t.TempDir(), "x"), "--max-body", wrong)
		if status != exitFailed || !strings.Contains(said, "is no size; one is written 500 MB or 2 GiB") {
			t.Errorf("--max-body %s: exit %d %q", wrong, status, said)
		}
		if status, _, said := inkret(t, "", "serve", "--data", t.TempDir(), "--max-disk",
			wrong); status != exitFailed || !strings.Contains(said, "--max-disk") {
			t.Errorf("--max-disk %s: exit %d %q", wrong, status, said)
		}
	}
}

// TestNothingIsRecordedAtABusyAddress leaves no file behind that would be in the way of the next try.
func TestNothingIsRecordedAtABusyAddress(t *testing.T) {
	busy, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer busy.Close()
	dir := t.TempDir()
	status, out, said := inkret(t, "", "record", "--upstream", "http://127.0.0.1:1", "--listen", busy.Addr().String(),
		"--to", filepath.Join(dir, "x.jsonl"))
	if status != exitFailed || out != "" || !strings.Contains(said, "another program listens on "+
		busy.Addr().String()) {
		t.Errorf("exit %d %q %q", status, out, said)
	}
	if left, err := os.ReadDir(dir); err != nil || len(left) > 0 {
		t.Errorf("it left %v: %v", left, err)
	}
}

// TestOptionsAreGivenOnce gives every option of every command twice. Of an option with one value, neither may be
// ignored silently.
func TestOptionsAreGivenOnce(t *testing.T) {
	tried := 0
	everyCommand((&app{in: strings.NewReader(""), out: io.Discard, err: io.Discard}).root(), func(c *cli.Command) {
		for _, f := range c.Flags {
			name, value := f.Names()[0], "1"
			switch f.(type) {
			case *cli.StringSliceFlag, *cli.Int64SliceFlag:
				continue
			case *cli.BoolFlag:
				value = "true"
			case *cli.DurationFlag:
				value = "1h"
			}
			var args []string
			for at := c; at.Name != "inkret" && at.Name != ""; at = parentOf(t, at) {
				args = append([]string{at.Name}, args...)
			}
			option := "--" + name + "=" + value
			status, out, said := inkret(t, "", append(args, option, option)...)
			if tried++; status != exitFailed || out != "" ||
				!strings.Contains(said, "--"+name+" is given twice; give it once") {
				t.Errorf("inkret %s %s %s: exit %d %q %q", strings.Join(args, " "), option, option, status, out, said)
			}
		}
	})
	if tried < 150 {
		t.Errorf("only %d options were tried", tried)
	}
}

// TestOptionsSayWhatIsWrong gives options of every command values that do not fit, none, and names that do not exist.
func TestOptionsSayWhatIsWrong(t *testing.T) {
	var tried int
	wrong := func(args []string, want string) {
		tried++
		status, out, said := inkret(t, "", args...)
		if status != exitFailed || out != "" || !strings.Contains(said, want) || !strings.Contains(said, "--help") ||
			strings.Contains(said, "strconv") || strings.Contains(said, "flag") || strings.Contains(said, "time:") {
			t.Errorf("inkret %s: exit %d %q, not %q", strings.Join(args, " "), status, said, want)
		}
	}
	everyCommand((&app{in: strings.NewReader(""), out: io.Discard, err: io.Discard}).root(), func(c *cli.Command) {
		var args []string
		for at := c; at.Name != "inkret" && at.Name != ""; at = parentOf(t, at) {
			args = append([]string{at.Name}, args...)
		}
		for _, f := range c.Flags {
			option, want := "--"+f.Names()[0], ""
			switch f.(type) {
			case *cli.IntFlag, *cli.Int64Flag:
				want = "a whole number"
				wrong(append(args, option+"=99999999999999999999"),
					option+` needs a number of fewer digits, not "99999999999999999999"`)
			case *cli.Int64SliceFlag:
				want = "a whole number"
			case *cli.FloatFlag:
				want = "a number"
			case *cli.BoolFlag:
				want = "true or false"
			case *cli.DurationFlag:
				want = "a time such as 90s, 30m or 24h"
			}
			if want != "" {
				wrong(append(args, option+"=ab\nc"), option+" needs "+want+`, not "ab\nc"`)
			}
			if _, truth := f.(*cli.BoolFlag); !truth {
				wrong(append(args, option), option+" needs a value")
			}
			wrong(append(args, option+"zz=1"), " has no option "+option+"zz")
		}
	})
	if tried < 300 {
		t.Errorf("only %d were tried", tried)
	}
	t.Setenv("INKRET_DIGEST_HOUR", "noon")
	if status, _, said := inkret(t, "", "serve", "--data", t.TempDir()); status != exitFailed ||
		!strings.Contains(said, `INKRET_DIGEST_HOUR needs a whole number, not "noon"`) || strings.Contains(said, "strconv") {
		t.Errorf("exit %d %q", status, said)
	}
	for said, near := range map[string]string{"check --fromat json x": "--format", "capture list --bach 3": "--batch",
		"capture lst": "inkret capture list", "chek": "inkret check"} {
		if _, _, got := inkret(t, "", strings.Fields(said)...); !strings.Contains(got, "did you mean: "+near+"\n") {
			t.Errorf("inkret %s: %q", said, got)
		}
	}
}

// parentOf finds the command that a command stands below.
func parentOf(t *testing.T, of *cli.Command) *cli.Command {
	t.Helper()
	var parent *cli.Command
	everyCommand((&app{in: strings.NewReader(""), out: io.Discard, err: io.Discard}).root(), func(c *cli.Command) {
		for _, below := range c.Commands {
			if below.Name == of.Name && below.Usage == of.Usage && below.ArgsUsage == of.ArgsUsage {
				parent = c
			}
		}
	})
	if parent == nil {
		t.Fatalf("%s stands below nothing", of.Name)
	}
	return parent
}

// TestWhatCannotBeKeptIsSaid checks a recording from standard input where no temporary file can be made: it is judged,
// each value by itself, and that is said.
func TestWhatCannotBeKeptIsSaid(t *testing.T) {
	var refs []string
	for i := range 24 {
		refs = append(refs, fmt.Sprintf(`\"411111111111%04d\"`, 1112+7*i))
	}
	refs = append(refs, `\"4111111111111111\"`)
	line := `{"request":{"url":"https://quay.example/x"},"response":{"status":200,"headers":[{"name":"Content-Type",` +
		`"value":"application/json"}],"body":"{\"refs\":[` + strings.Join(refs, ",") + `]}"}}` + "\n"
	if status, out, errOut := inkret(t, line, "check", "-"); status != 0 || errOut != "" {
		t.Errorf("kept, it is exit %d, %s%s", status, out, errOut)
	}
	t.Setenv("TMPDIR", t.TempDir()+"/none")
	if status, out, errOut := inkret(t, line, "check", "-"); status != 1 || !strings.Contains(out, "1 finding") ||
		!strings.Contains(errOut, "standard input cannot be read again") || !strings.Contains(errOut, "set TMPDIR") {
		t.Errorf("not kept, it is exit %d, %s%s", status, out, errOut)
	}
}
