package service

import (
	"fmt"
	"strings"
	"testing"

	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/service/base"
	"inkret/service/reports"
)

// sent sends findings of a line, by their fingerprints.
func (w *world) sent(line string, prints ...string) reports.ResultView {
	w.t.Helper()
	r := base.Result{Service: "quay", Line: line, Rules: 3}
	for _, p := range prints {
		r.Findings = append(r.Findings, finding.Checked{Fingerprint: p, Kind: "secret-value", Severity: severity.High,
			Endpoint: "GET /skippers/{id}", Path: "$.x"})
	}
	v, err := w.Reports.SendResult(w.t.Context(), w.who, r)
	if err != nil {
		w.t.Fatal(err)
	}
	return v
}

func digits(n int) string { return fmt.Sprintf("%016x", n) }

func TestResultsAreHeldAgainstTheMainLineBefore(t *testing.T) {
	w := newWorld(t)
	w.upload("monday.har", recording(leaky))
	hash := w.theHash().ID
	first := w.sent("berths", hash, digits(1))
	if first.Against != nil || len(first.Fresh) != 2 || first.States[hash] != "new" || first.States[digits(1)] != "" ||
		first.Main || first.Author != "Noor Adeyar" {
		t.Errorf("with no main line: %+v", first)
	}
	main := w.sent("main", digits(1), digits(2))
	if !main.Main || main.Against != nil {
		t.Errorf("the first of the main line: %+v", main)
	}
	next := w.sent("main", digits(1))
	if next.Against == nil || next.Against.ID != main.ID || len(next.Gone) != 1 ||
		next.Gone[0].Fingerprint != digits(2) || len(next.Same) != 1 {
		t.Errorf("the second of the main line: %+v", next)
	}
	then := w.sent("berths", hash, digits(1))
	if then.Against.ID != next.ID || len(then.Fresh) != 1 || then.Fresh[0].Fingerprint != hash {
		t.Errorf("against the main line: %+v", then)
	}
	w.sent("main", hash)
	if again, err := w.Reports.Result(t.Context(), then.ID); err != nil || again.Against.ID != next.ID ||
		len(again.Fresh) != 1 {
		t.Errorf("what came later changes it: %+v, %v", again, err)
	}
	if err := w.Reports.SetMainLine(t.Context(), w.who, "quay", "berths"); err != nil {
		t.Fatal(err)
	}
	if again, err := w.Reports.Result(t.Context(), then.ID); err != nil || again.Against.ID != next.ID ||
		len(again.Fresh) != 1 || !again.Main {
		t.Errorf("with another main line it is held against another: %+v, %v", again, err)
	}
	list, total, err := w.Reports.Results(t.Context(), "quay", "main", base.Page{Number: 1, Size: 2})
	if err != nil || total != 3 || len(list) != 2 || list[0].Main || list[0].BySeverity[severity.High] != 1 ||
		list[0].Findings != nil {
		t.Errorf("%d of %d: %+v, %v", len(list), total, list, err)
	}
	if err := w.Reports.DropResult(t.Context(), w.who, main.ID); err != nil {
		t.Fatal(err)
	}
	if again, err := w.Reports.Result(t.Context(), next.ID); err != nil || again.Against.ID != main.ID ||
		len(again.Gone) != 1 {
		t.Errorf("what it was held against is forgotten: %+v, %v", again, err)
	}
	for name, err := range map[string]error{"forgotten twice": w.Reports.DropResult(t.Context(), w.who, main.ID),
		"a main line of nothing": w.Reports.SetMainLine(t.Context(), w.who, "none", "x"),
		"what is forgotten":      func() error { _, err := w.Reports.Result(t.Context(), main.ID); return err }()} {
		if code(err) != base.NotFound {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestOldResultsMakeRoom keeps the last hundred of a line, and those of others.
func TestOldResultsMakeRoom(t *testing.T) {
	w := newWorld(t)
	main := w.sent("main", digits(1))
	for i := range 103 {
		w.sent("berths", digits(i))
	}
	if list, total, err := w.Reports.Results(t.Context(), "", "berths", base.Page{Number: 2, Size: 60}); err != nil ||
		total != 100 || len(list) != 40 || list[39].ID != main.ID+4 {
		t.Errorf("%d of %d, %v", len(list), total, err)
	}
	if _, err := w.Reports.Result(t.Context(), main.ID); err != nil {
		t.Errorf("another line's: %v", err)
	}
}

func TestResultsThatCannotBe(t *testing.T) {
	w := newWorld(t)
	f := func(change func(*finding.Checked)) []finding.Checked {
		one := finding.Checked{Fingerprint: digits(1), Kind: "secret-value", Severity: severity.High}
		change(&one)
		return []finding.Checked{one}
	}
	same := func(*finding.Checked) {}
	for name, c := range map[string]struct {
		r    base.Result
		code base.Code
		says string
	}{
		"no line": {base.Result{Service: "quay", Line: " "}, base.Invalid, "line of development"},
		"a link that runs": {base.Result{Service: "quay", Line: "a", Link: "javascript:alert(1)"}, base.Invalid,
			"no address of http"},
		"no kind": {base.Result{Service: "quay", Line: "a",
			Findings: f(func(c *finding.Checked) { c.Kind = "leak" })}, base.Invalid, `no finding is a "leak"`},
		"no fingerprint": {base.Result{Service: "quay", Line: "a",
			Findings: f(func(c *finding.Checked) { c.Fingerprint = "<b>" })}, base.Invalid, "no fingerprint"},
		"twice": {base.Result{Service: "quay", Line: "a", Findings: append(f(same), f(same)...)}, base.Invalid,
			"told twice"},
		"too many": {base.Result{Service: "quay", Line: "a", Findings: make([]finding.Checked, 50_001)}, base.Invalid,
			"at most 50000"},
		"no service": {base.Result{Service: "none", Line: "a"}, base.NotFound, "there is no service"},
	} {
		if _, err := w.Reports.SendResult(t.Context(), w.who, c.r); code(err) != c.code ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
