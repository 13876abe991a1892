package chart

import (
	"image/color"
	"time"

	"gonum.org/v1/plot/vg"

	"yareharbour/core/drift"
	"yareharbour/core/plan"
)

// Timeline draws a round: a lane a host, its steps along time.
func Timeline(s *plan.State) Drawing {
	const width, lane = 900, 30
	return Drawing{Width: width, Height: vg.Length(2*margin + 90 + lane*len(s.Visits)), paint: func(p *pen) { paintTimeline(p, s, width, lane) }}
}

// stepInk tells steps apart; each is written out where it has room, and in the legend.
var stepInk = map[plan.StepName]color.RGBA{
	plan.PrecheckStep: {176, 184, 188, 255}, plan.StageStep: {140, 164, 172, 255}, plan.DrainStep: {64, 120, 150, 255},
	plan.CloseStep: {40, 48, 56, 255}, plan.ChangeStep: {188, 118, 20, 255}, plan.RestartStep: {120, 60, 96, 255},
	plan.ProveStep: {84, 130, 84, 255}, plan.ReopenStep: {40, 100, 60, 255},
}

var stepOrder = []plan.StepName{plan.PrecheckStep, plan.StageStep, plan.DrainStep, plan.CloseStep, plan.ChangeStep, plan.RestartStep,
	plan.ProveStep, plan.ReopenStep}

func paintTimeline(p *pen, s *plan.State, width, lane vg.Length) {
	p.bold(margin, margin, 15, left, ink, "Round over "+s.Plan.Brief.Cluster)
	end := s.Last
	p.text(margin, margin+17, 9, left, grey, "%s – %s, by %s: %s", s.Started.Format("Mon 2 Jan 2006 15:04"), s.Status, s.Plan.Brief.By, s.Plan.Brief.Reason)
	x0, y0 := vg.Length(margin+80), vg.Length(margin+52)
	whole := max(end.Sub(s.Started), time.Minute)
	scale := (width - x0 - margin) / vg.Length(whole.Seconds())
	at := func(t time.Time) vg.Length { return x0 + vg.Length(t.Sub(s.Started).Seconds())*scale }
	for t := tick(whole); t <= whole; t += tick(whole) {
		x := at(s.Started.Add(t))
		p.line(x, y0-8, x, y0+lane*vg.Length(len(s.Visits)), 0.5, faint)
		p.text(x, y0-14, 8, centre, grey, "%s", s.Started.Add(t).Format("15:04"))
	}
	for i := range s.Visits {
		v := &s.Visits[i]
		y := y0 + lane*vg.Length(i)
		p.bold(x0-8, y+lane/2, 9, right, ink, v.Host)
		for _, span := range v.Spans {
			to := span.To
			if to.IsZero() {
				to = end
			}
			w := max(at(to)-at(span.From), 0.8)
			p.box(at(span.From), y+6, w, lane-12, stepInk[span.Step])
			if w > 34 {
				p.text(at(span.From)+w/2, y+lane/2, 7, centre, white, "%s", span.Step)
			}
			if span.Failed {
				p.frame(at(span.From), y+4, w, lane-8, alarm)
				p.text(at(span.From)+w+3, y+lane/2, 8, left, alarm, "failed")
			}
		}
	}
	x, y := x0, y0+lane*vg.Length(len(s.Visits))+18
	for _, step := range stepOrder {
		p.box(x, y-5, 10, 10, stepInk[step])
		p.text(x+14, y, 8, left, ink, "%s", step)
		x += 68
	}
	_, moves := s.Tally()
	took := "took"
	if s.Status == plan.Planned {
		took = "about"
	}
	p.text(x0, y+18, 9, left, grey, "%s %s; moves %d, floor %d", took, drift.Age(end.Sub(s.Started)), moves, s.Plan.Floor)
}

// tick is a round distance between marks that puts about eight of them on the line.
func tick(whole time.Duration) time.Duration {
	for _, d := range []time.Duration{time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 6 * time.Hour} {
		if whole/d <= 8 {
			return d
		}
	}
	return 24 * time.Hour
}
