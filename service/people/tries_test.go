package people

import (
	"strings"
	"testing"
	"time"
)

// TestGuessersFillNoMemory tries names without end.
func TestGuessersFillNoMemory(t *testing.T) {
	var g tries
	for i := range mostTried + 10 {
		g.wrong(tried{[]string{strings.Repeat("a", i%7) + string(rune(i)), "address 192.0.2.1"}}, time.Now())
	}
	if len(g.by) > mostTried {
		t.Errorf("%d addresses are remembered", len(g.by))
	}
}
