package httpapi

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/service/base"
	"inkret/service/findings"
)

// filled returns a finding whose fields all hold something.
func filled(t *testing.T) base.Finding {
	t.Helper()
	var f base.Finding
	var fill func(reflect.Value)
	fill = func(v reflect.Value) {
		switch at := v.Addr().Interface().(type) {
		case *string:
			*at = "some"
		case *int:
			*at = 3
		case *int64:
			*at = 4
		case *time.Time:
			*at = time.Unix(1_900_000_000, 0).UTC()
		case *[]string:
			*at = []string{"some"}
		case *[]uint64:
			*at = []uint64{5}
		case *finding.Facts:
			for _, inner := range v.Fields() {
				fill(inner)
			}
		default:
			t.Fatalf("this test does not fill a %T", at)
		}
	}
	for _, v := range reflect.ValueOf(&f).Elem().Fields() {
		fill(v)
	}
	f.Kind = kind.SecretValue.String()
	return f
}

// TestEveryFieldOfAFindingIsGivenOut checks that nothing is forgotten between the records, the description and the
// encoding: each property of the description is filled, and each field of a finding changes what is given out.
func TestEveryFieldOfAFindingIsGivenOut(t *testing.T) {
	given := func(f base.Finding) string {
		text, err := json.Marshal(findingDetailOf(findings.FindingView{Finding: f}))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	for field, v := range reflect.ValueOf(findingOf(filled(t))).Fields() {
		if v.IsZero() || v.Kind() == reflect.Pointer && v.Elem().IsZero() {
			t.Errorf("%s of the description is not filled", field.Name)
		}
	}

	var dropped func(f *base.Finding, of reflect.Value)
	dropped = func(f *base.Finding, of reflect.Value) {
		for field, v := range of.Fields() {
			if field.Anonymous {
				dropped(f, v)
				continue
			}
			before, was := given(*f), reflect.ValueOf(v.Interface())
			v.SetZero()
			inside := []string{"Prints", "Version"} // for the same value elsewhere, and for undoing
			if same := given(*f) == before; same != slices.Contains(inside, field.Name) {
				t.Errorf("without %s, what is given out is the same: %v", field.Name, same)
			}
			v.Set(was)
		}
	}
	f := filled(t)
	dropped(&f, reflect.ValueOf(&f).Elem())
	if strings.Contains(given(f), `"prints"`) {
		t.Error("the prints of values are given out")
	}
}
