package scan

import (
	"fmt"
	"strings"
	"testing"

	"inkret/core/detect"
	"inkret/core/exchange"
)

// tableBodies are tables, and the paths at which something is told of a cell.
var tableBodies = []struct {
	body string
	told string
}{
	{`{"columns":["id","password","email"],"rows":[[1,"hunter22x","ada@quay"],[2,"tide9swan",null]]}`,
		"$.rows[*][1] $.rows[*][2]"},
	{`{"rows":[[1,"hunter22x"]],"count":1,"columns":["id","password"]}`, "$.rows[*][1]"},
	{`{"fields":[{"name":"id","type":"int"},{"type":"text","name":"api_key"}],"values":[[1,"9f8a7c6d5e4b3a21"]]}`,
		"$.values[*][1]"},
	{`{"schema":{"fields":[{"name":"Contact-Phone"}]},"data":[["01482 441209"],["01482 441210"]]}`, "$.data[*][0]"},
	{`{"series":[{"name":"a","columns":["time","last_login_ip"],"values":[["2026","10.0.0.7"]]}]}`,
		"$.series[*].values[*][1]"},
	{`{"Column_Names":["pass\u0077ord"],"Rows":[["hunter22x"]]}`, "$.Rows[*][0]"},
	{`{"columns":["id","password"],"rows":[[1]]}`, ""},                  // no such cell
	{`{"columns":["id","password"],"rows":[["hunter22x"]]}`, ""},        // another's
	{`{"columns":["id","password"],"rows":[{"a":1}]}`, ""},              // no rows
	{`{"columns":["a"],"rows":[["x"]],"password_policy":["long"]}`, ""}, // nothing tells
	{`{"fields":{"password":{"type":"text"}},"values":[["x"]]}`, ""},    // a form, no table
	{`{"columns":["id","tokens"],"rows":[[1,12]]}`, ""},                 // a count
	{`{"columns":["passwords"],"rows":[[["hunter22x","tide9swan"]]]}`, "$.rows[*][0][*]"},
}

// TestTablesAreReadAsWhatTheyMean checks cells whose name stands in the table's list of columns, held in memory and
// read through a window, and that outlines of the bodies tell the same.
func TestTablesAreReadAsWhatTheyMean(t *testing.T) {
	j := NewJudge(nil)
	for _, c := range tableBodies {
		var told []string
		for _, s := range j.Capture(call("/x", "", c.body)).Spots {
			if told = append(told, s.Path); !strings.Contains(s.Why(), "the name of its column tells of something") &&
				s.Detector == "" {
				t.Errorf("%s: %s", c.body, s.Why())
			}
		}
		if got := strings.Join(unique(told), " "); got != c.told {
			t.Errorf("%s: told at %q, want %q", c.body, got, c.told)
		}
	}
}

func unique(all []string) (once []string) {
	met := map[string]bool{}
	for _, s := range all {
		if !met[s] {
			met[s] = true
			once = append(once, s)
		}
	}
	return once
}

// TestTablesInOutlinesAndWindows checks that outlines of tables, and tables too long to be held, tell the same.
func TestTablesInOutlinesAndWindows(t *testing.T) {
	set, j := &detect.Set{}, NewJudge(nil)
	bodies := tableBodies
	wide := fmt.Sprintf(`{"columns":["password"],"rows":[%s]}`, strings.TrimSuffix(strings.Repeat(`["hunter22x"],`, 5000),
		","))
	bodies = append(bodies, struct{ body, told string }{wide, "$.rows[*][0]"})
	for _, c := range bodies {
		capture := call("/x", "", c.body)
		whole := j.Capture(capture)
		through := throughWindow(nil, capture)
		if differs := sameVerdict(&whole, &through); differs != "" && len(c.body) < 1000 {
			t.Errorf("%s: %s", c.body, differs)
		}
		outline := exchange.Outline("application/json", []byte(c.body), func([]byte) bool { return false },
			set.StandInOf)
		was, escaped := fmt.Sprint(placed(whole.Spots)), strings.Contains(c.body, `\u`)
		left := j.Capture(call("/x", "", string(outline)))
		if is := fmt.Sprint(placed(left.Spots)); was != is && !escaped {
			t.Errorf("%.200s tells %.200s, its outline %.200s %.200s", c.body, was, outline, is)
		}
		if strings.Contains(string(outline), "hunter") {
			t.Errorf("the outline of %s is %s", c.body, outline)
		}
		if names := strings.Repeat(" ", 80<<10); j.Capture(call("/x", "", strings.Replace(c.body, "[", "["+names,
			1))).Skipped != "" {
			t.Errorf("%s is not judged with much space in it", c.body)
		}
	}
}
