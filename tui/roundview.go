package tui

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/drift"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// paintRound paints the cluster's round: what would be done, or what is being done, or what was done.
func (m *Model) paintRound(c *canvas, a area) {
	p := m.here()
	r, had := m.snap.Rounds[p.cluster]
	planned := m.plans[p.cluster]
	if m.liveRound(p.cluster) == nil && (planned.asked || !had) {
		m.paintPlanned(c, a, planned)
		return
	}
	m.paintJournal(c, a, r)
}

func (m *Model) paintPlanned(c *canvas, a area, pl planned) {
	p := m.here()
	switch {
	case pl.err != nil:
		c.put(a.x+1, a.y, alarm|bold, "The round can't be planned.")
		for i, l := range wrap(pl.err.Error(), a.w-4) {
			c.put(a.x+2, a.y+2+i, plain, l)
		}
		return
	case pl.plan == nil:
		c.put(a.x+1, a.y, quiet, "planning on a fresh reading …")
		return
	case len(pl.plan.Visits) == 0 && len(m.whatIf[p.cluster].Without) == 0:
		y := m.paintAside(c, pl.plan, a)
		m.paintLastRound(c, area{a.x, y + 1, a.w, a.y + a.h - y - 1})
		return
	}
	x := c.put(a.x+1, a.y, water|bold, "planned, nothing is touched yet  ")
	if summary := pl.plan.Summary(); len(summary) < a.w-x {
		c.put(x, a.y, plain, summary)
	} else {
		c.put(a.x+1, a.y+1, plain, summary)
	}
	lanes, from, to := plannedLanes(pl.plan)
	for _, h := range m.whatIf[p.cluster].Without {
		lanes = append(lanes, lane{host: h, state: "left out", role: quiet})
	}
	for _, x := range pl.plan.Aside {
		if !slices.Contains(m.whatIf[p.cluster].Without, x.Host) {
			role := caution
			if x.InLine {
				role = quiet
			}
			lanes = append(lanes, lane{host: x.Host, state: x.Why, role: role})
		}
	}
	if n := m.whatIf[p.cluster].More; n > 0 {
		c.right(a.x+a.w-1, a.y+1, a.w, caution, fmt.Sprintf("what if %d hosts may be out of service at once", n+1))
	}
	y := m.paintLanes(c, lanes, from, to, from, area{a.x, a.y + 2, a.w, a.h - 2})
	m.paintVisitDetail(c, pl.plan, area{a.x, y + 1, a.w, a.y + a.h - y - 1})
}

// paintAside says why no host is to be visited, host by host. Only where all are in line is that good.
func (m *Model) paintAside(c *canvas, p *plan.Plan, a area) int {
	if p.InLine() {
		c.put(a.x+1, a.y, good, "✓ Nothing to do on "+p.Brief.Cluster+": every host is in line.")
		return a.y + 1
	}
	c.put(a.x+1, a.y, caution|bold, "! A round over "+p.Brief.Cluster+" would visit no host, and not all of them are in line.")
	y := a.y + 2
	for _, x := range p.Aside {
		c.put(a.x+2, y, subject, x.Host)
		for _, l := range wrap(x.Why, a.w-18) {
			if y < a.y+a.h {
				c.put(a.x+16, y, plain, l)
			}
			y++
		}
	}
	return y
}

func (m *Model) paintJournal(c *canvas, a area, r Round) {
	s := r.State
	word, role := statusWord(r)
	x := c.put(a.x+1, a.y, role, word)
	x = c.put(x, a.y, plain, fmt.Sprintf("  by %s since %s: %s", s.Plan.Brief.By, s.Started.Format("15:04"), s.Plan.Brief.Reason))
	done, moved := s.Tally()
	c.put(x, a.y, quiet, fmt.Sprintf("  %d of %d visits, %d of %d moves", done, len(s.Visits), moved, s.Plan.Moves))
	if s.Status != plan.Running && s.Detail != "" {
		c.within(a.x+3, a.y+1, a.w-4, role, s.Detail)
	} else if r.Progress.Says != "" && r.Runs {
		c.within(a.x+3, a.y+1, a.w-4, quiet, r.Progress.Says)
	}
	now := m.snap.Survey.At
	if !s.Ended.IsZero() {
		now = s.Ended
	}
	lanes, from, to := journalLanes(s, now)
	y := m.paintLanes(c, lanes, from, to, now, area{a.x, a.y + 3, a.w, a.h - 3})
	y = m.paintFlight(c, r, area{a.x, y + 1, a.w, a.y + a.h - y - 1})
	m.paintLog(c, r, area{a.x, y + 1, a.w, a.y + a.h - y - 1})
}

func statusWord(r Round) (string, style) {
	switch r.State.Status {
	case plan.Running:
		if !r.Runs {
			return "interrupted: nobody runs it; g goes on with it", alarm | bold
		}
		if r.State.Stop {
			return "stopping at the next safe point", caution | bold
		}
		if r.State.Pause {
			return "pausing after this host", caution | bold
		}
		return "running", good | bold
	case plan.Finished:
		return "finished", good | bold
	case plan.Failing:
		return "failed: needs you, then g goes on", alarm | bold
	}
	return string(r.State.Status) + "; g goes on", caution | bold
}

// paintFlight paints the tasks under way with how far they are, and returns the row after them.
func (m *Model) paintFlight(c *canvas, r Round, a area) int {
	y := a.y
	if len(r.State.Open) == 0 || !r.Runs {
		return y
	}
	c.put(a.x+1, y, water|bold, "under way")
	y++
	for _, o := range r.State.Open {
		if y >= a.y+a.h {
			break
		}
		percent, left := 0, time.Duration(0)
		for _, t := range r.Progress.Tasks {
			if t.Action == o.Action.ID {
				percent, left = t.Percent, t.Left
			}
		}
		const width = 20
		c.within(a.x+3, y, 11, subject, o.Action.Host)
		x := c.within(a.x+14, y, a.w-60, plain, o.Action.Says())
		x = max(x+2, a.x+a.w-44)
		full := percent * width / 100
		c.fill(x, y, full, 1, loads, '█')
		c.fill(x+full, y, width-full, 1, quiet, '░')
		text := fmt.Sprintf(" %3d %%", percent)
		if left > 0 {
			text += "  " + drift.Age(left) + " left"
		}
		c.put(x+width, y, plain, text)
		y++
	}
	return y
}

// paintLog paints the newest events of the host under the cursor, or of all while none is chosen.
func (m *Model) paintLog(c *canvas, r Round, a area) {
	p := m.here()
	if a.h < 2 {
		return
	}
	var lines []logLine
	for _, e := range r.Events {
		l, ok := logOf(e)
		if !ok || l.host != p.host && l.host != "" || !m.narrow.Lets(narrow.Subject{Hosts: []string{l.host}, Age: -1, Words: []string{l.text}}) {
			continue
		}
		lines = append(lines, l)
		if e.Remedy != "" {
			lines = append(lines, logLine{at: e.At, role: strong, text: "→ " + e.Remedy})
		}
	}
	c.put(a.x+1, a.y, water|bold, "log of "+p.host)
	room := a.h - 1
	p.scroll = max(0, min(p.scroll, len(lines)-room))
	end := len(lines) - p.scroll
	start := max(0, end-room)
	for i, l := range lines[start:max(start, end)] {
		c.put(a.x+3, a.y+1+i, quiet, l.at.Format("15:04:05"))
		c.within(a.x+13, a.y+1+i, a.w-14, l.role, l.text)
	}
}

type logLine struct {
	at   time.Time
	host string
	role style
	text string
}

func logOf(e plan.Event) (logLine, bool) {
	l := logLine{at: e.At, role: plain}
	if e.Action != nil {
		l.host = e.Action.Host
	}
	switch e.Kind {
	case plan.Intent, plan.Accepted:
		return l, false
	case plan.Started:
		l.text = "round started by " + e.By + ": " + e.Detail
	case plan.Asked:
		l.role, l.text = caution, e.By+" asks: "+e.Detail
	case plan.Ended:
		l.role, l.text = strong|bold, string(e.Status)+": "+e.Detail
	case plan.Failed:
		l.role, l.text = alarm, "✗ "+e.Action.Says()+": "+e.Detail
	case plan.Undone:
		l.role, l.text = caution, e.Action.Says()+" "+e.Detail
	default:
		l.text = e.Action.Says()
		if e.Detail != "" {
			l.text += " – " + e.Detail
		}
	}
	return l, true
}

// paintVisitDetail says what would be done on the host under the cursor.
func (m *Model) paintVisitDetail(c *canvas, pl *plan.Plan, a area) {
	if slices.Contains(m.whatIf[m.here().cluster].Without, m.here().host) {
		c.put(a.x+1, a.y, plain, m.here().host+" is left out of this plan; v takes it in again.")
		return
	}
	for i := range pl.Visits {
		v := &pl.Visits[i]
		if v.Host != m.here().host {
			continue
		}
		if a.w >= 110 {
			m.paintAnswers(c, v, area{a.x + a.w*3/5, a.y, a.w * 2 / 5, a.h})
			a.w = a.w*3/5 - 1
		}
		y := a.y
		line := func(x int, st style, text string) {
			for _, l := range wrap(text, a.w-x-2) {
				if y < a.y+a.h {
					c.put(a.x+x, y, st, l)
				}
				y++
			}
		}
		middle, worst := v.Estimate()
		line(1, water|bold, fmt.Sprintf("%s: about %s, at worst %s", v.Host, drift.Age(middle), drift.Age(worst)))
		if v.Obstacle != "" {
			line(3, alarm|bold, "can't be visited: "+v.Obstacle)
			line(3, plain, "way out: "+v.WayOut)
		}
		for _, ch := range v.Changes {
			line(3, plain, fmt.Sprintf("pass %d  %s  (%s)", ch.Pass, ch.Says(), ch.Why))
		}
		for _, l := range v.Left {
			line(3, caution, "left: "+l)
		}
		if !v.Empties {
			line(3, quiet, "not drained: nothing here needs the host empty")
		}
		for _, mv := range v.Moves {
			line(3, quiet, "move    "+mv.Guest+" → "+mv.To)
		}
	}
}

var levels = map[precheck.Level]sign{precheck.Clear: {"✓", good}, precheck.Caution: {"!", caution}, precheck.Blocker: {"✗", alarm | bold}}

// paintAnswers paints what the prechecks found.
func (m *Model) paintAnswers(c *canvas, v *plan.Visit, a area) {
	c.put(a.x, a.y, water|bold, "prechecks")
	y := a.y + 1
	for _, n := range v.Answers {
		sg := levels[n.Level]
		for i, l := range wrap(n.Check+": "+n.Evidence, a.w-5) {
			if y >= a.y+a.h {
				return
			}
			if i == 0 {
				c.put(a.x, y, sg.role, sg.glyph)
			}
			c.put(a.x+2, y, plain, l)
			y++
		}
	}
}

// paintLastRound shows the round that was, where there is nothing to plan.
func (m *Model) paintLastRound(c *canvas, a area) {
	if r, ok := m.snap.Rounds[m.here().cluster]; ok && r.State != nil && a.h > 6 {
		m.paintJournal(c, a, r)
	}
}

// stepRound moves between hosts, and through the log.
func (m *Model) stepRound(dx, dy int) {
	p := m.here()
	var hosts []string
	if live := m.liveRound(p.cluster); live != nil {
		for i := range live.State.Visits {
			hosts = append(hosts, live.State.Visits[i].Host)
		}
	} else if pl := m.plans[p.cluster].plan; pl != nil && len(pl.Visits)+len(m.whatIf[p.cluster].Without) > 0 {
		for _, v := range pl.Visits {
			hosts = append(hosts, v.Host)
		}
		hosts = append(hosts, m.whatIf[p.cluster].Without...)
	} else if r, ok := m.snap.Rounds[p.cluster]; ok && r.State != nil {
		for i := range r.State.Visits {
			hosts = append(hosts, r.State.Visits[i].Host)
		}
	}
	p.scroll = max(0, p.scroll-dx*5)
	if dy == 0 || len(hosts) == 0 {
		return
	}
	at := 0
	for i, h := range hosts {
		if h == p.host {
			at = i
		}
	}
	p.host, p.scroll, p.pinned = hosts[clamp(at+dy, len(hosts))], 0, true
}
