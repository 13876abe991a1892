package harbour

import (
	"os"
	"strconv"
	"testing"
	"time"

	"yareharbour/core/course"
	"yareharbour/core/plan"
)

// Of visits on the simulation, with different settings and times learned from those before, few take longer than their
// bound. It takes as many rounds as YARE_ROUNDS says, each some seconds; without that it is not tried.
func TestFewVisitsTakeLongerThanTheirBound(t *testing.T) {
	rounds, _ := strconv.Atoi(os.Getenv("YARE_ROUNDS"))
	if rounds == 0 {
		t.Skip("YARE_ROUNDS says how many rounds")
	}
	times := plan.Times{}
	visits, over, first := 0, 0, 0
	for n := range rounds {
		s := aRound(t, n)
		for i := range s.Visits {
			v := &s.Visits[i]
			var took, bound time.Duration
			for _, x := range v.Steps {
				worst := x.Pessimistic // nothing was known of the past when it was planned
				_, b, _ := times.Expect(x.Step, v.Model, x.Stated, worst)
				bound += b
			}
			for _, x := range v.Spans {
				took += x.To.Sub(x.From)
			}
			visits++
			if took > bound {
				over++
				first += map[bool]int{true: 1}[n == 0]
				t.Logf("round %d, %s: %s of %s", n, v.Host, took.Round(time.Second), bound.Round(time.Second))
			}
		}
		for i := range s.Visits {
			v := &s.Visits[i]
			for _, x := range v.Spans {
				if stated := v.Stated(x); stated > 0 && x.To.After(x.From) {
					times.Learn(x.Step, v.Model, float64(x.To.Sub(x.From))/float64(stated))
				}
			}
		}
	}
	t.Logf("%d visits, %d took longer than their bound, %d of them in the first round", visits, over, first)
	if visits < 4*rounds || float64(over) > 0.15*float64(visits) {
		t.Errorf("%d visits, and %d took longer", visits, over)
	}
}

// aRound carries out a round over a demo estate of its own.
func aRound(t *testing.T, n int) *course.State {
	t.Helper()
	h := openAt(t, 300)
	b := brief(h, "vts")
	b.Moves, b.Bandwidth = 1+n%3, []int64{0, 300, 60, 120}[n%4]
	s, err := h.Start(t.Context(), start(b), unseen)
	if err != nil || s.Status != course.Finished {
		t.Fatal(s, err)
	}
	return s
}
