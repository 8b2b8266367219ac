package people

import (
	"context"
	"encoding/json"
	"errors"
	"net/url"
	"regexp"
	"strings"
	"time"

	"inkret/openid"
	"inkret/service/base"
	"inkret/store"
)

// Sign-in with an OpenID Connect provider. Invited people are recognised by the e-mail address that the provider
// verified, and afterwards by the provider's subject identifier. The provider is responsible for a second factor.

// OpenID is a sign-in provider.
type OpenID interface {
	Name() string
	Begin(ctx context.Context) (url string, t openid.Ticket, err error)
	Finish(ctx context.Context, t openid.Ticket, state, code string) (openid.Identity, error)
}

// SignInWith adds a sign-in provider. Call it before the service is used.
func (s *People) SignInWith(p OpenID, issuer string) { s.openid, s.issuer = p, issuer }

// OpenIDName returns the name of the sign-in provider, or the empty string.
func (s *People) OpenIDName() string {
	if s.openid == nil {
		return ""
	}
	return s.openid.Name()
}

// ticket is the sealed state that the browser keeps during a sign-in with the provider.
type ticket struct {
	openid.Ticket
	Next    string `json:"next"`
	Expires int64  `json:"expires"` // seconds since 1970
}

const (
	ticketAs   = "sign-in ticket"
	ticketLife = 10 * time.Minute
)

// inside matches addresses of the console itself, the only ones that a sign-in may redirect to.
var inside = regexp.MustCompile(`^/([^/\\\s][^\\\s]*)?$`)

// BeginOpenID returns the provider's address for signing in, and the sealed state that the browser must bring back.
// next is the page to show afterwards.
func (s *People) BeginOpenID(ctx context.Context, next string) (url string, sealed []byte, err error) {
	if s.openid == nil {
		return "", nil, base.NewProblem(base.NotFound, "sign in with e-mail address and password",
			"there is no provider to sign in with")
	}
	if !inside.MatchString(next) {
		next = "/"
	}
	url, t, err := s.openid.Begin(ctx)
	if err != nil {
		s.base.Log.Error("sign-in with the provider", "error", err.Error())
		return "", nil, &base.Problem{Code: base.Unauthenticated, Type: RefusedProvider,
			Detail: "the provider cannot be reached",
			Next:   "try again later, or sign in with a password", Cause: err}
	}
	text, err := json.Marshal(ticket{t, next, s.base.Now().Add(ticketLife).Unix()})
	if err != nil {
		return "", nil, err
	}
	return url, s.vault.Seal(text, ticketAs), nil
}

// Reasons why a sign-in with a provider was refused, as problem types.
const (
	RefusedProvider = "urn:inkret:problem:provider-refused"
	RefusedUnknown  = "urn:inkret:problem:not-invited"
	RefusedOut      = "urn:inkret:problem:kept-out"
	RefusedExpired  = "urn:inkret:problem:sign-in-expired"
)

// FinishOpenID completes a sign-in with the provider and starts a session. It returns the session's secret and the
// page to show.
func (s *People) FinishOpenID(ctx context.Context, sealed []byte, state,
	code string) (who base.Caller, secret, next string, err error) {
	refuse := func(kind, detail string, cause error) (base.Caller, string, string, error) {
		s.base.Log.Info("sign-in with the provider refused", "why", detail)
		return base.Caller{}, "", "", &base.Problem{Code: base.Unauthenticated, Type: kind, Detail: detail,
			Cause: cause}
	}
	text, _, err := s.vault.Open(sealed, ticketAs)
	var t ticket
	if s.openid == nil || err != nil || json.Unmarshal(text, &t) != nil || s.base.Now().Unix() > t.Expires {
		return refuse(RefusedExpired, "the sign-in took too long, or was begun in another browser", nil)
	}
	if code == "" {
		return refuse(RefusedProvider, "the provider does not say who you are", nil)
	}
	id, err := s.openid.Finish(ctx, t.Ticket, state, code)
	if err != nil {
		s.base.Log.Error("sign-in with the provider", "error", err.Error())
		return refuse(RefusedProvider, "the provider's answer is not to be trusted", err)
	}
	p, err := s.personOf(ctx, id)
	switch {
	case errors.Is(err, store.ErrNotFound), errors.Is(err, store.ErrConflict):
		return refuse(RefusedUnknown, "nobody with the address that the provider vouches for is invited", nil)
	case err != nil:
		return base.Caller{}, "", "", err
	case !p.Active:
		return refuse(RefusedOut, "you may not come in any more", nil)
	}
	who, secret, err = s.newSession(ctx, p)
	return who, secret, t.Next, err
}

// personOf returns the person of a provider identity: the one bound to its subject, or the one invited under its
// verified address.
func (s *People) personOf(ctx context.Context, id openid.Identity) (store.Person, error) {
	subject := s.issuer + " " + id.Subject
	if id.Subject == "" {
		return store.Person{}, store.ErrNotFound
	}
	p, err := s.store.PersonBySubject(ctx, subject)
	if !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	if !id.Verified || id.Email == "" {
		return store.Person{}, store.ErrNotFound
	}
	if p, err = s.store.PersonByEmail(ctx, id.Email); err != nil || !p.Active {
		return p, err
	}
	who := p
	if who.Name == "" {
		who.Name = strings.TrimSpace(id.Name)
	}
	return s.store.BindSubject(ctx, p.ID, subject, strings.TrimSpace(id.Name), s.base.Did(base.Caller{Person: who},
		"sign in with provider", p.Email, s.issuer))
}

// Refusal returns the word that stands for a refusal in the console's address, or the empty string.
func Refusal(err error) string {
	var p *base.Problem
	if errors.As(err, &p) && strings.HasPrefix(p.Type, "urn:inkret:problem:") {
		return url.QueryEscape(strings.TrimPrefix(p.Type, "urn:inkret:problem:"))
	}
	return ""
}
