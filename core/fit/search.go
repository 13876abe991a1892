package fit

import (
	"cmp"
	"fmt"
	"slices"

	"yareharbour/core/estate"
)

// search places guests on hosts, largest first, by depth-first search with bounds. It is exhaustive until its effort is spent.
type search struct {
	hosts  []Host
	room   []estate.Resources // of each host, as guests are placed
	guests []estate.Guest     // largest first
	at     []int              // host of each guest placed so far
	rank   []int              // of each host; lower goes first
	from   map[string]string  // where a guest is, by its UID
	effort *int               // shared with the searches inside this one
	stuck  int                // the deepest guest that found no place
	// accept judges a complete placement. Where it refuses, it leaves why in refused, and sets doubt if that is no proof.
	accept  func() bool
	refused *Obstacle
	doubt   bool
}

func newSearch(hosts []Host, guests []estate.Guest, effort *int) *search {
	s := &search{hosts: cloneHosts(hosts), effort: effort}
	s.room = make([]estate.Resources, len(hosts))
	s.rank = make([]int, len(hosts))
	var total estate.Resources
	for i := range s.hosts {
		s.room[i] = s.hosts[i].free()
		total = total.Add(s.hosts[i].Capacity)
	}
	s.guests = bySize(guests, total)
	return s
}

// bySize returns the guests by the share of the total that they take, the largest first. Their places are sorted, and each guest is copied once: a guest is large.
func bySize(guests []estate.Guest, total estate.Resources) []estate.Guest {
	type place struct {
		share float64
		at    int
	}
	order := make([]place, len(guests))
	for i := range guests {
		order[i] = place{share(guests[i].Load, total), i}
	}
	slices.SortFunc(order, func(a, b place) int { return cmp.Or(cmp.Compare(b.share, a.share), a.at-b.at) })
	out := make([]estate.Guest, len(guests))
	for i, o := range order {
		out[i] = guests[o.at]
	}
	return out
}

func cloneHosts(hosts []Host) []Host {
	out := slices.Clone(hosts)
	for i := range out {
		out[i].Guests = slices.Clip(out[i].Guests) // what is added goes to a copy
	}
	return out
}

// share is the larger of the parts of the total that the load takes.
func share(l, total estate.Resources) float64 {
	return max(float64(l.MemoryMiB)/float64(max(total.MemoryMiB, 1)), float64(l.CPU)/float64(max(total.CPU, 1)))
}

// order ranks the hosts: zero for those that are not to be avoided.
func (s *search) order(avoid []string) {
	for i := range s.hosts {
		s.rank[i] = slices.Index(avoid, s.hosts[i].Name) + 1
	}
}

// answer runs the search.
func (s *search) answer() Answer {
	if o := s.tooMuch(); o != nil {
		return Answer{Outcome: DoesNotFit, Obstacle: o}
	}
	s.at = s.at[:0]
	if s.place() {
		a := Answer{Outcome: Fits}
		for i, g := range s.guests {
			a.Moves = append(a.Moves, Move{ID: g.ID, Guest: g.Name, From: s.from[g.UID()], To: s.hosts[s.at[i]].Name})
		}
		return a
	}
	a := Answer{Outcome: DoesNotFit, Obstacle: s.refused}
	if *s.effort <= 0 || s.doubt {
		a.Outcome = Unproven
	}
	if a.Obstacle == nil {
		a.Obstacle = s.stuckAt()
	}
	return a
}

// tooMuch is the cheap proof that there is no placement: the guests need more of something than all open hosts have left.
func (s *search) tooMuch() *Obstacle {
	var need, have estate.Resources
	for _, g := range s.guests {
		need = need.Add(g.Load)
	}
	for i := range s.hosts {
		if s.hosts[i].Open {
			have = have.Add(estate.Resources{MemoryMiB: max(s.room[i].MemoryMiB, 0), CPU: max(s.room[i].CPU, 0)})
		}
	}
	if need.MemoryMiB > have.MemoryMiB {
		short := need.MemoryMiB - have.MemoryMiB
		return &Obstacle{Constraint: fmt.Sprintf("%s of memory are missing", GiB(short)), WayOut: fmt.Sprintf("shut down guests of %s", GiB(short))}
	}
	if need.CPU > have.CPU {
		short := float64(need.CPU-have.CPU) / 1000
		return &Obstacle{Constraint: fmt.Sprintf("%.1f cores are missing", short), WayOut: fmt.Sprintf("shut down guests that use %.1f cores", short)}
	}
	return nil
}

func (s *search) stuckAt() *Obstacle {
	g := s.guests[min(s.stuck, len(s.guests)-1)]
	return &Obstacle{Guest: g.Name, Constraint: fmt.Sprintf("(%s, %.1f cores) finds no host with room", GiB(g.Load.MemoryMiB), float64(g.Load.CPU)/1000),
		WayOut: "shut it down for the visit, or a smaller guest in its favour"}
}

// GiB writes an amount of MiB the way screens do.
func GiB(mib int64) string {
	if mib%1024 == 0 || mib > 100*1024 {
		return fmt.Sprintf("%d GiB", (mib+512)/1024)
	}
	return fmt.Sprintf("%.1f GiB", float64(mib)/1024)
}

// place puts the next guest on each host that can take it, in order of rank and then of free memory, until accept says yes.
func (s *search) place() bool {
	n := len(s.at)
	if n == len(s.guests) {
		*s.effort--
		return s.accept()
	}
	g := &s.guests[n]
	for _, i := range s.candidates(g) {
		if *s.effort--; *s.effort <= 0 {
			return false
		}
		s.put(i, g)
		if s.place() {
			return true
		}
		s.take(i, g)
	}
	s.stuck = max(s.stuck, n)
	return false
}

func (s *search) put(i int, g *estate.Guest) {
	s.at = append(s.at, i)
	s.room[i] = s.room[i].Sub(g.Load)
	s.hosts[i].Guests = append(s.hosts[i].Guests, *g)
}

func (s *search) take(i int, g *estate.Guest) {
	s.at = s.at[:len(s.at)-1]
	s.room[i] = s.room[i].Add(g.Load)
	s.hosts[i].Guests = s.hosts[i].Guests[:len(s.hosts[i].Guests)-1]
}

// candidates returns the hosts that can take the guest now. Of hosts that are alike in everything that matters only the first
// is tried: the others could do no better.
func (s *search) candidates(g *estate.Guest) []int {
	out := make([]int, 0, len(s.hosts))
	for i := range s.hosts {
		if s.takes(i, g) && !slices.ContainsFunc(out, func(j int) bool { return s.alike(i, j) }) {
			out = append(out, i)
		}
	}
	slices.SortStableFunc(out, func(a, b int) int {
		if c := cmp.Compare(s.rank[a], s.rank[b]); c != 0 {
			return c
		}
		return cmp.Compare(s.room[b].MemoryMiB, s.room[a].MemoryMiB)
	})
	return out
}

func (s *search) takes(i int, g *estate.Guest) bool {
	h := &s.hosts[i]
	if !h.Open || !g.Load.Within(s.room[i]) || missing(*h, *g) != "" {
		return false
	}
	return g.Apart == "" || !slices.ContainsFunc(h.Guests, func(o estate.Guest) bool { return o.Apart == g.Apart })
}

func (s *search) alike(i, j int) bool {
	return s.room[i] == s.room[j] && s.rank[i] == s.rank[j] && len(s.hosts[i].Guests) == 0 && len(s.hosts[j].Guests) == 0 &&
		s.hosts[i].Capacity == s.hosts[j].Capacity && slices.Equal(s.hosts[i].Networks, s.hosts[j].Networks)
}
