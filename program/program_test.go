package program

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
)

// site makes a program that others can't write to.
func site(t *testing.T, text string) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.Chmod(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "hook")
	if err := os.WriteFile(file, []byte("#!/bin/sh\n"+text+"\n"), 0o700); err != nil {
		t.Fatal(err)
	}
	return file
}

func hook(id, program string, args ...string) act.Act {
	return act.Act{ID: id, Kind: act.RunHook, Facts: []byte(`{"host":"h1"}`),
		Hook: &act.Hook{Program: program, Args: args, Within: 5 * time.Second, GoOn: []int{0}}}
}

func ended(t *testing.T, p Programs, a act.Act) act.Trace {
	t.Helper()
	for start := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		if tr := p.Trace(a); tr.State != act.Runs && tr.State != act.Taken {
			return tr
		}
		if time.Since(start) > 20*time.Second {
			t.Fatal("it never ends")
		}
	}
}

// How a program ended is known, with what it printed; its arguments reach no shell, and the facts are on its input.
func TestHowItEnded(t *testing.T) {
	p := Programs{t.TempDir()}
	out := filepath.Join(t.TempDir(), "out")
	file := site(t, `cat >"$1.in"; printf '%s|' "$@" >"$1"; echo said; exit $2`)
	for code, want := range map[int]act.TraceState{0: act.Ended, 3: act.Broke, 75: act.Broke} {
		a := hook(fmt.Sprint("x/", code), file, out, fmt.Sprint(code), "$(id)", "; rm x")
		if got := p.Trace(a); got != (act.Trace{}) {
			t.Errorf("before it is begun: %+v", got)
		}
		for range 2 { // begun once, however often that is asked
			if err := p.Begin(t.Context(), a); err != nil {
				t.Fatal(err)
			}
		}
		if got := ended(t, p, a); got.State != want || got.Exit != code || got.Said != "said" {
			t.Errorf("%d: %+v", code, got)
		}
		text, _ := os.ReadFile(out)
		if string(text) != fmt.Sprintf("%s|%d|$(id)|; rm x|", out, code) {
			t.Errorf("its arguments were %q", text)
		}
		if in, _ := os.ReadFile(out + ".in"); string(in) != "{\"host\":\"h1\"}\n" {
			t.Errorf("its input was %q", in)
		}
	}
}

// One that does not end in time is ended; one that was killed, or ran when the machine restarted, is lost.
func TestWhatIsLost(t *testing.T) {
	p := Programs{t.TempDir()}
	slow := hook("slow", site(t, "exec sleep 60"))
	slow.Hook.Within = time.Second
	if err := p.Begin(t.Context(), slow); err != nil {
		t.Fatal(err)
	}
	if got := p.Trace(slow); got.State != act.Runs {
		t.Errorf("while it runs: %+v", got)
	}
	if got := ended(t, p, slow); got.State != act.Broke || got.Exit != 124 {
		t.Errorf("after its time: %+v", got)
	}
	dir := p.dir("slow")
	if err := os.Remove(filepath.Join(dir, "rc")); err != nil {
		t.Fatal(err)
	}
	if got := ended(t, p, slow); got.State != act.Lost || got.Error != "it was ended from outside" {
		t.Errorf("killed: %+v", got)
	}
	if err := os.WriteFile(filepath.Join(dir, "boot"), []byte("another"), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := p.Trace(slow); got.State != act.Lost || got.Error != "this machine restarted while it ran" {
		t.Errorf("restarted: %+v", got)
	}
}

// A program that somebody else could put words into is not run.
func TestWhoMayWriteIt(t *testing.T) {
	good := site(t, "exit 0")
	if err := Check(good); err != nil {
		t.Skip("the directory of tests is open to others: ", err)
	}
	for want, spoil := range map[string]func(file string) string{
		"absolute path":         func(string) string { return "hook" },
		"no such file":          func(f string) string { return f + "x" },
		"it is no file":         func(f string) string { return filepath.Dir(f) },
		"may not be executed":   func(f string) string { os.Chmod(f, 0o600); return f },
		"others may write to":   func(f string) string { os.Chmod(f, 0o722); return f },
		"others may write to /": func(f string) string { os.Chmod(filepath.Dir(f), 0o777); return f },
		"belongs to another user": func(f string) string {
			if os.Chown(f, 4711, 4711) != nil {
				os.Chmod(f, 0o600) // whoever can't give it away
			}
			return f
		},
	} {
		file := spoil(site(t, "exit 0"))
		err := Check(file)
		if err == nil || !strings.Contains(err.Error(), want) && os.Geteuid() == 0 {
			t.Errorf("want %q: %v", want, err)
		}
		p := Programs{t.TempDir()}
		if err := p.Begin(t.Context(), hook("x", file)); err == nil {
			t.Errorf("%q is run all the same", want)
		}
	}
}
