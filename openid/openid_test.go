package openid_test

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"inkret/demo"
	"inkret/openid"
)

// quay is a provider on loopback, and a client of it.
type quay struct {
	*openid.Provider
	at *demo.Provider
	t  *testing.T
}

func newQuay(t *testing.T) *quay {
	t.Helper()
	site := httptest.NewUnstartedServer(nil)
	issuer := "http://" + site.Listener.Addr().String()
	at, err := demo.NewProvider(issuer, "inkret", "a secret", []demo.Account{{Subject: "7", Name: "Noor Adeyar",
		Email: "noor@quay.example", Verified: true}})
	if err != nil {
		t.Fatal(err)
	}
	site.Config.Handler = at
	site.Start()
	t.Cleanup(site.Close)
	return &quay{openid.New(openid.Client{Issuer: issuer, ID: "inkret", Secret: "a secret", Name: "the quay"},
		"https://inkret.example/done"), at, t}
}

// visit goes to the provider as its first account, and gives what is brought back.
func (q *quay) visit() (openid.Ticket, url.Values) {
	q.t.Helper()
	to, ticket, err := q.Begin(q.t.Context())
	if err != nil {
		q.t.Fatal(err)
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	r, err := client.Get(to + "&as=0")
	if err != nil {
		q.t.Fatal(err)
	}
	defer r.Body.Close()
	back, err := r.Location()
	if err != nil || !strings.HasPrefix(back.String(), "https://inkret.example/done?") {
		q.t.Fatalf("back to %v, %v", back, err)
	}
	return ticket, back.Query()
}

func TestSomebodySignsIn(t *testing.T) {
	q := newQuay(t)
	ticket, back := q.visit()
	who, err := q.Finish(t.Context(), ticket, back.Get("state"), back.Get("code"))
	if want := (openid.Identity{Subject: "7", Email: "noor@quay.example", Verified: true,
		Name: "Noor Adeyar"}); err != nil || who != want {
		t.Errorf("%+v, %v", who, err)
	}
	if _, err := q.Finish(t.Context(), ticket, back.Get("state"), back.Get("code")); err == nil {
		t.Error("a code works twice")
	}
}

func TestAnswersThatAreNotTrusted(t *testing.T) {
	q := newQuay(t)
	for name, change := range map[string]func(claims map[string]any){
		"of another issuer": func(c map[string]any) { c["iss"] = "https://login.example" },
		"for another":       func(c map[string]any) { c["aud"] = "somebody else" },
		"that has ended":    func(c map[string]any) { c["exp"] = time.Now().Add(-time.Minute).Unix() },
		"of another time":   func(c map[string]any) { c["nonce"] = "another" },
		"without a time":    func(c map[string]any) { delete(c, "exp") },
		"of odd claims":     func(c map[string]any) { c["email_verified"] = []int{1} },
	} {
		ticket, back := q.visit()
		q.at.Spoil(change)
		if who, err := q.Finish(t.Context(), ticket, back.Get("state"), back.Get("code")); !errors.Is(err,
			openid.ErrForged) || who != (openid.Identity{}) {
			t.Errorf("an answer %s: %+v, %v", name, who, err)
		}
	}
	ticket, back := q.visit()
	other, _ := q.visit()
	for name, c := range map[string]struct {
		ticket openid.Ticket
		state  string
	}{"another's state": {ticket, "another"}, "another's ticket": {other, back.Get("state")},
		"no ticket": {openid.Ticket{}, ""}} {
		if _, err := q.Finish(t.Context(), c.ticket, c.state, back.Get("code")); !errors.Is(err, openid.ErrForged) {
			t.Errorf("%s: %v", name, err)
		}
	}
	stolen := ticket
	stolen.Verifier = other.Verifier // who has the code alone, and not the verifier
	if _, err := q.Finish(t.Context(), stolen, back.Get("state"), back.Get("code")); err == nil ||
		!strings.Contains(err.Error(), "does not take the code") {
		t.Errorf("without the verifier: %v", err)
	}
}

func TestAProviderThatIsNotThere(t *testing.T) {
	p := openid.New(openid.Client{Issuer: "http://127.0.0.1:1", ID: "x"}, "https://inkret.example/done")
	if _, _, err := p.Begin(t.Context()); err == nil || !strings.Contains(err.Error(), "cannot be asked") {
		t.Errorf("%v", err)
	}
}

func TestClientsAreChecked(t *testing.T) {
	for issuer, says := range map[string]string{"https://login.example/tenant": "", "http://127.0.0.1:9000": "",
		"http://login.example": "by https", "login.example": "is no issuer", "ftp://login.example": "is no issuer",
		"https://login.example?x=1": "is no issuer"} {
		c := openid.Client{Issuer: issuer, ID: "inkret"}
		if err := c.Check(); says == "" && err != nil || says != "" &&
			(err == nil || !strings.Contains(err.Error(), says)) {
			t.Errorf("%s: %v", issuer, err)
		}
	}
	if c := (openid.Client{Issuer: "https://login.example"}); c.Check() == nil {
		t.Error("a client without an id is one")
	}
}
