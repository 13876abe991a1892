package fit

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"yareharbour/core/estate"
)

// host makes one with room for so many GiB and cores, and guests of so many GiB each, of a core each.
func host(name string, room, cores int64, guests ...int64) Host {
	h := Host{Name: name, Open: true, Capacity: estate.Resources{MemoryMiB: room << 10, CPU: cores * 1000}}
	for i, g := range guests {
		h.Guests = append(h.Guests, estate.Guest{ID: fmt.Sprint(name, i), Name: fmt.Sprint(name, "-", g),
			State: estate.Running, Load: estate.Resources{MemoryMiB: g << 10, CPU: 1000}})
	}
	return h
}

// How level hosts are at the end is told without the one visited last, which is empty; and what levelling would cost,
// the largest guests first, up to the mean and five points.
func TestHowLevelHostsAre(t *testing.T) {
	closed := func(h Host) Host { h.Open = false; return h }
	for _, c := range []struct {
		name   string
		hosts  []Host
		last   string // visited last; "" for nobody
		spread float64
		moves  int
	}{
		{"one large guest levels it", []Host{host("a", 100, 100, 50, 10), host("b", 100, 100, 20), host("c", 100, 100)},
			"c", 0.4, 1},
		{"several small ones", []Host{host("a", 100, 100, 10, 10, 10, 10, 10, 10), host("b", 100, 100, 20),
			host("c", 100, 100)}, "c", 0.4, 3},
		{"nobody was visited", []Host{host("a", 100, 100, 50, 10), host("b", 100, 100, 20), host("c", 100, 100)},
			"", 0.6, 0},
		{"what is scarcest counts", []Host{host("a", 100, 10, 1, 1, 1, 1), host("b", 100, 10, 1), host("c", 100, 10)},
			"c", 0.3, 2},
		{"closed hosts are none of it",
			[]Host{host("a", 100, 100, 30), closed(host("b", 100, 100, 90)), host("c", 100, 100)}, "c", 0, 1},
		{"one host alone is level", []Host{host("a", 100, 100, 30)}, "a", 0, 0},
		{"one that is closed again levels nothing",
			[]Host{host("a", 100, 100, 60), host("b", 100, 100), closed(host("c", 100, 100))}, "c", 0.6, 0},
		{"level enough", []Host{host("a", 100, 100, 12), host("b", 100, 100, 12), host("c", 100, 100, 10)}, "c", 0, 0},
	} {
		p := Problem{Hosts: c.hosts}
		s := newState(compile(&p))
		var stops []Stop
		if c.last != "" {
			stops = []Stop{{Host: "a"}, {Host: c.last}}
		}
		spread, moves := s.balance(stops)
		if math.Abs(spread-c.spread) > 1e-9 || moves != c.moves {
			t.Errorf("%s: %.3f and %d moves, want %.3f and %d", c.name, spread, moves, c.spread, c.moves)
		}
	}
}

// Each kind of rule that costs moves is named, the one that costs most first, and none that costs nothing.
func TestEachKindOfRuleIsNamed(t *testing.T) {
	names := func(h ...string) []string { return h }
	with := func(change func(*Problem)) Problem {
		p := Problem{Hosts: []Host{host("a", 20, 20, 5, 5), host("b", 20, 20, 5), host("c", 20, 20, 5, 5)}}
		change(&p)
		return p
	}
	needs := func(set func(*estate.Guest), offer func(*Host)) func(*Problem) {
		return func(p *Problem) {
			for _, h := range []int{0, 2} {
				offer(&p.Hosts[h])
				set(&p.Hosts[h].Guests[0])
			}
		}
	}
	for _, c := range []struct {
		name  string
		p     Problem
		order Order
		first string
	}{
		{"networks", with(needs(func(g *estate.Guest) {
			g.Networks = names("n")
		}, func(h *Host) { h.Networks = names("n") })), Order{Fixed: names("b", "a", "c")}, "network"},
		{"storages", with(needs(func(g *estate.Guest) {
			g.Storages = names("n")
		}, func(h *Host) { h.Storages = names("n") })), Order{Fixed: names("b", "a", "c")}, "storage"},
		{"features", with(needs(func(g *estate.Guest) {
			g.Features = names("n")
		}, func(h *Host) { h.Features = names("n") })), Order{Fixed: names("b", "a", "c")}, "feature"},
		{"rules", with(func(p *Problem) {
			p.Rules = []estate.Rule{{Keep: estate.KeptOut, Guests: names("a-5", "c-5"), Hosts: names("b")}}
		}), Order{Fixed: names("b", "a", "c")}, "rules that keep guests"},
		{"by hand", with(func(*Problem) {}), Order{Fixed: names("a", "b", "c")}, "in another order"},
		{"lightest first", Problem{Hosts: []Host{host("a", 40, 40, 1, 1, 1), host("b", 40, 40, 9),
			host("c", 40, 40, 9)}}, Order{Light: true}, "in another order"},
		{"a trial", with(func(*Problem) {}), Order{First: "a"}, "in another order"},
		{"the controller", Problem{Hosts: []Host{host("a", 40, 40, 1), host("b", 40, 40, 9, 9),
			host("c", 40, 40, 9, 9)}}, Order{Last: "a"}, "in another order"},
	} {
		tour := Plan(c.p, everyHost(c.p), c.order)
		why := Excess(c.p, everyHost(c.p), c.order, tour)
		if len(tour.Stuck) > 0 || tour.Moves <= tour.Floor {
			t.Errorf("%s: moves %d, floor %d, stuck %v", c.name, tour.Moves, tour.Floor, tour.Stuck)
			continue
		}
		i := -1
		for j, w := range why {
			if w.Moves >= tour.Moves || j > 0 && w.Moves < why[j-1].Moves {
				t.Errorf("%s: %+v of %d", c.name, why, tour.Moves)
			}
			if strings.Contains(w.Says, c.first) {
				i = j
			}
		}
		if i < 0 {
			t.Errorf("%s: %+v", c.name, why)
		}
		for _, w := range why {
			kind := strings.Fields(strings.TrimPrefix(w.Says, "if every host had every "))[0]
			if kind != c.first && (kind == "network" || kind == "storage" || kind == "feature") {
				t.Errorf("%s: %q costs nothing", c.name, w.Says)
			}
		}
		if c.order.Home = true; Excess(c.p, everyHost(c.p), c.order, Plan(c.p, everyHost(c.p), c.order)) != nil {
			t.Errorf("%s: what going home costs is explained by something else", c.name)
		}
	}
	// A host less in reserve can be what costs.
	p := Problem{Terms: Terms{Reserve: 1},
		Hosts: []Host{host("a", 20, 20, 5, 5), host("b", 20, 20, 5, 5), host("c", 20, 20, 2), host("d", 20, 20, 9)}}
	todo := []string{"a", "b", "c"}
	if tour := Plan(p, todo, Order{}); tour.Moves > tour.Floor {
		for _, w := range Excess(p, todo, Order{}, tour) {
			if w.Moves >= tour.Moves {
				t.Errorf("%+v", w)
			}
		}
	}
}

// Two hosts are the same to any guest only where both are empty, as large, as new, unvisited, and take the same.
func TestHostsThatAreAlike(t *testing.T) {
	p := Problem{Hosts: []Host{host("a", 20, 20, 5), host("b", 20, 20), host("c", 20, 20), host("d", 20, 21),
		host("e", 20, 20), host("f", 20, 20), host("g", 20, 20)}}
	p.Hosts[0].Guests[0].Networks = []string{"n"}
	for i := range p.Hosts {
		p.Hosts[i].Networks = []string{"n"}
		p.Hosts[i].Emulator = Emulator{"deb:emu", "1"}
	}
	p.Hosts[4].Networks, p.Hosts[5].Emulator.Version = nil, "2"
	e := compile(&p).exhaust(100)
	e.done[6] = true
	for _, c := range []struct {
		a, b string
		want bool
	}{{"b", "c", true}, {"c", "b", true}, {"a", "b", false}, {"b", "a", false}, {"b", "d", false}, {"d", "b", false},
		{"b", "e", false}, {"e", "b", false}, {"b", "f", false}, {"b", "g", false}, {"g", "b", false}} {
		i := e.indices([]string{c.a, c.b})
		if got := e.alike(i[0], i[1]); got != c.want {
			t.Errorf("%s and %s alike: %v", c.a, c.b, got)
		}
	}
	e.done[1] = true
	if e.alike(1, 6) {
		t.Error("two that were visited may have changed each in its way, and are taken for alike")
	}
}
