package fit

import (
	"fmt"
	"slices"

	"yareharbour/core/estate"
)

// Certificate says for every loss of hosts where the guests of the lost ones restart.
type Certificate struct {
	Out    []string // hosts that are out of service, and empty
	Losses []Loss
}

// Loss is hosts that fail at once, and where their guests restart: by a guest's UID the host.
type Loss struct {
	Hosts    []string
	Restarts map[string]string
}

// certificate writes down where restarts go, as things stand.
func (s *state) certificate() (c Certificate) {
	for h := range int32(s.nh) {
		if s.out[h] {
			c.Out = append(c.Out, s.names[h])
		}
	}
	for l := range int32(len(s.losses)) {
		if s.gone[l] {
			continue
		}
		x := Loss{Hosts: s.named(s.losses[l]), Restarts: map[string]string{}}
		for _, h := range s.losses[l] {
			for _, g := range s.on[h] {
				if to := s.target[int(l)*s.ng+int(g)]; to >= 0 {
					x.Restarts[s.guests[g].UID()] = s.names[to]
				}
			}
		}
		c.Losses = append(c.Losses, x)
	}
	return c
}

// searched is a certificate that is sought by trying everything, and false where there is none, or the effort does not
// suffice.
func (s *state) searched(outs []int32) (Certificate, bool) {
	found := Certificate{Out: s.named(outs)}
	e := s.exhaust(Effort)
	e.outs = outs
	e.note = func(lost []int32) {
		x := Loss{Hosts: s.named(lost), Restarts: map[string]string{}}
		for g, h := range s.compiled.at {
			if slices.Contains(lost, h) && s.restarts[g] {
				x.Restarts[s.guests[g].UID()] = s.names[e.at[g]]
			}
		}
		found.Losses = append(found.Losses, x)
	}
	kept := e.keeps()
	return found, kept
}

// Certified tells, by an error, why a placement does not stand by itself: the moves are made on the cluster as it is, a
// certificate is sought for what comes of it, and that is held to the cluster by Verify, which shares nothing with any
// search. out are the hosts that are empty then.
func Certified(p Problem, out []string, moves []Move) error {
	q := p
	q.Hosts = slices.Clone(p.Hosts)
	at := map[string]int{}
	for i := range q.Hosts {
		h := &q.Hosts[i]
		at[h.Name] = i
		h.Guests = slices.Clone(h.Guests)
		if slices.Contains(out, h.Name) { // those come to rest
			h.Guests = slices.DeleteFunc(h.Guests, func(g estate.Guest) bool { return p.Rest[g.UID()] })
		}
	}
	for _, m := range moves {
		from, known := at[m.From]
		to, there := at[m.To]
		if !known || !there {
			return fmt.Errorf("%s would go from %s to %s, and one of them is no host of the cluster", m.Guest, m.From, m.To)
		}
		if slices.Contains(p.SendNone, m.To) {
			return fmt.Errorf("%s would go to %s, which is sent none", m.Guest, m.To)
		}
		h := &q.Hosts[from]
		i := slices.IndexFunc(h.Guests, func(g estate.Guest) bool { return g.UID() == m.UID() })
		if i < 0 {
			return fmt.Errorf("%s is not on %s", m.Guest, m.From)
		}
		q.Hosts[to].Guests = append(q.Hosts[to].Guests, h.Guests[i])
		h.Guests = slices.Delete(h.Guests, i, i+1)
	}
	c := compile(&q)
	s := newState(c)
	if s == nil {
		return fmt.Errorf("the choices of %d hosts that could be lost are too many to look at", p.Reserve)
	}
	outs := c.indices(out)
	if _, why := s.emptyAll(outs, nil); why != nil {
		found, ok := s.searched(outs)
		if !ok {
			return fmt.Errorf("no restarts are found for every loss: %s", why.obstacle(s))
		}
		return Verify(q, found)
	}
	return Verify(q, s.certificate())
}

// Verify holds a certificate against a problem in which its hosts are out and empty: every loss of the reserve is
// there, and in each every guest that can be restarted has an open host with room that may run it and that shares it
// with nobody whom a rule keeps from it. It shares nothing with the search that made the certificate. It returns what
// is wrong, or nil.
func Verify(p Problem, c Certificate) error {
	hosts := map[string]*Host{}
	in := 0
	for i := range p.Hosts {
		h := &p.Hosts[i]
		hosts[h.Name] = h
		if !slices.Contains(c.Out, h.Name) {
			in++
		} else if len(h.Guests) > 0 {
			return fmt.Errorf("%s is out and has guests", h.Name)
		}
	}
	want := 1
	for i := range p.Reserve {
		want = want * (in - i) / (i + 1)
	}
	seen := map[string]bool{}
	for _, l := range c.Losses {
		if len(l.Hosts) == p.Reserve {
			seen[fmt.Sprint(slices.Sorted(slices.Values(l.Hosts)))] = true
		}
		if err := verifyLoss(&p, hosts, c.Out, l); err != nil {
			return fmt.Errorf("if %v failed: %w", l.Hosts, err)
		}
	}
	if p.Reserve > 0 && len(seen) != want {
		return fmt.Errorf("it covers %d of %d losses", len(seen), want)
	}
	return nil
}

func verifyLoss(p *Problem, hosts map[string]*Host, out []string, l Loss) error {
	after := map[string][]*estate.Guest{}
	for name, h := range hosts {
		if slices.Contains(l.Hosts, name) {
			continue
		}
		for i := range h.Guests {
			after[name] = append(after[name], &h.Guests[i])
		}
	}
	comes := map[string][]*estate.Guest{}
	for _, lost := range l.Hosts {
		for i := range hosts[lost].Guests {
			g := &hosts[lost].Guests[i]
			if g.Rooted() {
				continue
			}
			to := hosts[l.Restarts[g.UID()]]
			if to == nil || !to.Open || slices.Contains(l.Hosts, to.Name) || slices.Contains(out, to.Name) {
				return fmt.Errorf("%s restarts on %q", g.Name, l.Restarts[g.UID()])
			}
			if slices.ContainsFunc(to.Off, func(o estate.Guest) bool { return o.Namesake(g) }) {
				return fmt.Errorf("%s restarts on %s, where another guest has its name", g.Name, to.Name)
			}
			for _, pair := range [][2][]string{{to.Networks, g.Networks}, {to.Storages, g.Storages},
				{to.Features, g.Features}} {
				for _, x := range pair[1] {
					if !slices.Contains(pair[0], x) {
						return fmt.Errorf("%s restarts on %s, which lacks %s", g.Name, to.Name, x)
					}
				}
			}
			after[to.Name] = append(after[to.Name], g)
			comes[to.Name] = append(comes[to.Name], g)
		}
	}
	for name, guests := range comes {
		if err := verifyRoom(hosts[name], after[name], guests); err != nil {
			return err
		}
		for _, g := range guests {
			if err := verifyRules(p, name, g, after[name]); err != nil {
				return err
			}
		}
	}
	return nil
}

// verifyRoom holds a host to its room in what the guests that come take of it. What it is short of already, and nobody
// who comes takes, is not theirs.
func verifyRoom(h *Host, all, comes []*estate.Guest) error {
	used, new, counts := estate.Resources{}, estate.Resources{}, map[string]int{}
	for _, g := range all {
		used = used.Add(g.Load)
		for k, n := range g.Takes {
			counts[k] += n
		}
	}
	for _, g := range comes {
		new = new.Add(g.Load)
		for k := range g.Takes {
			if counts[k] > h.Counts[k] {
				return fmt.Errorf("%s would have %d of %s in use, of %d", h.Name, counts[k], k, h.Counts[k])
			}
		}
	}
	if new.MemoryMiB > 0 && used.MemoryMiB > h.Capacity.MemoryMiB || new.CPU > 0 && used.CPU > h.Capacity.CPU {
		return fmt.Errorf("%s would be too full: %+v of %+v", h.Name, used, h.Capacity)
	}
	return nil
}

func verifyRules(p *Problem, host string, g *estate.Guest, with []*estate.Guest) error {
	for _, o := range with {
		if o.Namesake(g) {
			return fmt.Errorf("two guests called %s would be on %s", g.Name, host)
		}
	}
	for i := range p.Rules {
		r := &p.Rules[i]
		if r.Prefer || !r.Means(g) {
			continue
		}
		switch r.Keep {
		case estate.Apart:
			for _, o := range with {
				if o.UID() != g.UID() && r.Means(o) {
					return fmt.Errorf("%s and %s share %s", g.Name, o.Name, host)
				}
			}
		case estate.KeptIn, estate.KeptOut:
			if slices.Contains(r.Hosts, host) != (r.Keep == estate.KeptIn) {
				return fmt.Errorf("%s restarts on %s against a rule", g.Name, host)
			}
		}
	}
	return nil
}
