package drift

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Hosts of two releases of a distribution can have a package at the same version, of which one is mended and one is not.
func TestFlagsByTheDistributionsRelease(t *testing.T) {
	now := time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC)
	readings := map[string]*estate.Reading{}
	for host, system := range map[string]string{"a": "debian 12", "b": "debian 13", "c": "debian 12", "d": ""} {
		r := &estate.Reading{Host: host, System: system,
			Components: []estate.Component{{Key: "deb:crab", Version: "1.2-1+deb12u1"}}}
		for _, s := range estate.SectionNames {
			r.Sections = append(r.Sections, estate.Section{Name: s, At: now, Source: "test"})
		}
		readings[host] = r
	}
	clusters := []estate.Cluster{{Name: "one", Hosts: []string{"a", "b", "c", "d"}}}
	var cat catalogue.Catalogue
	cat.AddAdvisories(catalogue.Feed{Name: "osv"}, []catalogue.Advisory{
		{ID: "A", Severity: catalogue.High, Affects: []catalogue.Affect{
			{Component: "deb:crab", System: "debian 12", Fixed: "1.2-1+deb12u1"},
			{Component: "deb:crab", System: "debian 13", Fixed: "1.3-1"}}}})
	var got []string
	for _, f := range Flags(Hold(clusters, readings, now, time.Hour), &cat, nil) {
		got = append(got, f.Says()+" on "+strings.Join(f.Hosts, " "))
	}
	const says = "deb:crab 1.2-1+deb12u1 is affected by A on "
	if len(got) != 1 || got[0] != says+"b d" {
		t.Errorf("a and c have the mended one, of d it is not known:\n%s", strings.Join(got, "\n"))
	}
	c := &Checker{Catalogue: &cat}
	v := Verdict{Component: "deb:crab", Has: "1.2-1+deb12u1"}
	if mended, open := c.whyOpen(v, "debian 12"), c.whyOpen(v, "debian 13"); mended != nil || len(open) != 1 {
		t.Errorf("the story of a verdict: %q, %q", mended, open)
	}
}
