package course

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/drift"
)

// hookAgain is how long a hook that says wait is let alone before it is run again.
const hookAgain = 20 * time.Second

// place is a step of a visit, in a pass where the step is made in each.
type place struct {
	step act.Step
	pass int
}

func placeOf(a *act.Act) place {
	switch s := a.Kind.Step(); s {
	case act.ChangeStep, act.RestartStep:
		return place{s, a.Pass}
	default:
		return place{s, 0}
	}
}

// places are the steps of the visit that were made, in order.
func (v *Visit) places() (out []place) {
	for i := range v.Acts {
		if p := placeOf(&v.Acts[i]); p.step != act.HookStep && !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	if v.Phase == Closing || v.Over() {
		at := len(out)
		for i, p := range out { // what comes after it was made since
			if p.step == act.ReopenStep || p.step == act.ReturnStep {
				at = min(at, i)
			}
		}
		out = slices.Insert(out, at, place{act.ProveStep, 0})
	}
	return out
}

// ran tells whether the i-th hook was run, in that pass of the visit.
func (v *Visit) ran(i, pass int) bool {
	return slices.ContainsFunc(v.Acts, func(a act.Act) bool { return a.Kind == act.RunHook && a.Index == i && a.Pass == pass })
}

// hook is the next one that runs before the visit goes on to a step: those after what it has done, and those before the
// step. The step "" is the visit's end.
func (s *State) hook(v *Visit, to place) (act.Act, bool) {
	if len(s.Plan.Brief.Hooks) == 0 {
		return act.Act{}, false
	}
	pick := func(before bool, of string, pass int) (act.Act, bool) {
		for i := range s.Plan.Brief.Hooks {
			h := &s.Plan.Brief.Hooks[i]
			if h.Before == before && h.Of == of && !v.ran(i, pass) && !(of == "round" && s.hooked[i]) {
				return act.Act{Kind: act.RunHook, Index: i, Pass: pass, Hook: h}, true
			}
		}
		return act.Act{}, false
	}
	for _, of := range []string{"round", "visit"} {
		if a, ok := pick(true, of, 0); ok {
			return a, true
		}
	}
	for _, p := range v.places() {
		if p == to {
			continue
		}
		if a, ok := pick(false, string(p.step), p.pass); ok {
			return a, true
		}
	}
	if to.step == "" {
		return pick(false, "visit", 0)
	}
	return pick(true, string(to.step), to.pass)
}

// runs tells whether a visit goes its usual way: only then do hooks run in it. What is undone after a failure waits for no
// program.
func (t *turn) runs(v *Visit) bool {
	return v.Failure == nil && v.Hands == nil && !v.Ahead && v.Under() && !t.halts(v)
}

// hooks runs the next hook that comes before the visit goes on to a step, and tells whether there is one.
func (t *turn) hooks(v *Visit, to place) bool {
	if !t.runs(v) {
		return false
	}
	a, ok := t.s.hook(v, to)
	if !ok {
		return false
	}
	if a.Hook.Of == "round" && t.count(func(o *act.Act) bool { return o.Kind == act.RunHook && o.Index == a.Index && o.Visit() != v.Host }) > 0 {
		t.wait(v.Host, "waits for the hook "+a.Hook.Point()+", which runs once")
		return true
	}
	b := &t.s.Plan.Brief
	switch held := t.f.Now.Sub(v.Held); {
	case v.Held.IsZero():
	case held >= b.Patience:
		t.blocked(v, fmt.Sprintf("the hook %s has said wait for %s: %s", a.Hook.Point(), drift.Age(held), v.Why),
			"see what it waits for, then resume the round")
		return true
	case t.f.Now.Sub(v.HookRan) < hookAgain:
		t.wait(v.Host, fmt.Sprintf("the hook %s: %s, and it is run again soon", a.Hook.Point(), v.Why))
		return true
	}
	t.start(v, t.told(v, a))
	return true
}

// told is a hook's act with what it is told.
func (t *turn) told(v *Visit, a act.Act) act.Act {
	b := &t.s.Plan.Brief
	f := act.HookFacts{Round: t.s.Round, Cluster: b.Cluster, By: b.By, Reason: b.Reason, Host: v.Host, Pass: a.Pass,
		Changes: []act.Change{}, Guests: append([]string{}, v.Guests...)}
	for _, i := range v.wanted() {
		f.Changes = append(f.Changes, v.Changes[i])
	}
	for i := range t.s.Visits {
		f.Hosts = append(f.Hosts, t.s.Visits[i].Host)
	}
	a.Reason = b.Reason
	a.Facts, _ = a.Hook.Facts(f) // it holds only what can be marshalled
	return a
}

// afterRound runs the next hook after the round, on behalf of its first visit, and tells whether one runs. However it ends,
// the round is over: what came of it is told.
func (t *turn) afterRound() bool {
	if len(t.s.Visits) == 0 {
		return false
	}
	for i := range t.s.Plan.Brief.Hooks {
		h := &t.s.Plan.Brief.Hooks[i]
		if h.Of != "round" || h.Before || t.s.hooked[i] || !t.s.begun() {
			continue
		}
		a := t.told(&t.s.Visits[0], act.Act{Kind: act.RunHook, Index: i, Hook: h, Host: t.s.Visits[0].Host,
			Round: t.s.Round, Epoch: t.s.Epoch, By: t.s.Plan.Brief.By})
		t.intend(a)
		return true
	}
	return false
}

// begun tells whether anything of the round was.
func (s *State) begun() bool {
	return slices.ContainsFunc(s.Visits, func(v Visit) bool { return len(v.Spans) > 0 })
}

// last tells whether an act is a hook after the round: nothing is left to be held up by it.
func last(a *act.Act) bool { return a.Hook != nil && a.Hook.Of == "round" && !a.Hook.Before }

// hookEnded takes in how a hook ended.
func (s *State) hookEnded(v *Visit, a *act.Act, e *Event) {
	switch {
	case e.Kind == Undone && e.Again:
		if v.Held.IsZero() {
			v.Held = e.At
		}
		v.HookRan, v.Why = e.At, e.Detail
		return
	case e.Kind == Undone:
		return
	}
	v.Held, v.HookRan = time.Time{}, time.Time{}
	if a.Hook.Of == "round" && (e.Kind == Done || !a.Hook.Before) {
		s.hooked[a.Index] = true
	}
	if a.Hook.Of == "round" && e.Kind == Failed && !a.Hook.Before {
		v.Notes = append(v.Notes, e.Act.Says()+" failed: "+e.Detail)
	}
}
