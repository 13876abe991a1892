package view

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

// hostLayers is the order of layers on a host: what is inside guests comes last, since each has lines of its own.
var hostLayers = []estate.Layer{estate.Platform, estate.Driver, estate.Firmware, estate.Settings, estate.Inside}

// Line is a line about a host: a verdict, or a component that was read and that no clause speaks of.
type Line struct {
	drift.Verdict
	Unbound bool
}

// NoClause is what the lines stand under of which no clause speaks.
const NoClause = "not covered by a baseline"

// Group is what the line stands under: its layer, or NoClause.
func (l *Line) Group() string {
	if l.Unbound {
		return NoClause
	}
	return string(l.Layer())
}

// Calm tells whether there is nothing to do about the line.
func (l *Line) Calm() bool {
	return l.Unbound || l.Outcome == drift.InLine || l.Outcome == drift.NotApplying
}

// Lines are the verdicts on a host, as far as the filter lets them through, what is out of line first within each
// layer; and after them all else that was read.
func (e *Estate) Lines(host string, f narrow.Filter) (out []Line) {
	for _, layer := range hostLayers {
		for _, calm := range []bool{false, true} {
			for _, v := range e.Verdicts[host] {
				l := Line{Verdict: v}
				if v.Layer() == layer && l.Calm() == calm && e.Lets(f, &v) {
					out = append(out, l)
				}
			}
		}
	}
	return append(out, e.unbound(host, f)...)
}

// unbound are the components of a host without a verdict. A filter that asks for a verdict lets none of them through.
func (e *Estate) unbound(host string, f narrow.Filter) (out []Line) {
	r := e.Readings[host]
	if r == nil {
		return nil
	}
	judged := map[string]bool{}
	for _, v := range e.Verdicts[host] {
		judged[v.Title()] = true
	}
	for i := range r.Components {
		c := &r.Components[i]
		if judged[c.Title()] {
			continue
		}
		v := drift.Verdict{
			Host:      host,
			Component: c.Key,
			Device:    c.Device,
			Has:       c.Version,
			Found:     c,
			Model:     c.Model,
			Class:     c.Class,
			Last:      c.Last,
		}
		s := v.Subject(e.Survey.At)
		s.Verdicts, s.Open = nil, false // nobody asks what it comes to
		if f.Empty() || f.Lets(s) {
			out = append(out, Line{v, true})
		}
	}
	return out
}

// Story tells of a line: why its verdict is what it is, or what was read.
func (e *Estate) Story(l *Line) []string {
	if !l.Unbound {
		return e.Why(&l.Verdict)
	}
	r := e.Readings[l.Host]
	s := r.Section(l.Component.Section())
	said := "version " + l.Has
	if l.Layer() == estate.Settings {
		said = "value " + l.Has
	}
	switch {
	case l.Found.Unread != "":
		said = "unread: " + l.Found.Unread
		if l.Last != "" {
			said += "; last known " + l.Last
		}
	case l.Found.Running != "":
		said += ", and " + l.Found.Running + " runs"
	}
	if l.Model != "" {
		said = l.Model + ", " + said
	}
	if at, from := s.Known(); !at.IsZero() {
		said += fmt.Sprintf(", read %s ago from %s", drift.Age(e.Survey.At.Sub(at)), from)
	}
	return []string{said + ". No baseline covers it."}
}

// Stays says what keeps a guest from moving away; "" where nothing is known that does. Its host's cluster says what
// other hosts there are.
func (e *Estate) Stays(host string, g *estate.Guest) string {
	switch {
	case g.State != estate.Running:
		return string(g.State) + ": it is not moved"
	case len(g.Ties(estate.Loosed{})) > 0:
		return strings.Join(g.Ties(estate.Loosed{}), "; ")
	}
	for _, n := range g.Networks {
		if !e.elsewhere(host, n) {
			return "no other host that answers has its network " + n
		}
	}
	return ""
}

// elsewhere tells whether another host of the cluster that can take guests has a network.
func (e *Estate) elsewhere(host, network string) bool {
	for _, h := range e.Hosts(e.ClusterOf(host)) {
		if r := e.Readings[h]; h != host && r != nil && r.Reached() && r.Closed == nil &&
			slices.Contains(r.Offers().Networks, network) {
			return true
		}
	}
	return false
}
