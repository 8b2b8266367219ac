package scan

import (
	"fmt"
	"strings"
	"testing"

	"inkret/core/detect"
	"inkret/core/exchange"
)

// pairBodies are lists of pairs, and how often something is told of a value in them.
var pairBodies = []struct {
	body string
	told int
}{
	{`[{"key":"password","value":"hunter22x"},{"key":"theme","value":"dark"}]`, 1},
	{`[{"value":"hunter22x","key":"password"}]`, 1},
	{`[{"name":"Contact-Email","value":"ada at quay"},{"name":"api_key","val":"9f8a7c6d5e4b3a21"}]`, 1},
	{`{"settings":[{"id":1,"field":"account_no","type":"text","value":"NL-8841-22"}]}`, 1},
	{`[{"Key":"smtp\u005fpassword","Value":"hunter22x"}]`, 1},
	{`[{"k":"passwords","v":["hunter22x","tide9swan"]}]`, 2},
	{`[{"value":"hunter22x","of":1,"by":2,"at":3,"on":4,"key":"password"}]`, 0}, // too far behind
	{`[{"key":"password","value":""},{"key":"password","value":true},{"key":"password","value":null}]`, 0},
	{`[{"key":"password"},{"value":"hunter22x"}]`, 0},       // not beside each other
	{`[{"key":{"key":"password"},"value":"hunter22x"}]`, 0}, // no text
	{`[{"name":"prompt_tokens","value":12},{"name":"pan","value":0.5}]`, 0},
	{`[{"key":"password","value":{"value":"hunter22x"}}]`, 0},
	{`[{"name":"gender","values":["f","m"]}]`, 0}, // what there is to choose from
	{`{"name":"a harbour whose secret everybody knows by now","value":"low water"}`, 0},
}

// TestPairsAreReadAsWhatTheyMean checks values whose name stands beside them.
func TestPairsAreReadAsWhatTheyMean(t *testing.T) {
	j := NewJudge(nil)
	for _, c := range pairBodies {
		out := j.Capture(call("/x", "", c.body))
		told := 0
		for _, s := range out.Spots {
			if told++; !strings.Contains(s.Path, "al") && !strings.Contains(s.Path, ".v[*]") {
				t.Errorf("%s: told at %s", c.body, s.Path)
			}
			if why := s.Why(); !strings.Contains(why, "the key beside it tells of something") {
				t.Errorf("%s: %s", c.body, why)
			}
		}
		if told != c.told || out.Skipped != "" {
			t.Errorf("%s: %d told, want %d: %+v", c.body, told, c.told, out.Spots)
		}
	}
}

// TestPairsInOutlines checks that what stands in for a pair is judged as the pair was, and tells neither part.
func TestPairsInOutlines(t *testing.T) {
	set := &detect.Set{}
	j := NewJudge(nil)
	for _, c := range pairBodies {
		outline := exchange.Outline("application/json", []byte(c.body), func([]byte) bool { return false },
			set.StandInOf)
		whole, left := j.Capture(call("/x", "", c.body)), j.Capture(call("/x", "", string(outline)))
		was, is := fmt.Sprint(placed(whole.Spots)), fmt.Sprint(placed(left.Spots))
		if escaped := strings.Contains(c.body, `\u`); was != is && !escaped {
			t.Errorf("%s tells %s, its outline %s %s", c.body, was, outline, is)
		}
		if strings.Contains(string(outline), "assword") || strings.Contains(string(outline), "hunter") {
			t.Errorf("the outline of %s is %s", c.body, outline)
		}
	}
}

// TestPairsThroughAWindow checks that pairs are told the same in a body that is too long to be held.
func TestPairsThroughAWindow(t *testing.T) {
	for _, c := range pairBodies {
		capture := call("/x", "", c.body)
		whole, through := NewJudge(nil).Capture(capture), throughWindow(nil, capture)
		if differs := sameVerdict(&whole, &through); differs != "" {
			t.Errorf("%s: %s", c.body, differs)
		}
	}
}
