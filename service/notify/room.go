// Package notify is how people and programs are told of what happens: notices, mail and hooks. Its main type is
// [Notify]. What is told holds no values of captures.
package notify

import (
	"inkret/service/base"
	"inkret/service/findings"
	"inkret/service/vault"
)

// Notify is how people and programs are told of what happens. It is safe for concurrent use.
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

// New gives the room. mail is nil where there is no mail server; digests are sent from digestHour on, UTC.
func New(b *base.Base, st Store, v *vault.Vault, f *findings.Findings, mail Sender, digestHour int) *Notify {
	return &Notify{Records: st, base: b, store: st, vault: v, findings: f, mail: mail, digestHour: digestHour}
}

// ReachedAt says where people reach the service. It is called before the room is used.
func (s *Notify) ReachedAt(public string) { s.public = public }
