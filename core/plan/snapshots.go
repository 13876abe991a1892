package plan

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// Safety says of which guests a snapshot is made once they have moved for the last time, and for how long it is kept.
type Safety struct {
	Guests []string      `json:"guests"` // by name, UUID or label, as in an estate.Rule
	For    time.Duration `json:"for"`
}

// rule means the guests that the safety copy is made of.
func (s *Safety) rule() *estate.Rule { return &estate.Rule{Guests: s.Guests} }

// Keeps is for how long a snapshot of the guest is kept by the brief; 0: none is made.
func (b *Brief) Keeps(g *estate.Guest) time.Duration {
	for i := range b.Snapshots {
		if s := &b.Snapshots[i]; s.rule().Means(g) {
			return s.For
		}
	}
	return 0
}

// Copied are the guests of which snapshots are made, as they are meant.
func (b *Brief) Copied() (out []estate.Rule) {
	for i := range b.Snapshots {
		out = append(out, *b.Snapshots[i].rule())
	}
	return out
}

// Copy is a guest of which a snapshot is made in a visit, where it is then.
type Copy struct {
	ID    string        `json:"id,omitempty"`
	Guest string        `json:"guest"`
	For   time.Duration `json:"for"`
	// what is in its memory, in MiB; 0 where it is off
	MemoryMiB int64 `json:"memory_mib,omitempty"`
}

// Says puts it in words.
func (c *Copy) Says() string {
	says := fmt.Sprintf("a snapshot of %s is made once it has moved for the last time, and kept for %s", c.Guest, drift.Age(c.For))
	if c.MemoryMiB > 0 {
		m, _ := act.Snapshot.Of().Takes(act.Act{MemoryMiB: c.MemoryMiB})
		says += "; it stands still for about " + drift.Age(m)
	}
	return says
}

// Uncopy is a snapshot of a round that is removed in a visit, before anything else.
type Uncopy struct {
	ID    string          `json:"id,omitempty"`
	Guest string          `json:"guest"`
	Copy  estate.Snapshot `json:"snapshot"`
}

// UID is by what the guest is known.
func (u *Uncopy) UID() string { return cmp.Or(u.ID, u.Guest) }

// Says puts it in words.
func (u *Uncopy) Says() string {
	return fmt.Sprintf("the snapshot of %s is removed: it was kept until %s", u.Guest, u.Copy.Until.Format("Mon 2 Jan 15:04 MST"))
}

// uncopies are the snapshots of rounds on a host's guests that go: all that are due, or those of the named guests.
func uncopies(r *estate.Reading, goes func(*estate.Guest, *estate.Snapshot) bool) (out []Uncopy) {
	for i := range r.Guests {
		g := &r.Guests[i]
		for _, s := range g.Snapshots {
			if s.Round != "" && goes(g, &s) {
				out = append(out, Uncopy{g.ID, g.Name, s})
			}
		}
	}
	return out
}

// copies fills in of which guests the visits make snapshots: each in the visit after which its guest does not move any
// more.
func (in Input) copies(p *Plan) {
	if len(in.Brief.Snapshots) == 0 {
		return
	}
	at, last, known := map[string]string{}, map[string]int{}, map[string]*estate.Guest{}
	for _, h := range in.Cluster.Hosts {
		if r := in.Readings[h]; r != nil {
			for i := range r.Guests {
				g := &r.Guests[i]
				at[g.UID()], known[g.UID()] = h, g
			}
		}
	}
	for i := range p.Visits {
		v := &p.Visits[i]
		v.Copies = nil
		if v.Obstacle != "" {
			continue
		}
		for uid, h := range at {
			if h == v.Host {
				last[uid] = i
			}
		}
		for _, m := range slices.Concat(v.Moves, v.Back) {
			at[m.UID()] = m.To
		}
	}
	for uid, i := range last {
		if g := known[uid]; in.Brief.Keeps(g) > 0 {
			memory := int64(0)
			if g.Holds() {
				memory = g.Load.MemoryMiB
			}
			p.Visits[i].Copies = append(p.Visits[i].Copies, Copy{g.ID, g.Name, in.Brief.Keeps(g), memory})
		}
	}
	for i := range p.Visits {
		slices.SortFunc(p.Visits[i].Copies, func(a, b Copy) int { return cmp.Compare(a.Guest, b.Guest) })
	}
}
