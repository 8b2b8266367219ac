// Package openid implements sign-in with an OpenID Connect provider (OpenID Connect Core 1.0), by the authorization
// code flow with PKCE (RFC 7636).
package openid

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// Client is this service as registered with the provider.
type Client struct {
	Issuer string // as https://login.example
	ID     string
	Secret string
	Name   string // of the provider, for people
}

// Check validates a client before anybody signs in.
func (c *Client) Check() error {
	u, err := url.Parse(c.Issuer)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.RawQuery != "" ||
		u.Fragment != "":
		return fmt.Errorf("%q is no issuer; one is written https://login.example", c.Issuer)
	case u.Scheme == "http" && u.Hostname() != "127.0.0.1" && u.Hostname() != "localhost":
		return errors.New("an issuer is reached by https")
	case c.ID == "":
		return errors.New("the client's id is missing")
	}
	return nil
}

// Provider identifies people by one provider. It is safe for concurrent use. The provider's configuration is
// fetched when it is first needed, so the service starts without the provider.
type Provider struct {
	client   Client
	redirect string

	mu    sync.Mutex // guards found
	found *oidc.Provider
}

// New returns a provider whose responses are redirected to the given address.
func New(c Client, redirect string) *Provider { return &Provider{client: c, redirect: redirect} }

// Name returns the display name of the provider.
func (p *Provider) Name() string { return p.client.Name }

// patience is how long the provider may take to answer.
const patience = 10 * time.Second

func (p *Provider) discover(ctx context.Context) (*oidc.Provider, *oauth2.Config, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found == nil {
		found, err := oidc.NewProvider(ctx, p.client.Issuer)
		if err != nil {
			return nil, nil, fmt.Errorf("the provider cannot be asked: %w", err)
		}
		p.found = found
	}
	return p.found, &oauth2.Config{ClientID: p.client.ID, ClientSecret: p.client.Secret, Endpoint: p.found.Endpoint(),
		RedirectURL: p.redirect, Scopes: []string{oidc.ScopeOpenID, "email", "profile"}}, nil
}

// client limits how long a response may take. Keys are fetched later with the context of the first request, which
// must not end with that request.
func patient(ctx context.Context) context.Context {
	return oidc.ClientContext(context.WithoutCancel(ctx), &http.Client{Timeout: patience})
}

// Ticket is the state of a sign-in between Begin and Finish. Keep it secret.
type Ticket struct {
	State    string `json:"state"`
	Nonce    string `json:"nonce"`
	Verifier string `json:"verifier"`
}

func random() string {
	b := make([]byte, 32)
	rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// Begin returns the provider's address for signing in, and the ticket.
func (p *Provider) Begin(ctx context.Context) (string, Ticket, error) {
	_, config, err := p.discover(patient(ctx))
	if err != nil {
		return "", Ticket{}, err
	}
	t := Ticket{State: random(), Nonce: random(), Verifier: oauth2.GenerateVerifier()}
	return config.AuthCodeURL(t.State, oidc.Nonce(t.Nonce), oauth2.S256ChallengeOption(t.Verifier)), t, nil
}

// Identity is a person as identified by the provider.
type Identity struct {
	Subject  string // the provider's own name for them, which stays
	Email    string
	Verified bool // that the address is theirs
	Name     string
}

// ErrForged is returned for a response that does not belong to the request.
var ErrForged = errors.New("the answer is not to what was asked")

// Finish exchanges state and code, as the browser brought them back, for the person's identity.
func (p *Provider) Finish(ctx context.Context, t Ticket, state, code string) (Identity, error) {
	var who Identity
	if t.State == "" || subtle.ConstantTimeCompare([]byte(t.State), []byte(state)) != 1 {
		return who, ErrForged
	}
	ctx = patient(ctx)
	provider, config, err := p.discover(ctx)
	if err != nil {
		return who, err
	}
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(t.Verifier))
	if err != nil {
		return who, fmt.Errorf("the provider does not take the code: %w", err)
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := provider.Verifier(&oidc.Config{ClientID: p.client.ID}).Verify(ctx, raw)
	if err != nil {
		return who, fmt.Errorf("%w: %w", ErrForged, err)
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(t.Nonce)) != 1 {
		return who, ErrForged
	}
	var claims struct {
		Email    string `json:"email"`
		Verified bool   `json:"email_verified"`
		Name     string `json:"name"`
	}
	if err := id.Claims(&claims); err != nil {
		return who, fmt.Errorf("%w: %w", ErrForged, err)
	}
	return Identity{id.Subject, claims.Email, claims.Verified, claims.Name}, nil
}
