package demo

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Account is a person known to the stand-in provider.
type Account struct {
	Subject, Name, Email string
	Verified             bool // that the address is theirs
}

// Provider is a stand-in OpenID Connect provider that lets people choose who they are. It supports the
// authorization code flow with PKCE and signs with ES256.
type Provider struct {
	Issuer, ClientID, ClientSecret string
	Accounts                       []Account

	key *ecdsa.PrivateKey

	mu    sync.Mutex // guards codes and spoil
	codes map[string]asked
	spoil func(claims map[string]any)
}

// Spoil changes the claims of the next identity token, to test how a service reacts.
func (p *Provider) Spoil(change func(claims map[string]any)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.spoil = change
}

// asked is a pending sign-in.
type asked struct {
	account          Account
	redirect         string
	nonce, challenge string
}

// NewProvider returns a provider for one service.
func NewProvider(issuer, clientID, clientSecret string, accounts []Account) (*Provider, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	return &Provider{Issuer: issuer, ClientID: clientID, ClientSecret: clientSecret, Accounts: accounts, key: key,
		codes: map[string]asked{}}, err
}

const keyID = "fennick-quay"

func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		writeJSON(w, http.StatusOK, map[string]any{"issuer": p.Issuer, "authorization_endpoint": p.Issuer +
			"/authorize", "token_endpoint": p.Issuer + "/token", "jwks_uri": p.Issuer + "/keys",
			"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
			"id_token_signing_alg_values_supported": []string{"ES256"},
			"code_challenge_methods_supported":      []string{"S256"}})
	case "/keys":
		writeJSON(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &p.key.PublicKey, KeyID: keyID,
			Algorithm: "ES256", Use: "sig"}}})
	case "/authorize":
		p.authorize(w, r.URL.Query())
	case "/token":
		p.token(w, r)
	default:
		http.NotFound(w, r)
	}
}

// authorize lets a person choose an account, and redirects back with a code.
func (p *Provider) authorize(w http.ResponseWriter, q url.Values) {
	if q.Get("client_id") != p.ClientID || q.Get("response_type") != "code" ||
		q.Get("code_challenge_method") != "S256" {
		http.Error(w, "this service is not known", http.StatusBadRequest)
		return
	}
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil || back.Host == "" {
		http.Error(w, "there is no way back", http.StatusBadRequest)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	who := q.Get("as")
	if who == "" {
		fmt.Fprint(w, `<!doctype html><title>Fennick Quay: who are you?</title><link rel="icon" href="data:,"><style>body{font:16px/1.6 system-ui;max-width:26rem;margin:4rem auto}</style><h1>Who are you?</h1><ul>`)
		for i, a := range p.Accounts {
			q.Set("as", strconv.Itoa(i))
			fmt.Fprintf(w, `<li><a href="/authorize?%s">%s</a> <small>%s</small></li>`, html.EscapeString(q.Encode()),
				html.EscapeString(a.Name), html.EscapeString(a.Email))
		}
		q.Set("as", "nobody")
		fmt.Fprintf(w, `</ul><p><a href="/authorize?%s">I do not say</a></p>`, html.EscapeString(q.Encode()))
		return
	}
	answer := back.Query()
	answer.Set("state", q.Get("state"))
	if i, err := strconv.Atoi(who); err == nil && i >= 0 && i < len(p.Accounts) {
		code := make([]byte, 16)
		rand.Read(code)
		text := base64.RawURLEncoding.EncodeToString(code)
		p.mu.Lock()
		p.codes[text] = asked{p.Accounts[i], q.Get("redirect_uri"), q.Get("nonce"), q.Get("code_challenge")}
		p.mu.Unlock()
		answer.Set("code", text)
	} else {
		answer.Set("error", "access_denied")
	}
	back.RawQuery = answer.Encode()
	w.Header().Set("Location", back.String())
	w.WriteHeader(http.StatusSeeOther)
}

// token exchanges a code for an identity token. A code works once.
func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	id, secret, ok := r.BasicAuth()
	if !ok {
		id, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	} else if plain, err := url.QueryUnescape(secret); err == nil { // RFC 6749 section 2.3.1
		secret = plain
	}
	p.mu.Lock()
	got, known := p.codes[r.PostFormValue("code")]
	delete(p.codes, r.PostFormValue("code"))
	spoil := p.spoil
	p.spoil = nil
	p.mu.Unlock()
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	if id != p.ClientID || secret != p.ClientSecret || !known || got.redirect != r.PostFormValue("redirect_uri") ||
		base64.RawURLEncoding.EncodeToString(sum[:]) != got.challenge {
		writeJSON(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant"})
		return
	}
	now := time.Now()
	claims := map[string]any{"iss": p.Issuer, "aud": p.ClientID, "sub": got.account.Subject, "iat": now.Unix(),
		"exp": now.Add(5 * time.Minute).Unix(), "nonce": got.nonce,
		"email": got.account.Email, "email_verified": got.account.Verified, "name": got.account.Name}
	if spoil != nil {
		spoil(claims)
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: p.key},
		(&jose.SignerOptions{}).WithType("JWT").WithHeader("kid", keyID))
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	signed, err := jwt.Signed(signer).Claims(claims).Serialize()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	writeJSON(w, http.StatusOK, map[string]any{"access_token": "none", "token_type": "Bearer", "expires_in": 300,
		"id_token": signed})
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}
