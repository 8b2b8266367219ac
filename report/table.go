package report

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"inkret/core/finding"
)

// Signs distinguish severities without colour, most severe first.
var signs = map[string]string{"critical": "!! ", "high": "!  ", "medium": "*  ", "low": "-  ", "info": "i  "}

var colours = map[string]text.Colors{
	"critical": {text.FgRed, text.Bold}, "high": {text.FgHiRed}, "medium": {text.FgYellow}, "low": {text.FgCyan},
	"info": {text.Faint},
}

// Severity formats a severity with its sign, and in colour if wanted.
func Severity(name string, colour bool) string {
	s := signs[name] + name
	if colour {
		return colours[name].Sprint(s)
	}
	return s
}

// Table writes the result for people: findings, most severe first, with place and reason, then skipped captures and
// totals. width is the terminal's, or 0.
func Table(w io.Writer, r *Result, colour bool, width int) error {
	var b strings.Builder
	if len(r.Findings) > 0 {
		findingsTable(&b, r, colour, width)
	}
	reasonList(&b, "incomplete", r.Incomplete)
	reasonList(&b, "skipped", r.Skipped)
	summary(&b, r, colour)
	_, err := io.WriteString(w, b.String())
	return err
}

// narrowest is the minimum width of the table.
const narrowest = 100

func findingsTable(b *strings.Builder, r *Result, colour bool, width int) {
	t := NewTable(b)
	t.AppendHeader(table.Row{"Severity", "Kind", "Where", "Path and why", "Spots", "Bytes"})
	room := 0 // of the two wide columns together; 0 does not wrap
	if width > 0 {
		room = max(width, narrowest) - widthOfOthers
	}
	where, what := cell{room * 2 / 5, colour}, cell{room * 3 / 5, colour}
	for _, f := range r.Findings {
		path, why := f.Path, f.Why
		if f.Sample != "" {
			path += "  " + f.Sample
		}
		if f.Known {
			why = "known: " + why
		}
		if f.Excepted != nil {
			why = "excepted: " + f.Excepted.Reason
		}
		t.AppendRow(table.Row{Severity(f.Severity.String(), colour), f.Kind.String(),
			where.lines(f.Endpoint, joined(" · ", f.Audience, f.Status, onlyIf(f.AudienceBy == "assumed",
				"audience assumed"))),
			what.lines(path, why), f.Spots, f.Bytes})
	}
	t.SetColumnConfigs([]table.ColumnConfig{{Name: "Spots", Align: text.AlignRight},
		{Name: "Bytes", Align: text.AlignRight}})
	t.Render()
	b.WriteByte('\n')
}

// widthOfOthers is the width of all columns except the two wide ones.
const widthOfOthers = 50

// cell writes two texts below each other, the second one fainter, each wrapped.
type cell struct {
	width  int // 0 does not wrap
	colour bool
}

func (c cell) lines(first, second string) string {
	first, second = Clean(first), Clean(second)
	if c.width > 0 {
		first, second = text.WrapHard(first, c.width), text.WrapSoft(second, c.width)
	}
	if second == "" {
		return first
	}
	if c.colour {
		faint := strings.Split(second, "\n")
		for i := range faint {
			faint[i] = text.Faint.Sprint(strings.TrimRight(faint[i], " "))
		}
		second = strings.Join(faint, "\n")
	}
	return first + "\n" + second
}

// NewTable returns a table in the common style.
func NewTable(w io.Writer) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(w)
	style := table.StyleLight
	style.Options = table.Options{SeparateColumns: false, SeparateHeader: true, DrawBorder: false}
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	return t
}

func joined(by string, parts ...string) string {
	var some []string
	for _, p := range parts {
		if p != "" {
			some = append(some, p)
		}
	}
	return strings.Join(some, by)
}

func onlyIf(yes bool, s string) string {
	if yes {
		return s
	}
	return ""
}

// maxSkippedListed limits the skipped captures that are listed one by one.
const maxSkippedListed = 10

func reasonList(b *strings.Builder, what string, all []finding.Skipped) {
	counts := map[string]int{}
	var order []string
	first := map[string]finding.Skipped{}
	for _, s := range all {
		if counts[s.Reason]++; counts[s.Reason] == 1 {
			order = append(order, s.Reason)
			first[s.Reason] = s
		}
	}
	for i, reason := range order {
		if i == maxSkippedListed {
			fmt.Fprintf(b, what+" for %d other reasons; --format json lists all\n", len(order)-i)
			break
		}
		s := first[reason]
		fmt.Fprintf(b, what+" %d: %s (first: %s, entry %d)\n", counts[reason], Clean(reason), Clean(s.File), s.Entry)
	}
	if len(order) > 0 {
		b.WriteByte('\n')
	}
}

func summary(b *strings.Builder, r *Result, colour bool) {
	fmt.Fprintf(b, "%s: %d judged%s, %d skipped; %s", count(r.Summary.Captures, "capture"), r.Summary.Judged,
		r.incomplete(), r.Summary.Skipped, Bytes(r.Summary.Bytes))
	if r.Summary.ExcessBytes > 0 {
		fmt.Fprintf(b, ", %s of it granted to nobody who got it (%d%%)", Bytes(r.Summary.ExcessBytes),
			r.Summary.ExcessBytes*100/max(r.Summary.Bytes, 1))
	}
	b.WriteString(".\n")
	if len(r.Findings) == 0 {
		if r.Summary.Judged == 0 { // then there is nothing to say of findings
			return
		}
		b.WriteString("No findings" + onlyIf(len(r.Incomplete) > 0, " in what is there") + ".\n")
		return
	}
	counts := r.BySeverity()
	var parts []string
	for _, s := range []string{"critical", "high", "medium", "low", "info"} {
		if counts[s] > 0 {
			part := fmt.Sprintf("%d %s", counts[s], s)
			if colour {
				part = colours[s].Sprint(part)
			}
			parts = append(parts, part)
		}
	}
	fmt.Fprintf(b, "%s: %s.\n", count(len(r.Findings), "finding"), strings.Join(parts, ", "))
	if r.Baseline != nil {
		fmt.Fprintf(b, "%d of them known before; %d known before are gone.\n", len(r.Baseline.Prints)-r.Baseline.Gone,
			r.Baseline.Gone)
	}
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Bytes formats a number of bytes for people.
func Bytes(n int) string {
	switch {
	case n < 10_000:
		return fmt.Sprintf("%d B", n)
	case n < 10_000_000:
		return fmt.Sprintf("%.1f kB", float64(n)/1000)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1_000_000)
}
