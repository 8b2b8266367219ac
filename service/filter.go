package service

import (
	"context"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"inkret/core/finding"
	"inkret/core/scan"
	"inkret/store"
)

// Filter reads the query of a list of findings, as in state=new&severity=critical: that of the
// console's address, of a view and of the interface. Where it names no state, those count that
// want work. Its paging is left alone.
func (s *Service) Filter(ctx context.Context, who Caller, q url.Values) (by store.FindingFilter, err error) {
	several := func(name string) []string {
		return strings.FieldsFunc(q.Get(name), func(r rune) bool { return r == ',' || r == ' ' })
	}
	by = store.FindingFilter{Kinds: several("kind"), Audience: q.Get("audience"), Endpoint: q.Get("endpoint"), Team: q.Get("team"), Entity: q.Get("entity"), Field: q.Get("field"),
		Label: strings.ToLower(q.Get("label")), Service: q.Get("service"), Words: q.Get("q"), Sort: q.Get("sort")}
	for name := range q {
		if !slices.Contains(filterNames, name) {
			return by, problem(Invalid, "", "a list of findings has no filter %s", name)
		}
	}
	if by.States, err = statesOf(several("state")); err != nil {
		return by, err
	}
	for _, k := range by.Kinds {
		if _, ok := scan.ParseKind(k); !ok {
			return by, problem(Invalid, "", "there is no kind %s", k)
		}
	}
	for _, name := range several("severity") {
		severity, ok := scan.ParseSeverity(name)
		if !ok {
			return by, problem(Invalid, "", "there is no severity %s", name)
		}
		by.Severities = append(by.Severities, int(severity))
	}
	if by.DueBefore = q.Get("due"); by.DueBefore == "over" {
		by.DueBefore = s.now().UTC().Format(time.DateOnly)
	} else if _, err := time.Parse(time.DateOnly, by.DueBefore); err != nil && by.DueBefore != "" {
		return by, problem(Invalid, "", "due is `over`, or a day such as 2027-03-31")
	}
	if text := q.Get("batch"); text != "" {
		if by.Batch, err = strconv.ParseInt(text, 10, 64); err != nil {
			return by, problem(Invalid, "", "a batch is named by its number")
		}
	}
	if by.Asked = q.Get("waiver") == "asked"; !by.Asked && q.Get("waiver") != "" {
		return by, problem(Invalid, "", "a waiver can be `asked` for")
	}
	by.Value = q.Get("value")
	if shape := q.Get("shape"); shape != "" {
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
			return by, problem(Invalid, "", "no contract has the shape %s", shape)
		}
	}
	switch has := q.Get("assigned"); {
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
		p, err = s.PersonByEmail(ctx, has)
		by.Person = p.ID
	}
	return by, err
}

var filterNames = []string{"state", "severity", "kind", "audience", "endpoint", "team", "entity", "field", "assigned", "label", "service", "due", "waiver", "shape", "value", "q", "batch", "sort", "page", "size"}

// statesOf reads the states of a filter: names, `open` for all that want work, which is also
// what none means, and `any`, which narrows nothing.
func statesOf(names []string) ([]string, error) {
	if len(names) == 0 {
		names = []string{"open"}
	}
	var out []string
	for _, name := range names {
		known := name == "any" || name == "open"
		for _, s := range finding.States() {
			known = known || string(s) == name
			if name == "open" && s.Open() {
				out = append(out, string(s))
			}
		}
		switch {
		case !known:
			return nil, problem(Invalid, "", "there is no state %s", name)
		case name == "any":
			return nil, nil
		case name != "open":
			out = append(out, name)
		}
	}
	return out, nil
}
