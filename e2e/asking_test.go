package e2e

import (
	"bytes"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

const askedAbout = `openapi: 3.0.3
info: {title: Quay, version: "1"}
servers: [{url: "https://api.fennick-quay.example"}]
paths:
  /boats/{id}: {get: {responses: {"200": {content: {application/json: {schema: {$ref: "#/components/schemas/Boat"}}}}}}}
  /people: {get: {responses: {"200": {content: {application/json: {schema: {type: array, items: {$ref: "#/components/schemas/Person"}}}}}}}}
components:
  schemas:
    Boat: {required: [id], properties: {id: {type: integer}, label: {type: string}, staff_note: {type: string}, email: {type: string}}}
    Person: {required: [id], properties: {id: {type: integer}, email: {type: string}, since: {type: string, format: date}}}
`

// TestQuestionsOfADraft answers them in several sittings: the answers are kept as they are given, the draft is written
// anew, and a draft of another day goes by them.
func TestQuestionsOfADraft(t *testing.T) {
	home := t.TempDir()
	api, draft := filepath.Join(home, "api.yaml"), filepath.Join(home, "quay.yaml")
	if err := os.WriteFile(api, []byte(askedAbout), 0o600); err != nil {
		t.Fatal(err)
	}
	ask := func(typed string, more ...string) result {
		t.Helper()
		return run(t, home, strings.NewReader(typed), append([]string{"draft", "--openapi", api, "-o", draft, "--ask"},
			more...)...)
	}
	r := ask("?\nnonsense\n4\nq\n")
	for _, want := range []string{"4 questions, the most important first", "1 of 4  Boat.email",
		"Decides 2 fields: Boat.email, Person.email",
		"* 5  personal, left out (sure)", "Enter     take the suggestion", `"nonsense" is no answer`,
		"2 of 4  Boat.staff_note",
		"3 questions left open, 1 answered", "The same command goes on"} {
		if !strings.Contains(r.err, want) {
			t.Errorf("the first sitting does not say %q: exit %d\n%s", want, r.status, r.err)
		}
	}
	text := func() string {
		data, err := os.ReadFile(draft)
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	if now := text(); strings.Count(now, "email: {type: string, class: personal}") != 2 ||
		strings.Count(now, "# ?") != 3 ||
		strings.Count(now, "email: {optional: true}") != 2 {
		t.Errorf("after one answer the draft is\n%s", now)
	}
	// the input ends in the middle of a question: what was answered is kept
	if r = ask("\nb\ninternal, granted\n"); r.status != 0 ||
		!strings.Contains(r.err, "2 questions left open, 2 answered") ||
		!strings.Contains(text(), "staff_note: {optional: true}") {
		t.Errorf("the second sitting: exit %d\n%s%s", r.status, r.err, text())
	}
	if r = ask("all\n"); r.status != 0 || !strings.Contains(r.err, "Next: inkret check --contracts") ||
		strings.Contains(text(), "?") {
		t.Errorf("the third sitting: exit %d\n%s%s", r.status, r.err, text())
	}
	finished := text()
	if r = ask(""); r.status != 0 || strings.Contains(r.err, "1 of") || text() != finished {
		t.Errorf("with everything answered: exit %d\n%s", r.status, r.err)
	}
	if r = run(t, home, nil, "draft", "--openapi", api, "--answers", draft+".answers"); r.status != 0 ||
		r.out != finished {
		t.Errorf("another draft by the same answers: exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r = run(t, home, nil, "check", "--contracts", draft, "-"); r.status != 2 {
		t.Errorf("checked is nothing: exit %d, %s", r.status, r.err)
	}
	// what a person changed is never written over
	if err := os.WriteFile(draft, []byte(finished+"# mine\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if r = ask("\n"); r.status != 2 || !strings.Contains(r.err, "is there already") ||
		!strings.HasSuffix(text(), "# mine\n") {
		t.Errorf("written over by exit %d: %s", r.status, r.err)
	}
	for _, e := range []expect{
		{"draft --openapi " + api + " --ask", 2, "say where the answers are kept"},
		{"draft --captures - --ask --answers " + home + "/a", 2, "standard input cannot be both"},
		{"draft --openapi " + api + " --answers " + api, 2, "not a file of answers"},
		{"draft --openapi " + api + " --service a/b", 2, "is no service name"},
		{"draft --openapi " + api + " -o " + home + "/not/there/quay.yaml", 0, "4 questions left open"},
	} {
		e.run(t, home)
	}
}

// TestInterruptedReading ends what waits for input that never comes, with what was found so far.
func TestInterruptedReading(t *testing.T) {
	line := sentence{at: "/boats/7", body: `{"id":1,"mail":"bo@quay.example"}`}.line()
	for name, c := range map[string]struct {
		args     []string
		fed      string
		out, err string
	}{
		"check":          {[]string{"check", "-"}, line, "sensitive-field", "interrupted before the end"},
		"check, nothing": {[]string{"check", "-"}, "\n", "", "interrupted before the end"},
		"draft": {[]string{"draft", "--captures", "-"}, line, "endpoint: GET /boats/{boat_id}",
			"interrupted before the end"},
		"draft, nothing": {[]string{"draft", "--openapi", "-"}, "openapi: 3.0.3\n", "", "interrupted before the end"},
		"password, piped": {[]string{"sign-in", "http://127.0.0.1:1", "--email", "a@b.example", "--password-stdin"},
			"abc", "", ""},
	} {
		for _, signal := range []os.Signal{os.Interrupt, syscall.SIGTERM} {
			t.Run(name+", "+signal.String(), func(t *testing.T) {
				in, feed, err := os.Pipe()
				if err != nil {
					t.Fatal(err)
				}
				defer feed.Close()
				var out, errOut safeBuffer
				p := exec.Command(program, c.args...)
				p.Stdin, p.Stdout, p.Stderr, p.Env = in, &out, &errOut, environment(t.TempDir())
				if err := p.Start(); err != nil {
					t.Fatal(err)
				}
				defer in.Close()
				_, _ = io.WriteString(feed, c.fed)
				deadline := time.Now().Add(patience)
				// until it has read that, and waits for more
				for waiting := 1; waiting > 0; time.Sleep(time.Millisecond) {
					if time.Now().After(deadline) {
						t.Fatalf("it never read what it was given: %s", errOut.String())
					}
					if waiting, err = unix.IoctlGetInt(int(in.Fd()), unix.TIOCINQ); err != nil {
						t.Fatal(err)
					}
				}
				begun := time.Now()
				_ = p.Process.Signal(signal)
				err = p.Wait()
				var exit *exec.ExitError
				if !errors.As(err, &exit) || exit.ExitCode() != 2 || time.Since(begun) > patience/4 {
					t.Errorf("ended after %s with %v", time.Since(begun), err)
				}
				if !bytes.Contains([]byte(out.String()), []byte(c.out)) || !strings.Contains(errOut.String(), c.err) {
					t.Errorf("said\n%s\n%s", out.String(), errOut.String())
				}
			})
		}
	}
}
