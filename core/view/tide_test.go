package view

import (
	"fmt"
	"testing"

	"yareharbour/core/drift"
)

// The tightest moment is the one that comes nearest to its limit, the first of those; where no limit is known there is
// none.
func TestTheTightestMoment(t *testing.T) {
	for _, c := range []struct {
		tide []Level
		want string
		ok   bool
	}{
		{nil, "", false},
		{[]Level{{Out: "a", Load: 0.9}}, "", false},
		{[]Level{{Out: "a", Load: 0.5, Limit: 0.7}, {Out: "b", Load: 0.4, Limit: 0.5},
			{Out: "c", Load: 0.8, Limit: 0.95}},
			"b", true},
		{[]Level{{Out: "a", Load: 0.5, Limit: 0.75}, {Out: "b", Load: 0.25, Limit: 0.5}}, "a", true},
		{[]Level{{Out: "a", Load: 0.9}, {Out: "b", Load: 0.6, Limit: 0.5}}, "b", true},
	} {
		l := Lanes{Tide: c.tide}
		if got, ok := l.Tightest(); got.Out != c.want || ok != c.ok {
			t.Errorf("%+v: %q, %v", c.tide, got.Out, ok)
		}
	}
}

// A watcher stays with the host that is visited, else with one that needs somebody, else with the first; never with one
// that can't be visited.
func TestWhomAWatcherFollows(t *testing.T) {
	for _, c := range []struct {
		lanes []Lane
		want  string
	}{
		{nil, ""},
		{[]Lane{{Host: "a"}, {Host: "b"}}, "a"},
		{[]Lane{{Host: "a"}, {Host: "b", Tone: Alarm}, {Host: "c", Tone: Strong}}, "c"},
		{[]Lane{{Host: "a"}, {Host: "b", Tone: Alarm}}, "b"},
		{[]Lane{{Host: "a"}, {Host: "b", Tone: Alarm, Obstacle: "no room"}, {Host: "c", Tone: Alarm}}, "c"},
		{[]Lane{{Host: "a"}, {Host: "b", Tone: Alarm, Obstacle: "no room"}}, "a"},
	} {
		l := Lanes{Lanes: c.lanes}
		if got := l.Follow(); got != c.want {
			t.Errorf("%+v: %q, want %q", c.lanes, got, c.want)
		}
	}
}

// What most siblings have may be nothing at all: who has it then is odd, and who lacks it is not, however often it is
// asked.
func TestWhatMostLackIsNoOddity(t *testing.T) {
	s := drift.Siblings{Model: "Quay 1", Groups: [][]string{{"b", "c"}, {"a"}, {"d"}}, Differences: []drift.Difference{
		{Component: "deb:telnetd", Versions: map[string][]string{"": {"a", "b", "c"}, "0.9": {"d"}}},
		{Component: "deb:k", Versions: map[string][]string{"1": {"a"}, "2": {"b", "c"}, "3": {"d"}}},
		{Component: "deb:even", Versions: map[string][]string{"1": {"a", "b"}, "2": {"c", "d"}}},
		{Component: "deb:unread", Versions: map[string][]string{"1": {"b"}, "2": {"c"}}}}}
	e := &Estate{Siblings: map[string][]drift.Siblings{"c": {s}}}
	for range 50 {
		got := fmt.Sprint(e.Kin("c"))
		if got != "[{Quay 1 4 2 [{[a] [deb:k 1]} {[d] [deb:telnetd 0.9 deb:k 3 deb:even 2]}]}]" {
			t.Fatal(got)
		}
	}
}
