package plan

import (
	"slices"
	"time"
)

// Takes is how long the round takes, in the middle case and in the pessimistic one, with the visits side by side that may be.
func (p *Plan) Takes() (middle, worst time.Duration) {
	for _, t := range p.Schedule((*Visit).middle) {
		middle = max(middle, t.To.Sub(p.Made))
	}
	for _, t := range p.Schedule((*Visit).worst) {
		worst = max(worst, t.To.Sub(p.Made))
	}
	return middle, worst
}

func (v *Visit) middle() time.Duration { m, _ := v.Estimate(); return m }

func (v *Visit) worst() time.Duration { _, w := v.Estimate(); return w }

// Turn is when a visit is under way.
type Turn struct{ From, To time.Time }

// Schedule lays the visits out along time: in their order, as many side by side as the brief allows, none before those whose hosts its guests go to, the others after the host on trial and its soak, all within the
// brief's windows. takes is how long a visit takes. A visit with an obstacle has no turn, nor has one that fits into no window, or that waits for such a one.
func (p *Plan) Schedule(takes func(*Visit) time.Duration) map[string]Turn {
	out, never := map[string]Turn{}, map[string]bool{}
	free := make([]time.Time, max(p.Width, 1)) // when each place is free
	for i := range free {
		free[i] = p.Made
	}
	began := p.Made
	for i := range p.Visits {
		v := &p.Visits[i]
		if v.Obstacle != "" {
			continue
		}
		slices.SortFunc(free, time.Time.Compare)
		at := later(free[0], began)
		if slices.ContainsFunc(v.After, func(h string) bool { return never[h] }) || never[p.Brief.Trial] {
			never[v.Host] = true
			continue
		}
		for _, h := range v.After {
			at = later(at, out[h].To)
		}
		if t, ok := out[p.Brief.Trial]; ok && v.Host != p.Brief.Trial {
			at = later(at, t.To.Add(p.Brief.Soak))
		}
		opens, ok := Opens(p.Brief.Windows, at, v.worst())
		if !ok {
			never[v.Host] = true
			continue
		}
		t := Turn{opens, opens.Add(takes(v))}
		out[v.Host], free[0], began = t, t.To, t.From
	}
	return out
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// Unscheduled are the hosts whose visits fit into none of the brief's windows that are left for them.
func (p *Plan) Unscheduled() (hosts []string) {
	turns := p.Schedule((*Visit).middle)
	for i := range p.Visits {
		if _, ok := turns[p.Visits[i].Host]; !ok && p.Visits[i].Obstacle == "" {
			hosts = append(hosts, p.Visits[i].Host)
		}
	}
	return hosts
}
