package plan

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// A scenario has a host a line: "name guests… | component=version…", guests in GiB, on hosts of 100 GiB. Releases
// follow, "component version restart [needs component version] [withdrawn]"; every component is wanted at its newest.
// The plan expected is written as its Outline.
var scenarios = []struct{ name, hosts, releases, want string }{
	{"nothing to do", `
		a 10 | deb:k=2`, `
		deb:k 2 host`, `
		in line a`},
	{"lightest first; what needs no empty host before all", `
		a 30 | deb:k=1
		b 10 | deb:k=1
		c 20 | deb:k=2 deb:s=1`, `
		deb:k 2 host
		deb:s 2 service`, `
		c: deb:s 1 → 2
		b: drain 10, deb:k 1 → 2, restart
		a: drain 30, deb:k 1 → 2, restart`},
	{"an older release is never gone back to", `
		a 10 | fw:x=3
		b 10 | fw:x=2`, `
		fw:x 3 host withdrawn
		fw:x 2 host`, `
		in line b
		not in line, and left a`},
	{"a withdrawn release is left for the one that stands", `
		a 0 | fw:x=2`, `
		fw:x 2 host withdrawn
		fw:x 3 host`, `
		a: drain 0, fw:x 2 → 3, restart`},
	{"what needs a version that runs only after the restart comes in a second pass", `
		a 0 | drv:d=1 fw:x=1`, `
		drv:d 2 host
		fw:x 2 host needs drv:d 2`, `
		a: drain 0, drv:d 1 → 2, restart, fw:x 1 → 2, restart`},
	{"what needs something that is nowhere is left", `
		a 0 | fw:x=1`, `
		fw:x 2 host needs drv:d 2`, `
		not in line, and left a`},
	{"a ladder is climbed in one visit, by the fewest rungs", `
		a 0 | fw:x=1`, `
		fw:x 2 host
		fw:x 3 host
		fw:x 4 host needs fw:x 3
		fw:x 5 host needs fw:x 4`, `
		a: drain 0, fw:x 1 → 3, restart, fw:x 3 → 4, restart, fw:x 4 → 5, restart`},
	{"every device of a kind climbs", `
		a 0 | fw:x=1 drv:d=1`, `
		fw:x 2 host
		fw:x 3 host needs fw:x 2
		drv:d 2 host needs fw:x 3`, `
		a: drain 0, fw:x 1 → 2, restart, fw:x 2 → 3, restart, drv:d 1 → 2, restart`},
	{"equal devices climb together", `
		a 0 | fw:x@1=1 fw:x@2=1`, `
		fw:x 2 host
		fw:x 3 host needs fw:x 2`, `
		a: drain 0, fw:x (1) 1 → 2, fw:x (2) 1 → 2, restart, fw:x (1) 2 → 3, fw:x (2) 2 → 3, restart`},
	{"a withdrawn rung is no rung", `
		a 0 | fw:x=1`, `
		fw:x 2 host withdrawn
		fw:x 3 host needs fw:x 2`, `
		not in line, and left a`},
	{"what can't be had gives way to the best that can", `
		a 0 | fw:x=1`, `
		fw:x 2 host
		fw:x 3 host needs drv:d 7`, `
		a: drain 0, fw:x 1 → 2, restart`},
	{"a ring of requirements is left, whole", `
		a 0 | fw:x=1 drv:d=1`, `
		fw:x 2 host needs drv:d 2
		drv:d 2 host needs fw:x 2`, `
		not in line, and left a`},
	{"the BMC goes first and needs no drain", `
		a 50 | fw:bmc=1 deb:s=1`, `
		deb:s 2 service
		fw:bmc 2 bmc`, `
		a: fw:bmc 1 → 2, deb:s 1 → 2`},
	{"no room, so it can't be made", `
		a 60 | deb:k=1
		b 60 | deb:k=2
		c 60 | deb:k=2`, `
		deb:k 2 host`, `
		a: can't: does not fit
		in line b, c`},
}

func TestScenarios(t *testing.T) {
	for _, s := range scenarios {
		t.Run(s.name, func(t *testing.T) {
			p := Make(parse(t, s.hosts, s.releases))
			if got, want := outline(p), lines(s.want); got != want {
				t.Errorf("got\n%s\nwant\n%s", got, want)
			}
		})
	}
}

func lines(s string) string {
	var out []string
	for _, l := range strings.Split(strings.TrimSpace(s), "\n") {
		out = append(out, strings.TrimSpace(l))
	}
	return strings.Join(out, "\n")
}

func outline(p Plan) string {
	var out []string
	for _, v := range p.Visits {
		if v.Obstacle != "" {
			out = append(out, fmt.Sprintf("%s: can't: %s", v.Host, strings.Split(v.Obstacle, ":")[0]))
			continue
		}
		var parts []string
		if v.Empties {
			var gib int
			for _, m := range v.Moves {
				var g int
				fmt.Sscanf(m.Guest, m.From+"-%d", &g)
				gib += g
			}
			parts = append(parts, fmt.Sprintf("drain %d", gib))
		}
		for pass := 1; pass <= v.Passes; pass++ {
			for _, c := range v.Changes {
				if c.Pass == pass {
					parts = append(parts, c.Says())
				}
			}
			for _, r := range v.Restarts {
				if r == pass {
					parts = append(parts, "restart")
				}
			}
		}
		out = append(out, v.Host+": "+strings.Join(parts, ", "))
	}
	says := map[bool]string{true: "in line ", false: "not in line, and left "}
	for _, inLine := range []bool{true, false} {
		var names []string
		for _, a := range p.Aside {
			if a.InLine == inLine {
				names = append(names, a.Host)
			}
		}
		if len(names) > 0 {
			out = append(out, says[inLine]+strings.Join(names, ", "))
		}
	}
	return strings.Join(out, "\n")
}

func parse(t *testing.T, hosts, releases string) Input {
	t.Helper()
	in := Input{Now: now, Cluster: estate.Cluster{Act: true, Name: "c"}, Readings: map[string]*estate.Reading{},
		Verdicts: map[string][]drift.Verdict{}, Catalogue: &catalogue.Catalogue{}, Times: Times{},
		Payloads: func(string, string) error { return nil }}
	b := baseline.Baseline{Name: "b", Assign: []string{"c"}}
	named := map[estate.Key]bool{}
	for _, l := range strings.Split(lines(releases), "\n") {
		f := strings.Fields(l)
		r := catalogue.Release{Component: estate.Key(f[0]), Version: f[1], Restart: catalogue.Restart(f[2]),
			File: f[0] + f[1], SHA256: "sum-" + f[0] + f[1], Size: 80 << 20}
		for i, w := range f {
			switch w {
			case "withdrawn":
				r.Withdrawn = "it is bad"
			case "needs":
				r.Requires = []catalogue.Requirement{{Component: estate.Key(f[i+1]), AtLeast: f[i+2]}}
			}
		}
		in.Catalogue.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{r})
		if !named[r.Component] {
			b.Clauses = append(b.Clauses,
				baseline.Clause{Component: r.Component, Posture: baseline.IfPresent, Follow: true})
			named[r.Component] = true
		}
	}
	for _, l := range strings.Split(lines(hosts), "\n") {
		r := host(l)
		in.Readings[r.Host] = r
		in.Cluster.Hosts = append(in.Cluster.Hosts, r.Host)
	}
	checker := drift.Checker{Catalogue: in.Catalogue, Baselines: []baseline.Baseline{b}, Now: now}
	for h, r := range in.Readings {
		in.Verdicts[h] = checker.Host("c", r)
	}
	in.Brief, in.Below = DefaultBrief(in.Cluster), checker.Below
	return in
}

func host(line string) *estate.Reading {
	guests, components, _ := strings.Cut(line, "|")
	f := strings.Fields(guests)
	r := &estate.Reading{Host: f[0], Capacity: estate.Resources{MemoryMiB: 100 << 10, CPU: 1000}}
	for _, s := range estate.SectionNames {
		r.SetSection(estate.Section{Name: s, At: now})
	}
	for _, g := range f[1:] {
		var gib int64
		fmt.Sscan(g, &gib)
		if gib > 0 {
			r.Guests = append(r.Guests,
				estate.Guest{Name: r.Host + "-" + g, State: estate.Running,
					Load: estate.Resources{MemoryMiB: gib << 10}})
		}
	}
	for _, c := range strings.Fields(components) {
		k, v, _ := strings.Cut(c, "=")
		k, device, _ := strings.Cut(k, "@")
		r.Components = append(r.Components, estate.Component{Key: estate.Key(k), Device: device, Version: v})
	}
	r.Sort()
	return r
}

func TestMovesBesideTheirFloor(t *testing.T) {
	// Every host must be emptied, so the guests of the smallest move twice, and no more than that.
	p := Make(parse(t, `
		a 10 10 10 | deb:k=1
		b 10 10 | deb:k=1
		c 10 | deb:k=1`, `deb:k 2 host`))
	if p.Floor != 7 || p.Moves != 7 || p.GoingHome != 12 {
		t.Errorf("moves %d, floor %d, going home %d", p.Moves, p.Floor, p.GoingHome)
	}
	// One host needs nothing: everybody can go there once.
	p = Make(parse(t, `
		a 10 10 10 | deb:k=1
		b 10 10 | deb:k=1
		c 10 | deb:k=2`, `deb:k 2 host`))
	if p.Floor != 5 || p.Moves != 5 {
		t.Errorf("moves %d, floor %d", p.Moves, p.Floor)
	}
}

// Hosts that the brief leaves out stay as they are: guests go there before they go to a host that is visited later.
func TestHostsLeftOutTakeGuests(t *testing.T) {
	in := parse(t, `
		a 10 10 | deb:k=1
		b 10 10 10 | deb:k=1
		c 10 | deb:k=1
		d 10 | deb:k=1`, `deb:k 2 host`)
	in.Brief.Hosts = []string{"a", "b"}
	p := Make(in)
	if p.Floor != 5 || p.Moves != 5 || len(p.Visits) != 2 {
		t.Errorf("moves %d, floor %d, %d visits", p.Moves, p.Floor, len(p.Visits))
	}
}

// B8: the management service goes before the hosts that it manages, wherever in the cluster it runs.
func TestAReleaseThatNeedsTheManagementServiceWaitsForIt(t *testing.T) {
	for manager, want := range map[string]bool{"2.9": false, "3.0": true, "3.1": true} {
		in := parse(t, "a 4 | deb:platform=1\nb 4 | deb:platform=1 deb:manager="+manager,
			"deb:platform 2 host needs deb:manager 3.0\ndeb:manager 2.9 none")
		rs := in.Catalogue.Releases("deb:platform")
		rs[0].Requires[0].Anywhere = true
		p := Make(in)
		planned, waits := false, false
		for _, v := range p.Visits {
			for _, c := range v.Changes {
				planned = planned || v.Host == "a" && c.Component == "deb:platform"
			}
			waits = waits || v.Host == "a" && strings.Contains(strings.Join(v.Left, " "),
				"deb:manager 3.0 to run somewhere in the cluster first")
		}
		for _, left := range p.Aside {
			waits = waits || left.Host == "a"
		}
		if planned != want || waits == want {
			t.Errorf("with the manager at %s: planned %v, waits %v", manager, planned, waits)
		}
	}
}
