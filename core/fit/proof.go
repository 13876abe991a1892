package fit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// impossible looks for a proof, without any search, that no placement can empty the hosts with the reserve kept: a
// guest that can't leave, sums that do not add up, more members of a group than hosts for them. It is nil where it
// finds none.
func (c *compiled) impossible(outs []int32) *Obstacle {
	if o := c.immovable(outs); o != nil {
		return o
	}
	if o := c.sums(outs); o != nil {
		return o
	}
	return c.pigeonholes(outs)
}

// immovable names a guest that no search could place.
func (c *compiled) immovable(outs []int32) *Obstacle {
	for i, g := range c.guests {
		if !slices.Contains(outs, c.at[i]) || c.rests[i] {
			continue
		}
		loosed := c.p.Loosed(g)
		ties := g.Ties(loosed)
		loosed.Media = true
		switch {
		case len(g.Devices) == 1:
			return &Obstacle{Guest: g.Name, Constraint: "holds the device " + g.Devices[0] +
				" of its host and can't move", WayOut: "shut it down for the visit, or give it a device that moves"}
		case len(g.Devices) > 1:
			return &Obstacle{Guest: g.Name, Constraint: fmt.Sprintf("holds %d devices of its host (%s) and can't move",
				len(g.Devices), strings.Join(g.Devices, ", ")),
				WayOut: "shut it down for the visit, or give it devices that move"}
		case len(ties) > 0 && len(g.Ties(loosed)) == 0:
			return &Obstacle{Guest: g.Name, Constraint: "can't move: " + strings.Join(ties, "; "),
				WayOut: "take out what is in its drives, or shut it down for the visit"}
		case len(ties) > 0:
			return &Obstacle{Guest: g.Name, Constraint: "can't move: " + strings.Join(ties, "; "),
				WayOut: "see to that, or shut it down for the visit"}
		case !c.movable[i]:
			return &Obstacle{Guest: g.Name,
				Constraint: fmt.Sprintf("is %s: it can't be migrated so, and what is in its memory would be lost if "+
					"the host restarted", g.State), WayOut: "let it run again, or shut it down for the visit"}
		}
		if m := c.anchored(int32(i), c.at); m >= 0 {
			return &Obstacle{Guest: g.Name, Constraint: "is kept together with " + c.guests[m].Name + ", which comes to rest on " +
				c.names[c.at[i]] + " and starts there again", WayOut: "let both come to rest, or lift the rule for the round"}
		}
		w := &c.wants[c.class[i]]
		if o := c.nowhere(outs, int32(i), w); o != nil {
			return o
		}
	}
	return nil
}

// nowhere tells what no other open host offers of what the guest needs.
func (c *compiled) nowhere(outs []int32, g int32, w *want) *Obstacle {
	others := false
	for h := range c.p.Hosts {
		if slices.Contains(outs, int32(h)) || !c.open[h] {
			continue
		}
		if others = true; c.may[int(c.class[g])*c.nh+h] || c.later[int(c.class[g])*c.nh+h] {
			return nil
		}
	}
	name := c.guests[g].Name
	switch {
	case !others:
		return nil // there is no other open host: the sums say what is missing
	case slices.ContainsFunc(c.p.Hosts, func(h Host) bool { _, lack := lacks(h.Networks, w.networks); return lack }):
		return &Obstacle{Guest: name, Constraint: "finds its networks (" + strings.Join(w.networks, ", ") +
			") on no other open host", WayOut: "connect one more host to them"}
	case slices.ContainsFunc(c.p.Hosts, func(h Host) bool { _, lack := lacks(h.Storages, w.storages); return lack }):
		return &Obstacle{Guest: name, Constraint: "finds its storages (" + strings.Join(w.storages, ", ") +
			") on no other open host", WayOut: "connect one more host to them"}
	case slices.ContainsFunc(c.p.Hosts, func(h Host) bool { _, lack := lacks(h.Features, w.features); return lack }):
		return &Obstacle{Guest: name, Constraint: "finds what it needs of processor and emulator (" +
			strings.Join(w.features, ", ") + ") on no other open host",
			WayOut: "start it again with less, or bring another host up to it first"}
	}
	if len(w.taken) > 0 {
		return &Obstacle{Guest: name, Constraint: "finds on every other open host that it may be on another guest, powered " +
			"off, that is called the same", WayOut: "give one of the two another name"}
	}
	return &Obstacle{Guest: name, Constraint: "is kept by rules from every other open host",
		WayOut: "lift one of these rules for the round"}
}

// sums is the proof by addition. However guests are placed on the open hosts, these have the same left in all; and a
// host that is lost takes with it what it had left and brings what it ran, which together is all of it. So what is left
// in all must be no less than the k largest hosts are, but for guests that are lost with their host. The same holds of
// every set of hosts to which some guests are confined, of these guests alone.
func (c *compiled) sums(outs []int32) *Obstacle {
	if o := c.sum(outs, nil, -1); o != nil {
		return o
	}
	seen := map[string]bool{}
	for n := range c.wants {
		set := make([]bool, c.nh)
		key := make([]byte, c.nh)
		whole := true
		for h := range c.nh {
			i := n*c.nh + h
			set[h] = c.may[i] || c.later[i]
			key[h] = '0'
			if set[h] {
				key[h] = '1'
			} else {
				whole = false
			}
		}
		if whole || seen[string(key)] {
			continue
		}
		seen[string(key)] = true
		if o := c.sum(outs, set, int32(n)); o != nil {
			return o
		}
	}
	return nil
}

// inside tells whether all hosts that may ever take the class are in the set.
func (c *compiled) inside(class int32, set []bool) bool {
	for h := range c.nh {
		if i := int(class)*c.nh + h; (c.may[i] || c.later[i]) && !set[h] {
			return false
		}
	}
	return true
}

// sum does the addition for a set of hosts and the guests that can run nowhere else; for all where the set is nil.
// example is a class of such guests.
func (c *compiled) sum(outs []int32, set []bool, example int32) *Obstacle {
	confined := make([]bool, len(c.wants))
	for n := range confined {
		confined[n] = set == nil || c.inside(int32(n), set)
	}
	free, brings := slices.Clone(c.cap), make([]int64, c.nh*c.nd)
	left := make([]int64, c.nd)
	for g := range c.ng {
		h := int(c.at[g])
		for d := range c.nd {
			x := c.load[g*c.nd+d]
			free[h*c.nd+d] -= x
			switch {
			case !confined[c.class[g]]:
			case slices.Contains(outs, int32(h)) && c.rests[g]:
			case slices.Contains(outs, int32(h)):
				left[d] -= x
			case c.restarts[g]:
				brings[h*c.nd+d] += x
			}
		}
	}
	type loss struct {
		host int32
		size int64
	}
	for d := range c.nd {
		var losses []loss
		for h := range c.nh {
			if slices.Contains(outs, int32(h)) || set != nil && !set[h] {
				continue
			}
			size := brings[h*c.nd+d]
			if c.open[h] {
				f := max(free[h*c.nd+d], 0) // nobody is placed on a host that has less than nothing
				left[d] += f
				size += f
			}
			losses = append(losses, loss{int32(h), size})
		}
		slices.SortStableFunc(losses, func(a, b loss) int { return cmp.Compare(b.size, a.size) })
		short := -left[d]
		var lost []int32
		for _, l := range losses[:min(c.p.Reserve, len(losses))] {
			short += l.size
			lost = append(lost, l.host)
		}
		if short > 0 && (len(lost) > 0 || len(outs) > 0) {
			return c.short(d, short, lost, set, example)
		}
	}
	return nil
}

func (c *compiled) short(d int, n int64, lost []int32, set []bool, example int32) *Obstacle {
	o := &Obstacle{Lost: c.named(lost), Constraint: c.amount(d, n) + " are missing"}
	switch d {
	case 0:
		o.WayOut = "shut down guests of " + GiB(n)
	case 1:
		o.WayOut = "shut down guests that use " + c.amount(d, n)
	default:
		o.WayOut = "shut down guests that take " + c.amount(d, n)
	}
	if set != nil {
		var where []string
		for h, in := range set {
			if in {
				where = append(where, c.names[h])
			}
		}
		i := slices.Index(c.class, example)
		o.Constraint += fmt.Sprintf(" on %s, the only hosts for guests as %s",
			strings.Join(where, ", "), c.guests[i].Name)
	}
	return o
}

// pigeonholes is the proof by counting: each member of a group that is kept apart needs a host of its own, now and
// after each loss.
func (c *compiled) pigeonholes(outs []int32) *Obstacle {
	for n := range c.groups {
		gr := &c.groups[n]
		if gr.rule < 0 {
			continue
		}
		if rule := &c.p.Rules[gr.rule]; rule.Keep != estate.Apart || rule.Prefer {
			continue
		}
		members, holes := 0, 0
		var holding []int32
		for _, g := range gr.members {
			if c.restarts[g] && !(c.rests[g] && slices.Contains(outs, c.at[g])) {
				members++
				holding = append(holding, c.at[g])
			}
		}
		for h := range int32(c.nh) {
			if slices.Contains(outs, h) {
				continue
			}
			if slices.Contains(holding, h) || c.open[h] && slices.ContainsFunc(gr.members, func(g int32) bool {
				i := int(c.class[g])*c.nh + int(h)
				return c.may[i] || c.later[i]
			}) {
				holes++
			}
		}
		if members > max(holes-c.p.Reserve, 0) && members > 1 && !c.crowded(holding) {
			o := &Obstacle{Constraint: fmt.Sprintf("%d guests that are kept apart (%s) would have %d hosts", members,
				strings.Join(c.p.Rules[gr.rule].Guests, ", "), max(holes-c.p.Reserve, 0)),
				WayOut: "lift the rule for the round, or shut one of them down for the visit"}
			if c.p.Reserve > 0 && members <= holes {
				o.Constraint += fmt.Sprintf(" once %d failed", c.p.Reserve)
			}
			return o
		}
	}
	return nil
}

// crowded tells whether two already share a host: then the rule is broken as it is, and no count proves anything.
func (c *compiled) crowded(hosts []int32) bool {
	s := slices.Sorted(slices.Values(hosts))
	return len(slices.Compact(s)) < len(hosts)
}
