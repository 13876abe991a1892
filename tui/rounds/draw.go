package rounds

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// gutter is left of the lanes: a host's name and state.
const gutter = 28

// Picks are the messages of a screen that shows lanes: that a host was chosen with the mouse, and that the wheel was
// turned over them.
type Picks struct {
	Host func(host string) any
	Turn func(dy int) any
}

// Draw paints the load, the time scale and a lane for each host, and returns the row after the last. The cursor stands
// on the host.
func Draw(c *part.Canvas, l view.Lanes, host string, p Picks, a part.Area) int {
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
		paintLane(c, lane, col, lane.Host == host, p, part.Rect(a.X, y, a.W, 1))
		y += every
	}
	c.Wheel(part.Rect(a.X, a.Y, a.W, y-a.Y), p.Turn)
	if rest := len(l.Lanes) - first - shown; rest > 0 {
		c.Put(a.X+2, y, part.Quiet, fmt.Sprintf("%d more ↓", rest))
	}
	if x := col(l.Now); x > a.X+gutter && x < a.X+a.W-1 {
		for row := a.Y + 1; row < y; row++ { // below the scale, which stays readable
			c.Put(x, row, part.Strong|part.Bold, "┃")
		}
	}
	x, apart := a.X+gutter, 2
	if a.W < 110 {
		x, apart = a.X+1, 1
	}
	for _, step := range legend(l.Steps(), a.X+a.W-x, apart) {
		x = c.Put(x, y, part.Steps[step].Style, part.Steps[step].Glyph)
		x = c.Put(x+1, y, part.Quiet, string(step)) + apart
	}
	return y + 1
}

// brief are steps that are soon over, those that a narrow legend can do without first.
var brief = []act.Step{act.PrecheckStep, act.BackupStep, act.CloseStep, act.ReopenStep, act.StageStep}

// legend are the steps for which there is room, each with its sign, so far apart.
func legend(steps []act.Step, room, apart int) []act.Step {
	takes := func() (n int) {
		for _, s := range steps {
			n += part.Width(string(s)) + 2 + apart
		}
		return n
	}
	for _, s := range brief {
		if takes() > room {
			steps = slices.DeleteFunc(steps, func(o act.Step) bool { return o == s })
		}
	}
	return steps
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
	c.Within(a.X+2, a.Y+1, gutter-3, role,
		fmt.Sprintf("tightest %.0f%% at %s", 100*tight.Load, tight.From.Format("15:04")))
	if a.H > 2 {
		says := fmt.Sprintf("%.0f%% below the limit", 100*(tight.Limit-tight.Load))
		if tight.Load > tight.Limit {
			says = "above the limit"
		}
		if a.H > 3 && tight.Out != "" { // fewer are left to take over: it is lower than with all in service
			says += " with"
			c.Within(a.X+2, a.Y+3, gutter-3, part.Quiet, tight.Out+" out")
		}
		c.Within(a.X+2, a.Y+2, gutter-3, part.Quiet, says)
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

func paintLane(c *part.Canvas, l view.Lane, col func(time.Time) int, here bool, p Picks, a part.Area) {
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
	for _, g := range l.Comes {
		text := fmt.Sprintf("◂%d from %s", g.Guests, g.From)
		if x := col(g.At); x > a.X+gutter-1 && x+part.Width(text) < a.X+a.W {
			c.Put(x, a.Y, part.Loads|part.Bold, text)
		}
	}
	if here {
		c.Choose(a, a.Y, true)
	}
	c.Press(a, p.Host(l.Host))
}
