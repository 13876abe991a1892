package precheck

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// guests tells, before room is asked of, who can't leave and what is done with whom. Whoever can't leave and has
// nothing said of him is the room's blocker; here it is said of all of them at once.
func guests(f Facts, r *estate.Reading) found {
	if !f.Empties {
		return clear("no change here needs the host empty")
	}
	if why := r.Unread(estate.GuestList, f.Now, f.MaxAge); why != "" {
		return unknown(Blocker, "which guests are on it is unread: "+why,
			"see that the host answers, then read it again")
	}
	var tied, lost []string
	leave, rest, cold, off, later := 0, 0, 0, 0, 0
	for i := range r.Guests {
		g := &r.Guests[i]
		gone := slices.IndexFunc(g.Features, func(x string) bool { return slices.Contains(f.Drops, x) })
		ties := g.Ties(f.Loosed(g))
		switch {
		case g.State == estate.Off && gone >= 0:
			later++
			tied = append(tied, fmt.Sprintf(
				"%s is off, and could not be started any more: afterwards the host has no %s",
				g.Name, g.Features[gone]))
		case g.State == estate.Off:
			off++
		case f.Rest[g.UID()] && gone >= 0:
			lost = append(lost, fmt.Sprintf(
				"%s comes to rest here and could not be started again: afterwards the host has no %s",
				g.Name, g.Features[gone]))
		case f.Rest[g.UID()]:
			rest++
		case f.Cold[g.UID()] && len(ties) == 0:
			cold++
		case len(ties) > 0:
			tied = append(tied, g.Name+": "+strings.Join(ties, ", "))
		case g.State != estate.Running && g.State != "":
			tied = append(tied, fmt.Sprintf("%s is %s, and is not moved so", g.Name, g.State))
		default:
			leave++
		}
	}
	counts := []string{fmt.Sprintf("able to leave: %d", leave)}
	for _, c := range []struct {
		n    int
		says string
	}{{rest, "at rest meanwhile"}, {cold, "shut down, moved, and started there"}, {off + later, "powered off"}} {
		if c.n > 0 {
			counts = append(counts, fmt.Sprintf("%s: %d", c.says, c.n))
		}
	}
	says := strings.Join(counts, "; ")
	switch {
	case len(lost) > 0:
		return blocker(strings.Join(lost, "; "),
			"move it away while it is off, or give it a type of machine that the host will have")
	case len(tied) > 0:
		return caution(strings.Join(append(tied, says), "; "),
			"say in the brief what is done with each: --guest NAME=shut-down, suspend, eject, cold or leave")
	}
	return clear(says)
}

// serves looks for guests behind which the host's own storage is: their network adapters answer at the addresses that
// it has mounted from.
func serves(f Facts, r *estate.Reading) found {
	var own, still, stall []string
	for _, s := range r.Condition.Servers {
		for _, h := range f.Hosts {
			o := f.Readings[h]
			if o == nil {
				continue
			}
			for _, g := range o.Holding() {
				if s.MAC == "" || !slices.Contains(g.MACs, s.MAC) {
					continue
				}
				says := fmt.Sprintf("%s is served by %s, a guest on %s", s.At, g.Name, h)
				switch {
				case f.Rest[g.UID()] && h == r.Host:
					own = append(own, says+", which comes to rest last and is started first")
				case f.Rest[g.UID()]:
					still = append(still, says+", which comes to rest")
				default:
					stall = append(stall, says)
				}
			}
		}
	}
	const remedy = "let something outside of the cluster serve it, or unmount it first"
	switch {
	case len(still) > 0:
		return blocker(strings.Join(still, "; ")+": the host would have nothing from there meanwhile", remedy)
	case len(own) > 0:
		return caution(strings.Join(own, "; ")+": what uses it on the host waits meanwhile", remedy)
	case len(stall) > 0:
		return caution(strings.Join(stall, "; ")+": whoever uses it waits while that guest moves", remedy)
	}
	unknown := 0
	for _, s := range r.Condition.Servers {
		if s.MAC == "" {
			unknown++
		}
	}
	if unknown > 0 {
		return clear(fmt.Sprintf("no guest of the cluster serves what it has mounted, as far as the servers are its "+
			"neighbours (%d of %d are not)", unknown, len(r.Condition.Servers)))
	}
	return clear(fmt.Sprintf("no guest of the cluster serves what it has mounted from elsewhere (%d)",
		len(r.Condition.Servers)))
}

// controller looks for the guest that this program runs in: it may move, and must not be brought down.
func controller(f Facts, r *estate.Reading) found {
	for _, h := range f.Hosts {
		for _, g := range orEmpty(f.Readings[h]).Holding() {
			if f.Controller == "" || g.Name != f.Controller && g.ID != f.Controller {
				continue
			}
			says := "this program runs in " + g.Name + ", a guest on "
			switch {
			case h != r.Host:
				return clear(says + h)
			case !f.Empties:
				return clear(says + "it; nothing here needs the host empty")
			case f.Rest[g.UID()] || f.Cold[g.UID()]:
				return blocker(says+"it, which the brief has shut down or suspended: the round would end with it",
					"let it move, or run the round from elsewhere")
			}
			return caution(says+"it: it moves while the round goes on",
				"its host goes last; or run the round from elsewhere")
		}
	}
	return clear("it runs in no guest of the cluster")
}

// snapshots looks at the guests of which one is to be made.
func snapshots(f Facts, r *estate.Reading) (x found) {
	if len(f.Snapshots) == 0 {
		return x
	}
	if why := r.Unread(estate.GuestList, f.Now, f.MaxAge); why != "" {
		return unknown(Blocker, "which guests are on it is unread: "+why, "see that the host answers, then read it again")
	}
	var not, can []string
	for i := range r.Guests {
		g := &r.Guests[i]
		switch why := g.Uncopied(); {
		case !slices.ContainsFunc(f.Snapshots, func(rule estate.Rule) bool { return rule.Means(g) }):
		case len(why) > 0:
			not = append(not, g.Name+": "+strings.Join(why, ", "))
		default:
			can = append(can, g.Name)
		}
	}
	switch {
	case len(not) > 0:
		return blocker(strings.Join(not, "; "), "take it out of the brief's snapshots, and copy it in another way")
	case len(can) == 0:
		return clear("none of its guests is to have one")
	}
	return clear("of " + estate.Few(can, 5))
}
