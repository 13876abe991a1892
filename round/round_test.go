package round

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/sim"
	"yareharbour/sim/demo"
)

func finished(t *testing.T, h *harness, s *course.State, err error, cluster string) {
	t.Helper()
	if err != nil {
		t.Fatalf("the runner gave up: %v", err)
	}
	if s.Status != course.Finished {
		t.Fatalf("the round ended as %s: %s", s.Status, s.Detail)
	}
	if wrong := h.inLine(cluster); len(wrong) > 0 {
		t.Errorf("after the round: %s", strings.Join(wrong, "; "))
	}
	if s.Holds() {
		t.Error("a finished round still owes something")
	}
	sound(t, h)
}

// ended is finished, for a round over a part of the cluster.
func ended(t *testing.T, h *harness, s *course.State, err error) {
	t.Helper()
	if err != nil || s.Status != course.Finished || s.Holds() {
		t.Fatalf("the round ended as %s: %s, %v", s.Status, s.Detail, err)
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
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		p := h.plan("vts")
		s, err := h.start(p)
		finished(t, h, s, err, "vts")
		if _, moves := s.Tally(); moves != p.Moves || moves > p.Floor {
			t.Errorf("%d moves were made; the plan said %d, with a floor of %d", moves, p.Moves, p.Floor)
		}
		for i := range s.Visits {
			if s.Visits[i].Kept == "" {
				t.Errorf("the configuration of %s was not kept", s.Visits[i].Host)
			}
		}
	})
}

// G4: what a restart makes possible is done in another pass of the same visit.
func TestFirmwareThatNeedsTheNewDriverComesInASecondPass(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		s, err := h.start(h.plan("vts", "heron"))
		if err != nil || s.Status != course.Finished {
			t.Fatal(s.Status, s.Detail, err)
		}
		if got := acts(h.world)["restart heron"]; got != 2 {
			t.Errorf("heron was restarted %d times, want 2", got)
		}
		all := strings.Join(h.world.Acts, "\n")
		if strings.Index(all, "flash fw:tarbet-s9 on heron") < strings.Index(all, "restart heron") {
			t.Error("the adapter's firmware went in before its driver ran")
		}
	})
}

func TestAHostThatNeedsNoRestartIsNotDrained(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		s, err := h.start(h.plan("vts", "knot"))
		if err != nil || s.Status != course.Finished {
			t.Fatal(s.Status, s.Detail, err)
		}
		for a := range acts(h.world) {
			if strings.HasPrefix(a, "move") || strings.HasPrefix(a, "close") || strings.HasPrefix(a, "restart") {
				t.Errorf("a service's package took %q", a)
			}
		}
	})
}

// A session is kept while it is in use: each host is opened once, and closed at the end. How far things are is told now
// and then, not at every turn.
func TestSessionsAreKeptAndClosed(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		began := time.Now()
		s, err := h.start(h.plan("vts", "heron"))
		ended(t, h, s, err)
		for host, n := range h.opened {
			if n != 1 || h.closed[host] != 1 {
				t.Errorf("%s was opened %d times and closed %d times", host, n, h.closed[host])
			}
		}
		if len(h.opened) < 2 {
			t.Errorf("opened were %v", h.opened)
		}
		if most := int(time.Since(began) / (200 * time.Millisecond)); h.told == 0 || h.told > most {
			t.Errorf("progress was told %d times, and may be %d times", h.told, most)
		}
	})
}

// A configuration that was damaged on its way is not taken for one that was kept: nothing is changed on the host.
func TestAConfigurationThatWasDamagedIsNotKept(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		h.garbles = true
		s, err := h.start(h.plan("vts", "knot"))
		if err != nil || s.Status == course.Finished || s.Visits[0].Kept != "" ||
			!strings.Contains(s.Detail, "SHA-256") {
			t.Errorf("%v, %s: %s", err, s.Status, s.Detail)
		}
		for a := range acts(h.world) {
			if strings.HasPrefix(a, "install") {
				t.Errorf("%q was done", a)
			}
		}
	})
}

// A host that has taken an order of which the journal knows nothing stops the round.
func TestAContradictionStopsTheRound(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		h.finds = func(r *estate.Reading) error {
			if r.Host == "ibis" {
				return errors.New("ibis has taken the order of entry 99")
			}
			return nil
		}
		s, err := h.start(h.plan("vts"))
		if err != nil || s.Status == course.Finished || !strings.Contains(s.Detail, "entry 99") {
			t.Errorf("%v, %s: %s", err, s.Status, s.Detail)
		}
	})
}

// Two hosts are out at once where the brief lets them, and no more than two.
func TestSeveralVisitsSideBySide(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		h.out, h.spare = 2, true // the demo's cluster has no room for more
		most, p := 0, h.plan("vts")
		h.onAct = func(h *harness) {
			n := 0
			for _, host := range h.world.Hosts {
				if m := host.Reading.Closed; m != nil && m.Round == "R1" {
					n++
				}
			}
			most = max(most, n)
		}
		s, err := h.start(p)
		finished(t, h, s, err, "vts")
		if most != 2 {
			t.Errorf("at most %d hosts were closed at once, and 2 may be", most)
		}
	})
}

// The time of day is set forth or back by an hour at every third instant there is: nobody loses the lease or patience
// by it, and what is done is the same.
func TestTheTimeOfDayMayJump(t *testing.T) {
	w := demo.World()
	ops, want := 0, map[string]int{}
	inBubble(t, w, func(t *testing.T, h *harness) {
		s, err := h.start(h.plan("vts", "knot", "heron"))
		ended(t, h, s, err)
		ops, want = h.ops, acts(h.world)
	})
	stride := 3
	if testing.Short() {
		stride = 37
	}
	for n := 1; n <= ops; n += stride {
		for _, jump := range []time.Duration{time.Hour, -time.Hour} {
			t.Run(fmt.Sprintf("%d/%v", n, jump), func(t *testing.T) {
				t.Parallel()
				inBubble(t, w, func(t *testing.T, h *harness) {
					h.jumpAt, h.jump = n, jump
					began := time.Now()
					s, err := h.start(h.plan("vts", "knot", "heron"))
					ended(t, h, s, err)
					if took := time.Since(began); took > 2*time.Hour {
						t.Errorf("the round took %s", took)
					}
					for a, n := range acts(h.world) {
						if n != want[a] {
							t.Errorf("%q was done %d times, want %d", a, n, want[a])
						}
					}
				})
			})
		}
	}
}

func TestFaults(t *testing.T) {
	for _, c := range []struct {
		name   string
		fault  sim.Fault
		status course.Status
		says   string // of the failed host's failure
		mark   string // what the closed host then says
		mend   func(*harness)
	}{
		{"one migration fails and is tried again", sim.Fault{Host: "jacana", Kind: sim.MoveFails, Times: 2},
			course.Finished, "", "", nil},
		{"a migration fails too often", sim.Fault{Host: "jacana", Kind: sim.MoveFails, Times: 30}, course.Failing,
			"did not converge", "",
			func(h *harness) { h.world.Faults = nil }},
		{"an installation fails", sim.Fault{Host: "jacana", Kind: sim.InstallFails, Times: 1}, course.Failing,
			"signature", "flash failed: ", func(*harness) {}},
		{"a host does not come back", sim.Fault{Host: "jacana", Kind: sim.NoReturn, Times: 1}, course.Failing,
			"did not come back", "",
			func(h *harness) {
				if _, err := h.world.Reboot("jacana", "by hand"); err != nil {
					panic(err)
				}
				time.Sleep(time.Hour)
			}},
		{"a BMC drops out for a while", sim.Fault{Host: "jacana", Kind: sim.BMCDrops, Times: 1},
			course.Finished, "", "", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			inBubble(t, demo.World(), func(t *testing.T, h *harness) {
				if err := h.world.Order(c.fault); err != nil {
					t.Fatal(err)
				}
				s, err := h.start(h.plan("vts"))
				if c.status == course.Finished {
					finished(t, h, s, err, "vts")
					return
				}
				failed(t, h, s, err, c.fault.Host, c.says, c.mark)
				restarts := acts(h.world)["restart "+c.fault.Host]
				c.mend(h)
				s, err = h.resume("vts")
				finished(t, h, s, err, "vts")
				// the one by hand
				if c.fault.Kind == sim.NoReturn && acts(h.world)["restart "+c.fault.Host] != restarts+1 {
					t.Errorf("it was restarted again: %v", acts(h.world))
				}
			})
		})
	}
}

// failed holds a failed round to invariants 3 and 4: guests are where they were safe, a closed host stays closed and
// says why, and nobody was visited after it.
func failed(t *testing.T, h *harness, s *course.State, err error, host, says, mark string) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	sound(t, h)
	v := s.Visit(host)
	if s.Status != course.Failing || v.Failure == nil {
		t.Fatalf("the round ended as %s: %s", s.Status, s.Detail)
	}
	if !strings.Contains(v.Failure.Error, says) || v.Failure.Remedy == "" {
		t.Errorf("the failure says %q, remedy %q", v.Failure.Error, v.Failure.Remedy)
	}
	if f := v.Failure; f.Act != nil && f.Certain && !slices.ContainsFunc(f.Logs, func(l act.Log) bool {
		return strings.Contains(strings.Join(l.Lines, "; "), says)
	}) {
		t.Errorf("nothing that keeps a log there says %q: %+v", says, f.Logs)
	}
	m := h.world.Hosts[host].Reading.Closed
	if v.Closed() != (m != nil) {
		t.Errorf("the journal says closed: %v, the host says %v", v.Closed(), m)
	}
	if mark != "" && !strings.HasPrefix(m.Reason, mark) {
		t.Errorf("the closed host says %q", m.Reason)
	}
	if v.Closed() && h.world.Hosts[host].Reading.Used().MemoryMiB > 0 {
		t.Error("guests run on a host that is closed after a failure")
	}
	after := false
	for i := range s.Visits {
		if after && s.Visits[i].Phase != course.Waiting {
			t.Errorf("%s was visited after %s had failed", s.Visits[i].Host, host)
		}
		after = after || s.Visits[i].Host == host
	}
}

// Invariant 2: when another host fails, no new move is begun.
func TestNoNewMovesWhenAnotherHostFails(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		crashed := 0
		h.onAct = func(h *harness) {
			if crashed == 0 && acts(h.world)["move traffic-db-2 from jacana to lapwing"] > 0 {
				crashed = len(h.world.Acts)
				if err := h.world.Order(sim.Fault{Host: "ibis", Kind: sim.Crashes}); err != nil {
					t.Error(err)
				}
			}
		}
		s, err := h.start(h.plan("vts"))
		if err != nil || s.Status != course.Failing || crashed == 0 {
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
	})
}

func TestPauseStopAndSkip(t *testing.T) {
	for _, what := range []string{course.AskPause, course.AskStop} {
		inBubble(t, demo.World(), func(t *testing.T, h *harness) {
			h.onAct = func(h *harness) {
				if h.world.Hosts["jacana"].Reading.Closed != nil {
					h.requests = []course.Event{{Detail: what, By: "somebody"}}
					h.onAct = nil
				}
			}
			s, err := h.start(h.plan("vts"))
			if err != nil {
				t.Fatal(err)
			}
			if s.Status != course.Paused && s.Status != course.Stopped {
				t.Fatalf("asked for %s, the round is %s: %s", what, s.Status, s.Detail)
			}
			if m := h.world.Hosts["jacana"].Reading.Closed; m != nil || !s.Visit("jacana").Over() {
				t.Errorf("after %s the closed host was left unfinished: %v", what, m)
			}
			if s.Visit("heron").Phase != course.Waiting {
				t.Errorf("after %s another host was begun", what)
			}
			s, err = h.resume("vts")
			finished(t, h, s, err, "vts")
		})
	}
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		h.requests = []course.Event{{Detail: course.AskSkip, Host: "heron", By: "somebody"}}
		s, err := h.start(h.plan("vts"))
		if err != nil || s.Status != course.Finished || s.Visit("heron").Phase != course.LeftOut ||
			!strings.Contains(s.Detail, "heron") {
			t.Fatal(s.Status, s.Detail, err)
		}
		for a := range acts(h.world) {
			if strings.HasSuffix(a, " heron") {
				t.Errorf("%q was done though it was to be left out", a)
			}
		}
	})
}

// A request is heard within a second, whatever is under way: here a restart of minutes.
func TestARequestIsHeardWithinASecond(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		var asked time.Time
		h.onAct = func(h *harness) {
			if acts(h.world)["restart jacana"] == 1 && asked.IsZero() {
				asked = h.world.Now.Add(time.Minute)
				go func() {
					time.Sleep(time.Minute)
					h.mu.Lock()
					defer h.mu.Unlock()
					h.requests = []course.Event{{Detail: course.AskStop, By: "somebody"}}
				}()
			}
		}
		if _, err := h.start(h.plan("vts")); err != nil {
			t.Fatal(err)
		}
		for _, e := range h.journal {
			if e.Kind == course.Asked && e.At.Sub(asked) > time.Second {
				t.Errorf("asked at %v, heard at %v", asked, e.At)
			}
		}
	})
}

func TestAHostClosedBySomebodyElseStopsTheRound(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		p := h.plan("vts", "jacana")
		theirs := &estate.Mark{By: "night shift", Reason: "their own"}
		h.world.Hosts["jacana"].Reading.Closed = theirs
		s, err := h.start(p)
		if err != nil || s.Status != course.Failing {
			t.Fatal(s.Status, err)
		}
		if got := h.world.Hosts["jacana"].Reading.Closed; got != theirs || len(h.world.Acts) > 0 {
			t.Errorf("their mark is now %v, acts %v", got, h.world.Acts)
		}
	})
}

// B6: a release that is withdrawn in the middle of a round stops it before the next host, and changes nothing else.
func TestAWithdrawalStopsTheRound(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		h.withdrawn = func(c act.Change) string {
			h.mu.Lock()
			defer h.mu.Unlock()
			if c.Component == "fw:corran-bmc" && h.world.Hosts["jacana"].Reading.BootedAt.After(demo.Start) {
				return "it bricks fans"
			}
			return ""
		}
		s, err := h.start(h.plan("vts"))
		if err != nil || s.Status != course.Failing ||
			!strings.Contains(s.Detail,
				"fw:corran-bmc 14.6 was withdrawn since the round was planned: it bricks fans") {
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
	})
}

func TestAHostThatChangedSinceThePlanStopsTheRound(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		p := h.plan("vts", "knot")
		for i, c := range h.world.Hosts["knot"].Reading.Components {
			if c.Key == "deb:brae-tls" {
				h.world.Hosts["knot"].Reading.Components[i].Version = "1.8-brae2"
			}
		}
		s, err := h.start(p)
		if err != nil || s.Status != course.Failing ||
			!strings.Contains(s.Detail, `was "1.8-brae1" when the round was planned and is "1.8-brae2"`) {
			t.Error(s.Status, s.Detail, err)
		}
	})
}

// Invariant 6: a runner whose lease is gone between the intent and the act sends nothing.
func TestNoActWithoutALease(t *testing.T) {
	for _, kind := range []act.Name{act.Move, act.Close, act.Install, act.Flash, act.Restart, act.Open} {
		inBubble(t, demo.World(), func(t *testing.T, h *harness) {
			r := h.runner("vts")
			h.epoch = 1
			p := h.plan("vts")
			h.write(course.Event{Kind: course.Started, Round: "R1", Plan: &p})
			r.Journal = losing{h, kind}
			s, err := course.Fold(h.journal)
			if err != nil {
				t.Fatal(err)
			}
			if err := r.Run(t.Context(), s); err == nil {
				t.Fatal("it went on without a lease")
			}
			before := len(h.world.Acts)
			last := h.journal[len(h.journal)-1]
			if last.Kind != course.Intent || last.Act.Kind != kind {
				t.Fatalf("the last entry is %s %v", last.Kind, last.Act)
			}
			if h.world.Hosts[last.Act.Host].Orders[last.Act.ID] != "" {
				t.Errorf("%s was sent", last.Act.Says())
			}
			s, err = h.resume("vts")
			finished(t, h, s, err, "vts")
			if len(h.world.Acts) == before {
				t.Error("nothing was left to do: the test proves little")
			}
		})
	}
}

// losing loses the lease as soon as the intent of a kind is in the journal.
type losing struct {
	*harness
	at act.Name
}

func (l losing) Append(ctx context.Context, e course.Event) (course.Event, string, error) {
	e, sum, err := l.harness.Append(ctx, e)
	if e.Kind == course.Intent && e.Act.Kind == l.at {
		l.mu.Lock()
		l.lost = true
		l.mu.Unlock()
	}
	return e, sum, err
}

// A round of one cluster costs no more looks where the estate is larger.
func TestATurnLooksAtNoMoreThanItNeeds(t *testing.T) {
	reads := func(w *sim.World) (n int) {
		inBubble(t, w, func(t *testing.T, h *harness) {
			c := w.Estate.Clusters[0].Name
			s, err := h.start(h.plan(c))
			if err != nil || s.Status != course.Finished {
				t.Fatal(s.Status, s.Detail, err)
			}
			n = h.reads
		})
		return n
	}
	small, large := reads(demo.Generate(3, 1, 4, 3)), reads(demo.Generate(3, 5, 4, 3))
	if large != small {
		t.Errorf("%d sections were read in an estate of one cluster, %d in one of five", small, large)
	}
}
