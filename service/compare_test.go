package service

import (
	"testing"

	"inkret/service/base"
)

// TestCapturesSideBySide compares a call before and after its repair, with and without
// bodies kept.
func TestCapturesSideBySide(t *testing.T) {
	for name, bodies := range map[string]bool{"bodies": true, "outlines": false} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			if err := w.Evidence.SetKeeping(t.Context(), w.who, "quay", base.KeepingTime{Bodies: bodies}); err != nil {
				t.Fatal(err)
			}
			w.upload("monday.har", recording(leaky))
			w.upload("tuesday.har", recording(clean, "<html>"))
			all, _, _, err := w.Evidence.Captures(t.Context(), base.CaptureFilter{}, base.Page{Number: 1, Size: 10})
			if err != nil || len(all) != 3 {
				t.Fatalf("%d captures, %v", len(all), err)
			}
			before, after, page := int64(1), int64(2), int64(3)
			c, err := w.Evidence.Compare(t.Context(), before, after)
			if err != nil {
				t.Fatal(err)
			}
			if c.Before.ID != before || c.After.ID != after || c.Before.Findings != 1 || c.After.Findings != 0 ||
				c.Before.Sealed != nil {
				t.Errorf("compared are %+v and %+v", c.Before, c.After)
			}
			told := map[string]string{}
			for _, p := range c.Places {
				told[p.Path] = string(p.Shift) + " " + p.Leaked + " " + p.Leaks
			}
			for path, want := range map[string]string{"$": "resized  ", "$.id": "same  ", "$.name": "same  ",
				"$.password_hash": "gone secret-value "} {
				if told[path] != want {
					t.Errorf("%s is %q, want %q", path, told[path], want)
				}
			}
			if back, err := w.Evidence.Compare(t.Context(), after, before); err != nil ||
				back.Places[len(back.Places)-1].Leaks != "secret-value" ||
				back.Places[len(back.Places)-1].Saved() >= 0 {
				t.Errorf("the other way round: %+v, %v", back.Places, err)
			}
			_, err = w.Evidence.Compare(t.Context(), before, 99)
			said(t, err, base.NotFound, "there is no capture 99")
			_, err = w.Evidence.Compare(t.Context(), page, after)
			if bodies && err == nil {
				return // what claims to be JSON and is not has a body that is kept
			}
			said(t, err, base.Conflict, "nothing is kept of the body of capture 3")
		})
	}
}
