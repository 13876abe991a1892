package plans

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/brief"
	"yareharbour/core/drift"
	"yareharbour/core/fit"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/view"
	"yareharbour/tui/part"
	"yareharbour/tui/rounds"
)

// View implements part.Screen.
func (s *Screen) View(f part.Frame, c *part.Canvas, a part.Area) {
	p := s.plan
	switch _, live := s.live(f); {
	case live:
		c.Put(a.X+1, a.Y, part.Plain, "The last round over "+s.cluster+
			" is not finished: nothing is planned while that is so. r shows it.")
	case s.wrong != nil:
		c.Put(a.X+1, a.Y, part.Alarm|part.Bold, "The round can't be planned.")
		col := part.NewColumn(c, part.Rect(a.X+2, a.Y+2, a.W-3, a.H-2))
		col.Line(0, part.Plain, s.wrong.Error())
		col.Gap()
		if len(s.past) > 0 {
			col.Line(0, part.Quiet, "U takes back the last change; n plans the usual round again.")
		} else {
			col.Line(0, part.Quiet, "n tries again.")
		}
	case p == nil:
		c.Put(a.X+1, a.Y, part.Quiet, "planning on a fresh reading …")
	case len(p.Visits) == 0 && len(s.without()) == 0:
		paintAside(c, p, a)
	default:
		s.paintPlan(f, c, p, a)
	}
}

func (s *Screen) paintPlan(f part.Frame, c *part.Canvas, p *plan.Plan, a part.Area) {
	y := a.Y
	x := c.Put(a.X+1, y, part.Water|part.Bold, "planned, nothing is touched  ")
	if summary := p.Summary(); part.Width(summary) < a.W-x {
		c.Put(x, y, part.Plain, summary)
	} else {
		for _, l := range part.Wrap(summary, a.W-2) {
			y++
			c.Within(a.X+1, y, a.W-1, part.Plain, l)
		}
	}
	if s.busy {
		c.Right(a.X+a.W-1, a.Y, 20, part.Quiet, "planning …")
	}
	y++
	x = a.X + 1
	if says := s.beyond(f); says != "" {
		c.Within(x, y, a.W-2, part.Caution|part.Bold, says)
		y++
	}
	y = paintCompanions(c, p, part.Rect(x, y, a.W-2, a.H))
	if words := brief.Words(s.brief, s.usual); len(words) > 0 {
		c.Within(x, y, a.W-2, part.Strong, "what if: "+strings.Join(words, " "))
		y++
	}
	if s.before != nil {
		says := "as before in every figure"
		if d := plan.Differences(s.before, p); len(d) > 0 {
			says = strings.Join(d, " · ")
		}
		c.Within(x, y, a.W-2, part.Caution, "against the plan before: "+says)
		y++
	} else if notes := p.Notes(); len(notes) > 0 {
		c.Within(x, y, a.W-2, part.Quiet, strings.Join(notes, " · "))
		y++
	}
	l := s.lanes()
	host := s.cursor(l)
	l.Arrive(p, host)
	for i := range l.Lanes { // all of it is expected here: it is drawn as it will be
		for j := range l.Lanes[i].Spans {
			l.Lanes[i].Spans[j].Expected = false
		}
	}
	y = rounds.Draw(c, l, host, picks, part.Rect(a.X, y, a.W, a.Y+a.H-y))
	s.paintVisit(c, p, host, part.Rect(a.X, y+1, a.W, a.Y+a.H-y-1))
}

// paintCompanions says what is not done because of what it requires, and returns the line below.
func paintCompanions(c *part.Canvas, p *plan.Plan, a part.Area) int {
	col := part.NewColumn(c, a)
	for i := range p.Companions {
		says := "! " + p.Companions[i].Says()
		if p.Companions[i].Wanted {
			says += "; A takes it along"
		}
		col.Line(0, part.Caution|part.Bold, says)
	}
	return col.Y
}

// paintAside says why no host is to be visited, host by host. Only where all are in line is that good.
func paintAside(c *part.Canvas, p *plan.Plan, a part.Area) {
	if p.InLine() {
		c.Put(a.X+1, a.Y, part.Good, "✓ Nothing to do on "+p.Brief.Cluster+": every host is in line.")
		return
	}
	c.Put(a.X+1, a.Y, part.Caution|part.Bold, "! A round over "+p.Brief.Cluster+
		" would visit no host, and not all of them are in line.")
	y := paintCompanions(c, p, part.Rect(a.X+1, a.Y+1, a.W-2, a.H-2)) + 1
	col := part.NewColumn(c, part.Rect(a.X+16, y, a.W-16, a.Y+a.H-y))
	for _, x := range p.Aside {
		if !col.Full() {
			c.Within(a.X+2, col.Y, 13, part.Subject, x.Host)
		}
		col.Line(0, part.Plain, x.Why)
	}
}

// paintVisit says what would be done on the host under the cursor.
func (s *Screen) paintVisit(c *part.Canvas, p *plan.Plan, host string, a part.Area) {
	if slices.Contains(s.without(), host) {
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
			paintSteps(c, p, v, a)
		}
	}
}

func paintSteps(c *part.Canvas, p *plan.Plan, v *plan.Visit, a part.Area) {
	if a.W >= 110 {
		paintAnswers(c, v, part.Rect(a.X+a.W*3/5, a.Y, a.W*2/5, a.H))
		a.W = a.W*3/5 - 1
	}
	col := part.NewColumn(c, part.Rect(a.X+1, a.Y, a.W-1, a.H))
	middle, worst := v.Estimate()
	col.Head(fmt.Sprintf("%s: about %s, at worst %s", v.Host, drift.Age(middle), drift.Age(worst)))
	if v.Obstacle != "" {
		col.Line(2, part.Alarm|part.Bold, "can't be visited: "+v.Obstacle)
		for i := range v.Ways[:min(len(v.Ways), 3)] {
			key := ""
			if v.Ways[i].Takeable() {
				key = "  (f takes it)"
			}
			col.Line(2, part.Strong, "way out: "+v.Ways[i].Says()+key)
		}
		if len(v.Ways) == 0 {
			col.Line(2, part.Strong, "way out: "+v.WayOut)
		}
	}
	if len(v.After) > 0 {
		col.Line(2, part.Quiet, "after "+strings.Join(v.After, ", ")+": its guests go there")
	}
	if len(v.Clears) > 0 {
		col.Line(2, part.Caution, "first   clear from its BMC's queue: "+strings.Join(v.Clears, ", "))
	}
	if v.Rehearses {
		col.Line(2, part.Plain, "pass 1  a restart before anything is changed")
	}
	for _, ch := range v.Changes {
		col.Line(2, part.Plain, fmt.Sprintf("pass %d  %s  (%s)", ch.Pass, ch.Says(), view.Because(v, ch)))
	}
	for _, x := range v.Along {
		col.Line(2, part.Plain, fmt.Sprintf("pass %d  %s", x.Pass, x.Says()))
	}
	none, others := v.Backs()
	for _, l := range none {
		col.Line(2, part.Caution, l)
	}
	if others != "" {
		col.Line(2, part.Quiet, others)
	}
	for _, l := range v.Left {
		col.Line(2, part.Caution, "left: "+l)
	}
	if !v.Empties {
		col.Line(2, part.Quiet, "not drained: nothing here needs the host empty")
	}
	for i := range v.Colds {
		col.Line(2, part.Caution, v.Colds[i].Says())
	}
	for i := range v.Uncopies {
		col.Line(2, part.Caution, v.Uncopies[i].Says())
	}
	for i := range v.Copies {
		col.Line(2, part.Quiet, v.Copies[i].Says())
	}
	for i := range v.Ejects {
		col.Line(2, part.Caution, v.Ejects[i].Says())
	}
	if len(v.Off) > 0 {
		col.Line(2, part.Quiet, fmt.Sprintf("%d powered off, left as they are: %s", len(v.Off),
			strings.Join(v.Off, ", ")))
	}
	for i := range v.Rests {
		col.Line(2, part.Caution, v.Rests[i].Says())
	}
	for _, to := range targets(v) {
		var guests []string
		for _, m := range v.Moves {
			if m.To != to {
				continue
			}
			guests = append(guests, m.Guest)
			if slices.ContainsFunc(p.Twice, func(t fit.Move) bool { return t == m }) {
				guests[len(guests)-1] += " (again)"
			}
		}
		col.Line(2, part.Quiet, fmt.Sprintf("%d ▸ %s: %s", len(guests), to, strings.Join(guests, ", ")))
	}
	if len(v.Back) > 0 {
		var guests []string
		for _, m := range v.Back {
			guests = append(guests, m.Guest)
		}
		col.Line(2, part.Quiet, fmt.Sprintf("%d ◂ back again afterwards: %s", len(guests), strings.Join(guests, ", ")))
	}
}

func targets(v *plan.Visit) (hosts []string) {
	for _, m := range v.Moves {
		if !slices.Contains(hosts, m.To) {
			hosts = append(hosts, m.To)
		}
	}
	return hosts
}

var levels = map[precheck.Level]part.Sign{
	precheck.Clear:   {Glyph: "✓", Style: part.Good},
	precheck.Caution: {Glyph: "!", Style: part.Caution},
	precheck.Blocker: {Glyph: "✗", Style: part.Alarm | part.Bold},
}

// order is the one in which a person would act.
var order = []precheck.Level{precheck.Blocker, precheck.Caution, precheck.Clear}

// paintAnswers paints what the prechecks found, what blocks first, and how many there are that no row is left for.
func paintAnswers(c *part.Canvas, v *plan.Visit, a part.Area) {
	col := part.NewColumn(c, part.Rect(a.X+2, a.Y, a.W-2, a.H))
	c.Put(a.X, a.Y, part.Water|part.Bold, "prechecks")
	col.Y++
	var answers []*precheck.Answer
	for _, level := range order {
		for i := range v.Answers {
			if n := &v.Answers[i]; n.Level == level {
				answers = append(answers, n)
			}
		}
	}
	for i, n := range answers {
		says := n.Check + ": " + n.Evidence
		last := i == len(answers)-1
		if !last && len(part.Wrap(says, col.W-3)) >= col.Left() {
			c.Put(a.X, col.Y, part.Quiet, "…")
			col.Line(0, part.Quiet, fmt.Sprintf("%d more, %s at worst; a shows them", len(answers)-i, n.Level))
			return
		}
		c.Put(a.X, col.Y, levels[n.Level].Style, levels[n.Level].Glyph)
		col.Line(0, part.Plain, says)
	}
}
