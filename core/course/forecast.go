package course

import (
	"yareharbour/core/act"
	"yareharbour/core/plan"
)

// Forecast lays a plan's visits one after the other, as their estimates have them in the middle case: what a round's state would be at
// its end. Visits with an obstacle have no steps.
func Forecast(p *plan.Plan) *State {
	s := &State{Plan: *p, Status: Planned, Started: p.Made, Last: p.Made}
	for _, v := range p.Visits {
		f := Visit{Visit: v, Phase: Waiting}
		if v.Obstacle == "" {
			for _, m := range v.Moves {
				f.Acts = append(f.Acts, act.Act{Kind: act.Move, Host: v.Host, Guest: m.Guest, GuestID: m.ID, To: m.To})
			}
			for _, step := range v.Steps {
				end := s.Last.Add(step.Middle)
				f.Spans = append(f.Spans, Span{Step: step.Step, Pass: step.Pass, From: s.Last, To: end})
				s.Last = end
			}
		}
		s.Visits = append(s.Visits, f)
	}
	return s
}
