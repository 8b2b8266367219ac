package reports

import (
	"testing"

	"inkret/service/base"
)

// TestWhyAFindingIsWaived takes the reason from what was said of the waiver that is in force.
func TestWhyAFindingIsWaived(t *testing.T) {
	ask, waive, move := func(said string) base.Event {
		return base.Event{Kind: "waiver", Became: "asked for",
			Comment: said}
	},
		func(said string) base.Event { return base.Event{Kind: "move", Became: "waived", Comment: said} },
		base.Event{Kind: "move", Became: "in-repair", Comment: "mended"}
	for name, c := range map[string]struct {
		history []base.Event
		want    string
	}{
		"one who waives alone":   {[]base.Event{{Kind: "found"}, waive("a rewrite comes")}, "a rewrite comes"},
		"two":                    {[]base.Event{ask("a rewrite comes"), waive("agreed")}, "a rewrite comes; agreed"},
		"approved without words": {[]base.Event{ask("a rewrite comes"), waive("")}, "a rewrite comes"},
		"waived before":          {[]base.Event{waive("once"), move, waive("again")}, "again"},
		"asked for anew": {[]base.Event{ask("once"), waive("yes"), {Kind: "comment", Comment: "hm"}, ask("longer"),
			waive("")}, "longer"},
		"nothing": {nil, ""},
	} {
		if got := waiverReason(c.history); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}
