package parttest

import (
	"fmt"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/survey"
	"yareharbour/core/view"
)

// Estate is an estate of so many clusters and hosts, with something out of line on every third host.
func Estate(clusters, hosts int) *view.Estate {
	cat := &catalogue.Catalogue{}
	cat.Add(
		catalogue.Feed{Name: "f"},
		[]catalogue.Release{
			{Component: "fw:nic", Version: "2", Severity: catalogue.Critical},
			{Component: "deb:k", Version: "2"},
		},
	)
	b := baseline.Baseline{
		Name: "b",
		Clauses: []baseline.Clause{{Component: "fw:nic", Posture: baseline.IfPresent, Follow: true},
			{Component: "deb:k", Posture: baseline.AtLeast, Follow: true}},
	}
	in := survey.Input{
		Estate:   estate.Estate{Name: "E"},
		Now:      Now,
		Plans:    map[string]*plan.Plan{"c0": {Visits: make([]plan.Visit, 1)}, "c1": {Visits: make([]plan.Visit, 2)}},
		Readings: map[string]*estate.Reading{},
		Verdicts: map[string][]drift.Verdict{},
	}
	for c := range clusters {
		cl := estate.Cluster{Name: fmt.Sprintf("c%d", c), Act: true}
		b.Assign = append(b.Assign, cl.Name)
		for h := range hosts {
			name := fmt.Sprintf("c%dh%03d", c, h)
			cl.Hosts = append(cl.Hosts, name)
			in.Readings[name] = aReading(name, h)
		}
		in.Estate.Clusters = append(in.Estate.Clusters, cl)
	}
	s := &view.Estate{
		Readings: in.Readings,
		Checker:  &drift.Checker{Catalogue: cat, Baselines: []baseline.Baseline{b}, Now: Now},
		Speed:    1,
		Rounds:   map[string]view.Round{},
		Siblings: map[string][]drift.Siblings{},
	}
	for _, cl := range in.Estate.Clusters {
		for _, h := range cl.Hosts {
			in.Verdicts[h] = s.Checker.Host(cl.Name, in.Readings[h])
		}
	}
	s.Verdicts, s.Survey = in.Verdicts, survey.Make(in)
	s.Held = drift.Hold(in.Estate.Clusters, in.Readings, Now, 0)
	s.Baselines = []view.Baseline{{Baseline: b, File: "b.yaml", Text: "baseline: b\nclauses: []\n", Version: 2}}
	s.Feeds = []view.Feed{
		{Name: "mirror", Kind: "debian", Schedule: "on demand"},
		{Name: "beta", Kind: "files", Off: true},
	}
	s.Lists = []view.ReleaseList{{Name: "maker-11", File: "/estate/releases/maker.yaml", Made: Now.AddDate(0, 0, -12), Releases: 3}}
	s.Bundles = []catalogue.Bundle{{Name: "q4.zip", ID: "feedbeef", By: "op"}}
	s.News = map[string]drift.News{"c0": {Since: Now.AddDate(0, 0, -2), By: "op", Drift: in.Verdicts["c0h000"]}}
	s.Trends = map[string][]drift.Tally{
		"c0": {{At: Now.AddDate(0, 0, -9), Drift: map[estate.Layer]int{estate.Firmware: 4}, Hosts: 3, Adrift: 2}},
	}
	s.Filters = map[string]string{"urgent": "severity=critical"}
	return s
}

func aReading(name string, n int) *estate.Reading {
	ver := "2"
	if n%3 == 0 {
		ver = "1"
	}
	r := &estate.Reading{
		Host:       name,
		Capacity:   estate.Resources{MemoryMiB: 1000, CPU: 1000},
		Hardware:   estate.Hardware{Model: "Quay 1"},
		Components: []estate.Component{{Key: "deb:k", Version: ver}, {Key: "fw:nic", Version: ver}},
		Guests: []estate.Guest{{Name: "g-" + name, State: estate.Running,
			Load: estate.Resources{MemoryMiB: int64(100 + n%5*150)}}},
	}
	for _, s := range estate.SectionNames {
		r.SetSection(estate.Section{Name: s, At: Now, Source: "test"})
	}
	return r
}
