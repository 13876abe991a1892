package plan

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// Stretch is a step with the time it is expected to take.
type Stretch struct {
	Step        act.Step      `json:"step"`
	Pass        int           `json:"pass,omitempty"`
	Middle      time.Duration `json:"middle"`
	Pessimistic time.Duration `json:"pessimistic"`
	From        string        `json:"from"` // "12 restarts of Quay 1" or "assumed"
}

// Times is what is known of how long steps took: durations by "step/hardware model".
type Times map[string][]time.Duration

// Learn adds one more.
func (t Times) Learn(step act.Step, model string, took time.Duration) {
	k := string(step) + "/" + model
	t[k] = append(t[k], took)
}

// enough is how many must be known before the past is believed rather than the assumption.
const enough = 3

// Usual returns the median and the 90th percentile of a step on that hardware, and where they come from.
func (t Times) Usual(step act.Step, model string) (middle, pessimistic time.Duration, from string) {
	took := slices.Clone(t[string(step)+"/"+model])
	if len(took) < enough {
		middle, pessimistic = assumed(step)
		return middle, pessimistic, "assumed"
	}
	slices.Sort(took)
	return took[len(took)/2], took[min(len(took)*9/10, len(took)-1)], fmt.Sprintf("%d of %s", len(took), model)
}

// assumed is what the longest act of the step usually takes: figures that the kinds of acts state.
func assumed(step act.Step) (middle, pessimistic time.Duration) {
	for _, n := range act.Names() {
		if n.Step() == step {
			m, p := n.Of().Takes(act.Act{})
			middle, pessimistic = max(middle, m), max(pessimistic, p)
		}
	}
	if middle == 0 {
		return step.Looking()
	}
	return middle, pessimistic
}

func memoryOf(r *estate.Reading, uid string) int64 {
	for i := range r.Guests {
		if r.Guests[i].UID() == uid {
			return r.Guests[i].Load.MemoryMiB
		}
	}
	return 0
}

// together is how long acts take of which so many are done side by side, each as soon as one before it ends.
func together(acts []act.Act, beside int) (middle, worst time.Duration) {
	m, w := make([]time.Duration, max(beside, 1)), make([]time.Duration, max(beside, 1))
	for _, a := range acts {
		x, y := a.Kind.Of().Takes(a)
		slices.Sort(m)
		slices.Sort(w)
		m[0], w[0] = m[0]+x, w[0]+y
	}
	return slices.Max(m), slices.Max(w)
}

// steps are what a visit will take, step by step, each as long as the past has it on that hardware, and else as its
// acts say.
func (t Times) steps(v *Visit, r *estate.Reading, b *Brief) []Stretch {
	var out []Stretch
	migrations := fmt.Sprintf("assumed, %d MiB/s, %d at once", cmp.Or(b.Bandwidth, act.Bandwidth), b.Moves)
	usual := func(step act.Step, pass int) {
		m, p, from := t.Usual(step, v.Model)
		out = append(out, Stretch{step, pass, m, p, from})
	}
	sum := func(step act.Step, pass int, from string, acts []act.Act) {
		if len(t[string(step)+"/"+v.Model]) >= enough && step == act.DrainStep {
			usual(step, pass)
			return
		}
		s := Stretch{Step: step, Pass: pass, From: from}
		beside := 1
		// each migration has its own share; without a bound they share what there is
		if from == migrations && b.Bandwidth > 0 {
			beside = b.Moves
		}
		s.Middle, s.Pessimistic = together(acts, beside)
		out = append(out, s)
	}
	usual(act.PrecheckStep, 0)
	usual(act.StageStep, 0)
	if v.Empties {
		var acts []act.Act
		for i := range v.Ejects {
			acts = append(acts, act.Act{Kind: act.Eject, Guest: v.Ejects[i].Guest})
		}
		for _, g := range r.RunningGuests() {
			if slices.ContainsFunc(v.Rests, func(r Rest) bool {
				return r.UID() == g.UID()
			}) || slices.ContainsFunc(v.Colds, func(c Cold) bool { return c.UID() == g.UID() }) {
				continue
			}
			acts = append(acts, act.Act{Kind: act.Move, MemoryMiB: g.Load.MemoryMiB, Bandwidth: b.Bandwidth})
		}
		for i := range v.Colds {
			kinds := []act.Name{act.Carry}
			if v.Colds[i].Runs {
				kinds = []act.Name{act.Down, act.Carry, act.Start}
			}
			for _, k := range kinds {
				acts = append(acts, act.Act{Kind: k, Guest: v.Colds[i].Guest})
			}
		}
		for i := range v.Rests {
			acts = append(acts, act.Act{Kind: v.Rests[i].How, MemoryMiB: memoryOf(r, v.Rests[i].UID())})
		}
		sum(act.DrainStep, 0, migrations, acts)
		usual(act.CloseStep, 0)
	}
	if v.Backup {
		usual(act.BackupStep, 0)
	}
	for pass := 1; pass <= v.Passes; pass++ {
		var acts []act.Act
		made := func(_ act.Name, i int) bool {
			return slices.ContainsFunc(acts, func(a act.Act) bool { return a.Makes(i) })
		}
		for a, ok := act.Next(v.Changes, pass, made); ok; a, ok = act.Next(v.Changes, pass, made) {
			acts = append(acts, a)
		}
		if len(acts) > 0 || pass > 1 || !v.Rehearses {
			sum(act.ChangeStep, pass, "assumed", acts)
		}
		if slices.Contains(v.Restarts, pass) {
			usual(act.RestartStep, pass)
		}
	}
	usual(act.ProveStep, 0)
	if v.Empties {
		usual(act.ReopenStep, 0)
		for range v.Rests {
			s := &out[len(out)-1]
			m, w := act.Start.Of().Takes(act.Act{})
			s.Middle, s.Pessimistic = s.Middle+m, s.Pessimistic+w
		}
	}
	if len(v.Back) > 0 {
		var acts []act.Act
		for i := range v.Back {
			acts = append(acts, act.Act{Kind: act.Return, MemoryMiB: memoryOf(r, v.Back[i].UID()),
				Bandwidth: b.Bandwidth})
		}
		sum(act.ReturnStep, 0, migrations, acts)
	}
	return out
}
