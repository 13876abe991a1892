package plan

import (
	"cmp"
	"errors"
	"slices"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/precheck"
)

// place puts the visits in order, answers their prechecks, and sends the guests of hosts that must be empty to others.
// A host that something else than room stands against is not emptied, and takes part as one that stays as it is.
func place(in Input, p *Plan) {
	var todo []string
	known := map[string]precheck.Facts{}
	// settle puts what was found of room in the place of the answer that was taken for granted
	settle := func(v *Visit, a fit.Answer) {
		facts := known[v.Host]
		facts.Placed = &a
		i := slices.IndexFunc(v.Answers, func(a precheck.Answer) bool { return a.Check == precheck.RoomCheck })
		v.Answers[i] = precheck.Room(facts, v.Host)
	}
	for i := range p.Visits {
		v := &p.Visits[i]
		facts := in.facts(v)
		facts.Said = in.along(v)
		known[v.Host] = facts
		// of room is asked below, and that answer takes the place of this one
		facts.Placed = &fit.Answer{Outcome: fit.Fits}
		v.Answers = precheck.Waive(precheck.Host(facts, v.Host), in.Waivers, in.Now)
		for i := range v.Answers {
			if w := v.Answers[i].Waived; w != nil {
				p.Waivers = append(p.Waivers, *w)
			}
		}
		if b := precheck.Blockers(v.Answers); len(b) > 0 {
			v.Obstacle, v.WayOut = b[0].Evidence, b[0].Advice()
			if len(b) == 1 && b[0].MoreOut {
				v.Ways = []Way{{MoreOut: true}}
			}
		} else if v.Empties && v.Obstacle == "" {
			todo = append(todo, v.Host)
		}
	}
	problem, order := in.problem(p), in.order()
	for i := range p.Visits {
		for j := range p.Visits[i].Ejects {
			if e := &p.Visits[i].Ejects[j]; !e.Out {
				order.Return = append(order.Return, e.UID())
			}
		}
	}
	for i := range p.Visits {
		if v := &p.Visits[i]; v.Obstacle != "" && v.Empties { // it is not part of the tour, and asked about by itself
			settle(v, fit.Drain(problem, []string{v.Host}, nil, fit.Glance))
		}
	}
	tour := fit.Plan(problem, todo, order)
	p.Moves, p.Floor, p.Bound, p.Twice, p.Spread, p.Level = tour.Moves, tour.Floor, tour.Bound, tour.Twice,
		tour.Spread, tour.Level
	p.Width = order.Width
	if in.Brief.Staging != "" {
		p.Width = StagesAtOnce
	}
	p.Excess = fit.Excess(problem, todo, order, tour)
	p.Load, p.Limit = in.tide(problem.Hosts, nil)
	for i := range tour.Stops {
		stop := &tour.Stops[i]
		v := p.visit(stop.Host)
		v.Moves, v.After, v.Back = stop.Moves, stop.After, stop.Back
		v.crowd = problem.Hosts[slices.IndexFunc(problem.Hosts, func(h fit.Host) bool { return h.Name == v.Host })].Guests
		var toCome []string
		for j := range tour.Stops[i+1:] {
			toCome = append(toCome, tour.Stops[i+1+j].Host)
		}
		carries(v, in.Readings[v.Host], problem, toCome)
		p.GoingHome += 2 * (len(in.Readings[v.Host].Holding()) - len(v.Rests))
		problem = problem.Moved(stop.Moves)
		v.Load, v.Limit = in.tide(problem.Hosts, []string{v.Host})
		problem = problem.Moved(stop.Back)
		settle(v, fit.Answer{Outcome: fit.Fits, Moves: stop.Moves})
	}
	for i := range tour.Stuck {
		x := &tour.Stuck[i]
		v := p.visit(x.Host)
		v.Obstacle, v.WayOut = x.Answer.Outcome.String()+": "+x.Answer.Obstacle.String(), x.Answer.Obstacle.WayOut
		for _, w := range x.Answer.Obstacle.Ways {
			v.Ways = append(v.Ways, wayOf(w, in.Readings[x.Host]))
		}
		settle(v, x.Answer)
	}
	p.early = in.early(&tour)
	turn := func(v *Visit) int {
		byHand := slices.Index(in.Brief.Sequence, v.Host)
		switch {
		case v.Host == in.Brief.Trial:
			return -len(in.Brief.Sequence) - 2
		case byHand >= 0: // those that need not be emptied too
			return byHand - len(in.Brief.Sequence) - 1
		case !v.Empties:
			return -1
		}
		if n := slices.IndexFunc(tour.Stops, func(s fit.Stop) bool { return s.Host == v.Host }); n >= 0 {
			return n
		}
		return len(tour.Stops)
	}
	slices.SortStableFunc(p.Visits, func(a, b Visit) int { return cmp.Compare(turn(&a), turn(&b)) })
}

// tooEarly is a host that the brief puts before another, and that can be emptied only after it.
type tooEarly struct{ host, after string }

// early is the first host that the tour could not empty in the turn that the brief gives it: it has such a host go as
// soon as it can, and that is not what was asked for. It is nil where all go in their turns.
func (in Input) early(tour *fit.Tour) *tooEarly {
	n := 0
	for i, h := range append(nonempty(in.Brief.Trial), in.Brief.Sequence...) {
		if i > 0 && h == in.Brief.Trial {
			continue
		}
		switch at := slices.IndexFunc(tour.Stops, func(s fit.Stop) bool { return s.Host == h }); at {
		case -1: // it need not be emptied, or can't be, which is told of it
		case n:
			n++
		default:
			return &tooEarly{h, tour.Stops[n].Host}
		}
	}
	return nil
}

// Way is a way out of what keeps a host from being visited.
type Way struct {
	fit.Way
	MoreOut bool `json:"more_out,omitempty"` // one more host may be out of service at once
	// how the guests of Off come to rest, where all of them are on the host itself
	Rests []Rest `json:"rests,omitempty"`
}

// wayOf is a way out that fit found for a host: guests of the host itself are the round's to bring to rest.
func wayOf(w fit.Way, r *estate.Reading) Way {
	out := Way{Way: w}
	for _, uid := range w.Off {
		i := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.UID() == uid })
		if i < 0 {
			out.Rests = nil
			return out
		}
		g, how := &r.Guests[i], act.Down
		if g.State != estate.Running {
			how = act.Save
		}
		out.Rests = append(out.Rests, Rest{ID: g.ID, Guest: g.Name, How: how})
	}
	return out
}

// Says puts it in words.
func (w *Way) Says() string {
	if w.MoreOut {
		return "let one more host be out of service at once"
	}
	return w.Way.Says()
}

// Takeable tells whether the round can take it by itself. Guests of other hosts are shut down by a person.
func (w *Way) Takeable() bool { return len(w.Off) == len(w.Rests) }

// WayFor is the first way out of what keeps a host from being visited that the round can take by itself, or why there is
// none.
func (p *Plan) WayFor(host string) (Way, error) {
	i := slices.IndexFunc(p.Visits, func(v Visit) bool { return v.Host == host })
	if i < 0 {
		return Way{}, errors.New(host + " is not visited")
	}
	v := &p.Visits[i]
	if v.Obstacle == "" {
		return Way{}, errors.New("nothing keeps " + host + " from being visited")
	}
	for _, w := range v.Ways {
		if w.Takeable() {
			return w, nil
		}
	}
	says := v.WayOut
	if len(v.Ways) > 0 {
		says = v.Ways[0].Says()
	}
	return Way{}, errors.New("a person must see to it: " + says)
}

// Take lays the way out over a brief.
func (w *Way) Take(b *Brief) {
	b.Lift = append(slices.Clone(b.Lift), w.Rules...)
	if w.Reserve {
		b.Reserve--
	}
	if w.MoreOut {
		b.Out++
	}
	b.Guests = slices.Clone(b.Guests)
	for i := range w.Rests {
		b.Guests = append(b.Guests, Policy{[]string{w.Rests[i].UID()}, Do(w.Rests[i].How)})
	}
	for _, uid := range w.Eject {
		b.Guests = append(b.Guests, Policy{[]string{uid}, DoEject})
	}
}

func (p *Plan) visit(host string) *Visit {
	return &p.Visits[slices.IndexFunc(p.Visits, func(v Visit) bool { return v.Host == host })]
}

// problem is the cluster with what its hosts will offer once they were visited.
func (in Input) problem(p *Plan) fit.Problem {
	out := fit.Problem{Hosts: precheck.FitHosts(in.Cluster.Hosts, in.Readings),
		Terms: in.Brief.terms(p.Rules, p.Visits...)}
	for i := range p.Visits {
		v := &p.Visits[i]
		n := slices.IndexFunc(out.Hosts, func(h fit.Host) bool { return h.Name == v.Host })
		if n < 0 || v.Obstacle != "" {
			continue
		}
		h := &out.Hosts[n]
		r := in.Readings[v.Host]
		then := fit.After{Features: in.features(v), Emulator: h.Emulator}
		for _, c := range v.Changes {
			if c.Component == r.Emulator && c.To != "" && c.Component != "" {
				then.Emulator = fit.Emulator{Key: r.Emulator, Version: c.To}
			}
		}
		if then.Emulator != h.Emulator || !slices.Equal(then.Features, h.Features) {
			h.After = &then
		}
	}
	return out
}

// features are what a visited host offers, its types of machine among them, once its visit is over: what it has, with
// what the releases that are put in add and without what they drop.
func (in Input) features(v *Visit) []string {
	r := in.Readings[v.Host]
	out := r.Offers().Features
	for _, c := range v.Changes {
		rel := releaseOf(in.Catalogue, r, c)
		if rel == nil || c.From == c.To {
			continue
		}
		out = slices.DeleteFunc(slices.Clone(out), func(f string) bool { return slices.Contains(rel.Drops, f) })
		for _, f := range rel.Adds {
			if !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	return out
}

// order is what the brief says of it, with the controller's host last.
func (in Input) order() fit.Order {
	o := fit.Order{Fixed: in.Brief.Sequence, Light: in.Brief.Order == LightestFirst, First: in.Brief.Trial,
		Width: max(in.Brief.AtOnce()-in.outAlready(), 1), Home: in.Brief.Home, Proof: in.Brief.Trial != ""}
	if h := in.controllers(); h != in.Brief.Trial && !slices.Contains(in.Brief.Sequence, h) {
		o.Last = h
	}
	return o
}

// controllers is the host that the controller runs on; "" where that is none of these.
func (in Input) controllers() string {
	if in.Controller == "" {
		return ""
	}
	for _, h := range in.Cluster.Hosts {
		if r := in.Readings[h]; r != nil && slices.ContainsFunc(r.Guests, func(g estate.Guest) bool {
			return g.State == estate.Running && (g.ID == in.Controller || g.Name == in.Controller)
		}) {
			return h
		}
	}
	return ""
}

// outAlready counts the hosts that are out of service before anything begins.
func (in Input) outAlready() (n int) {
	for _, h := range in.Cluster.Hosts {
		if r := in.Readings[h]; r != nil && (!r.Reached() || r.Closed != nil) && h != in.Brief.Adopts {
			n++
		}
	}
	return n
}

// tide is how full the hosts in service are by memory while some are out, and how full they may be for the reserve's
// largest hosts to be lost.
func (in Input) tide(hosts []fit.Host, out []string) (load, limit float64) {
	var used, room int64
	var sizes []int64
	for i := range hosts {
		h := &hosts[i]
		r := in.Readings[h.Name]
		if slices.Contains(out, h.Name) || r == nil || r.Closed != nil || !r.Reached() {
			continue
		}
		for j := range h.Guests {
			used += h.Guests[j].Load.MemoryMiB
		}
		room += h.Capacity.MemoryMiB
		sizes = append(sizes, h.Capacity.MemoryMiB)
	}
	if room == 0 {
		return 0, 0
	}
	slices.SortFunc(sizes, func(a, b int64) int { return cmp.Compare(b, a) })
	left := room
	for _, s := range sizes[:min(max(in.Brief.Reserve, 0), len(sizes))] {
		left -= s
	}
	return float64(used) / float64(room), float64(left) / float64(room)
}
