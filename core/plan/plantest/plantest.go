// Package plantest makes random estates, for tests that take knowledge away.
package plantest

import (
	"fmt"
	"maps"
	"math/rand"
	"slices"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
)

// World is a random estate of one cluster, with what it is judged by.
type World struct {
	In   plan.Input
	Base []baseline.Baseline
	// Brief is what is planned.
	Brief plan.Brief
	// Sources are releases by the feeds that carry them, Lists the compatibility lists, and Gone, by feed, why it is not
	// known as it stands.
	Sources map[string][]catalogue.Release
	Lists   []catalogue.Pairing
	Gone    map[string]string
}

// fill makes the catalogue.
func (w *World) fill() {
	w.In.Catalogue = &catalogue.Catalogue{}
	for _, feed := range slices.Sorted(maps.Keys(w.Sources)) {
		w.In.Catalogue.Add(catalogue.Feed{Name: feed}, w.Sources[feed])
		if w.Gone[feed] != "" {
			g := catalogue.Gap{Feed: feed, Why: w.Gone[feed]}
			for _, r := range w.Sources[feed] {
				g.Carried = append(g.Carried, r.Component)
			}
			w.In.Catalogue.AddGap(g)
		}
	}
	w.In.Catalogue.AddPairings(w.Lists)
}

// Now is when all of it was read.
var Now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// Random makes one.
func Random(r *rand.Rand) World {
	w := World{In: plan.Input{Now: Now, Cluster: estate.Cluster{Name: "c", Act: true, Reserve: r.Intn(2)},
		Readings: map[string]*estate.Reading{}, Verdicts: map[string][]drift.Verdict{},
		Times: plan.Times{}, Payloads: func(string, string) error { return nil }},
		Sources: map[string][]catalogue.Release{}}
	keys := []estate.Key{"deb:k", "deb:s", "fw:n", "drv:d", "set:x", "agent:a"}
	restarts := []catalogue.Restart{catalogue.HostRestart, catalogue.ServiceRestart, catalogue.NoRestart,
		catalogue.BMCRestart}
	for _, k := range keys[:4] {
		for v := 1; v <= 3; v++ {
			rel := catalogue.Release{Component: k, Version: fmt.Sprint(v), Restart: restarts[r.Intn(4)],
				File: fmt.Sprint(k, v), SHA256: "5a", Vendor: []string{"Corran", "Lorne", ""}[v%3],
				Date: Now.AddDate(0, 0, -20*v), Severity: catalogue.Severity(v + 1), Feed: k.Kind()}
			if r.Intn(8) == 0 {
				rel.Withdrawn = "it is bad"
			}
			if r.Intn(5) == 0 {
				rel.Requires = []catalogue.Requirement{{Component: keys[r.Intn(4)], AtLeast: "2",
					Anywhere: r.Intn(2) == 0}}
			}
			w.Sources[rel.Feed] = append(w.Sources[rel.Feed], rel)
		}
	}
	if r.Intn(2) == 0 {
		w.Lists = []catalogue.Pairing{{List: "l", Hardware: "M", Blocks: r.Intn(2) == 0,
			With: []catalogue.Within{{Component: "fw:n", From: "2"}, {Component: "drv:d", From: "1"}}}}
	}
	w.fill()
	b := baseline.Baseline{Name: "b", Assign: []string{"c"}}
	for _, k := range keys {
		c := baseline.Clause{Component: k, Posture: baseline.Postures[r.Intn(4)]}
		if c.Posture != baseline.Never {
			if c.Follow = r.Intn(2) == 0 && k.Scheme() != 0; !c.Follow {
				c.Version = fmt.Sprint(1 + r.Intn(3))
			} else if r.Intn(4) == 0 {
				c.MinAge, c.Severity = time.Duration(r.Intn(60))*24*time.Hour, catalogue.Severity(r.Intn(5))
			}
		}
		b.Clauses = append(b.Clauses, c)
	}
	w.Base = []baseline.Baseline{b}
	if r.Intn(4) == 0 { // somebody disagrees
		w.Base = append(w.Base, baseline.Baseline{Name: "o", Assign: b.Assign,
			Clauses: []baseline.Clause{{Component: keys[r.Intn(4)], Posture: baseline.Exactly, Version: "1"}}})
	}
	for h := range 3 + r.Intn(2) {
		name := string(rune('a' + h))
		w.In.Cluster.Hosts = append(w.In.Cluster.Hosts, name)
		x := &estate.Reading{Host: name, BootID: name, Capacity: estate.Resources{MemoryMiB: 100, CPU: 1000},
			Networks: []string{"n"}, Release: "Brae", BMC: estate.BMC{Power: "On", Waiting: make([]estate.BMCTask, r.Intn(6)/5)},
			Health: []estate.Health{{Item: "fans", OK: r.Intn(5) > 0}}}
		for _, k := range keys[:5] {
			if r.Intn(5) > 0 {
				c := estate.Component{Key: k, Version: fmt.Sprint(1 + r.Intn(3)),
					Model: map[string]string{"fw": "M", "drv": "M"}[k.Kind()]}
				if k == "deb:k" && r.Intn(4) == 0 {
					c.Running, c.Restarts = "1", "host"
				}
				if k == "deb:s" && r.Intn(8) == 0 {
					c.State = "half-configured"
				}
				x.Components = append(x.Components, c)
			}
		}
		for g := range r.Intn(3) {
			guest := estate.Guest{ID: fmt.Sprint(name, g), Name: fmt.Sprint("g", g),
				State: []estate.GuestState{estate.Running, estate.Running, estate.Off, estate.Suspended}[r.Intn(4)],
				Load:  estate.Resources{MemoryMiB: int64(5 + r.Intn(45)), CPU: 10},
				Agent: estate.Inner{Name: "a", Version: "2"}}
			x.Guests = append(x.Guests, guest)
			x.Components = append(x.Components, guest.Components()...)
		}
		if r.Intn(8) == 0 {
			x.Closed = &estate.Mark{By: "somebody"}
		}
		x.Condition = condition(r)
		for _, s := range estate.SectionNames {
			x.SetSection(estate.Section{Name: s, At: Now})
		}
		x.Sort()
		w.In.Readings[name] = x
	}
	w.brief(r)
	return w
}

// condition is one in which now and then something is not well.
func condition(r *rand.Rand) estate.Condition {
	c := estate.Condition{Root: "ext4", Volatile: r.Intn(20) == 0,
		Space:  []estate.Space{{Path: "/", FreeMiB: int64(20 + r.Intn(2000)), SizeMiB: 4000}},
		Arrays: []estate.Array{{Name: "md0", Whole: r.Intn(10) > 0}},
		Bonds: []estate.Bond{
			{Name: "b", Links: []estate.Link{{Name: "x", Up: true}, {Name: "y", Up: r.Intn(6) > 0}}}},
		Certificates: []estate.Certificate{{Name: "s", Until: Now.AddDate(0, 0, 400)}}}
	switch r.Intn(12) {
	case 0:
		c.Certificates[0].Until = Now.AddDate(0, 0, r.Intn(30)-10)
	case 1:
		c.Ahead = time.Duration(r.Intn(700)-350) * time.Second
	case 2:
		c.Space = nil
	}
	return c
}

// brief makes the settings, and rules about guests. Guests of two hosts may have one name.
func (w *World) brief(r *rand.Rand) {
	if r.Intn(3) == 0 {
		w.In.Cluster.Rules = []estate.Rule{{Keep: []estate.Keep{estate.Apart, estate.KeptOut}[r.Intn(2)],
			Guests: []string{"g0"}}}
		if w.In.Cluster.Rules[0].Keep == estate.KeptOut {
			w.In.Cluster.Rules[0].Hosts = []string{"b"}
		}
	}
	w.Brief = plan.DefaultBrief(w.In.Cluster)
	w.Brief.Out += r.Intn(2)
	if r.Intn(2) == 0 {
		w.Brief.Order = plan.LightestFirst
	}
	if r.Intn(3) == 0 {
		w.Brief.Guests = []plan.Policy{{Guests: []string{[]string{"*", "g0"}[r.Intn(2)]},
			Do: []plan.Do{plan.DoSuspend, plan.DoSuspend, plan.DoSuspend, plan.DoCold, plan.DoCold}[r.Intn(5)]}}
	}
	if r.Intn(6) == 0 {
		w.Brief.Rehearse = time.Hour
	}
	switch r.Intn(6) {
	case 0:
		w.Brief.Home = true
	case 1:
		w.Brief.Trial = w.In.Cluster.Hosts[r.Intn(len(w.In.Cluster.Hosts))]
	}
}

// Without takes knowledge away from a copy: a section fails, or some of it, a device names no version, a host was never
// read. What was last known stays, as a look that fails leaves it.
func (w World) Without(r *rand.Rand) World {
	readings := map[string]*estate.Reading{}
	for h, x := range w.In.Readings {
		readings[h] = x
	}
	for range 1 + r.Intn(3) {
		h := w.In.Cluster.Hosts[r.Intn(len(w.In.Cluster.Hosts))]
		s := estate.SectionNames[r.Intn(len(estate.SectionNames))]
		look := &estate.Reading{Host: h}
		switch r.Intn(6) {
		case 5: // its guests were never read
			if x := readings[h]; x != nil {
				y := *x
				y.Sections, y.Guests = slices.Clone(x.Sections), nil
				y.Components = slices.DeleteFunc(slices.Clone(x.Components), func(c estate.Component) bool {
					return c.Key.Section() == estate.GuestList
				})
				y.SetSection(estate.Section{Name: estate.GuestList, Err: "libvirt is stopped"})
				readings[h] = &y
			}
			continue
		case 4: // a device names no version
			look = unnamed(r, readings[h])
		case 0:
			look.SetSection(estate.Section{Name: s, At: Now, Err: "no answer"})
		case 1: // half of it
			look.SetSection(estate.Section{Name: s, At: Now, Partial: "its other half was not read"})
			if s == estate.GuestList || s == estate.Host || s == estate.HealthItems || s == estate.BMCState {
				continue
			}
		case 2: // the whole host
			for _, s := range estate.SectionNames {
				look.SetSection(estate.Section{Name: s, At: Now, Err: "no route"})
			}
		case 3: // never read
			delete(readings, h)
			continue
		}
		if readings[h] != nil {
			readings[h] = look.Over(readings[h])
		}
	}
	w.In.Readings = readings
	w.In.Verdicts = map[string][]drift.Verdict{}
	return w
}

// unnamed is a look at the firmware or drivers of a host at which one of them names no version.
func unnamed(r *rand.Rand, of *estate.Reading) *estate.Reading {
	out := &estate.Reading{}
	if of == nil {
		return out
	}
	out.Host = of.Host
	s := []estate.SectionName{estate.FirmwareItems, estate.Drivers}[r.Intn(2)]
	if of.Section(s).Err != "" {
		return out
	}
	section := estate.Section{Name: s, At: Now}
	for _, c := range of.Components {
		if c.Key.Section() == s {
			c.Last, c.Version, c.Unread = c.Version, "", "the device names none"
			section.Partial = "a device names no version"
			out.Components = append(out.Components, c)
		}
	}
	out.SetSection(section)
	return out
}

// Unsourced lets a feed of a copy be too old, or another one contradict it about a file.
func (w World) Unsourced(r *rand.Rand) World {
	feeds := slices.Sorted(maps.Keys(w.Sources))
	if r.Intn(2) == 0 {
		w.Sources = maps.Clone(w.Sources)
		other := slices.Clone(w.Sources[feeds[r.Intn(len(feeds))]])
		for i := range other {
			other[i].Feed, other[i].SHA256, other[i].Withdrawn = "z", "5b", ""
		}
		w.Sources["z"] = other
		w.fill()
		return w
	}
	w.Gone = maps.Clone(w.Gone)
	if w.Gone == nil {
		w.Gone = map[string]string{}
	}
	w.Gone[feeds[r.Intn(len(feeds))]] = "is too old"
	w.fill()
	return w
}

// Checker is what gives the verdicts.
func (w World) Checker() *drift.Checker {
	return &drift.Checker{Catalogue: w.In.Catalogue, Baselines: w.Base, Now: Now, MaxAge: time.Hour}
}

// Judge gives the verdicts, and plans a round.
func (w World) Judge() (World, plan.Plan) {
	c := w.Checker()
	w.In.Verdicts = map[string][]drift.Verdict{}
	for _, h := range w.In.Cluster.Hosts {
		if r := w.In.Readings[h]; r != nil {
			w.In.Verdicts[h] = c.Host("c", r)
		}
	}
	w.In.MaxAge, w.In.Below, w.In.Brief = time.Hour, c.Below, w.Brief
	return w, plan.Make(w.In)
}
