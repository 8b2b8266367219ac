package report

import (
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"strings"

	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/severity"
)

// sarifSchema is the address of the format's schema.
const sarifSchema = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/" +
	"sarif-schema-2.1.0.json"

// The parts of SARIF 2.1.0 (OASIS) that are written.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool         `json:"tool"`
		ColumnKind string            `json:"columnKind"`
		Results    []sarifResult     `json:"results"`
		Invokes    []sarifInvocation `json:"invocations"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"semanticVersion,omitempty"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID         string         `json:"id"`
		Help       sarifText      `json:"help"`
		Short      sarifText      `json:"shortDescription"`
		Properties map[string]any `json:"properties"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID       string             `json:"ruleId"`
		RuleIndex    int                `json:"ruleIndex"`
		Level        string             `json:"level"`
		Message      sarifText          `json:"message"`
		Locations    []sarifLocation    `json:"locations"`
		Fingerprints map[string]string  `json:"partialFingerprints"`
		Baseline     string             `json:"baselineState,omitempty"`
		Suppressions []sarifSuppression `json:"suppressions,omitempty"`
		Occurs       int                `json:"occurrenceCount"`
		Properties   map[string]any     `json:"properties"`
	}
	sarifLocation struct {
		Physical *sarifPhysical `json:"physicalLocation,omitempty"`
		Logical  []sarifLogical `json:"logicalLocations"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn,omitempty"`
	}
	sarifLogical struct {
		Name      string `json:"name"`
		Qualified string `json:"fullyQualifiedName"`
		Kind      string `json:"kind"`
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
	sarifInvocation struct {
		Successful bool `json:"executionSuccessful"`
	}
)

var sarifLevels = map[severity.Severity]string{severity.Critical: "error", severity.High: "error",
	severity.Medium: "warning",
	severity.Low:    "note", severity.Info: "note"}

// SARIF writes the result in the Static Analysis Results Interchange Format 2.1.0. A result is located at the line
// of the contract that decided, or else at the recording.
func SARIF(w io.Writer, r *Result) error {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "Inkret", Version: r.Version}}, ColumnKind: "unicodeCodePoints",
		Results: []sarifResult{}, Invokes: []sarifInvocation{{true}}}
	index := map[kind.Kind]int{}
	for i, k := range kind.All() {
		index[k] = i
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{k.String(), sarifText{k.Mend()},
			sarifText{strings.ReplaceAll(k.String(), "-", " ")},
			map[string]any{"tags": []string{"security", fmt.Sprintf("external/cwe/cwe-%d", k.CWE())}}})
	}
	for _, f := range r.Findings {
		one := sarifResult{RuleID: f.Kind.String(), RuleIndex: index[f.Kind], Level: sarifLevels[f.Severity],
			Message: sarifText{sentence(f)}, Occurs: f.Spots,
			Locations: []sarifLocation{{sarifPlace(f),
				[]sarifLogical{{f.Path, strings.TrimSpace(f.Endpoint + " " + f.Audience + " " + f.Status + " " +
					f.Path), "member"}}}},
			Fingerprints: map[string]string{"inkret/1": f.Fingerprint},
			Properties: map[string]any{"severity": f.Severity.String(), "endpoint": f.Endpoint, "path": f.Path,
				"bytes": f.Bytes, "captures": f.Captures}}
		for name, value := range map[string]string{"audience": f.Audience, "status": f.Status, "entity": f.Entity,
			"field": f.Field, "class": f.Class, "sample": f.Sample} {
			if value != "" {
				one.Properties[name] = value
			}
		}
		if r.Baseline != nil {
			one.Baseline = "new"
			if f.Known {
				one.Baseline = "unchanged"
			}
		}
		if f.Excepted != nil {
			one.Suppressions = []sarifSuppression{{"external", f.Excepted.Reason}}
		}
		run.Results = append(run.Results, one)
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(sarifLog{sarifSchema, "2.1.0", []sarifRun{run}})
}

func sarifPlace(f *finding.Finding) *sarifPhysical {
	if f.Grant.File != "" {
		return &sarifPhysical{sarifArtifact{fileURI(f.Grant.File)}, &sarifRegion{max(f.Grant.Line, 1), f.Grant.Column}}
	}
	if f.First.File != "" {
		return &sarifPhysical{sarifArtifact{fileURI(f.First.File)}, nil}
	}
	return nil
}

// fileURI returns a file's path as a relative or absolute URI reference (RFC 3986).
func fileURI(path string) string {
	u := url.URL{Path: filepath.ToSlash(path)}
	if filepath.IsAbs(path) {
		u.Scheme = "file"
	}
	return u.String()
}

// sentence says in one line what was found where.
func sentence(f *finding.Finding) string {
	text := f.Path + " at " + f.Endpoint
	if f.Audience != "" {
		text += " for " + f.Audience
	}
	return Clean(text + ": " + f.Why)
}
