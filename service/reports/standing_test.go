package reports

import (
	"strings"
	"testing"

	"inkret/store"
)

func TestTheWorstFirst(t *testing.T) {
	all := worstOf([]store.WorstOf{{Name: "b", Key: "1", Severity: 4, Open: 9}, {Name: "a", Key: "2", Severity: 5,
		Open: 1}, {Name: "c", Key: "3", Severity: 4, Open: 9}, {Name: "c", Key: "3", Severity: 3, Open: 1},
		{Name: "", Key: "", Severity: 1, Open: 1}}, "team")
	var names []string
	for _, w := range all {
		names = append(names, w.Name)
	}
	if got := strings.Join(names, " "); got != "a c b no team" || all[3].Query != "assigned=nobody" {
		t.Errorf("the worst are %s, %+v", got, all[3])
	}
}
