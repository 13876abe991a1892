package fit

import (
	"slices"
)

func (t *tourist) count(h int32) (n int) {
	for _, g := range t.c.there[h] {
		if !t.c.rests[g] {
			n++
		}
	}
	return n
}

func (t *tourist) memory(h int32) (sum int64) {
	for _, g := range t.c.there[h] {
		sum += t.c.load[int(g)*t.c.nd]
	}
	return sum
}

// floor works out what no tour can do with less.
func (t *tourist) floor() {
	c := t.c
	smallest := -1
	counts := map[int32]int{}
	for _, h := range t.todo {
		counts[h] = t.count(h)
		t.total += counts[h]
		if smallest < 0 || counts[h] < smallest {
			smallest = counts[h]
		}
	}
	t.least = t.total
	elsewhere := slices.ContainsFunc(t.untouched(), func(h int32) bool { return c.open[h] })
	if !elsewhere && smallest > 0 {
		t.least += smallest
	}
	t.bound = max(t.least, t.total+t.excess())
}

// untouched are the hosts that need not be emptied.
func (t *tourist) untouched() (out []int32) {
	for h := range int32(t.c.nh) {
		if !slices.Contains(t.todo, h) {
			out = append(out, h)
		}
	}
	return out
}

// excess is how many guests must move twice at least, by the room on hosts that need not be emptied, for the first two
// hosts of any order: the guests of the first that do not fit there go to hosts that are still to be emptied, and so do
// those of the second that do not fit there and on the first.
func (t *tourist) excess() int {
	if len(t.todo) < 2 {
		return 0
	}
	c := t.c
	room := make([]int64, c.nd)
	on := t.untouched()
	for _, h := range on {
		if !c.open[h] {
			continue
		}
		for d := range c.nd {
			free := c.cap[int(h)*c.nd+d]
			for _, g := range c.there[h] {
				free -= c.load[int(g)*c.nd+d]
			}
			room[d] += max(0, free)
		}
	}
	over := func(x int32, room []int64, on []int32) int {
		fits := t.count(x)
		var loads []int64
		for d := range c.nd {
			loads = loads[:0]
			n := 0
			for _, g := range c.there[x] {
				if c.rests[g] {
					continue
				}
				if !slices.ContainsFunc(on, func(h int32) bool {
					i := int(c.class[g])*c.nh + int(h)
					return c.open[h] && (c.may[i] || c.later[i])
				}) {
					continue
				}
				loads = append(loads, c.load[int(g)*c.nd+d])
			}
			slices.Sort(loads)
			left := room[d]
			for _, l := range loads {
				if l > left {
					break
				}
				left -= l
				n++
			}
			fits = min(fits, n)
		}
		return t.count(x) - fits
	}
	best := -1
	for _, f := range t.todo {
		a := over(f, room, on)
		if best >= 0 && a >= best {
			continue
		}
		wider := slices.Clone(room)
		for d := range c.nd {
			if c.open[f] {
				wider[d] += c.cap[int(f)*c.nd+d]
			}
		}
		for _, g := range t.todo {
			if g == f {
				continue
			}
			if n := a + over(g, wider, append(slices.Clip(on), f)); best < 0 || n < best {
				best = n
			}
		}
	}
	return max(best, 0)
}
