package fit

import (
	"math/rand"
	"slices"
	"testing"

	"yareharbour/core/estate"
)

// bench is a state in which host a is lost, with the loss's number, and nothing of it is aimed anywhere. A closed host
// stands before all others, so that neither host a nor its loss has the number 0: a is 1, b 2, c 3.
func bench(t *testing.T, p Problem) (*state, int32) {
	t.Helper()
	p.Reserve = 1
	p.Hosts = append([]Host{{Name: "closed"}}, p.Hosts...)
	s := newState(compile(&p))
	l := int32(slices.IndexFunc(s.losses, func(x []int32) bool { return len(x) == 1 && s.names[x[0]] == "a" }))
	for _, g := range s.on[s.losses[l][0]] {
		if s.target[int(l)*s.ng+int(g)] >= 0 {
			s.aim(l, g, -1)
		}
	}
	s.trail = s.trail[:0]
	return s, l
}

// aims tells where the guests of the lost host restart, in their order; "-" for nowhere.
func aims(s *state, l int32) (out string) {
	for _, g := range s.on[s.losses[l][0]] {
		if h := s.target[int(l)*s.ng+int(g)]; h >= 0 {
			out += s.names[h]
		} else {
			out += "-"
		}
	}
	return out
}

// A restart goes where most room is left of what is scarcest there; never to a lost or closed host, nor beside one that
// it is kept apart from, nor where it lacks anything.
func TestSeats(t *testing.T) {
	change := func(hosts []Host, f func(b, c *Host)) []Host { f(&hosts[1], &hosts[2]); return hosts }
	three := func() []Host { return []Host{host("a", 100, 10, 10), host("b", 100, 10, 50), host("c", 100, 10, 20)} }
	for _, c := range []struct {
		name string
		p    Problem
		want string
	}{
		{"by memory", Problem{Hosts: three()}, "c"},
		{"by cores where those are scarcer", Problem{Hosts: change(three(), func(_, c *Host) {
			c.Capacity.CPU = 2000
		})}, "b"},
		{"not to a closed host", Problem{Hosts: change(three(), func(_, c *Host) { c.Open = false })}, "b"},
		{"not where its network is not", Problem{Hosts: change(three(), func(b, c *Host) {
			b.Networks = []string{"a-10"}
		}), Terms: Terms{Rules: []estate.Rule{{Keep: estate.KeptIn, Guests: []string{"a-10"},
			Hosts: []string{"a", "b"}}}}}, "b"},
		{"not beside whom it is kept apart from",
			Problem{Hosts: three(), Terms: Terms{
				Rules: []estate.Rule{{Keep: estate.Apart, Guests: []string{"a-10", "c-20"}}}}}, "b"},
		{"nowhere", Problem{Hosts: change(three(), func(b, c *Host) {
			b.Capacity.MemoryMiB, c.Capacity.MemoryMiB = 55<<10, 25<<10
		})}, "-"},
		{"to the brim", Problem{Hosts: change(three(), func(b, c *Host) {
			b.Capacity.MemoryMiB, c.Capacity.MemoryMiB = 60<<10, 29<<10
		})}, "b"},
		{"what it does not take may be short", Problem{Hosts: change(three(), func(b, c *Host) {
			b.Open = false
			c.Counts, c.Guests[0].Takes = map[string]int{"vf": 1}, map[string]int{"vf": 3}
		})}, "c"},
	} {
		s, l := bench(t, c.p)
		if ok := s.seat(l, s.on[1][0]); ok != (c.want != "-") || aims(s, l) != c.want {
			t.Errorf("%s: %s, want %s", c.name, aims(s, l), c.want)
		}
	}
}

// A smaller restart gives way to a larger one, where it finds another place itself; else all is as it was.
func TestASmallerRestartGivesWay(t *testing.T) {
	guest := func(s *state, gib int64) int32 {
		for _, g := range s.on[1] {
			if s.guests[g].Load.MemoryMiB == gib<<10 {
				return g
			}
		}
		t.Fatal(gib)
		return 0
	}
	for _, c := range []struct {
		name        string
		a, b, c     int64 // guests of a are 40 and 20; room on b and c
		small, want string
		ok          bool
	}{
		{"it goes to the other", 100, 50, 30, "b", "bc", true},
		{"there is no room for it there", 100, 50, 19, "b", "-b", false},
		{"to the brim", 100, 40, 20, "b", "bc", true},
		{"it is not in the way", 100, 30, 30, "b", "-b", false},
	} {
		s, l := bench(t, Problem{Hosts: []Host{host("a", c.a, 10, 40, 20), host("b", c.b, 10), host("c", c.c, 10)}})
		s.aim(l, guest(s, 20), s.indices([]string{c.small})[0])
		before := len(s.trail)
		if ok := s.eject(l, guest(s, 40)); ok != c.ok || aims(s, l) != c.want || !ok && len(s.trail) != before {
			t.Errorf("%s: %v, %s, want %v, %s", c.name, ok, aims(s, l), c.ok, c.want)
		}
	}
	s, l := bench(t, Problem{Hosts: []Host{host("a", 100, 10, 30, 30), host("b", 30, 10), host("c", 30, 10)}})
	s.aim(l, s.on[1][0], 2)
	if s.eject(l, s.on[1][1]) {
		t.Error("one as large gave way")
	}
}

// All restarts of a loss are given anew; where that does not seat them all, they are as they were.
func TestRestartsAreGivenAnew(t *testing.T) {
	networks := func(p Problem, guest int, name string, hosts ...int) Problem {
		p.Hosts[0].Guests[guest].Networks = []string{name}
		for _, h := range hosts {
			p.Hosts[h].Networks = append(p.Hosts[h].Networks, name)
		}
		return p
	}
	for _, c := range []struct {
		name string
		p    Problem
		ok   bool
	}{
		{"largest first", Problem{Hosts: []Host{host("a", 200, 10, 20, 50, 30), host("b", 60, 10), host("c", 50, 10)}},
			true},
		{"those with fewest hosts first",
			networks(Problem{Hosts: []Host{host("a", 200, 10, 20, 30), host("b", 30, 10), host("c", 30, 10)}},
				0, "n", 1), true},
		{"not at all", Problem{Hosts: []Host{host("a", 200, 10, 40, 40, 40), host("b", 70, 10), host("c", 50, 10)}},
			false},
	} {
		s, l := bench(t, c.p)
		if !c.ok {
			s.seat(l, s.on[1][0])
		}
		before, mark := aims(s, l), len(s.trail)
		ok := s.repack(l)
		switch {
		case ok != c.ok:
			t.Errorf("%s: %v, %s", c.name, ok, aims(s, l))
		case !ok && (aims(s, l) != before || len(s.trail) != mark):
			t.Errorf("%s: they are at %s, and were at %s", c.name, aims(s, l), before)
		case ok && slices.Contains([]byte(aims(s, l)), '-'):
			t.Errorf("%s: %s", c.name, aims(s, l))
		}
		for h := range int32(s.nh) { // what is reserved there is what is aimed there
			use := int64(0)
			for _, g := range s.on[1] {
				if int32(s.target[int(l)*s.ng+int(g)]) == h {
					use += s.load[int(g)*s.nd]
				}
			}
			if got := s.use[(int(l)*s.nh+int(h))*s.nd]; got != use {
				t.Errorf("%s: %d MiB are reserved on %s for %d", c.name, got, s.names[h], use)
			}
		}
	}
}

// Beside the restarts of a loss a guest fits where what is free, less what they take, is enough of each thing that it
// takes.
func TestBesideRestarts(t *testing.T) {
	p := Problem{Hosts: []Host{host("a", 100, 10, 30, 20), host("b", 100, 10, 40), host("c", 45, 3, 1)}}
	p.Hosts[0].Guests[1].Takes = map[string]int{"vf": 1}
	p.Hosts[1].Counts, p.Hosts[2].Counts = map[string]int{"vf": 1}, map[string]int{"vf": 1}
	s, l := bench(t, p)
	large, small := s.on[1][0], s.on[1][1]
	check := func(what string, g, h int32, want bool) {
		t.Helper()
		if got := s.beside(g, l, h); got != want {
			t.Errorf("%s: %v", what, got)
		}
	}
	check("60 are free", large, 2, true)
	check("44 are free", large, 3, true)
	s.aim(l, small, 3)
	check("24 are left beside the other", large, 3, false)
	s.aim(l, small, 2)
	check("40 are left beside the other", large, 2, true)
	check("44 are free again", large, 3, true)
	s.aim(l, small, -1)
	s.free[3*s.nd] = 30 << 10
	check("to the brim", large, 3, true)
	s.free[3*s.nd]--
	check("a MiB too few", large, 3, false)
	s.free[3*s.nd+2] = 0
	check("what it does not take may be gone", large, 2, true)
	check("what it takes may not", small, 3, false)
}

// Whom a guest must not meet is on a host as long as that one is not lost, or restarts there.
func TestWhoMeetsWhom(t *testing.T) {
	p := Problem{Hosts: []Host{host("a", 100, 10, 30, 20), host("b", 100, 10, 40), host("c", 100, 10, 1)},
		Terms: Terms{Rules: []estate.Rule{{Keep: estate.Apart, Guests: []string{"a-*", "b-40"}}}}}
	s, l := bench(t, p)
	large, small := s.on[1][0], s.on[1][1]
	ofB := int32(slices.IndexFunc(s.losses, func(x []int32) bool { return x[0] == 2 }))
	for _, c := range []struct {
		what    string
		loss, h int32
		want    bool
	}{{"on b, which stays", l, 2, true}, {"on b, where nothing is lost", -1, 2, true},
		{"on b, which is lost", ofB, 2, false}, {"nobody is on c", l, 3, false}, {"its fellow is on a", -1, 1, true},
		{"a is lost", l, 1, false}} {
		if got := s.meets(large, c.loss, c.h); got != c.want {
			t.Errorf("%s: %v", c.what, got)
		}
	}
	s.aim(l, small, 3)
	if !s.meets(large, l, 3) {
		t.Error("its fellow restarts on c, and it would meet nobody there")
	}
	if s.meets(large, -1, 3) || s.meets(small, l, 3) {
		t.Error("a restart is met where nothing is lost, or by itself")
	}
}

// What is missing as it is, with nobody out and nobody lost, stands against nothing; with one out it does, to the MiB.
func TestWhatIsMissingAsItIs(t *testing.T) {
	over := Problem{Hosts: []Host{host("a", 10, 10, 20), host("b", 10, 10)}}
	if o := compile(&over).impossible(nil); o != nil {
		t.Errorf("with nobody out: %s", o)
	}
	if o := compile(&over).impossible([]int32{0}); o == nil {
		t.Error("20 GiB find room in 10")
	}
	brim := Problem{Hosts: []Host{host("a", 50, 10, 20), host("b", 50, 10, 30)}}
	if o := compile(&brim).impossible([]int32{0}); o != nil {
		t.Errorf("what fits to the brim: %s", o)
	}
	brim.Hosts[0].Guests[0].Load.MemoryMiB++
	if o := compile(&brim).impossible([]int32{0}); o == nil || len(o.Lost) > 0 {
		t.Errorf("%v", o)
	}
}

// consistent says what of a state contradicts itself: who is where, what is free, who restarts where in which loss, and
// what that takes.
func consistent(s *state) string {
	free := slices.Clone(s.cap)
	for g, h := range s.at {
		for d := range s.nd {
			free[int(h)*s.nd+d] -= s.load[g*s.nd+d]
		}
		if !slices.Contains(s.on[h], int32(g)) {
			return "who is on a host is not among its guests"
		}
	}
	if !slices.Equal(free, s.free) {
		return "what is free is not what guests leave"
	}
	use := make([]int64, len(s.use))
	for l := range s.losses {
		for g, at := range s.at {
			h := s.target[l*s.ng+g]
			switch {
			case h < 0:
				continue
			case !s.gone[l] && !s.lost(int32(l), at):
				return "one restarts in a loss that does not touch it"
			}
			for d := range s.nd {
				use[(l*s.nh+int(h))*s.nd+d] += s.load[g*s.nd+d]
			}
		}
	}
	if !slices.Equal(use, s.use) {
		return "what restarts take is not what is written down"
	}
	for i, u := range s.use {
		if p := i % (s.nh * s.nd); u > s.peak[p] {
			return "a loss takes more than the peak of its host"
		}
	}
	return ""
}

// borne says which loss a state does not bear though it says that it bears all; "" where it does.
func borne(s *state) string {
	for l := range int32(len(s.losses)) {
		if s.gone[l] {
			continue
		}
		for _, lost := range s.losses[l] {
			for _, g := range s.on[lost] {
				h := int32(s.target[int(l)*s.ng+int(g)])
				if s.restarts[g] && (h < 0 || !s.takes[h] || s.lost(l, h) || !s.runs(g, h)) {
					return "one has no restart, or none that could be"
				}
			}
		}
		for h := range s.nh {
			for d := range s.nd {
				if u := s.use[(int(l)*s.nh+h)*s.nd+d]; u > 0 && u > s.free[h*s.nd+d] {
					return "restarts take more than is free"
				}
			}
		}
	}
	return ""
}

// Whatever is tried on random clusters, done or taken back, a state does not contradict itself; and taken back it is
// what it was.
func TestAStateDoesNotContradictItself(t *testing.T) {
	r := rand.New(rand.NewSource(8))
	emptied := 0
	for n := range 3000 {
		p := random(r)
		s := newState(compile(&p))
		for _, h := range r.Perm(s.nh) {
			at, target, mark := slices.Clone(s.at), slices.Clone(s.target), len(s.trail)
			moves, why := s.emptyAll([]int32{int32(h)}, nil)
			if says := consistent(s); says != "" {
				t.Fatalf("%d, host %d emptied (%v): %s", n, h, why == nil, says)
			}
			if why == nil {
				if says := borne(s); says != "" {
					t.Fatalf("%d, host %d emptied: %s", n, h, says)
				}
				if len(moves) > 0 {
					emptied++
				}
			}
			if why == nil && r.Intn(2) == 0 {
				s.back(int32(h))
				if says := consistent(s); says != "" {
					t.Fatalf("%d, host %d back: %s", n, h, says)
				}
				continue
			}
			s.undo(mark)
			if says := consistent(s); says != "" || !slices.Equal(at, s.at) || !slices.Equal(target, s.target) {
				t.Fatalf("%d, host %d taken back: %s", n, h, says)
			}
		}
	}
	if emptied < 100 {
		t.Errorf("only %d hosts were emptied", emptied)
	}
}
