package base

import (
	"context"
	"errors"
	"slices"
	"strings"

	"inkret/store"
)

// Roles, each of which may do what those before it may.
const (
	Viewer        = "viewer"
	Reviewer      = "reviewer"
	Lead          = "lead"
	Administrator = "administrator"
)

var rank = map[string]int{Viewer: 1, Reviewer: 2, Lead: 3, Administrator: 4}

// IsRole reports whether there is such a role.
func IsRole(role string) bool { return rank[role] > 0 }

// May reports whether a role may do what needs another.
func May(role, needed string) bool { return rank[role] > 0 && rank[role] >= rank[needed] }

// Scopes of tokens, each of which covers those before it. A session has the last.
const (
	ScopeRead       = "read"
	ScopeRecord     = "record" // send recordings and results of pipelines, too
	ScopeEverything = "everything"
)

// Scopes lists them.
func Scopes() []string { return []string{ScopeRead, ScopeRecord, ScopeEverything} }

// Covers reports whether a scope covers another.
func Covers(scope, needed string) bool {
	return slices.Contains(Scopes(), scope) && slices.Index(Scopes(), scope) >= slices.Index(Scopes(), needed)
}

// Caller is who asks: a person, by a session or a token.
type Caller struct {
	store.Person
	Key store.Key // the session or token that was shown
}

// RoleIn gives what the caller is at a service: what was said for it, or what they are
// everywhere. An administrator is one everywhere.
func (c *Caller) RoleIn(service string) string {
	if at := c.Roles[service]; at != "" && c.Role != Administrator {
		return at
	}
	return c.Role
}

// MayIn reports whether the caller may do at a service what needs a role. A token that is made
// for one service changes nothing at others.
func (c *Caller) MayIn(service, needed string) bool {
	return May(c.RoleIn(service), needed) && (needed == Viewer || c.changes(service))
}

// changes reports whether the token of the caller, where there is one, is made for a service.
func (c *Caller) changes(service string) bool { return c.Key.Service == "" || c.Key.Service == service }

// MaySomewhere reports whether the caller may do what needs a role, at any service at least.
func (c *Caller) MaySomewhere(needed string) bool {
	if May(c.Role, needed) {
		return true
	}
	for _, role := range c.Roles {
		if May(role, needed) {
			return true
		}
	}
	return false
}

// NotIn is the problem of who may not do something at a service.
func (c *Caller) NotIn(service, needed string) *Problem {
	if !c.changes(service) {
		return NewProblem(Forbidden, "make a token for it",
			"this token is for the service %s and changes nothing at %s",
			c.Key.Service, service)
	}
	return NewProblem(Forbidden, "ask an administrator for it", "this needs the role %s at %s; yours is %s", needed,
		service, c.RoleIn(service))
}

// Need is what an operation needs of its caller.
type Need struct {
	Role, Scope string // the least that is needed
	Each        bool   // it may be about several services; the use case looks at each
	New         bool   // the service that it names need not be there yet
}

// MayEver reports, before anything is known of what it is about, whether a caller could do
// something that needs a role and a scope: nil, or a [Problem].
func (c *Caller) MayEver(role, scope string) error {
	if !Covers(c.Key.Scope, scope) {
		return NewProblem(Forbidden, "make a token with the scope "+scope,
			"this token's scope is %s, and this needs %s",
			c.Key.Scope, scope)
	}
	if !c.MaySomewhere(role) {
		return NewProblem(Forbidden, "ask an administrator for it", "this needs the role %s; yours is %s", role, c.Role)
	}
	return nil
}

// ofNoService are the parameters of paths that name what belongs to the whole team or to the
// caller alone; everything else that a path names is of a service.
var ofNoService = map[string]bool{"token_id": true, "session_id": true, "person_id": true, "hook_id": true,
	"delivery_id": true, "mail_id": true, "view_id": true,
	"change_id": true, "endpoint_id": true, "audience": true, "number": true, "chunk": true, "form": true}

// serviceOf gives the service of what a path names, from the decoded values of its
// parameters; none where all of it belongs to the team. What is not there is a [Problem].
func (s *Base) serviceOf(ctx context.Context, names map[string]string, new bool) (string, error) {
	at := ""
	for name, value := range names {
		if ofNoService[name] {
			continue
		}
		what := strings.TrimSuffix(name, "_id")
		of, err := s.store.ServiceOf(ctx, what, value)
		switch {
		case errors.Is(err, store.ErrNotFound) && what != "service":
			return "", NewProblem(NotFound, "", "there is no %s %s", what, value)
		case errors.Is(err, store.ErrNotFound) && !new:
			return "", noService(value)
		case errors.Is(err, store.ErrNotFound):
			of = value
		case err != nil:
			return "", err
		}
		at = of
	}
	return at, nil
}

// Admit decides whether a caller may do what an operation needs, at the service of what its
// path names (the decoded values of its parameters). An operation that names nothing of a service
// needs the role that the caller has everywhere, or anywhere where the use case looks closer. It gives
// nil or a [Problem]: not found for what is not there, whatever the caller's role.
func (s *Base) Admit(ctx context.Context, c *Caller, need Need, names map[string]string) error {
	if err := c.MayEver(need.Role, need.Scope); err != nil {
		return err
	}
	if need.Role == Viewer && need.Scope == ScopeRead {
		return nil // everybody may see everything
	}
	at, err := s.serviceOf(ctx, names, need.New)
	switch {
	case err != nil:
		return err
	case at != "" && (!c.MayIn(at, need.Role) || need.Scope != ScopeRead && !c.changes(at)):
		return c.NotIn(at, need.Role)
	case at == "" && c.Key.Service != "" && !need.Each:
		return NewProblem(Forbidden, "make a token for all services", "this token is for the service %s alone",
			c.Key.Service)
	case at == "" && !need.Each && !May(c.Role, need.Role):
		return NewProblem(Forbidden, "ask an administrator for it", "this needs the role %s; yours is %s", need.Role,
			c.Role)
	}
	return nil
}
