package course

import (
	"time"

	"yareharbour/core/act"
	"yareharbour/core/plan"
)

// Forecast lays a plan's visits along time, as their estimates have them in the middle case: what a round's state would
// be at its end. Visits with an obstacle, and those for which no window is left, have no steps.
func Forecast(p *plan.Plan) *State {
	s := &State{Plan: *p, Status: Planned, Started: p.Made, Last: p.Made}
	turns := p.Schedule(func(v *plan.Visit) time.Duration { m, _ := v.Estimate(); return m })
	for _, v := range p.Visits {
		f := Visit{Visit: v, Phase: Waiting}
		if t, ok := turns[v.Host]; ok {
			for _, m := range v.Moves {
				f.Acts = append(f.Acts, act.Act{Kind: act.Move, Host: v.Host, Guest: m.Guest, GuestID: m.ID, To: m.To})
			}
			for _, m := range v.Back {
				f.Acts = append(f.Acts, act.Act{Kind: act.Return, Host: m.From, For: v.Host, Guest: m.Guest,
					GuestID: m.ID, To: m.To})
			}
			at := t.From
			for _, step := range v.Steps {
				end := at.Add(step.Middle)
				f.Spans = append(f.Spans, Span{Step: step.Step, Pass: step.Pass, From: at, To: end})
				at = end
			}
			if at.After(s.Last) {
				s.Last = at
			}
		}
		s.Visits = append(s.Visits, f)
	}
	return s
}
