package scan

import (
	"strings"

	"inkret/core/place"
)

// Presence says how a path occurs in a body.
type Presence uint8

const (
	// Filled is a value other than null and the empty list.
	Filled Presence = 1 << iota
	// Hollow is null or an empty list, which tell nothing of what else might stand there.
	Hollow
	// Denied is what the query of a result asks for and was not given: null where an error says that it failed,
	// what would be inside of that, and fields of types of which no object came where others did.
	Denied
)

// seek prepares for what occurs in a capture, if that matters.
func (j *Judge) seek(out *Outcome) {
	j.walk.places = nil
	if j.Seek == nil || !j.Seek(out) {
		return
	}
	if j.places == nil {
		j.places, j.posted = map[string]Presence{}, map[string]Presence{}
	}
	clear(j.places)
	clear(j.posted)
	out.Places, out.Posted = j.places, j.posted
}

// occur notes how the value that begins with a byte occurs at its path.
func (w *walk) occur(first byte) {
	if w.places == nil {
		return
	}
	how := Filled
	if first == 'n' || first == '[' && !w.filled() {
		if how = Hollow; first == 'n' && w.plan.Result() && w.failedHere() {
			how = Denied
		}
	}
	if at := w.entry(); at.present&how == 0 {
		at.present |= how
		w.places[at.path] |= how
	}
}

// Outermost returns the outermost place on the way to path that no grant covers, which may be path itself. It is empty
// if the grants cover all of it, and where no response of a contract applies.
func (o *Outcome) Outermost(path string) string {
	if o.plan == nil {
		return ""
	}
	if o.plan.Result() {
		return o.plan.Ungranted(path)
	}
	inner := ""
	if o.Response != nil && o.Response.Inner != "" {
		inner = o.Response.Inner + within
	}
	if rest, ok := strings.CutPrefix(path, inner); ok {
		steps, ok := place.Steps(rest)
		if covered := o.plan.Covers(steps); ok && covered < len(steps) {
			return inner + place.Root + place.Joined(steps[:covered+1])
		}
	}
	return ""
}
