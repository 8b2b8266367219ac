package httpapi

import (
	"context"
	"encoding/base64"
	"html"
	"net/http"
	"strings"

	"inkret/service"
)

// ticketCookie holds, sealed, what is remembered of somebody who is at the provider.
const (
	ticketCookie = "inkret_sign_in"
	ticketPath   = "/api/v1/session/openid"
	ticketLife   = 600 // seconds
)

// SignedInAt is the path at which a provider's answers come back.
const SignedInAt = ticketPath + "/done"

// GetWays implements [StrictServerInterface].
func (h *handlers) GetWays(context.Context, GetWaysRequestObject) (GetWaysResponseObject, error) {
	return GetWays200JSONResponse{Openid: some(h.service.OpenIDName())}, nil
}

// BeginOpenID implements [StrictServerInterface].
func (h *handlers) BeginOpenID(ctx context.Context, r BeginOpenIDRequestObject) (BeginOpenIDResponseObject, error) {
	to, sealed, err := h.service.BeginOpenID(ctx, value(r.Params.Next))
	if err != nil {
		if why := service.Refusal(err); why != "" {
			return BeginOpenID303Response{Headers: BeginOpenID303ResponseHeaders{Location: some("/sign-in?refused=" + why)}}, nil
		}
		return nil, err
	}
	// it is brought back from another site, so it cannot be as strict as a session's
	c := http.Cookie{Name: ticketCookie, Value: base64.RawURLEncoding.EncodeToString(sealed), Path: ticketPath, MaxAge: ticketLife, HttpOnly: true, SameSite: http.SameSiteLaxMode,
		Secure: strings.HasPrefix(h.options.Public, "https://")}
	return BeginOpenID303Response{Headers: BeginOpenID303ResponseHeaders{Location: &to, SetCookie: some(c.String())}}, nil
}

// FinishOpenID implements [StrictServerInterface].
func (h *handlers) FinishOpenID(ctx context.Context, r FinishOpenIDRequestObject) (FinishOpenIDResponseObject, error) {
	sealed, _ := base64.RawURLEncoding.DecodeString(value(r.Params.InkretSignIn))
	who, secret, next, err := h.service.FinishOpenID(ctx, sealed, value(r.Params.State), value(r.Params.Code))
	if err != nil {
		if why := service.Refusal(err); why != "" {
			return FinishOpenID303Response{Headers: FinishOpenID303ResponseHeaders{Location: some("/sign-in?refused=" + why)}}, nil
		}
		return nil, err
	}
	// a redirect would still be one from another site, for which a browser keeps a strict cookie back
	page := `<!doctype html><html lang="en"><meta charset="utf-8"><meta http-equiv="refresh" content="0; url=` + html.EscapeString(next) + `"><title>Signed in</title><p>Signed in: <a href="` + html.EscapeString(next) + `">go on</a></p></html>`
	return FinishOpenID200TextHTMLResponse{Body: strings.NewReader(page), ContentLength: int64(len(page)), Headers: FinishOpenID200ResponseHeaders{SetCookie: h.cookie(secret, who.Key.Expires)}}, nil
}
