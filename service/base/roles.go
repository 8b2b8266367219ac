package base

import (
	"context"
	"errors"
	"slices"
	"strings"

	"inkret/store"
)

// Roles in ascending order. Each role includes the permissions of those before it.
const (
	Viewer        = "viewer"
	Reviewer      = "reviewer"
	Lead          = "lead"
	Administrator = "administrator"
)

var rank = map[string]int{Viewer: 1, Reviewer: 2, Lead: 3, Administrator: 4}

// IsRole reports whether a role with this name exists.
func IsRole(role string) bool { return rank[role] > 0 }

// May reports whether a role includes the needed one.
func May(role, needed string) bool { return rank[role] > 0 && rank[role] >= rank[needed] }

// Token scopes in ascending order. Each includes those before it. Sessions have the last one.
const (
	ScopeRead       = "read"
	ScopeRecord     = "record" // send recordings and results of pipelines, too
	ScopeEverything = "everything"
)

// Scopes lists the scopes in ascending order.
func Scopes() []string { return []string{ScopeRead, ScopeRecord, ScopeEverything} }

// Covers reports whether a scope includes the needed one.
func Covers(scope, needed string) bool {
	return slices.Contains(Scopes(), scope) && slices.Index(Scopes(), scope) >= slices.Index(Scopes(), needed)
}

// Caller is the person behind a request, and the session or token they used.
type Caller struct {
	store.Person
	Key store.Key // the session or token that was shown
}

// RoleIn returns the caller's role at a service: the role set for that service, or their general role.
// Administrators have their role everywhere.
func (c *Caller) RoleIn(service string) string {
	if at := c.Roles[service]; at != "" && c.Role != Administrator {
		return at
	}
	return c.Role
}

// MayIn reports whether the caller's role at a service includes the needed one. A token bound to one service cannot
// change anything at others.
func (c *Caller) MayIn(service, needed string) bool {
	return May(c.RoleIn(service), needed) && (needed == Viewer || c.changes(service))
}

// changes reports whether the caller's token, if any, may change things at a service.
func (c *Caller) changes(service string) bool { return c.Key.Service == "" || c.Key.Service == service }

// MaySomewhere reports whether the caller has the needed role at one service or more.
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

// NotIn returns the problem for a caller who lacks the needed role at a service.
func (c *Caller) NotIn(service, needed string) *Problem {
	if !c.changes(service) {
		return NewProblem(Forbidden, "make a token for it",
			"this token is for the service %s and changes nothing at %s",
			c.Key.Service, service)
	}
	return NewProblem(Forbidden, "ask an administrator for it", "this needs the role %s at %s; yours is %s", needed,
		service, c.RoleIn(service))
}

// Need is what an operation requires of its caller.
type Need struct {
	Role, Scope string // the least that is needed
	Each        bool   // it may be about several services; the use case looks at each
	New         bool   // the service that it names need not be there yet
}

// MayEver reports whether the caller could pass the role and scope check anywhere. It is cheap and runs before the
// target is looked up. It returns nil or a [Problem].
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

// ofNoService lists the path parameters that name something of the whole team or of the caller. All other
// parameters name something of one service.
var ofNoService = map[string]bool{"token_id": true, "session_id": true, "person_id": true, "hook_id": true,
	"delivery_id": true, "mail_id": true, "view_id": true,
	"change_id": true, "endpoint_id": true, "audience": true, "number": true, "chunk": true, "form": true,
	"draft_id": true}

// serviceOf returns the service that the path's parameters belong to, or the empty string if they belong to the
// team. names holds the decoded values. A missing target is a [Problem].
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

// Admit checks whether a caller may run an operation. The service is found from the path parameters, whose decoded
// values are in names. If they name no service, the caller's general role counts, or any role if the use case
// checks each service itself (Need.Each). Admit returns nil or a [Problem]. A missing target is always "not found",
// whatever the caller's role.
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
