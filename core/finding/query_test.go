package finding

import (
	"net/url"
	"reflect"
	"strings"
	"testing"
)

// TestEveryFilterIsReadAndWritten reads a query with every filter, and writes it again.
func TestEveryFilterIsReadAndWritten(t *testing.T) {
	said := map[string]string{"state": "new,in-repair", "severity": "critical,high", "kind": "secret-value",
		"due": "2027-03-31", "waiver": "asked", "proof": "doubted", "batch": "7", "sort": "-due"}
	values := url.Values{}
	for _, f := range Filters() {
		if said[f.Name] == "" {
			said[f.Name] = "some " + f.Name + " & more"
		}
		if values.Set(f.Name, said[f.Name]); f.Words == "" || strings.Count(f.Words, "`")%2 != 0 {
			t.Errorf("%s says of itself %q", f.Name, f.Words)
		}
	}
	q, err := ParseQuery(values)
	if err != nil {
		t.Fatal(err)
	}
	for f, v := range reflect.ValueOf(q).Fields() {
		if v.IsZero() {
			t.Errorf("no filter fills %s", f.Name)
		}
	}
	if q.Encode() != values.Encode() {
		t.Errorf("%s becomes %s", values.Encode(), q.Encode())
	}
	again, err := url.ParseQuery(q.Encode())
	if err != nil {
		t.Fatal(err)
	}
	if second, err := ParseQuery(again); err != nil || !reflect.DeepEqual(second, q) {
		t.Errorf("%+v becomes %+v, %v", q, second, err)
	}
}

func TestQueriesThatNoListKnows(t *testing.T) {
	for query, says := range map[string]string{
		"colour=red": "no filter colour", "state=gone": "no state gone", "severity=dire": "no severity dire",
		"kind=secret-value,x": "no kind x", "due=soon": "due is", "due=2027-02-30": "due is",
		"waiver=given": "can be `asked`", "proof=x": "can be `doubted`", "batch=x": "named by its number",
		"sort=colour": "no order by colour",
		"sort=--due":  "no order by",
	} {
		values, err := url.ParseQuery(query)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := ParseQuery(values); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %q", query, err, says)
		}
	}
	for query, want := range map[string]string{"": "new returned confirmed in-repair awaiting-proof", "state=any": "",
		"state=open,closed": "new returned confirmed in-repair awaiting-proof closed", "state=waived any": "",
		"page=2&size=9": "new returned confirmed in-repair awaiting-proof"} {
		values, _ := url.ParseQuery(query)
		q, err := ParseQuery(values)
		if got := strings.Join(q.InStates(), " "); err != nil || got != want {
			t.Errorf("%q is in the states %q, want %q, %v", query, got, want, err)
		}
	}
}
