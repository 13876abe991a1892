package store

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/course"
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
	kept, head, err := s.Log(t.Context())
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
