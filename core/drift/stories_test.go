package drift

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

var renew = flag.Bool("renew", false, "write the stories; read the difference before it is committed")

// aTale is a verdict that the story of is told: a component on a host, a clause, and what the catalogue knows.
type aTale struct {
	what     string
	clause   baseline.Clause
	has      *estate.Component
	releases []catalogue.Release
	mend     func(c *Checker, r *estate.Reading) // what else is so
}

func tales() []aTale {
	has := func(key estate.Key, version string, change ...func(*estate.Component)) *estate.Component {
		c := &estate.Component{Key: key, Version: version}
		for _, f := range change {
			f(c)
		}
		return c
	}
	rel := func(key estate.Key, version string, change ...func(*catalogue.Release)) catalogue.Release {
		r := catalogue.Release{Component: key, Version: version, Feed: "f", File: "x", SHA256: "aa"}
		for _, f := range change {
			f(&r)
		}
		return r
	}
	follow := func(key estate.Key, change ...func(*baseline.Clause)) baseline.Clause {
		c := baseline.Clause{Component: key, Posture: baseline.AtLeast, Follow: true}
		for _, f := range change {
			f(&c)
		}
		return c
	}
	pin := func(key estate.Key, p baseline.Posture, version string) baseline.Clause {
		return baseline.Clause{Component: key, Posture: p, Version: version}
	}
	k, n, tr := estate.Key("deb:k"), estate.Key("fw:n"), estate.Key("deb:t")
	on := func(model string) func(*estate.Component) { return func(c *estate.Component) { c.Model = model } }
	for_ := func(models ...string) func(*catalogue.Release) {
		return func(r *catalogue.Release) { r.Hardware = models }
	}
	track := func(t string) func(*catalogue.Release) { return func(r *catalogue.Release) { r.Track = t } }
	held := func(hs ...estate.Holder) func(*estate.Component) { return func(c *estate.Component) { c.Holders = hs } }
	gone := func(why string) func(*catalogue.Release) { return func(r *catalogue.Release) { r.Withdrawn = why } }
	return []aTale{
		{"behind, with all that a release says", follow(k), has(k, "1"), []catalogue.Release{rel(k, "2", func(r *catalogue.Release) {
			r.Date, r.Severity, r.Advisories, r.Restart, r.Link = now.AddDate(0, 0, -9), catalogue.High, []string{"A-1", "A-2"},
				catalogue.HostRestart, "https://f.example/2"
		})}, nil},
		{"behind, and a release that says little", follow(k), has(k, "1"), []catalogue.Release{rel(k, "2", func(r *catalogue.Release) {
			r.Restart = catalogue.NoRestart
		})}, nil},
		{"a power cycle", follow(n), has(n, "1"), []catalogue.Release{rel(n, "2", func(r *catalogue.Release) { r.Restart = catalogue.PowerCycle })}, nil},
		{"in line", follow(k), has(k, "2"), []catalogue.Release{rel(k, "2")}, nil},
		{"in line, and the catalogue is older", follow(k), has(k, "3"), []catalogue.Release{rel(k, "2")}, nil},
		{"in line, and later than the newest that is admitted", follow(k), has(k, "3"), []catalogue.Release{rel(k, "2"), rel(k, "4", gone("it leaks"))}, nil},
		{"in line by being later than a pin", pin(k, baseline.AtLeast, "1"), has(k, "3"), []catalogue.Release{rel(k, "1")}, nil},
		{"ahead", pin(k, baseline.Exactly, "1"), has(k, "3"), []catalogue.Release{rel(k, "1")}, nil},
		{"pinned to what is in no feed", pin(k, baseline.AtLeast, "5"), has(k, "3"), []catalogue.Release{rel(k, "1")}, nil},
		{"pinned to what is for other hardware", pin(n, baseline.AtLeast, "5"), has(n, "3", on("L25")), []catalogue.Release{rel(n, "5", for_("L40", "L50"))}, nil},
		{"not there, as wanted", pin(k, baseline.Never, ""), nil, nil, nil},
		{"there, and should not be", pin(k, baseline.Never, ""), has(k, "3"), nil, nil},
		{"a setting of another value", pin("set:x", baseline.Exactly, "on"), has("set:x", "off"), nil, nil},
		{"absent", follow(k), nil, []catalogue.Release{rel(k, "2")}, nil},
		{"does not apply, for it is not there", baseline.Clause{Component: k, Posture: baseline.IfPresent, Follow: true}, nil, []catalogue.Release{rel(k, "2")}, nil},
		{"half installed", follow(k), has(k, "1", func(c *estate.Component) { c.State = "half-configured" }), []catalogue.Release{rel(k, "2")}, nil},
		{"withdrawn, and another takes its place", follow(k), has(k, "2"), []catalogue.Release{rel(k, "2", gone("it leaks")), rel(k, "3")}, nil},
		{"withdrawn, and only a step back", follow(k), has(k, "2"), []catalogue.Release{rel(k, "2", gone("it leaks")), rel(k, "1")}, nil},
		{"withdrawn, and nothing else", follow(k), has(k, "2"), []catalogue.Release{rel(k, "2", gone("it leaks"))}, nil},
		{"off its track", follow(tr, func(c *baseline.Clause) { c.Track = "5" }), has(tr, "4.1"), []catalogue.Release{rel(tr, "4.1", track("4")), rel(tr, "5.1", track("5"))}, nil},
		{"on no known track", follow(tr, func(c *baseline.Clause) { c.Track = "5" }), has(tr, "3.1"), []catalogue.Release{rel(tr, "4.1", track("4")), rel(tr, "5.1", track("5"))}, nil},
		{"passed over", follow(tr), has(tr, "4.0"), []catalogue.Release{rel(tr, "4.0", track("4")), rel(tr, "4.1", track("4")), rel(tr, "5.1", track("5")),
			rel(tr, "4.2", track("4"), func(r *catalogue.Release) { r.Manual = true })}, nil},
		{"awaiting a restart of the host", follow(k), has(k, "2", func(c *estate.Component) { c.Running, c.Restarts = "1", "host" }), []catalogue.Release{rel(k, "2")}, nil},
		{"awaiting a service", follow(k), has(k, "2", held(estate.Holder{Service: "k.service"})), []catalogue.Release{rel(k, "2")}, nil},
		{"awaiting guests", follow(k), has(k, "2", held(estate.Holder{Guest: "g1", Runs: "1"}, estate.Holder{Guest: "g2"})), []catalogue.Release{rel(k, "2")}, nil},
		{"awaiting guests that run nobody knows what", follow(k), has(k, "2", held(estate.Holder{Guest: "g1"})), []catalogue.Release{rel(k, "2")}, nil},
		{"nothing is known of it", follow(k), has(k, "2"), nil, nil},
		{"known as another kind of package", baseline.Clause{Component: "deb:*", Posture: baseline.IfPresent, Follow: true}, has("deb:q", "2"),
			[]catalogue.Release{rel("rpm:q", "2")}, nil},
		{"for other hardware alone", baseline.Clause{Component: n, Posture: baseline.IfPresent, Follow: true}, has(n, "2", on("L25")),
			[]catalogue.Release{rel(n, "3", for_("L40"))}, nil},
		{"nothing severe enough", follow(k, func(c *baseline.Clause) { c.Severity = catalogue.High }), has(k, "2"), []catalogue.Release{
			rel(k, "1", func(r *catalogue.Release) { r.Manual = true }), rel(k, "1.5")}, nil},
		{"unread: the section", follow(k), has(k, "2"), []catalogue.Release{rel(k, "2")}, func(_ *Checker, r *estate.Reading) {
			r.SetSection(estate.Section{Name: estate.Packages, At: now, Err: "no answer", Held: now.Add(-time.Hour), HeldFrom: "test"})
		}},
		{"unread: nothing was ever known", follow(k), nil, nil, func(_ *Checker, r *estate.Reading) {
			r.SetSection(estate.Section{Name: estate.Packages, At: now, Err: "no answer"})
		}},
		{"unread: too old", follow(k), has(k, "2"), nil, func(c *Checker, _ *estate.Reading) { c.Now = now.Add(9 * time.Hour) }},
		{"unread: a device that names no version", follow(n), has(n, "", func(c *estate.Component) { c.Unread, c.Last = "it is silent", "1.2" }), nil, nil},
		{"unread: the rest of a part", follow(n), nil, nil, func(_ *Checker, r *estate.Reading) {
			r.SetSection(estate.Section{Name: estate.FirmwareItems, At: now, Partial: "half of it"})
		}},
		{"processes that were not looked into", follow(k), has(k, "2"), []catalogue.Release{rel(k, "2")}, func(_ *Checker, r *estate.Reading) {
			r.SetSection(estate.Section{Name: estate.Packages, At: now, Source: "test", Hidden: 2})
		}},
		{"disputed", follow(k), has(k, "2"), []catalogue.Release{rel(k, "2")}, func(c *Checker, _ *estate.Reading) {
			c.Baselines = append(c.Baselines, baseline.Baseline{Name: "o", Assign: []string{"c"}, Clauses: []baseline.Clause{pin(k, baseline.Exactly, "1")}})
		}},
		{"excepted", follow(k), has(k, "1"), []catalogue.Release{rel(k, "2")}, func(c *Checker, _ *estate.Reading) {
			c.Baselines[0].Exceptions = []baseline.Exception{{Component: k, Hosts: []string{"c/heron"}, By: "op", Reason: "parts come",
				Until: now.AddDate(0, 0, 3)}}
		}},
		{"undecided: a source is missing", follow(k), has(k, "1"), []catalogue.Release{rel(k, "2")}, func(c *Checker, _ *estate.Reading) {
			c.Catalogue.AddGap(catalogue.Gap{Feed: "g", Why: "is too old", Carried: []estate.Key{k}})
		}},
		{"undecided: feeds disagree", follow(k), has(k, "1"), []catalogue.Release{rel(k, "2")}, func(c *Checker, _ *estate.Reading) {
			other := rel(k, "2", func(r *catalogue.Release) { r.Feed, r.SHA256 = "g", "bb" })
			c.Catalogue.Add(catalogue.Feed{Name: "g"}, []catalogue.Release{other})
		}},
		{"open to advisories", follow(k), has(k, "1"), []catalogue.Release{rel(k, "2")}, func(c *Checker, _ *estate.Reading) {
			var as []catalogue.Advisory
			for i := range 6 {
				a := catalogue.Advisory{ID: fmt.Sprintf("A-%d", i), Affects: []catalogue.Affect{{Component: k, Fixed: "9"}}}
				if i > 0 {
					a.Severity, a.Title = catalogue.Severity(i%5), "It leaks."
				}
				as = append(as, a)
			}
			c.Catalogue.AddAdvisories(catalogue.Feed{Name: "a"}, as)
		}},
		{"a line of its file, and a part of the whole host", baseline.Clause{Component: "deb:*", Posture: baseline.AtLeast, Follow: true, Line: 7}, has(k, "1"),
			[]catalogue.Release{rel(k, "2")}, nil},
	}
}

// The stories of all kinds of verdicts, word by word. They stand in testdata/stories.txt, to be read.
func TestStories(t *testing.T) {
	var out strings.Builder
	for _, x := range tales() {
		cat := &catalogue.Catalogue{}
		cat.Add(catalogue.Feed{Name: "f"}, x.releases, catalogue.Track{Component: "deb:t", Name: "4", Prefix: "4."},
			catalogue.Track{Component: "deb:t", Name: "5", Prefix: "5."})
		c := &Checker{Catalogue: cat, Now: now, MaxAge: 8 * time.Hour,
			Baselines: []baseline.Baseline{{Name: "b", Assign: []string{"c"}, Clauses: []baseline.Clause{x.clause}}}}
		r := told("heron", 0)
		if x.has != nil {
			r.Components = []estate.Component{*x.has}
		}
		if x.mend != nil {
			x.mend(c, r)
		}
		vs := c.Host("c", r)
		fmt.Fprintf(&out, "%s\n", x.what)
		for _, v := range vs {
			fmt.Fprintf(&out, "  %s: %s\n", v.Title(), v.Outcome)
			for _, s := range c.Why("c", v, r) {
				fmt.Fprintf(&out, "    %s\n", s)
			}
		}
	}
	const file = "testdata/stories.txt"
	if *renew {
		if err := os.MkdirAll("testdata", 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(out.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	now, was := strings.Split(out.String(), "\n"), strings.Split(string(want), "\n")
	for i := range now {
		if i >= len(was) || now[i] != was[i] {
			t.Fatalf("line %d has another text now; if that is meant, -renew writes it:\n%s", i+1, strings.Join(now[max(0, i-4):i+1], "\n"))
		}
	}
}
