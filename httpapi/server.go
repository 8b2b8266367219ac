// Package httpapi is the service's HTTP surface: the operations of
// api/openapi.yaml, and the console beside them.
package httpapi

import (
	"compress/gzip"
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/gzhttp"
	"github.com/labstack/echo/v5"

	"inkret/api"
	"inkret/service"
)

// Options are what the surface needs besides the service.
type Options struct {
	Version string
	Log     *slog.Logger
	Console fs.FS  // the built console; nil serves none
	Public  string // the address under which people reach it, for links
	Secure  bool   // people reach it over TLS: cookies say so, and browsers are told to stay with it
	// Proxies are the machines whose X-Forwarded-For is believed.
	Proxies []net.IPNet
	// Stopping is closed when the service stops, so that those who watch are let go.
	Stopping <-chan struct{}
	// MaxUpload bounds a recording, in bytes as it is sent; 0 is 8 GiB.
	MaxUpload int64
}

const (
	// maxJSON bounds the body of every operation but uploads; contracts of a
	// large service are a few MB.
	maxJSON = 32 << 20
	// maxStranger bounds the body of what strangers may ask.
	maxStranger = 16 << 10
	// maxRecording bounds an upload.
	maxRecording = 8 << 30
	// maxChunk bounds what a recorder sends at once.
	maxChunk = 256 << 20
)

// NewHandler gives the handler of the service.
func NewHandler(s *service.Service, o Options) (http.Handler, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	operations, err := api.Operations()
	if err != nil {
		return nil, err
	}
	h := &handlers{service: s, options: o}
	e := echo.NewWithConfig(echo.Config{HTTPErrorHandler: h.fail, Logger: o.Log})
	e.IPExtractor = echo.ExtractIPDirect()
	if len(o.Proxies) > 0 {
		trust := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
		for i := range o.Proxies {
			trust = append(trust, echo.TrustIPRange(&o.Proxies[i]))
		}
		e.IPExtractor = echo.ExtractIPFromXFFHeader(trust...)
	}
	e.Use(h.observe, h.safe, h.originate)
	perOperation := map[string][]echo.MiddlewareFunc{}
	for i := range operations {
		op := &operations[i]
		perOperation[op.ID] = []echo.MiddlewareFunc{h.bounded(op), h.authenticate(op), validated(op)}
	}
	RegisterHandlersWithOptions(e, NewStrictHandler(h, []StrictMiddlewareFunc{h.admission(operations)}), RegisterHandlersOptions{OperationMiddlewares: perOperation})
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

// packed compresses the console's scripts and styles. What the API answers is not compressed: its
// length would tell of secrets that stand beside what a stranger chooses (CRIME, BREACH).
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

// observe logs each request: method, route, status and time; never address,
// query, header or body, which may hold values.
func (h *handlers) observe(next echo.HandlerFunc) echo.HandlerFunc {
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
		h.options.Log.Debug("request", "method", c.Request().Method, "route", c.Path(), "status", status, "took", time.Since(begin))
		return nil
	}
}

// safe sets the headers that hold for every answer.
func (h *handlers) safe(next echo.HandlerFunc) echo.HandlerFunc {
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

// bounded bounds the body of a request.
func (h *handlers) bounded(op *api.Operation) echo.MiddlewareFunc {
	limit := int64(maxJSON)
	switch {
	case op.ID == "uploadRecording":
		if limit = h.options.MaxUpload; limit == 0 {
			limit = maxRecording
		}
	case op.ID == "extendLive":
		limit = maxChunk
	case op.Role == "none":
		limit = maxStranger
	}
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			r.Body = http.MaxBytesReader(c.Response(), r.Body, limit)
			return next(c)
		}
	}
}

var statusOf = map[service.Code]int{
	service.Invalid: http.StatusBadRequest, service.Unauthenticated: http.StatusUnauthorized, service.Forbidden: http.StatusForbidden,
	service.NotFound: http.StatusNotFound, service.Conflict: http.StatusConflict, service.Full: http.StatusInsufficientStorage,
	service.Unreadable: http.StatusUnsupportedMediaType, service.Slowed: http.StatusTooManyRequests,
}

// fail answers an error with a problem (RFC 9457). What is not meant to be told
// is logged, and the answer says no more than that something failed.
func (h *handlers) fail(c *echo.Context, err error) {
	if r, _ := echo.UnwrapResponse(c.Response()); r != nil && r.Committed {
		return
	}
	p := Problem{Type: "about:blank", Status: http.StatusInternalServerError}
	var known *service.Problem
	var tooLarge *http.MaxBytesError
	var coded echo.HTTPStatusCoder
	var said *echo.HTTPError
	switch {
	case errors.As(err, &known):
		p.Status, p.Detail, p.Next = statusOf[known.Code], &known.Detail, some(known.Next)
		if known.Type != "" {
			p.Type = known.Type
		}
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
	h.service.NoteRefusal(context.WithoutCancel(c.Request().Context()), callerOf(c.Request().Context()), c.Request().Method+" "+c.Path(), err)
	c.Response().Header().Set("Content-Type", "application/problem+json")
	if err := c.JSON(p.Status, p); err != nil {
		h.options.Log.Debug("an answer was not sent", "error", err.Error())
	}
}

// nonceMark is what stands in the console's page where each answer has a nonce
// of its own.
const nonceMark = "__NONCE__"

// console serves the console's files, and its page for every address that is
// one of its routes.
func (h *handlers) console(c *echo.Context) error {
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
	page, err := fs.ReadFile(h.options.Console, "index.html")
	if err != nil {
		return &service.Problem{Code: service.NotFound, Detail: "this program was built without its console", Next: "build it with: make build"}
	}
	random := make([]byte, 16)
	rand.Read(random)
	nonce := base64.StdEncoding.EncodeToString(random)
	header.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-"+nonce+"'; img-src 'self' data:; font-src 'self'; "+
		"connect-src 'self'; form-action 'none'; base-uri 'none'; frame-ancestors 'none'")
	header.Set("Cache-Control", "no-store")
	return c.HTML(http.StatusOK, strings.ReplaceAll(string(page), nonceMark, nonce))
}
