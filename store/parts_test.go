package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"yareharbour/core/estate"
)

var start = time.Date(2026, 1, 1, 4, 0, 0, 0, time.UTC)

// aYear makes readings as an estate would give: packages change on a patch day now and then, firmware rarely, guests'
// use of CPU at every reading, and a guest moves from time to time.
type aYear struct {
	rand  *rand.Rand
	hosts []*estate.Reading
}

func newYear(hosts, packages int) *aYear {
	y := &aYear{rand: rand.New(rand.NewSource(1))}
	for h := range hosts {
		r := &estate.Reading{Host: fmt.Sprintf("h%04d", h), Release: "Brae Linux 4.2",
			BootID: fmt.Sprintf("%08x-0000", h), Capacity: estate.Resources{MemoryMiB: 512 << 10, CPU: 64000},
			Hardware: estate.Hardware{Maker: "Corran", Model: "Quay 1", Serial: fmt.Sprintf("Q1-%06d", h)},
			Networks: []string{"a", "storage", "migration"}}
		for p := range packages {
			r.Components = append(r.Components, estate.Component{Key: estate.Key(fmt.Sprintf("deb:lib%04d-common", p)),
				Version: fmt.Sprintf("%d.%d.%d-brae1", p%9, p%17, (h/50+p)%3)})
		}
		for i := range 12 {
			r.Components = append(r.Components,
				estate.Component{Key: estate.Key(fmt.Sprintf("fw:dev%02d", i)), Device: fmt.Sprintf("slot %d", i),
					Version: fmt.Sprintf("22.%d.4", h%3), Model: "Lorne L25"})
		}
		for i := range 30 {
			r.Components = append(r.Components,
				estate.Component{Key: estate.Key(fmt.Sprintf("set:service/unit%02d", i)), Version: "enabled, running"})
		}
		for g := range 20 {
			r.Guests = append(r.Guests, estate.Guest{Name: fmt.Sprintf("h%04d-g%02d", h, g), State: estate.Running,
				Since: start, Networks: []string{"a"}, Emulator: "9.2.4-brae1",
				Load:    estate.Resources{MemoryMiB: int64(4+g) << 10},
				Agent:   estate.Inner{Name: "brae-agent", Version: "2.3"},
				Machine: estate.Inner{Name: "q35", Version: "9.2"}})
		}
		for i := range 8 {
			r.Health = append(r.Health, estate.Health{Item: fmt.Sprintf("sensor %d", i), OK: true})
		}
		r.Sort()
		y.hosts = append(y.hosts, r)
	}
	return y
}

// day lets a day pass and returns the readings at its end. They may be kept: what changes later is copied.
func (y *aYear) day(n int) []*estate.Reading {
	at := start.AddDate(0, 0, n)
	for i, old := range y.hosts {
		r := *old
		r.Guests = append([]estate.Guest(nil), old.Guests...)
		for g := range r.Guests {
			r.Guests[g].Load.CPU = int64(500 + y.rand.Intn(2500))
		}
		if (n+i)%30 == 0 { // this host's patch day
			r.Components = append([]estate.Component(nil), old.Components...)
			for range 12 {
				c := &r.Components[y.rand.Intn(len(r.Components))]
				c.Version += "+" + strconv.Itoa(n)
			}
			r.BootID, r.BootedAt = fmt.Sprintf("%08x-%04d", i, n), at
		}
		if y.rand.Intn(10) == 0 {
			r.Guests[y.rand.Intn(len(r.Guests))].Name += "m"
		}
		r.Sections = nil
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: at.Add(time.Duration(i) * time.Second), Source: "host interface"})
		}
		r.Sort()
		y.hosts[i] = &r
	}
	return append([]*estate.Reading(nil), y.hosts...)
}

// Whatever is kept comes out as it went in, of any day.
func TestReadingsComeOutAsTheyWentIn(t *testing.T) {
	s := open(t, t.TempDir())
	y := newYear(6, 60)
	var all [][]*estate.Reading
	var hosts []string
	for _, r := range y.hosts {
		hosts = append(hosts, r.Host)
	}
	for n := range 40 {
		rs := y.day(n)
		if n%7 == 3 {
			silent := *rs[2]
			silent.SetSection(estate.Section{Name: estate.FirmwareItems, At: rs[2].Tried(),
				Err: "the BMC does not answer"})
			rs[2] = &silent
		}
		if err := s.KeepReadings(t.Context(), rs); err != nil {
			t.Fatal(err)
		}
		all = append(all, rs)
	}
	for n, rs := range all {
		got, err := s.On(t.Context(), hosts, start.AddDate(0, 0, n).Add(time.Hour))
		if err != nil || len(got) != len(hosts) {
			t.Fatal(len(got), err)
		}
		for _, r := range rs {
			if a, b := asJSON(t, got[r.Host]), asJSON(t, r); a != b {
				t.Fatalf("day %d, %s:\n%s\nin place of\n%s", n, r.Host, a, b)
			}
		}
	}
	if got, err := s.On(t.Context(), hosts, start.AddDate(0, 0, -1)); err != nil || len(got) != 0 {
		t.Errorf("before anything was read: %v %v", got, err)
	}
	var leaning, deep int
	if err := s.db.QueryRow("SELECT count(*) FROM parts WHERE base IS NOT NULL").Scan(&leaning); err != nil {
		t.Fatal(err)
	}
	if err := s.db.QueryRow("SELECT count(*) FROM parts p JOIN parts b ON p.base = b.hash WHERE b.base IS NOT NULL").
		Scan(&deep); err != nil {
		t.Fatal(err)
	}
	if leaning < 100 || deep > 0 {
		t.Errorf("%d parts lean on another, %d of them on one that leans in turn", leaning, deep)
	}
}

func asJSON(t testing.TB, r *estate.Reading) string {
	t.Helper()
	b, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func TestADamagedPartIsNoticed(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	if err := s.KeepReadings(t.Context(), newYear(1, 5).day(0)); err != nil {
		t.Fatal(err)
	}
	other := s.pack.alone.EncodeAll([]byte(`{"components":[]}`), nil)
	if _, err := s.db.Exec("UPDATE parts SET body = ?", other); err != nil {
		t.Fatal(err)
	}
	if _, err := open(t, dir).Newest(t.Context(), []string{"h0000"}); err == nil {
		t.Error("a damaged reading was taken for what the host said")
	}
}

// A store of the first version is brought to this one without loss.
func TestReadingsOfTheFirstVersionAreTakenOver(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, File))
	if err != nil {
		t.Fatal(err)
	}
	tx, err := db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	if err := migrations[0](tx); err != nil {
		t.Fatal(err)
	}
	y := newYear(1, 20)
	var want []string
	for n := range 3 {
		r := y.day(n)[0]
		want = append(want, asJSON(t, r))
		if _, err := tx.Exec("INSERT INTO readings (host, first, at, print, body) VALUES (?, ?, ?, ?, ?)", r.Host,
			at(r.Tried()), at(r.Tried().Add(time.Hour)), "x", want[n]); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := tx.Exec("PRAGMA user_version = 1"); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(tx.Commit(), db.Close()); err != nil {
		t.Fatal(err)
	}
	s := open(t, dir)
	got, err := s.On(t.Context(), []string{"h0000"}, start.AddDate(0, 0, 1).Add(time.Hour))
	if err != nil || asJSON(t, got["h0000"]) != want[1] {
		t.Errorf("%v\n%s\n%s", err, asJSON(t, got["h0000"]), want[1])
	}
	if kept, err := s.When(t.Context(), "h0000", 9); err != nil || len(kept) != 3 ||
		kept[0].To.Sub(kept[0].From) != time.Hour {
		t.Errorf("%v %v", kept, err)
	}
}

// BenchmarkYear keeps a year of daily readings of so many hosts (20, or what YARE_YEAR_HOSTS says) with 700 packages
// and 20 guests each, and then opens a day. It reports the bytes of the store for each host and year, and the time that
// a day of all hosts takes to open.
func BenchmarkYear(b *testing.B) {
	hosts := 20
	if n, err := strconv.Atoi(os.Getenv("YARE_YEAR_HOSTS")); err == nil {
		hosts = n
	}
	for b.Loop() {
		dir := b.TempDir()
		s, err := Open(b.Context(), dir)
		if err != nil {
			b.Fatal(err)
		}
		y := newYear(hosts, 700)
		for n := range 365 {
			if err := s.KeepReadings(b.Context(), y.day(n)); err != nil {
				b.Fatal(err)
			}
		}
		if _, err := s.db.Exec("PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
			b.Fatal(err)
		}
		st, err := os.Stat(filepath.Join(dir, File))
		if err != nil {
			b.Fatal(err)
		}
		var names []string
		for _, r := range y.hosts {
			names = append(names, r.Host)
		}
		var worst time.Duration
		for _, day := range []int{0, 100, 200, 364} {
			began := time.Now()
			if got, err := s.On(b.Context(), names, start.AddDate(0, 0, day).Add(12*time.Hour)); err != nil ||
				len(got) != hosts {
				b.Fatal(len(got), err)
			}
			worst = max(worst, time.Since(began))
		}
		b.ReportMetric(float64(st.Size())/(1<<20), "MiB/store")
		b.ReportMetric(float64(st.Size())/float64(hosts)/(1<<20), "MiB/host")
		b.ReportMetric(float64(worst.Milliseconds()), "ms/day")
		if err := s.Close(); err != nil {
			b.Fatal(err)
		}
	}
}
