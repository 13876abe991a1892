package plan

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/drift"
	"yareharbour/core/precheck"
)

// Takes is how long the round takes, in the middle case and in the pessimistic one, with the visits side by side that
// may be.
func (p *Plan) Takes() (middle, worst time.Duration) {
	for _, t := range p.Schedule((*Visit).middle) {
		middle = max(middle, t.To.Sub(p.Made))
	}
	for _, t := range p.Schedule((*Visit).worst) {
		worst = max(worst, t.To.Sub(p.Made))
	}
	return middle, worst
}

// pardoned says which waiver without which the visit can't be made has ended by the time of its turn; "" where none has.
func (v *Visit) pardoned(at time.Time) string {
	for i := range v.Answers {
		a := &v.Answers[i]
		if a.Level == precheck.Blocker && a.Waived != nil && !at.IsZero() && !a.Waived.Stands(at) {
			return fmt.Sprintf("%s is waived until %s, and its turn comes at %s: %s", a.Check,
				a.Waived.Until.Format("Mon 2 Jan 15:04"), at.Format("Mon 2 Jan 15:04"), a.Evidence)
		}
	}
	return ""
}

func (v *Visit) middle() time.Duration { m, _ := v.Estimate(); return m }

func (v *Visit) worst() time.Duration { _, w := v.Estimate(); return w }

// Turn is when a visit is under way.
type Turn struct{ From, To time.Time }

// Schedule lays the visits out along time: in their order, as many side by side as the brief allows, none before those
// whose hosts its guests go to, the others after the host on trial and its soak, all within the brief's windows. takes
// is how long a visit takes. A visit with an obstacle has no turn, nor has one that fits into no window, or that waits
// for such a one.
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
		if never[p.Brief.Trial] || slices.ContainsFunc(v.After, func(h string) bool { return never[h] }) {
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

// held is why a visit can't be made that by itself could be.
type held struct{ why, wayOut string }

// hold writes down which visits can't be made for want of time, because the host on trial can't be visited, or not in
// the turn that the brief gives them, and tells whether there are such: the others are then planned without them. Those
// that wait for one of these wait for the next plan, in which their guests may go elsewhere.
func (p *Plan) hold(all map[string]held) bool {
	turns := p.Schedule((*Visit).middle)
	late := func(h string) bool {
		_, ok := turns[h]
		return !ok
	}
	var trial *Visit
	if i := slices.IndexFunc(p.Visits, func(v Visit) bool { return v.Host == p.Brief.Trial }); i >= 0 {
		trial = &p.Visits[i]
	}
	before := len(all)
	for i := range p.Visits {
		v := &p.Visits[i]
		ended := v.pardoned(turns[v.Host].From)
		switch {
		case v.Obstacle != "":
		case p.early != nil && p.early.host == v.Host:
			all[v.Host] = held{fmt.Sprintf("the brief has it go before %s, and it can be emptied only after that: its "+
				"guests have nowhere to go until then", p.early.after), p.early.after + " before it, or no order by hand"}
		case trial == nil && p.Brief.Trial != "":
			all[v.Host] = held{fmt.Sprintf("it waits for %s, which is on trial and is not visited: %s", p.Brief.Trial,
				p.why(p.Brief.Trial)), "another host on trial, or none"}
		case trial != nil && trial.Obstacle != "":
			all[v.Host] = held{"it waits for " + trial.Host + ", which is on trial and can't be visited",
				"another host on trial, or none"}
		case late(v.Host) && !slices.ContainsFunc(v.After, late) && (trial == nil || v == trial || !late(trial.Host)):
			all[v.Host] = held{fmt.Sprintf("no window is left that is long enough: it takes up to %s",
				drift.Age(v.worst())), "a longer window, one more, or fewer hosts in the round"}
		case ended != "":
			all[v.Host] = held{ended, "a waiver that lasts longer, or an earlier turn for this host"}
		}
	}
	return len(all) > before
}
