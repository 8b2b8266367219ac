package finding

import (
	"strings"
	"time"

	"inkret/core/kind"
	"inkret/core/place"
	"inkret/core/scan"
)

// A finding is closed by proof only. What follows decides what a capture covers, what a batch proves, and in which
// order things happened; it is section "Proof" of docs/judging.md. Time is recorded time throughout: when a call was
// made, not when it arrived.

// Awaiting is a finding that is said to be fixed and awaits proof.
type Awaiting struct {
	Identity
	ID string // its fingerprint
}

// Ground is what makes a capture cover a finding; empty where nothing does.
type Ground string

// Grounds, as they are stored and sent.
const (
	Seen    Ground = "seen"    // what the place stands in was there, without the leak
	Removed Ground = "removed" // what the leak was inside of was not there
	Carried Ground = "carried" // the request had the member again
	Judged  Ground = "judged"  // the call was judged
	Denied  Ground = "denied"  // a call that had shown the leak was denied
)

// Words says a ground in a sentence, of the first capture that covers the finding.
func (g Ground) Words() string {
	switch g {
	case Seen:
		return "what the place stands in was there, and the leak was not"
	case Removed:
		return "what the leak was inside of was no longer there"
	case Carried:
		return "the request had the member again, and it was not taken"
	case Judged:
		return "the call was judged, and nothing was wrong with it"
	case Denied:
		return "the very call that leaked was denied"
	}
	return ""
}

// Denial reports whether a status denies access: 401, 403, 404 and 410 (RFC 9110 section 15.5).
func Denial(status int) bool { return status == 401 || status == 403 || status == 404 || status == 410 }

// About reports whether a capture is of the finding's endpoint, audience and status.
func (a *Awaiting) About(out *scan.Outcome) bool {
	switch {
	case out.Endpoint != a.Endpoint:
		return false
	case a.Kind == kind.UnknownEndpoint:
		return true
	case out.Audience != a.Audience:
		return false
	}
	return out.Status == a.Status || a.Kind == kind.OverPosting
}

// Look returns what a capture tells of a finding: whether it still shows it, and if not, what makes it cover it. The
// judge must have noted what occurs in the capture; see [scan.Judge.Seek].
func (a *Awaiting) Look(out *scan.Outcome) (by Ground, shows bool) {
	if !a.About(out) {
		return "", false
	}
	for i := range out.Spots {
		s := &out.Spots[i]
		if s.Path != a.Path || s.Request != (a.Direction == Request) {
			continue
		}
		if s.Kind == a.Kind || s.Kind.Exposure() && a.Kind.Exposure() {
			return "", true
		}
	}
	if out.Incomplete != "" || out.Selected != (a.Kind == kind.SelectionIgnored) {
		return "", false
	}
	header := strings.HasPrefix(a.Path, scan.InHeader)
	switch {
	case a.Kind == kind.OverPosting:
		if out.Answered && out.Posted[a.Path] != 0 {
			return Carried, false
		}
		return "", false
	case header && out.Heads, a.Kind == kind.RevealingError && a.Path == place.Root && out.Words:
		return Judged, false
	case header || out.Skipped != "":
		return "", false
	case a.Kind.Exposure() || a.Kind == kind.WrongAudience:
		return a.place(out), false
	case a.Direction == Response && !a.Kind.Whole() && a.hollow(out):
		return "", false
	}
	return Judged, false
}

// place returns what a capture tells of a place where something was exposed.
func (a *Awaiting) place(out *scan.Outcome) Ground {
	here := out.Places[a.Path]
	element := strings.HasSuffix(a.Path, place.Elements)
	if here == scan.Hollow || element && here == 0 { // of null and of an empty list nothing can be told
		return ""
	}
	if out.Result && strings.Contains(a.Path, scan.Within) {
		switch {
		case here == 0: // it was not asked for
			return ""
		case here&scan.Denied != 0 && here&scan.Hollow == 0 && out.Places[Parent(a.Path)]&scan.Filled == 0:
			return Removed
		}
	}
	if out.Places[Parent(a.Path)]&scan.Filled != 0 {
		return Seen
	}
	outer := out.Outermost(a.Path)
	if outer != "" && outer != a.Path && out.Places[outer] == 0 && out.Places[Parent(outer)]&scan.Filled != 0 {
		return Removed
	}
	return ""
}

// hollow reports whether the finding's place, or the nearest one above it that occurs, is null or an empty list.
func (a *Awaiting) hollow(out *scan.Outcome) bool {
	at := a.Path
	if a.Kind == kind.MissingField { // with null it is no longer missing
		at = Parent(at)
	}
	for {
		if there := out.Places[at]; there != 0 {
			return there == scan.Hollow
		}
		up := Parent(at)
		if up == at {
			return false
		}
		at = up
	}
}

// Covered is what the captures of a batch tell of one finding.
type Covered struct {
	Captures int       // that cover it and have a time
	First    int       // of these: its number in the batch
	By       Ground    // what makes the first cover it
	Last     time.Time // when the latest of them was recorded
	Shown    bool      // one shows it
}

// Add adds what capture number nth tells. A capture without a time proves nothing.
func (c *Covered) Add(nth int, by Ground, shows bool, when time.Time) {
	if c.Shown = c.Shown || shows; by == "" || when.IsZero() {
		return
	}
	if c.Captures == 0 {
		c.First, c.By = nth, by
	}
	c.Captures++
	if when.After(c.Last) {
		c.Last = when
	}
}

// Proves reports whether a complete batch proves that a finding is fixed: one capture covers it and was recorded after
// the last that showed it, and none of the batch shows it.
func (c *Covered) Proves(shown time.Time) bool {
	return c.Captures > 0 && !c.Shown && c.Last.After(shown)
}

// Returns reports whether a capture that shows a finding brings it back, which was proven by captures up to a time. One
// that was recorded before the proof does not, however late it arrives.
func Returns(proven, shown time.Time) bool { return !shown.Before(proven) }

// Counts returns the time that counts of a capture, zero where it has none: one without a time is of when it arrived if
// it arrived as it was made, and none is of the future.
func Counts(recorded, now time.Time, arrives bool) time.Time {
	if recorded.IsZero() && arrives || recorded.After(now) {
		return now
	}
	return recorded
}

// Trial collects what captures tell of findings that await proof.
type Trial struct {
	at map[string][]*tried // by endpoint
}

type tried struct {
	Awaiting
	Covered
	met bool // there is something to tell
}

// NewTrial returns a trial for findings of one service.
func NewTrial(awaiting []Awaiting) *Trial {
	t := &Trial{at: map[string][]*tried{}}
	for _, a := range awaiting {
		t.at[a.Endpoint] = append(t.at[a.Endpoint], &tried{Awaiting: a})
	}
	return t
}

// Seeks reports whether it matters what occurs in a capture; see [scan.Judge.Seek].
func (t *Trial) Seeks(out *scan.Outcome) bool {
	for _, one := range t.at[out.Endpoint] {
		if one.About(out) {
			return true
		}
	}
	return false
}

// Add adds capture number nth, recorded at a time.
func (t *Trial) Add(nth int, out *scan.Outcome, when time.Time) {
	for _, one := range t.at[out.Endpoint] {
		by, shows := one.Look(out)
		one.Covered.Add(nth, by, shows, when)
		one.met = one.met || by != "" || shows
	}
}

// Results returns what was told of findings, by fingerprint.
func (t *Trial) Results() map[string]Covered {
	all := map[string]Covered{}
	for _, some := range t.at {
		for _, one := range some {
			if one.met {
				all[one.ID] = one.Covered
			}
		}
	}
	return all
}

// Parent returns the path of the container of path. The parent of a body's root is the root.
func Parent(path string) string {
	switch {
	case strings.HasSuffix(path, "$"):
		return path
	case strings.HasSuffix(path, place.Below):
		return strings.TrimSuffix(path, place.Below)
	case strings.HasSuffix(path, "[*]"):
		return strings.TrimSuffix(path, "[*]")
	case strings.HasSuffix(path, "']"):
		if i := strings.LastIndex(path, "['"); i >= 0 {
			return path[:i]
		}
	case strings.HasSuffix(path, "]"):
		if i := strings.LastIndexByte(path, '['); i >= 0 {
			return path[:i]
		}
	}
	if i := strings.LastIndexByte(path, '.'); i >= 0 {
		return path[:i]
	}
	return path
}
