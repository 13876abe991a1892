package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"
)

// step moves the cursor by rows or columns.
func (m *Model) step(dx, dy int) {
	if m.snap == nil {
		return
	}
	p := m.here()
	switch p.screen {
	case waterlineScreen:
		m.stepWaterline(dx, dy)
	case hostScreen:
		p.row = clamp(p.row+dy, len(m.hostRows(p.host)))
		m.stepHost(dx)
	case driftScreen:
		rows, hosts := m.matrix(p.cluster)
		p.row = clamp(p.row+dy, len(rows))
		if len(hosts) > 0 {
			p.host = hosts[clamp(max(0, slices.Index(hosts, p.host))+dx, len(hosts))]
		}
	case roundScreen:
		m.stepRound(dx, dy)
	case catalogueScreen:
		if p.pane == 1 {
			p.row = clamp(p.row+dy, len(m.shelfRows()))
		} else {
			p.row = clamp(p.row+dy, len(m.components()))
		}
	case bundleScreen, compareScreen:
		p.row += dy // the painting knows how many there are
	case baselineScreen:
		if p.pane == 1 {
			p.row = clamp(p.row+dy, len(m.kept.list))
		}
	}
}

func clamp(i, n int) int { return max(0, min(i, n-1)) }

func (m *Model) stepWaterline(dx, dy int) {
	p := m.here()
	if p.needs {
		p.row = clamp(p.row+dy, len(m.needs()))
		if dx < 0 {
			p.needs = false
		}
		return
	}
	bands := m.bands()
	if len(bands) == 0 {
		return
	}
	at := m.selectedBand(bands)
	col := 0
	for i, h := range bands[at].Berths {
		if h.Host == p.host {
			col = i
		}
	}
	at = clamp(at+dy, len(bands))
	col = clamp(col+dx, len(bands[at].Berths))
	p.cluster, p.host = bands[at].Cluster.Name, bands[at].Berths[col].Host
}

// stepHost goes to a neighbour in the cluster, and stays on the same line where it can.
func (m *Model) stepHost(dx int) {
	p := m.here()
	if b := m.band(p.cluster); b != nil && dx != 0 {
		p.host = b.Cluster.Hosts[clamp(max(0, slices.Index(b.Cluster.Hosts, p.host))+dx, len(b.Cluster.Hosts))]
	}
}

func (m *Model) enter() tea.Cmd {
	if m.snap == nil {
		return nil
	}
	if bands := m.bands(); m.here().screen == waterlineScreen && len(bands) > 0 {
		m.selectedBand(bands)
	}
	p := *m.here()
	switch p.screen {
	case waterlineScreen:
		if p.needs {
			if needs := m.needs(); len(needs) > 0 {
				return m.heard(m.needPlace(needs[clamp(p.row, len(needs))]))
			}
			return nil
		}
		if p.host != "" {
			m.goTo(place{screen: hostScreen, cluster: p.cluster, host: p.host})
		}
	case driftScreen:
		m.enterCell()
	case baselineScreen:
		return m.editHere()
	case roundScreen:
		if p.host != "" {
			m.goTo(place{screen: hostScreen, cluster: p.cluster, host: p.host})
		}
	}
	return nil
}

// enterCell goes to the host, with the cursor on the component.
func (m *Model) enterCell() {
	p := *m.here()
	rows, _ := m.matrix(p.cluster)
	if p.host == "" || len(rows) == 0 {
		return
	}
	r := rows[clamp(p.row, len(rows))]
	m.goTo(place{screen: hostScreen, cluster: p.cluster, host: p.host})
	for i, v := range m.hostRows(p.host) {
		if v.Component == r.component && v.Device == r.device {
			m.here().row = i
		}
	}
}

func (m *Model) toNeeds() tea.Cmd {
	p := m.here()
	p.needs, p.row = !p.needs, 0
	return nil
}

// cluster is the one that commands about a cluster mean.
func (m *Model) cluster() string {
	if c := m.here().cluster; c != "" {
		return c
	}
	if m.snap != nil && len(m.snap.Survey.Bands) > 0 {
		return m.snap.Survey.Bands[0].Cluster.Name
	}
	return ""
}

func (m *Model) toDrift() {
	if c := m.cluster(); c != "" && m.here().screen != driftScreen {
		m.goTo(place{screen: driftScreen, cluster: c, host: m.here().host})
	}
}

func (m *Model) toRound() tea.Cmd {
	c := m.cluster()
	if c == "" || m.here().screen == roundScreen {
		return nil
	}
	m.goTo(place{screen: roundScreen, cluster: c})
	return m.wantPlan(c)
}
