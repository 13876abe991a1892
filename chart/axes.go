package chart

import (
	"fmt"
	"image/color"
	"math"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// axes returns a plot in the hand of our drawings, with a time axis below. Its values along x are seconds since the
// epoch.
func axes(from, to time.Time) *plot.Plot {
	p := plot.New()
	p.BackgroundColor = nil
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		a.Color, a.Tick.Color, a.Tick.Label.Color = grey, grey, grey
		a.LineStyle.Width, a.Padding = 0.6, 2
		a.Tick.Label.Font.Variant, a.Tick.Label.Font.Size = "Sans", 8
		a.Label.TextStyle.Font.Variant, a.Label.TextStyle.Font.Size, a.Label.TextStyle.Color = "Sans", 8, grey
	}
	p.Legend.TextStyle.Font.Variant, p.Legend.TextStyle.Font.Size, p.Legend.TextStyle.Color = "Sans", 8, ink
	p.Legend.Padding, p.Legend.ThumbnailWidth = 3, 14
	p.X.Min, p.X.Max = seconds(from), seconds(to)
	p.X.Tick.Marker = clock{from.Location()}
	return p
}

func seconds(t time.Time) float64 { return float64(t.UnixNano()) / 1e9 }

// clock puts a tick at whole minutes, hours or days, about eight in all.
type clock struct{ at *time.Location }

// Ticks implements plot.Ticker.
func (c clock) Ticks(low, high float64) (out []plot.Tick) {
	every, layout := 24*time.Hour, "2 Jan"
	for _, d := range []time.Duration{time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute,
		30 * time.Minute, time.Hour, 2 * time.Hour, 6 * time.Hour, 12 * time.Hour} {
		if (high-low)/d.Seconds() <= 9 {
			every, layout = d, "15:04"
			break
		}
	}
	for (high-low)/every.Seconds() > 9 {
		every *= 2
	}
	for v := math.Ceil(low/every.Seconds()) * every.Seconds(); v <= high; v += every.Seconds() {
		out = append(out, plot.Tick{Value: v, Label: time.Unix(int64(v), 0).In(c.at).Format(layout)})
	}
	return out
}

// whole are ticks at whole numbers, with a unit behind those that have a label.
type whole struct{ unit string }

// Ticks implements plot.Ticker.
func (w whole) Ticks(low, high float64) (out []plot.Tick) {
	for _, t := range (plot.DefaultTicks{}).Ticks(low, high) {
		if t.Value != math.Trunc(t.Value) {
			continue
		}
		if t.Label != "" {
			t.Label = fmt.Sprintf("%.0f%s", t.Value, w.unit)
		}
		out = append(out, t)
	}
	return out
}

// area is a filled polygon without an edge.
func area(fill color.Color, at plotter.XYs) (*plotter.Polygon, error) {
	p, err := plotter.NewPolygon(at)
	if err == nil {
		p.Color, p.LineStyle.Width = fill, 0
	}
	return p, err
}

// grid are the faint lines across a plot.
func grid() *plotter.Grid {
	g := plotter.NewGrid()
	g.Vertical.Color, g.Horizontal.Color = faint, faint
	g.Vertical.Width, g.Horizontal.Width = 0.5, 0.5
	return g
}

// within draws a plot into an area of the drawing, given as one reads: from the top left.
func (p *pen) within(x, y, w, h vg.Length, pl *plot.Plot) {
	c := p.Canvas
	c.Rectangle = vg.Rectangle{Min: vg.Point{X: x, Y: p.height - y - h}, Max: vg.Point{X: x + w, Y: p.height - y}}
	pl.Draw(c)
}

// inside are plotters of our own: they draw with a pen on the data's canvas, by the plot's own transforms.
type inside func(p *pen, x, y func(float64) vg.Length)

// Plot implements plot.Plotter.
func (i inside) Plot(c draw.Canvas, pl *plot.Plot) {
	x, y := pl.Transforms(&c)
	i(&pen{Canvas: c}, x, y)
}
