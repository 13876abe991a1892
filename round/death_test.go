package round

import (
	"errors"
	"fmt"
	"math/rand"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/sim"
	"yareharbour/sim/demo"
)

// deaths lets the program die before each effect of a round over vts, and after the last, and another go on: between two
// effects nothing but what it has in mind becomes another, and that dies with it.
// The end is the same, and nothing was done twice on a host, but for what may be done in another way after the pause:
// acts that begin with one of the words. alike holds the end to one without a death.
func deaths(t *testing.T, w *sim.World, begin func(h *harness) (*course.State, error),
	alike func(t *testing.T, h *harness),
	but ...string) {
	ops, want := 0, map[string]int{}
	inBubble(t, w, func(t *testing.T, h *harness) {
		s, err := begin(h)
		ended(t, h, s, err)
		ops, want = h.ops, acts(h.world)
		alike(t, h)
	})
	stride := 1
	if testing.Short() { // as where data races are looked for
		stride = 37
	}
	for n := 1; n <= ops+1; n += stride {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			t.Parallel()
			inBubble(t, w, func(t *testing.T, h *harness) {
				h.dieAt, h.after = min(n, ops), n > ops
				if _, err := begin(h); !errors.Is(err, errDead) {
					t.Fatalf("it should have died: %v", err)
				}
				s, err := h.resume("vts")
				ended(t, h, s, err)
				alike(t, h)
				for a, n := range acts(h.world) {
					kind, _, _ := strings.Cut(a, " ")
					if n != want[a] && !slices.Contains(but, kind) {
						t.Errorf("%q was done %d times, want %d", a, n, want[a])
					}
				}
			})
		})
	}
}

// G9: where a guest goes may differ after the pause, and nothing else.
func TestDeathAtEveryInstant(t *testing.T) {
	begin := func(h *harness) (*course.State, error) { return h.start(h.plan("vts", "knot", "heron")) }
	deaths(t, demo.World(), begin, func(*testing.T, *harness) {}, "move")
}

// The same where guests do more than leave: one comes back, one that is off is carried away, one is shut down, carried
// and started elsewhere, one loses what is in its drive. Nobody is done anything to twice, and in the end each is where
// and as it was to be.
func TestDeathAmongGuestsOfAllKinds(t *testing.T) {
	w := demo.World()
	guests := w.Hosts["jacana"].Reading.Guests
	for i := range guests {
		if guests[i].Name == "notices" {
			guests[i].Disks = append(guests[i].Disks, estate.Disk{Target: "sda", Source: "/srv/x.iso", Media: true, Local: true})
		}
	}
	begin := func(h *harness) (*course.State, error) {
		h.brief = func(b *plan.Brief) {
			b.Home = true
			b.Guests = []plan.Policy{{Guests: []string{"vts-train", "pilot-roster"}, Do: plan.DoCold},
				{Guests: []string{"notices"}, Do: plan.DoEject}}
			b.Snapshots = []plan.Safety{{Guests: []string{"cctv-lock-1", "pilot-roster"}, For: time.Hour}}
		}
		return h.start(h.plan("vts", "jacana"))
	}
	there := func(h *harness) (out []string) {
		for name, host := range h.world.Hosts {
			for _, g := range host.Reading.Guests {
				if at := map[bool]string{true: "home", false: "away"}[name == "jacana"]; slices.ContainsFunc(guests,
					func(o estate.Guest) bool { return o.Name == g.Name }) {
					out = append(out, fmt.Sprint(g.Name, " ", g.State, " ", at, " ", len(g.Disks), " ", len(g.Snapshots)))
				}
			}
		}
		slices.Sort(out)
		return out
	}
	var places []string
	alike := func(t *testing.T, h *harness) {
		got := there(h)
		if places == nil { // without a death
			places = got
			if all := strings.Join(got, ", "); !strings.Contains(all, "pilot-roster running away 1 1") || !strings.Contains(all, "cctv-lock-1 running home 1 1") ||
				!strings.Contains(all, "vts-train off away") || !strings.Contains(all, "notices running home 2") ||
				strings.Count(all, "away") != 2 {
				t.Fatal(all)
			}
		}
		if !slices.Equal(got, places) {
			t.Errorf("guests are %v, want %v", got, places)
		}
	}
	deaths(t, w, begin, alike, "move", "carry")
}

// The same with programs of a site's own at every point: each runs once.
func TestDeathAmongHooks(t *testing.T) {
	begin := func(h *harness) (*course.State, error) {
		h.brief = func(b *plan.Brief) {
			b.Temporary = []act.Lent{{Unit: "chrony.service"}, {Setting: "vm.swappiness", To: "1"}}
			for _, of := range act.HookPoints() {
				for _, before := range []bool{true, false} {
					if of != "round" && of != "return" {
						b.Hooks = append(b.Hooks, act.Hook{Before: before, Of: of, OnHost: true, GoOn: []int{0}, Within: time.Minute,
							Program: fmt.Sprint(sim.Programs, of, before)})
					}
				}
			}
		}
		return h.start(h.plan("vts", "jacana"))
	}
	deaths(t, demo.World(), begin, func(t *testing.T, h *harness) {
		n := 0
		for a := range acts(h.world) {
			if strings.HasPrefix(a, "hook ") {
				n++
			}
		}
		if c, _ := h.read("jacana").Component("set:service/chrony", ""); c.Version != "enabled, running" {
			t.Errorf("chrony is %q", c.Version)
		}
		if c, _ := h.read("jacana").Component(act.KernelSetting("vm.swappiness"), ""); c.Version != "60" {
			t.Errorf("swappiness is %q", c.Version)
		}
		if want := 2 * (len(act.HookPoints()) - 2); n != want {
			t.Errorf("%d hooks ran, want %d", n, want)
		}
	}, "move")
}

// The same where payloads are only brought to the hosts, ahead of the round: what waits there in the end is what the
// plan brings, and nothing else was done there.
func TestDeathWhileStaging(t *testing.T) {
	w := demo.World()
	w.Hosts["heron"].Staged = map[string]sim.Payload{"old.payload": {Component: "deb:old", SHA256: strings.Repeat("0", 64)}}
	begin := func(h *harness) (*course.State, error) {
		h.brief = func(b *plan.Brief) { *b = b.Staged(plan.StageAhead) }
		return h.start(h.plan("vts", "knot", "heron"))
	}
	deaths(t, w, begin, func(t *testing.T, h *harness) {
		for host, want := range map[string]int{"heron": 3, "knot": 1, "jacana": 0} {
			if got := h.world.Hosts[host].Staged; len(got) != want || got["old.payload"].SHA256 != "" {
				t.Errorf("on %s there wait %v", host, got)
			}
		}
		for _, a := range h.world.Acts {
			if !strings.HasPrefix(a, "stage ") && !strings.HasPrefix(a, "take away ") {
				t.Errorf("beside staging: %s", a)
			}
		}
	}, "stage")
}

// It dies again and again, each time a little later, on a slow machine.
func TestDeathManyTimes(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		r := rand.New(rand.NewSource(9))
		h.dieAt = 3
		s, err := h.start(h.plan("vts"))
		deaths := 0
		for errors.Is(err, errDead) {
			deaths++
			time.Sleep(time.Duration(r.Intn(300)) * time.Second)
			next := h.ops + 2 + r.Intn(9)
			h.dead, h.after, h.dieAt = false, r.Intn(2) == 0, next
			h.epoch++
			h.write(course.Event{Kind: course.Taken})
			s, err = h.run("vts")
		}
		finished(t, h, s, err, "vts")
		if deaths < 10 {
			t.Errorf("it died only %d times", deaths)
		}
	})
}

// The same where a host starts from an image: it goes in and out once, and the host starts from it once.
func TestDeathAroundAnImage(t *testing.T) {
	w := demo.World()
	r := &w.Hosts["knot"].Reading
	r.Components = append(r.Components, estate.Component{Key: "fw:corran-hub", Version: "2.1", Model: "Corran Hub 3"},
		estate.Component{Key: "fw:corran-panel", Version: "1.2", Model: "Corran Panel 3"})
	r.Sort()
	begin := func(h *harness) (*course.State, error) { return h.start(h.plan("vts", "knot")) }
	deaths(t, w, begin, func(t *testing.T, h *harness) {
		if m := h.world.Hosts["knot"].Media; m.URL+m.Once != "" || m.Runs != nil {
			t.Errorf("its BMC has %+v", m)
		}
		for key, want := range map[estate.Key]string{"fw:corran-hub": "2.3", "fw:corran-panel": "1.4"} {
			if c, _ := h.read("knot").Component(key, ""); c.Version != want {
				t.Errorf("%s is at %q", key, c.Version)
			}
		}
	}, "move", "set", "eject")
}
