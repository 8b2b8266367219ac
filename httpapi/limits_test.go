package httpapi

import (
	"slices"
	"strings"
	"testing"

	"inkret/api/wire"
	"inkret/service/base"
)

// TestRolesAndScopesAreThoseOfTheDescription compares those of the code with those of the description.
func TestRolesAndScopesAreThoseOfTheDescription(t *testing.T) {
	for _, role := range []string{base.Viewer, base.Reviewer, base.Lead, base.Administrator} {
		if !wire.Role(role).Valid() || !base.IsRole(role) {
			t.Errorf("the description has no role %q", role)
		}
	}
	scopes := base.Scopes()
	for _, scope := range scopes {
		if !wire.Scope(scope).Valid() {
			t.Errorf("the description has no scope %q", scope)
		}
	}
	if len(slices.Compact(scopes)) != 3 {
		t.Errorf("scopes are %q", scopes)
	}
}

// TestLimitsAreThoseOfTheDescription goes to limits that only the description has, and beyond.
func TestLimitsAreThoseOfTheDescription(t *testing.T) {
	w := newWorld(t)
	long := func(n int) string { return strings.Repeat("é", n) }
	for _, c := range []struct {
		method, path, role string
		body               func(over int) string
		status             int
	}{
		{"PUT", "/api/v1/services/quay/keeping", base.Administrator, func(over int) string {
			return `{"bodies":true,"days":` + []string{"3660", "3661"}[over] + `}`
		}, 200},
		{"PUT", "/api/v1/findings/due", base.Lead, func(over int) string {
			return `{"critical":1,"high":2,"medium":3,"low":4,"info":` + []string{"3650", "3651"}[over] + `}`
		}, 200},
		{"PUT", "/api/v1/findings/due", base.Lead, func(over int) string {
			return `{"critical":` + []string{"0", "-1"}[over] + `,"high":2,"medium":3,"low":4,"info":0}`
		}, 200},
		{"POST", "/api/v1/views", base.Viewer, func(over int) string {
			return `{"name":"` + long(100+over) + `","query":""}`
		}, 201},
		{"POST", "/api/v1/hooks", base.Administrator, func(over int) string {
			return `{"name":"` + long(100+over) + `","url":"https://hooks.example/"}`
		}, 201},
		{"POST", "/api/v1/findings/changes", base.Reviewer, func(over int) string {
			return `{"filter":"state=any","try":true,"team":"` + long(100+over) + `"}`
		}, 200},
		{"POST", "/api/v1/services/quay/live", base.Reviewer, func(over int) string {
			return `{"name":"` + long(300+over) + `"}`
		}, 201},
	} {
		if a := w.call(t, c.method, c.path, w.tokens[c.role], c.body(0)); a.status != c.status {
			t.Errorf("%s %s at its limit: %d %s", c.method, c.path, a.status, a.body)
		}
		if a := w.call(t, c.method, c.path, w.tokens[c.role], c.body(1)); a.status != 400 && a.status != 422 {
			t.Errorf("%s %s over its limit: %d %s", c.method, c.path, a.status, a.body)
		}
	}
}
