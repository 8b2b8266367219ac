package people

import (
	"context"
	"errors"
	"fmt"
	"net/mail"
	"slices"
	"strings"
	"time"

	"inkret/service/base"
	"inkret/store"
)

const (
	sessionLife     = 7 * 24 * time.Hour
	setupLife       = 3 * 24 * time.Hour
	defaultTokenAge = 90 * 24 * time.Hour
	touchEvery      = time.Minute // how exact last_used is
	// sessionIdle is how long a session may be unused (OWASP ASVS 5.0, 7.3.1).
	sessionIdle = 12 * time.Hour
	// freshSession is how recently a person without a password must have signed in to change the protection of
	// their account.
	freshSession = 10 * time.Minute
)

// SetupCode creates the one-time code for the first person. It returns the empty string if there are people
// already.
func (s *People) SetupCode(ctx context.Context) (string, error) {
	people, err := s.store.People(ctx)
	if err != nil || len(people) > 0 {
		return "", err
	}
	code := base.NewSecret()
	return code, s.store.AddSetupCode(ctx, base.HashSecret(code), 0, s.base.Now().Add(setupLife),
		s.base.ByItself("make set-up link",
			"the first person", ""))
}

// SettingUp is what a person enters with a one-time code.
type SettingUp struct {
	Code                  string // of the link
	Email, Name, Password string // of the first person; else the link says it
	Factor                string // the code of the second factor, of who has one
	EndTokens             bool   // the person's tokens end, too
}

// LinkOf describes a one-time code: its person, whether it resets a password, whether a second factor is asked for,
// and how many tokens stay valid.
type LinkOf struct {
	Email  string // in lower case
	Reset  bool   // of the password
	Factor bool   // a second factor is asked for
	Tokens int    // how many would go on
}

// Link describes a one-time code.
func (s *People) Link(ctx context.Context, code string) (LinkOf, error) {
	p, err := s.linkHolder(ctx, code)
	if err != nil {
		return LinkOf{}, err
	}
	tokens, err := s.store.Keys(ctx, p.ID, "token", s.base.Now())
	return LinkOf{Email: p.Email, Reset: p.Here(), Factor: p.FactorOn, Tokens: len(tokens)}, err
}

// linkHolder returns the person of a one-time code. It runs before anything expensive is done for an unknown
// sender.
func (s *People) linkHolder(ctx context.Context, code string) (store.Person, error) {
	p, err := s.store.SetupCode(ctx, base.HashSecret(code), s.base.Now())
	// a code cannot be guessed, so its holder does not wait for those who try
	if errors.Is(err, store.ErrNotFound) {
		try := s.tried(ctx, "")
		if wait := s.tries.wait(try, s.base.Now()); wait > 0 {
			return p, slowed(wait)
		}
		s.tries.wrong(try, s.base.Now())
		return p, base.NewProblem(base.Unauthenticated,
			"ask for a new link; restarting the service prints one while nobody is set up",
			"this link was used already or has ended")
	}
	return p, err
}

// SetUp uses a one-time code to set a person's name and password, and signs them in. An existing second factor
// stays, and its code is required.
func (s *People) SetUp(ctx context.Context, u SettingUp) (base.Caller, string, error) {
	holder, err := s.linkHolder(ctx, u.Code)
	if err != nil {
		return base.Caller{}, "", err
	}
	p := store.Person{Name: strings.TrimSpace(u.Name), Email: strings.TrimSpace(u.Email), Role: base.Administrator}
	switch {
	case p.Name == "":
		return base.Caller{}, "", base.NewProblem(base.Invalid, "", "a name is needed")
	case holder.ID == 0 && p.Email == "":
		return base.Caller{}, "", base.NewProblem(base.Invalid, "",
			"the first person needs an e-mail address to sign in with")
	case p.Email != "":
		if err := fitEmail(p.Email); err != nil {
			return base.Caller{}, "", err
		}
	}
	if err := fitPassword(u.Password, p.Name, p.Email, holder.Email); err != nil {
		return base.Caller{}, "", err
	}
	if holder.FactorOn {
		try := s.tried(ctx, holder.Email)
		if wait := s.tries.wait(try, s.base.Now()); wait > 0 {
			return base.Caller{}, "", slowed(wait)
		}
		if err := s.checkFactor(ctx, holder, u.Factor); err != nil {
			return base.Caller{}, "", err
		}
	}
	if p.Password, err = s.hasher.hash(ctx, u.Password); err != nil {
		return base.Caller{}, "", err
	}
	did, detail := "use set-up link", ""
	if holder.Here() {
		did, detail = "use reset link", "all sessions ended; tokens stay"
		if u.EndTokens {
			detail = "all sessions and tokens ended"
		}
	}
	p, err = s.store.UseSetupCode(ctx, base.HashSecret(u.Code), p, u.EndTokens, s.base.Now(),
		func(p store.Person) store.TrailEntry {
			return s.base.Did(base.Caller{Person: p}, did, p.Email, strings.TrimSpace(detail+from(ctx)))
		})
	if errors.Is(err, store.ErrNotFound) {
		return base.Caller{}, "", base.NewProblem(base.Unauthenticated,
			"ask for a new link; restarting the service prints one while nobody is set up",
			"this link was used already or has ended")
	}
	if err != nil {
		return base.Caller{}, "", err
	}
	s.revoked()
	s.base.Log.Info("set up", "person", p.ID)
	return s.newSession(ctx, p)
}

// from describes the origin of a request.
func from(ctx context.Context) string {
	if a := originOf(ctx).Address; a != "" {
		return " from " + a
	}
	return ""
}

func fitEmail(email string) error {
	if a, err := mail.ParseAddress(email); err != nil || a.Address != email {
		return base.NewProblem(base.Invalid, "", "this is no e-mail address")
	}
	return nil
}

// Invite adds a person and returns the one-time code for their set-up.
func (s *People) Invite(ctx context.Context, who base.Caller, email, role string) (store.Person, string, error) {
	if err := fitEmail(email); err != nil {
		return store.Person{}, "", err
	}
	if !base.IsRole(role) {
		return store.Person{}, "", base.NewProblem(base.Invalid, "", "there is no role %q", role)
	}
	if _, err := s.store.PersonByEmail(ctx, email); err == nil {
		return store.Person{}, "", base.NewProblem(base.Conflict, "",
			"somebody with this e-mail address is invited already")
	}
	code := base.NewSecret()
	p, err := s.store.Invite(ctx, store.Person{Email: email, Role: role}, base.HashSecret(code), s.base.Now(),
		s.base.Now().Add(setupLife), s.base.Did(who, "invite", email, "role "+role))
	return p, code, err
}

// AddPerson adds a person with a password, for the demo and for tests.
func (s *People) AddPerson(ctx context.Context, name, email, role, password string) (store.Person, error) {
	// never called for strangers, so hashing needs no limit
	return s.store.AddPerson(ctx, store.Person{Name: name, Email: email, Role: role, Password: hashPassword(password)},
		s.base.Now(), s.base.ByItself("add person", email, "role "+role))
}

// SignIn checks e-mail address, password and, if there is one, the second factor. It starts a session and returns
// its secret.
func (s *People) SignIn(ctx context.Context, email, password, code string) (base.Caller, string, error) {
	p, err := s.CheckPassword(ctx, email, password, code)
	if err != nil {
		return base.Caller{}, "", err
	}
	return s.newSession(ctx, p)
}

// check verifies an account's password. Failures are on the trail and in the log, by account and origin. Unknown
// addresses are not written down, because people sometimes type their password there.
func (s *People) check(ctx context.Context, email, password string) (store.Person, error) {
	try := s.tried(ctx, email)
	if wait := s.tries.wait(try, s.base.Now()); wait > 0 {
		return store.Person{}, slowed(wait)
	}
	p, err := s.store.PersonByEmail(ctx, strings.TrimSpace(email))
	hash, account := p.Password, p.Email
	if errors.Is(err, store.ErrNotFound) || hash == "" {
		hash = nobody()
	} else if err != nil {
		return p, err
	}
	ok, err := len(password) <= longestWord, error(nil)
	if ok {
		ok, err = s.hasher.check(ctx, hash, password)
	}
	if err != nil {
		return p, err
	}
	if !ok || p.Password == "" || !p.Active {
		s.tries.wrong(try, s.base.Now())
		if account == "" {
			account = "an unknown account"
		}
		s.base.Log.Warn("sign-in refused", "account", account, "from", originOf(ctx).Address)
		entry := s.base.ByItself("sign-in refused", account, strings.TrimSpace(from(ctx)))
		entry.Author = "a stranger"
		if err := s.store.AddTrail(ctx, entry); err != nil && !errors.Is(err, store.ErrFull) {
			return p, err
		}
		return p, base.NewProblem(base.Unauthenticated, "", "e-mail address or password is wrong")
	}
	return p, nil
}

func (s *People) newSession(ctx context.Context, p store.Person) (base.Caller, string, error) {
	return s.newKey(ctx, p, store.Key{Kind: "session", Scope: base.ScopeEverything}, sessionLife,
		func(c base.Caller) store.TrailEntry {
			return s.base.Did(c, "sign in", c.Email, strings.TrimSpace(from(ctx)))
		})
}

func (s *People) newKey(ctx context.Context, p store.Person, k store.Key, life time.Duration,
	entry func(base.Caller) store.TrailEntry) (base.Caller, string, error) {
	secret := base.NewSecret()
	if k.Kind == "token" {
		secret = tokenPrefix + secret
	}
	k.PersonID, k.Created = p.ID, s.base.Now()
	k.Expires = k.Created.Add(life)
	err := s.store.Essential(ctx, func() (err error) {
		k, err = s.store.AddKey(ctx, base.HashSecret(secret), k,
			func(k store.Key) store.TrailEntry { return entry(base.Caller{Person: p, Key: k}) })
		return err
	})
	return base.Caller{Person: p, Key: k}, secret, err
}

// tokenPrefix makes tokens recognisable for people and secret scanners.
const tokenPrefix = "inkret_"

// NewToken creates a token for a program. The default scope is everything, the default life [defaultTokenAge]. by
// is the caller; it is the zero Caller if e-mail address and password were given instead.
func (s *People) NewToken(ctx context.Context, by base.Caller, p store.Person, k store.Key,
	life time.Duration) (base.Caller, string, error) {
	if life == 0 {
		life = defaultTokenAge
	}
	if k.Scope == "" {
		k.Scope = base.ScopeEverything
	}
	if !slices.Contains(base.Scopes(), k.Scope) {
		return base.Caller{}, "", base.NewProblem(base.Invalid, "", "there is no scope %q; known are %s", k.Scope,
			strings.Join(base.Scopes(), ", "))
	}
	if k.Service != "" {
		if _, err := s.store.Keeping(ctx, k.Service); err != nil {
			return base.Caller{}, "", base.Found(err, "service %q", k.Service)
		}
	}
	k.Kind = "token"
	return s.newKey(ctx, p, k, life, func(c base.Caller) store.TrailEntry {
		who := by
		if by.ID == 0 {
			who = base.Caller{Person: p}
		}
		words := strings.TrimSpace(k.Scope + " " + k.Service)
		return s.base.Did(who, "make token", p.Email, fmt.Sprintf("token %d: %s until %s", c.Key.ID, words,
			c.Key.Expires.UTC().Format(time.DateOnly)))
	})
}

// CheckPassword verifies e-mail address and password, and the second factor if there is one.
func (s *People) CheckPassword(ctx context.Context, email, password, code string) (store.Person, error) {
	p, err := s.check(ctx, email, password)
	if err == nil && p.FactorOn {
		err = s.checkFactor(ctx, p, code)
	}
	if err != nil {
		return store.Person{}, err
	}
	s.tries.right(s.tried(ctx, email), email, originOf(ctx).Address, s.base.Now())
	return p, nil
}

// confirm makes sure that the person is present, and not somebody at an unattended browser: by their password, or,
// if they have none, by a recent sign-in.
func (s *People) confirm(ctx context.Context, c base.Caller, password string) error {
	if c.Password != "" {
		_, err := s.check(ctx, c.Email, password)
		return err
	}
	if c.Key.Kind != "session" || s.base.Now().Sub(c.Key.Created) > freshSession {
		return signedOut("this needs a sign-in of the last %d minutes", int(freshSession.Minutes()))
	}
	return nil
}

// SignedOut is the problem type for a missing or invalid session or token.
const SignedOut = "urn:inkret:problem:signed-out"

// OtherPerson is the problem type for a page that belongs to another person than the session.
const OtherPerson = "urn:inkret:problem:other-person"

func signedOut(detail string, args ...any) *base.Problem {
	p := base.NewProblem(base.Unauthenticated, "sign in again: inkret sign-in", detail, args...)
	p.Type = SignedOut
	return p
}

// Authenticate returns the caller of a session or token secret.
func (s *People) Authenticate(ctx context.Context, secret string) (base.Caller, error) {
	k, p, err := s.store.KeyByHash(ctx, base.HashSecret(secret))
	now := s.base.Now()
	switch {
	case errors.Is(err, store.ErrNotFound):
		return base.Caller{}, signedOut("the session or token is not known")
	case err != nil:
		return base.Caller{}, err
	case !p.Active:
		return base.Caller{}, base.NewProblem(base.Unauthenticated, "ask an administrator",
			"you may not come in any more")
	case !now.Before(k.Expires):
		return base.Caller{}, signedOut("the %s ended on %s", k.Kind, k.Expires.Format(time.DateOnly))
	case k.Kind == "session" && now.Sub(later(k.Created, k.LastUsed)) > sessionIdle:
		return base.Caller{}, signedOut("the session ended because nobody used it for %d hours",
			int(sessionIdle.Hours()))
	}
	if now.Sub(k.LastUsed) > touchEvery {
		// a full disk does not block reading
		if err := s.store.TouchKey(ctx, k.ID, now); err != nil && !errors.Is(err, store.ErrFull) {
			return base.Caller{}, err
		}
	}
	return base.Caller{Person: p, Key: k}, nil
}

// Tokens lists the caller's tokens.
func (s *People) Tokens(ctx context.Context, c base.Caller) ([]store.Key, error) {
	return s.store.Keys(ctx, c.ID, "token", s.base.Now())
}

// EndToken revokes one of the caller's tokens.
func (s *People) EndToken(ctx context.Context, c base.Caller, id int64) error {
	return s.endKey(ctx, c, id, "token")
}

func (s *People) endKey(ctx context.Context, c base.Caller, id int64, what string) error {
	err := s.store.EndKey(ctx, id, c.ID, func(k store.Key) store.TrailEntry {
		action := "end " + k.Kind
		if k.ID == c.Key.ID && k.Kind == "session" {
			action = "sign out"
		}
		return s.base.Did(c, action, c.Email, fmt.Sprintf("%s %d", k.Kind, k.ID))
	})
	if err == nil {
		s.revoked()
	}
	return base.Found(err, "%s %d of yours", what, id)
}

// Later returns the later of two times.
func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// revoked notifies all open streams that a session, token or role changed.
func (s *People) revoked() {
	s.mu.Lock()
	defer s.mu.Unlock()
	close(s.revocation)
	s.revocation = make(chan struct{})
}

// Revocation returns a channel that is closed at the next change of a session, token or role.
func (s *People) Revocation() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.revocation
}

// StillThere reports whether a caller is still signed in with the given role and scope. It returns nil or the
// problem.
func (s *People) StillThere(ctx context.Context, c base.Caller, role, scope string) error {
	k, p, err := s.store.KeyByID(ctx, c.Key.ID)
	if errors.Is(err, store.ErrNotFound) {
		return signedOut("the %s was ended", c.Key.Kind)
	}
	if err != nil {
		return err
	}
	if !p.Active || !s.base.Now().Before(k.Expires) {
		return signedOut("the %s ended", k.Kind)
	}
	now := base.Caller{Person: p, Key: k}
	return now.MayEver(role, scope)
}
