package people

import (
	"context"
	"time"

	"inkret/store"
)

// Records are the reads that pass straight through to the store.
type Records interface {
	// People lists all people.
	People(ctx context.Context) ([]store.Person, error)
}

// Store lists the store methods that this package needs.
type Store interface {
	Records
	AddKey(ctx context.Context, hash string, k store.Key, note store.Note[store.Key]) (store.Key, error)
	AddPerson(ctx context.Context, p store.Person, now time.Time, entry store.TrailEntry) (store.Person, error)
	AddSetupCode(ctx context.Context, hash string, personID int64, expires time.Time, entry store.TrailEntry) error
	AddTrail(ctx context.Context, t store.TrailEntry) error
	BindSubject(ctx context.Context, id int64, subject string, name string, entry store.TrailEntry) (store.Person,
		error)
	ChangePerson(ctx context.Context, id int64, change func(p *store.Person), check func(all []store.Person) error,
		entry store.TrailEntry) (store.Person, error)
	EndKey(ctx context.Context, id int64, personID int64, note store.Note[store.Key]) error
	Essential(ctx context.Context, do func() error) error
	Invite(ctx context.Context, p store.Person, hash string, now time.Time, expires time.Time,
		entry store.TrailEntry) (store.Person, error)
	Keeping(ctx context.Context, service string) (store.Keeping, error)
	KeyByHash(ctx context.Context, hash string) (store.Key, store.Person, error)
	KeyByID(ctx context.Context, id int64) (store.Key, store.Person, error)
	Keys(ctx context.Context, personID int64, kind string, now time.Time) ([]store.Key, error)
	PersonByEmail(ctx context.Context, email string) (store.Person, error)
	PersonBySubject(ctx context.Context, subject string) (store.Person, error)
	RecoveryLeft(ctx context.Context, id int64) (n int, err error)
	ResealFactor(ctx context.Context, id int64, sealed []byte) error
	SetFactor(ctx context.Context, id int64, sealed []byte, on bool, recovery []string, entry *store.TrailEntry) error
	SetPassword(ctx context.Context, id int64, password string, but int64, entry store.TrailEntry) error
	SetupCode(ctx context.Context, hash string, now time.Time) (store.Person, error)
	TouchKey(ctx context.Context, id int64, now time.Time) error
	UseRecovery(ctx context.Context, id int64, hash string, entry store.TrailEntry) error
	UseSetupCode(ctx context.Context, hash string, p store.Person, tokens bool, now time.Time,
		note store.Note[store.Person]) (store.Person, error)
	UseStep(ctx context.Context, id int64, step int64) error
}
