// Package severity defines how severe a finding is.
package severity

import (
	"inkret/core/catalog"
)

// Severity is how severe a finding is. Greater is more severe.
type Severity uint8

const (
	Info Severity = iota + 1
	Low
	Medium
	High
	Critical
)

var severityNames = [...]string{"", "info", "low", "medium", "high", "critical"}

func (s Severity) String() string { return severityNames[s] }

// All lists the severities, most severe first.
func All() []Severity { return []Severity{Critical, High, Medium, Low, Info} }

// Names lists the names of the severities, most severe first.
func Names() []string { return []string{"critical", "high", "medium", "low", "info"} }

// Parse returns the severity with a name.
func Parse(name string) (Severity, bool) {
	for i, n := range severityNames {
		if i > 0 && n == name {
			return Severity(i), true
		}
	}
	return 0, false
}

// ByClass returns the severity of a leak of this class.
func ByClass(c catalog.Class) Severity {
	switch c {
	case catalog.Secret:
		return Critical
	case catalog.Personal:
		return High
	case catalog.Public:
		return Low
	}
	return Medium
}
