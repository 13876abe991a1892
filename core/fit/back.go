package fit

import (
	"cmp"
	"slices"
)

// Stays is a guest that can't go back, and why.
type Stays struct {
	Move
	Why *Obstacle
}

// Back answers which guests can go back to a host that is in service again, each from where it is, with the reserve
// kept; the smallest go first. Guests that are kept together go back together or not at all. What can't be proven
// stays.
func Back(p Problem, host string, want []Move) (moves []Move, stay []Stays) {
	c := compile(&p)
	s := newState(c)
	h := int32(slices.Index(c.names, host))
	if s == nil || h < 0 {
		for _, m := range want {
			stay = append(stay, Stays{m,
				&Obstacle{Constraint: "can't be asked about: " + host +
					" is no host of the cluster, or the losses are too many to look at"}})
		}
		return nil, stay
	}
	if _, why := s.emptyAll(nil, nil); why != nil {
		for _, m := range want {
			stay = append(stay, Stays{m, why.obstacle(s)})
		}
		return nil, stay
	}
	var guests []int32
	for i := range want {
		m := &want[i]
		switch g, ok := c.guestAt(m.UID(), m.From); {
		case !ok:
			stay = append(stay, Stays{*m, &Obstacle{Guest: m.Guest, Constraint: "is not on " + m.From + " any more"}})
		case !c.movable[g] || c.cold[g]:
			stay = append(stay, Stays{*m, &Obstacle{Guest: m.Guest, Constraint: "can't be migrated"}})
		default:
			guests = append(guests, g)
		}
	}
	going, left := s.sendBack(h, guests, len(guests))
	for _, g := range left {
		o := (&reason{guest: g, loss: -1, report: s.keptFrom(g, h)}).obstacle(s)
		o.WayOut = ""
		stay = append(stay, Stays{Move{c.guests[g].ID, c.guests[g].Name, c.names[s.at[g]], host}, o})
	}
	return c.moves(going), stay
}

// keptFrom says why a guest can't go to the host.
func (s *state) keptFrom(g, h int32) string {
	if s.accepts(g, h) {
		return "would leave too little for the reserve on " + s.names[h] + ", or goes with another that can't"
	}
	return "finds no room on " + s.names[h] + ", or not all that it needs"
}

// sendBack puts guests on a host one after another, the smallest first, so many at most. Those that must share a host
// go as one.
func (s *state) sendBack(h int32, guests []int32, most int) (going []shift, stay []int32) {
	slices.SortStableFunc(guests, func(a, b int32) int {
		return cmp.Or(cmp.Compare(s.load[int(a)*s.nd], s.load[int(b)*s.nd]), cmp.Compare(s.size[a], s.size[b]))
	})
	guests = slices.DeleteFunc(guests, func(g int32) bool { return s.cold[g] }) // nobody is shut down to come home
	seen := map[int32]bool{}
	for _, g := range guests {
		if seen[g] {
			continue
		}
		unit := []int32{g}
		for i := 0; i < len(unit); i++ { // and who shares a group with those who go along
			for _, n := range s.together[unit[i]] {
				for _, m := range s.groups[n].members {
					if s.at[m] == s.at[g] && !slices.Contains(unit, m) {
						unit = append(unit, m)
					}
				}
			}
		}
		for _, m := range unit {
			seen[m] = true
		}
		asked := slices.DeleteFunc(slices.Clone(unit), func(m int32) bool { return !slices.Contains(guests, m) })
		if len(going)+len(asked) > most {
			continue
		}
		mark, from := len(s.trail), s.at[g]
		if len(asked) < len(unit) || slices.ContainsFunc(unit, func(m int32) bool {
			return !s.movable[m] || !s.accepts(m, h) || !s.place(m, h)
		}) {
			s.undo(mark)
			stay = append(stay, asked...)
			continue
		}
		for _, m := range unit {
			going = append(going, shift{m, from, h})
		}
	}
	return going, stay
}
