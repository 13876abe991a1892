package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/precheck"
)

// Visits lie side by side where they may, none before those that it depends on, and within the windows.
func TestSchedule(t *testing.T) {
	visit := func(host string, minutes int, after ...string) Visit {
		return Visit{Host: host, After: after,
			Steps: []Stretch{{Middle: time.Duration(minutes) * time.Minute,
				Pessimistic: 2 * time.Duration(minutes) * time.Minute}}}
	}
	at := func(h, m int) time.Time { return now.Add(time.Duration(60*h+m) * time.Minute) }
	for name, c := range map[string]struct {
		width int
		brief Brief
		want  string
	}{
		"one after the other":       {1, Brief{}, "a 0-10 b 10-30 c 30-40"},
		"two at once":               {2, Brief{}, "a 0-10 b 0-20 c 20-30"},
		"three at once":             {3, Brief{}, "a 0-10 b 0-20 c 20-30"},
		"a trial":                   {3, Brief{Trial: "a", Soak: 5 * time.Minute}, "a 0-10 b 15-35 c 35-45"},
		"a window that opens later": {1, Brief{Windows: []Window{{at(1, 0), at(9, 0)}}}, "a 60-70 b 70-90 c 90-100"},
		"two windows": {1, Brief{Windows: []Window{{at(0, 0), at(0, 40)}, {at(2, 0), at(9, 0)}}},
			"a 0-10 b 120-140 c 140-150"},
		"a window too short for one, and for whom it keeps waiting": {1,
			Brief{Windows: []Window{{at(0, 0), at(0, 35)}}}, "a 0-10"},
		"a window too short for the trial": {1,
			Brief{Trial: "b", Windows: []Window{{at(0, 0), at(0, 35)}}}, ""},
		"a window that is over": {1,
			Brief{Windows: []Window{{at(-3, 0), at(-1, 0)}}}, ""},
	} {
		p := Plan{Made: now, Width: c.width, Brief: c.brief,
			Visits: []Visit{visit("a", 10), visit("b", 20), visit("c", 10, "b")}}
		if c.brief.Trial == "b" { // it goes first
			p.Visits = []Visit{visit("b", 20), visit("a", 10), visit("c", 10)}
		}
		turns := p.Schedule((*Visit).middle)
		var got []string
		for _, v := range p.Visits {
			if x, ok := turns[v.Host]; ok {
				got = append(got, fmt.Sprintf("%s %.0f-%.0f", v.Host, x.From.Sub(now).Minutes(),
					x.To.Sub(now).Minutes()))
			}
		}
		if s := strings.Join(got, " "); s != c.want {
			t.Errorf("%s: %s, want %s", name, s, c.want)
		}
	}
}

// What is said of a plan as a whole is of the visits that can be made: those that no window is left for, and those that
// wait for them, have no part in moves, floor and times.
func TestVisitsThatNoWindowIsLeftFor(t *testing.T) {
	counted := func(p *Plan) (moves, visits int) {
		for i := range p.Visits {
			if v := &p.Visits[i]; v.Obstacle == "" {
				moves += len(v.Moves)
				visits++
			} else if len(v.Moves) > 0 {
				t.Errorf("%s can't be visited, and has moves", v.Host)
			}
		}
		return moves, visits
	}
	in := scenario(t)
	all := Make(in)
	_, worst := all.Takes()
	for left := worst; left > 0; left -= time.Minute {
		in.Brief.Windows = []Window{{in.Now, in.Now.Add(left)}}
		p := Make(in)
		moves, visits := counted(&p)
		if turns := p.Schedule((*Visit).middle); len(turns) != visits {
			t.Fatalf("in %s: %d turns, %d visits", left, len(turns), visits)
		}
		if moves != p.Moves || p.Floor > p.Moves || left == worst && visits != len(all.Visits) ||
			left < worst/8 && (visits > 1 || p.Moves > all.Moves/2) {
			t.Errorf("in %s: %d visits with %d moves, and the plan says %d of at least %d", left, visits,
				moves, p.Moves, p.Floor)
		}
	}
	in.Brief.Windows = []Window{{in.Now.Add(-time.Hour), in.Now.Add(-time.Minute)}}
	p := Make(in)
	if moves, visits := counted(&p); visits > 0 || p.Moves+moves > 0 || len(p.Visits) != len(all.Visits) ||
		!strings.Contains(p.Visits[0].Obstacle, "no window") || p.Visits[0].WayOut == "" {
		t.Errorf("%d visits, %d moves: %+v", visits, moves, p.Visits[0])
	}
	if s := strings.Join(p.Notes(), "; "); strings.Contains(s, "empty") {
		t.Error(s)
	}
}

// A waiver that ends before its host's turn does not get the host visited, and the plan says so; one that might is told.
func TestAWaiverThatEndsBeforeTheTurn(t *testing.T) {
	in := scenario(t)
	in.Brief.Sequence = []string{"a", "b", "c"}
	in.Own = map[string][]precheck.Answer{"c": {{Check: "mine", Host: "c", Level: precheck.Blocker, Evidence: "it smells"}}}
	lasting := func(d time.Duration) Plan {
		in.Waivers = []precheck.Waiver{{Host: "c", Check: "mine", Evidence: "it smells", At: now, Until: now.Add(d)}}
		return Make(in)
	}
	p := lasting(10 * time.Hour)
	middle, worst := p.Schedule((*Visit).middle)["c"].From.Sub(now), p.Schedule((*Visit).worst)["c"].From.Sub(now)
	if !slices.Equal(p.Ready(), []string{"a", "b", "c"}) || !(0 < middle && middle < worst) {
		t.Fatalf("%v, %s to %s", p.Ready(), middle, worst)
	}
	said := func(p Plan) bool {
		return slices.ContainsFunc(p.Notes(), func(s string) bool { return strings.Contains(s, "at worst: mine is waived until") })
	}
	for _, c := range []struct {
		lasts       time.Duration
		ready, said bool
	}{{worst + time.Second, true, false}, {worst, true, true}, {middle + time.Second, true, true}, {middle, false, false},
		{time.Second, false, false}} {
		p := lasting(c.lasts)
		c3 := p.visit("c")
		if slices.Contains(p.Ready(), "c") != c.ready || said(p) != c.said ||
			!c.ready && !strings.HasPrefix(c3.Obstacle, "mine is waived until") {
			t.Errorf("it lasts %s: ready %v, told %v: %s", c.lasts, p.Ready(), said(p), c3.Obstacle)
		}
		if until := p.Stands(); !until.Equal(now.Add(c.lasts)) {
			t.Errorf("it lasts %s, and the plan stands until %s", c.lasts, until)
		}
	}
}
