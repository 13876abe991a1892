package catalogue

import (
	"slices"
	"strings"
	"testing"

	"yareharbour/core/estate"
)

// A withdrawal or an advisory that is about nothing known is told, each withdrawal by itself; what a host has, or another
// release is of, is known.
func TestWhatIsAboutNothingKnown(t *testing.T) {
	c := &Catalogue{}
	c.Add(Feed{Name: "f"}, []Release{
		{Feed: "f", Component: "fw:nic", Version: "2", Hardware: []string{"Lorne L25"}, File: "x"},
		{Feed: "f", Component: "fw:nic", Version: "1", Hardware: []string{"lorne  l25"}, Withdrawn: "it hangs"},
		{Feed: "f", Component: "fw:nic", Version: "1", Hardware: []string{"Lorne L52"}, Withdrawn: "it hangs"},
		{Feed: "f", Component: "fw:raid", Version: "3", Withdrawn: "it forgets"},
		{Feed: "f", Component: "fw:bios", Version: "4", Withdrawn: "it sleeps"},
		{Feed: "f", Component: "deb:k", Version: "1", Source: "kernel"},
	})
	c.AddAdvisories(Feed{Name: "a"}, []Advisory{
		{ID: "1", Affects: []Affect{{Component: "deb:k"}}},
		{ID: "2", Affects: []Affect{{Component: "deb:kernel", Source: true}}},
		{ID: "3", Affects: []Affect{{Component: "deb:kernel"}}},
		{ID: "4", Affects: []Affect{{Component: "deb:none"}, {Component: "fw:bios"}}},
		{ID: "5", Affects: []Affect{{Component: "deb:none"}}},
	})
	strays := func(has ...estate.Key) string {
		return strings.Join(c.Strays(func(k estate.Key, models []string) bool {
			return slices.Contains(has, k) && !slices.Contains(models, "Lorne L52")
		}), "\n")
	}
	want := `f takes back fw:nic 1 for Lorne L52, and nothing known is that: no host has it, and no other release is for it
f takes back fw:raid 3, and nothing known is that: no host has it, and no other release is for it
2 advisories of a are about nothing known: no host has it, and no release is of it: 3, 5`
	if got := strays("fw:bios", "fw:nic"); got != want {
		t.Errorf("%s", got)
	}
	if got := strays("fw:bios", "fw:raid", "deb:none"); !strings.Contains(got, "1 advisory of a is about") ||
		strings.Contains(got, "fw:raid") {
		t.Errorf("%s", got)
	}
}
