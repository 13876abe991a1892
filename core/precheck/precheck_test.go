package precheck

import (
	"errors"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// facts are those of a cluster in which nothing is wrong.
func facts() Facts {
	f := Facts{Now: now, MaxAge: time.Hour, Terms: fit.Terms{Reserve: 1}, Out: 1, Hosts: []string{"a", "b", "c"},
		Readings: map[string]*estate.Reading{}, Empties: true, Judged: true,
		Payloads: map[string]error{"x.payload": nil}}
	for _, h := range f.Hosts {
		r := &estate.Reading{Host: h, BootID: "boot " + h, Capacity: estate.Resources{MemoryMiB: 100, CPU: 100},
			BMC: estate.BMC{Power: "On"}, Health: []estate.Health{{Item: "fans", OK: true}},
			Condition: estate.Condition{Root: "ext4",
				Space: []estate.Space{{Path: "/", FreeMiB: 20 << 10, SizeMiB: 40 << 10}}},
			Guests: []estate.Guest{{Name: "g-" + h, State: estate.Running, Load: estate.Resources{MemoryMiB: 30}}}}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: now.Add(-time.Minute)})
		}
		f.Readings[h] = r
	}
	return f
}

// dead makes a host one whose power is off.
func dead(r *estate.Reading) {
	r.SetSection(estate.Section{Name: estate.Host, At: now, Err: "no route"})
	r.SetSection(estate.Section{Name: estate.GuestList, At: now, Err: "no route"})
	r.SetSection(estate.Section{Name: estate.BMCState, At: now})
	r.BMC.Power = "Off"
}

func TestEachCheckBlocksOnWhatItIsFor(t *testing.T) {
	iso := []estate.Disk{{Target: "sda", Source: "/x.iso", Media: true, Local: true}}
	mark := &estate.Mark{By: "night shift", Reason: "memory", At: now.Add(-50 * time.Hour)}
	for _, c := range []struct {
		check string
		level Level
		says  string
		spoil func(*Facts)
	}{
		{"reachable", Blocker, "no route", func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.Host, Err: "no route"})
		}},
		{"reachable", Blocker, "older than", func(f *Facts) { f.Now = now.Add(3 * time.Hour) }},
		{"members", Blocker, "b can't be read", func(f *Facts) {
			f.Readings["b"].SetSection(estate.Section{Name: estate.Host, Err: "no route"})
		}},
		{"members", Blocker, "off: b, as the BMC says; at most 1", func(f *Facts) { dead(f.Readings["b"]) }},
		{"members", Caution, "off: b, as the BMC says", func(f *Facts) { dead(f.Readings["b"]); f.Out = 2 }},
		{"members", Caution, "off: b, as the BMC says", func(f *Facts) { dead(f.Readings["b"]); f.Empties = false }},
		{"members", Blocker, "c can't be read", func(f *Facts) {
			dead(f.Readings["b"])
			dead(f.Readings["c"])
			f.Readings["c"].BMC.Power = "On"
		}},
		{"guests", Clear, "able to leave: 1", func(*Facts) {}},
		{"guests", Clear, "needs the host empty", func(f *Facts) {
			f.Readings["a"].Guests[0].Pins, f.Empties = []string{"it has a snapshot"}, false
		}},
		{"guests", Caution, "g-a: it has a snapshot; able to leave: 0", func(f *Facts) {
			f.Readings["a"].Guests[0].Pins = []string{"it has a snapshot"}
		}},
		{"guests", Clear, "able to leave: 0; at rest meanwhile: 1", func(f *Facts) {
			f.Readings["a"].Guests[0].Pins, f.Rest = []string{"it has a snapshot"}, map[string]bool{"g-a": true}
		}},
		{"guests", Caution, "g-a: in its drive sda is /x.iso, which only its host has", func(f *Facts) {
			f.Readings["a"].Guests[0].Disks = iso
		}},
		{"guests", Clear, "able to leave: 1", func(f *Facts) {
			f.Readings["a"].Guests[0].Disks, f.Eject = iso, map[string]bool{"g-a": true}
		}},
		{"guests", Caution, "g-a is suspended, and is not moved so", func(f *Facts) {
			f.Readings["a"].Guests[0].State = estate.Suspended
		}},
		{"guests", Clear, "able to leave: 0; powered off: 1", func(f *Facts) {
			f.Readings["a"].Guests[0].State = estate.Off
		}},
		{"guests", Caution, "g-a is off, and could not be started any more: afterwards the host has no old; able to " +
			"leave: 0; powered off: 1", func(f *Facts) {
			f.Readings["a"].Guests[0].State, f.Readings["a"].Guests[0].Features, f.Drops = estate.Off,
				[]string{"old"}, []string{"old"}
		}},
		{"guests", Blocker, "g-a comes to rest here and could not be started again: afterwards the host has no old",
			func(f *Facts) {
				f.Readings["a"].Guests[0].Features, f.Drops, f.Rest = []string{"old"}, []string{"old"},
					map[string]bool{"g-a": true}
			}},
		{"guests", Blocker, "which guests are on it is unread: no answer", func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.GuestList, Err: "no answer"})
		}},
		{"controller", Clear, "it runs in no guest of the cluster", func(*Facts) {}},
		{"controller", Clear, "it runs in no guest of the cluster", func(f *Facts) {
			f.Controller = "of another cluster"
		}},
		{"controller", Clear, "this program runs in g-b, a guest on b", func(f *Facts) { f.Controller = "g-b" }},
		{"controller", Caution, "this program runs in g-a, a guest on it: it moves", func(f *Facts) {
			f.Controller = "g-a"
		}},
		{"controller", Caution, "this program runs in g-a", func(f *Facts) {
			f.Controller, f.Readings["a"].Guests[0].ID = "u", "u"
		}},
		{"controller", Clear, "nothing here needs the host empty", func(f *Facts) {
			f.Controller, f.Empties = "g-a", false
		}},
		{"controller", Blocker, "the round would end with it", func(f *Facts) {
			f.Controller, f.Rest = "g-a", map[string]bool{"g-a": true}
		}},
		{"controller", Blocker, "the round would end with it", func(f *Facts) {
			f.Controller, f.Cold = "g-a", map[string]bool{"g-a": true}
		}},
		{"bmc", Caution, "no BMC is named", func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.BMCState, Err: "none"})
			f.Readings["a"].BMC = estate.BMC{None: true}
		}},
		{"orders", Blocker, "b: it takes none", func(f *Facts) { f.Readings["b"].Unready = "it takes none" }},
		{"orders", Clear, "it accepts them", func(f *Facts) {
			f.Readings["b"].Unready, f.Empties = "it takes none", false
		}},
		{"orders", Blocker, "a: it takes none", func(f *Facts) {
			f.Readings["a"].Unready, f.Empties = "it takes none", false
		}},
		{"members", Blocker, "c (never read) can't be read", func(f *Facts) { delete(f.Readings, "c") }},
		{"closed", Blocker, "b, by night shift 2 days ago (memory)", func(f *Facts) { f.Readings["b"].Closed = mark }},
		{"closed", Caution, "b, by night shift", func(f *Facts) { f.Readings["b"].Closed, f.Out = mark, 2 }},
		{"closed", Caution, "b, by night shift", func(f *Facts) { f.Readings["b"].Closed, f.Empties = mark, false }},
		{"closed", Blocker, "a, by night shift", func(f *Facts) { f.Readings["a"].Closed, f.Empties = mark, false }},
		{"closed", Clear, "no host is closed", func(f *Facts) {
			f.Readings["a"].Closed, f.Round = &estate.Mark{Round: "R"}, "R"
		}},
		{"fit", Blocker, "its guests would have no place", func(f *Facts) {
			f.Readings["a"].Guests[0].Load.MemoryMiB = 90
		}},
		{"fit", Clear, "needs the host empty", func(f *Facts) {
			f.Readings["a"].Guests[0].Load.MemoryMiB, f.Empties = 90, false
		}},
		{"bmc", Blocker, "no answer", func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.BMCState, Err: "no answer"})
		}},
		{"bmc", Blocker, "2 tasks in the BMC's queue", func(f *Facts) {
			f.Readings["a"].BMC.Waiting = []estate.BMCTask{{ID: "1"}, {ID: "2"}}
		}},
		{"health", Caution, "fans: slow", func(f *Facts) {
			f.Readings["a"].Health[0] = estate.Health{Item: "fans", Detail: "slow"}
		}},
		{"health", Caution, "not all health was read: the disks were silent", func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.HealthItems, At: now,
				Partial: "the disks were silent"})
		}},
		{"health", Caution, "no answer", func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.HealthItems, Err: "no answer"})
		}},
		{"restart", Caution, "deb:k 2 is installed and 1 runs", func(f *Facts) {
			f.Readings["a"].Components = []estate.Component{{Key: "deb:k", Version: "2", Running: "1"}}
		}},
		{"restart", Caution, "deb:k 2 is installed, and k.service still run what it replaced", func(f *Facts) {
			f.Readings["a"].Components = []estate.Component{{Key: "deb:k", Version: "2",
				Holders: []estate.Holder{{Service: "k.service"}}}}
		}},
		{"restart", Caution, "3 processes may not be looked into", func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.Packages, At: now, Hidden: 3})
		}},
		{"restart", Caution, "deb:k 2 is installed and 1 runs", func(f *Facts) { // what is known before what is not
			f.Readings["a"].Components = []estate.Component{{Key: "deb:k", Version: "2", Running: "1"}}
			f.Readings["a"].SetSection(estate.Section{Name: estate.Packages, At: now, Hidden: 3})
		}},
		{"fit", Blocker, "its guests would have no place", func(f *Facts) { f.Visited = []string{"a", "b"} }},
		{"fit", Clear, "its guest finds a place", func(f *Facts) { f.Visited = []string{"a"} }},
		{"dispute", Blocker, "b1 wants exactly 1, but b2 wants exactly 2", func(f *Facts) {
			f.Verdicts = []drift.Verdict{{Host: "a", Component: "deb:k", Outcome: drift.Disputed,
				Clause: &baseline.Bound{Baseline: "b1",
					Clause:  baseline.Clause{Posture: baseline.Exactly, Version: "1"},
					Against: []baseline.Rival{{Baseline: "b2", Wants: "exactly 2"}}}}}
		}},
		{"payload", Blocker, "x.payload: damaged", func(f *Facts) { f.Payloads["x.payload"] = errors.New("damaged") }},
	} {
		f := facts()
		c.spoil(&f)
		for _, a := range Host(f, "a") {
			if a.Check != c.check {
				continue
			}
			if a.Level != c.level || !strings.Contains(a.Evidence, c.says) {
				t.Errorf("%s: %s, %q; want %s, %q", c.check, a.Level, a.Evidence, c.level, c.says)
			}
			if a.Level == Blocker && a.Remedy == "" {
				t.Errorf("%s blocks and names no remedy", c.check)
			}
		}
	}
}

func TestAllClearWhereNothingIsWrong(t *testing.T) {
	f := facts()
	if n := len(Host(f, "a")); n != len(Checks)-4 {
		t.Errorf("%d of %d checks are asked where nothing is known of the visit", n, len(Checks))
	}
	f.Visit, f.Snapshots = Visit{Said: []act.Resolution{}, Begun: true}, []estate.Rule{{Guests: []string{"nobody"}}}
	as := Host(f, "a")
	if len(as) != len(Checks) || worst(as) != Clear || len(Blockers(as)) > 0 {
		t.Errorf("%+v", as)
	}
}

func TestAHostThatWasNeverReadIsNeverClear(t *testing.T) {
	f := facts()
	f.Readings = nil
	if worst(Host(f, "a")) != Blocker {
		t.Error("nothing is known of it and nothing blocks")
	}
}

// worst returns the gravest level among the answers.
func worst(as []Answer) Level {
	gravest := Clear
	for _, a := range as {
		if a.Level == Blocker || a.Level == Caution && gravest == Clear {
			gravest = a.Level
		}
	}
	return gravest
}

// Invariant 11: what was not worked out clears nothing.
func TestWithoutBeingJudgedNothingClears(t *testing.T) {
	f := facts()
	f.Judged = false
	for _, a := range Host(f, "a") {
		if (a.Check == "dispute" || a.Check == "together") && a.Level != Blocker {
			t.Errorf("%+v", a)
		}
	}
}

// B8: what a host will be is held against the compatibility lists; whether leaving them blocks is the publisher's word.
func TestOutsideACompatibilityList(t *testing.T) {
	of := func(ms ...catalogue.Mismatch) Answer {
		x := together(Facts{Judged: true, Mismatches: ms}, &estate.Reading{})
		return Answer{Level: x.level, Evidence: x.evidence, Remedy: x.remedy}
	}
	soft, hard := catalogue.Mismatch{Hardware: "L25", List: "net", Why: "2 with 3 is on no line"},
		catalogue.Mismatch{Hardware: "S9", List: "disks", Why: "x", Blocks: true}
	for _, c := range []struct {
		got  Answer
		want Level
	}{{of(), Clear}, {of(soft), Caution}, {of(soft, hard), Blocker}} {
		if c.got.Level != c.want ||
			c.want != Clear && (c.got.Remedy == "" ||
				!strings.Contains(c.got.Evidence, "L25, by the list net: 2 with 3 is on no line")) {
			t.Errorf("%+v, want %s", c.got, c.want)
		}
	}
}

func answer(t *testing.T, f Facts, check string) Answer {
	t.Helper()
	for _, a := range Host(f, "a") {
		if a.Check == check {
			return a
		}
	}
	t.Fatalf("there is no check %q", check)
	return Answer{}
}

// Marks of the round itself, and of one that it adopts, block nothing on its own hosts; anybody else's do.
func TestWhoseMarksBlock(t *testing.T) {
	mark := func(round string) *estate.Mark { return &estate.Mark{By: "op", Round: round, At: now} }
	for name, c := range map[string]struct {
		host, round  string
		ours, adopts string
		visited      []string
		want         Level
	}{
		"our own":                       {"a", "R", "R", "", nil, Clear},
		"another round's":               {"a", "Q", "R", "", nil, Blocker},
		"one that is adopted":           {"a", "lost", "R", "lost", nil, Clear},
		"one that is lost":              {"a", "lost", "R", "", nil, Blocker},
		"a person's":                    {"a", "", "R", "", nil, Blocker},
		"a person's, nothing adopted":   {"a", "", "", "", nil, Blocker},
		"of another host":               {"b", "Q", "R", "", nil, Blocker},
		"ours on another host":          {"b", "R", "R", "", nil, Blocker},
		"ours on one that is visited":   {"b", "R", "R", "", []string{"b"}, Clear},
		"theirs on one that is visited": {"b", "Q", "R", "", []string{"b"}, Blocker},
	} {
		f := facts()
		f.Readings[c.host].Closed, f.Round, f.Adopts, f.Visited = mark(c.round), c.ours, c.adopts, c.visited
		if got := answer(t, f, "closed"); got.Level != c.want {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

// A host of ours that restarts, and was empty when it was closed, is no silent member.
func TestAVisitedHostMayBeSilent(t *testing.T) {
	for name, c := range map[string]struct {
		visited []string
		mark    *estate.Mark
		guests  bool
		want    Level
	}{
		"visited, closed and empty": {[]string{"b"}, &estate.Mark{Round: "R"}, false, Clear},
		"not visited":               {nil, &estate.Mark{Round: "R"}, false, Blocker},
		"not closed":                {[]string{"b"}, nil, false, Blocker},
		"closed by another":         {[]string{"b"}, &estate.Mark{Round: "Q"}, false, Blocker},
		"with guests":               {[]string{"b"}, &estate.Mark{Round: "R"}, true, Blocker},
	} {
		f := facts()
		f.Round, f.Visited = "R", c.visited
		b := f.Readings["b"]
		b.Closed = c.mark
		b.SetSection(estate.Section{Name: estate.Host, Err: "no answer"})
		if !c.guests {
			b.Guests = nil
		}
		if got := answer(t, f, "members"); got.Level != c.want {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

func TestWordsThatClear(t *testing.T) {
	f := facts()
	if got := answer(t, f, "members"); got.Evidence != "all 2 others answer" {
		t.Errorf("%+v", got)
	}
	f.Readings["a"].Components = []estate.Component{{Key: "drv:d", Version: "1", State: "odd"},
		{Key: "deb:k", Version: "1"}}
	if got := answer(t, f, "packages"); got.Level != Clear {
		t.Errorf("a driver's state is no package's: %+v", got)
	}
	disputed := drift.Verdict{Host: "b", Clause: &baseline.Bound{Against: []baseline.Rival{{Baseline: "other"}}}}
	f.Verdicts = []drift.Verdict{disputed, {Host: "a", Outcome: drift.InLine}, {Host: "a", Outcome: drift.Behind, Clause: &baseline.Bound{}}}
	if got := answer(t, f, "dispute"); got.Level != Clear {
		t.Errorf("%+v", got)
	}
	f.Verdicts[1].Outcome = drift.Undecided
	if got := answer(t, f, "dispute"); got.Level != Caution || !got.Unknown {
		t.Errorf("%+v", got)
	}
	f.Verdicts[0].Host = "a"
	if got := answer(t, f, "dispute"); got.Level != Blocker {
		t.Errorf("%+v", got)
	}
}

// Where fit was asked already, its answer is taken.
func TestWhatFitSaidAlready(t *testing.T) {
	f := facts()
	f.Placed = &fit.Answer{Outcome: fit.Unproven, Obstacle: &fit.Obstacle{Constraint: "too hard", WayOut: "wait"}}
	if got := answer(t, f, "fit"); got.Level != Blocker || got.Evidence != "unproven: too hard" ||
		got.Remedy != "wait" {
		t.Errorf("%+v", got)
	}
}

// What a round asks of a visit: what comes along with its packages, whether the host is as it was, and what was withdrawn.
func TestWhatAVisitIsAsked(t *testing.T) {
	k := act.Change{Component: "deb:k", From: "1", To: "2", Pass: 1}
	for name, c := range map[string]struct {
		v     Visit
		check string
		level Level
		says  string
	}{
		"it brings nothing":     {Visit{Said: []act.Resolution{{}}}, "along", Clear, "nothing else changes"},
		"it brings something":   {Visit{Said: []act.Resolution{{Along: []act.Along{{Component: "deb:z", To: "3"}}}}}, "along", Clear, "deb:z"},
		"it removes":            {Visit{Said: []act.Resolution{{}, {Removes: []estate.Key{"deb:z"}}}}, "along", Blocker, "it would also remove deb:z"},
		"it refuses":            {Visit{Said: []act.Resolution{{Refused: "no"}, {}}}, "along", Blocker, "would refuse: no"},
		"not asked":             {Visit{Said: []act.Resolution{{Unasked: "asleep"}, {}}}, "along", Caution, "could not be asked: asleep"},
		"refused and not asked": {Visit{Said: []act.Resolution{{Unasked: "asleep"}, {Refused: "no"}}}, "along", Blocker, "would refuse: no"},
		"as it was":             {Visit{Begun: true, Planned: []act.Change{k}}, "planned", Clear, "as it was"},
		"another":               {Visit{Begun: true, Planned: []act.Change{{Component: "deb:k", From: "0", To: "2"}}}, "planned", Blocker, `was "0" when`},
		"it stands":             {Visit{Begun: true}, "withdrawn", Clear, "nothing that would be put in"},
		"it is withdrawn":       {Visit{Begun: true, Withdrawn: []Withdrawal{{k, "it burns", "c"}}}, "withdrawn", Blocker, "deb:k 2 was withdrawn since the round was planned: it burns"},
	} {
		f := facts()
		f.Readings["a"].Components = append(f.Readings["a"].Components, estate.Component{Key: "deb:k", Version: "1"})
		f.Visit = c.v
		a := Named(c.check, f, "a")
		if a.Level != c.level || !strings.Contains(a.Evidence, c.says) || a.Level == Blocker && (a.Never == "" || a.Remedy == "") {
			t.Errorf("%s: %+v", name, a)
		}
	}
}
