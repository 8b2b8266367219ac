package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"inkret/api/wire"
	"inkret/core/finding"
)

func TestFromAContractToAMovedFinding(t *testing.T) {
	s, dir := startDemo(t)
	home := t.TempDir()
	if r := run(t, home, nil, "finding", "list"); r.status != 2 || !strings.Contains(r.err, "you are not signed in") ||
		!strings.Contains(r.err, "inkret sign-in URL") {
		t.Errorf("before signing in: exit %d\n%s", r.status, r.err)
	}
	if r := run(t, home, strings.NewReader("wrong password\n"), "sign-in", s.url, "--email", demoReviewer,
		"--password-stdin"); r.status != 2 || !strings.Contains(r.err, "e-mail address or password is wrong") {
		t.Errorf("with a wrong password: exit %d\n%s", r.status, r.err)
	}
	signIn(t, s, home)
	kept := filepath.Join(home, "config", "inkret", "signed-in.json")
	if info, err := os.Stat(kept); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the token is kept with mode %v, %v", info.Mode(), err)
	}

	page := decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--format", "json", "--severity",
		"critical", "--search", "skippers password").out)
	if page.Total != 1 || page.Items[0].Kind != "secret-value" || page.Items[0].State != wire.StateNew {
		t.Fatalf("the leaked hash: %+v", page)
	}
	id := page.Items[0].ID
	r := run(t, home, nil, "finding", "show", id)
	for _, want := range []string{"!! critical  secret-value", "POST /v1/skippers", "$.data.password_hash", "$2b$•••",
		"capture ", "/data/password_hash (byte ", "inkret finding move " + id, "same field", s.url + "/findings/" +
			id} {
		if !strings.Contains(r.out, want) {
			t.Errorf("finding show lacks %q:\n%s%s", want, r.out, r.err)
		}
	}
	for _, c := range []struct {
		args   []string
		status int
		want   string
	}{
		{[]string{"move", id, "closed"}, 2, "a finding is closed by proof only"},
		{[]string{"move", id, "asleep"}, 2, `there is no state "asleep"`},
		{[]string{"move", "12", "confirmed"}, 2, `"12" is no finding's id`},
		{[]string{"move", id}, 2, "name a finding and the state it becomes"},
		{[]string{"move", "0123456789abcdef", "confirmed"}, 2, "there is no finding 0123456789abcdef"},
		{[]string{"move", id, "waived", "--comment", "r"}, 2, "a waiver needs its last day"},
		{[]string{"move", id, "in-repair", "--comment", "taken by accounts"}, 0,
			"Noor Adeyar: → in-repair taken by accounts"},
		{[]string{"comment", id, "the register call echoes it"}, 0, "the register call echoes it"},
	} {
		if r := run(t, home, nil, append([]string{"finding"}, c.args...)...); r.status != c.status ||
			!strings.Contains(r.out+r.err, c.want) {
			t.Errorf("finding %v: exit %d, want %d and %q\n%s%s", c.args, r.status, c.status, c.want, r.out, r.err)
		}
	}
	detail := decode[wire.FindingDetail](t, run(t, home, nil, "finding", "show", id, "--format", "json").out)
	if detail.Finding.State != wire.StateInRepair || len(detail.History) != 3 {
		t.Errorf("state %s, %d events", detail.Finding.State, len(detail.History))
	}

	again := run(t, home, nil, "capture", "upload", filepath.Join(dir, "visitor.har"))
	if again.status != 0 || !strings.Contains(again.out, "taken in before, as batch 1; nothing changed") {
		t.Errorf("the same recording again: exit %d\n%s%s", again.status, again.out, again.err)
	}
	said := run(t, home, nil, "capture", "upload", "--audience", "skipper", "--format", "json",
		filepath.Join(dir, "visitor.har"))
	if b := decode[[]wire.Batch](t, said.out); len(b) != 1 || b[0].Repeated || *b[0].Audience != "skipper" ||
		b[0].NewFindings == 0 {
		t.Errorf("as another audience: %s", said.out)
	}
	data, err := os.ReadFile(filepath.Join(dir, "skipper.har"))
	if err != nil {
		t.Fatal(err)
	}
	cut := run(t, home, bytes.NewReader(data[:len(data)-300]), "capture", "upload", "-")
	if cut.status != 2 || !strings.Contains(cut.err, "the file ends in the middle") ||
		!strings.Contains(cut.out, "13 captures") {
		t.Errorf("a recording cut off: exit %d\n%s%s", cut.status, cut.out, cut.err)
	}
	for _, list := range []struct{ args, want string }{{"capture batches", "visitor.har"}, {"capture list --leaking",
		"POST http://api.fennick-quay.example/v1/skippers"}, {"service list", "fennick-quay"},
		{"finding list", "secret-value"}} {
		if r := run(t, home, nil, strings.Fields(list.args)...); r.status != 0 || !strings.Contains(r.out, list.want) {
			t.Errorf("%s: exit %d\n%s%s", list.args, r.status, r.out, r.err)
		}
		if r := run(t, home, nil, append(strings.Fields(list.args), "--format", "json")...); r.status != 0 ||
			!strings.HasPrefix(strings.TrimSpace(r.out), "{") && !strings.HasPrefix(r.out, "[") {
			t.Errorf("%s as JSON: exit %d\n%s%s", list.args, r.status, r.out, r.err)
		}
	}

	out := filepath.Join(home, "contracts")
	if r := run(t, home, nil, "contract", "export", "fennick-quay", "--output", out); r.status != 0 {
		t.Fatalf("exporting: exit %d\n%s", r.status, r.err)
	}
	for _, name := range []string{"catalogue.yaml", "fennick-quay.yaml", "harbour.graphql"} {
		a, errA := os.ReadFile(filepath.Join(out, name))
		b, errB := os.ReadFile(filepath.Join(dir, name))
		if errA != nil || errB != nil || !bytes.Equal(a, b) {
			t.Errorf("%s is not exported as it was applied: %v %v", name, errA, errB)
		}
	}
	if r := run(t, home, nil, "contract", "apply", out); r.status != 0 ||
		!strings.Contains(r.out, "revision 1 is in force already") {
		t.Errorf("applying it again: exit %d\n%s%s", r.status, r.out, r.err)
	}
	f, err := os.OpenFile(filepath.Join(out, "fennick-quay.yaml"), os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(f, "\n  - endpoint: GET /v1/boats/{boat_id}\n    responses: [{entity: Boat, at: /boat, grants: {id: "+
		", name: }}]\n")
	f.Close()
	if r := run(t, home, nil, "contract", "apply", "--check-only", out); r.status != 0 ||
		!strings.Contains(r.out, "no problems") {
		t.Errorf("checking only: exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := run(t, home, nil, "contract", "apply", out, "--reason", "boats have a contract now"); r.status != 0 ||
		!strings.Contains(r.out, "revision 2 is in force") {
		t.Errorf("applying a change: exit %d\n%s%s", r.status, r.out, r.err)
	}

	if r := run(t, home, nil, "sign-out"); r.status != 0 {
		t.Errorf("signing out: exit %d\n%s", r.status, r.err)
	}
	if _, err := os.Stat(kept); !os.IsNotExist(err) {
		t.Errorf("the token is still kept: %v", err)
	}
}

func TestATokenThatHasEndedAndAServiceThatIsAway(t *testing.T) {
	s, _ := startDemo(t)
	home := t.TempDir()
	signIn(t, s, home)
	token := run(t, home, strings.NewReader(demoPassword+"\n"), "sign-in", s.url, "--email", demoReviewer,
		"--password-stdin", "--print-token").out
	kept, err := os.ReadFile(filepath.Join(home, "config", "inkret", "signed-in.json"))
	if err != nil || !strings.HasPrefix(token, "inkret_") || bytes.Contains(kept, []byte(strings.TrimSpace(token))) {
		t.Errorf("--print-token prints %.8q and keeps it too: %v", token, err)
	}
	os.WriteFile(filepath.Join(home, "config", "inkret", "signed-in.json"), bytes.Replace(kept, []byte("inkret_"),
		[]byte("inkret_x"), 1), 0o600)
	if r := run(t, home, nil, "finding", "list"); r.status != 2 ||
		!strings.Contains(r.err, "the session or token is not known") || !strings.Contains(r.err, "sign in again") {
		t.Errorf("with a token that is none: exit %d\n%s", r.status, r.err)
	}
	s.stop(t)
	if r := run(t, home, nil, "finding", "list"); r.status != 2 || !strings.Contains(r.err, "no service answers at "+
		s.url) || !strings.Contains(r.err, "inkret serve") {
		t.Errorf("with the service away: exit %d\n%s", r.status, r.err)
	}
}

func TestServing(t *testing.T) {
	data := t.TempDir()
	s := start(t, "serve", "--listen", "127.0.0.1:0", "--data", data)
	_, code, ok := strings.Cut(s.printed, "/set-up#")
	if !ok || !strings.Contains(s.printed, "Nobody is set up yet") {
		t.Fatalf("at first start it says:\n%s", s.printed)
	}
	code = strings.TrimSpace(code)
	response, err := http.Post(s.url+"/api/v1/setup", "application/json", strings.NewReader(`{"code":"`+code+
		`","name":"Ada","email":"ada@quay.example","password":"`+demoPassword+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	response.Body.Close()
	if response.StatusCode != 200 {
		t.Fatalf("setting up gives %s", response.Status)
	}
	address := strings.TrimPrefix(s.url, "http://")
	home := t.TempDir()
	for _, c := range []struct {
		name string
		args []string
		want string
	}{
		{"the port is taken", []string{"serve", "--listen", address, "--data", t.TempDir()},
			"another program listens on " + address},
		{"a second service on the same data", []string{"serve", "--listen", "127.0.0.1:0", "--data", data},
			"another service uses this data folder"},
		{"a data folder that cannot be", []string{"serve", "--listen", "127.0.0.1:0", "--data",
			filepath.Join(data, "inkret.db", "x")}, "name a folder that you may write to with --data"},
		{"no address", []string{"serve", "--listen", "nowhere", "--data", t.TempDir()},
			"an address is written HOST:PORT"},
		{"a log level nobody knows", []string{"serve", "--log", "loud"}, `there is no log level "loud"`},
		{"an argument", []string{"serve", "here"}, "serve takes no arguments"},
	} {
		if r := run(t, home, nil, c.args...); r.status != 2 || !strings.Contains(r.err, c.want) {
			t.Errorf("%s: exit %d\n%s%s", c.name, r.status, r.out, r.err)
		}
	}
	s.stop(t)
	if logged := s.logged.String(); strings.Contains(logged, code) || !strings.Contains(logged, "msg=stopping") {
		t.Errorf("logged:\n%s", logged)
	}
	again := exec.Command(program, "serve", "--listen", "127.0.0.1:0", "--data", data)
	again.Env = environment(home)
	var out safeBuffer
	again.Stdout, again.Stderr = &out, &out
	if err := again.Start(); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(patience); !strings.Contains(out.String(), "msg=serving") &&
		time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
	}
	again.Process.Signal(syscall.SIGTERM)
	if err := again.Wait(); err != nil || strings.Contains(out.String(), "set-up") {
		t.Errorf("at the second start: %v\n%s", err, out.String())
	}
}

// TestAnUploadThatBreaksOff sends half of a recording and closes the connection.
func TestAnUploadThatBreaksOff(t *testing.T) {
	s, dir := startDemo(t)
	home := t.TempDir()
	token := strings.TrimSpace(run(t, home, strings.NewReader(demoPassword+"\n"), "sign-in", s.url, "--email",
		demoReviewer, "--password-stdin", "--print-token").out)
	data, err := os.ReadFile(filepath.Join(dir, "visitor.har"))
	if err != nil {
		t.Fatal(err)
	}
	data = bytes.ReplaceAll(data, []byte("/v1/berths"), []byte("/v1/piers")) // not the recording that is there already
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(conn, "POST /api/v1/services/fennick-quay/batches?name=half.har HTTP/1.1\r\nHost: "+
		"x\r\nAuthorization: Bearer %s\r\nContent-Type: application/octet-stream\r\nContent-Length: %d\r\n\r\n", token,
		len(data))
	conn.Write(data[:len(data)/2])
	conn.Close()
	signIn(t, s, home)
	r := run(t, home, bytes.NewReader(data), "capture", "upload", "-")
	if r.status != 0 || !strings.Contains(r.out, "13 captures") {
		t.Errorf("the retry: exit %d\n%s%s", r.status, r.out, r.err)
	}
	batches := decode[wire.BatchPage](t, run(t, home, nil, "capture", "batches", "--format", "json").out)
	if batches.Total != 4 {
		t.Errorf("%d batches are there, want the demo's three and the retry", batches.Total)
	}
	for _, b := range batches.Items {
		if b.Name == "half.har" {
			t.Error("half a recording was taken in")
		}
	}
}

// TestKilledDuringAnImport kills the service while a recording arrives: nothing
// half is there, and the retry completes it.
func TestKilledDuringAnImport(t *testing.T) {
	data := t.TempDir()
	s := start(t, "demo", "--listen", "127.0.0.1:0", "--harbour", "127.0.0.1:0", "--recorder", "127.0.0.1:0",
		"--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0", "--data", data)
	home := t.TempDir()
	token := strings.TrimSpace(run(t, home, strings.NewReader(demoPassword+"\n"), "sign-in", s.url, "--email",
		demoReviewer, "--password-stdin", "--print-token").out)
	entry := `{"request":{"method":"GET","url":"http://api.fennick-quay.example/v1/piers","headers":[]},"response":{"status":200,"headers":[],"content":{"mimeType":"application/json","text":"{\"password\":\"x\"}"}}}`
	entries := strings.Repeat(entry+",", 1999) + entry
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	fmt.Fprintf(conn, "POST /api/v1/services/fennick-quay/batches?name=big.har HTTP/1.1\r\nHost: "+
		"x\r\nAuthorization: Bearer %s\r\nContent-Type: application/octet-stream\r\nContent-Length: 100000000\r\n\r\n",
		token)
	fmt.Fprintf(conn, `{"log":{"version":"1.2","entries":[%s,`, entries)
	// it has begun once the write-ahead log grows by what arrived
	grown := func() bool {
		info, err := os.Stat(filepath.Join(data, "inkret.db-wal"))
		return err == nil && info.Size() > 200_000
	}
	for deadline := time.Now().Add(patience); !grown() &&
		time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
	}
	s.process.Process.Kill()
	s.process.Wait()

	s = start(t, "demo", "--listen", "127.0.0.1:0", "--harbour", "127.0.0.1:0", "--recorder", "127.0.0.1:0",
		"--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0", "--data", data)
	signIn(t, s, home)
	before := decode[wire.BatchPage](t, run(t, home, nil, "capture", "batches", "--format", "json").out)
	if before.Total != 3 {
		t.Errorf("%d batches are there after the kill, want the demo's three", before.Total)
	}
	r := run(t, home, strings.NewReader(`{"log":{"version":"1.2","entries":[`+entries+`]}}`), "capture", "upload", "-")
	if r.status != 0 || !strings.Contains(r.out, "2000 captures") {
		t.Errorf("the retry: exit %d\n%s%s", r.status, r.out, r.err)
	}
}

// TestKilledInTheMiddleOfAChange kills the service while it changes thousands of findings at
// once, sooner and later: after it starts again all of them are changed, or none.
func TestKilledInTheMiddleOfAChange(t *testing.T) {
	data, home := t.TempDir(), t.TempDir()
	begin := func() *server {
		s := start(t, "demo", "--listen", "127.0.0.1:0", "--harbour", "127.0.0.1:0", "--recorder", "127.0.0.1:0",
			"--mailbox", "127.0.0.1:0", "--provider", "127.0.0.1:0", "--data", data)
		signIn(t, s, home)
		return s
	}
	s := begin()
	const many, endpoints = 4000, 10
	var entries []any
	for e := range endpoints {
		var members strings.Builder
		for i := range many / endpoints {
			fmt.Fprintf(&members, `,"member_%d":"m%d@quay.example"`, i, i)
		}
		entries = append(entries, inHAR(fmt.Sprintf("/v1/x%c", 'a'+e), "application/json", `{"id":1`+members.String()+
			"}"))
		entries[e].(map[string]any)["request"].(map[string]any)["url"] =
			fmt.Sprintf("https://api.fennick-quay.example/v1/x%c", 'a'+e)
	}
	text, err := json.Marshal(map[string]any{"log": map[string]any{"version": "1.2", "entries": entries}})
	if err != nil {
		t.Fatal(err)
	}
	har := string(text)
	if r := run(t, home, strings.NewReader(har), "capture", "upload", "--service", "fennick-quay", "-"); r.status > 1 {
		t.Fatalf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	found := decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--search", "member_", "--format",
		"json").out).Total
	if found < many {
		t.Fatalf("%d findings", found)
	}
	log := filepath.Join(data, "inkret.db-wal")
	all, none := 0, 0
	// after how much is written it is killed; the last time not before all is
	for n, grown := range []int64{1, 200_000, 1_500_000, 1 << 40} {
		size := func() int64 {
			info, err := os.Stat(log)
			if err != nil {
				return 0
			}
			return info.Size()
		}
		label, before := fmt.Sprintf("try-%d", n), size()
		done := make(chan struct{})
		go func() {
			defer close(done)
			run(t, home, nil, "finding", "change", "--filter", "q=member_", "--to", "confirmed", "--label", label, "-m",
				"all at once", "--yes")
		}()
		func() {
			for deadline := time.Now().Add(patience); time.Now().Before(deadline); time.Sleep(time.Millisecond) {
				select {
				case <-done:
					return
				default:
				}
				if now := size(); now-before > grown || now < before {
					return
				}
			}
		}()
		s.process.Process.Kill()
		s.process.Wait()
		<-done
		s = begin()
		switch changed := decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--label", label,
			"--state", "any", "--format", "json").out).Total; changed {
		case 0:
			none++
		case found:
			all++
		default:
			t.Errorf("killed after %d bytes, %d of %d are changed", grown, changed, found)
		}
	}
	if all == 0 {
		t.Errorf("not even the change that came to its end is there: all %d times, none %d times", all, none)
	}
}

// TestEveryWayToNarrowAListAgrees asks for the same findings by the interface, by options, by a view and as a
// group, with every filter that there is.
func TestEveryWayToNarrowAListAgrees(t *testing.T) {
	s, home := startDemo(t)
	signIn(t, s, home)
	token := tokenOf(t, s, demoReviewer)
	get := func(path string) string {
		t.Helper()
		status, text, _ := send(t, http.DefaultClient, "GET", s.url+path, "", "Authorization", "Bearer "+token)
		if status != http.StatusOK {
			t.Fatalf("%s: %d %s", path, status, text)
		}
		return text
	}
	ids := func(r result) (all []string) {
		t.Helper()
		if r.status != 0 {
			t.Fatalf("exit %d: %s", r.status, r.err)
		}
		for _, f := range decode[wire.FindingPage](t, r.out).Items {
			all = append(all, f.ID)
		}
		return all
	}
	list := func(args ...string) result {
		return run(t, home, nil, append([]string{"finding", "list", "--format", "json", "--size", "500"}, args...)...)
	}
	one := decode[wire.FindingPage](t, list("--severity", "critical").out).Items[0]
	endpoint := ""
	for _, e := range decode[wire.EndpointPage](t, get("/api/v1/endpoints?size=500")).Items {
		if e.Endpoint == one.Endpoint {
			endpoint = e.ID
		}
	}
	detail := decode[wire.FindingDetail](t, run(t, home, nil, "finding", "show", one.ID, "--format", "json").out)
	said := map[string]string{"state": "any", "severity": "critical,low", "kind": "secret-value,unexpected-field",
		"audience": one.Audience, "team": *one.Team, "entity": *one.Entity, "field": *one.Field,
		"assigned": "nobody", "label": "Quay", "service": "fennick-quay", "due": "2099-01-01", "waiver": "asked",
		"shape": "", "value": "", "proof": "doubted", "batch": strconv.FormatInt(detail.Evidence[0].BatchID, 10),
		"q":        "skippers",
		"endpoint": endpoint, "sort": "path"}
	for _, g := range decode[wire.FindingGroups](t, get("/api/v1/findings/groups?by=shape")).Groups {
		if q, err := url.ParseQuery(g.Query); err == nil && said["shape"] == "" {
			said["shape"] = q.Get("shape")
		}
	}
	for _, g := range decode[wire.FindingGroups](t, get("/api/v1/findings/groups?by=value")).Groups {
		if q, err := url.ParseQuery(g.Query); err == nil && said["value"] == "" {
			said["value"] = q.Get("value")
		}
	}
	if r := run(t, home, nil, "finding", "change", "--label", "Quay", "--yes", one.ID); r.status != 0 {
		t.Fatalf("%s%s", r.out, r.err)
	}
	total := len(ids(list()))
	for _, f := range finding.Filters() {
		text, known := said[f.Name]
		if !known || text == "" {
			t.Errorf("nothing is tried for %s", f.Name)
			continue
		}
		query := url.Values{f.Name: {text}}.Encode()
		want := ids(result{out: get("/api/v1/findings?size=500&" + query)})
		option := "--" + f.Name
		if f.Name == "q" {
			option = "--search"
		}
		if got := ids(list(option, text)); !slices.Equal(got, want) {
			t.Errorf("%s: the option gives %d, the interface %d", f.Name, len(got), len(want))
		}
		if r := run(t, home, nil, "finding", "keep-view", "by "+f.Name, query); r.status != 0 {
			t.Fatalf("%s%s", r.out, r.err)
		}
		if got := ids(list("--view", "by "+f.Name)); !slices.Equal(got, want) {
			t.Errorf("%s: the view gives %d, the interface %d", f.Name, len(got), len(want))
		}
		if got := ids(list("--view", "by "+f.Name, "--state", "closed")); f.Name != "state" && len(got) != 0 {
			t.Errorf("%s: an option does not go before the view: %d", f.Name, len(got))
		}
		grouped := 0
		for _, g := range decode[wire.FindingGroups](t, get("/api/v1/findings/groups?by=kind&filter="+
			url.QueryEscape(query))).Groups {
			grouped += g.Findings
		}
		if grouped != len(want) {
			t.Errorf("%s: groups have %d, the interface %d", f.Name, grouped, len(want))
		}
		if len(want) == 0 && f.Name != "waiver" && f.Name != "proof" || len(want) == total &&
			!slices.Contains([]string{"state", "service", "sort", "due", "assigned"}, f.Name) {
			t.Errorf("%s = %s narrows nothing, or all away: %d of %d", f.Name, text, len(want), total)
		}
	}
	if r := list("--state", "gone"); r.status != 2 || !strings.Contains(r.err, "there is no state gone") {
		t.Errorf("exit %d: %s", r.status, r.err)
	}
}
