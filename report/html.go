package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"time"

	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/severity"
)

// Audit is what a service adds to a report for auditors: trends, coverage, and what is accepted.
type Audit struct {
	At       time.Time
	Days     []AuditDay // on which anything changed, oldest first
	Proofs   []AuditProof
	Coverage []AuditGap
	Since    string // the first day whose captures are weighed
	Bytes    int
	Excess   int
	Saved    int // below zero where it got worse
	Waivers  []AuditWaiver
	Proven   []AuditProven     // the latest first
	States   map[string]string // of findings, by fingerprint
	Alone    bool              // severe decisions need no second person here
}

// AuditDay is the open findings at the end of a day, most severe first.
type AuditDay struct {
	Day  string
	Open [5]int
}

// AuditProof is how long proofs of a severity took.
type AuditProof struct {
	Severity        severity.Severity
	Proofs          int
	Median, Longest time.Duration
}

// AuditGap is how much of something is missing.
type AuditGap struct {
	Missing, Of int
	Words       string
}

// AuditWaiver is a waived finding.
type AuditWaiver struct {
	Until, Kind, Where, Approver, Reason string
	Severity                             severity.Severity
}

// AuditProven is a finding that is proven fixed.
type AuditProven struct {
	Day, Kind, Where, Batch, Words string
	Captures                       int    // of the batch that cover the place
	Capture                        int64  // the first of them
	Doubt                          string // why the proof no longer counts, empty for no doubt
	Severity                       severity.Severity
}

// lastDays limits the days in a report's table.
const lastDays = 12

// HTML writes one self-contained page for reading, archiving and printing.
func HTML(w io.Writer, r *Result) error {
	type group struct {
		Endpoint string
		Findings []*finding.Finding
	}
	var groups []*group
	at := map[string]*group{}
	for _, f := range r.Findings {
		g := at[f.Endpoint]
		if g == nil {
			g = &group{Endpoint: f.Endpoint}
			at[f.Endpoint] = g
			groups = append(groups, g)
		}
		g.Findings = append(g.Findings, f)
	}
	names := severity.Names()
	var kinds []kind.Kind // that there are
	for _, k := range kind.All() {
		if slices.ContainsFunc(r.Findings, func(f *finding.Finding) bool { return f.Kind == k }) {
			kinds = append(kinds, k)
		}
	}
	failing := 0
	for _, f := range r.Findings {
		if r.Fails(f) {
			failing++
		}
	}
	data := map[string]any{"R": r, "Groups": groups, "Severities": names, "Kinds": kinds, "Counts": r.BySeverity(),
		"Rules": rules, "Failing": failing}
	states := map[string]string{}
	if a := r.Audit; a != nil {
		picture, err := chart(a.Days)
		if err != nil {
			return err
		}
		data["Chart"], data["LastDays"], states = picture, a.Days[max(0, len(a.Days)-lastDays):], a.States
	}
	with, err := page.Clone()
	if err != nil {
		return err
	}
	return with.Funcs(template.FuncMap{
		"state": func(f *finding.Finding) string { return states[f.Fingerprint] }}).Execute(w, data)
}

//go:embed page.html
var pageText string

var page = template.Must(template.New("report").Funcs(template.FuncMap{
	"clean": Clean, "bytes": Bytes,
	"sign": func(s severity.Severity) string { return strings.TrimSpace(signs[s.String()]) }, "mend": kind.Kind.Mend,
	"percent": func(part, whole int) int { return part * 100 / max(whole, 1) }, "less": func(n int) int { return -n },
	"hours": hours, "state": func(*finding.Finding) string { return "" },
}).Parse(pageText))

// hours formats a duration for people.
func hours(d time.Duration) string {
	switch {
	case d < time.Hour:
		return "an hour"
	case d < 48*time.Hour:
		return fmt.Sprintf("%.0f hours", d.Hours())
	}
	return fmt.Sprintf("%.0f days", d.Hours()/24)
}
