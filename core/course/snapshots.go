package course

import (
	"slices"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
)

// SnapshotOf is the name of the snapshots that a round makes.
func SnapshotOf(round string) string { return "yare-" + round }

// uncopies removes snapshots whose time is over, before their guests are to move. It tells whether that is still to be done.
func (t *turn) uncopies(v *Visit) bool {
	for i := range v.Uncopies {
		u := &v.Uncopies[i]
		if slices.ContainsFunc(v.Acts, func(a act.Act) bool {
			return a.Kind == act.Unsnapshot && a.UID() == u.UID() && a.Copy.Name == u.Copy.Name
		}) {
			continue
		}
		if t.busy(v.Host) > 0 || !t.fresh(v.Host, estate.Host, estate.GuestList) {
			return true
		}
		g := t.guest(v.Host, u.UID())
		if r := t.f.Readings[v.Host]; r.Read(estate.GuestList) && !slices.Contains(g.Snapshots, u.Copy) {
			continue // somebody has removed it, or the guest is gone with it
		}
		t.start(v, act.Act{Kind: act.Unsnapshot, Guest: u.Guest, GuestID: u.ID, Copy: &u.Copy})
		return true
	}
	return false
}

// copies makes snapshots of the guests that were on the host, each where it is now, once it does not move any more in the
// round. It tells whether that is still to be done as far as it can be now.
func (t *turn) copies(v *Visit) bool {
	for _, g := range t.s.uncopied(v) {
		if slices.ContainsFunc(v.Away(), func(m fit.Move) bool { return m.UID() == g.UID() }) {
			continue
		}
		if t.busy(v.Host) > 0 || !t.clusterSeen() {
			return true
		}
		host, now, known := estate.Find(g.UID(), t.f.Readings)
		switch o := t.s.Visit(host); {
		case !known:
			t.unreadable(v, "where "+g.Name+" is, of which a snapshot is to be made, is not known",
				"see why a host of the cluster can't be read, then resume the round")
		case host == "":
			t.record(Event{Kind: Uncopied, Host: v.Host, Moves: []fit.Move{{ID: g.ID, Guest: g.Name, From: v.Host}},
				Detail: g.Name + " is on no host of the cluster any more"})
		case o.comes(v), now.Saved: // its memory is beside its disks: once it runs again
			continue
		default:
			t.start(v, act.Act{Kind: act.Snapshot, Host: host, Guest: g.Name, GuestID: g.ID, MemoryMiB: g.Load.MemoryMiB,
				Copy: &estate.Snapshot{Name: SnapshotOf(t.s.Round), Round: t.s.Round, Until: t.f.Now.Add(t.s.Plan.Brief.Keeps(g))}})
		}
		return true
	}
	return false
}

// comes tells whether a visit is still to come, beside the one that is under way, that empties its host; it may be nil.
func (v *Visit) comes(now *Visit) bool {
	return v != nil && v != now && v.Phase == Waiting && v.Empties && !v.Skip
}

// uncopied are the guests that were on the visit's host and of which a snapshot is still to be made before it is over, as
// far as the journal knows where they are: not those that move again in a visit to come.
func (s *State) uncopied(v *Visit) (out []*estate.Guest) {
	b := &s.Plan.Brief
	if len(b.Snapshots) == 0 || v.Before == nil {
		return nil
	}
	for i := range v.Before.Guests {
		g := &v.Before.Guests[i]
		if b.Keeps(g) == 0 || slices.Contains(v.Uncopied, g.UID()) || s.copied(g.UID()) {
			continue
		}
		at := v.Host
		for _, a := range v.Acts {
			if a.To != "" && a.UID() == g.UID() {
				at = a.To
			}
		}
		if !s.Visit(at).comes(v) {
			out = append(out, g)
		}
	}
	return out
}

// unkept are the names of guests of which no snapshot was made, and one was to be, as far as their hosts' visits began.
func (s *State) unkept() (out []string) {
	for i := range s.Visits {
		v := &s.Visits[i]
		for j := 0; v.Before != nil && j < len(v.Before.Guests); j++ {
			g := &v.Before.Guests[j]
			if s.Plan.Brief.Keeps(g) > 0 && !s.copied(g.UID()) && !slices.Contains(out, g.Name) {
				out = append(out, g.Name)
			}
		}
	}
	return out
}

// copied tells whether the round made a snapshot of the guest.
func (s *State) copied(uid string) bool {
	return slices.ContainsFunc(s.Visits, func(v Visit) bool { return v.didTo(act.Snapshot, uid) })
}
