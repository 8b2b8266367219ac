// Package timetable says when something that is done again and again by the clock is done next.
package timetable

import (
	"fmt"
	"strings"
	"time"
)

// Plan is how often something is done, and in which hours of the day, which are UTC.
type Plan struct {
	Every  time.Duration // from one time to the next
	Begins int           // of the day, in minutes, when it may begin
	Ends   int           // when no longer; equal to Begins for the whole day
}

// Bounds of [Plan.Every].
const (
	Least = time.Hour
	Most  = 7 * 24 * time.Hour
)

const day = 24 * 60 // minutes

// Check returns what is wrong with a plan, nil for nothing.
func (p Plan) Check() error {
	switch {
	case p.Every < Least || p.Every > Most:
		return fmt.Errorf("it runs hourly to weekly, not every %s", p.Every)
	case p.Begins < 0 || p.Begins >= day || p.Ends < 0 || p.Ends >= day:
		return fmt.Errorf("a window is two times of the day, as in 22:00-05:00")
	}
	return nil
}

// jitter is the part of the time between two runs, and the most of it, by which a run is late at random, so that many
// do not begin at once.
const (
	jitter     = 10
	mostJitter = 30 * time.Minute
)

// Next returns when something is done next that was done at a time. share is at random between 0 and 1. What is done
// every day or less often is done at the beginning of its window, so that one run too many or too late moves no others.
func (p Plan) Next(last time.Time, share float64) time.Time {
	last = last.UTC().Truncate(time.Second)
	next := last.Add(p.Every)
	if p.Begins != p.Ends && p.Every >= day*time.Minute {
		if next = p.opened(next); !next.After(last.Add(p.Every / 2)) {
			next = next.AddDate(0, 0, 1)
		}
	}
	next = p.Soon(next)
	late := time.Duration(share * float64(min(p.Every/jitter, mostJitter)))
	if later := next.Add(late); p.Within(later) {
		return later
	}
	return next
}

// Soon returns when something that is due at a time may be done: then, or when the window is next.
func (p Plan) Soon(at time.Time) time.Time {
	if p.Within(at) {
		return at
	}
	return p.opened(at).AddDate(0, 0, 1)
}

// opened returns when the window began last, at a time.
func (p Plan) opened(at time.Time) time.Time {
	at = at.UTC()
	began := time.Date(at.Year(), at.Month(), at.Day(), 0, p.Begins, 0, 0, time.UTC)
	if began.After(at) {
		return began.AddDate(0, 0, -1)
	}
	return began
}

// Within reports whether a time is in the window.
func (p Plan) Within(at time.Time) bool {
	minute := at.UTC().Hour()*60 + at.UTC().Minute()
	switch {
	case p.Begins == p.Ends:
		return true
	case p.Begins < p.Ends:
		return minute >= p.Begins && minute < p.Ends
	}
	return minute >= p.Begins || minute < p.Ends
}

// Window writes the hours of a plan, as in 22:00-05:00; empty for the whole day.
func (p Plan) Window() string {
	if p.Begins == p.Ends {
		return ""
	}
	return fmt.Sprintf("%02d:%02d-%02d:%02d", p.Begins/60, p.Begins%60, p.Ends/60, p.Ends%60)
}

// ParseWindow reads what [Plan.Window] writes.
func ParseWindow(text string) (begins, ends int, err error) {
	if text == "" {
		return 0, 0, nil
	}
	from, to, ok := strings.Cut(text, "-")
	if begins, err = minuteOf(from); !ok || err != nil {
		return 0, 0, fmt.Errorf("%q is no window: one is written 22:00-05:00, in UTC", text)
	}
	if ends, err = minuteOf(to); err != nil || begins == ends {
		return 0, 0, fmt.Errorf("%q is no window: one is written 22:00-05:00, in UTC", text)
	}
	return begins, ends, nil
}

func minuteOf(text string) (int, error) {
	at, err := time.Parse("15:04", strings.TrimSpace(text))
	return at.Hour()*60 + at.Minute(), err
}
