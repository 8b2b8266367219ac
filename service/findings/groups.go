package findings

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"inkret/core/contract"
	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/store"
)

// Groups of findings with the same cause: one fix, many findings.

// GroupParts lists what findings can be grouped by.
var GroupParts = []string{"field", "shape", "value", "endpoint", "team", "kind"}

// Group is a set of findings with something in common.
type Group struct {
	Name      string                    // what they have in common
	Findings  int                       // how many
	Endpoints int                       // at how many
	Open      map[severity.Severity]int // of those that fit
	Query     string                    // of the list of them: the filter, narrowed
}

const shownGroups = 200

// Groups groups the findings that match a filter. Groups with the most severe findings come first. left is the
// number of groups that were not returned.
func (s *Findings) Groups(ctx context.Context, who base.Caller, q url.Values,
	part string) (groups []Group, left int, err error) {
	if !slices.Contains(GroupParts, part) {
		return nil, 0, base.NewProblem(base.Invalid, "", "findings are gathered by %s, not by %q",
			strings.Join(GroupParts, ", "),
			part)
	}
	by, err := s.Filter(ctx, who, q)
	if err != nil {
		return nil, 0, err
	}
	stored := part
	shapes := map[string]string{}
	if part == "shape" {
		stored = "place"
		if shapes, err = s.allShapes(ctx); err != nil {
			return nil, 0, err
		}
	}
	all, err := s.store.Groups(ctx, by, stored)
	if err != nil {
		return nil, 0, err
	}
	at := map[string]*Group{}
	var order []string
	for _, one := range all {
		key, name := one.Key, one.Name
		if part == "shape" {
			if key = shapes[one.Key]; key == "" {
				continue
			}
			name = key
		}
		g := at[key]
		if g == nil {
			g = &Group{Name: name, Open: map[severity.Severity]int{}, Query: narrowed(q, part, key)}
			at[key] = g
			order = append(order, key)
		}
		g.Findings += one.Findings
		g.Endpoints = max(g.Endpoints, one.Endpoints)
		g.Open[severity.Severity(one.Severity)] += one.Findings
	}
	for _, key := range order {
		g := at[key]
		switch {
		case part == "team" && key == "":
			g.Name = "no team"
		case part == "value":
			n, of, _ := strings.Cut(g.Name, " ")
			if of == "." {
				of = "no known field"
			}
			if g.Name = "one value of " + of; n != "1" {
				g.Name = n + " values of " + of
			}
		}
		groups = append(groups, *g)
	}
	slices.SortStableFunc(groups, func(a, b Group) int {
		for _, level := range severity.All() {
			if c := cmp.Compare(b.Open[level], a.Open[level]); c != 0 {
				return c
			}
		}
		return cmp.Compare(a.Name, b.Name)
	})
	left = max(0, len(groups)-shownGroups)
	return groups[:len(groups)-left], left, nil
}

// narrowed returns the query of a list that shows one group only.
func narrowed(q url.Values, part, key string) string {
	out := url.Values{}
	for name, values := range q {
		if name != "page" && name != "size" && name != "sort" {
			out[name] = values
		}
	}
	switch part {
	case "field":
		entity, field, _ := strings.Cut(key, "\n")
		out.Set("entity", entity)
		out.Set("field", field)
	case "team":
		if out.Set("assigned", "team:"+key); key == "" {
			out.Set("assigned", "nobody")
		}
	default:
		out.Set(part, key)
	}
	return out.Encode()
}

// allShapes returns, for all services, the shape that decides at each place of the contracts. The key is FILE:LINE,
// as findings record it.
func (s *Findings) allShapes(ctx context.Context) (map[string]string, error) {
	services, err := s.store.Services(ctx)
	if err != nil {
		return nil, err
	}
	all := map[string]string{}
	for _, one := range services {
		f, err := s.base.Contracts(ctx, one.Name)
		if err != nil {
			return nil, err
		}
		shapesAt(f.Contracts, one.Name, all)
	}
	return all, nil
}

// shapesAt notes the shape that decides at each place of a service's contracts.
func shapesAt(c *contract.Contracts, service string, into map[string]string) {
	note := func(p contract.Pos, shape string) {
		if shape != "" {
			into[fmt.Sprintf("%s:%d", p.File, p.Line)] = service + "/" + shape
		}
	}
	var walk func(set *contract.GrantSet, within string)
	walk = func(set *contract.GrantSet, within string) {
		if set == nil {
			return
		}
		for _, g := range set.Grants {
			note(g.Pos, cmp.Or(g.ShapeName(), within))
			walk(g.Own(), within)
		}
	}
	for _, shape := range c.Shapes {
		note(shape.Pos, shape.Name)
		walk(shape.Body, shape.Name)
	}
	for _, e := range append(slices.Clone(c.Endpoints), c.Everywhere()) {
		for _, list := range [][]*contract.Response{e.Responses, e.Accepts} {
			for _, r := range list {
				note(r.Pos, r.ShapeName())
				walk(r.Own(), "")
				walk(r.Beside, "")
			}
		}
	}
}

// causes returns what a finding probably comes from.
func (s *Findings) causes(ctx context.Context, f *store.Finding) ([]finding.Cause, error) {
	near, err := s.store.Beside(ctx, *f)
	if err != nil {
		return nil, err
	}
	as := func(f *store.Finding) finding.Beside {
		kind, _ := kind.Parse(f.Kind)
		return finding.Beside{ID: f.ID, Kind: kind, Path: f.Path, Entity: f.Entity, Field: f.Field}
	}
	var open []finding.Beside
	for i := range near {
		if near[i].State != string(finding.Closed) {
			open = append(open, as(&near[i]))
		}
	}
	return finding.Causes(as(f), open), nil
}
