package httpapi

import (
	"context"
	"net/http"
	"strings"
	"time"

	"inkret/api/serve"
	"inkret/service/base"
	"inkret/service/people"
)

// GetSession implements [serve.StrictServerInterface].
func (h *peopleHandlers) GetSession(ctx context.Context,
	_ serve.GetSessionRequestObject) (serve.GetSessionResponseObject, error) {
	return serve.GetSession200JSONResponse(personOf(callerOf(ctx).Person)), nil
}

// SignIn implements [serve.StrictServerInterface].
func (h *peopleHandlers) SignIn(ctx context.Context, r serve.SignInRequestObject) (serve.SignInResponseObject, error) {
	who, secret, err := h.service.People.SignIn(ctx, r.Body.Email, r.Body.Password, value(r.Body.Code))
	if err != nil {
		return nil, err
	}
	h.signedIn(ctx, who, secret)
	return serve.SignIn200JSONResponse{Body: personOf(who.Person)}, nil
}

// ReadLink implements [serve.StrictServerInterface].
func (h *peopleHandlers) ReadLink(ctx context.Context,
	r serve.ReadLinkRequestObject) (serve.ReadLinkResponseObject, error) {
	l, err := h.service.People.Link(ctx, r.Body.Code)
	return serve.ReadLink200JSONResponse{Email: l.Email, Reset: l.Reset, Factor: l.Factor, Tokens: l.Tokens}, err
}

// SetUp implements [serve.StrictServerInterface].
func (h *peopleHandlers) SetUp(ctx context.Context, r serve.SetUpRequestObject) (serve.SetUpResponseObject, error) {
	who, secret, err := h.service.People.SetUp(ctx, people.SettingUp{Code: r.Body.Code, Email: value(r.Body.Email),
		Name: r.Body.Name, Password: r.Body.Password,
		Factor: value(r.Body.Factor), EndTokens: value(r.Body.EndTokens)})
	if err != nil {
		return nil, err
	}
	h.signedIn(ctx, who, secret)
	return serve.SetUp200JSONResponse{Body: personOf(who.Person)}, nil
}

// SignOut implements [serve.StrictServerInterface].
func (h *peopleHandlers) SignOut(ctx context.Context,
	_ serve.SignOutRequestObject) (serve.SignOutResponseObject, error) {
	who := callerOf(ctx)
	if err := h.service.People.EndToken(ctx, who, who.Key.ID); err != nil {
		return nil, err
	}
	h.setCookie(ctx, http.Cookie{Name: sessionCookie, MaxAge: -1, SameSite: http.SameSiteStrictMode})
	return serve.SignOut204Response{}, nil
}

// ListTokens implements [serve.StrictServerInterface].
func (h *peopleHandlers) ListTokens(ctx context.Context,
	_ serve.ListTokensRequestObject) (serve.ListTokensResponseObject, error) {
	all, err := h.service.People.Tokens(ctx, callerOf(ctx))
	return serve.ListTokens200JSONResponse(each(all, tokenOf)), err
}

// CreateToken implements [serve.StrictServerInterface].
func (h *peopleHandlers) CreateToken(ctx context.Context,
	r serve.CreateTokenRequestObject) (serve.CreateTokenResponseObject, error) {
	caller := callerOf(ctx)
	person := caller.Person
	var err error
	switch c := r.Body.Credentials; {
	case c != nil:
		if person, err = h.service.People.CheckPassword(ctx, c.Email, c.Password, value(c.Code)); err != nil {
			return nil, err
		}
	case person.ID == 0:
		return nil, &base.Problem{Code: base.Unauthenticated,
			Detail: "this needs somebody who is signed in, or an e-mail address and password"}
	default:
		if err := h.service.Base.Admit(ctx, &caller, base.Need{Role: base.Viewer, Scope: base.ScopeEverything},
			nil); err != nil {
			return nil, err
		}
	}
	days := value(r.Body.Days)
	who, secret, err := h.service.People.NewToken(ctx, caller, person, base.Key{Name: strings.TrimSpace(r.Body.Name),
		Scope: string(value(r.Body.Scope)), Service: value(r.Body.Service)}, time.Duration(days)*24*time.Hour)
	if err != nil {
		return nil, err
	}
	return serve.CreateToken201JSONResponse{Token: tokenOf(who.Key), Secret: secret, Person: personOf(who.Person)}, nil
}

// EndToken implements [serve.StrictServerInterface].
func (h *peopleHandlers) EndToken(ctx context.Context,
	r serve.EndTokenRequestObject) (serve.EndTokenResponseObject, error) {
	return serve.EndToken204Response{}, h.service.People.EndToken(ctx, callerOf(ctx), r.TokenID)
}

// ListPeople implements [serve.StrictServerInterface].
func (h *peopleHandlers) ListPeople(ctx context.Context,
	_ serve.ListPeopleRequestObject) (serve.ListPeopleResponseObject, error) {
	all, err := h.service.People.People(ctx)
	return serve.ListPeople200JSONResponse(each(all, personOf)), err
}

// Invite implements [serve.StrictServerInterface].
func (h *peopleHandlers) Invite(ctx context.Context, r serve.InviteRequestObject) (serve.InviteResponseObject, error) {
	p, code, err := h.service.People.Invite(ctx, callerOf(ctx), r.Body.Email, string(r.Body.Role))
	if err != nil {
		return nil, err
	}
	return serve.Invite201JSONResponse{Person: personOf(p), Link: SetupLink(h.options.Public, code)}, nil
}
