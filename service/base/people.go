package base

import (
	"context"
	"errors"

	"inkret/store"
)

// Person returns the person with a number, or a [Problem] if there is none.
func (s *Base) Person(ctx context.Context, id int64) (store.Person, error) {
	p, err := s.store.PersonByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return p, NewProblem(Invalid, "inkret person list shows everybody", "there is nobody of number %d", id)
	}
	return p, err
}

// ShownName returns a person's name, or their e-mail address if they have not set a name yet.
func ShownName(p store.Person) string {
	if p.Name == "" {
		return p.Email
	}
	return p.Name
}

// Note writes an entry to the trail about something a person did.
func (s *Base) Note(ctx context.Context, who Caller, action, subject, detail string) error {
	return s.store.AddTrail(ctx, s.Did(who, action, subject, detail))
}

// PersonByEmail returns the person with an e-mail address, or a [Problem] if there is none.
func (s *Base) PersonByEmail(ctx context.Context, email string) (store.Person, error) {
	p, err := s.store.PersonByEmail(ctx, email)
	if errors.Is(err, store.ErrNotFound) {
		return p, NewProblem(Invalid, "", "there is nobody with the e-mail address %s", email)
	}
	return p, err
}
