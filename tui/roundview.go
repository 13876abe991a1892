package tui

import (
	"fmt"
	"time"

	"yareharbour/core/drift"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
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
	detail   string
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
	case len(pl.plan.Visits) == 0:
		c.put(a.x+1, a.y, good, "Nothing to do on "+p.cluster+": every host is in line as far as a round can bring it.")
		m.paintLastRound(c, area{a.x, a.y + 2, a.w, a.h - 2})
		return
	}
	x := c.put(a.x+1, a.y, water|bold, "planned, nothing is touched yet  ")
	if summary := pl.plan.Summary(); len(summary) < a.w-x {
		c.put(x, a.y, plain, summary)
	} else {
		c.put(a.x+1, a.y+1, plain, summary)
	}
	lanes, from, to := plannedLanes(pl.plan)
	y := m.paintLanes(c, lanes, from, to, from, area{a.x, a.y + 2, a.w, a.h - 2})
	m.paintVisitDetail(c, pl.plan, area{a.x, y + 1, a.w, a.y + a.h - y - 1})
}

// plannedLanes lays the visits of a plan one after the other.
func plannedLanes(p *plan.Plan) (lanes []lane, from, to time.Time) {
	from = p.Made
	at := from
	for _, v := range p.Visits {
		l := lane{host: v.Host, state: "ready", role: good, load: v.Load, limit: v.Limit, rest: p.Load}
		if v.Obstacle != "" {
			l.state, l.role, l.obstacle = "can't", alarm|bold, v.Obstacle
		} else {
			for _, s := range v.Steps {
				l.spans = append(l.spans, laneSpan{step: s.Step, from: at, to: at.Add(s.Middle), expected: true})
				at = at.Add(s.Middle)
			}
		}
		lanes = append(lanes, l)
	}
	return lanes, from, at
}

func (m *Model) paintJournal(c *canvas, a area, r Round) {
	s := r.State
	word, role := statusWord(r)
	x := c.put(a.x+1, a.y, role, word)
	x = c.put(x, a.y, plain, fmt.Sprintf("  by %s since %s: %s", s.Plan.Brief.By, s.Started.Format("15:04"), s.Plan.Brief.Reason))
	done, moved := tally(s)
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

func tally(s *plan.State) (done, moved int) {
	for i := range s.Visits {
		if s.Visits[i].Over() {
			done++
		}
		moved += len(s.Visits[i].Moved)
	}
	return done, moved
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
		if l, ok := logOf(e); ok && (l.host == p.host || l.host == "") && matches(m.filter, l.text) {
			lines = append(lines, l)
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
		l.role, l.text = alarm, "✗ "+e.Action.Says()+": "+e.Detail+" – "+e.Remedy
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
	} else if pl := m.plans[p.cluster].plan; pl != nil && len(pl.Visits) > 0 {
		for _, v := range pl.Visits {
			hosts = append(hosts, v.Host)
		}
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
