package act

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// host is a reading of which everything was read.
func host(name string, with ...func(*estate.Reading)) *estate.Reading {
	r := &estate.Reading{Host: name, BootID: "boot",
		BMC:        estate.BMC{Reset: now.Add(-time.Hour), Tasks: []string{"old"}},
		Components: []estate.Component{{Key: "deb:k", Version: "1"}, {Key: "fw:f", Version: "1"}}}
	for _, s := range estate.SectionNames {
		r.SetSection(estate.Section{Name: s, At: now})
	}
	for _, w := range with {
		w(r)
	}
	r.Sort()
	return r
}

func at(k estate.Key, version string) func(*estate.Reading) {
	return func(r *estate.Reading) {
		for i := range r.Components {
			if r.Components[i].Key == k {
				r.Components[i].Version = version
			}
		}
	}
}

func unread(s estate.SectionName) func(*estate.Reading) {
	return func(r *estate.Reading) { r.SetSection(estate.Section{Name: s, Err: "no answer"}) }
}

func half(s estate.SectionName) func(*estate.Reading) {
	return func(r *estate.Reading) { r.SetSection(estate.Section{Name: s, Partial: "half of it"}) }
}

// off is what is read of a host whose power is off.
func off(r *estate.Reading) {
	for _, s := range []estate.SectionName{estate.Host, estate.GuestList} {
		r.SetSection(estate.Section{Name: s, At: now, Err: "no answer"})
	}
	r.BMC.Power = "Off"
}

func guest(state estate.GuestState) func(*estate.Reading) {
	return func(r *estate.Reading) { r.Guests = append(r.Guests, estate.Guest{ID: "u", Name: "g", State: state}) }
}

func mark(round, reason string) func(*estate.Reading) {
	return func(r *estate.Reading) { r.Closed = &estate.Mark{By: "op", Round: round, Reason: reason} }
}

func boot(id string) func(*estate.Reading) { return func(r *estate.Reading) { r.BootID = id } }

func state(k estate.Key, word string) func(*estate.Reading) {
	return func(r *estate.Reading) {
		for i := range r.Components {
			if r.Components[i].Key == k {
				r.Components[i].State = word
			}
		}
	}
}

func holder(service string) func(*estate.Reading) {
	return func(r *estate.Reading) {
		for i := range r.Components {
			if r.Components[i].Key == "deb:k" {
				r.Components[i].Holders = []estate.Holder{{Service: service}}
			}
		}
	}
}

func guard(epoch int64) func(*estate.Reading) {
	return func(r *estate.Reading) { r.Guard.Epoch = epoch }
}

func task(id string) func(*estate.Reading) {
	return func(r *estate.Reading) { r.BMC.Tasks = append(r.BMC.Tasks, id) }
}

func waits(id string) func(*estate.Reading) {
	return func(r *estate.Reading) { r.BMC.Waiting = append(r.BMC.Waiting, estate.BMCTask{ID: id}) }
}

func reset(t time.Time) func(*estate.Reading) { return func(r *estate.Reading) { r.BMC.Reset = t } }

// acts as the cases have them: a change of a package and of firmware, a guest on its way.
func anAct(k Name) Act {
	a := Act{ID: "x", Kind: k, Round: "R", Host: "a", Epoch: 4,
		Before: Before{BootID: "boot", Tasks: []string{"old"}, BMCReset: now.Add(-time.Hour)}}
	if k == Clear {
		a.Tasks = []string{"t"}
	}
	switch k.Step() {
	case StageStep:
		a.Change = &Change{Component: "deb:k", From: "1", To: "2", File: "k.deb", SHA256: "sum"}
	case ChangeStep:
		a.Change = &Change{Component: "deb:k", From: "1", To: "2", File: "k.deb", SHA256: "sum"}
		switch k {
		case Flash:
			a.Change.Component = "fw:f"
		case Service:
			a.Change.To, a.Change.File, a.Services = "1", "", []string{"k.service"}
			a.Change.Services = a.Services
		}
	case DrainStep, ReturnStep:
		a.Guest, a.GuestID, a.To, a.MemoryMiB = "g", "u", "b", 9000
	case RestartStep:
		a.Pass = 2
	}
	switch k {
	case Lend, PutBack:
		a.Lent = &Lent{Unit: "k.service"}
	case RunHook:
		a.Hook = &Hook{Before: true, Of: "visit", Program: "/x", Within: time.Minute, GoOn: []int{0}, Wait: []int{75}}
	case Restore:
		a.Files = &Files{File: "a.tar.gz", SHA256: "sum", Size: 5, Paths: []string{"etc/hosts"}}
	case Mount, Boot:
		a.Change = &Change{Component: "fw:f", From: "1", To: "2", File: "f.iso", SHA256: "sum", Image: true, Takes: time.Minute}
		a.Image, a.URL = "f.iso", "https://c/x/f.iso"
	case Unmount:
		a.Image, a.URL = "f.iso", "https://c/x/f.iso"
	case Snapshot, Unsnapshot:
		a.Change, a.Guest, a.GuestID, a.MemoryMiB, a.Copy = nil, "g", "u", 9000, &estate.Snapshot{Name: "yare-R", Round: "R", Until: now}
	case Unstage:
		a.Change, a.Staged = nil, []estate.Staged{{SHA256: "sum", Kind: "deb"}}
	case Remark:
		a.Reason = "it failed"
	case Down, Save:
		a.To = ""
	case Eject, Insert:
		a.To, a.Media = "", []estate.Disk{{Target: "sda", Source: "/x.iso", Media: true, Local: true}}
	case Start:
		a.Guest, a.GuestID = "g", "u"
	case Adopt:
		a.Before.Mark = &estate.Mark{Round: "lost"}
	}
	return a
}

var (
	running = Trace{State: Runs, Percent: 40}
	failed  = Trace{State: Broke, Error: "it broke"}
	ended   = Trace{State: Ended}
	unasked = Trace{Unasked: "no answer"}
)

// What goes in together is judged together.
func TestWhatGoesInTogether(t *testing.T) {
	a := anAct(Install)
	has := func(version string) func(*estate.Reading) {
		return func(r *estate.Reading) {
			r.Components = append(r.Components, estate.Component{Key: "deb:s", Version: version})
		}
	}
	a.With = []Placed{{3, Change{Component: "deb:s", From: "5", To: "6"}}}
	for n, c := range []struct {
		seen *estate.Reading
		want Outcome
		says string
	}{
		{host("a", at("deb:k", "2"), has("6")), Done, ""},
		{host("a", at("deb:k", "2"), has("5")), NotDone, `deb:s is at "5", and 1 of 2 are in`},
		{host("a", has("5")), NotDone, `deb:k is at "1"`},
		{host("a", at("deb:k", "2"), has("9")), NeedsPerson, `was "5", should become "6" and is "9"`},
		{host("a", at("deb:k", "2"), has("6"), state("deb:s", "unpacked")), NeedsPerson, "deb:s 6 is unpacked"},
	} {
		if got := a.Kind.Of().Find(a, Seen{Host: c.seen}); got.Outcome != c.want ||
			!strings.Contains(got.Detail, c.says) {
			t.Errorf("%d: %s, %q; want %s, %q", n, got.Outcome, got.Detail, c.want, c.says)
		}
	}
	if !a.Makes(0) || !a.Makes(3) || a.Makes(1) || len(a.Changes()) != 2 ||
		a.Says() != "change 2 packages: deb:k 1 → 2 and 1 more" {
		t.Errorf("%s: %v", a.Says(), a.Changes())
	}
	if one, _ := anAct(Install).Kind.Of().Takes(anAct(Install)); one >= 25*time.Second {
		t.Errorf("one alone takes %s", one)
	}
	for _, c := range []struct {
		o    Change
		want bool
	}{
		{Change{Component: "deb:s", From: "1", To: "2"}, true},
		{Change{Component: "deb:s", From: "1", To: "2", Pass: 2}, false},
		{Change{Component: "rpm:s", From: "1", To: "2"}, false},
		{Change{Component: "drv:s", From: "1", To: "2"}, false},
		{Change{Component: "deb:s", From: "2", To: "2"}, false}, {Change{Component: "deb:s", From: "2"}, true},
	} {
		if got := (Change{Component: "deb:k", From: "1", To: "2"}).Together(c.o); got != c.want {
			t.Errorf("%+v: %v", c.o, got)
		}
	}
	if (Change{Component: "drv:k", From: "1", To: "2"}).Together(Change{Component: "drv:s", From: "1", To: "2"}) {
		t.Error("drivers go in one by one")
	}
}

// Find, by the kind: what was seen, and what is made of it. Nothing that was not read speaks for anything.
func TestFind(t *testing.T) {
	accepted := func(s Seen) Seen { s.Accepted = true; return s }
	on := func(with ...func(*estate.Reading)) Seen { return Seen{Host: host("a", with...), To: host("b")} }
	and := func(s Seen, tr Trace) Seen { s.Trace = tr; return s }
	to := func(s Seen, with ...func(*estate.Reading)) Seen { s.To = host("b", with...); return s }
	isOff := guest(estate.Off)
	iso := func(local bool) func(*estate.Reading) {
		return func(r *estate.Reading) {
			r.Guests[0].Disks = []estate.Disk{{Target: "sda", Source: "/x.iso", Media: true, Local: local},
				{Target: "vda", Source: "/x.img", Local: true}}
		}
	}
	saved := func(r *estate.Reading) { r.Guests[0].Saved = true }
	since := func(s Seen, d time.Duration) Seen { s.Since, s.Now = now.Add(-d), now; return s }
	for n, c := range []struct {
		kind Name
		seen Seen
		want Outcome
		says string
	}{
		{Claim, on(guard(4)), Done, "older than epoch 4"},
		{Claim, on(guard(5)), Done, ""},
		{Claim, on(guard(3)), NotDone, "epoch 3"},
		{Claim, on(guard(9), unread(estate.Host)), Untold, "no answer"},
		{Claim, Seen{}, Untold, "not looked at"},
		{Clear, on(waits("other")), Done, ""},
		{Clear, on(waits("t")), NotDone, "t still waits there"},
		{Clear, since(accepted(on(waits("t"))), Settling-1), UnderWay, "clears them"},
		{Clear, since(accepted(on(waits("t"))), Settling), NotDone, "t still waits there"},
		{Clear, on(unread(estate.BMCState)), Untold, "no answer"},

		{Stage, and(Seen{}, Trace{SHA256: "sum"}), Done, "sum"},
		{Stage, and(Seen{}, Trace{SHA256: "other"}), NotDone, "the hash other instead of sum"},
		{Stage, Seen{}, NotDone, "does not hold it"},
		{Stage, and(Seen{}, unasked), Untold, "no answer"},

		{Unstage, on(), Done, ""},
		{Unstage, on(func(r *estate.Reading) { r.Staged = []estate.Staged{{SHA256: "other"}} }), Done, ""},
		{Unstage, on(func(r *estate.Reading) { r.Staged = []estate.Staged{{SHA256: "sum"}} }), NotDone, "it still has 1 of them"},
		{Unstage, on(unread(estate.Host)), Untold, "no answer"},
		{Unstage, Seen{}, Untold, "not looked at"},

		{RunHook, and(Seen{}, Trace{State: Ended, Said: "well"}), Done, "exit status 0: well"},
		{RunHook, and(Seen{}, Trace{State: Broke, Exit: 75}), NotDone, "it says wait, with exit status 75"},
		{RunHook, and(Seen{}, Trace{State: Broke, Exit: 1, Said: "no"}), NotDone, "exit status 1: no"},
		{RunHook, and(Seen{}, Trace{State: Broke, Exit: 124}), NotDone, "it did not end within 1m and was ended"},
		{RunHook, and(Seen{}, running), UnderWay, "it runs"},
		{RunHook, and(Seen{}, Trace{State: Taken}), UnderWay, "it runs"},
		{RunHook, and(accepted(Seen{}), Trace{State: Lost, Error: "the host restarted"}), NeedsPerson, "how it ended is lost: the host restarted"},
		{RunHook, accepted(Seen{}), NeedsPerson, "how it ended is lost"},
		{RunHook, Seen{}, NotDone, "it was not begun"},
		{RunHook, and(Seen{}, unasked), Untold, "no answer"},

		{Move, to(on(), guest(estate.Running)), Done, ""},
		{Move, on(guest(estate.Running)), NotDone, "it still runs on a"},
		{Move, and(on(guest(estate.Running)), failed), NotDone, "it broke"},
		{Move, and(to(on(guest(estate.Running)), guest(estate.Suspended)), running), UnderWay, ""},
		{Move, to(on(guest(estate.Running)), guest(estate.Running)), NeedsPerson, "g is running on a and running on b"},
		{Move, to(on(), guest(estate.Suspended)), NeedsPerson, "not there on a and suspended on b"},
		{Move, on(), NeedsPerson, "not there on a and not there on b"},
		{Move, to(on(guest(estate.Off)), guest(estate.Running)), Done, ""},
		{Move, on(guest(estate.Running), unread(estate.GuestList)), Untold, "the guests of a"},
		{Move, to(on(guest(estate.Running)), unread(estate.GuestList)), Untold, "the guests of b"},
		{Move, to(on(), guest(estate.Running), unread(estate.Host)), Untold, "the guests of b"},
		{Move, and(to(on(), guest(estate.Running)), unasked), Untold, "no answer"},
		{Move, and(to(on(off), guest(estate.Running)), unasked), Done, ""},
		{Move, and(on(off, guest(estate.Running)), unasked), NeedsPerson,
			"g is not on a, whose power is off and not there on b"},
		{Move, and(to(on(off), guest(estate.Running), unread(estate.GuestList)), unasked), Untold, "the guests of b"},
		{Move, to(on(guest(estate.Running)), off, guest(estate.Running)), NotDone, "it still runs on a"},
		{Move, and(to(on(guest(estate.Running)), off), unasked), Untold, "no answer"},

		{Close, on(mark("R", "")), Done, ""},
		{Close, on(), NotDone, "open"},
		{Close, on(mark("Q", "theirs")), NeedsPerson, "by op (theirs)"},
		{Close, on(mark("", "theirs")), NeedsPerson, ""},
		{Close, on(mark("R", ""), unread(estate.Host)), Untold, ""},
		{Remark, on(mark("R", "it failed")), Done, ""},
		{Remark, on(mark("R", "patches")), NotDone, "from before"},
		{Remark, on(mark("Q", "it failed")), NeedsPerson, ""},
		{Remark, on(), NotDone, ""},
		{Adopt, on(mark("R", "")), Done, ""},
		{Adopt, on(mark("lost", "")), NotDone, "the mark of lost"},
		{Adopt, on(mark("Q", "")), NeedsPerson, ""},
		{Adopt, on(), NotDone, "open"},
		{Open, on(), Done, ""},
		{Open, on(mark("R", "")), NotDone, "closed"},
		{Open, on(mark("Q", "theirs")), NeedsPerson, "theirs"},
		{Open, on(unread(estate.Host)), Untold, ""},

		{Down, on(guest(estate.Off)), Done, ""},
		{Down, on(guest(estate.Off), saved), NeedsPerson, "suspended to disk, and was to be shut down"},
		{Down, on(guest(estate.Running)), NotDone, "g is running still"},
		{Down, accepted(since(on(guest(estate.Running)), 5*time.Minute-1)), UnderWay, "asked"},
		{Down, accepted(since(on(guest(estate.Running)), 5*time.Minute)), NotDone, "g is running still"},
		{Down, on(unread(estate.GuestList)), Untold, "can't be read"},
		{Down, on(), NeedsPerson, "not on a any more"},
		{Save, on(guest(estate.Off), saved), Done, ""},
		{Save, on(guest(estate.Off)), NeedsPerson, "nothing of what was in its memory is on disk"},
		{Save, on(guest(estate.Suspended)), NotDone, "g is suspended still"},
		{Save, accepted(since(on(guest(estate.Running)), 59*time.Second)), UnderWay, ""},
		{Carry, to(on(isOff)), NotDone, "g is on a still"},
		{Carry, to(on(), isOff), Done, ""},
		{Carry, to(on(isOff), isOff), NeedsPerson, "g is defined on a and on b"},
		{Carry, to(on()), NeedsPerson, "g is neither on a nor on b"},
		{Carry, to(on(guest(estate.Running))), NeedsPerson, "g is not off any more"},
		{Carry, to(on(), guest(estate.Running)), NeedsPerson, "g is not off any more"},
		{Carry, accepted(since(to(on(isOff)), 59*time.Second)), UnderWay, "it is being defined there"},
		{Carry, accepted(since(to(on(isOff), isOff), 59*time.Second)), UnderWay, "it is being defined there"},
		{Carry, accepted(since(to(on(isOff)), time.Minute)), NotDone, ""},
		{Carry, to(on(isOff), unread(estate.GuestList)), Untold, "the guests of b can't be read"},
		{Carry, to(on(unread(estate.Host)), isOff), Untold, "the guests of a can't be read"},
		{Eject, on(guest(estate.Running)), Done, ""},
		{Eject, on(guest(estate.Running), iso(true)), NotDone, "g still has /x.iso"},
		{Eject, on(guest(estate.Running), iso(false)), Done, ""},
		{Eject, accepted(since(on(guest(estate.Running), iso(true)), 59*time.Second)), UnderWay, "open"},
		{Eject, accepted(since(on(guest(estate.Running), iso(true)), time.Minute)), NotDone, "g still has"},
		{Eject, on(unread(estate.GuestList)), Untold, "can't be read"},
		{Start, on(guest(estate.Running)), Done, ""},
		{Start, on(guest(estate.Suspended)), Done, ""},
		{Start, on(guest(estate.Off), saved), NotDone, "g is off"},
		{Start, accepted(since(on(guest(estate.Off), saved), 59*time.Second)), UnderWay, "starts"},
		{Start, accepted(since(on(guest(estate.Off), saved), time.Minute)), NotDone, "g is off"},
		{Start, on(unread(estate.Host)), Untold, ""},
		{Start, on(), NeedsPerson, "not on a any more"},

		{Backup, Seen{Accepted: true, SHA256: "s"}, Done, "SHA-256 s"},
		{Backup, Seen{SHA256: "s"}, NotDone, ""},
		{Backup, Seen{Accepted: true}, NotDone, ""},

		{Install, on(at("deb:k", "2")), Done, ""},
		{Install, and(on(at("deb:k", "2")), failed), Done, ""},
		{Install, on(), NotDone, `at "1"`},
		{Install, and(on(), failed), NotDone, "it broke"},
		{Install, and(on(), running), UnderWay, ""},
		{Install, and(on(at("deb:k", "2")), running), UnderWay, ""},
		{Install, and(on(at("deb:k", "2")), unasked), Untold, ""},
		{Install, on(at("deb:k", "2"), state("deb:k", "unpacked")), NeedsPerson, "deb:k 2 is unpacked"},
		{Install, and(on(state("deb:k", "unpacked")), failed), NeedsPerson, "it broke"},
		{Install, on(at("deb:k", "7")), NeedsPerson, `should become "2" and is "7"`},
		{Install, on(at("deb:k", "2"), unread(estate.Packages)), Untold, ""},
		{Install, on(at("deb:k", ""), half(estate.Packages)), Untold, "half of it"},
		{Install, on(half(estate.Packages)), NotDone, `is at "1"`},

		{Service, on(), Done, ""},
		{Service, on(holder("k.service")), NotDone, "k.service still run what deb:k 1 replaced"},
		{Service, and(on(holder("k.service")), failed), NotDone, "it broke"},
		{Service, and(on(), running), UnderWay, ""},
		{Service, and(on(), unasked), Untold, ""},
		{Service, on(unread(estate.Packages)), Untold, ""},
		{Service, on(at("deb:k", "7")), NeedsPerson, `is at "7"`},

		{Flash, on(at("fw:f", "2")), Done, ""},
		{Flash, and(on(), failed), NotDone, "it broke"},
		{Flash, and(on(), running), UnderWay, ""},
		{Flash, and(on(at("fw:f", "2")), unasked), Untold, ""},
		{Flash, on(at("fw:f", "2"), unread(estate.FirmwareItems)), Untold, ""},
		{Flash, on(at("fw:f", "7")), NeedsPerson, `is "7"`},
		{Flash, accepted(on()), NeedsPerson, "knows no task for it any more"},
		{Flash, accepted(and(on(), ended)), NeedsPerson, ""},
		{Flash, accepted(on(reset(now))), NotDone, "restarted since"},
		{Flash, accepted(on(unread(estate.BMCState))), Untold, ""},
		{Flash, since(on(), Settling-time.Second), UnderWay, "given a minute"},
		{Flash, since(on(), Settling), NotDone, "no task that it had not before"},
		{Flash, since(on(task("new")), Settling), NeedsPerson, "a task that it had not before"},
		{Flash, since(on(unread(estate.BMCState)), Settling), Untold, ""},

		{Restart, on(boot("other")), Done, "boot other"},
		{Restart, on(), NotDone, "as before"},
		{Restart, accepted(on()), UnderWay, "not gone down"},
		{Restart, and(on(), Trace{State: Taken}), UnderWay, "not gone down"},
		{Restart, and(on(), Trace{State: Ended}), UnderWay, "not gone down"},
		{Restart, and(on(), Trace{State: Lost, Error: "it was ended from outside"}), UnderWay, "not gone down"},
		{Install, and(on(), Trace{State: Lost, Error: "the host restarted while it ran"}),
			NotDone, "the host restarted"},
		{Restart, and(on(), running), UnderWay, "not gone down"},
		{Restart, and(on(), failed), NotDone, "it broke"},
		{Restart, accepted(and(on(), failed)), NotDone, "it broke"},
		{Restart, and(on(), unasked), Untold, "no answer"},
		{Restart, and(on(boot("other")), failed), Done, "boot other"},
		{Restart, and(on(boot("other")), Trace{State: Ended}), Done, "boot other"},
		{Restart, on(boot("other"), unread(estate.GuestList)), Untold, "its guests can't be read yet"},
		{Restart, on(boot("other"), unread(estate.Host)), Untold, "no answer"},
		{Restart, on(boot("")), Untold, "its boot id can't be read"},
	} {
		t.Run(fmt.Sprintf("%d/%s", n, c.kind), func(t *testing.T) {
			got := c.kind.Of().Find(anAct(c.kind), c.seen)
			if got.Outcome != c.want || !strings.Contains(got.Detail, c.says) {
				t.Errorf("%s, %q; want %s, %q", got.Outcome, got.Detail, c.want, c.says)
			}
			if got.Outcome == UnderWay && c.seen.Trace.State == Runs && got.Percent != 40 {
				t.Errorf("it is at %d %%", got.Percent)
			}
		})
	}
}

// A BMC that never says when it started gives no reason to think that it started anew.
func TestABMCThatDoesNotSayWhenItStarted(t *testing.T) {
	a := anAct(Flash)
	a.Before.BMCReset = time.Time{}
	if got := a.Kind.Of().Find(a, Seen{Host: host("a", reset(now)), Accepted: true}); got.Outcome != NeedsPerson {
		t.Errorf("%s: %s", got.Outcome, got.Detail)
	}
}

// A host whose boot id was not known before can't be told to have restarted.
func TestARestartNeedsTheBootIDBefore(t *testing.T) {
	a := anAct(Restart)
	a.Before.BootID = ""
	if got := a.Kind.Of().Find(a, Seen{Host: host("a")}); got.Outcome != NeedsPerson {
		t.Errorf("%s: %s", got.Outcome, got.Detail)
	}
}

// Invariant 11: take away what a kind asks for, and nothing is found done or not done.
func TestFindConcludesNothingFromNothing(t *testing.T) {
	for _, k := range Names() {
		if k == Backup {
			continue // what was brought is here
		}
		a := anAct(k)
		asks := k.Of().Asks(a)
		if len(asks.Host)+len(asks.To) == 0 && !asks.Trace {
			t.Errorf("%s asks for nothing", k)
		}
		full := Seen{Now: now, Since: now.Add(-time.Hour), Host: host("a"), To: host("b")}
		for _, s := range asks.Host {
			if (k == Restart || k == Boot) && s == estate.GuestList {
				continue // that it did not restart is told by its boot id alone; TestFind has the rest
			}
			less := full
			less.Host = host("a", unread(s))
			if got := k.Of().Find(a, less); got.Outcome == Done || got.Outcome == NotDone {
				t.Errorf("%s without %q of its host: %s, %s", k, s, got.Outcome, got.Detail)
			}
		}
		for _, s := range asks.To {
			less := full
			less.To = host("b", unread(s))
			if got := k.Of().Find(a, less); got.Outcome == Done || got.Outcome == NotDone {
				t.Errorf("%s without %q of where it leads: %s, %s", k, s, got.Outcome, got.Detail)
			}
		}
		if less := full; asks.Trace {
			less.Trace = unasked
			if got := k.Of().Find(a, less); got.Outcome != Untold {
				t.Errorf("%s without its trace: %s, %s", k, got.Outcome, got.Detail)
			}
		}
	}
}

// What every kind must say of itself.
func TestEveryKindIsWhole(t *testing.T) {
	if len(Names()) != len(kinds) {
		t.Errorf("%d kinds have a step, and there are %d", len(Names()), len(kinds))
	}
	for _, k := range Names() {
		a, r := anAct(k), k.Of().Rules()
		middle, worst := k.Of().Takes(a)
		switch {
		case a.Says() == "" || r.Remedy == "" || r.Advice("a", false) == "" || r.Advice("a", true) != r.Remedy:
			t.Errorf("%s has no words", k)
		case middle <= 0 || worst < middle:
			t.Errorf("%s takes %v, at worst %v", k, middle, worst)
		case r.Tries < 1:
			t.Errorf("%s is never tried", k)
		case (r.Owes == "") != (r.Pays == ""):
			t.Errorf("%s owes %q, and %q pays it", k, r.Owes, r.Pays)
		case r.Pays != "" && (!r.Pays.Known() || r.Pays.Of().Rules().Owes != ""):
			t.Errorf("what %s owes is paid by %q", k, r.Pays)
		case r.Repeats && r.Needs.Empty:
			t.Errorf("%s may be done again, and needs an empty host", k)
		}
	}
	for k, want := range map[Name]Rules{
		Restart: {Needs: Needs{Empty: true, Closed: true, Alone: true}, Quiet: true, Tries: 1},
		Close:   {Needs: Needs{Empty: true, Alone: true}, Tries: 1},
		Flash:   {Needs: Needs{Alone: true, Powered: true}, Quiet: true, Tries: 1},
		Install: {Needs: Needs{Alone: true}, Tries: 1},
		Open:    {Needs: Needs{Alone: true}, Tries: 1},
		Move:    {Tries: 3},
		Remark:  {Tries: 1, Repeats: true, Aside: true},
		Hand:    {Tries: 1, Repeats: true, Aside: true},
		Stage:   {Tries: 1, Repeats: true},
		Clear:   {Tries: 2, Repeats: true},
		Claim:   {Tries: 1, Repeats: true},
		Backup:  {Needs: Needs{Alone: true}, Tries: 2, Repeats: true},
		Service: {Needs: Needs{Alone: true}, Tries: 2, Repeats: true},
		Adopt:   {Needs: Needs{Alone: true}, Tries: 1},
		Down:    {Needs: Needs{Alone: true}, Tries: 2},
		Save:    {Needs: Needs{Alone: true}, Tries: 2},
		Start:   {Needs: Needs{Alone: true}, Tries: 3},
		Boot:    {Needs: Needs{Empty: true, Closed: true, Alone: true, Powered: true}, Quiet: true, Tries: 1},
		Mount:   {Needs: Needs{Closed: true, Alone: true, Powered: true}, Tries: 2, Repeats: true},
		Unmount: {Tries: 3, Repeats: true},
	} {
		got := k.Of().Rules()
		if got.Carries != (k == Stage || k == Flash || k == Restore) || got.Gives != (k == Backup) {
			t.Errorf("%s carries %v, gives %v", k, got.Carries, got.Gives)
		}
		if got.Needs != want.Needs || got.Quiet != want.Quiet || got.Tries != want.Tries ||
			got.Repeats != want.Repeats || got.Aside != want.Aside {
			t.Errorf("%s: %+v", k, got)
		}
	}
}

func TestWords(t *testing.T) {
	for want, a := range map[string]Act{
		"move g to b": anAct(Move), "stage k.deb": anAct(Stage), "change deb:k 1 → 2": anAct(Install),
		"restart (pass 2)": anAct(Restart), "restart k.service": anAct(Service),
		"close": anAct(Close), "reopen": anAct(Open), "write down why it stays closed": anAct(Remark),
		"tell it the epoch 4": anAct(Claim), "adopt the closing of lost": anAct(Adopt),
		"shut down g": {Kind: Down, Guest: "g"}, "suspend g": {Kind: Save, Guest: "g"},
		"start g":                {Kind: Start, Guest: "g"},
		"keep its configuration": anAct(Backup), "adopt": {Kind: Adopt}, "flap": {Kind: "flap"},
		"restart the services of deb:k": {Kind: Service, Change: &Change{Component: "deb:k"}},
	} {
		if got := a.Says(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	for want, c := range map[string]Change{
		"deb:k 1 → 2": {Component: "deb:k", From: "1", To: "2"}, "deb:k 2 is installed": {Component: "deb:k", To: "2"},
		"deb:k 1 is removed":            {Component: "deb:k", From: "1"},
		"fw:f (slot 2) 1 starts to run": {Component: "fw:f", Device: "slot 2", From: "1", To: "1"},
	} {
		if got := c.Says(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

func TestTheKindOfAChange(t *testing.T) {
	for want, c := range map[Name]Change{
		Install: {Component: "deb:k", From: "1", To: "2", File: "x"},
		Flash:   {Component: "fw:f", From: "1", To: "2", File: "x"},
		Service: {Component: "deb:k", From: "2", To: "2", Restart: catalogue.ServiceRestart},
		"":      {Component: "deb:k", From: "2", To: "2", Restart: catalogue.HostRestart},
	} {
		if got := c.Kind(); got != want {
			t.Errorf("%s: %q, want %q", c.Says(), got, want)
		}
	}
	if got := (Change{Component: "fw:f", From: "1"}).Kind(); got != Install {
		t.Errorf("firmware without an image: %q", got)
	}
}

// Attempts at the same thing have one key, and different things have different ones.
func TestKeys(t *testing.T) {
	keys := map[string]string{}
	for _, k := range Names() {
		a := anAct(k)
		b := a
		b.ID, b.Epoch = "y", 9
		if a.Key() != b.Key() {
			t.Errorf("%s: %q and %q", k, a.Key(), b.Key())
		}
		if other, twice := keys[a.Key()]; twice {
			t.Errorf("%s and %s have the key %q", k, other, a.Key())
		}
		keys[a.Key()] = string(k)
	}
	for want, a := range map[string]Act{"a/restart/2": anAct(Restart), "a/close": anAct(Close),
		"a/install/0": anAct(Install), "a/move/u": anAct(Move)} {
		if a.Key() != want {
			t.Errorf("%q, want %q", a.Key(), want)
		}
	}
	for name, b := range map[string]Act{"guest": {GuestID: "v"}, "pass": {Pass: 3},
		"change": {Change: &Change{}, Index: 1}, "host": {Host: "b"}} {
		if b.Key() == (Act{}).Key() {
			t.Errorf("another %s has the same key", name)
		}
	}
}

func TestAMoveTakesAsLongAsItsMemory(t *testing.T) {
	middle, worst := Move.Of().Takes(Act{MemoryMiB: 100 * Bandwidth})
	if middle != 100*time.Second || worst != 260*time.Second {
		t.Errorf("%v, at worst %v", middle, worst)
	}
	if m, w := ProveStep.Looking(); m != 40*time.Second || w != 3*time.Minute {
		t.Errorf("proving: %v %v", m, w)
	}
	if m, w := PrecheckStep.Looking(); m != 10*time.Second || w != 30*time.Second {
		t.Errorf("prechecks: %v %v", m, w)
	}
}

func TestWhatWasBefore(t *testing.T) {
	b := Remember(host("a", mark("R", "x")))
	if b.BootID != "boot" || b.Mark == nil || len(b.Tasks) != 1 || !b.BMCReset.Equal(now.Add(-time.Hour)) {
		t.Errorf("%+v", b)
	}
	if b := Remember(nil); b.BootID != "" {
		t.Errorf("%+v", b)
	}
}

// An act of a kind that nobody knows is refused where a journal is read, and settled by nobody.
func TestAStranger(t *testing.T) {
	var a Act
	if err := json.Unmarshal([]byte(`{"kind":"flap"}`), &a); err == nil || !strings.Contains(err.Error(), `"flap"`) {
		t.Error(err)
	}
	if err := json.Unmarshal([]byte(`{"kind":"move"}`), &a); err != nil || a.Kind != Move {
		t.Error(err)
	}
	k := Name("flap").Of()
	if got := k.Find(Act{}, Seen{Host: host("a")}); got.Outcome != NeedsPerson || Name("flap").Known() ||
		k.Rules().Remedy == "" {
		t.Errorf("%+v", got)
	}
}

func TestOutcomesInWords(t *testing.T) {
	for o, want := range map[Outcome]string{Untold: "can't be told", Done: "done", NotDone: "not done",
		UnderWay: "under way", NeedsPerson: "needs a person"} {
		if o.String() != want {
			t.Errorf("%d: %q", o, o)
		}
	}
}

func TestSameChange(t *testing.T) {
	c := Change{Component: "deb:k", Device: "d", From: "1", To: "2", SHA256: "s",
		Restart: catalogue.HostRestart, Pass: 1}
	for _, o := range []Change{{Component: "deb:l"}, {Device: "e"}, {From: "0"}, {To: "3"}, {SHA256: "t"},
		{Restart: catalogue.NoRestart}, {Pass: 2}} {
		x := c
		if o.Component != "" {
			x.Component = o.Component
		}
		x.Device, x.From, x.To, x.SHA256 = cmp.Or(o.Device, x.Device), cmp.Or(o.From, x.From), cmp.Or(o.To, x.To),
			cmp.Or(o.SHA256, x.SHA256)
		if o.Restart != "" {
			x.Restart = o.Restart
		}
		if o.Pass > 0 {
			x.Pass = o.Pass
		}
		if c.Same(x) {
			t.Errorf("%+v is the same", x)
		}
	}
	if !c.Same(c) {
		t.Error("it is not itself")
	}
}
