package record

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"inkret/core/exchange"
	"inkret/intake"
)

// standing is a recorder in front of an API, on loopback.
type standing struct {
	*Recorder
	url  string
	end  func() // of recording
	out  *bytes.Buffer
	done error
}

func stand(t *testing.T, api http.Handler, change ...func(*Options)) *standing {
	t.Helper()
	upstream := httptest.NewUnstartedServer(api)
	upstream.Config.Protocols = Protocols()
	upstream.Start()
	t.Cleanup(func() { upstream.CloseClientConnections(); upstream.Close() })
	return before(t, upstream.URL, change...)
}

// before starts a recorder in front of an API.
func before(t *testing.T, api string, change ...func(*Options)) *standing {
	t.Helper()
	at, err := url.Parse(api)
	if err != nil {
		t.Fatal(err)
	}
	o := Options{Upstream: at}
	for _, c := range change {
		c(&o)
	}
	s := &standing{Recorder: New(o), out: &bytes.Buffer{}}
	front := httptest.NewUnstartedServer(s)
	front.Config.Protocols, front.Config.DisableGeneralOptionsHandler = Protocols(), true
	front.Start()
	s.url = front.URL
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		s.done = s.ToWriter(ctx, s.out)
	}()
	s.end = sync.OnceFunc(func() {
		front.CloseClientConnections()
		front.Close()
		stop()
		<-ended
	})
	t.Cleanup(s.end)
	return s
}

// captures ends recording and gives what was captured.
func (s *standing) captures(t *testing.T) []*exchange.Capture {
	t.Helper()
	s.end()
	if s.done != nil {
		t.Fatal(s.done)
	}
	var all []*exchange.Capture
	if s.out.Len() == 0 {
		return nil
	}
	if err := intake.Read("recorded", bytes.NewReader(s.out.Bytes()), intake.Options{},
		func(c *exchange.Capture) error {
			all = append(all, c)
			return nil
		}); err != nil {
		t.Fatal(err)
	}
	return all
}

// only returns the one capture that there is to be.
func (s *standing) only(t *testing.T) *exchange.Capture {
	t.Helper()
	all := s.captures(t)
	if len(all) != 1 {
		t.Fatalf("%d captures; one was made", len(all))
	}
	return all[0]
}

func fetch(t *testing.T, c *http.Client, r *http.Request) (*http.Response, string) {
	t.Helper()
	response, err := c.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return response, string(body)
}

func request(t *testing.T, method, address, body string) *http.Request {
	t.Helper()
	r, err := http.NewRequest(method, address, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// bare is a client that adds nothing of its own.
func bare() *http.Client {
	return &http.Client{Transport: &http.Transport{DisableCompression: true}, CheckRedirect: func(*http.Request,
		[]*http.Request) error {
		return http.ErrUseLastResponse
	}}
}

// clear2 is a client that speaks HTTP/2 without TLS.
func clear2() *http.Client {
	p := &http.Protocols{}
	p.SetUnencryptedHTTP2(true)
	return &http.Client{Transport: &http.Transport{Protocols: p}}
}

func TestPassesUnchanged(t *testing.T) {
	type met struct {
		method, uri, host, body string
		header                  http.Header
		major                   int
	}
	var got met
	s := stand(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		got = met{r.Method, r.RequestURI, r.Host, string(body), r.Header, r.ProtoMajor}
		w.Header().Set("Location", "/elsewhere")
		w.Header().Add("Set-Cookie", "a=1")
		w.Header().Add("Set-Cookie", "b=2")
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Trailer", "X-Sum")
		w.WriteHeader(http.StatusFound)
		io.WriteString(w, `{"email":"sol@sails.example"}`)
		w.Header().Set("X-Sum", "9")
	}))
	r := request(t, "PUT", s.url+"/a%2Fb/%C3%A4%7e;v=1?x=1;y&=%zz&x=2", `{"name":"Gull"}`)
	for name, value := range map[string]string{"X-Forwarded-For": "192.0.2.7", "Forwarded": "for=192.0.2.7",
		"Authorization": "Bearer abc", "Content-Type": "application/json", "Accept-Encoding": "br", "User-Agent": ""} {
		r.Header.Set(name, value)
	}
	response, body := fetch(t, bare(), r)
	if got.method != "PUT" || got.uri != "/a%2Fb/%C3%A4%7e;v=1?x=1;y&=%zz&x=2" || got.body != `{"name":"Gull"}` ||
		got.major != 1 {
		t.Errorf("the API met %+v", got)
	}
	for name, want := range map[string]string{"X-Forwarded-For": "192.0.2.7", "Forwarded": "for=192.0.2.7",
		"Authorization": "Bearer abc", "Accept-Encoding": "br", "User-Agent": "", "X-Forwarded-Host": ""} {
		if is := got.header.Get(name); is != want {
			t.Errorf("the API met %s: %q, want %q", name, is, want)
		}
	}
	if response.StatusCode != http.StatusFound || response.Header.Get("Location") != "/elsewhere" ||
		len(response.Header.Values("Set-Cookie")) != 2 || body != `{"email":"sol@sails.example"}` ||
		response.Trailer.Get("X-Sum") != "9" {
		t.Errorf("the client met %v %v %q %v", response.StatusCode, response.Header, body, response.Trailer)
	}
	c := s.only(t)
	if c.Request.Method != "PUT" || c.Request.URL.RequestURI() != "/a%2Fb/%C3%A4%7e;v=1?x=1;y&=%zz&x=2" ||
		string(c.Request.Body) != `{"name":"Gull"}` || c.Request.Header.Get("Authorization") != "Bearer abc" {
		t.Errorf("captured request %+v %s", c.Request, c.Request.Body)
	}
	if c.Response.Status != http.StatusFound || string(c.Response.Body) != body ||
		c.Response.Header.Get("location") != "/elsewhere" || c.Response.Missing != "" || c.Started.IsZero() {
		t.Errorf("captured response %+v", c.Response)
	}
	if n := s.Counts(); n != (Counts{Captured: 1}) {
		t.Errorf("counts %+v", n)
	}
	if used := s.memory.Load(); used != 0 {
		t.Errorf("%d bytes of memory are still counted", used)
	}
}

func TestCapturesNameTheServerThatIsMeant(t *testing.T) {
	host := ""
	s := stand(t, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { host = r.Host }), func(o *Options) {
		o.As, _ = url.Parse("https://api.fennick-quay.example/harbour/")
		o.Audience, o.KeepHost = "skipper", true
	})
	r := request(t, "GET", s.url+"/v1/berths?only=id", "")
	r.Host = "front.example"
	fetch(t, bare(), r)
	c := s.only(t)
	if c.Request.URL.String() != "https://api.fennick-quay.example/harbour/v1/berths?only=id" ||
		c.Audience != "skipper" {
		t.Errorf("captured %s as %q", c.Request.URL, c.Audience)
	}
	if host != "front.example" {
		t.Errorf("the API met the host %q", host)
	}
}

func TestPassesAtOnce(t *testing.T) {
	seen := make(chan struct{})
	s := stand(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		for i := range 3 {
			fmt.Fprintf(w, "data: {\"n\":%d}\n\n", i)
			w.(http.Flusher).Flush()
			select {
			case <-seen: // the client has it before the next is sent
			case <-r.Context().Done():
				return
			}
		}
	}))
	response, err := bare().Get(s.url + "/v1/events")
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	in := bufio.NewReader(response.Body)
	for i := range 3 {
		line, err := in.ReadString('\n')
		if err != nil || line != fmt.Sprintf("data: {\"n\":%d}\n", i) {
			t.Fatalf("event %d: %q, %v", i, line, err)
		}
		in.ReadString('\n')
		seen <- struct{}{}
	}
	io.Copy(io.Discard, in)
	if c := s.only(t); strings.Count(string(c.Response.Body), "data:") != 3 {
		t.Errorf("captured %q", c.Response.Body)
	}
}

// TestBothSidesAtOnce sends a request that goes on while its answer comes.
func TestBothSidesAtOnce(t *testing.T) {
	for name, client := range map[string]*http.Client{"HTTP/1.1": bare(), "HTTP/2": clear2()} {
		t.Run(name, func(t *testing.T) {
			major := 0
			s := stand(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				major = r.ProtoMajor
				http.NewResponseController(w).EnableFullDuplex()
				for in := bufio.NewReader(r.Body); ; {
					line, err := in.ReadString('\n')
					if err != nil {
						return
					}
					io.WriteString(w, strings.ToUpper(line))
					w.(http.Flusher).Flush()
				}
			}))
			out, in := io.Pipe()
			r, err := http.NewRequest("POST", s.url+"/v1/echo", out)
			if err != nil {
				t.Fatal(err)
			}
			go io.WriteString(in, "first\n")
			response, err := client.Do(r)
			if err != nil {
				t.Fatal(err)
			}
			defer response.Body.Close()
			answers := bufio.NewReader(response.Body)
			if line, err := answers.ReadString('\n'); line != "FIRST\n" {
				t.Fatalf("first answer %q, %v", line, err)
			}
			io.WriteString(in, "second\n")
			if line, err := answers.ReadString('\n'); line != "SECOND\n" {
				t.Fatalf("second answer %q, %v", line, err)
			}
			in.Close()
			io.Copy(io.Discard, answers)
			c := s.only(t)
			if string(c.Request.Body) != "first\nsecond\n" || string(c.Response.Body) != "FIRST\nSECOND\n" {
				t.Errorf("captured %q and %q", c.Request.Body, c.Response.Body)
			}
			if want := map[string]int{"HTTP/1.1": 1, "HTTP/2": 2}[name]; major != want {
				t.Errorf("the API was called by HTTP/%d", major)
			}
		})
	}
}

func TestUpgradesPass(t *testing.T) {
	s := stand(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		conn, buffered, err := http.NewResponseController(w).Hijack()
		if err != nil {
			t.Error(err)
			return
		}
		defer conn.Close()
		io.WriteString(conn, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: shout\r\n\r\n")
		line, _ := buffered.ReadString('\n')
		io.WriteString(conn, strings.ToUpper(line))
	}))
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	io.WriteString(conn, "GET /v1/live HTTP/1.1\r\nHost: x.example\r\nConnection: Upgrade\r\nUpgrade: shout\r\n\r\n")
	in := bufio.NewReader(conn)
	response, err := http.ReadResponse(in, nil)
	if err != nil || response.StatusCode != http.StatusSwitchingProtocols {
		t.Fatalf("%v, %v", response, err)
	}
	io.WriteString(conn, "low tide\n")
	if line, err := in.ReadString('\n'); line != "LOW TIDE\n" {
		t.Errorf("through the upgrade came %q, %v", line, err)
	}
	if c := s.only(t); c.Response.Status != http.StatusSwitchingProtocols ||
		!strings.Contains(c.Response.Missing, "another protocol") {
		t.Errorf("captured %+v", c.Response)
	}
}

func TestUpstreamOverTLS(t *testing.T) {
	api := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w,
			`{"major":%d}`, r.ProtoMajor)
	}))
	api.EnableHTTP2 = true
	api.StartTLS()
	defer api.Close()
	roots := x509.NewCertPool()
	roots.AddCert(api.Certificate())
	s := before(t, api.URL, func(o *Options) { o.Roots = roots })
	if _, body := fetch(t, bare(), request(t, "GET", s.url+"/", "")); body != `{"major":2}` {
		t.Errorf("over TLS came %s", body)
	}
	// Without its certificate it is not talked to.
	strict := before(t, api.URL)
	response, _ := fetch(t, bare(), request(t, "GET", strict.url+"/", ""))
	if response.StatusCode != http.StatusBadGateway {
		t.Errorf("an unknown certificate: %d", response.StatusCode)
	}
	var wrong *tls.CertificateVerificationError
	_, err := http.Get(api.URL)
	if !errors.As(err, &wrong) {
		t.Errorf("the certificate is known to the system: %v", err)
	}
}

func TestLargeUploadsPassInPieces(t *testing.T) {
	const size = 64 << 20
	s := stand(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, err := io.Copy(io.Discard, r.Body)
		fmt.Fprint(w, n, err)
	}), func(o *Options) { o.MaxBody = 1000 })
	r, err := http.NewRequest("POST", s.url+"/v1/files", io.LimitReader(zeros{}, size))
	if err != nil {
		t.Fatal(err)
	}
	r.ContentLength = size
	if _, body := fetch(t, bare(), r); body != fmt.Sprint(int64(size), error(nil)) {
		t.Errorf("the API met %s", body)
	}
	if c := s.only(t); len(c.Request.Body) != 1000 ||
		c.Incomplete != "the body of the request was cut after 1000 bytes, as is set for recording" {
		t.Errorf("%d bytes of it are kept; 1000 were to be; it says %q", len(c.Request.Body), c.Incomplete)
	}
}

// TestBodiesAreCutWhereTheyAreLonger answers with bodies around what is kept: only what is longer is cut, and says so.
func TestBodiesAreCutWhereTheyAreLonger(t *testing.T) {
	const most = 1000
	s := stand(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := strconv.Atoi(r.URL.Query().Get("n"))
		for half := range 2 { // in two pieces, so that the end does not come with them
			w.Write(bytes.Repeat([]byte("x"), n/2+half*(n%2)))
			w.(http.Flusher).Flush()
		}
	}), func(o *Options) { o.MaxBody = most })
	sizes := []int{0, 1, most - 1, most, most + 1, 5 * most}
	for _, n := range sizes {
		if _, body := fetch(t, bare(), request(t, "GET", fmt.Sprint(s.url, "/v1/files?n=", n), "")); len(body) != n {
			t.Fatalf("%d bytes of %d came", len(body), n)
		}
	}
	all := s.captures(t)
	if len(all) != len(sizes) {
		t.Fatalf("%d captures", len(all))
	}
	for _, c := range all {
		n, _ := strconv.Atoi(c.Request.URL.Query().Get("n"))
		if len(c.Response.Body) != min(n, most) || (c.Incomplete != "") != (n > most) {
			t.Errorf("of %d bytes %d are kept, and it says %q", n, len(c.Response.Body), c.Incomplete)
		}
	}
}

// TestAChangeOfProtocolThatNobodyAskedFor is refused by the proxy after it was noted.
func TestAChangeOfProtocolThatNobodyAskedFor(t *testing.T) {
	s := before(t, spoken(t, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: berths\r\n\r\n",
		false))
	for range 50 {
		if response, _ := fetch(t, bare(), request(t, "GET", s.url+"/v1/me",
			"")); response.StatusCode != http.StatusBadGateway {
			t.Fatalf("the client met %d", response.StatusCode)
		}
	}
	all := s.captures(t)
	for _, c := range all {
		if !strings.Contains(c.Response.Missing, "another protocol") {
			t.Fatalf("it says %q", c.Response.Missing)
		}
	}
	if len(all) != 50 {
		t.Errorf("%d captures", len(all))
	}
}

// TestLargeBodiesLeaveRoomForSmallOnes holds many large answers open, together several times what copies may take.
func TestLargeBodiesLeaveRoomForSmallOnes(t *testing.T) {
	const large, small, size = 20, 100, 1 << 20
	half, on := make(chan struct{}, large), make(chan struct{})
	s := stand(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/large" {
			w.Write([]byte("fine"))
			return
		}
		w.Write(make([]byte, size))
		w.(http.Flusher).Flush()
		half <- struct{}{}
		<-on
		w.Write(make([]byte, size))
	}), func(o *Options) { o.Memory = 8 << 20 })
	var done sync.WaitGroup
	for range large {
		done.Go(func() {
			response, err := bare().Get(s.url + "/large")
			if err != nil {
				t.Error(err)
				return
			}
			defer response.Body.Close()
			if n, err := io.Copy(io.Discard, response.Body); n != 2*size || err != nil {
				t.Errorf("%d bytes came, %v", n, err)
			}
		})
	}
	for range large {
		within(t, half, "the large answers do not come")
	}
	for i := range small {
		header := strings.Repeat("x", 1000*(i%2))
		r := request(t, "GET", s.url+"/small", "")
		r.Header.Set("X-Long", header)
		fetch(t, bare(), r)
	}
	if held := s.memory.Load(); held > 8<<20 {
		t.Errorf("copies take %d bytes", held)
	}
	close(on)
	done.Wait()
	all := s.captures(t)
	got := map[string]int{}
	for _, c := range all {
		got[c.Request.URL.Path]++
	}
	if got["/small"] != small || got["/large"] == 0 {
		t.Errorf("captured are %v", got)
	}
	if held := s.memory.Load(); held != 0 {
		t.Errorf("%d bytes are held at the end", held)
	}
}

// TestLinesThatAreWrittenCanBeRead records a body that takes six times its length when it is written as text.
func TestLinesThatAreWrittenCanBeRead(t *testing.T) {
	const size = 20 << 20
	s := stand(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		if r.URL.Path == "/answer" {
			w.Write(bytes.Repeat([]byte{1}, size))
		} else {
			io.WriteString(w, `{"a":1}`)
		}
	}), func(o *Options) { o.MaxBody = 2 * size })
	fetch(t, bare(), request(t, "POST", s.url+"/request", strings.Repeat("\x01", size)))
	fetch(t, bare(), request(t, "POST", s.url+"/answer", "a=1"))
	fetch(t, bare(), request(t, "GET", s.url+"/small", ""))
	all := s.captures(t)
	if len(all) != 3 {
		t.Fatalf("%d captures", len(all))
	}
	for _, c := range all {
		says, body := map[string]string{"/request": "the body of the request is too long",
			"/answer": "the body of the answer is too long"}[c.Request.URL.Path], string(c.Response.Body)
		if !strings.Contains(c.Incomplete, says) || says == "" && c.Incomplete != "" || body != `{"a":1}` &&
			c.Request.URL.Path != "/answer" {
			t.Errorf("%s: %q, %.20q", c.Request.URL.Path, c.Incomplete, body)
		}
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// spoken answers each connection with text, then ends it: as a reset where it says so.
func spoken(t *testing.T, text string, reset bool) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			http.ReadRequest(bufio.NewReader(conn))
			io.WriteString(conn, text)
			if reset {
				conn.(*net.TCPConn).SetLinger(0)
			}
			conn.Close()
		}
	}()
	return "http://" + l.Addr().String()
}

func TestFaultyUpstreams(t *testing.T) {
	const json = `{"data":{"email":"sol@sails.example"}`
	for name, c := range map[string]struct {
		text    string
		reset   bool
		status  int  // that the client meets
		cut     bool // and whether the body breaks off for it
		body    string
		missing string
	}{
		"resets before it answers": {"", true, http.StatusBadGateway, false, "", "did not answer"},
		"closes before it answers": {"", false, http.StatusBadGateway, false, "", "did not answer"},
		"no HTTP":                  {"hello\r\n\r\n", false, http.StatusBadGateway, false, "", "did not answer"},
		"says more than it sends": {"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: 500\r\n\r\n" +
			json, false, 200, true, json, ""},
		"resets in its body": {"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: 500\r\n\r\n" +
			json, true, 200, true, "", ""},
		"bad chunks": {"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nTransfer-Encoding: " +
			"chunked\r\n\r\n25\r\n" + json + "\r\nzz\r\n", false, 200, true, json, ""},
		"says less than it sends": {"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: " +
			"7\r\n\r\n{\"a\":1}" + json, false, 200, false, `{"a":1}`, ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := before(t, spoken(t, c.text, c.reset))
			response, err := bare().Get(s.url + "/v1/me")
			if err != nil {
				t.Fatal(err)
			}
			body, err := io.ReadAll(response.Body)
			response.Body.Close()
			if response.StatusCode != c.status || (err != nil) != c.cut {
				t.Errorf("the client met %d, %q, %v", response.StatusCode, body, err)
			}
			one := s.only(t)
			if !strings.Contains(one.Response.Missing, c.missing) || c.missing == "" && one.Response.Missing != "" {
				t.Errorf("the capture says %q, want %q", one.Response.Missing, c.missing)
			}
			if broke := strings.Contains(one.Incomplete, "broke off"); broke != c.cut {
				t.Errorf("of its body it says %q", one.Incomplete)
			}
			if c.body != "" && string(one.Response.Body) != c.body {
				t.Errorf("captured %q", one.Response.Body)
			}
		})
	}
}

// TestHeadsPassAsTheyCame looks at the bytes on both sides: what the API said, and what it was asked.
func TestHeadsPassAsTheyCame(t *testing.T) {
	asked := make(chan string, 1)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	answers := make(chan string, 1)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			var read bytes.Buffer
			if r, err := http.ReadRequest(bufio.NewReader(io.TeeReader(conn, &read))); err == nil {
				io.Copy(io.Discard, r.Body)
			}
			asked <- read.String()
			io.WriteString(conn, <-answers)
			conn.Close()
		}
	}()
	s := before(t, "http://"+l.Addr().String())
	const head = "Connection: close\r\n"
	for name, c := range map[string]struct {
		request, answer string
		asks            []string // in what the API was asked
		says, never     []string // in what the client got, and what not
	}{
		"no type is made up": {"GET /a HTTP/1.1\r\nHost: x\r\n\r\n",
			"HTTP/1.1 200 OK\r\nContent-Length: 7\r\n\r\n{\"a\":1}", nil, []string{"\r\n\r\n{\"a\":1}"},
			[]string{"content-type", "date:"}},
		"a type that is empty": {"GET /a HTTP/1.1\r\nHost: x\r\n\r\n",
			"HTTP/1.1 200 OK\r\nContent-Type: \r\nContent-Length: 7\r\n\r\n{\"a\":1}", nil,
			[]string{"Content-Type: \r\n"}, nil},
		"an answer of 304": {"GET /a HTTP/1.1\r\nHost: x\r\nIf-None-Match: x\r\n\r\n",
			"HTTP/1.1 304 Not Modified\r\nContent-Type: application/json\r\nContent-Length: 70\r\nETag: x\r\n\r\n", nil,
			[]string{"304 Not Modified", "content-type: application/json", "content-length: 70", "Etag: x"}, nil},
		"the length of an answer to HEAD": {"HEAD /a HTTP/1.1\r\nHost: x\r\n\r\n",
			"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: 70\r\n\r\n", []string{"HEAD /a "},
			[]string{"Content-Length: 70", "Content-Type: application/json"}, nil},
		"HEAD without a length": {"HEAD /a HTTP/1.1\r\nHost: x\r\n\r\n",
			"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n\r\n", nil,
			[]string{"Content-Type: application/json"}, []string{"content-length"}},
		"OPTIONS *": {"OPTIONS * HTTP/1.1\r\nHost: x\r\n\r\n",
			"HTTP/1.1 204 No Content\r\nAllow: GET\r\n\r\n", []string{"OPTIONS * HTTP/1.1\r\n"}, []string{"Allow: GET"},
			nil},
		"trailers of a request": {"POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\nTrailer: " +
			"X-Sum\r\n\r\n3\r\na=1\r\n0\r\nX-Sum: 77\r\n\r\n", "HTTP/1.1 204 No Content\r\n\r\n",
			[]string{"Trailer: X-Sum\r\n", "a=1\r\n0\r\nX-Sum: 77\r\n\r\n"}, nil, nil},
		"trailers that were not announced": {"POST /a HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: " +
			"chunked\r\n\r\n3\r\na=1\r\n0\r\nX-Sum: 78\r\n\r\n", "HTTP/1.1 204 No Content\r\n\r\n",
			[]string{"a=1\r\n0\r\nX-Sum: 78\r\n\r\n"}, nil, nil},
		"trailers of an answer": {"GET /a HTTP/1.1\r\nHost: x\r\nTE: trailers\r\n\r\n",
			"HTTP/1.1 200 OK\r\nTrailer: X-Sum\r\nTransfer-Encoding: chunked\r\n\r\n3\r\na=1\r\n0\r\nX-Sum: 79\r\n\r\n",
			nil, []string{"0\r\nX-Sum: 79\r\n\r\n"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			conn, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
			if err != nil {
				t.Fatal(err)
			}
			defer conn.Close()
			answers <- strings.Replace(c.answer, "\r\n", "\r\n"+head, 1)
			io.WriteString(conn, strings.Replace(c.request, "\r\n", "\r\n"+head, 1))
			asks := within(t, asked, "the API is not asked")
			conn.SetReadDeadline(time.Now().Add(patience))
			says, err := io.ReadAll(conn)
			if err != nil {
				t.Fatal(err)
			}
			for _, part := range c.asks {
				if !strings.Contains(asks, part) {
					t.Errorf("the API was asked\n%s\nwithout %q", asks, part)
				}
			}
			for _, part := range c.says {
				if !strings.Contains(string(says), part) {
					t.Errorf("the client got\n%s\nwithout %q", says, part)
				}
			}
			for _, part := range c.never {
				if strings.Contains(strings.ToLower(string(says)), part) {
					t.Errorf("the client got\n%s\nwith %q", says, part)
				}
			}
		})
	}
}

func TestUpstreamThatHangsAndClientThatGoes(t *testing.T) {
	begun, half, gone := make(chan struct{}, 1), make(chan struct{}, 1), make(chan struct{}, 1)
	s := stand(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/half" {
			io.WriteString(w, `{"data":[`)
			w.(http.Flusher).Flush()
		}
		begun <- struct{}{}
		<-r.Context().Done()
		gone <- struct{}{}
	}))
	for _, path := range []string{"/never", "/half"} {
		ctx, cancel := context.WithCancel(context.Background())
		r := request(t, "GET", s.url+path, "").WithContext(ctx)
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			if response, err := bare().Do(r); err == nil {
				response.Body.Read(make([]byte, 1))
				half <- struct{}{}
				io.Copy(io.Discard, response.Body)
				response.Body.Close()
			}
		}()
		within(t, begun, "the call does not come to the API")
		if path == "/half" {
			within(t, half, "the first half of the answer does not come")
		}
		cancel()
		within(t, gone, "the API is not told that the client went away")
		<-ended
	}
	all := s.captures(t)
	if len(all) != 2 {
		t.Fatalf("%d captures", len(all))
	}
	for _, c := range all {
		switch c.Request.URL.Path {
		case "/never":
			if !strings.Contains(c.Response.Missing, "went away") {
				t.Errorf("%s: %+v", c.Request.URL.Path, c.Response)
			}
		case "/half":
			if string(c.Response.Body) != `{"data":[` || c.Incomplete == "" {
				t.Errorf("%s: %q, %+v", c.Request.URL.Path, c.Incomplete, c.Response)
			}
		}
	}
}

// patience bounds what a test waits for.
const patience = 20 * time.Second

func within[T any](t *testing.T, c <-chan T, otherwise string) T {
	t.Helper()
	select {
	case v := <-c:
		return v
	case <-time.After(patience):
		t.Fatal(otherwise)
		panic("")
	}
}

func TestNothingIsHeldUpByCopies(t *testing.T) {
	api := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write(make([]byte, 100<<10)) })
	s := stand(t, api, func(o *Options) { o.Memory = 50 << 10 })
	for range 5 {
		if _, body := fetch(t, bare(), request(t, "GET", s.url+"/big", "")); len(body) != 100<<10 {
			t.Fatalf("%d bytes came through", len(body))
		}
	}
	if all := s.captures(t); len(all) != 0 {
		t.Errorf("%d captures, although there is no memory for one", len(all))
	}
	if n := s.Counts(); n.Dropped != 5 || s.memory.Load() != 0 {
		t.Errorf("counts %+v, memory %d", n, s.memory.Load())
	}

	// Nobody takes captures: more than may wait are dropped, and the calls go on.
	idle := New(Options{Upstream: mustURL("http://127.0.0.1:1"), Memory: 1 << 40})
	for range waiting + 7 {
		idle.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", "/", nil))
	}
	if n := idle.Counts(); n.Captured != waiting || n.Dropped != 7 {
		t.Errorf("counts %+v", n)
	}
}

func mustURL(text string) *url.URL {
	u, err := url.Parse(text)
	if err != nil {
		panic(err)
	}
	return u
}

// TestFileThatCannotBeWritten sees that the traffic goes on.
func TestFileThatCannotBeWritten(t *testing.T) {
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		io.WriteString(w,
			"{}")
	}))
	defer api.Close()
	r := New(Options{Upstream: mustURL(api.URL)})
	front := httptest.NewServer(r)
	defer front.Close()
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- r.ToWriter(ctx, full{}) }()
	for range 20 {
		if _, body := fetch(t, bare(), request(t, "GET", front.URL+"/", "")); body != "{}" {
			t.Fatalf("the client met %q", body)
		}
	}
	front.Close()
	stop()
	if err := within(t, ended, "recording does not end"); !errors.Is(err, errFull) {
		t.Errorf("ended with %v", err)
	}
	if n := r.Counts(); n.Dropped != 20 || n.Captured != 0 {
		t.Errorf("counts %+v", n)
	}
}

var errFull = errors.New("no space left")

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errFull }

func TestRules(t *testing.T) {
	rule := func(text string) Rule {
		r, err := ParseRule(text)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	r := newRules(Rules{Include: []Rule{rule("GET /v1/*"), rule("/v2/*")}, Exclude: []Rule{rule("*/health"),
		rule("DELETE *")}})
	for call, want := range map[string]bool{"GET /v1/berths": true, "POST /v1/berths": false, "POST /v2/x/y": true,
		"GET /v1/health": false, "DELETE /v2/x": false, "GET /v10": false, "GET /v1/": true, "GET /": false} {
		method, path, _ := strings.Cut(call, " ")
		if got := r.take(method, path); got != want {
			t.Errorf("%s: captured %v, want %v", call, got, want)
		}
	}
	for _, text := range []string{"/small?x=*", "GET /a#b", "/a b", "", "v1/berths", "get /v1", "GET"} {
		if _, err := ParseRule(text); err == nil {
			t.Errorf("%q is read as a rule", text)
		}
	}

	sampled := newRules(Rules{Sample: 0.1})
	taken := 0
	for i := range 20_000 {
		if sampled.take("GET", fmt.Sprintf("/v1/berths/%d", i)) {
			taken++
		}
	}
	if taken < 1500 || taken > 2600 { // 2,018 are expected; this is ten standard deviations
		t.Errorf("%d of 20,000 calls are captured where a tenth is to be", taken)
	}
	for i := range alwaysTaken {
		if !sampled.take("GET", "/v1/rare") {
			t.Errorf("call %d of a rare endpoint is not captured", i)
		}
	}
}

// TestABrokenBodyEndsTheConnection: what stands behind a request body that cannot be read is no second request,
// whatever is wrong with its framing.
func TestABrokenBodyEndsTheConnection(t *testing.T) {
	for name, body := range map[string]string{
		"a negative size":        "-1\r\n\r\n",
		"no size":                "zz\r\nabc\r\n",
		"a size too large":       "fffffffffffffffff\r\nabc\r\n",
		"no line end behind it":  "3\r\nabcGET /evil HTTP/1.1\r\nHost: a\r\n\r\n",
		"a bare line feed":       "3\nabcd\n",
		"an endless extension":   "3;" + strings.Repeat("x", 20_000) + "\r\nabc\r\n",
		"after a whole chunk":    "3\r\nabc\r\nq\r\n",
		"behind the last of all": "0\r\nTrailer without colon\r\n\r\n",
	} {
		for _, copied := range []bool{true, false} {
			var mu sync.Mutex
			var seen []string
			s := stand(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				mu.Lock()
				seen = append(seen, r.Method+" "+r.URL.Path)
				mu.Unlock()
				io.Copy(io.Discard, r.Body)
				w.Write([]byte("fine"))
			}), func(o *Options) {
				if !copied {
					o.Rules.Exclude = []Rule{must(ParseRule("/upload"))}
				}
			})
			conn, err := net.Dial("tcp", strings.TrimPrefix(s.url, "http://"))
			if err != nil {
				t.Fatal(err)
			}
			conn.SetDeadline(time.Now().Add(20 * time.Second))
			fmt.Fprintf(conn, "POST /upload HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n%sGET /evil "+
				"HTTP/1.1\r\nHost: a\r\n\r\n", body)
			answer, err := io.ReadAll(conn) // until the recorder closes it
			conn.Close()
			mu.Lock()
			if err != nil && errors.Is(err, os.ErrDeadlineExceeded) || strings.Contains(strings.Join(seen, ", "),
				"/evil") || strings.Count(string(answer), "HTTP/1.1 ") > 1 {
				t.Errorf("%s, copied %v: the API saw %v; answered %q, %v", name, copied, seen, answer, err)
			}
			mu.Unlock()
			s.end()
		}
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}
