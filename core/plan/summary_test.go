package plan

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/fit"
)

// What is said of a plan as a whole: each by itself, and nothing where there is nothing to say.
func TestNotes(t *testing.T) {
	noon := time.Date(2026, 11, 21, 12, 0, 0, 0, time.UTC)
	move := func(guest string) fit.Move { return fit.Move{Guest: guest} }
	visit := func(host string, more func(*Visit)) Visit {
		v := Visit{Host: host, Empties: true}
		more(&v)
		return v
	}
	staged := func(took time.Duration) func(*Visit) {
		return func(v *Visit) {
			v.Steps = []Stretch{{Step: act.StageStep, Middle: took}, {Step: act.DrainStep, Middle: time.Hour}}
		}
	}
	none := func(*Visit) {}
	for _, c := range []struct {
		what string
		p    Plan
		want string
	}{
		{"nothing", Plan{Visits: []Visit{visit("a", none)}}, ""},
		{"all go home", Plan{Brief: Brief{Home: true}, Visits: []Visit{visit("a", func(v *Visit) {
			v.Moves, v.Back = []fit.Move{move("g"), move("h")}, []fit.Move{move("g"), move("h")}
		}), visit("b", func(v *Visit) { v.Moves, v.Back = []fit.Move{move("i")}, []fit.Move{move("i")} })}},
			"every guest is where it was afterwards, for 3 moves more"},
		{"some stay", Plan{Brief: Brief{Home: true}, Visits: []Visit{visit("a", func(v *Visit) {
			v.Moves, v.Back = []fit.Move{move("g"), move("h")}, []fit.Move{move("g")}
		}), visit("b", func(v *Visit) { v.Moves = []fit.Move{move("i")} })}},
			"2 of 3 guests find no room to go home, and stay"},
		{"home, and no visits", Plan{Brief: Brief{Home: true}}, ""},
		{"a proof", Plan{Brief: Brief{Trial: "a"}, Visits: []Visit{visit("a", func(v *Visit) {
			v.Moves, v.Back = []fit.Move{move("g")}, []fit.Move{move("g")}
		})}}, "g comes back to a as proof, and stays there over the soak"},
		{"no proof", Plan{Brief: Brief{Trial: "a"}, Visits: []Visit{visit("a", none)}},
			"no guest comes back to a as proof: it had none that could"},
		{"a trial that can't be visited", Plan{Brief: Brief{Trial: "a"},
			Visits: []Visit{visit("a", func(v *Visit) { v.Obstacle = "no room" })}}, ""},
		{"a trial that is not emptied", Plan{Brief: Brief{Trial: "a"},
			Visits: []Visit{visit("a", func(v *Visit) { v.Empties = false })}}, ""},
		{"more than the floor", Plan{Moves: 7, Floor: 5, Twice: []fit.Move{move("g")},
			Excess: []fit.Lifted{{Says: "in another order", Moves: 6}}},
			"2 moves more than the floor; 6 would do in another order"},
		{"more than the floor, and nobody knows why", Plan{Moves: 7, Floor: 5, Twice: []fit.Move{move("g")}},
			"2 moves more than the floor"},
		{"at the floor", Plan{Moves: 5, Floor: 5, Twice: []fit.Move{move("g")}}, ""},
		{"more, and nobody moves twice", Plan{Moves: 7, Floor: 5}, ""},
		{"a sharper bound", Plan{Floor: 5, Bound: 6}, "with hosts as these are, no order takes fewer than 6 moves"},
		{"the floor is the bound", Plan{Floor: 5, Bound: 5}, ""},
		{"staging", Plan{Visits: []Visit{visit("a", staged(40*time.Second)), visit("b", staged(20*time.Second))}},
			"of that, 1 min go into staging"},
		{"hardly any staging", Plan{Visits: []Visit{visit("a", staged(59*time.Second))}}, ""},
		{"staging where nobody comes", Plan{Visits: []Visit{visit("a", func(v *Visit) {
			staged(time.Hour)(v)
			v.Obstacle = "no room"
		})}}, ""},
		{"not level", Plan{Level: 3, Spread: 0.123, Visits: []Visit{visit("a", none), visit("b", none),
			visit("c", func(v *Visit) { v.Obstacle = "no room" }), visit("d", func(v *Visit) { v.Empties = false })}},
			"afterwards b is empty and the others are within 12 points of each other; 3 moves more would level that"},
		{"level", Plan{Spread: 0.123, Visits: []Visit{visit("a", none)}}, ""},
		{"nobody is emptied", Plan{Level: 3}, ""},
		{"a window", Plan{Made: noon, Width: 1,
			Brief: Brief{Out: 1, Windows: []Window{{noon, noon.Add(3 * time.Hour)}}},
			Visits: []Visit{visit("a", func(v *Visit) {
				v.Steps = []Stretch{{Step: act.DrainStep, Middle: time.Hour, Pessimistic: 2 * time.Hour}}
			})}}, "at worst it ends at Sat 14:00, and the window at Sat 15:00"},
	} {
		if got := strings.Join(c.p.Notes(), "; "); got != c.want {
			t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
	}
}
