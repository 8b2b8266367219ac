package finding

import (
	"strings"
	"time"

	"inkret/core/kind"
	"inkret/core/place"
	"inkret/core/scan"
)

// Awaiting is a finding that is said to be fixed and awaits proof.
type Awaiting struct {
	Identity
	ID    string
	Since time.Time // when it was said: earlier captures prove nothing
}

// Shows returns what a capture says about a fix: covers reports whether the place could be seen, leaks whether it
// still shows a leak. occurs holds the paths of the objects and lists in its body; see [scan.Judge.Occurs].
func (a *Awaiting) Shows(out *scan.Outcome, occurs map[string]struct{}) (covers, leaks bool) {
	audience, status := out.Audience, out.Status
	if a.Kind == kind.UnknownEndpoint {
		audience, status = "", ""
	}
	if out.Endpoint != a.Endpoint || audience != a.Audience || status != a.Status {
		return false, false
	}
	for i := range out.Spots {
		s := &out.Spots[i]
		if s.Path != a.Path || s.Request != (a.Direction == Request) {
			continue
		}
		if s.Kind == a.Kind || s.Kind.Exposure() && a.Kind.Exposure() {
			return true, true
		}
	}
	switch {
	case strings.HasPrefix(a.Path, scan.InHeader):
		return out.Heads, false
	case a.Kind == kind.RevealingError && a.Path == "$" && out.Words:
		return true, false
	case out.Skipped != "":
		return false, false
	}
	if a.Direction == Request || a.Kind.Whole() {
		return true, false
	}
	_, there := occurs[Parent(a.Path)]
	return there, false
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
	}
	if i := strings.LastIndexByte(path, '.'); i >= 0 {
		return path[:i]
	}
	return path
}
