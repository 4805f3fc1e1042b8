package report

import (
	"bytes"
	"fmt"
	"image/color"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"

	"kestrel/internal/core/span"
	"kestrel/internal/paper"
)

// mark is a value at the beginning of a day or another step.
type mark struct {
	at    time.Time
	value float64
}

type series struct {
	name  string
	marks []mark
}

const (
	dots  = 220 // an inch
	thick = vg.Length(0.8)
)

// Tones differ in brightness, so that they do in black and white.
func tone(i int) color.Color {
	return []color.Color{color.Gray{60}, color.Gray{180}}[i%2]
}

// frame is an empty chart over a stretch of time.
func frame(from, to time.Time, unit string) *plot.Plot {
	p := plot.New()
	label := p.X.Tick.Label
	label.Font = font.From(font.Font{Typeface: "Liberation", Variant: "Sans"}, 8)
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		a.Label.TextStyle.Font, a.Tick.Label.Font = label.Font, label.Font
		a.LineStyle.Width, a.Tick.LineStyle.Width = vg.Length(0.4), vg.Length(0.4)
	}
	p.Legend.TextStyle.Font = label.Font
	p.Y.Label.Text = unit
	p.X.Min, p.X.Max = float64(from.Unix()), float64(to.Unix())
	p.X.Tick.Marker = dates{from, to}
	p.Y.Min = 0
	return p
}

// dates marks days, or hours where there are few days.
type dates struct{ from, to time.Time }

func (d dates) Ticks(_, _ float64) []plot.Tick {
	whole := d.to.Sub(d.from)
	step, form := 6*time.Hour, "15:04"
	for _, s := range []time.Duration{time.Hour, 3 * time.Hour, 6 * time.Hour, span.Day, 2 * span.Day, 7 * span.Day, 14 * span.Day, 30 * span.Day, 60 * span.Day} {
		if step = s; whole/s <= 12 {
			break
		}
	}
	if step >= span.Day {
		form = "01-02"
	}
	var out []plot.Tick
	for t := d.from.UTC().Truncate(step); !t.After(d.to); t = t.Add(step) {
		if !t.Before(d.from) {
			out = append(out, plot.Tick{Value: float64(t.Unix()), Label: t.Format(form)})
		}
	}
	return out
}

// columns draws one column for each day, or several side by side.
func columns(from, to time.Time, unit string, all ...series) ([]byte, error) {
	p := frame(from.Truncate(span.Day), to.Add(span.Day-1).Truncate(span.Day), unit) // the last one is whole
	top := 0.0
	for i, s := range all {
		for _, m := range s.marks {
			top = max(top, m.value)
			width := 0.8 / float64(len(all)) * float64(span.Day/time.Second)
			left := float64(m.at.Unix()) + 0.1*float64(span.Day/time.Second) + float64(i)*width
			box, err := plotter.NewPolygon(plotter.XYs{{X: left, Y: 0}, {X: left, Y: m.value}, {X: left + width, Y: m.value}, {X: left + width, Y: 0}})
			if err != nil {
				return nil, fmt.Errorf("draw a column: %w", err)
			}
			box.Color, box.LineStyle.Width = tone(i), vg.Length(0.3)
			p.Add(box)
		}
		if len(all) > 1 {
			p.Legend.Add(s.name, swatch{tone(i)})
		}
	}
	if len(all) > 1 {
		top *= 1.3 // room for the legend
	}
	p.Legend.Top = true
	return picture(p, top)
}

// curve draws a level; top is the top of its scale, 0 for what fits.
func curve(from, to time.Time, unit string, top float64, marks []mark) ([]byte, error) {
	p := frame(from, to, unit)
	var xs plotter.XYs
	for _, m := range marks {
		xs = append(xs, plotter.XY{X: max(float64(from.Unix()), float64(m.at.Unix())), Y: m.value})
		if top < m.value {
			top = m.value
		}
	}
	if len(xs) > 0 {
		l, err := plotter.NewLine(xs)
		if err != nil {
			return nil, fmt.Errorf("draw a line: %w", err)
		}
		l.Width, l.Color = 1.2*thick, tone(0)
		l.StepStyle = plotter.PostStep
		p.Add(l)
	}
	return picture(p, top)
}

// swatch is what stands for a series in a legend.
type swatch struct{ of color.Color }

// Thumbnail implements plot.Thumbnailer.
func (s swatch) Thumbnail(c *draw.Canvas) {
	c.FillPolygon(s.of, []vg.Point{{X: c.Min.X, Y: c.Min.Y}, {X: c.Min.X, Y: c.Max.Y}, {X: c.Max.X, Y: c.Max.Y}, {X: c.Max.X, Y: c.Min.Y}})
}

// picture draws a chart as PNG.
func picture(p *plot.Plot, top float64) ([]byte, error) {
	if top <= 0 {
		top = 1
	}
	p.Y.Max = 1.05 * top
	c := vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(paper.ChartWidth*vg.Millimeter, paper.ChartHeight*vg.Millimeter), vgimg.UseDPI(dots))}
	p.Draw(draw.New(c))
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return nil, fmt.Errorf("draw a chart: %w", err)
	}
	return b.Bytes(), nil
}
