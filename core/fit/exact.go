package fit

import (
	"cmp"
	"slices"
)

// exact answers a drain by trying everything, largest guests first, until its effort is spent. why is where the quick
// search gave up: what is said where this one does not come to an end either.
func (s *state) exact(outs []int32, effort int, why *reason) Answer {
	c := s.compiled
	e := c.exhaust(effort)
	e.outs = outs
	going := e.guestsOf(outs)
	if e.drain(going, e.keeps) {
		var all []shift
		for _, g := range going {
			all = append(all, shift{g, c.at[g], e.at[g]})
		}
		return Answer{Outcome: Fits, Moves: c.moves(all)}
	}
	if e.effort > 0 {
		o := e.refused
		if o == nil {
			o = why
		}
		return Answer{Outcome: DoesNotFit, Obstacle: o.obstacle(s)}
	}
	return Answer{Outcome: Unproven, Obstacle: why.obstacle(s)}
}

// exhaust is a search of everything.
type exhaust struct {
	*compiled
	effort  int
	outs    []int32
	at      []int32
	runsOn  []int32
	done    []bool
	free    []int64
	refused *reason            // why the last whole placement did not keep the reserve
	note    func(lost []int32) // is told of each loss whose guests find restarts, while they are where they would be
}

func (c *compiled) exhaust(effort int) *exhaust {
	e := &exhaust{compiled: c, effort: effort, at: slices.Clone(c.at), runsOn: slices.Clone(c.runsOn),
		free: slices.Clone(c.cap), done: make([]bool, c.nh)}
	for g, h := range c.at {
		e.take(int32(g), h)
	}
	return e
}

// guestsOf are the guests of the hosts, the largest first.
func (e *exhaust) guestsOf(hosts []int32) (out []int32) {
	for g, h := range e.at {
		if slices.Contains(hosts, h) && !e.rests[g] {
			out = append(out, int32(g))
		}
	}
	slices.SortStableFunc(out, func(a, b int32) int { return cmp.Compare(e.size[b], e.size[a]) })
	return out
}

// offers tells whether the host may run the guest, as it is at this stage.
func (e *exhaust) offers(g, h int32) bool {
	i := int(e.class[g])*e.nh + int(h)
	if e.done[h] {
		return e.later[i]
	}
	return e.may[i]
}

func (e *exhaust) rank(h int32) int32 {
	if e.done[h] {
		return e.emuLater[h]
	}
	return e.emulator[h]
}

func (e *exhaust) take(g, h int32) {
	for d := range e.nd {
		e.free[int(h)*e.nd+d] -= e.load[int(g)*e.nd+d]
	}
}

func (e *exhaust) give(g, h int32) {
	for d := range e.nd {
		e.free[int(h)*e.nd+d] += e.load[int(g)*e.nd+d]
	}
}

// room tells whether the guest fits; of a live move no more of the host is used than the limit allows.
func (e *exhaust) roomOn(g, h int32, live bool) bool {
	a, b := int(g)*e.nd, int(h)*e.nd
	for d := range e.nd {
		kept := int64(0)
		if live {
			kept = e.cap[b+d] - e.room[b+d]
		}
		if x := e.load[a+d]; x > 0 && x > e.free[b+d]-kept {
			return false
		}
	}
	return true
}

func (e *exhaust) crowds(g, h int32) bool {
	for _, n := range e.apart[g] {
		if slices.ContainsFunc(e.groups[n].members, func(m int32) bool { return m != g && e.at[m] == h }) {
			return true
		}
	}
	return false
}

// joins tells whether the host is where each of the guest's groups is, as far as that is settled.
func (e *exhaust) joins(g, h int32) bool {
	for _, n := range e.together[g] {
		settled, there := false, false
		for _, m := range e.groups[n].members {
			if m != g && !slices.Contains(e.outs, e.at[m]) {
				settled, there = true, there || e.at[m] == h
			}
		}
		if settled && !there {
			return false
		}
	}
	return true
}

// drain tries every placement of the guests, until then says that one will do.
func (e *exhaust) drain(going []int32, then func() bool) bool {
	if len(going) == 0 {
		return then()
	}
	g, from := going[0], e.at[going[0]]
	var tried []int32
	for h := range int32(e.nh) {
		if !e.sent[h] || slices.Contains(e.outs, h) || !e.offers(g, h) || !e.roomOn(g, h, true) ||
			e.crowds(g, h) || !e.joins(g, h) ||
			!e.cold[g] && e.runsOn[g] > 0 && e.rank(h) > 0 && e.rank(h) < e.runsOn[g] ||
			slices.ContainsFunc(tried, func(o int32) bool { return e.alike(o, h) }) {
			continue
		}
		tried = append(tried, h)
		if e.effort--; e.effort <= 0 {
			return false
		}
		ran := e.runsOn[g]
		e.give(g, from)
		e.take(g, h)
		if e.at[g] = h; e.cold[g] {
			e.runsOn[g] = e.rank(h)
		} else {
			e.runsOn[g] = max(ran, e.rank(h))
		}
		if e.drain(going[1:], then) {
			return true
		}
		e.at[g], e.runsOn[g] = from, ran
		e.give(g, h)
		e.take(g, from)
	}
	return false
}

// alike tells whether two hosts are the same to any guest: empty, as large, and taking the same. What fails on one
// fails on the other.
func (e *exhaust) alike(a, b int32) bool {
	if slices.Contains(e.at, a) || slices.Contains(e.at, b) || e.emulator[a] != e.emulator[b] ||
		e.done[a] != e.done[b] || e.done[a] {
		return false
	}
	for d := range e.nd {
		if e.cap[int(a)*e.nd+d] != e.cap[int(b)*e.nd+d] {
			return false
		}
	}
	for n := range e.wants {
		if e.may[n*e.nh+int(a)] != e.may[n*e.nh+int(b)] {
			return false
		}
	}
	return true
}

// keeps tells whether the guests of every loss can be restarted.
func (e *exhaust) keeps() bool {
	others := 0
	for h := range int32(e.nh) {
		if !slices.Contains(e.outs, h) {
			others++
		}
	}
	for _, lost := range e.losses {
		if others > e.p.Reserve && slices.ContainsFunc(lost, func(h int32) bool { return slices.Contains(e.outs, h) }) {
			continue
		}
		var going []int32
		for g, h := range e.at {
			if slices.Contains(lost, h) && e.restarts[g] && !(e.rests[g] && slices.Contains(e.outs, h)) {
				going = append(going, int32(g))
			}
		}
		slices.SortStableFunc(going, func(a, b int32) int { return cmp.Compare(e.size[b], e.size[a]) })
		if !e.restart(going, lost) {
			if e.effort > 0 {
				e.refused = &reason{guest: going[0], loss: e.lossOf(lost),
					report: "has no place, wherever the others go"}
			}
			return false
		}
	}
	return true
}

func (e *exhaust) lossOf(hosts []int32) int32 {
	return int32(slices.IndexFunc(e.losses, func(l []int32) bool { return slices.Equal(l, hosts) }))
}

func (e *exhaust) restart(going, lost []int32) bool {
	if len(going) == 0 {
		if e.note != nil {
			e.note(lost)
		}
		return true
	}
	g, from := going[0], e.at[going[0]]
	var tried []int32
	for h := range int32(e.nh) {
		if !e.open[h] || slices.Contains(e.outs, h) || slices.Contains(lost, h) || !e.offers(g, h) ||
			!e.roomOn(g, h, false) || e.crowds(g, h) ||
			slices.ContainsFunc(tried, func(o int32) bool { return e.alike(o, h) }) {
			continue
		}
		tried = append(tried, h)
		if e.effort--; e.effort <= 0 {
			return false
		}
		e.take(g, h)
		e.at[g] = h
		ok := e.restart(going[1:], lost)
		e.at[g] = from
		e.give(g, h)
		if ok {
			return true
		}
	}
	return false
}

// tour tries every order and placement, for a cluster that is small enough, and returns one with fewer moves than the
// given number; nil where there is none, or the effort does not suffice to tell.
func (t *tourist) exact(fewer, effort int) *run {
	e := t.c.exhaust(effort)
	var best *run
	var stops []Stop
	var rec func(left []int32, moves int)
	rec = func(left []int32, moves int) {
		least := moves
		for g, h := range e.at {
			if slices.Contains(left, h) && !e.rests[g] {
				least++
			}
		}
		if least >= fewer || e.effort <= 0 {
			return
		}
		if len(left) == 0 {
			fewer = moves
			best = &run{stops: slices.Clone(stops), moves: moves}
			return
		}
		for i, h := range left {
			e.outs = []int32{h}
			going := e.guestsOf(e.outs)
			if slices.ContainsFunc(going, func(g int32) bool { return !e.movable[g] || e.anchored(g, e.at) >= 0 }) {
				continue
			}
			e.drain(going, func() bool {
				if !e.keeps() {
					return false
				}
				stop := Stop{Host: e.names[h]}
				for _, g := range going {
					stop.Moves = append(stop.Moves, e.moves([]shift{{g, h, e.at[g]}})...)
					if to := e.names[e.at[g]]; e.done[e.at[g]] && !slices.Contains(stop.After, to) {
						stop.After = append(stop.After, to)
					}
				}
				stops = append(stops, stop)
				e.outs, e.done[h] = nil, true
				rec(slices.Delete(slices.Clone(left), i, i+1), moves+len(going))
				e.outs, e.done[h] = []int32{h}, false
				stops = stops[:len(stops)-1]
				return e.effort <= 0
			})
		}
	}
	rec(t.todo, 0)
	return best
}
