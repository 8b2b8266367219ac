package report

import (
	"encoding/xml"
	"fmt"
	"io"

	"inkret/core/finding"
)

// The XML format of test runners and build servers.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Name     string       `xml:"name,attr"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Skipped  int          `xml:"skipped,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name    string        `xml:"name,attr"`
		Class   string        `xml:"classname,attr"`
		Failure *junitFailure `xml:"failure"`
		Skipped *junitSkipped `xml:"skipped"`
		Out     string        `xml:"system-out,omitempty"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
	junitSkipped struct {
		Message string `xml:"message,attr"`
	}
)

// JUnit writes the result with a suite per endpoint and a case per finding. Findings that fail the check are
// failures, excepted and known ones are skipped, the rest passes.
func JUnit(w io.Writer, r *Result) error {
	all := junitSuites{Name: "inkret check"}
	at := map[string]int{}
	for _, f := range r.Findings {
		i, ok := at[f.Endpoint]
		if !ok {
			i = len(all.Suites)
			at[f.Endpoint] = i
			all.Suites = append(all.Suites, junitSuite{Name: Clean(f.Endpoint)})
		}
		s := &all.Suites[i]
		s.Cases = append(s.Cases, junitCaseOf(r, f))
		s.Tests++
		all.Tests++
		switch c := s.Cases[len(s.Cases)-1]; {
		case c.Failure != nil:
			s.Failures++
			all.Failures++
		case c.Skipped != nil:
			s.Skipped++
			all.Skipped++
		}
	}
	if len(all.Suites) == 0 {
		all.Tests, all.Suites = 1,
			[]junitSuite{{Name: "captures", Tests: 1,
				Cases: []junitCase{{Name: fmt.Sprintf("%d captures without findings", r.Summary.Judged),
					Class: "captures"}}}}
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

func junitCaseOf(r *Result, f *finding.Finding) junitCase {
	c := junitCase{Name: Clean(joined(" ", f.Kind.String(), f.Audience, f.Status, f.Path)), Class: Clean(f.Endpoint)}
	switch {
	case f.Excepted != nil:
		c.Skipped = &junitSkipped{"excepted: " + Clean(f.Excepted.Reason)}
	case f.Known:
		c.Skipped = &junitSkipped{"known before"}
	case r.Fails(f):
		c.Failure = &junitFailure{Message: sentence(f), Type: f.Severity.String(),
			Text: fmt.Sprintf("%s\nfirst in %s, entry %d, %s\n%s\nfingerprint %s", Clean(f.Why), Clean(f.First.File),
				f.First.Entry, Clean(f.First.Pointer), f.Kind.Mend(), f.Fingerprint)}
	default:
		c.Out = f.Severity.String() + ": " + sentence(f)
	}
	return c
}
