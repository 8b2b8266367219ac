package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"inkret/api/wire"
)

// serving starts the plain service in a data folder, set up with one administrator, and gives a token of theirs.
func serving(t testing.TB, data string, args ...string) (*server, string) {
	t.Helper()
	s := start(t, append([]string{"serve", "--listen", "127.0.0.1:0", "--data", data}, args...)...)
	return s, setUp(t, s)
}

const owner = "owner@quay.example"

func setUp(t testing.TB, s *server) string {
	t.Helper()
	if m := setUpLink.FindStringSubmatch(s.printed); m != nil {
		if status, text, _ := post(t, http.DefaultClient, s.url+"/api/v1/setup", `{"code":"`+m[1]+`","email":"`+owner+
			`","name":"Owner","password":"`+demoPassword+`"}`); status != 200 {
			t.Fatalf("%d %s", status, text)
		}
	}
	return tokenOf(t, s, owner)
}

func tokenOf(t testing.TB, s *server, email string) string {
	t.Helper()
	status, text, _ := post(t, http.DefaultClient, s.url+"/api/v1/tokens", `{"name":"test","credentials":{"email":"`+
		email+`","password":"`+demoPassword+`"}}`)
	var made wire.CreatedToken
	if json.Unmarshal([]byte(text), &made); status != 201 {
		t.Fatalf("%d %s", status, text)
	}
	return made.Secret
}

// asking returns a function that calls the service with a token.
func asking(t testing.TB, s *server, token string) func(method, path, body string) (int, string) {
	return func(method, path, body string) (int, string) {
		t.Helper()
		status, text, _ := send(t, http.DefaultClient, method, s.url+path, body, "Authorization", "Bearer "+token)
		return status, text
	}
}

const smallContract = `{"files":[{"name":"q.yaml","text":"inkret: 1\nservice: quay\nentities: {Skipper: {fields: {id: {type: integer, class: internal}, email: {type: string, class: personal}}}}\nendpoints: [{endpoint: \"GET /skippers/{id}\", responses: [{entity: Skipper, grants: {id: }}]}]\n"}]}`

// line is a capture line of one call, whose body is padded with what does not compress.
func line(n, padding int, fill string) string {
	body := fmt.Sprintf(`{"id":%d,"email":"skipper%d@sails.example","fill":"%s"}`, n, n, fill[n%7:n%7+padding])
	text, _ := json.Marshal(map[string]any{"request": map[string]any{"method": "GET",
		"url": fmt.Sprintf("https://quay.example/skippers/%d", n), "headers": []any{}},
		"response": map[string]any{"status": 200,
			"headers": []any{map[string]string{"name": "Content-Type", "value": "application/json"}},
			"content": map[string]any{"mimeType": "application/json", "text": body}}})
	return string(text)
}

func harOf(from, to, padding int, fill string) string {
	var all []string
	for n := from; n < to; n++ {
		all = append(all, line(n, padding, fill))
	}
	return `{"log":{"version":"1.2","entries":[` + strings.Join(all, ",") + `]}}`
}

// TestBackupUnderLoad backs a service up while people write, kills it, and restores the backup elsewhere:
// everything that was acknowledged before the backup began is there, and nothing that begins to be there is
// half there.
func TestBackupUnderLoad(t *testing.T) {
	data, backups := t.TempDir(), t.TempDir()
	s, token := serving(t, data)
	ask := asking(t, s, token)
	if status, text := ask("PUT", "/api/v1/services/quay/contracts", smallContract); status != 200 {
		t.Fatal(text)
	}
	fill := strings.Repeat("abcdefgh", 40)
	var mu sync.Mutex
	acknowledged := map[int64]int{} // batch and its captures
	stop := make(chan struct{})
	var writers sync.WaitGroup
	for w := range 3 {
		writers.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-stop:
					return
				default:
				}
				from := w*100_000 + i*20
				r, _ := http.NewRequest("POST", s.url+fmt.Sprintf("/api/v1/services/quay/batches?name=w%d-%d.har", w,
					i), strings.NewReader(harOf(from, from+20, 100, fill)))
				r.Header.Set("Authorization", "Bearer "+token)
				r.Header.Set("Content-Type", "application/octet-stream")
				response, err := http.DefaultClient.Do(r)
				if err != nil {
					return // it was killed
				}
				var b wire.Batch
				err = json.NewDecoder(response.Body).Decode(&b)
				response.Body.Close()
				if err != nil {
					return
				}
				if response.StatusCode != 200 {
					t.Errorf("a recording: %d", response.StatusCode)
					return
				}
				mu.Lock()
				acknowledged[b.ID] = b.Captures
				mu.Unlock()
			}
		})
	}
	waitFor(t, "some recordings are in", func() bool { mu.Lock(); defer mu.Unlock(); return len(acknowledged) > 9 })
	mu.Lock()
	before := map[int64]int{}
	for id, n := range acknowledged {
		before[id] = n
	}
	mu.Unlock()
	file, key := filepath.Join(backups, "monday.db"), filepath.Join(backups, "key")
	home := t.TempDir()
	if r := run(t, home, nil, "backup", "--data", data, "--to", file, "--key-to", key); r.status != 0 ||
		!strings.Contains(r.out, "monday.db") {
		t.Fatalf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	if r := run(t, home, nil, "backup", "--data", data, "--to", file); r.status != 2 ||
		!strings.Contains(r.err, "never written over") {
		t.Errorf("over a backup: exit %d %s", r.status, r.err)
	}
	s.process.Process.Signal(syscall.SIGKILL) // in the middle of whatever is being written
	s.process.Wait()
	close(stop)
	writers.Wait()

	for name, args := range map[string][]string{"without its key": {"--from", file}, "what is no backup": {"--from",
		key, "--key", key}, "nothing": {"--from", filepath.Join(backups, "none"), "--key", key},
		"with what is no key": {"--from", file, "--key", file}} {
		if r := run(t, home, nil, append([]string{"restore", "--data", filepath.Join(t.TempDir(), "new")},
			args...)...); r.status != 2 || r.out != "" {
			t.Errorf("%s: exit %d\n%s%s", name, r.status, r.out, r.err)
		}
	}
	if r := run(t, home, nil, "restore", "--from", file, "--key", key, "--data", data); r.status != 2 ||
		!strings.Contains(r.err, "move it away first") {
		t.Errorf("over a data folder: exit %d %s", r.status, r.err)
	}
	elsewhere := filepath.Join(t.TempDir(), "elsewhere")
	if r := run(t, home, nil, "restore", "--from", file, "--key", key, "--data", elsewhere); r.status != 0 {
		t.Fatalf("exit %d\n%s%s", r.status, r.out, r.err)
	}
	again := start(t, "serve", "--listen", "127.0.0.1:0", "--data", elsewhere)
	ask = asking(t, again, token)
	for id, n := range before {
		status, text := ask("GET", fmt.Sprintf("/api/v1/batches/%d", id), "")
		var b wire.Batch
		if json.Unmarshal([]byte(text), &b); status != 200 || b.Captures != n {
			t.Errorf("batch %d with %d captures is %d %s", id, n, status, text)
		}
	}
	for what, c := range map[string]struct{ method, path, body, has string }{
		"the trail is whole": {"GET", "/api/v1/trail/verification", "", `"whole":true`},
		"a value can be shown": {"POST", "/api/v1/captures/1/reveal",
			`{"pointer":"/email","reason":"after the restore"}`, "@sails.example"},
		"the finding has its counts": {"GET", "/api/v1/findings", "", "$.email"},
	} {
		if status, text := ask(c.method, c.path, c.body); status != 200 || !strings.Contains(text, c.has) {
			t.Errorf("%s: %d %s", what, status, text)
		}
	}
}

// TestBackupsOnASchedule starts a service that makes backups by itself, and restores the newest.
func TestBackupsOnASchedule(t *testing.T) {
	data, folder := t.TempDir(), filepath.Join(t.TempDir(), "backups")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"inkret-20200101T000000Z.db", "inkret-20200102T000000Z.db",
		"inkret-20200103T000000Z.db", "letters.db"} {
		os.WriteFile(filepath.Join(folder, name), []byte("old"), 0o600)
	}
	s, token := serving(t, data, "--backup-to", folder, "--backup-every", "1h", "--backup-keep", "2")
	waitFor(t, "a backup is made and old ones go", func() bool {
		all, _ := filepath.Glob(filepath.Join(folder, "inkret-*.db"))
		return len(all) == 2 && !strings.Contains(all[1], "inkret-2020")
	})
	all, _ := filepath.Glob(filepath.Join(folder, "*"))
	if info, err := os.Stat(all[1]); err != nil || info.Mode().Perm() != 0o600 || len(all) != 3 {
		t.Errorf("%q, %v", all, info.Mode())
	}
	if _, text := asking(t, s, token)("GET", "/metrics", ""); !strings.Contains(text, "inkret_backup_age_seconds ") {
		t.Errorf("the age of the backup is not told:\n%s", text)
	}
	if r := run(t, t.TempDir(), nil, "restore", "--from", all[1], "--key", filepath.Join(data, "inkret.key"), "--data",
		filepath.Join(t.TempDir(), "new")); r.status != 0 {
		t.Errorf("exit %d\n%s%s", r.status, r.out, r.err)
	}
}

// smallDisk mounts a disk of some bytes.
func smallDisk(t testing.TB, size string) string {
	t.Helper()
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size="+size, "tmpfs", dir).CombinedOutput(); err != nil {
		t.Skipf("nothing can be mounted here: %s", out)
	}
	t.Cleanup(func() { exec.Command("umount", "-l", dir).Run() })
	return dir
}

// TestAFullDiskIsNoDeadEnd fills the disk to the last byte, and works its way out of it.
func TestAFullDiskIsNoDeadEnd(t *testing.T) {
	disk := smallDisk(t, "120m")
	data := filepath.Join(disk, "data")
	s, token := serving(t, data)
	ask := asking(t, s, token)
	if status, text := ask("PUT", "/api/v1/services/quay/contracts", smallContract); status != 200 {
		t.Fatal(text)
	}
	random := make([]byte, 40_000)
	state := uint32(1)
	for i := range random {
		state = state*1664525 + 1013904223
		random[i] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"[state>>24%52]
	}
	upload := func(s *server, name string, from, to int) (int, string) {
		status, text, _ := send(t, http.DefaultClient, "POST", s.url+"/api/v1/services/quay/batches?name="+name,
			harOf(from, to, 30_000, string(random)), "Authorization", "Bearer "+token, "Content-Type",
			"application/octet-stream")
		return status, text
	}
	for i := range 3 {
		if status, text := upload(s, fmt.Sprintf("%d.har", i), i*100, i*100+100); status != 200 {
			t.Fatalf("%d %s", status, text)
		}
	}
	s.stop(t)
	filler := filepath.Join(disk, "filler")
	fillUp(t, filler)
	s = start(t, "serve", "--listen", "127.0.0.1:0", "--data", data)
	ask = asking(t, s, token)
	fillUp(t, filler+"2") // what the start gave free

	for _, path := range []string{"/api/v1/findings", "/api/v1/captures/1", "/api/v1/home",
		"/api/v1/services/quay/contracts", "/api/v1/trail", "/api/v1/services/quay/report?format=json"} {
		if status, text := ask("GET", path, ""); status != 200 {
			t.Errorf("reading %s: %d %s", path, status, text)
		}
	}
	if status, text, _ := send(t, http.DefaultClient, "GET", s.url+"/readyz", ""); status != 503 ||
		!strings.Contains(text, `"name":"disk","ok":false`) &&
			!strings.Contains(text, `"detail":"less than 32 MB are free","name":"disk"`) {
		t.Errorf("ready: %d %s", status, text)
	}
	var page wire.FindingPage
	_, text := ask("GET", "/api/v1/findings", "")
	json.Unmarshal([]byte(text), &page)
	full := 0
	for what, c := range map[string]struct{ method, path, body string }{
		"a comment": {"POST", "/api/v1/findings/" + page.Items[0].ID + "/comments", `{"text":"` +
			strings.Repeat("much to say ", 800) + `"}`},
		"a contract": {"PUT", "/api/v1/services/quay/contracts", strings.Replace(smallContract, "inkret: 1",
			"inkret: 1\\n# "+strings.Repeat("a long remark ", 20_000), 1)},
		"a view": {"POST", "/api/v1/views", `{"name":"v","query":"kind=secret-value&q=` + strings.Repeat("x",
			1500) + `"}`},
	} {
		status, text := ask(c.method, c.path, c.body)
		if status == 507 {
			if full++; !strings.Contains(text, "no room left") || !strings.Contains(text, "withdraw recordings") {
				t.Errorf("%s: %s", what, text)
			}
		} else if status >= 300 {
			t.Errorf("%s: %d %s", what, status, text)
		}
	}
	if status, text := upload(s, "more.har", 900, 1000); status != 507 ||
		!strings.Contains(text, "nothing of this was kept") {
		t.Errorf("another recording: %d %s", status, text)
	}
	if full == 0 {
		t.Error("nothing met the end of the disk")
	}
	if status, text, _ := post(t, http.DefaultClient, s.url+"/api/v1/session", `{"email":"`+owner+`","password":"`+
		demoPassword+`"}`); status != 200 {
		t.Errorf("signing in: %d %s", status, text)
	}
	if status, text := ask("POST", "/api/v1/batches/1/withdrawal", `{"reason":"to make room"}`); status != 204 &&
		status != 200 {
		t.Errorf("withdrawing: %d %s", status, text)
	}
	if status, text := ask("PUT", "/api/v1/services/quay/keeping", `{"days":1,"bodies":true}`); status != 200 &&
		status != 204 {
		t.Errorf("a shorter keeping time: %d %s", status, text)
	}
	if status, text := ask("POST", "/api/v1/findings/"+page.Items[0].ID+"/comments",
		`{"text":"there is room again"}`); status != 200 && status != 201 {
		t.Errorf("a comment after that: %d %s", status, text)
	}
}

// fillUp writes a file until the disk takes no byte more.
func fillUp(t testing.TB, path string) {
	t.Helper()
	f, err := os.Create(path)
	if err != nil {
		return // not even a name has room
	}
	defer f.Close()
	for block := make([]byte, 1<<20); len(block) > 0; {
		if _, err := f.Write(block); err != nil {
			block = block[:len(block)/2]
		}
	}
}

// TestWithdrawnCiphertextIsGone looks for what the capture held, encrypted, in all files after its recording is
// withdrawn, and after its body is dropped.
func TestWithdrawnCiphertextIsGone(t *testing.T) {
	data := t.TempDir()
	s, token := serving(t, data)
	ask := asking(t, s, token)
	if status, text := ask("PUT", "/api/v1/services/quay/contracts", smallContract); status != 200 {
		t.Fatal(text)
	}
	fill := strings.Repeat("abcdefgh", 5000)
	for i := range 2 {
		if status, text, _ := send(t, http.DefaultClient, "POST",
			s.url+fmt.Sprintf("/api/v1/services/quay/batches?name=%d.har", i), harOf(i*5, i*5+5, 20_000, fill),
			"Authorization", "Bearer "+token, "Content-Type", "application/octet-stream"); status != 200 {
			t.Fatalf("%d %s", status, text)
		}
	}
	sealed := sealedOf(t, data)
	if len(sealed) != 10 {
		t.Fatalf("%d captures are sealed", len(sealed))
	}
	in := func(piece []byte) (found bool) {
		filepath.WalkDir(data, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				text, _ := os.ReadFile(path)
				found = found || bytes.Contains(text, piece)
			}
			return nil
		})
		return found
	}
	if !in(sealed[0][:48]) || !in(sealed[9][:48]) {
		t.Fatal("what is sealed is not found where it is")
	}
	if status, text := ask("POST", "/api/v1/batches/1/withdrawal", `{"reason":"a mistake"}`); status >= 300 {
		t.Fatalf("%d %s", status, text)
	}
	if status, text := ask("PUT", "/api/v1/services/quay/keeping", `{"days":1,"bodies":false}`); status >= 300 {
		t.Fatalf("%d %s", status, text)
	}
	for i, piece := range sealed[:5] {
		for at := 0; at+48 <= len(piece); at += 512 {
			if in(piece[at : at+48]) {
				t.Errorf("capture %d, withdrawn, is still in a file at %d", i+1, at)
				break
			}
		}
	}
}

// TestWhatOperatorsAsk reads health, readiness and metrics.
func TestWhatOperatorsAsk(t *testing.T) {
	s, _ := startDemo(t)
	token := tokenOf(t, s, "iva@fennick-quay.example")
	for path, want := range map[string]int{"/healthz": 200, "/readyz": 200, "/metrics": 401} {
		if status, text, _ := send(t, http.DefaultClient, "GET", s.url+path, ""); status != want {
			t.Errorf("%s: %d %s", path, status, text)
		}
	}
	post(t, http.DefaultClient, s.url+"/api/v1/session", `{"email":"iva@fennick-quay.example","password":"wrong"}`)
	post(t, http.DefaultClient, s.url+"/api/v1/session", `{"email":"what is this","password":"wrong"}`)
	ask := asking(t, s, token)
	ask("GET", "/api/v1/findings/0123456789abcdef", "")
	ask("BREW", "/api/v1/nell.oster@sails.example", "")
	status, text := ask("GET", "/metrics", "")
	for _, want := range []string{`inkret_findings{severity="critical",state="new"} `, "inkret_captures_judged 37",
		"inkret_captures 38", "inkret_recordings_open ", "inkret_watches 0", "inkret_watches_failing 0", `inkret_queue_length{queue="mail"} 0`,
		`inkret_database_bytes{part="database"} `,
		"inkret_write_wait_seconds_total",
		`inkret_requests_total{method="GET",route="/api/v1/findings/:finding_id",status="404"} 1`,
		`inkret_keys{kind="token"} `, "inkret_build_info{"} {
		if !strings.Contains(text, want) {
			t.Errorf("the metrics lack %s", want)
		}
	}
	if status != 200 || strings.Contains(text, "@") || strings.Contains(text, "fennick") ||
		strings.Contains(text, "BREW") {
		t.Errorf("%d, with a name or value:\n%s", status, text)
	}
	log := s.logged.String()
	if !strings.Contains(log, "sign-in refused") || !strings.Contains(log, "account=iva@fennick-quay.example") ||
		!strings.Contains(log, "from=127.0.0.1") || strings.Contains(log, "what is this") ||
		strings.Contains(log, "wrong") {
		t.Errorf("the log says\n%s", log)
	}
}
