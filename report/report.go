// Package report writes the results of checks, one file per format.
package report

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"inkret/core/detect"
	"inkret/core/exchange"
	"inkret/core/finding"
	"inkret/core/severity"
)

// Result is the result of one check.
type Result struct {
	Service  string // empty without contracts
	Summary  finding.Summary
	Findings []*finding.Finding
	Skipped  []finding.Skipped

	Incomplete []finding.Skipped // judged up to where their bodies end
	FailOn     severity.Severity // from which a finding fails, where nothing excuses it
	Baseline   *Baseline         // what was there before; nil for none
	Version    string            // of the program, for formats that have room for it
	Audit      *Audit            // what a service adds; nil for a check
}

// incomplete counts the evaluated captures with incomplete bodies.
func (r *Result) incomplete() string {
	if len(r.Incomplete) == 0 {
		return ""
	}
	return fmt.Sprintf(" (%d incomplete)", len(r.Incomplete))
}

// Fails reports whether a finding fails a check.
func (r *Result) Fails(f *finding.Finding) bool {
	return f.Severity >= r.FailOn && f.Excepted == nil && !f.Known
}

// Baseline is the result of an earlier check.
type Baseline struct {
	Prints map[string]bool // fingerprints
	Gone   int             // of them that are found no longer
}

// ReadBaseline reads the JSON report of an earlier check.
func ReadBaseline(r io.Reader) (*Baseline, error) {
	var earlier struct {
		Inkret   int
		Findings []struct{ Fingerprint string }
	}
	if err := json.NewDecoder(r).Decode(&earlier); err != nil || earlier.Inkret == 0 {
		return nil, errors.New("this is no report of inkret check --format json")
	}
	b := &Baseline{Prints: map[string]bool{}}
	for _, f := range earlier.Findings {
		b.Prints[f.Fingerprint] = true
	}
	return b, nil
}

// Hold marks the findings that are in the baseline, and counts those of the baseline that are gone.
func (b *Baseline) Hold(findings []*finding.Finding) {
	if b == nil {
		return
	}
	b.Gone = len(b.Prints)
	for _, f := range findings {
		if f.Known = b.Prints[f.Fingerprint]; f.Known {
			b.Gone--
		}
	}
}

// Formats lists the formats of results.
var Formats = []string{"table", "json", "sarif", "junit", "csv", "markdown", "html"}

// Writers are the formats that do not depend on a terminal.
var Writers = map[string]func(io.Writer, *Result) error{"json": JSON, "sarif": SARIF, "junit": JUnit, "csv": CSV,
	"markdown": Markdown, "html": HTML}

// BySeverity counts the findings of each severity.
func (r *Result) BySeverity() map[string]int {
	counts := map[string]int{}
	for _, s := range severity.Names() {
		counts[s] = 0
	}
	for _, f := range r.Findings {
		counts[f.Severity.String()]++
	}
	return counts
}

// rules is the version of the built-in rules, as text.
const rules = detect.Rules

// Clean makes recorded text safe for a terminal.
func Clean(s string) string { return exchange.Clean(s) }
