package fit

import (
	"cmp"
	"slices"

	"yareharbour/core/estate"
)

// balance tells how level the hosts are at the end, and what making them so would cost.
func (s *state) balance(stops []Stop) (spread float64, moves int) {
	share := func(h int32) float64 {
		most := 0.0
		for d := range s.nd {
			if i := int(h)*s.nd + d; s.cap[i] > 0 {
				most = max(most, 1-float64(s.free[i])*s.inv[i])
			}
		}
		return most
	}
	last := int32(-1)
	if len(stops) > 0 {
		last = int32(slices.Index(s.names, stops[len(stops)-1].Host))
	}
	low, high, sum, n := 2.0, 0.0, 0.0, 0
	for h := range int32(s.nh) {
		if !s.sent[h] {
			continue
		}
		x := share(h)
		sum, n = sum+x, n+1
		if h != last {
			low, high = min(low, x), max(high, x)
		}
	}
	if n < 2 || last < 0 || !s.takes[last] {
		return max(high-low, 0), 0
	}
	limit := sum/float64(n) + Evenly
	for h := range int32(s.nh) {
		if h == last || !s.sent[h] {
			continue
		}
		guests := slices.Clone(s.on[h])
		slices.SortStableFunc(guests, func(a, b int32) int { return cmp.Compare(s.size[b], s.size[a]) })
		for _, g := range guests {
			if share(h) <= limit {
				break
			}
			if s.movable[g] && s.accepts(g, last) && s.place(g, last) {
				moves++
			}
		}
	}
	return max(high-low, 0), moves
}

// Lifted is a rule without which a tour takes fewer moves.
type Lifted struct {
	Says  string // what was lifted
	Moves int    // what a tour takes then
}

// Excess explains what a tour takes beyond its floor: it plans again with one kind of rule lifted after another, and
// returns those that bring it nearer, the nearest first.
func Excess(p Problem, todo []string, o Order, t Tour) (out []Lifted) {
	if t.Moves <= t.Floor || len(t.Stuck) > 0 || o.Home {
		return nil
	}
	try := func(says string, q Problem, o Order) {
		c := compile(&q)
		x := &tourist{c: c, o: o, todo: c.indices(todo), less: t.Moves, patience: patience / 4}
		if x.floor(); x.bound < t.Moves {
			if tour := x.search(); len(tour.Stops) > 0 {
				out = append(out, Lifted{says, tour.Moves})
			}
		}
	}
	if networks := p.without(func(g *estate.Guest) {
		g.Networks = nil
	}); slices.ContainsFunc(p.Hosts, func(h Host) bool { return len(h.Networks) > 0 }) {
		try("if every host had every network", networks, o)
	}
	if slices.ContainsFunc(p.Hosts, func(h Host) bool { return len(h.Storages) > 0 }) {
		try("if every host had every storage", p.without(func(g *estate.Guest) { g.Storages = nil }), o)
	}
	if slices.ContainsFunc(p.Hosts, func(h Host) bool { return len(h.Features) > 0 }) {
		try("if every host had every feature", p.without(func(g *estate.Guest) { g.Features = nil }), o)
	}
	if len(p.Rules) > 0 {
		q := p
		q.Rules = nil
		try("without the rules that keep guests apart, together, or on certain hosts", q, o)
	}
	if len(p.SendNone) > 0 {
		q := p
		q.SendNone = nil
		try("with guests sent to every host", q, o)
	}
	if p.Reserve > 0 {
		q := p
		q.Reserve--
		try("with one host less in reserve", q, o)
	}
	if len(o.Fixed) > 0 || o.Light || o.First != "" || o.Last != "" {
		try("in another order", p, Order{Width: o.Width, Proof: o.Proof})
	}
	slices.SortStableFunc(out, func(a, b Lifted) int { return a.Moves - b.Moves })
	return out
}

// without returns the problem with something taken from each guest.
func (p Problem) without(change func(*estate.Guest)) Problem {
	p.Hosts = slices.Clone(p.Hosts)
	for i := range p.Hosts {
		p.Hosts[i].Guests = slices.Clone(p.Hosts[i].Guests)
		for j := range p.Hosts[i].Guests {
			change(&p.Hosts[i].Guests[j])
		}
	}
	return p
}
