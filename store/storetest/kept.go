package storetest

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/logbook"
	"yareharbour/core/precheck"
	"yareharbour/store"
)

// What one opening keeps, the other finds.

func reading(host, version string, at time.Time) *estate.Reading {
	r := &estate.Reading{Host: host, Components: []estate.Component{{Key: "deb:k", Version: version}}}
	r.SetSection(estate.Section{Name: estate.Packages, At: at, Source: "test"})
	return r
}

// keep keeps a reading a minute for each version.
func keep(t *testing.T, s store.Readings, host string, versions ...string) {
	t.Helper()
	for i, v := range versions {
		if err := s.KeepReading(t.Context(), reading(host, v, now.Add(time.Duration(i)*time.Minute))); err != nil {
			t.Fatal(err)
		}
	}
}

// newest holds the newest reading to be the one that was read last, also where it says what one before said.
func newest(t *testing.T, b Bench) {
	keep(t, b.A, "heron", "1", "1", "2", "1")
	keep(t, b.A, "ibis", "7")
	got, err := b.B.Newest(t.Context(), []string{"heron", "ibis", "knot"})
	if err != nil || len(got) != 2 {
		t.Fatal(len(got), err)
	}
	if r := got["heron"]; r.Components[0].Version != "1" || !r.At().Equal(now.Add(3*time.Minute)) {
		t.Errorf("%+v", r)
	}
	if r := got["ibis"]; r.Components[0].Version != "7" {
		t.Errorf("%+v", r)
	}
	if r := reading("heron", "1", now.Add(3*time.Minute)); !reflect.DeepEqual(got["heron"], r) {
		t.Errorf("it went in as %+v and came out as %+v", r, got["heron"])
	}
}

// past holds readings to the time in which they held.
func past(t *testing.T, b Bench) {
	keep(t, b.A, "heron", "1", "2", "2", "3", "4")
	rs, err := b.B.History(t.Context(), "heron", 3)
	if err != nil || len(rs) != 3 || rs[0].Components[0].Version != "2" || rs[2].Components[0].Version != "4" {
		t.Fatalf("%v %v", rs, err)
	}
	if at := rs[0].At(); !at.Equal(now.Add(time.Minute)) {
		t.Errorf("version 2 was first read at %v", at)
	}
	spans, err := b.B.When(t.Context(), "heron", 9)
	if err != nil || len(spans) != 4 || !spans[0].From.Equal(now.Add(4*time.Minute)) ||
		spans[2].To.Sub(spans[2].From) != time.Minute {
		t.Errorf("%v %v", spans, err)
	}
	for minute, want := range map[int]string{0: "1", 2: "2", 3: "3", 99: "4"} {
		on, err := b.B.On(t.Context(), []string{"heron", "ibis"},
			now.Add(time.Duration(minute)*time.Minute+time.Second))
		if err != nil || len(on) != 1 || on["heron"].Components[0].Version != want {
			t.Errorf("after %d minutes: %v %v", minute, on, err)
		}
	}
	if on, err := b.B.On(t.Context(), []string{"heron"}, now.Add(-time.Second)); err != nil || len(on) != 0 {
		t.Errorf("before anything was read: %v %v", on, err)
	}
}

// silent keeps what could not be read apart from what was, and from nothing at all.
func silent(t *testing.T, b Bench) {
	keep(t, b.A, "heron", "1")
	r := reading("heron", "1", now)
	r.SetSection(estate.Section{Name: estate.Host, At: now.Add(time.Minute), Err: "no route"})
	r.Sort()
	if err := b.A.KeepReading(t.Context(), r); err != nil {
		t.Fatal(err)
	}
	got, err := b.B.Newest(t.Context(), []string{"heron"})
	if err == nil {
		got["heron"].Sort()
	}
	if err != nil || !reflect.DeepEqual(got["heron"], r) {
		t.Errorf("%+v %v", got["heron"], err)
	}
}

func versions(t *testing.T, b Bench) {
	keep := func(s store.Versions, text string, after int) (int, error) {
		return s.KeepVersion(t.Context(), store.Version{Name: "b", At: now, By: "op", Why: "because", Text: text},
			after)
	}
	if n, err := keep(b.A, "one", 0); n != 1 || err != nil {
		t.Fatal(n, err)
	}
	if n, err := keep(b.A, "one", 1); n != 1 || err != nil {
		t.Errorf("the same text is no new version: %d %v", n, err)
	}
	if n, err := keep(b.A, "two", 1); n != 2 || err != nil {
		t.Fatal(n, err)
	}
	if _, err := keep(b.B, "three", 1); !errors.Is(err, store.ErrChanged) {
		t.Errorf("made from a version that is not the newest any more: %v", err)
	}
	if v, err := b.B.Version(t.Context(), "b", 1); err != nil || v.Text != "one" ||
		v.Why != "because" || !v.At.Equal(now) {
		t.Errorf("%+v %v", v, err)
	}
	if v, err := b.B.Version(t.Context(), "b", 0); err != nil || v.N != 2 {
		t.Errorf("the newest is number 0: %+v %v", v, err)
	}
	for _, n := range []int{9, -1} {
		if _, err := b.B.Version(t.Context(), "b", n); !errors.Is(err, store.ErrNoVersion) {
			t.Errorf("%d: %v", n, err)
		}
	}
	if vs, err := b.B.Versions(t.Context(), "b"); err != nil || len(vs) != 2 || vs[0].N != 2 {
		t.Errorf("%+v %v", vs, err)
	}
}

func tallies(t *testing.T, b Bench) {
	for i, n := range []int{3, 3, 5, 2} {
		if err := b.A.KeepTally(t.Context(), "c",
			drift.Tally{At: now.AddDate(0, 0, i), Drift: map[estate.Layer]int{estate.Firmware: n}}); err != nil {
			t.Fatal(err)
		}
	}
	all, err := b.B.Trend(t.Context(), "c", now.AddDate(0, 0, 1).Add(time.Hour))
	if err != nil || len(all) != 3 || all[0].Total() != 3 || !all[0].At.Equal(now) {
		t.Errorf("the one that held at the beginning, and those after it: %+v %v", all, err)
	}
}

func looks(t *testing.T, b Bench) {
	if _, ok, err := b.B.Looked(t.Context(), "c"); ok || err != nil {
		t.Errorf("nobody looked yet: %v %v", ok, err)
	}
	for _, saw := range []string{"behind 1", "behind 2"} {
		look := store.Look{At: now, By: "op", Seen: drift.Seen{"x": saw}}
		if err := b.A.KeepLook(t.Context(), "c", look); err != nil {
			t.Fatal(err)
		}
		if got, ok, err := b.B.Looked(t.Context(), "c"); !ok || err != nil || !reflect.DeepEqual(got, look) {
			t.Errorf("%+v %v", got, err)
		}
	}
}

func filters(t *testing.T, b Bench) {
	for _, text := range []string{"severity=high", "severity=critical", ""} {
		if err := b.A.KeepFilter(t.Context(), "urgent", text); err != nil {
			t.Fatal(err)
		}
		if all, err := b.B.Filters(t.Context()); err != nil || all["urgent"] != text {
			t.Errorf("%v %v", all, err)
		}
	}
	if all, err := b.B.Filters(t.Context()); err != nil || len(all) != 0 {
		t.Errorf("an empty text forgets it: %v %v", all, err)
	}
}

// waivers stay on the record, also those that were taken back.
func waivers(t *testing.T, b Bench) {
	w := precheck.Waiver{ID: "1", Cluster: "c", Host: "h", Check: "health", Evidence: "a fan", Reason: "ordered",
		By: "op", At: now, Until: now.Add(time.Hour)}
	later := w
	later.ID, later.At = "2", now.Add(time.Minute)
	for _, x := range []precheck.Waiver{later, w} {
		if err := b.A.KeepWaiver(t.Context(), x); err != nil {
			t.Fatal(err)
		}
	}
	w.Ended, w.EndedBy = now.Add(time.Minute), "other"
	if err := b.A.KeepWaiver(t.Context(), w); err != nil {
		t.Fatal(err)
	}
	if got, err := b.B.Waivers(t.Context(), "c"); err != nil || !reflect.DeepEqual(got, []precheck.Waiver{w, later}) {
		t.Errorf("%+v %v", got, err)
	}
	if got, err := b.B.Waivers(t.Context(), "d"); err != nil || len(got) != 0 {
		t.Errorf("of another cluster: %+v %v", got, err)
	}
}

// clocks lets the time of day of what is written jump: leases go by another clock.
func clocks(t *testing.T, b Bench) {
	l := take(t, b.A, "vts")
	begin(t, b.A, l, "R")
	for _, by := range []time.Duration{time.Hour, -time.Hour, 24 * time.Hour} {
		if err := l.Stands(); err != nil {
			t.Fatalf("the time of day was set by %s: %v", by, err)
		}
		if _, _, err := b.A.Append(t.Context(), l, "R", appended(now.Add(by))); err != nil {
			t.Fatalf("the time of day was set by %s: %v", by, err)
		}
		if _, err := b.B.Acquire(t.Context(), "vts", store.Want{}); !errors.As(err, new(*store.HeldError)) {
			t.Fatalf("another has the lease: %v", err)
		}
	}
}

// logbooks holds what is decided to its entries: made with it, in one order for both openings, and told anew by either.
func logbooks(t *testing.T, b Bench) {
	b.A.Writer("ana", "quay")
	b.B.Writer("ben", "pier")
	l := take(t, b.A, "c")
	begin(t, b.A, l, "R")
	add(t, b.A, l, "R", "op")
	if err := b.B.Record(t.Context(), logbook.Entry{At: now, By: "ben", Kind: logbook.TakenIn, Says: "q4.zip"}); err != nil {
		t.Fatal(err)
	}
	if _, err := b.B.KeepVersion(t.Context(), store.Version{Name: "ssl", At: now, By: store.ItsFile, Why: "first read", Text: "a"}, 0); err != nil {
		t.Fatal(err)
	}
	for range 2 { // a text that is there already is no decision
		if _, err := b.A.KeepVersion(t.Context(), store.Version{Name: "ssl", At: now, By: "ana", Why: "wider", Text: "b"}, 1); err != nil && !errors.Is(err, store.ErrChanged) {
			t.Fatal(err)
		}
	}
	w := precheck.Waiver{ID: "W", Cluster: "c", Host: "h", Check: "health", By: "ana", At: now, Until: now.Add(time.Hour)}
	for range 2 {
		if err := b.A.KeepWaiver(t.Context(), w); err != nil {
			t.Fatal(err)
		}
		w.Ended, w.EndedBy = now.Add(time.Minute), "ben"
	}
	want := "round begun by ana, asked of a round by op, bundle taken in by ben, baseline saved by ben, baseline saved by ana, waived by ana, waiver ended by ben"
	for _, s := range []State{b.A, b.B} {
		kept, head, err := s.Log(t.Context(), 0)
		if err != nil {
			t.Fatal(err)
		}
		book := logbook.Read(kept, head)
		var got []string
		for _, e := range book.Entries {
			got = append(got, fmt.Sprintf("%s by %s", e.Kind, e.By))
		}
		if book.Fault != nil || strings.Join(got, ", ") != want {
			t.Errorf("%v\n%s", book.Fault, strings.Join(got, ", "))
		}
		have, err := s.Things(t.Context())
		if err != nil || len(have) != 4 {
			t.Errorf("%v %v", have, err)
		}
		found := book.Against(have, func(x logbook.Thing) logbook.Stands {
			if x.Shelf == logbook.Journals {
				c := course.NewChain(x.ID)
				if _, err := s.Journal(t.Context(), x.ID, c); err != nil {
					t.Fatal(err)
				}
				return logbook.Stands{Sum: c.Sums()[x.Seq-1]}
			}
			is, err := s.Stands(t.Context(), x)
			if err != nil {
				t.Fatal(err)
			}
			return is
		})
		if len(found) > 0 {
			t.Errorf("%+v", found)
		}
		last, ok, err := s.LastOf(t.Context(), logbook.Saved)
		if err != nil || !ok || last.By != "ana" || last.From != "quay" {
			t.Errorf("%+v %v %v", last, ok, err)
		}
		if is, err := s.Stands(t.Context(), logbook.Thing{Shelf: logbook.Waivers, ID: "none"}); err != nil || !is.Gone {
			t.Errorf("%+v %v", is, err)
		}
	}
	if _, ok, err := b.A.LastOf(t.Context(), logbook.Trusted); ok || err != nil {
		t.Error(ok, err)
	}
}
