package rounds

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/narrow"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// View implements part.Screen.
func (s *Screen) View(f part.Frame, c *part.Canvas, a part.Area) {
	r := s.round(f)
	if r.State == nil {
		c.Put(a.X+1, a.Y, part.Quiet, "no round was made over "+s.cluster+" yet; p plans one")
		return
	}
	s.paintRound(f, c, r, s.lanes(f), a)
}

func (s *Screen) paintRound(f part.Frame, c *part.Canvas, r view.Round, l view.Lanes, a part.Area) {
	st := r.State
	word, tone := r.Standing()
	x := c.Put(a.X+1, a.Y, part.Tones[tone]|part.Bold, word)
	by := fmt.Sprintf("  by %s since %s", st.Plan.Brief.By, st.Started.Format("Mon 2 Jan 15:04"))
	if why := st.Plan.Brief.Reason; why != "" {
		by += ": " + why
	}
	x = c.Put(x, a.Y, part.Plain, by)
	done, moved := st.Tally()
	says := fmt.Sprintf("  %d of %d hosts", done, len(st.Visits))
	if st.Plan.Brief.Staging == "" {
		says += fmt.Sprintf(", %d of %d moves", moved, st.Plan.Moves)
	}
	x = c.Put(x, a.Y, part.Quiet, says)
	if st.Status == course.Running && r.Runs {
		about, worst := r.Ends(f.View.At())
		says := fmt.Sprintf("ends about %s, at worst %s", clock(about, f.View.At()), clock(worst, f.View.At()))
		if x+part.Width(says)+3 < a.X+a.W {
			c.Right(a.X+a.W-1, a.Y, part.Width(says), part.Strong, says)
		}
	}
	host := s.cursor(l)
	if st.Status != course.Running && st.Detail != "" {
		c.Within(a.X+3, a.Y+1, a.W-4, part.Tones[tone], st.Detail)
	} else if says := waits(r, l, host); says != "" {
		c.Within(a.X+3, a.Y+1, a.W-4, part.Quiet, says)
	}
	y := Draw(c, l, host, picks, part.Rect(a.X, a.Y+3, a.W, a.H-3))
	below := part.Rect(a.X, y+1, a.W, a.Y+a.H-y-1)
	if st.Status == course.Running && r.Runs {
		y = paintFlight(c, r, below)
		s.paintLog(f, c, r, host, part.Rect(a.X, y+1, a.W, a.Y+a.H-y-1))
		return
	}
	if a.W >= 110 {
		paintResult(c, st, l.Now, host, part.Rect(a.X, below.Y, a.W/2, below.H))
		s.paintLog(f, c, r, host, part.Rect(a.X+a.W/2+1, below.Y, a.W-a.W/2-1, below.H))
		return
	}
	y = paintResult(c, st, l.Now, host, part.Rect(a.X, below.Y, a.W, below.H/2))
	s.paintLog(f, c, r, host, part.Rect(a.X, y+1, a.W, a.Y+a.H-y-1))
}

// clock is a time of today, or of a day.
func clock(t, now time.Time) string {
	if y, m, d := t.Date(); now.Year() == y && now.Month() == m && now.Day() == d {
		return t.Format("15:04")
	}
	return t.Format("Mon 15:04")
}

// waits is what the host under the cursor waits for, or else what the first host that waits does; "" where nobody runs
// the round.
func waits(r view.Round, l view.Lanes, host string) string {
	if !r.Runs {
		return ""
	}
	first := ""
	for _, lane := range l.Lanes {
		if lane.Waits != "" && lane.Host == host {
			return host + ": " + lane.Waits
		}
		if lane.Waits != "" && first == "" {
			first = lane.Host + ": " + lane.Waits
		}
	}
	return first
}

// paintFlight paints the tasks under way with how far they are, and returns the row after them.
func paintFlight(c *part.Canvas, r view.Round, a part.Area) int {
	y := a.Y
	if len(r.State.Open) == 0 {
		return y
	}
	c.Put(a.X+1, y, part.Water|part.Bold, "under way")
	y++
	for _, o := range r.State.Open {
		if y >= a.Y+a.H {
			break
		}
		percent, left, says := 0, time.Duration(0), ""
		for _, t := range r.Says {
			if t.Act == o.Act.ID {
				percent, left, says = t.Percent, t.Left, t.Says
			}
		}
		const width = 20
		c.Within(a.X+3, y, 11, part.Subject, o.Act.Host)
		x := c.Within(a.X+14, y, a.W-60, part.Plain, o.Act.Says())
		x = max(x+2, a.X+a.W-44)
		full := percent * width / 100
		c.Fill(part.Rect(x, y, full, 1), part.Loads, '█')
		c.Fill(part.Rect(x+full, y, width-full, 1), part.Quiet, '░')
		text := fmt.Sprintf(" %3d %%", percent)
		if left > 0 {
			text += "  " + drift.Age(left) + " left"
		}
		c.Put(x+width, y, part.Plain, text)
		if y++; says != "" && y+len(r.State.Open) < a.Y+a.H {
			c.Within(a.X+14, y, a.W-16, part.Quiet, says)
			y++
		}
	}
	return y
}

// paintLog paints the newest entries about the host under the cursor and about the round.
func (s *Screen) paintLog(f part.Frame, c *part.Canvas, r view.Round, host string, a part.Area) {
	if a.H < 2 {
		return
	}
	lines := slices.DeleteFunc(view.Log(r.Events), func(l view.Entry) bool {
		return l.Host != host && l.Host != "" ||
			!f.Filter.Lets(narrow.Subject{Hosts: []string{l.Host}, Age: -1, Words: []string{l.Text}})
	})
	c.Put(a.X+1, a.Y, part.Water|part.Bold, "log of "+host)
	c.Wheel(a, func(dy int) any { return logTurned(dy) })
	room := a.H - 1
	scroll := max(0, min(s.scroll, len(lines)-room))
	end := len(lines) - scroll
	start := max(0, end-room)
	if scroll > 0 {
		c.Right(a.X+a.W-1, a.Y, 14, part.Quiet, fmt.Sprintf("%d newer →", scroll))
	}
	for i, l := range lines[start:max(start, end)] {
		c.Put(a.X+3, a.Y+1+i, part.Quiet, l.At.Format("15:04:05"))
		c.Within(a.X+13, a.Y+1+i, a.W-14, part.Tones[l.Tone], l.Text)
	}
}

// paintResult tells what a round that stands still came to: host by host in a line, and below what changed on the one
// under the cursor. It returns the row after it.
func paintResult(c *part.Canvas, s *course.State, now time.Time, host string, a part.Area) int {
	all := view.Results(s, now)
	col := part.NewColumn(c, part.Rect(a.X+1, a.Y, a.W-1, a.H))
	if a.H < 3 {
		return a.Y
	}
	c.Within(a.X+1, col.Y, a.W-1, part.Water|part.Bold, "results")
	c.Within(a.X+30, col.Y, 9, part.Water|part.Bold, "took")
	c.Within(a.X+39, col.Y, 10, part.Water|part.Bold, "planned")
	c.Within(a.X+49, col.Y, a.W-49, part.Water|part.Bold, "longest")
	col.Y++
	at := max(0, slices.IndexFunc(all, func(r view.Result) bool { return r.Host == host }))
	first, shown := part.Window(at, len(all), max(1, a.H/2))
	for _, r := range all[first : first+shown] {
		if col.Full() {
			break
		}
		c.Within(a.X+3, col.Y, 11, part.Subject, r.Host)
		c.Within(a.X+14, col.Y, 14, part.Tones[r.Tone], r.State)
		if r.Took > 0 {
			c.Within(a.X+30, col.Y, 9, part.Plain, drift.Age(r.Took))
			c.Within(a.X+49, col.Y, a.W-49, part.Quiet, fmt.Sprintf("%s, %s", r.Longest, drift.Age(r.LongestTook)))
		}
		c.Within(a.X+39, col.Y, 10, part.Quiet, drift.Age(r.Planned))
		if r.Host == host {
			c.Choose(part.Rect(a.X, col.Y, a.W-1, 1), col.Y, false)
		}
		c.Press(part.Rect(a.X, col.Y, a.W, 1), lanePicked{r.Host})
		col.Y++
	}
	if at >= len(all) {
		return col.Y
	}
	r := all[at]
	col.Gap()
	if r.Needs != "" {
		col.Line(0, part.Alarm|part.Bold, "✗ "+r.Needs)
		col.Line(0, part.Strong, "→ "+r.Remedy)
		col.Line(0, part.Quiet, "more about that: yare help \""+view.Stopped+"\"")
	}
	for i := range r.Logs {
		if l := &r.Logs[i]; len(l.Last(1)) > 0 {
			col.Line(0, part.Quiet, "log of "+l.Title()+" at that moment")
			for _, line := range l.Last(3) {
				col.Line(2, part.Plain, line)
			}
		}
	}
	for _, ch := range r.Changed {
		col.Line(0, part.Plain, "✓ "+ch)
	}
	for _, ch := range r.Missed {
		col.Line(0, part.Caution, "○ "+ch)
	}
	if r.Moves > 0 {
		says := catalogue.Some(r.Moves, "guest") + " moved away from it"
		if r.Back > 0 {
			says += fmt.Sprintf(", %d came back", r.Back)
		}
		col.Line(0, part.Quiet, says)
	}
	return col.Y
}
