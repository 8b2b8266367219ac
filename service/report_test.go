package service

import (
	"net/url"
	"strings"
	"testing"

	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/report"
	"inkret/service/base"
	"inkret/service/reports"
)

func TestAReportOfWhatIsTracked(t *testing.T) {
	w := newWorld(t)
	all := w.several()
	w.other()
	teodor := w.person("Teodor", base.Lead)
	hash := w.ofQuay("secret-value")
	w.waive(w.who, hash.ID, "2026-06-01")
	if _, err := w.Findings.Move(t.Context(), teodor, hash.ID, finding.Move{To: finding.Waived,
		Comment: "agreed"}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Findings.Move(t.Context(), w.who, w.ofQuay("unexpected-field").ID, finding.Move{To: finding.NotALeak,
		Comment: "a counter"}); err != nil {
		t.Fatal(err)
	}
	ask := func(query string) *report.Result {
		t.Helper()
		q, err := url.ParseQuery(query)
		if err != nil {
			t.Fatal(err)
		}
		r, err := w.Reports.Report(t.Context(), w.who, "quay", q, severity.Medium)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	r := ask("state=any")
	if len(r.Findings) != len(all) || r.Findings[0].Severity != severity.Critical || r.Summary.Captures != 1 ||
		r.Summary.ExcessBytes != 121 {
		t.Errorf("%d findings, %+v", len(r.Findings), r.Summary)
	}
	excepted := map[string]string{}
	for _, f := range r.Findings {
		if f.Excepted != nil {
			excepted[f.Kind.String()] = f.Excepted.Reason
		}
	}
	if len(excepted) != 2 || excepted["secret-value"] != "waived until 2026-06-01" ||
		excepted["unexpected-field"] != "not a leak" {
		t.Errorf("excepted are %v", excepted)
	}
	a := r.Audit
	if len(a.Waivers) != 1 || a.Waivers[0].Approver != "Teodor" ||
		a.Waivers[0].Reason != "until the kiosk is gone; agreed" || a.Waivers[0].Until != "2026-06-01" ||
		a.Waivers[0].Severity != severity.Critical {
		t.Errorf("waivers %+v", a.Waivers)
	}
	if len(a.Days) != 1 || a.Days[0].Open != [5]int{0, 1, 1, 0, 0} || len(a.Coverage) != len(reports.GapWords) ||
		a.Coverage[1].Of != 1 || a.Excess != 121 || a.Saved != 0 || a.States[hash.ID] != "waived" {
		t.Errorf("%+v", a)
	}
	if open := ask(""); len(open.Findings) != 2 || len(open.Audit.Waivers) != 1 {
		t.Errorf("of what is open: %d findings, waivers %+v", len(open.Findings), open.Audit.Waivers)
	}
	if of := ask("service=till&kind=secret-value&state=any"); len(of.Findings) != 1 ||
		of.Findings[0].Service != "quay" {
		t.Errorf("another service's: %+v", of.Findings)
	}
	for name, c := range map[string]struct {
		service, query string
		code           base.Code
	}{"no service": {"none", "", base.NotFound}, "no such state": {"quay", "state=asleep", base.Invalid}} {
		q, _ := url.ParseQuery(c.query)
		if _, err := w.Reports.Report(t.Context(), w.who, c.service, q, severity.Medium); code(err) != c.code {
			t.Errorf("%s: %v", name, err)
		}
	}
	for format, write := range report.Writers {
		var out strings.Builder
		if err := write(&out, r); err != nil || !strings.Contains(out.String(), "GET /skippers/{id}") ||
			strings.Contains(out.String(), secretHash) {
			t.Errorf("as %s: %v\n%.300s", format, err, out.String())
		}
	}
}

// ofQuay returns the finding of a kind at the quay.
func (w *world) ofQuay(kind string) base.Finding {
	w.t.Helper()
	all, _, err := w.Findings.Findings(w.t.Context(), base.FindingFilter{Service: "quay", Kinds: []string{kind}},
		base.Page{Number: 1, Size: 10})
	if err != nil || len(all) != 1 {
		w.t.Fatalf("%d findings are %s, %v", len(all), kind, err)
	}
	return all[0]
}
