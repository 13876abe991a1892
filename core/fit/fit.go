// Package fit answers where guests can go: whether a cluster's hosts can carry the guests of those that are out, with
// the capacity of the reserve kept for further losses at the same time, and in which order hosts can be emptied so that
// few guests move twice.
//
// The reserve, exactly: with the hosts that are out empty, and for every choice of k hosts among the others, the guests
// of the chosen hosts can be restarted on the rest while the guests already there stay where they are. A certificate
// says for every such loss where each guest restarts; it is kept alive from move to move and mended where a move
// disturbs it, and Certified checks it with code of its own. What sums disprove needs no search; small questions are
// searched whole; where neither finds an answer it is Unproven, which no caller may take for a yes.
//
// What it rests on: with the hosts that are out empty, guests elsewhere only gain company until a drain's end, so that
// the certificate of its end covers every moment of it; and per resource, what is free on the rest after a loss does
// not depend on where guests were placed.
package fit

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// Problem is a cluster as fit sees it.
type Problem struct {
	Terms
	Hosts []Host
}

// Terms are what has to hold, and what may be done with guests.
type Terms struct {
	Rules   []estate.Rule
	Reserve int // hosts that may be lost at once
	// Limit is the share of its capacity, 0 to 1, up to which a host is sent guests; 0: all of it. Restarts after a
	// loss may take all.
	Limit float64
	// SendNone are hosts that are sent no guests. Restarts after a loss may go there.
	SendNone []string
	// Rest are guests, by UID, that do not move when their host is emptied: they are shut down or suspended meanwhile,
	// and come back with it.
	Rest map[string]bool
	// Eject are guests, by UID, whose media are taken out of their drives before they move.
	Eject map[string]bool
	// Uncopy are guests, by UID, whose snapshots are removed before they move.
	Uncopy map[string]bool
	// Cold are guests, by UID, that are shut down, moved, and started anew: their state does not matter, nor on what
	// emulator they ran.
	Cold map[string]bool
}

// Loosed is what of a guest's ties is loosed before it moves.
func (t *Terms) Loosed(g *estate.Guest) estate.Loosed {
	return estate.Loosed{Media: t.Eject[g.UID()], Snapshots: t.Uncopy[g.UID()]}
}

// Host is what fit knows of a host: its room, what it offers, and who is there.
type Host struct {
	Name     string
	Capacity estate.Resources
	Counts   map[string]int // of countable things, by kind
	Networks []string
	Storages []string
	Features []string
	Emulator Emulator
	After    *After         // what it offers once it was visited; nil: what it offers now
	Open     bool           // takes guests; a closed or silent host takes none but still holds what it has
	Guests   []estate.Guest // those that hold memory of it, and those on their way to it
	Off      []estate.Guest // those that are powered off there: they hold nothing but their names
}

// Emulator is the component that guests run on, and its version. A guest does not go back to an older one. Empty where
// it is not known.
type Emulator struct {
	Key     estate.Key
	Version string
}

// After is what a host offers after its visit.
type After struct {
	Features []string
	Emulator Emulator
}

// free is what is left of the host's capacity.
func (h *Host) free() estate.Resources {
	f := h.Capacity
	for i := range h.Guests {
		f = f.Sub(h.Guests[i].Load)
	}
	return f
}

// Offers tells whether the host, as it is, has all that the guest needs to run beside room, and nobody there is called
// the same.
func (h *Host) Offers(g *estate.Guest) bool {
	w := want{networks: g.Networks, storages: g.Storages, features: g.Features}
	same := func(o estate.Guest) bool { return o.Namesake(g) }
	return w.refused(h, h.Features) == "" && !slices.ContainsFunc(h.Guests, same) && !slices.ContainsFunc(h.Off, same)
}

// Outcome is how certain an answer is.
type Outcome uint8

// The outcomes. Only Fits permits anything.
const (
	Unproven Outcome = iota
	Fits
	DoesNotFit
)

// String returns the outcome in words.
func (o Outcome) String() string { return [...]string{"unproven", "fits", "does not fit"}[o] }

// Move is a guest and the host it goes to.
type Move struct {
	ID    string `json:"id,omitempty"` // the guest's UUID
	Guest string `json:"guest"`
	From  string `json:"from"`
	To    string `json:"to"`
}

// UID is by what the guest is known.
func (m *Move) UID() string { return cmp.Or(m.ID, m.Guest) }

// Obstacle is what keeps guests from being placed.
type Obstacle struct {
	Guest      string   // the guest that has no place; empty where it is not about one
	Constraint string   // what stands against it, in words
	Lost       []string // the hosts whose loss could not be borne; empty where the drain itself has no room
	WayOut     string   // the smallest thing that would help
	Ways       []Way    // what would help, each by itself, as far as it was looked for; all of one size
}

// String returns the obstacle as a sentence without its end.
func (o *Obstacle) String() string {
	switch {
	case o == nil:
		return ""
	case len(o.Lost) > 0 && o.Guest != "":
		return fmt.Sprintf("if %s failed meanwhile, %s %s", strings.Join(o.Lost, " and "), o.Guest, o.Constraint)
	case len(o.Lost) > 0:
		return fmt.Sprintf("if %s failed meanwhile, its guests would have no place: %s",
			strings.Join(o.Lost, " and "), o.Constraint)
	case o.Guest != "":
		return o.Guest + " " + o.Constraint
	}
	return o.Constraint
}

// Answer is the answer to one question of placement.
type Answer struct {
	Outcome  Outcome
	Moves    []Move    // a placement, in the order in which the guests go, where Outcome is Fits
	Obstacle *Obstacle // what is in the way, where it is not
}

// Effort bounds the exact search of one question, in guests put somewhere on trial. It keeps an answer under about a
// second.
const Effort = 60_000

// Glance is the effort for a question that is asked again and again, and of which an Unproven costs no more than
// waiting.
const Glance = 2_000

// Drain answers whether the guests of all the hosts in out can go to others with the reserve kept, and how. Hosts in
// avoid are taken only after all others, the later ones last; among equals the one with most room. Where effort is
// spent and nothing was found the answer is Unproven.
func Drain(p Problem, out, avoid []string, effort int) Answer {
	if o := p.known(out); o != nil {
		return Answer{Outcome: DoesNotFit, Obstacle: o}
	}
	c := compile(&p)
	outs := c.indices(out)
	if o := c.impossible(outs); o != nil {
		return Answer{Outcome: DoesNotFit, Obstacle: o}
	}
	s := newState(c)
	if s == nil {
		return Answer{Outcome: Unproven,
			Obstacle: &Obstacle{Constraint: fmt.Sprintf(
				"the choices of %d hosts that could be lost are too many to look at", p.Reserve),
				WayOut: "keep a smaller reserve"}}
	}
	s.prefer(nil, c.indices(avoid))
	return s.drain(outs, effort)
}

// drain answers by the quick search, and by trying everything where that gives up.
func (s *state) drain(outs []int32, effort int) Answer {
	moves, why := s.emptyAll(outs, nil)
	if why == nil {
		return Answer{Outcome: Fits, Moves: s.moves(moves)}
	}
	return s.exact(outs, effort, why)
}

// Keep answers whether planned moves off the hosts in out still stand on the cluster as it is: each guest that is still
// there goes where it was planned, in that order, with the reserve kept. A guest on one of these hosts that no move
// names makes the answer Unproven.
func Keep(p Problem, out []string, planned []Move) Answer {
	if o := p.known(out); o != nil {
		return Answer{Outcome: DoesNotFit, Obstacle: o}
	}
	c := compile(&p)
	s := newState(c)
	if s == nil {
		return Answer{Obstacle: &Obstacle{Constraint: "too many losses to look at"}}
	}
	want := map[int32]int32{}
	for i := range planned {
		m := &planned[i]
		g, ok := c.guestAt(m.UID(), m.From)
		h := slices.Index(c.names, m.To)
		if !ok {
			continue // it has gone already
		}
		if h < 0 {
			return Answer{Obstacle: &Obstacle{Guest: m.Guest, Constraint: "was to go to " + m.To +
				", which is no host of the cluster"}}
		}
		want[g] = int32(h)
	}
	outs := c.indices(out)
	for g, at := range c.at {
		if _, named := want[int32(g)]; !named && !c.rests[g] && slices.Contains(outs, at) {
			return Answer{Obstacle: &Obstacle{Guest: c.guests[g].Name, Constraint: "is on " + c.names[at] +
				" and was not when the round was planned"}}
		}
	}
	moves, why := s.emptyAll(outs, want)
	if why != nil {
		return Answer{Obstacle: why.obstacle(s)}
	}
	return Answer{Outcome: Fits, Moves: c.moves(moves)}
}

// Reserve answers whether the guests of any k hosts could be restarted on the others. A guest with a device of its host
// could not be restarted anywhere: it is lost with its host whatever is kept free, and does not count.
func Reserve(p Problem) Answer {
	return Drain(p, nil, nil, Effort)
}

// known refuses hosts that the cluster has not.
func (p *Problem) known(names []string) *Obstacle {
	for _, n := range names {
		if !slices.ContainsFunc(p.Hosts, func(h Host) bool { return h.Name == n }) {
			return &Obstacle{Constraint: "not all of " + strings.Join(names, ", ") + " are hosts of the cluster"}
		}
	}
	return nil
}

// GiB writes an amount of MiB the way screens do.
func GiB(mib int64) string {
	if mib > 0 && mib < 100 {
		return fmt.Sprintf("%d MiB", mib)
	}
	if mib%1024 == 0 || mib > 100*1024 {
		return fmt.Sprintf("%d GiB", (mib+512)/1024)
	}
	return fmt.Sprintf("%.1f GiB", float64(mib)/1024)
}

// Spare is how much more memory and CPU the cluster could be given where the loss of certain hosts is borne: a
// necessary bound, not a proof that guests of any size find a place.
type Spare struct {
	Room estate.Resources // negative where it is already exceeded
	Lost []string         // the hosts whose loss leaves this little memory
}

// Headroom returns the smallest spare over all losses of k hosts. With k = 0 it is what is free.
func Headroom(hosts []Host, k int) Spare {
	return slices.MinFunc(Spares(hosts, k), func(a, b Spare) int {
		return cmp.Compare(a.Room.MemoryMiB, b.Room.MemoryMiB)
	})
}

// Spares returns what is spare in each loss of k hosts, in the order of the hosts; one of nothing lost where k is 0.
func Spares(hosts []Host, k int) (out []Spare) {
	losses := choices(len(hosts), k)
	if losses == nil {
		losses = [][]int32{nil}
	}
	var free estate.Resources
	for i := range hosts {
		if hosts[i].Open {
			free = free.Add(hosts[i].free())
		}
	}
	for _, lost := range losses {
		s := Spare{Room: free}
		for _, i := range lost {
			s.Lost = append(s.Lost, hosts[i].Name)
			s.Room = s.Room.Sub(restartable(&hosts[i]))
			if hosts[i].Open {
				s.Room = s.Room.Sub(hosts[i].free())
			}
		}
		out = append(out, s)
	}
	return out
}

func restartable(h *Host) estate.Resources {
	var sum estate.Resources
	for i := range h.Guests {
		if !h.Guests[i].Rooted() {
			sum = sum.Add(h.Guests[i].Load)
		}
	}
	return sum
}

// choices returns every choice of k of the numbers below n; none where k is zero, for then there is nothing to lose.
func choices(n, k int) (out [][]int32) {
	if k <= 0 || n == 0 {
		return nil
	}
	k = min(k, n)
	pick := make([]int32, 0, k)
	var rec func(from int)
	rec = func(from int) {
		if len(pick) == k {
			out = append(out, slices.Clone(pick))
			return
		}
		for i := from; i < n; i++ {
			pick = append(pick, int32(i))
			rec(i + 1)
			pick = pick[:len(pick)-1]
		}
	}
	rec(0)
	return out
}

// kinds returns the countable things that any host has or guest takes, sorted.
func (p *Problem) kinds() []string {
	set := map[string]bool{}
	for i := range p.Hosts {
		h := &p.Hosts[i]
		for k := range h.Counts {
			set[k] = true
		}
		for j := range h.Guests {
			for k := range h.Guests[j].Takes {
				set[k] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(set))
}
