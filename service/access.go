package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/mail"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/argon2"

	"inkret/store"
)

const (
	sessionLife     = 7 * 24 * time.Hour
	setupLife       = 3 * 24 * time.Hour
	defaultTokenAge = 90 * 24 * time.Hour
	shortestWord    = 12 // characters of a password; NIST SP 800-63B asks for 8 at least
	longestWord     = 1024
	touchEvery      = time.Minute // how exact last_used is
)

// argon2id with the parameters of RFC 9106 section 4, second choice, at a third
// of its memory: sign-ins of a team must not exhaust a small machine.
const (
	argonTime    = 3
	argonMemory  = 19 * 1024
	argonThreads = 1
	argonKey     = 32
	argonSalt    = 16
)

func hashPassword(password string) string {
	salt := make([]byte, argonSalt)
	rand.Read(salt)
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads, b64.EncodeToString(salt), b64.EncodeToString(key))
}

func checkPassword(hash, password string) bool {
	parts := strings.Split(hash, "$")
	var version, memory, passes uint32
	var threads uint8
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &memory, &passes, &threads); err != nil || version != argon2.Version {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil || len(want) == 0 {
		return false
	}
	return subtle.ConstantTimeCompare(want, argon2.IDKey([]byte(password), salt, passes, memory, threads, uint32(len(want)))) == 1
}

// nobody's password is compared against when an address is unknown, so that the
// time to answer does not tell which addresses are known.
var nobody = hashPassword("no password of anybody")

// newSecret makes a secret of 256 bits for a session, token or code.
func newSecret() string {
	b := make([]byte, 32)
	rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// hashSecret is how secrets are kept. They are random and long, so one hash is enough.
func hashSecret(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// SetupCode makes the one-time code of the first person, or gives the empty
// string when there is somebody already.
func (s *Service) SetupCode(ctx context.Context) (string, error) {
	people, err := s.store.People(ctx)
	if err != nil || len(people) > 0 {
		return "", err
	}
	code := newSecret()
	return code, s.store.AddSetupCode(ctx, hashSecret(code), 0, s.now().Add(setupLife))
}

// SetUp uses a one-time code to set a person's name and password, and signs in.
func (s *Service) SetUp(ctx context.Context, code, email, name, password string) (Caller, string, error) {
	if strings.TrimSpace(name) == "" {
		return Caller{}, "", problem(Invalid, "", "a name is needed")
	}
	if err := fitPassword(password); err != nil {
		return Caller{}, "", err
	}
	p := store.Person{Name: strings.TrimSpace(name), Email: strings.TrimSpace(email), Role: Administrator}
	if p.Email != "" {
		if err := fitEmail(p.Email); err != nil {
			return Caller{}, "", err
		}
	}
	people, err := s.store.People(ctx)
	if err != nil {
		return Caller{}, "", err
	}
	if len(people) == 0 && p.Email == "" {
		return Caller{}, "", problem(Invalid, "", "the first person needs an e-mail address to sign in with")
	}
	p.Password = hashPassword(password)
	p, err = s.store.UseSetupCode(ctx, hashSecret(code), p, s.now())
	if errors.Is(err, store.ErrNotFound) {
		return Caller{}, "", problem(Unauthenticated, "ask for a new link; restarting the service prints one while nobody is set up", "this link was used already or has ended")
	}
	if err != nil {
		return Caller{}, "", err
	}
	s.log.Info("set up", "person", p.ID)
	return s.newSession(ctx, p)
}

func fitPassword(password string) error {
	if n := len([]rune(password)); n < shortestWord || len(password) > longestWord {
		return problem(Invalid, "", "the password has %d characters; %d at least are needed", n, shortestWord)
	}
	return nil
}

func fitEmail(email string) error {
	if a, err := mail.ParseAddress(email); err != nil || a.Address != email {
		return problem(Invalid, "", "this is no e-mail address")
	}
	return nil
}

// Invite adds a person and gives the one-time code they set themselves up with.
func (s *Service) Invite(ctx context.Context, who Caller, email, role string) (store.Person, string, error) {
	if err := fitEmail(email); err != nil {
		return store.Person{}, "", err
	}
	if rank[role] == 0 {
		return store.Person{}, "", problem(Invalid, "", "there is no role %q", role)
	}
	if _, err := s.store.PersonByEmail(ctx, email); err == nil {
		return store.Person{}, "", problem(Conflict, "", "somebody with this e-mail address is invited already")
	}
	p, err := s.store.AddPerson(ctx, store.Person{Email: email, Role: role}, s.now())
	if err != nil {
		return p, "", err
	}
	code := newSecret()
	if err := s.store.AddSetupCode(ctx, hashSecret(code), p.ID, s.now().Add(setupLife)); err != nil {
		return p, "", err
	}
	return p, code, s.store.AddTrail(ctx, s.did(who, "invite", p.Email, "role "+role))
}

// AddPerson adds a person with a password, for the demo and for tests.
func (s *Service) AddPerson(ctx context.Context, name, email, role, password string) (store.Person, error) {
	return s.store.AddPerson(ctx, store.Person{Name: name, Email: email, Role: role, Password: hashPassword(password)}, s.now())
}

// People lists everybody.
func (s *Service) People(ctx context.Context) ([]store.Person, error) { return s.store.People(ctx) }

// SignIn checks e-mail, password and, of who has a second factor, its code, and begins a
// session, whose secret is given.
func (s *Service) SignIn(ctx context.Context, email, password, code string) (Caller, string, error) {
	p, err := s.CheckPassword(ctx, email, password, code)
	if err != nil {
		return Caller{}, "", err
	}
	return s.newSession(ctx, p)
}

func (s *Service) check(ctx context.Context, email, password string) (store.Person, error) {
	if wait := s.guesses.wait(email, s.now()); wait > 0 {
		return store.Person{}, problem(Slowed, "", "too many wrong tries: the next one in %s", wait.Round(time.Second))
	}
	p, err := s.store.PersonByEmail(ctx, strings.TrimSpace(email))
	hash := p.Password
	if errors.Is(err, store.ErrNotFound) || hash == "" {
		hash = nobody
	} else if err != nil {
		return p, err
	}
	if len(password) > longestWord || !checkPassword(hash, password) || hash == nobody || !p.Active {
		s.guesses.wrong(email, s.now())
		s.log.Info("sign-in refused")
		return p, problem(Unauthenticated, "", "e-mail address or password is wrong")
	}
	return p, nil
}

func (s *Service) newSession(ctx context.Context, p store.Person) (Caller, string, error) {
	return s.newKey(ctx, p, store.Key{Kind: "session", Scope: ScopeEverything}, sessionLife)
}

func (s *Service) newKey(ctx context.Context, p store.Person, k store.Key, life time.Duration) (Caller, string, error) {
	secret := newSecret()
	if k.Kind == "token" {
		secret = tokenPrefix + secret
	}
	k.PersonID, k.Created = p.ID, s.now()
	k.Expires = k.Created.Add(life)
	k, err := s.store.AddKey(ctx, hashSecret(secret), k)
	return Caller{p, k}, secret, err
}

// tokenPrefix lets people and scanners of secrets tell a token for what it is.
const tokenPrefix = "inkret_"

// NewToken makes a token for a program of a person who is signed in, or who gives
// e-mail and password. Its scope is everything, and its life [defaultTokenAge], where none is said.
func (s *Service) NewToken(ctx context.Context, p store.Person, k store.Key, life time.Duration) (Caller, string, error) {
	if life == 0 {
		life = defaultTokenAge
	}
	if k.Scope == "" {
		k.Scope = ScopeEverything
	}
	if !slices.Contains(Scopes(), k.Scope) {
		return Caller{}, "", problem(Invalid, "", "there is no scope %q; known are %s", k.Scope, strings.Join(Scopes(), ", "))
	}
	if k.Service != "" {
		if _, err := s.store.Keeping(ctx, k.Service); err != nil {
			return Caller{}, "", found(err, "service %q", k.Service)
		}
	}
	k.Kind = "token"
	c, secret, err := s.newKey(ctx, p, k, life)
	if err != nil {
		return c, "", err
	}
	return c, secret, s.store.AddTrail(ctx, s.did(c, "make token", p.Email, strings.TrimSpace(k.Scope+" "+k.Service)+" until "+c.Key.Expires.UTC().Format(time.DateOnly)))
}

// CheckPassword gives the person of an e-mail address and password; who has a second factor
// needs its code too.
func (s *Service) CheckPassword(ctx context.Context, email, password, code string) (store.Person, error) {
	p, err := s.check(ctx, email, password)
	if err == nil && p.FactorOn {
		err = s.checkFactor(ctx, p, code)
	}
	if err != nil {
		return store.Person{}, err
	}
	s.guesses.right(email)
	return p, nil
}

// SignedOut is the type of the problem of who has no session or token that counts.
const SignedOut = "urn:inkret:problem:signed-out"

func signedOut(detail string, args ...any) *Problem {
	p := problem(Unauthenticated, "sign in again: inkret sign-in", detail, args...)
	p.Type = SignedOut
	return p
}

// Authenticate tells who a session's or token's secret belongs to.
func (s *Service) Authenticate(ctx context.Context, secret string) (Caller, error) {
	k, p, err := s.store.KeyByHash(ctx, hashSecret(secret))
	now := s.now()
	switch {
	case errors.Is(err, store.ErrNotFound):
		return Caller{}, signedOut("the session or token is not known")
	case err != nil:
		return Caller{}, err
	case !p.Active:
		return Caller{}, problem(Unauthenticated, "ask an administrator", "you may not come in any more")
	case !now.Before(k.Expires):
		return Caller{}, signedOut("the %s ended on %s", k.Kind, k.Expires.Format(time.DateOnly))
	}
	if now.Sub(k.LastUsed) > touchEvery {
		if err := s.store.TouchKey(ctx, k.ID, now); err != nil {
			return Caller{}, err
		}
	}
	return Caller{p, k}, nil
}

// Tokens lists a person's tokens.
func (s *Service) Tokens(ctx context.Context, c Caller) ([]store.Key, error) {
	return s.store.Keys(ctx, c.ID, "token", s.now())
}

// EndToken ends one of a person's own sessions or tokens.
func (s *Service) EndToken(ctx context.Context, c Caller, id int64) error {
	if err := s.store.EndKey(ctx, id, c.ID); err != nil {
		return found(err, "token %d of yours", id)
	}
	return s.store.AddTrail(ctx, s.did(c, "end token", c.Email, fmt.Sprintf("token %d", id)))
}
