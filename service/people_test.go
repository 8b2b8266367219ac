package service

import (
	"bytes"
	"context"
	"fmt"
	"image/png"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"inkret/service/base"
	"inkret/service/people"
)

const word = "low tide at nine"

// How often somebody may be wrong before each next try has to wait: at an account, and from an address.
const (
	freeTries        = 5
	freeAddressTries = 30
)

// TestGuessingIsSlowed tries passwords: after a few wrong ones each next has to wait longer,
// the right one too, whether anybody has the address or not.
func TestGuessingIsSlowed(t *testing.T) {
	w := newWorld(t)
	for _, email := range []string{"noor@quay.example", "nobody@quay.example"} {
		for i := range freeTries {
			if _, _, err := w.People.SignIn(t.Context(), email, "wrong", ""); code(err) != base.Unauthenticated {
				t.Fatalf("try %d of %s: %v", i, email, err)
			}
		}
		if _, _, err := w.People.SignIn(t.Context(), strings.ToUpper(email), word, ""); code(err) != base.Slowed ||
			!strings.Contains(err.Error(), "5s") {
			t.Errorf("the next try of %s: %v", email, err)
		}
	}
	w.clock.now = w.clock.now.Add(6 * time.Second)
	if _, _, err := w.People.SignIn(t.Context(), "noor@quay.example", "wrong", ""); code(err) != base.Unauthenticated {
		t.Errorf("after the wait: %v", err)
	}
	if _, _, err := w.People.SignIn(t.Context(), "noor@quay.example", word, ""); code(err) != base.Slowed ||
		!strings.Contains(err.Error(), "10s") {
		t.Errorf("the wait is not longer: %v", err)
	}
	w.clock.now = w.clock.now.Add(time.Minute)
	if _, _, err := w.People.SignIn(t.Context(), "noor@quay.example", word, ""); err != nil {
		t.Errorf("the right one after the wait: %v", err)
	}
	if _, _, err := w.People.SignIn(t.Context(), "noor@quay.example", "wrong", ""); code(err) != base.Unauthenticated {
		t.Errorf("what came before is not forgotten: %v", err)
	}
}

// TestStrangersKeepNobodyOut lets strangers guess at an account: its owner's browser and machine go on, and
// who guesses at many accounts from one machine is slowed by that.
func TestStrangersKeepNobodyOut(t *testing.T) {
	w := newWorld(t)
	at := func(address, browser string) context.Context {
		return people.WithOrigin(t.Context(), people.Origin{Address: address, Browser: browser})
	}
	if _, _, err := w.People.SignIn(at("192.0.2.7", ""), "noor@quay.example", word, ""); err != nil {
		t.Fatal(err)
	}
	browser, _ := w.People.KnownBrowser("noor@quay.example")
	others, _ := w.People.KnownBrowser("iva@quay.example")
	for range freeTries + 3 {
		w.People.SignIn(at("198.51.100.1", ""), "noor@quay.example", "wrong", "")
		w.clock.now = w.clock.now.Add(time.Millisecond)
	}
	for name, c := range map[string]struct {
		address, browser string
		want             base.Code
	}{
		"a stranger": {"198.51.100.2", "", base.Slowed}, "with a browser of somebody else": {"198.51.100.2", others,
			base.Slowed},
		"with a browser made up": {"198.51.100.2", browser + "x", base.Slowed},
		"the owner's browser":    {"198.51.100.9", browser, 0}, "the owner's machine": {"192.0.2.7", "", 0},
	} {
		_, _, err := w.People.SignIn(at(c.address, c.browser), "Noor@quay.example", word, "")
		if c.want == 0 && err != nil || c.want != 0 && code(err) != c.want {
			t.Errorf("%s: %v", name, err)
		}
	}
	w.clock.now = w.clock.now.Add(time.Hour)
	for i := range freeAddressTries {
		if _, _, err := w.People.SignIn(at("198.51.100.3", ""), fmt.Sprintf("nobody%d@quay.example", i), "wrong",
			""); code(err) != base.Unauthenticated {
			t.Fatalf("try %d: %v", i, err)
		}
	}
	if _, _, err := w.People.SignIn(at("198.51.100.3", ""), "another@quay.example", "wrong",
		""); code(err) != base.Slowed {
		t.Errorf("guessing at one account after the other: %v", err)
	}
	for range freeAddressTries + 1 {
		w.People.Link(at("198.51.100.4", ""), "no code")
	}
	if _, err := w.People.Link(at("198.51.100.4", ""), "no code"); code(err) != base.Slowed {
		t.Errorf("guessing codes of links: %v", err)
	}
}

func TestAPasswordIsChanged(t *testing.T) {
	w := newWorld(t)
	here, _, err := w.People.SignIn(t.Context(), "noor@quay.example", word, "")
	if err != nil {
		t.Fatal(err)
	}
	_, there, err := w.People.SignIn(t.Context(), "noor@quay.example", word, "")
	if err != nil {
		t.Fatal(err)
	}
	if all, err := w.People.Sessions(t.Context(), here); err != nil || len(all) != 2 {
		t.Errorf("%d sessions, %v", len(all), err)
	}
	for name, try := range map[string][2]string{"a wrong old one": {"wrong", "high tide at three"},
		"a short new one": {word, "short"}} {
		if err := w.People.ChangePassword(t.Context(), here, try[0], try[1]); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
	if err := w.People.ChangePassword(t.Context(), here, word, "high tide at three"); err != nil {
		t.Fatal(err)
	}
	if _, err := w.People.Authenticate(t.Context(), there); code(err) != base.Unauthenticated {
		t.Errorf("another session goes on: %v", err)
	}
	if all, err := w.People.Sessions(t.Context(), here); err != nil || len(all) != 1 || all[0].ID != here.Key.ID {
		t.Errorf("sessions %+v, %v", all, err)
	}
	if _, _, err := w.People.SignIn(t.Context(), "noor@quay.example", word, ""); code(err) != base.Unauthenticated {
		t.Errorf("the old password: %v", err)
	}
	if _, _, err := w.People.SignIn(t.Context(), "noor@quay.example", "high tide at three", ""); err != nil {
		t.Errorf("the new password: %v", err)
	}
	if err := w.People.EndSession(t.Context(), here, here.Key.ID); err != nil {
		t.Error(err)
	}
	if err := w.People.EndSession(t.Context(), here, here.Key.ID); code(err) != base.NotFound {
		t.Errorf("ended twice: %v", err)
	}
}

func yes(v bool) *bool { return &v }

func TestPeopleAreKeptOutAndGivenRoles(t *testing.T) {
	w := newWorld(t)
	marlo, iva := w.person("Marlo", base.Administrator), w.person("Iva", base.Viewer)
	_, token, err := w.People.NewToken(t.Context(), iva, iva.Person, base.Key{Name: "script"}, 0)
	if err != nil {
		t.Fatal(err)
	}
	if p, err := w.People.ChangePerson(t.Context(), marlo, iva.ID,
		people.PersonWish{Role: text(base.Lead)}); err != nil ||
		p.Role != base.Lead {
		t.Errorf("%+v, %v", p, err)
	}
	if c, err := w.People.Authenticate(t.Context(), token); err != nil || c.Role != base.Lead {
		t.Errorf("%+v, %v", c, err)
	}
	if p, err := w.People.ChangePerson(t.Context(), marlo, iva.ID, people.PersonWish{Active: yes(false)}); err != nil ||
		p.Active {
		t.Errorf("%+v, %v", p, err)
	}
	if _, err := w.People.Authenticate(t.Context(), token); code(err) != base.Unauthenticated {
		t.Errorf("who is kept out comes in by a token: %v", err)
	}
	if _, _, err := w.People.SignIn(t.Context(), iva.Email, word, ""); code(err) != base.Unauthenticated {
		t.Errorf("or by a password: %v", err)
	}
	if _, err := w.People.ChangePerson(t.Context(), marlo, iva.ID, people.PersonWish{Active: yes(true)}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := w.People.SignIn(t.Context(), iva.Email, word, ""); err != nil {
		t.Errorf("let in again: %v", err)
	}
	for name, try := range map[string]func() error{
		"keeps himself out": func() error {
			_, err := w.People.ChangePerson(t.Context(), marlo, marlo.ID, people.PersonWish{Active: yes(false)})
			return err
		},
		"leaves nobody to administer": func() error {
			_, err := w.People.ChangePerson(t.Context(), marlo, marlo.ID, people.PersonWish{Role: text(base.Viewer)})
			return err
		},
	} {
		if err := try(); code(err) != base.Conflict {
			t.Errorf("the last administrator %s: %v", name, err)
		}
	}
	if _, err := w.People.ChangePerson(t.Context(), marlo, iva.ID,
		people.PersonWish{Role: text("captain")}); code(err) != base.Invalid {
		t.Errorf("no such role: %v", err)
	}
	if _, err := w.People.ChangePerson(t.Context(), marlo, 99,
		people.PersonWish{Role: text(base.Lead)}); code(err) != base.NotFound {
		t.Errorf("nobody: %v", err)
	}
	if entries, _, _ := w.Base.Trail(t.Context(), base.TrailFilter{Person: marlo.ID},
		base.Page{Number: 1, Size: 9}); len(entries) != 3 || entries[0].PersonID != marlo.ID ||
		entries[0].Email != marlo.Email || entries[1].Detail != "may not come in" || entries[1].Subject != iva.Email {
		t.Errorf("the trail says %+v", entries)
	}
}

func TestAResetLinkSetsAnotherPassword(t *testing.T) {
	w := newWorld(t)
	marlo := w.person("Marlo", base.Administrator)
	_, session, err := w.People.SignIn(t.Context(), "noor@quay.example", word, "")
	if err != nil {
		t.Fatal(err)
	}
	p, link, err := w.People.ResetLink(t.Context(), marlo, w.who.ID)
	if err != nil || p.ID != w.who.ID {
		t.Fatalf("%+v, %v", p, err)
	}
	if _, _, err := w.People.SetUp(t.Context(), people.SettingUp{Code: link, Email: "", Name: "Noor A.",
		Password: "high tide at three"}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.People.Authenticate(t.Context(), session); code(err) != base.Unauthenticated {
		t.Errorf("the session from before goes on: %v", err)
	}
	if _, _, err := w.People.SignIn(t.Context(), "noor@quay.example", "high tide at three", ""); err != nil {
		t.Error(err)
	}
	if _, _, err := w.People.SetUp(t.Context(), people.SettingUp{Code: link, Email: "", Name: "Noor",
		Password: "low tide at four"}); code(err) != base.Unauthenticated {
		t.Errorf("the link works twice: %v", err)
	}
	if _, _, err := w.People.ResetLink(t.Context(), marlo, 99); code(err) != base.NotFound {
		t.Errorf("nobody: %v", err)
	}
}

// TestTheSecondFactor begins it, signs in by code and by recovery code, and ends it.
func TestTheSecondFactor(t *testing.T) {
	w := newWorld(t)
	signIn := func(code string) error {
		_, _, err := w.People.SignIn(t.Context(), "noor@quay.example", word, code)
		return err
	}
	who, _, err := w.People.SignIn(t.Context(), "noor@quay.example", word, "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.People.ConfirmFactor(t.Context(), who, "123456"); code(err) != base.Conflict {
		t.Errorf("confirmed before it was begun: %v", err)
	}
	f, err := w.People.BeginFactor(t.Context(), who, word)
	if err != nil || !strings.HasPrefix(f.URL, "otpauth://totp/Inkret:noor@quay.example?") {
		t.Fatalf("%+v, %v", f.URL, err)
	}
	if picture, err := png.Decode(bytes.NewReader(f.PNG)); err != nil || picture.Bounds().Dx() != 220 {
		t.Errorf("the picture: %v", err)
	}
	if err := signIn(""); err != nil {
		t.Errorf("it is asked for before it was confirmed: %v", err)
	}
	now := func() string {
		code, err := totp.GenerateCode(f.Secret, w.clock.now)
		if err != nil {
			t.Fatal(err)
		}
		return code
	}
	if _, err := w.People.ConfirmFactor(t.Context(), who, "000000"); code(err) != base.Unauthenticated {
		t.Errorf("a wrong code confirms: %v", err)
	}
	codes, err := w.People.ConfirmFactor(t.Context(), who, now())
	if err != nil || len(codes) != 10 || len(codes[0]) != 19 {
		t.Fatalf("recovery codes %q, %v", codes, err)
	}
	if on, left, err := w.People.Factor(t.Context(), who); err != nil || !on || left != 10 {
		t.Errorf("on %v, %d left, %v", on, left, err)
	}
	if err := signIn(now()); code(err) != base.Unauthenticated {
		t.Errorf("the code that confirmed it works again: %v", err)
	}
	err = signIn("")
	if p, ok := err.(*base.Problem); !ok || p.Type != people.SecondFactorNeeded {
		t.Errorf("without a code: %v", err)
	}
	w.clock.now = w.clock.now.Add(31 * time.Second)
	code1 := now()
	if err := signIn(code1[:3] + " " + code1[3:]); err != nil {
		t.Errorf("the right code: %v", err)
	}
	if err := signIn(code1); code(err) != base.Unauthenticated {
		t.Errorf("a code works twice: %v", err)
	}
	w.clock.now = w.clock.now.Add(2 * time.Minute)
	late, _ := totp.GenerateCode(f.Secret, w.clock.now.Add(-30*time.Second))
	if err := signIn(late); err != nil {
		t.Errorf("the code of the step before: %v", err)
	}
	if err := signIn(strings.ToUpper(codes[3])); err != nil {
		t.Errorf("a recovery code: %v", err)
	}
	if err := signIn(codes[3]); code(err) != base.Unauthenticated {
		t.Errorf("a recovery code works twice: %v", err)
	}
	if _, err := w.People.CheckPassword(t.Context(), "noor@quay.example", word, ""); code(err) != base.Unauthenticated {
		t.Errorf("a token without a code: %v", err)
	}
	who.FactorOn = true
	if _, err := w.People.BeginFactor(t.Context(), who, word); code(err) != base.Conflict {
		t.Errorf("begun twice: %v", err)
	}

	w.Close()
	if _, err := ChangeKey(t.Context(), w.dir, func(KeyChange) {}); err != nil {
		t.Fatal(err)
	}
	w.open()
	w.clock.now = w.clock.now.Add(time.Minute)
	if err := signIn(now()); err != nil {
		t.Errorf("after a change of key: %v", err)
	}
	if err := w.People.EndFactor(t.Context(), who, word, "wrong"); code(err) != base.Unauthenticated {
		t.Errorf("ended with a wrong code: %v", err)
	}
	w.clock.now = w.clock.now.Add(time.Minute)
	if err := w.People.EndFactor(t.Context(), who, word, codes[5]); err != nil {
		t.Fatal(err)
	}
	if err := signIn(""); err != nil {
		t.Errorf("it is asked for after it ended: %v", err)
	}
	for _, leak := range append([]string{f.Secret, code1}, codes...) {
		if strings.Contains(w.log.String(), leak) {
			t.Errorf("the log has %q", leak)
		}
	}
}
