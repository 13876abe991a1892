package ladder

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// harbour is a small estate: hosts with an adapter at the versions given, one with a model of its own, and one without.
func harbour() (*catalogue.Catalogue, *drift.Holdings, map[string][]drift.Verdict) {
	cat := &catalogue.Catalogue{}
	cat.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{
		{Component: "fw:n", Version: "4.1", Track: "4", Hardware: []string{"S9"}, Vendor: "Corran",
			Severity: catalogue.Low, Date: now.AddDate(0, 0, -90)},
		{Component: "fw:n", Version: "4.2", Track: "4", Hardware: []string{"S9"}, Vendor: "Corran",
			Severity: catalogue.High, Date: now.AddDate(0, 0, -9), Notes: "Mends the link.",
			Restart: catalogue.HostRestart},
		{Component: "fw:n", Version: "4.3", Track: "4", Hardware: []string{"S9"}, Vendor: "Corran",
			Withdrawn: "it drops the link"},
		{Component: "fw:n", Version: "5.0", Track: "5", Hardware: []string{"S9"}, Vendor: "Corran"},
		{Component: "fw:unused", Version: "1"},
	}, catalogue.Track{Component: "fw:n", Name: "4", Prefix: "4."},
		catalogue.Track{Component: "fw:n", Name: "5", Prefix: "5."})
	cat.AddAdvisories(catalogue.Feed{},
		[]catalogue.Advisory{{ID: "A-1", Severity: catalogue.High,
			Affects: []catalogue.Affect{{Component: "fw:n", Fixed: "4.2"}}},
			{ID: "A-2", Affects: []catalogue.Affect{{Component: "fw:n", System: "debian 13", Fixed: "4.2"}}}})
	clusters := []estate.Cluster{{Name: "c", Hosts: []string{"a", "b", "d", "e"}}}
	readings := map[string]*estate.Reading{}
	for host, v := range map[string]string{"a": "4.1", "b": "4.3", "d": "5.0", "e": ""} {
		r := &estate.Reading{Host: host, System: "debian 12"}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: now})
		}
		if v != "" {
			r.Components = []estate.Component{{Key: "fw:n", Version: v, Model: "S9"}, {Key: "set:x", Version: "on"}}
		}
		readings[host] = r
	}
	c := &drift.Checker{Catalogue: cat, Now: now,
		Baselines: []baseline.Baseline{{Name: "base", Assign: []string{"c"},
			Clauses: []baseline.Clause{{Component: "fw:n", Posture: baseline.AtLeast, Follow: true, Track: "4"}}}}}
	verdicts := map[string][]drift.Verdict{}
	for h, r := range readings {
		verdicts[h] = c.Host("c", r)
	}
	return cat, drift.Hold(clusters, readings, now, 0), verdicts
}

func TestLadders(t *testing.T) {
	cat, held, verdicts := harbour()
	l := Make(cat, held, verdicts, "fw:n")
	var got []string
	for _, track := range l.Tracks {
		for _, r := range track.Rungs {
			got = append(got, fmt.Sprintf("%s %s: %s | %s", track.Name, r.Version, strings.Join(r.Says(), "; "),
				strings.Join(r.Hosts, ",")))
		}
	}
	want := []string{"5 5.0: high; newest | d", "4 4.3: withdrawn: it drops the link | b",
		"4 4.2: high; newest; wanted by base | ", "4 4.1: low; affected by A-1 | a"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%s\nin place of\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if len(l.Without) != 1 || l.Without[0] != "e" || strings.Join(l.Advisories(), " ") != "A-1 A-2" {
		t.Errorf("absent on %v, advisories %v", l.Without, l.Advisories())
	}
	if empty := Make(cat, held, verdicts, "fw:nothing"); len(empty.Tracks) != 0 {
		t.Errorf("%+v", empty)
	}
}

func TestList(t *testing.T) {
	cat, held, verdicts := harbour()
	names := func(filter string, all bool) string {
		f, err := narrow.Parse(filter)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, r := range List(cat, held, verdicts, f, now, all) {
			out = append(out, string(r.Component))
		}
		return strings.Join(out, " ")
	}
	for filter, want := range map[string]string{"": "fw:n", "vendor=corran": "fw:n", "vendor=lorne": "",
		"severity=high": "fw:n", "severity=critical": "", "verdict=off-track": "fw:n", "host=d": "fw:n",
		"host=z": "", "a-1": "fw:n", "age=10": "fw:n", "age=-10": "", "s9": "fw:n"} {
		if got := names(filter, false); got != want {
			t.Errorf("%q: %q, want %q", filter, got, want)
		}
	}
	if got := names("", true); got != "fw:n fw:unused" {
		t.Errorf("with what no host has: %q", got)
	}
	r := List(cat, held, verdicts, narrow.Filter{}, now, false)[0]
	if r.Hosts != 3 || r.Drift != 4 || r.Withdrawn != 1 || r.Releases != 4 ||
		strings.Join(r.Newest, " ") != "4.2 (4) 5.0 (5)" {
		t.Errorf("%+v", r)
	}
}
