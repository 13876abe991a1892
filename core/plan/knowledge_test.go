package plan

import (
	"fmt"
	"math/rand"
	"slices"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/precheck"
)

// world is a random estate of one cluster, with what it is judged by.
type world struct {
	in   Input
	base []baseline.Baseline
}

func randomWorld(r *rand.Rand) world {
	w := world{in: Input{Now: now, Cluster: estate.Cluster{Name: "c", Reserve: r.Intn(2)}, Readings: map[string]*estate.Reading{}, Verdicts: map[string][]drift.Verdict{},
		Catalogue: &catalogue.Catalogue{}, Times: Times{}, Payloads: func(string, string) string { return "" }}}
	keys := []estate.Key{"deb:k", "deb:s", "fw:n", "drv:d", "set:x", "agent:a"}
	restarts := []catalogue.Restart{catalogue.HostRestart, catalogue.ServiceRestart, catalogue.NoRestart, catalogue.BMCRestart}
	for _, k := range keys[:4] {
		for v := 1; v <= 3; v++ {
			rel := catalogue.Release{Component: k, Version: fmt.Sprint(v), Restart: restarts[r.Intn(4)], File: fmt.Sprint(k, v), SHA256: "5a"}
			if r.Intn(8) == 0 {
				rel.Withdrawn = "it is bad"
			}
			if r.Intn(5) == 0 {
				rel.Requires = []catalogue.Requirement{{Component: keys[r.Intn(4)], AtLeast: "2", Anywhere: r.Intn(2) == 0}}
			}
			w.in.Catalogue.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{rel})
		}
	}
	if r.Intn(2) == 0 {
		w.in.Catalogue.AddPairings([]catalogue.Pairing{{List: "l", Hardware: "M", Blocks: r.Intn(2) == 0, With: []catalogue.Within{{Component: "fw:n", From: "2"}, {Component: "drv:d", From: "1"}}}})
	}
	b := baseline.Baseline{Name: "b", Assign: []string{"c"}}
	for _, k := range keys {
		c := baseline.Clause{Component: k, Posture: baseline.Postures[r.Intn(4)]}
		if c.Posture != baseline.Never {
			if c.Follow = r.Intn(2) == 0 && k.Scheme() != 0; !c.Follow {
				c.Version = fmt.Sprint(1 + r.Intn(3))
			}
		}
		b.Clauses = append(b.Clauses, c)
	}
	w.base = []baseline.Baseline{b}
	if r.Intn(4) == 0 { // somebody disagrees
		w.base = append(w.base, baseline.Baseline{Name: "o", Assign: b.Assign, Clauses: []baseline.Clause{{Component: keys[r.Intn(4)], Posture: baseline.Exactly, Version: "1"}}})
	}
	for h := range 3 + r.Intn(2) {
		name := string(rune('a' + h))
		w.in.Cluster.Hosts = append(w.in.Cluster.Hosts, name)
		x := &estate.Reading{Host: name, BootID: name, Capacity: estate.Resources{MemoryMiB: 100, CPU: 1000}, Networks: []string{"n"}, Release: "Brae", BMC: estate.BMC{Power: "On", Queue: r.Intn(6) / 5},
			Health: []estate.Health{{Item: "fans", OK: r.Intn(5) > 0}}}
		for _, k := range keys[:5] {
			if r.Intn(5) > 0 {
				c := estate.Component{Key: k, Version: fmt.Sprint(1 + r.Intn(3)), Model: map[string]string{"fw": "M", "drv": "M"}[k.Kind()]}
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
			guest := estate.Guest{ID: fmt.Sprint(name, g), Name: fmt.Sprint("g", g), State: []estate.GuestState{estate.Running, estate.Running, estate.Off, estate.Suspended}[r.Intn(4)],
				Load: estate.Resources{MemoryMiB: int64(5 + r.Intn(30)), CPU: 10}, Agent: estate.Inner{Name: "a", Version: "2"}}
			x.Guests = append(x.Guests, guest)
			x.Components = append(x.Components, guest.Components()...)
		}
		if r.Intn(8) == 0 {
			x.Closed = &estate.Mark{By: "somebody"}
		}
		for _, s := range estate.SectionNames {
			x.SetSection(estate.Section{Name: s, At: now})
		}
		x.Sort()
		w.in.Readings[name] = x
	}
	return w
}

// without takes knowledge away from a copy: a section fails, some of it, or it is old. What was last known stays, as a look that fails leaves it.
func (w world) without(r *rand.Rand) world {
	readings := map[string]*estate.Reading{}
	for h, x := range w.in.Readings {
		readings[h] = x
	}
	for range 1 + r.Intn(3) {
		h := w.in.Cluster.Hosts[r.Intn(len(w.in.Cluster.Hosts))]
		s := estate.SectionNames[r.Intn(len(estate.SectionNames))]
		look := &estate.Reading{Host: h}
		switch r.Intn(4) {
		case 0:
			look.SetSection(estate.Section{Name: s, At: now, Err: "no answer"})
		case 1: // half of it
			look.SetSection(estate.Section{Name: s, At: now, Partial: "its other half was not read"})
			if s == estate.GuestList || s == estate.Host || s == estate.HealthItems || s == estate.BMCState {
				continue
			}
		case 2: // the whole host
			for _, s := range estate.SectionNames {
				look.SetSection(estate.Section{Name: s, At: now, Err: "no route"})
			}
		case 3: // never read
			delete(readings, h)
			continue
		}
		if readings[h] != nil {
			readings[h] = look.Over(readings[h])
		}
	}
	w.in.Readings = readings
	w.in.Verdicts = map[string][]drift.Verdict{}
	return w
}

func (w world) judge() (world, Plan) {
	c := &drift.Checker{Catalogue: w.in.Catalogue, Baselines: w.base, Now: now, MaxAge: time.Hour}
	w.in.Verdicts = map[string][]drift.Verdict{}
	for _, h := range w.in.Cluster.Hosts {
		if r := w.in.Readings[h]; r != nil {
			w.in.Verdicts[h] = c.Host("c", r)
		}
	}
	w.in.MaxAge, w.in.Below, w.in.Brief = time.Hour, c.Below, DefaultBrief(w.in.Cluster)
	return w, Make(w.in)
}

// good is how well a verdict speaks of a host: an unread one not at all.
func good(o drift.Outcome) bool { return o == drift.InLine || o == drift.NotApplying }

// Invariant 11: less knowledge never permits more. Take any fact away: no verdict turns in line or "does not apply", no obstacle goes, no precheck clears, no change is made
// that would not have been made, and no host is said to be in line.
func TestLessKnowledgeNeverPermitsMore(t *testing.T) {
	r := rand.New(rand.NewSource(11))
	for n := range 4000 {
		w := randomWorld(r)
		before, planned := w.judge()
		after, less := w.without(r).judge()
		for _, h := range w.in.Cluster.Hosts {
			for _, v := range after.in.Verdicts[h] {
				was := slices.IndexFunc(before.in.Verdicts[h], func(o drift.Verdict) bool { return o.Component == v.Component && o.Device == v.Device })
				if good(v.Outcome) && (was < 0 || !good(before.in.Verdicts[h][was].Outcome)) {
					t.Fatalf("world %d: %s on %s became %s by knowing less", n, v.Title(), h, v.Outcome)
				}
			}
			if inLine(&less, h) && !inLine(&planned, h) {
				t.Fatalf("world %d: %s became in line by knowing less", n, h)
			}
			a, b := visitOf(&planned, h), visitOf(&less, h)
			if b == nil || b.Obstacle != "" {
				continue
			}
			if a == nil {
				t.Fatalf("world %d: %s is visited by knowing less: %+v", n, h, b.Changes)
			}
			if a.Obstacle != "" && b.Empties {
				t.Fatalf("world %d: the obstacle of %s (%s) went by knowing less", n, h, a.Obstacle)
			}
			for _, c := range b.Changes {
				if !slices.ContainsFunc(a.Changes, func(o Change) bool { return o.Component == c.Component && o.Device == c.Device && o.To == c.To }) {
					t.Fatalf("world %d: %s on %s is changed by knowing less", n, c.Says(), h)
				}
			}
			for _, x := range b.Answers {
				i := slices.IndexFunc(a.Answers, func(o precheck.Answer) bool { return o.Check == x.Check })
				if i >= 0 && x.Level == precheck.Clear && a.Answers[i].Level != precheck.Clear && x.Check != "fit" && x.Check != "closed" {
					t.Fatalf("world %d: the precheck %s of %s cleared by knowing less: %q, was %q", n, x.Check, h, x.Evidence, a.Answers[i].Evidence)
				}
			}
		}
		if less.InLine() && !planned.InLine() {
			t.Fatalf("world %d: all is in line by knowing less", n)
		}
	}
}

func inLine(p *Plan, host string) bool {
	i := slices.IndexFunc(p.Aside, func(a Aside) bool { return a.Host == host })
	return i >= 0 && p.Aside[i].InLine
}

func visitOf(p *Plan, host string) *Visit {
	i := slices.IndexFunc(p.Visits, func(v Visit) bool { return v.Host == host })
	if i < 0 {
		return nil
	}
	return &p.Visits[i]
}
