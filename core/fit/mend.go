package fit

import (
	"cmp"
	"slices"
)

// mend finds restarts for guests that have none in a loss. It tells whether all of them got one.
func (s *state) mend(l int32, unplaced []int32) bool {
	slices.SortStableFunc(unplaced, func(a, b int32) int { return cmp.Compare(s.size[b], s.size[a]) })
	for i, g := range unplaced {
		if s.seat(l, g) || s.eject(l, g) {
			continue
		}
		if s.repack(l) {
			return true
		}
		for _, g := range unplaced[i+1:] {
			s.seat(l, g)
		}
		return false
	}
	return true
}

// seat gives the guest the allowed restart with most room, or its usual one where there is nearly as much of plenty: a guest
// is in as many losses as there are other hosts, and mostly the same restart does for all of them.
func (s *state) seat(l, g int32) bool {
	if u := s.usual[g]; u.host >= 0 && s.seats(g, l, u.host) && s.roomIn(l, g, u.host) >= max(u.room-nearly, ample) {
		s.work += 8 // reaching for what is far apart costs more than the next in a row
		s.aim(l, g, u.host)
		return true
	}
	best, most := int32(-1), 0.0
	s.work += s.nh
	lost := s.losses[l]
	may, later := s.may[int(s.class[g])*s.nh:][:s.nh], s.later[int(s.class[g])*s.nh:][:s.nh]
	nd := s.nd
	load, use := s.load[int(g)*nd:][:nd], s.use[int(l)*s.nh*nd:][:s.nh*nd]
	alone := len(s.apart[g]) == 0
	for h := range int32(s.nh) {
		if !s.takes[h] || h == lost[0] || len(lost) > 1 && slices.Contains(lost[1:], h) {
			continue
		}
		if s.done[h] && !later[h] || !s.done[h] && !may[h] {
			continue
		}
		x := 2.0
		at := int(h) * nd
		free, used, inv := s.free[at:][:len(load)], use[at:][:len(load)], s.inv[at:][:len(load)]
		for d, takes := range load {
			left := free[d] - used[d] - takes
			if left < 0 {
				if takes > 0 {
					x = -1
					break
				}
				left = 0
			}
			if inv[d] > 0 {
				x = min(x, float64(left)*inv[d])
			}
			if best >= 0 && x <= most { // it has less room than another, whatever else it has
				x = -1
				break
			}
		}
		if x < 0 || !alone && s.meets(g, l, h) {
			continue
		}
		best, most = h, x
	}
	if best < 0 {
		return false
	}
	s.usual[g] = usual{best, most}
	s.aim(l, g, best)
	return true
}

// A guest's usual restart may have somewhat less room than the best, as a share of the scarcest resource; and there must
// be ample: where there is little, only the best leads to a certificate.
const (
	nearly = 0.05
	ample  = 0.25
)

// roomIn is the share of the scarcest resource that would be left on the host with the guest's restart there.
func (s *state) roomIn(l, g, h int32) float64 {
	x := 2.0
	a, b, c := int(g)*s.nd, int(h)*s.nd, (int(l)*s.nh+int(h))*s.nd
	for d := range s.nd {
		if s.inv[b+d] > 0 {
			x = min(x, float64(s.free[b+d]-s.use[c+d]-s.load[a+d])*s.inv[b+d])
		}
	}
	return x
}

// eject lets one smaller guest of the loss restart elsewhere, and gives its place to the guest.
func (s *state) eject(l, g int32) bool {
	for h := range int32(s.nh) {
		if !s.takes[h] || s.lost(l, h) || !s.runs(g, h) {
			continue
		}
		for _, lost := range s.losses[l] {
			for _, o := range s.on[lost] {
				if o == g || int32(s.target[int(l)*s.ng+int(o)]) != h || s.size[o] >= s.size[g] {
					continue
				}
				mark := len(s.trail)
				s.work++
				s.aim(l, o, -1)
				if s.seats(g, l, h) {
					s.aim(l, g, h)
					if s.seat(l, o) {
						return true
					}
				}
				s.undo(mark)
			}
		}
	}
	return false
}

// repack gives all guests of a loss their restarts anew: first those that fewest hosts can run, then the largest.
func (s *state) repack(l int32) bool {
	var all []int32
	for _, h := range s.losses[l] {
		for _, g := range s.on[h] {
			if s.restarts[g] {
				all = append(all, g)
			}
		}
	}
	hosts := map[int32]int{} // that can run guests of a class
	for _, g := range all {
		if _, counted := hosts[s.class[g]]; !counted {
			for h := range int32(s.nh) {
				if s.takes[h] && s.runs(g, h) {
					hosts[s.class[g]]++
				}
			}
		}
	}
	slices.SortStableFunc(all, func(a, b int32) int {
		return cmp.Or(hosts[s.class[a]]-hosts[s.class[b]], cmp.Compare(s.size[b], s.size[a]))
	})
	mark := len(s.trail)
	for _, g := range all {
		if s.target[int(l)*s.ng+int(g)] >= 0 {
			s.aim(l, g, -1)
		}
	}
	for _, g := range all {
		if !s.seat(l, g) && !s.eject(l, g) {
			s.undo(mark)
			return false
		}
	}
	return true
}
