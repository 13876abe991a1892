package plan

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
)

// Do is what is done with guests that do not move of themselves.
type Do string

// What may be done: a guest is shut down and started again after the visit; it is suspended to disk and brought back;
// media that only its host has are taken out of its drives, it moves, comes back after the visit, and they are put in
// again, or it moves and they stay out; it is shut down where it runs, moved while it
// is off, and started there, or, where it was off, just moved; it is left in peace, and with it its host, which is not
// visited where it would have to be empty.
const (
	DoShutDown Do = "shut down"
	DoSuspend  Do = "suspend"
	DoEject    Do = "eject"
	DoEjectOut Do = "eject for good"
	DoCold     Do = "cold"
	DoLeave    Do = "leave"
)

// Dos are what a policy may have done.
var Dos = []Do{DoShutDown, DoSuspend, DoEject, DoEjectOut, DoCold, DoLeave}

// ejects tells whether the guest's media are taken out by it.
func (d Do) ejects() bool { return d == DoEject || d == DoEjectOut }

// rests tells whether the guest comes to rest by it.
func (d Do) rests() bool { return d == DoShutDown || d == DoSuspend }

// Policy says what is done with guests that do not move of themselves when their host is emptied. Without one a guest
// that can't move stops the round.
type Policy struct {
	// Guests are named by name, UUID or label, as in an estate.Rule. With * in a name only those of its guests are
	// meant that can't be migrated: nobody else is shut down by a pattern. A label means all that carry it.
	Guests []string `json:"guests"`
	Do     Do       `json:"do"`
}

// Rest is a guest that does not move with the others.
type Rest struct {
	ID    string   `json:"id,omitempty"`
	Guest string   `json:"guest"`
	How   act.Name `json:"how"`
	// After are the guests of the same host, by name and apart by commas, that are started before it, and Wait is how
	// long each of them runs before.
	After string        `json:"after,omitempty"`
	Wait  time.Duration `json:"wait,omitempty"`
	// Answers are addresses, by commas, at which something must answer before.
	Answers string `json:"answers,omitempty"`
}

// UID is by what the guest is known.
func (r *Rest) UID() string { return cmp.Or(r.ID, r.Guest) }

// Addresses are those of Answers, one by one.
func (r *Rest) Addresses() []string {
	return slices.DeleteFunc(strings.Split(r.Answers, ", "), func(at string) bool { return at == "" })
}

// Says puts it in words.
func (r *Rest) Says() string {
	says := " is shut down, and started again afterwards"
	if r.How == act.Save {
		says = " is suspended to disk, and brought back afterwards"
	}
	if r.After != "" {
		says += ", after " + r.After
	}
	if r.Answers != "" {
		says += ", once " + r.Answers + " answers"
	}
	return r.Guest + says
}

// Eject is a guest that moves once its drives are empty.
type Eject struct {
	ID    string        `json:"id,omitempty"`
	Guest string        `json:"guest"`
	Media []estate.Disk `json:"media"`
	Out   bool          `json:"out,omitempty"` // they stay out; else it comes back for them
}

// UID is by what the guest is known.
func (e *Eject) UID() string { return cmp.Or(e.ID, e.Guest) }

// Says puts it in words.
func (e *Eject) Says() string {
	says := "it comes back for it after the visit"
	if e.Out {
		says = "it stays out"
	}
	return fmt.Sprintf("%s is taken out of the drive of %s; %s", act.Sources(e.Media), e.Guest, says)
}

// Cold is a guest that moves while it is off.
type Cold struct {
	ID    string `json:"id,omitempty"`
	Guest string `json:"guest"`
	To    string `json:"to"`             // for one that is off; where one that runs goes stands among the moves
	Runs  bool   `json:"runs,omitempty"` // it is shut down for that, and started there
}

// UID is by what the guest is known.
func (c *Cold) UID() string { return cmp.Or(c.ID, c.Guest) }

// Says puts it in words.
func (c *Cold) Says() string {
	if c.Runs {
		return c.Guest + " is shut down, moved, and started there"
	}
	return c.Guest + ", which is off, is carried to " + c.To
}

// migrates tells whether the guest can be migrated at all.
func migrates(g *estate.Guest) bool {
	return len(g.Ties(estate.Loosed{})) == 0 && g.State == estate.Running
}

// Every is the word that means all guests of a host where they come to rest: for a cluster of one host, or a full one. In
// any other word, and for all else that is done, * means only those that can't be migrated.
const Every = "*"

// done finds what is done with the guests of a host, by the brief: for each the first policy that means it and can be
// carried out. One that is suspended can't be shut down, one that holds a device of its host or shares a directory can't be suspended to disk, one whose ties are others can't be helped by ejecting.
func (b *Brief) done(r *estate.Reading) (out map[string]Do, order []estate.Guest) {
	out = map[string]Do{}
	for i := range b.Guests {
		p := &b.Guests[i]
		for _, word := range p.Guests {
			one := estate.Rule{Guests: []string{word}}
			for _, g := range r.Guests {
				if _, taken := out[g.UID()]; taken || r.Off() || !one.Means(&g) ||
					!g.Holds() && (p.Do != DoCold || g.Saved) || strings.Contains(word, "*") && migrates(&g) &&
					!(word == Every && p.Do.rests()) ||
					p.Do == DoShutDown && g.State != estate.Running ||
					p.Do == DoSuspend && len(g.Devices)+len(g.Pins) > 0 ||
					p.Do == DoCold && (len(g.Ties(estate.Loosed{})) > 0 || g.State != estate.Running && g.State != estate.Off) ||
					p.Do.ejects() && (len(act.Inserted(&g)) == 0 || len(g.Ties(estate.Loosed{Media: true})) > 0 ||
						g.State != estate.Running) {
					continue
				}
				out[g.UID()] = p.Do
				order = append(order, g)
			}
		}
	}
	return out, order
}

// treats fills in what is done with the guests of a host that must be empty. It returns the guest for whose sake the
// host is left as it is; "" where there is none.
func (b *Brief) treats(v *Visit, r *estate.Reading) (leaves string) {
	done, order := b.done(r)
	for i := range order {
		g := &order[i]
		switch d := done[g.UID()]; {
		case d.rests():
			v.Rests = append(v.Rests, Rest{ID: g.ID, Guest: g.Name, How: act.Name(d)})
		case d.ejects():
			v.Ejects = append(v.Ejects, Eject{g.ID, g.Name, act.Inserted(g), d == DoEjectOut})
		case d == DoCold:
			v.Colds = append(v.Colds, Cold{ID: g.ID, Guest: g.Name, Runs: g.State == estate.Running})
		default:
			leaves = cmp.Or(leaves, g.Name)
		}
	}
	return leaves
}

// inTurn puts the guests of a host that come to rest in the order that the rules want: who is started after another is
// shut down before it. One that serves the host's own storage comes to rest last, and is started first.
func (in Input) inTurn(v *Visit, r *estate.Reading) {
	rules := slices.DeleteFunc(in.rules(), func(rule estate.Rule) bool { return rule.Keep != estate.After })
	after := func(a, b *Rest) (wait time.Duration, answers []string, is bool) {
		x, y := guestOf(r, a.UID()), guestOf(r, b.UID())
		is = x != nil && y != nil && r.ServedBy(y) && !r.ServedBy(x)
		for i := range rules {
			rule := &rules[i]
			if x != nil && y != nil && a.UID() != b.UID() && rule.Means(x) && rule.Others().Means(y) {
				wait, is = max(wait, rule.Wait), true
				answers = append(answers, nonempty(rule.Answers)...)
			}
		}
		return wait, answers, is
	}
	left := v.Rests
	for i := range left {
		for j := range left {
			if wait, answers, is := after(&left[i], &left[j]); is {
				for _, at := range answers {
					if !slices.Contains(left[i].Addresses(), at) {
						left[i].Answers = strings.Join(append(nonempty(left[i].Answers), at), ", ")
					}
				}
				left[i].After, left[i].Wait = strings.Join(append(nonempty(left[i].After), left[j].Guest), ", "), max(left[i].Wait, wait)
			}
		}
	}
	v.Rests = nil
	for len(left) > 0 {
		next := slices.IndexFunc(left, func(a Rest) bool { // nobody else comes after it
			return !slices.ContainsFunc(left, func(b Rest) bool { _, _, is := after(&b, &a); return is })
		})
		next = max(next, 0) // rules that contradict each other are told by their precheck
		v.Rests = append(v.Rests, left[next])
		left = slices.Delete(left, next, next+1)
	}
}

func guestOf(r *estate.Reading, uid string) *estate.Guest {
	if i := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.UID() == uid }); i >= 0 {
		return &r.Guests[i]
	}
	return nil
}

// Terms are those of fit on which the plan's visits are made.
func (p *Plan) Terms() fit.Terms { return p.Brief.terms(p.Rules, p.Visits...) }

// terms are those of fit by the brief and the rules, with what is done with guests on the visits.
func (b *Brief) terms(rules []estate.Rule, visits ...Visit) fit.Terms {
	out := fit.Terms{Rules: rules, Reserve: b.Reserve, Limit: b.Limit, SendNone: b.SendNone, Rest: map[string]bool{},
		Eject: map[string]bool{}, Uncopy: map[string]bool{}, Cold: map[string]bool{}}
	for i := range visits {
		v := &visits[i]
		for j := range v.Rests {
			out.Rest[v.Rests[j].UID()] = true
		}
		for j := range v.Uncopies {
			out.Uncopy[v.Uncopies[j].UID()] = true
		}
		for j := range v.Ejects {
			out.Eject[v.Ejects[j].UID()] = true
		}
		for j := range v.Colds {
			if v.Colds[j].Runs {
				out.Cold[v.Colds[j].UID()] = true
			}
		}
	}
	return out
}

// carries finds a host for each guest that is off and is to be carried away from a host: one that can run it, that is
// in service and need not be emptied any more if there is such a one, and of these the emptiest by memory.
func carries(v *Visit, r *estate.Reading, p fit.Problem, toCome []string) {
	hosts := p.Hosts
	v.Colds = slices.Clone(v.Colds)
	for i := range v.Colds {
		c := &v.Colds[i]
		n := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.UID() == c.UID() })
		if c.Runs || n < 0 {
			continue
		}
		best := -1
		rank := func(h *fit.Host) (int, int64) {
			again := 0
			if slices.Contains(toCome, h.Name) {
				again = 1
			}
			free := h.Capacity.MemoryMiB
			for j := range h.Guests {
				free -= h.Guests[j].Load.MemoryMiB
			}
			return again, -free
		}
		for j := range hosts {
			h := &hosts[j]
			if h.Name == v.Host || !h.Open || slices.Contains(p.SendNone, h.Name) || !h.Offers(&r.Guests[n]) {
				continue
			}
			if best >= 0 {
				a, x := rank(h)
				b, y := rank(&hosts[best])
				if cmp.Or(cmp.Compare(a, b), cmp.Compare(x, y)) >= 0 {
					continue
				}
			}
			best = j
		}
		if best >= 0 {
			c.To = hosts[best].Name
		}
	}
	v.Colds = slices.DeleteFunc(v.Colds, func(c Cold) bool {
		stays := !c.Runs && c.To == ""
		if stays {
			v.Off = append(v.Off, c.Guest)
		}
		return stays
	})
}

// unheard tells of guests that the policies name and no host has, and of what nobody can do with a guest.
func (in Input) unheard() error {
	for _, p := range in.Brief.Guests {
		if !slices.Contains(Dos, p.Do) {
			return fmt.Errorf("the brief's guests: %q is nothing that is done with a guest; there are %s", p.Do, estate.Listed(Dos))
		}
	}
	named := map[string][]string{}
	for _, p := range in.Brief.Guests {
		named["guests"] = append(named["guests"], p.Guests...)
	}
	for _, s := range in.Brief.Snapshots {
		if s.For <= 0 {
			return fmt.Errorf("the brief's snapshots of %s are kept for no time", strings.Join(s.Guests, ", "))
		}
		named["snapshots"] = append(named["snapshots"], s.Guests...)
	}
	for what, words := range named {
		for _, word := range words {
			one := estate.Rule{Guests: []string{word}}
			if !slices.ContainsFunc(in.Cluster.Hosts, func(h string) bool {
				r := in.Readings[h]
				return r != nil && slices.ContainsFunc(r.Guests, func(g estate.Guest) bool { return one.Means(&g) })
			}) {
				says := fmt.Sprintf("the brief's %s: no host of %s has a guest %q", what, in.Cluster.Name, word)
				if i := slices.IndexFunc(in.Cluster.Hosts, in.guestsUnread); i >= 0 {
					says += ", as far as they could be read: the guests of " + in.Cluster.Hosts[i] + " could not be"
				}
				return errors.New(says)
			}
		}
	}
	return nil
}

// guestsUnread tells whether the guests of a host are not known as they are now.
func (in Input) guestsUnread(host string) bool {
	r := in.Readings[host]
	return r == nil || !r.Read(estate.GuestList)
}
