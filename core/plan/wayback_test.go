package plan

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Of every place that a visit changes it is told how a person could undo it, or why nobody can.
func TestTheWayBack(t *testing.T) {
	const hosts, releases = `
		a 10 | deb:k=1 fw:x=1 drv:d=1
		b 10 | deb:k=3 fw:x=3 drv:d=3`, `
		deb:k 1 host
		deb:k 3 host
		fw:x 1 host
		fw:x 2 host
		fw:x 3 host needs fw:x 2
		drv:d 3 host`
	of := func(in Input) string {
		p := Make(in)
		var out []string
		for i := range p.visit("a").WaysBack {
			out = append(out, p.visit("a").WaysBack[i].Says())
		}
		return strings.Join(out, "; ")
	}
	edit := func(key estate.Key, version string, change func(*catalogue.Release)) func(*Input) {
		return func(in *Input) {
			all := &catalogue.Catalogue{}
			for _, k := range []estate.Key{"deb:k", "fw:x", "drv:d"} {
				for _, r := range in.Catalogue.Releases(k) {
					if k == key && r.Version == version {
						change(&r)
					}
					all.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{r})
				}
			}
			in.Catalogue = all
		}
	}
	nothing := func(string, string) error { return errors.New("it is not here") }
	for _, c := range []struct {
		name   string
		change func(*Input)
		want   string
	}{
		{"as it is; a ladder goes back as one", func(*Input) {},
			"no way back from drv:d 3: 1 is in no feed|deb:k 1 is here and verified|fw:x 1 is here and verified"},
		{"not here", func(in *Input) { in.Payloads = nothing }, "deb:k 1 is in a feed, and not here"},
		{"withdrawn", edit("deb:k", "1", func(r *catalogue.Release) {
			r.Withdrawn = "it leaks"
		}), "no way back from deb:k 3: 1 was withdrawn: it leaks"},
		{"in no file", edit("deb:k", "1", func(r *catalogue.Release) { r.File = "" }),
			"no way back from deb:k 3: 1 comes in no file"},
		{"signed is enough", edit("deb:k", "1", func(r *catalogue.Release) {
			r.File, r.Signed = "", true
		}), "deb:k 1 is in a feed, and not here"},
		{"the last rung is one way", edit("fw:x", "3", func(r *catalogue.Release) {
			r.OneWay = "another layout."
		}), "no way back from fw:x 3: another layout;|fw:x 3: another layout"},
		{"a rung on the way is one way", edit("fw:x", "2", func(r *catalogue.Release) {
			r.OneWay = "another layout"
		}), "no way back from fw:x 3: another layout"},
		{"what stands there now is one way, which matters to nobody", edit("fw:x", "1", func(r *catalogue.Release) {
			r.OneWay = "another layout"
		}), "fw:x 1 is here and verified"},
		{"for other hardware", edit("fw:x", "3", func(r *catalogue.Release) {
			r.OneWay, r.Hardware = "another layout", []string{"N"}
		}), "fw:x 1 is here and verified"},
	} {
		in := parse(t, hosts, releases)
		in.Payloads = func(string, string) error { return nil }
		c.change(&in)
		got := of(in)
		ok := false
		for _, want := range strings.Split(c.want, "|") {
			ok = strings.Contains(got+";", want)
			if !ok && c.name != "the last rung is one way" {
				t.Errorf("%s: %s, want %s", c.name, got, want)
			}
		}
		if !ok {
			t.Errorf("%s: %s", c.name, got)
		}
	}
	in := parse(t, hosts, releases)
	in.Payloads = func(string, string) error { return nil }
	p := Make(in)
	none, others := p.visit("a").Backs()
	if len(none) != 1 || others != "2 changes can be undone by a person, with what is here" {
		t.Errorf("%v, %s", none, others)
	}
	p.visit("a").WaysBack[0].Here = false
	for i := range p.visit("a").WaysBack {
		p.visit("a").WaysBack[i].Here = false
	}
	if _, others = p.visit("a").Backs(); !strings.Contains(others,
		"for 2 of them the older release must be fetched first") {
		t.Error(others)
	}
	for _, w := range []struct {
		way  WayBack
		want string
	}{
		{WayBack{Component: "deb:n", From: "1"}, "deb:n 1 can be removed again"},
		{WayBack{Component: "deb:n", To: "1", Here: true}, "deb:n 1 is here and verified"},
		{WayBack{Component: "deb:n", To: "1", None: "1 is in no feed"},
			"no way back from deb:n (removed): 1 is in no feed"},
	} {
		if got := w.way.Says(); got != w.want {
			t.Error(got)
		}
	}
}

// What a release adds to the features of its host, and what it drops, is counted from the end of the visit on.
func TestFeaturesAfterAChange(t *testing.T) {
	in := parse(t, `
		a 10 | deb:k=1
		b 20 | deb:k=1
		c 30 | deb:k=2`, `
		deb:k 2 host`)
	in.Catalogue.Add(catalogue.Feed{Name: "f"},
		[]catalogue.Release{{Component: "deb:k", Version: "2", Adds: []string{"new", "old"}, Drops: []string{"gone"}}})
	for _, h := range []string{"a", "b", "c"} {
		in.Readings[h].Features = []string{"gone", "old"}
	}
	in.Readings["c"].Features = []string{"old", "new"}
	p := Make(in)
	features := func(h string) string { return strings.Join(in.features(p.visit(h)), " ") }
	if got := features("a"); got != "old new" {
		t.Errorf("a will have %s", got)
	}
	if got := fmt.Sprint(in.Readings["a"].Features); got != "[gone old]" {
		t.Errorf("the reading itself was changed: %s", got)
	}
	hosts := in.problem(&p).Hosts
	if hosts[0].After == nil || strings.Join(hosts[0].After.Features, " ") != "old new" || hosts[2].After != nil {
		t.Errorf("%+v, %+v", hosts[0].After, hosts[2].After)
	}
	// A guest that needs what goes finds no place once two of three hosts lack it.
	for i := range in.Readings["b"].Guests {
		in.Readings["b"].Guests[i].Features = []string{"gone"}
	}
	p = Make(in)
	if v := p.visit("b"); v.Obstacle != "" && !strings.Contains(v.Obstacle, "gone") {
		t.Errorf("%q", v.Obstacle)
	}
	for i := range p.Visits {
		for _, m := range p.Visits[i].Moves {
			if m.Guest == "b-20" && m.To == "c" {
				t.Errorf("%+v, which lacks what it needs", m)
			}
		}
	}
}
