package reports

import (
	"cmp"
	"context"
	"errors"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/store"
)

// Standing holds the trends of findings.
type Standing struct {
	Days      []StandingDay // oldest first
	Proofs    []ProofTime   // findings that are proven mended
	Endpoints []Worst       // worst first
	Fields    []Worst       // worst first
	Teams     []Worst       // worst first

	Weights []finding.WeighedDay // bytes by day
	Savings []Saving             // endpoints with what was saved
}

// Saving is how an endpoint's excess changed since its first capture.
type Saving struct {
	finding.Saving
	Name string // what it is called
}

// StandingDay holds the open findings at the end of a day, by severity, and what was found and ended that day.
type StandingDay struct {
	Day          string                    // as YYYY-MM-DD in UTC
	Open         map[severity.Severity]int // by severity
	Found, Ended int                       // how many came
}

// ProofTime is how long findings of a severity took from report to proof.
type ProofTime struct {
	Severity        severity.Severity // greater is graver; see package severity
	Proofs          int               // how many
	Median, Longest time.Duration     // of the times
}

// Worst is an endpoint, field or team with its open findings by severity.
type Worst struct {
	Name  string                    // what it is called
	Open  map[severity.Severity]int // by severity
	Query string                    // of the list of them
}

const shownWorst = 10

// Standing computes trends over the given number of days up to today.
func (s *Reports) Standing(ctx context.Context, by store.StandingFilter, days int) (Standing, error) {
	written := s.store.Written()
	today := s.base.Now().UTC()
	key := stood{by, days, today.Format(time.DateOnly), written}
	s.mu.Lock()
	known, ok := s.standings[key]
	s.mu.Unlock()
	if ok {
		return known, nil
	}
	out, err := s.standing(ctx, by, today.AddDate(0, 0, -days), key.today)
	if err != nil {
		return out, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.standings == nil || len(s.standings) >= mostStood || s.stoodAt != written {
		s.standings, s.stoodAt = map[stood]Standing{}, written
	}
	s.standings[key] = out
	return out, nil
}

// stood is the key of cached trends. The cache is dropped when anything happens.
type stood struct {
	by      store.StandingFilter
	days    int
	today   string
	written int64
}

// mostStood limits the cache.
const mostStood = 64

func (s *Reports) standing(ctx context.Context, by store.StandingFilter, since time.Time,
	today string) (Standing, error) {
	var out Standing
	var all sync.WaitGroup
	errs := make([]error, 6)
	all.Go(func() {
		turns, err := s.store.Turns(ctx, by)
		out.Days, errs[0] = daysOf(turns, since.Format(time.DateOnly), today), err
	})
	all.Go(func() {
		proofs, err := s.store.Proofs(ctx, by, since)
		out.Proofs, errs[1] = proofTimes(proofs), err
	})
	all.Go(func() { errs[5] = s.saved(ctx, by, since.Format(time.DateOnly), &out) })
	for i, part := range []struct {
		name string
		into *[]Worst
	}{{"endpoint", &out.Endpoints}, {"field", &out.Fields}, {"team", &out.Teams}} {
		all.Go(func() {
			worst, err := s.store.Worst(ctx, by, part.name)
			*part.into, errs[2+i] = worstOf(worst, part.name), err
		})
	}
	all.Wait()
	return out, errors.Join(errs...)
}

// saved computes what was saved since the first captures of each endpoint, from the day first on.
func (s *Reports) saved(ctx context.Context, by store.StandingFilter, first string, out *Standing) error {
	weights, err := s.store.Weights(ctx, by)
	if err != nil {
		return err
	}
	days, savings := finding.Savings(weights)
	for len(days) > 0 && days[0].Day < first {
		days = days[1:]
	}
	out.Weights = days
	const shownEach = shownWorst / 2
	if len(savings) > shownWorst { // the best, and what got worst
		savings = append(savings[:shownEach], savings[len(savings)-shownEach:]...)
	}
	ids := make([]string, len(savings))
	for i, one := range savings {
		ids[i] = one.Endpoint
	}
	names, err := s.store.EndpointNames(ctx, ids)
	for _, one := range savings {
		out.Savings = append(out.Savings, Saving{one, names[one.Endpoint]})
	}
	return err
}

// daysOf adds up found and ended findings to open ones, for the days from first to last. The first day includes
// what was open before.
func daysOf(turns []store.Turn, first, last string) []StandingDay {
	open := map[severity.Severity]int{}
	days := []StandingDay{{Day: first}}
	for _, t := range turns {
		if t.Day > last { // of a clock that was set back
			t.Day = last
		}
		day := &days[len(days)-1]
		if t.Day > day.Day {
			day.Open = copyOf(open)
			days = append(days, StandingDay{Day: t.Day})
			day = &days[len(days)-1]
		}
		open[severity.Severity(t.Severity)] += t.Came - t.Went
		if t.Day >= first {
			day.Found += t.Came
			day.Ended += t.Went
		}
	}
	days[len(days)-1].Open = copyOf(open)
	if days[len(days)-1].Day < last {
		days = append(days, StandingDay{Day: last, Open: copyOf(open)})
	}
	return days
}

func copyOf(m map[severity.Severity]int) map[severity.Severity]int {
	out := make(map[severity.Severity]int, len(m))
	for k, v := range m {
		out[k] = v
	}
	return out
}

func proofTimes(all []store.Proven) []ProofTime {
	took := map[severity.Severity][]time.Duration{}
	for _, p := range all {
		took[severity.Severity(p.Severity)] = append(took[severity.Severity(p.Severity)], p.Took)
	}
	out := []ProofTime{}
	for _, level := range severity.All() {
		t := took[level]
		if len(t) == 0 {
			continue
		}
		slices.Sort(t)
		out = append(out, ProofTime{level, len(t), t[len(t)/2], t[len(t)-1]})
	}
	return out
}

// worstOf sums counts by name and sorts them, most severe findings first.
func worstOf(all []store.WorstOf, part string) []Worst {
	by := map[string]*Worst{}
	for _, w := range all {
		one := by[w.Key]
		if one == nil {
			one = &Worst{Name: w.Name, Open: map[severity.Severity]int{}}
			q := url.Values{}
			switch part {
			case "endpoint":
				q.Set("endpoint", w.Key)
			case "field":
				entity, field, _ := strings.Cut(w.Key, "\n")
				q.Set("entity", entity)
				q.Set("field", field)
			case "team":
				q.Set("assigned", "team:"+w.Name)
				if w.Name == "" {
					one.Name = "no team"
					q.Set("assigned", "nobody")
				}
			}
			one.Query = q.Encode()
			by[w.Key] = one
		}
		one.Open[severity.Severity(w.Severity)] += w.Open
	}
	out := make([]Worst, 0, len(by))
	for _, w := range by {
		out = append(out, *w)
	}
	slices.SortFunc(out, func(a, b Worst) int {
		for _, level := range severity.All() {
			if c := cmp.Compare(b.Open[level], a.Open[level]); c != 0 {
				return c
			}
		}
		return cmp.Compare(a.Name, b.Name)
	})
	return out[:min(len(out), shownWorst)]
}
