package chart

import (
	"fmt"
	"image/color"
	"slices"
	"time"

	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/view"
)

// layerInk tells layers apart; the legend names them.
var layerInk = map[estate.Layer]color.RGBA{
	estate.Platform: {36, 98, 128, 255}, estate.Driver: {188, 118, 20, 255}, estate.Firmware: {120, 60, 96, 255},
	estate.Inside: {84, 130, 84, 255}, estate.Settings: {120, 130, 140, 255},
}

// Trend draws a cluster's drift over time as steps, the layers stacked: a tally holds until the next.
func Trend(t view.Trend) Drawing {
	all, from, to := t.Tallies, t.From, t.To
	const width, height = 900, 600
	return Drawing{Width: width, Height: height, paint: func(p *pen) error {
		p.bold(margin, margin, 15, left, ink, "Drift of "+t.Cluster)
		p.text(margin, margin+17, 9, left, grey, "%s to %s%s", from.Format("2 Jan 2006"),
			to.Format("2 Jan 2006 15:04 MST"), lastly(all))
		if len(all) == 0 {
			p.text(margin, height/2, 11, left, grey, "nothing was counted in this time")
			return nil
		}
		each := vg.Length(height-2*margin-34) / 2
		if err := paintTrend(p, all, false, t.Marks, from, to, part{margin, margin + 34, width - 2*margin, each - 6}); err != nil {
			return err
		}
		return paintTrend(p, all, true, t.Marks, from, to, part{margin, margin + 40 + each, width - 2*margin, each - 6})
	}}
}

// lastly says how hosts stand at the end.
func lastly(all []drift.Tally) string {
	if len(all) == 0 {
		return ""
	}
	last := all[len(all)-1]
	text := fmt.Sprintf("; at the end %d of %s adrift", last.Adrift, catalogue.Some(last.Hosts, "host"))
	if open := last.Open(); open != "" {
		text += ", " + open
	}
	return text
}

// mark paints the sign of something that was done: a triangle for a round, a square for what feeds and bundles brought. y
// counts from below.
func (p *pen) mark(kind string, x, y vg.Length) {
	if kind != "round" {
		p.block(x-3, y-3, 6, 6, ink)
		return
	}
	p.SetColor(ink)
	p.Fill(vg.Path{{Type: vg.MoveComp, Pos: vg.Point{X: x - 4, Y: y + 4}}, {Type: vg.LineComp, Pos: vg.Point{X: x + 4, Y: y + 4}},
		{Type: vg.LineComp, Pos: vg.Point{X: x, Y: y - 4}}, {Type: vg.CloseComp}})
}

// severityInk has a colour for each severity, the worst the strongest.
var severityInk = map[catalogue.Severity]color.RGBA{
	catalogue.Critical: {172, 40, 56, 255}, catalogue.High: {188, 118, 20, 255}, catalogue.Medium: {150, 148, 96, 255},
	catalogue.Low: {140, 164, 172, 255}, catalogue.Unknown: {120, 130, 140, 255},
}

// legend is how wide the legend is.
const legend = 116

// part is a rectangle of a drawing, from its top left.
type part struct{ x, y, w, h vg.Length }

func paintTrend(p *pen, all []drift.Tally, severities bool, marks []view.Mark, from, to time.Time, a part) error {
	if all[0].At.After(from) {
		from = all[0].At
	}
	pl := axes(from, to)
	pl.Y.Min, pl.Y.Tick.Marker = 0, whole{}
	pl.X.Label.Text, pl.Y.Label.Text = "time, "+to.Format("MST"), "places out of line"
	pl.Legend.Top, pl.Legend.Left, pl.Legend.XOffs = true, false, legend // beside the plot
	pl.Add(grid())
	sum := make([]int, len(all))
	layer := func(name string, ink color.Color, count func(drift.Tally) int) error {
		var up, down plotter.XYs
		for i, t := range all {
			end, low := to, float64(sum[i])
			if i+1 < len(all) {
				end = all[i+1].At
			}
			sum[i] += count(t)
			begin := max(seconds(t.At), seconds(from))
			up = append(up, plotter.XY{X: begin, Y: float64(sum[i])}, plotter.XY{X: seconds(end), Y: float64(sum[i])})
			down = append(down, plotter.XY{X: begin, Y: low}, plotter.XY{X: seconds(end), Y: low})
		}
		slices.Reverse(down)
		filled, err := area(ink, append(up, down...))
		if err != nil {
			return err
		}
		pl.Add(filled)
		pl.Legend.Add(name, filled)
		return nil
	}
	if severities {
		for _, s := range catalogue.Severities {
			if err := layer(s.String(), severityInk[s], func(t drift.Tally) int { return t.Severities[s.String()] }); err != nil {
				return err
			}
		}
	} else {
		for _, l := range estate.Layers {
			if err := layer(string(l), layerInk[l], func(t drift.Tally) int { return t.Drift[l] }); err != nil {
				return err
			}
		}
	}
	open := func(t drift.Tally) int { return t.Unread + t.Undecided }
	if err := layer("unread or undecided", hollow, open); err != nil { // on top
		return err
	}
	pl.Y.Max = float64(max(1, slices.Max(sum))) * 1.08 // room for the marks
	pl.Add(inside(func(q *pen, x, y func(float64) vg.Length) {
		for _, m := range marks {
			if at := seconds(m.At); at >= pl.X.Min && at <= pl.X.Max {
				q.mark(m.Kind, x(at), y(pl.Y.Max)-6)
			}
		}
	}))
	for i, kind := range []string{"round", "news"} {
		y := a.y + 104 + vg.Length(i*14)
		p.mark(kind, a.x+a.w-9, p.height-y)
		p.text(a.x+a.w-18, y, 8, right, ink, "%s", map[string]string{"round": "a round began", "news": "a feed or bundle"}[kind])
	}
	p.within(a.x, a.y, a.w-legend, a.h, pl)
	return nil
}
