package view

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

// Row is a component in which something disagrees, with the verdict of each host; hosts without one are not in it.
type Row struct {
	Component estate.Key
	Device    string
	ByHost    map[string]drift.Verdict
}

// Title names the row.
func (r *Row) Title() string { return estate.Component{Key: r.Component, Device: r.Device}.Title() }

// Severity is the worst of what is out of line in the row.
func (r *Row) Severity() (worst catalogue.Severity) {
	for _, v := range r.ByHost {
		if v.Outcome.Drifts() {
			worst = max(worst, v.Severity())
		}
	}
	return worst
}

// Drift counts the hosts that are out of line in it.
func (r *Row) Drift() (n int) {
	for _, v := range r.ByHost {
		if v.Outcome.Drifts() {
			n++
		}
	}
	return n
}

// disagrees tells whether anything in the row is not in line.
func (r *Row) disagrees() bool {
	for _, v := range r.ByHost {
		if v.Outcome != drift.InLine && v.Outcome != drift.NotApplying {
			return true
		}
	}
	return false
}

// Bare is what is known of a component on a host without a verdict about it.
type Bare struct {
	Has    string // what is there, and no baseline covers; "" where nothing is
	Unread string // why it can't be told whether anything is there; "" where it can
}

// Says puts it in words, behind the host's name.
func (b Bare) Says() string {
	switch {
	case b.Unread != "":
		return "not known: " + b.Unread
	case b.Has != "":
		return "has " + b.Has + ", and no baseline covers it there"
	}
	return "does not have it, and nothing is wanted of it there"
}

// Bare tells of a host that is not in a row what is known of it all the same: that nothing was judged does not mean
// that nothing is there.
func (e *Estate) Bare(host string, row *Row) Bare {
	r := e.Readings[host]
	if r == nil {
		return Bare{Unread: "it was never read"}
	}
	section := row.Component.Section()
	var age time.Duration
	if e.Checker != nil {
		age = e.Checker.MaxAge
	}
	if why := r.Unread(section, e.At(), age); why != "" {
		return Bare{Unread: fmt.Sprintf("its section %q is unread: %s", section, why)}
	}
	for i := range r.Components {
		if c := &r.Components[i]; c.Key == row.Component && c.Device == row.Device {
			if c.Version == "" {
				return Bare{Unread: cmp.Or(c.Unread, "its version was not told")}
			}
			return Bare{Has: c.Version}
		}
	}
	return Bare{}
}

// Matrix is components × hosts of a cluster, only what disagrees.
type Matrix struct {
	Rows  []Row
	Hosts []string
	// Where there are no rows: how many verdicts are in line, and how many that are not the filter keeps back.
	InLine, Hidden, Judged int
	Unjudged               []string // hosts about which there is no verdict at all
}

// Matrix makes the matrix of a cluster, of what the filter lets through.
func (e *Estate) Matrix(cluster string, f narrow.Filter) (m Matrix) {
	b := e.Band(cluster)
	if b == nil {
		return m
	}
	type place struct {
		key    estate.Key
		device string
	}
	at := map[place]int{}
	var all []Row
	row := func(p place) *Row {
		if _, ok := at[p]; !ok {
			at[p] = len(all)
			all = append(all, Row{p.key, p.device, map[string]drift.Verdict{}})
		}
		return &all[at[p]]
	}
	var unread []drift.Verdict
	m.Hosts = f.Hosts(b.Cluster.Hosts)
	for _, h := range m.Hosts {
		for _, v := range e.Verdicts[h] {
			if v.Outcome.Open() {
				unread = append(unread, v)
			} else {
				row(place{v.Component, v.Device}).ByHost[h] = v
			}
		}
	}
	// which devices an unread host has is not known: the component is unread in every row about it
	for _, v := range unread {
		found := false
		for i := range all {
			if all[i].Component == v.Component {
				all[i].ByHost[v.Host], found = v, true
			}
		}
		if !found {
			row(place{v.Component, v.Device}).ByHost[v.Host] = v
		}
	}
	for _, r := range all {
		if r.disagrees() && e.letsRow(f, &r) {
			m.Rows = append(m.Rows, r)
		}
	}
	slices.SortStableFunc(m.Rows, func(a, b Row) int {
		la, lb := slices.Index(estate.Layers, a.Component.Layer()), slices.Index(estate.Layers, b.Component.Layer())
		if la != lb {
			return la - lb
		}
		return strings.Compare(a.Title(), b.Title())
	})
	e.count(b.Cluster.Hosts, &m)
	return m
}

func (e *Estate) letsRow(f narrow.Filter, r *Row) bool {
	if f.Empty() {
		return true
	}
	for _, v := range r.ByHost {
		if e.Lets(f, &v) {
			return true
		}
	}
	return false
}

// count says what an empty matrix is empty of.
func (e *Estate) count(hosts []string, m *Matrix) {
	if len(m.Rows) > 0 {
		return
	}
	for _, h := range hosts {
		m.Judged += len(e.Verdicts[h])
		if len(e.Verdicts[h]) == 0 {
			m.Unjudged = append(m.Unjudged, h)
		}
		for _, v := range e.Verdicts[h] {
			switch v.Outcome {
			case drift.InLine:
				m.InLine++
			case drift.NotApplying:
			default:
				m.Hidden++
			}
		}
	}
}

// Odd is a group of siblings, and in what they differ from most.
type Odd struct {
	Hosts  []string
	Differ []string // each a component with what it is at there
}

// Kin is the hosts of one hardware model.
type Kin struct {
	Model string
	Hosts int
	Alike int // in the largest group; 1 where no two are alike
	Odd   []Odd
}

// Kin tells how siblings of a cluster differ, model by model.
func (e *Estate) Kin(cluster string) (out []Kin) {
	for _, s := range e.Siblings[cluster] {
		if len(s.Groups) == 0 {
			continue
		}
		k := Kin{Model: s.Model, Alike: len(s.Groups[0])}
		odd := s.Groups[1:]
		if k.Alike == 1 && len(s.Groups) > 1 {
			odd = s.Groups // each is held against what most have of each thing
		}
		for _, g := range s.Groups {
			k.Hosts += len(g)
		}
		for _, g := range odd {
			k.Odd = append(k.Odd, Odd{g, oddities(s, g[0])})
		}
		out = append(out, k)
	}
	return out
}

// oddities lists where a host differs from most of its siblings. What was not read is not taken for absent.
func oddities(s drift.Siblings, host string) (out []string) {
	for _, d := range s.Differences {
		most, own, read := "", "", false // "" is a version too: it is absent
		for i, v := range slices.Sorted(maps.Keys(d.Versions)) {
			if i == 0 || len(d.Versions[v]) > len(d.Versions[most]) {
				most = v
			}
			if slices.Contains(d.Versions[v], host) {
				own, read = v, true
			}
		}
		if read && own != most {
			out = append(out, estate.Component{Key: d.Component, Device: d.Device}.Title()+" "+OrDash(own))
		}
	}
	return out
}
