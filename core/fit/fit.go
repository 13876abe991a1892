// Package fit answers whether guests can be placed: whether the others can carry a host's guests while it is away, with
// the capacity of the reserve kept free for a failure at the same time.
//
// The reserve, exactly: with the host empty, and for every choice of k hosts among those that remain, the guests of the
// chosen hosts can be restarted on the rest while the guests already there stay where they are. A placement is the proof;
// where the search was exhausted without one there is none; where it ran out of effort the answer is Unproven, which no
// caller may take for a yes.
package fit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// Host is what fit knows of a host: its room, what it can offer, and who is there.
type Host struct {
	Name     string
	Capacity estate.Resources
	Networks []string
	Open     bool           // takes guests; a closed or silent host takes none but still holds what it has
	Guests   []estate.Guest // those that hold memory of it, and those on their way to it
}

// free is what is left of the host's capacity.
func (h *Host) free() estate.Resources {
	f := h.Capacity
	for _, g := range h.Guests {
		f = f.Sub(g.Load)
	}
	return f
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

// Obstacle is what keeps guests from being placed.
type Obstacle struct {
	Guest      string   // the guest that has no place; empty where it is not about one
	Constraint string   // what stands against it, in words
	Lost       []string // the hosts whose failure could not be absorbed; empty where the drain itself has no room
	WayOut     string   // the smallest thing that would help
}

// String returns the obstacle as a sentence without its end.
func (o *Obstacle) String() string {
	switch {
	case o == nil:
		return ""
	case len(o.Lost) > 0 && o.Guest != "":
		return fmt.Sprintf("if %s failed meanwhile, %s %s", strings.Join(o.Lost, " and "), o.Guest, o.Constraint)
	case len(o.Lost) > 0:
		return fmt.Sprintf("if %s failed meanwhile, its guests would have no place: %s", strings.Join(o.Lost, " and "), o.Constraint)
	case o.Guest != "":
		return o.Guest + " " + o.Constraint
	}
	return o.Constraint
}

// Answer is the answer to one question of placement.
type Answer struct {
	Outcome  Outcome
	Moves    []Move    // a placement, where Outcome is Fits
	Obstacle *Obstacle // what is in the way, where it is not
}

// Effort bounds a question, in guests put somewhere on trial, over all searches that it takes. It is generous for clusters of tens of
// hosts and keeps an answer under about a second.
const Effort = 60_000

// Glance is the effort for a question that is asked again and again, and of which an Unproven costs no more than waiting: an answer takes some milliseconds.
const Glance = 2_000

// Drain answers whether the guests of all the hosts that are to be out can go to others with the reserve of k hosts kept, and how. Where there is
// a choice, the host with the most room is taken; hosts in avoid are taken only after all others, the later ones last. Where the effort is spent the answer is Unproven.
func Drain(hosts []Host, out []string, k int, avoid []string, effort int) Answer {
	var others []Host
	var guests []estate.Guest
	from := map[string]string{}
	for _, h := range hosts {
		if !slices.Contains(out, h.Name) {
			others = append(others, h)
			continue
		}
		for i := range h.Guests {
			from[h.Guests[i].UID()] = h.Name
		}
		guests = append(guests, h.Guests...)
	}
	if len(others)+len(out) != len(hosts) {
		return Answer{Outcome: DoesNotFit, Obstacle: &Obstacle{Constraint: "not all of " + strings.Join(out, ", ") + " are hosts of the cluster"}}
	}
	if o := immovable(guests, others); o != nil {
		return Answer{Outcome: DoesNotFit, Obstacle: o}
	}
	if o := overfull(others, guests, k); o != nil {
		return Answer{Outcome: DoesNotFit, Obstacle: o}
	}
	s := newSearch(others, guests, &effort)
	s.from = from
	s.order(avoid)
	s.accept = func() bool {
		a := reserve(s.hosts, k, &effort)
		if a.Outcome != Fits {
			s.refused = a.Obstacle
			s.doubt = s.doubt || a.Outcome == Unproven
		}
		return a.Outcome == Fits
	}
	return s.answer()
}

// Reserve answers whether the guests of any k hosts could be restarted on the others. A guest with a device of its host
// could not be restarted anywhere: it is lost with its host whatever is kept free, and does not count.
func Reserve(hosts []Host, k int) Answer {
	effort := Effort
	return reserve(hosts, k, &effort)
}

func reserve(hosts []Host, k int, effort *int) Answer {
	for _, lost := range choices(len(hosts), k) {
		if a := restart(hosts, lost, effort); a.Outcome != Fits {
			return a
		}
	}
	return Answer{Outcome: Fits}
}

func restart(hosts []Host, lost []int, effort *int) Answer {
	var guests []estate.Guest
	var names []string
	var rest []Host
	for i, h := range hosts {
		if !slices.Contains(lost, i) {
			rest = append(rest, h)
			continue
		}
		names = append(names, h.Name)
		for _, g := range h.Guests {
			if g.Device == "" {
				guests = append(guests, g)
			}
		}
	}
	if len(guests) == 0 {
		return Answer{Outcome: Fits}
	}
	s := newSearch(rest, guests, effort)
	s.order(nil)
	s.accept = func() bool { return true }
	a := s.answer()
	if a.Obstacle != nil {
		a.Obstacle.Lost = names
	}
	return a
}

// choices returns every choice of k of the numbers below n; none where k is zero, for then there is nothing to lose.
func choices(n, k int) [][]int {
	if k <= 0 || n == 0 {
		return nil
	}
	k = min(k, n)
	var out [][]int
	pick := make([]int, 0, k)
	var rec func(from int)
	rec = func(from int) {
		if len(pick) == k {
			out = append(out, slices.Clone(pick))
			return
		}
		for i := from; i < n; i++ {
			pick = append(pick, i)
			rec(i + 1)
			pick = pick[:len(pick)-1]
		}
	}
	rec(0)
	return out
}

// immovable names a guest that no search could place.
func immovable(guests []estate.Guest, others []Host) *Obstacle {
	for _, g := range guests {
		if g.State != "" && g.State != estate.Running {
			return &Obstacle{Guest: g.Name, Constraint: fmt.Sprintf("is %s: it can't be migrated so, and what is in its memory would be lost if the host restarted", g.State),
				WayOut: "let it run again, or shut it down for the visit"}
		}
		if g.Device != "" {
			return &Obstacle{Guest: g.Name, Constraint: "holds the device " + g.Device + " of its host and can't move",
				WayOut: "shut it down for the visit, or give it a device that moves"}
		}
		if !slices.ContainsFunc(others, func(h Host) bool { return h.Open && missing(h, g) == "" }) {
			return &Obstacle{Guest: g.Name, Constraint: "finds its networks (" + strings.Join(g.Networks, ", ") + ") on no other open host",
				WayOut: "connect one more host to them"}
		}
	}
	return nil
}

// overfull is the proof by sums that no placement keeps the reserve. However the guests are placed on the open hosts, these have the same left in all; and a host that is lost takes
// with it what it had left and brings what it ran, which together is all of it. So what is left in all must be no less than the k largest hosts are, but for guests that
// hold a device and are lost with their host. The theorem needs no search: it holds for every placement at once.
func overfull(hosts []Host, guests []estate.Guest, k int) *Obstacle {
	var left estate.Resources
	type loss struct {
		name string
		size estate.Resources
	}
	var losses []loss
	for i := range hosts {
		h := &hosts[i]
		if !h.Open {
			continue
		}
		free := h.free()
		free = estate.Resources{MemoryMiB: max(free.MemoryMiB, 0), CPU: max(free.CPU, 0)} // nobody is placed on a host that has less than nothing
		left = left.Add(free)
		losses = append(losses, loss{h.Name, restartable(h).Add(free)})
	}
	for _, g := range guests {
		left = left.Sub(g.Load)
	}
	for _, of := range []struct {
		amount func(estate.Resources) int64
		says   func(int64) (constraint, wayOut string)
	}{{func(r estate.Resources) int64 { return r.MemoryMiB }, func(n int64) (string, string) {
		return GiB(n) + " of memory are missing", "shut down guests of " + GiB(n)
	}}, {func(r estate.Resources) int64 { return r.CPU }, func(n int64) (string, string) {
		return fmt.Sprintf("%.1f cores are missing", float64(n)/1000), fmt.Sprintf("shut down guests that use %.1f cores", float64(n)/1000)
	}}} {
		slices.SortStableFunc(losses, func(a, b loss) int { return cmp.Compare(of.amount(b.size), of.amount(a.size)) })
		short := -of.amount(left)
		var lost []string
		for _, l := range losses[:min(k, len(losses))] {
			short += of.amount(l.size)
			lost = append(lost, l.name)
		}
		if short > 0 && len(lost) > 0 {
			constraint, wayOut := of.says(short)
			return &Obstacle{Lost: lost, Constraint: constraint, WayOut: wayOut}
		}
	}
	return nil
}

// missing returns a network that the guest needs and the host lacks.
func missing(h Host, g estate.Guest) string {
	for _, n := range g.Networks {
		if !slices.Contains(h.Networks, n) {
			return n
		}
	}
	return ""
}

// Spare is how much more memory and CPU the cluster could be given, measured where the loss of the k hosts that matter most is
// absorbed: a necessary bound, not a proof that guests of any size find a place.
type Spare struct {
	Room estate.Resources // negative where it is already exceeded
	Lost []string         // the hosts whose loss leaves this little memory
}

// Headroom returns the smallest spare over all losses of k hosts. With k = 0 it is what is free.
func Headroom(hosts []Host, k int) Spare {
	losses := choices(len(hosts), k)
	if losses == nil {
		losses = [][]int{nil}
	}
	var least Spare
	for n, lost := range losses {
		var s Spare
		for i := range hosts {
			if slices.Contains(lost, i) {
				s.Lost = append(s.Lost, hosts[i].Name)
				s.Room = s.Room.Sub(restartable(&hosts[i]))
			} else if hosts[i].Open {
				s.Room = s.Room.Add(hosts[i].free())
			}
		}
		if n == 0 || s.Room.MemoryMiB < least.Room.MemoryMiB {
			least = s
		}
	}
	return least
}

func restartable(h *Host) estate.Resources {
	var sum estate.Resources
	for _, g := range h.Guests {
		if g.Device == "" {
			sum = sum.Add(g.Load)
		}
	}
	return sum
}
