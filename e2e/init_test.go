package e2e

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// repository is a folder that commands run in.
type repository struct {
	t            testing.TB
	folder, home string
	environment  []string // beside the usual
}

func (r *repository) write(name, text string) {
	r.t.Helper()
	name = filepath.Join(r.folder, name)
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		r.t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		r.t.Fatal(err)
	}
}

// run runs a command in a folder of the repository.
func (r *repository) run(in, command string, args ...string) result {
	r.t.Helper()
	var out, errOut bytes.Buffer
	c := exec.CommandContext(r.t.Context(), command, args...)
	c.Dir, c.Stdout, c.Stderr = filepath.Join(r.folder, in), &out, &errOut
	for _, v := range environment(r.home) {
		if strings.HasPrefix(v, "PATH=") {
			v = "PATH=" + filepath.Dir(program) + string(os.PathListSeparator) + strings.TrimPrefix(v, "PATH=")
		}
		c.Env = append(c.Env, v)
	}
	c.Env = append(c.Env, r.environment...)
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		r.t.Fatal(err)
	}
	return result{c.ProcessState.ExitCode(), out.String(), errOut.String()}
}

// expect runs inkret and holds its status and what it says against what is expected.
func (r *repository) expect(status int, says, in string, args ...string) result {
	r.t.Helper()
	got := r.run(in, program, args...)
	if got.status != status || !strings.Contains(got.out+got.err, says) {
		r.t.Errorf("inkret %s: exit %d, want %d, saying %q:\n%s%s", strings.Join(args, " "), got.status, status, says,
			got.out, got.err)
	}
	return got
}

// TestARepositoryIsSetUp lets init find what there is, and holds the commands to the file that it writes, from any
// folder, under the environment and options.
func TestARepositoryIsSetUp(t *testing.T) {
	demo, dir := startDemo(t)
	r := &repository{t: t, folder: t.TempDir(), home: t.TempDir()}
	har, err := os.ReadFile(filepath.Join(dir, "skipper.har"))
	if err != nil {
		t.Fatal(err)
	}
	r.write(".git/HEAD", "ref: refs/heads/main\n")
	r.expect(2, "neither an OpenAPI document, nor a GraphQL schema, nor a recording was found", ".", "init")
	r.write("api/openapi.yaml", askedAbout)
	r.write("tests/monday.har", string(har))
	r.write("node_modules/x/other.har", "{}")
	r.expect(0, "Found tests/monday.har", ".", "init", "--dry-run")
	r.expect(2, "there is no terminal to ask at", ".", "init")
	if _, err := os.Stat(filepath.Join(r.folder, "contracts")); err == nil {
		t.Fatal("it wrote without being told to")
	}
	r.expect(0, "questions open in contracts", ".", "init", "--yes", "--service", "harbour")
	r.expect(0, "There is nothing to write", ".", "init", "--yes")
	for name, want := range map[string]string{"contracts/harbour.yaml": "endpoint: GET /v1/berths",
		".inkret.yaml":         "service: harbour",
		"inkret-baseline.json": `"fingerprint"`, "inkret-check.sh": "exec inkret check"} {
		data, err := os.ReadFile(filepath.Join(r.folder, name))
		if err != nil || !strings.Contains(string(data), want) || strings.Contains(string(data), ".example\",") &&
			name == "inkret-baseline.json" {
			t.Errorf("%s: %v, without %q or with a value:\n%.500s", name, err, want, data)
		}
	}
	r.expect(0, "known before", ".", "check", "tests/monday.har")
	r.expect(0, "known before", "api", "check", "../tests/monday.har")
	r.expect(0, "harbour:", "api", "contract", "check")
	r.expect(1, "critical", ".", "check", "--baseline", "", "tests/monday.har")
	if got := r.run(".", filepath.Join(r.folder, "inkret-check.sh"), "tests/monday.har"); got.status != 0 {
		t.Errorf("the step: exit %d\n%s%s", got.status, got.out, got.err)
	}
	if got := r.run(".", filepath.Join(r.folder, "inkret-check.sh")); got.status != 2 {
		t.Errorf("the step without a recording: exit %d", got.status)
	}
	r.environment = []string{"INKRET_CONTRACTS=nowhere.yaml"}
	r.expect(2, "nowhere.yaml: there is no such file", ".", "check", "tests/monday.har")
	r.expect(2, "nowhere.yaml: there is no such file", ".", "contract", "check")
	r.expect(0, "known before", ".", "check", "--contracts", "contracts", "tests/monday.har")
	r.environment = []string{"INKRET_FAIL_ON=nonsense"}
	r.expect(2, `no severity "nonsense"`, ".", "check", "tests/monday.har")
	r.environment = nil

	// the result is sent in the same step, and what is known to the service alone decides
	tokens := run(t, r.home, strings.NewReader(demoPassword+"\n"), "sign-in", demo.url, "--email", demoReviewer,
		"--password-stdin", "--print-token")
	r.environment = []string{"INKRET_URL=" + demo.url, "INKRET_TOKEN=" + strings.TrimSpace(tokens.out)}
	r.expect(0, "harbour: revision 1 is in force", ".", "contract", "apply")
	sent := r.expect(1, "0 as before", ".", "check", "--send", "--baseline", "", "tests/monday.har")
	r.expect(0, "0 new", ".", "check", "--send", "--baseline", "", "--line", "berth-plans", "tests/monday.har")
	if !strings.Contains(sent.out, "critical") {
		t.Errorf("sent, it prints\n%s", sent.out)
	}
	if got := r.run(".", filepath.Join(r.folder, "inkret-check.sh"), "tests/monday.har"); got.status != 0 ||
		!strings.Contains(got.err, "Sent as result") || !strings.Contains(got.err, "0 new") {
		t.Errorf("the step, sending: exit %d\n%s", got.status, got.err)
	}
	r.environment[0] = "INKRET_URL=http://127.0.0.1:1"
	r.expect(2, "no service answers", ".", "check", "--send", "tests/monday.har")

	for text, says := range map[string]string{"contract: x": `"contract" is not known here`,
		"fail-on: [a, b]": "fail-on is one text",
		"servers: {a: 1}": "or a list of them", "a: [": ".inkret.yaml:2:1", "- a": "expected keys"} {
		r.write(".inkret.yaml", text)
		r.expect(2, says, ".", "check", "tests/monday.har")
		r.expect(2, says, "api", "draft", "--openapi", "openapi.yaml")
	}
	r.expect(0, "", ".", "finding", "list", "--help")
}
