package drift_test

import (
	"fmt"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// BenchmarkCheck1000Hosts700Packages holds a thousand hosts with 700 packages each against a catalogue of 63,000.
func BenchmarkCheck1000Hosts700Packages(b *testing.B) {
	now := time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)
	name := func(n int) estate.Key { return estate.Key(fmt.Sprintf("deb:lib%05d-common", n)) }
	version := func(n, minor int) string { return fmt.Sprintf("%d.%d.2-brae%d", n%9, n%17, minor) }
	var releases []catalogue.Release
	for n := range 63000 {
		releases = append(releases, catalogue.Release{Component: name(n), Version: version(n, 2)})
	}
	cat := &catalogue.Catalogue{}
	cat.Add(catalogue.Feed{Name: "f"}, releases)
	base := baseline.Baseline{Name: "b", Assign: []string{"c"},
		Clauses: []baseline.Clause{{Component: "deb:*", Posture: baseline.IfPresent, Follow: true}}}
	var hosts []*estate.Reading
	for h := range 1000 {
		r := &estate.Reading{Host: fmt.Sprintf("h%04d", h)}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: now})
		}
		for n := range 700 {
			minor := 2
			if (h*31+n)%10 == 0 {
				minor = 1
			}
			r.Components = append(r.Components, estate.Component{Key: name(n * 90), Version: version(n*90, minor)})
		}
		hosts = append(hosts, r)
	}
	for b.Loop() {
		c := &drift.Checker{Catalogue: cat, Baselines: []baseline.Baseline{base}, Now: now}
		behind := 0
		for _, r := range hosts {
			for _, v := range c.Host("c", r) {
				if v.Outcome == drift.Behind {
					behind++
				}
			}
		}
		if behind != 70000 {
			b.Fatal(behind)
		}
	}
}
