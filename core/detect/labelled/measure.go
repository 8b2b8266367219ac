package labelled

import (
	"cmp"
	"slices"

	"inkret/core/catalog"
	"inkret/core/detect"
)

// Quality is how well a detector works.
type Quality struct {
	Detector            string
	Right, Wrong, Lacks int
	Examples            []string // of what is told wrongly or not at all
}

// Precision is the share of reported values that are correct.
func (q Quality) Precision() float64 { return ratio(q.Right, q.Right+q.Wrong) }

// Recall is the share of correct values that are reported.
func (q Quality) Recall() float64 { return ratio(q.Right, q.Right+q.Lacks) }

func ratio(part, whole int) float64 {
	if whole == 0 {
		return 1
	}
	return float64(part) / float64(whole)
}

// Measure runs detectors on labelled values. It returns the quality of each, and of all together last.
func Measure(set *detect.Set, values []Value) []Quality {
	by := map[string]*Quality{}
	of := func(detector string) *Quality {
		if by[detector] == nil {
			by[detector] = &Quality{Detector: detector}
		}
		return by[detector]
	}
	all := Quality{Detector: "all"}
	note := func(q *Quality, count func(*Quality), text string) {
		const most = 5
		count(q)
		count(&all)
		if text != "" && len(q.Examples) < most {
			q.Examples = append(q.Examples, text)
		}
	}
	for _, v := range values {
		got := set.Value([]byte(v.Text), detect.TraitsOf([]byte(v.Text))).Detector
		switch {
		case got == v.Detector && got != "":
			note(of(got), func(q *Quality) { q.Right++ }, "")
		case got != v.Detector:
			if got != "" {
				note(of(got), func(q *Quality) { q.Wrong++ }, v.Text)
			}
			if v.Detector != "" {
				note(of(v.Detector), func(q *Quality) { q.Lacks++ }, v.Text)
			}
		}
	}
	var out []Quality
	for _, q := range by {
		out = append(out, *q)
	}
	slices.SortFunc(out, func(a, b Quality) int { return cmp.Compare(a.Detector, b.Detector) })
	return append(out, all)
}

// MeasureNames does the same for names, by class.
func MeasureNames(names []Name) []Quality {
	by := map[string]*Quality{"secret": {Detector: "names: secret"}, "personal": {Detector: "names: personal"}}
	for _, n := range names {
		got := ""
		if class := detect.Name([]byte(n.Text)); class != catalog.Unclassed {
			got = class.String()
		}
		if got == n.Class {
			if got != "" {
				by[got].Right++
			}
			continue
		}
		if q := by[got]; q != nil {
			q.Wrong++
			q.Examples = append(q.Examples, n.Text)
		}
		if q := by[n.Class]; q != nil {
			q.Lacks++
			q.Examples = append(q.Examples, n.Text)
		}
	}
	return []Quality{*by["personal"], *by["secret"]}
}
