// Package record is a recording reverse proxy: it passes an API's traffic through unchanged and copies it. Copying
// never holds up traffic; what cannot be kept is dropped and counted.
package record

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"time"
)

// Options configure a recorder.
type Options struct {
	Upstream *url.URL // the API: http or https, with host and perhaps a path
	// As is the base URL in captures, instead of the upstream's; nil means the upstream's.
	As       *url.URL
	KeepHost bool           // the API sees the host that the client named
	Roots    *x509.CertPool // that the upstream's certificate is held against; nil are the system's
	Audience string         // who makes all calls; empty leaves it to the contracts
	Rules    Rules          // which calls are captured
	MaxBody  int            // bytes that are kept of a body; 0 is DefaultBody
	Memory   int64          // bytes that copies may take until they are handed on; 0 is DefaultMemory
	Log      *slog.Logger   // told of what happens, never of values; discarded when nil
}

const (
	// DefaultBody is how much of a body is kept by default.
	DefaultBody = 16 << 20
	// DefaultMemory limits the copies that were not sent yet.
	DefaultMemory = 256 << 20
	// waiting is how many captures may wait to be sent.
	waiting = 8192
	// dialTime limits connecting to the upstream. Nothing else of a call is limited; that is between client and
	// API.
	dialTime = 10 * time.Second
	// idleConnections is the number of idle connections to the upstream.
	idleConnections = 512
	// continueTime is how long an upload with Expect: 100-continue waits.
	continueTime = time.Second
	// headSize estimates the memory of a call's heads; copySize is the buffer for passing bodies.
	headSize = 4 << 10
	copySize = 32 << 10
)

// Recorder is the proxy's handler.
type Recorder struct {
	options Options
	proxy   *httputil.ReverseProxy
	calls   chan *call   // that are over
	memory  atomic.Int64 // of the copies
	pressed atomic.Bool  // there was not enough of it
	rules   *rules
	counts  counts
}

// Counts are a recorder's totals.
type Counts struct {
	Captured int64 // copied, to be handed on
	Passed   int64 // passed through without a copy, as the rules want it
	Dropped  int64 // passed through, and their copy dropped
}

type counts struct{ captured, passed, dropped atomic.Int64 }

// New returns a recorder. Take its captures with [Recorder.ToWriter] or [Recorder.ToReceiver].
func New(o Options) *Recorder {
	if o.MaxBody <= 0 {
		o.MaxBody = DefaultBody
	}
	if o.Memory <= 0 {
		o.Memory = DefaultMemory
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	r := &Recorder{options: o, calls: make(chan *call, waiting), rules: newRules(o.Rules)}
	r.proxy = &httputil.ReverseProxy{
		Rewrite:        r.rewrite,
		ModifyResponse: r.answered,
		ErrorHandler:   r.unanswered,
		FlushInterval:  -1, // everything at once
		BufferPool:     newBuffers(),
		ErrorLog:       slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug),
		Transport:      newTransport(o.Roots),
	}
	return r
}

// Counts returns the totals so far.
func (r *Recorder) Counts() Counts {
	return Counts{r.counts.captured.Load(), r.counts.passed.Load(), r.counts.dropped.Load()}
}

// Protocols returns the protocols for a server of the recorder: HTTP/1.1, and HTTP/2 without TLS (RFC 9113 section
// 3.3).
func Protocols() *http.Protocols {
	p := &http.Protocols{}
	p.SetHTTP1(true)
	p.SetUnencryptedHTTP2(true)
	return p
}

// transport calls the upstream with the protocol of the incoming request.
type transport struct{ one, clear2 http.RoundTripper }

func newTransport(roots *x509.CertPool) *transport {
	plain := func() *http.Transport {
		return &http.Transport{
			DialContext:           (&net.Dialer{Timeout: dialTime, KeepAlive: 30 * time.Second}).DialContext,
			TLSClientConfig:       &tls.Config{RootCAs: roots},
			TLSHandshakeTimeout:   dialTime,
			DisableCompression:    true, // bodies pass as they are
			ForceAttemptHTTP2:     true,
			MaxIdleConns:          idleConnections,
			MaxIdleConnsPerHost:   idleConnections,
			IdleConnTimeout:       90 * time.Second,
			ExpectContinueTimeout: continueTime,
			WriteBufferSize:       16 << 10,
			ReadBufferSize:        16 << 10,
		}
	}
	clear2 := plain()
	clear2.Protocols = &http.Protocols{}
	clear2.Protocols.SetUnencryptedHTTP2(true)
	return &transport{plain(), clear2}
}

func (t *transport) RoundTrip(r *http.Request) (*http.Response, error) {
	if call := callOf(r.Context()); call != nil && call.two && r.URL.Scheme == "http" {
		return t.clear2.RoundTrip(r)
	}
	return t.one.RoundTrip(r)
}

// ServeHTTP implements [http.Handler].
func (r *Recorder) ServeHTTP(w http.ResponseWriter, request *http.Request) {
	c := &call{Recorder: r, two: request.ProtoMajor == 2}
	if c.copied = r.rules.take(request.Method, request.URL.Path); !c.copied {
		r.counts.passed.Add(1)
	}
	// A client that is still sending gets the response; by default, the library's HTTP/1 server would first read
	// the whole request.
	http.NewResponseController(w).EnableFullDuplex()
	came := request // the server tells it of trailers
	request = request.WithContext(context.WithValue(request.Context(), callKey{}, c))
	if request.Body != nil && request.Body != http.NoBody {
		request.Body = &watched{request.Body, c, came}
		if c.trailer = request.Trailer.Clone(); c.trailer == nil && request.ContentLength < 0 {
			c.trailer = http.Header{} // they may come without being announced
		}
	}
	// What follows an unreadable body must not be parsed as the next request, because the sender of the body could
	// forge one (RFC 9112 section 11.2).
	defer func() {
		if c.broken.Load() && !c.closing {
			panic(http.ErrAbortHandler)
		}
	}()
	if c.copied {
		c.begin(request)
		defer c.end() // also where the answer breaks off, which the proxy tells by a panic
	}
	a := &answering{ResponseWriter: w}
	defer func() {
		if broken := recover(); broken != nil { // the answer broke off: what came of it goes on, its head at least
			if a.begun {
				http.NewResponseController(w).Flush()
			}
			panic(broken)
		}
	}()
	r.proxy.ServeHTTP(a, request)
}

// answering writes a response's head unchanged.
type answering struct {
	http.ResponseWriter
	begun bool // the head was written
}

// Unwrap gives [http.ResponseController] access to the server's writer.
func (a *answering) Unwrap() http.ResponseWriter { return a.ResponseWriter }

// WriteHeader implements [http.ResponseWriter]. The server removes fields that responses without a body may have
// (RFC 9110 section 15.4.5), but not if they are in lower case.
//
// Nothing is added that the API did not send: the server omits fields without a value.
func (a *answering) WriteHeader(status int) {
	h := a.Header()
	a.begun = a.begun || status >= http.StatusOK
	for _, name := range []string{"Content-Type", "Date"} {
		if _, said := h[name]; !said && status >= http.StatusOK {
			h[name] = nil
		}
	}
	if status == http.StatusNotModified {
		for _, name := range []string{"Content-Type", "Content-Length"} {
			if values := h[name]; values != nil {
				h[strings.ToLower(name)] = values
				delete(h, name)
			}
		}
	}
	a.ResponseWriter.WriteHeader(status)
}

// rewrite directs a request to the upstream and changes nothing else.
func (r *Recorder) rewrite(p *httputil.ProxyRequest) {
	p.SetURL(r.options.Upstream)
	p.Out.URL.RawQuery = join(r.options.Upstream.RawQuery, p.In.URL.RawQuery)
	if p.In.RequestURI == "*" {
		p.Out.URL.Path, p.Out.URL.RawPath, p.Out.URL.Opaque = "", "", "*"
	}
	if c := callOf(p.In.Context()); c != nil && c.trailer != nil {
		p.Out.Trailer = c.trailer
	}
	if r.options.KeepHost {
		p.Out.Host = p.In.Host
	}
	// the library would add one
	if agents, said := p.In.Header["User-Agent"]; said && (len(agents) > 1 || agents[0] == "") {
		p.Out.Header["User-Agent"], p.Out.Header["user-agent"] = []string{""}, agents
	}
	for _, name := range []string{"Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto"} {
		if values, ok := p.In.Header[name]; ok {
			p.Out.Header[name] = values
		}
	}
}

func join(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "&" + b
}

// answered records the response's head.
func (r *Recorder) answered(response *http.Response) error {
	c := callOf(response.Request.Context())
	if c != nil && c.broken.Load() {
		c.closing = true
		response.Header.Set("Connection", "close")
	}
	if c == nil || !c.copied {
		return nil
	}
	c.capture.Response.Status, c.capture.Response.Header = response.StatusCode, headerOf(response.Header)
	c.take(sizeOf(c.capture.Response.Header))
	if response.StatusCode == http.StatusSwitchingProtocols { // its body must stay what it is, to be written to
		c.capture.Response.Missing = "the connection changed to another protocol, which is not recorded"
		c.copied = false // the change may fail yet; the capture is handed on and belongs to nobody here
		c.end()
		return nil
	}
	c.response.source = response.Body
	response.Body = &c.response
	return nil
}

// unanswered responds if the upstream does not.
func (r *Recorder) unanswered(w http.ResponseWriter, request *http.Request, err error) {
	c, reason := callOf(request.Context()), "the API did not answer"
	if errors.Is(err, context.Canceled) {
		reason = "the client went away before the API answered"
	}
	if c != nil && c.copied {
		c.capture.Response.Missing = reason
	}
	r.options.Log.Debug("no answer", "reason", reason)
	if c != nil && c.broken.Load() {
		c.closing = true
		w.Header().Set("Connection", "close")
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(http.StatusBadGateway)
	io.WriteString(w, `{"type":"about:blank","title":"Bad Gateway","status":502,"detail":"the API behind the recorder did not answer"}`)
}

// watched is a request body that records whether it could be read, and what followed it.
type watched struct {
	io.ReadCloser
	call *call
	came *http.Request
}

// Read implements [io.Reader].
func (b *watched) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	switch {
	case err == io.EOF:
		maps.Copy(b.call.trailer, b.came.Trailer)
	case err != nil:
		b.call.broken.Store(true)
	}
	return n, err
}

type callKey struct{}

func callOf(ctx context.Context) *call {
	c, _ := ctx.Value(callKey{}).(*call)
	return c
}
