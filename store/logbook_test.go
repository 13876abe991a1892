package store

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/core/logbook"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// What there was before the logbook is in it: nothing that is kept is then found to be put in past it.
func TestALogbookBeginsWithWhatThereIs(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)
	l, err := s.Acquire(t.Context(), "c", Want{Term: time.Minute})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Begin(t.Context(), l, "R", course.Event{At: at, Kind: course.Started, Round: "R", Plan: &plan.Plan{}}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.KeepVersion(t.Context(), Version{Name: "ssl", At: at, By: "ana", Text: "a"}, 0); err != nil {
		t.Fatal(err)
	}
	if err := s.KeepWaiver(t.Context(), precheck.Waiver{ID: "W", Cluster: "c", Check: "health", By: "ana", At: at}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.db.Exec("DROP TABLE logbook; DROP TABLE logbook_head; DROP TABLE lasting; PRAGMA user_version = 7"); err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	if s, err = Open(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	kept, head, err := s.Log(t.Context(), 0)
	if err != nil {
		t.Fatal(err)
	}
	b := logbook.Read(kept, head)
	var got []string
	for _, e := range b.Entries {
		got = append(got, string(e.Kind)+" "+string(e.Of.Shelf)+" "+e.Of.ID)
	}
	if want := "found round R, found baseline ssl, found waiver W"; b.Fault != nil || strings.Join(got, ", ") != want {
		t.Errorf("%v %q", b.Fault, got)
	}
	have, err := s.Things(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if found := b.Against(have, func(x logbook.Thing) logbook.Stands {
		if x.Shelf == logbook.Journals {
			return logbook.Stands{Sum: x.Sum}
		}
		is, err := s.Stands(t.Context(), x)
		if err != nil {
			t.Fatal(err)
		}
		return is
	}); len(found) > 0 {
		t.Errorf("%+v", found)
	}
}

// What is too old goes, but for the newest, and what is owed; the logbook says so and misses nothing, what is left can be
// read, and counting alone removes nothing.
func TestPruning(t *testing.T) {
	s, err := Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	day := func(n int) time.Time { return time.Date(2026, 1, 1+n, 0, 0, 0, 0, time.UTC) }
	l, err := s.Acquire(t.Context(), "c", Want{Term: time.Minute})
	if err != nil {
		t.Fatal(err)
	}
	for i, id := range []string{"old", "owed", "young", "newest"} {
		at := day([]int{1, 2, 90, 95}[i])
		if _, err := s.Begin(t.Context(), l, id, course.Event{At: at, Kind: course.Started, Round: id, Plan: &plan.Plan{}}); err != nil {
			t.Fatal(err)
		}
		if id == "owed" {
			continue
		}
		if err := s.Settle(t.Context(), id); err != nil {
			t.Fatal(err)
		}
	}
	for _, n := range []int{1, 5, 90} {
		for _, host := range []string{"h1", "h2"} {
			r := &estate.Reading{Host: host, Components: []estate.Component{{Key: "deb:k", Version: fmt.Sprint(n)}}}
			r.SetSection(estate.Section{Name: estate.Packages, At: day(n), Source: "test"})
			if host == "h2" && n == 90 {
				continue // its newest is old
			}
			if err := s.KeepReadings(t.Context(), []*estate.Reading{r}); err != nil {
				t.Fatal(err)
			}
		}
	}
	rule := PruneRule{Rounds: day(50), Readings: day(50)}
	for _, dry := range []bool{true, false} {
		p, err := s.Prune(t.Context(), rule, day(100), dry)
		if err != nil || len(p.Rounds) != 1 || p.Rounds[0].ID != "old" || p.Readings != 3 || p.Parts == 0 {
			t.Fatalf("dry %v: %+v %v", dry, p, err)
		}
	}
	if p, err := s.Prune(t.Context(), rule, day(100), false); err != nil || len(p.Rounds)+p.Readings+p.Parts != 0 {
		t.Errorf("again: %+v %v", p, err)
	}
	left, err := s.Rounds(t.Context(), "c")
	if err != nil || len(left) != 3 {
		t.Errorf("%v %v", left, err)
	}
	now, err := s.Newest(t.Context(), []string{"h1", "h2"})
	if err != nil || now["h1"].Components[0].Version != "90" || now["h2"].Components[0].Version != "5" {
		t.Errorf("%+v %v", now, err)
	}
	kept, head, err := s.Log(t.Context(), 0)
	if err != nil {
		t.Fatal(err)
	}
	b := logbook.Read(kept, head)
	have, err := s.Things(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	found := b.Against(have, func(x logbook.Thing) logbook.Stands {
		c := course.NewChain(x.ID)
		if _, err := s.Journal(t.Context(), x.ID, c); err != nil {
			return logbook.Stands{Gone: true}
		}
		return logbook.Stands{Sum: c.Sums()[x.Seq-1]}
	})
	if b.Fault != nil || len(found) > 0 || b.Entries[len(b.Entries)-1].Kind != logbook.Pruned {
		t.Errorf("%v %+v", b.Fault, found)
	}
}
