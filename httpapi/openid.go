package httpapi

import (
	"context"
	"encoding/base64"
	"html"
	"net/http"
	"strings"

	"inkret/api/serve"
	"inkret/service/people"
)

const (
	ticketPath = "/api/v1/session/openid"
	ticketLife = 600 // seconds
)

// SignedInAt is the path to which the provider redirects.
const SignedInAt = ticketPath + "/done"

// GetWays implements [serve.StrictServerInterface].
func (h *peopleHandlers) GetWays(context.Context, serve.GetWaysRequestObject) (serve.GetWaysResponseObject, error) {
	return serve.GetWays200JSONResponse{Openid: some(h.service.People.OpenIDName())}, nil
}

// BeginOpenID implements [serve.StrictServerInterface].
func (h *peopleHandlers) BeginOpenID(ctx context.Context,
	r serve.BeginOpenIDRequestObject) (serve.BeginOpenIDResponseObject, error) {
	to, sealed, err := h.service.People.BeginOpenID(ctx, value(r.Params.Next))
	if err != nil {
		if why := people.Refusal(err); why != "" {
			at := some("/sign-in?refused=" + why)
			return serve.BeginOpenID303Response{Headers: serve.BeginOpenID303ResponseHeaders{Location: at}}, nil
		}
		return nil, err
	}
	// the browser sends it after a redirect from another site, so SameSite=Strict is impossible
	h.setCookie(ctx, http.Cookie{Name: ticketCookie, Value: base64.RawURLEncoding.EncodeToString(sealed),
		MaxAge: ticketLife, SameSite: http.SameSiteLaxMode})
	return serve.BeginOpenID303Response{Headers: serve.BeginOpenID303ResponseHeaders{Location: &to}}, nil
}

// FinishOpenID implements [serve.StrictServerInterface].
func (h *peopleHandlers) FinishOpenID(ctx context.Context,
	r serve.FinishOpenIDRequestObject) (serve.FinishOpenIDResponseObject, error) {
	sealed, _ := base64.RawURLEncoding.DecodeString(h.cookieIn(ctx, ticketCookie))
	who, secret, next, err := h.service.People.FinishOpenID(ctx, sealed, value(r.Params.State), value(r.Params.Code))
	if err != nil {
		if why := people.Refusal(err); why != "" {
			at := some("/sign-in?refused=" + why)
			return serve.FinishOpenID303Response{Headers: serve.FinishOpenID303ResponseHeaders{Location: at}}, nil
		}
		return nil, err
	}
	h.signedIn(ctx, who, secret)
	h.setCookie(ctx, http.Cookie{Name: ticketCookie, MaxAge: -1, SameSite: http.SameSiteLaxMode})
	// a redirect would still count as coming from another site, and the browser would not send the strict cookie
	page := `<!doctype html><html lang="en"><meta charset="utf-8"><meta http-equiv="refresh" content="0; url=` +
		html.EscapeString(next) + `"><title>Signed in</title><p>Signed in: <a href="` + html.EscapeString(next) +
		`">go on</a></p></html>`
	return serve.FinishOpenID200TextHTMLResponse{Body: strings.NewReader(page), ContentLength: int64(len(page))}, nil
}
