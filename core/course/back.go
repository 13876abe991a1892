package course

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
)

// mayMigrate tells whether a migration may be begun for the visit: no more are on their way than the brief allows, the
// whole cluster was looked at since the last one was begun, and it could be read. flying are those on their way.
func (t *turn) mayMigrate(v *Visit) (flying int, ok bool) {
	flying = t.count(func(a *act.Act) bool { return a.To != "" })
	if flying >= max(t.s.Plan.Brief.Moves, 1) || !t.clusterSeen() {
		return flying, false
	}
	for _, h := range t.f.Hosts {
		if own := t.s.Visit(h); own != nil && own.Closed() && len(t.f.Readings[h].Holding()) == 0 {
			continue // it may be restarting: it was empty when it was closed, and takes nobody
		}
		if t.f.Readings[h].Off() { // nothing runs there, which is known; but it is out of service too
			if most := t.s.Plan.Brief.Out; t.offNow()+len(t.draining()) > most {
				if t.busy(v.Host) == 0 {
					t.unreadable(v, fmt.Sprintf(
						"%s is off: no new moves are begun: at most %d may be out of service at once", h, most),
						"bring "+h+" back, or plan again with more hosts out at once")
				}
				return flying, false
			}
			continue
		}
		for _, s := range []estate.SectionName{estate.Host, estate.GuestList} {
			if why := t.f.Readings[h].Section(s).Err; why != "" {
				if t.busy(v.Host) == 0 {
					t.unreadable(v, notKnown(h, s)+": no new moves are begun: "+why,
						"bring "+h+" back or prove its power off, then resume")
				}
				return flying, false
			}
		}
	}
	return flying, true
}

// returns brings guests back to a host that is in service again, each when there is room for it with the reserve kept
// as the cluster is this moment. One that can't come stays where it is, and that is told; where one was to come as
// proof, and none can, nothing was proven and a person must look.
func (t *turn) returns(v *Visit) {
	flying, ok := t.mayMigrate(v)
	if !ok {
		return
	}
	var want, stay []fit.Move
	var why []string
	proven := slices.ContainsFunc(v.Acts, func(a act.Act) bool { return a.Kind == act.Return })
	for _, m := range v.Away() {
		at, state := t.whereabouts(m.UID())
		switch m.From = at; {
		case t.moving(at, m.UID()):
		case at == v.Host:
			stay, why, proven = append(stay, m), append(why, m.Guest+" is there already"), true
		case state != estate.Running:
			stay, why = append(stay, m), append(why, m.Guest+" runs on no host of the cluster")
		default:
			want = append(want, m)
		}
	}
	if len(want)+len(stay) == 0 {
		return // the last ones are on their way
	}
	going, left := fit.Back(t.problem(nil), v.Host, want)
	if len(going) > 0 {
		m := going[0]
		t.start(v, act.Act{Kind: act.Return, Host: m.From, Guest: m.Guest, GuestID: m.ID, To: v.Host,
			MemoryMiB: t.guest(m.From, m.UID()).Load.MemoryMiB, Bandwidth: t.s.Plan.Brief.Bandwidth})
		return
	}
	if flying > 0 {
		return
	}
	for i := range left {
		stay, why = append(stay, left[i].Move), append(why, left[i].Why.String())
	}
	says := strings.Join(why, "; ")
	if v.Host == t.s.Plan.Brief.Trial && !proven {
		t.record(Event{Kind: Blocked, Host: v.Host,
			Detail: fmt.Sprintf("it is in service again, and no guest could come back to it, so that is not proven: %s",
				says), Remedy: "see what keeps it away, then resume the round; or leave " + v.Host +
				" out, and the others follow without proof"})
		return
	}
	t.record(Event{Kind: Stays, Host: v.Host, Moves: stay, Detail: says})
}

// whereabouts is the host that a guest holds memory of, and how it is there; one that runs goes before one that does
// not.
func (t *turn) whereabouts(uid string) (host string, state estate.GuestState) {
	for _, h := range t.f.Hosts {
		guests := t.f.Readings[h].Holding()
		if i := slices.IndexFunc(guests, func(g estate.Guest) bool {
			return g.UID() == uid
		}); i >= 0 && state != estate.Running {
			host, state = h, guests[i].State
		}
	}
	return host, state
}
