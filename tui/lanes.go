package tui

import (
	"fmt"
	"time"

	"yareharbour/core/plan"
)

// lane is a host's row on the Round screen.
type lane struct {
	host     string
	load     float64 // while the host is out; 0 where it is not taken out
	limit    float64
	rest     float64 // while nobody is out
	spans    []laneSpan
	state    string
	role     style
	obstacle string
}

type laneSpan struct {
	step     plan.StepName
	from, to time.Time
	failed   bool
	expected bool // not yet begun: an estimate
}

// stepSigns fill the lanes: each step has its own texture, and its name where there is room.
var stepSigns = map[plan.StepName]sign{
	plan.PrecheckStep: {"·", quiet}, plan.StageStep: {":", quiet}, plan.DrainStep: {"▒", loads}, plan.CloseStep: {"│", strong},
	plan.ChangeStep: {"▆", caution}, plan.RestartStep: {"▞", limits}, plan.ProveStep: {"░", good}, plan.ReopenStep: {"│", good},
}

var stepOrder = []plan.StepName{plan.PrecheckStep, plan.StageStep, plan.DrainStep, plan.CloseStep, plan.ChangeStep, plan.RestartStep,
	plan.ProveStep, plan.ReopenStep}

// plannedLanes are the steps as they are expected.
func plannedLanes(p *plan.Plan) (lanes []lane, from, to time.Time) {
	s := plan.Forecast(p)
	for i := range s.Visits {
		v := &s.Visits[i]
		l := lane{host: v.Host, state: "ready", role: good, load: v.Load, limit: v.Limit, rest: p.Load}
		if v.Obstacle != "" {
			l.state, l.role, l.obstacle = "can't", alarm|bold, v.Obstacle
		}
		for _, sp := range v.Spans {
			l.spans = append(l.spans, laneSpan{step: sp.Step, from: sp.From, to: sp.To, expected: true})
		}
		lanes = append(lanes, l)
	}
	return lanes, s.Started, s.Last
}

// journalLanes are the steps as they went, and the estimates of those to come.
func journalLanes(s *plan.State, now time.Time) (lanes []lane, from, to time.Time) {
	from, to = s.Started, now
	at := now
	for i := range s.Visits {
		v := &s.Visits[i]
		l := lane{host: v.Host, load: v.Load, limit: v.Limit, rest: s.Plan.Load}
		for _, sp := range v.Spans {
			end := sp.To
			if end.IsZero() {
				end = now
			}
			l.spans = append(l.spans, laneSpan{step: sp.Step, from: sp.From, to: end, failed: sp.Failed})
		}
		l.state, l.role = visitState(v)
		if !v.Over() && v.Failure == nil && s.Status != plan.Finished {
			rest := v.Steps[min(len(v.Spans), len(v.Steps)):]
			for _, st := range rest {
				l.spans = append(l.spans, laneSpan{step: st.Step, from: at, to: at.Add(st.Middle), expected: true})
				at = at.Add(st.Middle)
			}
		}
		lanes = append(lanes, l)
	}
	if at.After(to) {
		to = at
	}
	return lanes, from, to
}

func visitState(v *plan.VisitState) (string, style) {
	switch {
	case v.Over():
		return "done", good
	case v.Failure != nil && v.Closed:
		return "FAILED, closed", alarm | bold
	case v.Failure != nil:
		return "FAILED", alarm | bold
	case len(v.Spans) == 0:
		return "waits", quiet
	}
	return "▸" + string(v.Spans[len(v.Spans)-1].Step), strong | bold
}

// paintLanes paints the time scale and a lane a host, and returns the row after the last.
func (m *Model) paintLanes(c *canvas, lanes []lane, from, to, now time.Time, a area) int {
	p := m.here()
	if !p.pinned && len(lanes) > 0 {
		p.host = followed(lanes)
	}
	const name = 28
	w := a.w - name - 2
	whole := max(to.Sub(from), time.Minute)
	col := func(t time.Time) int { return a.x + name + int(float64(w)*float64(t.Sub(from))/float64(whole)) }
	if a.h > 12 && m.paintTide(c, lanes, col, area{a.x, a.y, a.w, 1}) {
		a.y, a.h = a.y+1, a.h-1
	}
	m.paintScale(c, from, whole, col, area{a.x + name, a.y, w, 1})
	most, every := max(3, a.h*3/5), 1
	if 2*len(lanes) < a.h/2 {
		every = 2 // air between the lanes where there is room
	}
	first := 0
	for i, l := range lanes {
		if l.host == p.host {
			first = max(0, min(i-most/2, len(lanes)-most))
		}
	}
	y := a.y + 1
	for i := first; i < len(lanes) && i-first < most; i++ {
		m.paintLane(c, lanes[i], col, area{a.x, y, a.w, 1})
		y += every
	}
	if x := col(now); x > a.x+name && x < a.x+a.w-1 {
		for row := a.y; row < y; row++ {
			c.put(x, row, strong|bold, "┃")
		}
	}
	x := a.x + name
	if a.w < 110 {
		x = a.x + 1
	}
	for _, s := range stepOrder {
		x = c.put(x, y, stepSigns[s].role, stepSigns[s].glyph)
		x = c.put(x+1, y, quiet, string(s)) + 2
	}
	return y + 1
}

// paintTide paints the load of the hosts in service along time, as planned, with its peak beside the limit. It tells whether there is one.
func (m *Model) paintTide(c *canvas, lanes []lane, col func(time.Time) int, a area) bool {
	peak := lane{}
	const name = 28
	for _, l := range lanes {
		if l.load > peak.load {
			peak = l
		}
	}
	if peak.load == 0 {
		return false
	}
	c.put(a.x+2, a.y, quiet, fmt.Sprintf("load, at most %.0f%% of %.0f%%", 100*peak.load, 100*peak.limit))
	level := func(share float64) rune { return eighths[max(1, min(8, int(8*share/max(peak.limit, 0.01)+0.5)))] }
	c.fill(a.x+name, a.y, a.w-name-2, 1, quiet, level(peak.rest))
	for _, l := range lanes {
		if n := len(l.spans); n > 0 && l.load > 0 {
			c.fill(col(l.spans[0].from), a.y, max(1, col(l.spans[n-1].to)-col(l.spans[0].from)), 1, loads, level(l.load))
		}
	}
	return true
}

// followed is the host that the cursor stays with until a person moves it: the one that is visited, or that needs somebody.
func followed(lanes []lane) string {
	for _, l := range lanes {
		if l.role == strong|bold || l.role == alarm|bold && l.obstacle == "" {
			return l.host
		}
	}
	return lanes[0].host
}

func (m *Model) paintScale(c *canvas, from time.Time, whole time.Duration, col func(time.Time) int, a area) {
	every := 5 * time.Minute
	for whole/every > time.Duration(max(1, a.w/10)) {
		every *= 2
	}
	for t := from.Truncate(every).Add(every); t.Before(from.Add(whole)); t = t.Add(every) {
		if x := col(t); x > a.x+7 && x+5 < a.x+a.w {
			c.put(x, a.y, quiet, t.Format("15:04"))
		}
	}
	c.put(a.x, a.y, quiet, from.Format("15:04"))
}

func (m *Model) paintLane(c *canvas, l lane, col func(time.Time) int, a area) {
	c.within(a.x+2, a.y, 11, subject, l.host)
	c.within(a.x+13, a.y, 14, l.role, l.state)
	for _, s := range l.spans {
		x, end := col(s.from), col(s.to)
		sg := stepSigns[s.step]
		st := sg.role
		if s.expected {
			st = quiet
		}
		glyph := []rune(sg.glyph)[0]
		c.fill(x, a.y, max(1, end-x), 1, st, glyph)
		if n := string(s.step); end-x >= len(n)+2 {
			c.put(x+(end-x-len(n))/2, a.y, st|bold, n)
		}
		if s.failed {
			c.put(max(x, end-1), a.y, alarm|bold, "✗")
		}
	}
	if l.obstacle != "" {
		c.within(a.x+28, a.y, a.w-29, alarm, l.obstacle)
	}
	if l.host == m.here().host {
		c.shade(a.x, a.y, a.w, selected)
		c.put(a.x, a.y, strong|bold|selected, "▸")
	}
	c.press(a.x, a.y, a.w, 1, hostMsg{l.host})
}
