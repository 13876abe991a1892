package plan

import (
	"cmp"
	"fmt"
	"math"
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
	Pessimistic time.Duration `json:"pessimistic"` // nine of ten take no longer
	// Stated is the middle case as the acts state it for just this work: what it took is learned as a share of that.
	Stated time.Duration `json:"stated,omitempty"`
	From   string        `json:"from"` // "12 of Quay 1" or "assumed"
}

// Times is what is known of how long steps took, by "step/hardware model": each as a share of what the step's acts state
// for the work that it was. So guests, bandwidth and migrations at once count in a plan that learned from others.
type Times map[string][]float64

// Learn adds one more.
func (t Times) Learn(step act.Step, model string, share float64) {
	k := string(step) + "/" + model
	t[k] = append(t[k], share)
}

// Expect is how long a step on that hardware takes whose acts state a middle and a pessimistic case: the middle, the 90 %
// upper prediction bound, and where they come from. Shares of what was stated are taken as log-normal. What is stated
// stands for a quarter of a sample of their middle and for three of their spread, so that few samples make a wide bound;
// the bound is the quantile of the posterior predictive distribution, Student's t (Gelman and others, Bayesian Data
// Analysis, 3rd edition, section 3.3, conjugate prior).
func (t Times) Expect(step act.Step, model string, middle, worst time.Duration) (time.Duration, time.Duration, string) {
	took := t[string(step)+"/"+model]
	if len(took) == 0 || middle <= 0 {
		return middle, worst, "assumed"
	}
	const level, spread = 0.25, 3.0
	n, mean := float64(len(took)), 0.0
	for _, share := range took {
		mean += math.Log(share) / n
	}
	own := math.Log(max(float64(worst)/float64(middle), 1.1)) / ninety
	sum := spread*own*own + level*n/(level+n)*mean*mean
	for _, share := range took {
		sum += (math.Log(share) - mean) * (math.Log(share) - mean)
	}
	at, free := n*mean/(level+n), spread+n
	bound := at + student(free)*math.Sqrt(sum/free*(level+n+1)/(level+n))
	of := func(log float64) time.Duration {
		return time.Duration(float64(middle) * math.Exp(log)).Round(time.Millisecond)
	}
	return of(at), of(bound), fmt.Sprintf("%d of %s", len(took), model)
}

// ninety is the quantile of nine tenths of the normal distribution.
const ninety = 1.2815515655

// student is the quantile of nine tenths of Student's distribution, for four degrees of freedom and more (Abramowitz and
// Stegun, Handbook of Mathematical Functions, 26.7.5).
func student(free float64) float64 {
	const z = ninety
	const z3, z5 = z * z * z, z * z * z * z * z
	return z + (z3+z)/(4*free) + (5*z5+16*z3+3*z)/(96*free*free) + (3*z5*z*z+19*z5+17*z3-15*z)/(384*free*free*free)
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
	if g := guestOf(r, uid); g != nil {
		return g.Load.MemoryMiB
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
	out := t.own(v, r, b)
	var middle, worst time.Duration
	for i := range b.Hooks {
		h := &b.Hooks[i]
		m, w := act.RunHook.Of().Takes(act.Act{Hook: h})
		for _, s := range out {
			if string(s.Step) == h.Of || h.Of == "visit" && s.Step == act.PrecheckStep {
				middle, worst = middle+m, worst+w
			}
		}
	}
	if worst > 0 && !v.Ahead {
		m, p, from := t.Expect(act.HookStep, v.Model, middle, worst)
		out = append(out, Stretch{act.HookStep, 0, m, p, middle, from})
	}
	return out
}

// own are the steps of a visit without the programs that a site runs in it.
func (t Times) own(v *Visit, r *estate.Reading, b *Brief) []Stretch {
	var out []Stretch
	migrations := fmt.Sprintf("assumed, %d MiB/s, %d at once", cmp.Or(b.Bandwidth, act.Bandwidth), b.Moves)
	add := func(step act.Step, pass int, assumed string, middle, worst time.Duration) {
		m, p, from := t.Expect(step, v.Model, middle, worst)
		if from == "assumed" {
			from = assumed
		}
		out = append(out, Stretch{step, pass, m, p, middle, from})
	}
	usual := func(step act.Step, pass int) {
		m, w := assumed(step)
		add(step, pass, "assumed", m, w)
	}
	sum := func(step act.Step, pass int, from string, acts []act.Act) {
		beside := 1
		// each migration has its own share; without a bound they share what there is
		if from == migrations && b.Bandwidth > 0 {
			beside = b.Moves
		}
		m, w := together(acts, beside)
		add(step, pass, from, m, w)
	}
	usual(act.PrecheckStep, 0)
	var removes []act.Act
	for range v.Uncopies {
		removes = append(removes, act.Act{Kind: act.Unsnapshot})
	}
	if acts := append(removes, v.brings()...); len(acts)+len(v.Unstages) > 0 {
		if len(v.Unstages) > 0 {
			acts = append(acts, act.Act{Kind: act.Unstage})
		}
		sum(act.StageStep, 0, "assumed", acts)
	}
	if v.Ahead {
		return out
	}
	if v.Empties {
		var acts []act.Act
		for i := range v.Ejects {
			acts = append(acts, act.Act{Kind: act.Eject, Guest: v.Ejects[i].Guest})
		}
		crowd := v.crowd // those who came before its turn leave too
		if crowd == nil {
			crowd = r.RunningGuests()
		}
		for _, g := range crowd {
			if slices.ContainsFunc(v.Rests, func(r Rest) bool {
				return r.UID() == g.UID()
			}) || g.State != estate.Running || slices.ContainsFunc(v.Colds, func(c Cold) bool { return c.UID() == g.UID() }) {
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
	var keeps []act.Act
	for i := range v.Copies {
		keeps = append(keeps, act.Act{Kind: act.Snapshot, MemoryMiB: v.Copies[i].MemoryMiB})
	}
	if v.Backup {
		keeps = append(keeps, act.Act{Kind: act.Backup})
	}
	if len(keeps) > 0 {
		sum(act.BackupStep, 0, "assumed", keeps)
	}
	for pass := 1; pass <= v.Passes; pass++ {
		var acts []act.Act
		made := func(_ act.Name, i int) bool {
			return slices.ContainsFunc(acts, func(a act.Act) bool { return a.Makes(i) })
		}
		for a, ok := act.Next(v.Changes, pass, made); ok; a, ok = act.Next(v.Changes, pass, made) {
			acts = append(acts, a)
		}
		var boots []act.Act
		acts = slices.DeleteFunc(acts, func(a act.Act) bool {
			if a.Kind == act.Boot {
				boots = append(boots, act.Act{Kind: act.Mount}, a, act.Act{Kind: act.Unmount})
			}
			return a.Kind == act.Boot
		})
		if len(acts) > 0 || pass > 1 || !v.Rehearses {
			sum(act.ChangeStep, pass, "assumed", acts)
		}
		if len(boots) > 0 {
			sum(act.RestartStep, pass, "assumed", boots)
		} else if slices.Contains(v.Restarts, pass) {
			sum(act.RestartStep, pass, "assumed", []act.Act{{Kind: act.Restart}})
		}
	}
	usual(act.ProveStep, 0)
	if v.Empties {
		m, w := assumed(act.ReopenStep)
		for range v.Rests {
			x, y := act.Start.Of().Takes(act.Act{})
			m, w = m+x, w+y
		}
		add(act.ReopenStep, 0, "assumed", m, w)
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
