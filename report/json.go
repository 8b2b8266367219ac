package report

import (
	"encoding/json"
	"io"

	"inkret/core/finding"
)

type jsonReport struct {
	Inkret   int               `json:"inkret"`
	Rules    int               `json:"rules"`
	Service  string            `json:"service,omitempty"`
	Summary  jsonSummary       `json:"summary"`
	Findings []JSONFinding     `json:"findings"`
	Skipped  []finding.Skipped `json:"skipped"`

	Incomplete []finding.Skipped `json:"incomplete,omitempty"`
}

type jsonSummary struct {
	finding.Summary
	BySeverity bySeverity `json:"by_severity"`
}

type bySeverity struct {
	Critical int `json:"critical"`
	High     int `json:"high"`
	Medium   int `json:"medium"`
	Low      int `json:"low"`
	Info     int `json:"info"`
}

// JSONFinding is a finding in the JSON report; empty keys are left out.
type JSONFinding struct {
	Fingerprint string         `json:"fingerprint"`
	Kind        string         `json:"kind"`
	Severity    string         `json:"severity"`
	CWE         int            `json:"cwe"`
	Endpoint    string         `json:"endpoint"`
	Audience    string         `json:"audience,omitempty"`
	AudienceBy  string         `json:"audience_by,omitempty"`
	Direction   string         `json:"direction,omitempty"`
	Status      finding.Status `json:"status,omitempty"`
	Path        string         `json:"path"`
	Entity      string         `json:"entity,omitempty"`
	Field       string         `json:"field,omitempty"`
	Class       string         `json:"class,omitempty"`
	Spots       int            `json:"spots"`
	Captures    int            `json:"captures"`
	Bytes       int            `json:"bytes"`
	Sample      string         `json:"sample,omitempty"`
	Why         string         `json:"why"`
	Known       bool           `json:"known,omitempty"` // in the baseline
	Excepted    bool           `json:"excepted,omitempty"`
	Exception   string         `json:"exception,omitempty"` // the reason
	First       finding.First  `json:"first"`
}

// JSONOf converts one finding to the JSON report's form.
func JSONOf(f *finding.Finding) JSONFinding {
	j := JSONFinding{
		Fingerprint: f.Fingerprint, Kind: f.Kind.String(), Severity: f.Severity.String(), CWE: f.Kind.CWE(),
		Endpoint: f.Endpoint, Audience: f.Audience, AudienceBy: f.AudienceBy, Direction: f.Direction,
		Status: finding.Status(f.Status),
		Path:   f.Path, Entity: f.Entity, Field: f.Field, Class: f.Class, Spots: f.Spots, Captures: f.Captures,
		Bytes:  f.Bytes,
		Sample: f.Sample, Why: f.Why, First: f.First, Known: f.Known,
	}
	if f.Excepted != nil {
		j.Excepted, j.Exception = true, f.Excepted.Reason
	}
	return j
}

// JSON writes the result as one JSON object, described in docs/check.md.
func JSON(w io.Writer, r *Result) error {
	counts := r.BySeverity()
	out := jsonReport{Inkret: 1, Rules: rules, Service: r.Service,
		Summary: jsonSummary{r.Summary, bySeverity{counts["critical"], counts["high"], counts["medium"], counts["low"],
			counts["info"]}},
		Findings: []JSONFinding{}, Skipped: r.Skipped, Incomplete: r.Incomplete}
	for _, f := range r.Findings {
		out.Findings = append(out.Findings, JSONOf(f))
	}
	if out.Skipped == nil {
		out.Skipped = []finding.Skipped{}
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(out)
}
