package round

import (
	"errors"
	"fmt"
	"maps"
	"math/rand"
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/demo"
	"yareharbour/sim"
	"yareharbour/store"
)

func finished(t *testing.T, h *harness, s *plan.State, err error, cluster string) {
	t.Helper()
	if err != nil {
		t.Fatalf("the runner gave up: %v", err)
	}
	if s.Status != plan.Finished {
		t.Fatalf("the round ended as %s: %s", s.Status, s.Detail)
	}
	if wrong := h.inLine(cluster); len(wrong) > 0 {
		t.Errorf("after the round: %s", strings.Join(wrong, "; "))
	}
	sound(t, h)
}

// sound is what must hold however a round went.
func sound(t *testing.T, h *harness) {
	t.Helper()
	for _, b := range h.broken {
		t.Error(b)
	}
	for g, n := range h.world.Restarts {
		t.Errorf("the guest %s was started again %d times", g, n)
	}
}

func TestRoundBringsEveryHostInLine(t *testing.T) {
	h := newHarness(t, demo.World())
	p := h.plan("vts")
	s, err := h.start(p)
	finished(t, h, s, err, "vts")
	moves := 0
	for _, v := range s.Visits {
		moves += len(v.Moved)
	}
	if moves != p.Moves || moves > p.Floor {
		t.Errorf("%d moves were made; the plan said %d, with a floor of %d", moves, p.Moves, p.Floor)
	}
}

// G4: what a restart makes possible is done in another pass of the same visit.
func TestFirmwareThatNeedsTheNewDriverComesInASecondPass(t *testing.T) {
	h := newHarness(t, demo.World())
	s, err := h.start(h.plan("vts", "heron"))
	if err != nil || s.Status != plan.Finished {
		t.Fatal(s.Status, s.Detail, err)
	}
	if got := acts(h.world)["restart heron"]; got != 2 {
		t.Errorf("heron was restarted %d times, want 2", got)
	}
	first := strings.Index(strings.Join(h.world.Acts, "\n"), "restart heron")
	if i := strings.Index(strings.Join(h.world.Acts, "\n"), "flash fw:tarbet-s9 on heron"); i < first {
		t.Error("the adapter's firmware went in before its driver ran")
	}
}

func TestAHostThatNeedsNoRestartIsNotDrained(t *testing.T) {
	h := newHarness(t, demo.World())
	s, err := h.start(h.plan("vts", "knot"))
	if err != nil || s.Status != plan.Finished {
		t.Fatal(s.Status, s.Detail, err)
	}
	for a := range acts(h.world) {
		if strings.HasPrefix(a, "move") || strings.HasPrefix(a, "close") || strings.HasPrefix(a, "restart") {
			t.Errorf("a service's package took %q", a)
		}
	}
}

// G9: the program dies at every instant there is, before and after each effect, and another goes on. The end is the same,
// and nothing was done twice on a host.
func TestDeathAtEveryInstant(t *testing.T) {
	w := demo.World()
	whole := newHarness(t, w)
	p := whole.plan("vts")
	s, err := whole.start(p)
	finished(t, whole, s, err, "vts")
	want := acts(whole.world)
	stride := 1
	if testing.Short() { // as where data races are looked for
		stride = 23
	}
	for n := 1; n <= whole.ops; n += stride {
		for _, after := range []bool{false, true} {
			t.Run(fmt.Sprintf("%d/%v", n, after), func(t *testing.T) {
				h := newHarness(t, w)
				h.dieAt, h.after = n, after
				if _, err := h.start(p); !errors.Is(err, errDead) {
					t.Fatalf("it should have died: %v", err)
				}
				s, err := h.resume("vts")
				finished(t, h, s, err, "vts")
				for a, n := range acts(h.world) {
					if strings.HasPrefix(a, "move") {
						continue // where a guest goes may differ after the pause
					}
					if n != want[a] {
						t.Errorf("%q was done %d times, want %d", a, n, want[a])
					}
				}
			})
		}
	}
}

// It dies again and again, each time a little later, on a slow machine.
func TestDeathManyTimes(t *testing.T) {
	h := newHarness(t, demo.World())
	p := h.plan("vts")
	r := rand.New(rand.NewSource(9))
	h.dieAt = 3
	s, err := h.start(p)
	deaths := 0
	for errors.Is(err, errDead) {
		deaths++
		h.world.Advance(h.world.Now.Add(time.Duration(r.Intn(300)) * time.Second))
		h.dead, h.after = false, r.Intn(2) == 0
		h.dieAt = h.ops + 2 + r.Intn(9)
		s, err = h.run("vts")
	}
	finished(t, h, s, err, "vts")
	if deaths < 10 {
		t.Errorf("it died only %d times", deaths)
	}
}

func TestFaults(t *testing.T) {
	for _, c := range []struct {
		name   string
		fault  sim.Fault
		status plan.Status
		says   string // of the failed host's failure
		mark   string // what the closed host then says
		mend   func(*sim.World)
	}{
		{"one migration fails and is tried again", sim.Fault{Host: "jacana", Kind: sim.MoveFails, Times: 2}, plan.Finished, "", "", nil},
		{"a migration fails too often", sim.Fault{Host: "jacana", Kind: sim.MoveFails, Times: 30}, plan.Failing, "did not converge", "",
			func(w *sim.World) { w.Faults = nil }},
		{"an installation fails", sim.Fault{Host: "jacana", Kind: sim.InstallFails, Times: 1}, plan.Failing, "signature", "install failed: ", nil},
		{"a host does not come back", sim.Fault{Host: "jacana", Kind: sim.NoReturn, Times: 1}, plan.Failing, "did not come back", "",
			func(w *sim.World) {
				if _, err := w.Reboot("jacana", "by hand"); err != nil {
					panic(err)
				}
				w.Advance(w.Now.Add(time.Hour))
			}},
		{"a BMC drops out for a while", sim.Fault{Host: "jacana", Kind: sim.BMCDrops, Times: 1}, plan.Finished, "", "", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			h := newHarness(t, demo.World())
			if err := h.world.Order(c.fault); err != nil {
				t.Fatal(err)
			}
			s, err := h.start(h.plan("vts"))
			if c.status == plan.Finished {
				finished(t, h, s, err, "vts")
				return
			}
			failed(t, h, s, err, c.fault.Host, c.says, c.mark)
			if c.mend != nil {
				c.mend(h.world)
			}
			s, err = h.resume("vts")
			finished(t, h, s, err, "vts")
		})
	}
}

// failed holds a failed round to invariants 3 and 4: guests are where they were safe, a closed host stays closed and says why, and
// nobody was visited after it.
func failed(t *testing.T, h *harness, s *plan.State, err error, host, says, mark string) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	sound(t, h)
	v := s.Visit(host)
	if s.Status != plan.Failing || v.Failure == nil {
		t.Fatalf("the round ended as %s: %s", s.Status, s.Detail)
	}
	if !strings.Contains(v.Failure.Error, says) || v.Failure.Remedy == "" {
		t.Errorf("the failure says %q, remedy %q", v.Failure.Error, v.Failure.Remedy)
	}
	m := h.world.Hosts[host].Reading.Closed
	if v.Closed != (m != nil) {
		t.Errorf("the journal says closed: %v, the host says %v", v.Closed, m)
	}
	if mark != "" && !strings.HasPrefix(m.Reason, mark) {
		t.Errorf("the closed host says %q", m.Reason)
	}
	if v.Closed && h.world.Hosts[host].Reading.Used().MemoryMiB > 0 {
		t.Error("guests run on a host that is closed after a failure")
	}
	after := false
	for i := range s.Visits {
		if after && len(s.Visits[i].Spans) > 0 {
			t.Errorf("%s was visited after %s had failed", s.Visits[i].Host, host)
		}
		after = after || s.Visits[i].Host == host
	}
}

// Invariant 2: when another host fails, no new move is begun.
func TestNoNewMovesWhenAnotherHostFails(t *testing.T) {
	h := newHarness(t, demo.World())
	crashed := 0
	h.onSleep = func(h *harness) {
		if crashed == 0 && acts(h.world)["move traffic-db-2 from jacana to lapwing"] > 0 {
			crashed = len(h.world.Acts)
			if err := h.world.Order(sim.Fault{Host: "ibis", Kind: sim.Crashes}); err != nil {
				t.Error(err)
			}
		}
	}
	s, err := h.start(h.plan("vts"))
	if err != nil || s.Status != plan.Failing || crashed == 0 {
		t.Fatal(s.Status, s.Detail, err, crashed)
	}
	for _, a := range h.world.Acts[crashed:] {
		if strings.HasPrefix(a, "move") {
			t.Errorf("%q was begun after ibis had failed", a)
		}
	}
	if !strings.Contains(s.Detail, "ibis does not answer") {
		t.Errorf("the round says %q", s.Detail)
	}
}

func TestPauseAndStop(t *testing.T) {
	for _, what := range []string{plan.AskPause, plan.AskStop} {
		h := newHarness(t, demo.World())
		h.onSleep = func(h *harness) {
			if h.world.Hosts["jacana"].Reading.Closed != nil && len(h.requests) == 0 {
				h.requests = []store.Request{{What: what, By: "somebody"}}
				h.onSleep = nil
			}
		}
		s, err := h.start(h.plan("vts"))
		if err != nil {
			t.Fatal(err)
		}
		if s.Status != plan.Paused && s.Status != plan.Stopped {
			t.Fatalf("asked for %s, the round is %s: %s", what, s.Status, s.Detail)
		}
		if m := h.world.Hosts["jacana"].Reading.Closed; m != nil || !s.Visit("jacana").Over() {
			t.Errorf("after %s the closed host was left unfinished: %v", what, m)
		}
		if len(s.Visit("heron").Spans) > 0 {
			t.Errorf("after %s another host was begun", what)
		}
		s, err = h.resume("vts")
		finished(t, h, s, err, "vts")
	}
}

func TestAHostClosedBySomebodyElseStopsTheRound(t *testing.T) {
	h := newHarness(t, demo.World())
	p := h.plan("vts", "jacana")
	theirs := &estate.Mark{By: "night shift", Reason: "their own"}
	h.world.Hosts["jacana"].Reading.Closed = theirs
	s, err := h.start(p)
	if err != nil || s.Status != plan.Failing {
		t.Fatal(s.Status, err)
	}
	if got := h.world.Hosts["jacana"].Reading.Closed; got != theirs || len(h.world.Acts) > 0 {
		t.Errorf("their mark is now %v, acts %v", got, h.world.Acts)
	}
}

// B6: a release that is withdrawn in the middle of a round stops it before the next host, and changes nothing else.
func TestAWithdrawalStopsTheRound(t *testing.T) {
	h := newHarness(t, demo.World())
	h.withdrawn = func(c plan.Change) string {
		if c.Component == "fw:corran-bmc" && h.world.Hosts["jacana"].Reading.BootedAt.After(demo.Start) {
			return "it bricks fans"
		}
		return ""
	}
	s, err := h.start(h.plan("vts"))
	if err != nil || s.Status != plan.Failing || !strings.Contains(s.Detail, "fw:corran-bmc 3.11 was withdrawn since the round was planned: it bricks fans") {
		t.Fatal(s.Status, s.Detail, err)
	}
	if !s.Visit("jacana").Over() || h.world.Hosts["heron"].Reading.Closed != nil {
		t.Error("the hosts before it are done, and it is not touched")
	}
	for a := range acts(h.world) {
		if strings.HasSuffix(a, " heron") || strings.Contains(a, "from heron") {
			t.Errorf("%q was done after the withdrawal", a)
		}
	}
}

func TestAHostThatChangedSinceThePlanStopsTheRound(t *testing.T) {
	h := newHarness(t, demo.World())
	p := h.plan("vts", "knot")
	for i, c := range h.world.Hosts["knot"].Reading.Components {
		if c.Key == "deb:brae-tls" {
			h.world.Hosts["knot"].Reading.Components[i].Version = "1.8-brae2"
		}
	}
	s, err := h.start(p)
	if err != nil || s.Status != plan.Failing || !strings.Contains(s.Detail, `was "1.8-brae1" when the round was planned and is "1.8-brae2"`) {
		t.Error(s.Status, s.Detail, err)
	}
}

// Seeded worlds with faults at random times: whatever happens, the invariants hold, and a round that says it is finished is.
func TestRandomWorlds(t *testing.T) {
	worlds := int64(40)
	if testing.Short() {
		worlds = 5
	}
	for seed := range worlds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			h := newHarness(t, demo.Generate(seed, 1, 4, 3))
			r := rand.New(rand.NewSource(seed))
			hosts := h.world.Estate.Clusters[0].Hosts
			died := map[string]bool{}
			h.onSleep = func(h *harness) {
				if r.Intn(60) > 0 {
					return
				}
				f := sim.Fault{Host: hosts[r.Intn(len(hosts))], Kind: sim.FaultKinds[r.Intn(len(sim.FaultKinds))], Times: 1}
				died[f.Host] = died[f.Host] || f.Kind == sim.Crashes
				if err := h.world.Order(f); err != nil {
					t.Error(err)
				}
			}
			s, err := h.start(h.plan("c01"))
			if err != nil {
				t.Fatal(err)
			}
			maps.DeleteFunc(h.world.Restarts, func(g string, _ int) bool { return died[strings.Split(g, "-")[0]] })
			sound(t, h)
			if s.Status == plan.Running {
				t.Error("the runner returned while the round runs")
			}
			if wrong := h.inLine("c01"); s.Status == plan.Finished && len(wrong) > 0 && len(died) == 0 {
				t.Errorf("finished, but %v", wrong)
			}
		})
	}
}
