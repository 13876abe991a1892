package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// hostLayers is the order of layers on a host: guests come last, since each has lines of its own.
var hostLayers = []estate.Layer{estate.Platform, estate.Driver, estate.Firmware, estate.Settings, estate.Inside}

// hostRows are the verdicts on a host, as far as the filter lets them through: what is out of line first within each layer.
func (m *Model) hostRows(host string) []drift.Verdict {
	var out []drift.Verdict
	for _, l := range hostLayers {
		for _, calm := range []bool{false, true} {
			for _, v := range m.snap.Verdicts[host] {
				quiet := v.Outcome == drift.InLine || v.Outcome == drift.NotApplying
				if v.Layer() == l && quiet == calm && m.lets(&v) {
					out = append(out, v)
				}
			}
		}
	}
	return out
}

// paintHost paints has and wants side by side, and the story of the line under the cursor.
func (m *Model) paintHost(c *canvas, a area) {
	p := m.here()
	r := m.snap.Readings[p.host]
	if r == nil {
		c.put(a.x+2, a.y+1, alarm|bold, p.host+" was never read.")
		c.put(a.x+2, a.y+3, plain, "R reads every host now.")
		return
	}
	m.paintHostHead(c, r, area{a.x, a.y, a.w, 2})
	a.y, a.h = a.y+3, a.h-3
	rows := m.hostRows(p.host)
	p.row = max(0, min(p.row, len(rows)-1))
	if a.w >= 110 {
		list := area{a.x, a.y, a.w * 11 / 20, a.h}
		below := len(r.Sections) + 2
		room := a.h > len(rows)+7+below
		if room {
			list.h -= below
			m.paintSections(c, r, area{a.x, a.y + list.h, list.w, below})
		}
		m.paintVerdicts(c, rows, list)
		m.paintStory(c, rows, r, !room, area{list.w + 1, a.y, a.w - list.w - 1, a.h})
		return
	}
	story := min(10, a.h/2)
	m.paintVerdicts(c, rows, area{a.x, a.y, a.w, a.h - story})
	m.paintStory(c, rows, r, false, area{a.x, a.y + a.h - story, a.w, story})
}

func (m *Model) paintHostHead(c *canvas, r *estate.Reading, a area) {
	x := c.put(a.x+1, a.y, strong|bold, r.Host)
	x = c.put(x, a.y, plain, fmt.Sprintf("  %s %s  %s  kernel %s", r.Hardware.Maker, r.Hardware.Model, r.Release, r.Kernel.Running))
	if !r.BootedAt.IsZero() {
		c.put(x, a.y, quiet, "  up "+drift.Age(m.snap.Survey.At.Sub(r.BootedAt)))
	}
	x = a.x + 1
	switch {
	case !r.Reached():
		x = c.put(x, a.y+1, alarm|bold, "does not answer")
	case r.Closed != nil:
		x = c.put(x, a.y+1, caution|bold, fmt.Sprintf("closed by %s since %s: %s", r.Closed.By, r.Closed.At.Format("Mon 2 Jan 15:04"), r.Closed.Reason))
	default:
		x = c.put(x, a.y+1, good, "open")
	}
	u := r.Used()
	x = c.put(x, a.y+1, plain, fmt.Sprintf("  %d guests, %d of %d GiB, %d of %d cores", len(r.RunningGuests()),
		u.MemoryMiB/1024, r.Capacity.MemoryMiB/1024, u.CPU/1000, r.Capacity.CPU/1000))
	c.put(x, a.y+1, quiet, "  "+m.readAgo(r.At()))
}

// readAgo says how old a reading is; the zero time is one of which nothing could be read.
func (m *Model) readAgo(at time.Time) string {
	if at.IsZero() {
		return "not read"
	}
	return "read " + drift.Age(m.snap.Survey.At.Sub(at)) + " ago"
}

func (m *Model) paintVerdicts(c *canvas, rows []drift.Verdict, a area) {
	p := m.here()
	name := max(20, a.w*2/5)
	version := (a.w - name - 22) / 2
	head := func(x, w int, s string) int { c.within(x, a.y, w, water|bold, s); return x + w }
	x := head(a.x+3, name, "component")
	x = head(x, version, "has")
	x = head(x, version, "wants")
	head(x, 17, "verdict")
	if len(rows) == 0 {
		c.put(a.x+3, a.y+2, quiet, "nothing to show: no baseline speaks of this host, or the filter lets nothing through")
		return
	}
	lines, at := withHeadings(rows, p.row)
	room := a.h - 1
	first := max(0, min(at-room/2, len(lines)-room))
	for n := first; n < len(lines) && n-first < room; n++ {
		y := a.y + 1 + n - first
		i := lines[n]
		if i < 0 {
			c.put(a.x+1, y, water, string(rows[-i-1].Layer()))
			continue
		}
		v := rows[i]
		sg := signs[v.Outcome]
		c.put(a.x+1, y, sg.role, sg.glyph)
		st := subject
		if v.Outcome == drift.InLine || v.Outcome == drift.NotApplying {
			st = quiet
		}
		c.within(a.x+3, y, name-1, st, v.Title())
		c.within(a.x+3+name, y, version-1, plain, orDash(v.Has))
		c.within(a.x+3+name+version, y, version-1, plain, orDash(v.Wants))
		says, role := v.Outcome.String(), sg.role
		if v.Outcome == drift.Behind {
			role, _ = bySeverity(v.Severity())
		}
		if v.Outcome.Drifts() && v.Severity() > catalogue.Unknown {
			says += ", " + v.Severity().String()
		}
		c.within(a.x+3+name+2*version, y, a.w-3-name-2*version-1, role, says)
		if i == p.row {
			c.shade(a.x, y, a.w, selected)
			c.put(a.x, y, strong|bold|selected, "▸")
		}
		c.press(a.x, y, a.w, 1, pickMsg{i})
	}
}

// withHeadings lays rows out in lines with a heading before each layer. A line holds the index of its row; a heading holds -1 less the
// index of the row after it. at is the line of the row with the cursor.
func withHeadings(rows []drift.Verdict, row int) (lines []int, at int) {
	for i, v := range rows {
		if i == 0 || rows[i-1].Layer() != v.Layer() {
			lines = append(lines, -i-1)
		}
		if i == row {
			at = len(lines)
		}
		lines = append(lines, i)
	}
	return lines, at
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// paintStory tells why the line under the cursor has its verdict, and then what else is known of the host; with sources, in short, when and from where it
// was read too.
func (m *Model) paintStory(c *canvas, rows []drift.Verdict, r *estate.Reading, sources bool, a area) {
	y, end := a.y, a.y+a.h
	line := func(st style, text string) {
		for i, l := range wrap(text, a.w-4) {
			if y >= end {
				return
			}
			indent := 1
			if i > 0 {
				indent = 3
			}
			c.put(a.x+indent, y, st, l)
			y++
		}
	}
	if len(rows) > 0 {
		v := rows[m.here().row]
		line(water|bold, v.Title()+": "+v.Outcome.String())
		cluster, _ := m.clusterOf(r.Host)
		for _, w := range m.snap.Checker.Why(cluster, v, r) {
			line(plain, w)
		}
		for _, s := range m.spansOf(r.Host, &v) {
			line(quiet, s)
		}
		y++
	}
	for _, mm := range m.mismatches(r) {
		line(caution|bold, "! "+mm.Hardware+" is outside the compatibility list "+mm.List)
		line(plain, mm.Why)
	}
	for _, s := range r.Sections {
		if s.Err != "" {
			line(alarm|bold, "? "+string(s.Name)+" is unread: "+s.Err)
		}
	}
	well := 0
	for _, h := range r.Health {
		if h.OK {
			well++
		} else {
			line(caution|bold, "! "+h.Item+": "+h.Detail)
		}
	}
	if r.BMC.Queue > 0 {
		line(caution|bold, fmt.Sprintf("! %d task(s) wait in the BMC's queue", r.BMC.Queue))
	}
	if well > 0 && well == len(r.Health) {
		line(good, fmt.Sprintf("health: %d items, all well", well))
	}
	if sources {
		y++
		line(water|bold, "what was read")
		for _, s := range m.readFrom(r) {
			line(plain, s)
		}
	}
	y++
	if y < end {
		line(water|bold, "guests")
	}
	for _, g := range r.Guests {
		text := fmt.Sprintf("%-16s %7s  %4.1f cores", g.Name, fmt.Sprintf("%d GiB", g.Load.MemoryMiB/1024), float64(g.Load.CPU)/1000)
		if g.State != estate.Running {
			text += "  " + string(g.State)
		}
		if g.Device != "" {
			text += "  holds " + g.Device
		}
		if y < end {
			c.within(a.x+1, y, a.w-2, plain, text)
		}
		y++
	}
	if y++; m.life.host == r.Host && y < end {
		line(water|bold, "life")
		if len(m.life.Turns) == 0 {
			line(quiet, "nothing changed since it was first read")
		}
		for _, t := range m.life.Turns {
			line(plain, fmt.Sprintf("%s %s %s → %s", t.At.Format("2 Jan 15:04"), t.Title(), orDash(t.From), orDash(t.To)))
		}
	}
}

// readFrom says in short what was read when and from where: sections of one source and age in one line. What is unread is told above.
func (m *Model) readFrom(r *estate.Reading) (out []string) {
	var order []string
	names := map[string][]string{}
	for _, s := range r.Sections {
		if s.Err != "" {
			continue
		}
		from := fmt.Sprintf("%s, %s ago", s.Source, drift.Age(m.snap.Survey.At.Sub(s.At)))
		if names[from] == nil {
			order = append(order, from)
		}
		names[from] = append(names[from], string(s.Name))
	}
	for _, from := range order {
		out = append(out, from+": "+strings.Join(names[from], ", "))
	}
	return out
}

// paintSections says of each part of the reading how old it is and where it is from.
func (m *Model) paintSections(c *canvas, r *estate.Reading, a area) {
	c.put(a.x+1, a.y, water|bold, "what was read")
	for i, s := range r.Sections {
		y := a.y + 1 + i
		c.put(a.x+3, y, subject, string(s.Name))
		c.put(a.x+14, y, quiet, drift.Age(m.snap.Survey.At.Sub(s.At))+" ago")
		c.put(a.x+26, y, quiet, s.Source)
		if s.Err != "" {
			c.within(a.x+44, y, a.w-45, alarm, "unread: "+s.Err)
		}
	}
}

// spansOf says when the component's versions were first and last seen, the newest first.
func (m *Model) spansOf(host string, v *drift.Verdict) (out []string) {
	if m.life.host != host {
		return nil
	}
	const most = 4
	for _, s := range m.life.Spans {
		if s.Component != v.Component || s.Device != v.Device || len(out) == most {
			continue
		}
		text := fmt.Sprintf("%s seen from %s to %s", s.Version, s.First.Format("2 Jan 15:04"), s.Last.Format("2 Jan 15:04"))
		if s.Now {
			text = fmt.Sprintf("%s seen since %s", s.Version, s.First.Format("2 Jan 15:04"))
		}
		out = append(out, text)
	}
	return out
}

// mismatches are the devices of a host whose combination is on no compatibility list that speaks of them.
func (m *Model) mismatches(r *estate.Reading) []catalogue.Mismatch {
	return m.snap.Checker.Catalogue.Mismatches(r.Release, r.Models(), catalogue.HeldBy(r))
}

func (m *Model) clusterOf(host string) (string, bool) {
	for _, b := range m.snap.Survey.Bands {
		for _, h := range b.Cluster.Hosts {
			if h == host {
				return b.Cluster.Name, true
			}
		}
	}
	return "", false
}

// wantLife has the life of the host under the eyes told, where a newer reading of it is there.
func (m *Model) wantLife() tea.Cmd {
	p := m.here()
	if p.screen != hostScreen || m.snap == nil || m.snap.Readings[p.host] == nil {
		return nil
	}
	host, at := p.host, m.snap.Readings[p.host].Tried()
	if m.life.host == host && m.life.at.Equal(at) {
		return nil
	}
	return func() tea.Msg {
		past, err := m.backend.Past(m.ctx, host)
		if err != nil {
			return saidMsg{"the past of " + host + ": " + err.Error()}
		}
		return lifeOf{host, at, past}
	}
}
