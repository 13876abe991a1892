package store

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
	"yareharbour/core/plan"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func reading(host, ver string, at time.Time) *estate.Reading {
	r := &estate.Reading{Host: host, Components: []estate.Component{{Key: "deb:k", Version: ver}}}
	r.SetSection(estate.Section{Name: estate.Packages, At: at})
	return r
}

func TestReadingsAreKeptWhereSomethingChanged(t *testing.T) {
	s := open(t, t.TempDir())
	for i, v := range []string{"1", "1", "1", "2", "1"} {
		if err := s.KeepReading(t.Context(), reading("heron", v, now.Add(time.Duration(i)*time.Minute))); err != nil {
			t.Fatal(err)
		}
	}
	var n int
	if err := s.db.QueryRow("SELECT COUNT(*) FROM readings").Scan(&n); err != nil || n != 3 {
		t.Errorf("%d rows are kept of three states: %v", n, err)
	}
	got, err := s.Newest(t.Context(), []string{"heron", "ibis"})
	if err != nil || len(got) != 1 || got["heron"].Components[0].Version != "1" || !got["heron"].At().Equal(now.Add(4*time.Minute)) {
		t.Errorf("%+v %v", got["heron"], err)
	}
}

func TestHistoryIsInTheOrderOfTimeAndBounded(t *testing.T) {
	s := open(t, t.TempDir())
	for i, v := range []string{"1", "2", "2", "3", "4"} {
		if err := s.KeepReading(t.Context(), reading("heron", v, now.Add(time.Duration(i)*time.Minute))); err != nil {
			t.Fatal(err)
		}
	}
	got, err := s.History(t.Context(), "heron", 3)
	if err != nil || len(got) != 3 || got[0].Components[0].Version != "2" || got[2].Components[0].Version != "4" {
		t.Fatalf("%v %v", got, err)
	}
	if at := got[0].At(); !at.Equal(now.Add(time.Minute)) {
		t.Errorf("version 2 was first read at %v", at)
	}
}

func TestAReadingOfWhichNothingCouldBeReadIsKeptToo(t *testing.T) {
	s := open(t, t.TempDir())
	for i := range 3 {
		r := &estate.Reading{Host: "heron"}
		r.SetSection(estate.Section{Name: estate.Host, At: now.Add(time.Duration(i) * time.Minute), Err: "no route"})
		for _, keep := range []*estate.Reading{reading("heron", "1", now.Add(time.Duration(2*i)*time.Second)), r} {
			if err := s.KeepReading(t.Context(), keep); err != nil {
				t.Fatal(err)
			}
		}
	}
}

func TestOneLeasePerCluster(t *testing.T) {
	dir := t.TempDir()
	a, b := open(t, dir), open(t, dir)
	first, err := a.Acquire(t.Context(), "vts")
	if err != nil {
		t.Fatal(err)
	}
	var held *HeldError
	if _, err := b.Acquire(t.Context(), "vts"); !errors.As(err, &held) || held.PID == 0 || !strings.Contains(err.Error(), "yare round watch vts") {
		t.Errorf("a second runner: %v", err)
	}
	if _, err := b.Acquire(t.Context(), "tides"); err != nil {
		t.Errorf("another cluster: %v", err)
	}
	if err := first.Release(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Acquire(t.Context(), "vts"); err != nil {
		t.Errorf("after its release: %v", err)
	}
}

// A holder that was taken for dead must not write any more, however slow it was.
func TestASlowHolderCannotWrite(t *testing.T) {
	s := open(t, t.TempDir())
	slow, err := s.Acquire(t.Context(), "vts")
	if err != nil {
		t.Fatal(err)
	}
	start := plan.Event{At: now, Kind: plan.Started, Plan: &plan.Plan{}}
	if err := s.Begin(t.Context(), slow, "R", start); err != nil {
		t.Fatal(err)
	}
	expire(t, s)
	quick, err := s.Acquire(t.Context(), "vts")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Append(t.Context(), slow, "R", plan.Event{At: now, Kind: plan.Asked}); !errors.Is(err, ErrLost) {
		t.Errorf("the slow one wrote: %v", err)
	}
	if err := slow.Renew(t.Context()); !errors.Is(err, ErrLost) {
		t.Errorf("the slow one renewed: %v", err)
	}
	e, err := s.Append(t.Context(), quick, "R", plan.Event{At: now, Kind: plan.Asked})
	if err != nil || e.Seq != 2 {
		t.Errorf("the new holder: %d %v", e.Seq, err)
	}
	if events, err := s.Journal(t.Context(), "R", 0); err != nil || len(events) != 2 {
		t.Errorf("%d events, %v", len(events), err)
	}
}

func expire(t *testing.T, s *Store) {
	t.Helper()
	if _, err := s.db.Exec("UPDATE leases SET expires = 1"); err != nil {
		t.Fatal(err)
	}
}

func TestADeadHolderOnThisMachineIsNoticedAtOnce(t *testing.T) {
	s := open(t, t.TempDir())
	if _, err := s.Acquire(t.Context(), "vts"); err != nil {
		t.Fatal(err)
	}
	// A process with this number may be there, but it is not the one that took the lease.
	if _, err := s.db.Exec("UPDATE leases SET pid = 1, started = 'long ago'"); err != nil {
		t.Fatal(err)
	}
	if h, err := s.Holder(t.Context(), "vts"); h != nil || err != nil {
		t.Errorf("holder %v %v", h, err)
	}
	if _, err := s.Acquire(t.Context(), "vts"); err != nil {
		t.Error(err)
	}
}

func TestRequestsAreTakenOnce(t *testing.T) {
	s := open(t, t.TempDir())
	for _, what := range []string{plan.AskPause, plan.AskStop} {
		if err := s.Ask(t.Context(), "R", what, "me"); err != nil {
			t.Fatal(err)
		}
	}
	got, err := s.Take(t.Context(), "R")
	if err != nil || len(got) != 2 {
		t.Errorf("%v %v", got, err)
	}
	if got, err := s.Take(t.Context(), "R"); err != nil || len(got) != 0 {
		t.Errorf("taken twice: %v %v", got, err)
	}
}

func TestOpenRefusesANewerStore(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	if _, err := s.db.Exec("PRAGMA user_version = 7"); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if _, err := Open(context.Background(), dir); !errors.Is(err, ErrNewer) {
		t.Error(err)
	}
}
