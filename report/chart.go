package report

import (
	"fmt"
	"html/template"
	"strings"
	"time"

	"inkret/core/severity"
)

// Line styles, most severe first: dashes besides colours, for print without colour.
var (
	dashes = []string{"none", "7 3", "2 2", "8 3 2 3", "12 4"}
	inks   = []template.CSS{"#9b102a", "#b4501e", "#7a6200", "#27407f", "#555e73"}
)

// The layout of a chart, in its own units.
const (
	chartWidth, chartHeight = 680, 240
	chartLeft, chartTop     = 44, 26 // of what is drawn
	chartRight, chartBottom = 670, 214
	mostDays, mostTicks     = 7, 6 // that are written along the axes
	halfDay                 = 30   // of how wide a day is as it is written
)

// drawn is the data of a chart of open findings by day.
type drawn struct {
	Width, Height, Left, Top, Right, Bottom, Middle int
	Days, Counts                                    []tick
	Lines                                           []line
}

// tick is a mark on an axis.
type tick struct {
	At     float64
	Text   string
	Anchor string // where At is in the text: so that none leads out of the picture
}

// line is the open findings of one severity, one step per day.
type line struct {
	Name, Points, Dash string
	Ink                template.CSS
	From, To, Text     int // of its mark in the legend
}

var chartText = template.Must(template.New("chart").Parse(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {{.Width}} {{.Height}}" width="{{.Width}}" height="{{.Height}}" role="img" aria-label="Open findings by day" font-family="sans-serif" font-size="11">
{{range .Counts}}<path d="M{{$.Left}} {{.At}}H{{$.Right}}" style="stroke:#d8d3c6"/><text x="38" y="{{.At}}" dy="4" text-anchor="end">{{.Text}}</text>
{{end}}{{range .Days}}<path d="M{{.At}} {{$.Top}}V{{$.Bottom}}" style="stroke:#d8d3c6"/><text x="{{.At}}" y="230" text-anchor="{{.Anchor}}">{{.Text}}</text>
{{end}}<text x="10" y="{{.Middle}}" text-anchor="middle" transform="rotate(-90 10 {{.Middle}})">open findings</text>
{{range .Lines}}<path d="{{.Points}}" style="fill:none;stroke:{{.Ink}};stroke-width:2;stroke-dasharray:{{.Dash}}"/>
<path d="M{{.From}} 12H{{.To}}" style="fill:none;stroke:{{.Ink}};stroke-width:2;stroke-dasharray:{{.Dash}}"/><text x="{{.Text}}" y="16">{{.Name}}</text>
{{end}}</svg>`))

// chart draws open findings by day as SVG, one line per severity. It is empty for fewer than two days.
func chart(days []AuditDay) (template.HTML, error) {
	if len(days) < 2 {
		return "", nil
	}
	c := drawn{Width: chartWidth, Height: chartHeight, Left: chartLeft, Top: chartTop, Right: chartRight,
		Bottom: chartBottom, Middle: (chartTop + chartBottom) / 2}
	times, most := make([]time.Time, len(days)), 1
	for i, d := range days {
		at, err := time.Parse(time.DateOnly, d.Day)
		if err != nil {
			return "", err
		}
		times[i] = at
		for _, n := range d.Open {
			most = max(most, n)
		}
	}
	x := func(at time.Time) float64 {
		return chartLeft + (chartRight-chartLeft)*float64(at.Sub(times[0]))/float64(max(1,
			times[len(times)-1].Sub(times[0])))
	}
	step := wholeStep(most)
	top := (most + step - 1) / step * step
	y := func(n int) float64 { return chartBottom - (chartBottom-chartTop)*float64(n)/float64(top) }
	for n := 0; n <= top; n += step {
		c.Counts = append(c.Counts, tick{At: y(n), Text: fmt.Sprint(n)})
	}
	between := (len(days) + mostDays - 1) / mostDays
	for i := between / 2; i < len(days); i += between {
		at, anchor := x(times[i]), "middle"
		if at > chartRight-halfDay {
			anchor = "end"
		} else if at < chartLeft+halfDay {
			anchor = "start"
		}
		c.Days = append(c.Days, tick{at, days[i].Day, anchor})
	}
	for i, name := range severity.Names() {
		if points, ever := steps(days, times, i, x, y); ever {
			from := chartLeft + 110*len(c.Lines)
			c.Lines = append(c.Lines, line{name, points, dashes[i], inks[i], from, from + 34, from + 40})
		}
	}
	var out strings.Builder
	err := chartText.Execute(&out, c)
	return template.HTML(out.String()), err // its parts are escaped
}

// steps draws the open findings of one severity as steps. ever reports whether there was any.
func steps(days []AuditDay, times []time.Time, severity int, x func(time.Time) float64,
	y func(int) float64) (points string, ever bool) {
	var b strings.Builder
	for i, d := range days {
		n := d.Open[severity]
		if ever = ever || n > 0; i == 0 {
			fmt.Fprintf(&b, "M%.1f %.1f", x(times[i]), y(n))
			continue
		}
		fmt.Fprintf(&b, "H%.1fV%.1f", x(times[i]), y(n))
	}
	return b.String(), ever
}

// wholeStep returns the distance between marks up to most: 1, 2 or 5 times a power of ten, at least 1.
func wholeStep(most int) int {
	for unit := 1; ; unit *= 10 {
		for _, n := range []int{1, 2, 5} {
			if most <= n*unit*mostTicks {
				return n * unit
			}
		}
	}
}
