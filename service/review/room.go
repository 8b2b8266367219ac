// Package review handles contracts: revisions and approval, trials, the catalogue of entities and fields, drafts,
// the exposure map, coverage and exposure requests. Its main type is [Review].
package review

import (
	"inkret/service/base"
	"inkret/service/vault"
)

// Review handles contracts. It is safe for concurrent use.
type Review struct {
	Records
	base  *base.Base
	store Store
	vault *vault.Vault
	flows flowCache
	rates rates
}

// New returns the room.
func New(b *base.Base, st Store, v *vault.Vault) *Review {
	return &Review{Records: st, base: b, store: st, vault: v}
}
