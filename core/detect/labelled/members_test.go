package labelled

import (
	"strings"
	"testing"
)

// TestMembersAreRight requires a little less than was measured, on kinds of API that the judge was improved with and on
// those that only measure it.
func TestMembersAreRight(t *testing.T) {
	kinds := map[string]bool{}
	for _, measured := range []bool{false, true} {
		members, err := Members(measured)
		if err != nil {
			t.Fatal(err)
		}
		harmless := 0
		for _, m := range members {
			kinds[m.Domain] = true
			if m.Class == "none" {
				harmless++
			}
		}
		if 2*harmless != len(members) {
			t.Errorf("%d of %d members are harmless, want half", harmless, len(members))
		}
		for _, q := range MeasureMembers(members) {
			if q.Precision() < 0.97 || q.Recall() < 0.96 {
				t.Errorf("measured %v: %s has precision %.3f and recall %.3f:\n%s", measured, q.Detector, q.Precision(),
					q.Recall(), strings.Join(q.Examples, "\n"))
			}
		}
	}
	if len(kinds) < 30 {
		t.Errorf("%d kinds of API, want 30", len(kinds))
	}
}
