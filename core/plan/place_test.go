package plan

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
)

// Whoever is out of service already takes a place among those that may be: closed hosts, and those that do not answer. The host that a lost round left closed does not, for this one goes on with it.
func TestHowManyMayGoOut(t *testing.T) {
	in := Input{Cluster: estate.Cluster{Hosts: []string{"a", "b", "c", "d", "e"}}, Readings: map[string]*estate.Reading{"a": reading("a"), "b": reading("b"), "c": reading("c"), "d": reading("d")}}
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
	in := Input{Cluster: estate.Cluster{Hosts: []string{"a", "b"}}, Readings: map[string]*estate.Reading{"a": reading("a", 1, 1), "b": reading("b", 1)}}
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
	in := Input{Cluster: estate.Cluster{Hosts: []string{"a", "b"}}, Readings: map[string]*estate.Reading{"a": reading("a"), "b": reading("b")}}
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
		"it changes":           {Visit{Host: "a", Changes: []act.Change{{Component: "deb:x", To: "3"}, {Component: "deb:emu", To: "2"}, {Component: "deb:y", To: "4"}}}, "2"},
		"something else does":  {Visit{Host: "a", Changes: []act.Change{{Component: "deb:x", To: "2"}}}, ""},
		"it is removed":        {Visit{Host: "a", Changes: []act.Change{{Component: "deb:emu"}}}, ""},
		"it is not visited":    {Visit{Host: "a", Obstacle: "no room", Changes: []act.Change{{Component: "deb:emu", To: "2"}}}, ""},
		"it is not in cluster": {Visit{Host: "z", Changes: []act.Change{{Component: "deb:emu", To: "2"}}}, ""},
	} {
		if got := after(c.v); (got == nil) != (c.want == "") || got != nil && (got.Emulator.Version != c.want || got.Emulator.Key != "deb:emu") {
			t.Errorf("%s: %+v", name, got)
		}
	}
	in.Readings["a"].Emulator = ""
	if got := after(Visit{Host: "a", Changes: []act.Change{{To: "2"}}}); got != nil {
		t.Errorf("what nobody named is an emulator: %+v", got)
	}
}

// A pattern reaches those that can't be migrated, a name everybody; and one that is suspended can't be shut down.
func TestWhoComesToRest(t *testing.T) {
	r := reading("a", 1, 1, 1, 1, 1)
	r.Guests[1].Devices = []string{"card"}
	r.Guests[2].Pins = []string{"it has a snapshot"}
	r.Guests[3].State = estate.Suspended
	r.Guests[4].Devices, r.Guests[4].Pins = []string{"card"}, []string{"it has a snapshot"}
	for name, c := range map[string]struct {
		policies []Policy
		want     string
	}{
		"by a pattern":               {[]Policy{{[]string{"a-*"}, act.Down}}, "[a-1 down a-2 down a-4 down]"},
		"suspended to disk":          {[]Policy{{[]string{"a-*"}, act.Save}}, "[a-1 save a-2 save a-3 save a-4 save]"},
		"by name":                    {[]Policy{{[]string{"a-0"}, act.Down}}, "[a-0 down]"},
		"the first that says so":     {[]Policy{{[]string{"a-1"}, act.Save}, {[]string{"a-*"}, act.Down}}, "[a-1 save a-2 down a-4 down]"},
		"what is suspended, by name": {[]Policy{{[]string{"a-3"}, act.Down}}, "[]"},
	} {
		b := Brief{Guests: c.policies}
		var got []string
		for _, x := range b.rests(r) {
			how := "down"
			if x.How == act.Save {
				how = "save"
			}
			got = append(got, x.Guest+" "+how)
		}
		if fmt.Sprint(got) != c.want {
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
	// each of them takes its time when it comes back
	times := Times{}
	alone := times.steps(&Visit{Host: "a", Empties: true}, r, &Brief{Moves: 1})
	with := times.steps(&Visit{Host: "a", Empties: true, Rests: b2(r)}, r, &Brief{Moves: 1})
	m, w := act.Start.Of().Takes(act.Act{})
	last, was := with[len(with)-1], alone[len(alone)-1]
	if last.Middle != was.Middle+2*m || last.Pessimistic != was.Pessimistic+2*w {
		t.Errorf("%v and %v, where %v and %v are usual: two starts of %v and %v", last.Middle, last.Pessimistic, was.Middle, was.Pessimistic, m, w)
	}
}

func b2(r *estate.Reading) []Rest {
	return []Rest{{r.Guests[1].ID, r.Guests[1].Name, act.Down}, {r.Guests[2].ID, r.Guests[2].Name, act.Down}}
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
		{[]act.Change{{Component: "deb:x", To: "2", Size: 1<<20 + 1}, {Component: "deb:linux-image-y", To: "2", Size: 1 << 20}}, 3, true},
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
