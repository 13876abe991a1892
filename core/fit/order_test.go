package fit

import (
	"fmt"
	"math/rand"
	"slices"
	"strings"
	"testing"

	"yareharbour/core/estate"
)

// rota is a cluster of five hosts alike with room for one to be out.
func rota() Problem {
	p := Problem{Terms: Terms{Reserve: 1}}
	for i, guests := range []string{"a1:4 a2:4 a3:4", "b1:2", "c1:5 c2:5", "d1:3 d2:1", "e1:6"} {
		p.Hosts = append(p.Hosts, parseHost(fmt.Sprintf("%c 30,8", 'a'+i), guests))
	}
	return p
}

func stops(t Tour) string {
	var out []string
	for _, s := range t.Stops {
		out = append(out, s.Host)
	}
	return strings.Join(out, " ")
}

func TestOrders(t *testing.T) {
	p := rota()
	for _, c := range []struct {
		name  string
		order Order
		want  string
	}{
		{"lightest first", Order{Light: true}, "b d e c a"},
		{"as somebody put them", Order{Fixed: []string{"c", "a", "b", "e", "d"}}, "c a b e d"},
		{"some by hand, the others after them", Order{Fixed: []string{"e"}}, "e b d c a"},
		{"one first", Order{First: "a", Light: true}, "a b d e c"},
		{"one last", Order{Last: "b", Light: true}, "d e c a b"},
	} {
		tour := Plan(p, everyHost(p), c.order)
		if got := stops(tour); len(tour.Stuck) > 0 ||
			c.name == "some by hand, the others after them" && !strings.HasPrefix(got, "e ") ||
			c.name != "some by hand, the others after them" && got != c.want {
			t.Errorf("%s: %q, want %q (%+v)", c.name, got, c.want, tour.Stuck)
		}
		replay(t, p, tour)
	}
	if tour := Plan(p, everyHost(p), Order{}); tour.Moves != tour.Floor || tour.Floor != 10 {
		t.Errorf("moves %d, floor %d", tour.Moves, tour.Floor)
	}
	if tour := Plan(p, nil, Order{}); tour.Moves+tour.Floor+len(tour.Stops) != 0 {
		t.Errorf("%+v", tour)
	}
}

// A host that can't go in its turn goes as soon as it can, and is no obstacle.
func TestAHostThatCantGoFirstGoesLater(t *testing.T) {
	p, _, _ := parse(t, `
		a 10: a1:9
		b 20: b1:1
		c 10: c1:6
		question keep 0 -> x`)
	p.Rules = []estate.Rule{{Keep: estate.KeptIn, Guests: []string{"a1"}, Hosts: []string{"a", "c"}}}
	tour := Plan(p, []string{"a", "c"}, Order{Fixed: []string{"a", "c"}})
	if stops(tour) != "c a" || len(tour.Stuck) > 0 {
		t.Errorf("%s, stuck %+v", stops(tour), tour.Stuck)
	}
}

// What can't be emptied at all is told of every host, and never left out in silence.
func TestNoHostIsLeftOutInSilence(t *testing.T) {
	r := rand.New(rand.NewSource(23))
	stuck := 0
	for range 600 {
		p := random(r)
		todo := everyHost(p)
		tour := Plan(p, todo, Order{Light: r.Intn(2) == 0, Width: 1 + r.Intn(2)})
		var told []string
		for _, s := range tour.Stops {
			told = append(told, s.Host)
		}
		for _, s := range tour.Stuck {
			told = append(told, s.Host)
			if s.Answer.Outcome == Fits || s.Answer.Obstacle == nil {
				t.Fatalf("%+v", s)
			}
			stuck++
		}
		if tour.Moves < tour.Bound || tour.Bound < tour.Floor {
			t.Fatalf("%d moves, bound %d, floor %d, with %d stuck", tour.Moves, tour.Bound, tour.Floor, len(tour.Stuck))
		}
		slices.Sort(told)
		if !slices.Equal(told, todo) {
			t.Fatalf("of %v it tells %v", todo, told)
		}
	}
	if stuck < 50 {
		t.Errorf("hardly one was stuck: %d", stuck)
	}
}

// Several at once: whoever is out at the same time has its guests on hosts that need not be emptied any more, and all
// of them have a certificate together.
func TestSeveralAtOnce(t *testing.T) {
	for _, c := range []struct {
		hosts int
		load  float64
		least int // hosts that are out at once somewhere in the tour
	}{{8, 0.5, 2}, {16, 0.6, 4}, {16, 0.5, 6}} {
		p := cluster(5, c.hosts, c.load, false)
		one, many := Plan(p, everyHost(p), Order{}), Plan(p, everyHost(p), Order{Width: 8})
		if len(many.Stuck) > 0 {
			t.Fatal(many.Stuck)
		}
		if many.Moves > one.Moves*102/100 {
			t.Errorf("%d hosts: several at once take %d moves, and one at a time %d", c.hosts, many.Moves, one.Moves)
		}
		at := map[string]int{}
		most := 0
		for i, s := range many.Stops { // how early it can begin, if each visit takes as long as another
			for _, a := range s.After {
				at[s.Host] = max(at[s.Host], at[a]+1)
			}
			if i > 0 {
				at[s.Host] = max(at[s.Host], at[many.Stops[0].Host])
			}
		}
		count := map[int]int{}
		for _, n := range at {
			count[n]++
			most = max(most, count[n])
		}
		if most < c.least {
			t.Errorf("%d hosts at %.2f: at most %d at once", c.hosts, c.load, most)
		}
	}
}

// A tour in which hosts are out at the same time is played through, each begun as soon as those are back to which its
// guests go and the certificate stands: nobody is sent to a host that is out, and all that are out have a certificate
// together.
func TestSeveralAtOnceStand(t *testing.T) {
	side := 0
	for _, c := range []struct {
		hosts, width int
		load         float64
		mixed        bool
	}{{8, 3, 0.5, false}, {8, 3, 0.5, true}, {16, 5, 0.6, false}, {16, 4, 0.55, true}} {
		p := cluster(9, c.hosts, c.load, c.mixed)
		tour := Plan(p, everyHost(p), Order{Width: c.width})
		var out []string
		for _, stop := range tour.Stops {
			for {
				x := compile(&p)
				s := newState(x)
				_, why := s.emptyAll(x.indices(append(slices.Clone(out), stop.Host)), planned(x, stop.Moves))
				waits := slices.ContainsFunc(stop.After, func(h string) bool { return slices.Contains(out, h) })
				if why == nil && !waits && len(out) < c.width {
					if err := Verify(after(t, p, stop.Moves), s.certificate()); err != nil {
						t.Fatalf("%d hosts: %s with %v out: %v", c.hosts, stop.Host, out, err)
					}
					break
				}
				if len(out) == 0 {
					t.Fatalf("%d hosts: %s can't go as planned though nobody else is out: %+v", c.hosts, stop.Host, why)
				}
				out = out[1:] // the first that is out comes back
			}
			for _, m := range stop.Moves {
				if slices.Contains(out, m.To) || m.To == stop.Host {
					t.Fatalf("%s goes to %s, which is out", m.Guest, m.To)
				}
			}
			p = after(t, p, stop.Moves)
			out = append(out, stop.Host)
			if len(out) > 1 {
				side++
			}
		}
	}
	if side < 15 {
		t.Errorf("hardly any two were out at once: %d", side)
	}
}

func planned(c *compiled, moves []Move) map[int32]int32 {
	want := map[int32]int32{}
	for i := range moves {
		if g, ok := c.guestAt(moves[i].UID(), moves[i].From); ok {
			want[g] = int32(slices.Index(c.names, moves[i].To))
		}
	}
	return want
}

// What a tour takes beyond its floor is explained by the rule that costs it.
func TestExcessIsExplained(t *testing.T) {
	p, _, _ := parse(t, `
		a 20 nx: a1:5/nx a2:5
		b 20: b1:5
		c 20 nx: c1:5/nx c2:5
		question keep 0 -> x`)
	tour := Plan(p, []string{"a", "b", "c"}, Order{Fixed: []string{"b", "a", "c"}})
	why := Excess(p, []string{"a", "b", "c"}, Order{Fixed: []string{"b", "a", "c"}}, tour)
	if tour.Moves <= tour.Floor {
		t.Fatalf("moves %d, floor %d", tour.Moves, tour.Floor)
	}
	if len(why) == 0 || why[0].Moves >= tour.Moves ||
		!strings.Contains(why[0].Says, "network") && !strings.Contains(why[0].Says, "order") {
		t.Errorf("%+v", why)
	}
	if len(tour.Twice) != tour.Moves-5 {
		t.Errorf("moved twice: %v", tour.Twice)
	}
	q, _, _ := parse(t, `
		a 20: a1:5
		b 20: b1:5
		c 20: c1:1
		question keep 0 -> x`)
	q.SendNone = []string{"c"}
	tour = Plan(q, []string{"a", "b"}, Order{})
	if why := Excess(q, []string{"a", "b"}, Order{}, tour); tour.Moves != 3 || tour.Floor != 2 || len(why) != 1 ||
		why[0] != (Lifted{"with guests sent to every host", 2}) {
		t.Errorf("%d moves, floor %d: %+v", tour.Moves, tour.Floor, why)
	}
	if x := Excess(rota(), []string{"a"}, Order{}, Plan(rota(), []string{"a"}, Order{})); x != nil {
		t.Errorf("what costs nothing is explained: %v", x)
	}
}

// Hosts are judged as they will be after their visit: a guest that needs what only comes with it finds room on the
// finished ones, and none goes back to an older emulator.
func TestHostsAreJudgedAsTheyWillBe(t *testing.T) {
	p, _, _ := parse(t, `
		a 20 e1 then fx e2: a1:5/e1
		b 20 e1 then fx e2: b1:5/e1
		c 20 fx e2: c1:5/fx/e2
		question keep 0 -> x`)
	tour := Plan(p, []string{"a", "b", "c"}, Order{})
	if len(tour.Stuck) > 0 {
		t.Fatal(tour.Stuck)
	}
	replay(t, p, tour)
	if tour.Stops[0].Host == "c" {
		t.Errorf("c goes first, and its guest nowhere: %+v", tour.Stops)
	}
	back := Plan(p, []string{"c"}, Order{}) // the others stay as they are
	if len(back.Stuck) != 1 || back.Stuck[0].Answer.Outcome != DoesNotFit {
		t.Errorf("%+v", back)
	}
}

// What was planned is kept to while it stands, and only while it stands.
func TestKeepingToWhatWasPlanned(t *testing.T) {
	p := rota()
	a := Drain(p, []string{"c"}, nil, Effort)
	if k := Keep(p, []string{"c"}, a.Moves); k.Outcome != Fits || len(k.Moves) != 2 {
		t.Fatalf("%+v", k)
	}
	half := after(t, p, a.Moves[:1])
	if k := Keep(half, []string{"c"}, a.Moves); k.Outcome != Fits || len(k.Moves) != 1 || k.Moves[0] != a.Moves[1] {
		t.Errorf("after the first move: %+v", k)
	}
	other := []Move{{Guest: "c1", From: "c", To: "b"}, {Guest: "c2", From: "c", To: "b"}}
	if k := Keep(p, []string{"c"}, other); k.Outcome != Fits || k.Moves[0].To != "b" {
		t.Errorf("another plan that stands: %+v", k)
	}
	full := rota()
	full.Hosts[1].Guests = append(full.Hosts[1].Guests, parseGuest("new:25"))
	if k := Keep(full, []string{"c"}, other); k.Outcome != Unproven {
		t.Errorf("its target is full: %+v", k)
	}
	came := rota()
	came.Hosts[2].Guests = append(came.Hosts[2].Guests, parseGuest("late:1"))
	if k := Keep(came, []string{"c"}, a.Moves); k.Outcome != Unproven ||
		!strings.Contains(k.Obstacle.String(), "late is on c and was not when the round was planned") {
		t.Errorf("a guest came: %+v", k.Obstacle)
	}
	gone := []Move{{Guest: "c1", From: "c", To: "z"}, {Guest: "c2", From: "c", To: "b"}}
	if k := Keep(p, []string{"c"}, gone); k.Outcome != Unproven || k.Obstacle == nil {
		t.Errorf("a target that is no host: %+v", k)
	}
	if k := Keep(p, []string{"z"}, nil); k.Outcome != DoesNotFit {
		t.Errorf("%+v", k)
	}
}

// A limit on the load holds what is sent to a host, and not what restarts there.
func TestTheLimitOnLoad(t *testing.T) {
	p, _, _ := parse(t, `
		a 10: g:4
		b 10: h:4
		c 10: i:3
		question keep 0 -> x`)
	p.Limit = 0.75
	if a := Drain(p, []string{"a"}, nil, Effort); a.Outcome != Fits || a.Moves[0].To != "c" {
		t.Errorf("%+v", a)
	}
	p.Limit = 0.65
	if a := Drain(p, []string{"a"}, nil, Effort); a.Outcome == Fits {
		t.Errorf("%+v", a)
	}
	p.Hosts[0].Guests = nil
	p.Reserve = 1
	if a := Reserve(p); a.Outcome != Fits {
		t.Errorf("%+v", a.Obstacle)
	}
}

// The effort is bounded: without it nothing is proven, and nothing permitted; what sums disprove needs none.
func TestTooHardIsUnproven(t *testing.T) {
	p := Problem{Hosts: []Host{{Name: "a", Open: true}}}
	for i := range 12 {
		p.Hosts[0].Capacity.MemoryMiB += 90
		p.Hosts = append(p.Hosts,
			Host{Name: fmt.Sprint("h", i), Open: true,
				Capacity: estate.Resources{MemoryMiB: 100, CPU: int64(1000 + i)}})
	}
	for i := range 24 { // in sum there is room, but three never fit together and two leave a gap that nothing fills
		p.Hosts[0].Guests = append(p.Hosts[0].Guests,
			estate.Guest{Name: fmt.Sprint("g", i), Load: estate.Resources{MemoryMiB: 35 + int64(i%3)}})
	}
	p.Hosts[0].Guests = append(p.Hosts[0].Guests, estate.Guest{Name: "last", Load: estate.Resources{MemoryMiB: 34}})
	if a := Drain(p, []string{"a"}, nil, Effort); a.Outcome != Unproven || a.Obstacle == nil || a.Obstacle.Guest == "" {
		t.Errorf("%v %v", a.Outcome, a.Obstacle)
	}
	p.Hosts[0].Guests = append(p.Hosts[0].Guests, estate.Guest{Name: "more", Load: estate.Resources{MemoryMiB: 3400}})
	if a := Drain(p, []string{"a"}, nil, 0); a.Outcome != DoesNotFit {
		t.Error(a.Outcome)
	}
}

func TestGiB(t *testing.T) {
	for mib, want := range map[int64]string{0: "0 GiB", 1: "1 MiB", 48: "48 MiB", 99: "99 MiB", 103: "0.1 GiB",
		1024: "1 GiB", 1536: "1.5 GiB", 512: "0.5 GiB", 102400: "100 GiB", 102401: "100 GiB", 102399: "100.0 GiB",
		103000: "101 GiB", 102912: "101 GiB"} {
		if got := GiB(mib); got != want {
			t.Errorf("%d MiB: %q, want %q", mib, got, want)
		}
	}
}

func TestChoices(t *testing.T) {
	for _, c := range []struct {
		n, k int
		want string
	}{{3, 2, "[[0 1] [0 2] [1 2]]"}, {3, 1, "[[0] [1] [2]]"}, {2, 5, "[[0 1]]"}, {3, 0, "[]"},
		{0, 2, "[]"}, {3, -1, "[]"}} {
		if got := fmt.Sprint(choices(c.n, c.k)); got != c.want {
			t.Errorf("%d of %d: %s, want %s", c.k, c.n, got, c.want)
		}
	}
}

// A forged certificate is found out.
func TestVerifyFindsWhatIsWrong(t *testing.T) {
	p := rota()
	c := compile(&p)
	s := newState(c)
	good := s.certificate()
	if err := Verify(p, good); err != nil {
		t.Fatal(err)
	}
	forge := func(change func(*Certificate, *Problem)) error {
		q := after(t, p, nil)
		x := s.certificate()
		change(&x, &q)
		return Verify(q, x)
	}
	for name, change := range map[string]func(*Certificate, *Problem){
		"a loss is missing": func(c *Certificate, _ *Problem) { c.Losses = c.Losses[1:] },
		"nowhere":           func(c *Certificate, _ *Problem) { delete(c.Losses[0].Restarts, "a1") },
		"on the lost host":  func(c *Certificate, _ *Problem) { c.Losses[0].Restarts["a1"] = "a" },
		"on no host":        func(c *Certificate, _ *Problem) { c.Losses[0].Restarts["a1"] = "z" },
		"a closed host": func(c *Certificate, p *Problem) {
			p.Hosts[slices.Index(everyHost(*p), c.Losses[0].Restarts["a1"])].Open = false
		},
		"a network is missing": func(_ *Certificate, p *Problem) { p.Hosts[0].Guests[0].Networks = []string{"x"} },
		"too full":             func(_ *Certificate, p *Problem) { p.Hosts[0].Guests[0].Load = parseAmount("29") },
		"too many cores":       func(_ *Certificate, p *Problem) { p.Hosts[0].Guests[0].Load = parseAmount("1,9") },
		"not counted": func(_ *Certificate, p *Problem) {
			p.Hosts[0].Guests[0].Takes = map[string]int{"vf": 1}
		},
		"a host out is not empty": func(c *Certificate, _ *Problem) { c.Out = []string{"a"} },
		"against a rule": func(c *Certificate, p *Problem) {
			p.Rules = []estate.Rule{{Keep: estate.KeptIn, Guests: []string{"a1"}, Hosts: []string{"a"}}}
		},
		"apart": func(c *Certificate, p *Problem) {
			c.Losses[0].Restarts["a1"] = "b"
			p.Rules = []estate.Rule{{Keep: estate.Apart, Guests: []string{"a1", "b1"}}}
		},
		"a name that is taken": func(c *Certificate, p *Problem) {
			n := slices.Index(everyHost(*p), c.Losses[0].Restarts["a1"])
			p.Hosts[0].Guests[0].ID = "a1"
			p.Hosts[n].Off = []estate.Guest{{Name: p.Hosts[0].Guests[0].Name, ID: "another"}}
		},
	} {
		if forge(change) == nil {
			t.Errorf("%s: it is taken for good", name)
		}
	}
}
