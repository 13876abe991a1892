package tui

import (
	"fmt"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/survey"
)

// berths are sized so that a host's name can be read.
const (
	gutter   = 6 // left of the berths: what a row is about
	minBerth = 7
	maxBerth = 13
)

// paintWaterline paints a band for each cluster, and beside or below them what needs a person.
func (m *Model) paintWaterline(c *canvas, a area) {
	bands := m.bands()
	p := m.here()
	needs := area{}
	if a.w >= 120 {
		needs = area{a.w - a.w/3, a.y, a.w / 3, a.h}
		a.w -= needs.w + 1
	} else {
		rows := min(len(m.needs())+1, max(2, a.h/4))
		if p.needs {
			rows = a.h - 2
		}
		needs = area{a.x, a.y + a.h - rows, a.w, rows}
		a.h -= rows
	}
	m.paintNeeds(c, needs)
	if len(bands) == 0 {
		c.put(a.x+2, a.y+1, quiet, "no host matches “"+m.filter+"”; Esc shows all")
		return
	}
	const detail, least = 2, 7 // rows: the line at the bottom, and the smallest band that can be read
	at := m.selectedBand(bands)
	shown := max(1, min(len(bands), (a.h-detail)/least))
	each := min(14, (a.h-detail)/shown)
	first := max(0, min(at-shown/2, len(bands)-shown))
	y := a.y
	for i := first; i < min(len(bands), first+shown); i++ {
		m.paintBand(c, bands[i], area{a.x, y, a.w, max(each-1, least)}, i == at && !p.needs)
		y += each
	}
	if first+shown < len(bands) {
		c.right(a.x+a.w-1, a.y+a.h-2, 30, quiet, fmt.Sprintf("↓ %d more below", len(bands)-first-shown))
	}
	m.paintBerthDetail(c, area{a.x, a.y + a.h - 1, a.w, 1})
}

// bands are the clusters with the hosts that the filter lets through.
func (m *Model) bands() []survey.Band {
	if m.narrow.Empty() {
		return m.snap.Survey.Bands
	}
	var out []survey.Band
	for _, b := range m.snap.Survey.Bands {
		var berths []survey.Berth
		for _, h := range b.Berths {
			if m.letsHost(b.Cluster.Name, h) {
				berths = append(berths, h)
			}
		}
		if b.Berths = berths; len(berths) > 0 {
			out = append(out, b)
		}
	}
	return out
}

// selectedBand is the index of the band with the cursor; the cursor goes to the first host where it stands nowhere.
func (m *Model) selectedBand(bands []survey.Band) int {
	p := m.here()
	for i, b := range bands {
		for _, h := range b.Berths {
			if h.Host == p.host {
				p.cluster = b.Cluster.Name
				return i
			}
		}
	}
	p.cluster, p.host = bands[0].Cluster.Name, bands[0].Berths[0].Host
	return 0
}

func (m *Model) paintBand(c *canvas, b survey.Band, a area, active bool) {
	m.paintBandTitle(c, b, a, active)
	strata := strataFor(a.h)
	above := a.h - 2 - len(strata) // rows for the load; one for the line, one for the title
	line := a.y + 1 + above
	w, first, n := berthWindow(b, a.w-gutter-2, m.here().host)
	x0 := a.x + gutter
	c.fill(a.x+1, line, a.w-2, 1, water, '━')
	limit := line - 1 - int(b.Limit*float64(above))
	if b.Limit > 0 && limit >= a.y+1 && limit < line {
		c.put(a.x+1, limit, limits, "limit")
		c.fill(x0, limit, w*n, 1, limits, '┄')
		says := fmt.Sprintf(" %.0f%%", 100*b.Limit)
		if b.Spare.Room.MemoryMiB > 0 {
			says += ", " + fit.GiB(b.Spare.Room.MemoryMiB) + " spare if " + strings.Join(b.Spare.Lost, ", ") + " fails"
		}
		if room := a.w - gutter - w*n - 1; len(says) > room {
			says, _, _ = strings.Cut(says, ",")
		}
		if room := a.w - gutter - w*n - 1; len(says) <= room {
			c.within(x0+w*n, limit, room, limits, says)
		}
	}
	for i, s := range strata {
		c.put(a.x+1, line+1+i, quiet, s.name)
	}
	for i := range n {
		h := b.Berths[first+i]
		m.paintBerth(c, h, area{x0 + i*w, a.y + 1, w, above}, line, strata, active && h.Host == m.here().host)
		c.press(x0+i*w, a.y+1, w, a.h-1, m.berthPress(b, h))
	}
	if first > 0 {
		c.put(a.x, line, water|bold, fmt.Sprintf("‹%d", first))
	}
	if rest := len(b.Berths) - first - n; rest > 0 {
		c.right(a.x+a.w, line, 6, water|bold, fmt.Sprintf("%d›", rest))
	}
}

// berthPress selects a host, and goes in where it is selected already.
func (m *Model) berthPress(b survey.Band, h survey.Berth) any {
	if m.here().host == h.Host && !m.here().needs {
		return goMsg{screen: hostScreen, cluster: b.Cluster.Name, host: h.Host}
	}
	return goMsg{screen: waterlineScreen, cluster: b.Cluster.Name, host: h.Host}
}

func (m *Model) paintBandTitle(c *canvas, b survey.Band, a area, active bool) {
	st := water | bold
	if active {
		st |= underline
	}
	x := c.put(a.x+1, a.y, st, b.Cluster.Name)
	right := fmt.Sprintf("%d in line  %d adrift", b.InLine, b.Adrift)
	if b.Unasked > 0 {
		right += fmt.Sprintf("  %d unasked", b.Unasked)
	}
	if b.Unread > 0 {
		right += fmt.Sprintf("  %d unread", b.Unread)
	}
	if b.Out > 0 {
		right += fmt.Sprintf("  %d out", b.Out)
	}
	right += "  " + m.readAgo(b.ReadAt)
	c.right(a.x+a.w-1, a.y, len(right), quiet, right)
	room := a.w - 3 - len(right) - (x - a.x)
	role, word := good, "kept"
	switch b.Reserve.Outcome {
	case fit.DoesNotFit:
		role, word = alarm|bold, "NOT KEPT"
	case fit.Unproven:
		role, word = caution, "unproven"
	}
	head := fmt.Sprintf("  %d hosts  %d guests", len(b.Berths), b.Guests)
	if !b.Cluster.Act {
		head += "  look only"
	}
	if room > len(head)+18 {
		x = c.put(x, a.y, plain, head)
		x = c.put(x, a.y, plain, fmt.Sprintf("  reserve of %d ", b.Cluster.Reserve))
		c.put(x, a.y, role, word)
	} else if room > 18 {
		x = c.put(x, a.y, plain, "  reserve ")
		c.put(x, a.y, role, word)
	}
}

// berthWindow fits berths into w cells: how wide each is, the first shown and how many are. The host with the cursor is among them.
func berthWindow(b survey.Band, w int, host string) (width, first, n int) {
	n = len(b.Berths)
	least := minBerth
	for _, h := range b.Berths {
		least = max(least, min(maxBerth, len(h.Host)+2))
	}
	width = min(maxBerth, w/n)
	if width < least {
		const mark = 4 // cells for how many more there are
		width = least
		n = max(1, (w-mark)/width)
		for i, h := range b.Berths {
			if h.Host == host {
				first = max(0, min(i-n/2, len(b.Berths)-n))
			}
		}
	}
	return width, first, n
}

// eighths are the blocks that fill a cell from below by eighths.
var eighths = []rune(" ▁▂▃▄▅▆▇█")

func (m *Model) paintBerth(c *canvas, h survey.Berth, a area, line int, strata []stratum, here bool) {
	bar := min(5, a.w-3)
	x := a.x + (a.w-bar)/2
	switch h.Service {
	case survey.Open:
		full := int(h.Memory * float64(a.h) * 8)
		for row := range a.h {
			e := max(0, min(8, full-8*row))
			if e > 0 {
				c.fill(x, line-1-row, bar, 1, loads, eighths[e])
			}
		}
		top := line - 1 - (full+7)/8
		if top >= a.y {
			c.centre(a.x, top, a.w, quiet, fmt.Sprintf("%.0f%%", 100*h.Memory))
		}
	case survey.Closed:
		c.fill(x, a.y+a.h/2, bar, a.h-a.h/2, quiet, '░')
		c.centre(a.x, line-1, a.w, caution|bold, "closed")
	case survey.Away:
		c.centre(a.x, line-1, a.w, caution, string(h.Service))
	default:
		c.centre(a.x, line-1, a.w, alarm|bold, string(h.Service))
	}
	if h.Step != "" {
		c.centre(a.x, a.y, a.w, strong|bold, "▸"+string(h.Step))
	}
	st := subject
	if here {
		st = strong | bold | selected
	}
	c.centre(a.x, line, a.w, st, h.Host)
	if here {
		c.put(a.x+max(0, (a.w-len(h.Host))/2-1), line, strong|bold, "▸")
	}
	for i, s := range strata {
		paintDepth(c, s.depth(h), a.x, line+1+i, a.w)
	}
}

// stratum is a row below the waterline: a layer, or several where a band is low.
type stratum struct {
	name   string
	layers []estate.Layer
}

func strataFor(height int) []stratum {
	own := []stratum{{"plat", []estate.Layer{estate.Platform}}, {"drv", []estate.Layer{estate.Driver}}, {"fw", []estate.Layer{estate.Firmware}}}
	const tall = 11
	if height < tall {
		return append(own, stratum{"g+s", []estate.Layer{estate.Inside, estate.Settings}})
	}
	return append(own, stratum{"guest", []estate.Layer{estate.Inside}}, stratum{"set", []estate.Layer{estate.Settings}})
}

// depth is how deep a host lies in the stratum.
func (s stratum) depth(h survey.Berth) (d survey.Depth) {
	for _, l := range s.layers {
		x := h.Depth[l]
		d.Drift, d.Unread, d.Worst = d.Drift+x.Drift, d.Unread || x.Unread, max(d.Worst, x.Worst)
		d.InLine, d.Aside = d.InLine+x.InLine, d.Aside+x.Aside
	}
	return d
}

// paintDepth paints how deep a host lies in one layer: a mark for each thing out of line, and a number where they are many.
func paintDepth(c *canvas, d survey.Depth, x, y, w int) {
	role, glyph := bySeverity(d.Worst)
	switch {
	case d.Unread:
		c.centre(x, y, w, alarm|bold, "?")
	case d.Drift == 0 && d.InLine > 0:
		c.centre(x, y, w, quiet, "·")
	case d.Drift == 0 && d.Aside > 0:
		c.centre(x, y, w, quiet, "~")
	case d.Drift == 0: // nothing was asked
	case d.Drift <= 3:
		c.centre(x, y, w, role, strings.Repeat(glyph, d.Drift))
	default:
		c.centre(x, y, w, role, fmt.Sprintf("%s%s%d", glyph, glyph, d.Drift))
	}
}

// paintBerthDetail says in words what the picture shows of the host under the cursor.
func (m *Model) paintBerthDetail(c *canvas, a area) {
	p := m.here()
	for _, b := range m.snap.Survey.Bands {
		for _, h := range b.Berths {
			if h.Host != p.host || b.Cluster.Name != p.cluster {
				continue
			}
			x := c.put(a.x+1, a.y, strong|bold, h.Host)
			c.within(x, a.y, a.w-(x-a.x)-1, plain, berthWords(h, m.snap.Readings[h.Host]))
		}
	}
}

func berthWords(h survey.Berth, r *estate.Reading) string {
	if r == nil {
		return "  never read"
	}
	s := fmt.Sprintf("  %s  %d guests  memory %.0f%%  cpu %.0f%%", r.Hardware.Model, h.Guests, 100*h.Memory, 100*h.CPU)
	if h.InLine() {
		s += "  in line"
	} else {
		s += fmt.Sprintf("  %d out of line", h.Drift)
	}
	if worst := worstOf(h); worst > catalogue.Unknown {
		s += ", " + worst.String() + " at worst"
	}
	if h.Unread > 0 {
		s += fmt.Sprintf("  %d unread", h.Unread)
	}
	if h.Mark != nil {
		s += fmt.Sprintf("  closed by %s: %s", h.Mark.By, h.Mark.Reason)
	}
	return s
}

func worstOf(h survey.Berth) (worst catalogue.Severity) {
	for _, d := range h.Depth {
		worst = max(worst, d.Worst)
	}
	return worst
}

// needs are what needs a person, as far as the filter lets it through.
func (m *Model) needs() []survey.Need {
	if m.narrow.Empty() {
		return m.snap.Survey.Needs
	}
	var out []survey.Need
	for _, n := range m.snap.Survey.Needs {
		if m.narrow.Lets(narrow.Subject{Hosts: []string{n.Host}, Age: -1, Words: []string{n.Cluster, n.Text}}) {
			out = append(out, n)
		}
	}
	return out
}

var urgencies = [...]sign{{"!!", alarm | bold}, {"! ", caution | bold}, {"· ", quiet}}

func (m *Model) paintNeeds(c *canvas, a area) {
	needs := m.needs()
	p := m.here()
	c.put(a.x+1, a.y, water|bold, "needs you")
	if len(needs) == 0 {
		says, role := m.nothingNeeded()
		y := a.y + 1
		for _, l := range wrap(says, a.w-2) {
			c.put(a.x+1, y, role, l)
			y++
		}
		m.paintLately(c, area{a.x, y + 1, a.w, a.y + a.h - y - 1})
		return
	}
	count := fmt.Sprintf("%d, worst first", len(needs))
	if all := len(m.snap.Survey.Needs); all > len(needs) {
		count = fmt.Sprintf("%d of %d, narrowed", len(needs), all)
	}
	c.put(a.x+12, a.y, quiet, count)
	if p.needs {
		p.row = max(0, min(p.row, len(needs)-1))
	}
	first := 0
	if p.needs {
		first = max(0, p.row-(a.h-2)/2)
	}
	y := a.y + 1
	for i := first; i < len(needs) && y < a.y+a.h; i++ {
		y = m.paintNeed(c, needs[i], area{a.x, y, a.w, a.y + a.h - y}, p.needs && i == p.row)
	}
	m.paintLately(c, area{a.x, y + 1, a.w, a.y + a.h - y - 1})
}

// nothingNeeded says why the list is empty: only where everything was judged, and everything is shown, is that good.
func (m *Model) nothingNeeded() (string, style) {
	if all := len(m.snap.Survey.Needs); all > 0 {
		return fmt.Sprintf("nothing among what is shown; %d without the narrowing to “%s” (Esc shows all)", all, m.filter), caution
	}
	asked, unasked := 0, 0
	for _, b := range m.snap.Survey.Bands {
		asked, unasked = asked+b.InLine, unasked+b.Unasked
	}
	switch {
	case asked == 0:
		return "nothing is known that needs you, and nothing is asked of any host: no baseline binds one", caution
	case unasked > 0:
		return fmt.Sprintf("nothing; of %d hosts no baseline asks anything", unasked), caution
	}
	return "nothing: all is in line and nobody is out of service", good
}

// paintLately paints, where there is room for them, the newest round of each cluster and what the marks below the waterline mean.
func (m *Model) paintLately(c *canvas, a area) {
	legend := []string{"▼ critical   ▾ high   ▿ other drift", "? unread     · in line   ~ excepted or not applying", "blank: no clause asks anything"}
	if a.h < len(legend)+len(m.snap.Rounds)+4 {
		return
	}
	y := a.y
	c.put(a.x+1, y, water|bold, "rounds")
	for _, b := range m.snap.Survey.Bands {
		y++
		word, role := "none yet", quiet
		if r, ok := m.snap.Rounds[b.Cluster.Name]; ok && r.State != nil {
			word, role = statusWord(r)
			done, moved := r.State.Tally()
			word = fmt.Sprintf("%s, %d of %d visits, %d moves", strings.Split(word, ":")[0], done, len(r.State.Visits), moved)
		}
		x := c.put(a.x+4, y, subject, b.Cluster.Name+":")
		c.within(x+1, y, a.w-(x-a.x)-2, role, word)
		c.press(a.x, y, a.w, 1, goMsg{screen: roundScreen, cluster: b.Cluster.Name})
	}
	for i, l := range legend {
		c.put(a.x+1, a.y+a.h-len(legend)+i-1, quiet, l)
	}
}

// paintNeed paints one need, over several rows where it is long and there is room, and returns the row after it.
func (m *Model) paintNeed(c *canvas, n survey.Need, a area, here bool) int {
	u := urgencies[n.Urgency]
	c.put(a.x+1, a.y, u.role, u.glyph)
	who := n.Cluster
	if n.Host != "" {
		who = n.Host
	}
	st := subject
	if here {
		st |= bold
		c.put(a.x, a.y, strong|bold, "▸")
	}
	x := c.put(a.x+4, a.y, st, who+":")
	lines := []string{n.Text}
	if a.w >= 40 && a.h > 3 && len(n.Text) > a.w-(x-a.x)-2 {
		lines = wrap(n.Text, a.w-6)
		if rest := a.w - (x - a.x) - 2; len(lines[0]) > rest {
			first := wrap(n.Text, rest)[0]
			lines = append([]string{first}, wrap(strings.TrimSpace(strings.TrimPrefix(n.Text, first)), a.w-7)...)
		}
	}
	rows := min(len(lines), a.h)
	c.within(x+1, a.y, a.w-(x-a.x)-2, plain, lines[0])
	for i := 1; i < rows; i++ {
		c.within(a.x+6, a.y+i, a.w-7, plain, lines[i])
	}
	if here {
		for i := range rows {
			c.shade(a.x, a.y+i, a.w, selected)
		}
	}
	c.press(a.x, a.y, a.w, rows, m.needPlace(n))
	return a.y + rows
}

// needPlace is where one sees to a need.
func (m *Model) needPlace(n survey.Need) goMsg {
	if n.Host != "" {
		return goMsg{screen: hostScreen, cluster: n.Cluster, host: n.Host}
	}
	if r, ok := m.snap.Rounds[n.Cluster]; ok && r.State != nil && r.State.Status == plan.Failing {
		return goMsg{screen: roundScreen, cluster: n.Cluster}
	}
	return goMsg{screen: driftScreen, cluster: n.Cluster}
}
