package drift

import (
	"yareharbour/core/baseline"
	"yareharbour/core/estate"
)

// Wishes are the clauses that a person may want for what the verdict is about, in place of what is wanted now: what the
// host has, what is wanted there now, whatever is newest, or that it is never there.
func (v *Verdict) Wishes() (out []baseline.Wish) {
	now := baseline.Clause{Component: v.Component, Posture: baseline.IfPresent}
	says := ""
	if v.Clause != nil {
		says = v.Clause.Says()
		now.Hardware = v.Clause.Hardware
		if v.Clause.Posture != baseline.Never {
			now.Posture = v.Clause.Posture
		}
	}
	offer := func(p baseline.Posture, version string, follow bool) {
		c := now
		c.Posture, c.Version, c.Follow = p, version, follow
		if w := c.Says(); w != says {
			out = append(out, baseline.Wish{Says: w, Clause: &c})
		}
	}
	setting := v.Layer() == estate.Settings
	for i, version := range []string{v.Has, v.Wants} {
		if version == "" || i == 1 && version == v.Has {
			continue
		}
		if !setting {
			offer(baseline.AtLeast, version, false)
		}
		offer(baseline.Exactly, version, false)
	}
	if !setting {
		offer(now.Posture, "", true)
	}
	offer(baseline.Never, "", false)
	return out
}
