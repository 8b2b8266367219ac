package outbound

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"

	"inkret/core/exchange"
)

func parsed(t *testing.T, text string) *url.URL {
	t.Helper()
	u, err := url.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return u
}

func TestWhichAddressesArePublic(t *testing.T) {
	for text, want := range map[string]bool{
		"9.9.9.9": true, "2620:fe::fe": true,
		"127.0.0.1": false, "10.1.2.3": false, "172.20.0.1": false, "192.168.1.1": false, "169.254.169.254": false,
		"100.100.100.200": false, "0.0.0.0": false,
		"0.1.2.3": false, "255.255.255.255": false, "224.0.0.1": false, "198.18.0.1": false, "192.0.2.9": false,
		"::1": false, "::": false, "fe80::1": false, "fd00:ec2::254": false, "ff02::1": false,
		"::ffff:127.0.0.1": false, "::ffff:169.254.169.254": false,
		"64:ff9b::a9fe:a9fe": false, "2002:7f00:1::": false, "2001:db8::1": false,
	} {
		if got := Public(netip.MustParseAddr(text)); got != want {
			t.Errorf("%s is public: %v, want %v", text, got, want)
		}
	}
}

func TestCallsAreMadeAsTheyWereRecorded(t *testing.T) {
	var got string
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		got = fmt.Sprintf("%s %s %s %q %s %v %v", r.Method, r.Host, r.URL.RequestURI(), r.Header.Get("User-Agent"),
			r.Header.Get("X-Desk"), r.Header["Connection"], string(body))
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Content-Encoding", "gzip")
		g := gzip.NewWriter(w)
		io.WriteString(g, `{"a":1}`)
		g.Close()
	}))
	defer api.Close()
	s := Server{Base: parsed(t, "https://api.quay.example/v1"), Address: parsed(t, api.URL)}
	r := &exchange.Request{Method: "POST", URL: parsed(t, "https://api.quay.example/v1/a%2Fb?x=%20"),
		Body: []byte("a=1"),
		Header: exchange.Header{{Name: "X-Desk", Value: "2"}, {Name: "Connection", Value: "X-Desk"},
			{Name: "Host", Value: "evil.example"}, {Name: "Content-Length", Value: "99"}, {Name: ":path", Value: "/"}}}
	answer, err := Call(t.Context(), s, r)
	if err != nil || string(answer.Body) != `{"a":1}` || answer.Status != 200 ||
		answer.Header.Get("content-type") != "application/json" {
		t.Fatalf("answer %+v, %v", answer, err)
	}
	if want := `POST api.quay.example /v1/a%2Fb?x=%20 "" 2 [close] a=1`; got != want {
		t.Errorf("sent %s, want %s", got, want)
	}
}

func TestWhatIsRefused(t *testing.T) {
	calls := 0
	api := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { calls++ }))
	defer api.Close()
	port := api.Listener.Addr().(*net.TCPAddr).Port
	for _, c := range []struct{ base, address, url string }{
		{"https://api.quay.example", api.URL, "https://other.example/"},
		{"https://api.quay.example/v1", api.URL, "https://api.quay.example/v1x"},
		{"https://api.quay.example", api.URL, "http://api.quay.example/"},
		{"https://api.quay.example", api.URL, "https://u:p@api.quay.example/"},
		{fmt.Sprintf("http://127.0.0.1:%d", port), "", fmt.Sprintf("http://127.0.0.1:%d/", port)},
		{fmt.Sprintf("http://localhost:%d", port), "", fmt.Sprintf("http://localhost:%d/", port)},
		{fmt.Sprintf("http://[::ffff:127.0.0.1]:%d", port), "", fmt.Sprintf("http://[::ffff:127.0.0.1]:%d/", port)},
		{"http://169.254.169.254", "", "http://169.254.169.254/latest"},
		{"http://0x7f.1", "", "http://0x7f.1/"},
	} {
		s := Server{Base: parsed(t, c.base)}
		if c.address != "" {
			s.Address = parsed(t, c.address)
		}
		_, err := Call(t.Context(), s, &exchange.Request{Method: "GET", URL: parsed(t, c.url)})
		var refused *Refused
		if err == nil || !errors.As(err, &refused) && c.base != "http://0x7f.1" {
			t.Errorf("%s by %s: %v", c.url, c.base, err)
		}
	}
	if calls != 0 {
		t.Errorf("%d calls were made", calls)
	}
	if _, err := Call(t.Context(), Server{Base: parsed(t, "https://a.example")},
		&exchange.Request{Method: "GET"}); err == nil {
		t.Error("a request without an address was made")
	}
}

func TestRedirectsAreNotFollowed(t *testing.T) {
	inner := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter,
		*http.Request) {
		t.Error("the redirect was followed")
	}))
	defer inner.Close()
	api := httptest.NewServer(http.RedirectHandler(inner.URL, http.StatusFound))
	defer api.Close()
	answer, err := Call(t.Context(), Server{Base: parsed(t, api.URL), Address: parsed(t, api.URL)},
		&exchange.Request{Method: "GET", URL: parsed(t, api.URL+"/x")})
	if err != nil || answer.Status != 302 || answer.Header.Get("Location") != inner.URL {
		t.Errorf("answer %+v, %v", answer, err)
	}
}

func TestServersThatMisbehave(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	answers := make(chan string, 1)
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				c.Read(make([]byte, 4096))
				io.WriteString(c, <-answers)
			}()
		}
	}()
	base := parsed(t, "http://"+listener.Addr().String())
	call := func(ctx context.Context) (Answer, error) {
		return Call(ctx, Server{Base: base, Address: base}, &exchange.Request{Method: "GET", URL: base})
	}
	for answer, want := range map[string]string{
		"HTTP/1.1 200 OK\r\nContent-Length: 90\r\n\r\n{\"a\":1}":               "the answer broke off",
		"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\nhello\r\n": "the answer broke off",
		"":      "closed before the answer was whole",
		"hello": "malformed",
	} {
		answers <- answer
		got, err := call(t.Context())
		if told := fmt.Sprint(got.Incomplete, got.Missing, err); !strings.Contains(told, want) {
			t.Errorf("%q: %s, want %q", answer, told, want)
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	if _, err := call(ctx); err == nil || !strings.Contains(err.Error(), "did not answer within") {
		t.Errorf("a server that hangs: %v", err)
	}
	cancel()
	answers <- ""
	listener.Close()
	if _, err := call(t.Context()); err == nil || !strings.Contains(err.Error(), "nothing answers there") {
		t.Errorf("a server that is gone: %v", err)
	}
}

// TestAStreamOfEventsIsListenedToForAWhile checks that of a stream which does not end the whole events that came are
// read, soon.
func TestAStreamOfEventsIsListenedToForAWhile(t *testing.T) {
	gone := make(chan struct{})
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream; charset=utf-8")
		if r.URL.Path == "/some" {
			io.WriteString(w, "data: {\"a\":1}\n\ndata: {\"b\"")
		}
		w.(http.Flusher).Flush()
		select {
		case <-r.Context().Done():
		case <-gone:
		}
	}))
	defer api.Close()
	defer close(gone)
	base := parsed(t, api.URL)
	for path, want := range map[string]string{"/some": "data: {\"a\":1}\n", "/none": ""} {
		began := time.Now()
		got, err := Call(t.Context(), Server{Base: base, Address: base}, &exchange.Request{Method: "GET",
			URL: parsed(t, api.URL+path)})
		if err != nil || string(got.Body) != want || !strings.Contains(got.Incomplete, "stream of events") ||
			(want == "") != (got.Missing != "") || time.Since(began) > callTime/2 {
			t.Errorf("%s: %q, incomplete %q, missing %q, %v after %s", path, got.Body, got.Incomplete, got.Missing, err,
				time.Since(began))
		}
	}
}

// TestServersThatCouldNeverBeCalled checks that they are told when they are named, and that ports by default are ports.
func TestServersThatCouldNeverBeCalled(t *testing.T) {
	for at, want := range map[string]string{
		"http://127.0.0.1:7466": "not a public address", "https://localhost": "not a public address",
		"http://[::1]:80": "not a public address", "http://169.254.169.254": "not a public address",
		"https://9.9.9.9": "", "https://nowhere.invalid": "",
		"http://q.example http://127.0.0.1:7466": "", "http://q.example http://:7466": "no host and port",
		"http://q.example http://127.0.0.1:0":     "no host and port",
		"http://q.example http://127.0.0.1:99999": "no host and port",
	} {
		name, address, there := strings.Cut(at, " ")
		s := Server{Base: parsed(t, name)}
		if there {
			s.Address = parsed(t, address)
		}
		if err := s.Check(t.Context()); (err == nil) != (want == "") || err != nil &&
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", at, err, want)
		}
	}
	s := Server{Base: parsed(t, "https://Q.example:443/api")}
	for at, want := range map[string]bool{"https://q.example/api/x": true, "https://q.example:443/api": true,
		"https://q.example:444/api": false, "http://q.example:443/api": false, "https://q.example/apix": false} {
		if s.Serves(parsed(t, at)) != want {
			t.Errorf("it serves %s: %v", at, !want)
		}
	}
}
