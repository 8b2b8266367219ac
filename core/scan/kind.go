package scan

import "inkret/core/catalog"

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

// SeverityNames lists the severities, gravest first.
func SeverityNames() []string { return []string{"critical", "high", "medium", "low", "info"} }

// ParseSeverity reads a severity by its name.
func ParseSeverity(name string) (Severity, bool) {
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

// Kind is what is wrong at a spot. Kinds are ordered as the table of
// docs/judging.md: between two of equal severity the lesser Kind stands.
type Kind uint8

const (
	SecretValue Kind = iota + 1
	SensitiveField
	PersonalValue
	WrongAudience
	UnexpectedRelation
	UnexpectedField
	RenamedField
	HiddenDuplicate
	RevealingError
	SensitiveInURL
	OverPosting
	CacheablePrivate
	MissingField
	ValueMismatch
	SelectionIgnored
	UndeclaredResponse
	UnknownEndpoint
	UnevenExposure
	HeavyExcess
	kinds
)

var kindTable = [kinds]struct {
	name string
	cwe  int // a weakness of the Common Weakness Enumeration
}{
	SecretValue:        {"secret-value", 200},
	SensitiveField:     {"sensitive-field", 213},
	PersonalValue:      {"personal-value", 359},
	WrongAudience:      {"wrong-audience", 863},
	UnexpectedRelation: {"unexpected-relation", 213},
	UnexpectedField:    {"unexpected-field", 213},
	RenamedField:       {"renamed-field", 684},
	HiddenDuplicate:    {"hidden-duplicate", 436},
	RevealingError:     {"revealing-error", 209},
	SensitiveInURL:     {"sensitive-in-url", 598},
	OverPosting:        {"over-posting", 915},
	CacheablePrivate:   {"cacheable-private", 524},
	MissingField:       {"missing-field", 684},
	ValueMismatch:      {"value-mismatch", 684},
	SelectionIgnored:   {"selection-ignored", 213},
	UndeclaredResponse: {"undeclared-response", 1059},
	UnknownEndpoint:    {"unknown-endpoint", 1059},
	UnevenExposure:     {"uneven-exposure", 213},
	HeavyExcess:        {"heavy-excess", 213},
}

func (k Kind) String() string { return kindTable[k].name }

// CWE is the number of the weakness that the kind is an instance of.
func (k Kind) CWE() int { return kindTable[k].cwe }

// Kinds lists all kinds in the order of the table.
func Kinds() []Kind {
	all := make([]Kind, 0, kinds-1)
	for k := Kind(1); k < kinds; k++ {
		all = append(all, k)
	}
	return all
}

// ParseKind reads a kind by its name.
func ParseKind(name string) (Kind, bool) {
	for _, k := range Kinds() {
		if k.String() == name {
			return k, true
		}
	}
	return 0, false
}

// Exposure reports whether k is one of the five kinds of which a scan reports
// the gravest only at one path, and which all must be gone for a proof.
func (k Kind) Exposure() bool {
	switch k {
	case SecretValue, SensitiveField, PersonalValue, UnexpectedRelation, UnexpectedField:
		return true
	}
	return false
}

// Whole reports whether k is about an exchange as a whole: it stands at `$` beside
// whatever else is found there.
func (k Kind) Whole() bool {
	switch k {
	case CacheablePrivate, SelectionIgnored, UndeclaredResponse, UnknownEndpoint, HeavyExcess:
		return true
	}
	return false
}
