package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"yareharbour/core/course"
	"yareharbour/core/plan"
)

// wound is a clock that a test winds.
type wound struct{ up atomic.Int64 }

func (w *wound) Now() (string, time.Duration) { return "this boot", time.Duration(w.up.Load()) }

func (w *wound) pass(d time.Duration) { w.up.Add(int64(d)) }

// clocked opens two stores on one file that go by one clock.
func clocked(t *testing.T) (a, b *Store, w *wound) {
	t.Helper()
	dir := t.TempDir()
	a, b, w = open(t, dir), open(t, dir), &wound{}
	w.pass(time.Hour)
	a.clock, b.clock = w, w
	return a, b, w
}

func take(t *testing.T, s *Store, cluster string) *lease {
	t.Helper()
	l, err := s.Acquire(t.Context(), cluster, Want{})
	if err != nil {
		t.Fatal(err)
	}
	return l.(*lease)
}

func heldBy(err error) bool {
	var h *HeldError
	return errors.As(err, &h) && h.PID != 0 && strings.Contains(err.Error(), "yare round watch")
}

func TestOneLeasePerCluster(t *testing.T) {
	a, b, _ := clocked(t)
	first := take(t, a, "vts")
	if _, err := b.Acquire(t.Context(), "vts", Want{}); !heldBy(err) {
		t.Errorf("a second runner: %v", err)
	}
	take(t, b, "tides")
	if err := first.Release(t.Context()); err != nil {
		t.Fatal(err)
	}
	if first.Stands() == nil {
		t.Error("a lease that was given back stands")
	}
	if l := take(t, b, "vts"); l.epoch != first.epoch+1 {
		t.Errorf("the epoch went from %d to %d", first.epoch, l.epoch)
	}
	if l, err := b.Acquire(t.Context(), "yard", Want{Above: 41}); err != nil || l.Epoch() != 42 {
		t.Errorf("above what hosts know: %+v %v", l, err)
	}
}

// A holder that was slow can neither write nor take a request, and knows by itself that it may not act.
func TestASlowHolderCanDoNothing(t *testing.T) {
	a, b, w := clocked(t)
	slow := take(t, a, "vts")
	if _, err := a.Begin(t.Context(), slow, "R",
		course.Event{At: now, Kind: course.Started, Plan: &plan.Plan{}}); err != nil {
		t.Fatal(err)
	}
	w.pass(Term - slow.margin() - 1)
	if slow.Stands() != nil {
		t.Error("it holds for a minute without being renewed, but for the margin")
	}
	if _, err := b.Acquire(t.Context(), "vts", Want{}); !heldBy(err) {
		t.Errorf("within its time another took it: %v", err)
	}
	w.pass(1)
	if slow.Stands() == nil {
		t.Error("it stands to the last moment: a call would come too late")
	}
	if _, err := b.Acquire(t.Context(), "vts", Want{}); !heldBy(err) {
		t.Errorf("in the margin another took it: %v", err)
	}
	w.pass(slow.margin())
	quick := take(t, b, "vts")
	if err := b.Ask(t.Context(), "R", course.Event{Detail: course.AskStop, By: "me"}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := a.Append(t.Context(), slow, "R", course.Event{At: now, Kind: course.Asked}); !errors.Is(err,
		ErrLost) {
		t.Errorf("the slow one wrote: %v", err)
	}
	if err := slow.Renew(t.Context()); !errors.Is(err, ErrLost) || slow.Stands() == nil {
		t.Errorf("the slow one renewed: %v", err)
	}
	if got, _, err := a.Take(t.Context(), slow, "R", now); !errors.Is(err, ErrLost) || len(got) > 0 {
		t.Errorf("the slow one took a request: %v %v", got, err)
	}
	if _, _, err := b.Append(t.Context(), quick, "R", course.Event{At: now, Kind: course.Taken}); err != nil {
		t.Fatal(err)
	}
	got, sums, err := b.Take(t.Context(), quick, "R", now)
	if err != nil || len(got) != 1 || len(sums) != 1 || got[0].Seq != 3 || got[0].Epoch != quick.epoch ||
		got[0].Detail != course.AskStop {
		t.Errorf("the new holder: %+v %v", got, err)
	}
	if got, _, err := b.Take(t.Context(), quick, "R", now); err != nil || len(got) != 0 {
		t.Errorf("taken twice: %v %v", got, err)
	}
	if events, err := b.Journal(t.Context(), "R", course.NewChain("R")); err != nil || len(events) != 3 {
		t.Errorf("%d events, %v", len(events), err)
	}
}

func TestRenewingHolds(t *testing.T) {
	a, b, w := clocked(t)
	l := take(t, a, "vts")
	for range 10 {
		w.pass(Term / 2)
		if err := l.Renew(t.Context()); err != nil || l.Stands() != nil {
			t.Fatal(err)
		}
		if _, err := b.Acquire(t.Context(), "vts", Want{}); !heldBy(err) {
			t.Fatalf("taken all the same: %v", err)
		}
	}
}

func TestADeadHolderOnThisMachineIsNoticedAtOnce(t *testing.T) {
	a, b, w := clocked(t)
	for name, change := range map[string]string{
		"its process is gone, and another has its number": "UPDATE leases SET pid = 1, started = 'long ago'",
		"the machine was started anew":                    "UPDATE leases SET boot = 'before'",
	} {
		l := take(t, a, "vts")
		if _, err := a.db.Exec(change); err != nil {
			t.Fatal(err)
		}
		if h, err := b.Holder(t.Context(), "vts"); h != nil || err != nil {
			t.Errorf("%s: holder %v %v", name, h, err)
		}
		if l.id() == "" {
			t.Skip("this machine has no id of its own")
		}
		if err := take(t, b, "vts").Release(t.Context()); err != nil {
			t.Error(err)
		}
	}
	_ = w
}

// Of a holder among other processes than one can see, as in a container of its own, no number tells whether it lives: it is
// watched for as long as its lease holds.
func TestAHolderInAnotherSpaceIsNotTakenForDead(t *testing.T) {
	a, b, w := clocked(t)
	l := take(t, a, "vts")
	if l.id() == "" {
		t.Skip("this machine has no id of its own")
	}
	if _, err := a.db.Exec("UPDATE leases SET space = 'another', pid = 1, started = 'long ago'"); err != nil {
		t.Fatal(err)
	}
	if h, err := b.Holder(t.Context(), "vts"); h == nil || err != nil {
		t.Errorf("holder %v %v", h, err)
	}
	w.pass(time.Hour)
	if h, err := b.Holder(t.Context(), "vts"); h != nil || err != nil {
		t.Errorf("its lease is over: holder %v %v", h, err)
	}
}

// id is the machine's id in the lease's row.
func (l *lease) id() (id string) {
	_ = l.store.db.QueryRow("SELECT machine_id FROM leases WHERE cluster = ?", l.cluster).Scan(&id)
	return id
}

// Nobody here can tell whether a process on another machine lives: its lease is watched for as long as it holds.
func TestAHolderOnAnotherMachineIsWatched(t *testing.T) {
	a, b, w := clocked(t)
	l, err := a.Acquire(t.Context(), "vts", Want{Term: 40 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	far := func() {
		if _, err := a.db.Exec("UPDATE leases SET boot = 'far', machine_id = 'far', machine = 'far'"); err != nil {
			t.Fatal(err)
		}
	}
	far()
	done := make(chan struct{})
	go func() { // time passes, and the far holder renews
		defer close(done)
		for range 3 {
			time.Sleep(10 * time.Millisecond)
			_, _ = a.db.Exec("UPDATE leases SET beat = beat + 1")
		}
	}()
	if _, err := b.Acquire(t.Context(), "vts", Want{}); !heldBy(err) || !strings.Contains(err.Error(), "on far") {
		t.Errorf("a living holder far away: %v", err)
	}
	<-done
	go func() {
		time.Sleep(20 * time.Millisecond)
		w.pass(time.Second)
	}()
	taken, err := b.Acquire(t.Context(), "vts", Want{})
	if err != nil || taken.Epoch() != l.Epoch()+1 {
		t.Errorf("a dead holder far away: %v", err)
	}
	far()
	if h, err := b.Holder(t.Context(), "vts"); h == nil || err != nil {
		t.Errorf("at first sight: %v %v", h, err)
	}
	w.pass(Term)
	if h, err := b.Holder(t.Context(), "vts"); h != nil || err != nil {
		t.Errorf("after a minute without a beat: %v %v", h, err)
	}
}

// The time of day may be set as anybody likes: leases do not go by it.
func TestTheClockOfTheMachineCannotBeSet(t *testing.T) {
	boot, up := thisBoot().Now()
	time.Sleep(2 * time.Millisecond)
	again, later := thisBoot().Now()
	if boot != again || later-up < time.Millisecond || later-up > time.Minute || up <= 0 {
		t.Errorf("%s %v, then %s %v", boot, up, again, later)
	}
	var cols string
	s := open(t, t.TempDir())
	if err := s.db.QueryRow("SELECT sql FROM sqlite_master WHERE name = 'leases'").Scan(&cols); err != nil ||
		strings.Contains(cols, "expires") {
		t.Errorf("leases are kept by the time of day: %s %v", cols, err)
	}
}

// journalOf begins a round of a few entries.
func journalOf(t *testing.T, s *Store, id string) *lease {
	t.Helper()
	l := take(t, s, "vts")
	if _, err := s.Begin(t.Context(), l, id,
		course.Event{At: now, Kind: course.Started, Round: id, Plan: &plan.Plan{}}); err != nil {
		t.Fatal(err)
	}
	for i := range 4 {
		if _, _, err := s.Append(t.Context(), l, id,
			course.Event{At: now.Add(time.Duration(i) * time.Minute), Kind: course.Asked, Detail: course.AskPause,
				By: fmt.Sprint("p", i)}); err != nil {
			t.Fatal(err)
		}
	}
	return l
}

// What was done to a journal is told, with the entry; what comes before it can be read; and nothing is written behind
// it.
func TestAJournalCannotLie(t *testing.T) {
	for name, c := range map[string]struct {
		do    string
		entry int64 // the first that can't be relied on
		reads int   // how many come before
	}{
		"nothing":              {"", 0, 5},
		"its end is cut":       {"DELETE FROM journal WHERE seq > 3", 4, 3},
		"a row is deleted":     {"DELETE FROM journal WHERE seq = 3", 3, 2},
		"all rows are deleted": {"DELETE FROM journal", 1, 0},
		"a byte is altered":    {`UPDATE journal SET text = replace(text, '"p1"', '"p9"') WHERE seq = 3`, 3, 2},
		"two rows are swapped": {"UPDATE journal SET text = (SELECT text FROM journal o WHERE o.seq = 7 - " +
			"journal.seq) WHERE seq IN (3, 4)", 3, 2},
		"rows with sums swapped": {"UPDATE journal SET seq = -seq WHERE seq IN (3, 4); UPDATE journal SET seq = 7 " +
			"+ seq WHERE seq < 0", 3, 2},
		"a row is added": {"INSERT INTO journal SELECT round, 6, sum, text FROM journal WHERE seq = 5",
			6, 5},
		"cut, with its own head": {"DELETE FROM journal WHERE seq > 3; UPDATE rounds SET seq = 3, sum = (SELECT " +
			"sum FROM journal WHERE seq = 3)", 4, 3},
		"another round's journal": {"UPDATE journal SET round = 'Q'; UPDATE rounds SET id = 'Q'; UPDATE " +
			"leases SET round = 'Q'", 1, 0},
		"the last entry is another": {`UPDATE journal SET text = replace(text, '"p3"', '"p9"'), sum = 'abc' WHERE seq = 5`, 5, 4},
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t, t.TempDir())
			l := journalOf(t, s, "R")
			if _, err := s.db.Exec(c.do); c.do != "" && err != nil {
				t.Fatal(err)
			}
			id := "R"
			if strings.HasPrefix(name, "another") {
				id = "Q"
			}
			events, err := s.Journal(t.Context(), id, course.NewChain(id))
			var bad *course.Malformed
			if len(events) != c.reads || (c.entry != 0) != errors.As(err, &bad) || bad != nil && bad.Entry != c.entry {
				t.Errorf("%d events, %v", len(events), err)
			}
			_, _, err = s.Append(t.Context(), l, id, course.Event{At: now, Kind: course.Asked})
			if cut := strings.Contains(name, "end is cut") || strings.Contains(name, "all rows") ||
				strings.Contains(name, "last entry"); cut && !errors.As(err, &bad) {
				t.Errorf("it was written behind: %v", err)
			}
		})
	}
}

// A watcher that reads on from where it stood sees the same.
func TestReadingOn(t *testing.T) {
	s := open(t, t.TempDir())
	l := journalOf(t, s, "R")
	chain := course.NewChain("R")
	if got, err := s.Journal(t.Context(), "R", chain); err != nil || len(got) != 5 {
		t.Fatal(len(got), err)
	}
	if got, err := s.Journal(t.Context(), "R", chain); err != nil || len(got) != 0 {
		t.Error(len(got), err)
	}
	if _, sum, err := s.Append(t.Context(), l, "R", course.Event{At: now, Kind: course.Asked}); err != nil ||
		sum == "" {
		t.Fatal(err)
	}
	if got, err := s.Journal(t.Context(), "R", chain); err != nil || len(got) != 1 || chain.Head().Seq != 6 ||
		len(chain.Sums()) != 6 {
		t.Error(len(got), err)
	}
	if _, err := s.db.Exec("DELETE FROM journal WHERE seq = 6"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Journal(t.Context(), "none", course.NewChain("none")); !errors.Is(err, ErrNoRound) {
		t.Error(err)
	}
}

func TestAPlanIsKeptUnderItsDigest(t *testing.T) {
	s := open(t, t.TempDir())
	p := &plan.Plan{Brief: plan.Brief{Cluster: "vts"}, Made: now, Visits: []plan.Visit{{Host: "heron"}}}
	if err := s.KeepPlan(t.Context(), p); err != nil {
		t.Fatal(err)
	}
	for _, d := range []string{p.Digest(), p.Digest()[:8]} {
		if got, err := s.Plan(t.Context(), "vts", d); err != nil || got.Digest() != p.Digest() {
			t.Errorf("%s: %v", d, err)
		}
	}
	for _, d := range []string{"", p.Digest()[:5], "ffffffffffff"} {
		if _, err := s.Plan(t.Context(), "vts", d); !errors.Is(err, ErrNoPlan) {
			t.Errorf("%q: %v", d, err)
		}
	}
	if _, err := s.Plan(t.Context(), "tides", p.Digest()); !errors.Is(err, ErrNoPlan) {
		t.Errorf("another cluster's: %v", err)
	}
	if _, err := s.db.Exec("UPDATE plans SET text = replace(text, 'heron', 'ibis')"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Plan(t.Context(), "vts", p.Digest()); err == nil || errors.Is(err, ErrNoPlan) {
		t.Errorf("a plan that was altered: %v", err)
	}
	for i := range keptPlans + 5 {
		if err := s.KeepPlan(t.Context(),
			&plan.Plan{Brief: plan.Brief{Cluster: "vts"},
				Made: now.Add(time.Duration(i+1) * time.Minute)}); err != nil {
			t.Fatal(err)
		}
	}
	var n int
	if err := s.db.QueryRow("SELECT COUNT(*) FROM plans").Scan(&n); err != nil || n != keptPlans {
		t.Errorf("%d plans are kept: %v", n, err)
	}
}

// What is in a state directory is its owner's alone, whatever stood there before.
func TestTheStateIsPrivate(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	s := open(t, dir)
	journalOf(t, s, "R")
	modes := func() {
		t.Helper()
		files, err := os.ReadDir(dir)
		if err != nil || len(files) == 0 {
			t.Fatal(err)
		}
		for _, f := range files {
			if i, err := f.Info(); err != nil || i.Mode().Perm()&0o077 != 0 {
				t.Errorf("%s: %v %v", f.Name(), i.Mode(), err)
			}
		}
		if i, err := os.Stat(dir); err != nil || i.Mode().Perm() != 0o700 {
			t.Errorf("%v %v", i.Mode(), err)
		}
	}
	modes()
	s.Close()
	for _, name := range []string{dir, filepath.Join(dir, File)} {
		if err := os.Chmod(name, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if s := open(t, dir); !strings.Contains(s.Told, "others could look into "+dir+" (mode 0755)") {
		t.Errorf("it tells %q", s.Told)
	}
	modes()
	if s := open(t, dir); s.Told != "" {
		t.Errorf("it tells again: %q", s.Told)
	}
	for _, mode := range []os.FileMode{0o777, 0o770, 0o702, 0o1777} {
		for _, d := range []string{dir, t.TempDir()} { // with a state in it, and without
			if err := os.Chmod(d, mode); err != nil {
				t.Fatal(err)
			}
			if _, err := Open(t.Context(), d); !errors.Is(err, ErrOpenToOthers) || !strings.Contains(err.Error(), "chmod go= "+d) {
				t.Errorf("%04o: %v", mode, err)
			}
		}
	}
	if os.Geteuid() == 0 {
		theirs := t.TempDir()
		if err := os.Chown(theirs, 65534, 65534); err != nil {
			t.Fatal(err)
		}
		if _, err := Open(t.Context(), theirs); !errors.Is(err, ErrOpenToOthers) {
			t.Errorf("somebody else's: %v", err)
		}
	}
}

// Looking works where nothing can be written.
func TestLookingIntoAReadOnlyState(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	journalOf(t, s, "R")
	s.Close()
	look, err := OpenToLook(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer look.Close()
	if events, err := look.Journal(t.Context(), "R", course.NewChain("R")); err != nil || len(events) != 5 {
		t.Errorf("%d %v", len(events), err)
	}
	if _, err := look.Acquire(t.Context(), "tides", Want{}); err == nil {
		t.Error("a lease was taken in a state that is only looked into")
	}
	if _, err := OpenToLook(t.Context(), t.TempDir()); !errors.Is(err, os.ErrNotExist) {
		t.Error(err)
	}
	scratch, err := Scratch(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer scratch.Close()
	if err := scratch.KeepReading(t.Context(), reading("heron", "1", now)); err != nil {
		t.Error(err)
	}
}
