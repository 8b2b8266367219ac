package review

import (
	"sync"
	"time"
)

// rates limits how often a person may run expensive operations: a burst, and then one after another.
type rates struct {
	mu  sync.Mutex // guards due
	due map[string]time.Time
}

// rate is a number of operations per time span.
type rate struct {
	times int
	span  time.Duration
}

var (
	// mostTrials allows fast typing: an editor tries after every pause.
	mostTrials = rate{120, time.Minute}
	// mostEffects limits trials on captured values, each of which a person reads.
	mostEffects = rate{20, 10 * time.Minute}
)

// mostRated limits how many callers are remembered.
const mostRated = 10_000

// wait takes one slot and returns 0, or takes none and returns how long to wait (generic cell rate algorithm, ITU-T
// I.371).
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
