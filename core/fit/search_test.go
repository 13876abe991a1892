package fit

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// searcher looks for a tour over all hosts, as Plan does.
func searcher(p Problem, o Order, todo ...string) *tourist {
	c := compile(&p)
	if len(todo) == 0 {
		todo = c.names
	}
	t := &tourist{c: c, o: o, patience: patience, todo: c.indices(todo)}
	t.floor()
	return t
}

// five are hosts of which c is larger, a has most guests and e has none.
func five() Problem {
	return Problem{Hosts: []Host{host("a", 100, 10, 1, 1), host("b", 100, 10, 9), host("c", 200, 10, 9),
		host("d", 100, 10, 3), host("e", 100, 10)}}
}

// A tour is begun with the hosts that have fewest guests, then the largest, then those with least memory to move; never
// with the one that goes last, unless it is alone; and with whom the order says where it does.
func TestWithWhomATourIsBegun(t *testing.T) {
	p := five()
	for _, c := range []struct {
		o    Order
		todo string
		want string
	}{
		{Order{}, "", "e c d b a"},
		{Order{Last: "e"}, "", "c d b a"},
		{Order{Last: "b"}, "b", "b"},
		{Order{Last: "nobody"}, "a b", "b a"},
		{Order{Light: true}, "", "-"},
		{Order{Fixed: []string{"a"}}, "", "-"},
		{Order{First: "a"}, "", "-"},
	} {
		s := searcher(p, c.o, strings.Fields(c.todo)...)
		var got []string
		for _, h := range s.firsts() {
			if h < 0 {
				got = append(got, "-")
			} else {
				got = append(got, s.c.names[h])
			}
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%+v over %q: %v, want %s", c.o, c.todo, got, c.want)
		}
	}
	if got := searcher(Problem{Hosts: p.Hosts}, Order{}).todo; len(got) != 5 {
		t.Fatal(got)
	}
	none := &tourist{c: compile(&p)}
	if got := none.firsts(); len(got) != 1 || got[0] != -1 {
		t.Errorf("of nobody: %v", got)
	}
}

// Fewer stuck go before fewer away, and those before fewer moves.
func TestWhichRunIsBetter(t *testing.T) {
	r := func(stuck, away, moves int) *run { return &run{stuck: make([]Stuck, stuck), away: away, moves: moves} }
	for i, c := range []struct {
		a, b *run
		want bool
	}{
		{r(0, 0, 9), r(1, 0, 2), true}, {r(1, 0, 2), r(0, 0, 9), false}, {r(0, 1, 9), r(0, 2, 1), true},
		{r(0, 2, 1), r(0, 1, 9), false},
		{r(0, 0, 3), r(0, 0, 4), true}, {r(0, 0, 4), r(0, 0, 4), false}, {r(0, 0, 5), r(0, 0, 4), false},
		{r(2, 9, 9), r(3, 0, 0), true},
	} {
		if got := c.a.better(c.b); got != c.want {
			t.Errorf("%d: %v", i, got)
		}
	}
}

// Nothing more is tried once the bound is reached, guests that come back as proof left out of account; or, where all go
// home, once all do.
func TestWhenASearchIsSettled(t *testing.T) {
	s := &tourist{bound: 10}
	for i, c := range []struct {
		home bool
		r    run
		want bool
	}{
		{false, run{moves: 10}, true}, {false, run{moves: 11}, false}, {false, run{moves: 11, back: 1}, true},
		{false, run{moves: 9, stuck: make([]Stuck, 1)}, false},
		{true, run{moves: 30}, true}, {true, run{moves: 30, away: 1}, false},
		{true, run{moves: 30, stuck: make([]Stuck, 1)}, false},
	} {
		s.o.Home = c.home
		if got := s.settled(&c.r); got != c.want {
			t.Errorf("%d: %v", i, got)
		}
	}
	if (&Order{Home: true, Width: 4}).width() != 1 || (&Order{}).width() != 1 || (&Order{Width: 3}).width() != 3 {
		t.Error("as many are out at once as may not be")
	}
}

// Where the first tour reaches the bound it is the only one that is made, and where no host can go first there is no
// second either.
func TestASearchEndsEarly(t *testing.T) {
	work := func(p Problem, o Order) (all, one int) {
		s := searcher(p, o)
		s.search()
		again := searcher(p, o)
		again.run(again.firsts()[0], false, 6, false)
		return s.work, again.work
	}
	easy := cluster(3, 8, 0.5, false)
	if all, one := work(easy, Order{}); all != one {
		t.Errorf("a tour that reaches the bound takes %d, and the search %d", one, all)
	}
	stuck := Problem{Hosts: []Host{host("a", 10, 10, 9), host("b", 10, 10, 9), host("c", 10, 10, 9)}}
	if all, one := work(stuck, Order{}); all != one {
		t.Errorf("where none can go first a tour takes %d, and the search %d", one, all)
	}
	if all, one := work(cluster(7, 8, 0.5, false), Order{Home: true}); all != one {
		t.Errorf("where all go home a tour takes %d, and the search %d", one, all)
	}
	for seed := range int64(3) {
		if all, one := work(cluster(100_000+seed, 16, 0.85, false), Order{}); all > max(one, patience)+patience/2 {
			t.Errorf("a search takes %d; its first tour takes %d, and its patience is %d", all, one, patience)
		}
	}
}

// Everything is tried only where that is needed, and where it can be.
func TestWhenEverythingIsTried(t *testing.T) {
	p := Problem{Hosts: []Host{host("a", 20, 20, 5, 5), host("b", 20, 20, 5), host("c", 20, 20, 5, 5)}}
	best := searcher(p, Order{}).bound
	bad := func() *run { return &run{moves: best + 1} }
	if got := searcher(p, Order{}).improved(bad()); got.moves != best {
		t.Errorf("%d moves, and %d are enough", got.moves, best)
	}
	many := Problem{Hosts: []Host{host("a", 200, 20, 5, 5, 5, 5, 5, 5, 5), host("b", 200, 20, 5, 5, 5, 5, 5, 5),
		host("c", 200, 20)}}
	if len(many.Hosts[0].Guests)+len(many.Hosts[1].Guests) != small+1 {
		t.Fatal("the case is not what it says")
	}
	six := Problem{}
	for i := range 6 {
		six.Hosts = append(six.Hosts, host(fmt.Sprint("h", i), 20, 20, 1))
	}
	settled := &run{moves: best}
	for name, c := range map[string]struct {
		s *tourist
		r *run
	}{
		"what is settled": {searcher(p, Order{}), settled}, "many guests": {searcher(many, Order{}), &run{moves: 99}},
		"many hosts":            {searcher(six, Order{}), &run{moves: 99}},
		"several at once":       {searcher(p, Order{Width: 2}), bad()},
		"by hand":               {searcher(p, Order{Fixed: []string{"a"}}), bad()},
		"the controller's last": {searcher(p, Order{Last: "a"}), bad()},
		"all go home":           {searcher(p, Order{Home: true}), &run{moves: 99, away: 1}},
	} {
		if got := c.s.improved(c.r); got != c.r {
			t.Errorf("%s: everything was tried", name)
		}
	}
	stuck := &run{stuck: []Stuck{{Host: "a"}}}
	if got := searcher(p, Order{}).improved(stuck); len(got.stuck) > 0 || got.moves != best {
		t.Errorf("%+v", got)
	}
}

// Whoever goes next: those named, in their order; then the one with the fewest guests, the largest, the emptiest; the
// last waits for all others, and the one on trial for nobody.
func TestWhoGoesNext(t *testing.T) {
	p := five()
	for _, c := range []struct {
		o     Order
		first string
		want  string
	}{
		{Order{}, "", "e c d b a"},
		{Order{Light: true}, "", "e a d b c"},
		{Order{Fixed: []string{"d", "a"}}, "", "d a e c b"},
		{Order{}, "a", "a e c d b"},
		{Order{First: "b"}, "", "b e c d a"},
		{Order{Last: "e"}, "", "c d b a"},
		{Order{Fixed: []string{"e"}, Last: "a"}, "", "e c d b"},
	} {
		s := searcher(p, c.o)
		first := int32(-1)
		if c.first != "" {
			first = s.c.indices([]string{c.first})[0]
		}
		var got []string
		for _, h := range s.ordered(newState(s.c), s.todo, first, s.c.indices(c.o.Fixed)) {
			got = append(got, s.c.names[h])
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%+v, first %q: %v, want %s", c.o, c.first, got, c.want)
		}
	}
	s := searcher(p, Order{Last: "a"}, "a")
	if got := s.ordered(newState(s.c), s.todo, -1, nil); !slices.Equal(got, s.todo) {
		t.Errorf("the last, when it is alone: %v", got)
	}
}

// How many tours are tried where none reaches the bound: with each host first, filling up and not, and on clusters of
// more than six hosts looking at few candidates and at all of them; a first host that can only cost as much as the best
// tour does is passed over.
func TestHowManyToursAreTried(t *testing.T) {
	alike := func(hosts int, untouched bool) *tourist {
		p := Problem{}
		for i := range hosts {
			p.Hosts = append(p.Hosts, host(fmt.Sprint("h", i), 20, 20, 1, 1))
		}
		s := searcher(p, Order{})
		if untouched {
			p.Hosts = append(p.Hosts, host("free", 4, 20))
			s = searcher(p, Order{}, everyHost(p)[:hosts]...)
		}
		s.bound = 0 // nothing reaches it
		return s
	}
	for _, c := range []struct {
		hosts     int
		untouched bool
		want      int
	}{{3, true, 6}, {6, true, 12}, {7, true, 28}, {6, false, 1}} {
		s := alike(c.hosts, c.untouched)
		if s.search(); s.runs != c.want || s.work > patience {
			t.Errorf("%d hosts, another %v: %d tours, want %d", c.hosts, c.untouched, s.runs, c.want)
		}
	}
	// Beginning with the one that has most costs most: the others have been tried.
	p := Problem{Hosts: []Host{host("a", 20, 20, 1), host("b", 20, 20, 1, 1), host("c", 20, 20, 1, 1, 1),
		host("d", 20, 20, 1, 1, 1, 1)}}
	s := searcher(p, Order{})
	s.bound = 0
	tour := s.search()
	fewer := 0
	for _, h := range s.todo {
		if s.total+s.count(h) < tour.Moves {
			fewer++
		}
	}
	if want := 1 + 2*fewer; tour.Moves != s.total+1 || s.runs != want && s.runs != 1 {
		t.Errorf("%d moves for %d guests, %d tours", tour.Moves, s.total, s.runs)
	}
}
