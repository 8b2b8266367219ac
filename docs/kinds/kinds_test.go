package kinds

import (
	"strings"
	"testing"

	"inkret/core/kind"
)

// TestEveryKindHasItsPage compares the pages with the kinds: name, severity, weakness, and how it is mended.
func TestEveryKindHasItsPage(t *testing.T) {
	for _, k := range kind.All() {
		text, ok := Page(k.String())
		if !ok {
			t.Errorf("%s has no page", k)
			continue
		}
		joined := strings.Join(strings.Fields(text), " ")
		for _, want := range []string{"# " + k.String() + " ", "Severity: ", "## It is told when ",
			"## It is not told of ", "## It looks so ", "## It is usually mended so " + k.Mend()} {
			if !strings.Contains(joined, strings.Join(strings.Fields(want), " ")) {
				t.Errorf("the page of %s lacks %q", k, want)
			}
		}
		if s := Summary(k.String()); len(s) < 40 || strings.Contains(s, "\n") || strings.HasPrefix(s, "#") {
			t.Errorf("the summary of %s is %q", k, s)
		}
	}
	if _, ok := Page("nothing"); ok {
		t.Error("a kind that is none has a page")
	}
	if s := Summary("nothing"); s != "" {
		t.Errorf("and a summary: %q", s)
	}
}
