package main

import (
	"fmt"
	"strings"

	"inkret/core/detect"
	"inkret/core/detect/labelled"
)

// detectors prints precision and recall of each detector, on values that the tests do not use, and checks that none
// takes quadratic time.
func detectors() error {
	values := labelled.Values(20270301, 400)
	none := 0
	for _, v := range values {
		if v.Detector == "" {
			none++
		}
	}
	fmt.Printf("  %d labelled values, %d of them nothing          precision  recall\n", len(values), none)
	for _, q := range append(labelled.Measure(&detect.Set{}, values),
		labelled.MeasureNames(labelled.Names(20270301, 100))...) {
		fmt.Printf("  %-46s      %.4f  %.4f\n", q.Detector, q.Precision(), q.Recall())
	}
	for _, q := range labelled.Measure(detect.NewSet(nil, labelled.Countries), labelled.National(20270301, 400))[:1] {
		fmt.Printf("  %-46s      %.4f  %.4f\n", q.Detector+", national, of named countries", q.Precision(), q.Recall())
	}
	if err := members(); err != nil {
		return err
	}
	return adversarial()
}

// members prints how members of many kinds of API are judged, name and value together.
func members() error {
	for _, measured := range []bool{false, true} {
		all, err := labelled.Members(measured)
		if err != nil {
			return err
		}
		kinds := map[string]bool{}
		for _, m := range all {
			kinds[m.Domain] = true
		}
		of := "that the judge was improved with"
		if measured {
			of = "for measuring only"
		}
		for _, q := range labelled.MeasureMembers(all) {
			fmt.Printf("  %-52s%.4f  %.4f  (%d kinds of API %s)\n", q.Detector, q.Precision(), q.Recall(), len(kinds),
				of)
		}
	}
	return nil
}

// adversarial times detectors on hostile input of one length and of eight times that length: linear time means a
// factor of eight.
func adversarial() error {
	const length, times = 32 << 10, 8
	set := &detect.Set{}
	worst, of := 0.0, ""
	for _, part := range []string{"@", "a@", "a@b.", "$2b$", "$argon2id$v=1", "eyJ", "eyJ.", "-----BEGIN ", "4", "4 ",
		"4111-", "GB82 ", "://", "a://b:c@", "?token=", "&sig=a", "%41", "AKIA", "ghp_", "Bearer ", "Basic ", "a=b;",
		"password=x;user=y;", ":", "1.", "ff:", "rue a ", "1 a b c d ", ", 1", "=", "A1", "x1Y"} {
		run := func(n int) float64 {
			v := []byte(strings.Repeat(part, n/len(part)))
			t := detect.TraitsOf(v)
			return timed(func() { set.Value(v, t) })
		}
		if grows := run(times*length) / run(length) / times; grows > worst {
			worst, of = grows, part
		}
	}
	for _, part := range []string{"select a,", "select [", "insert into t (", "select a(", "update \"", "table '",
		"at a.", "File \"",
		"   \n", "/app/.", "10.1.", "a-.", "delete from t where (", "near \""} {
		run := func(n int) float64 {
			v := []byte(strings.Repeat(part, n/len(part)))
			return timed(func() { detect.Revealing(v) })
		}
		if grows := run(times*length) / run(length) / times; grows > worst {
			worst, of = grows, part
		}
	}
	fmt.Printf("  eight times as long an adversarial value takes at most %.2f times eight times as long (%q)\n", worst,
		of)
	if of == "" {
		return fmt.Errorf("nothing was measured")
	}
	return nil
}
