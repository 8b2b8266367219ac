package finding

import (
	"cmp"
	"slices"
)

// Weighed is the weight of an endpoint's captures on a day for one audience.
type Weighed struct {
	Endpoint string // id
	Audience string
	Day      string // UTC, as YYYY-MM-DD
	Captures int
	Bytes    int64
	Excess   int64 // bytes that no grant covers
}

// WeighedDay is the weight of all captures of a day. Saved is the additional excess, in bytes, that they would have
// had if each endpoint still sent as much to each audience as on its first day; negative if it got worse.
type WeighedDay struct {
	Day           string
	Captures      int
	Bytes, Excess int64
	Saved         int64
}

// Saving is how an endpoint's excess changed: bytes per capture on its first and last day, over all audiences
// captured on both.
type Saving struct {
	Endpoint   string // id
	First, Now int64
	Saved      int64 // over all days
}

// Savings computes days, in ascending order, and savings, largest first, in O(n log n) time.
func Savings(all []Weighed) ([]WeighedDay, []Saving) {
	all = slices.Clone(all)
	slices.SortFunc(all, func(a, b Weighed) int {
		return cmp.Or(cmp.Compare(a.Endpoint, b.Endpoint), cmp.Compare(a.Audience, b.Audience),
			cmp.Compare(a.Day, b.Day))
	})
	days, endpoints := map[string]*WeighedDay{}, map[string]*Saving{}
	var first *Weighed // of the endpoint and audience
	for i := range all {
		w := &all[i]
		if w.Captures <= 0 {
			continue
		}
		if first == nil || first.Endpoint != w.Endpoint || first.Audience != w.Audience {
			first = w
		}
		saved := int64(float64(first.Excess)/float64(first.Captures)*float64(w.Captures)) - w.Excess
		day := days[w.Day]
		if day == nil {
			day = &WeighedDay{Day: w.Day}
			days[w.Day] = day
		}
		day.Captures += w.Captures
		day.Bytes += w.Bytes
		day.Excess += w.Excess
		day.Saved += saved
		e := endpoints[w.Endpoint]
		if e == nil {
			e = &Saving{Endpoint: w.Endpoint}
			endpoints[w.Endpoint] = e
		}
		e.Saved += saved
		if last := i+1 == len(all) || all[i+1].Endpoint != w.Endpoint || all[i+1].Audience != w.Audience; last &&
			w != first {
			e.First += first.Excess / int64(first.Captures)
			e.Now += w.Excess / int64(w.Captures)
		}
	}
	byDay := make([]WeighedDay, 0, len(days))
	for _, d := range days {
		byDay = append(byDay, *d)
	}
	slices.SortFunc(byDay, func(a, b WeighedDay) int { return cmp.Compare(a.Day, b.Day) })
	var savings []Saving
	for _, e := range endpoints {
		if e.Saved != 0 {
			savings = append(savings, *e)
		}
	}
	slices.SortFunc(savings, func(a, b Saving) int {
		return cmp.Or(cmp.Compare(b.Saved, a.Saved), cmp.Compare(a.Endpoint, b.Endpoint))
	})
	return byDay, savings
}
