// Package reports is trends, reports for auditors, and results of pipelines compared with their main line. Its main
// type is [Reports].
package reports

import (
	"sync"

	"inkret/service/base"
	"inkret/service/findings"
	"inkret/service/review"
)

// Reports is trends, reports and results of pipelines. It is safe for concurrent use.
type Reports struct {
	Records
	base     *base.Base
	store    Store
	review   *review.Review
	findings *findings.Findings

	mu        sync.Mutex         // guards standings
	standings map[stood]Standing // as long as stoodAt is the last event
	stoodAt   int64
}

// New returns the room.
func New(b *base.Base, st Store, r *review.Review, f *findings.Findings) *Reports {
	return &Reports{Records: st, base: b, store: st, review: r, findings: f}
}
