package plans

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/brief"
	"yareharbour/core/plan"
	"yareharbour/tui/part"
)

// untried says why a host can't be put on trial; "" where it can, or is.
func (s *Screen) untried(host, at string) string {
	if host != "" || s.brief.Trial == at || s.plan == nil ||
		slices.ContainsFunc(s.plan.Visits, func(v plan.Visit) bool { return v.Host == at }) {
		return host
	}
	return at + " is not visited: nothing could be tried on it"
}

func (s *Screen) ruled(planned string) string {
	if planned == "" && len(s.in.Cluster.Rules) == 0 {
		return "no rule says where guests of " + s.cluster + " may be"
	}
	return planned
}

func turnOrder(b *plan.Brief) {
	b.Sequence = nil
	orders := []plan.Order{plan.FewestMoves, plan.LightestFirst, plan.LeastTime}
	b.Order = orders[(slices.Index(orders, b.Order)+1)%len(orders)]
}

func turnLimit(b *plan.Brief) {
	limits := []float64{0, 0.9, 0.8, 0.7}
	b.Limit = limits[(slices.Index(limits, b.Limit)+1)%len(limits)]
}

func tryFirst(b *plan.Brief, host string) {
	if b.Trial == host {
		b.Trial, b.Soak = "", 0
		return
	}
	b.Trial = host
	if i := slices.Index(b.Sequence, host); i >= 0 {
		b.Sequence = slices.Delete(slices.Clone(b.Sequence), i, i+1)
	}
	if len(b.Sequence) > 0 {
		b.Sequence = append([]string{host}, b.Sequence...)
	}
}

func (s *Screen) turnRules(b *plan.Brief) {
	if len(b.Lift) > 0 {
		b.Lift = nil
		return
	}
	for _, r := range s.in.Cluster.Rules {
		b.Lift = append(b.Lift, r.Says())
	}
}

// change plans again with something changed about the brief, on the same reading.
func (s *Screen) change(f part.Frame, change func(*plan.Brief)) tea.Msg {
	was := s.brief
	b := was
	change(&b)
	if same(b, was, s.usual) {
		return nil
	}
	s.past = append(s.past, was)
	return s.again(b)
}

func same(a, b, usual plan.Brief) bool {
	return slices.Equal(brief.Words(a, usual), brief.Words(b, usual))
}

func (s *Screen) again(b plan.Brief) tea.Msg {
	s.brief, s.busy = b, true
	s.turn++
	cluster, turn, in := s.cluster, s.turn, *s.in
	in.Brief = b
	return func() tea.Msg {
		p, err := s.app.Make(in)
		return replanned{cluster, turn, p, err}
	}
}

func (s *Screen) takeBack(part.Frame) tea.Msg {
	b := s.past[len(s.past)-1]
	s.past = s.past[:len(s.past)-1]
	return s.again(b)
}

// without are the hosts that a person left out.
func (s *Screen) without() (out []string) {
	if len(s.brief.Hosts) == 0 || s.in == nil {
		return nil
	}
	for _, h := range s.in.Cluster.Hosts {
		if !slices.Contains(s.brief.Hosts, h) {
			out = append(out, h)
		}
	}
	return out
}

// leaveOut leaves a host out of the plan, or takes it in again.
func (s *Screen) leaveOut(f part.Frame, host string) tea.Msg {
	s.host, s.pinned = host, true
	out := s.without()
	if !slices.Contains(out, host) && len(out)+1 == len(s.in.Cluster.Hosts) {
		return part.Tell("%s is the last host of the plan", host)
	}
	return s.change(f, func(b *plan.Brief) {
		if i := slices.Index(out, host); i >= 0 {
			out = slices.Delete(out, i, i+1)
		} else {
			out = append(out, host)
		}
		b.Hosts, b.Sequence = nil, slices.DeleteFunc(slices.Clone(b.Sequence), func(h string) bool {
			return slices.Contains(out, h)
		})
		if slices.Contains(out, b.Trial) {
			b.Trial, b.Soak = "", 0
		}
		for _, h := range s.in.Cluster.Hosts {
			if len(out) > 0 && !slices.Contains(out, h) {
				b.Hosts = append(b.Hosts, h)
			}
		}
	})
}

// shift lets a host go sooner or later: from then on the order is by hand.
func (s *Screen) shift(f part.Frame, host string, by int) tea.Msg {
	var order []string
	for i := range s.plan.Visits {
		if v := &s.plan.Visits[i]; v.Empties {
			order = append(order, v.Host)
		}
	}
	i := slices.Index(order, host)
	if i < 0 {
		return part.Tell("%s is not drained: its turn matters to nobody", host)
	}
	if i+by < 0 || i+by >= len(order) {
		return part.Tell("%s goes %s already", host, map[int]string{-1: "first", 1: "last"}[by])
	}
	s.host, s.pinned = host, true
	return s.change(f, func(b *plan.Brief) {
		order[i], order[i+by] = order[i+by], order[i]
		b.Sequence = order
		if b.Trial != "" && b.Trial != order[0] {
			b.Trial, b.Soak = "", 0
		}
	})
}
