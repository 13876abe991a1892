package fit

import (
	"slices"
	"strings"
	"testing"

	"yareharbour/core/estate"
)

// placed tells where everybody is.
func placed(p Problem) map[string]string {
	at := map[string]string{}
	for i := range p.Hosts {
		for _, g := range p.Hosts[i].Guests {
			at[g.UID()] = p.Hosts[i].Name
		}
	}
	return at
}

// Where guests go home every one of them is where it was when the tour is over, at two moves each, and the certificate
// stands at every stage; one host is out at a time whatever the width.
func TestGuestsGoHome(t *testing.T) {
	for _, mixed := range []bool{false, true} {
		p := cluster(9, 12, 0.55, mixed)
		guests := 0
		for i := range p.Hosts {
			guests += len(p.Hosts[i].Guests)
		}
		if usual := Plan(p, everyHost(p), Order{}); len(usual.Stuck) > 0 {
			t.Fatal(usual.Stuck)
		}
		tour := Plan(p, everyHost(p), Order{Home: true, Width: 4})
		if len(tour.Stuck) > 0 || tour.Moves != 2*guests || len(tour.Twice) > 0 || tour.Level != 0 {
			t.Fatalf("%d moves for %d guests, twice %d, level %d, stuck %v", tour.Moves, guests, len(tour.Twice),
				tour.Level, tour.Stuck)
		}
		replay(t, p, tour)
		q := p
		for _, stop := range tour.Stops {
			q = q.Moved(stop.Moves).Moved(stop.Back)
			if len(stop.After) > 0 && stop.After[0] == stop.Host {
				t.Errorf("%s waits for itself", stop.Host)
			}
		}
		for uid, at := range placed(p) {
			if placed(q)[uid] != at {
				t.Errorf("%s was on %s and is on %s", uid, at, placed(q)[uid])
			}
		}
	}
}

// A host on trial has its smallest guest that can go back sent back, and no other; it is in service again before the
// next begins, though several may be out at once.
func TestAProofOfTheWayBack(t *testing.T) {
	p := cluster(7, 8, 0.5, false)
	tour := Plan(p, everyHost(p), Order{First: "h03", Proof: true, Width: 4})
	if len(tour.Stuck) > 0 || tour.Stops[0].Host != "h03" || len(tour.Stops[0].Back) != 1 {
		t.Fatalf("%+v", tour.Stops[0])
	}
	replay(t, p, Tour{Stops: tour.Stops[:1], Moves: len(tour.Stops[0].Moves) + 1, Stuck: []Stuck{{}}})
	back := tour.Stops[0].Back[0]
	for _, g := range p.Hosts[3].Guests {
		if g.UID() == back.UID() {
			for _, o := range p.Hosts[3].Guests {
				if o.Load.MemoryMiB < g.Load.MemoryMiB {
					t.Errorf("%s goes back, and %s is smaller", g.Name, o.Name)
				}
			}
		}
	}
	for _, stop := range tour.Stops[1:] {
		if len(stop.Back) > 0 {
			t.Errorf("%+v", stop)
		}
	}
	if without := Plan(p, everyHost(p), Order{First: "h03", Width: 4}); len(without.Stops[0].Back) > 0 {
		t.Error("a guest goes back though nobody asked for it")
	}
	if empty := Plan(Problem{Hosts: []Host{{Name: "a", Open: true}, {Name: "b", Open: true}}}, []string{"a", "b"},
		Order{First: "a", Proof: true}); len(empty.Stops) != 2 || len(empty.Stops[0].Back) > 0 {
		t.Errorf("%+v", empty)
	}
}

// Who can't go back says why, and the others go: those of one unit go together or not at all.
func TestWhoCanGoBack(t *testing.T) {
	host := func(name string, room int64, guests ...estate.Guest) Host {
		return Host{Name: name, Open: true, Capacity: estate.Resources{MemoryMiB: room << 10, CPU: 64_000},
			Guests: guests}
	}
	guest := func(name string, gib int64) estate.Guest {
		return estate.Guest{ID: name, Name: name, State: estate.Running,
			Load: estate.Resources{MemoryMiB: gib << 10, CPU: 1000}}
	}
	pinned := guest("pinned", 1)
	pinned.Pins = []string{"it has a snapshot"}
	together := []estate.Rule{{Keep: estate.Together, Guests: []string{"t*"}}}
	for _, c := range []struct {
		name  string
		p     Problem
		want  []string // guests, all of them on b
		goes  string
		stays string
	}{
		{"all of them, the smallest first",
			Problem{Hosts: []Host{host("a", 100), host("b", 100, guest("x", 20), guest("y", 10))}},
			[]string{"x", "y"}, "y x", ""},
		{"one is too large", Problem{Hosts: []Host{host("a", 30), host("b", 100, guest("x", 40), guest("y", 10))}},
			[]string{"x", "y"}, "y", "x: finds no room on a"},
		{"the reserve is kept", Problem{Terms: Terms{Reserve: 1},
			Hosts: []Host{host("a", 100), host("b", 60, guest("x", 50)), host("c", 100, guest("z", 80))}},
			[]string{"x"}, "", "x: would leave too little for the reserve"},
		{"it is closed", Problem{Hosts: []Host{{Name: "a", Capacity: estate.Resources{MemoryMiB: 100 << 10}},
			host("b", 100, guest("x", 1))}}, []string{"x"}, "", "x: finds no room on a"},
		{"one is pinned", Problem{Hosts: []Host{host("a", 100), host("b", 100, pinned, guest("x", 1))}},
			[]string{"pinned", "x"}, "x", "pinned: can't be migrated"},
		{"one has gone", Problem{Hosts: []Host{host("a", 100), host("b", 100, guest("x", 1))}}, []string{"y", "x"}, "x",
			"y: is not on b any more"},
		{"those of a unit go as one",
			Problem{Terms: Terms{Rules: together},
				Hosts: []Host{host("a", 100), host("b", 100, guest("t1", 1), guest("t2", 2), guest("x", 3))}},
			[]string{"x", "t1", "t2"}, "t1 t2 x", ""},
		{"or not at all", Problem{Terms: Terms{Rules: together},
			Hosts: []Host{host("a", 40), host("b", 100, guest("t1", 1), guest("t2", 50), guest("x", 3))}},
			[]string{"x", "t1", "t2"}, "x", "t1: would leave too little for the reserve on a; t2: finds no room on a"},
		{"a unit of which one is not asked for stays",
			Problem{Terms: Terms{Rules: together},
				Hosts: []Host{host("a", 100), host("b", 100, guest("t1", 1), guest("t2", 2))}}, []string{"t1"},
			"", "t1: would leave"},
		{"no such host", Problem{Hosts: []Host{host("b", 100, guest("x", 1))}}, []string{"x"}, "",
			"x: can't be asked about: a is no host"},
		{"the reserve is not kept as it is",
			Problem{Terms: Terms{Reserve: 1},
				Hosts: []Host{host("a", 100), host("b", 10, guest("x", 1)), host("c", 200, guest("z", 150))}},
			[]string{"x"}, "", "x: "},
	} {
		var want []Move
		for _, w := range c.want {
			want = append(want, Move{ID: w, Guest: w, From: "b", To: "a"})
		}
		moves, stay := Back(c.p, "a", want)
		var goes, stays []string
		for _, m := range moves {
			goes = append(goes, m.Guest)
			if m.From != "b" || m.To != "a" {
				t.Errorf("%s: %+v", c.name, m)
			}
		}
		for _, s := range stay {
			stays = append(stays, s.Guest+": "+s.Why.Constraint)
		}
		slices.Sort(stays)
		if got := strings.Join(goes, " "); got != c.goes {
			t.Errorf("%s: %q go, and %q should", c.name, got, c.goes)
		}
		says := strings.Join(stays, "; ")
		for _, part := range strings.Split(c.stays, "; ") {
			if !strings.Contains(says, part) || c.stays == "" && says != "" {
				t.Errorf("%s: it says %q, and not %q", c.name, says, part)
			}
		}
		if len(moves)+len(stay) < len(c.want) {
			t.Errorf("%s: %d go and %d stay", c.name, len(moves), len(stay))
		}
	}
}
