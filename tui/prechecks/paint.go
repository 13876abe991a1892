package prechecks

import (
	"fmt"
	"strings"

	"yareharbour/core/drift"
	"yareharbour/core/precheck"
	"yareharbour/tui/part"
)

// signs are how answers are told, by their rank.
var signs = []part.Sign{
	{Glyph: "✗", Style: part.Alarm | part.Bold},
	{Glyph: "?", Style: part.Alarm | part.Bold},
	{Glyph: "?", Style: part.Caution},
	{Glyph: "!", Style: part.Caution},
	{Glyph: "~", Style: part.Quiet},
	{Glyph: "✓", Style: part.Good},
}

var words = []string{"blocking", "not known", "not known", "caution", "waived", "clear"}

// View implements part.Screen.
func (s *Screen) View(f part.Frame, c *part.Canvas, a part.Area) {
	switch {
	case s.wrong != nil:
		c.Put(a.X+1, a.Y, part.Alarm|part.Bold, "The checks can't be asked.")
		part.NewColumn(c, part.Rect(a.X+2, a.Y+2, a.W-3, a.H-2)).Line(0, part.Plain, s.wrong.Error())
		return
	case len(s.rows) == 0 && s.busy:
		c.Put(a.X+1, a.Y, part.Quiet, "asking every check on a fresh reading …")
		return
	case len(s.rows) == 0 && s.inLine:
		c.Put(a.X+1, a.Y, part.Good,
			"✓ Every host of "+s.cluster+" is in line: none would be visited, and nothing is asked.")
		return
	case len(s.rows) == 0:
		c.Put(a.X+1, a.Y, part.Caution|part.Bold,
			"! No host of "+s.cluster+" would be visited, and not all are in line.")
		c.Put(a.X+1, a.Y+1, part.Plain, "Nothing is asked of hosts that are not visited; the plan says why not.")
		return
	}
	s.paintCounts(f, c, a)
	list := part.Rect(a.X, a.Y+2, a.W, (a.H-2)/2)
	detail := part.Rect(a.X, a.Y+3+list.H, a.W, a.H-list.H-3)
	if a.W >= 120 {
		list = part.Rect(a.X, a.Y+2, a.W*12/20, a.H-2)
		detail = part.Rect(a.X+list.W+2, a.Y+2, a.W-list.W-2, a.H-2)
	}
	s.paintList(c, list)
	s.paintDetail(f, c, detail)
}

// paintCounts says how many answers there are of each kind, blockers first.
func (s *Screen) paintCounts(f part.Frame, c *part.Canvas, a part.Area) {
	counts := make([]int, len(signs))
	for i := range s.rows {
		counts[rank(s.rows[i].first())] += len(s.rows[i].of)
	}
	x := a.X + 1
	for r, n := range counts {
		if n > 0 {
			word := words[r]
			if n > 1 && word == "caution" {
				word = "cautions"
			}
			x = c.Put(x, a.Y, signs[r].Style, fmt.Sprintf("%s %d %s", signs[r].Glyph, n, word)) + 2
		}
	}
	when := "asked " + drift.Age(f.View.At().Sub(s.read)) + " ago"
	if s.busy {
		when = "asking …"
	}
	y := a.Y
	if x+part.Width(when) > a.X+a.W-1 {
		y++
	}
	c.Right(a.X+a.W-1, y, 30, part.Quiet, when)
}

func (s *Screen) paintList(c *part.Canvas, a part.Area) {
	first, shown := part.Window(s.at, len(s.rows), a.H)
	for i := range shown {
		n := first + i
		r := &s.rows[n]
		y := a.Y + i
		sg := signs[rank(r.first())]
		c.Put(a.X+2, y, sg.Style, sg.Glyph)
		c.Within(a.X+4, y, 13, part.Subject, r.first().Check)
		hosts := strings.Join(r.hosts(), ", ")
		if len(r.of) > 2 {
			hosts = fmt.Sprintf("%d hosts", len(r.of)) // beside it they are named
		}
		c.Within(a.X+18, y, 18, part.Plain, hosts)
		c.Within(a.X+37, y, a.W-38, part.Quiet, says(r))
		if n == s.at {
			c.Choose(part.Rect(a.X, y, a.W, 1), y, true)
		}
		c.Press(part.Rect(a.X, y, a.W, 1), rowPicked(n))
	}
	c.Wheel(a, func(dy int) any { return turned(dy) })
}

// says is what was found, in a line. Clear answers of several hosts may each say something of their own: of those it is
// what was asked.
func says(r *row) string {
	if r.first().Level == precheck.Clear && len(r.of) > 1 {
		return asks(r.first().Check)
	}
	return r.first().Evidence
}

func (s *Screen) paintDetail(f part.Frame, c *part.Canvas, a part.Area) {
	r := s.row()
	if r == nil {
		return
	}
	x := r.first()
	col := part.NewColumn(c, a)
	col.Head(x.Check + ": " + asks(x.Check))
	for _, of := range r.byEvidence() {
		col.Line(0, part.Plain, strings.Join(of.hosts(), ", ")+": "+of.first().Evidence)
	}
	col.Gap()
	if x.Remedy != "" {
		col.Line(0, part.Strong, "→ "+x.Advice())
		col.Gap()
	}
	if x.Waived != nil {
		col.Line(0, part.Caution, x.Waived.Says())
		col.Gap()
	}
	if why := x.Never; why != "" && x.Level != precheck.Clear {
		col.Line(0, part.Quiet, "It must never be waived: "+why+".")
	} else if x.Level != precheck.Clear && x.Waived == nil {
		col.Line(0, part.Quiet, "W waives it, for a reason and for a time.")
	}
	if !x.At.IsZero() {
		holds := ""
		if !x.Until.IsZero() {
			holds = "; it holds until " + x.Until.Format("Mon 2 Jan 15:04")
		}
		col.Line(0, part.Quiet, "It rests on what was "+f.ReadAgo(x.At)+holds+".")
	}
	col.Line(0, part.Quiet, "⏎ goes to "+x.Host+"; yare help "+x.Check+" tells more.")
}

// asks is the question of a check.
func asks(name string) string {
	for _, c := range precheck.Checks {
		if c.Name == name {
			return c.Asks
		}
	}
	return "a check of your own, from the estate file"
}
