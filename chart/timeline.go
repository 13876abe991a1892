package chart

import (
	"fmt"
	"image/color"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"yareharbour/core/act"
	"yareharbour/core/view"
)

// Timeline draws a round, as it is planned or as it went: a lane for each host with its steps along time, and above
// them the load with its limit, where that is known.
func Timeline(t view.Timeline) Drawing {
	l := t.Lanes
	const width, lane, tide = 900, 30, 90
	height := vg.Length(2*margin + 146 + lane*len(l.Lanes))
	if len(l.Tide) > 0 {
		height += tide
	}
	return Drawing{Width: width, Height: height, paint: func(p *pen) error {
		p.bold(margin, margin, 15, left, ink, t.Title)
		p.text(margin, margin+17, 9, left, grey, "%s", t.Subtitle)
		y := vg.Length(margin + 34)
		if len(l.Tide) > 0 {
			if err := paintTide(p, l, part{margin, y, width - 2*margin, tide}); err != nil {
				return err
			}
			y += tide
		}
		paintLanes(p, l, part{margin, y, width - 2*margin, vg.Length(lane*len(l.Lanes) + 36)})
		y += vg.Length(lane*len(l.Lanes) + 52)
		x := vg.Length(margin + names)
		for _, step := range l.Steps() {
			p.box(x, y-5, 10, 10, stepInk[step])
			p.text(x+14, y, 8, left, ink, "%s", step)
			x += 62
		}
		x, y = margin+names, y+14
		p.line(x-1, y, x+11, y, 1, alarm, 3, 3)
		p.text(x+14, y, 8, left, ink, "stands still and needs a person")
		x += 150
		p.cross(x+5, p.height-y)
		p.text(x+14, y, 8, left, ink, "failed")
		if l.Now.After(l.From) && l.Now.Before(l.To) {
			x += 50
			p.line(x+5, y-5, x+5, y+5, 1.2, ink)
			p.text(x+14, y, 8, left, ink, "here it stands")
			x += 82
			p.box(x, y-5, 10, 10, pale(stepInk[act.DrainStep]))
			p.text(x+14, y, 8, left, ink, "as planned, not begun")
		}
		if len(l.Tide) > 0 {
			x, y = margin+names, y+14
			p.line(x-1, y, x+11, y, 1, amber, 3, 2)
			p.text(x+14, y, 8, left, ink, "limit up to which the reserve is kept")
			x += 180
			p.box(x, y-5, 10, 10, load2)
			p.text(x+14, y, 8, left, ink, "memory load of the hosts in service")
		}
		p.text(margin+names, y+18, 9, left, grey, "%s", t.Note)
		return nil
	}}
}

// names is the room left of the lanes.
const names = 80

// stepInk tells steps apart; each is written out where it has room, and in the legend.
var stepInk = map[act.Step]color.RGBA{
	act.PrecheckStep: {176, 184, 188, 255}, act.StageStep: {140, 164, 172, 255}, act.DrainStep: {64, 120, 150, 255},
	act.CloseStep: {40, 48, 56, 255}, act.BackupStep: {150, 140, 90, 255}, act.ChangeStep: {188, 118, 20, 255},
	act.RestartStep: {120, 60, 96, 255},
	act.ProveStep:   {84, 130, 84, 255}, act.ReopenStep: {40, 100, 60, 255}, act.ReturnStep: {104, 160, 176, 255},
	act.HookStep: {110, 110, 150, 255},
}

// laid returns axes over the time of the lanes, whose left edge is where that of the lanes is.
func laid(l view.Lanes) *plot.Plot {
	to := l.To
	if !to.After(l.From) {
		to = l.From.Add(1e9)
	}
	return axes(l.From, to)
}

// paintTide paints how loaded the hosts in service are at each moment, and how loaded they may be.
func paintTide(p *pen, l view.Lanes, a part) error {
	pl := laid(l)
	var load, limit plotter.XYs
	for _, t := range l.Tide {
		load = append(load, plotter.XY{X: seconds(t.From), Y: 100 * t.Load},
			plotter.XY{X: seconds(t.To), Y: 100 * t.Load})
		if t.Limit > 0 {
			limit = append(limit, plotter.XY{X: seconds(t.From), Y: 100 * t.Limit},
				plotter.XY{X: seconds(t.To), Y: 100 * t.Limit})
		}
		pl.Y.Max = max(pl.Y.Max, 100*t.Load, 100*t.Limit)
	}
	filled, err := area(load2, append(plotter.XYs{{X: load[0].X}}, append(load, plotter.XY{X: load[len(load)-1].X})...))
	if err != nil {
		return err
	}
	pl.Y.Min = 0
	pl.Y.Max *= 1.05
	pl.Y.Tick.Marker = whole{"%"}
	pl.Add(grid(), filled)
	if len(limit) > 0 {
		line, err := plotter.NewLine(limit)
		if err != nil {
			return err
		}
		line.Color, line.Width, line.Dashes = amber, 1, []vg.Length{3, 2}
		pl.Add(line)
	}
	pl.X.Tick.Marker = plot.ConstantTicks(nil) // the lanes below have them
	// the ticks of a percentage are as wide as three digits: its left edge stands where that of the lanes does
	const digits = 24
	p.within(a.x+names-digits, a.y, a.w-names+digits, a.h, pl)
	says := ""
	if t, ok := l.Tightest(); ok {
		says = fmt.Sprintf("tightest %.0f%% of %.0f%% at %s", 100*t.Load, 100*t.Limit, t.From.Format("15:04"))
		if t.Out != "" {
			says += ", while " + t.Out + " is out"
		}
	}
	p.bold(a.x+names-digits-6, a.y+a.h/2, 8, right, water, "load")
	p.text(a.x+a.w, a.y-6, 8, right, amber, "%s", says)
	return nil
}

// pale is a colour for what has not begun.
func pale(c color.RGBA) color.RGBA {
	mix := func(x uint8) uint8 { return uint8(255 - (255-int(x))*3/10) }
	return color.RGBA{mix(c.R), mix(c.G), mix(c.B), 255}
}

// cross marks where something failed; y counts from below.
func (p *pen) cross(x, y vg.Length) {
	l := draw.LineStyle{Color: alarm, Width: 1.6}
	p.StrokeLine2(l, x-4, y-4, x+4, y+4)
	p.StrokeLine2(l, x-4, y+4, x+4, y-4)
}

var load2 = color.RGBA{164, 190, 202, 255}

// paintLanes paints a lane for each host, its name left of it.
func paintLanes(p *pen, l view.Lanes, a part) {
	pl := laid(l)
	pl.Y.Min, pl.Y.Max = -float64(max(1, len(l.Lanes))), 0
	pl.Y.Tick.Marker = plot.ConstantTicks(nil)
	pl.X.Label.Text = "time, " + l.From.Format("MST")
	pl.Add(grid(), inside(func(q *pen, x, y func(float64) vg.Length) {
		for i, lane := range l.Lanes {
			top, low := y(-float64(i)-0.18), y(-float64(i)-0.82)
			for _, s := range lane.Spans {
				from, to := x(seconds(s.From)), x(seconds(s.To))
				w := max(to-from, 0.8)
				if s.Step == "" { // it stands still
					q.StrokeLine2(draw.LineStyle{Color: alarm, Width: 1, Dashes: []vg.Length{3, 3}}, from,
						(top+low)/2, to, (top+low)/2)
					if w > 44 {
						q.label(from+w/2, (top+low)/2+5, 7, centre, alarm, "needs you")
					}
					continue
				}
				fill, says := stepInk[s.Step], white
				if ahead := s.Expected && l.Now.After(l.From); ahead {
					fill, says = pale(fill), ink
				}
				q.block(from, low, w, top-low, fill)
				if w > 34 {
					q.label(from+w/2, (top+low)/2, 7, centre, says, string(s.Step))
				}
				if s.Failed {
					q.cross(from+w, (top+low)/2)
				}
			}
			if lane.Obstacle != "" {
				q.label(x(pl.X.Min)+3, (top+low)/2, 8, left, alarm, q.fit(lane.Obstacle, 8, x(pl.X.Max)-x(pl.X.Min)-6))
			} else if len(lane.Spans) == 0 {
				q.label(x(pl.X.Min)+3, (top+low)/2, 8, left, grey, q.fit(lane.State, 8, x(pl.X.Max)-x(pl.X.Min)-6))
			}
			q.label(q.Min.X-8, (top+low)/2, 9, right, ink, lane.Host)
		}
		if l.Now.After(l.From) && l.Now.Before(l.To) {
			at := x(seconds(l.Now))
			q.StrokeLine2(draw.LineStyle{Color: ink, Width: 1.2}, at, y(pl.Y.Min), at, y(0))
		}
	}))
	p.within(a.x+names, a.y, a.w-names, a.h, pl)
}
