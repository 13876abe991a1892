package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// screen is the program in a terminal of its own.
type screen struct {
	t      *testing.T
	socket string
	status string // the file that gets the exit status
}

// open starts the program in tmux, in a directory of its own for what it exports.
func open(t *testing.T, cols, rows int, env []string, args ...string) *screen {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("no tmux on this machine to drive the screens with")
	}
	dir, err := os.MkdirTemp("", "yt") // a short path: a Unix socket's has 107 bytes at most
	if err != nil {
		t.Fatal(err)
	}
	s := &screen{t: t, socket: filepath.Join(dir, "s"), status: filepath.Join(dir, "status")}
	conf := filepath.Join(dir, "conf")
	text := "set -g default-terminal xterm-256color\nset -sg escape-time 0\nset -g status off\nset -g remain-on-exit on\n"
	if err := os.WriteFile(conf, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := []string{"-S", s.socket, "-f", conf, "new-session", "-d", "-x", fmt.Sprint(cols), "-y", fmt.Sprint(rows), "-c", dir}
	for _, e := range env {
		cmd = append(cmd, "-e", e)
	}
	cmd = append(cmd, "sh", "-c", `"$@"; echo $? >`+s.status, "sh", yare)
	if out, err := exec.Command("tmux", append(cmd, args...)...).CombinedOutput(); err != nil {
		t.Fatalf("tmux: %v\n%s", err, out)
	}
	t.Cleanup(func() {
		_ = exec.Command("tmux", "-S", s.socket, "kill-server").Run()
		os.RemoveAll(dir)
	})
	return s
}

func (s *screen) tmux(args ...string) string {
	s.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", s.socket}, args...)...).CombinedOutput()
	if err != nil {
		s.t.Fatalf("tmux %v: %v\n%s", args, err, out)
	}
	return string(out)
}

func (s *screen) text() string { return s.tmux("capture-pane", "-p") }

// keys sends keys by their tmux names; one that begins with "=" is text to type.
func (s *screen) keys(keys ...string) {
	s.t.Helper()
	for _, k := range keys {
		if text, ok := strings.CutPrefix(k, "="); ok {
			s.tmux("send-keys", "-l", text)
		} else {
			s.tmux("send-keys", k)
		}
	}
}

// wait waits until the screen matches the pattern, and returns what matched.
func (s *screen) wait(pattern string) string {
	s.t.Helper()
	re := regexp.MustCompile(pattern)
	for start := time.Now(); ; time.Sleep(10 * time.Millisecond) {
		text := s.text()
		if m := re.FindString(text); m != "" {
			return m
		}
		if time.Since(start) > patience {
			s.t.Fatalf("the screen never showed %q:\n%s", pattern, text)
		}
	}
}

// gone waits until nothing on the screen matches the pattern. A key after Escape must wait for Escape's effect: together
// they would be another key.
func (s *screen) gone(pattern string) {
	s.t.Helper()
	re := regexp.MustCompile(pattern)
	for start := time.Now(); re.MatchString(s.text()); time.Sleep(10 * time.Millisecond) {
		if time.Since(start) > patience {
			s.t.Fatalf("the screen still shows %q:\n%s", pattern, s.text())
		}
	}
}

// click presses the left button on the first cell of the text.
func (s *screen) click(text string) {
	s.t.Helper()
	for y, line := range strings.Split(s.text(), "\n") {
		if i := strings.Index(line, text); i >= 0 {
			x := len([]rune(line[:i])) + 1
			s.tmux("send-keys", "-l", fmt.Sprintf("\x1b[<0;%d;%dM", x, y+1))
			s.tmux("send-keys", "-l", fmt.Sprintf("\x1b[<0;%d;%dm", x, y+1))
			return
		}
	}
	s.t.Fatalf("no %q to press on:\n%s", text, s.text())
}

func (s *screen) ends(want string) {
	s.t.Helper()
	for start := time.Now(); ; time.Sleep(10 * time.Millisecond) {
		if b, err := os.ReadFile(s.status); err == nil && len(b) > 0 {
			if got := strings.TrimSpace(string(b)); got != want {
				s.t.Errorf("the program ended with %s, want %s", got, want)
			}
			return
		}
		if time.Since(start) > patience {
			s.t.Fatalf("the program did not end:\n%s", s.text())
		}
	}
}

// The way of an administrator: look, go into a host, ask why, run a round to its end, export, leave.
func TestScreensFromLookingToAFinishedRound(t *testing.T) {
	dir := demoState(t, 300)
	s := open(t, 160, 45, nil, "--state", dir)
	s.wait(`needs you +\d+, worst first`)
	s.wait(`1 in line +4 adrift`)
	s.wait(`closed`)
	s.keys("Enter")
	s.wait(`Host › vts › heron`)
	s.wait(`deb:linux-image-brae +30.4-brae1 +30.6-brae1 +behind, high`)
	s.wait(`The baseline platform-november`)
	s.keys("Right", "Right")
	s.wait(`Host › vts › jacana`)
	s.keys("Escape")
	s.wait(`Waterline`)
	s.keys("d")
	s.wait(`siblings Quay 1: 5 hosts, 2 alike`)
	s.wait(`✗ 7.4.0`)
	s.keys("Escape")
	s.wait(`Waterline`)
	s.keys("r")
	s.wait(`planned, nothing is touched yet +visits 4`)
	s.keys("e", "j")
	s.wait(`written: yare-plan-vts-\S+json`)
	s.keys("s")
	s.wait(`reason for the round:`)
	s.keys("=November patches", "Enter")
	s.wait(`Are you sure\?`)
	s.keys("y")
	s.wait(`running +by .*: November patches`)
	s.wait(`under way`)
	s.wait(`finished +by`)
	s.wait(`4 of 4 visits, 21 of 21 moves`)
	s.keys("e")
	s.wait(`Export this view as`)
	s.keys("s")
	file := strings.TrimPrefix(s.wait(`written: \S+`), "written: ")
	b, err := os.ReadFile(filepath.Join(filepath.Dir(s.socket), file))
	if err != nil || !strings.Contains(string(b), "Round over vts") {
		t.Errorf("the export: %v, %.60q", err, b)
	}
	s.keys("w")
	s.wait(`vts +5 hosts.*5 in line +0 adrift`)
	s.keys("e", "c")
	s.wait(`written: yare-waterline-\S+csv`)
	s.keys("q")
	s.ends("0")
}

// One command is all the set-up there is: it writes the demo's files, starts the simulation and opens the screens. Its state lies where
// --demo finds it again, and apart from that of a real estate.
func TestDemoOpensByItself(t *testing.T) {
	home := t.TempDir()
	t.Setenv("XDG_STATE_HOME", home)
	t.Cleanup(func() { run(t, "--demo", "sim", "stop") })
	s := open(t, 120, 36, []string{"XDG_STATE_HOME=" + home}, "demo", "--speed", "5")
	s.wait(`needs you`)
	s.wait(`simulated, .*×5`)
	s.keys("q")
	s.ends("0")
	if _, err := os.Stat(filepath.Join(home, "yare", "demo", "estate.yaml")); err != nil {
		t.Error(err)
	}
	if r := run(t, "--demo", "check", "vts"); r.code != 3 {
		t.Errorf("the simulation does not go on after the screens: exit %d, %s", r.code, r.err)
	}
	if r := run(t, "check", "vts"); r.code != 1 || !strings.Contains(r.err, "there is no estate file") {
		t.Errorf("the demo was taken for a real estate: exit %d, %s", r.code, r.err)
	}
}

// Closing the screens leaves the round running; a second terminal can watch it and stop it.
func TestARoundOutlivesItsScreens(t *testing.T) {
	dir := demoState(t, 100)
	s := open(t, 120, 36, nil, "--state", dir)
	s.wait(`4 adrift`)
	s.keys("r")
	s.wait(`planned, nothing is touched yet`)
	s.keys("s", "=Patches", "Enter")
	s.wait(`Are you sure\?`)
	s.keys("y")
	s.wait(`running +by`)
	s.keys("q")
	s.ends("0")
	second := open(t, 100, 30, nil, "--state", dir)
	second.wait(`vts`)
	second.keys("r")
	second.wait(`running +by`)
	second.wait(`(jacana|heron) +▸(drain|change|restart)`)
	second.keys("x")
	second.wait(`stopping at the next safe point|stopped; g goes on`)
	second.wait(`stopped; g goes on`)
	if r := run(t, "round", "watch", "vts", "--state", dir); r.code != 0 || !strings.Contains(r.out, "stopped") {
		t.Errorf("watch: exit %d\n%s%s", r.code, r.out, r.err)
	}
	for _, h := range world(t, dir).Hosts {
		if h.Reading.Closed != nil && h.Reading.Closed.Round != "" {
			t.Errorf("%s was left closed by a round that stopped at a safe point", h.Name)
		}
	}
}

func TestFailedRoundSaysWhatNext(t *testing.T) {
	dir := demoState(t, 400)
	if r := run(t, "sim", "fault", "jacana", "install-fails", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	if r := run(t, "round", "start", "vts", "--state", dir); r.code != 1 || !strings.Contains(r.err, "the round failed: jacana: install failed") {
		t.Fatalf("exit %d: %s", r.code, r.err)
	}
	s := open(t, 160, 45, nil, "--state", dir)
	s.wait(`!! vts: the round failed: jacana: install failed`)
	s.keys("Tab", "Enter")
	s.wait(`failed: needs you, then g goes on`)
	s.wait(`jacana +FAILED, closed`)
	s.wait(`→ see the host's own log of that moment`)
	s.keys("g")
	s.wait(`looked up on the hosts`)
	s.keys("y")
	s.wait(`finished +by`)
}

func TestSmallTerminalKeysAndNarrowing(t *testing.T) {
	dir := demoState(t, 1)
	s := open(t, 80, 24, []string{"NO_COLOR=1"}, "--state", dir)
	s.wait(`4 adrift`)
	s.wait(`▸heron`)
	for _, line := range strings.Split(s.text(), "\n") {
		if n := len([]rune(line)); n > 80 {
			t.Errorf("a line of %d cells: %q", n, line)
		}
	}
	s.keys("?")
	s.wait(`Help: Waterline`)
	s.wait(`close the screens; rounds go on`)
	s.keys("Escape")
	s.gone(`Help: Waterline`)
	s.keys("/", "=bittern", "Enter")
	s.wait(`narrowed to “bittern”`)
	s.wait(`▸bittern`)
	if strings.Contains(s.text(), "heron") {
		t.Error("narrowed to bittern, heron is still shown")
	}
	s.keys("Escape")
	s.gone(`narrowed`)
	s.keys(":", "=host curlew", "Enter")
	s.wait(`Host › tides › curlew`)
	s.keys("/", "=withdrawn", "Enter")
	s.wait(`✗ fw:lorne-l25 \(slot 2\)`)
	s.keys("Escape")
	s.gone(`narrowed`)
	s.keys("/", "=corran", "Enter")
	s.wait(`narrowed to “corran”`)
	s.wait(`fw:corran-bmc`)
	s.keys("Escape")
	s.gone(`narrowed`)
	s.keys("Escape")
	s.wait(`needs you`)
	s.click("ibis")
	s.wait(`▸ibis`)
	s.click("ibis")
	s.wait(`Host › vts › ibis`)
	s.tmux("resize-window", "-x", "140", "-y", "40")
	s.wait(`what was read`)
	s.keys("Escape")
	s.wait(`needs you`)
	s.keys("t", ":", "=nonsense that is nowhere", "Enter")
	s.wait(`no command is called nonsense`)
	s.keys("q")
	s.ends("0")
}

func TestEmptyAndFailedEstates(t *testing.T) {
	dir := demoState(t, 1)
	empty := filepath.Join(dir, "empty.yaml")
	if err := os.WriteFile(empty, []byte("estate: Nobody\nconnector:\n  kind: sim\n  dir: sim\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s := open(t, 80, 24, nil, "--state", dir, "--estate", empty)
	s.wait(`There is no cluster in this estate yet`)
	s.keys("q")
	s.ends("0")
	r := run(t, "--state", t.TempDir())
	if r.code != 1 || !strings.Contains(r.err, "try the demo estate with --demo") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
}

// The simulation is ended under the screens: they say so, and go on showing what was known.
func TestTheEstateFallsSilent(t *testing.T) {
	dir := demoState(t, 1)
	s := open(t, 140, 40, nil, "--state", dir)
	s.wait(`4 adrift`)
	run(t, "sim", "stop", "--state", dir)
	s.keys("R")
	s.wait(`silent`)
	s.wait(`!! heron: does not answer`)
	s.keys("Enter")
	s.wait(`Host › vts › heron`)
	s.wait(`packages is unread`)
	s.keys("q")
	s.ends("0")
}

// From "here is a vendor's zip" to "these drives on these hosts are behind", and a baseline edited with its effect told, without leaving the terminal.
func TestCatalogueBundleAndBaselineOnTheScreens(t *testing.T) {
	dir := demoState(t, 1)
	s := open(t, 160, 45, []string{"EDITOR=" + fakeEditor(t)}, "--state", dir)
	s.wait(`needs you`)
	s.keys("c")
	s.wait(`synced .* 4 releases`) // what is due is synced by itself
	s.wait(`fw:ulva-w31 +1.9`)
	s.keys("i", "="+filepath.Join(dir, "bundles", "ulva-2026q4.zip"), "Enter")
	s.wait(`fw:ulva-w31 1.10`)
	s.wait(`2 files with the hash`)
	s.keys("Escape")
	s.wait(`nothing of it was taken in`)
	s.keys("i", "="+filepath.Join(dir, "estate.yaml"), "Enter")
	s.wait(`failed: estate.yaml: the bundle is refused`)
	s.keys("i", "="+filepath.Join(dir, "bundles", "ulva-2026q4.zip"), "Enter")
	s.wait(`a takes it in`)
	s.keys("a")
	s.wait(`was taken in`)
	s.wait(`fw:ulva-w31 +1.10 +▾ high +15 +30`)
	s.keys("/", "=ulva", "Enter")
	s.wait(`narrowed to “ulva”`)
	s.wait(`▴ ╫ 1.10 +╫ ◂`)
	s.keys("K", "=drives", "Enter")
	s.wait(`kept as @drives`)
	s.keys("Escape")
	s.gone(`narrowed`)
	s.keys("b")
	s.wait(`Baselines`)
	s.keys("Down")
	s.wait(`platform-november +rank 20`)
	s.keys("Enter")
	s.wait(`unchanged`)
	s.keys("C-e") // the other editor asks for another version of ssh
	s.wait(`changed, not saved`)
	s.wait(`1[4-6] hosts would fall out of line`)
	s.keys("C-s", "=a newer ssh", "Enter")
	s.wait(`was saved as a new version`)
	s.wait(`version 2`)
	s.wait(`a newer ssh`)
	s.keys("e", "c")
	s.wait(`written: yare-baselines-platform-november.*csv`)
	s.keys("q")
	s.ends("0")
	if r := run(t, "baseline", "log", "platform-november", "--state", dir); !strings.Contains(r.out, "a newer ssh") || r.code != 0 {
		t.Errorf("%+v", r)
	}
	if r := run(t, "check", "lapwing", "--narrow", "@drives", "--state", dir); r.code != 3 || !strings.Contains(r.out, "fw:ulva-w31 (bay 1)  behind") || strings.Contains(r.out, "lapwing  deb:openssh") {
		t.Errorf("%+v", r)
	}
}

// fakeEditor is an editor that asks for a newer ssh than there is and goes away.
func fakeEditor(t *testing.T) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "editor")
	if err := os.WriteFile(name, []byte("#!/bin/sh\nsed -i 's/version: 10.0-brae7/version: 1:10.9p1-1/' \"$1\"\n"), 0o700); err != nil {
		t.Fatal(err)
	}
	return name
}
