package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// What a round does about each verdict, or why it leaves it.
func TestWhatARoundDoesAboutAVerdict(t *testing.T) {
	rel := &catalogue.Release{Component: "deb:k", Version: "3", Restart: catalogue.HostRestart, File: "k3",
		SHA256: "5a", Size: 9}
	r := reading("a")
	r.Components = []estate.Component{{Key: "deb:k", Version: "1"}, {Key: "deb:other", Version: "1"}}
	held := func(c estate.Component) *estate.Component { return &c }
	for name, c := range map[string]struct {
		v    drift.Verdict
		to   string
		does catalogue.Restart
		left string // a part of why it is left
		none bool   // nothing is done, and nothing is left
	}{
		"behind": {v: drift.Verdict{Component: "deb:k", Has: "1", Wants: "3",
			Outcome: drift.Behind, Release: rel}, to: "3", does: catalogue.HostRestart},
		"absent, of packages it has": {v: drift.Verdict{Component: "deb:n", Wants: "3", Outcome: drift.Absent,
			Release: rel}, to: "3", does: catalogue.HostRestart},
		"absent, of packages it has not": {v: drift.Verdict{Component: "rpm:n", Wants: "3", Outcome: drift.Absent,
			Release: rel}, left: "its packages are not of the kind rpm"},
		"absent firmware": {v: drift.Verdict{Component: "fw:n", Wants: "3", Outcome: drift.Absent,
			Release: rel}, left: "no device in it has fw:n"},
		"withdrawn": {v: drift.Verdict{Component: "deb:k", Has: "2", Wants: "3",
			Outcome: drift.Withdrawn, Release: rel}, to: "3", does: catalogue.HostRestart},
		"withdrawn, and nothing stands": {v: drift.Verdict{Component: "deb:k", Has: "2", Outcome: drift.Withdrawn},
			left: "there is no release to go to"},
		"withdrawn, and a step back": {v: drift.Verdict{Component: "deb:k", Has: "4", Wants: "3",
			Outcome: drift.Withdrawn, Release: rel}, left: "is a step back"},
		"withdrawn, and the same again": {v: drift.Verdict{Component: "deb:k", Has: "3", Wants: "3",
			Outcome: drift.Withdrawn, Release: rel}, left: "is a step back"},
		"unwanted": {v: drift.Verdict{Component: "deb:k", Has: "1", Outcome: drift.Unwanted},
			to: "", does: catalogue.NoRestart},
		"awaiting the host's restart": {v: drift.Verdict{Component: "deb:k", Has: "2",
			Outcome: drift.AwaitingRestart, Found: held(estate.Component{Restarts: "host"})}, to: "2",
			does: catalogue.HostRestart},
		"awaiting a service's restart": {v: drift.Verdict{Component: "deb:k", Has: "2",
			Outcome: drift.AwaitingRestart, Found: held(estate.Component{Holders: []estate.Holder{{Service: "s.service"}}})},
			to: "2", does: catalogue.ServiceRestart},
		"awaiting guests": {v: drift.Verdict{Component: "deb:k", Has: "2",
			Outcome: drift.AwaitingRestart, Found: held(estate.Component{Holders: []estate.Holder{{Guest: "g"}}})},
			left: "moves here from elsewhere"},
		"half installed": {v: drift.Verdict{Component: "deb:k", Outcome: drift.HalfInstalled,
			Found: held(estate.Component{State: "half-configured"})}, left: "half-configured; fix it"},
		"off its track": {v: drift.Verdict{Component: "deb:k", Outcome: drift.OffTrack},
			left: "a person decides"},
		"ahead": {v: drift.Verdict{Component: "deb:k", Outcome: drift.Ahead},
			left: "a person decides"},
		"unread": {v: drift.Verdict{Component: "deb:k", Outcome: drift.Unread},
			left: "a person decides"},
		"settings": {v: drift.Verdict{Component: "set:k", Outcome: drift.Behind, Release: rel},
			left: "rounds change neither settings"},
		"settings in line": {v: drift.Verdict{Component: "set:k", Outcome: drift.InLine}, none: true},
		"in line":          {v: drift.Verdict{Component: "deb:k", Outcome: drift.InLine}, none: true},
		"excepted":         {v: drift.Verdict{Component: "deb:k", Outcome: drift.Excepted}, none: true},
	} {
		got, left := change(c.v, r)
		switch {
		case c.left != "" || c.none:
			if got.Component != "" || c.none != (left == "") || !strings.Contains(left, c.left) {
				t.Errorf("%s: %+v, left %q", name, got.Change, left)
			}
		case left != "" || got.To != c.to || got.Restart != c.does || got.From != c.v.Has ||
			c.v.Release != nil && (got.File != "k3" || got.SHA256 != "5a" || got.Size != 9):
			t.Errorf("%s: %+v, left %q", name, got.Change, left)
		}
	}
	got, _ := change(drift.Verdict{Component: "deb:k", Has: "2", Outcome: drift.AwaitingRestart,
		Found: held(estate.Component{Holders: []estate.Holder{{Service: "s.service"}}})}, r)
	if !slices.Equal(got.Services, []string{"s.service"}) {
		t.Errorf("%+v", got.Services)
	}
	// one that nobody restarts while the host runs takes the host's restart
	got, _ = change(drift.Verdict{Component: "deb:k", Has: "2", Outcome: drift.AwaitingRestart,
		Found: held(estate.Component{Holders: []estate.Holder{{Service: "s.service"}, {Service: "dbus.service"}}})}, r)
	if got.Restart != catalogue.HostRestart || got.Services != nil {
		t.Errorf("%+v", got.Change)
	}
	// what is put in names the services that it brings, and those that wait already
	served := *rel
	served.Restart = catalogue.ServiceRestart
	got, _ = change(drift.Verdict{Component: "deb:k", Has: "1", Wants: "3", Outcome: drift.Behind, Release: &served,
		Found: held(estate.Component{Units: []string{"a.service", "dbus.service", "s.service"},
			Holders: []estate.Holder{{Service: "s.service"}, {Service: "b.service"}}})}, r)
	if !slices.Equal(got.Services, []string{"a.service", "s.service", "b.service"}) {
		t.Errorf("%+v", got.Services)
	}
}

// The lowest version that runs on any device; where one is not known, none is.
func TestTheLowestThatRuns(t *testing.T) {
	s := standings{}
	if s.lowest("deb:k") != "" {
		t.Error("what is not there has a version")
	}
	for _, v := range []struct{ device, version, low string }{{"1", "5", "5"}, {"2", "3", "3"}, {"3", "10", "3"},
		{"2", "7", "5"}, {"4", "", ""}} {
		if s.set("deb:k", v.device, v.version); s.lowest("deb:k") != v.low {
			t.Errorf("after %+v: %q", v, s.lowest("deb:k"))
		}
	}
}

// What the host will have when its visit is over: changed, new and gone.
func TestWhatAHostWillHave(t *testing.T) {
	r := reading("a")
	r.Components = []estate.Component{{Key: "fw:n", Device: "1", Version: "1"},
		{Key: "fw:n", Device: "2", Version: "1"}, {Key: "deb:gone", Version: "1"}, {Key: "deb:kept", Version: "4"}}
	r.Sort()
	v := &Visit{Changes: []act.Change{{Component: "fw:n", Device: "2", From: "1", To: "2"},
		{Component: "deb:gone", From: "1"}, {Component: "deb:new", To: "9"}}}
	has := after(r, v)
	for key, want := range map[estate.Key][]string{"fw:n": {"1", "2"}, "deb:gone": nil, "deb:kept": {"4"},
		"deb:new": {"9"}, "deb:nowhere": nil} {
		if got := has(key).Versions; !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", key, got, want)
		}
	}
}

// A release that can't be had gives way to the best below it that has a file, and that is said.
func TestAReleaseGivesWayToTheBestBelowIt(t *testing.T) {
	in := parse(t, `a 0 | fw:x=1 drv:d=1`, `fw:x 4 none needs drv:d 9`)
	in.Below = func(drift.Verdict) []*catalogue.Release {
		return []*catalogue.Release{{Version: "3"}, {Version: "2b", File: "f"},
			{Version: "2", File: "f", SHA256: "5a", Restart: catalogue.NoRestart}}
	}
	in.Verdicts["a"] = slices.DeleteFunc(in.Verdicts["a"], func(v drift.Verdict) bool { return v.Component != "fw:x" })
	p := Make(in)
	if len(p.Visits) != 1 || len(p.Visits[0].Changes) != 0 && p.Visits[0].Changes[0].To != "2" {
		t.Fatalf("%+v %+v", p.Visits, p.Aside)
	}
	if left := strings.Join(p.Visits[0].Left, ";"); !strings.Contains(left, "fw:x: 4 can't be had yet") ||
		!strings.Contains(left, "2 is put in") {
		t.Errorf("%q", left)
	}
}

// What the host's package manager says goes into the plan: what comes along, what it refuses, and that it could not be
// asked.
func TestWhatThePackageManagerSays(t *testing.T) {
	in := parse(t, `a 0 | deb:s=1`, `deb:s 2 service`)
	level := func(p Plan) string {
		for _, a := range p.Visits[0].Answers {
			if a.Check == "along" {
				return fmt.Sprint(a.Level, ": ", a.Evidence)
			}
		}
		return "not asked"
	}
	if got := level(Make(in)); got != "not asked" {
		t.Error(got)
	}
	first := Make(in)
	asked := first.Visits[0].Packages()
	for want, said := range map[string]act.Resolution{
		"clear: nothing else changes":               {},
		"clear: with its packages":                  {Along: []act.Along{{Component: "deb:z", To: "3"}}},
		"caution: what else would change could not": {Unasked: "it is silent"},
	} {
		in.Resolved = map[string]Resolved{"a": {asked, []act.Resolution{said}}}
		p := Make(in)
		if got := level(p); !strings.HasPrefix(got, want) || len(p.Visits[0].Along) != len(said.Along) {
			t.Errorf("%q, want %q", got, want)
		}
	}
	in.Resolved = map[string]Resolved{"a": {Asked: asked}}
	if got := level(Make(in)); !strings.HasPrefix(got, "clear") {
		t.Error(got)
	}
	in.Resolved = map[string]Resolved{"a": {Asked: map[int][]act.Change{1: {{Component: "deb:other", To: "2"}}}}}
	if got := level(Make(in)); !strings.HasPrefix(got,
		"caution: what else would change could not be asked: these changes are others") {
		t.Error(got)
	}
}

// What one image brings is made by one start, and what it brings unasked is told.
func TestWhatAnImageBrings(t *testing.T) {
	in := parse(t, "a | fw:x=1 fw:y=1 fw:z=2 deb:k=1\nb |", "fw:x 2 host\nfw:y 2 host\nfw:z 2 host\ndeb:k 2 host")
	in.Catalogue = &catalogue.Catalogue{}
	var all []catalogue.Release
	for _, k := range []estate.Key{"fw:x", "fw:y", "fw:z"} {
		all = append(all, catalogue.Release{Component: k, Version: "2", Restart: catalogue.HostRestart, File: "i.iso", SHA256: "sum", Image: true,
			Takes: 40 * time.Minute})
	}
	all = append(all, catalogue.Release{Component: "deb:k", Version: "2", Restart: catalogue.HostRestart, File: "k.deb", SHA256: "k"})
	in.Catalogue.Add(catalogue.Feed{Name: "f"}, all)
	for h := range in.Verdicts {
		for i := range in.Verdicts[h] {
			if v := &in.Verdicts[h][i]; v.Release != nil {
				v.Release = in.Catalogue.Release(v.Component, "2", "", "")
			}
		}
	}
	p := Make(in)
	v := p.visit("a")
	if len(v.Changes) != 3 || v.Changes[0].Component != "deb:k" || !v.Boots() || len(v.Along) != 0 {
		t.Fatalf("%+v, along %v", v.Changes, v.Along)
	}
	a, ok := act.Next(v.Changes, 1, func(_ act.Name, i int) bool { return i == 0 })
	if !ok || a.Kind != act.Boot || len(a.With) != 1 {
		t.Errorf("%+v", a)
	}
	if m, _ := v.Estimate(); m < 40*time.Minute || m > 60*time.Minute {
		t.Errorf("it takes %s", m)
	}
	in.Unserved = "nobody said where"
	for _, at := range []string{"", "https://images.example/i.iso"} {
		for h := range in.Verdicts {
			for i := range in.Verdicts[h] {
				if r := in.Verdicts[h][i].Release; r != nil && r.Image {
					r.At = at
				}
			}
		}
		p := Make(in)
		f := in.facts(p.visit("a"))
		if _, wanted := f.Payloads["i.iso"]; wanted == (at != "") || (f.Unserved == "") == (at == "") || !f.Boots {
			t.Errorf("at %q: payloads %v, unserved %q", at, f.Payloads, f.Unserved)
		}
	}
	in.Brief.Only = []Scope{"fw:x"}
	p = Make(in)
	if v := p.visit("a"); len(v.Changes) != 1 || len(v.Along) != 1 || v.Along[0].Says() != "fw:y 1 → 2 comes along" {
		t.Errorf("%+v, along %v", v.Changes, v.Along)
	}
}
