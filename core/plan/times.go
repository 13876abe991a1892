package plan

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/estate"
)

// StepName names a step of a visit.
type StepName string

// The steps, in order.
const (
	PrecheckStep StepName = "precheck"
	StageStep    StepName = "stage"
	DrainStep    StepName = "drain"
	CloseStep    StepName = "close"
	ChangeStep   StepName = "change"
	RestartStep  StepName = "restart"
	ProveStep    StepName = "prove"
	ReopenStep   StepName = "reopen"
)

// Stretch is a step with the time it is expected to take.
type Stretch struct {
	Step        StepName      `json:"step"`
	Pass        int           `json:"pass,omitempty"`
	Middle      time.Duration `json:"middle"`
	Pessimistic time.Duration `json:"pessimistic"`
	From        string        `json:"from"` // "12 restarts of Quay 1" or "assumed"
}

// Times is what is known of how long steps took: durations by "step/hardware model".
type Times map[string][]time.Duration

// Learn adds one more.
func (t Times) Learn(step StepName, model string, took time.Duration) {
	k := string(step) + "/" + model
	t[k] = append(t[k], took)
}

// enough is how many must be known before the past is believed rather than the assumption.
const enough = 3

// assumed are the figures used without a past: typical of a two-socket server with its memory tested at start.
var assumed = map[StepName][2]time.Duration{
	PrecheckStep: {10 * time.Second, 30 * time.Second},
	StageStep:    {30 * time.Second, 2 * time.Minute},
	CloseStep:    {5 * time.Second, 15 * time.Second},
	RestartStep:  {6 * time.Minute, 12 * time.Minute},
	ProveStep:    {40 * time.Second, 3 * time.Minute},
	ReopenStep:   {5 * time.Second, 15 * time.Second},
}

// Usual returns the median and the 90th percentile of a step on that hardware, and where they come from.
func (t Times) Usual(step StepName, model string) (middle, pessimistic time.Duration, from string) {
	took := slices.Clone(t[string(step)+"/"+model])
	if len(took) < enough {
		a := assumed[step]
		return a[0], a[1], "assumed"
	}
	slices.Sort(took)
	return took[len(took)/2], took[min(len(took)*9/10, len(took)-1)], fmt.Sprintf("%d of %s", len(took), model)
}

// perSecond is the memory that a migration is assumed to copy in a second, in MiB.
const perSecond = 900

func (t Times) steps(v *Visit, r *estate.Reading, atOnce int) []Stretch {
	var out []Stretch
	add := func(step StepName, pass int, middle, pessimistic time.Duration, from string) {
		out = append(out, Stretch{step, pass, middle, pessimistic, from})
	}
	usual := func(step StepName, pass int) {
		m, p, from := t.Usual(step, v.Model)
		add(step, pass, m, p, from)
	}
	usual(PrecheckStep, 0)
	usual(StageStep, 0)
	if v.Empties {
		var mib int64
		for _, g := range r.RunningGuests() {
			mib += g.Load.MemoryMiB
		}
		d := time.Duration(mib/perSecond) * time.Second
		if len(t[string(DrainStep)+"/"+v.Model]) >= enough {
			m, p, from := t.Usual(DrainStep, v.Model)
			add(DrainStep, 0, m, p, from)
		} else {
			add(DrainStep, 0, d, 2*d+time.Minute, fmt.Sprintf("assumed, %d MiB/s, %d at once", perSecond, atOnce))
		}
		usual(CloseStep, 0)
	}
	for pass := 1; pass <= v.Passes; pass++ {
		var m, p time.Duration
		for _, c := range v.Changes {
			if c.Pass == pass && c.installs() {
				d := installTime(c)
				m, p = m+d, p+2*d
			}
		}
		add(ChangeStep, pass, m, p, "assumed")
		if slices.Contains(v.Restarts, pass) {
			usual(RestartStep, pass)
		}
	}
	usual(ProveStep, 0)
	if v.Empties {
		usual(ReopenStep, 0)
	}
	return out
}

func installTime(c Change) time.Duration {
	if c.Component.Layer() == estate.Firmware {
		return 2 * time.Minute
	}
	return 20 * time.Second
}

// Forecast lays a plan's visits one after the other, as their estimates have them in the middle case: what a round's state would be at
// its end. Visits with an obstacle have no steps.
func Forecast(p *Plan) *State {
	s := &State{Plan: *p, Status: Planned, Started: p.Made, Last: p.Made}
	for _, v := range p.Visits {
		f := VisitState{Visit: v}
		if v.Obstacle == "" {
			f.Moved = v.Moves
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
