// Package people is who may come in, and how: set-up links, passwords, the second factor, sign-in with a provider,
// sessions and tokens. Its main type is [People]. Of every password, code and token a hash is kept alone.
package people

import (
	"sync"

	"inkret/service/base"
	"inkret/service/vault"
)

// People is who may come in, and how. It is safe for concurrent use.
type People struct {
	Records
	base   *base.Base
	store  Store
	vault  *vault.Vault
	tries  tries
	hasher *hasher

	mu sync.Mutex // guards revocation
	// revocation is closed at the next change of somebody's sessions, tokens or roles
	revocation chan struct{}

	openid OpenID // nil: there is no provider to sign in with
	issuer string
}

// New gives the room.
func New(b *base.Base, st Store, v *vault.Vault) *People {
	return &People{Records: st, base: b, store: st, vault: v, hasher: newHasher(), revocation: make(chan struct{})}
}
