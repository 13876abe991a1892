package course

import (
	"fmt"
	"math/rand"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/plan/plantest"
)

// played is a round that is played on paper: what it begins is done to readings at once.
type played struct {
	t     *testing.T
	state *State
	facts Facts
}

func (p *played) append(e Event) {
	p.t.Helper()
	e.V, e.Seq, e.At, e.Epoch = Schema, p.state.Seq+1, p.facts.Now, 1
	if err := p.state.Apply(e); err != nil {
		p.t.Fatal(err)
	}
}

// do carries an act out on the readings.
func (p *played) do(a act.Act) {
	r := *p.facts.Readings[a.Host]
	p.facts.Readings[a.Host] = &r
	switch a.Kind {
	case act.Move, act.Return:
		i := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.UID() == a.UID() })
		to := *p.facts.Readings[a.To]
		to.Guests = append(slices.Clone(to.Guests), r.Guests[i])
		p.facts.Readings[a.To] = &to
		r.Guests = slices.Delete(slices.Clone(r.Guests), i, i+1)
		to.Sort()
	case act.Close, act.Remark, act.Adopt:
		r.Closed = &estate.Mark{Round: "R", By: "op", Reason: a.Reason, At: p.facts.Now}
	case act.Install, act.Flash, act.Service:
		r.Components = slices.DeleteFunc(slices.Clone(r.Components), func(c estate.Component) bool {
			return c.Key == a.Change.Component && c.Device == a.Change.Device
		})
		if a.Change.To != "" {
			r.Components = append(r.Components,
				estate.Component{Key: a.Change.Component, Device: a.Change.Device, Version: a.Change.To,
					Model: a.Change.Model})
		}
		r.Sort()
	case act.Restart:
		r.BootID += "'"
		r.Components = slices.Clone(r.Components)
		for i := range r.Components {
			r.Components[i].Running, r.Components[i].Restarts = "", ""
		}
	case act.Open:
		r.Closed = nil
	case act.Carry:
		i := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.UID() == a.UID() })
		to := *p.facts.Readings[a.To]
		to.Guests = append(slices.Clone(to.Guests), r.Guests[i])
		p.facts.Readings[a.To] = &to
		r.Guests = slices.Delete(slices.Clone(r.Guests), i, i+1)
		to.Sort()
	case act.Down, act.Save, act.Start:
		r.Guests = slices.Clone(r.Guests)
		i := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.UID() == a.UID() })
		r.Guests[i].State, r.Guests[i].Saved = map[bool]estate.GuestState{false: estate.Off,
			true: estate.Running}[a.Kind == act.Start], a.Kind == act.Save
	}
}

// know makes all that there is seen at this moment.
func (p *played) know(in plan.Input) {
	p.facts.Read, p.facts.Today = map[string]map[estate.SectionName]Sight{}, map[string]Today{}
	for _, h := range p.facts.Hosts {
		p.facts.Read[h] = map[estate.SectionName]Sight{}
		for _, s := range estate.SectionNames {
			p.facts.Read[h][s] = Sight{Seq: p.state.Seq, Tick: 1}
		}
		today := Today{Judged: true, Payloads: map[string]error{}, Verdicts: in.Verdicts[h]}
		if v := p.state.Visit(h); v != nil {
			for _, c := range v.Changes {
				today.Payloads[c.File] = nil
			}
			today.Mismatches = v.Mismatches(in.Catalogue, p.facts.Readings[h])
		}
		p.facts.Today[h] = today
	}
}

// touches are the things that a decision does which need knowledge: acts that change a host, and records that say that
// all is well.
func touches(d Decision) (out []string) {
	for i := range d.Begin {
		if k := d.Begin[i].Kind; k != act.Stage && k != act.Remark && k != act.Claim && k != act.Backup {
			what := string(k) + " " + d.Begin[i].Host
			if d.Begin[i].Change != nil {
				what += " " + d.Begin[i].Change.Says()
			}
			out = append(out, what)
		}
	}
	for i := range d.Record {
		if k := d.Record[i].Kind; k == Checked || k == Proven || k == Began {
			out = append(out, string(k)+" "+d.Record[i].Host)
		}
	}
	if d.End != nil && d.End.Status == Finished {
		out = append(out, "finished")
	}
	return out
}

// Invariant 11 at every moment of a round: take any fact away, and nothing is begun that would not have been begun,
// nothing is cleared or proven that was not, and no round ends well that would not. Acts are settled here at once; that
// a look that knows less settles nothing more is TestFindConcludesNothingFromNothing of package act.
func TestLessKnowledgeNeverBeginsMore(t *testing.T) {
	r := rand.New(rand.NewSource(21))
	turns, did, proofs := 0, map[act.Name]int{}, 0
	for n := range 2000 {
		w, p := plantest.Random(r).Judge()
		if len(p.Visits) == 0 || slices.ContainsFunc(p.Visits, func(v plan.Visit) bool { return v.Obstacle != "" }) {
			continue
		}
		p.Brief.Out = 1 + n%2
		round := played{t, &State{},
			Facts{Now: plantest.Now, Lease: true, Hosts: w.In.Cluster.Hosts, Readings: w.In.Readings}}
		round.append(Event{Kind: Started, Round: "R", Plan: &p})
		for step := 0; round.state.Status == Running && step < 300; step++ {
			round.know(w.In)
			d := Next(round.state, round.facts)
			if len(d.Look) > 0 {
				t.Fatalf("world %d, turn %d: all was seen, and it wants to look at %v", n, step, d.Look)
			}
			turns++
			for range 3 {
				if why := round.knowsLess(r, w, d); why != "" {
					t.Fatalf("world %d, turn %d: %s", n, step, why)
				}
			}
			round.facts.Now = round.facts.Now.Add(10 * time.Second)
			for _, e := range d.Record {
				if e.Kind == Proven {
					proofs++
				}
				round.append(e)
			}
			for _, a := range d.Begin {
				did[a.Kind]++
				round.append(Event{Kind: Intent, Act: &a})
				round.append(Event{Kind: Accepted, Act: &a, SHA256: "sum"})
				round.do(a)
				round.append(Event{Kind: Done, Act: &a})
			}
			for _, c := range d.Logs {
				round.append(Event{Kind: Logged, Host: c.Visit})
			}
			if d.End != nil {
				round.append(*d.End)
			}
			if d.Wake > 0 {
				round.facts.Now = round.facts.Now.Add(time.Hour)
			}
		}
		if round.state.Status == Running {
			t.Fatalf("world %d: the round never ends", n)
		}
		if round.state.Status == Finished && round.state.Holds() {
			t.Fatalf("world %d: the round is finished and owes something", n)
		}
	}
	if turns < 1000 || did[act.Save] == 0 || did[act.Start] == 0 || did[act.Move] == 0 || did[act.Close] == 0 ||
		did[act.Restart] == 0 || did[act.Install] == 0 || did[act.Return] == 0 || did[act.Carry] == 0 ||
		did[act.Down] == 0 || proofs == 0 {
		t.Errorf("the test proves little: %d turns, acts %v, %d proofs", turns, did, proofs)
	}
}

// knowsLess takes knowledge away at random and says what is done then that was not before, or has nothing to stand on.
func (p *played) knowsLess(r *rand.Rand, w plantest.World, all Decision) string {
	less := p.facts
	poor := plantest.World{In: w.In}
	poor.In.Readings = p.facts.Readings
	less.Readings = poor.Without(r).In.Readings
	for _, h := range less.Hosts {
		if less.Readings[h] == nil { // the runner always has a reading of every host, if only an unread one
			nobody := &estate.Reading{Host: h}
			for _, s := range estate.SectionNames {
				nobody.SetSection(estate.Section{Name: s, At: p.facts.Now, Err: "never read"})
			}
			less.Readings[h] = nobody
		}
	}
	got := Next(p.state, less)
	before := touches(all)
	for _, what := range touches(got) {
		if !slices.Contains(before, what) && !strings.HasPrefix(what, "began") {
			return fmt.Sprintf("by knowing less it does %q, and by all that is known %v", what, before)
		}
	}
	for i := range got.Begin {
		if why := unfounded(p.state, &got.Begin[i], less); why != "" {
			return fmt.Sprintf("it is to %s on %s, and %s", got.Begin[i].Says(), got.Begin[i].Host, why)
		}
	}
	for i := range got.Record {
		if why := unproved(p.state, &got.Record[i], less); why != "" {
			return fmt.Sprintf("%s %s, and %s", got.Record[i].Host, got.Record[i].Kind, why)
		}
	}
	return ""
}

// unfounded says what is not known that an act would have to stand on; "" where all is known.
func unfounded(s *State, a *act.Act, f Facts) string {
	hosts := []string{a.Host}
	switch a.Kind {
	case act.Move, act.Return:
		hosts = f.Hosts
	case act.Carry:
		hosts = append(hosts, a.To)
	case act.Close, act.Restart:
	default:
		return ""
	}
	for _, h := range hosts {
		if own := s.Visit(h); own != nil && h != a.Host && own.Closed() {
			continue
		}
		for _, sec := range []estate.SectionName{estate.Host, estate.GuestList} {
			if why := f.Readings[h].Section(sec).Err; why != "" {
				return fmt.Sprintf("%q of %s is not known", sec, h)
			}
		}
	}
	return ""
}

// unproved says what is not known that a clearance or a proof would have to stand on.
func unproved(s *State, e *Event, f Facts) string {
	if e.Kind != Checked && e.Kind != Proven {
		return ""
	}
	v := s.Visit(e.Host)
	for _, c := range v.Changes {
		if sec := f.Readings[v.Host].Section(c.Component.Section()); !sec.Whole() {
			return "at what " + string(c.Component) + " stands is not known"
		}
	}
	for _, name := range estate.SectionNames {
		if e.Kind == Proven && v.Before.Section(name).Whole() && !f.Readings[v.Host].Section(name).Whole() {
			return string(name) + " is not read"
		}
	}
	return ""
}

// What was not looked at since the last act is not known, however well it is remembered: without a look Next only
// looks.
func TestWithoutALookNothingIsBegun(t *testing.T) {
	r := rand.New(rand.NewSource(13))
	n := 0
	for range 300 {
		w, p := plantest.Random(r).Judge()
		if len(p.Visits) == 0 || p.Visits[0].Obstacle != "" {
			continue
		}
		round := played{t, &State{},
			Facts{Now: plantest.Now, Lease: true, Hosts: w.In.Cluster.Hosts, Readings: w.In.Readings}}
		round.append(Event{Kind: Started, Round: "R", Plan: &p})
		for step := 0; round.state.Status == Running && step < 100; step++ {
			round.know(w.In)
			seen := Next(round.state, round.facts)
			blind := round.facts
			blind.Read = nil
			if got := Next(round.state, blind); len(got.Begin) > 0 {
				t.Fatalf("without a look it begins %s", got.Begin[0].Says())
			} else if len(seen.Begin) > 0 {
				n++
				if len(got.Look) == 0 {
					t.Fatalf("it neither looks nor does anything: %+v", got)
				}
			}
			round.facts.Now = round.facts.Now.Add(10 * time.Second)
			for _, e := range seen.Record {
				round.append(e)
			}
			for _, a := range seen.Begin {
				round.append(Event{Kind: Intent, Act: &a})
				round.append(Event{Kind: Accepted, Act: &a, SHA256: "sum"})
				round.do(a)
				round.append(Event{Kind: Done, Act: &a})
			}
			if seen.End != nil {
				round.append(*seen.End)
			}
			if seen.Wake > 0 {
				round.facts.Now = round.facts.Now.Add(time.Hour)
			}
		}
	}
	if n < 100 {
		t.Errorf("only %d acts were looked at", n)
	}
}

// Next decides by what it is given: asked twice it says the same, and it changes nothing of it.
func TestNextIsAFunction(t *testing.T) {
	w, p := plantest.Random(rand.New(rand.NewSource(3))).Judge()
	round := played{t, &State{},
		Facts{Now: plantest.Now, Lease: true, Hosts: w.In.Cluster.Hosts, Readings: w.In.Readings}}
	round.append(Event{Kind: Started, Round: "R", Plan: &p})
	round.know(w.In)
	before := fmt.Sprintf("%+v", round.state)
	a, b := Next(round.state, round.facts), Next(round.state, round.facts)
	if !reflect.DeepEqual(a, b) || fmt.Sprintf("%+v", round.state) != before {
		t.Errorf("%+v, then %+v", a, b)
	}
}
