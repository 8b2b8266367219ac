package review

import (
	"sync"
	"time"
)

// rates bounds how often somebody may do what is costly: so many at once, and then one after another.
type rates struct {
	mu  sync.Mutex // guards due
	due map[string]time.Time
}

// rate is a number of times within a span.
type rate struct {
	times int
	span  time.Duration
}

var (
	// mostTrials lets a person type quickly: an editor tries at every pause.
	mostTrials = rate{120, time.Minute}
	// mostEffects are trials on recorded values; a person reads each.
	mostEffects = rate{20, 10 * time.Minute}
)

// mostRated is how many callers are remembered.
const mostRated = 10_000

// wait takes one turn and gives 0, or takes none and gives how long to wait for it (the generic cell rate
// algorithm, ITU-T I.371).
func (r *rates) wait(who string, most rate, now time.Time) time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.due == nil || len(r.due) >= mostRated {
		r.due = map[string]time.Time{}
	}
	each := most.span / time.Duration(most.times)
	due := r.due[who]
	if due.Before(now) {
		due = now
	}
	if ahead := due.Sub(now) + each - most.span; ahead > 0 {
		return ahead
	}
	r.due[who] = due.Add(each)
	return 0
}
