// Package evidence handles captures: receiving recordings, as a whole or live, keeping and purging their bodies,
// evaluating them again, withdrawing them, and sending calls again. Its main type is [Evidence].
package evidence

import (
	"sync"

	"inkret/service/base"
	"inkret/service/review"
	"inkret/service/vault"
)

// Evidence handles captures. It is safe for concurrent use.
type Evidence struct {
	Records
	base   *base.Base
	store  Store
	vault  *vault.Vault
	review *review.Review
	print  func(value []byte) uint64 // a keyed hash

	mu       sync.Mutex           // guards growing and watching
	growing  map[int64]*liveBatch // that recorders add to
	watching map[int64]bool       // watches that run
	hub      hub
}

// New returns the room. print is a keyed hash that recognises equal values without storing them.
func New(b *base.Base, st Store, v *vault.Vault, r *review.Review, print func(value []byte) uint64) *Evidence {
	return &Evidence{Records: st, base: b, store: st, vault: v, review: r, print: print,
		growing: map[int64]*liveBatch{}}
}
