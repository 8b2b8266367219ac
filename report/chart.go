package report

import (
	"bytes"
	"html/template"
	"image/color"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"

	"inkret/core/scan"
)

// dashes tell the lines of severities apart in black and white, gravest first.
var dashes = [][]vg.Length{nil, {7, 3}, {2, 2}, {8, 3, 2, 3}, {12, 4}}

var ink = []color.Color{color.RGBA{0x9b, 0x10, 0x2a, 0xff}, color.RGBA{0xb4, 0x50, 0x1e, 0xff}, color.RGBA{0x7a, 0x62, 0x00, 0xff}, color.RGBA{0x27, 0x40, 0x7f, 0xff}, color.RGBA{0x55, 0x5e, 0x73, 0xff}}

// chart draws open findings by day as SVG: a line a severity, told apart by dash as well as by
// colour. Of fewer than two days there is nothing to draw, and it is empty.
func chart(days []AuditDay) (template.HTML, error) {
	if len(days) < 2 {
		return "", nil
	}
	p := plot.New()
	p.Y.Min, p.Y.Label.Text = 0, "open findings"
	p.X.Tick.Marker = plot.TimeTicks{Format: time.DateOnly}
	p.Y.Tick.Marker = wholeTicks{}
	p.Legend.Top, p.Legend.Padding, p.Legend.ThumbnailWidth = true, vg.Points(2), vg.Points(26)
	p.Legend.TextStyle.Font.Size = vg.Points(8)
	for _, style := range []*draw.TextStyle{&p.X.Tick.Label, &p.Y.Tick.Label, &p.Y.Label.TextStyle} {
		style.Font.Size = vg.Points(8)
	}
	grid, pale := plotter.NewGrid(), color.RGBA{0xd8, 0xd3, 0xc6, 0xff}
	grid.Vertical.Color, grid.Horizontal.Color = pale, pale
	p.Add(grid)
	for i, name := range scan.SeverityNames() {
		points, ever := plotter.XYs{}, false
		for _, d := range days {
			at, err := time.Parse(time.DateOnly, d.Day)
			if err != nil {
				return "", err
			}
			points = append(points, plotter.XY{X: float64(at.Unix()), Y: float64(d.Open[i])})
			ever = ever || d.Open[i] > 0
		}
		if !ever {
			continue
		}
		line, err := plotter.NewLine(points)
		if err != nil {
			return "", err
		}
		line.StepStyle = plotter.PostStep
		line.LineStyle = draw.LineStyle{Color: ink[i], Width: vg.Points(1.6), Dashes: dashes[i]}
		p.Add(line)
		p.Legend.Add(name, line)
	}
	const headroom = 1.4 // for the legend
	p.Y.Max *= headroom
	const width, height = 17 * vg.Centimeter, 6 * vg.Centimeter
	canvas := vgsvg.New(width, height)
	p.Draw(draw.New(canvas))
	var out bytes.Buffer
	if _, err := canvas.WriteTo(&out); err != nil {
		return "", err
	}
	_, svg, _ := bytes.Cut(out.Bytes(), []byte("<svg"))
	return template.HTML("<svg" + string(svg)), nil // drawn from days and numbers alone
}

// wholeTicks marks whole numbers only: there is no half a finding.
type wholeTicks struct{}

func (wholeTicks) Ticks(low, high float64) []plot.Tick {
	var out []plot.Tick
	for _, t := range (plot.DefaultTicks{}).Ticks(low, high) {
		if t.Value == float64(int(t.Value)) {
			out = append(out, t)
		}
	}
	return out
}
