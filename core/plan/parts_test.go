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
	"yareharbour/core/precheck"
)

// reading is a host that answers, of 100 GiB, with its guests in MiB.
func reading(host string, guests ...int64) *estate.Reading {
	r := &estate.Reading{Host: host, Capacity: estate.Resources{MemoryMiB: 100 << 10, CPU: 1000}}
	for _, s := range estate.SectionNames {
		r.SetSection(estate.Section{Name: s, At: now, Source: "test"})
	}
	for i, m := range guests {
		r.Guests = append(r.Guests, estate.Guest{ID: fmt.Sprint(host, i), Name: fmt.Sprintf("%s-%d", host, i),
			State: estate.Running, Load: estate.Resources{MemoryMiB: m}})
	}
	return r
}

func TestTheUsualRound(t *testing.T) {
	if b := DefaultBrief(estate.Cluster{Name: "c", Reserve: 1}); b.Out != 1 || b.Moves != 2 ||
		b.Patience != 20*time.Minute || b.Reserve != 1 {
		t.Errorf("%+v", b)
	}
	if b := DefaultBrief(estate.Cluster{Moves: 5, Patience: time.Hour, Bandwidth: 100}); b.Moves != 5 ||
		b.Patience != time.Hour || b.Bandwidth != 100 {
		t.Errorf("%+v", b)
	}
}

// The past is believed from the third time on: the median, and the time that nine of ten stay below.
func TestHowLongAStepUsuallyTakes(t *testing.T) {
	ts := Times{}
	for i, want := range []string{"assumed", "assumed", "3 of M"} {
		ts.Learn(act.RestartStep, "M", time.Duration(i+1)*time.Minute)
		if _, _, from := ts.Usual(act.RestartStep, "M"); from != want {
			t.Errorf("after %d: from %s, want %s", i+1, from, want)
		}
	}
	for i := 4; i <= 20; i++ {
		ts.Learn(act.RestartStep, "M", time.Duration(i)*time.Minute)
	}
	if m, p, from := ts.Usual(act.RestartStep, "M"); m != 11*time.Minute || p != 19*time.Minute || from != "20 of M" {
		t.Errorf("%s, %s from %s", m, p, from)
	}
	if m, p, _ := ts.Usual(act.RestartStep, "other"); m == 11*time.Minute || m <= 0 || p < m {
		t.Errorf("another model: %s, %s", m, p)
	}
	for _, step := range act.Steps {
		want, worst := time.Duration(0), time.Duration(0)
		for _, n := range act.Names() {
			if n.Step() == step {
				m, p := n.Of().Takes(act.Act{})
				want, worst = max(want, m), max(worst, p)
			}
		}
		if want == 0 {
			want, worst = step.Looking()
		}
		if m, p := assumed(step); m != want || p != worst || m <= 0 {
			t.Errorf("%s is assumed to take %s, at worst %s; want %s, %s", step, m, p, want, worst)
		}
	}
}

// stretches are the steps of a visit, in words.
func stretches(v *Visit) string {
	var out []string
	for _, s := range v.Steps {
		w := string(s.Step)
		if s.Pass > 0 {
			w += fmt.Sprint(s.Pass)
		}
		out = append(out, w)
	}
	return strings.Join(out, " ")
}

func TestTheStepsOfAVisit(t *testing.T) {
	r := reading("a", 9000, 18000)
	install := act.Change{Component: "deb:k", From: "1", To: "2", Restart: catalogue.HostRestart, Pass: 1, File: "k"}
	flash := act.Change{Component: "fw:f", From: "1", To: "2", Restart: catalogue.NoRestart, Pass: 2, File: "f"}
	ts := Times{}
	for want, v := range map[string]*Visit{
		"precheck stage change1 prove": {Host: "a",
			Changes: []act.Change{{Component: "deb:k", From: "1", To: "2", Pass: 1}}, Passes: 1},
		"precheck stage drain close backup change1 restart1 change2 prove reopen": {Host: "a",
			Changes: []act.Change{install, flash}, Passes: 2, Empties: true, Backup: true, Restarts: []int{1}},
		"precheck stage drain close change1 change2 restart2 prove reopen": {Host: "a",
			Changes: []act.Change{flash}, Passes: 2, Empties: true, Restarts: []int{2}},
	} {
		v.Steps = ts.steps(v, r, &Brief{Moves: 2})
		if got := stretches(v); got != want {
			t.Errorf("%s, want %s", got, want)
		}
		for _, s := range v.Steps {
			switch s.Step {
			case act.DrainStep: // each guest as long as its memory takes, one after the other
				if want := time.Duration(9000/900+18000/900) * time.Second; s.Middle != want ||
					s.Pessimistic != 2*want+2*time.Minute || s.From != "assumed, 900 MiB/s, 2 at once" {
					t.Errorf("%+v, want %s", s, want)
				}
			case act.ChangeStep:
				if s.Pass == 2 && len(v.Changes) == 2 {
					m, p := act.Flash.Of().Takes(act.Act{Change: &flash})
					if s.Middle != m || s.Pessimistic != p {
						t.Errorf("%+v, want %s", s, m)
					}
				}
			}
		}
	}
	v := &Visit{Host: "a", Model: "M", Empties: true}
	for range 3 {
		ts.Learn(act.DrainStep, "M", 7*time.Minute)
		ts.Learn(act.ChangeStep, "M", 8*time.Minute)
	}
	v.Passes, v.Changes = 1, []act.Change{install}
	for _, s := range ts.steps(v, r, &Brief{Moves: 2, Bandwidth: 90}) {
		if s.Step == act.DrainStep && (s.Middle != 7*time.Minute || s.From != "3 of M") ||
			s.Step == act.ChangeStep && s.From != "assumed" {
			t.Errorf("%+v", s)
		}
	}
	delete(ts, "drain/M")
	for _, s := range ts.steps(v, r, &Brief{Moves: 3, Bandwidth: 90}) {
		if s.Step == act.DrainStep && (s.Middle != 200*time.Second || s.From != "assumed, 90 MiB/s, 3 at once") {
			t.Errorf("at 90 MiB/s: %+v", s)
		}
	}
}

// The load is that of the hosts in service; the limit what is left when the largest of them is lost for each in
// reserve.
func TestTheTide(t *testing.T) {
	rs := map[string]*estate.Reading{"a": reading("a", 50<<10), "b": reading("b", 30<<10), "c": reading("c"),
		"d": reading("d", 90<<10)}
	rs["b"].Capacity.MemoryMiB = 200 << 10
	rs["d"].Closed = &estate.Mark{}
	in := Input{Cluster: estate.Cluster{Hosts: []string{"a", "b", "c", "d", "e"}},
		Brief: Brief{Reserve: 1}, Readings: rs}
	for _, c := range []struct {
		out         string
		reserve     int
		load, limit float64
	}{{"", 1, 80.0 / 400, 200.0 / 400}, {"a", 1, 30.0 / 300, 100.0 / 300}, {"c", 0, 80.0 / 300, 1},
		{"b", 1, 50.0 / 200, 100.0 / 200}, {"b", 3, 50.0 / 200, 0}, {"", 2, 80.0 / 400, 100.0 / 400}} {
		in.Brief.Reserve = c.reserve
		if load, limit := in.tide(precheck.FitHosts(in.Cluster.Hosts, rs), []string{c.out}); load != c.load ||
			limit != c.limit {
			t.Errorf("without %q, a reserve of %d: %.3f of %.3f, want %.3f of %.3f", c.out, c.reserve,
				load, limit, c.load, c.limit)
		}
	}
	silent := reading("a", 1)
	silent.SetSection(estate.Section{Name: estate.Host, At: now, Err: "silent"})
	in.Readings = map[string]*estate.Reading{"a": silent}
	if load, limit := in.tide(precheck.FitHosts(in.Cluster.Hosts, in.Readings), nil); load != 0 || limit != 0 {
		t.Errorf("of a host that does not answer: %v of %v", load, limit)
	}
}

// Why a host is not visited. Only where all was judged and is kept is it in line.
func TestWhyAHostIsNotVisited(t *testing.T) {
	v := func(o drift.Outcome) drift.Verdict { return drift.Verdict{Component: "deb:k", Outcome: o} }
	silent := reading("a")
	silent.SetSection(estate.Section{Name: estate.Host, At: now, Err: "no route"})
	for _, c := range []struct {
		r      *estate.Reading
		vs     []drift.Verdict
		left   []string
		inLine bool
		unread int
		why    string
	}{
		{nil, nil, nil, false, 1, "it was never read"},
		{silent, []drift.Verdict{v(drift.InLine)}, nil, false, 1, "it does not answer: no route"},
		{reading("a"), nil, nil, false, 1, "no baseline covers it"},
		{reading("a"), []drift.Verdict{v(drift.InLine), v(drift.Unread)}, nil, false, 1,
			"unread: 1, the first is deb:k"},
		{reading("a"), []drift.Verdict{v(drift.Ahead)}, []string{"x", "y", "z"}, false, 0,
			"out of line beyond a round's reach: 1, x; y"},
		{reading("a"), []drift.Verdict{v(drift.InLine)}, nil, true, 0, "in line"},
		{reading("a"), []drift.Verdict{v(drift.InLine), v(drift.Excepted)}, nil, true, 0,
			"in line; 1 excepted or not applying"},
	} {
		if a := aside("a", c.r, c.vs, c.left); a.InLine != c.inLine || a.Unread != c.unread || a.Why != c.why {
			t.Errorf("%+v, want %q", a, c.why)
		}
	}
	for _, c := range []struct {
		p    Plan
		want bool
	}{{Plan{}, false}, {Plan{Aside: []Aside{{InLine: true}}}, true}, {Plan{Aside: []Aside{{InLine: true}, {}}}, false},
		{Plan{Aside: []Aside{{InLine: true}}, Visits: []Visit{{}}}, false}} {
		if c.p.InLine() != c.want {
			t.Errorf("%+v: %v", c.p, c.p.InLine())
		}
	}
}

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
			Outcome: drift.AwaitingRestart, Found: held(estate.Component{Holders: []estate.Holder{{Service: "s"}}})},
			to: "2", does: catalogue.ServiceRestart},
		"awaiting guests": {v: drift.Verdict{Component: "deb:k", Has: "2",
			Outcome: drift.AwaitingRestart, Found: held(estate.Component{Holders: []estate.Holder{{Guest: "g"}}})},
			left: "moves here from elsewhere"},
		"half installed": {v: drift.Verdict{Component: "deb:k", Outcome: drift.HalfInstalled,
			Found: held(estate.Component{State: "half-configured"})}, left: "half-configured; it must be mended"},
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
		Found: held(estate.Component{Holders: []estate.Holder{{Service: "s"}}})}, r)
	if !slices.Equal(got.Services, []string{"s"}) {
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

// A host that a lost round left closed is visited though nothing is to be done on it; without a mark there is nothing
// to adopt.
func TestAnAdoptedHostIsVisited(t *testing.T) {
	in := parse(t, `a 0 | deb:k=2`, `deb:k 2 host`)
	in.Brief.Adopts = "a"
	if p := Make(in); len(p.Visits) != 0 {
		t.Errorf("%+v", p.Visits)
	}
	in.Readings["a"].Closed = &estate.Mark{Round: "lost"}
	if p := Make(in); len(p.Visits) != 1 || p.Visits[0].Adopts != "lost" {
		t.Errorf("%+v", p.Visits)
	}
	in.Brief.Adopts = "b"
	if p := Make(in); len(p.Visits) != 0 {
		t.Errorf("%+v", p.Visits)
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

func TestAPlanIsSummedUp(t *testing.T) {
	p := Plan{Moves: 3, Floor: 2, GoingHome: 6,
		Visits: []Visit{{Host: "a", Steps: []Stretch{{Middle: 10 * time.Minute, Pessimistic: 20 * time.Minute},
			{Middle: 5 * time.Minute, Pessimistic: 10 * time.Minute}}},
			{Host: "b", Steps: []Stretch{{Middle: 15 * time.Minute, Pessimistic: 15 * time.Minute}}},
			{Host: "c", Obstacle: "no", Steps: []Stretch{{Middle: time.Hour, Pessimistic: time.Hour}}}}}
	if got, want := p.Summary(),
		"visits 2 · can't be made 1 · moves 3 (floor 2, going home each time 6) · about 30 min, at worst 45 min"; got != want {
		t.Errorf("%s\n%s", got, want)
	}
	if got := p.Obstacles(); len(got) != 1 || got[0].Obstacle != "no" {
		t.Errorf("%+v", got)
	}
	p.Width = 2
	if got := p.Summary(); !strings.HasSuffix(got, "about 15 min, at worst 30 min") {
		t.Errorf("side by side: %s", got)
	}
	if m, w := p.Visits[0].Estimate(); m != 15*time.Minute || w != 30*time.Minute {
		t.Errorf("%s, %s", m, w)
	}
	p.Visits = p.Visits[:2]
	if got := p.Summary(); strings.Contains(got, "can't") {
		t.Error(got)
	}
}

func scenario(t *testing.T) Input {
	t.Helper()
	return parse(t, `
		a 10 | deb:k=1 deb:s=1
		b 20 | deb:k=1
		c 30 | deb:k=1`, `
		deb:k 2 host
		deb:k 3 host
		deb:s 2 service`)
}

// What a brief names and the cluster has not is an error that says where and what, and so is what contradicts itself.
func TestWhatABriefMayNotSay(t *testing.T) {
	for want, spoil := range map[string]func(*Brief){
		`hosts: c has no host "z"`:       func(b *Brief) { b.Hosts = []string{"z"} },
		`sequence: c has no host "z"`:    func(b *Brief) { b.Sequence = []string{"a", "z"} },
		"sequence: a stands there twice": func(b *Brief) { b.Sequence = []string{"a", "a"} },
		`trial: c has no host "z"`:       func(b *Brief) { b.Trial = "z" },
		"sequence names b, and its hosts leave that out": func(b *Brief) {
			b.Hosts, b.Sequence = []string{"a"}, []string{"b"}
		},
		"lets 0 hosts be out":                         func(b *Brief) { b.Out = 0 },
		"keeps 3 hosts in reserve, and c has 3":       func(b *Brief) { b.Reserve = 3 },
		"keeps -1 hosts in reserve":                   func(b *Brief) { b.Reserve = -1 },
		"makes 0 migrations at once":                  func(b *Brief) { b.Moves = 0 },
		"fills hosts up to 0.8 %: 1 to 100 is wanted": func(b *Brief) { b.Limit = 0.008 },
		"fills hosts up to 120 %":                     func(b *Brief) { b.Limit = 1.2 },
		`there is none called "heaviest"`:             func(b *Brief) { b.Order = "heaviest" },
		"names none":                                  func(b *Brief) { b.Soak = time.Minute },
		"puts b first by hand, and has a on trial": func(b *Brief) {
			b.Trial, b.Sequence = "a", []string{"b", "a"}
		},
		"ends before it begins": func(b *Brief) { b.Windows = []Window{{now, now}} },
		"before the one that it follows": func(b *Brief) {
			b.Windows = []Window{{now, now.Add(time.Hour)}, {now, now.Add(2 * time.Hour)}}
		},
		`lifts "keep x apart", and c has no such rule`: func(b *Brief) { b.Lift = []string{"keep x apart"} },
		"changes deb:z alone":                          func(b *Brief) { b.Only = []estate.Key{"deb:z"} },
		"puts in deb:z 1, and no clause": func(b *Brief) {
			b.Releases = map[estate.Key]string{"deb:z": "1"}
		},
		"puts in deb:k 9, and that is in no feed": func(b *Brief) {
			b.Releases = map[estate.Key]string{"deb:k": "9"}
		},
	} {
		in := scenario(t)
		in.Brief.Moves = 2
		if err := in.Wrong(); err != nil {
			t.Fatal(err)
		}
		spoil(&in.Brief)
		if err := in.Wrong(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	in := scenario(t)
	in.Brief.Moves = 1
	in.Cluster.Rules = []estate.Rule{{Keep: estate.Apart, Guests: []string{"x"}}}
	in.Brief.Lift = []string{"keep x apart"}
	if err := in.Wrong(); err != nil {
		t.Error(err)
	}
	if p := Make(in); len(p.Rules) != 0 {
		t.Errorf("the lifted rule is kept: %v", p.Rules)
	}
}

// Part of it: some components, and an earlier release than the newest.
func TestPartOfIt(t *testing.T) {
	in := scenario(t)
	in.Brief.Only = []estate.Key{"deb:s"}
	p := Make(in)
	if len(p.Visits) != 1 || p.Visits[0].Host != "a" || len(p.Visits[0].Changes) != 1 ||
		p.Visits[0].Changes[0].Component != "deb:s" ||
		!strings.Contains(p.Visits[0].Left[0], "the brief names other components") {
		t.Errorf("%+v", p.Visits)
	}
	if p.InLine() {
		t.Error("what the brief leaves out is said to be in line")
	}
	in.Brief.Only, in.Brief.Releases = nil, map[estate.Key]string{"deb:k": "2"}
	p = Make(in)
	for _, v := range p.Visits {
		for _, c := range v.Changes {
			if c.Component == "deb:k" && (c.To != "2" || !strings.Contains(c.Why, "by the brief")) {
				t.Errorf("%s: %+v", v.Host, c)
			}
		}
	}
	in.Brief.Releases["deb:k"] = "1"
	for _, v := range Make(in).Visits {
		if len(v.Restarts) > 0 {
			t.Errorf("%s has what the brief wants, and is visited for it: %+v", v.Host, v.Changes)
		}
	}
}

// Visits lie side by side where they may, none before those that it depends on, and within the windows.
func TestSchedule(t *testing.T) {
	visit := func(host string, minutes int, after ...string) Visit {
		return Visit{Host: host, After: after,
			Steps: []Stretch{{Middle: time.Duration(minutes) * time.Minute,
				Pessimistic: 2 * time.Duration(minutes) * time.Minute}}}
	}
	at := func(h, m int) time.Time { return now.Add(time.Duration(60*h+m) * time.Minute) }
	for name, c := range map[string]struct {
		width int
		brief Brief
		want  string
	}{
		"one after the other":       {1, Brief{}, "a 0-10 b 10-30 c 30-40"},
		"two at once":               {2, Brief{}, "a 0-10 b 0-20 c 20-30"},
		"three at once":             {3, Brief{}, "a 0-10 b 0-20 c 20-30"},
		"a trial":                   {3, Brief{Trial: "a", Soak: 5 * time.Minute}, "a 0-10 b 15-35 c 35-45"},
		"a window that opens later": {1, Brief{Windows: []Window{{at(1, 0), at(9, 0)}}}, "a 60-70 b 70-90 c 90-100"},
		"two windows": {1, Brief{Windows: []Window{{at(0, 0), at(0, 40)}, {at(2, 0), at(9, 0)}}},
			"a 0-10 b 120-140 c 140-150"},
		"a window too short for one, and for whom it keeps waiting": {1,
			Brief{Windows: []Window{{at(0, 0), at(0, 35)}}}, "a 0-10"},
		"a window too short for the trial": {1,
			Brief{Trial: "b", Windows: []Window{{at(0, 0), at(0, 35)}}}, ""},
		"a window that is over": {1,
			Brief{Windows: []Window{{at(-3, 0), at(-1, 0)}}}, ""},
	} {
		p := Plan{Made: now, Width: c.width, Brief: c.brief,
			Visits: []Visit{visit("a", 10), visit("b", 20), visit("c", 10, "b")}}
		if c.brief.Trial == "b" { // it goes first
			p.Visits = []Visit{visit("b", 20), visit("a", 10), visit("c", 10)}
		}
		turns := p.Schedule((*Visit).middle)
		var got []string
		for _, v := range p.Visits {
			if x, ok := turns[v.Host]; ok {
				got = append(got, fmt.Sprintf("%s %.0f-%.0f", v.Host, x.From.Sub(now).Minutes(),
					x.To.Sub(now).Minutes()))
			}
		}
		if s := strings.Join(got, " "); s != c.want {
			t.Errorf("%s: %s, want %s", name, s, c.want)
		}
	}
}

// What is said of a plan as a whole is of the visits that can be made: those that no window is left for, and those that
// wait for them, have no part in moves, floor and times.
func TestVisitsThatNoWindowIsLeftFor(t *testing.T) {
	counted := func(p *Plan) (moves, visits int) {
		for i := range p.Visits {
			if v := &p.Visits[i]; v.Obstacle == "" {
				moves += len(v.Moves)
				visits++
			} else if len(v.Moves) > 0 {
				t.Errorf("%s can't be visited, and has moves", v.Host)
			}
		}
		return moves, visits
	}
	in := scenario(t)
	all := Make(in)
	_, worst := all.Takes()
	for left := worst; left > 0; left -= time.Minute {
		in.Brief.Windows = []Window{{in.Now, in.Now.Add(left)}}
		p := Make(in)
		moves, visits := counted(&p)
		if turns := p.Schedule((*Visit).middle); len(turns) != visits {
			t.Fatalf("in %s: %d turns, %d visits", left, len(turns), visits)
		}
		if moves != p.Moves || p.Floor > p.Moves || left == worst && visits != len(all.Visits) ||
			left < worst/8 && (visits > 1 || p.Moves > all.Moves/2) {
			t.Errorf("in %s: %d visits with %d moves, and the plan says %d of at least %d", left, visits,
				moves, p.Moves, p.Floor)
		}
	}
	in.Brief.Windows = []Window{{in.Now.Add(-time.Hour), in.Now.Add(-time.Minute)}}
	p := Make(in)
	if moves, visits := counted(&p); visits > 0 || p.Moves+moves > 0 || len(p.Visits) != len(all.Visits) ||
		!strings.Contains(p.Visits[0].Obstacle, "no window") || p.Visits[0].WayOut == "" {
		t.Errorf("%d visits, %d moves: %+v", visits, moves, p.Visits[0])
	}
	if s := strings.Join(p.Notes(), "; "); strings.Contains(s, "empty") {
		t.Error(s)
	}
}

// Where the host on trial can't be visited nobody else is, and the plan does not show them as possible.
func TestATrialThatCantBeVisited(t *testing.T) {
	in := scenario(t)
	usual := Make(in)
	in.Brief.Trial = usual.Visits[0].Host
	in.Readings[in.Brief.Trial].Closed = &estate.Mark{By: "somebody"}
	in.Brief.Out = 3
	p := Make(in)
	for i := range p.Visits {
		v := &p.Visits[i]
		if v.Obstacle == "" || v.Host != in.Brief.Trial && (!strings.Contains(v.Obstacle, "which is on trial") ||
			v.WayOut != "another host on trial, or none") {
			t.Errorf("%s: %q, way out %q", v.Host, v.Obstacle, v.WayOut)
		}
	}
	if p.Moves > 0 || len(p.Visits) != len(usual.Visits) {
		t.Errorf("%d moves, %d visits", p.Moves, len(p.Visits))
	}
}

func TestDifferences(t *testing.T) {
	a := Make(scenario(t))
	in := scenario(t)
	in.Brief.Hosts = []string{"a", "b"}
	b := Make(in)
	got := strings.Join(Differences(&a, &b), "; ")
	if !strings.Contains(got, "visits 3 → 2") || !strings.Contains(got, "moves ") || !strings.Contains(got, "takes ") ||
		!strings.Contains(got, "changes 4 → 3") {
		t.Error(got)
	}
	if d := Differences(&a, &a); len(d) != 0 {
		t.Errorf("%v", d)
	}
	in = scenario(t)
	in.Brief.Sequence = []string{"c", "b", "a"}
	c := Make(in)
	if got := strings.Join(Differences(&a, &c), "; "); !strings.Contains(got, "order c, b, a") {
		t.Error(got)
	}
}

// The host that the controller runs on goes last, unless somebody says otherwise.
func TestTheControllersHostGoesLast(t *testing.T) {
	in := scenario(t)
	in.Controller = "a-10"
	if p := Make(in); p.Visits[len(p.Visits)-1].Host != "a" {
		t.Errorf("%v", turns(&p))
	}
	in.Brief.Sequence = []string{"a"}
	if p := Make(in); p.Visits[0].Host != "a" {
		t.Errorf("%v", turns(&p))
	}
}

// The host on trial goes before all others, those that are not drained included.
func TestTheHostOnTrialGoesFirst(t *testing.T) {
	in := parse(t, `
		a 10 | deb:s=1
		b 20 | deb:k=1
		c 30 | deb:k=1`, `
		deb:k 2 host
		deb:s 2 service`)
	in.Brief.Trial = "c"
	if p := Make(in); strings.Join(turns(&p), " ") != "c a b" {
		t.Errorf("%v", turns(&p))
	}
}

// Of a host that something else stands against, room is asked all the same: what was not asked is never said to be
// there.
func TestRoomIsAskedOfEveryHost(t *testing.T) {
	in := parse(t, `
		a 60 | deb:k=1
		b 60 | deb:k=2
		c 60 | deb:k=2`, `
		deb:k 2 host`)
	in.Readings["a"].BMC.Queue = 1
	p := Make(in)
	var answers []string
	for _, a := range precheck.Blockers(p.Visits[0].Answers) {
		answers = append(answers, a.Check)
	}
	if strings.Join(answers, " ") != "fit bmc" ||
		!strings.Contains(p.Visits[0].Obstacle, "queue") && !strings.Contains(p.Visits[0].Obstacle, "fit") {
		t.Errorf("%v: %s", answers, p.Visits[0].Obstacle)
	}
	for _, a := range p.Visits[0].Answers {
		if a.Check == "fit" && strings.Contains(a.Evidence, "find a place") {
			t.Error(a.Evidence)
		}
	}
}

// A host that has been up for long restarts once before anything is changed on it.
func TestARestartIsRehearsed(t *testing.T) {
	in := scenario(t)
	in.Brief.Rehearse = 24 * time.Hour
	in.Readings["a"].BootedAt = now.Add(-24 * time.Hour)
	in.Readings["b"].BootedAt = now.Add(-24*time.Hour + 1)
	p := Make(in)
	for i := range p.Visits {
		v := &p.Visits[i]
		want := map[string]string{"a": "[1 2] 2", "b": "[1] 1", "c": "[1 2] 2"}[v.Host] // of c it is not known
		if got := fmt.Sprint(v.Restarts, " ", v.Passes); got != want || v.Rehearses != (v.Host != "b") {
			t.Errorf("%s: %s, want %s", v.Host, got, want)
		}
		for _, c := range v.Changes {
			if c.Pass != v.Passes {
				t.Errorf("%s: %+v", v.Host, c)
			}
		}
		restarts := 0
		for _, s := range v.Steps {
			if s.Step == act.RestartStep {
				restarts++
			}
			if s.Step == act.ChangeStep && s.Pass == 1 && v.Rehearses {
				t.Errorf("%s: a change in the pass of the rehearsal", v.Host)
			}
		}
		if restarts != v.Passes {
			t.Errorf("%s: %d restarts are timed", v.Host, restarts)
		}
	}
}

// Guests go home where the brief says so, and the plan counts, times and tells it; without it only the host on trial
// has one come back.
func TestGuestsThatComeBack(t *testing.T) {
	in := scenario(t)
	usual := Make(in)
	in.Brief.Home, in.Brief.Out = true, 3
	p := Make(in)
	left, back := 0, 0
	for i := range p.Visits {
		v := &p.Visits[i]
		left, back = left+len(v.Moves), back+len(v.Back)
		last := v.Steps[len(v.Steps)-1]
		if last.Step != act.ReturnStep || last.Middle <= 0 || last.Pessimistic < last.Middle ||
			!strings.Contains(last.From, "MiB/s") {
			t.Errorf("%s ends with %+v", v.Host, last)
		}
	}
	if left != back || p.Moves != left+back || p.Moves != usual.GoingHome || p.Width != 1 {
		t.Errorf("%d leave, %d come back, moves %d of %d, %d at once", left, back, p.Moves, usual.GoingHome, p.Width)
	}
	if !strings.Contains(p.Summary(), "guests go home") ||
		!strings.Contains(strings.Join(p.Notes(), ";"), "every guest is where it was afterwards") ||
		strings.Contains(strings.Join(p.Notes(), ";"), "would level") {
		t.Errorf("%s; %v", p.Summary(), p.Notes())
	}
	if d := strings.Join(Differences(&usual, &p), " "); !strings.Contains(d,
		fmt.Sprintf("moves %d → %d", usual.Moves, p.Moves)) {
		t.Error(d)
	}
	in = scenario(t)
	in.Brief.Trial, in.Brief.Out = "b", 3
	p = Make(in)
	for i := range p.Visits {
		v := &p.Visits[i]
		if n := len(v.Back); n != map[bool]int{true: 1}[v.Host == "b"] || n > 0 && v.Back[0].Guest != "b-20" {
			t.Errorf("%s: %+v", v.Host, v.Back)
		}
	}
	if !strings.Contains(strings.Join(p.Notes(), ";"), "b-20 comes back to b as proof") {
		t.Error(p.Notes())
	}
	in.Readings["b"].Guests = nil
	if p = Make(in); !strings.Contains(strings.Join(p.Notes(), ";"), "no guest comes back to b as proof") {
		t.Error(p.Notes())
	}
}

// A host on trial that is not visited at all proves nothing: nobody goes before somebody says what is meant.
func TestATrialOnWhichNothingIsChanged(t *testing.T) {
	in := parse(t, `
		a 10 | deb:k=1
		b 20 | deb:k=2`, `
		deb:k 2 host`)
	in.Brief.Trial = "b"
	p := Make(in)
	if v := &p.Visits[0]; len(p.Visits) != 1 ||
		v.Obstacle != "it waits for b, which is on trial and is not visited: in line" || v.WayOut == "" || p.Moves > 0 {
		t.Errorf("%+v", p.Visits)
	}
}
