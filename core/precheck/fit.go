package precheck

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/estate"
	"yareharbour/core/fit"
)

func room(f Facts, r *estate.Reading) found {
	if !f.Empties {
		return clear("no change here needs the host empty")
	}
	if blind := Blind(f.Hosts, f.Readings); len(blind) > 0 {
		return blocker("the guests of "+strings.Join(blind, ", ")+" were never read: whether there is room, and whether "+
			"the reserve is kept, can't be told", "see why they can't be read, then read them")
	}
	a := f.Placed
	if a == nil {
		out := append(slices.DeleteFunc(slices.Clone(f.Visited), func(h string) bool { return h == r.Host }), r.Host)
		found := fit.Drain(f.Problem(), out, nil, fit.Effort)
		a = &found
	}
	if a.Outcome == fit.Fits {
		says := "its guest finds a place"
		if n := len(a.Moves); n != 1 {
			says = fmt.Sprintf("its %d guests find a place", n)
		}
		return clear(fmt.Sprintf("%s, with the reserve of %d kept", says, f.Reserve) + f.resting(r))
	}
	return blocker(a.Outcome.String()+": "+a.Obstacle.String(), a.Obstacle.WayOut)
}

// resting says how many guests of a host do not move but come to rest.
func (f *Facts) resting(r *estate.Reading) string {
	n := 0
	for i := range r.Guests {
		if g := &r.Guests[i]; g.Holds() && f.Rest[g.UID()] {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("; %d come to rest with it", n)
}

// Problem is the cluster as fit sees it.
func (f *Facts) Problem() fit.Problem {
	return fit.Problem{Hosts: FitHosts(f.Hosts, f.Readings), Terms: f.Terms}
}

// Blind are the hosts of which nobody ever read what guests they have, and that are not off: that is not the same as none.
func Blind(names []string, readings map[string]*estate.Reading) (out []string) {
	for _, n := range names {
		r := readings[n]
		if r != nil && r.Off() {
			continue
		}
		if r == nil {
			out = append(out, n)
		} else if at, _ := r.Section(estate.GuestList).Known(); at.IsZero() {
			out = append(out, n)
		}
	}
	return out
}

// FitHosts tells fit of a cluster's hosts as they were read. A host that does not answer, or whose guests could not be
// read, takes nothing and counts as running what it last ran. A machine that has two names counts once.
func FitHosts(names []string, readings map[string]*estate.Reading) []fit.Host {
	var out []fit.Host
	copies := Copies(names, readings)
	for _, n := range names {
		r := readings[n]
		if r == nil || copies[n] != "" {
			continue
		}
		offers := r.Offers()
		h := fit.Host{Name: n, Capacity: r.Capacity, Counts: r.Counts, Networks: offers.Networks,
			Storages: offers.Storages, Features: offers.Features, Guests: r.Holding(), Open: r.Takes()}
		for _, g := range r.Guests {
			if g.State == estate.Off {
				h.Off = append(h.Off, g)
			}
		}
		if c, ok := r.Component(r.Emulator, ""); ok && r.Read(r.Emulator.Section()) {
			h.Emulator = fit.Emulator{Key: r.Emulator, Version: c.Version}
		}
		out = append(out, h)
	}
	return out
}
