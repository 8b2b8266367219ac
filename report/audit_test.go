package report

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/severity"
)

// audited is a result of a service, with hostile text wherever there is text.
func audited() *Result {
	const bad = `<script>alert(1)</script>&"'` + "\x1b[2J\u202e"
	at := time.Date(2026, 11, 26, 11, 44, 0, 0, time.UTC)
	r := &Result{Service: "quay", FailOn: severity.Medium, Version: "1.2.3", Summary: finding.Summary{Captures: 40,
		Judged: 40, Bytes: 80_000, ExcessBytes: 30_000}}
	for i, s := range []severity.Severity{severity.Critical, severity.Low} {
		r.Findings = append(r.Findings, &finding.Finding{Identity: finding.Identity{Endpoint: "GET /berths" + bad,
			Audience: bad, Status: "2XX", Path: "$." + bad, Kind: kind.SensitiveField}, Fingerprint: fmt.Sprint("f", i),
			Severity: s,
			Facts:    finding.Facts{Why: bad, Sample: bad, Spots: 1}})
	}
	r.Audit = &Audit{At: at, Since: "2026-09-01", Bytes: 270_000, Excess: 209_000, Saved: 134_000,
		States: map[string]string{"f0": "in repair"},
		Days: []AuditDay{{"2026-09-01", [5]int{7, 35, 19, 6, 0}}, {"2026-10-01", [5]int{2, 22, 17, 6, 0}},
			{"2026-11-26", [5]int{1, 3, 10, 5, 0}}},
		Proofs: []AuditProof{{severity.Critical, 7, 50 * time.Hour, 20 * 24 * time.Hour},
			{severity.Low, 1, 10 * time.Minute,
				30 * time.Hour}},
		Coverage: []AuditGap{{2, 18, "endpoints that were seen have no contract"}},
		Waivers: []AuditWaiver{{"2026-12-20", "heavy-excess", "GET /berths visitor 2XX $" + bad, "Teodor " + bad,
			"a thinner list comes " + bad, severity.Info}},
		Proven: []AuditProven{{"2026-11-02", "sensitive-field", "GET /berths visitor 2XX $" + bad, "monday" + bad,
			"it was not there", 4,
			77, "", severity.High}, {Kind: "personal-value", Doubt: "no call covers it", Severity: severity.High}}}
	return r
}

func paged(t *testing.T, r *Result) string {
	t.Helper()
	var out strings.Builder
	if err := HTML(&out, r); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestAnAuditorsReport(t *testing.T) {
	text := paged(t, audited())
	for _, want := range []string{"As of 2026-11-26 11:44 UTC", "at or above medium", "How it stands", "<svg",
		"2026-10-01", "2 of 18", "endpoints that were seen have no contract", "2 days", "20 days", "an hour",
		"30 hours",
		"209.0 kB of 270.0 kB captured since 2026-09-01", "134.0 kB more would have been", "Waivers in force",
		"2026-12-20", "a thinner list comes", "Proven fixed", "2026-11-02",
		"4 of the captures in", "the first is capture 77: it was not there", "in doubt: no call covers it",
		"<em>in repair</em>", "How each is usually mended"} {
		if !strings.Contains(text, want) {
			t.Errorf("it lacks %q", want)
		}
	}
	for _, never := range []string{"<script", "http://", "https://", "\x1b", "\u202e", "url(", "@import"} {
		if strings.Contains(strings.ReplaceAll(text, "http://www.w3.org/", ""), never) {
			t.Errorf("it has %q", never)
		}
	}
}

func TestAReportWithoutMuchToSay(t *testing.T) {
	r := audited()
	r.Findings, r.Audit.Days, r.Audit.Proofs, r.Audit.Waivers, r.Audit.Saved = nil, r.Audit.Days[:1], nil, nil, -5_000
	r.Audit.Proven = nil
	text := paged(t, r)
	for _, want := range []string{"No repair was proven in this time.", "<p>None.</p>", "No findings.",
		"5000 B less would have been"} {
		if !strings.Contains(text, want) {
			t.Errorf("it lacks %q", want)
		}
	}
	if strings.Contains(text, "<svg") {
		t.Error("of one day a line is drawn")
	}
	r.Audit = nil
	if text := paged(t, r); strings.Contains(text, "How it stands") || !strings.Contains(text, "fail the check") {
		t.Error("a check tells how a service stands")
	}
}

// TestManyDaysAreNotATableWithoutEnd bounds the table; the chart has them all.
func TestManyDaysAreNotATableWithoutEnd(t *testing.T) {
	r := audited()
	r.Audit.Days, r.Audit.Proven = nil, nil
	day := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	for i := range 200 {
		r.Audit.Days = append(r.Audit.Days, AuditDay{day.AddDate(0, 0, i).Format(time.DateOnly),
			[5]int{200 - i, 0, 0, 0, 1}})
	}
	if n := strings.Count(paged(t, r), "<tr><td>2026-"); n != lastDays+1 { // and a waiver
		t.Errorf("%d days stand in the table", n)
	}
}

// TestTheChartReadsWithoutColour checks that the chart is well-formed, that it has a line for each severity that
// ever was, and that no two lines are dashed alike.
func TestTheChartReadsWithoutColour(t *testing.T) {
	svg, err := chart(audited().Audit.Days)
	if err != nil {
		t.Fatal(err)
	}
	texts, dashed := map[string]bool{}, map[string]bool{}
	in := xml.NewDecoder(strings.NewReader(string(svg)))
	var inText bool
	for {
		token, err := in.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		switch e := token.(type) {
		case xml.StartElement:
			inText = e.Name.Local == "text"
			for _, a := range e.Attr {
				if i := strings.Index(a.Value, "stroke-dasharray:"); a.Name.Local == "style" && i >= 0 {
					dash, _, _ := strings.Cut(a.Value[i:], ";")
					dashed[dash] = true
				}
			}
		case xml.CharData:
			if inText {
				texts[strings.TrimSpace(string(e))] = true
			}
		}
	}
	for name, want := range map[string]bool{"critical": true, "high": true, "medium": true, "low": true, "info": false,
		"open findings": true} {
		if texts[name] != want {
			t.Errorf("%q stands in the chart: %v", name, texts[name])
		}
	}
	if len(dashed) < 3 {
		t.Errorf("lines are told apart by %d dashes: %v", len(dashed), dashed)
	}
	if _, err := chart([]AuditDay{{Day: "today"}, {Day: "2026-01-01"}}); err == nil {
		t.Error("a day that is none is drawn")
	}
}
