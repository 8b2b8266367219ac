// Package findings is the work of the team on findings, one at a time and in bulk: states, assignment, waivers,
// views and groups. Its main type is [Findings].
package findings

import (
	"inkret/service/base"
	"inkret/service/review"
)

// Findings is the work of the team on findings. It is safe for concurrent use.
type Findings struct {
	Records
	base   *base.Base
	store  Store
	review *review.Review
}

// New returns the room.
func New(b *base.Base, st Store, r *review.Review) *Findings {
	return &Findings{Records: st, base: b, store: st, review: r}
}
