package fit

import (
	"cmp"
	"slices"

	"yareharbour/core/estate"
)

// Order is how the hosts of a tour are put in order.
type Order struct {
	// exactly so, as far as they are to be emptied; the others after them. A host that can't go in its turn goes as
	// soon as it can
	Fixed []string
	Light bool   // lightest first, by the memory of the guests that must go, instead of by the fewest moves
	First string // goes before all others
	Last  string // goes after all others
	// Home has guests go back to their host when its visit is over, as far as there is room for them then with the
	// reserve kept; hosts are out one at a time then. Proof has one go back to First: the smallest that can.
	Home, Proof bool
	// Return are guests, by UID, that go back as with Home where the others do not.
	Return []string
	// Width is how many hosts may be out at once, those that already are not counted; a further one starts only where
	// all its guests go to hosts that need not be emptied any more. At least 1.
	Width int
}

// Tour is how the hosts of a cluster are emptied one after another, or some at once.
type Tour struct {
	Stops []Stop
	Stuck []Stuck // those that can't be emptied as things stand, whenever their turn
	Moves int     // those of guests that go back among them
	// no tour could do with fewer: every guest on a host that must be emptied moves, and those of one of them twice
	// where there is nowhere else to go
	Floor int
	Bound int    // a sharper one where hosts are unlike, or some need not be emptied; no less than Floor
	Twice []Move // the later moves of guests that move more than once
	// Spread is how far apart, in shares of the scarcest resource, 0 to 1, the fullest and the emptiest open host are
	// afterwards, the last one visited left out of account. Level is how many more moves would bring every host within
	// Evenly of the mean.
	Spread float64
	Level  int
}

// Evenly is how far above the mean share a host may be, for Tour.Level.
const Evenly = 0.05

// Stop is one host's turn.
type Stop struct {
	Host  string
	Moves []Move
	After []string // hosts whose visits must be over: guests go to them
	Back  []Move   // guests that go back to it, when its visit is over
}

// Stuck is a host that can't be emptied, and why.
type Stuck struct {
	Host   string
	Answer Answer
}

// patience is how much work a tour takes at most, in hosts looked at. It counts work and not time, for the answer must
// not depend on the machine.
const patience = 2_000_000

// Plan finds an order in which the hosts of todo are emptied, each reopened before the next where no more than one may
// be out, with few moves in all. Hosts are taken to offer what they will after their visit once they have had it.
func Plan(p Problem, todo []string, o Order) Tour {
	c := compile(&p)
	t := &tourist{c: c, o: o, todo: c.indices(todo), patience: patience}
	t.floor()
	best := t.search()
	if len(best.Stuck) > 0 { // what can't be emptied is none of what must move
		t = &tourist{c: c}
		for i := range best.Stops {
			t.todo = append(t.todo, c.indices([]string{best.Stops[i].Host})...)
		}
		t.floor()
	}
	best.Floor, best.Bound = t.least, t.bound
	return best
}

// tourist looks for a tour.
type tourist struct {
	c        *compiled
	o        Order
	todo     []int32
	least    int
	bound    int
	total    int // guests that must go, each once
	work     int
	runs     int // tours that were tried
	patience int
	less     int // only a tour with fewer moves is of use, and none that leaves a host out; 0 where any is
}

// returns tells whether guests go back when a visit is over.
func (o *Order) returns() bool { return o.Home || len(o.Return) > 0 }

// width is how many hosts are out at once.
func (o *Order) width() int {
	if o.returns() {
		return 1
	}
	return max(o.Width, 1)
}

// search runs through first hosts and rules until the bound is reached or its patience ends.
func (t *tourist) search() Tour {
	firsts := t.firsts()
	var best *run
	for _, fill := range []bool{false, true} {
		for _, wide := range []int{6, 64} {
			if wide > 6 && len(t.todo) <= 6 {
				continue
			}
			for _, f := range firsts {
				// where no host can go first, no other order helps
				if best != nil && (t.settled(best) || len(best.stops) == 0) {
					return t.told(t.improved(best))
				}
				if t.runs > 0 && t.work > t.patience {
					break
				}
				if best != nil && len(best.stuck) == 0 && f >= 0 && !t.o.returns() && !t.anywhere() &&
					t.total+t.count(f) >= best.moves {
					continue
				}
				t.runs++
				r := t.run(f, fill, wide, best != nil)
				if r == nil || best != nil && !r.better(best) || t.less > 0 && len(r.stuck) > 0 {
					continue
				}
				if best = r; len(r.stuck) == 0 && !t.o.returns() {
					t.less = r.moves
				}
			}
		}
	}
	if best == nil {
		return Tour{}
	}
	return t.told(t.improved(best))
}

// small is up to how many guests every order and placement is tried, where the quick search has not reached the bound.
const small = 12

// improved looks for a better tour by trying everything, on a cluster that is small enough.
func (t *tourist) improved(r *run) *run {
	if t.settled(r) || t.c.ng > small || len(t.todo) > 5 || t.o.width() > 1 || t.o.returns() ||
		t.firsts()[0] < 0 || t.o.Last != "" {
		return r
	}
	fewer := r.moves
	if len(r.stuck) > 0 {
		fewer = 1 << 30
	}
	if x := t.exact(fewer, 4*Effort); x != nil {
		return x
	}
	return r
}

func (t *tourist) anywhere() bool {
	return slices.ContainsFunc(t.untouched(), func(h int32) bool { return t.c.open[h] })
}

// settled tells whether no other run need be tried: where guests go home it is one in which all of them do.
func (t *tourist) settled(r *run) bool {
	if t.o.returns() {
		return len(r.stuck) == 0 && r.away == 0
	}
	return len(r.stuck) == 0 && r.moves-r.back <= t.bound
}

// firsts are the hosts that a tour is begun with, one after another: those with the fewest guests, then the largest. It
// is -1 where the order says which.
func (t *tourist) firsts() []int32 {
	if len(t.todo) == 0 || len(t.o.Fixed) > 0 || t.o.Light || t.o.First != "" {
		return []int32{-1}
	}
	out := slices.Clone(t.todo)
	last := t.c.indices([]string{t.o.Last})
	out = slices.DeleteFunc(out, func(h int32) bool { return len(out) > 1 && slices.Contains(last, h) })
	slices.SortStableFunc(out, func(a, b int32) int {
		return cmp.Or(t.count(a)-t.count(b), cmp.Compare(t.c.cap[int(b)*t.c.nd], t.c.cap[int(a)*t.c.nd]),
			cmp.Compare(t.memory(a), t.memory(b)))
	})
	return out
}

// run is one tour that was tried.
type run struct {
	stops []Stop
	stuck []Stuck
	moves int
	back  int // of the moves, those of guests that go back
	away  int // guests that were to go back, and have no room
	s     *state
	end   *Problem // the cluster as it is when no host can be emptied any more; nil where all were
}

func (r *run) better(o *run) bool {
	if len(r.stuck) != len(o.stuck) {
		return len(r.stuck) < len(o.stuck)
	}
	return cmp.Or(r.away-o.away, r.moves-o.moves) < 0
}

// run empties one host after another, the first given first. It is given up, and nil, where it can't have fewer moves
// than what is looked for, and, bounded, where patience ends.
func (t *tourist) run(first int32, fill bool, wide int, bounded bool) *run {
	s := newState(t.c)
	r := &run{s: s}
	if s == nil {
		for _, h := range t.todo {
			r.stuck = append(r.stuck, Stuck{t.c.names[h], Drain(*t.c.p, []string{t.c.names[h]}, nil, 0)})
		}
		return r
	}
	toCome := make([]bool, t.c.nh)
	for _, h := range t.todo {
		toCome[h] = true
	}
	left := slices.Clone(t.todo)
	var under []int32 // out at the same time, in the order in which they began
	fixed := t.c.indices(t.o.Fixed)
	reopen := func() {
		h := under[0]
		s.back(h)
		toCome[h] = false
		under = under[1:]
		t.home(s, r, h)
	}
	for len(left) > 0 {
		if bounded && t.work+s.work > t.patience || t.less > 0 && r.moves+s.toGo(left) >= t.less {
			t.work += s.work
			return nil
		}
		s.fill = fill
		s.prefer(toCome, nil)
		next, shifts := t.next(s, left, toCome, first, fixed, wide, len(under) > 0)
		moves := s.moves(shifts)
		switch {
		case next < 0 && len(under) > 0: // one more at once does not go
			reopen()
			continue
		case next < 0:
			if next, moves, s = t.force(r, s, left); next < 0 {
				t.work += s.work
				return r
			}
			r.s = s
		}
		stop := Stop{Host: s.names[next], Moves: moves}
		for _, m := range moves {
			if s.done[slices.Index(s.names, m.To)] && !slices.Contains(stop.After, m.To) {
				stop.After = append(stop.After, m.To)
			}
		}
		r.stops = append(r.stops, stop)
		r.moves += len(moves)
		left = slices.DeleteFunc(left, func(h int32) bool { return h == next })
		under = append(under, next)
		first = -1
		// the others wait for one that is on trial
		for len(under) > 0 && (len(under) >= t.o.width() || stop.Host == t.o.First) {
			reopen()
		}
	}
	for len(under) > 0 {
		reopen()
	}
	t.work += s.work
	return r
}

// toGo is how many guests are on the hosts and must leave them: each moves once more at least.
func (s *state) toGo(hosts []int32) (n int) {
	for _, h := range hosts {
		for _, g := range s.on[h] {
			if !s.rests[g] {
				n++
			}
		}
	}
	return n
}

// home sends guests back to a host whose visit is over: all that can go back, or one as proof.
func (t *tourist) home(s *state, r *run, h int32) {
	proof := t.o.Proof && s.names[h] == t.o.First
	if !t.o.returns() && !proof {
		return
	}
	stop := &r.stops[slices.IndexFunc(r.stops, func(x Stop) bool { return x.Host == s.names[h] })]
	var guests []int32
	for g := range int32(s.ng) {
		if slices.ContainsFunc(stop.Moves, func(m Move) bool {
			return m.UID() == s.guests[g].UID() && s.names[s.at[g]] == m.To
		}) {
			guests = append(guests, g)
		}
	}
	wanted := guests
	if !t.o.Home {
		wanted = slices.DeleteFunc(slices.Clone(guests), func(g int32) bool { return !slices.Contains(t.o.Return, s.guests[g].UID()) })
	}
	back, stay := s.sendBack(h, wanted, len(wanted))
	if proof && len(back) == 0 {
		back, _ = s.sendBack(h, guests, 1)
	}
	stop.Back = s.moves(back)
	r.moves, r.back, r.away = r.moves+len(back), r.back+len(back), r.away+len(stay)
}

// force asks of each host that is left whether it can be emptied at all as things stand now, by proof and by trying
// everything. It returns the first that can, its moves and the state in which it is empty; where there is none it
// writes down why, and returns -1.
func (t *tourist) force(r *run, s *state, left []int32) (int32, []Move, *state) {
	p := s.problem()
	c := compile(&p)
	now := newState(c)
	order := t.ordered(s, left, -1, nil)
	for _, h := range left {
		if !slices.Contains(order, h) {
			order = append(order, h)
		}
	}
	var stuck []Stuck
	for _, h := range order {
		out := []int32{h} // hosts have the same numbers in both
		if o := c.impossible(out); o != nil {
			stuck = append(stuck, Stuck{s.names[h], Answer{Outcome: DoesNotFit, Obstacle: o}})
			continue
		}
		a := now.drain(out, min(Effort/8, Effort/4/len(left)))
		if a.Outcome != Fits {
			stuck = append(stuck, Stuck{s.names[h], a})
			continue
		}
		q := p.Moved(a.Moves)
		next := newState(compile(&q))
		copy(next.done, s.done)
		next.work = s.work
		next.leave(h, true)
		return h, a.Moves, next
	}
	r.stuck, r.s, r.end = stuck, s, &p
	return -1, nil, s
}

// problem is the cluster as it stands on paper now.
func (s *state) problem() Problem {
	p := *s.p
	p.Hosts = slices.Clone(p.Hosts)
	for h := range p.Hosts {
		x := &p.Hosts[h]
		x.Guests = nil
		for _, g := range s.on[h] {
			x.Guests = append(x.Guests, *s.guests[g])
		}
		if s.done[h] && x.After != nil {
			x.Features, x.Emulator = x.After.Features, x.After.Emulator
		}
	}
	for g, h := range s.at {
		if s.runsOn[g] != s.compiled.runsOn[g] {
			i := slices.IndexFunc(p.Hosts[h].Guests, func(o estate.Guest) bool { return o.UID() == s.guests[g].UID() })
			p.Hosts[h].Guests[i].Emulator = p.Hosts[h].Emulator.Version
		}
	}
	return p
}

// Moved is the problem once guests went where they were sent, and run on the emulators of the hosts there.
func (p Problem) Moved(moves []Move) Problem {
	p.Hosts = slices.Clone(p.Hosts)
	for i := range p.Hosts {
		p.Hosts[i].Guests = slices.Clone(p.Hosts[i].Guests)
	}
	for _, m := range moves {
		from := slices.IndexFunc(p.Hosts, func(h Host) bool { return h.Name == m.From })
		to := slices.IndexFunc(p.Hosts, func(h Host) bool { return h.Name == m.To })
		g := slices.IndexFunc(p.Hosts[from].Guests, func(g estate.Guest) bool { return g.UID() == m.UID() })
		goes := p.Hosts[from].Guests[g]
		goes.Emulator = cmp.Or(p.Hosts[to].Emulator.Version, goes.Emulator)
		p.Hosts[to].Guests = append(p.Hosts[to].Guests, goes)
		p.Hosts[from].Guests = slices.Delete(p.Hosts[from].Guests, g, g+1)
	}
	return p
}

// next picks the host that goes next and empties it on paper; -1 where none can go.
func (t *tourist) next(s *state, left []int32, toCome []bool, first int32, fixed []int32, wide int,
	beside bool) (int32, []shift) {
	order := t.ordered(s, left, first, fixed)
	strict := len(fixed) > 0 || t.o.Light
	best, fewest, looked := int32(-1), 0, 0
	for _, h := range order {
		mark := len(s.trail)
		moves, why := s.emptyAll([]int32{h}, nil)
		if why != nil {
			continue
		}
		again := 0
		for _, m := range moves {
			if toCome[m.to] && m.to != h {
				again++
			}
		}
		if again == 0 || !beside && (strict || h == first || t.o.First == s.names[h]) {
			return h, moves
		}
		s.undo(mark)
		if beside {
			if strict {
				return -1, nil // whoever is next waits
			}
			continue
		}
		if best < 0 || again < fewest {
			best, fewest = h, again
		}
		if looked++; looked >= wide {
			break
		}
	}
	if best < 0 {
		return -1, nil
	}
	moves, _ := s.emptyAll([]int32{best}, nil)
	return best, moves
}

// ordered lists who may go next, the one that had better first.
func (t *tourist) ordered(s *state, left []int32, first int32, fixed []int32) []int32 {
	out := slices.Clone(left)
	slices.SortStableFunc(out, func(a, b int32) int {
		if t.o.Light {
			return cmp.Or(cmp.Compare(t.memory(a), t.memory(b)), cmp.Compare(a, b))
		}
		return cmp.Or(len(s.on[a])-len(s.on[b]), cmp.Compare(s.cap[int(b)*s.nd], s.cap[int(a)*s.nd]),
			cmp.Compare(s.free[int(b)*s.nd], s.free[int(a)*s.nd]), cmp.Compare(a, b))
	})
	place := func(h int32) int {
		switch i := slices.Index(fixed, h); {
		case h == first || s.names[h] == t.o.First:
			return -1
		case i >= 0:
			return i
		case s.names[h] == t.o.Last:
			return 2 * s.nh
		}
		return s.nh
	}
	slices.SortStableFunc(out, func(a, b int32) int { return place(a) - place(b) })
	if n := len(out); n > 1 && s.names[out[n-1]] == t.o.Last {
		return out[:n-1] // it waits for all the others
	}
	return out
}

// explained is of how many hosts that can't be emptied a way out is looked for: of the first alone where the question
// is a dear one.
func (p *Problem) explained() int {
	if p.most() < 50 {
		return 1
	}
	return 2
}

// told is what comes of a run.
func (t *tourist) told(r *run) Tour {
	out := Tour{Stops: r.stops, Stuck: r.stuck, Moves: r.moves}
	gone := map[string]bool{}
	for _, st := range r.stops {
		for _, m := range st.Moves {
			if gone[m.UID()] {
				out.Twice = append(out.Twice, m)
			}
			gone[m.UID()] = true
		}
	}
	slices.SortStableFunc(out.Stuck, func(a, b Stuck) int { // as they are shown
		return slices.Index(t.c.names, a.Host) - slices.Index(t.c.names, b.Host)
	})
	for i := range out.Stuck[:min(len(out.Stuck), t.c.p.explained())] {
		if r.end == nil {
			break
		}
		o := out.Stuck[i].Answer.Obstacle
		o.Ways, _ = WaysOut(*r.end, []string{out.Stuck[i].Host})
		o.WayOut = WayOut(o.Ways, o.WayOut)
	}
	if r.s != nil {
		out.Spread, out.Level = r.s.balance(r.stops)
		if t.o.Home {
			out.Level = 0 // they are as level as they were
		}
	}
	return out
}
