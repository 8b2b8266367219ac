package labelled

import (
	"fmt"
	"slices"
	"testing"

	"inkret/core/detect"
)

// TestDetectorsAreRight requires a precision and recall of 0.97 from each detector, and 0.99 from all together, on
// values that were made before the detectors were written.
func TestDetectorsAreRight(t *testing.T) {
	for _, seed := range []uint64{1, 2, 3} {
		for _, q := range Measure(&detect.Set{}, Values(seed, 100)) {
			least := 0.97
			if q.Detector == "all" {
				least = 0.99
			}
			if q.Precision() < least || q.Recall() < least {
				t.Errorf("seed %d: %s has precision %.3f and recall %.3f: %q", seed, q.Detector, q.Precision(),
					q.Recall(), q.Examples)
			}
		}
	}
}

func TestTheConfusingAreInTheMajority(t *testing.T) {
	values := Values(7, 10)
	none := 0
	for _, v := range values {
		if v.Detector == "" {
			none++
		}
	}
	if 2*none <= len(values) {
		t.Errorf("%d of %d values are none", none, len(values))
	}
	if !slices.Equal(values, Values(7, 10)) {
		t.Error("the same seed makes another set")
	}
	if slices.Equal(values, Values(8, 10)) {
		t.Error("another seed makes the same set")
	}
}

func TestMeasuring(t *testing.T) {
	q := Measure(&detect.Set{}, []Value{{"sol@sails.example", "e-mail address"}, {"4111111111111111", ""},
		{"no address at all", "e-mail address"}, {"words", ""}})
	want := "[{card number 0 1 0 [4111111111111111]} {e-mail address 1 0 1 [no address at all]} {all 1 1 1 []}]"
	if got := fmt.Sprint(q); got != want {
		t.Errorf("measured %s, want %s", got, want)
	}
	if q[2].Precision() != 0.5 || q[2].Recall() != 0.5 {
		t.Errorf("precision %v, recall %v", q[2].Precision(), q[2].Recall())
	}
}

func TestNamesAreRight(t *testing.T) {
	for _, q := range MeasureNames(Names(3, 30)) {
		if q.Precision() < 0.99 || q.Recall() < 0.99 || q.Right == 0 {
			t.Errorf("%s: precision %.3f and recall %.3f: %q", q.Detector, q.Precision(), q.Recall(), q.Examples)
		}
	}
}

func TestNationalPhoneNumbersAreRight(t *testing.T) {
	values := National(5, 100)
	for _, q := range Measure(detect.NewSet(nil, Countries), values) {
		if q.Precision() < 0.99 || q.Recall() < 0.99 || q.Right == 0 {
			t.Errorf("%s: precision %.3f and recall %.3f: %q", q.Detector, q.Precision(), q.Recall(), q.Examples)
		}
	}
	for _, q := range Measure(&detect.Set{}, values) {
		if q.Right != 0 {
			t.Errorf("where no country is named, %d are recognised as a %s", q.Right, q.Detector)
		}
	}
}
