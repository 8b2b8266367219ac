package e2e

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"inkret/api/wire"
)

// inEnvironment runs the program with additional environment variables.
func inEnvironment(t testing.TB, home string, more []string, args ...string) result {
	t.Helper()
	c := exec.CommandContext(t.Context(), program, args...)
	var out, errOut bytes.Buffer
	c.Env, c.Stdout, c.Stderr = append(environment(home), more...), &out, &errOut
	if err := c.Run(); err != nil && c.ProcessState == nil {
		t.Fatal(err)
	}
	return result{c.ProcessState.ExitCode(), out.String(), errOut.String()}
}

// TestATokenGoesToItsServiceOnly sends commands elsewhere and looks at what arrives there.
func TestATokenGoesToItsServiceOnly(t *testing.T) {
	s, _ := startDemo(t)
	home := as(t, s, "iva")
	var mu sync.Mutex
	var arrived []string
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		text, _ := io.ReadAll(r.Body)
		arrived = append(arrived, fmt.Sprint(r.Method, r.URL, r.Header, string(text)))
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{"items":[],"total":0,"page":1,"size":50,"by_severity":{}}`)
	}))
	t.Cleanup(elsewhere.Close)
	leads := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, elsewhere.URL+r.URL.Path, http.StatusTemporaryRedirect)
	}))
	t.Cleanup(leads.Close)
	kept, err := os.ReadFile(filepath.Join(home, "config", "inkret", "signed-in.json"))
	if err != nil {
		t.Fatal(err)
	}
	var in struct{ Token string }
	json.Unmarshal(kept, &in)
	port := strings.TrimPrefix(s.url, "http://127.0.0.1:")
	for name, c := range map[string]struct {
		environment []string
		args        string
		status      int
		says        string
	}{
		"another address": {[]string{"INKRET_URL=" + elsewhere.URL}, "finding list", 2,
			"you are signed in to " + s.url},
		"another address, written short": {[]string{"INKRET_URL=" + strings.TrimPrefix(elsewhere.URL, "http://")},
			"finding list", 2, "you are signed in to"},
		"another name of this machine": {[]string{"INKRET_URL=http://localhost:" + port}, "finding list", 2,
			"you are signed in to"},
		"the service below a path": {[]string{"INKRET_URL=" + s.url + "/x"}, "finding list", 2,
			"you are signed in to"},
		"over another scheme": {[]string{"INKRET_URL=https://127.0.0.1:" + port}, "finding list", 2,
			"you are signed in to"},
		"with somebody in the address": {[]string{"INKRET_URL=http://a:b@127.0.0.1:" + port}, "finding list", 2,
			"INKRET_URL"},
		"signing out elsewhere": {[]string{"INKRET_URL=" + elsewhere.URL}, "sign-out", 2,
			"you are signed in to"},
		"a token without an address": {[]string{"INKRET_TOKEN=" + in.Token}, "finding list", 2,
			"INKRET_TOKEN is set and INKRET_URL is not"},
		"its own address": {[]string{"INKRET_URL=" + s.url}, "finding list", 0, "GET /v1/berths"},
		"its own address, with a slash": {[]string{"INKRET_URL=HTTP://127.0.0.1:" + port + "/"}, "finding list", 0,
			"GET /v1/berths"},
		"nothing said": {nil, "finding list", 0, "GET /v1/berths"},
		"led elsewhere with a token": {[]string{"INKRET_URL=" + leads.URL, "INKRET_TOKEN=" + in.Token},
			"finding list", 2, "307"},
	} {
		r := inEnvironment(t, home, c.environment, strings.Fields(c.args)...)
		if r.status != c.status || !strings.Contains(r.out+r.err, c.says) {
			t.Errorf("%s: exit %d, want %d and %q\n%s%s", name, r.status, c.status, c.says, r.out, r.err)
		}
	}
	mu.Lock()
	defer mu.Unlock()
	if len(arrived) > 0 {
		t.Errorf("this arrived elsewhere: %q", arrived)
	}
}

// TestContractsOfSeveralPlaces names contract files one by one, and other options twice.
func TestContractsOfSeveralPlaces(t *testing.T) {
	_, dir := startDemo(t)
	home := t.TempDir()
	whole := run(t, home, nil, "check", "--contracts", filepath.Join(dir, "fennick-quay.yaml"), "--contracts",
		filepath.Join(dir, "catalogue.yaml"), "--format", "json", filepath.Join(dir, "visitor.har"))
	turned := run(t, home, nil, "check", "--contracts="+filepath.Join(dir, "catalogue.yaml"), "--contracts="+
		filepath.Join(dir, "fennick-quay.yaml"), "--format", "json", filepath.Join(dir, "visitor.har"))
	c := filepath.Join(home, "c")
	os.Mkdir(c, 0o755)
	for _, name := range []string{"fennick-quay.yaml", "catalogue.yaml", "harbour.graphql"} {
		text, _ := os.ReadFile(filepath.Join(dir, name))
		os.WriteFile(filepath.Join(c, name), text, 0o644)
	}
	folder := run(t, home, nil, "check", "--contracts", c, "--contracts", c, "--contracts",
		filepath.Join(c, ".", "catalogue.yaml"), "--format", "json", filepath.Join(dir, "visitor.har"))
	if whole.status != 1 || whole.out != turned.out || whole.out != folder.out ||
		len(decode[checked](t, whole.out).Findings) < 20 {
		t.Errorf("in one order %d, in the other %d, as a folder %d\n%s%s%s", whole.status, turned.status, folder.status,
			whole.err, turned.err, folder.err)
	}
	for _, args := range [][]string{
		{"check", "--format", "json", "--format", "table", filepath.Join(dir, "visitor.har")},
		{"check", "--audience=visitor", "--audience", "visitor", filepath.Join(dir, "visitor.har")},
		{"finding", "list", "--state", "new", "--state", "any"}, {"serve", "--listen", "127.0.0.1:0", "--listen",
			"127.0.0.1:1"}, {"capture", "upload", "--service", "a", "--service", "b", "x"},
	} {
		if r := run(t, home, nil, args...); r.status != 2 || !strings.Contains(r.err, "is given twice; give it once") ||
			r.out != "" {
			t.Errorf("%q: exit %d\n%s%s", args, r.status, r.out, r.err)
		}
	}
}

// address is what a service says that it is set up at, with its one-time code.
var setUpLink = regexp.MustCompile(`/set-up#(\S+)`)

// post sends JSON and gives status and body.
func post(t testing.TB, c *http.Client, url, body string, headers ...string) (int, string, http.Header) {
	t.Helper()
	return send(t, c, http.MethodPost, url, body, headers...)
}

func send(t testing.TB, c *http.Client, method, url, body string, headers ...string) (int, string, http.Header) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	response, err := c.Do(r)
	if err != nil {
		t.Fatalf("%s %s: %v", method, url, err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response.StatusCode, string(text), response.Header
}

// resident returns the most memory that a process ever had, in MB.
func resident(t testing.TB, pid int) int {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		t.Skip("there is no /proc here")
	}
	m := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindStringSubmatch(string(text))
	n, _ := strconv.Atoi(m[1])
	return n >> 10
}

// TestAFloodOfStrangers has many strangers call operations that hash passwords.
func TestAFloodOfStrangers(t *testing.T) {
	s := start(t, "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir())
	c := &http.Client{Transport: &http.Transport{MaxConnsPerHost: 0, MaxIdleConnsPerHost: 400}}
	counts := map[int]int{}
	var mu sync.Mutex
	var all sync.WaitGroup
	for i := range 400 {
		all.Go(func() {
			body := fmt.Sprintf(`{"email":"nobody%d@quay.example","password":"a wrong one %d"}`, i, i)
			path := "/api/v1/session"
			if i%2 == 0 {
				path, body = "/api/v1/setup",
					fmt.Sprintf(`{"code":"guess %d","email":"a@b.example","name":"A","password":"long enough for it"}`,
						i)
			}
			status, _, _ := post(t, c, s.url+path, body)
			mu.Lock()
			counts[status]++
			mu.Unlock()
		})
	}
	all.Wait()
	if counts[401] == 0 || counts[429] == 0 || counts[401]+counts[429] != 400 {
		t.Errorf("the answers were %v", counts)
	}
	const most = 400
	if mb := resident(t, s.process.Process.Pid); mb > most {
		t.Errorf("the service grew to %d MB", mb)
	}
	// The one who has the link is let in at once, on this same machine.
	code := setUpLink.FindStringSubmatch(s.printed)[1]
	if status, text, _ := post(t, c, s.url+"/api/v1/setup", `{"code":"`+code+
		`","email":"noor@quay.example","name":"Noor","password":"`+demoPassword+`"}`); status != 200 {
		t.Errorf("%d %s", status, text)
	}
	// Somebody else who guesses there is told how long to wait.
	status, _, header := post(t, c, s.url+"/api/v1/setup",
		`{"code":"guess","email":"a@b.example","name":"A","password":"long enough for it"}`)
	if wait, err := strconv.Atoi(header.Get("Retry-After")); status != 429 || err != nil || wait < 1 || wait > 901 {
		t.Errorf("the next guess: %d, Retry-After %q", status, header.Get("Retry-After"))
	}
}

// TestTwoTabsTwoPeople signs in as somebody else in a second tab of one browser: the first acts for nobody but its own.
func TestTwoTabsTwoPeople(t *testing.T) {
	s, _ := startDemo(t)
	noor := newBrowser(t)
	noor.signIn(s, demoReviewer)
	noor.do("a finding is opened", chromedp.Navigate(s.url+"/findings?kind=over-posting"), shows("over-posting"))
	ctx, cancel := chromedp.NewContext(noor.ctx)
	defer cancel()
	if err := chromedp.Run(ctx); err != nil { // a tab lives as long as the context of its first run
		t.Fatal(err)
	}
	iva := &browser{ctx: ctx, t: t}
	iva.do("somebody else signs in beside it", chromedp.Navigate(s.url+"/sign-in"),
		chromedp.SendKeys(`input[autocomplete="username"]`, "iva@fennick-quay.example"),
		chromedp.SendKeys(`input[autocomplete="current-password"]`, demoPassword+kb.Enter), shows("Iva Salk"))
	noor.do("the first tab hears of it", page.BringToFront(), shows("Somebody else is signed in"),
		shows("This page belongs to Noor Adeyar"))
	noor.do("and goes on after signing in again", chromedp.SendKeys(`.ant-modal input[autocomplete="current-password"]`,
		demoPassword+kb.Enter), until(`!document.querySelector(".ant-modal-wrap:not([style*=none]) input")`),
		shows("over-posting"))
	iva.do("the second tab then hears of that", behind("Somebody else is signed in"),
		behind("This page belongs to Iva Salk"))

	// The service itself refuses, whatever the pages do.
	var answered string
	iva.do("what the browser sends", chromedp.ActionFunc(func(ctx context.Context) error {
		return chromedp.Evaluate(`Promise.all([1, 4, 99, "x", ""].map((id) => fetch("/api/v1/notices", {headers: id === "" ? {} : {"Inkret-Acting-For": String(id)}}).then(async (r) => id + " " + r.status + " " + ((await r.json()).type ?? "")))).then((all) => all.join(", "))`, &answered,
			func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }).Do(ctx)
	}))
	if answered != "1 200 , 4 401 urn:inkret:problem:other-person, 99 401 urn:inkret:problem:other-person, x 401 "+
		"urn:inkret:problem:other-person,  200 " {
		t.Errorf("the service answers %q", answered)
	}
}

// behind waits until a page in a background tab shows a text; such a page draws no frames to wait for.
func behind(text string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		for deadline := time.Now().Add(pageTime); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
			var has bool
			if err := chromedp.Evaluate(`document.body.innerText.includes(`+quote(text)+`)`,
				&has).Do(ctx); err != nil || has {
				return err
			}
		}
		return fmt.Errorf("the page does not show %q", text)
	})
}

// TestALiveStreamEndsWithItsRight watches live with a token, a session and a role that end while it watches.
func TestALiveStreamEndsWithItsRight(t *testing.T) {
	s, _ := startDemo(t)
	marlo := as(t, s, "marlo")
	for name, c := range map[string]struct {
		end func(token wire.CreatedToken)
	}{
		"the token is ended": {func(made wire.CreatedToken) {
			if r := inEnvironment(t, t.TempDir(), []string{"INKRET_URL=" + s.url, "INKRET_TOKEN=" + made.Secret},
				"sign-out"); r.status != 0 {
				t.Errorf("%s%s", r.out, r.err)
			}
		}},
		"the person is blocked": {func(wire.CreatedToken) {
			if r := run(t, marlo, nil, "person", "keep-out", "iva@fennick-quay.example"); r.status != 0 {
				t.Errorf("%s%s", r.out, r.err)
			}
		}},
	} {
		run(t, marlo, nil, "person", "let-in", "iva@fennick-quay.example")
		status, text, _ := post(t, http.DefaultClient, s.url+"/api/v1/tokens",
			`{"name":"watches","credentials":{"email":"iva@fennick-quay.example","password":"`+demoPassword+`"}}`)
		var made wire.CreatedToken
		if json.Unmarshal([]byte(text), &made); status != 201 {
			t.Fatalf("%s: %d %s", name, status, text)
		}
		r, _ := http.NewRequestWithContext(t.Context(), http.MethodGet, s.url+"/api/v1/live", nil)
		r.Header.Set("Authorization", "Bearer "+made.Secret)
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		lines := bufio.NewReader(response.Body)
		if first, err := lines.ReadString('\n'); err != nil || first != ": watching\n" {
			t.Fatalf("%s: the stream begins with %q, %v", name, first, err)
		}
		c.end(made)
		rest := make(chan string, 1)
		go func() {
			text, _ := io.ReadAll(lines)
			rest <- string(text)
		}()
		select {
		case text := <-rest:
			if !strings.Contains(text, "event: signed-out") {
				t.Errorf("%s: the stream ends with %q", name, text)
			}
		case <-time.After(10 * time.Second):
			t.Errorf("%s, and the stream goes on", name)
		}
		response.Body.Close()
	}
}

// TestBodiesArriveInTime sends half a request and waits. The service gives up on it, and serves others meanwhile.
func TestBodiesArriveInTime(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits for half a minute")
	}
	s := start(t, "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir())
	host := strings.TrimPrefix(s.url, "http://")
	var all sync.WaitGroup
	for name, begun := range map[string]string{
		"half a body": "POST /api/v1/session HTTP/1.1\r\nHost: " + host +
			"\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{\"email\":",
		"half a chunk": "POST /api/v1/session HTTP/1.1\r\nHost: " + host +
			"\r\nContent-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n20\r\n{\"email\":",
		"half a header":  "POST /api/v1/session HTTP/1.1\r\nHost: " + host + "\r\nContent-Ty",
		"nothing at all": "",
	} {
		all.Go(func() {
			c, err := net.Dial("tcp", host)
			if err != nil {
				t.Error(err)
				return
			}
			defer c.Close()
			io.WriteString(c, begun)
			c.SetReadDeadline(time.Now().Add(50 * time.Second))
			text, err := io.ReadAll(c)
			if err != nil || strings.HasPrefix(name, "half a body") && !strings.Contains(string(text), "408") ||
				strings.Contains(string(text), "200 OK") {
				t.Errorf("%s: %q, %v", name, text, err)
			}
		})
	}
	for range 20 {
		if status, text, _ := post(t, http.DefaultClient, s.url+"/api/v1/session",
			`{"email":"a@b.example","password":"x"}`); status != 401 && status != 429 {
			t.Errorf("meanwhile others get %d %s", status, text)
		}
	}
	all.Wait()
}

// selfSigned writes a certificate for 127.0.0.1 and its key.
func selfSigned(t testing.TB, dir string, serial int64) (cert, key string, pool *x509.CertPool) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "quay.example"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, of, of, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600)
	os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600)
	pool = x509.NewCertPool()
	read, _ := x509.ParseCertificate(der)
	pool.AddCert(read)
	return cert, key, pool
}

// TestServingOverTLS serves with a certificate, renews it, and looks at cookies and headers.
func TestServingOverTLS(t *testing.T) {
	dir, data := t.TempDir(), t.TempDir()
	cert, key, pool := selfSigned(t, dir, 1)
	for _, args := range [][]string{{"--tls-cert", cert}, {"--tls-key", key}, {"--tls-cert", key, "--tls-key", cert},
		{"--tls-cert", "none", "--tls-key", key}, {"--proxy", "quay"}, {"--public", "nope"}, {"--backup-every", "1s"}} {
		if r := run(t, dir, nil, append([]string{"serve", "--data", data, "--listen", "127.0.0.1:0"},
			args...)...); r.status != 2 {
			t.Errorf("serve %q: exit %d\n%s%s", args, r.status, r.out, r.err)
		}
	}
	s := &server{process: exec.Command(program, "serve", "--data", data, "--listen", "127.0.0.1:0", "--tls-cert", cert,
		"--tls-key", key), logged: &safeBuffer{}, later: &safeBuffer{}}
	s.process.Env, s.process.Stderr, s.process.Stdout = environment(t.TempDir()), s.logged, s.later
	if err := s.process.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.stop(t) })
	link := regexp.MustCompile(`(https://127\.0\.0\.1:\d+)/set-up#(\S+)`)
	waitFor(t, "the service prints its link", func() bool { return link.MatchString(s.later.String()) })
	m := link.FindStringSubmatch(s.later.String())
	calls := func(pool *x509.CertPool) *http.Client {
		return &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool},
			DisableKeepAlives: true}}
	}
	status, text, header := post(t, calls(pool), m[1]+"/api/v1/setup", `{"code":"`+m[2]+
		`","email":"noor@quay.example","name":"Noor","password":"`+demoPassword+`"}`)
	if status != 200 || header.Get("Strict-Transport-Security") == "" {
		t.Fatalf("%d %s %v", status, text, header)
	}
	cookies := header.Values("Set-Cookie")
	for _, c := range cookies {
		if !strings.HasPrefix(c, "__Host-inkret_") || !strings.Contains(c, "; Path=/;") ||
			!strings.Contains(c, "Secure") || !strings.Contains(c, "HttpOnly") || strings.Contains(c, "Domain") {
			t.Errorf("the cookie %s", c)
		}
	}
	if len(cookies) != 2 {
		t.Errorf("%d cookies", len(cookies))
	}
	session, _, _ := strings.Cut(cookies[0], ";")
	for cookie, want := range map[string]int{session: 200, strings.TrimPrefix(session, "__Host-"): 401} {
		if status, _, _ := send(t, calls(pool), http.MethodGet, m[1]+"/api/v1/session", "", "Cookie",
			cookie); status != want {
			t.Errorf("with %s…: %d, want %d", cookie[:20], status, want)
		}
	}
	old := &tls.Config{RootCAs: pool, MaxVersion: tls.VersionTLS11}
	if c, err := tls.Dial("tcp", strings.TrimPrefix(m[1], "https://"), old); err == nil {
		c.Close()
		t.Error("an old version of TLS is spoken")
	}
	_, _, renewed := selfSigned(t, dir, 2)
	waitFor(t, "the renewed certificate is served", func() bool {
		response, err := calls(renewed).Get(m[1] + "/healthz")
		if err == nil {
			response.Body.Close()
		}
		return err == nil
	})
	os.WriteFile(cert, []byte("no certificate"), 0o600)
	waitFor(t, "one that cannot be used is told", func() bool {
		response, err := calls(renewed).Get(m[1] + "/healthz")
		if err != nil {
			t.Fatalf("the one before does not stay: %v", err)
		}
		response.Body.Close()
		return strings.Contains(s.logged.String(), "the renewed certificate cannot be used")
	})
}

// TestAResetKeepsTheSecondFactor and asks what becomes of tokens.
func TestAResetKeepsTheSecondFactor(t *testing.T) {
	s, _ := startDemo(t)
	marlo, noor := as(t, s, "marlo"), as(t, s, "noor")
	b := newBrowser(t)
	reset := func() string {
		r := run(t, marlo, nil, "person", "reset", demoReviewer, "--format", "json")
		if r.status != 0 {
			t.Fatalf("%s%s", r.out, r.err)
		}
		return decode[wire.Invited](t, r.out).Link
	}
	const fresh = "high water at seven"
	b.do("the link says what it is for", chromedp.Navigate(reset()), shows("Set a new password"),
		shows("For "+demoReviewer), shows("Revoke my 1 token as well"),
		chromedp.SendKeys(`//input[@id="name"]`, "Noor Adeyar", chromedp.BySearch),
		chromedp.SendKeys(`input[autocomplete="new-password"]`, "noor@fennick-quay.example"),
		chromedp.Click(`button[type="submit"]`), shows("little more than your own name or address"))
	b.do("the tokens stay unless it is said", chromedp.Navigate("about:blank"), chromedp.Navigate(reset()),
		shows("Revoke my 1 token"), chromedp.SendKeys(`//input[@id="name"]`, "Noor Adeyar", chromedp.BySearch),
		chromedp.SendKeys(`input[autocomplete="new-password"]`, fresh), chromedp.Click(`button[type="submit"]`),
		shows("What needs you"))
	if r := run(t, noor, nil, "finding", "list"); r.status != 0 {
		t.Errorf("the token has ended: %s", r.err)
	}
	b.do("they end when it is said", chromedp.Navigate("about:blank"), chromedp.Navigate(reset()),
		shows("Revoke my 1 token"), chromedp.SendKeys(`//input[@id="name"]`, "Noor Adeyar", chromedp.BySearch),
		chromedp.SendKeys(`input[autocomplete="new-password"]`, fresh+" again"),
		chromedp.Click(`//label[contains(., "Revoke my")]`, chromedp.BySearch), chromedp.Click(`button[type="submit"]`),
		shows("What needs you"))
	if r := run(t, noor, nil, "finding", "list"); r.status != 2 || !strings.Contains(r.err, "not known") {
		t.Errorf("the token goes on: exit %d %s", r.status, r.err)
	}
	r := run(t, marlo, nil, "trail", "list", "--format", "json")
	for _, want := range []string{`"use reset link"`, `"sign in"`, `"make reset link"`, `"person_id": 1`,
		`"email": "noor@fennick-quay.example"`, `"key": "token `, "all sessions and tokens ended", "from 127.0.0.1"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("the trail lacks %s", want)
		}
	}
}
