package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// Do is what is done with guests that do not move of themselves.
type Do string

// What may be done: a guest is shut down and started again after the visit; it is suspended to disk and brought back; media that only its host has are taken out of its drives, and it moves; it is left in peace, and with it
// its host, which is not visited where it would have to be empty.
const (
	DoShutDown Do = "shut down"
	DoSuspend  Do = "suspend"
	DoEject    Do = "eject"
	DoLeave    Do = "leave"
)

// Dos are what a policy may have done.
var Dos = []Do{DoShutDown, DoSuspend, DoEject, DoLeave}

// rests tells whether the guest comes to rest by it.
func (d Do) rests() bool { return d == DoShutDown || d == DoSuspend }

// Policy says what is done with guests that do not move of themselves when their host is emptied. Without one a guest that can't move stops the round.
type Policy struct {
	// Guests are named by name or UUID. With * in a name only those of its guests are meant that can't be migrated: nobody else is shut down by a pattern.
	Guests []string `json:"guests"`
	Do     Do       `json:"do"`
}

// Rest is a guest that does not move with the others.
type Rest struct {
	ID    string   `json:"id,omitempty"`
	Guest string   `json:"guest"`
	How   act.Name `json:"how"`
}

// UID is by what the guest is known.
func (r *Rest) UID() string { return cmp.Or(r.ID, r.Guest) }

// Says puts it in words.
func (r *Rest) Says() string {
	if r.How == act.Save {
		return r.Guest + " is suspended to disk, and brought back afterwards"
	}
	return r.Guest + " is shut down, and started again afterwards"
}

// Eject is a guest that moves once its drives are empty.
type Eject struct {
	ID    string   `json:"id,omitempty"`
	Guest string   `json:"guest"`
	Media []string `json:"media"`
}

// UID is by what the guest is known.
func (e *Eject) UID() string { return cmp.Or(e.ID, e.Guest) }

// Says puts it in words.
func (e *Eject) Says() string {
	return fmt.Sprintf("%s is taken out of the drive of %s, and stays out", strings.Join(e.Media, ", "), e.Guest)
}

// migrates tells whether the guest can be migrated at all.
func migrates(g *estate.Guest) bool { return len(g.Ties(false)) == 0 && g.State == estate.Running }

// done finds what is done with the guests of a host, by the brief: for each the first policy that means it and can be carried out. One that is suspended can't be shut down, one whose ties are others can't be helped by ejecting.
func (b *Brief) done(r *estate.Reading) (out map[string]Do, order []estate.Guest) {
	out = map[string]Do{}
	for i := range b.Guests {
		p := &b.Guests[i]
		for _, word := range p.Guests {
			one := estate.Rule{Guests: []string{word}}
			for _, g := range r.Holding() {
				if _, taken := out[g.UID()]; taken || !one.Means(&g) || strings.Contains(word, "*") && migrates(&g) || p.Do == DoShutDown && g.State != estate.Running ||
					p.Do == DoEject && (len(act.Inserted(&g)) == 0 || len(g.Ties(true)) > 0 || g.State != estate.Running) {
					continue
				}
				out[g.UID()] = p.Do
				order = append(order, g)
			}
		}
	}
	return out, order
}

// treats fills in what is done with the guests of a host that must be empty. It returns the guest for whose sake the host is left as it is; "" where there is none.
func (b *Brief) treats(v *Visit, r *estate.Reading) (leaves string) {
	done, order := b.done(r)
	for i := range order {
		g := &order[i]
		switch d := done[g.UID()]; {
		case d.rests():
			v.Rests = append(v.Rests, Rest{g.ID, g.Name, act.Name(d)})
		case d == DoEject:
			v.Ejects = append(v.Ejects, Eject{g.ID, g.Name, act.Inserted(g)})
		default:
			leaves = cmp.Or(leaves, g.Name)
		}
	}
	return leaves
}

// Rest are the guests, by UID, that come to rest with their hosts.
func (p *Plan) Rest() map[string]bool {
	out := map[string]bool{}
	for i := range p.Visits {
		for j := range p.Visits[i].Rests {
			out[p.Visits[i].Rests[j].UID()] = true
		}
	}
	return out
}

// Eject are the guests, by UID, whose media are taken out before they move.
func (p *Plan) Eject() map[string]bool {
	out := map[string]bool{}
	for i := range p.Visits {
		for j := range p.Visits[i].Ejects {
			out[p.Visits[i].Ejects[j].UID()] = true
		}
	}
	return out
}

// unheard tells of guests that the policies name and no host has, and of what nobody can do with a guest.
func (in Input) unheard() error {
	for _, p := range in.Brief.Guests {
		if !slices.Contains(Dos, p.Do) {
			return fmt.Errorf("the brief's guests: %q is nothing that is done with a guest; %q, %q, %q and %q are", p.Do, DoShutDown, DoSuspend, DoEject, DoLeave)
		}
		for _, word := range p.Guests {
			one := estate.Rule{Guests: []string{word}}
			if !slices.ContainsFunc(in.Cluster.Hosts, func(h string) bool {
				r := in.Readings[h]
				return r != nil && slices.ContainsFunc(r.Guests, func(g estate.Guest) bool { return one.Means(&g) })
			}) {
				return fmt.Errorf("the brief's guests: no host of %s has a guest %q", in.Cluster.Name, word)
			}
		}
	}
	return nil
}
