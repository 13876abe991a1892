package plan

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
)

// The past is believed from the third time on: the median, and the time that nine of ten stay below.
func TestHowLongAStepUsuallyTakes(t *testing.T) {
	ts := Times{}
	for i, want := range []string{"assumed", "assumed", "3 of M"} {
		ts.Learn(act.RestartStep, "M", time.Duration(i+1)*time.Minute)
		if _, _, from := ts.Usual(act.RestartStep, "M"); from != want {
			t.Errorf("after %d: from %s, want %s", i+1, from, want)
		}
	}
	for i := 4; i <= 20; i++ {
		ts.Learn(act.RestartStep, "M", time.Duration(i)*time.Minute)
	}
	if m, p, from := ts.Usual(act.RestartStep, "M"); m != 11*time.Minute || p != 19*time.Minute || from != "20 of M" {
		t.Errorf("%s, %s from %s", m, p, from)
	}
	if m, p, _ := ts.Usual(act.RestartStep, "other"); m == 11*time.Minute || m <= 0 || p < m {
		t.Errorf("another model: %s, %s", m, p)
	}
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
		"precheck stage change1 prove": {Host: "a",
			Changes: []act.Change{{Component: "deb:k", From: "1", To: "2", Pass: 1}}, Passes: 1},
		"precheck stage drain close backup change1 restart1 change2 prove reopen": {Host: "a",
			Changes: []act.Change{install, flash}, Passes: 2, Empties: true, Backup: true, Restarts: []int{1}},
		"precheck stage drain close change1 change2 restart2 prove reopen": {Host: "a",
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
	for range 3 {
		ts.Learn(act.DrainStep, "M", 7*time.Minute)
		ts.Learn(act.ChangeStep, "M", 8*time.Minute)
	}
	v.Passes, v.Changes = 1, []act.Change{install}
	for _, s := range ts.steps(v, r, &Brief{Moves: 2, Bandwidth: 90}) {
		if s.Step == act.DrainStep && (s.Middle != 7*time.Minute || s.From != "3 of M") ||
			s.Step == act.ChangeStep && s.From != "assumed" {
			t.Errorf("%+v", s)
		}
	}
	delete(ts, "drain/M")
	for _, s := range ts.steps(v, r, &Brief{Moves: 3, Bandwidth: 90}) {
		if s.Step == act.DrainStep && (s.Middle != 200*time.Second || s.From != "assumed, 90 MiB/s, 3 at once") {
			t.Errorf("at 90 MiB/s: %+v", s)
		}
	}
}
