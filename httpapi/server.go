// Package httpapi is the HTTP surface of the service: the operations of api/openapi.yaml, and the console.
package httpapi

import (
	"compress/gzip"
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/gzhttp"
	"github.com/labstack/echo/v5"

	"inkret/api"
	"inkret/api/serve"
	"inkret/api/wire"
	"inkret/service"
	"inkret/service/base"
)

// Options configure the HTTP surface.
type Options struct {
	Version string
	Log     *slog.Logger
	Console fs.FS  // the built console; nil serves none
	Public  string // the address under which people reach it, for links
	Secure  bool   // people reach it over TLS: cookies say so, and browsers are told to stay with it
	// Proxies are the reverse proxies whose X-Forwarded-For is trusted.
	Proxies []net.IPNet
	// Stopping is closed when the service stops, to end open streams.
	Stopping <-chan struct{}
	// MaxUpload limits the size of a recording as sent, in bytes; 0 = 8 GiB.
	MaxUpload int64
}

const (
	// maxJSON limits the bodies of all operations except uploads. Contracts of a large service take a few MB.
	maxJSON = 32 << 20
	// maxStranger limits the bodies of operations that need no sign-in.
	maxStranger = 16 << 10
	// maxRecording limits an upload.
	maxRecording = 8 << 30
	// maxChunk limits a chunk of a recorder.
	maxChunk = 256 << 20
)

// NewHandler returns the handler of the service.
func NewHandler(s *service.Service, o Options) (http.Handler, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	operations, err := api.Operations()
	if err != nil {
		return nil, err
	}
	h := &frame{service: s, options: o, numbers: newNumbers(s, o.Version)}
	e := echo.NewWithConfig(echo.Config{HTTPErrorHandler: h.fail, Logger: o.Log})
	e.IPExtractor = echo.ExtractIPDirect()
	if len(o.Proxies) > 0 {
		trust := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
		for i := range o.Proxies {
			trust = append(trust, echo.TrustIPRange(&o.Proxies[i]))
		}
		e.IPExtractor = echo.ExtractIPFromXFFHeader(trust...)
	}
	e.Use(h.observe, h.safe, h.caught, h.originate)
	perOperation := map[string][]echo.MiddlewareFunc{}
	for i := range operations {
		op := &operations[i]
		perOperation[op.ID] = []echo.MiddlewareFunc{h.bounded(op), h.authenticate(op), validated(op)}
	}
	serve.RegisterHandlersWithOptions(e, serve.NewStrictHandler(newHandlers(h),
		[]serve.StrictMiddlewareFunc{h.admission(operations)}),
		serve.RegisterHandlersOptions{OperationMiddlewares: perOperation})
	e.Any("/api/*", func(*echo.Context) error { return echo.ErrNotFound })
	if o.Console != nil {
		e.GET("/*", h.console)
	}
	all, err := packed(e)
	if err != nil {
		return nil, err
	}
	return http.NewCrossOriginProtection().Handler(all), nil
}

// packed compresses the console's scripts and styles. API responses are not compressed: their length would leak
// secrets beside text that an attacker chooses (CRIME, BREACH).
func packed(h http.Handler) (http.Handler, error) {
	wrap, err := gzhttp.NewWrapper(gzhttp.CompressionLevel(gzip.BestCompression), gzhttp.EnableZstd(false))
	if err != nil {
		return nil, err
	}
	small := wrap(h)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/assets/") {
			small.ServeHTTP(w, r)
			return
		}
		h.ServeHTTP(w, r)
	}), nil
}

// observe logs method, route, status and duration of each request. It never logs addresses, queries, headers or
// bodies, which may contain captured values.
func (h *frame) observe(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		begin := time.Now()
		err := next(c)
		if err != nil {
			h.fail(c, err)
		}
		status := http.StatusOK
		if r, _ := echo.UnwrapResponse(c.Response()); r != nil {
			status = r.Status
		}
		h.numbers.count(c, status, time.Since(begin))
		h.options.Log.Debug("request", "method", c.Request().Method, "route", c.Path(), "status", status, "took",
			time.Since(begin))
		return nil
	}
}

// caught turns a panic into a 500 response. It logs where the panic happened, but not its value, which may contain
// captured data. If the response has begun, it closes the connection.
func (h *frame) caught(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) (err error) {
		defer func() {
			fault := recover()
			if fault == nil {
				return
			}
			if fault == http.ErrAbortHandler { // meant so
				panic(fault)
			}
			h.options.Log.Error("request panicked", "route", c.Path(), "type", fmt.Sprintf("%T", fault), "stack",
				string(debug.Stack()))
			if r, _ := echo.UnwrapResponse(c.Response()); r != nil && r.Committed {
				panic(http.ErrAbortHandler)
			}
			err = errors.New("the handler panicked")
		}()
		return next(c)
	}
}

// safe sets the security headers of all responses.
func (h *frame) safe(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		header := c.Response().Header()
		header.Set("X-Content-Type-Options", "nosniff")
		header.Set("Referrer-Policy", "no-referrer")
		header.Set("Cross-Origin-Opener-Policy", "same-origin")
		header.Set("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'")
		if h.options.Secure { // RFC 6797
			header.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(c.Request().URL.Path, "/api/") {
			header.Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}

// bounded limits the body of a request.
func (h *frame) bounded(op *api.Operation) echo.MiddlewareFunc {
	limit := int64(maxJSON)
	switch {
	case op.ID == "uploadRecording", op.ID == "beginDraft":
		if limit = h.options.MaxUpload; limit == 0 {
			limit = maxRecording
		}
	case op.ID == "extendLive":
		limit = maxChunk
	case op.Role == "none":
		limit = maxStranger
	}
	total := bodyTime
	if limit > maxJSON { // a stream: it may take as long as it goes on
		total = 0
	}
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			control := http.NewResponseController(c.Response())
			if r.Body != http.NoBody {
				r.Body = &arriving{ReadCloser: r.Body, control: control, until: time.Now().Add(total),
					endless: total == 0}
			}
			r.Body = http.MaxBytesReader(c.Response(), r.Body, limit)
			if total > 0 && op.ID != "watchLive" {
				control.SetWriteDeadline(time.Now().Add(answerTime))
			}
			return next(c)
		}
	}
}

const (
	// pauseTime is how long a body may pause, bodyTime how long one that is no stream may take, answerTime how long
	// the client may take to read the response.
	pauseTime  = 30 * time.Second
	bodyTime   = 2 * time.Minute
	answerTime = 10 * time.Minute
)

// arriving is a body that must arrive in time, so that slow or stuck clients do not keep connections open.
type arriving struct {
	io.ReadCloser
	control *http.ResponseController
	until   time.Time
	endless bool
}

func (a *arriving) Read(p []byte) (int, error) {
	deadline := time.Now().Add(pauseTime)
	if !a.endless && a.until.Before(deadline) {
		deadline = a.until
	}
	a.control.SetReadDeadline(deadline)
	n, err := a.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) { // what comes behind it is waited for as ever
		a.control.SetReadDeadline(time.Time{})
	}
	return n, err
}

var statusOf = map[base.Code]int{
	base.Invalid: http.StatusBadRequest, base.Unauthenticated: http.StatusUnauthorized,
	base.Forbidden: http.StatusForbidden,
	base.NotFound:  http.StatusNotFound, base.Conflict: http.StatusConflict,
	base.Full:       http.StatusInsufficientStorage,
	base.Unreadable: http.StatusUnsupportedMediaType, base.Slowed: http.StatusTooManyRequests,
}

// fail answers an error with a problem (RFC 9457). Internal errors are logged; the response only says that
// something failed.
func (h *frame) fail(c *echo.Context, err error) {
	if r, _ := echo.UnwrapResponse(c.Response()); r != nil && r.Committed {
		return
	}
	p := wire.Problem{Type: "about:blank", Status: http.StatusInternalServerError}
	var known *base.Problem
	var tooLarge *http.MaxBytesError
	var coded echo.HTTPStatusCoder
	var said *echo.HTTPError
	switch {
	case errors.As(err, &known):
		p.Status, p.Detail, p.Next = statusOf[known.Code], &known.Detail, some(known.Next)
		if known.Type != "" {
			p.Type = known.Type
		}
	case errors.Is(err, base.ErrFull):
		known = base.NoRoom(err)
		p.Status, p.Detail, p.Next = http.StatusInsufficientStorage, &known.Detail, some(known.Next)
	case errors.Is(err, os.ErrDeadlineExceeded):
		p.Status, p.Detail = http.StatusRequestTimeout, some("the body of the request did not arrive in time")
	case errors.Is(err, http.ErrNotMultipart), errors.Is(err, http.ErrMissingBoundary):
		p.Status, p.Detail = http.StatusUnsupportedMediaType, some("files are sent as multipart/form-data")
	case errors.As(err, &tooLarge):
		p.Status = http.StatusRequestEntityTooLarge
	case errors.As(err, &coded):
		p.Status = coded.StatusCode()
		if errors.As(err, &said) && p.Status < http.StatusInternalServerError {
			p.Detail = some(said.Message)
		}
	}
	if p.Status >= http.StatusInternalServerError && known == nil {
		if c.Request().Context().Err() != nil {
			return // nobody waits for the answer
		}
		h.options.Log.Error("request failed", "route", c.Path(), "error", err.Error())
		p.Detail = some("the service could not do this; its log says why")
	}
	p.Title = http.StatusText(p.Status)
	if p.Status == http.StatusUnauthorized {
		c.Response().Header().Set("WWW-Authenticate", `Bearer realm="inkret"`)
	}
	if known != nil && known.Wait > 0 {
		c.Response().Header().Set("Retry-After", strconv.Itoa(int(known.Wait/time.Second)+1))
	}
	h.service.Base.NoteRefusal(context.WithoutCancel(c.Request().Context()), callerOf(c.Request().Context()),
		c.Request().Method+" "+c.Path(), err)
	c.Response().Header().Set("Content-Type", "application/problem+json")
	if err := c.JSON(p.Status, p); err != nil {
		h.options.Log.Debug("an answer was not sent", "error", err.Error())
	}
}

// wantsPage reports whether a browser asks for a page. Programs get 404 for unknown addresses instead.
func wantsPage(r *http.Request) bool {
	return r.URL.Path == "/" || r.URL.Path == "/index.html" || r.Header.Get("Sec-Fetch-Dest") == "document" ||
		strings.Contains(r.Header.Get("Accept"), "text/html")
}

// nonceMark is replaced by a fresh nonce in each response of the console's page.
const nonceMark = "__NONCE__"

// console serves the console's files, and its page for all addresses of its routes.
func (h *frame) console(c *echo.Context) error {
	name := strings.TrimPrefix(c.Request().URL.Path, "/")
	header := c.Response().Header()
	if name != "" && name != "index.html" && !strings.Contains(name, "..") {
		if info, err := fs.Stat(h.options.Console, name); err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") { // their names change with their content
				header.Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			http.ServeFileFS(c.Response(), c.Request(), h.options.Console, name)
			return nil
		}
		if strings.HasPrefix(name, "assets/") {
			return echo.ErrNotFound
		}
	}
	if !wantsPage(c.Request()) {
		return echo.ErrNotFound
	}
	page, err := fs.ReadFile(h.options.Console, "index.html")
	if err != nil {
		return &base.Problem{Code: base.NotFound, Detail: "this program was built without its console",
			Next: "build it with: make build"}
	}
	random := make([]byte, 16)
	rand.Read(random)
	nonce := base64.StdEncoding.EncodeToString(random)
	header.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-"+nonce+
		"'; img-src 'self' data:; font-src 'self'; "+
		"connect-src 'self'; form-action 'none'; base-uri 'none'; frame-ancestors 'none'")
	header.Set("Cache-Control", "no-store")
	return c.HTML(http.StatusOK, strings.ReplaceAll(string(page), nonceMark, nonce))
}
