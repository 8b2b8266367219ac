package service

import (
	"fmt"
	"strings"
	"testing"

	"inkret/core/detect/labelled"
	"inkret/service/base"
	"inkret/service/evidence"
	"inkret/store"
)

// withReferences is a body with n numbers of which the first few pass for card numbers.
func withReferences(from, n, right int) string {
	var all []string
	for i := range n {
		number := []byte(labelled.WithCheckDigit(fmt.Sprintf("4%014d", 7_919*(from+i))))
		if last := &number[len(number)-1]; i >= right {
			*last = '0' + (*last-'0'+1)%10
		}
		all = append(all, `"`+string(number)+`"`)
	}
	return `{"id":7,"name":"Ada","refs":[` + strings.Join(all, ",") + `]}`
}

// critical returns how many findings of values there are.
func (w *world) critical() int {
	w.t.Helper()
	all, _, err := w.Findings.Findings(w.t.Context(), base.FindingFilter{Kinds: []string{"secret-value"}},
		base.Page{Number: 1, Size: 10})
	if err != nil {
		w.t.Fatal(err)
	}
	return len(all)
}

// TestABatchIsSettledWhenItIsComplete grows a batch in which numbers pass for card numbers by chance: with what
// is kept of bodies and without, with a restart in between and without. While it grows each number counts for
// itself.
func TestABatchIsSettledWhenItIsComplete(t *testing.T) {
	for _, c := range []struct{ bodies, restart bool }{{true, false}, {true, true}, {false, false}, {false, true}} {
		w := newWorld(t)
		if err := w.Evidence.SetKeeping(t.Context(), w.who, "quay", store.Keeping{Bodies: c.bodies}); err != nil {
			t.Fatal(err)
		}
		b, err := w.Evidence.OpenLive(t.Context(), w.who, "quay", "stage", "")
		if err != nil {
			t.Fatal(err)
		}
		first, second := withReferences(1, 10, 1), withReferences(100, 15, 2)
		if _, err = w.Evidence.ExtendLive(t.Context(), w.who, b.ID, 1, 0,
			strings.NewReader(line(first)+line(leaky))); err != nil {
			t.Fatal(err)
		}
		if n := w.critical(); n != 2 {
			t.Errorf("%+v: while it grows there are %d", c, n)
		}
		if c.restart {
			w.Service.Close()
			w.open()
		}
		if _, err = w.Evidence.ExtendLive(t.Context(), w.who, b.ID, 2, 0, strings.NewReader(line(second))); err != nil {
			t.Fatal(err)
		}
		b, err = w.Evidence.CloseLive(t.Context(), w.who, b.ID, 0)
		if err != nil || b.Captures != 3 || b.BySeverity["critical"] != 1 || len(b.Known.Chance) != 1 {
			t.Errorf("%+v: complete it is %+v, %v", c, b, err)
		}
		if n := w.critical(); n != 1 {
			t.Errorf("%+v: there are %d", c, n)
		}
		captures, _, _, err := w.Evidence.Captures(t.Context(), base.CaptureFilter{Batch: b.ID},
			base.Page{Number: 1, Size: 10})
		if err != nil || len(captures) != 3 {
			t.Fatalf("%+v: %d captures, %v", c, len(captures), err)
		}
		for _, one := range captures {
			v, err := w.Evidence.Capture(t.Context(), one.ID)
			if err != nil {
				t.Fatal(err)
			}
			secrets := 0
			for spot := range v.Fingerprints {
				if spot.Kind.String() == "secret-value" {
					secrets++
				}
			}
			if want := strings.Count(fmt.Sprint(one.Entry), "1"); secrets != want { // the second has the hash
				t.Errorf("%+v: capture %d is shown with %d secrets, want %d", c, one.Entry, secrets, want)
			}
		}
		if b, err = w.Evidence.Correct(t.Context(), w.who, b.ID, evidence.Said{Audience: "office"}); err != nil ||
			w.critical() != 1 || len(b.Known.Chance) != 1 {
			t.Errorf("%+v: corrected there are %d, %v", c, w.critical(), err)
		}
		if up := w.upload("monday.har", recording(first, leaky, second)); up.BySeverity["critical"] != 1 ||
			w.critical() != 1 {
			t.Errorf("%+v: uploaded it is %+v", c, up)
		}
	}
}

// TestColumnsThatHoldCardsStay uploads real card numbers among few others.
func TestColumnsThatHoldCardsStay(t *testing.T) {
	w := newWorld(t)
	if b := w.upload("cards.har", recording(withReferences(1, 25, 13))); b.BySeverity["critical"] != 1 ||
		w.critical() != 1 {
		t.Errorf("it is %+v", b)
	}
	if v := w.theHash(); v.Spots != 13 || v.Path != "$.refs[*]" {
		t.Errorf("found %d at %s", v.Spots, v.Path)
	}
}
