package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/net/html"

	"inkret/core/contract"
	"inkret/core/finding"
	"inkret/core/kind"
	"inkret/core/severity"
)

// hostile is a result whose texts come from somebody who wants to do harm.
func hostile() *Result {
	const bad = "=cmd|' /C'!A0 <script>alert(1)</script> | `x` *b* [l](javascript:x) @all \x1b[31m\u202e \"q\" ]]>"
	f := func(id string, s severity.Severity, k kind.Kind, change func(*finding.Finding)) *finding.Finding {
		one := &finding.Finding{Identity: finding.Identity{Service: "s", Endpoint: "GET /" + bad, Audience: "visitor",
			Direction: "response", Status: "200", Path: "$['" + bad + "']", Kind: k}, Fingerprint: id, Severity: s,
			Bytes: 10, First: finding.First{File: "a b/" + bad + ".har", Pointer: "/" + bad},
			Facts: finding.Facts{Spots: 2, Captures: 1, Sample: bad, Why: bad}}
		change(one)
		return one
	}
	return &Result{Service: bad, FailOn: severity.Medium, Version: "1.2.3",
		Baseline: &Baseline{Prints: map[string]bool{"02": true, "zz": true}, Gone: 1},
		Summary:  finding.Summary{Captures: 4, Judged: 3, Skipped: 1, Bytes: 100, ExcessBytes: 40},
		Skipped:  []finding.Skipped{{File: bad, Entry: 1, Reason: bad}},
		Findings: []*finding.Finding{
			f("01", severity.Critical, kind.SecretValue,
				func(f *finding.Finding) { f.Grant = contract.Pos{File: "contracts/a b.yaml", Line: 7, Column: 3} }),
			f("02", severity.High, kind.SensitiveField, func(f *finding.Finding) { f.Known = true }),
			f("03", severity.Medium, kind.UnexpectedField,
				func(f *finding.Finding) { f.Excepted = &contract.Exception{Reason: bad} }),
			f("04", severity.Low, kind.UnknownEndpoint, func(f *finding.Finding) {
				f.Audience, f.Status, f.First.File = "",
					"", ""
			}),
		}}
}

func written(t *testing.T, write func(io.Writer, *Result) error, r *Result) string {
	t.Helper()
	var b bytes.Buffer
	if err := write(&b, r); err != nil {
		t.Fatal(err)
	}
	if strings.ContainsAny(b.String(), "\x1b\u202e") {
		t.Errorf("control characters of a recording are written: %q", b.String())
	}
	return b.String()
}

// TestSARIFFitsItsSchema validates the output with the OASIS schema.
func TestSARIFFitsItsSchema(t *testing.T) {
	f, err := os.Open("testdata/sarif-schema-2.1.0.json")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	doc, err := jsonschema.UnmarshalJSON(f)
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("sarif.json", doc); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("sarif.json")
	if err != nil {
		t.Fatal(err)
	}
	for name, r := range map[string]*Result{"hostile": hostile(), "nothing": {}, "usual": result()} {
		var b bytes.Buffer
		if err := SARIF(&b, r); err != nil {
			t.Fatal(err)
		}
		instance, err := jsonschema.UnmarshalJSON(bytes.NewReader(b.Bytes()))
		if err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(instance); err != nil {
			t.Errorf("%s: %v\n%s", name, err, b.String())
		}
	}
	var log sarifLog
	if err := json.Unmarshal([]byte(func() string { var b bytes.Buffer; SARIF(&b, hostile()); return b.String() }()),
		&log); err != nil {
		t.Fatal(err)
	}
	results := log.Runs[0].Results
	if len(results) != 4 || results[0].Level != "error" ||
		results[0].Locations[0].Physical.Artifact.URI != "contracts/a%20b.yaml" ||
		results[0].Locations[0].Physical.Region.StartLine != 7 ||
		results[0].Baseline != "new" || results[1].Baseline != "unchanged" || len(results[2].Suppressions) != 1 ||
		results[3].Level != "note" || results[3].Locations[0].Physical != nil {
		t.Errorf("results %+v", results)
	}
	if rule := log.Runs[0].Tool.Driver.Rules[results[1].RuleIndex]; rule.ID != results[1].RuleID ||
		rule.Help.Text == "" {
		t.Errorf("the rule of the second result is %+v", rule)
	}
}

func TestJUnit(t *testing.T) {
	var suites junitSuites
	if err := xml.Unmarshal([]byte(written(t, JUnit, hostile())), &suites); err != nil {
		t.Fatal(err)
	}
	if suites.Tests != 4 || suites.Failures != 1 || suites.Skipped != 2 || len(suites.Suites) != 1 ||
		len(suites.Suites[0].Cases) != 4 {
		t.Errorf("suites %+v", suites)
	}
	if c := suites.Suites[0].Cases; c[0].Failure == nil || c[0].Failure.Type != "critical" ||
		!strings.Contains(c[0].Failure.Text, "fingerprint 01") || c[1].Skipped.Message != "known before" ||
		c[3].Failure != nil || c[3].Out == "" {
		t.Errorf("cases %+v", c)
	}
	if text := written(t, JUnit, &Result{Summary: finding.Summary{Judged: 3}}); !strings.Contains(text,
		`tests="1" failures="0"`) || !strings.Contains(text, "3 captures without findings") {
		t.Errorf("nothing found is written as\n%s", text)
	}
}

func TestNoSpreadsheetRunsACell(t *testing.T) {
	rows, err := csv.NewReader(strings.NewReader(written(t, CSV, hostile()))).ReadAll()
	if err != nil || len(rows) != 5 {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	for _, row := range rows {
		for i, cell := range row {
			if cell != "" && strings.ContainsRune("=+-@", rune(cell[0])) {
				t.Errorf("%s is %q", rows[0][i], cell)
			}
		}
	}
	if rows[2][20] != "true" || !strings.HasPrefix(rows[1][16], "'=cmd") || !strings.HasPrefix(rows[3][21], "'=cmd") {
		t.Errorf("rows %q", rows)
	}
}

func TestMarkdownIsNoMarkupOfOthers(t *testing.T) {
	text := written(t, Markdown, hostile())
	for _, want := range []string{"### 1 leak to look at",
		"3 captures judged, 1 skipped; 40 B of 100 B are covered by no grant. Against the baseline: 1 known, 1 gone.",
		"| critical | secret-value |", "<details><summary>3 findings that do not fail</summary>", "known: ",
		"excepted: "} {
		if !strings.Contains(text, want) {
			t.Errorf("it lacks %q:\n%s", want, text)
		}
	}
	for _, line := range strings.Split(text, "\n") {
		if cells := strings.Count(strings.ReplaceAll(line, `\|`, ""), "|"); strings.HasPrefix(line, "| ") &&
			cells != 6 {
			t.Errorf("a row has %d bars: %s", cells, line)
		}
		outside := 0
		for i, part := range strings.Split(line, "`") {
			if i%2 == 0 && strings.Contains(part, "<script") {
				outside++
			}
		}
		if outside > 0 || strings.Contains(line, "@all") && !strings.Contains(line, "`") {
			t.Errorf("markup of a recording stands in %s", line)
		}
	}
	if text := written(t, Markdown, &Result{}); !strings.Contains(text, "Nothing leaks") {
		t.Errorf("nothing found is written as\n%s", text)
	}
}

// TestThePageIsSelfContained parses the page and checks that no text of a recording became an element, and that it
// loads nothing from elsewhere.
func TestThePageIsSelfContained(t *testing.T) {
	text := written(t, HTML, hostile())
	root, err := html.Parse(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	rows := 0
	for n := range root.Descendants() {
		if n.Type != html.ElementNode {
			continue
		}
		switch n.Data {
		case "script", "link", "img", "iframe", "a":
			t.Errorf("the page has the element %s", n.Data)
		case "tr":
			rows++
		}
		for _, a := range n.Attr {
			if a.Key == "src" || a.Key == "href" || strings.HasPrefix(a.Key, "on") {
				t.Errorf("the page has the attribute %s", a.Key)
			}
		}
	}
	if rows != 2+1+4+4+1 { // the sum, a head, the findings, their kinds, what was skipped
		t.Errorf("the page has %d rows:\n%s", rows, text)
	}
	for _, want := range []string{"known before", "excepted: ", "CWE-213", "fail the check",
		"How each is usually mended"} {
		if !strings.Contains(text, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
}

func TestBaselines(t *testing.T) {
	var b bytes.Buffer
	if err := JSON(&b, result()); err != nil {
		t.Fatal(err)
	}
	base, err := ReadBaseline(&b)
	if err != nil || len(base.Prints) != 2 {
		t.Fatalf("%+v, %v", base, err)
	}
	now := []*finding.Finding{{Fingerprint: "00112233445566ff", Severity: severity.High},
		{Fingerprint: "new", Severity: severity.Medium}}
	base.Hold(now)
	if !now[0].Known || now[1].Known || base.Gone != 1 || finding.Gravest(now) != severity.Medium {
		t.Errorf("%+v %+v, %d gone", now[0], now[1], base.Gone)
	}
	for _, text := range []string{"", "{}", "[]", "fingerprint,severity"} {
		if _, err := ReadBaseline(strings.NewReader(text)); err == nil {
			t.Errorf("%q is read as a baseline", text)
		}
	}
}
