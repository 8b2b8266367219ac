// Package findings is what the team does with findings, alone and with many at once: their life, who has them, waivers,
// views and groups. Its main type is [Findings].
package findings

import (
	"inkret/service/base"
	"inkret/service/review"
)

// Findings is what the team does with findings, alone and with many at once. It is safe for concurrent use.
type Findings struct {
	Records
	base   *base.Base
	store  Store
	review *review.Review
}

// New gives the room.
func New(b *base.Base, st Store, r *review.Review) *Findings {
	return &Findings{Records: st, base: b, store: st, review: r}
}
