package drift

import (
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// Difference is a component in which siblings are not alike.
type Difference struct {
	Component estate.Key
	Device    string
	Versions  map[string][]string // version, or "" for absent → hosts
}

// Siblings are hosts meant to be alike, and how far they are.
type Siblings struct {
	Model       string       // their hardware
	Groups      [][]string   // hosts with the same fingerprint, the largest group first
	Differences []Difference // by component, then device
	Unread      []string     // hosts of which too little is known to compare them
}

// CompareSiblings groups a cluster's hosts by hardware model and says in what the hosts of each model differ. A
// component whose section was not read on a host is not compared there; a host where no section was read is unread.
func CompareSiblings(readings []*estate.Reading) []Siblings {
	byModel := map[string][]*estate.Reading{}
	for _, r := range readings {
		byModel[r.Hardware.Model] = append(byModel[r.Hardware.Model], r)
	}
	var out []Siblings
	for model, rs := range byModel {
		out = append(out, compareAlike(model, rs))
	}
	slices.SortFunc(out, func(a, b Siblings) int { return strings.Compare(a.Model, b.Model) })
	return out
}

type place struct {
	key    estate.Key
	device string
}

func compareAlike(model string, rs []*estate.Reading) Siblings {
	s := Siblings{Model: model}
	versions := map[place]map[string][]string{}
	var known []*estate.Reading
	for _, r := range rs {
		if !r.Reached() {
			s.Unread = append(s.Unread, r.Host)
			continue
		}
		known = append(known, r)
		for _, c := range r.Components {
			// guests come and go; what is inside them makes hosts no less alike
			if c.Key.Layer() == estate.Inside || !c.Known() || !r.Read(c.Key.Section()) {
				continue
			}
			p := place{c.Key, c.Device}
			if versions[p] == nil {
				versions[p] = map[string][]string{}
			}
			versions[p][c.Version] = append(versions[p][c.Version], r.Host)
		}
	}
	print := map[string]*strings.Builder{}
	for _, r := range known {
		print[r.Host] = &strings.Builder{}
	}
	places := make([]place, 0, len(versions))
	for p := range versions {
		places = append(places, p)
	}
	slices.SortFunc(places, func(a, b place) int {
		if c := strings.Compare(string(a.key), string(b.key)); c != 0 {
			return c
		}
		return strings.Compare(a.device, b.device)
	})
	for _, p := range places {
		noteAbsent(p, versions[p], known)
		if len(versions[p]) < 2 {
			continue
		}
		s.Differences = append(s.Differences, Difference{p.key, p.device, versions[p]})
		for v, hosts := range versions[p] {
			for _, h := range hosts {
				print[h].WriteString(string(p.key) + "\x00" + p.device + "\x00" + v + "\x00")
			}
		}
	}
	s.Groups = groupByPrint(known, print)
	return s
}

// noteAbsent adds the hosts that were read and lack the component.
func noteAbsent(p place, versions map[string][]string, known []*estate.Reading) {
	for _, r := range known {
		if _, has := r.Component(p.key, p.device); !has && r.Section(p.key.Section()).Whole() {
			versions[""] = append(versions[""], r.Host)
		}
	}
}

func groupByPrint(known []*estate.Reading, print map[string]*strings.Builder) [][]string {
	groups := map[string][]string{}
	for _, r := range known {
		fp := print[r.Host].String()
		groups[fp] = append(groups[fp], r.Host)
	}
	var out [][]string
	for _, g := range groups {
		out = append(out, g)
	}
	slices.SortFunc(out, func(a, b []string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a[0], b[0])
	})
	return out
}
