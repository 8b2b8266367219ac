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

// Sign-in with an OpenID Connect provider: it lets those in who are invited, by the address
// that the provider vouches for, and from then on by the provider's own name for them. A second
// factor is the provider's matter then.

// OpenID is a provider of sign-ins.
type OpenID interface {
	Name() string
	Begin(ctx context.Context) (url string, t openid.Ticket, err error)
	Finish(ctx context.Context, t openid.Ticket, state, code string) (openid.Identity, error)
}

// SignInWith lets people sign in with a provider, too. It is called before the service is used.
func (s *People) SignInWith(p OpenID, issuer string) { s.openid, s.issuer = p, issuer }

// OpenIDName gives the name of the provider that people may sign in with; empty for none.
func (s *People) OpenIDName() string {
	if s.openid == nil {
		return ""
	}
	return s.openid.Name()
}

// ticket is what somebody's browser keeps, sealed, while they are at the provider.
type ticket struct {
	openid.Ticket
	Next    string `json:"next"`
	Expires int64  `json:"expires"` // seconds since 1970
}

const (
	ticketAs   = "sign-in ticket"
	ticketLife = 10 * time.Minute
)

// inside is an address of the console itself, to which somebody may be sent after signing in.
var inside = regexp.MustCompile(`^/([^/\\\s][^\\\s]*)?$`)

// BeginOpenID gives the provider's address at which somebody signs in, and what their browser is
// to bring back. next is where they want to go then.
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

// Why a sign-in with a provider was refused, as the type of the problem.
const (
	RefusedProvider = "urn:inkret:problem:provider-refused"
	RefusedUnknown  = "urn:inkret:problem:not-invited"
	RefusedOut      = "urn:inkret:problem:kept-out"
	RefusedExpired  = "urn:inkret:problem:sign-in-expired"
)

// FinishOpenID takes what somebody brings back from the provider and begins a session, whose
// secret is given, and where they wanted to go.
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

// personOf finds who somebody is here: whom the provider named before, or who was invited by
// the address that it vouches for.
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

// Refusal is the word in an address that says why a sign-in was refused.
func Refusal(err error) string {
	var p *base.Problem
	if errors.As(err, &p) && strings.HasPrefix(p.Type, "urn:inkret:problem:") {
		return url.QueryEscape(strings.TrimPrefix(p.Type, "urn:inkret:problem:"))
	}
	return ""
}
