package finding

import (
	"fmt"
	"testing"

	"inkret/core/contract"
	"inkret/core/kind"
	"inkret/core/severity"
)

func TestOneCheckAgainstAnother(t *testing.T) {
	of := func(prints ...string) (all []Checked) {
		for i, p := range prints {
			all = append(all, Checked{Fingerprint: p, Spots: i})
		}
		return all
	}
	for name, c := range map[string]struct {
		before, now []Checked
		want        string
	}{
		"nothing before":       {nil, of("b", "a"), "fresh b0 a1 same gone"},
		"nothing now":          {of("a", "b"), nil, "fresh same gone a0 b1"},
		"some of each":         {of("a", "b", "c"), of("d", "c", "a"), "fresh d0 same c1 a2 gone b1"},
		"nothing at all":       {nil, nil, "fresh same gone"},
		"the same, as now":     {of("x", "a"), of("a", "x"), "fresh same a0 x1 gone"},
		"what is told twice":   {of("a", "a"), of("b"), "fresh b0 same gone a0 a1"},
		"in the order of each": {of("c", "b", "a"), of("f", "e", "d"), "fresh f0 e1 d2 same gone c0 b1 a2"},
	} {
		d := Against(c.before, c.now)
		got := ""
		for _, part := range []struct {
			name string
			all  []Checked
		}{{"fresh", d.Fresh}, {" same", d.Same}, {" gone", d.Gone}} {
			if got += part.name; part.all == nil {
				t.Errorf("%s: %s is nil", name, part.name)
			}
			for _, f := range part.all {
				got += fmt.Sprintf(" %s%d", f.Fingerprint, f.Spots)
			}
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

func TestWhatAReportTells(t *testing.T) {
	f := Finding{Identity: Identity{Endpoint: "GET /a", Audience: "visitor", Direction: Response, Status: "2XX",
		Path: "$.a", Kind: kind.SensitiveField}, Fingerprint: "0123456789abcdef", Severity: severity.High, Bytes: 40,
		Facts: Facts{Entity: "E", Field: "f", Class: "personal", Spots: 3, Sample: "a•••", Why: "not granted"}}
	want := Checked{"0123456789abcdef", "sensitive-field", severity.High, "GET /a", "visitor", "response", "2XX", "$.a",
		"E", "f", "personal", 3, 40, false}
	if got := f.Checked(); got != want {
		t.Errorf("%+v, want %+v", got, want)
	}
	if f.Excepted = new(contract.Exception); !f.Checked().Excepted {
		t.Error("an exception is not told")
	}
}
