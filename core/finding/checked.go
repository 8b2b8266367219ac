package finding

import "inkret/core/severity"

// Checked is a finding in the result of a check elsewhere, without sample and explanation.
type Checked struct {
	Fingerprint string            `json:"fingerprint"`
	Kind        string            `json:"kind"`
	Severity    severity.Severity `json:"severity"`
	Endpoint    string            `json:"endpoint"`
	Audience    string            `json:"audience,omitempty"`
	Direction   string            `json:"direction,omitempty"`
	Status      string            `json:"status,omitempty"`
	Path        string            `json:"path"`
	Entity      string            `json:"entity,omitempty"`
	Field       string            `json:"field,omitempty"`
	Class       string            `json:"class,omitempty"`
	Spots       int               `json:"spots,omitempty"`
	Bytes       int               `json:"bytes,omitempty"`
	Excepted    bool              `json:"excepted,omitempty"`
}

// Checked returns what a result says about a finding.
func (f *Finding) Checked() Checked {
	return Checked{Fingerprint: f.Fingerprint, Kind: f.Kind.String(), Severity: f.Severity, Endpoint: f.Endpoint,
		Audience: f.Audience, Direction: f.Direction, Status: f.Status,
		Path: f.Path, Entity: f.Entity, Field: f.Field, Class: f.Class, Spots: f.Spots, Bytes: f.Bytes,
		Excepted: f.Excepted != nil}
}

// Difference lists what one check found and another did not, in the order of each check.
type Difference struct {
	Fresh []Checked // now and not before
	Same  []Checked // both times, as now
	Gone  []Checked // before and not now: mended, or not called
}

// Against compares current findings with earlier ones by fingerprint, in linear time.
func Against(before, now []Checked) Difference {
	d := Difference{Fresh: []Checked{}, Same: []Checked{}, Gone: []Checked{}}
	had, has := map[string]bool{}, map[string]bool{}
	for _, f := range before {
		had[f.Fingerprint] = true
	}
	for _, f := range now {
		has[f.Fingerprint] = true
		if had[f.Fingerprint] {
			d.Same = append(d.Same, f)
		} else {
			d.Fresh = append(d.Fresh, f)
		}
	}
	for _, f := range before {
		if !has[f.Fingerprint] {
			d.Gone = append(d.Gone, f)
		}
	}
	return d
}
