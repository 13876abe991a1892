package round

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/sim"
	"yareharbour/sim/demo"
)

// dead is a state in which a round stands still, and nothing but a person leads on.
type dead struct {
	name string
	make func(h *harness) *course.State
}

// over begins a round over one host of the demo estate, and runs it until it stands still.
func (h *harness) over(host string) *course.State {
	h.t.Helper()
	s, err := h.start(h.plan("vts", host))
	if err != nil {
		h.t.Fatal(err)
	}
	return s
}

func (h *harness) fault(host string, kind sim.FaultKind, times int) {
	h.t.Helper()
	if err := h.world.Order(sim.Fault{Host: host, Kind: kind, Times: times}); err != nil {
		h.t.Fatal(err)
	}
}

// closed tells whether the host is closed, as it is.
func (h *harness) isClosed(host string) bool { return h.world.Hosts[host].Reading.Closed != nil }

// refusing has the hosts refuse orders of a kind, from the time on at which the host is closed.
func (h *harness) refusing(kind act.Name) {
	h.refuses = func(a act.Act) error {
		if a.Kind == kind && (kind == act.Close || h.isClosed("heron")) {
			return errors.New("it says no")
		}
		return nil
	}
}

// bent has a host's readings changed from the time on at which it has restarted.
func (h *harness) bent(change func(*estate.Reading)) {
	h.bends = func(r *estate.Reading) {
		if r.Host == "heron" && h.isClosed("heron") && h.world.Hosts["heron"].Reading.BootedAt.After(demo.Start) {
			change(r)
		}
	}
}

// standstills are states that nobody leaves by waiting.
var standstills = []dead{
	{"a release is withdrawn while the host is closed", func(h *harness) *course.State {
		h.withdrawn = func(c act.Change) string {
			h.mu.Lock()
			defer h.mu.Unlock()
			if c.Component == "fw:tarbet-s9" && h.isClosed("heron") {
				return "it bricks fans"
			}
			return ""
		}
		return h.over("heron")
	}},
	{"a release is withdrawn before the host is touched", func(h *harness) *course.State {
		h.withdrawn = func(c act.Change) string {
			if c.Component == "deb:brae-tls" {
				return "it leaks"
			}
			return ""
		}
		return h.over("heron")
	}},
	{"the BMC refuses an image each time", func(h *harness) *course.State { h.refusing(act.Flash); return h.over("heron") }},
	{"packages are refused each time", func(h *harness) *course.State { h.refusing(act.Install); return h.over("heron") }},
	{"an installation breaks off each time", func(h *harness) *course.State {
		h.fault("heron", sim.InstallFails, 99)
		return h.over("heron")
	}},
	{"the restart is refused", func(h *harness) *course.State { h.refusing(act.Restart); return h.over("heron") }},
	{"the host does not come back", func(h *harness) *course.State {
		h.fault("heron", sim.NoReturn, 1)
		return h.over("heron")
	}},
	{"closing is refused", func(h *harness) *course.State { h.refusing(act.Close); return h.over("heron") }},
	{"opening is refused", func(h *harness) *course.State { h.refusing(act.Open); return h.over("heron") }},
	{"keeping the configuration is refused", func(h *harness) *course.State {
		h.refusing(act.Backup)
		return h.over("heron")
	}},
	{"staging is refused", func(h *harness) *course.State {
		h.refuses = func(a act.Act) error {
			if a.Kind == act.Stage {
				return errors.New("its disk is full")
			}
			return nil
		}
		return h.over("heron")
	}},
	{"a forgotten task waits at the BMC", func(h *harness) *course.State {
		h.world.Hosts["heron"].Waiting = []string{"waiting-1"}
		return h.over("heron")
	}},
	{"a task is left in the queue of the BMC", func(h *harness) *course.State {
		h.refuses = func(a act.Act) error {
			if a.Kind == act.Restart {
				h.world.Hosts["heron"].Waiting = []string{"waiting-1"}
			}
			return nil
		}
		return h.over("heron")
	}},
	{"no guest can leave", func(h *harness) *course.State {
		h.fault("heron", sim.MoveFails, 99)
		return h.over("heron")
	}},
	{"the host dies in the middle of its drain", func(h *harness) *course.State {
		h.refuses = func(a act.Act) error {
			if a.Kind == act.Move && len(h.world.Acts) > 2 {
				h.fault("heron", sim.Crashes, 1)
			}
			return nil
		}
		s := h.over("heron")
		h.refuses = nil
		return s
	}},
	{"the host is ill after its restart", func(h *harness) *course.State {
		h.bent(func(r *estate.Reading) {
			r.Health = append(r.Health, estate.Health{Item: "fan 2", Detail: "it stands"})
		})
		return h.over("heron")
	}},
	{"a network is gone after the restart", func(h *harness) *course.State {
		h.bent(func(r *estate.Reading) { r.Networks = nil })
		return h.over("heron")
	}},
	{"the BMC does not answer after the restart", func(h *harness) *course.State {
		h.bent(func(r *estate.Reading) {
			r.SetSection(estate.Section{Name: estate.FirmwareItems, At: h.world.Now, Err: "no answer"})
		})
		return h.over("heron")
	}},
	{"the boot can't be told", func(h *harness) *course.State {
		h.bends = func(r *estate.Reading) {
			if r.Host == "heron" && h.isClosed("heron") {
				r.BootID = ""
			}
		}
		return h.over("heron")
	}},
	{"somebody closes the host in the middle", func(h *harness) *course.State {
		h.bends = func(r *estate.Reading) {
			if x := h.world.Hosts["heron"]; r.Host == "heron" && x.Reading.Closed != nil && x.Reading.Closed.Round != "" {
				x.Reading.Closed = &estate.Mark{By: "night shift", Reason: "theirs", At: h.world.Now}
				r.Closed = x.Reading.Closed
			}
		}
		return h.over("heron")
	}},
	{"the host was changed since the plan was made", func(h *harness) *course.State {
		p := h.plan("vts", "heron")
		x := h.world.Hosts["heron"]
		for i := range x.Reading.Components {
			if c := &x.Reading.Components[i]; c.Key == "deb:brae-tls" {
				c.Version = "1.7-brae9"
			}
		}
		s, err := h.start(p)
		if err != nil {
			h.t.Fatal(err)
		}
		return s
	}},
	{"only looking is allowed from the middle on", func(h *harness) *course.State {
		h.refuses = func(act.Act) error {
			if h.isClosed("heron") {
				return errors.New("the estate file allows looking only")
			}
			return nil
		}
		return h.over("heron")
	}},
	{"a payload is altered", func(h *harness) *course.State {
		p := h.plan("vts", "heron")
		h.payloads = payloadDir(h.t.TempDir())
		s, err := h.start(p)
		if err != nil {
			h.t.Fatal(err)
		}
		return s
	}},
	{"the program dies in the middle of a move, and from then on only looking is allowed", func(h *harness) *course.State {
		h.refuses = func(a act.Act) error {
			if a.Kind == act.Move {
				h.dieAt, h.after = h.ops+1, true // once the host has the order
			}
			return nil
		}
		if _, err := h.start(h.plan("vts", "heron")); err == nil {
			h.t.Fatal("it did not die")
		}
		h.refuses = func(act.Act) error { return errors.New("the estate file allows looking only") }
		s, err := h.resume("vts")
		if err != nil {
			h.t.Fatal(err)
		}
		return s
	}},
	{"every answer of the host is lost, and nothing comes of an order", func(h *harness) *course.State {
		h.refuses = func(a act.Act) error {
			if a.Kind == act.Stage {
				return fmt.Errorf("heron %w", connector.ErrUnreachable)
			}
			return nil
		}
		return h.over("heron")
	}},
	{"guests rest, and the host does not come back", func(h *harness) *course.State {
		h.brief = func(b *plan.Brief) {
			b.Guests = []plan.Policy{{Guests: []string{"met-feed"}, Do: plan.DoShutDown}}
		}
		h.fault("heron", sim.NoReturn, 1)
		return h.over("heron")
	}},
}

// decided takes a decision, as a new process would.
func (h *harness) decided(w course.Way) *course.State {
	h.t.Helper()
	e := course.Event{Kind: course.Asked, Detail: w.Asks, Host: w.Host, Of: w.Of, By: "op", Reason: "they looked"}
	if w.Asks == course.AskClear { // as the command finds them
		e.Tasks = slices.Clone(h.world.Hosts[w.Host].Waiting)
	}
	s, err := course.Fold(h.journal)
	if err != nil {
		h.t.Fatal(err)
	}
	if why := s.Refuses(&e); w.Asks != course.AskGoOn && why != "" {
		h.t.Fatalf("%s is offered, and refused: %s", w.Command, why)
	}
	h.epoch++
	h.write(course.Event{Kind: course.Taken})
	if w.Asks == course.AskDone || w.Asks == course.AskUndone {
		h.write(course.Event{Kind: course.Asked, Detail: course.AskGoOn})
	}
	h.write(e)
	s, err = h.run("vts")
	if err != nil {
		h.t.Fatal(err)
	}
	return s
}

// From every state in which a round stands still, each way that is offered is taken and changes what there is, and one
// leads to where every host is open or handed over, and nothing is owed unseen.
func TestEveryStandstillHasAWayOut(t *testing.T) {
	var named atomic.Int32
	t.Cleanup(func() {
		if named.Load() == 0 && !t.Failed() {
			t.Error("no failure names a command")
		}
	})
	for _, d := range standstills {
		t.Run(d.name, func(t *testing.T) {
			t.Parallel()
			var ways []course.Way
			inBubble(t, demo.World(), func(t *testing.T, h *harness) {
				s := d.make(h)
				if s.Status != course.Failing {
					t.Fatalf("it does not stand still: %s: %s", s.Status, s.Detail)
				}
				if n, took := len(h.journal), h.Now().Sub(h.base); n > 500*(1+int(took.Hours())) {
					t.Errorf("%d entries in %s", n, took)
				}
				if ways = s.Ways(); len(ways) < 2 {
					t.Fatalf("nothing leads on: %v", ways)
				}
				for i := range s.Visits { // the command that a failure names is one that can be given
					f := s.Visits[i].Failure
					if f == nil || len(f.Command) == 0 || f.Command[0] == "host" {
						continue
					}
					if !slices.ContainsFunc(ways, func(w course.Way) bool { return slices.Equal(w.Command, f.Command) }) {
						t.Errorf("%v helps, and is no way out: %v", f.Command, ways)
					}
					named.Add(1)
				}
			})
			out := false
			for _, w := range ways {
				inBubble(t, demo.World(), func(t *testing.T, h *harness) {
					before := d.make(h)
					was := told(before)
					s := h.decided(w)
					if w.Asks != course.AskGoOn && told(s) == was {
						t.Errorf("%v changes nothing: %s", w.Command, was)
					}
					t.Logf("%v: %s: %s", w.Command, s.Status, s.Detail)
					if s.Status == course.Finished {
						h.nothingUnseen(s)
						out = true
					}
				})
			}
			if !out {
				t.Errorf("none of these ends it: %v", ways)
			}
		})
	}
}

// told is where a round stands, in short.
func told(s *course.State) string {
	var out []string
	for i := range s.Visits {
		v := &s.Visits[i]
		f := ""
		if v.Failure != nil {
			f = v.Failure.Says()
		}
		out = append(out, fmt.Sprint(v.Host, v.Phase, len(v.Acts), v.Dropped, f))
	}
	return fmt.Sprint(s.Status, len(s.Open), out)
}

// nothingUnseen holds a round that has ended to what there is: each host that is closed is somebody's, and each guest
// that does not run is told to be owed.
func (h *harness) nothingUnseen(s *course.State) {
	h.t.Helper()
	c, _ := h.world.Estate.Cluster("vts")
	readings := map[string]*estate.Reading{}
	for _, host := range c.Hosts {
		readings[host] = h.read(host)
	}
	debts := s.Debts(readings)
	for _, host := range c.Hosts {
		m := h.world.Hosts[host].Reading.Closed
		theirs := m != nil && m.Round == "" && m.By != "op"
		if m != nil && !theirs && !slices.ContainsFunc(debts, func(d course.Debt) bool {
			return d.Host == host && slices.Contains(d.Owed, "it is closed") && d.By == "op"
		}) {
			h.t.Errorf("%s is closed (%+v), and nobody is told: %+v", host, m, debts)
		}
	}
	if h.brief == nil {
		return
	}
	for _, host := range c.Hosts {
		for _, g := range h.world.Hosts[host].Reading.Guests {
			if g.Name == "met-feed" && g.State != estate.Running && !slices.ContainsFunc(debts, func(d course.Debt) bool {
				return strings.Contains(strings.Join(d.Owed, ", "), "met-feed")
			}) {
				h.t.Errorf("met-feed is %s on %s, and nobody is told: %+v", g.State, host, debts)
			}
		}
	}
}
