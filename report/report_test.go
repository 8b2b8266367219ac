package report

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"inkret/core/contract"
	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/severity"
)

func result() *Result {
	first := &finding.Finding{Identity: finding.Identity{Service: "s", Endpoint: "GET /a/{id}", Audience: "visitor",
		Direction: "response", Status: "200", Path: "$.data.email", Kind: kind.SensitiveField},
		Fingerprint: "00112233445566ff", Severity: severity.High, Bytes: 140, First: finding.First{File: "monday.har",
			Entry: 3, Pointer: "/data/email"},
		Facts: finding.Facts{AudienceBy: "assumed", Entity: "Skipper", Field: "email", Class: "personal", Spots: 4,
			Captures: 2, Sample: "s•••@•••", Why: "not granted; Skipper.email is personal"}}
	second := &finding.Finding{Identity: finding.Identity{Service: "s", Endpoint: "GET /b", Direction: "response",
		Path: "$", Kind: kind.UnknownEndpoint}, Fingerprint: "ffee", Severity: severity.Low,
		Excepted: &contract.Exception{Reason: "known"},
		Facts:    finding.Facts{Spots: 1, Captures: 1, Why: "no contract for this endpoint"}}
	return &Result{Service: "s", Summary: finding.Summary{Captures: 3, Judged: 2, Skipped: 1, Bytes: 20000,
		ExcessBytes: 5000}, Findings: []*finding.Finding{first, second},
		Skipped: []finding.Skipped{{File: "monday.har", Entry: 7, Reason: "image/png is not a body Inkret reads"}}}
}

func TestJSONIsAsDocumented(t *testing.T) {
	var b bytes.Buffer
	if err := JSON(&b, result()); err != nil {
		t.Fatal(err)
	}
	var got, want any
	if err := json.Unmarshal(b.Bytes(), &got); err != nil {
		t.Fatal(err)
	}
	documented := `{"inkret": 1, "rules": 4, "service": "s",
	 "summary": {"captures": 3, "judged": 2, "skipped": 1, "bytes": 20000, "excess_bytes": 5000, "undetermined": 0, "by_severity": {"critical": 0, "high": 1, "medium": 0, "low": 1, "info": 0}},
	 "findings": [{"fingerprint": "00112233445566ff", "kind": "sensitive-field", "severity": "high", "cwe": 213, "endpoint": "GET /a/{id}", "audience": "visitor", "audience_by": "assumed",
	   "direction": "response", "status": 200, "path": "$.data.email", "entity": "Skipper", "field": "email", "class": "personal", "spots": 4, "captures": 2, "bytes": 140,
	   "sample": "s•••@•••", "why": "not granted; Skipper.email is personal", "first": {"file": "monday.har", "entry": 3, "pointer": "/data/email"}},
	  {"fingerprint": "ffee", "kind": "unknown-endpoint", "severity": "low", "cwe": 1059, "endpoint": "GET /b", "direction": "response", "path": "$", "spots": 1, "captures": 1, "bytes": 0,
	   "why": "no contract for this endpoint", "excepted": true, "exception": "known", "first": {"file": "", "entry": 0, "pointer": ""}}],
	 "skipped": [{"file": "monday.har", "entry": 7, "reason": "image/png is not a body Inkret reads"}]}`
	if err := json.Unmarshal([]byte(documented), &want); err != nil {
		t.Fatal(err)
	}
	gotText, _ := json.Marshal(got)
	wantText, _ := json.Marshal(want)
	if !bytes.Equal(gotText, wantText) {
		t.Errorf("written:\n%s\nwant:\n%s", gotText, wantText)
	}
}

func TestNothingFoundIsListsNotNull(t *testing.T) {
	var b bytes.Buffer
	if err := JSON(&b, &Result{}); err != nil {
		t.Fatal(err)
	}
	if text := b.String(); !strings.Contains(text, `"findings": []`) || !strings.Contains(text, `"skipped": []`) ||
		strings.Contains(text, `"service"`) {
		t.Errorf("written:\n%s", text)
	}
}

func TestTableTellsEverythingWithoutColour(t *testing.T) {
	var b bytes.Buffer
	if err := Table(&b, result(), false, 0); err != nil {
		t.Fatal(err)
	}
	text := b.String()
	for _, want := range []string{"!  high", "sensitive-field", "GET /a/{id}", "visitor · 200 · audience assumed",
		"$.data.email  s•••@•••", "not granted; Skipper.email is personal",
		"excepted: known", "skipped 1: image/png is not a body Inkret reads (first: monday.har, entry 7)",
		"3 captures: 2 judged, 1 skipped; 20.0 kB, 5000 B of it granted to nobody who got it (25%).",
		"2 findings: 1 high, 1 low."} {
		if !strings.Contains(text, want) {
			t.Errorf("the table lacks %q:\n%s", want, text)
		}
	}
	if strings.ContainsRune(text, '\x1b') {
		t.Error("there are colour codes in it")
	}
	b.Reset()
	Table(&b, result(), true, 100)
	if !strings.ContainsRune(b.String(), '\x1b') {
		t.Error("there is no colour where it is wanted")
	}
}

func TestHostileTextDoesNotReachTheTerminal(t *testing.T) {
	r := result()
	r.Findings[0].Path, r.Findings[0].Endpoint = "$['\x1b[2J\x07']", "GET /\u202eevil\u009b"
	r.Skipped[0].Reason = "line\nfeed\rand \x1b]0;title\x07"
	var b bytes.Buffer
	if err := Table(&b, r, false, 80); err != nil {
		t.Fatal(err)
	}
	if strings.ContainsAny(b.String(), "\x1b\x07\r\u202e\u009b") || strings.Contains(b.String(), "line\nfeed") {
		t.Errorf("written: %q", b.String())
	}
}

func TestBytes(t *testing.T) {
	for n, want := range map[int]string{0: "0 B", 9999: "9999 B", 20500: "20.5 kB", 12_300_000: "12.3 MB"} {
		if got := Bytes(n); got != want {
			t.Errorf("%d is written %s, want %s", n, got, want)
		}
	}
}
