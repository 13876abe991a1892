package baseline

import (
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// A name that matches nothing is told, each in its turn; where it was meant to bind or pardon it is an error. Rightly
// spelled, nothing is said.
func TestNamesThatMatchNothingAreTold(t *testing.T) {
	now := time.Date(2026, 11, 21, 12, 0, 0, 0, time.UTC)
	reading := func(host string, cs ...estate.Component) *estate.Reading {
		r := &estate.Reading{Host: host, Components: cs}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: now})
		}
		r.Sort()
		return r
	}
	w := World{Now: now, Clusters: []estate.Cluster{{Name: "vts", Hosts: []string{"heron", "ibis"}},
		{Name: "yard", Hosts: []string{"ruff"}}}, Catalogue: &catalogue.Catalogue{},
		Readings: map[string]*estate.Reading{"heron": reading("heron", estate.Component{Key: "deb:tls", Version: "1"},
			estate.Component{Key: "fw:nic", Version: "7.1", Model: "Lorne L25"}),
			"ruff": reading("ruff", estate.Component{Key: "rpm:tls", Version: "1"})}}
	w.Catalogue.Add(catalogue.Feed{Name: "f"},
		[]catalogue.Release{{Component: "fw:nic", Version: "7.2", Track: "7", Vendor: "Corran",
			Hardware: []string{"Lorne L25"}},
			{Component: "deb:tls", Version: "2"}, {Component: "deb:tls", Version: "3", Withdrawn: "it leaks"},
			{Component: "host:stack", Version: "1"}}, catalogue.Track{Component: "fw:nic", Name: "7", Prefix: "7."})
	good := func() Baseline {
		return Baseline{Name: "b", Assign: []string{"vts", "yard/ruff"}, Clauses: []Clause{
			{Component: "fw:nic", Posture: IfPresent, Follow: true, Track: "7", Vendor: "Corran",
				Hardware: "Lorne L25", Line: 3},
			{Component: "deb:tls", Posture: AtLeast, Version: "2", Line: 4},
			{Component: "host:stack", Posture: AtLeast, Follow: true, Line: 5}},
			Exceptions: []Exception{{Component: "deb:tls", Hosts: []string{"vts/heron"}, Until: now.AddDate(0, 0, 1)}}}
	}
	if ps := Look(good(), nil, w); len(ps) > 0 {
		t.Fatalf("nothing is wrong, and it says %v", ps)
	}
	for _, c := range []struct {
		name    string
		edit    func(*Baseline)
		isError bool
		says    string
	}{
		{"cluster", func(b *Baseline) { b.Assign[0] = "vst" }, true, `no cluster "vst"`},
		{"host", func(b *Baseline) { b.Assign[1] = "yard/rufff" }, true, `no host "rufff" in yard`},
		{"track", func(b *Baseline) {
			b.Clauses[0].Track = "8"
		}, true, `line 3: fw:nic has no track "8"; its tracks are 7`},
		{"vendor", func(b *Baseline) { b.Clauses[0].Vendor = "Coran" }, true, `published by "Coran"`},
		{"model", func(b *Baseline) { b.Clauses[0].Hardware = "Lorne L26" }, true, `no host has a "Lorne L26"`},
		{"component", func(b *Baseline) {
			b.Clauses[0].Component, b.Clauses[0].Track, b.Clauses[0].Vendor,
				b.Clauses[0].Hardware = "fw:nci", "", "", ""
		}, true, "can have fw:nci: heron has no such device"},
		{"package", func(b *Baseline) {
			b.Clauses[1].Component, b.Clauses[1].Posture = "deb:tsl", IfPresent
		}, false, "no host that it binds has deb:tsl"},
		{"package kind", func(b *Baseline) {
			b.Assign = []string{"yard"}
			b.Clauses = b.Clauses[1:2]
			b.Exceptions = nil
		}, true, "ruff has rpm packages"},
		{"version", func(b *Baseline) { b.Clauses[1].Version = "9" }, false, "deb:tls 9 is in no feed"},
		{"withdrawn", func(b *Baseline) { b.Clauses[1].Version = "0:3" }, false, "was withdrawn: it leaks"},
		{"target", func(b *Baseline) { b.Clauses[2].Component = "host:stak" }, true, "no whole-host target host:stak"},
		{"release of a target", func(b *Baseline) {
			b.Clauses[2].Follow, b.Clauses[2].Version = false, "2"
		}, true, "has no release 2"},
		{"exception's host", func(b *Baseline) { b.Exceptions[0].Hosts[0] = "vts/herron" }, true, `no host "herron"`},
		{"exception's component", func(b *Baseline) {
			b.Clauses = b.Clauses[:2]
			b.Exceptions[0].Component = "deb:tls2"
		}, true, "excuses nothing"},
		{"ended exception", func(b *Baseline) { b.Exceptions[0].Until = now }, false, "ended with 21 Nov 2026"},
	} {
		b := good()
		c.edit(&b)
		ps := Look(b, nil, w)
		if !slices.ContainsFunc(ps, func(p Problem) bool {
			return p.Error == c.isError && strings.Contains(p.String(), c.says)
		}) {
			t.Errorf("%s: %v", c.name, ps)
		}
	}
}
