package catalogue

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
)

// A withdrawal is of what a version is, however it is spelled, and means all hardware and tracks where it names none.
// It never means more than it says.
func TestWithdrawalsMeanWhatTheySay(t *testing.T) {
	for _, c := range []struct {
		name                  string
		withdrawn             Release
		version, track, model string
		gone                  bool
	}{
		{"spelled as it is", Release{Version: "1.2"}, "1.2", "1", "A", true},
		{"zeros at the end", Release{Version: "1.2.0"}, "1.2", "1", "A", true},
		{"a leading v", Release{Version: "v1.2"}, "1.2", "1", "B", true},
		{"other hardware", Release{Version: "1.2", Hardware: []string{"B"}}, "1.2", "1", "A", false},
		{"this hardware", Release{Version: "1.2", Hardware: []string{"A"}}, "1.2", "1", "A", true},
		{"another track", Release{Version: "1.2", Track: "2"}, "1.2", "1", "A", false},
		{"another version", Release{Version: "1.2.1"}, "1.2", "1", "A", false},
		{"hardware that was not read", Release{Version: "1.2", Hardware: []string{"A"}}, "1.2", "", "", true},
	} {
		var cat Catalogue
		w := c.withdrawn
		w.Component, w.Withdrawn = "fw:n", "it drops links"
		cat.Add(Feed{Name: "a"},
			[]Release{{Component: "fw:n", Version: "1.1", Track: "1"},
				{Component: "fw:n", Version: "1.2", Track: "1", Hardware: []string{"A"}, Feed: "a"}})
		cat.Add(Feed{Name: "b"}, []Release{w})
		if got := cat.WithdrawnFor("fw:n", c.version, c.track, c.model); (got != "") != c.gone {
			t.Errorf("%s: %q", c.name, got)
		}
		if r := cat.Newest("fw:n", "A", Rule{Track: "1"}); c.model == "A" && c.track == "1" &&
			(r.Version == "1.2") == c.gone {
			t.Errorf("%s: the newest is %s", c.name, r.Version)
		}
	}
}

// What two feeds say otherwise of one release is noted, and one whose very file is in doubt is never proposed.
func TestFeedsThatDisagreeAreTold(t *testing.T) {
	var c Catalogue
	day := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	c.Add(Feed{Name: "a"}, []Release{{Component: "deb:x", Version: "2", SHA256: "aa", Date: day, Feed: "a"},
		{Component: "deb:x", Version: "1", SHA256: "cc", Feed: "a"}})
	c.Add(Feed{Name: "b"}, []Release{{Component: "deb:x", Version: "0:2", SHA256: "bb", Date: day.AddDate(0, 0, 1),
		Feed: "b"}, {Component: "deb:x", Version: "1", SHA256: "cc", Feed: "b"}})
	rs := c.Releases("deb:x")
	if len(rs) != 2 || !rs[1].Ambiguous() ||
		!strings.Contains(rs[1].Disputed, "its date is 2026-11-01 in a and 2026-11-02 in b") || rs[0].Disputed != "" {
		t.Fatalf("%+v", rs)
	}
	if r := c.Newest("deb:x", "", Rule{}); r.Version != "1" {
		t.Errorf("%s is proposed", r.Version)
	}
	if f := c.Refusals("deb:x", "1", "", Rule{}); len(f) != 1 || !strings.Contains(f[0].Why, "feeds disagree") {
		t.Errorf("%+v", f)
	}
}

// A release without a track, or without a date, is never proposed where one is asked for, and it is said why.
func TestWhatIsMissingIsSaid(t *testing.T) {
	var c Catalogue
	c.Add(Feed{Name: "f"}, []Release{{Component: "fw:n", Version: "4.1"}, {Component: "fw:n", Version: "9.9"},
		{Component: "fw:n", Version: "4.0", Track: "4"}},
		Track{"fw:n", "4", "4."}, Track{"fw:n", "5", "5."})
	if r := c.Newest("fw:n", "", Rule{Track: "4"}); r == nil || r.Version != "4.1" {
		t.Errorf("a version with the prefix of a declared track is on it: %+v", r)
	}
	if f := c.Refusals("fw:n", "4.1", "", Rule{Track: "4"}); len(f) != 1 ||
		f[0].Why != "it names no track, and track 4 is followed here" {
		t.Errorf("%+v", f)
	}
	if f := c.Refusals("fw:n", "4.0", "", Rule{Track: "4", Before: time.Now()}); len(f) != 2 ||
		f[1].Why != "it has no date, and the clause asks for an age" {
		t.Errorf("%+v", f)
	}
}

// Each list that speaks of a model must have a line that holds, what was not read is never on a list, and programs can
// be listed as a pair.
func TestListsByThemselves(t *testing.T) {
	var c Catalogue
	c.AddPairings([]Pairing{
		{List: "net", Hardware: "L25", With: []Within{{"fw:l", "2", ""}}},
		{List: "site", Hardware: "L25", With: []Within{{"fw:l", "", "3"}}, Blocks: true},
		{List: "storage", With: []Within{{"deb:shoal", "4", "5"}, {"deb:qemu", "9", ""}}},
	})
	known := func(vs ...string) Holding { return Holding{vs, true} }
	for _, q := range []struct {
		name string
		has  map[estate.Key]Holding
		off  string // lists
	}{
		{"both lists hold", map[estate.Key]Holding{"fw:l": known("2.5"), "deb:shoal": known(), "deb:qemu": known("1")},
			""},
		{"one of two lists does not",
			map[estate.Key]Holding{"fw:l": known("4"), "deb:shoal": known(), "deb:qemu": known("1")}, "site"},
		{"one of two devices does not", map[estate.Key]Holding{"fw:l": known("2", "1"), "deb:shoal": known(),
			"deb:qemu": known()}, "net"},
		{"unread is not on any", map[estate.Key]Holding{"deb:shoal": known(), "deb:qemu": known()}, "net site"},
		{"a pair of programs", map[estate.Key]Holding{"fw:l": known("2"), "deb:shoal": known("4.2"),
			"deb:qemu": known("8")}, "storage"},
		{"the pair as listed", map[estate.Key]Holding{"fw:l": known("2"), "deb:shoal": known("4.2"),
			"deb:qemu": known("9.1")}, ""},
		{"a pair of which one is unread", map[estate.Key]Holding{"fw:l": known("2"), "deb:shoal": known("4.2")},
			"storage"},
	} {
		var got []string
		for _, m := range c.Mismatches("Brae", []string{"L25"}, func(k estate.Key) Holding { return q.has[k] }) {
			got = append(got, m.List)
		}
		for _, want := range strings.Fields(q.off) {
			if !strings.Contains(strings.Join(got, " "), want) {
				t.Errorf("%s: off %v, want %s", q.name, got, q.off)
			}
		}
		if len(got) != len(strings.Fields(q.off)) {
			t.Errorf("%s: off %v, want %s", q.name, got, q.off)
		}
	}
}
