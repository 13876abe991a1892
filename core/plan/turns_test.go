package plan

import (
	"fmt"
	"math/rand"
	"reflect"
	"slices"
	"testing"
	"time"

	"yareharbour/core/estate"
)

// played is a round that is played on paper: what its turns ask for is done to readings at once.
type played struct {
	t     *testing.T
	state *State
	facts Facts
}

func (p *played) append(e Event) {
	p.t.Helper()
	e.Seq, e.At = p.state.Seq+1, p.facts.Now
	if err := p.state.Apply(e); err != nil {
		p.t.Fatal(err)
	}
	p.state.Seq = e.Seq
}

// do carries an act out on the readings.
func (p *played) do(a Action) {
	r := p.facts.Readings[a.Host]
	switch a.Kind {
	case Move:
		i := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.UID() == a.UID() })
		to := p.facts.Readings[a.To]
		to.Guests = append(to.Guests, r.Guests[i])
		r.Guests = slices.Delete(r.Guests, i, i+1)
		to.Sort()
	case Close, Remark:
		r.Closed = &estate.Mark{Round: "R", By: "op", Reason: a.Reason, At: p.facts.Now}
	case Install:
		r.Components = slices.DeleteFunc(r.Components, func(c estate.Component) bool { return c.Key == a.Change.Component && c.Device == a.Change.Device })
		if a.Change.To != "" {
			r.Components = append(r.Components, estate.Component{Key: a.Change.Component, Device: a.Change.Device, Version: a.Change.To, Model: a.Change.Model})
		}
		r.Sort()
	case Restart:
		r.BootID += "'"
		for i := range r.Components {
			r.Components[i].Running, r.Components[i].Restarts = "", ""
		}
	case Reopen:
		r.Closed = nil
	}
}

// touches tells whether a turn begins something that changes a host, or says that a host is proven.
func touches(t Turn) bool {
	return t.Do != nil && t.Do.Kind != Stage && t.Do.Kind != Remark || t.Record != nil && t.Record.Kind == Done
}

// Invariant 11 at every moment of a round: take any fact away, and nothing is begun that would not have been begun, nothing is proven that was not, and no round ends well that would not.
func TestLessKnowledgeNeverBeginsMore(t *testing.T) {
	r := rand.New(rand.NewSource(12))
	turns, acts, proofs := 0, map[ActionKind]int{}, 0
	for n := range 1500 {
		w, p := randomWorld(r).judge()
		if len(p.Visits) == 0 || slices.ContainsFunc(p.Visits, func(v Visit) bool { return v.Obstacle != "" }) {
			continue
		}
		round := played{t, &State{}, Facts{Now: now, Round: "R", Hosts: w.in.Cluster.Hosts, Readings: w.in.Readings, Payload: w.in.Payloads}}
		round.append(Event{Kind: Started, Plan: &p})
		for step := 0; round.state.Status == Running && step < 200; step++ {
			turn := Next(round.state, round.facts)
			turns++
			for range 3 {
				less := round.facts
				poor := world{in: w.in}
				poor.in.Readings = round.facts.Readings
				less.Readings = poor.without(r).in.Readings
				if slices.ContainsFunc(less.Hosts, func(h string) bool { return less.Readings[h] == nil }) {
					continue // the runner always has a reading of every host, if only an unread one
				}
				got := Next(round.state, less)
				if touches(got) && !sameTurn(got, turn) {
					t.Fatalf("world %d, turn %d: by knowing less %s is done, and by all that is known %s", n, step, turnSays(got), turnSays(turn))
				}
				if why := unfounded(round.state, got, less); why != "" {
					t.Fatalf("world %d, turn %d: %s, and %s", n, step, turnSays(got), why)
				}
				if got.End != nil && got.End.Status == Finished && (turn.End == nil || turn.End.Status != Finished) {
					t.Fatalf("world %d, turn %d: the round is finished by knowing less", n, step)
				}
			}
			round.facts.Now = round.facts.Now.Add(10 * time.Second)
			switch {
			case turn.Do != nil:
				acts[turn.Do.Kind]++
				round.append(Event{Kind: Intent, Action: turn.Do})
				round.do(*turn.Do)
				round.append(Event{Kind: Done, Action: turn.Do})
			case turn.Record != nil:
				if turn.Record.Kind == Done && turn.Record.Action.Kind == Prove {
					proofs++
				}
				round.append(*turn.Record)
			case turn.End != nil:
				round.append(*turn.End)
			case turn.Look != "":
				round.facts.Full = turn.Look
			case turn.Wait != "":
				round.facts.Now = round.facts.Now.Add(time.Hour)
			}
		}
	}
	if turns < 1000 || acts[Move] == 0 || acts[Close] == 0 || acts[Restart] == 0 || acts[Install] == 0 || proofs == 0 {
		t.Errorf("the test proves little: %d turns, acts %v, %d proofs", turns, acts, proofs)
	}
}

// unfounded says what is not known that a turn would have to stand on, and "" where all is known.
func unfounded(s *State, t Turn, f Facts) string {
	guests := func(h string) string {
		if why := f.Readings[h].Section(estate.GuestList).Err; why != "" {
			return "which guests are on " + h + " is not known"
		}
		return ""
	}
	switch {
	case t.Do != nil && t.Do.Kind == Move:
		for _, h := range f.Hosts {
			if !f.Readings[h].Reached() {
				return h + " does not answer"
			}
			if why := guests(h); why != "" {
				return why
			}
		}
	case t.Do != nil && (t.Do.Kind == Close || t.Do.Kind == Restart):
		if v := s.Visit(t.Do.Host); v.Empties {
			return guests(t.Do.Host)
		}
	case t.Record != nil && t.Record.Kind == Done:
		v := s.Visit(t.Record.Action.Host)
		for _, c := range v.Changes {
			if sec := f.Readings[v.Host].Section(c.Component.Section()); !sec.Whole() {
				return "at what " + string(c.Component) + " stands is not known"
			}
		}
		if t.Record.Action.Kind != Prove {
			break
		}
		for _, name := range estate.SectionNames {
			if v.Snapshot.Section(name).Whole() && !f.Readings[v.Host].Section(name).Whole() {
				return string(name) + " is not read"
			}
		}
	}
	return ""
}

// sameTurn tells whether two turns come to the same act or the same record. Where a guest goes may differ: a host of which less is known is no place for it.
func sameTurn(a, b Turn) bool {
	if a.Do != nil && b.Do != nil {
		x, y := *a.Do, *b.Do
		x.ID, y.ID = "", ""
		if x.Kind == Move && y.Kind == Move {
			return x.Host == y.Host
		}
		return reflect.DeepEqual(x, y)
	}
	return a.Record != nil && b.Record != nil && a.Record.Kind == b.Record.Kind && a.Record.Action.Kind == b.Record.Action.Kind
}

func turnSays(t Turn) string {
	switch {
	case t.Do != nil:
		return "to " + t.Do.Says()
	case t.Record != nil:
		return fmt.Sprintf("noted %s %s: %s", t.Record.Action.Says(), t.Record.Kind, t.Record.Detail)
	case t.End != nil:
		return "ended " + string(t.End.Status)
	case t.Look != "":
		return "looked at " + t.Look
	}
	return "waited for " + t.Wait
}
