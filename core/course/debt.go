package course

import (
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// Debt is what a visit left to be undone: on its host, or of its guests.
type Debt struct {
	Cluster string    `json:"cluster"`
	Round   string    `json:"round"`
	Host    string    `json:"host"`
	By      string    `json:"by"` // whose it is now; empty while it is the round's
	Reason  string    `json:"reason"`
	Since   time.Time `json:"since"`
	Until   time.Time `json:"until,omitzero"` // when it was to be over, as the person said
	Owed    []string  `json:"owed"`           // each in words
	Acts    []act.Act `json:"-"`              // those of them that have an act by which they are undone
	// Later tells that it is undone on a day of its own, Until: it is nobody's mistake before.
	Later bool `json:"later,omitempty"`
}

// Overdue tells whether it was to be over by now.
func (d *Debt) Overdue(now time.Time) bool { return !d.Until.IsZero() && now.After(d.Until) }

// later are what of a visit's is undone on a day of its own: each a debt by itself, of the host that it is on now.
func (s *State) later(v *Visit, d Debt, readings map[string]*estate.Reading) (out []Debt) {
	for _, a := range slices.Concat(v.Owed, v.Loose) {
		if !a.Kind.Of().Rules().Later || a.Copy == nil {
			continue
		}
		x := d
		x.Host, x.Until, x.Later = a.Host, a.Copy.Until, true
		if host, g, known := estate.Find(a.UID(), readings); g != nil {
			if x.Host = host; !slices.ContainsFunc(g.Snapshots, func(o estate.Snapshot) bool { return o.Name == a.Copy.Name }) {
				continue
			}
		} else if known {
			continue // it is gone, and the snapshot with it
		}
		a.Host = x.Host
		x.Owed, x.Acts = []string{Owes(a) + ", to be removed from " + x.Until.Format("Mon 2 Jan 15:04 MST") + " on"}, []act.Act{a}
		out = append(out, x)
	}
	return out
}

// tookOut tells whether the image that an act put in is seen to be out, and the host to start as usual.
func tookOut(a act.Act, r *estate.Reading) bool {
	return a.Kind == act.Mount && r != nil && r.Read(estate.BMCState) && !r.BMC.Inserted(a.URL) && r.BMC.BootOnce == ""
}

// seenTo tells whether the drives that a medium was taken out of hold something again, or their guest is gone.
func seenTo(a act.Act, readings map[string]*estate.Reading) bool {
	_, g, known := estate.Find(a.UID(), readings)
	if g == nil {
		return known
	}
	return !slices.ContainsFunc(a.Media, func(m estate.Disk) bool {
		return !slices.ContainsFunc(g.Disks, func(d estate.Disk) bool { return d.Media && d.Target == m.Target })
	})
}

// Debts are what the round's visits left to be undone, as far as the newest readings do not show that it was. What was
// not read counts as owed.
func (s *State) Debts(readings map[string]*estate.Reading) (out []Debt) {
	for i := range s.Visits {
		v := &s.Visits[i]
		b := &s.Plan.Brief
		d := Debt{Cluster: b.Cluster, Round: s.Round, Host: v.Host, Reason: b.Reason, Since: s.Last}
		if v.Phase == Waiting || v.Phase == Over && len(v.Owed) == 0 {
			continue
		}
		if n := len(v.Spans); n > 0 {
			d.Since = v.Spans[n-1].From
		}
		if v.Phase == HandedOver {
			d.By, d.Reason = v.Owner.By, v.Owner.Reason
			if b.Hand != nil {
				d.Reason, d.Until = b.Reason, b.Hand.Until // it stands there by itself
			}
		}
		out = append(out, s.later(v, d, readings)...)
		r := readings[v.Host]
		open := r.Reached() && r.Closed == nil
		closed := v.Closed() || v.Phase == HandedOver && (v.Did(act.Close, 0) || v.Did(act.Adopt, 0)) && !v.Did(act.Open, 0)
		if closed && !open || r.Reached() && r.Closed != nil && r.Closed.Round == s.Round {
			d.Owed = append(d.Owed, "it is closed")
		}
		for _, a := range v.Owed {
			if a.Lent != nil {
				if is, unread := a.Lent.Is(r); r != nil && unread == nil && a.Lent.Back(is) {
					continue // it is as it was
				}
			}
			if tookOut(a, r) {
				continue
			}
			r := a.Kind.Of().Rules()
			if r.Pays == act.Open || r.Later || a.Kind == act.Eject && seenTo(a, readings) ||
				a.Kind != act.Eject && a.Guest != "" && estate.RunsSomewhere(a.UID(), readings) {
				continue
			}
			d.Owed = append(d.Owed, Owes(a))
			d.Acts = append(d.Acts, a)
		}
		for _, a := range v.Loose { // whoever opened the host has seen to it; of one that was never closed nobody has
			seen := a.Guest != "" && estate.RunsSomewhere(a.UID(), readings) || open && closed
			switch r := a.Kind.Of().Rules(); {
			case r.Later, r.Early: // that is told above
				continue
			case a.Kind == act.Eject:
				seen = seenTo(a, readings)
			case r.Pays == act.Open: // closed it would be told of above
				seen = readings[v.Host].Reached()
			}
			if !seen {
				d.Owed = append(d.Owed, notTold(a))
			}
		}
		if len(d.Owed) > 0 {
			out = append(out, d)
		}
	}
	return out
}
