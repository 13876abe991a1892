package plan

import (
	"fmt"
	"math"
	"math/rand"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
)

// What was stated holds until there is a past; then the middle comes near the past's, and the bound near its nine tenths,
// wide while the past is short. What is learned is a share: for ten times the work, ten times as long.
func TestHowLongAStepIsExpectedToTake(t *testing.T) {
	ts := Times{}
	const m, w = time.Minute, 2 * time.Minute
	if a, b, from := ts.Expect(act.DrainStep, "M", m, w); a != m || b != w || from != "assumed" {
		t.Errorf("%s, %s, %s", a, b, from)
	}
	last := 100.0
	for n := 1; n <= 64; n *= 2 {
		for len(ts["drain/M"]) < n {
			ts.Learn(act.DrainStep, "M", 3)
		}
		a, b, from := ts.Expect(act.DrainStep, "M", m, w)
		if wide := b.Minutes() / a.Minutes(); a < 2*time.Minute || a > 3*time.Minute || wide >= last || wide < 1.02 ||
			from != fmt.Sprintf("%d of M", n) {
			t.Errorf("after %d that took three times as long: %s, at worst %s (%s)", n, a, b, from)
		} else {
			last = wide
		}
	}
	a, b, _ := ts.Expect(act.DrainStep, "M", m, w)
	if a10, b10, _ := ts.Expect(act.DrainStep, "M", 10*m, 10*w); (a10-10*a).Abs() > 10*time.Millisecond || (b10-10*b).Abs() > 10*time.Millisecond {
		t.Errorf("ten times the work: %s and %s, at worst %s and %s", a, a10, b, b10)
	}
	if a, b, _ := ts.Expect(act.DrainStep, "other", m, w); a != m || b != w {
		t.Errorf("other hardware: %s, %s", a, b)
	}
	if a, b, from := ts.Expect(act.DrainStep, "M", 0, m); a != 0 || b != m || from != "assumed" {
		t.Errorf("no work at all: %s, %s, %s", a, b, from)
	}
	for free, want := range map[float64]float64{4: 1.533, 5: 1.476, 10: 1.372, 30: 1.310} { // of the tables
		if got := student(free); math.Abs(got-want) > 0.005 {
			t.Errorf("Student's t with %v degrees of freedom: %v, want %v", free, got, want)
		}
	}
}

// Whatever hardware does, of what comes next about one in ten takes longer than the bound, however little is known.
func TestNineOfTenTakeNoLongerThanTheBound(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	for _, known := range []int{1, 3, 10, 40} {
		over, all := 0, 20000
		for range all {
			ts := Times{}
			rate, spread := math.Exp(r.NormFloat64()*0.7), 0.1+0.5*r.Float64()
			took := func() float64 { return rate * math.Exp(spread*r.NormFloat64()) }
			for range known {
				ts.Learn(act.RestartStep, "M", took())
			}
			if _, bound, _ := ts.Expect(act.RestartStep, "M", time.Hour, 2*time.Hour); took()*float64(time.Hour) > float64(bound) {
				over++
			}
		}
		if share := float64(over) / float64(all); share > 0.15 || share < 0.02 {
			t.Errorf("with %d known, %.1f %% take longer", known, 100*share)
		}
	}
}

// What the kinds of acts state is assumed for a step.
func TestWhatIsAssumedOfAStep(t *testing.T) {
	for _, step := range act.Steps {
		want, worst := time.Duration(0), time.Duration(0)
		for _, n := range act.Names() {
			if n.Step() == step {
				m, p := n.Of().Takes(act.Act{})
				want, worst = max(want, m), max(worst, p)
			}
		}
		if want == 0 {
			want, worst = step.Looking()
		}
		if m, p := assumed(step); m != want || p != worst || m <= 0 {
			t.Errorf("%s is assumed to take %s, at worst %s; want %s, %s", step, m, p, want, worst)
		}
	}
}

// stretches are the steps of a visit, in words.
func stretches(v *Visit) string {
	var out []string
	for _, s := range v.Steps {
		w := string(s.Step)
		if s.Pass > 0 {
			w += fmt.Sprint(s.Pass)
		}
		out = append(out, w)
	}
	return strings.Join(out, " ")
}

func TestTheStepsOfAVisit(t *testing.T) {
	r := reading("a", 9000, 18000)
	install := act.Change{Component: "deb:k", From: "1", To: "2", Restart: catalogue.HostRestart, Pass: 1, File: "k"}
	flash := act.Change{Component: "fw:f", From: "1", To: "2", Restart: catalogue.NoRestart, Pass: 2, File: "f"}
	ts := Times{}
	for want, v := range map[string]*Visit{
		"precheck change1 prove": {Host: "a",
			Changes: []act.Change{{Component: "deb:k", From: "1", To: "2", Pass: 1}}, Passes: 1},
		"precheck stage drain close backup change1 restart1 change2 prove reopen": {Host: "a",
			Changes: []act.Change{install, flash}, Passes: 2, Empties: true, Backup: true, Restarts: []int{1}},
		"precheck drain close change1 change2 restart2 prove reopen": {Host: "a",
			Changes: []act.Change{flash}, Passes: 2, Empties: true, Restarts: []int{2}},
	} {
		v.Steps = ts.steps(v, r, &Brief{Moves: 2})
		if got := stretches(v); got != want {
			t.Errorf("%s, want %s", got, want)
		}
		for _, s := range v.Steps {
			switch s.Step {
			case act.DrainStep: // each guest as long as its memory takes, one after the other
				if want := time.Duration(9000/900+18000/900) * time.Second; s.Middle != want ||
					s.Pessimistic != 2*want+2*time.Minute || s.From != "assumed, 900 MiB/s, 2 at once" {
					t.Errorf("%+v, want %s", s, want)
				}
			case act.ChangeStep:
				if s.Pass == 2 && len(v.Changes) == 2 {
					m, p := act.Flash.Of().Takes(act.Act{Change: &flash})
					if s.Middle != m || s.Pessimistic != p {
						t.Errorf("%+v, want %s", s, m)
					}
				}
			}
		}
	}
	v := &Visit{Host: "a", Model: "M", Empties: true}
	v.Passes, v.Changes = 1, []act.Change{install}
	for range 3 { // short drains, at a third of what was stated
		ts.Learn(act.DrainStep, "M", 3)
		ts.Learn(act.ChangeStep, "M", 2)
	}
	took := map[string]time.Duration{}
	for _, b := range []Brief{{Moves: 1, Bandwidth: 90}, {Moves: 2, Bandwidth: 90}, {Moves: 2, Bandwidth: 45}} {
		for _, s := range ts.steps(v, r, &b) {
			if s.Step == act.DrainStep {
				took[fmt.Sprint(b.Moves, " ", b.Bandwidth)] = s.Middle
			}
			if (s.Step == act.DrainStep || s.Step == act.ChangeStep) && (s.From != "3 of M" || s.Middle < 2*s.Stated*8/10 || s.Stated == 0) {
				t.Errorf("%+v", s)
			}
		}
	}
	if took["1 90"] <= took["2 90"] || took["2 45"] <= took["2 90"] || took["2 90"] < 500*time.Second {
		t.Errorf("what was learned counts, and the brief does too: %v", took)
	}
	delete(ts, "drain/M")
	for _, s := range ts.steps(v, r, &Brief{Moves: 3, Bandwidth: 90}) {
		if s.Step == act.DrainStep && (s.Middle != 200*time.Second || s.From != "assumed, 90 MiB/s, 3 at once") {
			t.Errorf("at 90 MiB/s: %+v", s)
		}
	}
}
