package fit

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"yareharbour/core/estate"
)

// Way is a way out of an obstacle: all of it together lets the hosts be emptied.
type Way struct {
	Off     []string `json:"off,omitempty"`     // guests that are shut down meanwhile, by UID
	Guests  []string `json:"guests,omitempty"`  // their names
	Eject   []string `json:"eject,omitempty"`   // guests whose media are taken out of their drives, by UID
	Drives  []string `json:"drives,omitempty"`  // their names
	Lift    []int    `json:"lift,omitempty"`    // rules that are lifted, by their place
	Rules   []string `json:"rules,omitempty"`   // in words
	Reserve bool     `json:"reserve,omitempty"` // one host less is kept in reserve
	memory  int64
}

// Size is how many things it takes.
func (w *Way) Size() int {
	n := len(w.Off) + len(w.Eject) + len(w.Lift)
	if w.Reserve {
		n++
	}
	return n
}

// Says puts it in words.
func (w *Way) Says() string {
	var parts []string
	if len(w.Guests) > 0 {
		parts = append(parts, "shut down "+strings.Join(w.Guests, ", ")+" for the visit")
	}
	if len(w.Drives) > 0 {
		parts = append(parts, "take out what is in the drives of "+strings.Join(w.Drives, ", "))
	}
	if len(w.Rules) > 0 {
		parts = append(parts, "lift for the round: "+strings.Join(w.Rules, "; "))
	}
	if w.Reserve {
		parts = append(parts, "keep one host less in reserve")
	}
	return strings.Join(parts, ", and ")
}

// most is how many combinations are asked about at most: fewer where each takes longer.
func (p *Problem) most() int {
	guests := 0
	for i := range p.Hosts {
		guests += len(p.Hosts[i].Guests)
	}
	cost := (guests + 1) * (len(p.Hosts) + 1) * len(choices(len(p.Hosts), min(p.Reserve, 2)))
	return max(3, min(800, 1_500_000/(cost+1)))
}

// item is one thing that a way out may take: a guest, a rule, or the reserve.
type item struct {
	uid, name string
	memory    int64
	rule      int // -1 where it is none
	reserve   bool
	eject     bool // not the guest, but what is in its drives
}

// WaysOut looks for the smallest things that let the hosts be emptied where they can't be as things stand, and returns
// all that it finds of the smallest size, those that cost guests least first. whole tells that it looked at everything
// of that size and below: that there is nothing smaller. It is empty where nothing of up to three things helps, or it
// takes too long to tell.
func WaysOut(p Problem, out []string) (ways []Way, whole bool) {
	items := p.items(out)
	tried, most := 0, p.most()
	for size := 1; size <= 3; size++ {
		complete := true
		var rec func(from int, picked []item) bool
		rec = func(from int, picked []item) bool {
			if len(picked) == size {
				if tried++; tried > most {
					return false
				}
				if a := Drain(p.with(picked), out, nil, Glance); a.Outcome == Fits {
					ways = append(ways, p.way(picked))
				}
				return true
			}
			for i := from; i < len(items); i++ {
				if !rec(i+1, append(slices.Clip(picked), items[i])) {
					return false
				}
			}
			return true
		}
		complete = rec(0, nil)
		if len(ways) > 0 || !complete {
			slices.SortStableFunc(ways, func(a, b Way) int {
				return cmp.Or(cmp.Compare(a.cost(), b.cost()), cmp.Compare(a.memory, b.memory))
			})
			if len(ways) == 0 {
				ways = p.greedy(out, items)
				return ways, false
			}
			return ways, complete
		}
	}
	return p.greedy(out, items), false
}

// cost puts ways that leave guests running before those that do not.
func (w *Way) cost() int {
	n := 4 * len(w.Off)
	if w.Reserve {
		n++
	}
	return n
}

// items are what a way out may take: rules, the reserve, the guests of the hosts themselves, and then the others, the
// largest first.
func (p *Problem) items(out []string) (all []item) {
	for r := range p.Rules {
		if !p.Rules[r].Prefer {
			all = append(all, item{rule: r})
		}
	}
	if p.Reserve > 0 {
		all = append(all, item{rule: -1, reserve: true})
	}
	var own, others []item
	for i := range p.Hosts {
		h := &p.Hosts[i]
		for j := range h.Guests {
			g := &h.Guests[j]
			x := item{uid: g.UID(), name: g.Name, memory: g.Load.MemoryMiB, rule: -1}
			if slices.Contains(out, h.Name) {
				if len(g.Ties(estate.Loosed{Media: true})) < len(g.Ties(estate.Loosed{})) && !p.Eject[g.UID()] {
					all = append(all, item{uid: g.UID(), name: g.Name, rule: -1, eject: true})
				}
				own = append(own, x)
			} else {
				others = append(others, x)
			}
		}
	}
	for _, list := range [][]item{own, others} {
		slices.SortStableFunc(list, func(a, b item) int { return cmp.Compare(b.memory, a.memory) })
		all = append(all, list...)
	}
	return all
}

// with is the problem once these things were done.
func (p Problem) with(items []item) Problem {
	p.Hosts = slices.Clone(p.Hosts)
	var lifted []int
	for _, x := range items {
		switch {
		case x.reserve:
			p.Reserve--
		case x.rule >= 0:
			lifted = append(lifted, x.rule)
		case x.eject:
			p.Eject = maps.Clone(p.Eject)
			if p.Eject == nil {
				p.Eject = map[string]bool{}
			}
			p.Eject[x.uid] = true
		default:
			for i := range p.Hosts {
				p.Hosts[i].Guests = slices.DeleteFunc(slices.Clone(p.Hosts[i].Guests), func(g estate.Guest) bool {
					return g.UID() == x.uid
				})
			}
		}
	}
	if len(lifted) > 0 {
		var rules []estate.Rule
		for r := range p.Rules {
			if !slices.Contains(lifted, r) {
				rules = append(rules, p.Rules[r])
			}
		}
		p.Rules = rules
	}
	return p
}

func (p *Problem) way(items []item) (w Way) {
	for _, x := range items {
		switch {
		case x.reserve:
			w.Reserve = true
		case x.rule >= 0:
			w.Lift, w.Rules = append(w.Lift, x.rule), append(w.Rules, p.Rules[x.rule].Says())
		case x.eject:
			w.Eject, w.Drives = append(w.Eject, x.uid), append(w.Drives, x.name)
		default:
			w.Off, w.Guests, w.memory = append(w.Off, x.uid), append(w.Guests, x.name), w.memory+x.memory
		}
	}
	return w
}

// greedy shuts down the largest guests, as few of them as help and no more than twelve; nil where those do not.
func (p *Problem) greedy(out []string, items []item) []Way {
	guests := slices.DeleteFunc(slices.Clone(items), func(x item) bool { return x.uid == "" || x.eject })
	slices.SortStableFunc(guests, func(a, b item) int { return cmp.Compare(b.memory, a.memory) })
	guests = guests[:min(len(guests), 12)]
	fewest := sort.Search(len(guests), func(n int) bool {
		return Drain(p.with(guests[:n+1]), out, nil, Glance).Outcome == Fits
	})
	if fewest == len(guests) {
		return nil
	}
	return []Way{p.way(guests[:fewest+1])}
}

// WayOut says what of the ways is to be said in a line.
func WayOut(ways []Way, otherwise string) string {
	switch {
	case len(ways) == 0:
		return otherwise
	case len(ways) == 2:
		return ways[0].Says() + " (or one other thing)"
	case len(ways) > 1:
		return fmt.Sprintf("%s (or one of %d others)", ways[0].Says(), len(ways)-1)
	}
	return ways[0].Says()
}
