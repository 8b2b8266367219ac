// Package e2e drives the real thing: the built program as a process, the service
// on loopback through it, and the console in headless Chromium.
package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
)

// program is the built program that all tests here run.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "inkret-e2e-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "inkret")
	if out, err := exec.Command("go", "build", "-o", program, "inkret/cmd/inkret").CombinedOutput(); err != nil {
		fmt.Printf("the program does not build: %v\n%s", err, out)
		os.Exit(1)
	}
	status := m.Run()
	os.RemoveAll(dir)
	os.Exit(status)
}

// patience bounds every wait of these tests; anything that works needs far less.
const patience = 60 * time.Second

// result is what a run of the program gave.
type result struct {
	status   int
	out, err string
}

// run runs the program to its end, in an environment of its own.
func run(t testing.TB, home string, stdin io.Reader, args ...string) result {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	var out, errOut bytes.Buffer
	c := exec.CommandContext(ctx, program, args...)
	c.Stdin, c.Stdout, c.Stderr = stdin, &out, &errOut
	c.Env = environment(home)
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatalf("inkret %s: %v", strings.Join(args, " "), err)
	}
	return result{c.ProcessState.ExitCode(), out.String(), errOut.String()}
}

func environment(home string) []string {
	env := []string{"HOME=" + home, "XDG_CONFIG_HOME=" + filepath.Join(home, "config"), "XDG_DATA_HOME=" +
		filepath.Join(home, "data")}
	for _, v := range []string{"PATH", "TMPDIR"} {
		if value := os.Getenv(v); value != "" {
			env = append(env, v+"="+value)
		}
	}
	return env
}

// server is a running service.
type server struct {
	url     string
	printed string // what it said before it served
	process *exec.Cmd
	logged  *safeBuffer
	later   *safeBuffer // what it printed since
}

// start starts a serving command and waits until it serves. It is stopped at the
// end of the test.
func start(t testing.TB, args ...string) *server {
	t.Helper()
	s := &server{process: exec.Command(program, args...), logged: &safeBuffer{}, later: &safeBuffer{}}
	s.process.Env = environment(t.TempDir())
	s.process.Stderr = s.logged
	out, err := s.process.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := s.process.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.stop(t) })
	lines := make(chan string)
	go func() {
		defer close(lines)
		for in := bufio.NewScanner(out); in.Scan(); {
			lines <- in.Text()
		}
	}()
	deadline := time.After(patience)
	for s.url == "" {
		select {
		case line, ok := <-lines:
			if !ok {
				t.Fatalf("inkret %s ended before it served:\n%s%s", strings.Join(args, " "), s.printed, s.logged)
			}
			s.printed += line + "\n"
			if i := strings.Index(line, "http://"); i >= 0 && (strings.Contains(line, "console") ||
				strings.Contains(line, "/set-up#")) {
				s.url, _, _ = strings.Cut(line[i:], "/set-up")
			}
		case <-deadline:
			t.Fatalf("inkret %s does not serve:\n%s%s", strings.Join(args, " "), s.printed, s.logged)
		}
	}
	go func() {
		for line := range lines {
			fmt.Fprintln(s.later, line)
		}
	}()
	s.waitHealthy(t)
	return s
}

// address waits for the address that stands behind a word in what the program says.
func (s *server) address(t testing.TB, word string) string {
	t.Helper()
	return addressIn(t, s.later, word)
}

func addressIn(t testing.TB, said *safeBuffer, word string) string {
	t.Helper()
	pattern := regexp.MustCompile(word + `\s+(http://[0-9.:]+)`)
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		if m := pattern.FindStringSubmatch(said.String()); m != nil {
			return m[1]
		}
	}
	t.Fatalf("nothing was said of %s:\n%s", word, said)
	return ""
}

func (s *server) waitHealthy(t testing.TB) {
	t.Helper()
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		response, err := http.Get(s.url + "/healthz")
		if err == nil {
			response.Body.Close()
			if response.StatusCode == http.StatusOK {
				return
			}
		}
	}
	t.Fatalf("%s does not become healthy:\n%s", s.url, s.logged)
}

// stop asks the service to stop and waits until it has.
func (s *server) stop(t testing.TB) {
	if s.process.ProcessState != nil {
		return
	}
	s.process.Process.Signal(syscall.SIGTERM)
	ended := make(chan error, 1)
	go func() { ended <- s.process.Wait() }()
	select {
	case err := <-ended:
		if err != nil {
			t.Errorf("the service did not stop well: %v\n%s", err, s.logged)
		}
	case <-time.After(patience):
		s.process.Process.Kill()
		t.Errorf("the service did not stop")
	}
}

// startDemo starts the demo; its recordings and contracts are in the folder that
// is given back too.
func startDemo(t testing.TB) (*server, string) {
	t.Helper()
	dir := t.TempDir()
	s := start(t, "demo", "--listen", "127.0.0.1:0", "--harbour", "127.0.0.1:0", "--recorder", "127.0.0.1:0",
		"--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0", "--recordings", dir)
	return s, dir
}

const demoReviewer, demoPassword = "noor@fennick-quay.example", "low tide at nine"

// signIn signs the command line in home in to s.
func signIn(t testing.TB, s *server, home string) {
	t.Helper()
	r := run(t, home, strings.NewReader(demoPassword+"\n"), "sign-in", s.url, "--email", demoReviewer,
		"--password-stdin")
	if r.status != 0 {
		t.Fatalf("signing in gave %d:\n%s%s", r.status, r.out, r.err)
	}
}

// decode reads JSON that the program printed.
func decode[T any](t testing.TB, text string) T {
	t.Helper()
	var v T
	if err := json.Unmarshal([]byte(text), &v); err != nil {
		t.Fatalf("this is not the JSON expected: %v\n%s", err, text)
	}
	return v
}
