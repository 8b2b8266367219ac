package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"inkret/api"
	"inkret/api/serve"
	"inkret/service/base"
	"inkret/service/people"
)

// Authentication and authorisation, in two steps: before the request body is read, by whether the caller could ever
// run the operation; and after path, query and body are decoded, by the objects that the handler will use.

type callerKey struct{}

// callerOf returns the caller of a request; the zero Caller if nobody is signed in.
func callerOf(ctx context.Context) base.Caller {
	c, _ := ctx.Value(callerKey{}).(base.Caller)
	return c
}

// authenticate identifies the caller and refuses callers who could never run the operation.
func (h *frame) authenticate(op *api.Operation) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			secret := ""
			if scheme, token, ok := strings.Cut(r.Header.Get("Authorization"), " "); ok &&
				strings.EqualFold(scheme, "Bearer") {
				secret = strings.TrimSpace(token)
			} else {
				secret = h.cookieOf(r, sessionCookie)
			}
			var caller base.Caller
			if secret != "" {
				var err error
				if caller, err = h.service.People.Authenticate(r.Context(), secret); err == nil {
					c.SetRequest(r.WithContext(context.WithValue(r.Context(), callerKey{}, caller)))
				} else if op.Role != "none" {
					return err
				}
			}
			if op.Role == "none" {
				return next(c)
			}
			if caller.ID == 0 {
				return &base.Problem{Code: base.Unauthenticated, Type: people.SignedOut,
					Detail: "this needs somebody who is signed in", Next: "sign in: inkret sign-in"}
			}
			if err := actsFor(r, op, caller.ID); err != nil {
				return err
			}
			if err := caller.MayEver(op.Role, op.Scope); err != nil {
				return err
			}
			return next(c)
		}
	}
}

// actingFor is the header in which a page names the person it was opened for.
const actingFor = "Inkret-Acting-For"

// actsFor refuses requests of a page that was opened for another person than the session's. A browser has one
// session for all its tabs.
func actsFor(r *http.Request, op *api.Operation, person int64) error {
	said := r.Header.Get(actingFor)
	if said == "" && op.HasQuery("acting_for") {
		said = r.URL.Query().Get("acting_for")
	}
	if said == "" || said == strconv.FormatInt(person, 10) {
		return nil
	}
	return &base.Problem{Code: base.Unauthenticated, Type: people.OtherPerson,
		Detail: "this page belongs to somebody else than the one who is signed in",
		Next:   "sign in again, or reload the page"}
}

// admission checks permissions for the objects named in the decoded path.
func (h *frame) admission(operations []api.Operation) serve.StrictMiddlewareFunc {
	byName := map[string]*api.Operation{}
	for i := range operations {
		byName[strings.ToUpper(operations[i].ID[:1])+operations[i].ID[1:]] = &operations[i]
	}
	return func(next serve.StrictHandlerFunc, operation string) serve.StrictHandlerFunc {
		op := byName[operation]
		if op == nil {
			return func(*echo.Context, any) (any, error) {
				return nil, fmt.Errorf("the description has no operation %s", operation)
			}
		}
		if op.Role == "none" {
			return next
		}
		return func(c *echo.Context, request any) (any, error) {
			ctx := c.Request().Context()
			caller := callerOf(ctx)
			if err := h.service.Base.Admit(ctx, &caller, base.Need{Role: op.Role, Scope: op.Scope, Each: op.Each,
				New: op.New}, named(op, request)); err != nil {
				return nil, err
			}
			return next(c, request)
		}
	}
}

// named returns the decoded path parameters of an operation.
func named(op *api.Operation, request any) map[string]string {
	names := make(map[string]string, len(op.Names))
	v := reflect.ValueOf(request)
	for i := range v.NumField() {
		if name := v.Type().Field(i).Tag.Get("json"); name != "" && slices.Contains(op.Names, name) {
			names[name] = fmt.Sprint(v.Field(i).Interface())
		}
	}
	return names
}
