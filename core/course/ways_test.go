package course

import (
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
)

// state plays a case without what is decided on it.
func state(t *testing.T, text string) *scene {
	t.Helper()
	sc := newScene(t)
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		f := strings.Fields(line)
		switch f[0] {
		case "hosts":
			sc.hosts(f[1:])
		case "brief":
			sc.brief(f[1:])
		case "plan":
			sc.visit(f[1:])
		case "journal":
			sc.begin()
			sc.journal(f[1:])
			sc.logged()
		}
	}
	return sc
}

// What can't be decided is refused, with why; what is plain is filled in.
func TestWhatCanBeDecided(t *testing.T) {
	const stands = "plan a k/host l/host\nplan b k/\njournal a: began checked stage:k stage:l move:g1>b close put:k "
	for _, c := range []struct {
		name, state string
		ask         Event
		want        string // why it is refused; empty: it is not
		of          string // what is filled in
	}{
		{"no reason", stands, Event{Detail: AskEnd, Reason: " "}, "it needs a reason", ""},
		{"the end, at any time", stands, Event{Detail: AskEnd, Reason: "r"}, "", ""},
		{"a host without a visit", stands, Event{Detail: AskHand, Host: "z", Reason: "r"}, `no visit to "z"`, ""},
		{"a host that was not begun", stands, Event{Detail: AskHand, Host: "b", Reason: "r"}, "", ""},
		{"a host under way", stands, Event{Detail: AskHand, Host: "a", Reason: "r"}, "", ""},
		{"a change that there is not", stands, Event{Detail: AskDrop, Host: "a", Of: "deb:z", Reason: "r"},
			`makes no change "deb:z"; it makes: deb:k, deb:l`, "deb:z"},
		{"a change that was made", stands, Event{Detail: AskDrop, Host: "a", Of: "deb:k", Reason: "r"},
			"was put in already", "deb:k"},
		{"a change that is to come", stands, Event{Detail: AskDrop, Host: "a", Of: "deb:l", Reason: "r"}, "", "deb:l"},
		{"a change that is being made", stands + "put:l/accepted", Event{Detail: AskDrop, Host: "a", Of: "deb:l", Reason: "r"},
			"how an act about deb:l came out is not known", "deb:l"},
		{"a change, while it is not known how another came out", stands + "put:l restart:1/overdue",
			Event{Detail: AskDrop, Host: "b", Of: "deb:k", Reason: "r"}, "", "deb:k"},
		{"the same of its own host", "plan a k/host f/bmc\njournal a: began checked stage:k/stuck",
			Event{Detail: AskDrop, Host: "a", Of: "fw:f", Reason: "r"}, "settle that first", "fw:f"},
		{"a word where looks do", stands + "put:l/accepted", Event{Detail: AskDone, Host: "a", Reason: "r"},
			"looks settle the rest", ""},
		{"a word about what is stuck", stands + "put:l restart:1/overdue", Event{Detail: AskDone, Host: "a", Reason: "r"}, "",
			"a/restart#"},
		{"a word that would start a guest", "plan a k/host rests:g1\njournal a: began checked stage:k down:g1 close put:k " +
			"restart:1 proving proven open start:g1/overdue", Event{Detail: AskUndone, Host: "a", Reason: "r"},
			"nobody's word permits starting a guest", ""},
		{"and one that says it runs", "plan a k/host rests:g1\njournal a: began checked stage:k down:g1 close put:k " +
			"restart:1 proving proven open start:g1/overdue", Event{Detail: AskDone, Host: "a", Reason: "r"}, "", "a/start#"},
		{"a visit that is over", "plan a k/\nplan b k/\njournal a: began checked stage:k put:k proving proven",
			Event{Detail: AskHand, Host: "a", Reason: "r"}, "the visit to a is over", ""},
		{"something else", stands, Event{Detail: "dance", Host: "a", Reason: "r"}, `nobody can decide "dance"`, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			sc := state(t, c.state)
			e := c.ask
			why := sc.s.Refuses(&e)
			if (why == "") != (c.want == "") || !strings.Contains(why, c.want) || !strings.HasPrefix(e.Of, c.of) {
				t.Errorf("refused: %q, want %q; it is about %q, want %q", why, c.want, e.Of, c.of)
			}
		})
	}
	sc := state(t, stands)
	if sc.apply(Event{Kind: Ended, Status: Finished}); sc.s.Refuses(&Event{Detail: AskEnd, Reason: "r"}) == "" {
		t.Error("a finished round is ended")
	}
}

// A round that goes on by itself, or is over, needs nobody; one that stands still names what leads on, with its command.
func TestWaysAreNamedWhereARoundStandsStill(t *testing.T) {
	const failed = "plan a k/host l/host\njournal a: began checked stage:k stage:l move:g1>b close put:k put:l/failed"
	sc := state(t, failed)
	if got := sc.s.Ways(); got != nil {
		t.Errorf("it runs, and needs %v", got)
	}
	commands := func() (out []string) {
		for _, w := range sc.s.Ways() {
			out = append(out, strings.Join(w.Command, " "))
		}
		return out
	}
	sc.apply(Event{Kind: Ended, Status: Failing})
	if got, want := commands(), []string{"round resume c", "round drop c a deb:l", "round hand-over c a", "round end c"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	sc = state(t, "plan a k/host\njournal a: began checked stage:k move:g1>b close put:k restart:1/overdue")
	sc.apply(Event{Kind: Ended, Status: Failing})
	if got, want := commands(), []string{"round resume c", "round settle c a --done", "round settle c a --not-done",
		"round hand-over c a", "round end c"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	sc.apply(Event{Kind: Ended, Status: Finished})
	if got := sc.s.Ways(); got != nil {
		t.Errorf("it is finished, and needs %v", got)
	}
}

// What is owed is told until the newest readings show that it was undone; what was not read counts as owed.
func TestWhatIsOwed(t *testing.T) {
	const handed = "brief hand=close\nhosts a:g1,g2 b c\nplan a keeps rests:g1\n" +
		"journal a: began checked move:g2>b down:g1 close hand handed"
	sc := state(t, handed)
	until := noon.Add(time.Hour)
	sc.s.Plan.Brief.Hand = &plan.Hand{Does: plan.HandClose, Until: until}
	owed := func() string {
		var out []string
		for _, d := range sc.s.Debts(sc.f.Readings) {
			out = append(out, d.Host+" ("+d.By+", "+d.Reason+"): "+strings.Join(d.Owed, "; "))
		}
		return strings.Join(out, " | ")
	}
	closed, rests := "it is closed", "g1: "+act.Down.Of().Rules().Owes
	if got, want := owed(), "a (op, a fan): "+closed+"; "+rests; got != want {
		t.Errorf("%q, want %q", got, want)
	}
	hand := sc.s.Plan.Brief.Hand
	if sc.s.Plan.Brief.Hand = nil; !strings.HasPrefix(owed(), "a (op, a fan)") { // left by a round: its event says whose it is
		t.Error(owed())
	}
	sc.s.Plan.Brief.Hand = hand
	d := sc.s.Debts(sc.f.Readings)[0]
	if d.Overdue(until) || !d.Overdue(until.Add(time.Second)) || len(d.Acts) != 1 || d.Cluster != "c" || d.Round != "R" {
		t.Errorf("%+v", d)
	}
	a := sc.f.Readings["a"]
	a.Guests[slices.IndexFunc(a.Guests, func(g estate.Guest) bool { return g.Name == "g1" })].State = estate.Running
	if got, want := owed(), "a (op, a fan): "+closed; got != want {
		t.Errorf("the guest runs again: %q, want %q", got, want)
	}
	a.SetSection(estate.Section{Name: estate.GuestList, At: noon, Err: "no answer"})
	if got := owed(); !strings.Contains(got, rests) {
		t.Errorf("whether the guest runs is not known: %q", got)
	}
	a.SetSection(estate.Section{Name: estate.GuestList, At: noon})
	a.Closed = nil
	if got := owed(); got != "" {
		t.Errorf("it is open: %q", got)
	}
	a.SetSection(estate.Section{Name: estate.Host, At: noon, Err: "no answer"})
	if got := owed(); !strings.Contains(got, closed) {
		t.Errorf("it does not answer: %q", got)
	}
	// A host that was handed over in the middle owes what nobody knows, until it is open.
	sc = state(t, "plan a k/host\njournal a: began checked stage:k move:g1>b close put:k restart:1/overdue give handed")
	if got := owed(); !strings.Contains(got, `whether it came to "restart (pass 1)" is not known`) || sc.s.Holds() {
		t.Errorf("%q, and the round holds on to it: %v", got, sc.s.Holds())
	}
	if sc.f.Readings["a"].Closed = nil; owed() != "" {
		t.Errorf("it is open: %q", owed())
	}
	// A service that was changed for the visit is owed until it is seen to be as it was.
	sc = state(t, "brief temporary=x\nplan a k/host\njournal a: began checked lend:x stage:k give handed")
	if got := owed(); !strings.Contains(got, "x.service is changed for the time of the visit") {
		t.Errorf("%q", got)
	}
	sc.component("a", "set:service/x", func(c *estate.Component) { c.Version = "enabled, running" })
	if got := owed(); got != "" {
		t.Errorf("it runs again: %q", got)
	}
	sc.f.Readings["a"].SetSection(estate.Section{Name: estate.SettingItems, At: noon, Err: "no answer"})
	if got := owed(); !strings.Contains(got, "x.service") {
		t.Errorf("whether it runs is not known: %q", got)
	}
	// One that was not closed then, or not any more, owes it all the same: nobody has seen to it. A guest that runs is
	// no question any more.
	for _, journal := range []string{"stage:k move:g1>b/overdue give handed",
		"stage:k move:g1>b close put:k restart:1 proving proven open return:g1<b/overdue give handed"} {
		sc = state(t, "plan a k/host back:g1<b\njournal a: began checked "+journal)
		for _, r := range sc.f.Readings {
			for i := range r.Guests {
				r.Guests[i].State = estate.Suspended
			}
		}
		if got := owed(); !strings.Contains(got, "g1") || !strings.Contains(got, "is not known") {
			t.Errorf("%s: %q", journal, got)
		}
		for _, r := range sc.f.Readings {
			for i := range r.Guests {
				r.Guests[i].State = estate.Running
			}
		}
		if got := owed(); got != "" {
			t.Errorf("%s: it runs: %q", journal, got)
		}
	}
	// A round that stands still owes too, and what has not begun nothing.
	sc = state(t, "plan a k/host\nplan b k/host\njournal a: began checked stage:k move:g1>b close put:k/failed")
	if got, want := owed(), "a (, ): "+closed; got != want {
		t.Errorf("%q, want %q", got, want)
	}
	// The closing is the person's once the host says so: the visit has it no more.
	sc = state(t, "plan a k/host\njournal a: began checked stage:k move:g1>b close put:k/failed give hand")
	if v := sc.s.Visit("a"); v.Closed() || len(v.Due()) > 0 {
		t.Errorf("%v", v.Due())
	}
}

// What of a host's condition is worse than before its visit.
func TestWhatIsWorse(t *testing.T) {
	was := estate.Condition{Root: "ext4", Space: []estate.Space{{Path: "/"}, {Path: "/boot"}},
		Servers: []estate.Server{{At: "/iso"}}, Arrays: []estate.Array{{Name: "md0", Whole: true}, {Name: "md1"}},
		Bonds: []estate.Bond{{Name: "bond0", Links: []estate.Link{{Name: "x", Up: true}, {Name: "y", Up: true}}}}}
	if got := worse(&was, &was); got != nil {
		t.Errorf("nothing has changed: %q", got)
	}
	for want, change := range map[string]func(*estate.Condition){
		"its root is tmpfs, and was ext4":            func(c *estate.Condition) { c.Root, c.Volatile = "tmpfs", true },
		"its clock is 1m0s ahead, and was right":     func(c *estate.Condition) { c.Ahead = time.Minute },
		"the file system at /boot is gone":           func(c *estate.Condition) { c.Space = c.Space[:1] },
		"what was mounted at /iso is gone":           func(c *estate.Condition) { c.Servers = nil },
		"the array md1 is gone":                      func(c *estate.Condition) { c.Arrays = c.Arrays[:1] },
		"the array md0 was whole: one disk is gone":  func(c *estate.Condition) { c.Arrays[0] = estate.Array{Name: "md0", Detail: "one disk is gone"} },
		"of the links of bond0 1 are up, and were 2": func(c *estate.Condition) { c.Bonds[0].Links = c.Bonds[0].Links[:1] },
		"the bond bond0 is gone":                     func(c *estate.Condition) { c.Bonds = nil },
	} {
		now := was
		now.Arrays, now.Bonds = slices.Clone(was.Arrays), slices.Clone(was.Bonds)
		change(&now)
		if got := worse(&was, &now); len(got) != 1 || got[0] != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	better := was
	better.Arrays = []estate.Array{{Name: "md0", Whole: true}, {Name: "md1", Whole: true}}
	if got := worse(&was, &better); got != nil {
		t.Errorf("better: %q", got)
	}
	// and it is held against the host
	before, after := &estate.Reading{Host: "a", Storages: []string{"s"}, Condition: was}, &estate.Reading{Host: "a"}
	for _, r := range []*estate.Reading{before, after} {
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: noon})
		}
	}
	after.Condition = was
	after.Condition.Bonds = nil
	v := &Visit{Before: before}
	if got := less(v, after); !slices.Equal(got, []string{"the storage s is gone", "the bond bond0 is gone"}) {
		t.Errorf("%q", got)
	}
	after.SetSection(estate.Section{Name: estate.ConditionItems, At: noon, Err: "no answer"})
	if got := less(v, after); !slices.Equal(got, []string{"the storage s is gone"}) {
		t.Errorf("its condition is not read: %q", got)
	}
}

// A service that is stopped for the visit is nothing that has changed unasked; another one is.
func TestWhatWasLentIsNotUnasked(t *testing.T) {
	sc := state(t, "brief temporary=x\nplan a k/\njournal a: began checked lend:x stage:k put:k proving")
	v, r := sc.s.Visit("a"), sc.f.Readings["a"]
	if got := unasked(v, r); len(got) > 0 {
		t.Errorf("%v", got)
	}
	v.Owed = nil
	if got := unasked(v, r); len(got) != 1 || !strings.Contains(got[0], "set:service/x went from enabled, running to stopped") {
		t.Errorf("%v", got)
	}
}

// A host that is off shows neither that a snapshot is gone nor that a medium is in again; and a close of which nobody knows
// how it came out is told as what the host shows.
func TestAHostThatIsOffPaysNoDebt(t *testing.T) {
	owed := func(sc *scene) string {
		var out []string
		for _, d := range sc.s.Debts(sc.f.Readings) {
			out = append(out, d.Owed...)
		}
		return strings.Join(out, "; ")
	}
	sc := state(t, "brief snapshot=g1\nhosts a:g1 b c\nplan a k/host ejects:g1 moves:g1>b\njournal a: began checked stage:k eject:g1 move:g1>b close copy:g1@b put:k")
	g := &sc.f.Readings["b"].Guests[slices.IndexFunc(sc.f.Readings["b"].Guests, func(g estate.Guest) bool { return g.Name == "g1" })]
	if len(g.Snapshots) == 0 {
		t.Fatal("no snapshot was made")
	}
	const snapshot, medium = "g1: has a snapshot", "g1: lacks a medium"
	if got := owed(sc); !strings.Contains(got, snapshot) || !strings.Contains(got, medium) {
		t.Errorf("first it owes %q", got)
	}
	off := &estate.Reading{Host: "b", BMC: estate.BMC{Power: "Off"}}
	for _, s := range estate.SectionNames {
		off.SetSection(estate.Section{Name: s, At: noon, Err: map[bool]string{false: "no answer"}[s == estate.BMCState]})
	}
	if sc.f.Readings["b"] = off; !off.Off() {
		t.Fatal("it is not off")
	}
	if got := owed(sc); !strings.Contains(got, snapshot) || !strings.Contains(got, medium) {
		t.Errorf("with the host off it owes %q", got)
	}

	sc = state(t, "brief hand=close\nplan a keeps\njournal a: began checked close/quiet close/overdue handed")
	for mark, want := range map[string]string{"R": "it is closed", "": "", "other": ""} {
		r := sc.f.Readings["a"]
		if r.Closed = nil; mark != "" {
			r.Closed = &estate.Mark{Round: mark}
		}
		if got := owed(sc); got != want {
			t.Errorf("with the mark of %q it owes %q, want %q", mark, got, want)
		}
	}
	sc.f.Readings["a"].SetSection(estate.Section{Name: estate.Host, At: noon, Err: "no answer"})
	if got := owed(sc); !strings.Contains(got, `"close" is not known`) {
		t.Errorf("unread it owes %q", got)
	}
}
