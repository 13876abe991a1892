package catalogue

import (
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
)

func ids(as []*Advisory) (out []string) {
	for _, a := range as {
		out = append(out, a.ID)
	}
	return out
}

// An advisory about a source package counts for what is built from it, by the source's own version.
func TestAdvisoriesOfSources(t *testing.T) {
	var c Catalogue
	c.AddAdvisories(Feed{Name: "osv"}, []Advisory{
		{ID: "A", Severity: High, Affects: []Affect{{Component: "deb:gcc-src", Source: true, Fixed: "12.2-4"}}},
		{ID: "B", Severity: Low, Affects: []Affect{{Component: "deb:lib", Since: "2-1", Fixed: "3-1"}}},
		{ID: "C", Severity: Critical, Affects: []Affect{{Component: "deb:lib", Since: "3-1", Last: "3-1"}}},
	})
	c.Add(Feed{Name: "deb"},
		[]Release{{Component: "deb:lib", Version: "1-1", Source: "gcc-src", SourceVersion: "12.2-3"},
			{Component: "deb:lib", Version: "3-1", Source: "gcc-src", SourceVersion: "12.2-5"},
			{Component: "deb:lib", Version: "4-1", Source: "gcc-src", SourceVersion: "13-1"}})
	rs := c.Releases("deb:lib")
	if got := strings.Join(rs[1].Advisories, " "); got != "B A" || rs[1].Severity != High || len(rs[2].Fixes) != 0 {
		t.Errorf("3-1 is the first to mend %q: %+v", got, rs)
	}
	for version, want := range map[string]string{"1-1": "A", "2-1": "B", "3-1": "C", "4-1": ""} {
		if got := strings.Join(ids(c.Against("deb:lib", version)), " "); got != want {
			t.Errorf("%s is affected by %q, want %q", version, got, want)
		}
	}
}

// Whichever comes first, releases or advisories, and however often: the catalogue says the same.
func TestTheOrderInWhichThingsAreLearnedDoesNotMatter(t *testing.T) {
	releases := []Release{{Component: "rpm:crab", Version: "1-1"},
		{Component: "rpm:crab", Version: "2-1", Severity: Low}}
	advisories := []Advisory{{ID: "A", Severity: Critical, Affects: []Affect{{Component: "rpm:crab", Fixed: "2-1"}}}}
	one, two := &Catalogue{}, &Catalogue{}
	one.Add(Feed{Name: "r"}, releases)
	one.AddAdvisories(Feed{Name: "a"}, advisories)
	for range 2 {
		two.AddAdvisories(Feed{Name: "a"}, advisories)
		two.Add(Feed{Name: "r"}, releases)
	}
	for _, c := range []*Catalogue{one, two} {
		rs := c.Releases("rpm:crab")
		if len(rs) != 2 || rs[1].Severity != Critical || rs[1].SeverityFrom("2-1") != Low ||
			rs[1].SeverityFrom("1-1") != Critical || !slices.Equal(rs[1].Advisories, []string{"A"}) {
			t.Errorf("%+v", rs)
		}
	}
	if len(releases[1].Advisories) > 0 || releases[1].Severity != Low {
		t.Error("what was handed in was changed")
	}
}

func TestANewerAdvisoryReplacesTheOlderOfItsID(t *testing.T) {
	var c Catalogue
	day := func(d int) time.Time { return now.AddDate(0, 0, d) }
	c.AddAdvisories(Feed{}, []Advisory{{ID: "A", Published: day(0), Severity: High}})
	c.AddAdvisories(Feed{}, []Advisory{{ID: "A", Published: day(-1), Severity: Low}})
	if got := c.Advisory("A").Severity; got != High {
		t.Errorf("an older one took its place: %v", got)
	}
	c.AddAdvisories(Feed{}, []Advisory{{ID: "A", Published: day(1), Severity: Critical}})
	if got := c.Advisory("A").Severity; got != Critical {
		t.Errorf("%v", got)
	}
}

func TestUntilKnowsOnlyWhatWasKnown(t *testing.T) {
	var c Catalogue
	c.Add(Feed{Name: "f"}, []Release{{Component: "fw:n", Version: "1", Track: "1", Date: now.AddDate(0, 0, -9)},
		{Component: "fw:n", Version: "2", Track: "1", Date: now}}, Track{"fw:n", "1", ""})
	c.AddAdvisories(Feed{}, []Advisory{{ID: "A", Published: now, Severity: High,
		Affects: []Affect{{Component: "fw:n", Fixed: "1"}}}})
	then := c.Until(now.AddDate(0, 0, -1))
	if r := then.Newest("fw:n", "", Rule{Track: "1"}); r == nil || r.Version != "1" || r.Severity != Unknown {
		t.Errorf("%+v", r)
	}
	if r := c.Newest("fw:n", "", Rule{Track: "1"}); r.Version != "2" {
		t.Error("the catalogue itself was changed")
	}
}

func TestMismatches(t *testing.T) {
	var c Catalogue
	c.AddPairings([]Pairing{
		{List: "net", Hardware: "L25", Platform: "Brae Linux 4",
			With: []Within{{"drv:l", "2.0", "2.1"}, {"fw:l", "22.3", "22.3"}}},
		{List: "net", Hardware: "L25", Platform: "Brae Linux 4",
			With: []Within{{"drv:l", "2.1", ""}, {"fw:l", "22.4", ""}}, Blocks: true},
	})
	for _, q := range []struct {
		platform, drv, fw string
		off               bool
	}{
		{"Brae Linux 4.2", "2.1", "22.3", false}, {"Brae Linux 4.2", "2.2", "22.4", false},
		{"Brae Linux 4.2", "2.1", "22.9", false},
		{"Brae Linux 4.2", "2.0", "22.4", true}, {"Brae Linux 5", "2.1", "22.3", true},
		{"Brae Linux 4.2", "", "22.4", false},
	} {
		at := func(k estate.Key) Holding {
			v := map[estate.Key]string{"drv:l": q.drv, "fw:l": q.fw}[k]
			if v == "" {
				return Holding{Known: true}
			}
			return Holding{[]string{v}, true}
		}
		got := c.Mismatches(q.platform, []string{"L10", "L25"}, at)
		if len(got) > 0 != q.off || q.off && (got[0].Hardware != "L25" || !got[0].Blocks || got[0].Why == "") {
			t.Errorf("%+v: %+v", q, got)
		}
	}
	if got := c.Mismatches("x", []string{"L10"}, nil); got != nil {
		t.Errorf("hardware of which no list speaks is not judged: %+v", got)
	}
}

func TestPruneNeverTakesWhatIsWanted(t *testing.T) {
	at := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	have := []Stored{{"w", 10, at(900)}, {"old", 10, at(100)}, {"new", 10, at(1)}, {"stray", 10, at(2)}}
	wanted, known := map[string]bool{"w": true}, map[string]bool{"w": true, "old": true, "new": true}
	for _, c := range []struct {
		rule PruneRule
		want string
	}{
		{PruneRule{}, ""}, {PruneRule{Unknown: true}, "stray"}, {PruneRule{OlderThan: 90 * 24 * time.Hour}, "old"},
		{PruneRule{Most: 25}, "old stray"}, {PruneRule{Most: 1}, "old stray new"},
		{PruneRule{Unknown: true, Most: 30}, "stray"},
	} {
		var got []string
		for _, d := range Prune(have, wanted, known, c.rule, now) {
			got = append(got, d.SHA256)
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%+v lets go %v, want %s", c.rule, got, c.want)
		}
	}
}

func TestNumbersInWords(t *testing.T) {
	for want, got := range map[string]string{"1 file": Some(1, "file"), "0 files": Some(0, "file"),
		"2 advisories": Some(2, "advisory"), "512 B": Bytes(512), "13 KiB": Bytes(13 << 10),
		"1.5 MiB": Bytes(3 << 19), "76.0 GiB": Bytes(76 << 30)} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// A range of another release of the distribution says nothing about a host; where either is not known, it might.
func TestAdvisoriesOfADistributionsRelease(t *testing.T) {
	var c Catalogue
	c.AddAdvisories(Feed{Name: "osv"}, []Advisory{
		{ID: "A", Affects: []Affect{{Component: "deb:crab", System: "debian 12", Fixed: "1.2-1+deb12u1"}}},
		{ID: "B", Affects: []Affect{{Component: "deb:crab", System: "debian 13", Fixed: "1.3-1"}}},
		{ID: "C", Affects: []Affect{{Component: "deb:crab", Fixed: "1.3-1"}}},
		{ID: "D", Affects: []Affect{{Component: "deb:crab", System: "debian", Fixed: "1.3-1"}}},
		{ID: "E", Affects: []Affect{{Component: "deb:crab", System: "almalinux 9", Fixed: "1.3-1"}}}})
	for _, x := range []struct{ systems, version, want string }{
		{"debian 12", "1.2-1+deb12u1", "C D E"}, // E may be what a derivative is made of
		{"debian 13", "1.2-1+deb12u1", "B C D E"},
		{"debian 12", "1.2-1", "A C D E"},
		{"debian 12.6", "1.2-1", "A C D E"},
		{"debian 120", "1.2-1", "C D E"},
		{"almalinux 9.4", "1.2-1", "A B C D E"},
		{"almalinux 8.9", "1.2-1", "A B C D"},
		{"debian", "1.2-1", "A B C D E"}, // no release in os-release
		{"", "1.2-1", "A B C D E"},
		{"debian 12,debian 13", "1.2-1", "A B C D E"},
		{"debian 12", "1.3-1", ""},
	} {
		got := strings.Join(ids(c.Against("deb:crab", x.version, strings.Split(x.systems, ",")...)), " ")
		if got != x.want {
			t.Errorf("%s on %q is affected by %q, want %q", x.version, x.systems, got, x.want)
		}
	}
	if got := strings.Join(ids(c.Against("deb:crab", "1.2-1")), " "); got != "A B C D E" {
		t.Errorf("of no host in particular: %q", got)
	}
}
