package contract

import (
	"fmt"
	"sort"
	"strings"

	"inkret/core/document"
)

// Pos is a position in a contract file.
type Pos = document.Pos

// Problem is one problem of a contract document.
type Problem struct {
	Pos
	Path     string `json:"path"`           // where in the document, as a JSONPath
	Found    string `json:"found"`          // what stands there
	Expected string `json:"expected"`       // what should
	Near     string `json:"near,omitempty"` // the known word that was probably meant
}

func (p Problem) Error() string {
	var b strings.Builder
	if p.File != "" {
		fmt.Fprintf(&b, "%s: ", p.Pos)
	}
	if p.Path != "" {
		fmt.Fprintf(&b, "%s: ", p.Path)
	}
	b.WriteString(p.Found)
	if p.Expected != "" {
		fmt.Fprintf(&b, "; expected %s", p.Expected)
	}
	if p.Near != "" {
		fmt.Fprintf(&b, "; did you mean %q?", p.Near)
	}
	return b.String()
}

// Problems lists all problems of a document, in the order of its files.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

func (ps Problems) sorted() Problems {
	sort.SliceStable(ps, func(i, j int) bool {
		a, b := ps[i], ps[j]
		if a.File != b.File {
			return a.File < b.File
		}
		if a.Line != b.Line {
			return a.Line < b.Line
		}
		return a.Column < b.Column
	})
	return ps
}

// report adds a problem at n.
func (r *reader) report(n *document.Node, expected, found string, args ...any) {
	r.problems = append(r.problems, Problem{
		Pos: n.Pos(), Path: n.Path(), Found: fmt.Sprintf(found, args...), Expected: expected,
	})
}

// fault adds a problem that the YAML parser found.
func (r *reader) fault(n *document.Node, expected, found string) { r.report(n, expected, "%s", found) }

// unknown adds a problem about an unknown word, with the known ones.
func (r *reader) unknown(n *document.Node, what, word string, known []string) {
	p := Problem{Pos: n.Pos(), Path: n.Path(), Found: fmt.Sprintf("%s %q is not known", what, word),
		Near: Nearest(word, known)}
	switch {
	case len(known) == 0:
		p.Expected = "one that is defined; there is none yet"
	case len(known) <= maxListed:
		p.Expected = oneOf(known)
	default:
		p.Expected = oneOf(known[:maxListed]) + fmt.Sprintf(" (or %d more)", len(known)-maxListed)
	}
	r.problems = append(r.problems, p)
}

// maxListed limits how many known words a message lists.
const maxListed = 24

func oneOf(words []string) string {
	if len(words) == 1 {
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// Nearest returns the known word with the smallest edit distance, or the empty string if none is close enough to
// have been meant.
func Nearest(word string, known []string) string { return NearestWithin(len(word)/3+1, word, known) }

// NearestWithin is [Nearest] with at most so many letters written otherwise.
func NearestWithin(bound int, word string, known []string) string {
	best := ""
	for _, k := range known {
		if d := edits(strings.ToLower(word), strings.ToLower(k), bound); d <= bound && k != word {
			if best == "" || d < bound {
				best, bound = k, d
			}
		}
	}
	return best
}

// edits returns the restricted Damerau-Levenshtein distance (a swapped pair counts as one), or some value above
// bound.
func edits(a, b string, bound int) int {
	if d := len(a) - len(b); d > bound || -d > bound {
		return bound + 1
	}
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(last[j]+1, row[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}
