package fit

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// reason is where a search gave up.
type reason struct {
	guest  int32 // that found no place; -1
	loss   int32 // in which restarts have no place; -1
	report string
}

// tries is how often a drain is tried with another guest at the head of the queue.
const tries = 6

// emptyAll takes the hosts out and sends their guests to others, to the hosts that want names where it does. Where that
// is not found all is as it was.
func (s *state) emptyAll(outs []int32, want map[int32]int32) ([]shift, *reason) {
	mark := len(s.trail)
	for _, h := range outs {
		if l := s.leave(h, false); l >= 0 {
			why := s.whyBroken(l)
			s.undo(mark)
			return nil, why
		}
	}
	if len(outs) == 0 { // the reserve alone is asked for
		for l := range int32(len(s.losses)) {
			if unplaced := s.unplaced(l, nil); len(unplaced) > 0 && !s.mend(l, unplaced) {
				return nil, s.whyBroken(l)
			}
		}
	}
	var all []shift
	for _, h := range outs {
		moves, why := s.empty(h, want)
		if why != nil {
			s.undo(mark)
			return nil, why
		}
		all = append(all, moves...)
	}
	return all, nil
}

func (s *state) whyBroken(l int32) *reason {
	unplaced := s.unplaced(l, nil)
	slices.SortStableFunc(unplaced, func(a, b int32) int { return cmp.Compare(s.size[b], s.size[a]) })
	r := &reason{guest: -1, loss: l}
	if len(unplaced) > 0 {
		r.guest = unplaced[0]
		r.report = s.turnedAway(unplaced[0], l)
	}
	return r
}

// units are guests that go together, each of them in the order in which they are tried: those that few hosts may take
// first, then the largest.
func (s *state) units(h int32) (out [][]int32) {
	narrow := map[int32]int{}
	seen := map[int32]int{}
	for _, g := range s.on[h] {
		if s.rests[g] {
			continue
		}
		if _, ok := narrow[s.class[g]]; !ok {
			n := 0
			for o := range int32(s.nh) {
				if s.takes[o] && s.runs(g, o) {
					n++
				}
			}
			narrow[s.class[g]] = n
		}
		at := len(out)
		for _, n := range s.together[g] { // who shares a group, or one with somebody who does, goes along
			if i, ok := seen[n]; ok && i != at && at == len(out) {
				at = i
			} else if ok && i != at {
				out[at] = append(out[at], out[i]...)
				out[i] = nil
				for k, v := range seen {
					if v == i {
						seen[k] = at
					}
				}
			}
		}
		if at == len(out) {
			out = append(out, nil)
		}
		out[at] = append(out[at], g)
		for _, n := range s.together[g] {
			seen[n] = at
		}
	}
	out = slices.DeleteFunc(out, func(u []int32) bool { return len(u) == 0 })
	least := func(u []int32) int {
		n := s.nh
		for _, g := range u {
			n = min(n, narrow[s.class[g]])
		}
		return n
	}
	size := func(u []int32) (sum float64) {
		for _, g := range u {
			sum += s.size[g]
		}
		return sum
	}
	slices.SortStableFunc(out, func(a, b []int32) int {
		return cmp.Or(cmp.Compare(least(a), least(b)), cmp.Compare(size(b), size(a)), cmp.Compare(a[0], b[0]))
	})
	return out
}

// empty sends the guests of a host that is out elsewhere.
func (s *state) empty(h int32, want map[int32]int32) ([]shift, *reason) {
	for _, g := range s.on[h] {
		if !s.movable[g] && !s.rests[g] {
			return nil, &reason{guest: g, loss: -1, report: "can't be migrated"}
		}
		if m := s.anchored(g, s.at); m >= 0 && !s.rests[g] {
			return nil, &reason{guest: g, loss: -1,
				report: "is kept together with " + s.guests[m].Name + ", which comes to rest here"}
		}
	}
	queue := s.units(h)
	var why *reason
	for range tries {
		mark := len(s.trail)
		stuck := -1
		var moves []shift
		for i, unit := range queue {
			to, ok := s.settle(unit, want)
			if !ok {
				stuck = i
				break
			}
			for _, g := range unit {
				moves = append(moves, shift{g, h, to})
			}
		}
		if stuck < 0 {
			return moves, nil
		}
		if why == nil {
			g := queue[stuck][0]
			why = &reason{guest: g, loss: -1, report: s.turnedAway(g, -1)}
		}
		s.undo(mark)
		if stuck == 0 {
			break
		}
		u := queue[stuck]
		queue = slices.Insert(slices.Delete(queue, stuck, stuck+1), 0, u)
	}
	return nil, why
}

// settle sends a unit to the first host that takes all of it.
func (s *state) settle(unit []int32, want map[int32]int32) (int32, bool) {
	all := s.candidates(unit[0], want)
	for len(all) > 0 {
		best := 0
		for i := range all {
			if c := &all[best]; all[i].tier < c.tier || all[i].tier == c.tier && all[i].slack > c.slack {
				best = i
			}
		}
		to := all[best].host
		all = slices.Delete(all, best, best+1)
		mark := len(s.trail)
		ok := true
		for _, g := range unit {
			if !s.bound(g, to) || !s.accepts(g, to) || !s.place(g, to) {
				ok = false
				break
			}
		}
		if ok {
			return to, true
		}
		s.undo(mark)
	}
	return 0, false
}

// candidate is a host that may take a guest. A lower tier goes first: finished hosts before those to come, those that a
// preference speaks for; and then more slack, the room that would be left.
type candidate struct {
	host  int32
	tier  int
	slack float64
}

// candidates are the hosts that may take the guest, in their own order.
func (s *state) candidates(g int32, want map[int32]int32) []candidate {
	all := s.buf[:0]
	s.work += s.nh
	for h := range int32(s.nh) {
		if to, ok := want[g]; ok && to != h {
			continue
		}
		if !s.bound(g, h) || !s.accepts(g, h) {
			continue
		}
		c := candidate{h, 4*int(s.tier[h]) + s.dislikes(g, h), s.left(g, h)}
		if s.fill && s.tier[h] == 0 {
			c.slack = -c.slack
		}
		all = append(all, c)
	}
	s.buf = all
	return all
}

// left is the share of the scarcest resource that would be left on the host with the guest there.
func (s *state) left(g, h int32) float64 {
	a, b := int(g)*s.nd, int(h)*s.nd
	least := 2.0
	for d := range s.nd {
		if s.cap[b+d] > 0 {
			least = min(least, float64(s.free[b+d]-s.load[a+d])*s.inv[b+d])
		}
	}
	return least
}

// bound tells whether the host is where the rest of each of the guest's groups is, as far as that is on hosts that need
// not be emptied.
func (s *state) bound(g, h int32) bool {
	for _, n := range s.together[g] {
		settled, there := false, false
		for _, m := range s.groups[n].members {
			if o := s.at[m]; o != s.at[g] && !s.out[o] {
				settled, there = true, there || o == h
			}
		}
		if settled && !there {
			return false
		}
	}
	return true
}

// dislikes counts, up to 3, what preferences say against the guest on the host.
func (s *state) dislikes(g, h int32) (n int) {
	w := &s.wants[s.class[g]]
	if len(w.liked) > 0 && !slices.Contains(w.liked, s.names[h]) || slices.Contains(w.disliked, s.names[h]) {
		n++
	}
	for _, x := range s.avoids[g] {
		if slices.ContainsFunc(s.groups[x].members, func(m int32) bool { return m != g && s.at[m] == h }) {
			n++
			break
		}
	}
	if x := s.prefers[g]; x >= 0 && slices.ContainsFunc(s.groups[x].members, func(m int32) bool {
		return m != g && s.at[m] != h && s.at[m] != s.at[g]
	}) {
		n++
	}
	return n
}

// turnedAway says what turned most hosts away that the guest could have gone to, or restarted on in a loss.
func (s *state) turnedAway(g, l int32) string {
	count := map[string]int{}
	for h := range int32(s.nh) {
		if h == s.at[g] || s.out[h] || l >= 0 && s.lost(l, h) {
			continue
		}
		host := &s.p.Hosts[h]
		features := host.Features
		if s.done[h] && host.After != nil {
			features = host.After.Features
		}
		switch why := s.wants[s.class[g]].refused(host, features); {
		case !s.open[h] || l < 0 && !s.sent[h]:
			count["takes guests"]++
		case why == "a rule's leave":
			count["is allowed by its rules"]++
		case why != "":
			count["has "+why]++
		case s.meets(g, l, h):
			count["is free of those that it is kept apart from, or that are called the same"]++
		case l < 0 && s.runsOn[g] > 0 && s.emulator[h] > 0 && s.emulator[h] < s.runsOn[g] && !s.done[h]:
			count["has an emulator as new as the one that it runs on"]++
		default:
			count["with room"]++
		}
	}
	best := ""
	for _, why := range slices.Sorted(maps.Keys(count)) {
		if best == "" || count[why] > count[best] {
			best = why
		}
	}
	if best == "" {
		return "finds no other host at all"
	}
	if len(count) == 1 && best != "with room" {
		return "finds no other host that " + best
	}
	if best == "with room" {
		return fmt.Sprintf("(%s) finds no host with room", s.takesWhat(g))
	}
	return fmt.Sprintf("(%s) finds no host: of those left, most fail this: one that %s", s.takesWhat(g), best)
}

func (s *state) takesWhat(g int32) string {
	var out []string
	for d := range s.nd {
		if n := s.load[int(g)*s.nd+d]; n > 0 || d < 2 {
			out = append(out, strings.TrimSuffix(s.amount(d, n), " of memory"))
		}
	}
	return strings.Join(out, ", ")
}

// obstacle tells the reason in words.
func (r *reason) obstacle(s *state) *Obstacle {
	o := &Obstacle{Constraint: r.report, WayOut: "shut it down for the visit, or a smaller guest in its favour"}
	if r.guest >= 0 {
		o.Guest = s.guests[r.guest].Name
	}
	if r.loss >= 0 {
		o.Lost = s.named(s.losses[r.loss])
	}
	return o
}
