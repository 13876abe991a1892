package store

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yareharbour/core/course"
	"yareharbour/core/estate"
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
	if err != nil || len(got) != 1 || got["heron"].Components[0].Version != "1" ||
		!got["heron"].At().Equal(now.Add(4*time.Minute)) {
		t.Errorf("%+v %v", got["heron"], err)
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

func TestAStateFileThatIsHeldIsTold(t *testing.T) {
	dir := t.TempDir()
	a, b := open(t, dir), open(t, dir)
	if _, err := b.db.Exec("PRAGMA busy_timeout = 20"); err != nil {
		t.Fatal(err)
	}
	b.db.SetMaxOpenConns(1)
	tx, err := a.db.BeginTx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := b.KeepReading(t.Context(), reading("heron", "1", now)); !errors.Is(err, ErrBusy) {
		t.Error(err)
	}
	if err := tx.Rollback(); err != nil {
		t.Fatal(err)
	}
}

func TestOpenRefusesANewerStore(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	if _, err := s.db.Exec("PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if _, err := Open(context.Background(), dir); !errors.Is(err, ErrNewer) {
		t.Error(err)
	}
}

// Where the time of day was set back, what is read then is the newest all the same; a reading that comes a little late
// is not.
func TestTheNewestReadingIsTheLastOne(t *testing.T) {
	s := open(t, t.TempDir())
	newest := func() string {
		t.Helper()
		rs, err := s.Newest(t.Context(), []string{"heron"})
		if err != nil {
			t.Fatal(err)
		}
		return rs["heron"].Components[0].Version
	}
	for _, c := range []struct {
		version string
		at      time.Time
		want    string
	}{{"1", now, "1"}, {"0", now.Add(-time.Minute), "1"}, {"2", now.Add(-24 * time.Hour), "2"},
		{"3", now.Add(-23 * time.Hour), "3"}} {
		if err := s.KeepReading(t.Context(), reading("heron", c.version, c.at)); err != nil {
			t.Fatal(err)
		}
		if got := newest(); got != c.want {
			t.Errorf("after %s of %s the newest is %s, want %s", c.version, c.at, got, c.want)
		}
		s.mu.Lock()
		clear(s.decoded)
		s.mu.Unlock()
		if got := newest(); got != c.want {
			t.Errorf("read anew, after %s of %s the newest is %s, want %s", c.version, c.at, got, c.want)
		}
	}
}

// Where the file of a store in use is removed or replaced nothing more is written, which would be lost; what it held is
// saved beside it.
func TestAStoreWhoseFileGoes(t *testing.T) {
	for name, goes := range map[string]func(path string) error{
		"removed": os.Remove,
		"moved":   func(path string) error { return os.Rename(path, path+".away") },
		"replaced": func(path string) error {
			return errors.Join(os.Remove(path), os.WriteFile(path, []byte("something"), 0o600))
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			s := open(t, dir)
			l := journalOf(t, s, "R")
			if err := goes(filepath.Join(dir, File)); err != nil {
				t.Fatal(err)
			}
			for range 2 {
				_, _, err := s.Append(t.Context(), l, "R", course.Event{At: now, Kind: course.Asked, Detail: course.AskStop})
				if !errors.Is(err, ErrGone) || !strings.Contains(err.Error(), "yare.db.rescued") {
					t.Fatal(err)
				}
			}
			if err := l.Renew(t.Context()); !errors.Is(err, ErrGone) {
				t.Error(err)
			}
			other := t.TempDir()
			if err := os.Rename(filepath.Join(dir, File+".rescued"), filepath.Join(other, File)); err != nil {
				t.Fatal(err)
			}
			if events, err := open(t, other).Journal(t.Context(), "R", course.NewChain("R")); err != nil || len(events) != 5 {
				t.Errorf("%d entries were saved: %v", len(events), err)
			}
		})
	}
}

// A store that can't be read says what to do.
func TestADamagedStore(t *testing.T) {
	dir := t.TempDir()
	if err := errors.Join(os.Chmod(dir, 0o700), os.WriteFile(filepath.Join(dir, File), make([]byte, 8192), 0o600)); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(t.Context(), dir); !errors.Is(err, ErrDamaged) || !strings.Contains(err.Error(), "mv "+dir) {
		t.Error(err)
	}
}
