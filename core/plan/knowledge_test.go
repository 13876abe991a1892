package plan_test

import (
	"math/rand"
	"slices"
	"strings"
	"testing"

	"yareharbour/core/act"
	"yareharbour/core/drift"
	"yareharbour/core/plan"
	"yareharbour/core/plan/plantest"
	"yareharbour/core/precheck"
)

// good is how well a verdict speaks of a host: an unread one not at all.
func good(o drift.Outcome) bool { return o == drift.InLine || o == drift.NotApplying }

// Invariant 11: less knowledge never permits more. Take any fact away: no verdict turns in line or "does not apply", no
// obstacle goes, no precheck clears, no change is made that would not have been made, and no host is said to be in
// line.
func TestLessKnowledgeNeverPermitsMore(t *testing.T) {
	r := rand.New(rand.NewSource(11))
	for n := range 1500 {
		w := plantest.Random(r)
		before, planned := w.Judge()
		after, less := w.Without(r).Judge()
		for _, h := range w.In.Cluster.Hosts {
			for _, v := range after.In.Verdicts[h] {
				was := slices.IndexFunc(before.In.Verdicts[h], func(o drift.Verdict) bool {
					return o.Component == v.Component && o.Device == v.Device
				})
				if good(v.Outcome) && (was < 0 || !good(before.In.Verdicts[h][was].Outcome)) {
					t.Fatalf("world %d: %s on %s became %s by knowing less", n, v.Title(), h, v.Outcome)
				}
			}
			if inLine(&less, h) && !inLine(&planned, h) {
				t.Fatalf("world %d: %s became in line by knowing less", n, h)
			}
			a, b := visitOf(&planned, h), visitOf(&less, h)
			if b == nil || b.Obstacle != "" {
				continue
			}
			if a == nil {
				t.Fatalf("world %d: %s is visited by knowing less: %+v", n, h, b.Changes)
			}
			// for a visit that may be less than it was, and so go ahead
			waits := strings.Contains(a.Obstacle, "on trial")
			if a.Obstacle != "" && b.Empties && !waits {
				t.Fatalf("world %d: the obstacle of %s (%s) went by knowing less", n, h, a.Obstacle)
			}
			for _, c := range b.Changes {
				if !slices.ContainsFunc(a.Changes, func(o act.Change) bool {
					return o.Component == c.Component && o.Device == c.Device && o.To == c.To
				}) {
					t.Fatalf("world %d: %s on %s is changed by knowing less", n, c.Says(), h)
				}
			}
			for _, x := range b.Answers {
				i := slices.IndexFunc(a.Answers, func(o precheck.Answer) bool { return o.Check == x.Check })
				if i >= 0 && x.Level == precheck.Clear && a.Answers[i].Level != precheck.Clear && x.Check != "fit" &&
					x.Check != "closed" && (x.Check != "guests" || b.Empties) {
					t.Fatalf("world %d: the precheck %s of %s cleared by knowing less: %q, was %q", n, x.Check, h,
						x.Evidence, a.Answers[i].Evidence)
				}
			}
		}
		if less.InLine() && !planned.InLine() {
			t.Fatalf("world %d: all is in line by knowing less", n)
		}
	}
}

func inLine(p *plan.Plan, host string) bool {
	i := slices.IndexFunc(p.Aside, func(a plan.Aside) bool { return a.Host == host })
	return i >= 0 && p.Aside[i].InLine
}

func visitOf(p *plan.Plan, host string) *plan.Visit {
	i := slices.IndexFunc(p.Visits, func(v plan.Visit) bool { return v.Host == host })
	if i < 0 {
		return nil
	}
	return &p.Visits[i]
}
