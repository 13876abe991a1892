package adrift

import (
	"fmt"
	"time"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// paintNews says in a line what is new since the last look.
func paintNews(c *part.Canvas, n drift.News, a part.Area) {
	switch {
	case n.Since.IsZero():
		c.Put(a.X+1, a.Y, part.Quiet, "nothing here is marked as seen yet; m marks all")
	case len(n.Drift) == 0:
		c.Put(a.X+1, a.Y, part.Quiet,
			fmt.Sprintf("nothing new since %s looked on %s", n.By, n.Since.Format("Mon 2 Jan 15:04")))
	default:
		x := c.Put(a.X+1, a.Y, part.Caution|part.Bold,
			fmt.Sprintf("• %d new since %s looked on %s", len(n.Drift), n.By, n.Since.Format("Mon 2 Jan 15:04")))
		c.Put(x+2, a.Y, part.Quiet, "m marks all as seen")
	}
}

// layerMarks paint a layer's part of a bar, each with a shape of its own.
var layerMarks = map[estate.Layer]part.Sign{
	estate.Platform: {Glyph: "█", Style: part.Loads},
	estate.Driver:   {Glyph: "▓", Style: part.Limits},
	estate.Firmware: {Glyph: "▒", Style: part.Water},
	estate.Inside:   {Glyph: "░", Style: part.Good},
	estate.Settings: {Glyph: "▚", Style: part.Deep},
}

// paintTrend paints the cluster's drift over time, by layer, and below it what is new.
func (s *Screen) paintTrend(f part.Frame, c *part.Canvas, a part.Area) {
	n, trend := f.View.News[s.at.Cluster], f.View.Trends[s.at.Cluster]
	if len(trend) == 0 {
		c.Put(a.X+2, a.Y+1, part.Quiet, "nothing was counted yet: the first reading begins it")
		return
	}
	below := min(len(n.Drift)+2, a.H/3)
	bars := part.Rect(a.X+6, a.Y+1, a.W-8, min(a.H-below-6, 18))
	from, to := trend[0].At, f.View.At()
	most := 1
	for _, t := range trend {
		most = max(most, t.Total()+t.Unread+t.Undecided)
	}
	c.Put(a.X+1, a.Y, part.Water|part.Bold, "out of line, by layer")
	for i := 0; i <= 2; i++ {
		c.Right(a.X+5, bars.Y+(bars.H-1)*i/2, 4, part.Quiet, fmt.Sprint(most-most*i/2))
	}
	paintBars(c, trend, from, to, most, bars)
	c.Fill(part.Rect(bars.X, bars.Y+bars.H, bars.W, 1), part.Water, '━')
	for i := 0; i <= 4; i++ {
		t := from.Add(to.Sub(from) * time.Duration(i) / 4)
		x := bars.X + (bars.W-1)*i/4
		label := t.Format("2 Jan")
		if to.Sub(from) < 4*24*time.Hour {
			label = t.Format("2 Jan 15:04")
		}
		c.Put(max(a.X, min(x-len(label)/2, bars.X+bars.W-len(label))), bars.Y+bars.H+1, part.Quiet, label)
	}
	paintTrendLegend(c, trend, a.X+6, bars.Y+bars.H+2)
	top := bars.Y + bars.H + 4
	news := part.Rect(a.X, top, a.W, a.Y+a.H-top)
	if means := f.View.Means[s.at.Cluster]; len(means) > 0 && a.W >= 110 {
		const wide = 62
		paintMeans(c, means, part.Rect(a.X+a.W-wide, top, wide, news.H))
		news.W -= wide + 1
	}
	s.paintNewList(f, c, n, news)
}

// paintBars paints a column for each cell of time: what was counted then.
func paintBars(c *part.Canvas, all []drift.Tally, from, to time.Time, most int, a part.Area) {
	whole := max(to.Sub(from), time.Minute)
	at := 0
	for x := range a.W {
		t := from.Add(whole * time.Duration(x) / time.Duration(max(1, a.W-1)))
		for at+1 < len(all) && !all[at+1].At.After(t) {
			at++
		}
		tally, y, sum := all[at], a.Y+a.H, 0
		level := func(n int) int { return (n*a.H + most/2) / most }
		for _, l := range estate.Layers {
			sum += tally.Drift[l]
			for a.Y+a.H-level(sum) < y {
				y--
				c.Put(a.X+x, y, layerMarks[l].Style, layerMarks[l].Glyph)
			}
		}
		sum += tally.Unread + tally.Undecided
		for a.Y+a.H-level(sum) < y {
			y--
			c.Put(a.X+x, y, part.Alarm, "?")
		}
	}
}

func paintTrendLegend(c *part.Canvas, all []drift.Tally, x, y int) {
	last := all[len(all)-1]
	for _, l := range estate.Layers {
		x = c.Put(x, y, layerMarks[l].Style, layerMarks[l].Glyph) + 1
		x = c.Put(x, y, part.Plain, fmt.Sprintf("%s %d", l, last.Drift[l])) + 2
	}
	x = c.Put(x, y, part.Alarm, "?") + 1
	x = c.Put(x, y, part.Plain, "not known: "+view.OrDash(last.Open())) + 2
	c.Put(x, y, part.Quiet, fmt.Sprintf("now: %d of %d hosts adrift", last.Adrift, last.Hosts))
}

// paintMeans tells how long drift lasts.
func paintMeans(c *part.Canvas, means []drift.Mean, a part.Area) {
	if a.H < 2 {
		return
	}
	c.Put(a.X+1, a.Y, part.Water|part.Bold, "how long drift lasts, until fixed")
	for i, m := range means {
		if i+1 >= a.H {
			return
		}
		says := fmt.Sprintf("%-9s mean %-8s of %d", m.Severity, drift.Age(m.Mean), m.Places)
		if m.Still > 0 {
			says += fmt.Sprintf("; %d still, up to %s", m.Still, drift.Age(m.Longest))
		}
		c.Within(a.X+2, a.Y+1+i, a.W-3, part.Plain, says)
	}
}

func (s *Screen) paintNewList(f part.Frame, c *part.Canvas, n drift.News, a part.Area) {
	if n.Since.IsZero() || a.H < 2 {
		return
	}
	c.Put(a.X+1, a.Y, part.Water|part.Bold, "new since "+n.Since.Format("Mon 2 Jan 15:04"))
	shown := 0
	for i := range n.Drift {
		v := &n.Drift[i]
		if !f.Lets(v) || shown+1 >= a.H {
			continue
		}
		sg := part.SignOf(v)
		y := a.Y + 1 + shown
		c.Put(a.X+2, y, sg.Style, sg.Glyph)
		says := fmt.Sprintf("has %s, wants %s", view.OrDash(v.Has), view.OrDash(v.Wants))
		if v.Outcome.Open() {
			says = "last known " + view.OrDash(v.Last)
		}
		c.Within(a.X+4, y, a.W-5, part.Plain, fmt.Sprintf("%-12s %s: %s, %s", v.Host, v.Title(), v.Outcome, says))
		c.Press(part.Rect(a.X, y, a.W, 1),
			part.Go{Screen: part.Host, Cluster: s.at.Cluster, Host: v.Host, Component: v.Component, Device: v.Device})
		shown++
	}
	if rest := len(n.Drift) - shown; rest > 0 && f.Filter.Empty() {
		c.Right(a.X+a.W-1, a.Y, 16, part.Quiet, fmt.Sprintf("and %d more", rest))
	}
}
