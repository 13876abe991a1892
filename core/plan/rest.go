package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// Policy says what is done with guests that do not move when their host is emptied. Without one a guest that can't move stops the round.
type Policy struct {
	// Guests are named by name or UUID. With * in a name only those of its guests are meant that can't be migrated: nobody else is shut down by a pattern.
	Guests []string `json:"guests"`
	// Do is act.Down, shut down and started again after the visit, or act.Save, suspended to disk and brought back.
	Do act.Name `json:"do"`
}

// Dos are what a policy may have done.
var Dos = []act.Name{act.Down, act.Save}

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

// migrates tells whether the guest can be migrated at all.
func migrates(g *estate.Guest) bool {
	return len(g.Devices)+len(g.Pins) == 0 && g.State == estate.Running
}

// rests finds which guests of a host come to rest, by the brief: in the order of its policies. One that is suspended can't be shut down, and a policy that says so does not help it.
func (b *Brief) rests(r *estate.Reading) (out []Rest) {
	for i := range b.Guests {
		p := &b.Guests[i]
		for _, word := range p.Guests {
			one := estate.Rule{Guests: []string{word}}
			for _, g := range r.Holding() {
				if !one.Means(&g) || strings.Contains(word, "*") && migrates(&g) || p.Do == act.Down && g.State != estate.Running ||
					slices.ContainsFunc(out, func(o Rest) bool { return o.UID() == g.UID() }) {
					continue
				}
				out = append(out, Rest{g.ID, g.Name, p.Do})
			}
		}
	}
	return out
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

// unheard tells of guests that the policies name and no host has, and of what nobody can do with a guest.
func (in Input) unheard() error {
	for _, p := range in.Brief.Guests {
		if !slices.Contains(Dos, p.Do) {
			return fmt.Errorf("the brief's guests: %q is nothing that is done with a guest; %q and %q are", p.Do, act.Down, act.Save)
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

func (v *Visit) resting() map[string]bool { return (&Plan{Visits: []Visit{*v}}).Rest() }
