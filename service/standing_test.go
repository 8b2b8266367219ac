package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/core/severity"
	"inkret/service/base"
)

// TestHowItStands lets findings come, be mended, proven, and come back, a day each.
func TestHowItStands(t *testing.T) {
	w := newWorld(t)
	day := func() { w.clock.now = w.clock.now.AddDate(0, 0, 1) }
	on := func(text string) string {
		return strings.ReplaceAll(text, "2026-05-01", w.clock.now.Format(time.DateOnly))
	}
	w.several()
	hash := w.theHash()
	day()
	if _, err := w.Findings.Move(t.Context(), w.who, hash.ID, finding.Move{To: finding.AwaitingProof}); err != nil {
		t.Fatal(err)
	}
	day()
	w.upload("proof.har", on(recording(clean)))
	day()
	all, _, err := w.Findings.Findings(t.Context(), base.FindingFilter{Kinds: []string{"unexpected-field"}},
		base.Page{Number: 1, Size: 9})
	if err != nil || len(all) != 1 {
		t.Fatal(len(all), err)
	}
	if _, err := w.Findings.Move(t.Context(), w.who, all[0].ID, finding.Move{To: finding.NotALeak,
		Comment: "x is a counter"}); err != nil {
		t.Fatal(err)
	}
	day()
	w.upload("again.har", on(recording(leaky)))
	day()

	s, err := w.Reports.Standing(t.Context(), base.StandingFilter{}, 30)
	if err != nil {
		t.Fatal(err)
	}
	var days []string
	for _, d := range s.Days {
		days = append(days, fmt.Sprintf("%s c%d h%d m%d +%d -%d", d.Day, d.Open[severity.Critical],
			d.Open[severity.High],
			d.Open[severity.Medium], d.Found, d.Ended))
	}
	want := "2026-04-06 c0 h0 m0 +0 -0\n2026-05-01 c1 h1 m2 +4 -0\n2026-05-03 c0 h1 m2 +0 -1\n2026-05-04 c0 h1 m1 " +
		"+0 -1\n2026-05-05 c1 h1 m1 +1 -0\n2026-05-06 c1 h1 m1 +0 -0"
	if got := strings.Join(days, "\n"); got != want {
		t.Errorf("days\n%s\nwant\n%s", got, want)
	}
	if len(s.Proofs) != 1 || s.Proofs[0].Severity != severity.Critical || s.Proofs[0].Proofs != 1 ||
		s.Proofs[0].Median != 48*time.Hour {
		t.Errorf("proofs %+v", s.Proofs)
	}
	if len(s.Endpoints) != 1 || s.Endpoints[0].Name != "GET /skippers/{id}" ||
		s.Endpoints[0].Open[severity.Critical] != 1 || !strings.HasPrefix(s.Endpoints[0].Query, "endpoint=") {
		t.Errorf("endpoints %+v", s.Endpoints)
	}
	var weights []string
	for _, d := range s.Weights {
		weights = append(weights, fmt.Sprintf("%s %d captures, excess %d, saved %d", d.Day, d.Captures, d.Excess,
			d.Saved))
	}
	// the first capture had four members too many, the proof none, and the last one of them again
	if got, want := strings.Join(weights, "\n"),
		"2026-05-01 1 captures, excess 121, saved 0\n2026-05-03 1 captures, excess 0, saved 121\n2026-05-05 1 "+
			"captures, excess 78, saved 43"; got != want {
		t.Errorf("weights\n%s\nwant\n%s", got, want)
	}
	if len(s.Savings) != 1 || s.Savings[0].Name != "GET /skippers/{id}" || s.Savings[0].First != 121 ||
		s.Savings[0].Now != 78 || s.Savings[0].Saved != 164 {
		t.Errorf("savings %+v", s.Savings)
	}
	if len(s.Fields) != 2 || s.Fields[0].Name != "Skipper.password_hash" ||
		s.Fields[0].Query != "entity=Skipper&field=password_hash" || s.Fields[1].Name != "Skipper.email" {
		t.Errorf("fields %+v", s.Fields)
	}
	if len(s.Teams) != 1 || s.Teams[0].Name != "accounts" || s.Teams[0].Query != "assigned=team%3Aaccounts" {
		t.Errorf("teams %+v", s.Teams)
	}
	later, err := w.Reports.Standing(t.Context(), base.StandingFilter{Service: "quay", Team: "accounts"}, 2)
	if err != nil || len(later.Days) != 3 || later.Days[0].Day != "2026-05-04" ||
		later.Days[0].Open[severity.High] != 1 ||
		later.Days[0].Found != 0 || later.Days[0].Ended != 1 {
		t.Errorf("the last two days %+v, %v", later.Days, err)
	}
	if other, err := w.Reports.Standing(t.Context(), base.StandingFilter{Team: "none"}, 30); err != nil ||
		len(other.Days) != 2 ||
		other.Days[1].Open[severity.High] != 0 || len(other.Endpoints) != 0 {
		t.Errorf("of another team %+v, %v", other, err)
	}
}

func TestHowItStandsWithNothingFound(t *testing.T) {
	w := newWorld(t)
	for range 2 { // the second time it is known
		s, err := w.Reports.Standing(t.Context(), base.StandingFilter{}, 7)
		if err != nil || len(s.Days) != 2 || s.Days[1].Open[severity.Critical] != 0 || len(s.Endpoints) != 0 ||
			len(s.Proofs) != 0 {
			t.Errorf("%+v, %v", s, err)
		}
	}
}
