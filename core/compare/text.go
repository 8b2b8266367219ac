package compare

import (
	"strings"

	"github.com/pmezard/go-difflib/difflib"
)

// Unified returns the difference of two texts in the unified format, or the empty string if they are equal.
func Unified(oldName, newName, old, new string) string {
	if old == new {
		return ""
	}
	const context = 3
	text, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: lines(old), B: lines(new), FromFile: oldName,
		ToFile: newName, Context: context})
	if err != nil {
		return ""
	}
	return text
}

func lines(s string) []string {
	if s == "" {
		return nil
	}
	if !strings.HasSuffix(s, "\n") {
		s += "\n"
	}
	all := strings.SplitAfter(s, "\n")
	return all[:len(all)-1]
}

// Conflict is a place that both sides of a merge changed differently.
type Conflict struct {
	Line   int    `json:"line"` // of the merged text, from 1: where it stands
	Base   string `json:"base"`
	Mine   string `json:"mine"`
	Theirs string `json:"theirs"`
}

// Merge merges two changes of one text line by line (diff3; Khanna, Kunal and Pierce, A Formal Investigation of
// Diff3, 2007). Where both changed the same lines, mine is kept and the place is a conflict.
func Merge(base, mine, theirs string) (string, []Conflict) {
	b, m, t := lines(base), lines(mine), lines(theirs)
	toMine, toTheirs := matches(b, m), matches(b, t)
	var out strings.Builder
	var conflicts []Conflict
	line := 1
	write := func(part []string) {
		for _, l := range part {
			out.WriteString(l)
		}
		line += len(part)
	}
	i, j, k := 0, 0, 0
	for i < len(b) || j < len(m) || k < len(t) {
		if i < len(b) && toMine[i] == j && toTheirs[i] == k { // all three agree
			write(b[i : i+1])
			i, j, k = i+1, j+1, k+1
			continue
		}
		// up to the next line that all three have
		ni := i
		for ni < len(b) && (toMine[ni] < j || toTheirs[ni] < k) {
			ni++
		}
		nj, nk := len(m), len(t)
		if ni < len(b) {
			nj, nk = toMine[ni], toTheirs[ni]
		}
		was, my, their := strings.Join(b[i:ni], ""), strings.Join(m[j:nj], ""), strings.Join(t[k:nk], "")
		switch {
		case my == their, their == was:
			write(m[j:nj])
		case my == was:
			write(t[k:nk])
		default:
			conflicts = append(conflicts, Conflict{line, was, my, their})
			write(m[j:nj])
		}
		i, j, k = ni, nj, nk
	}
	return out.String(), conflicts
}

// matches returns, for each line of a, the matching line of b, or -1.
func matches(a, b []string) []int {
	to := make([]int, len(a))
	for i := range to {
		to[i] = -1
	}
	for _, m := range difflib.NewMatcherWithJunk(a, b, false, nil).GetMatchingBlocks() {
		for n := range m.Size {
			to[m.A+n] = m.B + n
		}
	}
	return to
}
