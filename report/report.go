// Package report writes what a scan found, one file a format.
package report

import (
	"strings"
	"unicode"

	"inkret/core/detect"
	"inkret/core/finding"
	"inkret/core/scan"
)

// Result is what one check gave.
type Result struct {
	Service  string // empty without contracts
	Summary  finding.Summary
	Findings []*finding.Finding
	Skipped  []finding.Skipped
}

// BySeverity counts the findings of each severity.
func (r *Result) BySeverity() map[string]int {
	counts := map[string]int{}
	for _, s := range scan.SeverityNames() {
		counts[s] = 0
	}
	for _, f := range r.Findings {
		counts[f.Severity.String()]++
	}
	return counts
}

// rules is the number of the built-in rules, for every format that has room for it.
const rules = detect.Rules

// Clean makes text from a recording safe for a terminal: control characters and
// those that reorder or hide text become visible as U+FFFD.
func Clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && r < 0xa0 || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r) {
			return unicode.ReplacementChar
		}
		return r
	}, s)
}
