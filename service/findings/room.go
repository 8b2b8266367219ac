package findings

import (
	"sync"

	"inkret/service/base"
	"inkret/service/review"
	"inkret/store"
)

// Findings is what the team does with findings, alone and with many at once, and how it stands. It is safe for
// concurrent use.
type Findings struct {
	base   *base.Base
	store  *store.Store
	review *review.Review

	mu        sync.Mutex         // guards standings
	standings map[stood]Standing // as long as stoodAt is the last event
	stoodAt   int64
}

// New gives the room.
func New(b *base.Base, st *store.Store, r *review.Review) *Findings {
	return &Findings{base: b, store: st, review: r}
}
