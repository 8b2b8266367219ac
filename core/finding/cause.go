package finding

import (
	"fmt"
	"slices"
	"strings"

	"inkret/core/kind"
)

// Beside is an open finding at the same endpoint, audience, status and direction as another.
type Beside struct {
	ID     string
	Kind   kind.Kind
	Path   string
	Entity string
	Field  string
}

// Cause is what a finding probably comes from, with a reference.
type Cause struct {
	Text    string
	Finding string // the one that it comes with; may be empty
	Entity  string // whose row goes out whole; may be empty
}

// wholeRow is how many fields of one entity must leak in one object to assume that a stored row is returned as it
// is.
const wholeRow = 3

// Holder returns the outermost of the other findings whose place contains path, or nil.
func Holder(path string, beside []Beside) *Beside {
	above := map[string]bool{}
	for at := path; ; {
		up := Parent(at)
		if up == at {
			break
		}
		above[up], at = true, up
	}
	var holder *Beside
	for i := range beside {
		if b := &beside[i]; b.Kind.Exposure() && above[b.Path] && (holder == nil || len(b.Path) < len(holder.Path)) {
			holder = b
		}
	}
	return holder
}

// Causes returns what a finding probably comes from, judging by other findings beside it; usually one cause or
// none. It takes linear time.
func Causes(f Beside, beside []Beside) []Cause {
	fields := map[string]bool{}
	if f.Field != "" {
		fields[f.Field] = true
	}
	for i := range beside {
		b := &beside[i]
		if b.ID == f.ID || !b.Kind.Exposure() {
			continue
		}
		if b.Entity == f.Entity && b.Field != "" && Parent(b.Path) == Parent(f.Path) {
			fields[b.Field] = true
		}
	}
	var all []Cause
	if holder := Holder(f.Path, beside); holder != nil {
		all = append(all, Cause{Text: fmt.Sprintf("it comes with %s, which is not granted either: once that is left "+
			"out, this is gone", holder.Path), Finding: holder.ID})
	}
	if f.Entity != "" && f.Field != "" && f.Kind.Exposure() && len(fields) >= wholeRow {
		names := make([]string, 0, len(fields))
		for name := range fields {
			names = append(names, name)
		}
		slices.Sort(names)
		const shown = 4
		more := ""
		if len(names) > shown {
			names, more = names[:shown], fmt.Sprintf(" and %d more", len(fields)-shown)
		}
		all = append(all, Cause{Text: fmt.Sprintf("the stored %s seems to go out as it is: %s%s leak "+
			"in the same object", f.Entity, strings.Join(names, ", "), more), Entity: f.Entity})
	}
	return all
}
