package survey

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/plan"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

func input() Input {
	in := Input{Estate: estate.Estate{Name: "E",
		Clusters: []estate.Cluster{{Name: "c", Hosts: []string{"a", "b", "d"}, Reserve: 1}}}, Now: now,
		Readings: map[string]*estate.Reading{}, Verdicts: map[string][]drift.Verdict{},
		Rounds: map[string]*course.State{}}
	for _, h := range []string{"a", "b", "d"} {
		r := &estate.Reading{Host: h, Capacity: estate.Resources{MemoryMiB: 100, CPU: 100},
			Guests: []estate.Guest{{Name: "g" + h, State: estate.Running,
				Load: estate.Resources{MemoryMiB: 40, CPU: 10}}}}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: now.Add(-time.Minute)})
		}
		in.Readings[h] = r
		in.Verdicts[h] = []drift.Verdict{verdict(drift.InLine, 0)}
	}
	return in
}

func verdict(o drift.Outcome, s catalogue.Severity) drift.Verdict {
	return drift.Verdict{Component: "fw:x", Outcome: o, Release: &catalogue.Release{Severity: s},
		Clause: &baseline.Bound{}}
}

func TestAllWell(t *testing.T) {
	s := Make(input())
	b := s.Bands[0]
	if b.InLine != 3 || b.Adrift+b.Unread+b.Out != 0 || len(s.Needs) != 0 || b.Guests.All != 3 {
		t.Errorf("%+v, needs %v", b, s.Needs)
	}
	if b.Load != 0.4 || b.Limit < 0.66 || b.Limit > 0.67 {
		t.Errorf("load %v, limit %v", b.Load, b.Limit)
	}
}

// Ready is what a plan said, and nothing where none was made.
func TestReadyIsThePlansAnswer(t *testing.T) {
	in := input()
	if b := Make(in).Bands[0]; b.Planned {
		t.Error("planned, and nobody planned")
	}
	in.Plans = map[string]*plan.Plan{"c": {Visits: []plan.Visit{{Host: "a"}, {Host: "b", Obstacle: "x"}}}}
	if b := Make(in).Bands[0]; !b.Planned || b.Ready != 1 {
		t.Errorf("planned %v, ready %d", b.Planned, b.Ready)
	}
}

// Invariant 8: what is unread is never counted as in line.
func TestUnreadIsNotInLine(t *testing.T) {
	in := input()
	in.Verdicts["a"] = []drift.Verdict{verdict(drift.Unread, 0)}
	delete(in.Readings, "b")
	in.Readings["d"].SetSection(estate.Section{Name: estate.Host, Err: "no route"})
	b := Make(in).Bands[0]
	if b.InLine != 0 || b.Unread != 2 || b.Out != 2 {
		t.Errorf("%+v", b)
	}
	if b.Berths[1].Service != Never || b.Berths[2].Service != Silent {
		t.Errorf("%v %v", b.Berths[1].Service, b.Berths[2].Service)
	}
}

func TestNeedsComeWorstFirst(t *testing.T) {
	in := input()
	in.Verdicts["a"] = []drift.Verdict{verdict(drift.Behind, catalogue.Critical), verdict(drift.OffTrack, 0)}
	in.Verdicts["b"] = []drift.Verdict{verdict(drift.Withdrawn, catalogue.High)}
	in.Readings["b"].BMC.Waiting = []estate.BMCTask{{ID: "1"}}
	in.Readings["d"].Closed = &estate.Mark{By: "somebody", Reason: "why", At: now}
	in.Rounds["c"] = &course.State{Status: course.Failing, Detail: "a: install failed"}
	s := Make(in)
	var all []string
	for i, n := range s.Needs {
		all = append(all, n.Host+" "+n.Text)
		if i > 0 && n.Urgency < s.Needs[i-1].Urgency {
			t.Error("not worst first")
		}
	}
	text := strings.Join(all, "\n")
	for _, want := range []string{" the round failed: a: install failed", "a critical release missing",
		"b withdrawn release", "b 1 task in the BMC's queue, forgotten",
		"d closed by somebody", "a off its track"} {
		if !strings.Contains(text, want) {
			t.Errorf("nobody is told %q:\n%s", want, text)
		}
	}
}

func TestReserveThatIsNotKeptIsTold(t *testing.T) {
	in := input()
	for _, r := range in.Readings {
		r.Guests[0].Load.MemoryMiB = 70
	}
	s := Make(in)
	if len(s.Needs) == 0 || s.Needs[0].Urgency != Now || !strings.Contains(s.Needs[0].Text, "the reserve is not kept") {
		t.Errorf("%+v", s.Needs)
	}
}

// G5: silence is expected while a round restarts a host; nobody is called for it, but it is not in line either.
func TestSilenceInARestartCallsNobody(t *testing.T) {
	in := input()
	in.Readings["a"].SetSection(estate.Section{Name: estate.Host, Err: "no route"})
	in.Verdicts["a"] = []drift.Verdict{verdict(drift.Unread, 0), verdict(drift.Behind, catalogue.Critical)}
	in.Rounds["c"] = &course.State{Status: course.Running,
		Visits: []course.Visit{{Visit: plan.Visit{Host: "a"}, Spans: []course.Span{{Step: act.RestartStep}}}},
		Open:   []course.Pending{{Act: act.Act{Kind: act.Restart, Host: "a"}}}}
	in.Runs = map[string]bool{"c": true}
	s := Make(in)
	if b := s.Bands[0].Berths[0]; b.Service != Away || b.InLine() || len(s.Needs) != 0 {
		t.Errorf("%+v, needs %+v", b, s.Needs)
	}
	in.Rounds["c"].Status = course.Failing
	if s = Make(in); s.Bands[0].Berths[0].Service != Silent || len(s.Needs) == 0 {
		t.Errorf("after the round failed nobody is called: %+v", s.Needs)
	}
}

// What a round left in the middle stands before everything else: that it failed or nobody runs it any more, and the
// host that it was with.
func TestWhatARoundLeftStandsFirst(t *testing.T) {
	for name, end := range map[string]func(*course.State, map[string]bool){
		"failed": func(s *course.State, _ map[string]bool) {
			s.Status, s.Detail = course.Failing, "a: restart failed"
		},
		"interrupted": func(s *course.State, runs map[string]bool) { s.Status, runs["c"] = course.Running, false },
	} {
		in := input()
		in.Verdicts["b"] = []drift.Verdict{verdict(drift.Behind, catalogue.Critical)}
		in.Readings["a"].SetSection(estate.Section{Name: estate.Host, Err: "no route"})
		s := &course.State{Visits: []course.Visit{{Visit: plan.Visit{Host: "a"},
			Spans: []course.Span{{Step: act.RestartStep}}}}}
		in.Runs = map[string]bool{}
		end(s, in.Runs)
		in.Rounds["c"] = s
		needs := Make(in).Needs
		if len(needs) < 3 || !strings.Contains(needs[0].Text, name) || needs[1].Host != "a" ||
			!strings.Contains(needs[1].Text, "does not answer") {
			t.Errorf("%s: %+v", name, needs)
		}
	}
}

// A host of which nothing is asked is in line with nothing, and while a file can't be read nobody is.
func TestOnlyWhatWasJudgedIsInLine(t *testing.T) {
	in := input()
	in.Verdicts["a"] = nil
	in.Verdicts["b"] = []drift.Verdict{verdict(drift.Excepted, 0)}
	if b := Make(in).Bands[0]; b.InLine != 1 || b.Unasked != 2 {
		t.Errorf("%d in line, %d unasked", b.InLine, b.Unasked)
	}
	in.Faults = []string{"vts.yaml:3: the baseline has no clauses"}
	s := Make(in)
	if s.Bands[0].InLine != 0 || len(s.Needs) == 0 || s.Needs[0].Urgency != Now ||
		!strings.Contains(s.Needs[0].Text, "vts.yaml:3") {
		t.Errorf("%+v", s)
	}
}

// Guests that can't be read, and what nobody's clause speaks of, need a person.
func TestWhatIsNotKnownOrAskedNeedsAPerson(t *testing.T) {
	in := input()
	in.Readings["a"].SetSection(estate.Section{Name: estate.GuestList, Err: "libvirt is stopped"})
	in.Readings["b"].SetSection(estate.Section{Name: estate.HealthItems, Err: "no item"})
	in.Flags = []drift.Flag{{Component: "fw:x", Version: "2", Withdrawn: "it is bad", Hosts: []string{"a", "b"}},
		{Component: "fw:y", Version: "1", Withdrawn: "bad", Bound: true}}
	in.Problems = []baseline.Problem{{Baseline: "p", Error: true, Text: "there is no cluster"}}
	var all []string
	for _, n := range Make(in).Needs {
		all = append(all, n.Text)
	}
	text := strings.Join(all, "\n")
	for _, want := range []string{"its guests can't be read", "its health is unread: no item",
		"no baseline covers it: fw:x 2 on a, b", "the baseline p: there is no cluster"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not said in:\n%s", want, text)
		}
	}
	if strings.Contains(text, "fw:y") {
		t.Error("what has a verdict is said twice")
	}
}

// What is so of several hosts is told once, with the longest time that it has been so; what is so of one names it.
func TestNeedsThatBelongTogetherAreToldOnce(t *testing.T) {
	early, late := now.Add(-2*time.Hour), now.Add(-time.Hour)
	got := grouped([]Need{{Urgency: Now, Host: "a", Text: "never read", See: AtHost, Since: late},
		{Urgency: Soon, Host: "b", Text: "never read", See: AtHost}, {Urgency: Now, Text: "the reserve is not kept"},
		{Urgency: Now, Host: "c", Text: "never read", See: AtHost, Since: early},
		{Urgency: Now, Host: "d", Text: "does not answer", See: AtHost, why: "no route"},
		{Urgency: Soon, Host: "a", Text: "silent", See: AtHost, why: "refused"},
		{Urgency: Soon, Host: "b", Text: "silent", See: AtHost, why: "refused"},
		{Urgency: Soon, Host: "a", Text: "mute", See: AtHost, why: "refused"},
		{Urgency: Soon, Host: "b", Text: "mute", See: AtHost, why: "EOF"}})
	var lines []string
	for _, n := range got {
		lines = append(lines, fmt.Sprintf("%d %s %s %d", n.Urgency, n.Host, n.Text, n.See))
	}
	want := []string{"0  never read on a, c 2", "1 b never read 1", "0  the reserve is not kept 0",
		"0 d does not answer: no route 1",
		"1  silent on a, b: refused 2", "1  mute on a, b: on a, refused 2"}
	if !slices.Equal(lines, want) || !got[0].Since.Equal(early) {
		t.Errorf("%q, since %v", lines, got[0].Since)
	}
}

// A guest list that nobody ever read is not an empty one: of guests, load and reserve nothing is claimed, and somebody is
// told. One that was read before stands for what runs there.
func TestGuestsThatNobodyReadAreNotNone(t *testing.T) {
	in := input()
	sound := Make(in).Bands[0]
	if len(sound.Blind) != 0 || sound.Reserve.Outcome != fit.Fits {
		t.Fatalf("%+v", sound)
	}
	for name, take := range map[string]func(r *estate.Reading){
		"never read": func(r *estate.Reading) {
			r.SetSection(estate.Section{Name: estate.GuestList, Err: "libvirt is stopped"})
		},
		"no reading": nil,
	} {
		in := input()
		if take == nil {
			delete(in.Readings, "a")
		} else {
			in.Readings["a"].Guests = nil
			take(in.Readings["a"])
		}
		s := Make(in)
		b := s.Bands[0]
		if !slices.Equal(b.Blind, []string{"a"}) || b.Reserve.Outcome == fit.Fits || b.Limit != 0 || b.Ready > sound.Ready {
			t.Errorf("%s: blind %v, reserve %s, limit %v", name, b.Blind, b.Reserve.Outcome, b.Limit)
		}
		if !slices.ContainsFunc(s.Needs, func(n Need) bool {
			return n.Urgency == Now && strings.Contains(n.Text, "guests were never read")
		}) {
			t.Errorf("%s: nobody is told: %+v", name, s.Needs)
		}
	}
	held := input()
	at := held.Now.Add(-time.Hour)
	held.Readings["a"].SetSection(estate.Section{Name: estate.GuestList, Err: "libvirt is stopped", Held: at, HeldFrom: "libvirt"})
	if b := Make(held).Bands[0]; len(b.Blind) != 0 || b.Guests != sound.Guests {
		t.Errorf("what was last known does not stand: %+v", b)
	}
	off := input()
	off.Readings["a"].SetSection(estate.Section{Name: estate.Host, Err: "off"})
	off.Readings["a"].SetSection(estate.Section{Name: estate.GuestList, Err: "off"})
	off.Readings["a"].BMC.Power = "Off"
	off.Readings["a"].SetSection(estate.Section{Name: estate.BMCState, At: off.Now, Source: "Redfish"})
	if b := Make(off).Bands[0]; len(b.Blind) != 0 {
		t.Errorf("a host that is off has no guests to be read: %v", b.Blind)
	}
}

// One machine under two names counts once, and somebody is told; a guest that runs twice is told at once as what two looks
// have seen, and before that as something to look at again.
func TestWhatIsThereOnceCountsOnce(t *testing.T) {
	in := input()
	before := Make(in).Bands[0]
	in.Readings["a"].BootID, in.Readings["b"].BootID, in.Readings["d"].BootID = "1", "2", "2"
	in.Readings["d"].Guests = in.Readings["b"].Guests
	s := Make(in)
	if b := s.Bands[0]; b.Guests.All != 2 || b.Load != 80.0/200 || b.Limit != 0.5 || b.Limit >= before.Limit {
		t.Errorf("%v guests, load %v, limit %v", b.Guests, b.Load, b.Limit)
	}
	if n := s.Needs[0]; n.Urgency != Now || n.Host != "d" || !strings.Contains(n.Text, "b and d are one machine") {
		t.Errorf("%+v", s.Needs)
	}
	in = roomy()
	for _, h := range []string{"a", "b"} {
		in.Readings[h].Guests = []estate.Guest{{Name: "gauge", ID: "5e1f", State: estate.Running}}
	}
	if got := told(in); !slices.Equal(got, []string{
		"1 : the guest gauge ran on a and b, as they were last read: read both again"}) {
		t.Errorf("%q", got)
	}
	in.Sure = map[string]bool{"5e1f": true}
	if got := told(in); len(got) != 1 || !strings.HasPrefix(got[0], "0 : the guest gauge runs on a and b at once") {
		t.Errorf("%q", got)
	}
}

// Each host counts by how it stands, once in every count that it belongs to; of a cluster the oldest reading counts.
func TestEachHostCountsByHowItStands(t *testing.T) {
	guests := func(states ...estate.GuestState) (out []estate.Guest) {
		for _, s := range states {
			out = append(out, estate.Guest{Name: "g", State: s})
		}
		return out
	}
	in := Input{Estate: estate.Estate{Clusters: []estate.Cluster{{Name: "c", Hosts: []string{"well", "adrift", "bare", "aside", "open",
		"silent", "never"}}}}, Now: now, Readings: map[string]*estate.Reading{}, Verdicts: map[string][]drift.Verdict{
		"well": {verdict(drift.InLine, 0), verdict(drift.NotApplying, 0)}, "adrift": {verdict(drift.Behind, 0), verdict(drift.Undecided, 0)},
		"aside": {verdict(drift.Excepted, 0)}, "open": {verdict(drift.Undecided, 0), verdict(drift.Unread, 0)},
		"silent": {verdict(drift.InLine, 0)}}}
	for i, h := range []string{"well", "adrift", "bare", "aside", "open", "silent"} {
		r := &estate.Reading{Host: h, Guests: guests(estate.Running, estate.Off, estate.Crashed)}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: now.Add(-time.Duration(i) * time.Minute)})
		}
		in.Readings[h] = r
	}
	in.Readings["silent"].SetSection(estate.Section{Name: estate.Host, At: now, Err: "no route"})
	b := Make(in).Bands[0]
	if b.InLine != 1 || b.Adrift != 1 || b.Unasked != 2 || b.Undecided != 2 || b.Unread != 2 || b.Out != 2 ||
		b.Guests != (estate.Crowd{All: 18, Running: 6}) || !b.ReadAt.IsZero() {
		t.Errorf("%+v", b)
	}
	if b.Guests.Says() != "18 guests, 6 running" || (estate.Crowd{All: 1, Running: 1}).Says() != "1 guest" {
		t.Error(b.Guests.Says())
	}
	in.Estate.Clusters[0].Hosts = []string{"well", "bare", "adrift"}
	if b := Make(in).Bands[0]; !b.ReadAt.Equal(now.Add(-2 * time.Minute)) {
		t.Errorf("read at %s", b.ReadAt)
	}
	if x := b.Berths[1].Depth[estate.Firmware]; x.Drift != 1 || !x.Undecided || x.Unread {
		t.Errorf("%+v", x)
	}
	if x := b.Berths[0].Depth[estate.Firmware]; x.Undecided || x.Unread || x.InLine != 1 || x.Aside != 1 {
		t.Errorf("%+v", x)
	}
}

// What a file says that can't be read, what a baseline names and is not there, and flags without a clause are told, the
// most urgent first; what must go before all others does.
func TestWhatIsOfNoOneCluster(t *testing.T) {
	in := roomy()
	in.Faults = []string{"b.yaml"}
	in.Problems = []baseline.Problem{{Baseline: "x", Text: "odd"}, {Baseline: "y", Error: true, Text: "wrong"}}
	in.Flags = []drift.Flag{{Component: "fw:a", Version: "1", Withdrawn: "w", Hosts: []string{"a"}},
		{Component: "fw:b", Version: "1", Severity: catalogue.High, Advisories: []string{"A-1"}, Hosts: []string{"a", "b"}},
		{Component: "fw:c", Version: "1", Severity: catalogue.Medium, Hosts: []string{"a"}},
		{Component: "fw:d", Version: "1", Withdrawn: "w", Bound: true, Hosts: []string{"a"}}}
	in.Distrusted = map[string]string{"c": "a sum is wrong"}
	if got := Make(Input{Estate: in.Estate, Faults: in.Faults}).Needs; len(got) < 2 || !strings.HasPrefix(got[0].Text, "verdicts") {
		t.Errorf("that no verdict can be trusted comes before hosts that were never read: %v", got)
	}
	got := told(in)
	want := []string{"0 : the journal of its round", "0 : verdicts can't be trusted", "0 : the baseline y: wrong",
		"1 a: withdrawn, and no baseline covers it: fw:a 1", "2 : the baseline x: odd", "2 : affected by A-1, and no baseline covers it: fw:b 1 on a, b"}
	if len(got) != len(want) {
		t.Fatalf("%q", got)
	}
	for i := range want {
		if !strings.HasPrefix(got[i], want[i]) {
			t.Errorf("%q, want %q", got[i], want[i])
		}
	}
}
