package lanes

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// View implements part.Screen.
func (s *Screen) View(f part.Frame, c *part.Canvas, a part.Area) {
	r, live := s.live(f)
	switch p := s.shown(f); {
	case s.asked && !live && s.wrong != nil:
		c.Put(a.X+1, a.Y, part.Alarm|part.Bold, "The round can't be planned.")
		col := part.NewColumn(c, part.Rect(a.X+2, a.Y+2, a.W-3, a.H-2))
		col.Line(0, part.Plain, s.wrong.Error())
	case s.asked && !live && p == nil:
		c.Put(a.X+1, a.Y, part.Quiet, "planning on a fresh reading …")
	case p != nil && len(p.Visits) == 0 && len(s.whatIf.Without) == 0:
		y := s.paintAside(c, p, a)
		if r.State != nil && a.Y+a.H-y > 8 {
			s.paintRound(f, c, r, view.Went(r.State, f.View.At(), r.Says, 0), part.Rect(a.X, y+1, a.W, a.Y+a.H-y-1))
		}
	case p != nil:
		s.paintPlan(f, c, p, a)
	case r.State != nil:
		s.paintRound(f, c, r, s.lanes(f), a)
	default:
		c.Put(a.X+1, a.Y, part.Quiet, "no round was made over "+s.cluster+" yet; n plans one")
	}
}

func (s *Screen) paintPlan(f part.Frame, c *part.Canvas, p *plan.Plan, a part.Area) {
	x := c.Put(a.X+1, a.Y, part.Water|part.Bold, "planned, nothing is touched yet  ")
	if summary := p.Summary(); part.Width(summary) < a.W-x {
		c.Put(x, a.Y, part.Plain, summary)
	} else {
		c.Put(a.X+1, a.Y+1, part.Plain, summary)
	}
	if s.whatIf.More > 0 {
		c.Right(a.X+a.W-1, a.Y+1, a.W, part.Caution, atOnce(s.whatIf.More))
	}
	l := s.lanes(f)
	host := s.cursor(l)
	y := paintLanes(c, l, host, part.Rect(a.X, a.Y+2, a.W, a.H-2))
	s.paintVisit(c, p, host, part.Rect(a.X, y+1, a.W, a.Y+a.H-y-1))
}

// paintAside says why no host is to be visited, host by host. Only where all are in line is that good.
func (s *Screen) paintAside(c *part.Canvas, p *plan.Plan, a part.Area) int {
	if p.InLine() {
		c.Put(a.X+1, a.Y, part.Good, "✓ Nothing to do on "+p.Brief.Cluster+": every host is in line.")
		return a.Y + 1
	}
	c.Put(
		a.X+1,
		a.Y,
		part.Caution|part.Bold,
		"! A round over "+p.Brief.Cluster+" would visit no host, and not all of them are in line.",
	)
	col := part.NewColumn(c, part.Rect(a.X+16, a.Y+2, a.W-16, a.H-2))
	for _, x := range p.Aside {
		if !col.Full() {
			c.Within(a.X+2, col.Y, 13, part.Subject, x.Host)
		}
		col.Line(0, part.Plain, x.Why)
	}
	return col.Y
}

func (s *Screen) paintRound(f part.Frame, c *part.Canvas, r view.Round, l view.Lanes, a part.Area) {
	st := r.State
	word, tone := r.Standing()
	x := c.Put(a.X+1, a.Y, part.Tones[tone]|part.Bold, word)
	x = c.Put(
		x,
		a.Y,
		part.Plain,
		fmt.Sprintf("  by %s since %s: %s", st.Plan.Brief.By, st.Started.Format("Mon 2 Jan 15:04"), st.Plan.Brief.Reason),
	)
	done, moved := st.Tally()
	c.Put(x, a.Y, part.Quiet, fmt.Sprintf("  %d of %d hosts, %d of %d moves", done, len(st.Visits), moved, st.Plan.Moves))
	host := s.cursor(l)
	if st.Status != course.Running && st.Detail != "" {
		c.Within(a.X+3, a.Y+1, a.W-4, part.Tones[tone], st.Detail)
	} else if says := waits(r, l, host); says != "" {
		c.Within(a.X+3, a.Y+1, a.W-4, part.Quiet, says)
	}
	y := paintLanes(c, l, host, part.Rect(a.X, a.Y+3, a.W, a.H-3))
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

// gutter is left of the lanes: a host's name and state.
const gutter = 28

// paintLanes paints the load, the time scale and a lane for each host, and returns the row after the last.
func paintLanes(c *part.Canvas, l view.Lanes, host string, a part.Area) int {
	w := a.W - gutter - 2
	whole := max(l.To.Sub(l.From), time.Minute)
	col := func(t time.Time) int { return a.X + gutter + int(float64(w)*float64(t.Sub(l.From))/float64(whole)) }
	tall := 0
	switch {
	case len(l.Tide) == 0:
	case a.H > 34:
		tall = 5
	case a.H > 22:
		tall = 4
	case a.H > 12:
		tall = 2
	}
	if tall > 0 {
		paintTide(c, l, col, part.Rect(a.X, a.Y, a.W, tall))
		a.Y, a.H = a.Y+tall, a.H-tall
	}
	paintScale(c, l.From, whole, col, part.Rect(a.X+gutter, a.Y, w, 1))
	most, every := max(3, a.H*3/5), 1
	if 2*len(l.Lanes) < a.H/2 {
		every = 2 // air between the lanes where there is room
	}
	at := max(0, slices.IndexFunc(l.Lanes, func(x view.Lane) bool { return x.Host == host }))
	first, shown := part.Window(at, len(l.Lanes), most)
	y := a.Y + 1
	for _, lane := range l.Lanes[first : first+shown] {
		paintLane(c, lane, col, lane.Host == host, part.Rect(a.X, y, a.W, 1))
		y += every
	}
	c.Wheel(part.Rect(a.X, a.Y, a.W, y-a.Y), func(dy int) any { return laneTurned(dy) })
	if rest := len(l.Lanes) - first - shown; rest > 0 {
		c.Put(a.X+2, y, part.Quiet, fmt.Sprintf("%d more ↓", rest))
	}
	if x := col(l.Now); x > a.X+gutter && x < a.X+a.W-1 {
		for row := a.Y; row < y; row++ {
			c.Put(x, row, part.Strong|part.Bold, "┃")
		}
	}
	x, apart := a.X+gutter, 2
	if a.W < 110 {
		x, apart = a.X+1, 1
	}
	for _, step := range act.Steps {
		x = c.Put(x, y, part.Steps[step].Style, part.Steps[step].Glyph)
		x = c.Put(x+1, y, part.Quiet, string(step)) + apart
	}
	return y + 1
}

// paintTide paints the load of the hosts in service along time with the limit above it, both from the lowest of them to
// the highest, and names the tightest moment.
func paintTide(c *part.Canvas, l view.Lanes, col func(time.Time) int, a part.Area) {
	top, low := 0.0, 1.0
	for _, t := range l.Tide {
		top, low = max(top, t.Load, t.Limit), min(low, t.Load)
	}
	low = max(0, low-(top-low)*0.6) // the lowest load still has a height
	rows := a.H
	eighth := func(share float64) int { return int((share-low)/max(top-low, 0.01)*float64(8*rows-1) + 0.5) }
	for _, t := range l.Tide {
		x, end := max(col(t.From), a.X+gutter), min(col(t.To), a.X+a.W-2)
		style := part.Quiet
		if t.Out != "" {
			style = part.Loads
		}
		for row := range rows {
			if e := min(8, eighth(t.Load)-8*row); e > 0 {
				c.Fill(part.Rect(x, a.Y+rows-1-row, end-x, 1), style, part.Eighths[e])
			}
		}
		if t.Limit > 0 {
			c.Fill(part.Rect(x, a.Y+rows-1-min(rows-1, eighth(t.Limit)/8), end-x, 1), part.Limits, '┄')
		}
	}
	tight, ok := l.Tightest()
	c.Within(a.X+2, a.Y, gutter-3, part.Water|part.Bold, "load")
	if !ok {
		return
	}
	c.Right(a.X+gutter-1, a.Y, gutter-8, part.Limits, fmt.Sprintf("┄ limit %.0f%%", 100*tight.Limit))
	role := part.Plain
	if tight.Load > tight.Limit {
		role = part.Alarm | part.Bold
	}
	c.Within(
		a.X+2,
		a.Y+1,
		gutter-3,
		role,
		fmt.Sprintf("tightest %.0f%% at %s", 100*tight.Load, tight.From.Format("15:04")),
	)
	if a.H > 2 {
		says := fmt.Sprintf("%.0f%% below the limit", 100*(tight.Limit-tight.Load))
		if tight.Load > tight.Limit {
			says = "above the limit"
		}
		c.Within(a.X+2, a.Y+2, gutter-3, part.Quiet, says)
	}
	if a.H > 3 && tight.Out != "" {
		c.Within(a.X+2, a.Y+3, gutter-3, part.Quiet, "while "+tight.Out+" is out")
	}
}

func paintScale(c *part.Canvas, from time.Time, whole time.Duration, col func(time.Time) int, a part.Area) {
	every := 5 * time.Minute
	for whole/every > time.Duration(max(1, a.W/10)) {
		every *= 2
	}
	for t := from.Truncate(every).Add(every); t.Before(from.Add(whole)); t = t.Add(every) {
		if x := col(t); x > a.X+7 && x+5 < a.X+a.W {
			c.Put(x, a.Y, part.Quiet, t.Format("15:04"))
		}
	}
	c.Put(a.X, a.Y, part.Quiet, from.Format("15:04"))
}

func paintLane(c *part.Canvas, l view.Lane, col func(time.Time) int, here bool, a part.Area) {
	c.Within(a.X+2, a.Y, 11, part.Subject, l.Host)
	c.Within(a.X+13, a.Y, 14, part.Tones[l.Tone], l.State)
	end := a.X + gutter
	for _, s := range l.Spans {
		x, to := col(s.From), col(s.To)
		end = max(end, to)
		if s.Step == "" {
			c.Fill(part.Rect(x, a.Y, max(1, to-x), 1), part.Alarm, '╌')
			if n := "needs you"; to-x >= len(n)+4 {
				c.Put(x+(to-x-len(n))/2, a.Y, part.Alarm|part.Bold, " "+n+" ")
			}
			continue
		}
		sg := part.Steps[s.Step]
		st := sg.Style
		if s.Expected {
			st = part.Quiet
		}
		c.Fill(part.Rect(x, a.Y, max(1, to-x), 1), st, []rune(sg.Glyph)[0])
		if n := string(s.Step); to-x >= len(n)+2 {
			c.Put(x+(to-x-len(n))/2, a.Y, st|part.Bold, n)
		}
		if s.Failed {
			c.Put(max(x, to-1), a.Y, part.Alarm|part.Bold, "✗")
		}
	}
	switch {
	case l.Obstacle != "":
		c.Within(a.X+gutter, a.Y, a.W-gutter-1, part.Alarm, l.Obstacle)
	case l.Waits != "" && len(l.Spans) == 0:
		c.Within(a.X+gutter, a.Y, a.W-gutter-1, part.Quiet, l.Waits)
	}
	if here {
		c.Choose(a, a.Y, true)
	}
	c.Press(a, lanePicked{l.Host})
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
		percent, left := 0, time.Duration(0)
		for _, t := range r.Says {
			if t.Act == o.Act.ID {
				percent, left = t.Percent, t.Left
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
		y++
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
	}
	for _, ch := range r.Changed {
		col.Line(0, part.Plain, "✓ "+ch)
	}
	for _, ch := range r.Missed {
		col.Line(0, part.Caution, "○ not made: "+ch)
	}
	if r.Moves > 0 {
		col.Line(0, part.Quiet, fmt.Sprintf("%d guests moved away from it", r.Moves))
	}
	return col.Y
}

// paintVisit says what would be done on the host under the cursor.
func (s *Screen) paintVisit(c *part.Canvas, p *plan.Plan, host string, a part.Area) {
	if slices.Contains(s.whatIf.Without, host) {
		c.Put(a.X+1, a.Y, part.Plain, host+" is left out of this plan; v takes it in again.")
		return
	}
	for _, x := range p.Aside {
		if x.Host == host {
			col := part.NewColumn(c, part.Rect(a.X+1, a.Y, a.W-1, a.H))
			col.Head(host + " is not visited")
			col.Line(2, part.Plain, x.Why)
		}
	}
	for i := range p.Visits {
		if v := &p.Visits[i]; v.Host == host {
			s.paintSteps(c, v, a)
		}
	}
}

func (s *Screen) paintSteps(c *part.Canvas, v *plan.Visit, a part.Area) {
	if a.W >= 110 {
		paintAnswers(c, v, part.Rect(a.X+a.W*3/5, a.Y, a.W*2/5, a.H))
		a.W = a.W*3/5 - 1
	}
	col := part.NewColumn(c, part.Rect(a.X+1, a.Y, a.W-1, a.H))
	middle, worst := v.Estimate()
	col.Head(fmt.Sprintf("%s: about %s, at worst %s", v.Host, drift.Age(middle), drift.Age(worst)))
	if v.Obstacle != "" {
		col.Line(2, part.Alarm|part.Bold, "can't be visited: "+v.Obstacle)
		col.Line(2, part.Plain, "way out: "+v.WayOut)
	}
	for _, ch := range v.Changes {
		col.Line(2, part.Plain, fmt.Sprintf("pass %d  %s  (%s)", ch.Pass, ch.Says(), ch.Why))
	}
	for _, x := range v.Along {
		col.Line(2, part.Plain, fmt.Sprintf("pass %d  %s", x.Pass, x.Says()))
	}
	for _, l := range v.Left {
		col.Line(2, part.Caution, "left: "+l)
	}
	if !v.Empties {
		col.Line(2, part.Quiet, "not drained: nothing here needs the host empty")
	}
	for _, mv := range v.Moves {
		col.Line(2, part.Quiet, "move    "+mv.Guest+" → "+mv.To)
	}
}

var levels = map[precheck.Level]part.Sign{
	precheck.Clear:   {Glyph: "✓", Style: part.Good},
	precheck.Caution: {Glyph: "!", Style: part.Caution},
	precheck.Blocker: {Glyph: "✗", Style: part.Alarm | part.Bold},
}

// paintAnswers paints what the prechecks found.
func paintAnswers(c *part.Canvas, v *plan.Visit, a part.Area) {
	col := part.NewColumn(c, part.Rect(a.X+2, a.Y, a.W-2, a.H))
	c.Put(a.X, a.Y, part.Water|part.Bold, "prechecks")
	col.Y++
	for _, n := range v.Answers {
		if col.Full() {
			return
		}
		c.Put(a.X, col.Y, levels[n.Level].Style, levels[n.Level].Glyph)
		col.Line(0, part.Plain, n.Check+": "+n.Evidence)
	}
}
