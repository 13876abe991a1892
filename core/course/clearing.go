package course

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/plan"
)

// empties drains and closes the host.
func (t *turn) empties(v *Visit) bool {
	if !v.Empties || t.restarted(v) && !v.Keeps {
		return false
	}
	if !t.fresh(v.Host, estate.Host, estate.GuestList) {
		return true
	}
	r := t.f.Readings[v.Host]
	for _, s := range []estate.SectionName{estate.Host, estate.GuestList} {
		if why := r.Section(s).Err; why != "" {
			if t.busy(v.Host) == 0 {
				t.unreadable(v, sectionSays(v.Host, s)+" can't be read, and those last known count as running: "+why,
					"look at its console; its power must be proven off before anybody starts its guests elsewhere")
			}
			return true
		}
	}
	if t.carries(v, r) {
		return true
	}
	var staying []estate.Guest
	for _, g := range r.Holding() {
		if !t.moving(v.Host, g.UID()) {
			staying = append(staying, g)
		}
	}
	switch {
	case len(staying) > 0:
		t.clear(v, staying)
		return true
	case t.busy(v.Host) > 0:
		return true
	case !v.Closed(), v.Anew && r.Closed == nil:
		t.start(v, act.Act{Kind: act.Close})
		return true
	}
	return false
}

// clear moves the guests away, and then brings those to rest of which the brief says so, one after another.
func (t *turn) clear(v *Visit, staying []estate.Guest) {
	var moving []estate.Guest
	for _, g := range staying {
		if v.rests(&g) == nil {
			moving = append(moving, g)
		}
	}
	if len(moving) > 0 {
		if !t.ejects(v, moving) {
			t.move(v, moving)
		}
		return
	}
	if t.busy(v.Host) > 0 {
		return
	}
	for i := range v.Rests {
		r := &v.Rests[i]
		if n := slices.IndexFunc(staying, func(g estate.Guest) bool { return v.rests(&g) == r }); n >= 0 {
			t.start(v, act.Act{Kind: r.How, Guest: r.Guest, GuestID: r.ID, MemoryMiB: staying[n].Load.MemoryMiB})
			return
		}
	}
}

// ejects takes media out of drives before anybody moves whose they are, one guest after another. It tells whether that
// is still to be done.
func (t *turn) ejects(v *Visit, moving []estate.Guest) bool {
	for i := range moving {
		g := &moving[i]
		n := slices.IndexFunc(v.Ejects, func(e plan.Eject) bool { return e.UID() == g.UID() })
		if len(act.Inserted(g)) == 0 || n < 0 {
			continue
		}
		if t.count(func(a *act.Act) bool { return a.Kind == act.Eject && a.Host == v.Host }) == 0 {
			t.start(v, act.Act{Kind: act.Eject, Guest: g.Name, GuestID: g.ID, Media: act.Inserted(g),
				Unowed: v.Ejects[n].Out})
		}
		return true
	}
	return false
}

// rests is how the guest comes to rest for the visit; nil where it moves.
func (v *Visit) rests(g *estate.Guest) *plan.Rest {
	for i := range v.Rests {
		if v.Rests[i].UID() == g.UID() {
			return &v.Rests[i]
		}
	}
	return nil
}

func (t *turn) restarted(v *Visit) bool {
	return !slices.ContainsFunc(v.Restarts, v.restarts)
}

// moving tells whether the guest is on its way from the host.
func (t *turn) moving(host, guest string) bool {
	return t.count(func(a *act.Act) bool { return a.To != "" && a.Host == host && a.UID() == guest }) > 0
}

// flights are the migrations on their way to the host.
func (t *turn) flights(to string) (out []act.Act) {
	t.count(func(a *act.Act) bool {
		if a.To == to {
			out = append(out, *a)
		}
		return false
	})
	return out
}

func (t *turn) guest(host, uid string) estate.Guest {
	for _, g := range t.f.Readings[host].Guests {
		if g.UID() == uid {
			return g
		}
	}
	return estate.Guest{}
}

// offNow counts the hosts whose power is off.
func (t *turn) offNow() (n int) {
	for _, h := range t.f.Hosts {
		if t.f.Readings[h].Off() {
			n++
		}
	}
	return n
}

// move picks the next guest to go and where to, on the cluster as it is this moment.
func (t *turn) move(v *Visit, staying []estate.Guest) {
	flying, ok := t.mayMigrate(v)
	if !ok {
		return
	}
	answer, kept := t.certify(v.Host, fit.Effort)
	if answer.Outcome != fit.Fits {
		if t.busy(v.Host) == 0 && flying == 0 {
			t.record(Event{Kind: Blocked, Host: v.Host, Detail: "no room: " + answer.Outcome.String() + ": " +
				answer.Obstacle.String(), Remedy: answer.Obstacle.WayOut})
		}
		return
	}
	if !kept {
		var moves []fit.Move
		for _, m := range answer.Moves {
			if m.From == v.Host {
				moves = append(moves, m)
			}
		}
		if says := v.reroutes(moves); says != "" {
			t.record(Event{Kind: Rerouted, Host: v.Host, Moves: moves,
				Detail: says + ": what was planned does not stand: " + answer.Obstacle.String()})
			return
		}
	}
	live := func(m fit.Move) bool { return m.From == v.Host && v.cold(m.UID()) == nil }
	i := slices.IndexFunc(answer.Moves, live)
	if i < 0 { // only those are left that are shut down for it
		if t.busy(v.Host) == 0 {
			t.moveCold(v, answer.Moves, staying)
		}
		return
	}
	m := answer.Moves[i]
	g := staying[slices.IndexFunc(staying, func(g estate.Guest) bool { return g.ID == m.ID && g.Name == m.Guest })]
	t.start(v, act.Act{Kind: act.Move, Guest: m.Guest, GuestID: m.ID, To: m.To, MemoryMiB: g.Load.MemoryMiB,
		Bandwidth: t.s.Plan.Brief.Bandwidth})
}

// reroutes says which guests go elsewhere than was planned; "" where none does.
func (v *Visit) reroutes(moves []fit.Move) string {
	var out []string
	for _, m := range moves {
		i := slices.IndexFunc(v.Moves, func(p fit.Move) bool { return p.UID() == m.UID() })
		switch {
		case i < 0:
			out = append(out, m.Guest+" goes to "+m.To)
		case v.Moves[i].To != m.To:
			out = append(out, fmt.Sprintf("%s goes to %s instead of %s", m.Guest, m.To, v.Moves[i].To))
		}
	}
	return strings.Join(out, ", ")
}

func notKnown(host string, s estate.SectionName) string {
	if s == estate.Host {
		return host + " does not answer"
	}
	return "which guests are on " + host + " can't be read"
}
