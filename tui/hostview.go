package tui

import (
	"cmp"
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

// hostRow is a line about a host: a verdict, or a component that was read and that no clause speaks of.
type hostRow struct {
	drift.Verdict
	unbound bool
}

// group is what the line stands under.
func (r *hostRow) group() string {
	if r.unbound {
		return "no baseline speaks of"
	}
	return string(r.Layer())
}

// hostRows are the verdicts on a host, as far as the filter lets them through, what is out of line first within each layer; and after them all else that was read.
func (m *Model) hostRows(host string) []hostRow {
	var out []hostRow
	for _, l := range hostLayers {
		for _, calm := range []bool{false, true} {
			for _, v := range m.snap.Verdicts[host] {
				quiet := v.Outcome == drift.InLine || v.Outcome == drift.NotApplying
				if v.Layer() == l && quiet == calm && m.lets(&v) {
					out = append(out, hostRow{v, false})
				}
			}
		}
	}
	return append(out, m.unboundRows(host)...)
}

// unboundRows are the components of a host without a verdict. A filter that asks for a verdict lets none of them through.
func (m *Model) unboundRows(host string) (out []hostRow) {
	r := m.snap.Readings[host]
	if r == nil {
		return nil
	}
	judged := map[string]bool{}
	for _, v := range m.snap.Verdicts[host] {
		judged[v.Title()] = true
	}
	for i := range r.Components {
		c := &r.Components[i]
		if judged[c.Title()] {
			continue
		}
		v := drift.Verdict{Host: host, Component: c.Key, Device: c.Device, Has: c.Version, Found: c, Model: c.Model, Class: c.Class, Last: c.Last}
		s := v.Subject(m.snap.Survey.At)
		s.Verdicts = nil
		if m.narrow.Empty() || m.narrow.Lets(s) {
			out = append(out, hostRow{v, true})
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
	x = c.put(x, a.y, plain, fmt.Sprintf("  %s %s  %s  kernel %s", r.Hardware.Maker, r.Hardware.Model, strings.TrimSpace(r.Release+" "+r.Build), r.Kernel.Running))
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
	known := "  "
	if r.Section(estate.GuestList).Err != "" {
		known = "  last known: "
	}
	x = c.put(x, a.y+1, plain, known+fmt.Sprintf("%d guests, %d of %d GiB, %d of %d cores", len(r.RunningGuests()),
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

func (m *Model) paintVerdicts(c *canvas, rows []hostRow, a area) {
	p := m.here()
	name := max(20, a.w*2/5)
	version := (a.w - name - 22) / 2
	head := func(x, w int, s string) int { c.within(x, a.y, w, water|bold, s); return x + w }
	x := head(a.x+3, name, "component")
	x = head(x, version, "has")
	x = head(x, version, "wants")
	head(x, 17, "verdict")
	if len(rows) == 0 {
		c.put(a.x+3, a.y+2, quiet, "nothing to show: nothing was read of this host, or the filter lets nothing through")
		return
	}
	lines, at := withHeadings(rows, p.row)
	room := a.h - 1
	first := max(0, min(at-room/2, len(lines)-room))
	for n := first; n < len(lines) && n-first < room; n++ {
		y := a.y + 1 + n - first
		i := lines[n]
		if i < 0 {
			c.put(a.x+1, y, water, rows[-i-1].group())
			continue
		}
		v := rows[i]
		sg := signs[v.Outcome]
		if v.unbound {
			sg.glyph, sg.role = " ", quiet
		}
		c.put(a.x+1, y, sg.role, sg.glyph)
		st := subject
		if v.unbound || v.Outcome == drift.InLine || v.Outcome == drift.NotApplying {
			st = quiet
		}
		c.within(a.x+3, y, name-1, st, v.Title())
		if v.Has == "" && v.Last != "" {
			c.within(a.x+3+name, y, version-1, quiet, "last "+v.Last)
		} else {
			c.within(a.x+3+name, y, version-1, plain, orDash(v.Has))
		}
		c.within(a.x+3+name+version, y, version-1, plain, orDash(v.Wants))
		says, role := v.Outcome.String(), sg.role
		if v.Outcome == drift.Behind {
			role, _ = bySeverity(v.Severity())
		}
		if v.unbound {
			says, role = "", quiet
			if v.Found.Unread != "" {
				says, role = "unread", alarm
			}
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

// withHeadings lays rows out in lines with a heading before each group. A line holds the index of its row; a heading holds -1 less the
// index of the row after it. at is the line of the row with the cursor.
func withHeadings(rows []hostRow, row int) (lines []int, at int) {
	for i := range rows {
		if i == 0 || rows[i-1].group() != rows[i].group() {
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
func (m *Model) paintStory(c *canvas, rows []hostRow, r *estate.Reading, sources bool, a area) {
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
		if v.unbound {
			line(water|bold, v.Title()+": nothing is wanted of it")
			line(plain, m.unboundStory(&v, r))
		} else {
			line(water|bold, v.Title()+": "+v.Outcome.String())
			cluster, _ := m.clusterOf(r.Host)
			for _, w := range m.snap.Checker.Why(cluster, v.Verdict, r) {
				line(plain, w)
			}
		}
		for _, s := range m.spansOf(r.Host, &v.Verdict) {
			line(quiet, s)
		}
		y++
	}
	for _, mm := range m.mismatches(r) {
		says := " is outside the compatibility list "
		if mm.Unknown {
			says = " may be outside the compatibility list "
		}
		line(caution|bold, "! "+cmp.Or(mm.Hardware, "what runs here")+says+mm.List)
		line(plain, mm.Why)
	}
	for _, s := range r.Sections {
		if s.Err != "" {
			line(alarm|bold, "? "+string(s.Name)+" is unread: "+s.Err+m.lastKnown(s))
		} else if s.Partial != "" {
			line(caution|bold, "? "+string(s.Name)+" is not all read: "+s.Partial)
		}
	}
	var well []string
	for _, h := range r.Health {
		if h.OK {
			well = append(well, h.Item)
		} else {
			line(caution|bold, "! "+h.Item+": "+h.Detail)
		}
	}
	if r.BMC.Queue > 0 {
		line(caution|bold, fmt.Sprintf("! %d task(s) wait in the BMC's queue", r.BMC.Queue))
	}
	if len(well) > 0 {
		line(good, fmt.Sprintf("%d of %d items are well: %s", len(well), len(r.Health), strings.Join(well, ", ")))
	}
	if sources {
		y++
		line(water|bold, "what was read")
		for _, s := range m.readFrom(r) {
			line(plain, s)
		}
	}
	y++
	if s := r.Section(estate.GuestList); y < end && s.Err == "" {
		line(water|bold, "guests")
	} else if len(r.Guests) > 0 {
		line(caution|bold, "guests, as last known")
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

// lastKnown says of an unread section from when the values are that are shown all the same.
func (m *Model) lastKnown(s estate.Section) string {
	at, from := s.Known()
	if at.IsZero() {
		return ""
	}
	return fmt.Sprintf("; last known %s ago from %s", drift.Age(m.snap.Survey.At.Sub(at)), from)
}

// unboundStory tells of a component that no clause speaks of.
func (m *Model) unboundStory(v *hostRow, r *estate.Reading) string {
	s := r.Section(v.Component.Section())
	said := "version " + v.Has
	if v.Layer() == estate.Settings {
		said = "value " + v.Has
	}
	switch {
	case v.Found.Unread != "":
		said = "unread: " + v.Found.Unread
		if v.Last != "" {
			said += "; last known " + v.Last
		}
	case v.Found.Running != "":
		said += ", and " + v.Found.Running + " runs"
	}
	if v.Model != "" {
		said = v.Model + ", " + said
	}
	at, from := s.Known()
	if !at.IsZero() {
		said += fmt.Sprintf(", read %s ago from %s", drift.Age(m.snap.Survey.At.Sub(at)), from)
	}
	return said + ". No clause of any baseline speaks of it."
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
			c.within(a.x+44, y, a.w-45, alarm, "unread: "+s.Err+m.lastKnown(s))
		} else if s.Partial != "" {
			c.within(a.x+44, y, a.w-45, caution, "not all: "+s.Partial)
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
