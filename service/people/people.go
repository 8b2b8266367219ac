package people

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"image/png"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"inkret/service/base"
	"inkret/store"
)

// Sessions lists the caller's sessions.
func (s *People) Sessions(ctx context.Context, c base.Caller) ([]store.Key, error) {
	return s.store.Keys(ctx, c.ID, "session", s.base.Now())
}

// EndSession ends one of the caller's sessions.
func (s *People) EndSession(ctx context.Context, c base.Caller, id int64) error {
	return s.endKey(ctx, c, id, "session")
}

// ChangePassword changes the caller's password. Their other sessions end; tokens stay valid.
func (s *People) ChangePassword(ctx context.Context, c base.Caller, old, fresh string) error {
	p, err := s.check(ctx, c.Email, old)
	if err != nil {
		return err
	}
	if err := fitPassword(fresh, p.Name, p.Email); err != nil {
		return err
	}
	hash, err := s.hasher.hash(ctx, fresh)
	if err != nil {
		return err
	}
	defer s.revoked()
	return s.store.SetPassword(ctx, p.ID, hash, c.Key.ID, s.base.Did(c, "change password", c.Email,
		"all other sessions ended"))
}

// PersonWish is a requested change of a person. Nil parts stay as they are.
type PersonWish struct {
	Role   *string           // viewer, reviewer, lead or administrator
	Active *bool             // may come in
	Roles  map[string]string // at services, by name; empty for the one they have everywhere
}

// ChangePerson changes a person's roles, or blocks or unblocks them. At least one active administrator must remain.
func (s *People) ChangePerson(ctx context.Context, c base.Caller, id int64, w PersonWish) (store.Person, error) {
	role, active := w.Role, w.Active
	if role != nil && !base.IsRole(*role) {
		return store.Person{}, base.NewProblem(base.Invalid, "", "there is no role %q", *role)
	}
	if active != nil && !*active && id == c.ID {
		return store.Person{}, base.NewProblem(base.Conflict, "ask another administrator",
			"you cannot keep yourself out")
	}
	for service, at := range w.Roles {
		if at == base.Administrator || at != "" && !base.IsRole(at) {
			return store.Person{}, base.NewProblem(base.Invalid,
				"it can be viewer, reviewer or lead; an administrator is one everywhere", "nobody is %q at one service",
				at)
		}
		if _, err := s.store.Keeping(ctx, service); err != nil {
			return store.Person{}, base.Found(err, "service %q", service)
		}
	}
	who, err := s.base.Person(ctx, id)
	if err != nil {
		return who, base.Found(store.ErrNotFound, "person %d", id)
	}
	var words []string
	if role != nil {
		words = append(words, "role "+*role)
	}
	for _, service := range slices.Sorted(maps.Keys(w.Roles)) {
		words = append(words, strings.TrimSpace("at "+service+" "+cmp.Or(w.Roles[service], "as everywhere")))
	}
	if active != nil && *active {
		words = append(words, "may come in")
	} else if active != nil {
		words = append(words, "may not come in")
	}
	p, err := s.store.ChangePerson(ctx, id, func(p *store.Person) {
		if role != nil {
			p.Role = *role
		}
		if active != nil {
			p.Active = *active
		}
		for service, at := range w.Roles {
			if delete(p.Roles, service); at != "" {
				p.Roles[service] = at
			}
		}
	}, func(all []store.Person) error {
		for _, p := range all {
			if p.Role == base.Administrator && p.Active && p.Here() {
				return nil
			}
		}
		return base.NewProblem(base.Conflict, "make somebody else an administrator first",
			"nobody would be left who administers")
	}, s.base.Did(c, "change person", who.Email, strings.Join(words, ", ")))
	s.revoked()
	return p, base.Found(err, "person %d", id)
}

// ResetLink creates a one-time code for setting a new password. The second factor stays.
func (s *People) ResetLink(ctx context.Context, c base.Caller, id int64) (store.Person, string, error) {
	p, err := s.base.Person(ctx, id)
	if err != nil {
		return p, "", base.Found(store.ErrNotFound, "person %d", id)
	}
	code := base.NewSecret()
	return p, code, s.store.AddSetupCode(ctx, base.HashSecret(code), p.ID, s.base.Now().Add(setupLife),
		s.base.Did(c, "make reset link", p.Email, ""))
}

// The second factor is a time-based one-time password (RFC 6238) with the parameters of common authenticator apps:
// SHA-1, six digits, thirty seconds.

const (
	factorPeriod  = 30
	factorAs      = "second factor"
	recoveryCodes = 10
	recoveryBytes = 10
)

// SecondFactorNeeded is the problem type of a sign-in that lacks a code.
const SecondFactorNeeded = "urn:inkret:problem:second-factor-needed"

// NewFactor is a second factor that is not confirmed yet.
type NewFactor struct {
	Secret string // base32
	URL    string // otpauth
	PNG    []byte // a picture of it for a telephone's camera
}

// BeginFactor creates a second factor for the caller. It is not required before [People.ConfirmFactor] confirmed
// it.
func (s *People) BeginFactor(ctx context.Context, c base.Caller, password string) (NewFactor, error) {
	if c.FactorOn {
		return NewFactor{}, base.NewProblem(base.Conflict, "end it first", "you have a second factor already")
	}
	if err := s.confirm(ctx, c, password); err != nil {
		return NewFactor{}, err
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Inkret", AccountName: c.Email, Period: factorPeriod,
		Rand: rand.Reader})
	if err != nil {
		return NewFactor{}, err
	}
	const side = 220
	picture, err := key.Image(side, side)
	if err != nil {
		return NewFactor{}, err
	}
	var out bytes.Buffer
	if err := png.Encode(&out, picture); err != nil {
		return NewFactor{}, err
	}
	return NewFactor{key.Secret(), key.URL(), out.Bytes()}, s.store.SetFactor(ctx, c.ID,
		s.vault.Seal([]byte(key.Secret()), factorAs), false, nil, nil)
}

// ConfirmFactor activates the second factor with a code. It returns recovery codes, each valid once in place of a
// code.
func (s *People) ConfirmFactor(ctx context.Context, c base.Caller, code string) ([]string, error) {
	p, err := s.base.Person(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if p.FactorOn || len(p.Factor) == 0 {
		return nil, base.NewProblem(base.Conflict, "", "no second factor was begun")
	}
	if err := s.factorCode(ctx, p, code); err != nil {
		return nil, err
	}
	var codes, hashes []string
	for range recoveryCodes {
		b := make([]byte, recoveryBytes)
		rand.Read(b)
		text := strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))
		codes = append(codes, text[:4]+"-"+text[4:8]+"-"+text[8:12]+"-"+text[12:])
		hashes = append(hashes, base.HashSecret(text))
	}
	entry := s.base.Did(c, "begin second factor", c.Email, "")
	return codes, s.store.SetFactor(ctx, p.ID, p.Factor, true, hashes, &entry)
}

// EndFactor removes the caller's second factor, after checking password and code.
func (s *People) EndFactor(ctx context.Context, c base.Caller, password, code string) error {
	if err := s.confirm(ctx, c, password); err != nil {
		return err
	}
	p, err := s.base.Person(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := s.checkFactor(ctx, p, code); err != nil {
		return err
	}
	entry := s.base.Did(c, "end second factor", c.Email, "")
	return s.store.SetFactor(ctx, p.ID, nil, false, nil, &entry)
}

// Factor reports whether the caller has a second factor, and how many recovery codes are left.
func (s *People) Factor(ctx context.Context, c base.Caller) (on bool, left int, err error) {
	p, err := s.base.Person(ctx, c.ID)
	if err != nil {
		return false, 0, err
	}
	left, err = s.store.RecoveryLeft(ctx, c.ID)
	return p.FactorOn, left, err
}

// checkFactor verifies a code of the second factor, or a recovery code.
func (s *People) checkFactor(ctx context.Context, p store.Person, code string) error {
	code = strings.ToLower(strings.NewReplacer(" ", "", "-", "").Replace(code))
	if code == "" {
		return &base.Problem{Code: base.Unauthenticated, Type: SecondFactorNeeded,
			Detail: "a code of your second factor is needed",
			Next:   "say the code that your application shows, or a recovery code"}
	}
	if len(code) > 8 {
		err := s.store.UseRecovery(ctx, p.ID, base.HashSecret(code), s.base.Did(base.Caller{Person: p},
			"use recovery code", p.Email,
			strings.TrimSpace(from(ctx))))
		if errors.Is(err, store.ErrNotFound) {
			return s.wrongCode(ctx, p)
		}
		return err
	}
	return s.factorCode(ctx, p, code)
}

func (s *People) wrongCode(ctx context.Context, p store.Person) error {
	s.tries.wrong(s.tried(ctx, p.Email), s.base.Now())
	s.base.Log.Warn("second factor refused", "account", p.Email, "from", originOf(ctx).Address)
	entry := s.base.ByItself("second factor refused", p.Email, strings.TrimSpace(from(ctx)))
	entry.Author = "a stranger"
	if err := s.store.AddTrail(ctx, entry); err != nil {
		return err
	}
	return &base.Problem{Code: base.Unauthenticated, Type: SecondFactorNeeded,
		Detail: "the code is wrong, or was used already"}
}

// factorCode verifies a code against the current time step, the one before and the one after (RFC 6238 section
// 5.2). Each code works once.
func (s *People) factorCode(ctx context.Context, p store.Person, code string) error {
	secret, _, err := s.vault.Open(p.Factor, factorAs)
	if err != nil {
		return fmt.Errorf("the second factor of person %d: %w", p.ID, err)
	}
	now := s.base.Now()
	for _, skew := range []int64{0, -1, 1} {
		at := now.Add(time.Duration(skew*factorPeriod) * time.Second)
		ok, err := totp.ValidateCustom(code, string(secret), at, totp.ValidateOpts{Period: factorPeriod,
			Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1})
		if err != nil || !ok {
			continue
		}
		if err := s.store.UseStep(ctx, p.ID, at.Unix()/factorPeriod); !errors.Is(err, store.ErrConflict) {
			return err
		}
	}
	return s.wrongCode(ctx, p)
}

// ResealFactors encrypts all second factors with the newest key.
func (s *People) ResealFactors(ctx context.Context) error {
	people, err := s.store.People(ctx)
	if err != nil {
		return err
	}
	for _, p := range people {
		if len(p.Factor) == 0 {
			continue
		}
		secret, _, err := s.vault.Open(p.Factor, factorAs)
		if err != nil {
			return fmt.Errorf("the second factor of person %d: %w", p.ID, err)
		}
		if err := s.store.ResealFactor(ctx, p.ID, s.vault.Seal(secret, factorAs)); err != nil {
			return err
		}
	}
	return nil
}
