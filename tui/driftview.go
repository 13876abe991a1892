package tui

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/survey"
)

// matrixRow is a component in which something disagrees, with the verdict of each host; hosts without one are not in it.
type matrixRow struct {
	component estate.Key
	device    string
	byHost    map[string]drift.Verdict
}

func (r matrixRow) title() string {
	return estate.Component{Key: r.component, Device: r.device}.Title()
}

// matrixOf is a matrix that was made, and what it was made from.
type matrixOf struct {
	snap            *Snapshot
	cluster, filter string
	rows            []matrixRow
	hosts           []string
}

// matrix is the rows of a cluster that are not wholly in line, and the hosts that are its columns. It is made once for what it is made from:
// a frame must not cost more where a cluster is large.
func (m *Model) matrix(cluster string) (rows []matrixRow, hosts []string) {
	if k := &m.made; k.snap == m.snap && k.cluster == cluster && k.filter == m.narrow.String() {
		return k.rows, k.hosts
	}
	rows, hosts = m.makeMatrix(cluster)
	m.made = matrixOf{m.snap, cluster, m.narrow.String(), rows, hosts}
	return rows, hosts
}

func (m *Model) makeMatrix(cluster string) (rows []matrixRow, hosts []string) {
	b := m.band(cluster)
	if b == nil {
		return nil, nil
	}
	type place struct {
		key    estate.Key
		device string
	}
	at := map[place]int{}
	all := []matrixRow{}
	row := func(p place) matrixRow {
		if _, ok := at[p]; !ok {
			at[p] = len(all)
			all = append(all, matrixRow{p.key, p.device, map[string]drift.Verdict{}})
		}
		return all[at[p]]
	}
	var unread []drift.Verdict
	for _, h := range m.narrow.Hosts(b.Cluster.Hosts) {
		hosts = append(hosts, h)
		for _, v := range m.snap.Verdicts[h] {
			if v.Outcome == drift.Unread {
				unread = append(unread, v)
			} else {
				row(place{v.Component, v.Device}).byHost[h] = v
			}
		}
	}
	// Which devices an unread host has is not known: the component is unread in every row about it.
	for _, v := range unread {
		found := false
		for _, r := range all {
			if r.component == v.Component {
				r.byHost[v.Host], found = v, true
			}
		}
		if !found {
			row(place{v.Component, v.Device}).byHost[v.Host] = v
		}
	}
	for _, r := range all {
		if disagrees(r) && m.rowMatches(r) {
			rows = append(rows, r)
		}
	}
	slices.SortStableFunc(rows, func(a, b matrixRow) int {
		la, lb := slices.Index(estate.Layers, a.component.Layer()), slices.Index(estate.Layers, b.component.Layer())
		if la != lb {
			return la - lb
		}
		return strings.Compare(a.title(), b.title())
	})
	return rows, hosts
}

func disagrees(r matrixRow) bool {
	for _, v := range r.byHost {
		if v.Outcome != drift.InLine && v.Outcome != drift.NotApplying {
			return true
		}
	}
	return false
}

func (m *Model) rowMatches(r matrixRow) bool {
	if m.narrow.Empty() {
		return true
	}
	for _, v := range r.byHost {
		if m.lets(&v) {
			return true
		}
	}
	return false
}

func (m *Model) band(cluster string) *survey.Band {
	for i := range m.snap.Survey.Bands {
		if m.snap.Survey.Bands[i].Cluster.Name == cluster {
			return &m.snap.Survey.Bands[i]
		}
	}
	return nil
}

// paintDrift paints the matrix of what disagrees, and below it how siblings differ.
func (m *Model) paintDrift(c *canvas, a area) {
	p := m.here()
	m.paintNews(c, area{a.x, a.y, a.w, 1})
	a.y, a.h = a.y+1, a.h-1
	if p.pane == 1 {
		m.paintTrend(c, a)
		return
	}
	rows, hosts := m.matrix(p.cluster)
	if len(rows) == 0 {
		m.paintNothing(c, p.cluster, a)
		return
	}
	p.row = max(0, min(p.row, len(rows)-1))
	col := max(0, slices.Index(hosts, p.host))
	p.host = hosts[col]
	siblings := m.siblingLines(p.cluster, a.w-4)
	below := min(len(siblings)+1, a.h/3)
	story := 3
	room := min(len(rows), a.h-below-story-3)
	m.paintMatrix(c, rows, hosts, col, area{a.x, a.y, a.w, room + 2})
	y := a.y + room + 3
	y = m.paintCellStory(c, rows[p.row], area{a.x, y, a.w, story})
	for i, l := range siblings {
		if y+i+1 >= a.y+a.h {
			break
		}
		st := plain
		if !strings.HasPrefix(l, " ") {
			st = water | bold
		}
		c.put(a.x+1, y+i+1, st, l)
	}
	if free := a.y + a.h - 2; y+len(siblings)+2 < free {
		for i, l := range wrap(legend(), a.w-4) {
			c.put(a.x+1, free+i, quiet, l)
		}
	}
}

// paintNothing says why the matrix has no row: nothing was judged, nothing disagrees, or the filter hides what does.
func (m *Model) paintNothing(c *canvas, cluster string, a area) {
	judged, fine, hidden := 0, 0, 0
	if b := m.band(cluster); b != nil {
		for _, h := range b.Cluster.Hosts {
			judged += len(m.snap.Verdicts[h])
			for _, v := range m.snap.Verdicts[h] {
				switch v.Outcome {
				case drift.InLine:
					fine++
				case drift.NotApplying:
				default:
					hidden++
				}
			}
		}
	}
	switch {
	case judged == 0:
		c.put(a.x+2, a.y+1, caution|bold, cluster+": nothing is known to be in line")
		c.put(a.x+2, a.y+2, quiet, "no clause of any baseline speaks of these hosts, or none of them was read; R reads them")
	case hidden > 0:
		c.put(a.x+2, a.y+1, caution|bold, fmt.Sprintf("nothing to show among what matches “%s”: %d verdicts that are not in line are hidden", m.filter, hidden))
		c.put(a.x+2, a.y+2, quiet, "Esc shows all")
	default:
		c.put(a.x+2, a.y+1, good, fmt.Sprintf("%s: nothing disagrees, %d verdicts are in line", cluster, fine))
	}
}

func (m *Model) paintMatrix(c *canvas, rows []matrixRow, hosts []string, col int, a area) {
	name := min(30, max(22, a.w/4))
	w := max(5, min(18, (a.w-name-3)/len(hosts)))
	n := min(len(hosts), max(1, (a.w-name-3)/w))
	first := max(0, min(col-n/2, len(hosts)-n))
	x0 := a.x + name + 2
	for i := range n {
		st := subject
		if first+i == col {
			st = strong | bold | underline
		}
		c.within(x0+i*w, a.y, w-1, st, hosts[first+i])
		c.press(x0+i*w, a.y, w, a.h, goMsg{screen: driftScreen, cluster: m.here().cluster, host: hosts[first+i], row: m.here().row})
	}
	if rest := len(hosts) - first - n; rest > 0 {
		c.right(a.x+a.w, a.y, 6, water|bold, fmt.Sprintf("%d›", rest))
	}
	if first > 0 {
		c.put(a.x+1, a.y, water|bold, fmt.Sprintf("‹%d", first))
	}
	top := max(0, min(m.here().row-(a.h-2)/2, len(rows)-(a.h-1)))
	for i := top; i < len(rows) && i-top < a.h-1; i++ {
		y := a.y + 1 + i - top
		r := rows[i]
		c.within(a.x+2, y, name-1, subject, r.title())
		for j := range n {
			m.paintCell(c, r, hosts[first+j], area{x0 + j*w, y, w, 1}, i, first+j == col)
		}
		if i == m.here().row {
			c.shade(a.x, y, a.w, selected)
			c.put(a.x, y, strong|bold|selected, "▸")
		}
	}
}

// paintCell paints a verdict: its sign, and the version where there is room for it.
func (m *Model) paintCell(c *canvas, r matrixRow, host string, a area, row int, here bool) {
	v, ok := r.byHost[host]
	c.press(a.x, a.y, a.w, 1, goMsg{screen: driftScreen, cluster: m.here().cluster, host: host, row: row})
	if !ok {
		return
	}
	sg := signs[v.Outcome]
	st := sg.role
	if here && row == m.here().row {
		st |= underline | bold
	}
	x := c.put(a.x, a.y, st, sg.glyph)
	if m.isNews(host, &v) {
		c.put(a.x+a.w-2, a.y, caution|bold, "•")
		a.w--
	}
	if a.w >= 9 && v.Has != "" && v.Outcome != drift.InLine {
		if a.w >= 12 {
			x++
		}
		c.within(x, a.y, a.x+a.w-1-x, st, v.Has)
	}
}

// paintCellStory says in words what the cell under the cursor shows, and returns the row after it.
func (m *Model) paintCellStory(c *canvas, r matrixRow, a area) int {
	host := m.here().host
	v, ok := r.byHost[host]
	if !ok {
		c.put(a.x+1, a.y, plain, host+" does not have "+r.title()+", and nothing is wanted of it there.")
		return a.y + a.h
	}
	sg := signs[v.Outcome]
	x := c.put(a.x+1, a.y, sg.role|bold, sg.glyph+" "+v.Outcome.String())
	c.put(x, a.y, plain, fmt.Sprintf("  %s on %s  has %s  wants %s", v.Title(), host, orDash(v.Has), orDash(v.Wants)))
	reading := m.snap.Readings[host]
	if reading == nil {
		return a.y + a.h
	}
	why := m.snap.Checker.Why(m.here().cluster, v, reading)
	for i, l := range wrap(strings.Join(why[len(why)-1:], " "), a.w-4) {
		if i+1 < a.h {
			c.put(a.x+3, a.y+1+i, quiet, l)
		}
	}
	return a.y + a.h
}

// siblingLines says how the hosts of each hardware model differ.
func (m *Model) siblingLines(cluster string, w int) []string {
	var out []string
	for _, s := range m.snap.Siblings[cluster] {
		if len(s.Groups) == 0 {
			continue
		}
		odd := s.Groups[1:]
		head := fmt.Sprintf("siblings %s: %d hosts, %d alike", s.Model, hostsIn(s.Groups), len(s.Groups[0]))
		switch {
		case len(s.Groups) == 1:
			head = fmt.Sprintf("siblings %s: all %d alike", s.Model, hostsIn(s.Groups))
		case len(s.Groups[0]) == 1:
			head = fmt.Sprintf("siblings %s: %d hosts, no two alike; each beside what most have", s.Model, len(s.Groups))
			odd = s.Groups
		}
		out = append(out, head)
		for _, g := range odd {
			for i, l := range wrap(strings.Join(g, ", ")+": "+oddities(s, g[0]), w-6) {
				indent := "  "
				if i > 0 {
					indent = "      "
				}
				out = append(out, indent+l)
			}
		}
	}
	return out
}

func hostsIn(groups [][]string) (n int) {
	for _, g := range groups {
		n += len(g)
	}
	return n
}

// oddities lists where a host differs from most of its siblings.
func oddities(s drift.Siblings, host string) string {
	var parts []string
	for _, d := range s.Differences {
		most, own, read := "", "", false
		for v, hosts := range d.Versions {
			if most == "" || len(hosts) > len(d.Versions[most]) || len(hosts) == len(d.Versions[most]) && v < most {
				most = v
			}
			if slices.Contains(hosts, host) {
				own, read = v, true
			}
		}
		if read && own != most { // what was not read is not taken for absent
			parts = append(parts, estate.Component{Key: d.Component, Device: d.Device}.Title()+" "+orDash(own))
		}
	}
	return strings.Join(parts, ", ")
}
