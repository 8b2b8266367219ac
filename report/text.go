package report

import (
	"encoding/csv"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strconv"
	"strings"

	"inkret/core/finding"
	"inkret/core/scan"
)

// CSV writes a finding a line (RFC 4180). No cell begins as a spreadsheet's formula does.
func CSV(w io.Writer, r *Result) error {
	c := csv.NewWriter(w)
	c.UseCRLF = true
	c.Write([]string{"fingerprint", "severity", "kind", "cwe", "endpoint", "audience", "status", "direction", "path", "entity", "field", "class", "spots", "captures", "bytes", "sample", "why", "file", "entry", "pointer", "known", "excepted"})
	for _, f := range r.Findings {
		excepted := ""
		if f.Excepted != nil {
			excepted = f.Excepted.Reason
		}
		row := []string{f.Fingerprint, f.Severity.String(), f.Kind.String(), strconv.Itoa(f.Kind.CWE()), f.Endpoint, f.Audience, f.Status, f.Direction, f.Path, f.Entity, f.Field, f.Class,
			strconv.Itoa(f.Spots), strconv.Itoa(f.Captures), strconv.Itoa(f.Bytes), f.Sample, f.Why, f.First.File, strconv.Itoa(f.First.Entry), f.First.Pointer, strconv.FormatBool(f.Known), excepted}
		for i := range row {
			row[i] = cellText(row[i])
		}
		c.Write(row)
	}
	c.Flush()
	return c.Error()
}

// cellText makes text one that no spreadsheet runs.
func cellText(s string) string {
	s = Clean(s)
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

// mostRows is how many findings a text for people to skim lists.
const mostRows = 50

// Markdown writes the result for a comment on a proposed change: what fails first.
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
	fmt.Fprintf(&b, "%s judged, %d skipped", count(r.Summary.Judged, "capture"), r.Summary.Skipped)
	if r.Summary.ExcessBytes > 0 {
		fmt.Fprintf(&b, "; %s of %s are covered by no grant", Bytes(r.Summary.ExcessBytes), Bytes(r.Summary.Bytes))
	}
	b.WriteString(".")
	if r.Baseline != nil {
		fmt.Fprintf(&b, " Against the baseline: %d known, %d gone.", len(r.Baseline.Prints)-r.Baseline.Gone, r.Baseline.Gone)
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
		fmt.Fprintf(b, "| %s | %s | %s | %s | %s |\n", f.Severity, f.Kind, code(joined(" ", f.Endpoint, f.Audience, f.Status)), code(f.Path), plainMarkdown(why))
	}
	b.WriteString("\n")
}

// code writes text as code of Markdown in a table's cell.
func code(s string) string {
	return "`" + strings.NewReplacer("`", "'", "|", "\\|").Replace(Clean(s)) + "`"
}

// plainMarkdown writes text so that nothing in it is markup.
func plainMarkdown(s string) string {
	return strings.NewReplacer(`\`, `\\`, "|", `\|`, "`", "\\`", "*", `\*`, "_", `\_`, "[", `\[`, "<", "&lt;", ">", "&gt;", "@", "@\u2060").Replace(Clean(s))
}

// HTML writes one page that needs nothing else, for reading, keeping and printing.
func HTML(w io.Writer, r *Result) error {
	type group struct {
		Endpoint string
		Findings []*finding.Finding
	}
	var groups []*group
	at := map[string]*group{}
	for _, f := range r.Findings {
		g := at[f.Endpoint]
		if g == nil {
			g = &group{Endpoint: f.Endpoint}
			at[f.Endpoint] = g
			groups = append(groups, g)
		}
		g.Findings = append(g.Findings, f)
	}
	names := scan.SeverityNames()
	var kinds []scan.Kind // that there are
	for _, k := range scan.Kinds() {
		if slices.ContainsFunc(r.Findings, func(f *finding.Finding) bool { return f.Kind == k }) {
			kinds = append(kinds, k)
		}
	}
	return page.Execute(w, map[string]any{"R": r, "Groups": groups, "Severities": names, "Kinds": kinds, "Counts": r.BySeverity(), "Rules": rules, "Failing": func() (n int) {
		for _, f := range r.Findings {
			if r.Fails(f) {
				n++
			}
		}
		return n
	}()})
}

var page = template.Must(template.New("report").Funcs(template.FuncMap{
	"clean": Clean, "bytes": Bytes, "sign": func(s scan.Severity) string { return strings.TrimSpace(signs[s.String()]) }, "mend": finding.Mend,
	"percent": func(part, whole int) int { return part * 100 / max(whole, 1) },
}).Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8">
<title>What leaks{{with .R.Service}}: {{clean .}}{{end}}</title>
<style>
  body { font: 14px/1.5 system-ui, sans-serif; max-width: 62rem; margin: 2rem auto; padding: 0 1.5rem; color: #16203a; background: #fff; }
  h1 { font-size: 1.5rem; margin: 0 0 .25rem; } h2 { font-size: 1.05rem; margin: 1.6rem 0 .3rem; overflow-wrap: anywhere; }
  code { font-family: ui-monospace, "DejaVu Sans Mono", monospace; font-size: .88em; overflow-wrap: anywhere; }
  table { border-collapse: collapse; width: 100%; } th, td { text-align: left; vertical-align: top; padding: .3rem .5rem; border-bottom: 1px solid #d8d3c6; }
  th { font-size: .85em; } .sum td { font-size: 1.3rem; font-weight: 600; border: 0; padding-bottom: 0; } .sum th { border: 0; padding-top: 0; font-weight: 400; }
  .critical, .high { font-weight: 700; } .critical, .high, .medium, .low, .info { white-space: nowrap; } .faint { color: #555e73; } .number { text-align: right; white-space: nowrap; }
  tr { break-inside: avoid; } h2 { break-after: avoid; }
  @media print { body { margin: 0; max-width: none; font-size: 11px; } @page { margin: 16mm 14mm; } }
</style>
<h1>What leaks{{with .R.Service}} at {{clean .}}{{end}}</h1>
<p class="faint">{{.R.Summary.Captures}} captures, {{.R.Summary.Judged}} judged and {{.R.Summary.Skipped}} skipped, {{bytes .R.Summary.Bytes}};
{{bytes .R.Summary.ExcessBytes}} ({{percent .R.Summary.ExcessBytes .R.Summary.Bytes}}%) of it is covered by no grant. Rules {{.Rules}}{{with .R.Version}}, Inkret {{.}}{{end}}.
Values are masked.{{if .R.Baseline}} Against the baseline {{.R.Baseline.Gone}} findings are gone.{{end}}</p>
<table class="sum"><tr>{{range .Severities}}<td>{{index $.Counts .}}</td>{{end}}<td>{{.Failing}}</td></tr><tr>{{range .Severities}}<th>{{.}}</th>{{end}}<th>fail the check</th></tr></table>
{{range .Groups}}
<h2><code>{{clean .Endpoint}}</code></h2>
<table>
<tr><th>Severity</th><th>Kind</th><th>Path, and why</th><th>For</th><th class="number">Spots</th><th class="number">Bytes</th></tr>
{{range .Findings}}<tr><td class="{{.Severity}}">{{sign .Severity}} {{.Severity}}</td><td>{{.Kind}}<br><span class="faint">CWE-{{.Kind.CWE}}</span></td>
<td><code>{{clean .Path}}</code>{{with .Sample}} <code class="faint">{{clean .}}</code>{{end}}<br>{{clean .Why}}{{if .Excepted}}<br><em>excepted: {{clean .Excepted.Reason}}</em>{{else if .Known}}<br><em>known before</em>{{end}}</td>
<td>{{clean .Audience}} {{clean .Status}}</td><td class="number">{{.Spots}}</td><td class="number">{{bytes .Bytes}}</td></tr>
{{end}}</table>
{{else}}<p>No findings.</p>{{end}}
{{with .Kinds}}<h2>How each is usually mended</h2><table>{{range .}}<tr><td>{{.}}</td><td>{{mend .}}</td></tr>{{end}}</table>{{end}}
{{with .R.Skipped}}<h2>Skipped</h2><table>{{range .}}<tr><td><code>{{clean .File}}</code> entry {{.Entry}}</td><td>{{clean .Reason}}</td></tr>{{end}}</table>{{end}}
</html>
`))
