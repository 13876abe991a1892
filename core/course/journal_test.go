package course

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// aPlan visits a, whose one change needs a restart, and b.
func aPlan() *plan.Plan {
	c := act.Change{Component: "deb:k", From: "1", To: "2", Pass: 1, File: "k", SHA256: "s"}
	return &plan.Plan{Visits: []plan.Visit{{Host: "a", Changes: []act.Change{c}, Passes: 1, Restarts: []int{1},
		Empties: true}, {Host: "b"}}}
}

// whole is a journal that tells a good story.
func whole() []Event {
	p := aPlan()
	c := &p.Visits[0].Changes[0]
	put := &act.Act{ID: "x", Kind: act.Install, Host: "a", Change: c, Pass: 1}
	end := &act.Act{ID: "y", Kind: act.Close, Host: "a"}
	out := []Event{{Kind: Started, Round: "R", Plan: p, By: "me", Detail: "why"}, {Kind: Began, Host: "a"},
		{Kind: Checked, Host: "a", Before: &estate.Reading{Host: "a"}},
		{Kind: Intent, Act: end}, {Kind: Accepted, Act: end}, {Kind: Done, Act: end}, {Kind: Intent, Act: put},
		{Kind: Accepted, Act: put, Task: "7"}, {Kind: Quiet, Act: put}, {Kind: Heard, Act: put}, {Kind: Done, Act: put}}
	for i := range out {
		out[i].V, out[i].Seq, out[i].Epoch, out[i].At = Schema, int64(i+1), 1, noon.Add(time.Duration(i)*time.Minute)
	}
	return out
}

// A journal that can't be is refused rather than guessed at, with the number of the entry; what comes before it is
// told.
func TestFoldRefuses(t *testing.T) {
	if s, err := Fold(whole()); err != nil || len(s.Open) != 0 || !s.Visits[0].Closed() ||
		!s.Visits[0].Did(act.Install, 0) || s.Plan.Brief.By != "me" || s.Plan.Brief.Reason != "why" {
		t.Fatalf("%+v %v", s, err)
	}
	for name, c := range map[string]struct {
		at    int64
		spoil func([]Event)
	}{
		"another schema":               {3, func(es []Event) { es[2].V = 1 }},
		"a gap":                        {5, func(es []Event) { es[4].Seq = 6 }},
		"the same number twice":        {5, func(es []Event) { es[4].Seq = 4 }},
		"it does not begin":            {1, func(es []Event) { es[0].Kind = Began }},
		"it begins twice":              {2, func(es []Event) { es[1].Kind = Started }},
		"it begins without a plan":     {1, func(es []Event) { es[0].Plan = nil }},
		"an epoch that nobody took on": {4, func(es []Event) { es[3].Epoch = 2 }},
		"an epoch that falls":          {4, func(es []Event) { es[3].Epoch = 0 }},
		"a host without a visit":       {2, func(es []Event) { es[1].Host = "z" }},
		"a visit without a host":       {2, func(es []Event) { es[1].Host = "" }},
		"an act without an act":        {4, func(es []Event) { es[3].Act = nil }},
		"an outcome without an intent": {4, func(es []Event) { es[3].Kind = Done }},
		"an intent that is open":       {5, func(es []Event) { es[4].Kind = Intent }},
		"an outcome twice":             {8, func(es []Event) { es[7].Act = es[3].Act }},
		"an act on a strange host": {4, func(es []Event) {
			es[3].Act = &act.Act{ID: "x", Kind: act.Close, Host: "z"}
		}},
		"a change that is not there": {7, func(es []Event) { a := *es[6].Act; a.Index = 1; es[6].Act = &a }},
		"a change below none":        {7, func(es []Event) { a := *es[6].Act; a.Index = -1; es[6].Act = &a }},
		"a change without a change":  {7, func(es []Event) { a := *es[6].Act; a.Change = nil; es[6].Act = &a }},
		"a kind of act that is none": {4, func(es []Event) {
			es[3].Act = &act.Act{ID: "x", Kind: "flap", Host: "a"}
		}},
		"an event of no kind":          {6, func(es []Event) { es[5].Kind = "guessed" }},
		"a request about an act":       {6, func(es []Event) { es[5].Kind = Asked }},
		"a visit's event about an act": {6, func(es []Event) { es[5].Kind = Proven }},
	} {
		es := whole()
		c.spoil(es)
		s, err := Fold(es)
		var bad *Malformed
		if !errors.As(err, &bad) || bad.Entry != c.at || bad.Why == "" ||
			!strings.Contains(err.Error(), fmt.Sprint("entry ", c.at)) {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if s.Seq != c.at-1 {
			t.Errorf("%s: the state is that of entry %d", name, s.Seq)
		}
	}
}

// Whatever stands in a journal, folding it does not panic; and a round that it tells of can be decided on.
func FuzzFold(f *testing.F) {
	for _, spoil := range []func([]Event){func([]Event) {}, func(es []Event) { es[3].Act = nil }, func(es []Event) {
		es[6].Act.Index = 9
	}} {
		es := whole()
		spoil(es)
		text, err := json.Marshal(es)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		var es []Event
		if json.Unmarshal(text, &es) != nil {
			return
		}
		for i := range es { // so that more than the first is looked at
			es[i].V, es[i].Seq, es[i].Epoch = Schema, int64(i+1), 1
		}
		s, err := Fold(es)
		var bad *Malformed
		if err != nil && !errors.As(err, &bad) {
			t.Fatal(err)
		}
		if s.Seq == 0 {
			return
		}
		facts := Facts{Now: noon, Lease: true, Readings: map[string]*estate.Reading{}}
		for i := range s.Visits {
			s.Visits[i].Before = &estate.Reading{}
			facts.Hosts = append(facts.Hosts, s.Visits[i].Host)
			facts.Readings[s.Visits[i].Host] = &estate.Reading{Host: s.Visits[i].Host}
		}
		Next(s, facts)
		s.Tally()
		s.Holds()
	})
}

func TestForecastLaysVisitsEndToEnd(t *testing.T) {
	p := aPlan()
	p.Made = noon
	p.Visits[0].Steps = []plan.Stretch{{Step: act.DrainStep, Middle: time.Minute},
		{Step: act.RestartStep, Pass: 1, Middle: time.Hour}}
	p.Visits[1].Obstacle, p.Visits[1].Steps = "in the way", p.Visits[0].Steps
	s := Forecast(p)
	v := s.Visits[0]
	if len(v.Spans) != 2 || !v.Spans[0].From.Equal(noon) || !v.Spans[1].From.Equal(v.Spans[0].To) ||
		v.Spans[1].To.Sub(noon) != 61*time.Minute || !s.Last.Equal(v.Spans[1].To) {
		t.Errorf("%+v", v.Spans)
	}
	if len(s.Visits[1].Spans) > 0 || s.Status != Planned {
		t.Error("a host that can't be visited has steps")
	}
}

// The time of a step is from its first act to the end of its last, and of a step that only looks from when it began.
func TestSpans(t *testing.T) {
	s, err := Fold(whole())
	if err != nil {
		t.Fatal(err)
	}
	at := func(n int) time.Time { return noon.Add(time.Duration(n) * time.Minute) }
	want := []Span{{act.PrecheckStep, 0, at(1), at(2), false}, {act.CloseStep, 0, at(3), at(5), false},
		{act.ChangeStep, 1, at(6), at(10), false}}
	got := s.Visits[0].Spans
	if len(got) != len(want) {
		t.Fatalf("%+v", got)
	}
	for i := range want {
		if got[i] != want[i] {
			t.Errorf("%+v, want %+v", got[i], want[i])
		}
	}
}

func TestGatesAreWhole(t *testing.T) {
	seen := map[string]bool{}
	for _, g := range Gates {
		if g.Name == "" || g.Asks == "" || g.holds == nil || seen[g.Name] {
			t.Errorf("%+v", g)
		}
		seen[g.Name] = true
		if !strings.Contains(cases, "gate "+g.Name) {
			t.Errorf("no case is about the gate %q", g.Name)
		}
	}
	// the others are about secrets, and about names in files
	for _, n := range []int{1, 2, 3, 4, 5, 6, 7, 8, 9, 11, 13} {
		if !strings.Contains(cases, fmt.Sprintf("# invariant %d:", n)) &&
			!strings.Contains(cases, fmt.Sprintf("# invariant %d,", n)) {
			t.Errorf("no case is about invariant %d", n)
		}
	}
}

func TestWhatAnEventIsAbout(t *testing.T) {
	move := &act.Act{Kind: act.Move, Host: "a", Guest: "g", To: "b"}
	for want, e := range map[string]Event{"a move g to b": {Kind: Done, Act: move},
		"c precheck": {Kind: Blocked, Host: "c"}, "d prove": {Kind: Unproven, Host: "d"},
		"e waits: x": {Kind: Waits, Host: "e", Detail: "x"},
		"a restart (pass 1): silent meanwhile, as expected": {Kind: Quiet,
			Act: &act.Act{Kind: act.Restart, Host: "a", Pass: 1}},
		"a move g to b: no answer, and it is waited for: x": {Kind: Quiet, Act: move, Detail: "x"},
		"a move g to b: it answers again":                   {Kind: Heard, Act: move},
		"a move g to b: y":                                  {Kind: Undone, Act: move, Detail: "y"},
		"f left out: z":                                     {Kind: Left, Host: "f", Detail: "z"}} {
		if got := e.About() + " " + e.Says(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

func BenchmarkNext(b *testing.B) {
	for _, hosts := range []int{4, 16, 64} {
		b.Run(fmt.Sprint(hosts), func(b *testing.B) {
			s, f := benchRound(hosts)
			for b.Loop() {
				Next(s, f)
			}
		})
	}
}

// benchRound is a round that is about to move a guest.
func benchRound(hosts int) (*State, Facts) {
	p := aPlan()
	p.Brief = plan.Brief{Out: 1, Moves: 2, Patience: time.Minute}
	f := Facts{Now: noon, Lease: true, Readings: map[string]*estate.Reading{},
		Read: map[string]map[estate.SectionName]Sight{}, Today: map[string]Today{"a": {}}}
	for i := range hosts {
		h := "a"
		if i > 0 {
			h = fmt.Sprintf("h%03d", i)
		}
		r := &estate.Reading{Host: h, Capacity: estate.Resources{MemoryMiB: 1000, CPU: 1000}}
		for g := range 10 {
			r.Guests = append(r.Guests,
				estate.Guest{ID: fmt.Sprint(h, g), Name: fmt.Sprint(h, g), State: estate.Running,
					Load: estate.Resources{MemoryMiB: 10, CPU: 1}})
		}
		f.Read[h] = map[estate.SectionName]Sight{}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: noon})
			f.Read[h][s] = Sight{Seq: 99}
		}
		f.Hosts, f.Readings[h] = append(f.Hosts, h), r
	}
	es := whole()[:3]
	es[0].Plan = p
	s, err := Fold(es)
	if err != nil {
		panic(err)
	}
	for i := range s.Plan.Visits[0].Changes {
		s.Visits[0].Acts = append(s.Visits[0].Acts,
			act.Act{Kind: act.Stage, Change: &s.Plan.Visits[0].Changes[i], Index: i})
	}
	return s, f
}

// What the fold keeps beside the story.
func TestTheFoldKeepsWhatWasSaid(t *testing.T) {
	sc := newScene(t)
	sc.visit([]string{"a", "k/host", "l/", "backup"})
	sc.begin()
	sc.host = "a"
	v := func() *Visit { return sc.s.Visit("a") }
	if v().Phase != Waiting || v().Under() || v().Over() || sc.s.Visit("z") != nil {
		t.Errorf("%+v", v())
	}
	sc.journal([]string{"began"})
	if v().Phase != Checking || !v().Under() {
		t.Errorf("%+v", v())
	}
	sc.apply(Event{Kind: Blocked, Host: "a", Detail: "no", Checks: []precheck.Answer{{Check: "x"}}})
	if len(v().Answers) != 1 || v().Failure == nil || !v().Failure.Certain || v().Failure.Waited ||
		!v().Failure.Marked || v().Failure.Says() != "precheck failed: no" {
		t.Errorf("%+v", v().Failure)
	}
	sc.apply(Event{Kind: Blocked, Host: "a", Detail: "later"})
	if v().Failure.Error != "no" || len(v().Answers) != 1 {
		t.Errorf("a later failure took the place of the first: %+v", v().Failure)
	}
	sc.journal([]string{"goon", "waits", "+1m", "blocked"})
	if !v().Failure.Waited || v().Waits.IsZero() || v().Why == "" {
		t.Errorf("%+v", v().Failure)
	}
	sc.journal([]string{"goon"})
	if !v().Waited || !v().Waits.IsZero() || v().Failure != nil {
		t.Errorf("%+v", v())
	}
	sc.journal([]string{"checked", "stage:k", "+1m", "move:g1>b", "close", "backup", "put:k", "restart:1"})
	switch {
	case v().Waited:
		t.Error("it goes on, and is still impatient")
	case v().Kept != "kept":
		t.Errorf("what was kept has the sum %q", v().Kept)
	case !v().Closed() || !sc.s.Holds():
		t.Error("it is closed")
	case !v().Did(act.Install, 0) || v().Did(act.Install, 1) || v().Did(act.Flash, 0):
		t.Error("only the first change was made")
	case !v().Did(act.Restart, 1) || v().Did(act.Restart, 2) || !v().Did(act.Close, 7):
		t.Error("it was restarted in the first pass only")
	case !v().Made(0) || v().Made(1):
		t.Error("only the first change was made")
	case len(v().Moved()) != 1 || v().Moved()[0].Guest != "g1" || v().Moved()[0].To != "b" ||
		v().Moved()[0].From != "a":
		t.Errorf("%+v", v().Moved())
	}
	sc.journal([]string{"put:l", "proving"})
	sc.apply(Event{Kind: Proven, Host: "a", Detail: "deb:z is gone, unplanned"})
	if v().Phase != Closing || len(v().Notes) != 1 || v().Over() {
		t.Errorf("%+v", v())
	}
	sc.journal([]string{"open"})
	if visits, moves := sc.s.Tally(); v().Phase != Over || visits != 1 || moves != 1 || sc.s.Holds() || v().Closed() {
		t.Errorf("%+v", v())
	}
}

func TestAChangeThatOnlyAwaitsARestartIsMadeByIt(t *testing.T) {
	sc := newScene(t)
	sc.visit([]string{"a", "r/host"})
	sc.begin()
	sc.host = "a"
	sc.journal([]string{"began", "checked", "move:g1>b", "close"})
	if sc.s.Visit("a").Made(0) {
		t.Error("before the restart")
	}
	if sc.journal([]string{"restart:1"}); !sc.s.Visit("a").Made(0) {
		t.Error("after the restart")
	}
}

// A look that began before the last word about an act on the host, or before that of one that led there, is not relied
// on; nor, for the next migration, one that began before the last was begun.
func TestWhatAnActTouchesMustBeLookedAtAnew(t *testing.T) {
	for name, c := range map[string]struct {
		host   string
		before string // what was in the journal when the look began, beside the prechecks
		after  string
		looks  bool
	}{
		"its own host, after it was done":          {"a", "move:g1>b/accepted", "done", true},
		"where the guest went, after it was done":  {"b", "move:g1>b/accepted", "done", true},
		"another host, since it was begun":         {"c", "move:g1>b/accepted", "done", false},
		"another host, before it was begun":        {"c", "", "move:g1>b", true},
		"its own host, since":                      {"a", "move:g1>b", "", false},
		"another host, since something was staged": {"c", "stage:l/accepted", "done", false},
	} {
		sc := newScene(t)
		sc.hosts([]string{"a:g1,g2", "b", "c"})
		sc.visit([]string{"a", "k/host", "l/"})
		sc.begin()
		sc.host = "a"
		sc.journal([]string{"began", "checked", "stage:k"})
		if !strings.HasPrefix(c.before, "stage") {
			sc.journal([]string{"stage:l"})
		}
		sc.journal(strings.Fields(c.before))
		before := sc.s.Seq
		if c.after == "done" {
			a := sc.s.Open[0].Act
			sc.apply(Event{Kind: Done, Act: &a})
			sc.brings(a)
		} else {
			sc.journal(strings.Fields(c.after))
		}
		sc.know()
		for s := range sc.f.Read[c.host] {
			sc.f.Read[c.host][s] = Sight{Seq: before, Tick: 9}
		}
		got := strings.Join(sc.says(Next(sc.s, sc.f)), "\n")
		if looks := strings.Contains(got, "look "+c.host); looks != c.looks || looks == strings.Contains(got, "begin") {
			t.Errorf("%s: %s", name, got)
		}
	}
}

// Whoever watches is told how far a silent restart usually is by now, and what is left of it.
func TestHowFarASilentRestartIs(t *testing.T) {
	for after, want := range map[string]Said{"+3m": {Percent: 50, Left: 3 * time.Minute}, "+7m": {Percent: 99}} {
		sc := newScene(t)
		sc.visit([]string{"a", "k/host"})
		sc.begin()
		sc.host = "a"
		sc.journal([]string{"began", "checked", "stage:k", "move:g1>b", "close", "put:k", "restart:1/quiet", after})
		sc.know()
		sc.seen([]string{"a.silent"})
		d := Next(sc.s, sc.f)
		if len(d.Says) != 1 || d.Says[0].Percent != want.Percent || d.Says[0].Left != want.Left ||
			d.Says[0].Act == "" || d.Wake != Poll {
			t.Errorf("%s: %+v", after, d)
		}
	}
}

func TestNoTwoActsHaveOneID(t *testing.T) {
	ids := map[string]bool{}
	sc := newScene(t)
	sc.visit([]string{"a", "k/host"})
	sc.begin()
	sc.host = "a"
	for _, j := range []string{"began checked", "stage:k", "move:g1>b/failed", "move:g1>b/failed",
		"move:g1>b", "close", "put:k"} {
		sc.journal(strings.Fields(j))
		sc.know()
		for _, a := range Next(sc.s, sc.f).Begin {
			if ids[a.ID] || !strings.HasPrefix(a.ID, "R/a/") || a.Round != "R" || a.Epoch != 1 || a.Host != "a" {
				t.Errorf("%+v", a)
			}
			ids[a.ID] = true
		}
	}
	if len(ids) < 5 {
		t.Errorf("only %d acts: %v", len(ids), ids)
	}
}

// Steps of one pass are one span; the next pass has its own, and what failed is marked.
func TestSpansOfPassesAndFailures(t *testing.T) {
	sc := newScene(t)
	sc.hosts([]string{"a:g1,g2", "b", "c"})
	sc.visit([]string{"a", "k/host", "f/host/2"})
	sc.begin()
	sc.host = "a"
	sc.journal(strings.Fields("began +1m checked stage:k stage:f +1m move:g1>b +1m move:g2>b/failed +1m move:g2>b " +
		"close put:k restart:1 +1m put:f +1m restart:2/failed"))
	var got []string
	for _, s := range sc.s.Visit("a").Spans {
		got = append(got, fmt.Sprintf("%s%d %v %v", s.Step, s.Pass, s.To.Sub(s.From), s.Failed))
	}
	want := "precheck0 1m0s false|stage0 0s false|drain0 2m0s false|close0 0s false|change1 0s false|restart1 0s " +
		"false|change2 0s false|restart2 0s true"
	if strings.Join(got, "|") != want {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "|"), want)
	}
}

func TestWhoIsExpectedToBeSilent(t *testing.T) {
	sc := newScene(t)
	sc.visit([]string{"a", "k/host"})
	sc.begin()
	sc.host = "a"
	for _, c := range []struct {
		journal string
		want    bool
	}{{"began checked stage:k move:g1>b close put:k/accepted", false}, {"restart:1/accepted", true}} {
		if sc.journal(strings.Fields(c.journal)); sc.s.Silent("a") != c.want || sc.s.Silent("b") || sc.s.Silent("z") {
			t.Errorf("after %s: %v", c.journal, sc.s.Silent("a"))
		}
	}
	a := sc.s.Open[1].Act
	sc.apply(Event{Kind: Done, Act: &a})
	if sc.s.Silent("a") {
		t.Error("after its restart it is expected to answer")
	}
	if sc.apply(Event{Kind: Proving, Host: "a"}); !sc.s.Silent("a") {
		t.Error("its services may still come up")
	}
}
