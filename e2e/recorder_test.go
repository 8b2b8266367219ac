package e2e

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"inkret/api/wire"
)

// recorder is a running inkret record.
type recorder struct {
	url     string
	process *exec.Cmd
	said    *safeBuffer
}

// record starts a recorder, in the environment of home.
func record(t testing.TB, home string, out io.Writer, args ...string) *recorder {
	t.Helper()
	r := &recorder{process: exec.Command(program, append([]string{"record", "--listen", "127.0.0.1:0"}, args...)...),
		said: &safeBuffer{}}
	r.process.Env, r.process.Stdout, r.process.Stderr = environment(home), out, r.said
	if err := r.process.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if r.process.ProcessState == nil {
			r.process.Process.Kill()
			r.process.Wait()
		}
	})
	r.url = addressIn(t, r.said, "Recording")
	return r
}

// end stops it and gives its exit status.
func (r *recorder) end(t testing.TB) int {
	t.Helper()
	r.process.Process.Signal(syscall.SIGINT)
	r.process.Wait()
	return r.process.ProcessState.ExitCode()
}

// call makes a call and gives its body.
func call(t testing.TB, address string, header ...string) string {
	t.Helper()
	request, err := http.NewRequest("GET", address, nil)
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i+1 < len(header); i += 2 {
		request.Header.Set(header[i], header[i+1])
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(body)
}

// waitFor waits for something to be so.
func waitFor(t testing.TB, what string, is func() bool) {
	t.Helper()
	for deadline := time.Now().Add(patience); !is(); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("never: %s", what)
		}
	}
}

func TestRecordingIntoAFile(t *testing.T) {
	s, dir := startDemo(t)
	harbour := s.address(t, "its API")
	home := t.TempDir()
	file := filepath.Join(home, "run.lines")
	r := record(t, home, nil, "--upstream", harbour, "--as", "https://api.fennick-quay.example", "--to", file,
		"--exclude", "/v1/tides", "--audience", "skipper")
	for _, path := range []string{"/v1/berths", "/arrivals", "/v1/tides"} {
		if through := call(t, r.url+path); through != call(t, harbour+path) {
			t.Errorf("%s comes through changed: %s", path, through)
		}
	}
	if status := r.end(t); status != 0 ||
		!strings.Contains(r.said.String(), "2 calls captured, 1 passed without, 0 dropped") {
		t.Errorf("exit %d\n%s", status, r.said)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the file with what leaks may be read by others: %v, %v", info.Mode(), err)
	}
	contracts := filepath.Join(home, "contracts")
	os.Mkdir(contracts, 0o755)
	for _, name := range []string{"fennick-quay.yaml", "catalogue.yaml", "harbour.graphql"} {
		os.Rename(filepath.Join(dir, name), filepath.Join(contracts, name))
	}
	checked := run(t, home, nil, "check", "--contracts", contracts, file)
	for _, want := range []string{"2 captures: 2 judged", "script#state >> $.arrivals[*].skipper.email",
		"skipper · 2XX"} {
		if !strings.Contains(checked.out, want) {
			t.Errorf("check does not say %q:\n%s%s", want, checked.out, checked.err)
		}
	}
	// A file that is there is not written over, and lines come on standard output too.
	if again := run(t, home, nil, "record", "--upstream", harbour, "--to", file); again.status != 2 ||
		!strings.Contains(again.err, "is there already") {
		t.Errorf("over a file: exit %d %s", again.status, again.err)
	}
	var out bytes.Buffer
	r = record(t, home, &out, "--upstream", harbour, "--to", "-")
	call(t, r.url+"/v1/tides")
	if r.end(t) != 0 || !strings.Contains(out.String(), `"url":"`+harbour+`/v1/tides"`) {
		t.Errorf("standard output has %q", out.String())
	}
}

func TestRecordingThatCannotBegin(t *testing.T) {
	s, _ := startDemo(t)
	home := t.TempDir()
	if r := run(t, home, nil, "record", "--upstream", "http://127.0.0.1:1"); r.status != 2 ||
		!strings.Contains(r.err, "--to FILE") {
		t.Errorf("signed out: exit %d %s", r.status, r.err)
	}
	signIn(t, s, home)
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	for _, c := range []struct{ args, says string }{
		{"", "say where the API is with --upstream"},
		{"--upstream api.example", "is no address of an API"},
		{"--upstream http://127.0.0.1:1", "know no server http://127.0.0.1:1"},
		{"--upstream http://127.0.0.1:1 --to x --service fennick-quay", "not both"},
		{"--upstream http://127.0.0.1:1 --to x.lines --include v1", "is no rule"},
		{"--upstream http://127.0.0.1:1 --to x.lines --exclude /v1/small?x=*", "write /v1/small"},
		{"--upstream http://127.0.0.1:1 --to x.lines --max-body 0", "say at least 1"},
		{"--upstream http://127.0.0.1:1 --to x.lines --sample 0", "is a share over 0"},
		{"--upstream http://127.0.0.1:1 --to x.lines --max-body big", "is no size"},
		{"--upstream http://127.0.0.1:1 --to x.lines --upstream-ca /nowhere.pem", "there is no such file"},
		{"--upstream http://127.0.0.1:1 --to /nowhere/x.lines", "there is no such file"},
		{"--upstream https://api.fennick-quay.example --service nothing", `there is no service "nothing"`},
		{"--upstream https://api.fennick-quay.example --listen " + taken.Addr().String(), "another program listens"},
		{"--upstream https://api.fennick-quay.example one", "takes no arguments"},
	} {
		if r := run(t, home, nil, append([]string{"record"}, strings.Fields(c.args)...)...); r.status != 2 ||
			!strings.Contains(r.err, c.says) {
			t.Errorf("record %s: exit %d, said %s; want %q", c.args, r.status, r.err, c.says)
		}
	}
}

// TestRecordingOutlivesTheService kills the service while calls are made: the calls
// go on, and what was captured comes in once the service is back, each once.
func TestRecordingOutlivesTheService(t *testing.T) {
	data := t.TempDir()
	var address string // the same after the kill, and none that a system gives to somebody else meanwhile
	for port := 21_000 + os.Getpid()%10_000; address == ""; port++ {
		if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			address = l.Addr().String()
			l.Close()
		}
	}
	harbour := demoHarbour(t)
	again := func() *server {
		return start(t, "demo", "--listen", address, "--harbour", "127.0.0.1:0", "--recorder", "127.0.0.1:0",
			"--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0", "--data", data)
	}
	s := again()
	home := t.TempDir()
	signIn(t, s, home)
	r := record(t, home, nil, "--upstream", harbour, "--as", "https://api.fennick-quay.example", "--name",
		"through the night")
	batch := func() wire.Batch {
		for _, b := range decode[wire.BatchPage](t, run(t, home, nil, "capture", "batches", "--format",
			"json").out).Items {
			if b.Name == "through the night" {
				return b
			}
		}
		return wire.Batch{}
	}
	made := 0
	calls := func(n int) {
		for range n {
			made++
			if body := call(t, fmt.Sprintf("%s/v1/berths/%d", r.url, 100+made%24)); !strings.Contains(body, "{") {
				t.Fatalf("call %d came to %q", made, body)
			}
		}
	}
	calls(20)
	waitFor(t, "the service has the first calls", func() bool { return batch().Captures == 20 })
	s.process.Process.Kill()
	s.process.Wait()
	calls(30)
	waitFor(t, "captures wait on disk", func() bool {
		waiting, _ := filepath.Glob(filepath.Join(home, ".local/state/inkret/waiting/run-*/*.chunk"))
		return len(waiting) > 0
	})
	calls(10)
	s = again()
	waitFor(t, "the service has them all", func() bool { return batch().Captures == made })
	calls(5)
	if status := r.end(t); status != 0 ||
		!strings.Contains(r.said.String(), fmt.Sprintf("%d calls captured, 0 passed without, 0 dropped", made)) {
		t.Errorf("exit %d\n%s", status, r.said)
	}
	b := batch()
	if b.Captures != made || b.Growing != nil && *b.Growing || b.Dropped != nil {
		t.Errorf("the batch is %+v; %d calls were made", b, made)
	}
	listed := decode[wire.CapturePage](t, run(t, home, nil, "capture", "list", "--batch", fmt.Sprint(b.ID), "--size",
		"500", "--format", "json").out)
	entries := map[int]bool{}
	for _, c := range listed.Items {
		entries[c.Entry] = true
	}
	if listed.Total != made || len(entries) != made {
		t.Errorf("%d captures with %d entries; %d calls were made", listed.Total, len(entries), made)
	}

	// A recorder that is stopped while the service is away leaves what it has, and
	// says so; the next one sends it.
	r = record(t, home, nil, "--upstream", harbour, "--as", "https://api.fennick-quay.example", "--name", "left behind")
	s.process.Process.Kill()
	s.process.Wait()
	calls(3)
	if status := r.end(t); status != 1 || !strings.Contains(r.said.String(), "the service did not take all") {
		t.Errorf("exit %d\n%s", status, r.said)
	}
	s = again()
	r = record(t, home, nil, "--upstream", harbour, "--as", "https://api.fennick-quay.example", "--name",
		"through the night")
	waitFor(t, "what was left is there", func() bool {
		for _, b := range decode[wire.BatchPage](t, run(t, home, nil, "capture", "batches", "--format",
			"json").out).Items {
			if b.Name == "left behind" && b.Captures == 3 && (b.Growing == nil || !*b.Growing) {
				return true
			}
		}
		return false
	})
	r.end(t)
	if strings.Contains(s.logged.String(), "sails.example") || strings.Contains(r.said.String(), "sails.example") {
		t.Error("a captured value is logged")
	}
}

// TestWhatWaitsIsToldAndCanBeSent records for a service whose name is spelt wrongly, while it is away.
func TestWhatWaitsIsToldAndCanBeSent(t *testing.T) {
	data, home, harbour := t.TempDir(), t.TempDir(), demoHarbour(t)
	s := start(t, "demo", "--listen", "127.0.0.1:0", "--harbour", "127.0.0.1:0", "--recorder", "127.0.0.1:0",
		"--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0", "--data", data)
	signIn(t, s, home)
	if r := run(t, home, nil, "status"); r.status != 0 || !strings.Contains(r.out, "Noor Adeyar") ||
		!strings.Contains(r.out, "answers") || !strings.Contains(r.out, "nothing") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := run(t, home, nil, "record", "--upstream", harbour, "--service", "fennick-qay"); r.status != 2 ||
		!strings.Contains(r.err, "fennick-qay") {
		t.Errorf("a service that is not there, while it answers: exit %d %s", r.status, r.err)
	}
	s.process.Process.Kill()
	s.process.Wait()
	if r := run(t, home, nil, "status"); r.status != 1 || !strings.Contains(r.out, "no service answers") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	rec := record(t, home, nil, "--upstream", harbour, "--as", "https://api.fennick-quay.example", "--service",
		"fennick-qay", "--name", "misspelt")
	call(t, rec.url+"/v1/berths/101")
	if status := rec.end(t); status != 1 || !strings.Contains(rec.said.String(), "inkret status") {
		t.Errorf("exit %d\n%s", status, rec.said)
	}
	// The service is back: the next recorder does its work, says what it could not send, and ends with 1.
	address := strings.TrimPrefix(s.url, "http://")
	start(t, "demo", "--listen", address, "--harbour", "127.0.0.1:0", "--recorder", "127.0.0.1:0", "--mailbox",
		"127.0.0.1:0", "--provider", "127.0.0.1:0", "--data", data)
	rec = record(t, home, nil, "--upstream", harbour, "--as", "https://api.fennick-quay.example", "--name",
		"spelt well")
	call(t, rec.url+"/v1/berths/102")
	type waiting struct{ Run, Service, State, Reason string }
	listed := func(want int) []waiting {
		r := run(t, home, nil, "waiting", "list", "--format", "json")
		if r.status != want {
			t.Errorf("exit %d, want %d\n%s%s", r.status, want, r.out, r.err)
		}
		return decode[[]waiting](t, r.out)
	}
	waitFor(t, "what cannot be sent is set aside", func() bool {
		for _, one := range listed(1) {
			if one.State == "set-aside" {
				return true
			}
		}
		return false
	})
	if status := rec.end(t); status != 1 || !strings.Contains(rec.said.String(), "set aside") ||
		!strings.Contains(rec.said.String(), "1 call captured") {
		t.Errorf("exit %d\n%s", status, rec.said)
	}
	all := listed(1)
	if len(all) != 1 || all[0].Service != "fennick-qay" || !strings.Contains(all[0].Reason, "fennick-qay") {
		t.Fatalf("waiting: %+v", all)
	}
	if r := run(t, home, nil, "status"); r.status != 1 || !strings.Contains(r.out, "set aside") ||
		!strings.Contains(r.out, all[0].Run) {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := run(t, home, nil, "waiting", "remove", all[0].Run); r.status != 2 || len(listed(1)) != 1 {
		t.Errorf("removed without being asked: exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := run(t, home, nil, "waiting", "send", all[0].Run); r.status != 2 || !strings.Contains(r.err, "fennick-qay") {
		t.Errorf("sent to nobody: exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := run(t, home, nil, "waiting", "send", all[0].Run, "--service", "fennick-quay"); r.status != 0 ||
		!strings.Contains(r.out, "is sent: batch") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	found := false
	for _, b := range decode[wire.BatchPage](t, run(t, home, nil, "capture", "batches", "--format",
		"json").out).Items {
		found = found || b.Name == "misspelt" && b.Captures == 1 && (b.Growing == nil || !*b.Growing)
	}
	if !found || len(listed(0)) != 0 {
		t.Error("what was sent is not there, or waits on")
	}
	if r := run(t, home, nil, "waiting", "send"); r.status != 0 || !strings.Contains(r.out, "Nothing waits") {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
}

// demoHarbour is a stand-in API that stays up whatever becomes of the service.
func demoHarbour(t *testing.T) string {
	s := start(t, "demo", "--listen", "127.0.0.1:0", "--harbour", "127.0.0.1:0", "--recorder", "127.0.0.1:0",
		"--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0")
	return s.address(t, "its API")
}

// TestWhoeverReadsTheCapturesMayEnd: the traffic goes on when the other end of standard output, and of standard
// error, is gone.
func TestWhoeverReadsTheCapturesMayEnd(t *testing.T) {
	s, _ := startDemo(t)
	harbour := s.address(t, "its API")
	read, write, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	r := record(t, t.TempDir(), write, "--upstream", harbour, "--to", "-")
	write.Close()
	call(t, r.url+"/v1/tides")
	read.Close()
	for range 20 { // the first of these meet the closed pipe
		if through := call(t, r.url+"/v1/berths"); through != call(t, harbour+"/v1/berths") {
			t.Fatalf("it comes through changed: %s", through)
		}
	}
	if status := r.end(t); status == 0 || status == -1 || !strings.Contains(r.said.String(), "dropped") {
		t.Errorf("exit %d\n%s", status, r.said)
	}
}

// TestWhatIsNotWholeNeverPassesForWhole sends a body past the recorder whole, cut by --max-body, and from an
// API that dies in it. The check of the file, and what the service lists, say the same of each.
func TestWhatIsNotWholeNeverPassesForWhole(t *testing.T) {
	const lines = `{"id":1,"name":"Sol"}` + "\n" + `{"id":2,"name":"Ada"}` + "\n"
	upstream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/x-ndjson")
		switch r.URL.Path {
		case "/long":
			io.WriteString(w, strings.Repeat(lines, 30))
		case "/died":
			w.Header().Set("Content-Length", "500")
			io.WriteString(w, lines)
			w.(http.Flusher).Flush()
			panic(http.ErrAbortHandler)
		default:
			io.WriteString(w, lines)
		}
	}))
	defer upstream.Close()
	paths := []string{"/whole", "/long", "/died"}
	server, home := startDemo(t)
	signIn(t, server, home)
	file := filepath.Join(t.TempDir(), "day.lines")
	for _, to := range [][]string{{"--to", file}, {"--name", "not whole"}} {
		r := record(t, home, nil, append([]string{"--upstream", upstream.URL, "--as",
			"https://api.fennick-quay.example", "--max-body", "1000"}, to...)...)
		for _, path := range paths {
			if response, err := http.Get(r.url + path); err == nil {
				io.Copy(io.Discard, response.Body)
				response.Body.Close()
			}
		}
		if status := r.end(t); status != 0 {
			t.Fatalf("the recorder ends with %d: %s", status, r.said)
		}
	}

	type entry struct {
		Entry  int
		Reason string
	}
	report := decode[struct{ Skipped, Incomplete []entry }](t, run(t, home, nil, "check", "--format", "json", file).out)
	if len(report.Skipped) != 1 || len(report.Incomplete) != 1 {
		t.Fatalf("the check says %+v", report)
	}
	said := map[string]string{paths[report.Skipped[0].Entry]: report.Skipped[0].Reason,
		paths[report.Incomplete[0].Entry]: report.Incomplete[0].Reason}
	if !strings.HasPrefix(said["/long"],
		"the body of the answer was cut after 1000 bytes, as is set for recording: the body is not JSON") ||
		said["/died"] != "the body of the answer broke off" {
		t.Errorf("the check says %v", said)
	}
	if r := run(t, home, nil, "check", file); !strings.Contains(r.out,
		"incomplete 1: the body of the answer broke off (first: "+file+", entry 2)") ||
		!strings.Contains(r.out, "3 captures: 2 judged (1 incomplete), 1 skipped") ||
		!strings.Contains(r.out, "No findings in what is there.") {
		t.Errorf("the check prints %s%s", r.out, r.err)
	}

	var sent []wire.Capture
	waitFor(t, "what was recorded is there", func() bool {
		sent = sent[:0]
		for _, c := range decode[wire.CapturePage](t, run(t, home, nil, "capture", "list", "--format",
			"json").out).Items {
			if strings.HasSuffix(c.URL, "/whole") || strings.HasSuffix(c.URL, "/long") ||
				strings.HasSuffix(c.URL, "/died") {
				sent = append(sent, c)
			}
		}
		return len(sent) == len(paths)
	})
	for _, c := range sent {
		path := c.URL[strings.LastIndex(c.URL, "/"):]
		says := ""
		if c.Incomplete != nil {
			says = *c.Incomplete
		}
		if c.Skipped != nil {
			says = *c.Skipped
		}
		if says != said[path] || (c.Incomplete != nil) != (path != "/whole") {
			t.Errorf("%s: the check says %q, the service %q", path, said[path], says)
		}
	}
	if r := run(t, home, nil, "capture", "list"); !strings.Contains(r.out,
		"incomplete: the body of the answer broke off") {
		t.Errorf("the list prints %s", r.out)
	}
	if r := run(t, home, nil, "capture", "upload", file); r.status != 0 ||
		!strings.Contains(r.out, "3 captures (2 judged, 1 skipped)") || !strings.Contains(r.out, "1 incomplete: ") {
		t.Errorf("the upload prints %s%s", r.out, r.err)
	}
	for _, b := range decode[wire.BatchPage](t, run(t, home, nil, "capture", "batches", "--format",
		"json").out).Items {
		if ours := b.Name == "not whole" || b.Name == "day.lines"; ours != (b.Incomplete != nil && *b.Incomplete == 1) {
			t.Errorf("the batch %s counts %v incomplete", b.Name, b.Incomplete)
		}
	}
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	half := filepath.Join(t.TempDir(), "half.lines")
	if err := os.WriteFile(half, text[:len(text)-20], 0o600); err != nil {
		t.Fatal(err)
	}
	if r := run(t, home, nil, "capture", "upload", half); r.status != 2 ||
		!strings.Contains(r.err, "the last line is not a whole capture line") {
		t.Errorf("a recording that is cut: exit %d\n%s%s", r.status, r.out, r.err)
	}
	// Judging it anew does not make it whole.
	for _, c := range sent {
		if strings.HasSuffix(c.URL, "/died") {
			if r := run(t, home, nil, "capture", "audience", fmt.Sprint(c.BatchID), "skipper"); r.status != 0 {
				t.Fatalf("judging anew: exit %d %s", r.status, r.err)
			}
		}
	}
	if r := run(t, home, nil, "capture", "list"); !strings.Contains(r.out,
		"incomplete: the body of the answer broke off") {
		t.Errorf("judged anew, the list prints %s", r.out)
	}
}
