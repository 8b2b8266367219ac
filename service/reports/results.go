package reports

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/store"
)

// Results of checks in pipelines, compared with the main line.

// ResultView is a result compared with the main line at the time it was received.
type ResultView struct {
	store.Result
	Against *store.Result // nil: the main line had no result
	finding.Difference
	States map[string]string // of those findings that are tracked here, by fingerprint
}

// mostChecked limits how many findings a result may have.
const mostChecked = 50_000

var printForm = regexp.MustCompile(`^[0-9a-f]{16}$`)

// SendResult stores the result of a check in a pipeline.
func (s *Reports) SendResult(ctx context.Context, who base.Caller, r store.Result) (ResultView, error) {
	if r.Line = strings.TrimSpace(r.Line); r.Line == "" {
		return ResultView{}, base.NewProblem(base.Invalid, "", "a result is of a line of development, as in main")
	}
	if u, err := url.Parse(r.Link); r.Link != "" && (err != nil || u.Host == "" || u.Scheme != "http" &&
		u.Scheme != "https") {
		return ResultView{}, base.NewProblem(base.Invalid, "", "the link is no address of http or https")
	}
	if len(r.Findings) > mostChecked {
		return ResultView{}, base.NewProblem(base.Invalid, "leave light ones out", "a result has at most %d findings",
			mostChecked)
	}
	r.BySeverity = make([]int, severity.Critical+1)
	seen := map[string]bool{}
	for _, f := range r.Findings {
		if _, ok := kind.Parse(f.Kind); !ok {
			return ResultView{}, base.NewProblem(base.Invalid, "check with a program of the service's version",
				"no finding is a %q",
				f.Kind)
		}
		if !printForm.MatchString(f.Fingerprint) {
			return ResultView{}, base.NewProblem(base.Invalid, "", "%q is no fingerprint: it has 16 hexadecimal digits",
				f.Fingerprint)
		}
		if seen[f.Fingerprint] {
			return ResultView{}, base.NewProblem(base.Invalid, "", "the finding %s is told twice", f.Fingerprint)
		}
		seen[f.Fingerprint] = true
		r.BySeverity[f.Severity]++
	}
	slices.SortStableFunc(r.Findings, func(a, b finding.Checked) int { return cmp.Compare(b.Severity, a.Severity) })
	r.Author, r.At = base.ShownName(who.Person), s.base.Now()
	r, err := s.store.AddResult(ctx, r, func(r store.Result) store.TrailEntry {
		return s.base.Did(who, "send result", fmt.Sprintf("result %d", r.ID), r.Service+" on "+r.Line)
	})
	if err != nil {
		return ResultView{}, base.Found(base.Plain(err), "service %q", r.Service)
	}
	s.base.Log.Info("result kept", "result", r.ID, "service", r.Service, "findings", len(r.Findings), "person", who.ID)
	return s.held(ctx, r)
}

// Result returns one result.
func (s *Reports) Result(ctx context.Context, id int64) (ResultView, error) {
	r, err := s.store.ResultByID(ctx, id)
	if err != nil {
		return ResultView{}, base.Found(err, "result %d", id)
	}
	return s.held(ctx, r)
}

// held compares a result with the main line at the time it was received.
func (s *Reports) held(ctx context.Context, r store.Result) (ResultView, error) {
	v := ResultView{Result: r}
	if c := r.Compared; c != nil {
		v.Against = c.Against
		fresh := map[string]bool{}
		for _, id := range c.Fresh {
			fresh[id] = true
		}
		v.Difference = finding.Difference{Fresh: []finding.Checked{}, Same: []finding.Checked{}, Gone: c.Gone}
		for _, f := range r.Findings {
			if fresh[f.Fingerprint] {
				v.Fresh = append(v.Fresh, f)
			} else {
				v.Same = append(v.Same, f)
			}
		}
	} else {
		before, err := s.store.MainBefore(ctx, r.Service, r.ID)
		if err == nil {
			v.Against = &before
		} else if !errors.Is(err, store.ErrNotFound) {
			return v, err
		}
		v.Difference = finding.Against(before.Findings, r.Findings)
	}
	var err error
	ids := make([]string, 0, len(r.Findings)+len(v.Gone))
	for _, all := range [][]finding.Checked{r.Findings, v.Gone} {
		for _, f := range all {
			ids = append(ids, f.Fingerprint)
		}
	}
	v.States, err = s.store.FindingStates(ctx, ids)
	return v, err
}

// DropResult deletes a result.
func (s *Reports) DropResult(ctx context.Context, who base.Caller, id int64) error {
	return base.Found(s.store.DropResult(ctx, id, s.base.Did(who, "drop result", fmt.Sprintf("result %d", id), "")),
		"result %d",
		id)
}

// SetMainLine sets the line that a service's results are compared with.
func (s *Reports) SetMainLine(ctx context.Context, who base.Caller, service, line string) error {
	if line = strings.TrimSpace(line); line == "" {
		return base.NewProblem(base.Invalid, "", "the main line has a name")
	}
	return base.Found(s.store.SetMainLine(ctx, service, line, s.base.Did(who, "set main line", service, line)),
		"service %q",
		service)
}
