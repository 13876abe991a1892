package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// isNews tells whether a verdict is new since somebody last looked at the cluster.
func (m *Model) isNews(host string, v *drift.Verdict) bool {
	for _, n := range m.snap.News[m.here().cluster].Drift {
		if n.Host == host && n.Component == v.Component && n.Device == v.Device {
			return true
		}
	}
	return false
}

// paintNews says in a line what is new since the last look.
func (m *Model) paintNews(c *canvas, a area) {
	n := m.snap.News[m.here().cluster]
	switch {
	case n.Since.IsZero():
		c.put(a.x+1, a.y, quiet, "nobody has marked what is here as seen yet; m does")
	case len(n.Drift) == 0:
		c.put(a.x+1, a.y, good, fmt.Sprintf("nothing new since %s looked on %s", n.By, n.Since.Format("Mon 2 Jan 15:04")))
	default:
		x := c.put(a.x+1, a.y, caution|bold, fmt.Sprintf("• %d new since %s looked on %s", len(n.Drift), n.By, n.Since.Format("Mon 2 Jan 15:04")))
		c.put(x+2, a.y, quiet, "m marks all as seen")
	}
}

func (m *Model) markSeen() tea.Cmd {
	cluster := m.here().cluster
	return m.doAndLoad(func() (string, error) {
		return "what is out of line on " + cluster + " now is marked as seen", m.backend.Looked(m.ctx, cluster)
	})
}

// layerMarks paint a layer's part of a bar, each with a shape of its own.
var layerMarks = map[estate.Layer]struct {
	r    rune
	role style
}{estate.Platform: {'█', loads}, estate.Driver: {'▓', limits}, estate.Firmware: {'▒', water}, estate.Inside: {'░', good}, estate.Settings: {'▚', deep}}

// paintTrend paints a cluster's drift over time, by layer, and below it what is new.
func (m *Model) paintTrend(c *canvas, a area) {
	n := m.snap.News[m.here().cluster]
	if len(n.Trend) == 0 {
		c.put(a.x+2, a.y+1, quiet, "nothing was counted yet: the first reading begins it")
		return
	}
	below := min(len(n.Drift)+2, a.h/3)
	chart := area{a.x + 6, a.y + 1, a.w - 8, min(a.h-below-6, 18)}
	from, to := n.Trend[0].At, m.snap.Survey.At
	most := 1
	for _, t := range n.Trend {
		most = max(most, t.Total()+t.Unread)
	}
	c.put(a.x+1, a.y, water|bold, "out of line, by layer")
	for i := 0; i <= 2; i++ {
		y := chart.y + (chart.h-1)*i/2
		c.right(a.x+5, y, 4, quiet, fmt.Sprint(most-most*i/2))
	}
	m.paintBars(c, n.Trend, from, to, most, chart)
	c.fill(chart.x, chart.y+chart.h, chart.w, 1, water, '━')
	for i := 0; i <= 4; i++ {
		t := from.Add(to.Sub(from) * time.Duration(i) / 4)
		x := chart.x + (chart.w-1)*i/4
		label := t.Format("2 Jan")
		if to.Sub(from) < 4*24*time.Hour {
			label = t.Format("2 Jan 15:04")
		}
		c.put(max(a.x, min(x-len(label)/2, chart.x+chart.w-len(label))), chart.y+chart.h+1, quiet, label)
	}
	m.paintTrendLegend(c, n.Trend, a.x+6, chart.y+chart.h+2)
	top := chart.y + chart.h + 4
	m.paintNewList(c, n, area{a.x, top, a.w, a.y + a.h - top})
}

// paintBars paints a column for each cell of time: what was counted then.
func (m *Model) paintBars(c *canvas, all []drift.Tally, from, to time.Time, most int, a area) {
	whole := max(to.Sub(from), time.Minute)
	at := 0
	for x := range a.w {
		t := from.Add(whole * time.Duration(x) / time.Duration(max(1, a.w-1)))
		for at+1 < len(all) && !all[at+1].At.After(t) {
			at++
		}
		tally, y, sum := all[at], a.y+a.h, 0
		level := func(n int) int { return (n*a.h + most/2) / most }
		for _, l := range estate.Layers {
			sum += tally.Drift[l]
			for a.y+a.h-level(sum) < y {
				y--
				c.put(a.x+x, y, layerMarks[l].role, string(layerMarks[l].r))
			}
		}
		sum += tally.Unread
		for a.y+a.h-level(sum) < y {
			y--
			c.put(a.x+x, y, alarm, "?")
		}
	}
}

func (m *Model) paintTrendLegend(c *canvas, all []drift.Tally, x, y int) {
	last := all[len(all)-1]
	for _, l := range estate.Layers {
		x = c.put(x, y, layerMarks[l].role, string(layerMarks[l].r)) + 1
		x = c.put(x, y, plain, fmt.Sprintf("%s %d", l, last.Drift[l])) + 2
	}
	x = c.put(x, y, alarm, "?") + 1
	x = c.put(x, y, plain, fmt.Sprintf("unread %d", last.Unread)) + 2
	c.put(x, y, quiet, fmt.Sprintf("now: %d of %d hosts adrift", last.Adrift, last.Hosts))
}

func (m *Model) paintNewList(c *canvas, n News, a area) {
	if n.Since.IsZero() || a.h < 2 {
		return
	}
	c.put(a.x+1, a.y, water|bold, "new since "+n.Since.Format("Mon 2 Jan 15:04"))
	shown := 0
	for _, v := range n.Drift {
		if !m.lets(&v) || shown+1 >= a.h {
			continue
		}
		sg := signs[v.Outcome]
		y := a.y + 1 + shown
		c.put(a.x+2, y, sg.role, sg.glyph)
		says := fmt.Sprintf("has %s, wants %s", orDash(v.Has), orDash(v.Wants))
		if v.Outcome == drift.Unread {
			says = "last known " + orDash(v.Last)
		}
		c.within(a.x+4, y, a.w-5, plain, fmt.Sprintf("%-12s %s: %s, %s", v.Host, v.Title(), v.Outcome, says))
		c.press(a.x, y, a.w, 1, goMsg{screen: hostScreen, cluster: m.here().cluster, host: v.Host})
		shown++
	}
	if rest := len(n.Drift) - shown; rest > 0 && m.narrow.Empty() {
		c.right(a.x+a.w-1, a.y, 16, quiet, fmt.Sprintf("and %d more", rest))
	}
}

// comparedMsg is a comparison that was made.
type comparedMsg struct{ Comparison }

func (m *Model) compareWith(other string) tea.Cmd {
	host := m.here().host
	from, to := other, host
	if other == "" {
		return nil
	}
	return func() tea.Msg {
		d, err := m.backend.Compare(m.ctx, from, to)
		if err != nil {
			return saidMsg{"failed: " + err.Error()}
		}
		return comparedMsg{d}
	}
}

// compareRows are the lines of a comparison that the filter lets through.
func (m *Model) compareRows() (out [][3]string) {
	if m.compare == nil {
		return nil
	}
	for _, f := range m.compare.Facts {
		if m.narrow.Empty() {
			out = append(out, [3]string{f.What, f.From, f.To})
		}
	}
	for _, t := range m.compare.Turns {
		v := drift.Verdict{Component: t.Component, Device: t.Device, Has: t.From, Wants: t.To}
		if m.lets(&v) {
			out = append(out, [3]string{t.Title(), t.From, t.To})
		}
	}
	return out
}

// paintCompare paints two readings side by side, as far as they differ.
func (m *Model) paintCompare(c *canvas, a area) {
	d := m.compare
	if d == nil {
		return
	}
	rows := m.compareRows()
	p := m.here()
	p.row = clamp(p.row, len(rows))
	name := max(24, a.w*2/5)
	w := (a.w - name - 4) / 2
	c.within(a.x+2, a.y, name, water|bold, "what")
	c.within(a.x+2+name, a.y, w-1, strong|bold, d.From+", "+d.FromAt.Format("2 Jan 15:04"))
	c.within(a.x+2+name+w, a.y, w-1, strong|bold, d.To+", "+d.ToAt.Format("2 Jan 15:04"))
	if len(rows) == 0 {
		c.put(a.x+2, a.y+2, good, "nothing differs in what both hold")
	}
	var unread []string
	for _, s := range d.Unread {
		unread = append(unread, string(s))
	}
	if len(unread) > 0 {
		c.within(a.x+2, a.y+a.h-1, a.w-3, alarm, "? not compared, since one of the two lacks it: "+strings.Join(unread, ", "))
		a.h--
	}
	first := max(0, min(p.row-(a.h-1)/2, len(rows)-(a.h-1)))
	for i := first; i < len(rows) && i-first < a.h-1; i++ {
		y := a.y + 1 + i - first
		c.within(a.x+2, y, name-1, subject, rows[i][0])
		c.within(a.x+2+name, y, w-1, plain, orDash(rows[i][1]))
		c.within(a.x+2+name+w, y, w-1, plain, orDash(rows[i][2]))
		if i == p.row {
			c.shade(a.x, y, a.w, selected)
			c.put(a.x, y, strong|bold|selected, "▸")
		}
		c.press(a.x, y, a.w, 1, pickMsg{i})
	}
}
