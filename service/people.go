package service

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

	"inkret/store"
)

// Sessions lists the sessions of who asks.
func (s *Service) Sessions(ctx context.Context, c Caller) ([]store.Key, error) {
	return s.store.Keys(ctx, c.ID, "session", s.now())
}

// EndSession ends a session of who asks.
func (s *Service) EndSession(ctx context.Context, c Caller, id int64) error {
	return s.endKey(ctx, c, id, "session")
}

// ChangePassword gives who asks another password. All other sessions of theirs end; tokens
// stay.
func (s *Service) ChangePassword(ctx context.Context, c Caller, old, fresh string) error {
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
	return s.store.SetPassword(ctx, p.ID, hash, c.Key.ID, s.did(c, "change password", c.Email,
		"all other sessions ended"))
}

// did is an entry of the trail about something that somebody did now.
func (s *Service) did(c Caller, action, subject, detail string) store.TrailEntry {
	e := store.TrailEntry{At: s.now(), Author: shownName(c.Person), Action: action, Subject: subject, Detail: detail,
		PersonID: c.ID, Email: c.Email}
	if c.Key.ID != 0 {
		e.Key = fmt.Sprintf("%s %d", c.Key.Kind, c.Key.ID)
	}
	return e
}

// byItself is an entry of the trail about something that no person did who is signed in.
func (s *Service) byItself(action, subject, detail string) store.TrailEntry {
	return store.TrailEntry{At: s.now(), Author: "the service", Action: action, Subject: subject, Detail: detail}
}

// PersonWish is what is to become of a person. Parts that are nil stay as they are.
type PersonWish struct {
	Role   *string
	Active *bool
	Roles  map[string]string // at services, by name; empty for the one they have everywhere
}

// ChangePerson gives a person another role, everywhere or at services, or lets them come in no
// longer, or again. There always is an administrator who may come in.
func (s *Service) ChangePerson(ctx context.Context, c Caller, id int64, w PersonWish) (store.Person, error) {
	role, active := w.Role, w.Active
	if role != nil && !IsRole(*role) {
		return store.Person{}, problem(Invalid, "", "there is no role %q", *role)
	}
	if active != nil && !*active && id == c.ID {
		return store.Person{}, problem(Conflict, "ask another administrator", "you cannot keep yourself out")
	}
	for service, at := range w.Roles {
		if at == Administrator || at != "" && !IsRole(at) {
			return store.Person{}, problem(Invalid,
				"it can be viewer, reviewer or lead; an administrator is one everywhere", "nobody is %q at one service",
				at)
		}
		if _, err := s.store.Keeping(ctx, service); err != nil {
			return store.Person{}, found(err, "service %q", service)
		}
	}
	who, err := s.person(ctx, id)
	if err != nil {
		return who, found(store.ErrNotFound, "person %d", id)
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
			if p.Role == Administrator && p.Active && p.Here() {
				return nil
			}
		}
		return problem(Conflict, "make somebody else an administrator first", "nobody would be left who administers")
	}, s.did(c, "change person", who.Email, strings.Join(words, ", ")))
	s.revoked()
	return p, found(err, "person %d", id)
}

// ResetLink gives a one-time code by which a person sets another password. Their second factor
// stays.
func (s *Service) ResetLink(ctx context.Context, c Caller, id int64) (store.Person, string, error) {
	p, err := s.person(ctx, id)
	if err != nil {
		return p, "", found(store.ErrNotFound, "person %d", id)
	}
	code := newSecret()
	return p, code, s.store.AddSetupCode(ctx, hashSecret(code), p.ID, s.now().Add(setupLife),
		s.did(c, "make reset link", p.Email, ""))
}

// The second factor is a time-based one-time password (RFC 6238) as the usual applications on
// telephones make it: SHA-1, six digits, thirty seconds.

const (
	factorPeriod  = 30
	factorAs      = "second factor"
	recoveryCodes = 10
	recoveryBytes = 10
)

// SecondFactorNeeded is the type of the problem that a sign-in without a code gives.
const SecondFactorNeeded = "urn:inkret:problem:second-factor-needed"

// NewFactor is a second factor that is to be confirmed.
type NewFactor struct {
	Secret string // base32
	URL    string // otpauth
	PNG    []byte // a picture of it for a telephone's camera
}

// BeginFactor makes a secret for the second factor of who asks and gives their password. It is not asked
// for before it was confirmed with a code.
func (s *Service) BeginFactor(ctx context.Context, c Caller, password string) (NewFactor, error) {
	if c.FactorOn {
		return NewFactor{}, problem(Conflict, "end it first", "you have a second factor already")
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

// ConfirmFactor takes a code of the second factor that was begun, and asks for one from then
// on. It gives recovery codes, each of which works once in place of a code.
func (s *Service) ConfirmFactor(ctx context.Context, c Caller, code string) ([]string, error) {
	p, err := s.person(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if p.FactorOn || len(p.Factor) == 0 {
		return nil, problem(Conflict, "", "no second factor was begun")
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
		hashes = append(hashes, hashSecret(text))
	}
	entry := s.did(c, "begin second factor", c.Email, "")
	return codes, s.store.SetFactor(ctx, p.ID, p.Factor, true, hashes, &entry)
}

// EndFactor ends the second factor of who asks, who shows once more that it is them.
func (s *Service) EndFactor(ctx context.Context, c Caller, password, code string) error {
	if err := s.confirm(ctx, c, password); err != nil {
		return err
	}
	p, err := s.person(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := s.checkFactor(ctx, p, code); err != nil {
		return err
	}
	entry := s.did(c, "end second factor", c.Email, "")
	return s.store.SetFactor(ctx, p.ID, nil, false, nil, &entry)
}

// Factor tells whether who asks has a second factor, and how many recovery codes are left.
func (s *Service) Factor(ctx context.Context, c Caller) (on bool, left int, err error) {
	p, err := s.person(ctx, c.ID)
	if err != nil {
		return false, 0, err
	}
	left, err = s.store.RecoveryLeft(ctx, c.ID)
	return p.FactorOn, left, err
}

// checkFactor holds a code against a person's second factor: one of an application, or a
// recovery code.
func (s *Service) checkFactor(ctx context.Context, p store.Person, code string) error {
	code = strings.ToLower(strings.NewReplacer(" ", "", "-", "").Replace(code))
	if code == "" {
		return &Problem{Code: Unauthenticated, Type: SecondFactorNeeded,
			Detail: "a code of your second factor is needed",
			Next:   "say the code that your application shows, or a recovery code"}
	}
	if len(code) > 8 {
		err := s.store.UseRecovery(ctx, p.ID, hashSecret(code))
		if errors.Is(err, store.ErrNotFound) {
			return s.wrongCode(ctx, p)
		}
		return err
	}
	return s.factorCode(ctx, p, code)
}

func (s *Service) wrongCode(ctx context.Context, p store.Person) error {
	s.tries.wrong(s.tried(ctx, p.Email), s.now())
	s.log.Warn("second factor refused", "account", p.Email, "from", originOf(ctx).Address)
	entry := s.byItself("second factor refused", p.Email, strings.TrimSpace(from(ctx)))
	entry.Author = "a stranger"
	if err := s.store.AddTrail(ctx, entry); err != nil {
		return err
	}
	return &Problem{Code: Unauthenticated, Type: SecondFactorNeeded, Detail: "the code is wrong, or was used already"}
}

// factorCode holds a code against the time step that is, the one before and the one after
// (RFC 6238 section 5.2). Each works once.
func (s *Service) factorCode(ctx context.Context, p store.Person, code string) error {
	secret, _, err := s.vault.Open(p.Factor, factorAs)
	if err != nil {
		return fmt.Errorf("the second factor of person %d: %w", p.ID, err)
	}
	now := s.now()
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

// resealFactors seals what older keys sealed of second factors anew.
func (s *Service) resealFactors(ctx context.Context) error {
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
