// Package evidence is the captures: how recordings come in, whole or live, what is kept of their bodies and for how
// long, how they are judged anew or withdrawn, and calls that are made again. Its main type is [Evidence].
package evidence

import (
	"sync"

	"inkret/service/base"
	"inkret/service/review"
	"inkret/service/vault"
)

// Evidence is the captures: how they come in, what is kept of them, and calls that are made again. It is safe for
// concurrent use.
type Evidence struct {
	Records
	base   *base.Base
	store  Store
	vault  *vault.Vault
	review *review.Review
	print  func(value []byte) uint64 // a keyed hash

	mu      sync.Mutex           // guards growing
	growing map[int64]*liveBatch // that recorders add to
	hub     hub
}

// New gives the room. print is a keyed hash by which the same value is known again.
func New(b *base.Base, st Store, v *vault.Vault, r *review.Review, print func(value []byte) uint64) *Evidence {
	return &Evidence{Records: st, base: b, store: st, vault: v, review: r, print: print,
		growing: map[int64]*liveBatch{}}
}
