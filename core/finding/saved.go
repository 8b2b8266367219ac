package finding

import (
	"cmp"
	"slices"
)

// Weighed is what the captures of an endpoint weighed on a day, as one audience.
type Weighed struct {
	Endpoint string // id
	Audience string
	Day      string // UTC, as YYYY-MM-DD
	Captures int
	Bytes    int64
	Excess   int64 // bytes that no grant covers
}

// WeighedDay is what all captures of a day weighed. Saved is how many bytes of excess more
// these would have had, were each endpoint for each audience as it was on the first day on
// which it was captured; below zero, it got worse.
type WeighedDay struct {
	Day           string
	Captures      int
	Bytes, Excess int64
	Saved         int64
}

// Saving is how an endpoint's excess changed: bytes of a capture on its first day and on its
// last, over all audiences that were captured on both.
type Saving struct {
	Endpoint   string // id
	First, Now int64
	Saved      int64 // over all days
}

// Savings adds up weights from what was seen first, in time n log n. Days and savings are
// sorted: days from the first, savings from the greatest.
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
