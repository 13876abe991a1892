// Package storetest holds a store to the rules by which others rely on it, whatever it keeps things in: leases that
// nobody else can have, journals that show what was done to them, requests that are taken once, readings that come out
// as they went in. The SQLite store passes it; a store for many machines must too.
package storetest

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/course"
	"yareharbour/core/plan"
	"yareharbour/store"
)

// State is all that a store keeps.
type State interface {
	store.Rounds
	store.Readings
	store.Versions
	store.Tallies
	store.Filters
	store.Waivers
	store.Log
}

// Bench is two openings of one state, as two processes have them, and the clock by which its leases go.
type Bench struct {
	A, B State
	// Pass lets time pass for the leases.
	Pass func(time.Duration)
}

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// Test holds the stores to the rules. open makes a new, empty state.
func Test(t *testing.T, open func(t *testing.T) Bench) {
	for name, run := range map[string]func(*testing.T, Bench){
		"one lease per cluster":                     oneLease,
		"a slow holder can do nothing":              slowHolder,
		"renewing holds":                            renewing,
		"a short term":                              shortTerm,
		"a journal is read as it was written":       journals,
		"two rounds do not mix":                     twoRounds,
		"requests":                                  requests,
		"plans":                                     plans,
		"times":                                     times,
		"rounds of another store":                   strangers,
		"nothing is written without the lease":      unleased,
		"an entry is written by one of two writers": twoWriters,
		"the time of day may jump":                  clocks,
		"the newest reading":                        newest,
		"readings of the past":                      past,
		"what could not be read":                    silent,
		"versions of a baseline":                    versions,
		"tallies":                                   tallies,
		"looks":                                     looks,
		"filters":                                   filters,
		"waivers":                                   waivers,
		"the logbook":                               logbooks,
	} {
		t.Run(name, func(t *testing.T) { run(t, open(t)) })
	}
}

func appended(at time.Time) course.Event { return course.Event{At: at, Kind: course.Asked, By: "op"} }

func take(t *testing.T, s store.Rounds, cluster string) store.Lease {
	t.Helper()
	l, err := s.Acquire(t.Context(), cluster, store.Want{})
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func begin(t *testing.T, s store.Rounds, l store.Lease, id string) {
	t.Helper()
	e, err := s.Begin(t.Context(), l, id, course.Event{At: now, Kind: course.Started, Round: id, Plan: &plan.Plan{}})
	if err != nil || e.Seq != 1 || e.Epoch != l.Epoch() || e.V != course.Schema {
		t.Fatal(e, err)
	}
}

func add(t *testing.T, s store.Rounds, l store.Lease, id, by string) string {
	t.Helper()
	_, sum, err := s.Append(t.Context(), l, id,
		course.Event{At: now, Kind: course.Asked, Detail: course.AskPause, By: by})
	if err != nil || sum == "" {
		t.Fatal(sum, err)
	}
	return sum
}

func held(err error) bool {
	var h *store.HeldError
	return errors.As(err, &h) && h.PID != 0 && h.Machine != "" && strings.Contains(err.Error(), "yare round watch")
}

func oneLease(t *testing.T, b Bench) {
	first := take(t, b.A, "vts")
	if _, err := b.B.Acquire(t.Context(), "vts", store.Want{}); !held(err) {
		t.Errorf("a second runner: %v", err)
	}
	if h, err := b.B.Holder(t.Context(), "vts"); h == nil || err != nil {
		t.Errorf("nobody holds it: %v", err)
	}
	take(t, b.B, "tides")
	if err := first.Release(t.Context()); err != nil {
		t.Fatal(err)
	}
	if h, err := b.B.Holder(t.Context(), "vts"); h != nil || err != nil || first.Stands() == nil {
		t.Errorf("it was given back, and is held by %v: %v", h, err)
	}
	if l := take(t, b.B, "vts"); l.Epoch() != first.Epoch()+1 || l.Cluster() != "vts" {
		t.Errorf("the epoch went from %d to %d", first.Epoch(), l.Epoch())
	}
	if l, err := b.B.Acquire(t.Context(), "yard", store.Want{Above: 41}); err != nil || l.Epoch() != 42 {
		t.Errorf("above what hosts know: %v", err)
	}
}

func slowHolder(t *testing.T, b Bench) {
	slow := take(t, b.A, "vts")
	begin(t, b.A, slow, "R")
	b.Pass(store.Term + time.Second)
	if slow.Stands() == nil {
		t.Error("it stands after its time")
	}
	quick := take(t, b.B, "vts")
	if err := b.B.Ask(t.Context(), "R", course.Event{Detail: course.AskStop, By: "me"}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := b.A.Append(t.Context(), slow, "R", course.Event{At: now, Kind: course.Asked}); !errors.Is(err,
		store.ErrLost) {
		t.Errorf("the slow one wrote: %v", err)
	}
	if _, err := b.A.Begin(t.Context(), slow, "Q",
		course.Event{At: now, Kind: course.Started, Plan: &plan.Plan{}}); !errors.Is(err, store.ErrLost) {
		t.Errorf("the slow one began a round: %v", err)
	}
	if got, _, err := b.A.Take(t.Context(), slow, "R", now); !errors.Is(err, store.ErrLost) || len(got) > 0 {
		t.Errorf("the slow one took a request: %v %v", got, err)
	}
	if err := slow.Renew(t.Context()); !errors.Is(err, store.ErrLost) || slow.Stands() == nil {
		t.Errorf("the slow one renewed: %v", err)
	}
	if err := slow.Release(t.Context()); err != nil {
		t.Error(err)
	}
	if quick.Stands() != nil {
		t.Error("the slow one gave back what is another's")
	}
	add(t, b.B, quick, "R", "quick")
	if got, sums, err := b.B.Take(t.Context(), quick, "R", now); err != nil || len(got) != 1 || len(sums) != 1 ||
		got[0].Detail != course.AskStop || got[0].Epoch != quick.Epoch() {
		t.Errorf("%v %v", got, err)
	}
}

func renewing(t *testing.T, b Bench) {
	l := take(t, b.A, "vts")
	for range 10 {
		b.Pass(store.Term / 2)
		if err := l.Renew(t.Context()); err != nil || l.Stands() != nil {
			t.Fatal(err)
		}
		if _, err := b.B.Acquire(t.Context(), "vts", store.Want{}); !held(err) {
			t.Fatalf("taken all the same: %v", err)
		}
	}
}

func shortTerm(t *testing.T, b Bench) {
	l, err := b.A.Acquire(t.Context(), "vts", store.Want{Term: 2 * time.Second})
	if err != nil || l.Every() >= time.Second {
		t.Fatal(err)
	}
	b.Pass(1900 * time.Millisecond)
	if l.Stands() == nil {
		t.Error("it stands to the last moment: a call would come too late")
	}
	if _, err := b.B.Acquire(t.Context(), "vts", store.Want{}); !held(err) {
		t.Errorf("taken before its time: %v", err)
	}
	b.Pass(100 * time.Millisecond)
	take(t, b.B, "vts")
}

func journals(t *testing.T, b Bench) {
	l := take(t, b.A, "vts")
	begin(t, b.A, l, "R")
	chain := course.NewChain("R")
	if got, err := b.B.Journal(t.Context(), "R", chain); err != nil || len(got) != 1 || got[0].Round != "R" {
		t.Fatal(got, err)
	}
	for i := range 3 {
		sum := add(t, b.A, l, "R", fmt.Sprint("p", i))
		got, err := b.B.Journal(t.Context(), "R", chain)
		if err != nil || len(got) != 1 || got[0].By != fmt.Sprint("p", i) || got[0].Seq != int64(i+2) ||
			chain.Head() != (course.Head{Seq: int64(i + 2), Sum: sum}) {
			t.Errorf("%+v %v", got, err)
		}
	}
	if got, err := b.B.Journal(t.Context(), "R", chain); err != nil || len(got) != 0 {
		t.Errorf("%v %v", got, err)
	}
	if got, err := b.B.Journal(t.Context(), "R", course.NewChain("R")); err != nil || len(got) != 4 {
		t.Errorf("%d %v", len(got), err)
	}
	var bad *course.Malformed
	if _, err := b.B.Journal(t.Context(), "R", course.NewChain("Q")); !errors.As(err, &bad) || bad.Entry != 1 {
		t.Errorf("read as another round's: %v", err)
	}
	if _, err := b.B.Journal(t.Context(), "none", course.NewChain("none")); !errors.Is(err, store.ErrNoRound) {
		t.Error(err)
	}
}

func twoRounds(t *testing.T, b Bench) {
	if _, err := b.A.Latest(t.Context(), "vts"); !errors.Is(err, store.ErrNoRound) {
		t.Error(err)
	}
	l, m := take(t, b.A, "vts"), take(t, b.A, "tides")
	begin(t, b.A, l, "R")
	begin(t, b.A, m, "T")
	add(t, b.A, m, "T", "t")
	for id, n := range map[string]int{"R": 1, "T": 2} {
		if got, err := b.B.Journal(t.Context(), id, course.NewChain(id)); err != nil || len(got) != n {
			t.Errorf("%s: %d %v", id, len(got), err)
		}
	}
	if r, err := b.B.Latest(t.Context(), "tides"); err != nil || r.ID != "T" || r.Cluster != "tides" ||
		!r.Started.Equal(now) {
		t.Errorf("%+v %v", r, err)
	}
	if all, err := b.B.Rounds(t.Context(), ""); err != nil || len(all) != 2 {
		t.Errorf("%v %v", all, err)
	}
	if own, err := b.B.Rounds(t.Context(), "vts"); err != nil || len(own) != 1 || own[0].ID != "R" {
		t.Errorf("%v %v", own, err)
	}
	// The clock is set back by a day, and the id, made of the time, is lower too: the last round is the last all the same.
	if _, err := b.A.Begin(t.Context(), l, "A", course.Event{Kind: course.Started, At: now.Add(-24 * time.Hour),
		Round: "A", Plan: &plan.Plan{}}); err != nil {
		t.Fatal(err)
	}
	if r, err := b.B.Latest(t.Context(), "vts"); err != nil || r.ID != "A" {
		t.Errorf("%+v %v", r, err)
	}
	if all, err := b.B.Rounds(t.Context(), "vts"); err != nil || len(all) != 2 || all[0].ID != "A" {
		t.Errorf("%v %v", all, err)
	}
}

func requests(t *testing.T, b Bench) {
	l := take(t, b.A, "vts")
	begin(t, b.A, l, "R")
	for _, x := range [][2]string{{course.AskPause, ""}, {course.AskSkip, "heron"}, {course.AskStop, ""}} {
		if err := b.B.Ask(t.Context(), "R", course.Event{Detail: x[0], Host: x[1], By: "me"}); err != nil {
			t.Fatal(err)
		}
	}
	if err := b.B.Ask(t.Context(), "other", course.Event{Detail: course.AskStop, By: "me"}); err != nil {
		t.Fatal(err)
	}
	got, sums, err := b.A.Take(t.Context(), l, "R", now)
	if err != nil || len(got) != 3 || len(sums) != 3 || got[0].Detail != course.AskPause || got[1].Host != "heron" ||
		got[2].Detail != course.AskStop || got[2].By != "me" || got[2].Seq != 4 {
		t.Errorf("%+v %v", got, err)
	}
	if got, _, err := b.A.Take(t.Context(), l, "R", now); err != nil || len(got) != 0 {
		t.Errorf("taken twice: %v %v", got, err)
	}
	if all, err := b.B.Journal(t.Context(), "R", course.NewChain("R")); err != nil || len(all) != 4 {
		t.Errorf("what was taken is not in the journal: %d %v", len(all), err)
	}
	if p, err := b.B.Progress(t.Context(), "R"); err != nil || len(p.Says) > 0 {
		t.Errorf("%+v %v", p, err)
	}
	for _, says := range []string{"one", "two"} {
		if err := b.A.SetProgress(t.Context(), "R",
			store.Progress{At: now, Says: []course.Said{{Host: "heron", Says: says}}}); err != nil {
			t.Fatal(err)
		}
	}
	if p, err := b.B.Progress(t.Context(), "R"); err != nil || len(p.Says) != 1 || p.Says[0].Says != "two" ||
		!p.At.Equal(now) {
		t.Errorf("%+v %v", p, err)
	}
}

func plans(t *testing.T, b Bench) {
	p := &plan.Plan{Brief: plan.Brief{Cluster: "vts"}, Made: now, Visits: []plan.Visit{{Host: "heron"}}}
	for range 2 { // twice is once
		if err := b.A.KeepPlan(t.Context(), p); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := b.B.Plan(t.Context(), "vts", p.Digest()[:8]); err != nil || got.Digest() != p.Digest() ||
		got.Visits[0].Host != "heron" {
		t.Errorf("%+v %v", got, err)
	}
	for _, x := range [][2]string{{"vts", "ffffffffffff"}, {"tides", p.Digest()}, {"vts", ""}, {"vts", p.Digest()[:5]},
		{"vts", p.Digest() + "0"}} {
		if _, err := b.B.Plan(t.Context(), x[0], x[1]); !errors.Is(err, store.ErrNoPlan) {
			t.Errorf("%v: %v", x, err)
		}
	}
}

func times(t *testing.T, b Bench) {
	v := course.Visit{Visit: plan.Visit{Host: "heron", Model: "M", Steps: []plan.Stretch{{Step: "restart", Pass: 1, Stated: 4 * time.Minute},
		{Step: "restart", Pass: 2, Stated: 2 * time.Minute}, {Step: "prove", Stated: time.Minute}}}, Phase: course.Over,
		Spans: []course.Span{{Step: "restart", Pass: 2, From: now, To: now.Add(5 * time.Minute)},
			{Step: "adopt", From: now, To: now.Add(time.Minute)}, {Step: "prove", From: now, To: now.Add(time.Minute), Failed: true}, {Step: "close", From: now}}}
	under := v
	under.Host, under.Phase = "ibis", course.Working
	for i := range 3 {
		for range 2 { // kept twice they count once
			if err := b.A.KeepTimes(t.Context(), fmt.Sprint("R", i), []course.Visit{v, under}); err != nil {
				t.Fatal(err)
			}
		}
	}
	got, err := b.B.Times(t.Context())
	if err != nil || len(got) != 1 || len(got["restart/M"]) != 3 || got["restart/M"][0] != 2.5 {
		t.Errorf("%v %v", got, err)
	}
}

func strangers(t *testing.T, b Bench) {
	l := take(t, b.A, "vts")
	begin(t, b.A, l, "R")
	for id, want := range map[string]bool{"R": true, "Q": false, "": false} {
		if got, err := b.B.Knows(t.Context(), id); err != nil || got != want {
			t.Errorf("%q: %v %v", id, got, err)
		}
	}
	for range 2 {
		if err := b.A.TakeOver(t.Context(), "Q", "me", now); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := b.B.Knows(t.Context(), "Q"); err != nil || !got {
		t.Errorf("%v %v", got, err)
	}
}

func unleased(t *testing.T, b Bench) {
	l := take(t, b.A, "vts")
	begin(t, b.A, l, "R")
	if err := l.Release(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, _, err := b.A.Append(t.Context(), l, "R", course.Event{At: now, Kind: course.Asked}); !errors.Is(err,
		store.ErrLost) {
		t.Error(err)
	}
	if got, err := b.B.Journal(t.Context(), "R", course.NewChain("R")); err != nil || len(got) != 1 {
		t.Errorf("%d %v", len(got), err)
	}
}

// twoWriters lets both openings write under one lease, as a process with two threads would: the journal stays one.
func twoWriters(t *testing.T, b Bench) {
	l := take(t, b.A, "vts")
	begin(t, b.A, l, "R")
	done := make(chan error, 2)
	for _, by := range []string{"x", "y"} {
		go func() {
			var err error
			for range 20 {
				_, _, e := b.A.Append(t.Context(), l, "R", course.Event{At: now, Kind: course.Asked, By: by})
				err = errors.Join(err, e)
			}
			done <- err
		}()
	}
	if err := errors.Join(<-done, <-done); err != nil {
		t.Fatal(err)
	}
	if got, err := b.B.Journal(t.Context(), "R", course.NewChain("R")); err != nil || len(got) != 41 {
		t.Errorf("%d %v", len(got), err)
	}
}
