package waterline

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/survey"
	"yareharbour/tui/part"
)

var urgencies = [...]part.Sign{
	{Glyph: "!!", Style: part.Alarm | part.Bold},
	{Glyph: "! ", Style: part.Caution | part.Bold},
	{Glyph: "· ", Style: part.Quiet},
}

// see goes to where a need can be mended. One that is mended outside is told in full.
func see(f part.Frame, n survey.Need) tea.Msg {
	to := part.Go{Cluster: n.Cluster, Host: n.Host, Component: n.Component, Device: n.Device, Subject: n.Baseline}
	switch n.See {
	case survey.AtHost:
		to.Screen = part.Host
	case survey.AtDrift:
		to.Screen = part.Drift
		if n.Host != "" {
			to.Screen = part.Host
		}
	case survey.AtRound:
		to.Screen = part.Round
	case survey.AtPlan:
		to.Screen = part.Plan
	case survey.AtBaselines:
		to.Screen = part.Baselines
	case survey.AtCatalogue:
		to.Screen = part.Catalogue
	default:
		return part.Sheet{
			Title: "Needs you",
			Lines: append(part.Wrap(n.Text, 70), "", "This is fixed outside: it is a file of the estate."),
		}
	}
	if to.Cluster == "" && n.Host != "" {
		to.Cluster = f.View.ClusterOf(n.Host)
	}
	return to
}

func (s *Screen) paintNeeds(f part.Frame, c *part.Canvas, a part.Area) {
	needs := f.View.Needs(f.Filter)
	st := part.Water | part.Bold
	if s.needs {
		st |= part.Underline
	}
	c.Put(a.X+1, a.Y, st, "needs you")
	c.Wheel(a, func(dy int) any { return needTurned(dy) })
	if len(needs) == 0 {
		says, role := nothing(f)
		col := part.NewColumn(c, part.Rect(a.X, a.Y+1, a.W, a.H-1))
		col.Line(1, role, says)
		paintLately(f, c, part.Rect(a.X, col.Y+1, a.W, a.Y+a.H-col.Y-1))
		return
	}
	count := fmt.Sprintf("%d, worst first", len(needs))
	if all := len(f.View.Survey.Needs); all > len(needs) {
		count = fmt.Sprintf("%d of %d, narrowed", len(needs), all)
	}
	c.Put(a.X+12, a.Y, part.Quiet, count)
	first := 0
	if s.needs {
		first = max(0, s.row-(a.H-2)/2)
	}
	y := a.Y + 1
	for i := first; i < len(needs); i++ {
		if y >= a.Y+a.H {
			says := fmt.Sprintf(" %d more ↓", len(needs)-i)
			c.Right(a.X+a.W-1, a.Y+a.H-1, part.Width(says), part.Quiet, says)
			return
		}
		y = s.paintNeed(f, c, needs[i], part.Rect(a.X, y, a.W, a.Y+a.H-y), i)
	}
	paintLately(f, c, part.Rect(a.X, y+1, a.W, a.Y+a.H-y-1))
}

func who(n survey.Need) string {
	if len(n.Clusters) > 0 {
		return catalogue.Some(len(n.Clusters), "cluster")
	}
	if n.Host != "" {
		return n.Host
	}
	if n.Cluster != "" {
		return n.Cluster
	}
	return "estate"
}

// paintNeed paints one need, over several rows where it is long and there is room, and returns the row after it.
func (s *Screen) paintNeed(f part.Frame, c *part.Canvas, n survey.Need, a part.Area, i int) int {
	here := s.needs && i == s.row
	u := urgencies[n.Urgency]
	c.Put(a.X+1, a.Y, u.Style, u.Glyph)
	st := part.Subject
	if here {
		st |= part.Bold
	}
	x := c.Put(a.X+4, a.Y, st, who(n)+":") + 1
	end := a.X + a.W - 1
	if !n.Since.IsZero() {
		end = c.Right(end, a.Y, 7, part.Quiet, drift.Age(f.View.At().Sub(n.Since))) - 1
	}
	lines := []string{n.Text}
	if a.W >= 40 && a.H > 3 && part.Width(n.Text) > end-x {
		first := part.Wrap(n.Text, max(8, end-x))[0]
		lines = append([]string{first}, part.Wrap(strings.TrimSpace(strings.TrimPrefix(n.Text, first)), a.W-8)...)
	}
	rows := min(len(lines), a.H)
	c.Within(x, a.Y, end-x, part.Plain, lines[0])
	for j := 1; j < rows; j++ {
		c.Within(a.X+6, a.Y+j, a.W-7, part.Plain, lines[j])
	}
	if here && rows < a.H {
		c.Within(a.X+6, a.Y+rows, a.W-7, part.Quiet, "yare help "+n.Topic())
		rows++
	}
	if here {
		for j := range rows {
			c.Shade(a.X, a.Y+j, a.W, part.Selected)
		}
		c.Put(a.X, a.Y, part.Strong|part.Bold|part.Selected, "▸")
	}
	c.Press(part.Rect(a.X, a.Y, a.W, rows), needPressed(i))
	return a.Y + rows
}

// nothing says why the list is empty: only where everything was judged, and everything is shown, is that good.
func nothing(f part.Frame) (string, part.Style) {
	if all := len(f.View.Survey.Needs); all > 0 {
		return fmt.Sprintf("nothing among what is shown; %d without the narrowing to “%s” (Esc shows all)",
			all, f.Typed), part.Caution
	}
	asked, unasked, adrift := 0, 0, 0
	for _, b := range f.View.Survey.Bands {
		asked, unasked, adrift = asked+b.InLine+b.Adrift, unasked+b.Unasked, adrift+b.Adrift
	}
	switch {
	case asked == 0:
		return "nothing is known that needs you; but no baseline binds any host, so nothing was judged", part.Caution
	case adrift > 0:
		return "nothing urgent; " + catalogue.Some(adrift, "host") + " out of line (d shows in what)", part.Plain
	case unasked > 0:
		return fmt.Sprintf("nothing; but no baseline covers %d of the hosts", unasked), part.Caution
	}
	return "nothing: all is in line and nobody is out of service", part.Good
}

// paintLately paints, where there is room for them, the newest round of each cluster and what the marks below the
// waterline mean.
func paintLately(f part.Frame, c *part.Canvas, a part.Area) {
	legend := []string{
		"▼ critical   ▾ high   ▿ other drift",
		"? unread     ¿ undecided   · in line",
		"~ excepted or not applying   blank: not covered",
	}
	if a.H < len(legend)+len(f.View.Rounds)+4 {
		return
	}
	y := a.Y
	c.Put(a.X+1, y, part.Water|part.Bold, "rounds")
	for _, b := range f.View.Survey.Bands {
		y++
		if y >= a.Y+a.H-len(legend)-2 {
			break
		}
		word, role := "none yet", part.Quiet
		if r, ok := f.View.Rounds[b.Cluster.Name]; ok && r.State != nil {
			says, tone := r.Standing()
			done, moved := r.State.Tally()
			word, role = fmt.Sprintf("%s, %d of %d hosts, %d moves", strings.Split(says, ":")[0], done,
				len(r.State.Visits), moved), part.Tones[tone]
		}
		x := c.Put(a.X+4, y, part.Subject, b.Cluster.Name+":")
		c.Within(x+1, y, a.W-(x-a.X)-2, role, word)
		c.Press(part.Rect(a.X, y, a.W, 1), part.Go{Screen: part.Round, Cluster: b.Cluster.Name})
	}
	for i, l := range legend {
		c.Put(a.X+1, a.Y+a.H-len(legend)+i-1, part.Quiet, l)
	}
}
