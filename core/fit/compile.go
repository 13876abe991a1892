package fit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// compiled is a problem in numbers: hosts and guests by their places, amounts in a row of nd for each, and for each
// class of guests which hosts may take them.
type compiled struct {
	p          *Problem
	names      []string
	guests     []*estate.Guest // of all hosts, host by host
	nh, ng, nd int
	kinds      []string // of the amounts beyond memory and CPU
	cap, load  []int64  // nh·nd and ng·nd
	room       []int64  // capacity up to which guests are sent, nh·nd
	inv        []float64
	at         []int32   // where each guest is
	there      [][]int32 // the guests of each host
	open       []bool    // guests may be there, if only after a loss
	sent       []bool    // and they may be sent there
	movable    []bool    // the guest can be migrated
	cold       []bool    // the guest moves while it is off
	rests      []bool    // the guest stays where it is when its host is emptied
	restarts   []bool    // the guest can be restarted elsewhere after a loss
	class      []int32
	wants      []want // of each class
	may, later []bool // class·nh + host: it may run there, as the host is now and as it will be
	runsOn     []int32
	emulator   []int32 // rank of each host's emulator, now and later; 0 where not known
	emuLater   []int32
	apart      [][]int32 // the groups of each guest that must not share a host
	avoids     [][]int32 // those that had better not
	together   [][]int32 // the groups that each guest must share a host with
	prefers    []int32   // the group that it had better be with; -1
	groups     []group
	size       []float64 // of each guest, as its share of the scarcest resource of an average host
	losses     [][]int32
}

// want is what the guests of a class ask of a host.
type want struct {
	networks, storages, features []string
	inside, outside              []string // hosts
	asked                        bool     // a rule names the hosts
	taken                        []string // hosts on which another guest, powered off, has its name
	liked, disliked              []string // hosts that it had better be on, or not
}

// group is the guests that a rule speaks of, or that share a name.
type group struct {
	rule    int // -1 where it is their name
	members []int32
}

func compile(p *Problem) *compiled {
	c := &compiled{p: p, nh: len(p.Hosts), kinds: p.kinds()}
	c.nd = 2 + len(c.kinds)
	for i := range p.Hosts {
		h := &p.Hosts[i]
		c.names = append(c.names, h.Name)
		c.open = append(c.open, h.Open)
		c.sent = append(c.sent, h.Open && !slices.Contains(p.SendNone, h.Name))
		c.cap = append(c.cap, h.Capacity.MemoryMiB, h.Capacity.CPU)
		for _, k := range c.kinds {
			c.cap = append(c.cap, int64(h.Counts[k]))
		}
		first := int32(len(c.guests))
		for j := range h.Guests {
			c.guests = append(c.guests, &h.Guests[j])
			c.at = append(c.at, int32(i))
		}
		c.there = append(c.there, upTo(first, int32(len(c.guests))))
	}
	c.ng = len(c.guests)
	for i, x := range c.cap {
		if i%c.nd < 2 && p.Limit > 0 {
			x = int64(float64(x) * p.Limit)
		}
		c.room = append(c.room, x)
		inv := 0.0
		if c.cap[i] > 0 {
			inv = 1 / float64(c.cap[i])
		}
		c.inv = append(c.inv, inv)
	}
	c.sizes()
	c.rules()
	c.namesakes()
	c.classes()
	c.emulators()
	c.losses = choices(c.nh, p.Reserve)
	return c
}

// upTo are the numbers from a up to b, without b.
func upTo(a, b int32) (out []int32) {
	for ; a < b; a++ {
		out = append(out, a)
	}
	return out
}

// sizes fills in what each guest takes, and whether it moves and restarts.
func (c *compiled) sizes() {
	total := make([]float64, c.nd)
	for i, x := range c.cap {
		total[i%c.nd] += float64(x)
	}
	for _, g := range c.guests {
		at := len(c.load)
		c.load = append(c.load, g.Load.MemoryMiB, g.Load.CPU)
		for _, k := range c.kinds {
			c.load = append(c.load, int64(g.Takes[k]))
		}
		size := 0.0
		for d := range c.nd {
			size = max(size, float64(c.load[at+d])/max(total[d], 1))
		}
		c.size = append(c.size, size*float64(c.nh))
		c.movable = append(c.movable, len(g.Ties(c.p.Loosed(g))) == 0 &&
			(g.State == "" || g.State == estate.Running || c.p.Cold[g.UID()]))
		c.cold = append(c.cold, c.p.Cold[g.UID()])
		c.restarts = append(c.restarts, !g.Rooted())
		c.rests = append(c.rests, c.p.Rest[g.UID()])
	}
}

// rules fills in the groups.
func (c *compiled) rules() {
	c.apart, c.avoids = make([][]int32, c.ng), make([][]int32, c.ng)
	c.together, c.prefers = make([][]int32, c.ng), make([]int32, c.ng)
	for g := range c.ng {
		c.prefers[g] = -1
	}
	for r := range c.p.Rules {
		rule := &c.p.Rules[r]
		if rule.Keep != estate.Apart && rule.Keep != estate.Together {
			continue
		}
		gr := group{rule: r}
		n := int32(len(c.groups))
		for i, g := range c.guests {
			if !rule.Means(g) {
				continue
			}
			gr.members = append(gr.members, int32(i))
			switch {
			case rule.Keep == estate.Apart && rule.Prefer:
				c.avoids[i] = append(c.avoids[i], n)
			case rule.Keep == estate.Apart:
				c.apart[i] = append(c.apart[i], n)
			case rule.Prefer:
				c.prefers[i] = n
			default:
				c.together[i] = append(c.together[i], n)
			}
		}
		c.groups = append(c.groups, gr)
	}
}

// namesakes keeps guests apart that share a name: a host knows a guest by its name too, and takes no second one.
func (c *compiled) namesakes() {
	named := map[string][]int32{}
	for i, g := range c.guests {
		named[g.Name] = append(named[g.Name], int32(i))
	}
	for i, g := range c.guests { // in an order that is always the same
		all := named[g.Name]
		if all[0] != int32(i) || !slices.ContainsFunc(all, func(m int32) bool {
			return g.Namesake(c.guests[m]) && c.at[m] != c.at[i]
		}) {
			continue
		}
		for _, m := range all {
			c.apart[m] = append(c.apart[m], int32(len(c.groups)))
		}
		c.groups = append(c.groups, group{-1, all})
	}
}

// anchored is a guest beside which a rule keeps this one and that comes to rest where both are: whoever goes would be
// parted from it once it is started there again; -1 where there is none.
func (c *compiled) anchored(g int32, at []int32) int32 {
	for _, n := range c.together[g] {
		for _, m := range c.groups[n].members {
			if m != g && c.rests[m] && at[m] == at[g] {
				return m
			}
		}
	}
	return -1
}

// classes finds which hosts may take which guests. Guests that ask for the same share a class: there are few.
func (c *compiled) classes() {
	known := map[string]int32{}
	off := map[string][]string{} // by guest's name, the hosts on which one is powered off
	for i := range c.p.Hosts {
		for _, g := range c.p.Hosts[i].Off {
			off[g.Name] = append(off[g.Name], c.names[i])
		}
	}
	var key strings.Builder
	for _, g := range c.guests {
		w := want{networks: g.Networks, storages: g.Storages, features: g.Features}
		for _, name := range off[g.Name] {
			there := c.p.Hosts[slices.Index(c.names, name)].Off
			if slices.ContainsFunc(there, func(o estate.Guest) bool { return o.Namesake(g) }) {
				w.taken = append(w.taken, name)
			}
		}
		for r := range c.p.Rules {
			rule := &c.p.Rules[r]
			if rule.Keep != estate.KeptIn && rule.Keep != estate.KeptOut || !rule.Means(g) {
				continue
			}
			switch {
			case rule.Keep == estate.KeptIn && rule.Prefer:
				w.liked = append(w.liked, rule.Hosts...)
			case rule.Keep == estate.KeptIn && w.asked:
				w.inside = slices.DeleteFunc(slices.Clone(w.inside), func(h string) bool {
					return !slices.Contains(rule.Hosts, h)
				})
			case rule.Keep == estate.KeptIn:
				w.asked, w.inside = true, rule.Hosts
			case rule.Prefer:
				w.disliked = append(w.disliked, rule.Hosts...)
			default:
				w.outside = append(w.outside, rule.Hosts...)
			}
		}
		key.Reset()
		for _, list := range [][]string{w.networks, w.storages, w.features, w.inside, w.outside, w.liked, w.disliked, w.taken} {
			for _, x := range list {
				key.WriteString(x)
				key.WriteByte(0)
			}
			key.WriteByte(1)
		}
		n, ok := known[key.String()]
		if !ok {
			n = int32(len(c.wants))
			known[key.String()] = n
			c.wants = append(c.wants, w)
			for i := range c.p.Hosts {
				h := &c.p.Hosts[i]
				c.may = append(c.may, w.refused(h, h.Features) == "")
				if h.After != nil {
					c.later = append(c.later, w.refused(h, h.After.Features) == "")
				} else {
					c.later = append(c.later, c.may[len(c.may)-1])
				}
			}
		}
		c.class = append(c.class, n)
	}
}

// refused says why a host with these features can't run a guest that asks for this; "" where it can.
func (w *want) refused(h *Host, features []string) string {
	if x, ok := lacks(h.Networks, w.networks); ok {
		return "the network " + x
	}
	if x, ok := lacks(h.Storages, w.storages); ok {
		return "the storage " + x
	}
	if x, ok := lacks(features, w.features); ok {
		return "the feature " + x
	}
	if w.asked && !slices.Contains(w.inside, h.Name) || slices.Contains(w.outside, h.Name) {
		return "a rule's leave"
	}
	if slices.Contains(w.taken, h.Name) {
		return "its name free: another guest, powered off there, is called the same"
	}
	return ""
}

func lacks(has, wants []string) (string, bool) {
	for _, x := range wants {
		if !slices.Contains(has, x) {
			return x, true
		}
	}
	return "", false
}

// emulators ranks the versions of the emulator that hosts have and guests run on.
func (c *compiled) emulators() {
	c.emulator, c.emuLater, c.runsOn = make([]int32, c.nh), make([]int32, c.nh), make([]int32, c.ng)
	var key estate.Key
	var all []string
	for i := range c.p.Hosts {
		h := &c.p.Hosts[i]
		key = cmp.Or(key, h.Emulator.Key)
		all = append(all, h.Emulator.Version)
		if h.After != nil {
			all = append(all, h.After.Emulator.Version)
		}
	}
	if key == "" {
		return
	}
	for _, g := range c.guests {
		all = append(all, g.Emulator)
	}
	all = slices.DeleteFunc(all, func(v string) bool { return v == "" })
	order := key.Scheme().Compare
	slices.SortFunc(all, order)
	all = slices.CompactFunc(all, func(a, b string) bool { return order(a, b) == 0 })
	rank := func(v string) int32 {
		if v == "" {
			return 0
		}
		i, _ := slices.BinarySearchFunc(all, v, order)
		return int32(i) + 1
	}
	for i := range c.p.Hosts {
		h := &c.p.Hosts[i]
		c.emulator[i] = rank(h.Emulator.Version)
		c.emuLater[i] = c.emulator[i]
		if h.After != nil {
			c.emuLater[i] = rank(h.After.Emulator.Version)
		}
	}
	for i, g := range c.guests {
		c.runsOn[i] = rank(g.Emulator)
	}
}

func (c *compiled) indices(names []string) (out []int32) {
	for _, n := range names {
		if i := slices.Index(c.names, n); i >= 0 {
			out = append(out, int32(i))
		}
	}
	return out
}

func (c *compiled) guestAt(uid, host string) (int32, bool) {
	for i, g := range c.guests {
		if g.UID() == uid && c.names[c.at[i]] == host {
			return int32(i), true
		}
	}
	return 0, false
}

// shift is a guest that goes somewhere.
type shift struct{ guest, from, to int32 }

func (c *compiled) moves(shifts []shift) (out []Move) {
	for _, s := range shifts {
		g := c.guests[s.guest]
		out = append(out, Move{ID: g.ID, Guest: g.Name, From: c.names[s.from], To: c.names[s.to]})
	}
	return out
}

// amount says how much of something is meant.
func (c *compiled) amount(d int, n int64) string {
	switch d {
	case 0:
		return GiB(n) + " of memory"
	case 1:
		return fmt.Sprintf("%.1f cores", float64(n)/1000)
	}
	return fmt.Sprintf("%d of %s", n, c.kinds[d-2])
}

// named lists the hosts by name.
func (c *compiled) named(hosts []int32) (out []string) {
	for _, h := range hosts {
		out = append(out, c.names[h])
	}
	return out
}
