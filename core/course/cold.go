package course

import (
	"slices"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/plan"
)

// cold is how the guest moves while it is off; nil where it moves otherwise.
func (v *Visit) cold(uid string) *plan.Cold {
	i := slices.IndexFunc(v.Colds, func(c plan.Cold) bool { return c.UID() == uid })
	if i < 0 {
		return nil
	}
	return &v.Colds[i]
}

// moveCold shuts the next guest down that is moved while it is off. There is room for it where it goes, as all that goes
// there now.
func (t *turn) moveCold(v *Visit, moves []fit.Move, staying []estate.Guest) {
	for _, m := range moves {
		i := slices.IndexFunc(staying, func(g estate.Guest) bool { return g.UID() == m.UID() })
		if m.From == v.Host && v.cold(m.UID()) != nil && i >= 0 {
			t.start(v, act.Act{Kind: act.Down, Guest: m.Guest, GuestID: m.ID, MemoryMiB: staying[i].Load.MemoryMiB})
			return
		}
	}
}

// to is where a guest that moves while it is off goes; "" where that is not known.
func (v *Visit) to(c *plan.Cold) string {
	if !c.Runs {
		return c.To
	}
	if n := slices.IndexFunc(v.Moves, func(m fit.Move) bool { return m.UID() == c.UID() }); n >= 0 {
		return v.Moves[n].To
	}
	return ""
}

// awaited are guests that are shut down on their way to the host, and start there: their room is theirs.
func (t *turn) awaited(host string) (out []estate.Guest) {
	for i := range t.s.Visits {
		v := &t.s.Visits[i]
		for j := range v.Colds {
			c := &v.Colds[j]
			if !c.Runs || v.to(c) != host || !v.downed(c.UID()) || v.started(c.UID()) {
				continue
			}
			for _, at := range []string{v.Host, host} {
				if g := t.guest(at, c.UID()); g.State == estate.Off {
					g.State = estate.Running
					out = append(out, g)
					break
				}
			}
		}
	}
	return out
}

// carries takes guests that are off to where they go, and starts there those that ran: each to its end before another
// is shut down. It tells whether that is still to be done.
func (t *turn) carries(v *Visit, r *estate.Reading) bool {
	for i := range v.Colds {
		c := &v.Colds[i]
		to := v.to(c)
		if to == "" || v.carried(c.UID()) && (!c.Runs || v.started(c.UID())) {
			continue
		}
		if v.carried(c.UID()) {
			if t.busy(v.Host) == 0 {
				t.start(v, act.Act{Kind: act.Start, Host: to, Guest: c.Guest, GuestID: c.ID})
			}
			return true
		}
		n := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.UID() == c.UID() })
		if n < 0 || r.Guests[n].Holds() || r.Guests[n].Saved || c.Runs && !v.downed(c.UID()) {
			continue // it is on its way down, or somebody else did something with it
		}
		if t.busy(v.Host) == 0 && t.fresh(to, estate.Host, estate.GuestList) {
			if why := t.f.Readings[to]; !why.Takes() {
				t.unreadable(v, c.Guest+" is to be carried to "+to+", which takes no guests now",
					"see why it does not, then resume the round")
				return true
			}
			t.start(v, act.Act{Kind: act.Carry, Guest: c.Guest, GuestID: c.ID, To: to})
		}
		return true
	}
	return false
}

func (v *Visit) didTo(kind act.Name, uid string) bool {
	return slices.ContainsFunc(v.Acts, func(a act.Act) bool { return a.Kind == kind && a.UID() == uid })
}

func (v *Visit) carried(uid string) bool { return v.didTo(act.Carry, uid) }

func (v *Visit) started(uid string) bool { return v.didTo(act.Start, uid) }

func (v *Visit) downed(uid string) bool { return v.didTo(act.Down, uid) }
