// Package people is sign-in and users: set-up links, passwords, the second factor, OpenID Connect, sessions and
// tokens. Its main type is [People]. Only hashes of passwords, codes and tokens are stored.
package people

import (
	"sync"

	"inkret/service/base"
	"inkret/service/vault"
)

// People is sign-in and users. It is safe for concurrent use.
type People struct {
	Records
	base   *base.Base
	store  Store
	vault  *vault.Vault
	tries  tries
	hasher *hasher

	mu sync.Mutex // guards revocation
	// revocation is closed at the next change of a session, token or role
	revocation chan struct{}

	openid OpenID // nil: there is no provider to sign in with
	issuer string
}

// New returns the room.
func New(b *base.Base, st Store, v *vault.Vault) *People {
	return &People{Records: st, base: b, store: st, vault: v, hasher: newHasher(), revocation: make(chan struct{})}
}
