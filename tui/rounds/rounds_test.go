package rounds

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

type app struct {
	did   []string
	wrong error
}

func (d *app) LaunchResume(_ context.Context, cluster string) error {
	d.did = append(d.did, "resume "+cluster)
	return d.wrong
}
func (d *app) LaunchDecision(_ context.Context, cluster string, w course.Way, reason string) error {
	d.did = append(d.did, strings.Join(w.Command, " ")+" because "+reason)
	return d.wrong
}
func (d *app) Request(_ context.Context, cluster, what, host string) (string, error) {
	d.did = append(d.did, strings.TrimSpace(what+" "+cluster+" "+host))
	return "asked for: " + what, d.wrong
}

// round is one over three hosts: a is over, b is drained, d waits.
func round(status course.Status) view.Round {
	moving := act.Act{ID: "m1", Kind: act.Move, Host: "b", Guest: "g", GuestID: "g", To: "a"}
	return view.Round{
		ID: "01",
		State: &course.State{Status: status, Started: parttest.Now.Add(-time.Hour), Last: parttest.Now,
			Plan: plan.Plan{Brief: plan.Brief{Cluster: "c", By: "op", Reason: "November"}, Moves: 5},
			Visits: []course.Visit{
				{Visit: plan.Visit{Host: "a"}, Phase: course.Over,
					Spans: []course.Span{{Step: act.ChangeStep, From: parttest.Now.Add(-time.Hour),
						To: parttest.Now.Add(-30 * time.Minute)}}},
				{Visit: plan.Visit{Host: "b"}, Phase: course.Working,
					Spans: []course.Span{{Step: act.DrainStep, From: parttest.Now.Add(-10 * time.Minute)}}},
				{Visit: plan.Visit{Host: "d"}},
			},
			Open: []course.Pending{{Act: moving}}},
		Says: []course.Said{{Host: "b", Act: "m1", Percent: 40, Left: 3 * time.Minute},
			{Host: "d", Says: "waits for room"}},
		Runs: status == course.Running,
	}
}

func open(t *testing.T, r view.Round) (*parttest.Bench, *Screen, *app) {
	d := &app{}
	s := New(t.Context(), d, part.Place{Cluster: "c"})
	f := parttest.Frame()
	f.View.Rounds["c"] = r
	return parttest.Open(t, s, f), s, d
}

// Which keys can be used depends on whether somebody runs the round, and whether it is at its end.
func TestWhichKeysThereAre(t *testing.T) {
	const none, still = "no round runs over c", "no round over c waits for a decision"
	for _, c := range []struct {
		what           string
		round          view.Round
		stops, resumes string
	}{
		{"there is none", view.Round{}, none, still},
		{"it runs", round(course.Running), "", still},
		{"it paused", round(course.Paused), none, ""},
		{"it failed", round(course.Failing), none, ""},
		{"it is finished", round(course.Finished), none, still},
	} {
		b, _, _ := open(t, c.round)
		for _, k := range b.Screen.Keys(b.Frame) {
			want := c.stops
			switch {
			case k.Key == "g":
				want = c.resumes
			case k.Key == "f" && c.resumes == "":
				want = ""
			case k.Key == "f":
				want = "no round over c waits for a decision"
			}
			if k.Not != want {
				t.Errorf("%s: %s: %q, want %q", c.what, k.Key, k.Not, want)
			}
		}
	}
}

// The cursor follows the round until somebody moves it.
func TestTheCursorFollowsTheRound(t *testing.T) {
	b, s, d := open(t, round(course.Running))
	if got := s.cursor(s.lanes(b.Frame)); got != "b" {
		t.Errorf("it is with %s", got)
	}
	b.Press("v")
	b.Step(0, 9)
	b.Press("v", "P", "x")
	if got := strings.Join(d.did, ";"); got != "skip c b;skip c d;pause c;stop c" {
		t.Errorf("%s", got)
	}
	b.Enter()
	b.Take(lanePicked{"a"})
	b.Take(lanePicked{"a"})
	if len(b.Went) != 2 || b.Went[0].Host != "d" || b.Went[1].Host != "a" {
		t.Errorf("%+v", b.Went)
	}
	b.Frame.View.Rounds["c"] = view.Round{}
	b.Enter()
	b.Step(0, 1)
	if len(b.Went) != 2 {
		t.Errorf("without a round it goes to %+v", b.Went[2:])
	}
}

// Nothing that is hard to take back happens without a yes, and what fails is told.
func TestQuestions(t *testing.T) {
	b, _, d := open(t, round(course.Running))
	b.No = true
	b.Press("v")
	if len(d.did) > 0 || b.Said != "Leave b out of the round over c?" {
		t.Errorf("%v, %q", d.did, b.Said)
	}
	b, _, d = open(t, round(course.Failing))
	b.No = true
	b.Press("g")
	if len(d.did) > 0 || b.Said != "Resume the round over c?" {
		t.Errorf("%v, %q", d.did, b.Said)
	}
	b.No, d.wrong = false, errors.New("another runner has it")
	b.Press("g")
	if strings.Join(d.did, "") != "resume c" || b.Said != "another runner has it" {
		t.Errorf("%v, %q", d.did, b.Said)
	}
}

func TestWhatIsUnderWay(t *testing.T) {
	b, _, _ := open(t, round(course.Running))
	b.Shows(120, 40, "by op since", "November", "1 of 3 hosts, ", "of 5 moves", "under way",
		"40 %", "3 min left", "log of b")
	b.Step(0, 1)
	b.Shows(120, 40, "d: waits for room", "log of d")
	b, _, _ = open(t, view.Round{})
	b.Shows(80, 24, "no round was made over c yet; p plans one")
	if what := b.Screen.Export(b.Frame, "json"); what != nil {
		t.Errorf("%+v is exported", what)
	}
}

// The log of a host holds what is about it and about the round, and scrolls.
func TestTheLog(t *testing.T) {
	r := round(course.Running)
	for i := range 40 {
		host := []string{"b", "d"}[i%2]
		r.Events = append(r.Events, course.Event{Seq: int64(i + 1), Kind: course.Blocked, Host: host,
			At: parttest.Now.Add(time.Duration(i) * time.Second), Detail: "entry of " + host})
	}
	b, _, _ := open(t, r)
	b.Shows(120, 30, "20:00:38", "entry of b")
	b.Hides(120, 30, "entry of d", "newer →")
	b.Step(-1, 0)
	b.Shows(120, 30, "5 newer →", "20:00:28")
	b.Hides(120, 30, "20:00:38")
	b.Step(9, 0)
	b.Shows(120, 30, "20:00:38")
}

// Where a round stands still one of the ways out is chosen, and nothing is decided without a reason.
func TestAWayOutIsChosen(t *testing.T) {
	r := round(course.Failing)
	v := &r.State.Visits[1]
	v.Changes = []act.Change{{Component: "deb:k", From: "1", To: "2", Pass: 1}}
	v.Failure = &course.Failure{Step: act.ChangeStep, Error: "it says no"}
	b, _, d := open(t, r)
	want := []string{"resume c", "round drop c b deb:k because the disk is full", "round hand-over c b because the disk is full",
		"round end c because the disk is full"}
	b.Typed = "the disk is full"
	for i := range want {
		b.Pick = i
		b.Press("f")
	}
	if got := strings.Join(d.did, ";"); got != strings.Join(want, ";") {
		t.Errorf("%s", got)
	}
	if !strings.HasPrefix(b.Chose.Options[1].Says, "do the rest without ") || b.Asked.Lines[0] != "Reason: the disk is full" {
		t.Errorf("%+v %+v", b.Chose, b.Asked)
	}
	n := len(d.did)
	b.No = true
	b.Press("f")
	b.No, b.Typed = false, ""
	if b.Press("f"); len(d.did) != n || b.Said != "nothing is done without a reason" {
		t.Errorf("%s: %s", b.Said, d.did[n:])
	}
}
