package plan

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
)

// Whoever is out of service already takes a place among those that may be: closed hosts, and those that do not answer.
// The host that a lost round left closed does not, for this one goes on with it.
func TestHowManyMayGoOut(t *testing.T) {
	in := Input{Cluster: estate.Cluster{Act: true, Hosts: []string{"a", "b", "c", "d", "e"}},
		Readings: map[string]*estate.Reading{"a": reading("a"), "b": reading("b"),
			"c": reading("c"), "d": reading("d")}}
	in.Brief.Out = 4
	width := func(already, may int) {
		t.Helper()
		if n, w := in.outAlready(), in.order().Width; n != already || w != may {
			t.Errorf("%d are out, and %d may be at once; want %d and %d", n, w, already, may)
		}
	}
	width(0, 4)
	in.Readings["b"].Closed = &estate.Mark{By: "somebody"}
	width(1, 3)
	in.Readings["c"].SetSection(estate.Section{Name: estate.Host, At: now, Err: "silent"})
	width(2, 2)
	in.Brief.Adopts = "b"
	width(1, 3)
	in.Brief.Out = 1
	width(1, 1)
}

// The order is the brief's, and the controller's host goes last where the brief does not say when it goes.
func TestTheOrderThatIsAskedFor(t *testing.T) {
	in := Input{Cluster: estate.Cluster{Act: true, Hosts: []string{"a", "b"}},
		Readings: map[string]*estate.Reading{"a": reading("a", 1, 1), "b": reading("b", 1)}}
	if o := in.order(); o.Light || o.First != "" || o.Last != "" || len(o.Fixed) > 0 || o.Width != 1 {
		t.Errorf("%+v", o)
	}
	in.Brief.Order, in.Brief.Sequence, in.Brief.Trial = LightestFirst, []string{"b"}, "b"
	if o := in.order(); !o.Light || o.First != "b" || !slices.Equal(o.Fixed, []string{"b"}) {
		t.Errorf("%+v", o)
	}
	in.Brief = Brief{}
	for controller, want := range map[string]string{"": "", "a1": "a", "a-1": "a", "b0": "b", "z": ""} {
		in.Controller = controller
		if got := in.order().Last; got != want {
			t.Errorf("the controller is %q: %q goes last, want %q", controller, got, want)
		}
	}
	in.Controller = "a1"
	in.Brief.Trial = "a"
	if o := in.order(); o.Last != "" {
		t.Errorf("it is on trial, and goes last: %+v", o)
	}
	in.Brief = Brief{Sequence: []string{"a"}}
	if o := in.order(); o.Last != "" {
		t.Errorf("it is put first by hand, and goes last: %+v", o)
	}
	in.Brief = Brief{}
	in.Readings["a"].Guests[1].State = estate.Suspended
	if o := in.order(); o.Last != "" {
		t.Errorf("a controller that is suspended makes no plans: %+v", o)
	}
}

// A host is judged as it will be where its emulator changes, and only there.
func TestAHostWithANewEmulator(t *testing.T) {
	in := Input{Cluster: estate.Cluster{Act: true, Hosts: []string{"a", "b"}},
		Readings: map[string]*estate.Reading{"a": reading("a"), "b": reading("b")}}
	in.Readings["a"].Emulator = "deb:emu"
	after := func(v Visit) *fit.After {
		problem := in.problem(&Plan{Visits: []Visit{v}})
		if problem.Hosts[1].After != nil {
			t.Error("a host that is not visited changes")
		}
		return problem.Hosts[0].After
	}
	for name, c := range map[string]struct {
		v    Visit
		want string
	}{
		"it changes": {Visit{Host: "a",
			Changes: []act.Change{{Component: "deb:x", To: "3"}, {Component: "deb:emu", To: "2"},
				{Component: "deb:y", To: "4"}}}, "2"},
		"something else does": {Visit{Host: "a", Changes: []act.Change{{Component: "deb:x", To: "2"}}}, ""},
		"it is removed":       {Visit{Host: "a", Changes: []act.Change{{Component: "deb:emu"}}}, ""},
		"it is not visited": {Visit{Host: "a", Obstacle: "no room",
			Changes: []act.Change{{Component: "deb:emu", To: "2"}}}, ""},
		"it is not in cluster": {Visit{Host: "z", Changes: []act.Change{{Component: "deb:emu", To: "2"}}}, ""},
	} {
		if got := after(c.v); (got == nil) != (c.want == "") ||
			got != nil && (got.Emulator.Version != c.want || got.Emulator.Key != "deb:emu") {
			t.Errorf("%s: %+v", name, got)
		}
	}
	in.Readings["a"].Emulator = ""
	if got := after(Visit{Host: "a", Changes: []act.Change{{To: "2"}}}); got != nil {
		t.Errorf("what nobody named is an emulator: %+v", got)
	}
}

// A pattern reaches those that can't be migrated, a name everybody; one that is suspended can't be shut down, and one
// that is tied by more than media is not helped by ejecting.
func TestWhatIsDoneWithGuests(t *testing.T) {
	r := reading("a", 1, 1, 1, 1, 1, 1, 1)
	r.Guests[1].Devices = []string{"card"}
	r.Guests[2].Pins = []string{"it has a snapshot"}
	r.Guests[3].State = estate.Suspended
	r.Guests[4].Disks = []estate.Disk{{Target: "sda", Source: "/x.iso", Media: true, Local: true}}
	r.Guests[5].Disks = []estate.Disk{{Target: "sda", Source: "/x.iso", Media: true, Local: true},
		{Target: "vda", Source: "/a.img", Local: true}}
	r.Guests[6].Disks = []estate.Disk{{Target: "sda", Source: "/srv/x.iso", Media: true},
		{Target: "vda", Source: "/srv/a.img"}}
	for name, c := range map[string]struct {
		policies []Policy
		want     string
	}{
		"by a pattern": {[]Policy{{[]string{"a-*"}, DoShutDown}},
			"shut down a-1, shut down a-2, shut down a-4, shut down a-5"},
		"all of them": {[]Policy{{[]string{"a-1"}, DoSuspend}, {[]string{"*"}, DoShutDown}},
			"shut down a-0, shut down a-1, shut down a-2, shut down a-4, shut down a-5, shut down a-6"},
		"but all are not left": {[]Policy{{[]string{"*"}, DoLeave}}, "left for a-1"},
		"suspended to disk": {[]Policy{{[]string{"a-*"}, DoSuspend}},
			"suspend a-3, suspend a-4, suspend a-5"},
		"by name": {[]Policy{{[]string{"a-0"}, DoShutDown}}, "shut down a-0"},
		"what holds a device is not suspended": {[]Policy{{[]string{"a-1"}, DoSuspend}, {[]string{"a-*"}, DoShutDown}},
			"shut down a-1, shut down a-2, shut down a-4, shut down a-5"},
		"what is suspended, by name": {[]Policy{{[]string{"a-3"}, DoShutDown}}, ""},
		"ejected":                    {[]Policy{{[]string{"a-*"}, DoEject}}, "eject a-4 [{sda /x.iso true true }]"},
		"ejected, and else at rest": {[]Policy{{[]string{"a-*"}, DoEject}, {[]string{"a-5"}, DoSuspend}},
			"suspend a-5, eject a-4 [{sda /x.iso true true }]"},
		"left":               {[]Policy{{[]string{"a-2", "a-6"}, DoLeave}}, "left for a-2"},
		"left, by a pattern": {[]Policy{{[]string{"a-*"}, DoLeave}}, "left for a-1"},
	} {
		b := Brief{Guests: c.policies}
		v := Visit{Host: "a"}
		leaves := b.treats(&v, r)
		var got []string
		for _, x := range v.Rests {
			got = append(got, fmt.Sprint(x.How, " ", x.Guest))
		}
		for _, x := range v.Ejects {
			got = append(got, fmt.Sprint("eject ", x.Guest, " ", x.Media))
		}
		if leaves != "" {
			got = append(got, "left for "+leaves)
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s: %v, want %s", name, got, c.want)
		}
	}
	got := wayOf(fit.Way{Off: []string{"a0", "a3"}}, r)
	if len(got.Rests) != 2 || got.Rests[0].How != act.Down || got.Rests[1].How != act.Save || !got.Takeable() {
		t.Errorf("%+v", got)
	}
	if got := wayOf(fit.Way{Off: []string{"a0", "b0"}}, r); got.Rests != nil || got.Takeable() {
		t.Errorf("a guest of another host is the round's to shut down: %+v", got)
	}
	if got := wayOf(fit.Way{Reserve: true}, r); !got.Takeable() {
		t.Errorf("%+v", got)
	}
	var b Brief
	way := wayOf(fit.Way{Eject: []string{"a4"}, Drives: []string{"a-4"}}, r)
	if way.Take(&b); !way.Takeable() || len(b.Guests) != 1 || b.Guests[0].Do != DoEject ||
		b.Guests[0].Guests[0] != "a4" || way.Says() != "take out what is in the drives of a-4" {
		t.Errorf("%+v: %+v", way, b)
	}
	// each of them takes its time when it comes back
	times := Times{}
	alone := times.steps(&Visit{Host: "a", Empties: true}, r, &Brief{Moves: 1})
	with := times.steps(&Visit{Host: "a", Empties: true, Rests: b2(r)}, r, &Brief{Moves: 1})
	m, w := act.Start.Of().Takes(act.Act{})
	last, was := with[len(with)-1], alone[len(alone)-1]
	if last.Middle != was.Middle+2*m || last.Pessimistic != was.Pessimistic+2*w {
		t.Errorf("%v and %v, where %v and %v are usual: two starts of %v and %v", last.Middle, last.Pessimistic,
			was.Middle, was.Pessimistic, m, w)
	}
}

// Who is started after another is shut down before it, whatever the order of the policies; what no rule speaks of stays in
// theirs.
func TestGuestsRestInTheOrderOfTheRules(t *testing.T) {
	in, r := scenario(t), reading("a", 1, 1, 1, 1)
	var all []string
	for i := range r.Guests {
		r.Guests[i].Name = fmt.Sprint("g", i)
		all = append(all, r.Guests[i].Name)
	}
	rule := func(of string, wait time.Duration, guests ...string) estate.Rule {
		return estate.Rule{Keep: estate.After, Guests: guests, Of: []string{of}, Wait: wait, Answers: of + ":1"}
	}
	for want, rules := range map[string][]estate.Rule{
		"g0 g1 g2 g3": nil,
		"g1 g0 g2 g3": {rule("g0", 0, "g1")},
		"g2 g1 g0 g3": {rule("g0", 0, "g1", "g2"), rule("g1", time.Minute, "g2")},
		"g1 g2 g3 g0": {rule("g0", 0, "g*")},
	} {
		in.Cluster.Rules = rules
		in.Brief.Guests = []Policy{{all[:4], DoShutDown}}
		v := Visit{Host: "a"}
		in.Brief.treats(&v, r)
		in.inTurn(&v, r)
		var got []string
		for _, x := range v.Rests {
			got = append(got, x.Guest)
			if want := (Rest{ID: x.ID, Guest: "g2", How: act.Down, After: "g0, g1", Wait: time.Minute, Answers: "g0:1, g1:1"}); x.Guest == "g2" && len(rules) == 2 && x != want {
				t.Errorf("%+v, want %+v", x, want)
			}
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%v, want %s", got, want)
		}
	}
	// one address is not taken for another that begins like it, and each is waited for
	ports := []estate.Rule{rule("g0", 0, "g1"), rule("g0", 0, "g1")}
	ports[0].Answers, ports[1].Answers = "db:5432", "db:543"
	in.Cluster.Rules = ports
	v := Visit{Host: "a"}
	in.Brief.treats(&v, r)
	in.inTurn(&v, r)
	if i := slices.IndexFunc(v.Rests, func(x Rest) bool { return x.Guest == "g1" }); !slices.Equal(v.Rests[i].Addresses(), []string{"db:5432", "db:543"}) {
		t.Errorf("it waits for %q", v.Rests[i].Addresses())
	}
	// one that serves the host's own storage goes last, whatever the policies say, and comes first
	in.Cluster.Rules = nil
	r.Guests[1].MACs, r.Condition.Servers = []string{"00:aa"}, []estate.Server{{At: "/srv", MAC: "00:aa"}}
	v = Visit{Host: "a"}
	in.Brief.treats(&v, r)
	in.inTurn(&v, r)
	if v.Rests[3].Guest != "g1" || v.Rests[3].After != "" || v.Rests[0].After != "g1" {
		t.Errorf("%+v", v.Rests)
	}
}

func b2(r *estate.Reading) []Rest {
	return []Rest{{ID: r.Guests[1].ID, Guest: r.Guests[1].Name, How: act.Down}, {ID: r.Guests[2].ID, Guest: r.Guests[2].Name, How: act.Down}}
}

// A way out of a host that is closed by others is one more host out, where nothing else stands against it.
func TestOneMoreOut(t *testing.T) {
	in := scenario(t)
	in.Readings["c"].Closed = &estate.Mark{By: "somebody"}
	p := Make(in)
	for _, h := range []string{"a", "b"} {
		v := p.visit(h)
		if v.Obstacle == "" || len(v.Ways) != 1 || !v.Ways[0].MoreOut {
			t.Errorf("%s: %q, %+v", h, v.Obstacle, v.Ways)
		}
	}
	in.Readings["a"].Guests = append(in.Readings["a"].Guests, estate.Guest{ID: "s", Name: "s", State: estate.Suspended})
	in.MaxAge = time.Nanosecond
	in.Now = in.Now.Add(time.Hour)
	p = Make(in)
	if v := p.visit("a"); v.Obstacle == "" || len(v.Ways) != 0 {
		t.Errorf("one more host out is no way where the reading is too old as well: %q, %+v", v.Obstacle, v.Ways)
	}
}

// Staged bytes are rounded up to whole MiB, and a kernel among them is known by its name.
func TestWhatIsStaged(t *testing.T) {
	for _, c := range []struct {
		changes []act.Change
		mib     int64
		kernel  bool
	}{
		{nil, 0, false},
		{[]act.Change{{Component: "deb:x", To: "2", Size: 1}}, 1, false},
		{[]act.Change{{Component: "deb:x", To: "2", Size: 1 << 20}}, 1, false},
		{[]act.Change{{Component: "deb:x", To: "2", Size: 1<<20 + 1},
			{Component: "deb:linux-image-y", To: "2", Size: 1 << 20}}, 3, true},
		{[]act.Change{{Component: "rpm:kernel", To: "2", Size: 5 << 20}}, 5, true},
	} {
		v := Visit{Changes: c.changes}
		if mib, kernel := v.Stages(); mib != c.mib || kernel != c.kernel {
			t.Errorf("%+v: %d MiB, kernel %v", c.changes, mib, kernel)
		}
	}
}

// A release that the brief names must be in a feed as it is written.
func TestAReleaseThatIsInNoFeed(t *testing.T) {
	in := scenario(t)
	in.Brief.Releases = map[estate.Key]string{"deb:k": "2"}
	if err := in.Wrong(); err != nil {
		t.Error(err)
	}
	in.Catalogue = &catalogue.Catalogue{}
	if in.Wrong() == nil {
		t.Error("an empty catalogue has it")
	}
	in.Catalogue = nil
	if in.Wrong() == nil {
		t.Error("no catalogue has it")
	}
}

// A host on which somebody is left in peace is not visited where it would have to be empty, and says so; where it need
// not, it is.
func TestAGuestThatIsLeftInPeace(t *testing.T) {
	in := scenario(t)
	in.Brief.Guests = []Policy{{[]string{"b-20"}, DoLeave}}
	p := Make(in)
	i := slices.IndexFunc(p.Aside, func(a Aside) bool { return a.Host == "b" })
	if i < 0 || p.Aside[i].InLine || p.Aside[i].Drift == 0 ||
		!strings.Contains(p.Aside[i].Why, "b-20 is left in peace") || len(p.Visits) != 2 || p.InLine() {
		t.Errorf("%+v", p.Aside)
	}
	in = parse(t, "a 10 | deb:s=1\nb 20 | deb:s=1", "deb:s 2 service")
	in.Brief.Guests = []Policy{{[]string{"b-20"}, DoLeave}}
	if p := Make(in); len(p.Visits) != 2 {
		t.Errorf("%+v", p.Aside)
	}
}

// Media that only the host has tie a guest to it; taken out, it moves, and the plan shows, times and freezes that.
// Guests that are off are told apart.
func TestMediaAreTakenOut(t *testing.T) {
	in := scenario(t)
	g := &in.Readings["b"].Guests[0]
	g.Disks = []estate.Disk{{Target: "sda", Source: "/x.iso", Media: true, Local: true}}
	in.Readings["b"].Guests = append(in.Readings["b"].Guests,
		estate.Guest{ID: "o", Name: "old", State: estate.Off, Disks: []estate.Disk{{Local: true}}})
	stuck := Make(in)
	v := stuck.visit("b")
	if !strings.Contains(v.Obstacle, "b-20") || len(v.Ways) == 0 ||
		v.Ways[0].Says() != "take out what is in the drives of b-20" || !v.Ways[0].Takeable() {
		t.Fatalf("%q, %+v", v.Obstacle, v.Ways)
	}
	v.Ways[0].Take(&in.Brief)
	p := Make(in)
	v = p.visit("b")
	if v.Obstacle != "" || len(v.Moves) < 1 || len(v.Ejects) != 1 ||
		v.Ejects[0].Says() != "/x.iso is taken out of the drive of b-20; it comes back for it after the visit" ||
		fmt.Sprint(v.Off) != "[old]" {
		t.Errorf("%+v", v)
	}
	if moved := Moved(&stuck, &p); !slices.ContainsFunc(moved, func(s string) bool {
		return strings.Contains(s, "/x.iso is taken out")
	}) {
		t.Error(moved)
	}
	if moved := Moved(&p, &p); len(moved) > 0 {
		t.Error(moved)
	}
}

// A guest that is moved cold goes where one that runs could not: to an older emulator; and one that is off is carried
// to a host that can run it, that need not be emptied any more, the emptiest of those.
func TestGuestsThatMoveCold(t *testing.T) {
	in := scenario(t)
	for _, h := range []string{"a", "b", "c"} {
		r := in.Readings[h]
		r.Components = append(r.Components,
			estate.Component{Key: "deb:emu", Version: map[string]string{"a": "1", "b": "2", "c": "1"}[h]})
		r.Sort()
		r.Emulator = "deb:emu"
		for i := range r.Guests {
			r.Guests[i].Emulator = map[string]string{"a": "1", "b": "2", "c": "1"}[h]
		}
	}
	if p := Make(in); p.visit("b").Obstacle == "" {
		t.Fatalf("a running guest goes back to an older emulator: %+v", p.visit("b").Moves)
	}
	in.Brief.Guests = []Policy{{[]string{"b-20", "old"}, DoCold}}
	off := func(name string, networks ...string) estate.Guest {
		return estate.Guest{ID: name, Name: name, State: estate.Off, Networks: networks}
	}
	in.Readings["a"].Guests = append(in.Readings["a"].Guests, off("old", "n"), off("older"))
	in.Readings["c"].Networks = []string{"n"}
	p := Make(in)
	b, a := p.visit("b"), p.visit("a")
	if b.Obstacle != "" || len(b.Colds) != 1 || !b.Colds[0].Runs ||
		b.Colds[0].Says() != "b-20 is shut down, moved, and started there" || len(b.Moves) == 0 {
		t.Errorf("%q %+v", b.Obstacle, b.Colds)
	}
	if len(a.Colds) != 1 || a.Colds[0].Says() != "old, which is off, is carried to c" ||
		fmt.Sprint(a.Off) != "[older]" {
		t.Errorf("%+v, off %v", a.Colds, a.Off)
	}
	in.Readings["c"].Networks = nil // nobody can run it: it stays
	if a := Make(in); len(a.visit("a").Colds) != 0 {
		t.Errorf("%+v", a.visit("a").Colds)
	} else if fmt.Sprint(a.visit("a").Off) != "[older old]" {
		t.Errorf("who can't be carried is not told of: %v", a.visit("a").Off)
	}
	moved := Moved(&Plan{Visits: []Visit{*a}},
		&Plan{Visits: []Visit{{Host: "a", Colds: []Cold{{ID: "x", Guest: "x", Runs: true}}}}})
	if !slices.ContainsFunc(moved, func(s string) bool {
		return strings.Contains(s, "x is shut down, moved, and started there, which was not shown")
	}) {
		t.Error(moved)
	}
	drain := func(v *Visit) Stretch {
		return v.Steps[slices.IndexFunc(v.Steps, func(s Stretch) bool { return s.Step == act.DrainStep })]
	}
	down, _ := act.Down.Of().Takes(act.Act{})
	if got := drain(b).Middle; got < down {
		t.Errorf("it takes %s, and shutting down alone %s", got, down)
	}
}

// Where one that is off goes: not to a host that is to come if another can take it, not to the fullest, to none that is
// closed or lacks what it needs.
func TestWhereGuestsThatAreOffGo(t *testing.T) {
	host := func(name string, used int64, open bool, networks ...string) fit.Host {
		return fit.Host{Name: name, Open: open, Networks: networks, Capacity: estate.Resources{MemoryMiB: 100},
			Guests: []estate.Guest{{Load: estate.Resources{MemoryMiB: used}}}}
	}
	r := &estate.Reading{Guests: []estate.Guest{{ID: "o", Name: "o", State: estate.Off, Networks: []string{"n"}}}}
	for name, c := range map[string]struct {
		hosts  []fit.Host
		toCome []string
		want   string
	}{
		"the emptiest": {[]fit.Host{host("b", 50, true, "n"), host("c", 20, true, "n"),
			host("d", 30, true, "n")}, nil, "c"},
		"one that is not to come": {[]fit.Host{host("b", 50, true, "n"), host("c", 20, true, "n")},
			[]string{"c"}, "b"},
		"one to come if need be":    {[]fit.Host{host("c", 20, true, "n")}, []string{"c"}, "c"},
		"none that is closed":       {[]fit.Host{host("b", 50, true, "n"), host("c", 20, false, "n")}, nil, "b"},
		"none that lacks something": {[]fit.Host{host("b", 50, true, "n"), host("c", 20, true)}, nil, "b"},
		"not the host itself":       {[]fit.Host{host("a", 0, true, "n"), host("b", 50, true, "n")}, nil, "b"},
		"nowhere":                   {[]fit.Host{host("a", 0, true, "n")}, nil, ""},
	} {
		v := Visit{Host: "a", Colds: []Cold{{ID: "o", Guest: "o"}}}
		carries(&v, r, fit.Problem{Hosts: c.hosts}, c.toCome)
		got := ""
		if len(v.Colds) == 1 {
			got = v.Colds[0].To
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// What the brief puts first by hand goes in that order, or it is said of a host that it can't be emptied in its turn.
func TestTheOrderByHandIsKeptOrRefused(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 11))
	kept, refused, onTrial := 0, 0, 0
	for range 400 {
		var hosts []string
		for _, h := range []string{"a", "b", "c", "d"} {
			line := h
			for range 1 + rng.IntN(3) {
				line += fmt.Sprintf(" %d", 10+rng.IntN(50))
			}
			hosts = append(hosts, line+[]string{" | deb:k=1", " | deb:k=1", " | deb:s=1"}[rng.IntN(3)])
		}
		in := parse(t, strings.Join(hosts, "\n"), "deb:k 2 host\ndeb:s 2 service")
		in.Brief.Sequence = []string{"a", "b", "c", "d"}[:1+rng.IntN(4)]
		rng.Shuffle(len(in.Brief.Sequence), func(i, j int) {
			s := in.Brief.Sequence
			s[i], s[j] = s[j], s[i]
		})
		if rng.IntN(2) == 0 {
			in.Brief.Trial = in.Brief.Sequence[0]
		}
		p := Make(in)
		var went []string
		early := ""
		for i := range p.Visits {
			switch v := &p.Visits[i]; {
			case v.Obstacle == "":
				went = append(went, v.Host)
			case strings.Contains(v.Obstacle, "and it can be emptied only after that"):
				early = v.Host
			}
		}
		byHand := slices.DeleteFunc(slices.Clone(in.Brief.Sequence), func(h string) bool { return !slices.Contains(went, h) })
		if !slices.Equal(byHand, went[:min(len(byHand), len(went))]) {
			t.Fatalf("%s\nby hand %v, and they go %v", strings.Join(hosts, "\n"), in.Brief.Sequence, went)
		}
		switch {
		case early == "":
			kept++
		case early == in.Brief.Trial:
			onTrial++
			if len(went) > 0 {
				t.Fatalf("%s\n%s on trial can't go first, and %v go", strings.Join(hosts, "\n"), early, went)
			}
		default:
			refused++
		}
	}
	in := parse(t, "a 10 | deb:k=1\nb 20 | deb:s=1\nc 30 | deb:k=1\nd 30", "deb:k 2 host\ndeb:s 2 service")
	in.Brief.Sequence = []string{"c", "b", "a"}
	if p := Make(in); strings.Join(turns(&p), " ") != "c b a" || len(p.Obstacles()) > 0 {
		t.Errorf("with room for all: %v, %+v", turns(&p), p.Obstacles())
	}
	if kept == 0 || refused == 0 || onTrial == 0 {
		t.Errorf("kept %d, refused %d, on trial %d", kept, refused, onTrial)
	}
}

// The order of least time is over no later than either of the others, and sooner than one of them now and then.
func TestLeastTime(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 12))
	sooner := map[Order]int{}
	for range 60 {
		var hosts strings.Builder
		for _, h := range []string{"a", "b", "c", "d", "e"} {
			fmt.Fprintf(&hosts, "%s", h)
			for _, gib := range r.Perm(16)[:1+r.IntN(5)] {
				fmt.Fprintf(&hosts, " %d", 1+gib)
			}
			hosts.WriteString(" | deb:k=1\n")
		}
		in := parse(t, hosts.String(), "deb:k 2 host")
		in.Brief.Bandwidth, in.Brief.Reserve = 10, 0
		plans := map[Order]Plan{}
		for _, o := range []Order{FewestMoves, LightestFirst, LeastTime} {
			in.Brief.Order = o
			plans[o] = Make(in)
		}
		best := plans[LeastTime]
		took, _ := best.Takes()
		for _, o := range []Order{FewestMoves, LightestFirst} {
			p := plans[o]
			takes, _ := p.Takes()
			if a, b := len(best.Obstacles()), len(p.Obstacles()); a > b || a == b && took > takes {
				t.Fatalf("it takes %s with %d obstacles, and %q %s with %d:\n%s", took, a, o, takes, b, hosts.String())
			} else if took < takes {
				sooner[o]++
			}
		}
		if best.Brief.Order != LeastTime {
			t.Fatalf("its brief says %q", best.Brief.Order)
		}
	}
	if sooner[LightestFirst]+sooner[FewestMoves] == 0 {
		t.Error("it was never over sooner: this proves nothing")
	}
}
