package estate

import (
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
)

var (
	then  = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)
	later = then.Add(time.Hour)
)

// whole is a reading in which every section was read.
func whole(at time.Time, source string) *Reading {
	r := &Reading{Host: "heron", Release: "Brae Linux 4.2", Build: "image 41", BootID: "b",
		Kernel: Kernel{Running: "30.4"}, Capacity: Resources{MemoryMiB: 512},
		Hardware: Hardware{Maker: "Corran", Model: "Quay 1", Serial: "Q1"}, Networks: []string{"storage"},
		Closed: &Mark{By: "night shift"},
		Components: []Component{{Key: "deb:k", Version: "1"}, {Key: "deb:s", Version: "1"},
			{Key: "fw:nic", Device: "slot 2", Version: "7", Model: "Lorne L25"}, {Key: "fw:bmc", Version: "3"},
			{Key: "set:x", Version: "on"}},
		Guests: []Guest{{ID: "u1", Name: "g1", State: Running, Load: Resources{MemoryMiB: 8}},
			{ID: "u2", Name: "g2", State: Suspended, Load: Resources{MemoryMiB: 4}},
			{ID: "u3", Name: "g3", State: Off, Load: Resources{MemoryMiB: 2}}},
		Health: []Health{{Item: "fans", OK: true}}, BMC: BMC{Power: "On", Waiting: []BMCTask{{ID: "1"}}}}
	for _, n := range SectionNames {
		r.SetSection(Section{Name: n, At: at, Source: source})
	}
	r.Sort()
	return r
}

// A section that fails keeps what was last known under its own time and source, and is unread; all other sections are
// as they were read now.
func TestASectionThatFailsKeepsItsOwnTime(t *testing.T) {
	for _, failed := range SectionNames {
		last := whole(then, "old")
		now := whole(later, "new")
		for i := range now.Components {
			now.Components[i].Version += "'"
		}
		now.Components = slices.DeleteFunc(now.Components, func(c Component) bool { return c.Key.Section() == failed })
		now.SetSection(Section{Name: failed, At: later, Source: "new", Err: "no answer"})
		switch failed {
		case GuestList:
			now.Guests = nil
		case HealthItems:
			now.Health = nil
		case BMCState:
			now.BMC = BMC{}
		case Host:
			now.Release, now.Build, now.BootID, now.Kernel, now.Capacity, now.Networks, now.Closed = "", "", "",
				Kernel{}, Resources{}, nil, nil
		}
		before := *now
		got := now.Over(last)
		s := got.Section(failed)
		if s.Err != "no answer" || !s.At.Equal(later) || !s.Held.Equal(then) || s.HeldFrom != "old" ||
			got.Read(failed) || s.Whole() {
			t.Errorf("%s: %+v", failed, s)
		}
		if at, from := s.Known(); !at.Equal(then) || from != "old" {
			t.Errorf("%s is known from %s, %s", failed, at, from)
		}
		for _, other := range SectionNames {
			if o := got.Section(other); other != failed && (o.Err != "" || !o.At.Equal(later) || !o.Held.IsZero()) {
				t.Errorf("%s failed, and %s is %+v", failed, other, o)
			}
		}
		for _, c := range got.Components {
			old := c.Key.Section() == failed
			if (c.Version[len(c.Version)-1] != '\'') != old {
				t.Errorf("%s failed, and %s is %s", failed, c.Title(), c.Version)
			}
		}
		if len(got.Components) != len(last.Components) || len(got.Guests) != 3 || len(got.Health) != 1 ||
			got.BMC.Power != "On" || got.BootID != "b" || got.Build != "image 41" || got.Closed == nil {
			t.Errorf("%s failed, and something is lost: %+v", failed, got)
		}
		if !reflect.DeepEqual(before.Sections, now.Sections) {
			t.Errorf("%s: the reading itself was changed", failed)
		}
		// It fails again: what was last known is still from then.
		again := &Reading{Host: "heron"}
		again.SetSection(Section{Name: failed, At: later.Add(time.Hour), Err: "no answer yet"})
		if s := again.Over(got).Section(failed); !s.Held.Equal(then) || s.Err != "no answer yet" {
			t.Errorf("%s failed twice: %+v", failed, s)
		}
	}
}

// What was not asked for is as it was, with its own time; what was never read is unread without a value.
func TestWhatWasNotAskedForStays(t *testing.T) {
	last := whole(then, "old")
	now := &Reading{Host: "heron", Components: []Component{{Key: "fw:bmc", Version: "4"}}}
	now.SetSection(Section{Name: FirmwareItems, At: later, Source: "new"})
	got := now.Over(last)
	if c, _ := got.Component("fw:bmc", ""); c.Version != "4" {
		t.Errorf("%+v", c)
	}
	if _, there := got.Component("fw:nic", "slot 2"); there {
		t.Error("a device that was not found in a whole section is kept")
	}
	if s := got.Section(Packages); !s.At.Equal(then) || s.Err != "" {
		t.Errorf("%+v", s)
	}
	never := (&Reading{Host: "heron", Sections: []Section{{Name: Packages, At: later, Err: "no route"}}}).
		Over(&Reading{Host: "heron"})
	if s := never.Section(Packages); !s.Held.IsZero() || never.Section(Drivers).Err != "never read" {
		t.Errorf("%+v", never.Sections)
	}
}

// Of a section that was read in part nothing is absent: what it did not tell is unread, with its last known version
// beside.
func TestAPartOfASectionMakesNothingAbsent(t *testing.T) {
	now := &Reading{Host: "heron", Components: []Component{{Key: "fw:bmc", Version: "4"}}}
	now.SetSection(Section{Name: FirmwareItems, At: later, Source: "Redfish", Partial: "the machine is silent"})
	got := now.Over(whole(then, "old"))
	nic, there := got.Component("fw:nic", "slot 2")
	if !there || nic.Version != "" || nic.Unread != "the machine is silent" || nic.Last != "7" || nic.Known() {
		t.Errorf("%+v %v", nic, there)
	}
	if c, _ := got.Component("fw:bmc", ""); c.Version != "4" || !c.Known() {
		t.Errorf("%+v", c)
	}
	if got.Section(FirmwareItems).Whole() {
		t.Error("half is taken for whole")
	}
	if nic, _ := now.Over(got).Component("fw:nic", "slot 2"); nic.Last != "7" {
		t.Errorf("the second time its last version is forgotten: %+v", nic)
	}
}

func TestGuestsThatHoldTheirHost(t *testing.T) {
	r := whole(then, "x")
	if u := r.Used(); u.MemoryMiB != 12 {
		t.Errorf("%d MiB are used by what runs and what is suspended", u.MemoryMiB)
	}
	if n := len(r.Holding()); n != 2 {
		t.Errorf("%d guests hold the host", n)
	}
	r.Closed = nil
	if !r.Takes() {
		t.Error("an open host of which all is known takes no guests")
	}
	r.SetSection(Section{Name: GuestList, At: later, Err: "libvirt hangs"})
	if r.Takes() {
		t.Error("a host whose guests are not known takes guests")
	}
	if g := (Guest{Name: "old", ID: ""}); g.UID() == "" {
		t.Error("a guest without a UUID is nobody")
	}
}

// A host is off where its BMC said so at the same look that it did not answer; anything less is no proof, and its
// guests count.
func TestPowerIsProof(t *testing.T) {
	guests := []Guest{{Name: "g", State: Running}}
	for name, c := range map[string]struct {
		change func(*Reading)
		off    bool
	}{
		"it is off":             {func(*Reading) {}, true},
		"it answers":            {func(r *Reading) { r.SetSection(Section{Name: Host, At: later}) }, false},
		"its power is on":       {func(r *Reading) { r.BMC.Power = "On" }, false},
		"its power is not told": {func(r *Reading) { r.BMC.Power = "" }, false},
		"its BMC does not answer": {func(r *Reading) {
			r.SetSection(Section{Name: BMCState, At: later, Err: "no answer"})
		}, false},
		"it was off at an earlier look": {func(r *Reading) {
			r.SetSection(Section{Name: BMCState, At: later.Add(-31 * time.Second)})
		}, false},
		"the BMC was quicker": {func(r *Reading) {
			r.SetSection(Section{Name: BMCState, At: later.Add(-30 * time.Second)})
		}, true},
		"its BMC was asked after that": {func(r *Reading) {
			r.SetSection(Section{Name: BMCState, At: later.Add(time.Hour)})
		}, true},
		"its BMC was never asked": {func(r *Reading) { r.Sections = r.Sections[:1] }, false},
		"its guests could be read though": {func(r *Reading) {
			r.SetSection(Section{Name: GuestList, At: later})
		}, false},
	} {
		r := &Reading{Guests: guests, BMC: BMC{Power: "Off"},
			Sections: []Section{{Name: Host, At: later, Err: "no answer"}, {Name: BMCState, At: later}}}
		c.change(r)
		if r.Off() != c.off || (len(r.Holding()) == 0) != c.off {
			t.Errorf("%s: off %v, and %d guests hold it", name, r.Off(), len(r.Holding()))
		}
	}
}

// That no BMC is named for a host is no less known where an earlier look had one.
func TestABMCThatIsNamedNoMore(t *testing.T) {
	was := whole(then, "x")
	was.BMC = BMC{Power: "On"}
	now := &Reading{BMC: BMC{None: true}, Sections: []Section{{Name: BMCState, At: later, Err: "none is named"}}}
	if r := now.Over(was); !r.BMC.None || r.Section(BMCState).Err == "" {
		t.Errorf("%+v", r.BMC)
	}
	was.BMC = BMC{None: true}
	if r := (&Reading{Sections: []Section{{Name: Host, At: later}}}).Over(was); !r.BMC.None {
		t.Error("a look that did not ask for it made it known")
	}
}

// A reading's age is that of its oldest section, and one that is too old is unread.
func TestAgesOfReadings(t *testing.T) {
	r := whole(later, "x")
	r.SetSection(Section{Name: Drivers, At: then, Source: "x"})
	if !r.At().Equal(then) || !r.Tried().Equal(later) {
		t.Errorf("at %s, tried %s", r.At(), r.Tried())
	}
	if r.Unread(Drivers, then.Add(25*time.Hour), 24*time.Hour) == "" ||
		r.Unread(Drivers, then.Add(23*time.Hour), 24*time.Hour) != "" {
		t.Error("a day is not what a reading lasts")
	}
	if (&Reading{}).Reached() || !(&Reading{}).At().IsZero() {
		t.Error("a host that was never read is known")
	}
}

// Two readings that say the same are the same, whatever order it was told in.
func TestOneOrderForAReading(t *testing.T) {
	r := whole(then, "x")
	slices.Reverse(r.Sections)
	slices.Reverse(r.Components)
	slices.Reverse(r.Guests)
	if r.Sort(); !reflect.DeepEqual(r, whole(then, "x")) {
		t.Errorf("%+v", r.Sections)
	}
	for i, s := range r.Sections {
		if s.Name != SectionNames[i] {
			t.Errorf("section %d is %s", i, s.Name)
		}
	}
}

func TestWhatIsUnseenOfASection(t *testing.T) {
	for n, want := range map[int]string{0: "", 1: "1 process may not be", 5: "5 processes may not be"} {
		s := Section{Hidden: n}
		if got := s.Unseen(); !strings.HasPrefix(got, want) || (got == "") != (n == 0) || !s.Whole() {
			t.Errorf("%d: %q", n, got)
		}
	}
}

// A guest is looked for where it is on; what a host that is off has is not known.
func TestWhereAGuestIsFound(t *testing.T) {
	at := func(state GuestState, err string) *Reading {
		r := &Reading{Sections: nil}
		r.SetSection(Section{Name: GuestList, At: time.Unix(1e9, 0), Err: err})
		if state != "" {
			r.Guests = []Guest{{Name: "g", State: state}}
		}
		return r
	}
	for _, c := range []struct {
		a, b  *Reading
		host  string
		known bool
	}{
		{at(Off, ""), at(Running, ""), "b", true},
		{at(Running, ""), at(Off, ""), "a", true},
		{at(Off, ""), at(Off, ""), "a", true},
		{at("", ""), at("", ""), "", true},
		{at("", ""), at("", "no answer"), "", false},
		{at("", "no answer"), at(Off, ""), "b", true},
	} {
		if host, g, known := Find("g", map[string]*Reading{"a": c.a, "b": c.b}); host != c.host || known != c.known || (g == nil) != (host == "") {
			t.Errorf("%+v, %+v: it is on %q, known %v", c.a, c.b, host, known)
		}
	}
}
