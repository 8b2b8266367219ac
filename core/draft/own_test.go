package draft

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"slices"
	"testing"

	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/made"
	"inkret/core/observe"
	"inkret/core/schema"
)

// ownTraffic fails if a draft from captures reports anything of them besides what is sensitive, or asked about.
func ownTraffic(t *testing.T, name string, captures []*exchange.Capture) *Draft {
	t.Helper()
	o := observe.New(nil)
	for _, c := range captures {
		o.Add(c)
	}
	sketch := o.Sketch()
	data, err := json.Marshal(sketch)
	d := Write(sketch, Options{Callers: o.Callers()})
	var back schema.Sketch
	if err = errors.Join(err, json.Unmarshal(data, &back)); err != nil {
		t.Fatal(err)
	}
	if Write(&back, Options{Callers: o.Callers()}).Text != d.Text {
		t.Errorf("%s: a sketch that was kept gives another draft", name)
	}
	asked := map[Field]bool{}
	for _, q := range d.Questions {
		for _, f := range q.Concerns {
			asked[f] = true
		}
	}
	for _, f := range findings(read(t, d.Text), captures) {
		switch {
		case f.Kind == kind.SecretValue, f.Kind == kind.PersonalValue, f.Kind == kind.CacheablePrivate,
			f.Kind == kind.UnevenExposure, f.Kind == kind.SensitiveInURL, f.Kind == kind.HeavyExcess:
		case (f.Kind == kind.SensitiveField || f.Kind == kind.UnexpectedField) && asked[Field{f.Entity, f.Field}]:
		default:
			t.Errorf("%s: %s at %s %s, %s: %s\n%s", name, f.Kind, f.Endpoint, f.Path, f.Audience, f.Why, d.Text)
			return d
		}
	}
	return d
}

// signedAs gives a request a token with a role; none for the empty string.
func signedAs(c *exchange.Capture, role string) {
	if role != "" {
		claims := base64.RawURLEncoding.EncodeToString(fmt.Appendf(nil, `{"role":%q}`, role))
		c.Request.Header = append(c.Request.Header, exchange.HeaderField{Name: "Authorization",
			Value: "Bearer e30." + claims + ".x"})
	}
}

// TestADraftFitsItsOwnTraffic drafts from the traffic of an API whose description is not at hand, and of bodies made by
// chance.
func TestADraftFitsItsOwnTraffic(t *testing.T) {
	for seed := range uint64(4) {
		var captures []*exchange.Capture
		r := rand.New(rand.NewPCG(seed, 3))
		made.New(seed).API(30+int(seed)*60).Traffic(3, func(c *exchange.Capture) {
			signedAs(c, []string{"", "skipper", "office"}[r.IntN(3)])
			captures = append(captures, c)
		})
		d := ownTraffic(t, fmt.Sprintf("API %d", seed), captures)
		t.Logf("%d captures: %d endpoints, %d entities, %d questions", len(captures), d.Endpoints, d.Entities,
			len(d.Questions))
	}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 4))
		var captures []*exchange.Capture
		for range 1 + r.IntN(30) {
			path := []string{"/boats", "/boats/7", "/boats/8", "/people/anna", "/people/bert", "/a/b/c", "/",
				"/boats/x1y2z3/logs",
				"/boats/a9b8c7/logs"}[r.IntN(9)]
			c := &exchange.Capture{Request: exchange.Request{Method: []string{"GET", "POST"}[r.IntN(2)],
				URL: &url.URL{Scheme: "https", Host: "a.example", Path: path}}, Response: exchange.Response{
				Status: []int{200, 200, 200, 201, 404, 500}[r.IntN(6)],
				Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}},
				Body:   made.JSON(anything(r, 0))}}
			if c.Request.Method == "POST" {
				c.Request.Header = exchange.Header{{Name: "Content-Type", Value: "application/json"}}
				c.Request.Body = made.JSON(object(r, 0))
			}
			if path == "/boats" && c.Response.Status < 400 {
				c.Response.Body = made.JSON([]any{object(r, 1), object(r, 1)}[:r.IntN(3)])
			}
			signedAs(c, []string{"", "skipper", "office"}[r.IntN(3)])
			captures = append(captures, c)
		}
		if ownTraffic(t, fmt.Sprintf("bodies %d", seed), captures); t.Failed() {
			for _, c := range captures {
				t.Logf("%s %s %d %s", c.Request.Method, c.Request.URL, c.Response.Status, c.Response.Body)
			}
			return
		}
	}
}

// TestDescriptionAndTrafficAreOne drafts from a description of half of an API and the traffic of all of it: the things
// that both show are one, and the traffic fits.
func TestDescriptionAndTrafficAreOne(t *testing.T) {
	for seed := range uint64(3) {
		api := made.New(seed).API(60)
		o := observe.New(nil)
		var captures []*exchange.Capture
		api.Traffic(3, func(c *exchange.Capture) {
			o.Add(c)
			captures = append(captures, c)
		})
		paths, _ := api.Description["paths"].(made.Tree)
		for i, path := range slices.Sorted(maps.Keys(paths)) {
			if i%2 == 0 {
				delete(paths, path)
			}
		}
		s, err := schema.Describe("half.json", made.JSON(api.Description))
		if err != nil {
			t.Fatal(err)
		}
		described := len(s.Objects)
		s.Join(o.Sketch())
		d := Write(s, Options{Callers: o.Callers()})
		t.Logf("%d entities described, %d with traffic", described, len(s.Objects))
		if len(s.Objects) > 2*described {
			t.Errorf("%d entities became %d", described, len(s.Objects))
		}
		for _, f := range findings(read(t, d.Text), captures) {
			switch f.Kind {
			case kind.UnexpectedRelation, kind.MissingField, kind.ValueMismatch, kind.UnknownEndpoint:
				t.Errorf("%s at %s %s: %s", f.Kind, f.Endpoint, f.Path, f.Why)
			}
		}
	}
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 8))
		s, err := schema.Describe("a.yaml", wild(r, 1+r.IntN(10), 1+r.IntN(20)))
		if err != nil {
			continue
		}
		o := observe.New(nil)
		made.New(seed).API(20).Traffic(1, o.Add)
		s.Join(o.Sketch())
		read(t, Write(s, Options{Callers: o.Callers()}).Text)
	}
}

// anything makes a JSON value: objects of few names, so that they recur, with values of all sorts.
func anything(r *rand.Rand, depth int) any {
	n := r.IntN(10)
	switch {
	case depth == 0:
		return object(r, 0)
	case depth > 4 || n < 4:
		return []any{nil, 1, 2.5, "calm", true, "2026-05-04", "", 0, false}[r.IntN(9)]
	case n < 5:
		return []any{[]any{}, []any{1, 2}, []any{"a"}, []any{[]any{1}}, map[string]any{}}[r.IntN(5)]
	case n < 7:
		var all []any
		for range r.IntN(3) {
			all = append(all, anything(r, depth+1))
		}
		return slices.Clip(append([]any{}, all...))
	case n < 8:
		return map[string]any{"17": anything(r, depth+1), "18": anything(r, depth+1)}
	}
	return object(r, depth)
}

func object(r *rand.Rand, depth int) any {
	o := map[string]any{}
	for range 1 + r.IntN(5) {
		o[[]string{"id", "type", "attributes", "_embedded", "_links", "included", "label", "data", "items", "next",
			"part", "hull", "berth", "state", "a b",
			"when"}[r.IntN(16)]] =
			anything(r, depth+1)
	}
	return o
}
