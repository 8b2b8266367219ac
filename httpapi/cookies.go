package httpapi

import (
	"context"
	"net/http"

	"github.com/labstack/echo/v5"

	"inkret/service/base"
	"inkret/service/people"
)

// Cookie names. With TLS they get the prefix __Host- (RFC 6265bis, 4.1.3.2), which browsers accept from this very
// host only.
const (
	sessionCookie = "inkret_session"
	ticketCookie  = "inkret_sign_in" // what is remembered, sealed, of somebody who is at the provider
	browserCookie = "inkret_browser" // that somebody signed in here before; it lets nobody in
)

// exchanged holds the request and the response header, for cookies.
type exchanged struct {
	request *http.Request
	header  http.Header
}

type exchangedKey struct{}

// secure reports whether browsers reach the service over TLS.
func (h *frame) secure() bool { return h.options.Secure }

func (h *frame) cookieName(name string) string {
	if h.secure() {
		return "__Host-" + name
	}
	return name
}

// cookieOf returns the value of a request's cookie.
func (h *frame) cookieOf(r *http.Request, name string) string {
	c, err := r.Cookie(h.cookieName(name))
	if err != nil {
		return ""
	}
	return c.Value
}

// cookieIn is cookieOf for the current request.
func (h *frame) cookieIn(ctx context.Context, name string) string {
	if x, ok := ctx.Value(exchangedKey{}).(exchanged); ok {
		return h.cookieOf(x.request, name)
	}
	return ""
}

// setCookie adds a cookie to the response. Scripts cannot read it, and its path is / as the prefix requires.
func (h *frame) setCookie(ctx context.Context, c http.Cookie) {
	c.Name, c.Path, c.HttpOnly, c.Secure = h.cookieName(c.Name), "/", true, h.secure()
	if x, ok := ctx.Value(exchangedKey{}).(exchanged); ok {
		x.header.Add("Set-Cookie", c.String())
	}
}

// signedIn sets the session cookie, and the cookie that recognises the browser later.
func (h *frame) signedIn(ctx context.Context, who base.Caller, secret string) {
	h.setCookie(ctx, http.Cookie{Name: sessionCookie, Value: secret, Expires: who.Key.Expires,
		SameSite: http.SameSiteStrictMode})
	text, until := h.service.People.KnownBrowser(who.Email)
	h.setCookie(ctx, http.Cookie{Name: browserCookie, Value: text, Expires: until, SameSite: http.SameSiteStrictMode})
}

// originate adds the origin of the request to its context.
func (h *frame) originate(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		ctx := people.WithOrigin(r.Context(), people.Origin{Address: c.RealIP(),
			Browser: h.cookieOf(r, browserCookie)})
		ctx = context.WithValue(ctx, exchangedKey{}, exchanged{r, c.Response().Header()})
		c.SetRequest(r.WithContext(ctx))
		return next(c)
	}
}
