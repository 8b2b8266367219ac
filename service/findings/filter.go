package findings

import (
	"context"
	"net/url"
	"slices"
	"strings"
	"time"

	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/store"
)

// Filter parses the query of a list of findings, as in state=new&severity=critical, and looks up the people and
// shapes that it names.
func (s *Findings) Filter(ctx context.Context, who base.Caller, values url.Values) (by store.FindingFilter, err error) {
	q, err := finding.ParseQuery(values)
	if err != nil {
		return by, base.NewProblem(base.Invalid, "", "%s", err.Error())
	}
	by = store.FindingFilter{States: q.InStates(), Kinds: q.Kinds, Audience: q.Audience, Endpoint: q.Endpoint,
		Team: q.Team, Entity: q.Entity, Field: q.Field,
		Label: strings.ToLower(q.Label), Service: q.Service, Words: q.Words, Sort: q.Sort, Batch: q.Batch,
		Asked: q.Waiver != "", Doubted: q.Proof != "", Value: q.Value, DueBefore: q.Due}
	for _, name := range q.Severities {
		severity, _ := severity.Parse(name)
		by.Severities = append(by.Severities, int(severity))
	}
	if q.Due == "over" {
		by.DueBefore = s.base.Now().UTC().Format(time.DateOnly)
	}
	if shape := q.Shape; shape != "" {
		shapes, err := s.allShapes(ctx)
		if err != nil {
			return by, err
		}
		for at, name := range shapes {
			if name == shape || strings.HasSuffix(name, "/"+shape) {
				by.Places = append(by.Places, at)
			}
		}
		if slices.Sort(by.Places); len(by.Places) == 0 {
			return by, base.NewProblem(base.Invalid, "", "no contract has the shape %s", shape)
		}
	}
	switch has := q.Assigned; {
	case has == "":
	case has == "nobody":
		by.Person = -1
	case has == "left":
		by.Left = true
	case has == "me":
		by.Person = who.ID
	case strings.HasPrefix(has, "team:"):
		by.Assigned = strings.TrimPrefix(has, "team:")
	default:
		var p store.Person
		p, err = s.base.PersonByEmail(ctx, has)
		by.Person = p.ID
	}
	return by, err
}
