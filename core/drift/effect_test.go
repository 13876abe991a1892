package drift_test

import (
	"fmt"
	"math/rand"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

var saturday = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// world makes a random small estate with a catalogue.
func world(r *rand.Rand) ([]estate.Cluster, map[string]*estate.Reading, *catalogue.Catalogue) {
	keys := []estate.Key{"deb:a", "deb:b", "fw:n", "set:s", "host:t"}
	cat := &catalogue.Catalogue{}
	var rs []catalogue.Release
	for _, k := range keys[:3] {
		for v := range 3 {
			rs = append(rs, catalogue.Release{Component: k, Version: fmt.Sprint(v + 1),
				Severity: catalogue.Severity(r.Intn(5))})
		}
	}
	rs = append(rs, catalogue.Release{Component: "host:t", Version: "1",
		Members: []catalogue.Requirement{{Component: "deb:a", AtLeast: "2"}, {Component: "fw:n", AtLeast: "3"}}})
	cat.Add(catalogue.Feed{}, rs)
	clusters := []estate.Cluster{{Name: "x", Hosts: []string{"x1", "x2", "x3"}},
		{Name: "y", Hosts: []string{"y1", "y2"}}}
	readings := map[string]*estate.Reading{}
	for _, c := range clusters {
		for _, h := range c.Hosts {
			d := &estate.Reading{Host: h}
			for _, s := range estate.SectionNames {
				e := ""
				if r.Intn(8) == 0 {
					e = "it does not answer"
				}
				d.SetSection(estate.Section{Name: s, At: saturday, Err: e})
			}
			for _, k := range keys[:4] {
				if r.Intn(3) > 0 {
					d.Components = append(d.Components,
						estate.Component{Key: k, Version: []string{"", "1", "2", "3", "1", "2", "3"}[r.Intn(7)],
							Model: []string{"", "L25"}[r.Intn(2)]})
				}
			}
			d.Sort()
			readings[h] = d
		}
	}
	return clusters, readings, cat
}

func randomBaseline(r *rand.Rand, name string) baseline.Baseline {
	b := baseline.Baseline{Name: name, Rank: r.Intn(2), Assign: [][]string{{"x"}, {"x", "y"}, {"y/y1"}, nil}[r.Intn(4)]}
	for _, k := range []estate.Key{"deb:a", "deb:b", "fw:n", "set:s", "deb:*", "host:t"} {
		c := baseline.Clause{Component: k, Posture: baseline.Postures[r.Intn(3)], Version: fmt.Sprint(r.Intn(3) + 1)}
		if r.Intn(2) == 0 && k.Kind() != "set" || k.Name() == "*" || k == "host:t" {
			c.Version, c.Follow, c.Severity = "", true, catalogue.Severity(r.Intn(3))
		}
		if k == "fw:n" && r.Intn(3) == 0 {
			c.Hardware = "L25"
		}
		if r.Intn(2) == 0 {
			b.Clauses = append(b.Clauses, c)
		}
	}
	if r.Intn(3) == 0 {
		b.Exceptions = []baseline.Exception{{Component: "deb:a", Hosts: []string{"x"}, Until: saturday.Add(time.Hour),
			Reason: "r", By: "b"}}
	}
	return b
}

// The effect that is told from holdings is what checking every host twice would find: verdicts that begin or cease to
// be drift, or are drift in another way.
func TestEffectAgainstCheckingEverythingTwice(t *testing.T) {
	seen := 0
	for seed := range int64(600) {
		r := rand.New(rand.NewSource(seed))
		clusters, readings, cat := world(r)
		others := []baseline.Baseline{randomBaseline(r, "other")}
		before, after := randomBaseline(r, "edited"), randomBaseline(r, "edited")
		c := &drift.Checker{Catalogue: cat, Baselines: append(others, before), Now: saturday}
		held := drift.Hold(clusters, readings, saturday, 0)
		got := map[string]string{}
		for _, s := range c.Edit(held, &before, &after).Shifts {
			got[s.Host+" "+s.Title()] = fmt.Sprint(says(s.Before), " to ", says(s.After))
		}
		was := drifts(&drift.Checker{Catalogue: cat, Baselines: append(others[:1:1], before), Now: saturday},
			clusters, readings)
		is := drifts(&drift.Checker{Catalogue: cat, Baselines: append(others[:1:1], after), Now: saturday},
			clusters, readings)
		want := map[string]string{}
		for _, m := range []map[string]string{was, is} {
			for k := range m {
				if was[k] != is[k] {
					want[k] = fmt.Sprint(orCalm(was[k]), " to ", orCalm(is[k]))
				}
			}
		}
		seen += len(want)
		for k, w := range want {
			if got[k] != w {
				t.Fatalf("seed %d: %s goes from %s, told %q", seed, k, w, got[k])
			}
		}
		for k, g := range got {
			if want[k] == "" {
				t.Fatalf("seed %d: %s is told to go from %s, and does not", seed, k, g)
			}
		}
	}
	if seen < 500 {
		t.Errorf("only %d changes in all: the test proves little", seen)
	}
}

func says(o drift.Outcome) string {
	if o == drift.NotBound || !o.Drifts() {
		return "calm"
	}
	return o.String()
}

func orCalm(s string) string {
	if s == "" {
		return "calm"
	}
	return s
}

func drifts(c *drift.Checker, clusters []estate.Cluster, readings map[string]*estate.Reading) map[string]string {
	out := map[string]string{}
	for _, cl := range clusters {
		for _, h := range cl.Hosts {
			for _, v := range c.Host(cl.Name, readings[h]) {
				if v.Outcome.Drifts() {
					out[h+" "+v.Title()] = v.Outcome.String()
				}
			}
		}
	}
	return out
}

func TestEffectSaysItInASentence(t *testing.T) {
	for want, e := range map[string]drift.Effect{
		"no host's verdicts would change": {},
		"9 hosts would fall out of line":  {Worse: 9, Shifts: make([]drift.Shift, 9)},
		"1 host would fall out of line, 2 hosts would have less against them, of 1 host it is not known": {Worse: 1,
			Better: 2, Unread: 1},
	} {
		if got := e.Says(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// BenchmarkEdit1000Hosts is what is done for every key that is typed into a baseline: the effect of an edit on a
// thousand hosts with 700 packages each.
func BenchmarkEdit1000Hosts(b *testing.B) {
	clusters, readings := manyHosts(1000, 700)
	cat := &catalogue.Catalogue{}
	var rs []catalogue.Release
	for n := range 700 {
		rs = append(rs, catalogue.Release{Component: libKey(n), Version: libVersion(n, 2),
			Severity: catalogue.Severity(n % 5)})
	}
	cat.Add(catalogue.Feed{}, rs)
	held := drift.Hold(clusters, readings, saturday, 0)
	all := []string{}
	for _, c := range clusters {
		all = append(all, c.Name)
	}
	before := baseline.Baseline{Name: "b", Assign: all,
		Clauses: []baseline.Clause{{Component: "deb:*", Posture: baseline.IfPresent, Follow: true}}}
	one := baseline.Baseline{Name: "b", Assign: all,
		Clauses: append(before.Clauses,
			baseline.Clause{Component: libKey(7), Posture: baseline.AtLeast, Version: libVersion(7, 3)})}
	kind := baseline.Baseline{Name: "b", Assign: all,
		Clauses: []baseline.Clause{{Component: "deb:*", Posture: baseline.IfPresent, Follow: true,
			Severity: catalogue.High}}}
	c := &drift.Checker{Catalogue: cat, Baselines: []baseline.Baseline{before}, Now: saturday}
	b.Run("one clause", func(b *testing.B) {
		for b.Loop() {
			if e := c.Edit(held, &before, &one); e.Worse == 0 {
				b.Fatal(e.Says())
			}
		}
	})
	b.Run("a whole kind", func(b *testing.B) {
		for b.Loop() {
			if e := c.Edit(held, &before, &kind); e.Better == 0 {
				b.Fatal(e.Says())
			}
		}
	})
	b.Run("beside checking everything", func(b *testing.B) {
		for b.Loop() {
			drifts(&drift.Checker{Catalogue: cat, Baselines: []baseline.Baseline{one}, Now: saturday},
				clusters, readings)
		}
	})
}

func libKey(n int) estate.Key { return estate.Key(fmt.Sprintf("deb:lib%05d-common", n)) }

func libVersion(n, minor int) string { return fmt.Sprintf("%d.%d.2-brae%d", n%9, n%17, minor) }

// manyHosts makes hosts with packages of which a tenth are at the version before.
func manyHosts(hosts, packages int) ([]estate.Cluster, map[string]*estate.Reading) {
	var clusters []estate.Cluster
	readings := map[string]*estate.Reading{}
	for h := range hosts {
		if h%20 == 0 {
			clusters = append(clusters, estate.Cluster{Name: fmt.Sprintf("c%02d", h/20)})
		}
		c := &clusters[len(clusters)-1]
		r := &estate.Reading{Host: fmt.Sprintf("h%04d", h)}
		c.Hosts = append(c.Hosts, r.Host)
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: saturday})
		}
		for n := range packages {
			minor := 2
			if (h*31+n)%10 == 0 {
				minor = 1
			}
			r.Components = append(r.Components, estate.Component{Key: libKey(n), Version: libVersion(n, minor)})
		}
		readings[r.Host] = r
	}
	return clusters, readings
}
