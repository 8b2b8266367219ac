package service

import (
	"context"
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
	Key store.Key
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

// notIn is the problem of who may not do something at a service.
func (c *Caller) notIn(service, needed string) *Problem {
	if !c.changes(service) {
		return problem(Forbidden, "make a token for it", "this token is for the service %s and changes nothing at %s", c.Key.Service, service)
	}
	return problem(Forbidden, "ask an administrator for it", "this needs the role %s at %s; yours is %s", needed, service, c.RoleIn(service))
}

// Admit lets a caller do what needs a role and a scope, at the service of what a path names:
// the names and values of its parameters. Where it names nothing of a service, the role is the
// one that the caller has everywhere, or, where each says that the use case looks closer, has
// anywhere.
func (s *Service) Admit(ctx context.Context, c *Caller, role, scope string, each bool, path map[string]string) error {
	if !Covers(c.Key.Scope, scope) {
		return problem(Forbidden, "make a token with the scope "+scope, "this token's scope is %s, and this needs %s", c.Key.Scope, scope)
	}
	if role == Viewer && scope == ScopeRead {
		return nil // everybody may see everything
	}
	at, found := path["service"], path["service"] != ""
	for name, id := range path {
		if what, isID := strings.CutSuffix(name, "_id"); isID {
			if service, err := s.store.ServiceOf(ctx, what, id); err == nil {
				at, found = service, true
			}
		}
	}
	switch {
	case found && (!c.MayIn(at, role) || scope != ScopeRead && !c.changes(at)):
		return c.notIn(at, role)
	case !found && c.Key.Service != "" && !each:
		return problem(Forbidden, "make a token for all services", "this token is for the service %s alone", c.Key.Service)
	case !found && !each && !May(c.Role, role), each && !c.MaySomewhere(role):
		return problem(Forbidden, "ask an administrator for it", "this needs the role %s; yours is %s", role, c.Role)
	}
	return nil
}
