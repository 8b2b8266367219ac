package base

import (
	"context"
	"errors"

	"inkret/store"
)

// Person finds a person by number; that there is none is a [Problem].
func (s *Base) Person(ctx context.Context, id int64) (store.Person, error) {
	p, err := s.store.PersonByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return p, NewProblem(Invalid, "inkret person list shows everybody", "there is nobody of number %d", id)
	}
	return p, err
}

// ShownName is how somebody is shown: by name, or who has none yet by address.
func ShownName(p store.Person) string {
	if p.Name == "" {
		return p.Email
	}
	return p.Name
}

// Note puts on the trail what somebody did.
func (s *Base) Note(ctx context.Context, who Caller, action, subject, detail string) error {
	return s.store.AddTrail(ctx, s.Did(who, action, subject, detail))
}

// PersonByEmail finds a person.
func (s *Base) PersonByEmail(ctx context.Context, email string) (store.Person, error) {
	p, err := s.store.PersonByEmail(ctx, email)
	if errors.Is(err, store.ErrNotFound) {
		return p, NewProblem(Invalid, "", "there is nobody with the e-mail address %s", email)
	}
	return p, err
}
