package detect_test

import (
	"bytes"
	"regexp"
	"strings"
	"testing"

	"inkret/core/catalog"
	"inkret/core/detect"
	"inkret/core/detect/labelled"
)

func TestStandInsAreOfTheSameForm(t *testing.T) {
	s := &detect.Set{}
	for value, want := range map[string]string{
		"low tide at Nine, 7 B": "aaa aaaa aa Aaaa, 1 A",
		"Ödön":                  "??a??a",
		"":                      "",
		"2026-05-09T10:20:30Z":  "1111-11-11T11:11:11Z",
		"2026-05-09":            "1111-11-11",
	} {
		if got := s.StandIn([]byte(value)); string(got) != want {
			t.Errorf("%q becomes %q, want %q", value, got, want)
		}
	}
}

// TestStandInsSayWhatWasRecognised checks with thousands of values that a stand-in keeps only what the value was
// recognised as.
func TestStandInsSayWhatWasRecognised(t *testing.T) {
	s := detect.NewSet([]detect.Custom{{Name: "berth key", Class: catalog.Secret,
		Pattern: regexp.MustCompile(`fqk_[0-9a-f]{8}`)}}, nil)
	values := append(labelled.Values(11, 20), labelled.Value{Text: "fqk_00ffab12",
		Detector: "detector of the contract"})
	for _, v := range values {
		value := []byte(v.Text)
		was := s.Value(value, detect.TraitsOf(value))
		got := s.StandIn(value)
		is := detect.Stood(got)
		if len(got) != len(value) || is.Found() != was.Found() || is.Class != was.Class || is.Format != was.Format ||
			is.Whole(got) != was.Whole(value) && was.Found() {
			t.Errorf("%q, a %+v, becomes %q, a %+v", value, was, got, is)
		}
		if now := s.Value(got, detect.TraitsOf(got)); now.Found() {
			t.Errorf("%q becomes %q, which is a %s", value, got, now.Detector)
		}
		if len(value) > 8 && bytes.Contains(got, value[3:8]) && strings.ContainsAny(string(value[3:8]),
			"bcdefghijklmnopqrstuvwyz023456789BCDEFGHIJKLMNOPQRSTUVWXYZ") {
			t.Errorf("%q becomes %q", value, got)
		}
	}
	for _, text := range []string{"", "x", "\ue000", "\ue000\x01abc", "\ue000~~~~", "plain"} {
		if hit := detect.Stood([]byte(text)); hit.Found() {
			t.Errorf("%q stands in for a %s", text, hit.Detector)
		}
	}
}
