package httpapi

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/labstack/echo/v5"

	"inkret/api"
	"inkret/core/place"
	"inkret/service/base"
)

// validated checks a request against the description: path, query and body. Anything unknown is refused instead of
// ignored: a misspelled filter would list everything, and a misspelled `try` would make a real change.
func validated(op *api.Operation) echo.MiddlewareFunc {
	raw := false // a stream, which is read by who takes it
	if body := op.Route.Operation.RequestBody; body != nil {
		for _, streamed := range []string{"application/octet-stream", "multipart/form-data"} {
			raw = raw || body.Value.Content[streamed] != nil
		}
	}
	// Handlers bind exactly what was validated, except the values of contract edits, whose members keep their
	// order. Names in other capitals are refused as unknown.
	options := &openapi3filter.Options{ExcludeRequestBody: raw,
		AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, SkipSettingDefaults: true,
		KeepValidatedValue: op.ID != "tryContracts"}
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			r := c.Request()
			query, err := url.ParseQuery(r.URL.RawQuery)
			if err != nil {
				return refused("", "the query of the address cannot be read: a percent sign is followed by two "+
					"hexadecimal digits, and pairs are separated by &")
			}
			for name, values := range query {
				if op.Any && !op.HasQuery(name) {
					continue
				}
				if !op.HasQuery(name) {
					return unknownParameter(op, name)
				}
				if len(values) > 1 && !listed(op, name) {
					return refused("", "the parameter %s is there %d times; give it once", name, len(values))
				}
			}
			path := map[string]string{}
			for _, value := range c.PathValues() {
				if path[value.Name], err = plainSegment(r, value.Value); err != nil {
					return echo.ErrNotFound
				}
			}
			input := &openapi3filter.RequestValidationInput{Request: r, QueryParams: query, PathParams: path,
				Route: op.Route, Options: options}
			if err := openapi3filter.ValidateRequest(r.Context(), input); err != nil {
				return wrongRequest(op, err)
			}
			return next(c)
		}
	}
}

// plainSegment decodes escapes that the router left in a path segment.
func plainSegment(r *http.Request, text string) (string, error) {
	if r.URL.RawPath == "" {
		return text, nil
	}
	return url.PathUnescape(text)
}

func listed(op *api.Operation, name string) bool {
	i := slices.IndexFunc(op.Query, func(p *openapi3.Parameter) bool { return p.Name == name })
	return op.Query[i].Schema.Value.Type.Is(openapi3.TypeArray)
}

// invalid returns the problem of an invalid request.
func invalid(detail string) error { return refused("", "%s", detail) }

func refused(next, format string, a ...any) *base.Problem {
	return &base.Problem{Code: base.Invalid, Detail: fmt.Sprintf(format, a...), Next: next}
}

func unknownParameter(op *api.Operation, name string) error {
	var known []string
	for _, p := range op.Query {
		known = append(known, p.Name)
	}
	slices.Sort(known)
	if len(known) == 0 {
		return refused("", "there is no parameter %q here; this address takes none", short(name))
	}
	return refused("use one of: "+strings.Join(known, ", "), "there is no parameter %q here", short(name))
}

// short shortens input before it is repeated in an error.
func short(text string) string {
	const most = 60
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return text
}

// wrongRequest says in plain words what the description forbids, and where.
func wrongRequest(op *api.Operation, err error) error {
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		return tooLarge
	case errors.Is(err, os.ErrDeadlineExceeded):
		return os.ErrDeadlineExceeded
	}
	var request *openapi3filter.RequestError
	var schema *openapi3.SchemaError
	switch {
	case errors.As(err, &request) && request.Parameter != nil:
		what := "the parameter " + request.Parameter.Name
		switch {
		case errors.As(err, &schema):
			return refused("", "%s %s", what, wrongValue(schema))
		case errors.Is(request.Err, openapi3filter.ErrInvalidRequired):
			return refused("", "%s is missing", what)
		}
		return refused("", "%s %s", what, wrongValue(&openapi3.SchemaError{SchemaField: "type",
			Schema: request.Parameter.Schema.Value}))
	case errors.As(err, &schema):
		return wrongMember(schema)
	case request != nil && errors.Is(request.Err, openapi3filter.ErrInvalidRequired):
		return refused("", "the request has no body, and %s needs one", op.ID)
	case request != nil && strings.Contains(request.Reason, "Content-Type"):
		return &base.Problem{Code: base.Unreadable, Detail: "the body must be sent as application/json"}
	}
	return refused("", "the body is not JSON")
}

// wrongMember names a member of the body and what is wrong with it.
func wrongMember(e *openapi3.SchemaError) error {
	var at []byte
	for _, step := range e.JSONPointer() {
		at = place.AppendPointer(at, []byte(step))
	}
	where := short(string(at))
	switch e.SchemaField {
	case "properties":
		if sent, ok := e.Value.(map[string]any); ok {
			for _, name := range slices.Sorted(maps.Keys(sent)) {
				if e.Schema.Properties[name] == nil {
					where = short(string(place.AppendPointer(at, []byte(name))))
					break
				}
			}
		}
		return refused("use one of: "+strings.Join(slices.Sorted(maps.Keys(e.Schema.Properties)), ", "),
			"there is no member %s here", where)
	case "required":
		return refused("", "the body lacks the member %s", where)
	}
	if where == "" {
		return refused("", "the body %s", wrongValue(e))
	}
	return refused("", "the member %s %s", where, wrongValue(e))
}

// wrongValue says what a value must be.
func wrongValue(e *openapi3.SchemaError) string {
	s := e.Schema
	switch e.SchemaField {
	case "enum":
		var all []string
		for _, v := range s.Enum {
			all = append(all, fmt.Sprint(v))
		}
		return "must be one of: " + strings.Join(all, ", ")
	case "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum":
		switch {
		case s.Min != nil && s.Max != nil:
			return fmt.Sprintf("must be between %s and %s", plainNumber(*s.Min), plainNumber(*s.Max))
		case s.Min != nil:
			return "must be at least " + plainNumber(*s.Min)
		}
		return "must be at most " + plainNumber(*s.Max)
	case "minLength":
		if s.MinLength == 1 {
			return "must not be empty"
		}
		return fmt.Sprintf("must have at least %d characters", s.MinLength)
	case "maxLength":
		return fmt.Sprintf("must have at most %d characters", *s.MaxLength)
	case "minItems":
		if s.MinItems == 1 {
			return "must not be empty"
		}
		return fmt.Sprintf("must have at least %d elements", s.MinItems)
	case "maxItems":
		return fmt.Sprintf("must have at most %d elements", *s.MaxItems)
	case "pattern":
		if s.Description != "" {
			return "must be as described: " + s.Description
		}
		return "has a form that is not allowed here"
	case "format":
		return "must be a " + s.Format
	case "nullable":
		return "must not be null"
	case "type":
		if s != nil && s.Type != nil && len(s.Type.Slice()) > 0 {
			name := s.Type.Slice()[0]
			if s.Format == "date-time" || s.Format == "date" {
				name = s.Format
			}
			return "must be " + article(name)
		}
	}
	return "is not as the description has it"
}

func plainNumber(n float64) string { return strconv.FormatFloat(n, 'f', -1, 64) }

func article(noun string) string {
	if strings.ContainsRune("aeiou", rune(noun[0])) {
		return "an " + noun
	}
	return "a " + noun
}
