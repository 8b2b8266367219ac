package finding

import (
	"fmt"
	"strings"
	"testing"
)

func TestWhatWasSaved(t *testing.T) {
	for name, c := range map[string]struct {
		all           []Weighed
		days, savings string
	}{
		"nothing": {nil, "", ""},
		"one day": {[]Weighed{{"a", "visitor", "2026-05-01", 2, 100, 40}}, "05-01: 2 captures, 40 of 100, saved 0", ""},
		"it is mended, and called more often": {[]Weighed{{"a", "visitor", "2026-05-03", 10, 300, 20},
			{"a", "visitor", "2026-05-01", 2, 100, 40}},
			"05-01: 2 captures, 40 of 100, saved 0; 05-03: 10 captures, 20 of 300, saved 180", "a 20→2 saved 180"},
		"it gets worse": {[]Weighed{{"a", "visitor", "2026-05-01", 4, 100, 0}, {"a", "visitor", "2026-05-02", 2, 100,
			50}},
			"05-01: 4 captures, 0 of 100, saved 0; 05-02: 2 captures, 50 of 100, saved -50", "a 0→25 saved -50"},
		"an audience that comes later saves nothing": {[]Weighed{{"a", "visitor", "2026-05-01", 1, 50, 30},
			{"a", "office", "2026-05-02", 1, 90, 80}},
			"05-01: 1 captures, 30 of 50, saved 0; 05-02: 1 captures, 80 of 90, saved 0", ""},
		"the greatest saving first": {[]Weighed{{"b", "v", "2026-05-01", 1, 9, 5}, {"b", "v", "2026-05-02", 1, 9, 4},
			{"a", "v", "2026-05-01", 1, 9, 9}, {"a", "v", "2026-05-02", 1, 9, 0}},
			"05-01: 2 captures, 14 of 18, saved 0; 05-02: 2 captures, 4 of 18, saved 10",
			"a 9→0 saved 9; b 5→4 saved 1"},
		"what was withdrawn counts no more": {[]Weighed{{"a", "v", "2026-05-01", 0, 0, 0}, {"a", "v", "2026-05-02", 1,
			9, 5}}, "05-02: 1 captures, 5 of 9, saved 0", ""},
	} {
		days, savings := Savings(c.all)
		var gotDays, gotSavings []string
		for _, d := range days {
			gotDays = append(gotDays, fmt.Sprintf("%s: %d captures, %d of %d, saved %d", d.Day[5:], d.Captures,
				d.Excess, d.Bytes, d.Saved))
		}
		for _, s := range savings {
			gotSavings = append(gotSavings, fmt.Sprintf("%s %d→%d saved %d", s.Endpoint, s.First, s.Now, s.Saved))
		}
		if got := strings.Join(gotDays, "; "); got != c.days {
			t.Errorf("%s: days %q, want %q", name, got, c.days)
		}
		if got := strings.Join(gotSavings, "; "); got != c.savings {
			t.Errorf("%s: savings %q, want %q", name, got, c.savings)
		}
	}
}
