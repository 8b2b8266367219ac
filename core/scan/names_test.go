package scan

import (
	"fmt"
	"strings"
	"testing"
)

// keyedBy returns a body with an address for each of n names.
func keyedBy(from, n int) string {
	var all []string
	for i := range n {
		all = append(all, fmt.Sprintf(`"w%s":{"mail":"%d@quay.example"}`, strings.Map(func(r rune) rune {
			return r - '0' + 'g'
		}, fmt.Sprint(from+i)), i))
	}
	return `{"by":{` + strings.Join(all, ",") + `}}`
}

// TestManyNamesAreData sees names below one path in one body and in many, and looks at the paths of a second reading.
func TestManyNamesAreData(t *testing.T) {
	for _, c := range []struct {
		bodies, each int
		data         string
	}{{1, 500, ""}, {1, 501, "[{GET /x false $.by false}]"}, {100, 5, ""}, {101, 5, "[{GET /x false $.by false}]"},
		{600, 1, "[{GET /x false $.by false}]"}, {40, 200, "[{GET /x false $.by false}]"}} {
		var names Names
		j := NewJudge(nil)
		for i := range c.bodies {
			out := j.Capture(call("/x", "", keyedBy(i*c.each, c.each)))
			names.Add(&out)
		}
		data := names.Data()
		if got := fmt.Sprint(data); got != c.data && !(c.data == "" && len(data) == 0) {
			t.Errorf("%d bodies with %d names each: %s is data, want %s", c.bodies, c.each, got, c.data)
		}
		j.Know(Known{Data: data})
		paths := map[string]bool{}
		for i := range c.bodies {
			for _, s := range j.Capture(call("/x", "", keyedBy(i*c.each, c.each))).Spots {
				paths[s.Path] = true
			}
		}
		if want := c.bodies * c.each; len(data) > 0 && (len(paths) != 1 || !paths["$.by[*].mail"]) ||
			len(data) == 0 && len(paths) != want {
			t.Errorf("%d bodies with %d names each: %d paths", c.bodies, c.each, len(paths))
		}
	}
}
