package view

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/logbook"
	"yareharbour/core/plan"
)

// What is under way at once counts once; silence is told beside it, and so is time in which nothing was under way.
func TestWhereAVisitsTimeWent(t *testing.T) {
	at := func(s int) time.Time { return time.Date(2026, 11, 21, 20, 0, s, 0, time.UTC) }
	v := &course.Visit{Visit: plan.Visit{Host: "heron"}, Spans: []course.Span{{From: at(0), To: at(100)}}}
	ev := func(s int, kind course.EventKind, id string, a act.Act) course.Event {
		a.ID, a.Host = id, "heron"
		return course.Event{At: at(s), Kind: kind, Act: &a}
	}
	one, two := act.Act{Kind: act.Move, Guest: "g1", To: "knot"}, act.Act{Kind: act.Move, Guest: "g2", To: "knot"}
	re := act.Act{Kind: act.Restart}
	other := act.Act{Kind: act.Move, Guest: "x", To: "heron"}
	events := []course.Event{
		ev(0, course.Intent, "1", one), ev(5, course.Intent, "2", two), ev(10, course.Done, "1", one), ev(25, course.Done, "2", two),
		ev(40, course.Intent, "3", re), ev(45, course.Quiet, "3", re), ev(70, course.Heard, "3", re), ev(80, course.Done, "3", re),
		ev(90, course.Intent, "4", re), // not settled yet: it says nothing
	}
	events = append(events, course.Event{At: at(99), Kind: course.Done, Act: func() *act.Act { other.ID, other.Host = "9", "knot"; return &other }()})
	got := went(v, events)
	want := []spent{{What: "restart", Seconds: 40, Acts: 1}, {What: "looking, proving and waiting", Seconds: 35},
		{What: "move", Seconds: 25, Acts: 2, Longest: "move g2 to knot, 20 s"}, {What: "silence, in that", Seconds: 25}}
	if len(got) != len(want) {
		t.Fatalf("%+v", got)
	}
	for i := range want {
		if got[i] != want[i] {
			t.Errorf("%+v, want %+v", got[i], want[i])
		}
	}
	x := visit{Steps: []step{{Step: "drain", Seconds: 400, Planned: 120}, {Step: "change", Seconds: 150, Planned: 120}, {Step: "prove", Seconds: 50, Planned: 10}, {Step: "hook", Seconds: 900}}}
	if s := x.slow(); len(s) != 1 || s[0] != "drain took 6 min, and usually takes 2 min" {
		t.Errorf("%q", s)
	}
}

// In a host's life what changed stands with the round in which it did, or outside of any.
func TestALife(t *testing.T) {
	at := func(h int) time.Time { return time.Date(2026, 11, 21, h, 0, 0, 0, time.UTC) }
	rounds := []RoundLine{{ID: "R", Cluster: "c", Does: "round", By: "ana", From: "quay", Reason: "patches", Status: "finished", Started: at(3), Ended: at(5), Visited: []string{"heron"}},
		{ID: "Q", Cluster: "c", Does: "round", By: "ben", Started: at(7), Ended: at(8), Visited: []string{"ibis"}}}
	turns := []drift.Turn{{At: at(7), Component: "fw:b", To: "2"}, {At: at(4), Component: "fw:a", Device: "slot 2", From: "1", To: "2"}}
	entries := []logbook.Entry{{N: 1, At: at(1), By: "cy", Kind: logbook.Prepared, Host: "heron", Says: "heron: all"}, {N: 2, At: at(3), Kind: logbook.Begun, Host: "heron"},
		{N: 3, At: at(9), Kind: logbook.Trusted, Host: "ibis"}}
	var got []string
	for _, h := range Life("heron", turns, rounds, entries) {
		got = append(got, fmt.Sprint(h.At.Hour(), " ", h.What, " ", h.From, ">", h.To, " ", h.By, " ", h.Round))
	}
	want := "7 fw:b >2 outside of any round |4 fw:a (slot 2) 1>2 ana, in a round R|3 round over c: patches >finished ana on quay R|1 host prepared: heron: all > cy "
	if strings.Join(got, "|") != want {
		t.Errorf("%q", strings.Join(got, "|"))
	}
}

// A version is told once over all hosts, the newest first.
func TestWhenVersionsWereSeen(t *testing.T) {
	at := func(h int) time.Time { return time.Date(2026, 11, 21, h, 0, 0, 0, time.UTC) }
	got := SeenOf("deb:k", []string{"a", "b"}, map[string][]drift.Span{
		"a": {{Component: "deb:k", Version: "1.9", First: at(3), Last: at(5)}, {Component: "deb:k", Version: "1.10", First: at(5), Last: at(9), Now: true}, {Component: "deb:other", Version: "7"}},
		"b": {{Component: "deb:k", Version: "1.9", First: at(1), Last: at(9), Now: true}}})
	if len(got) != 2 || got[0].Version != "1.10" || got[1].FirstOn != "b" || !got[1].First.Equal(at(1)) || !got[1].Last.Equal(at(9)) ||
		len(got[1].Hosts) != 2 || len(got[1].Now) != 1 || len(got[0].Now) != 1 {
		t.Errorf("%+v", got)
	}
}
