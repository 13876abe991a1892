package tui

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
)

// versionsOf are the versions of the baseline that is looked at.
type versionsOf struct {
	name   string
	newest int
	list   []Version
}

func (m *Model) toBaselines() tea.Cmd {
	if m.here().screen != baselineScreen {
		m.goTo(place{screen: baselineScreen, cluster: ""})
	}
	return m.wantVersions()
}

// chosenBaseline is the one under the cursor; the zero value where there is none. A place that names one means that.
func (m *Model) chosenBaseline() Baseline {
	all := m.baselines()
	if len(all) == 0 {
		return Baseline{}
	}
	p := m.here()
	if p.subject != "" {
		if i := slices.IndexFunc(all, func(b Baseline) bool { return b.Name == p.subject }); i >= 0 {
			return all[i]
		}
	}
	return all[0]
}

// stepBaseline moves among the baselines.
func (m *Model) stepBaseline(dy int) tea.Cmd {
	all := m.baselines()
	if len(all) == 0 {
		return nil
	}
	p := m.here()
	at := slices.IndexFunc(all, func(b Baseline) bool { return b.Name == m.chosenBaseline().Name })
	p.subject = all[clamp(at+dy, len(all))].Name
	p.scroll = 0
	return m.wantVersions()
}

// wantVersions has the versions of the baseline under the cursor told, where newer ones are there.
func (m *Model) wantVersions() tea.Cmd {
	b := m.chosenBaseline()
	if m.here().screen != baselineScreen || b.Name == "" || m.kept.name == b.Name && m.kept.newest == b.Version {
		return nil
	}
	return func() tea.Msg {
		list, err := m.backend.Versions(m.ctx, b.Name)
		if err != nil {
			return saidMsg{"the versions of " + b.Name + ": " + err.Error()}
		}
		return versionsOf{b.Name, b.Version, list}
	}
}

// standing is how the hosts stand to a clause.
type standing struct {
	inLine, drift, unread, aside int
	hosts                        []string // out of line
}

// standings counts verdicts by the clause that made them: by its line in its baseline's file.
func (m *Model) standings(b Baseline) map[int]*standing {
	out := map[int]*standing{}
	for _, vs := range m.snap.Verdicts {
		for i := range vs {
			v := &vs[i]
			if v.Clause == nil || v.Clause.Baseline != b.Name {
				continue
			}
			s := out[v.Clause.Line]
			if s == nil {
				s = &standing{}
				out[v.Clause.Line] = s
			}
			switch {
			case v.Outcome == drift.InLine:
				s.inLine++
			case v.Outcome == drift.Unread:
				s.unread++
			case v.Outcome.Drifts():
				s.drift++
				if !slices.Contains(s.hosts, v.Host) {
					s.hosts = append(s.hosts, v.Host)
				}
			default:
				s.aside++
			}
		}
	}
	for _, s := range out {
		slices.Sort(s.hosts)
	}
	return out
}

// postureSigns tell postures by shape; the word stands beside them.
var postureSigns = map[baseline.Posture]string{baseline.AtLeast: "≥", baseline.Exactly: "=", baseline.IfPresent: "⊇", baseline.Never: "∅"}

// paintBaselines paints the baselines, the clauses of the chosen one, and its versions.
func (m *Model) paintBaselines(c *canvas, a area) {
	all := m.baselines()
	if len(all) == 0 {
		c.put(a.x+2, a.y+1, strong|bold, "There is no baseline yet: nothing is wanted of any host.")
		c.put(a.x+2, a.y+3, plain, "D makes one of a known good host; or name files in the estate file, as docs/baselines.md tells.")
		return
	}
	chosen := m.chosenBaseline()
	left := 28
	if a.w < 100 {
		left = 20
	}
	m.paintBaselineNames(c, all, chosen, area{a.x, a.y, left, a.h})
	versions := min(len(m.kept.list)+2, max(4, a.h/4))
	if m.here().pane == 1 {
		versions = max(versions, a.h/2)
	}
	m.paintClauses(c, chosen, area{a.x + left + 1, a.y, a.w - left - 1, a.h - versions - 1})
	m.paintVersions(c, area{a.x + left + 1, a.y + a.h - versions, a.w - left - 1, versions})
}

func (m *Model) paintBaselineNames(c *canvas, all []Baseline, chosen Baseline, a area) {
	c.put(a.x+2, a.y, water|bold, "baselines, by rank")
	for i, b := range all {
		y := a.y + 1 + 2*i
		if y+1 >= a.y+a.h {
			break
		}
		c.within(a.x+2, y, a.w-2, subject, b.Name)
		who := strings.Join(b.Assign, ", ")
		if who == "" {
			who = "binds nobody"
		}
		c.within(a.x+4, y+1, a.w-4, quiet, fmt.Sprintf("%d · %s", b.Rank, who))
		if b.Name == chosen.Name {
			c.shade(a.x, y, a.w, selected)
			if m.here().pane == 0 {
				c.put(a.x, y, strong|bold|selected, "▸")
			}
		}
		c.press(a.x, y, a.w, 2, goMsg{screen: baselineScreen, subject: b.Name})
	}
}

func (m *Model) paintClauses(c *canvas, b Baseline, a area) {
	x := c.put(a.x+1, a.y, strong|bold, b.Name)
	c.within(x+2, a.y, a.x+a.w-x-2, quiet, fmt.Sprintf("rank %d, version %d, %s  %s", b.Rank, b.Version, tailOf(b.File, 40), "Enter edits"))
	name := max(20, a.w/4)
	says := max(18, a.w*2/5)
	c.put(a.x+1, a.y+1, water|bold, "  component")
	c.put(a.x+1+name+2, a.y+1, water|bold, "should be")
	c.put(a.x+1+name+2+says, a.y+1, water|bold, "hosts and devices")
	standings := m.standings(b)
	y, skipped := a.y+2, 0
	for _, cl := range b.Clauses {
		s := standings[cl.Line]
		if s == nil {
			s = &standing{}
		}
		if !m.letsClause(cl, s) {
			skipped++
			continue
		}
		if y >= a.y+a.h {
			c.right(a.x+a.w-1, a.y+a.h-1, 20, quiet, "more; Enter shows all")
			break
		}
		c.put(a.x+1, y, limits, postureSigns[cl.Posture])
		title := string(cl.Component)
		if cl.Hardware != "" {
			title += " on " + cl.Hardware
		}
		c.within(a.x+3, y, name-1, subject, title)
		c.within(a.x+1+name+2, y, says-1, plain, strings.TrimSuffix(cl.Says(), ", on a "+cl.Hardware))
		m.paintStanding(c, s, area{a.x + 1 + name + 2 + says, y, a.w - name - says - 4, 1})
		y++
		for _, part := range m.snap.Checker.Parts(cl) {
			if y < a.y+a.h {
				c.within(a.x+5, y, name-3, quiet, string(part.Component))
				c.within(a.x+1+name+2, y, says-1, quiet, part.Says())
				y++
			}
		}
	}
	for _, e := range b.Exceptions {
		if y >= a.y+a.h {
			break
		}
		c.put(a.x+1, y, quiet, "~")
		c.within(a.x+3, y, a.w-4, quiet, fmt.Sprintf("%s is excepted on %s until %s by %s: %s", e.Component, strings.Join(e.Hosts, ", "), e.Until.AddDate(0, 0, -1).Format("2 Jan"), e.By, e.Reason))
		y++
	}
	for _, d := range m.disputes(b) {
		for _, l := range wrap("≠ "+d, a.w-2) {
			if y < a.y+a.h {
				c.within(a.x+1, y, a.w-2, caution|bold, l)
				y++
			}
		}
	}
	if skipped > 0 && y < a.y+a.h {
		c.put(a.x+3, y, quiet, fmt.Sprintf("the filter keeps back %s", catalogue.Some(skipped, "clause")))
		y++
	}
	m.paintOutOfLine(c, b, area{a.x, y + 1, a.w, a.y + a.h - y - 1})
}

// paintOutOfLine lists who is out of line by the baseline, and in what.
func (m *Model) paintOutOfLine(c *canvas, b Baseline, a area) {
	if a.h < 3 {
		return
	}
	y := a.y + 1
	c.put(a.x+1, a.y, water|bold, "out of line by it")
	rest := 0
	for _, band := range m.snap.Survey.Bands {
		for _, host := range band.Cluster.Hosts {
			for i := range m.snap.Verdicts[host] {
				v := &m.snap.Verdicts[host][i]
				if v.Clause.Baseline != b.Name || !v.Outcome.Drifts() || !m.lets(v) {
					continue
				}
				if y >= a.y+a.h-1 {
					rest++
					continue
				}
				sg := signs[v.Outcome]
				c.put(a.x+1, y, sg.role, sg.glyph)
				c.within(a.x+3, y, 14, subject, host)
				c.within(a.x+18, y, a.w*2/5-2, plain, v.Title())
				c.within(a.x+18+a.w*2/5, y, a.w-19-a.w*2/5, plain, fmt.Sprintf("%s: has %s, wants %s", v.Outcome, orDash(v.Has), orDash(v.Wants)))
				c.press(a.x, y, a.w, 1, goMsg{screen: hostScreen, cluster: band.Cluster.Name, host: host})
				y++
			}
		}
	}
	if y == a.y+1 {
		c.put(a.x+3, y, good, "nothing")
	} else if rest > 0 {
		c.put(a.x+3, y, quiet, fmt.Sprintf("and %d more; Drift (d) shows them by component", rest))
	}
}

// disputes says where the baseline and another of its rank want different things: until one gives way nothing is planned there.
func (m *Model) disputes(b Baseline) (out []string) {
	for _, vs := range m.snap.Verdicts {
		for i := range vs {
			v := &vs[i]
			if v.Outcome != drift.Disputed {
				continue
			}
			mine := v.Clause.Baseline == b.Name
			for _, against := range v.Clause.Against {
				if mine || strings.HasPrefix(against, b.Name+" ") {
					s := fmt.Sprintf("%s on %s: %s wants %s, %s, at the same rank; give one the lower rank, or take one clause away", v.Title(), v.Host, v.Clause.Baseline, v.Clause.Says(), against)
					if !slices.Contains(out, s) {
						out = append(out, s)
					}
				}
			}
		}
	}
	slices.Sort(out)
	return out
}

// letsClause tells whether the filter lets a clause through: by what it is about, and by the hosts that are out of line by it.
func (m *Model) letsClause(cl baseline.Clause, s *standing) bool {
	subject := cl.Subject()
	subject.Hosts = s.hosts
	return m.narrow.Empty() || m.narrow.Lets(subject)
}

func (m *Model) paintStanding(c *canvas, s *standing, a area) {
	x := a.x
	if s.drift > 0 {
		x = c.put(x, a.y, caution|bold, fmt.Sprintf("▾ %d out of line", s.drift)) + 2
	}
	if s.unread > 0 {
		x = c.put(x, a.y, alarm, fmt.Sprintf("? %d", s.unread)) + 2
	}
	x = c.within(x, a.y, a.x+a.w-x, good, fmt.Sprintf("· %d in line", s.inLine)) + 2
	if s.aside > 0 {
		x = c.within(x, a.y, a.x+a.w-x, quiet, fmt.Sprintf("%d aside", s.aside)) + 2
	}
	if len(s.hosts) > 0 && x < a.x+a.w-8 {
		c.within(x, a.y, a.x+a.w-x, quiet, strings.Join(s.hosts, ", "))
	}
}

func (m *Model) paintVersions(c *canvas, a area) {
	p := m.here()
	st := water | bold
	if p.pane == 1 {
		st |= underline
	}
	c.put(a.x+1, a.y, st, "versions")
	y := a.y + 1
	row := 0
	if p.pane == 1 {
		row = clamp(p.row, len(m.kept.list))
	}
	for i := max(0, min(row-2, len(m.kept.list)-1)); i < len(m.kept.list) && y < a.y+a.h; i++ {
		v := m.kept.list[i]
		c.within(a.x+3, y, a.w-4, plain, fmt.Sprintf("%d  %s  %s: %s", v.N, v.At.Local().Format("2 Jan 2006 15:04"), v.By, v.Why))
		if p.pane == 1 && i == row {
			c.shade(a.x, y, a.w, selected)
			c.put(a.x, y, strong|bold|selected, "▸")
		}
		y++
		if p.pane == 1 && i == row {
			for _, ch := range v.Changes {
				if y < a.y+a.h {
					c.within(a.x+6, y, a.w-7, quiet, ch.String())
					y++
				}
			}
		}
	}
}

// revert asks whether the baseline is to say again what a version said, and tells what that would change.
func (m *Model) revert() tea.Cmd {
	b, v := m.chosenBaseline(), m.chosenVersion()
	if v.N == 0 {
		m.say("Tab goes to the versions; u goes back to the one under the cursor")
		return nil
	}
	if v.N == b.Version {
		m.say("that is what it says now")
		return nil
	}
	return m.openEditor(b.Name, v.Text, b.Version, fmt.Sprintf("back to version %d", v.N))
}

// chosenVersion is the version under the cursor, and the zero value where there is none.
func (m *Model) chosenVersion() Version {
	p := m.here()
	if p.pane != 1 || len(m.kept.list) == 0 {
		return Version{}
	}
	return m.kept.list[clamp(p.row, len(m.kept.list))]
}

func (m *Model) askVersion() tea.Cmd {
	if m.chosenVersion().N == 0 {
		m.say("Tab goes to the versions; = compares the one under the cursor")
		return nil
	}
	return m.begin(versioning, strconv.Itoa(m.chosenBaseline().Version))
}

func (m *Model) compareVersions(text string) tea.Cmd {
	name, from := m.chosenBaseline().Name, m.chosenVersion().N
	to, err := strconv.Atoi(text)
	if err != nil || from == 0 {
		m.say(text + " is no version")
		return nil
	}
	return func() tea.Msg {
		changes, err := m.backend.CompareVersions(m.ctx, name, from, to)
		if err != nil {
			return jobEnded{err: err}
		}
		s := sheet{title: fmt.Sprintf("%s, version %d to %d", name, from, to)}
		for _, ch := range changes {
			s.lines = append(s.lines, ch.String())
		}
		if len(s.lines) == 0 {
			s.lines = []string{"they want the same"}
		}
		return s
	}
}

func (m *Model) askRemoveBaseline() tea.Cmd {
	b := m.chosenBaseline()
	if b.Name == "" {
		return nil
	}
	m.ask = &question{text: []string{"Take the baseline " + b.Name + " away?", "Its clauses bind nobody from then on. Its versions stay on record; one that the estate file names is the estate file's to remove."},
		yes: m.doAndLoad(func() (string, error) { return b.Name + " binds nobody any more", m.backend.Remove(m.ctx, b.Name) })}
	return nil
}

// errNoBaseline is what editing gives where there is none.
var errNoBaseline = errors.New("there is no baseline to edit")
