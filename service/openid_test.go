package service

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"inkret/openid"
	"inkret/service/base"
	"inkret/service/people"
)

// gate is a provider that says what a test wants.
type gate struct {
	id  openid.Identity
	err error
}

func (g *gate) Name() string { return "the gate" }
func (g *gate) Begin(context.Context) (string, openid.Ticket, error) {
	return "https://gate.example/authorize", openid.Ticket{State: "s", Nonce: "n", Verifier: "v"}, g.err
}
func (g *gate) Finish(_ context.Context, t openid.Ticket, state, _ string) (openid.Identity, error) {
	if t.State != state {
		return openid.Identity{}, openid.ErrForged
	}
	return g.id, g.err
}

func TestThoseWhoAreInvitedSignInWithAProvider(t *testing.T) {
	w, g := newWorld(t), &gate{}
	if _, _, err := w.People.BeginOpenID(t.Context(), "/"); code(err) != base.NotFound || w.People.OpenIDName() != "" {
		t.Errorf("without a provider: %v", err)
	}
	w.People.SignInWith(g, "https://gate.example")
	marlo := w.person("Marlo", base.Administrator)
	invited, _, err := w.People.Invite(t.Context(), marlo, "tamsin@quay.example", base.Reviewer)
	if err != nil {
		t.Fatal(err)
	}
	in := func(next string) (base.Caller, string, error) {
		t.Helper()
		to, sealed, err := w.People.BeginOpenID(t.Context(), next)
		if err != nil || to != "https://gate.example/authorize" || strings.Contains(string(sealed), "verifier") {
			t.Fatalf("begun: %s, %v", to, err)
		}
		who, secret, next, err := w.People.FinishOpenID(t.Context(), sealed, "s", "code")
		if err == nil {
			if again, err := w.People.Authenticate(t.Context(), secret); err != nil || again.ID != who.ID {
				t.Errorf("the session is %+v's, %v", again.Person, err)
			}
		}
		return who, next, err
	}
	refusal := func(err error) string {
		var p *base.Problem
		if !errors.As(err, &p) || p.Code != base.Unauthenticated {
			return ""
		}
		return p.Type
	}

	g.id = openid.Identity{Subject: "7", Email: "Tamsin@quay.example", Name: " Tamsin Oster "}
	if _, _, err := in("/"); refusal(err) != people.RefusedUnknown {
		t.Errorf("an address that nobody vouches for: %v", err)
	}
	g.id.Verified = true
	who, next, err := in("/findings?state=new")
	if err != nil || who.ID != invited.ID || who.Name != "Tamsin Oster" || who.Role != base.Reviewer ||
		next != "/findings?state=new" || !who.Here() {
		t.Fatalf("%+v to %q, %v", who.Person, next, err)
	}
	g.id.Email = "elsewhere@quay.example" // from now on it is the subject that counts
	if who, _, err := in("/"); err != nil || who.ID != invited.ID {
		t.Errorf("with another address: %+v, %v", who.Person, err)
	}
	g.id = openid.Identity{Subject: "8", Email: "tamsin@quay.example", Verified: true}
	if _, _, err := in("/"); refusal(err) != people.RefusedUnknown {
		t.Errorf("another with her address: %v", err)
	}
	g.id = openid.Identity{Email: "tamsin@quay.example", Verified: true}
	if _, _, err := in("/"); refusal(err) != people.RefusedUnknown {
		t.Errorf("nobody in particular: %v", err)
	}
	g.id = openid.Identity{Subject: "9", Email: "wim@quay.example", Verified: true}
	if _, _, err := in("/"); refusal(err) != people.RefusedUnknown {
		t.Errorf("a stranger: %v", err)
	}
	if _, err := w.People.ChangePerson(t.Context(), marlo, invited.ID,
		people.PersonWish{Active: yes(false)}); err != nil {
		t.Fatal(err)
	}
	g.id = openid.Identity{Subject: "7"}
	if _, _, err := in("/"); refusal(err) != people.RefusedOut {
		t.Errorf("who is kept out: %v", err)
	}
	for from, want := range map[string]string{"//evil.example": "/", "https://evil.example": "/", `/\evil.example`: "/",
		"": "/", "/a b": "/", "/findings": "/findings", "javascript:alert(1)": "/"} {
		g.id = openid.Identity{Subject: "1", Email: w.who.Email, Verified: true}
		if _, next, err := in(from); err != nil || next != want {
			t.Errorf("from %q one comes to %q, %v", from, next, err)
		}
	}

	_, sealed, err := w.People.BeginOpenID(t.Context(), "/")
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		sealed      []byte
		state, code string
		want        string
	}{"without a ticket": {nil, "s", "c", people.RefusedExpired}, "with a ticket of one's own": {[]byte("x"), "s", "c",
		people.RefusedExpired}, "without a code": {sealed, "s", "", people.RefusedProvider},
		"with another's state": {sealed, "t",
			"c", people.RefusedProvider}} {
		if _, _, _, err := w.People.FinishOpenID(t.Context(), c.sealed, c.state, c.code); refusal(err) != c.want {
			t.Errorf("%s: %v", name, err)
		}
	}
	w.clock.now = w.clock.now.Add(11 * time.Minute)
	if _, _, _, err := w.People.FinishOpenID(t.Context(), sealed, "s", "c"); refusal(err) != people.RefusedExpired {
		t.Errorf("after eleven minutes: %v", err)
	}
	g.err = errors.New("no route")
	if _, _, err := w.People.BeginOpenID(t.Context(), "/"); refusal(err) != people.RefusedProvider {
		t.Errorf("a provider that is not there: %v", err)
	}
	if entries, _, _ := w.Base.Trail(t.Context(), base.TrailFilter{Action: "sign in with provider"},
		base.Page{Number: 1, Size: 9}); len(entries) != 2 || entries[1].Author != "Tamsin Oster" ||
		entries[1].Subject != "tamsin@quay.example" {
		t.Errorf("the trail says %+v", entries)
	}
}
