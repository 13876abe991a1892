package drift

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// following is a checker for one clause that follows a component, or a whole kind.
func following(cat *catalogue.Catalogue, clause baseline.Clause) *Checker {
	clause.Follow = true
	return &Checker{Catalogue: cat, Now: now,
		Baselines: []baseline.Baseline{{Name: "b", Assign: []string{"c"}, Clauses: []baseline.Clause{clause}}}}
}

// What is wanted can't be told where sources disagree about it, are missing, or say nothing that meets the clause. What is
// known to be wrong is said all the same, and what is known not to concern a host is no such case.
func TestWhatIsWantedCannotBeTold(t *testing.T) {
	one := func(version string) catalogue.Release {
		return catalogue.Release{Component: "deb:k", Version: version, Date: now.AddDate(0, 0, -20), SHA256: "aa", File: "k", Feed: "f"}
	}
	contested := func(c *catalogue.Catalogue) {
		c.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{one("1"), one("2"), one("3")})
		other := one("3")
		other.SHA256, other.Feed = "bb", "g"
		c.Add(catalogue.Feed{Name: "g"}, []catalogue.Release{other})
	}
	plain := func(c *catalogue.Catalogue) {
		c.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{one("1"), one("2")})
	}
	gap := func(carried ...estate.Key) func(*catalogue.Catalogue) {
		return func(c *catalogue.Catalogue) {
			plain(c)
			c.AddGap(catalogue.Gap{Feed: "g", Why: "was never synced", Carried: carried})
		}
	}
	atLeast := baseline.Clause{Component: "deb:k", Posture: baseline.AtLeast}
	for name, c := range map[string]struct {
		fill   func(*catalogue.Catalogue)
		clause baseline.Clause
		has    string
		want   Outcome
		cause  string
	}{
		"in line":                      {plain, atLeast, "deb:k 2", InLine, ""},
		"feeds disagree about a newer": {contested, atLeast, "deb:k 2", Undecided, "feeds disagree about 3"},
		"and it is behind the others":  {contested, atLeast, "deb:k 1", Undecided, "feeds disagree about 3"},
		"it has the one that is newer": {contested, atLeast, "deb:k 3", Undecided, "feeds disagree about 3"},
		"a gap that carries it":        {gap("deb:k"), atLeast, "deb:k 2", Undecided, "the feed g was never synced"},
		"a gap that carries another":   {gap("deb:other"), atLeast, "deb:k 2", InLine, ""},
		"and nobody describes this one": {gap(), baseline.Clause{Component: "deb:*", Posture: baseline.IfPresent}, "deb:local 1",
			Undecided, "the feed g was never synced"},
		"absent, and a gap":    {gap("deb:k"), atLeast, "deb:x 1", Undecided, "was never synced"},
		"nobody describes it":  {plain, baseline.Clause{Component: "deb:local", Posture: baseline.IfPresent}, "deb:local 1", Undecided, "no source knows any release"},
		"of a kind, and sound": {plain, baseline.Clause{Component: "deb:*", Posture: baseline.IfPresent}, "deb:local 1", NotApplying, ""},
		"none is old enough": {plain, baseline.Clause{Component: "deb:k", Posture: baseline.AtLeast, MinAge: 90 * 24 * time.Hour}, "deb:k 2",
			Undecided, "no release of it is as old"},
		"none says how old it is": {func(c *catalogue.Catalogue) {
			r := one("2")
			r.Date = time.Time{}
			c.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{r})
		}, baseline.Clause{Component: "deb:k", Posture: baseline.AtLeast, MinAge: time.Hour}, "deb:k 2", Undecided, "with a date"},
		"nobody publishes it":   {plain, baseline.Clause{Component: "deb:k", Posture: baseline.AtLeast, Vendor: "Brae"}, "deb:k 2", Undecided, "published by Brae"},
		"none is severe enough": {plain, baseline.Clause{Component: "deb:k", Posture: baseline.AtLeast, Severity: catalogue.High}, "deb:k 2", NotApplying, ""},
		"hardware not known": {func(c *catalogue.Catalogue) {
			c.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{{Component: "fw:n", Version: "2", Hardware: []string{"L25"}}})
		}, baseline.Clause{Component: "fw:n", Posture: baseline.AtLeast}, "fw:n 2", Undecided, "on what hardware it is"},
		"withdrawn, whatever else": {func(c *catalogue.Catalogue) {
			gap("deb:k")(c)
			r := one("2")
			r.Withdrawn = "it leaks"
			c.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{r})
		}, atLeast, "deb:k 2", Withdrawn, ""},
		"a pinned clause asks no source": {gap("deb:x"), baseline.Clause{Component: "deb:k", Posture: baseline.Exactly, Version: "2"}, "deb:k 2", InLine, ""},
		"a pinned clause, and the source that spoke of it is too old": {gap("deb:k"),
			baseline.Clause{Component: "deb:k", Posture: baseline.Exactly, Version: "2"}, "deb:k 2", Undecided, "whether it was withdrawn"},
		"a pinned clause that is known to be broken": {gap("deb:k"),
			baseline.Clause{Component: "deb:k", Posture: baseline.Exactly, Version: "3"}, "deb:k 2", Behind, ""},
	} {
		cat := &catalogue.Catalogue{}
		c.fill(cat)
		ch := following(cat, c.clause)
		ch.Baselines[0].Clauses[0].Follow = c.clause.Version == ""
		r := told("h", 0, c.has)
		vs := ch.Host("c", r)
		if len(vs) != 1 || vs[0].Outcome != c.want || !strings.Contains(vs[0].Cause, c.cause) || (vs[0].Cause == "") != (c.cause == "") {
			t.Errorf("%s: %+v", name, vs)
			continue
		}
		if why := strings.Join(ch.Why("c", vs[0], r), " "); c.want == Undecided && !strings.Contains(why, c.cause) {
			t.Errorf("%s: the story does not say why: %s", name, why)
		}
		s := Summarize(vs)
		if open := c.want == Undecided; s.Undecided != map[bool]int{true: 1}[open] || s.Open() != s.Undecided ||
			open && s.InLine+s.Drift+s.Aside != 0 {
			t.Errorf("%s: %+v", name, s)
		}
	}
}

// Half installed comes before withdrawn, and both before what can't be told.
func TestWhatIsKnownToBeWrongComesFirst(t *testing.T) {
	cat := &catalogue.Catalogue{}
	cat.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{{Component: "deb:k", Version: "1", Withdrawn: "it leaks"}})
	cat.AddGap(catalogue.Gap{Feed: "g", Why: "was never synced", Carried: []estate.Key{"deb:k"}})
	ch := following(cat, baseline.Clause{Component: "deb:k", Posture: baseline.AtLeast})
	r := told("h", 0, "deb:k 1")
	r.Components[0].State = "half-configured"
	if vs := ch.Host("c", r); vs[0].Outcome != HalfInstalled {
		t.Errorf("%+v", vs)
	}
}

// Take a source away, part of one, or have two disagree: nothing comes into line by it, and nothing is taken to be none
// of the host's business.
func TestLessOfTheSourcesMakesNothingBetter(t *testing.T) {
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 1))
	good := func(s Summary) int { return s.InLine + s.Aside }
	worlds := 2000
	if n, err := strconv.Atoi(os.Getenv("YARE_WORLDS")); err == nil {
		worlds = n
	}
	for n := range worlds {
		type source struct {
			name     string
			releases []catalogue.Release
		}
		var sources []source
		for i := range 1 + r.IntN(3) {
			s := source{name: fmt.Sprint("s", i)}
			for range r.IntN(4) {
				s.releases = append(s.releases, catalogue.Release{Component: estate.Key(fmt.Sprintf("deb:k%d", r.IntN(3))),
					Version: fmt.Sprint(1 + r.IntN(4)), SHA256: fmt.Sprint("h", r.IntN(2)), File: "f", Feed: s.name, Date: now.AddDate(0, 0, -r.IntN(40)),
					Severity: catalogue.Severity(r.IntN(5))})
			}
			sources = append(sources, s)
		}
		clause := baseline.Clause{Component: []estate.Key{"deb:k0", "deb:*"}[r.IntN(2)],
			Posture: []baseline.Posture{baseline.AtLeast, baseline.IfPresent, baseline.Exactly}[r.IntN(3)],
			MinAge:  time.Duration(r.IntN(2)) * 20 * 24 * time.Hour}
		host := told("h", 0, fmt.Sprintf("deb:k0 %d", 1+r.IntN(4)), fmt.Sprintf("deb:k1 %d", 1+r.IntN(4)))
		judge := func(change func(c *catalogue.Catalogue, i int, s source)) Summary {
			cat := &catalogue.Catalogue{}
			for i, s := range sources {
				change(cat, i, s)
			}
			return Summarize(following(cat, clause).Host("c", host))
		}
		all := judge(func(c *catalogue.Catalogue, _ int, s source) { c.Add(catalogue.Feed{Name: s.name}, s.releases) })
		gone := r.IntN(len(sources))
		for how, less := range map[string]Summary{
			"too old": judge(func(c *catalogue.Catalogue, i int, s source) {
				c.Add(catalogue.Feed{Name: s.name}, s.releases)
				if i == gone {
					g := catalogue.Gap{Feed: s.name, Why: "is old"}
					for _, rel := range s.releases {
						g.Carried = append(g.Carried, rel.Component)
					}
					c.AddGap(g)
				}
			}),
			"never read, and what it carries is known": judge(func(c *catalogue.Catalogue, i int, s source) {
				if i != gone {
					c.Add(catalogue.Feed{Name: s.name}, s.releases)
					return
				}
				g := catalogue.Gap{Feed: s.name, Why: "can't be read"}
				for _, rel := range s.releases {
					g.Carried = append(g.Carried, rel.Component)
				}
				c.AddGap(g)
			}),
			"contradicted": judge(func(c *catalogue.Catalogue, i int, s source) {
				c.Add(catalogue.Feed{Name: s.name}, s.releases)
				if i == gone {
					var others []catalogue.Release
					for _, rel := range s.releases {
						rel.SHA256, rel.Feed = "another", "contradicts"
						others = append(others, rel)
					}
					c.Add(catalogue.Feed{Name: "contradicts"}, others)
				}
			}),
		} {
			if less.InLine > all.InLine || good(less) > good(all) {
				t.Fatalf("seed %d, world %d, a source %s: %+v, and before %+v\n%+v\n%+v\n%+v", seed, n, how, less, all, sources,
					clause, host.Components)
			}
		}
	}
}
