package fit

import (
	"fmt"
	"math/rand"
	"slices"
	"strconv"
	"testing"

	"yareharbour/core/estate"
)

// after is the problem once moves were made.
func after(t *testing.T, p Problem, moves []Move) Problem {
	t.Helper()
	p.Hosts = slices.Clone(p.Hosts)
	for i := range p.Hosts {
		p.Hosts[i].Guests = slices.Clone(p.Hosts[i].Guests)
	}
	for _, m := range moves {
		from := slices.IndexFunc(p.Hosts, func(h Host) bool { return h.Name == m.From })
		to := slices.IndexFunc(p.Hosts, func(h Host) bool { return h.Name == m.To })
		g := slices.IndexFunc(p.Hosts[from].Guests, func(g estate.Guest) bool { return g.UID() == m.UID() })
		if from < 0 || to < 0 || g < 0 || !p.Hosts[to].Open {
			t.Fatalf("a move that can't be: %+v", m)
		}
		p.Hosts[to].Guests = append(p.Hosts[to].Guests, p.Hosts[from].Guests[g])
		p.Hosts[from].Guests = slices.Delete(p.Hosts[from].Guests, g, g+1)
	}
	return p
}

// stands fails unless the moves empty the hosts, exceed nobody's room at any moment, and leave a certificate that
// holds, by the check that shares nothing with the search.
func stands(t *testing.T, p Problem, out []string, moves []Move) {
	t.Helper()
	for n := 1; n <= len(moves); n++ {
		q := after(t, p, moves[:n])
		for i := range q.Hosts {
			h := &q.Hosts[i]
			if h.Name == moves[n-1].To {
				if f := h.free(); f.MemoryMiB < 0 || f.CPU < 0 {
					t.Fatalf("after %d moves %s is too full: %+v", n, h.Name, f)
				}
			}
		}
	}
	if err := Certified(p, out, moves); err != nil {
		t.Fatalf("the placement does not stand: %v", err)
	}
}

// Every answer is held against one that tries everything.
func TestAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewSource(3))
	counts := map[Outcome]int{}
	for n := range 3000 {
		p := random(r)
		out := []string{"h0"}
		if n%5 == 0 {
			out = append(out, "h1")
		}
		a := Drain(p, out, nil, Effort)
		counts[a.Outcome]++
		want := bruteDrain(p, out)
		if a.Outcome == Unproven || (a.Outcome == Fits) != want {
			t.Fatalf("case %d, keep %d: got %v %v, brute force says %v\n%+v", n, p.Reserve,
				a.Outcome, a.Obstacle, want, p)
		}
		if a.Outcome == Fits {
			if err := Certified(p, out, a.Moves); err != nil {
				t.Fatalf("case %d: what was found is not certified: %v\n%+v", n, err, p)
			}
			if len(a.Moves) > 0 {
				q := p
				q.SendNone = []string{a.Moves[0].To}
				if Certified(q, out, a.Moves) == nil {
					t.Fatalf("case %d: it is certified that %s goes to %s, which is sent none", n, a.Moves[0].Guest, a.Moves[0].To)
				}
			}
			if q := after(t, p, a.Moves); !bruteReserve(q, out) {
				t.Fatalf("case %d: the placement given as proof does not stand: %v", n, a.Moves)
			}
			if kept := Keep(p, out, a.Moves); kept.Outcome != Fits && len(p.Rules) == 0 {
				t.Logf("case %d: the quick search does not find its own again: %s", n, kept.Obstacle)
			}
		}
	}
	if counts[Fits] < 300 || counts[DoesNotFit] < 300 {
		t.Errorf("too one-sided to prove anything: %v", counts)
	}
}

func random(r *rand.Rand) Problem {
	p := Problem{Terms: Terms{Reserve: r.Intn(3)}, Hosts: make([]Host, 3+r.Intn(2))}
	if r.Intn(4) == 0 {
		p.SendNone = []string{"h" + strconv.Itoa(r.Intn(len(p.Hosts)))}
	}
	n := 0
	for i := range p.Hosts {
		h := &p.Hosts[i]
		*h = Host{Name: "h" + strconv.Itoa(i), Open: r.Intn(8) > 0, Networks: []string{"n0"},
			Capacity: estate.Resources{MemoryMiB: int64(6 + r.Intn(6)), CPU: int64(6 + r.Intn(6))},
			Counts:   map[string]int{"vf": r.Intn(3)}, Emulator: Emulator{"deb:e", strconv.Itoa(1 + r.Intn(2))}}
		for range r.Intn(3) {
			n++
			g := estate.Guest{ID: "id" + strconv.Itoa(n), Name: "g" + strconv.Itoa(n), State: estate.Running,
				Load: estate.Resources{MemoryMiB: int64(1 + r.Intn(3)), CPU: int64(1 + r.Intn(3))}}
			if r.Intn(10) == 0 {
				g.Networks = []string{"n1"}
			}
			if r.Intn(8) == 0 {
				g.Takes = map[string]int{"vf": 1}
			}
			if r.Intn(14) == 0 {
				g.Devices = []string{"d"}
			}
			if r.Intn(6) == 0 {
				g.Emulator = h.Emulator.Version
			}
			if r.Intn(5) == 0 && !slices.ContainsFunc(h.Guests, func(g estate.Guest) bool { return g.Name == "twin" }) {
				g.Name = "twin"
			}
			h.Guests = append(h.Guests, g)
		}
		if r.Intn(6) == 0 && !slices.ContainsFunc(h.Guests, func(g estate.Guest) bool { return g.Name == "twin" }) {
			h.Off = []estate.Guest{{ID: "off" + strconv.Itoa(i), Name: "twin", State: estate.Off}}
		}
		if r.Intn(2) == 0 {
			h.Networks = append(h.Networks, "n1")
		}
	}
	if r.Intn(3) == 0 {
		p.Rest = map[string]bool{"id1": true, "id4": r.Intn(2) == 0}
	}
	switch r.Intn(4) {
	case 0:
		p.Rules = []estate.Rule{{Keep: estate.Apart, Guests: []string{"g1", "g3", "g4"}}}
	case 1:
		p.Rules = []estate.Rule{{Keep: estate.KeptOut, Guests: []string{"g1", "g2"}, Hosts: []string{"h1"}}}
	case 2:
		p.Rules = []estate.Rule{{Keep: estate.Together, Guests: []string{"g1", "g2"}}}
		if r.Intn(2) == 0 { // a guest in two of them
			p.Rules = append(p.Rules, estate.Rule{Keep: estate.Together, Guests: []string{"g2", "g3"}})
		}
	}
	return p
}

// bruteDrain tries every placement.
func bruteDrain(p Problem, out []string) bool {
	hosts := slices.Clone(p.Hosts)
	var guests []estate.Guest
	for i := range hosts {
		hosts[i].Guests = slices.Clone(hosts[i].Guests)
		if slices.Contains(out, hosts[i].Name) {
			rest, leave := atRest(&p, hosts[i].Guests)
			if guests = append(guests, leave...); parted(&p, rest, leave) {
				return false
			}
			hosts[i].Guests, hosts[i].Open = nil, false
		}
	}
	for i := range guests {
		if len(guests[i].Devices) > 0 {
			return false
		}
	}
	p.Hosts = hosts
	return brutePlace(&p, guests, true, func() bool { return together(&p, guests) && bruteReserve(p, out) })
}

// atRest are the guests of a host that come to rest there when it is emptied, and those that go.
func atRest(p *Problem, all []estate.Guest) (rest, going []estate.Guest) {
	for _, g := range all {
		if p.Rest[g.UID()] {
			rest = append(rest, g)
		} else {
			going = append(going, g)
		}
	}
	return rest, going
}

// parted tells whether a guest would leave behind one at rest that a rule keeps it with.
func parted(p *Problem, rest, going []estate.Guest) bool {
	for i := range p.Rules {
		for j := range rest {
			for k := range going {
				if rule := &p.Rules[i]; rule.Keep == estate.Together && rule.Means(&rest[j]) && rule.Means(&going[k]) {
					return true
				}
			}
		}
	}
	return false
}

// together tells whether no rule about sharing a host is broken for the guests that moved.
func together(p *Problem, moved []estate.Guest) bool {
	for r := range p.Rules {
		rule := &p.Rules[r]
		if rule.Keep != estate.Together {
			continue
		}
		at := map[string]string{}
		for i := range p.Hosts {
			for j := range p.Hosts[i].Guests {
				if g := &p.Hosts[i].Guests[j]; rule.Means(g) {
					at[g.UID()] = p.Hosts[i].Name
				}
			}
		}
		for i := range moved {
			for j := range p.Hosts {
				for k := range p.Hosts[j].Guests {
					if o := &p.Hosts[j].Guests[k]; rule.Means(&moved[i]) && rule.Means(o) &&
						at[o.UID()] != at[moved[i].UID()] {
						return false
					}
				}
			}
		}
	}
	return true
}

func bruteReserve(p Problem, out []string) bool {
	for mask := range 1 << len(p.Hosts) {
		var lost []estate.Guest
		q := p
		q.Hosts = nil
		n, others := 0, 0
		bad := false
		for i := range p.Hosts {
			h := p.Hosts[i]
			isOut := slices.Contains(out, h.Name)
			if !isOut {
				others++
			}
			switch {
			case mask>>i&1 == 1 && isOut:
				bad = true
			case mask>>i&1 == 1:
				n++
				for _, g := range h.Guests {
					if len(g.Devices) == 0 {
						lost = append(lost, g)
					}
				}
			default:
				h.Guests = slices.Clone(h.Guests)
				h.Open = h.Open && !isOut
				q.Hosts = append(q.Hosts, h)
			}
		}
		if !bad && n == min(p.Reserve, others) && n > 0 && !brutePlace(&q, lost, false, func() bool { return true }) {
			return false
		}
	}
	return true
}

func brutePlace(p *Problem, guests []estate.Guest, live bool, then func() bool) bool {
	if len(guests) == 0 {
		return then()
	}
	g := guests[0]
	for i := range p.Hosts {
		h := &p.Hosts[i]
		if !bruteTakes(p, h, &g, live) {
			continue
		}
		x := g
		if live {
			x.Emulator = max(x.Emulator, h.Emulator.Version) // it runs on that from now on
		}
		h.Guests = append(h.Guests, x)
		ok := brutePlace(p, guests[1:], live, then)
		h.Guests = h.Guests[:len(h.Guests)-1]
		if ok {
			return true
		}
	}
	return false
}

func bruteTakes(p *Problem, h *Host, g *estate.Guest, live bool) bool {
	if !h.Open || live && slices.Contains(p.SendNone, h.Name) || !g.Load.Within(h.free()) {
		return false
	}
	for _, n := range g.Networks {
		if !slices.Contains(h.Networks, n) {
			return false
		}
	}
	for k, n := range g.Takes {
		for i := range h.Guests {
			n += h.Guests[i].Takes[k]
		}
		if n > h.Counts[k] {
			return false
		}
	}
	for _, o := range slices.Concat(h.Guests, h.Off) {
		if o.Name == g.Name && o.ID != g.ID {
			return false
		}
	}
	if live && g.Emulator != "" && h.Emulator.Version < g.Emulator {
		return false
	}
	for r := range p.Rules {
		rule := &p.Rules[r]
		if !rule.Means(g) {
			continue
		}
		if rule.Keep == estate.KeptOut && slices.Contains(rule.Hosts, h.Name) ||
			rule.Keep == estate.Apart &&
				slices.ContainsFunc(h.Guests, func(o estate.Guest) bool { return rule.Means(&o) }) {
			return false
		}
	}
	return true
}

func TestHeadroom(t *testing.T) {
	p, _, _ := parse(t, `
		a 10: g:4
		b 16: h:10
		c 10: i:2
		drain a keep 1 -> fits`)
	s := Headroom(p.Hosts, 1)
	if s.Lost[0] != "b" || s.Room.MemoryMiB != (6+8-10)*1024 {
		t.Errorf("%+v", s)
	}
	if s := Headroom(p.Hosts, 0); s.Room.MemoryMiB != 20*1024 {
		t.Errorf("%+v", s)
	}
	if all := Spares(p.Hosts, 1); len(all) != 3 || all[0].Lost[0] != "a" || all[0].Room.MemoryMiB != (6+8-4)*1024 {
		t.Errorf("%+v", all)
	}
}

func BenchmarkDrain(b *testing.B) {
	for _, hosts := range []int{8, 32, 64} {
		for k := 1; k <= 2; k++ {
			b.Run(fmt.Sprintf("%d hosts, reserve %d", hosts, k), func(b *testing.B) {
				p := cluster(1, hosts, 0.6, false)
				p.Reserve = k
				for b.Loop() {
					if a := Drain(p, []string{"h00"}, nil, Effort); a.Outcome != Fits {
						b.Fatal(a.Obstacle)
					}
				}
			})
		}
	}
}
