package store

import (
	"errors"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"
)

// A process is told from a later one with its number by when it started; one that is gone has no start.
func TestWhenAProcessStarted(t *testing.T) {
	own := processStart(os.Getpid())
	if own == "" || own == "unknown" || own != processStart(os.Getpid()) {
		t.Errorf("this process started at %q", own)
	}
	if parent := processStart(os.Getppid()); parent == "" || parent == own {
		t.Errorf("its parent started at %q, and it at %q", parent, own)
	}
	cmd := exec.Command("true")
	if err := cmd.Start(); err != nil {
		t.Skip(err)
	}
	// ended and not waited for: a zombie runs nothing
	for start := time.Now(); processStart(cmd.Process.Pid) != ""; time.Sleep(time.Millisecond) {
		if time.Since(start) > 10*time.Second {
			t.Fatal("a process that has ended still has a start")
		}
	}
	_ = cmd.Wait()
	if got := processStart(cmd.Process.Pid); got != "" {
		t.Errorf("a process that is gone started at %q", got)
	}
}

func TestThisBoot(t *testing.T) {
	want, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		t.Skip(err)
	}
	if got := thisBoot().boot; got != strings.TrimSpace(string(want)) {
		t.Errorf("%q", got)
	}
	if at, err := here(); err != nil || at.machine == "" || !strings.HasPrefix(at.space, "pid:") {
		t.Errorf("%+v %v", at, err)
	}
}

// Every time that a lease is taken or renewed its beat changes, by which whoever watches from afar knows that it lives.
func TestEveryRenewalIsABeat(t *testing.T) {
	s, _, _ := clocked(t)
	beat := func() (n int64) {
		if err := s.db.QueryRow("SELECT beat FROM leases").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	l := take(t, s, "vts")
	if l.Every() != Term/4 || l.margin() != Term/6 {
		t.Errorf("it is renewed every %v, with a margin of %v", l.Every(), l.margin())
	}
	seen := map[int64]bool{beat(): true}
	for range 3 {
		if err := l.Renew(t.Context()); err != nil || seen[beat()] {
			t.Errorf("the beat is %d again: %v", beat(), err)
		}
		seen[beat()] = true
	}
	if err := l.Release(t.Context()); err != nil {
		t.Fatal(err)
	}
	if take(t, s, "vts"); seen[beat()] {
		t.Errorf("the next holder has the beat %d, which was seen", beat())
	}
}

func TestTheNewestVersionIsNumberZero(t *testing.T) {
	s := open(t, t.TempDir())
	if _, err := s.Version(t.Context(), "b", 0); !errors.Is(err, ErrNoVersion) {
		t.Error(err)
	}
	for i, text := range []string{"one", "two", "two"} {
		after := min(i, 2)
		if n, err := s.KeepVersion(t.Context(), Version{Name: "b", Text: text, At: now}, after); err != nil ||
			n != min(i+1, 2) {
			t.Errorf("%d %v", n, err)
		}
	}
	if _, err := s.KeepVersion(t.Context(), Version{Name: "c", Text: "", At: now}, 0); err != nil {
		t.Errorf("a first version that says nothing: %v", err)
	}
	for n, want := range map[int]string{0: "two", 1: "one", 2: "two"} {
		if v, err := s.Version(t.Context(), "b", n); err != nil || v.Text != want {
			t.Errorf("version %d: %q %v", n, v.Text, err)
		}
	}
}
