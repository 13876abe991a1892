package tui

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/view"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

func TestARoundIsStartedOnlyWithAReasonAndAYes(t *testing.T) {
	f := &fake{
		snap: parttest.Estate(1, 3),
		plan: &plan.Plan{Brief: plan.Brief{Cluster: "c0"}, Visits: []plan.Visit{{Host: "c0h000"}}},
	}
	m := model(t, f, 120, 40)
	press(m, "p", "s", "enter")
	shows(t, m, "reason for the round:", "! a round needs a reason")
	enter(m, "why")
	press(m, "enter")
	shows(t, m, "Start the round over c0?", "Just this plan is carried out", "y  start it")
	press(m, "enter") // the easy answer is no
	for _, c := range f.calls {
		if strings.HasPrefix(c, "start") {
			t.Fatalf("started without a yes: %v", f.calls)
		}
	}
	press(m, "s", "enter", "y") // what was typed stands there still
	if last(f) != "start a plan of 1 visits why" {
		t.Errorf("%v", f.calls)
	}
}

// A plan that was asked for before a round began elsewhere is none any more.
func TestAPlanOfBeforeARoundIsLetGo(t *testing.T) {
	f := &fake{
		snap: parttest.Estate(1, 3),
		plan: &plan.Plan{Brief: plan.Brief{Cluster: "c0"}, Visits: []plan.Visit{{Host: "c0h000"}}},
	}
	m := model(t, f, 120, 40)
	press(m, "p")
	shows(t, m, "planned, nothing is touched")
	f.snap = parttest.Estate(1, 3)
	f.snap.Rounds["c0"] = view.Round{
		ID:    "01",
		State: &course.State{Status: course.Finished, Plan: plan.Plan{Brief: plan.Brief{By: "op"}}},
	}
	n := len(f.calls)
	settle(m, m.load(false))
	if len(f.calls) != n+1 || last(f) != "plan" {
		t.Errorf("%v", f.calls)
	}
}

func TestAPlanWithAnObstacleIsNotStarted(t *testing.T) {
	f := &fake{
		snap: parttest.Estate(1, 3),
		plan: &plan.Plan{
			Brief:  plan.Brief{Cluster: "c0"},
			Visits: []plan.Visit{{Host: "c0h000", Obstacle: "no room", WayOut: "leave it out"}},
		},
	}
	m := model(t, f, 120, 40)
	press(m, "p", "s")
	if m.over != nil {
		t.Error("a reason is asked for")
	}
	shows(t, m, "the plan has obstacles", "no room", "way out: leave it out")
}

func TestWhatIfPlansAtOnceAndGoesIntoTheRound(t *testing.T) {
	f := &fake{
		snap: parttest.Estate(1, 3),
		plan: &plan.Plan{Brief: plan.Brief{Cluster: "c0"}, Visits: []plan.Visit{{Host: "c0h000"}, {Host: "c0h002"}}},
	}
	m := model(t, f, 140, 40)
	press(m, "p", "down", "v", "+")
	if last(f) != "plan --hosts c0h000,c0h001 --out-of-service 2" {
		t.Errorf("%v", f.calls)
	}
	shows(t, m, "left out", "what if: --hosts c0h000,c0h001 --out-of-service 2")
	for _, c := range []struct{ key, want string }{
		{"]", "plan --hosts c0h000,c0h001 --out-of-service 2 --reserve 1"},
		{"[", "plan --hosts c0h000,c0h001 --out-of-service 2"},
		{"o", "plan --hosts c0h000,c0h001 --order lightest-first --out-of-service 2"},
		{"%", "plan --hosts c0h000,c0h001 --order lightest-first --out-of-service 2 --limit 90"},
		{"U", "plan --hosts c0h000,c0h001 --order lightest-first --out-of-service 2"},
		{"U", "plan --hosts c0h000,c0h001 --out-of-service 2"},
	} {
		if press(m, c.key); last(f) != c.want {
			t.Errorf("%s: %s, want %s", c.key, last(f), c.want)
		}
	}
	press(m, "s")
	enter(m, "why")
	press(m, "enter", "y")
	if last(f) != "start a plan of 2 visits why" {
		t.Errorf("%v", f.calls)
	}
}

// aRound is a round that failed on its second host.
func aRound() view.Round {
	change := plan.Visit{Host: "c0h000", Steps: []plan.Stretch{{Step: "change", Middle: 9 * time.Minute}}}
	return view.Round{
		ID: "01",
		State: &course.State{
			Status:  course.Failing,
			Started: now.Add(-time.Hour),
			Last:    now,
			Ended:   now,
			Detail:  "c0h001: restart failed",
			Plan:    plan.Plan{Brief: plan.Brief{Cluster: "c0", By: "op", Reason: "November"}},
			Visits: []course.Visit{
				{
					Visit: change,
					Phase: course.Over,
					Spans: []course.Span{{Step: "change", From: now.Add(-time.Hour), To: now.Add(-48 * time.Minute)}},
				},
				{
					Visit: plan.Visit{Host: "c0h001"},
					Phase: course.Working,
					Spans: []course.Span{{Step: "close", From: now.Add(-40 * time.Minute), To: now, Failed: true}},
					Failure: &course.Failure{
						Error:  "it did not come back",
						Remedy: "look at its console",
						At:     now.Add(-39 * time.Minute),
					},
				}},
		},
	}
}

// After a round: what it took beside what was planned, what needs a person, and a lane that stands still.
func TestARoundThatFailedIsTold(t *testing.T) {
	f := &fake{snap: parttest.Estate(1, 3)}
	f.snap.Rounds["c0"] = aRound()
	m := model(t, f, 160, 45)
	press(m, "r", "esc", "r") // with a plan none is made: it is unfinished
	shows(t, m, "failed: it needs you; f shows the ways out", "results", "c0h000", "12 min", "9 min", "change, 12 min",
		"✗ it did not come back", "→ look at its console", "╌", "needs you")
	press(m, "up")
	hides(t, m, "✗ it did not come back")
	press(m, "g")
	shows(t, m, "Resume the round over c0?")
	press(m, "y")
	if last(f) != "resume c0" {
		t.Errorf("%v", f.calls)
	}
}

func TestARunningRoundIsAskedToPauseStopAndSkip(t *testing.T) {
	f := &fake{snap: parttest.Estate(1, 3)}
	r := aRound()
	r.State.Status, r.State.Ended, r.Runs = course.Running, time.Time{}, true
	r.Says = []course.Said{{Host: "c0h001", Says: "waits for c0h000: at most 1 at once"}}
	f.snap.Rounds["c0"] = r
	m := model(t, f, 160, 45)
	press(m, "r")
	shows(t, m, "running", "waits for c0h000: at most 1 at once")
	press(m, "P", "x", "down", "v", "y")
	if got := strings.Join(f.calls, ";"); got != "pause c0;stop c0;skip c0 c0h001" {
		t.Error(got)
	}
}

func TestExportsAreWhatIsShown(t *testing.T) {
	t.Chdir(t.TempDir())
	m := model(t, &fake{snap: parttest.Estate(2, 3)}, 100, 30)
	press(m, "e", "s", "enter", "e", "j", "e", "s")
	written(t, "yare-host-c0h000-20261121-2000.json", "yare-host-c0h000-20261121-2000.svg",
		"yare-waterline-20261121-2000.svg")
	press(m, "e", "esc")
	shows(t, m, "nothing was exported")
}

func TestAHostsLifeIsTold(t *testing.T) {
	m := model(t, &fake{snap: parttest.Estate(1, 3)}, 160, 45)
	press(m, "enter")
	shows(t, m, "life", "21 Nov 20:00 fw:nic 0.9 → 1")
}

// The groups of a host fold; what no clause speaks of is there, folded at first; and the cursor stays on what it stood
// on.
func TestTheGroupsOfAHostFold(t *testing.T) {
	s := parttest.Estate(1, 3)
	s.Readings["c0h001"].Components = append(s.Readings["c0h001"].Components,
		estate.Component{Key: "deb:lone", Version: "7.7"})
	s.Held = drift.Hold([]estate.Cluster{s.Survey.Bands[0].Cluster}, s.Readings, now, 0)
	m := model(t, &fake{snap: s}, 160, 48)
	press(m, "right", "enter")
	shows(t, m, "▸ not covered by a baseline  1", "▾ platform")
	hides(t, m, "deb:lone")
	press(m, "end", "enter")
	shows(t, m, "deb:lone", "7.7")
	press(m, "down")
	shows(t, m, "deb:lone: no baseline covers it", "version 7.7")
	press(m, "space")
	hides(t, m, "7.7")
	press(m, "enter", "down", "enter")
	if on(m) != part.Catalogue || m.top().Place().Component != "deb:lone" {
		t.Errorf("on %+v", m.top().Place())
	}
}

// Everything that was read of a host can be looked at, whether a clause speaks of it or not, and what is only last
// known says so.
func TestTheHostScreenShowsAllThatWasRead(t *testing.T) {
	s := parttest.Estate(1, 3)
	r := s.Readings["c0h001"]
	r.Build = "image 41"
	r.Components = append(r.Components,
		estate.Component{Key: "fw:odd", Unread: "it is silent", Last: "3.1", Class: "disk"})
	r.Health = []estate.Health{{Item: "fan 1", OK: true}, {Item: "disk 2", Detail: "few spare blocks"}}
	r.Guests = append(r.Guests, estate.Guest{Name: "fixed", State: estate.Running, Devices: []string{"clock-card"}},
		estate.Guest{Name: "asleep", State: "paused"})
	r.SetSection(estate.Section{Name: estate.FirmwareItems, At: now, Source: "SSH", Partial: "the BMC: no answer"})
	r.SetSection(
		estate.Section{
			Name:     estate.GuestList,
			At:       now,
			Source:   "SSH",
			Err:      "libvirt hangs",
			Held:     now.Add(-2 * time.Hour),
			HeldFrom: "SSH, libvirt",
		},
	)
	m := model(t, &fake{snap: s}, 160, 48)
	settle(m, m.goTo(part.Place{Screen: part.Host, Host: "c0h001", Component: "fw:odd"}))
	shows(t, m, "image 41", "fw:odd", "last 3.1", "firmware is not all read: the BMC: no answer",
		"guests is unread: libvirt hangs; last known 2 h ago from SSH,", "3 guests, 2 running, 2 would not move, as last known",
		"! it holds clock-card of its host", "! paused: it is not moved", "can move", "! disk 2: few spare blocks",
		"2 of 3 items are well", "fan 1, clock (agrees)", "fw:odd: no baseline covers it", "unread: it is silent; last known 3.1")
	settle(m, m.setFilter("class=disk"))
	shows(t, m, "fw:odd")
	hides(t, m, "deb:k  ")
}

func TestNeedsLeadToWhereTheyCanBeMended(t *testing.T) {
	f := &fake{snap: parttest.Estate(1, 3)}
	m := model(t, f, 160, 45)
	press(m, "tab")
	shows(t, m, "needs you")
	press(m, "enter")
	if on(m) == part.Waterline {
		t.Errorf("it leads nowhere: %+v", f.snap.Survey.Needs[0])
	}
}

func TestTheCatalogueShowsLaddersWithWhoStandsThere(t *testing.T) {
	m := model(t, &fake{snap: parttest.Estate(1, 4)}, 160, 45)
	press(m, "c", "down")
	shows(t, m, "fw:nic", "▴", "◂", "c0h001, c0h002", "in no feed", "critical", "mirror", "never synced",
		"q4.zip", "payload store")
	if c := m.top().Place().Component; c != "fw:nic" {
		t.Errorf("the cursor is on %s", c)
	}
	press(m, "enter")
	if on(m) != part.Drift {
		t.Errorf("on %s", on(m))
	}
}

func TestFeedsAreSyncedAndScheduledFromTheCatalogue(t *testing.T) {
	f := &fake{snap: parttest.Estate(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "c", "s")
	if last(f) != "" {
		t.Errorf("synced without a feed under the cursor: %v", f.calls)
	}
	press(m, "tab", "s")
	if last(f) != "sync mirror" || m.job != nil {
		t.Errorf("%v, job %v", f.calls, m.job)
	}
	shows(t, m, "new from mirror")
	press(m, "S")
	if last(f) != "sync " { // all that are not switched off
		t.Errorf("%v", f.calls)
	}
	press(m, "o")
	shows(t, m, "sync mirror: on demand")
	for range "on demand" {
		press(m, "backspace")
	}
	enter(m, "every 6h")
	press(m, "enter")
	if last(f) != "schedule mirror every 6h" {
		t.Errorf("%v", f.calls)
	}
	shows(t, m, "U takes it back")
	press(m, "U")
	if last(f) != "schedule mirror on demand" {
		t.Errorf("taken back: %v", f.calls)
	}
	f.err = errors.New("nobody listens there")
	press(m, "s")
	shows(t, m, "failed: nobody listens there")
}

func TestScheduledFeedsAreSyncedByThemselves(t *testing.T) {
	f := &fake{snap: parttest.Estate(1, 4)}
	f.snap.Feeds = append(f.snap.Feeds, view.Feed{Name: "hourly", Schedule: "every 1h", Due: true})
	m := model(t, f, 160, 45)
	m.due = time.Time{}
	settle(m, m.wantDue())
	if !slices.Contains(f.calls, "sync ") {
		t.Errorf("%v", f.calls)
	}
	n := len(f.calls)
	settle(m, m.wantDue())
	if len(f.calls) != n {
		t.Error("looked at again at once")
	}
}

func TestABundleIsShownBeforeItIsTakenIn(t *testing.T) {
	t.Chdir(t.TempDir())
	f := &fake{snap: parttest.Estate(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "c", "i")
	enter(m, "q4.zip")
	press(m, "enter")
	press(m, "e", "c")
	written(t, "yare-bundle-q4.zip-20261121-2000.csv")
	shows(t, m, "Bundle", "a/releases.yaml", "release list", "fw:nic 3", "1 new here", "no checksums of its own")
	press(m, "esc")
	if slices.Contains(f.calls, "accept q4.zip") || on(m) != part.Catalogue {
		t.Errorf("left, and yet %v", f.calls)
	}
	press(m, "i")
	enter(m, "q4.zip keyring=ulva.gpg")
	press(m, "enter")
	if last(f) != "open q4.zip ulva.gpg" {
		t.Errorf("%v", f.calls)
	}
	press(m, "a")
	if last(f) != "accept q4.zip" || on(m) != part.Catalogue {
		t.Errorf("%v on %s", f.calls, on(m))
	}
	shows(t, m, "was taken in")
	press(m, "tab", "down", "down", "u")
	shows(t, m, "Take q4.zip out of the catalogue?")
	press(m, "n")
	if slices.Contains(f.calls, "remove feedbeef") {
		t.Error("removed without a yes")
	}
	press(m, "u", "y")
	if last(f) != "remove feedbeef" {
		t.Errorf("%v", f.calls)
	}
}

func TestPayloadsArePrunedOnlyAfterAYes(t *testing.T) {
	f := &fake{snap: parttest.Estate(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "c", "f", "v", "P")
	shows(t, m, "prune by: unknown older=90")
	press(m, "enter")
	shows(t, m, "no release names it")
	press(m, "x", "P")
	enter(m, " damaged")
	press(m, "enter", "y", "L")
	if got := strings.Join(f.calls, ";"); got != "fetch;verify;prune true 2160h0m0s false;prune true 2160h0m0s false;drop 1;kept" {
		t.Error(got)
	}
	shows(t, m, "Payloads", "5 B  fw:nic 2")
	press(m, "x")
	hides(t, m, "5 B  fw:nic 2")
}

func TestABaselineIsEditedWithItsEffectTold(t *testing.T) {
	f := &fake{snap: parttest.Estate(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "b")
	shows(t, m, "fw:nic", "if present the newest", "out of line by it", "versions", "first")
	press(m, "enter")
	shows(t, m, "baseline: b", "unchanged", "hosts would fall out of line")
	enter(m, "# x")
	shows(t, m, "# xbaseline: b", "changed, not saved")
	press(m, "esc")
	shows(t, m, "Leave without saving?")
	press(m, "n")
	enter(m, "broken")
	shows(t, m, "it can't be read yet", "b.yaml:1:1: it is broken")
	ctrl(m, 's')
	if m.over != nil {
		t.Error("a text that can't be read may be saved")
	}
	for range "broken" {
		press(m, "backspace")
	}
	ctrl(m, 's')
	press(m, "enter")
	if last(f) == "save b after 2: " || on(m) != part.Edit {
		t.Errorf("saved without a reason: %v", f.calls)
	}
	ctrl(m, 's')
	enter(m, "why not")
	f.err = errors.New("somebody else has changed it meanwhile")
	press(m, "enter")
	shows(t, m, "not saved: somebody else")
	if on(m) != part.Edit {
		t.Fatal("what was typed is lost")
	}
	f.err = nil
	ctrl(m, 's')
	enter(m, "why not")
	press(m, "enter")
	if last(f) != "save b after 2: why not" || on(m) != part.Baselines {
		t.Errorf("%v on %s", f.calls, on(m))
	}
	shows(t, m, "U takes it back")
	press(m, "U")
	if last(f) != "save b after 3: undone: why not" {
		t.Errorf("taken back: %v", f.calls)
	}
}

func TestRevertAndDeriveOpenTheEditorFirst(t *testing.T) {
	f := &fake{snap: parttest.Estate(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "b", "tab")
	shows(t, m, "~ deb:k: 1 → 2")
	press(m, "down", "=")
	shows(t, m, "compare version 1 with: 2")
	press(m, "enter")
	shows(t, m, "b, version 1 to 2", "~ deb:k: 1 → 2")
	press(m, "x", "u")
	shows(t, m, "old", "changed, not saved")
	ctrl(m, 's')
	shows(t, m, "back to version 1")
	press(m, "enter")
	if last(f) != "save b after 2: back to version 1" {
		t.Errorf("%v", f.calls)
	}
	press(m, "x", "n", "x", "y")
	if last(f) != "remove baseline b" {
		t.Errorf("%v", f.calls)
	}
	press(m, "D")
	shows(t, m, "A new baseline", "what mends high severity or worse", "nothing yet")
	press(m, "3")
	enter(m, "c0h000")
	press(m, "enter")
	shows(t, m, "baseline: like-c0h000", "from version 0")
	press(m, "esc", "y")
	if on(m) != part.Baselines {
		t.Errorf("on %s", on(m))
	}
}

func TestDriftOverTimeAndWhatIsNew(t *testing.T) {
	t.Chdir(t.TempDir())
	f := &fake{snap: parttest.Estate(2, 4)}
	m := model(t, f, 160, 45)
	press(m, "d")
	shows(t, m, "• 2 new since op looked", "• ", "severity", "across the cluster")
	press(m, "tab")
	shows(t, m, "out of line, by layer", "firmware 4", "2 of 3 hosts adrift", "new since")
	press(m, "m")
	if last(f) != "looked c0" {
		t.Errorf("%v", f.calls)
	}
	press(m, "e", "p")
	written(t, "yare-trend-c0-20261121-2000.pdf")
}

// Work by hand is begun from the Waterline too, where the cursor stands.
func TestByHandFromTheWaterline(t *testing.T) {
	m := model(t, &fake{snap: parttest.Estate(1, 4)}, 160, 45)
	press(m, "right", "m")
	if p := m.top().Place(); p.Screen != part.Host || p.Host != "c0h001" {
		t.Errorf("%+v", p)
	}
	shows(t, m, "c0h001 by hand", "empty and close it")
}

func TestComparingReadings(t *testing.T) {
	f := &fake{snap: parttest.Estate(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "enter", "=")
	shows(t, m, "compare c0h000 with: c0h000@7d")
	press(m, "enter")
	shows(t, m, "fw:nic", "not compared, since one of the two lacks it: health")
	if last(f) != "compare c0h000@7d c0h000" {
		t.Errorf("%v", f.calls)
	}
}

// One filter narrows every view alike, is understood the same, and can be kept.
func TestNarrowingIsTheSameEverywhere(t *testing.T) {
	t.Chdir(t.TempDir())
	f := &fake{snap: parttest.Estate(2, 4)}
	m := model(t, f, 160, 45)
	press(m, "/")
	enter(m, "kind=fw")
	press(m, "enter")
	for _, key := range []string{"d", "enter", "c"} {
		press(m, key)
		shows(t, m, "fw:nic", "narrowed to “kind=fw”")
		hides(t, m, "deb:k")
	}
	press(m, "b")
	shows(t, m, "1 clause hidden by the filter")
	press(m, "K")
	enter(m, "adapters")
	press(m, "enter")
	if last(f) != "keep @adapters kind=fw" {
		t.Errorf("%v", f.calls)
	}
	press(m, "U")
	if last(f) != "keep @adapters " {
		t.Errorf("taken back: %v", f.calls)
	}
	press(m, "K")
	enter(m, "-urgent")
	press(m, "enter")
	if last(f) != "keep @urgent " {
		t.Errorf("%v", f.calls)
	}
	press(m, "/")
	for range "kind=fw" {
		press(m, "backspace")
	}
	enter(m, "@urgent")
	press(m, "enter")
	if m.narrow.String() != "severity=critical" {
		t.Errorf("@urgent means %q", m.narrow.String())
	}
	press(m, "/")
	enter(m, " colour=red")
	shows(t, m, `no field "colour"`)
	press(m, "enter")
	if m.over == nil {
		t.Error("a filter that can't be understood was kept")
	}
	press(m, "esc", "e", "c")
	written(t, "yare-baseline-b-20261121-2000.csv")
}

// Narrowing hosts on the Waterline hides the others, and Esc shows all.
func TestNarrowing(t *testing.T) {
	m := model(t, &fake{snap: parttest.Estate(3, 6)}, 160, 45)
	press(m, "/")
	enter(m, "host=c1h002")
	press(m, "enter")
	shows(t, m, "c1h002")
	hides(t, m, "c0h000", "c1h001")
	press(m, "esc")
	shows(t, m, "c0h000")
}

// An empty matrix says why it is empty: only where something was judged and all of it is in line is that good.
func TestAnEmptyMatrixSaysWhy(t *testing.T) {
	for _, c := range []struct {
		change func(*view.Estate)
		filter string
		says   string
	}{
		{func(s *view.Estate) { clear(s.Verdicts) }, "", "nothing is known to be in line"},
		{func(*view.Estate) {}, "nowhere-at-all", "verdicts that are not in line are hidden"},
	} {
		s := parttest.Estate(1, 3)
		c.change(s)
		m := model(t, &fake{snap: s}, 120, 40)
		settle(m, m.goTo(part.Place{Screen: part.Drift, Cluster: "c0"}))
		settle(m, m.setFilter(c.filter))
		shows(t, m, c.says)
		hides(t, m, "nothing disagrees")
	}
}

// Names in a baseline that are not there are told while it is written.
func TestTheEditorTellsNamesThatAreNotThere(t *testing.T) {
	m := model(t, &fake{snap: parttest.Estate(1, 3)}, 160, 45)
	press(m, "b", "enter")
	enter(m, "misspelt")
	shows(t, m, "line 3:", "not saved until this is fixed")
}

// A word of a filter that nothing answers to is told, and so is what of a feed could not be read.
func TestWordsAndEntriesThatAreLeftOutAreTold(t *testing.T) {
	s := parttest.Estate(1, 3)
	s.Feeds[0].Aside = []string{"osv/7.json: it has no id", "osv/8.json: it is cut short"}
	m := model(t, &fake{snap: s}, 160, 45)
	settle(m, m.setFilter("nic hardware=nowhere"))
	shows(t, m, "nothing answers to hardware=nowhere")
	settle(m, m.setFilter("nic"))
	hides(t, m, "nothing answers")
	press(m, "esc", "c")
	shows(t, m, "2 set aside, osv/7.json: it has no id")
}

// What a check found is waived for a reason and a time, never without a yes, and taken back the same way. What must
// never be waived says so.
func TestAFindingIsWaivedAndTakenBack(t *testing.T) {
	f := &fake{snap: parttest.Estate(1, 3), plan: aPlan()}
	m := model(t, f, 160, 45)
	press(m, "p", "a")
	shows(t, m, "2 blocking", "2 not known", "2 cautions", "2 waived", "2 clear", "L25 is on no line",
		"together: Will devices")
	press(m, "W")
	enter(m, "")
	press(m, "enter")
	shows(t, m, "a waiver needs a reason")
	press(m, "W")
	enter(m, "the maker says so")
	press(m, "enter", "enter") // the easy answer is no
	press(m, "W")
	enter(m, "the maker says so")
	press(m, "enter")
	shows(t, m, "Waive together of c0h000, c0h003?", "It pardons just this, for 7 days")
	press(m, "y")
	if !slices.Contains(f.calls, "waive together of 2 hosts of c0 for 168h0m0s: the maker says so") ||
		strings.Count(strings.Join(f.calls, ";"), "waive") != 1 {
		t.Errorf("%v", f.calls)
	}
	press(m, "down", "W")
	shows(t, m, "it must never be waived: what waits there runs at the restart")
	press(m, "down", "down", "U", "y")
	if !slices.Contains(f.calls, "take back 1 waivers of c0") {
		t.Errorf("%v", f.calls)
	}
	press(m, "enter")
	if on(m) != part.Host {
		t.Errorf("on %s", on(m))
	}
}

// Hosts that take no orders yet are made to where the plan says so: what would be put on them is shown first, and only
// then asked; where it can't be told nothing is asked.
func TestHostsThatTakeNoOrdersYet(t *testing.T) {
	p := aPlan()
	p.Visits[0].Obstacle, p.Visits[0].Answers = "c0h000: it takes no orders",
		[]precheck.Answer{{Check: "orders", Host: "c0h000", Level: precheck.Blocker,
			Evidence: "c0h000: it takes no orders", Remedy: "prepare it"}}
	f := &fake{snap: parttest.Estate(1, 4), plan: p}
	m := model(t, f, 160, 45)
	press(m, "p", "f")
	shows(t, m, "Put this on c0h000, c0h003?", "c0h000, c0h003: /var/lib/yare: a directory",
		"Running guests are not touched")
	press(m, "n")
	if last(f) != "missing on c0" {
		t.Errorf("%v", f.calls)
	}
	press(m, "f", "y")
	if !slices.Contains(f.calls, "prepare c0h000 c0h003") || !strings.HasPrefix(last(f), "plan") {
		t.Errorf("%v", f.calls)
	}
	shows(t, m, "the hosts of c0 take orders")
	f.err = errors.New("c0h000 can't be prepared: no sudo there")
	press(m, "f")
	shows(t, m, "no sudo there")
	hides(t, m, "Put this on")
}
