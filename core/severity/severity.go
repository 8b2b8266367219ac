// Package severity says how much a finding asks for attention.
package severity

import (
	"inkret/core/catalog"
)

// Severity is how much a finding asks for attention. Greater is graver.
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

// All lists the severities, gravest first.
func All() []Severity { return []Severity{Critical, High, Medium, Low, Info} }

// Names lists the severities, gravest first.
func Names() []string { return []string{"critical", "high", "medium", "low", "info"} }

// Parse reads a severity by its name.
func Parse(name string) (Severity, bool) {
	for i, n := range severityNames {
		if i > 0 && n == name {
			return Severity(i), true
		}
	}
	return 0, false
}

// ByClass is the severity of a leak of this class.
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
