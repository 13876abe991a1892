package fit

import (
	"cmp"
	"slices"
)

// state is a placement with its certificate. Whatever changes it goes into the trail, so that any trial is undone in
// the time that it took.
type state struct {
	*compiled
	at     []int32   // host of each guest
	on     [][]int32 // guests of each host
	runsOn []int32
	free   []int64 // nh·nd
	takes  []bool  // is open and not out
	out    []bool
	done   []bool // was visited
	gone   []bool // the loss has a host that is out: it is not borne while that lasts
	inLoss [][]int32
	target []int16 // loss·ng + guest: where it restarts; -1 nowhere
	usual  []usual // of each guest
	whole  bool    // every loss that is to be borne is
	use    []int64 // (loss·nh + host)·nd: what the restarts of a loss would take there
	peak   []int64 // nh·nd: at least what any loss would take there
	tier   []int8  // of each host as a target: lower goes first
	fill   bool    // prefer the least room on hosts that are finished, instead of the most
	trail  []step
	work   int // hosts looked at
	buf    []candidate
}

// usual is where a guest was last given the restart with most room, and which share of the scarcest resource was left
// there.
type usual struct {
	host int32
	room float64
}

type stepKind uint8

const (
	moved stepKind = iota
	aimed
	left
	lossGone
	ran
)

// step is what was, before something changed.
type step struct {
	kind        stepKind
	loss, guest int32
	old         int32
}

// mostTargets bounds the certificates, in entries.
const mostTargets = 64 << 20

// newState places the guests where they are and looks for a certificate, as far as there is one. It is nil where the
// certificates would be too large.
func newState(c *compiled) *state {
	if len(c.losses)*c.ng > mostTargets {
		return nil
	}
	s := &state{compiled: c, at: slices.Clone(c.at), on: make([][]int32, c.nh), free: slices.Clone(c.cap),
		takes: slices.Clone(c.open), out: make([]bool, c.nh), done: make([]bool, c.nh),
		gone: make([]bool, len(c.losses)), inLoss: make([][]int32, c.nh),
		target: make([]int16, len(c.losses)*c.ng), runsOn: slices.Clone(c.runsOn),
		usual: make([]usual, c.ng), use: make([]int64, len(c.losses)*c.nh*c.nd), peak: make([]int64, c.nh*c.nd),
		tier: make([]int8, c.nh)}
	for i := range s.target {
		s.target[i] = -1
	}
	for g := range s.usual {
		s.usual[g].host = -1
	}
	for g, h := range s.at {
		s.on[h] = append(s.on[h], int32(g))
		for d := range c.nd {
			s.free[int(h)*c.nd+d] -= c.load[g*c.nd+d]
		}
	}
	s.whole = true
	for l, hosts := range c.losses {
		for _, h := range hosts {
			s.inLoss[h] = append(s.inLoss[h], int32(l))
		}
		s.whole = s.mend(int32(l), s.unplaced(int32(l), nil)) && s.whole
	}
	s.trail = s.trail[:0]
	return s
}

// prefer says which hosts are taken last: those still to come, in order, and before them those that are avoided by the
// problem's own order.
func (s *state) prefer(toCome []bool, avoid []int32) {
	for h := range s.tier {
		s.tier[h] = 0
		if toCome != nil && toCome[h] {
			s.tier[h] = 1
		}
	}
	for i, h := range avoid {
		s.tier[h] = int8(min(i+1, 100))
	}
}

// unplaced returns the guests of a loss that have no restart, beside those given.
func (s *state) unplaced(l int32, more []int32) []int32 {
	for _, h := range s.losses[l] {
		for _, g := range s.on[h] {
			if s.restarts[g] && s.target[int(l)*s.ng+int(g)] < 0 {
				more = append(more, g)
			}
		}
	}
	return more
}

func (s *state) lost(l, h int32) bool { return slices.Contains(s.losses[l], h) }

// runs tells whether the host may run the guest, as it is at this stage of the round.
func (s *state) runs(g, h int32) bool {
	i := int(s.class[g])*s.nh + int(h)
	if s.done[h] {
		return s.later[i]
	}
	return s.may[i]
}

// beside tells whether the guest fits on the host beside the restarts of a loss.
func (s *state) beside(g, l, h int32) bool {
	a, b, c := int(g)*s.nd, int(h)*s.nd, (int(l)*s.nh+int(h))*s.nd
	for d := range s.nd {
		if x := s.load[a+d]; x > 0 && x > s.free[b+d]-s.use[c+d] {
			return false
		}
	}
	return true
}

// meets tells whether a guest that it must not share a host with is on the host, or restarts there in that loss. A loss
// of -1 is none.
func (s *state) meets(g, l, h int32) bool {
	for _, n := range s.apart[g] {
		for _, m := range s.groups[n].members {
			if m == g {
				continue
			}
			if s.at[m] == h && (l < 0 || !s.lost(l, h)) {
				return true
			}
			if l >= 0 && s.lost(l, s.at[m]) && int32(s.target[int(l)*s.ng+int(m)]) == h {
				return true
			}
		}
	}
	return false
}

// seats tells whether the guest of a lost host can restart on the host.
func (s *state) seats(g, l, h int32) bool {
	return s.takes[h] && !s.lost(l, h) && s.runs(g, h) && s.beside(g, l, h) && !s.meets(g, l, h)
}

// aim gives a guest another restart in a loss; -1 none.
func (s *state) aim(l, g, h int32) {
	i := int(l)*s.ng + int(g)
	old := int32(s.target[i])
	s.trail = append(s.trail, step{aimed, l, g, old})
	s.setAim(l, g, old, h)
}

func (s *state) setAim(l, g, old, h int32) {
	s.target[int(l)*s.ng+int(g)] = int16(h)
	a := int(g) * s.nd
	if old >= 0 {
		b := (int(l)*s.nh + int(old)) * s.nd
		for d := range s.nd {
			s.use[b+d] -= s.load[a+d]
		}
	}
	if h >= 0 {
		b, p := (int(l)*s.nh+int(h))*s.nd, int(h)*s.nd
		for d := range s.nd {
			s.use[b+d] += s.load[a+d]
			s.peak[p+d] = max(s.peak[p+d], s.use[b+d])
		}
	}
}

// undo takes back what was done since the mark.
func (s *state) undo(mark int) {
	for len(s.trail) > mark {
		x := s.trail[len(s.trail)-1]
		s.trail = s.trail[:len(s.trail)-1]
		switch x.kind {
		case aimed:
			s.setAim(x.loss, x.guest, int32(s.target[int(x.loss)*s.ng+int(x.guest)]), x.old)
		case moved:
			s.shift(x.guest, x.old)
		case ran:
			s.runsOn[x.guest] = x.old
		case left:
			s.out[x.old], s.takes[x.old] = false, s.open[x.old]
		case lossGone:
			s.gone[x.loss] = false
		}
	}
}

// shift puts the guest on a host.
func (s *state) shift(g, to int32) {
	from := s.at[g]
	s.at[g] = to
	i := slices.Index(s.on[from], g)
	s.on[from][i] = s.on[from][len(s.on[from])-1]
	s.on[from] = s.on[from][:len(s.on[from])-1]
	s.on[to] = append(s.on[to], g)
	a, b, f := int(g)*s.nd, int(to)*s.nd, int(from)*s.nd
	for d := range s.nd {
		s.free[f+d] += s.load[a+d]
		s.free[b+d] -= s.load[a+d]
	}
}

// accepts tells whether a running guest may be sent to the host now, apart from the reserve.
func (s *state) accepts(g, h int32) bool {
	if !s.takes[h] || !s.sent[h] || s.at[g] == h || !s.runs(g, h) || s.meets(g, -1, h) {
		return false
	}
	emu := s.emulator[h]
	if s.done[h] {
		emu = s.emuLater[h]
	}
	if !s.cold[g] && s.runsOn[g] > 0 && emu > 0 && emu < s.runsOn[g] {
		return false
	}
	a, b := int(g)*s.nd, int(h)*s.nd
	for d := range s.nd {
		if x := s.load[a+d]; x > 0 && x > s.free[b+d]-(s.cap[b+d]-s.room[b+d]) {
			return false
		}
	}
	return true
}

// place sends the guest to the host and mends what that disturbs. It tells whether the certificate stands; where not,
// all is as it was.
func (s *state) place(g, to int32) bool {
	mark := len(s.trail)
	from := s.at[g]
	s.trail = append(s.trail, step{moved, 0, g, from})
	s.shift(g, to)
	emu := s.emulator[to]
	if s.done[to] {
		emu = s.emuLater[to]
	}
	if emu > s.runsOn[g] || s.cold[g] && emu != s.runsOn[g] {
		s.trail = append(s.trail, step{ran, 0, g, s.runsOn[g]})
		s.runsOn[g] = emu
	}
	// Its restarts in losses of the host that it left are those of no one now.
	for _, l := range s.inLoss[from] {
		if s.target[int(l)*s.ng+int(g)] >= 0 && !s.lost(l, to) {
			s.aim(l, g, -1)
		}
	}
	if s.makeRoom(to) && s.separate(g, to) && s.restartIn(g, to) {
		return true
	}
	s.undo(mark)
	return false
}

// makeRoom takes restarts off a host where a loss would take more than is free there now.
func (s *state) makeRoom(h int32) bool {
	b := int(h) * s.nd
	over := func(use []int64) bool {
		for d := range s.nd {
			if use[d] > 0 && use[d] > s.free[b+d] {
				return true
			}
		}
		return false
	}
	if !over(s.peak[b : b+s.nd]) {
		return true
	}
	clear(s.peak[b : b+s.nd])
	ok := true
	for l := range int32(len(s.losses)) { // all of them, for what is left out of the peak is never looked at again
		i := (int(l)*s.nh + int(h)) * s.nd
		if ok && !s.gone[l] && over(s.use[i:i+s.nd]) {
			ok = s.lighten(l, h, over)
		}
		for d := range s.nd {
			s.peak[b+d] = max(s.peak[b+d], s.use[i+d])
		}
	}
	s.work += len(s.losses)
	return ok
}

// lighten takes restarts off the host, the largest first, until the loss takes no more than is there, and mends it.
func (s *state) lighten(l, h int32, over func([]int64) bool) bool {
	var there, unplaced []int32
	for _, lost := range s.losses[l] {
		for _, g := range s.on[lost] {
			if int32(s.target[int(l)*s.ng+int(g)]) == h {
				there = append(there, g)
			}
		}
	}
	slices.SortStableFunc(there, func(a, b int32) int { return cmp.Compare(s.size[b], s.size[a]) })
	use := s.use[(int(l)*s.nh+int(h))*s.nd:][:s.nd]
	for _, g := range there {
		if !over(use) {
			break
		}
		s.aim(l, g, -1)
		unplaced = append(unplaced, g)
	}
	return s.mend(l, unplaced)
}

// separate sends restarts elsewhere that must not share the host with the guest.
func (s *state) separate(g, h int32) bool {
	for _, n := range s.apart[g] {
		for _, m := range s.groups[n].members {
			if m == g {
				continue
			}
			for _, l := range s.inLoss[s.at[m]] {
				if !s.gone[l] && !s.lost(l, h) && int32(s.target[int(l)*s.ng+int(m)]) == h {
					s.aim(l, m, -1)
					if !s.mend(l, []int32{m}) {
						return false
					}
				}
			}
		}
	}
	return true
}

// restartIn finds the guest a restart in every loss of the host that it is on.
func (s *state) restartIn(g, h int32) bool {
	if !s.restarts[g] {
		return true
	}
	for _, l := range s.inLoss[h] {
		if s.gone[l] || s.target[int(l)*s.ng+int(g)] >= 0 {
			continue
		}
		if !s.mend(l, []int32{g}) {
			return false
		}
	}
	return true
}

// leave takes a host out of service: it takes nobody, and the losses with it are not to be borne. It tells whether the
// restarts that were to come to it have found other places: it returns the first loss in which they have not, and -1
// where all have. A trial ends with the first; where all are to be mended that can be, the others are gone on with.
func (s *state) leave(h int32, all bool) int32 {
	s.trail = append(s.trail, step{left, 0, 0, h})
	s.out[h], s.takes[h] = true, false
	for _, l := range s.inLoss[h] {
		if !s.gone[l] {
			s.gone[l] = true
			s.trail = append(s.trail, step{lossGone, l, 0, 0})
		}
	}
	fails := int32(-1)
	var unplaced []int32
	for l := range int32(len(s.losses)) {
		if s.gone[l] {
			continue
		}
		unplaced = unplaced[:0]
		for _, lost := range s.losses[l] {
			s.work += len(s.on[lost]) / 8
			for _, g := range s.on[lost] {
				if int32(s.target[int(l)*s.ng+int(g)]) == h {
					s.aim(l, g, -1)
					unplaced = append(unplaced, g)
				}
			}
		}
		if !s.whole {
			unplaced = s.unplaced(l, unplaced[:0])
		}
		if len(unplaced) > 0 && !s.mend(l, unplaced) && fails < 0 {
			if fails = l; !all {
				return fails
			}
			s.whole = false
		}
	}
	return fails
}

// back takes the host into service again, after its visit, empty as it is. Losses with it are to be borne again.
func (s *state) back(h int32) bool {
	s.out[h], s.takes[h], s.done[h] = false, s.open[h], true
	ok := true
	for _, l := range s.inLoss[h] {
		if slices.ContainsFunc(s.losses[l], func(o int32) bool { return s.out[o] }) {
			continue
		}
		s.gone[l] = false
		for _, o := range s.losses[l] {
			for _, g := range s.on[o] {
				if i := int(l)*s.ng + int(g); s.target[i] >= 0 {
					s.setAim(l, g, int32(s.target[i]), -1)
				}
			}
		}
		ok = s.mend(l, s.unplaced(l, nil)) && ok
	}
	s.trail = s.trail[:0]
	s.whole = s.whole && ok
	return ok
}
