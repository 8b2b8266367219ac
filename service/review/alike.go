package review

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"inkret/core/contract"
	"inkret/core/document"
	"inkret/core/revise"
	"inkret/service/base"
	"inkret/store"
)

// Alike is a set of endpoints without a contract that look like one.
type Alike struct {
	Endpoint  string   // as a contract would write it
	Endpoints []string // that it would cover
	Captures  int      // of these
}

// mostCompared limits how many captures without a contract, newest first, are compared.
const mostCompared = 2_000

// Alike proposes which endpoints without a contract are one, by what was recorded of them.
func (s *Review) Alike(ctx context.Context, service string) ([]Alike, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return nil, err
	}
	unknown, err := s.unknown(ctx, service)
	if err != nil || len(unknown) < 2 {
		return []Alike{}, err
	}
	var ids []string
	for _, e := range unknown {
		ids = append(ids, e.ID)
	}
	sketch, err := s.sketchOf(ctx, service, f.Contracts, ids, mostCompared)
	if err != nil {
		return nil, err
	}
	all := []Alike{}
	for _, op := range sketch.Operations {
		one := covered(op.Method+" "+op.Path, unknown)
		if len(one.Endpoints) > 1 {
			all = append(all, one)
		}
	}
	slices.SortStableFunc(all, func(a, b Alike) int { return len(b.Endpoints) - len(a.Endpoints) })
	return all, nil
}

// unknown lists the endpoints of a service that have no contract.
func (s *Review) unknown(ctx context.Context, service string) ([]store.Endpoint, error) {
	all, err := s.store.AllEndpoints(ctx, service)
	return slices.DeleteFunc(all, func(e store.Endpoint) bool { return e.Known }), err
}

// covered returns which of the endpoints a template would cover.
func covered(template string, all []store.Endpoint) Alike {
	out := Alike{Endpoint: template}
	for _, e := range all {
		if covers(template, e.Text) {
			out.Endpoints = append(out.Endpoints, e.Text)
			out.Captures += e.Captures
		}
	}
	slices.Sort(out.Endpoints)
	return out
}

// covers reports whether a template stands for an endpoint that was seen: segment by segment the same, or a parameter.
func covers(template, endpoint string) bool {
	a, b := strings.Split(template, "/"), strings.Split(endpoint, "/")
	return slices.EqualFunc(a, b, func(t, s string) bool {
		return t == s || strings.HasPrefix(t, "{") && strings.HasSuffix(t, "}") && s != "" ||
			contract.Unescaped(t) == contract.Unescaped(s)
	})
}

// MakeOne puts contracts in force with one endpoint more, which grants nothing yet, and which covers several
// that had no contract. Their findings, with all that was decided of them, become those of the one.
func (s *Review) MakeOne(ctx context.Context, who base.Caller, service, endpoint string) (store.Revision, error) {
	f, err := s.base.Contracts(ctx, service)
	if err != nil {
		return store.Revision{}, err
	}
	unknown, err := s.unknown(ctx, service)
	if err != nil {
		return store.Revision{}, err
	}
	one := covered(endpoint, unknown)
	if len(one.Endpoints) == 0 {
		return store.Revision{}, base.NewProblem(base.NotFound, "write it as in GET /users/{user_id}",
			"%q covers no endpoint without a contract", endpoint)
	}
	files, c := f.Revision.Files, f.Contracts
	last := files[len(files)-1].Name
	for _, e := range c.Endpoints {
		last = e.Pos.File
	}
	entry := (&document.Value{Kind: document.Map, Block: true}).Set("endpoint", document.Text(endpoint))
	edited, err := revise.Apply(base.ContractFiles(files), revise.AddEndpoint(c, last, entry))
	if err != nil {
		return store.Revision{}, base.NewProblem(base.Invalid, "", "%v", err)
	}
	r, _, err := s.Apply(ctx, who, service, Proposed{Files: storedFiles(edited), Base: f.Revision.Number,
		Reason: fmt.Sprintf("%d addresses without a contract are one endpoint, %s", len(one.Endpoints), endpoint)})
	return r, err
}
