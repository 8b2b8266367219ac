// Package notify sends people and programs what happens: notifications, mail and webhooks. Its main type is
// [Notify]. Nothing that is sent contains captured values.
package notify

import (
	"inkret/service/base"
	"inkret/service/findings"
	"inkret/service/vault"
)

// Notify sends people and programs what happens. It is safe for concurrent use.
type Notify struct {
	Records
	base     *base.Base
	store    Store
	vault    *vault.Vault
	findings *findings.Findings

	mail       Sender // nil: there is no mail server
	digestHour int
	public     string // where people reach the service, without a slash at its end; set before it runs
}

// New returns the room. mail is nil without a mail server. Digests are sent from digestHour on, in UTC.
func New(b *base.Base, st Store, v *vault.Vault, f *findings.Findings, mail Sender, digestHour int) *Notify {
	return &Notify{Records: st, base: b, store: st, vault: v, findings: f, mail: mail, digestHour: digestHour}
}

// ReachedAt sets the public address of the service. Call it before the room is used.
func (s *Notify) ReachedAt(public string) { s.public = public }
