package fit

import (
	"strings"
	"testing"
)

// A guest that moved onto a newer emulator in the middle of a tour is asked about as it will run then: it does not go
// back onto an older one. Guests that stayed run on what they ran on.
func TestTheClusterInTheMiddleOfATour(t *testing.T) {
	p := Problem{Hosts: []Host{host("a", 100, 10), host("b", 100, 10, 7), host("c", 100, 10, 3)}}
	for i := range p.Hosts {
		p.Hosts[i].Emulator = Emulator{"deb:qemu", "1"}
	}
	p.Hosts[0].After = &After{Emulator: Emulator{"deb:qemu", "2"}, Features: []string{"new"}}
	s := newState(compile(&p))
	s.leave(0, true)
	s.back(0)
	if !s.place(s.on[1][0], 0) {
		t.Fatal("it finds no place")
	}
	now := s.problem()
	if a := now.Hosts[0]; a.Emulator.Version != "2" || strings.Join(a.Features, "") != "new" || len(a.Guests) != 1 ||
		a.Guests[0].Emulator != "2" {
		t.Errorf("a: %+v", a)
	}
	if b, c := now.Hosts[1], now.Hosts[2]; len(b.Guests) != 0 || len(c.Guests) != 1 || c.Guests[0].Emulator != "" ||
		c.Emulator.Version != "1" {
		t.Errorf("b: %+v\nc: %+v", b, c)
	}
	if q := newState(compile(&now)); q.accepts(q.on[0][0], 1) || !q.accepts(q.on[2][0], 1) {
		t.Error("it goes back onto the older one, or who stayed may not go where it could")
	}
}

// So it is where the move was found by trying everything: what comes after rests on what the guest runs on then.
func TestAForcedMoveOntoANewerEmulator(t *testing.T) {
	p := Problem{Hosts: []Host{host("a", 100, 10), host("b", 100, 10, 7), host("c", 100, 10)}}
	for i := range p.Hosts {
		p.Hosts[i].Emulator = Emulator{"deb:qemu", "1"}
	}
	p.Hosts[1].Guests[0].Emulator = "1"
	p.Hosts[0].After, p.Hosts[2].Open = &After{Emulator: Emulator{"deb:qemu", "2"}}, false
	s := searcher(p, Order{}, "b")
	st := newState(s.c)
	st.leave(0, true)
	st.back(0)
	h, moves, next := s.force(&run{s: st}, st, s.todo)
	if h != 1 || len(moves) != 1 || moves[0].To != "a" {
		t.Fatalf("%d, %+v", h, moves)
	}
	next.open[1], next.takes[1] = true, true
	if next.accepts(0, 1) {
		t.Error("it goes back onto the older one")
	}
	q := p.Moved([]Move{{ID: "b0", Guest: "b-7", From: "b", To: "c"}})
	if got := q.Hosts[2].Guests[0].Emulator; got != "1" || p.Hosts[1].Guests[0].Emulator != "1" {
		t.Errorf("it runs on %q", got)
	}
	p.Hosts[2].Emulator = Emulator{}
	q = p.Moved([]Move{{ID: "b0", Guest: "b-7", From: "b", To: "c"}})
	if got := q.Hosts[2].Guests[0].Emulator; got != "1" {
		t.Errorf("where it is not known it runs on %q", got)
	}
}

// What a tour may cost is counted over all that were tried, and only one that is tried beside a better is given up.
func TestPatience(t *testing.T) {
	p := five()
	for _, c := range []struct {
		spent   int
		bounded bool
		given   bool
	}{{0, true, false}, {patience - 1, true, true}, {patience, true, true}, {patience + 1, true, true},
		{patience, false, false}, {10 * patience, false, false}} {
		s := searcher(p, Order{})
		s.work = c.spent
		r := s.run(s.firsts()[0], false, 6, c.bounded)
		if (r == nil) != c.given {
			t.Errorf("%+v: %v", c, r)
		}
		if s.work < c.spent || r != nil && s.work == c.spent {
			t.Errorf("%+v: the work is not counted: %d", c, s.work)
		}
	}
}

// Going home is counted: who came back, and who had no room.
func TestWhoWentHome(t *testing.T) {
	p := Problem{Hosts: []Host{host("a", 100, 10, 5, 5), host("b", 100, 10, 7), host("c", 100, 10, 3)}}
	for _, c := range []struct {
		o          Order
		back, away int
	}{
		{Order{Home: true}, 4, 0},
		{Order{Proof: true, First: "a"}, 1, 0},
		{Order{Proof: true, First: "b"}, 1, 0},
		{Order{}, 0, 0},
	} {
		s := searcher(p, c.o)
		r := s.run(s.firsts()[0], false, 6, false)
		back, moves := 0, 0
		for _, st := range r.stops {
			back, moves = back+len(st.Back), moves+len(st.Moves)+len(st.Back)
		}
		if r.back != c.back || back != c.back || r.away != c.away || r.moves != moves {
			t.Errorf("%+v: %d back, %d by the stops, %d away, %d moves of %d", c.o, r.back,
				back, r.away, r.moves, moves)
		}
	}
}

// One host out at a time is back before the next goes: guests go where the visit is over.
func TestOneAtATime(t *testing.T) {
	p := Problem{Hosts: []Host{host("a", 100, 10, 5), host("b", 100, 10, 7, 7), host("c", 40, 10, 3)}}
	tour := Plan(p, []string{"a", "b"}, Order{Fixed: []string{"a", "b"}})
	if len(tour.Stops) != 2 || len(tour.Stops[1].Moves) != 2 || tour.Stops[1].Moves[0].To != "a" ||
		strings.Join(tour.Stops[1].After, " ") != "a" {
		t.Errorf("%+v", tour.Stops)
	}
	wide := Plan(p, []string{"a", "b"}, Order{Fixed: []string{"a", "b"}, Width: 2})
	if len(wide.Stops) != 2 || len(wide.Stops[1].After) != 0 || wide.Stops[1].Moves[0].To != "c" {
		t.Errorf("%+v", wide.Stops)
	}
	trial := Plan(p, []string{"a", "b"}, Order{First: "a", Width: 2})
	if len(trial.Stops) != 2 || strings.Join(trial.Stops[1].After, " ") != "a" {
		t.Errorf("on trial: %+v", trial.Stops)
	}
}

// Whose guests would move a second time waits for one whose guests would not, unless the order is given.
func TestWhoMovesNobodyTwiceGoesFirst(t *testing.T) {
	p := Problem{Hosts: []Host{host("a", 100, 10, 5), host("b", 100, 10, 7, 7), host("c", 100, 10)}}
	p.Hosts[0].Networks, p.Hosts[1].Networks = []string{"n"}, []string{"n"}
	p.Hosts[0].Guests[0].Networks = []string{"n"} // a's guest can go to b alone
	todo := []bool{true, true, false}
	for _, c := range []struct {
		o    Order
		want string
	}{{Order{}, "b"}, {Order{Fixed: []string{"a", "b"}}, "a"}, {Order{Light: true}, "a"}, {Order{First: "a"}, "a"}} {
		s := searcher(p, c.o, "a", "b")
		st := newState(s.c)
		st.prefer(todo, nil)
		h, moves := s.next(st, s.todo, todo, -1, s.c.indices(c.o.Fixed), 6, false)
		if h < 0 || s.c.names[h] != c.want || len(moves) == 0 {
			t.Errorf("%+v: %d, %v; want %s", c.o, h, moves, c.want)
		}
	}
}

// Where every host has guests that would move a second time, the one with fewest of them goes, among as many as are
// looked at.
func TestWhoMovesFewestTwiceGoesFirst(t *testing.T) {
	p := Problem{Hosts: []Host{host("a", 100, 10, 1, 2), host("b", 100, 10, 3, 4, 5), host("c", 100, 10)}}
	needs := func(h, g int, network string) { p.Hosts[h].Guests[g].Networks = []string{network} }
	p.Hosts[0].Networks, p.Hosts[1].Networks = []string{"n"}, []string{"n", "m"}
	p.Hosts[2].Networks = []string{"m"}
	needs(0, 0, "n") // both can go to b alone, which is still to come
	needs(0, 1, "n")
	needs(1, 0, "n") // to a alone, and the others to c
	needs(1, 1, "m")
	needs(1, 2, "m")
	todo := []bool{true, true, false}
	for wide, want := range map[int]string{1: "a", 2: "b", 6: "b"} {
		s := searcher(p, Order{}, "a", "b")
		st := newState(s.c)
		st.prefer(todo, nil)
		h, moves := s.next(st, s.todo, todo, -1, nil, wide, false)
		if h < 0 || s.c.names[h] != want || len(moves) != len(p.Hosts[h].Guests) {
			t.Errorf("%d: %d, %v; want %s", wide, h, moves, want)
		}
	}
	s := searcher(p, Order{}, "a", "b")
	st := newState(s.c)
	st.prefer(todo, nil)
	if h, _ := s.next(st, s.todo, todo, -1, nil, 6, true); h != -1 {
		t.Errorf("beside others %d goes, though its guests would move twice", h)
	}
}

// Where the quick way finds nobody to go, each that is left is asked about by trying everything, in the usual order.
func TestWhoIsForcedFirst(t *testing.T) {
	s := searcher(five(), Order{})
	st := newState(s.c)
	r := &run{s: st}
	h, _, next := s.force(r, st, s.todo)
	if h < 0 || s.c.names[h] != "e" || len(r.stuck) > 0 || next.takes[h] {
		t.Errorf("%d, %+v", h, r.stuck)
	}
	p := Problem{Hosts: []Host{host("a", 10, 10, 9), host("b", 10, 10, 9)}}
	s = searcher(p, Order{})
	st = newState(s.c)
	r = &run{s: st}
	if h, moves, _ := s.force(r, st, s.todo); h != -1 || moves != nil || len(r.stuck) != 2 || r.end == nil {
		t.Errorf("%d, %+v", h, r.stuck)
	}
}

// What is no better than what the quick way found does not take its place; on the largest cluster on which everything
// is tried it is.
func TestImprovingIsBetter(t *testing.T) {
	p := Problem{Hosts: []Host{host("a", 20, 20, 5, 5), host("b", 20, 20, 5), host("c", 20, 20, 5, 5)}}
	s := searcher(p, Order{})
	best := s.bound
	s.bound = 0 // as where no bound is as sharp as what can be had
	r := &run{moves: best}
	if got := s.improved(r); got != r {
		t.Errorf("%d moves take the place of %d", got.moves, best)
	}
	large := Problem{}
	for i := range 5 {
		large.Hosts = append(large.Hosts, host(string(rune('a'+i)), 200, 40))
	}
	for i := range small {
		h := &large.Hosts[i%2]
		h.Guests = append(h.Guests, host(string(rune('p'+i)), 0, 0, 5).Guests[0])
	}
	s = searcher(large, Order{})
	if len(s.todo) != 5 || s.c.ng != small {
		t.Fatal("the case is not what it says")
	}
	bad := &run{moves: 99}
	if got := s.improved(bad); got == bad {
		t.Error("everything is not tried with so many hosts and guests")
	}
}
