package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"strings"

	"inkret/core/finding"
)

// CSV writes one finding per line (RFC 4180). No cell begins like a spreadsheet formula.
func CSV(w io.Writer, r *Result) error {
	c := csv.NewWriter(w)
	c.UseCRLF = true
	c.Write([]string{"fingerprint", "severity", "kind", "cwe", "endpoint", "audience", "status", "direction", "path",
		"entity", "field", "class", "spots", "captures", "bytes", "sample", "why", "file", "entry", "pointer", "known",
		"excepted"})
	for _, f := range r.Findings {
		excepted := ""
		if f.Excepted != nil {
			excepted = f.Excepted.Reason
		}
		row := []string{f.Fingerprint, f.Severity.String(), f.Kind.String(), strconv.Itoa(f.Kind.CWE()), f.Endpoint,
			f.Audience, f.Status, f.Direction, f.Path, f.Entity, f.Field, f.Class,
			strconv.Itoa(f.Spots), strconv.Itoa(f.Captures), strconv.Itoa(f.Bytes), f.Sample, f.Why, f.First.File,
			strconv.Itoa(f.First.Entry), f.First.Pointer, strconv.FormatBool(f.Known), excepted}
		for i := range row {
			row[i] = cellText(row[i])
		}
		c.Write(row)
	}
	c.Flush()
	return c.Error()
}

// cellText makes a text safe for spreadsheets.
func cellText(s string) string {
	s = Clean(s)
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

// mostRows limits the findings in formats for reading.
const mostRows = 50

// Markdown writes the result for a comment on a proposed change, failing findings first.
func Markdown(w io.Writer, r *Result) error {
	var b strings.Builder
	var failing, others []*finding.Finding
	for _, f := range r.Findings {
		if r.Fails(f) {
			failing = append(failing, f)
		} else {
			others = append(others, f)
		}
	}
	switch len(failing) {
	case 0:
		b.WriteString("### ✓ Nothing leaks that was not known or excepted\n\n")
	default:
		fmt.Fprintf(&b, "### %s to look at\n\n", count(len(failing), "leak"))
	}
	fmt.Fprintf(&b, "%s judged%s, %d skipped", count(r.Summary.Judged, "capture"), r.incomplete(), r.Summary.Skipped)
	if r.Summary.ExcessBytes > 0 {
		fmt.Fprintf(&b, "; %s of %s are covered by no grant", Bytes(r.Summary.ExcessBytes), Bytes(r.Summary.Bytes))
	}
	b.WriteString(".")
	if r.Baseline != nil {
		fmt.Fprintf(&b, " Against the baseline: %d known, %d gone.", len(r.Baseline.Prints)-r.Baseline.Gone,
			r.Baseline.Gone)
	}
	b.WriteString("\n\n")
	markdownTable(&b, failing)
	if len(others) > 0 {
		fmt.Fprintf(&b, "<details><summary>%s that do not fail</summary>\n\n", count(len(others), "finding"))
		markdownTable(&b, others)
		b.WriteString("</details>\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func markdownTable(b *strings.Builder, all []*finding.Finding) {
	if len(all) == 0 {
		return
	}
	b.WriteString("| Severity | Kind | Where | Path | Why |\n|---|---|---|---|---|\n")
	for i, f := range all {
		if i == mostRows {
			fmt.Fprintf(b, "\nand %d more\n", len(all)-i)
			break
		}
		why := f.Why
		switch {
		case f.Excepted != nil:
			why = "excepted: " + f.Excepted.Reason
		case f.Known:
			why = "known: " + why
		}
		fmt.Fprintf(b, "| %s | %s | %s | %s | %s |\n", f.Severity, f.Kind,
			code(joined(" ", f.Endpoint, f.Audience, f.Status)), code(f.Path), plainMarkdown(why))
	}
	b.WriteString("\n")
}

// code formats text as Markdown code in a table cell.
func code(s string) string {
	return "`" + strings.NewReplacer("`", "'", "|", "\\|").Replace(Clean(s)) + "`"
}

// plainMarkdown escapes Markdown.
func plainMarkdown(s string) string {
	return strings.NewReplacer(`\`, `\\`, "|", `\|`, "`", "\\`", "*", `\*`, "_", `\_`, "[", `\[`, "<", "&lt;", ">",
		"&gt;", "@", "@\u2060").Replace(Clean(s))
}
