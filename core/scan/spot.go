package scan

import (
	"fmt"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/kind"
	"inkret/core/severity"
)

// Spot is one place in one capture that departs from the contract.
type Spot struct {
	Kind     kind.Kind
	Severity severity.Severity
	Class    catalog.Class // of what leaked; Unclassed where that does not apply
	Path     string        // JSONPath, with [*] for elements and names that are data
	Pointer  string        // JSON Pointer, names that are sensitive masked
	Offset   int           // of the first byte counted by Bytes, in the decoded body
	Bytes    int           // weight
	Entity   string
	Field    string // field or relation of Entity
	Detector string // what recognised the value
	Sample   string // masked; only on the first spot of a path in a body

	// Print is the keyed hash of the value if it leaked as a whole and the judge computes prints; otherwise 0.
	Print   uint64
	Folded  int      // others like it, whose bytes are counted here
	Prints  []uint64 // of these others, up to a limit
	Checked bool     // recognised by a check digit alone: its column may tell otherwise
	Named   bool     // its name is what was recognised
	Request bool     // it is in the request, not in the response

	Grant       *contract.Grant // the grant that decided, if one did
	name, value string          // of a member that was posted
	reason      string
	pointerEnd  int
	counted     int  // bytes of those like it, as they stand in the capture's body
	container   byte // '{' or '[' of what was reserved for
}

// Why explains in a sentence what decided.
func (s *Spot) Why() string {
	if s.reason != "" {
		return s.reason
	}
	whose := s.Field
	if s.Entity != "" && s.Field != "" {
		whose = s.Entity + "." + s.Field
	}
	switch s.Kind {
	case kind.SecretValue, kind.PersonalValue:
		what := fmt.Sprintf("the value is recognised as %s", article(s.Detector))
		if s.Grant != nil {
			return fmt.Sprintf("granted as %s; %s", s.Grant.Class, what)
		}
		if whose != "" {
			return fmt.Sprintf("not granted; the value of %s is recognised as %s", whose, article(s.Detector))
		}
		return "not granted; " + what
	case kind.SensitiveField:
		if whose == "" {
			return fmt.Sprintf("not granted; the name tells of something %s", s.Class)
		}
		return fmt.Sprintf("not granted; %s is %s", whose, s.Class)
	case kind.ForeignRecord:
		if whose != "" {
			return fmt.Sprintf("%s is granted of the caller's own records only and is %s; this is somebody else's",
				whose, s.Class)
		}
		return fmt.Sprintf("granted of the caller's own records only and %s; this is somebody else's", s.Class)
	case kind.WrongAudience:
		if whose != "" {
			return fmt.Sprintf("%s is granted to other audiences only and is %s", whose, s.Class)
		}
		return fmt.Sprintf("granted to other audiences only; the gravest granted here is %s", s.Class)
	case kind.UnexpectedRelation:
		if whose != "" {
			return fmt.Sprintf("not granted; %s is a relation", whose)
		}
		return "not granted; a whole object is sent"
	case kind.UnexpectedField:
		switch {
		case whose != "" && s.Class != catalog.Unclassed:
			return fmt.Sprintf("not granted; %s is %s", whose, s.Class)
		case whose != "":
			return fmt.Sprintf("not granted; %s is unclassed", whose)
		}
		return "not granted; the catalogue does not know it"
	case kind.MissingField:
		return "granted, not optional, and not sent"
	case kind.UndeclaredResponse:
		return "no response of the contract fits"
	case kind.UnknownEndpoint:
		return "no contract for this endpoint"
	}
	return s.Kind.String()
}

func article(noun string) string {
	if noun == "" {
		return "sensitive"
	}
	switch noun[0] {
	case 'A', 'E', 'I', 'O', 'a', 'e', 'i', 'o', 'u':
		return "an " + noun
	}
	return "a " + noun
}

// candidate is a possible report at a place. The most severe candidate is reported.
type candidate struct {
	kind     kind.Kind
	severity severity.Severity
	class    catalog.Class
	entity   *catalog.Entity
	field    string
	detector string
	grant    *contract.Grant
	reason   string
	telling  bool // holds for a value that is not null, boolean or empty only
	hollow   bool // nothing is told: the value is null or empty
	checked  bool // recognised by a check digit alone
	named    bool // the name is what was recognised
	data     bool // the name is data, and no field or relation of the entity
}

// candidates is a stack with the candidates of the values being read. It is cut back after each value.
type candidates []candidate

func (all *candidates) add(c candidate) *candidate {
	*all = append(*all, c)
	return &(*all)[len(*all)-1]
}

// graver returns the more severe of two candidates: by severity, then by the order of kinds. nil is none.
func graver(a, b *candidate) *candidate {
	if b == nil || a != nil && (a.severity > b.severity || a.severity == b.severity && a.kind <= b.kind) {
		return a
	}
	return b
}
