package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/e2e/drive"
)

// The way of an administrator: look, go into a host, ask why, run a round to its end, export, leave.
func TestScreensFromLookingToAFinishedRound(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 300)
	s := drive.Open(t, yare, 160, 45, nil, "--state", dir)
	s.Wait(`needs you +\d+, worst first`)
	s.Wait(`1 in line +4 adrift`)
	s.Wait(`closed`)
	s.Keys("Enter")
	s.Wait(`Host › vts › heron`)
	s.Wait(`deb:linux-image-brae +30.4-brae1 +30.6-brae1 +behind, high`)
	s.Wait(`The baseline platform-november`)
	s.Keys("Right", "Right")
	s.Wait(`Host › vts › jacana`)
	s.Keys("Escape")
	s.Wait(`Waterline`)
	s.Keys("d")
	s.Wait(`siblings Quay 1: 5 hosts, 2 alike`)
	s.Wait(`✗ 7.4.0`)
	s.Keys("Escape")
	s.Wait(`Waterline`)
	s.Keys("p")
	s.Wait(`planned, nothing is touched +visits 4`)
	s.Keys("e", "j")
	s.Wait(`written: yare-plan-vts-\S+json`)
	s.Keys("s")
	s.Wait(`reason for the round:`)
	s.Keys("=November patches", "Enter")
	s.Wait(`Start the round over vts\?`)
	s.Keys("y")
	s.Wait(`running +by .*: November patches`)
	s.Wait(`under way`)
	s.Wait(`finished +by`)
	s.Wait(`4 of 4 hosts, 21 of 21 moves`)
	s.Keys("e")
	s.Wait(`Export this view as`)
	s.Keys("s")
	file := strings.TrimPrefix(s.Wait(`written: \S+`), "written: ")
	b, err := os.ReadFile(filepath.Join(filepath.Dir(s.Socket), file))
	if err != nil || !strings.Contains(string(b), "Round over vts") {
		t.Errorf("the export: %v, %.60q", err, b)
	}
	s.Keys("w")
	s.Wait(`vts +5 hosts.*5 in line +0 adrift`)
	s.Keys("e", "c")
	s.Wait(`written: yare-waterline-\S+csv`)
	s.Keys("q")
	s.Ends("0")
}

// One command is all the set-up there is: it writes the demo's files, starts the simulation and opens the screens. Its
// state lies where --demo finds it again, and apart from that of a real estate.
func TestDemoOpensByItself(t *testing.T) {
	home := t.TempDir()
	t.Setenv("XDG_STATE_HOME", home)
	t.Cleanup(func() { run(t, "--demo", "sim", "stop") })
	s := drive.Open(t, yare, 120, 36, []string{"XDG_STATE_HOME=" + home}, "demo", "--speed", "5")
	s.Wait(`needs you`)
	s.Wait(`simulated, .*×5`)
	s.Keys("q")
	s.Ends("0")
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
	t.Parallel()
	dir := demoState(t, 100)
	s := drive.Open(t, yare, 120, 36, nil, "--state", dir)
	s.Wait(`4 adrift`)
	s.Keys("p")
	s.Wait(`planned, nothing is touched`)
	s.Keys("s", "=Patches", "Enter")
	s.Wait(`Start the round over vts\?`)
	s.Keys("y")
	s.Wait(`running +by`)
	s.Keys("q")
	s.Ends("0")
	second := drive.Open(t, yare, 100, 30, nil, "--state", dir)
	second.Wait(`vts`)
	second.Keys("r")
	second.Wait(`running +by`)
	second.Wait(`(jacana|heron) +▸(drain|change|restart)`)
	second.Keys("x")
	second.Wait(`stopping at the next safe point|stopped; g resumes it`)
	second.Wait(`stopped; g resumes it`)
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
	t.Parallel()
	dir := demoState(t, 400)
	if r := run(t, "sim", "fault", "jacana", "install-fails", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	if r := run(t, "round", "start", "vts", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "the round failed: jacana: flash failed") {
		t.Fatalf("exit %d: %s", r.code, r.err)
	}
	s := drive.Open(t, yare, 160, 45, nil, "--state", dir)
	s.Wait(`!! vts: the round failed: jacana: flash failed`)
	s.Keys("Tab", "Enter")
	s.Wait(`failed: it needs you; f shows the ways out`)
	s.Wait(`jacana +FAILED, closed`)
	s.Wait(`→ see the BMC's own log of that moment`)
	s.Keys("g")
	s.Wait(`looked up on the hosts`)
	s.Keys("y")
	s.Wait(`finished +by`)
}

func TestSmallTerminalKeysAndNarrowing(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 1)
	s := drive.Open(t, yare, 80, 24, []string{"NO_COLOR=1"}, "--state", dir)
	s.Wait(`4 adrift`)
	s.Wait(`▸heron`)
	for _, line := range strings.Split(s.Text(), "\n") {
		if n := len([]rune(line)); n > 80 {
			t.Errorf("a line of %d cells: %q", n, line)
		}
	}
	s.Keys("?")
	s.Wait(`Help: Waterline`)
	s.Keys("End")
	s.Wait(`close the screens; rounds go on`)
	s.Keys("Escape")
	s.Gone(`Help: Waterline`)
	s.Keys("/", "=bittern", "Enter")
	s.Wait(`narrowed to “bittern”`)
	s.Wait(`▸bittern`)
	if strings.Contains(s.Text(), "heron") {
		t.Error("narrowed to bittern, heron is still shown")
	}
	s.Keys("Escape")
	s.Gone(`narrowed`)
	s.Keys(":", "=host curlew", "Enter")
	s.Wait(`Host › tides › curlew`)
	s.Keys("/", "=withdrawn", "Enter")
	s.Wait(`narrowed to “withdrawn”`)
	s.Wait(`✗ fw:lorne-l25 \(slot 2\)`)
	s.Keys("Escape")
	s.Gone(`narrowed`)
	s.Keys("/", "=corran", "Enter")
	s.Wait(`narrowed to “corran”`)
	s.Wait(`fw:corran-bmc`)
	s.Keys("Escape")
	s.Gone(`narrowed`)
	s.Keys("Escape")
	s.Wait(`needs you`)
	s.Click("ibis")
	s.Wait(`▸ibis`)
	s.Click("ibis")
	s.Wait(`Host › vts › ibis`)
	s.Tmux("resize-window", "-x", "140", "-y", "40")
	s.Wait(`what was read`)
	s.Keys("Escape")
	s.Wait(`needs you`)
	s.Keys("t", ":", "=nonsense that is nowhere", "Enter")
	s.Wait(`nothing is called nonsense`)
	s.Keys("q")
	s.Ends("0")
}

func TestEmptyAndFailedEstates(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 1)
	empty := filepath.Join(dir, "empty.yaml")
	if err := os.WriteFile(empty, []byte("estate: Nobody\nconnector:\n  kind: sim\n  dir: sim\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s := drive.Open(t, yare, 80, 24, nil, "--state", dir, "--estate", empty)
	s.Wait(`There is no cluster in this estate yet`)
	s.Keys("q")
	s.Ends("0")
	r := run(t, "--state", t.TempDir())
	if r.code != 1 || !strings.Contains(r.err, "try the demo estate with --demo") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
}

// The simulation is ended under the screens: they say so, and go on showing what was known.
func TestTheEstateFallsSilent(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 1)
	s := drive.Open(t, yare, 140, 40, nil, "--state", dir)
	s.Wait(`4 adrift`)
	run(t, "sim", "stop", "--state", dir)
	s.Keys("R")
	s.Wait(`silent`)
	s.Wait(`!! vts: does not answer on heron, ibis`)
	s.Keys("Enter")
	s.Wait(`Host › vts › heron`)
	s.Wait(`packages is unread`)
	s.Keys("q")
	s.Ends("0")
}

// From "here is a vendor's zip" to "these drives on these hosts are behind", and a baseline edited with its effect
// told, without leaving the terminal.
func TestCatalogueBundleAndBaselineOnTheScreens(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 1)
	s := drive.Open(t, yare, 160, 45, []string{"EDITOR=" + fakeEditor(t)}, "--state", dir)
	s.Wait(`needs you`)
	s.Keys("c")
	s.Wait(`ago: 4 releases`) // what is due is synced by itself
	s.Wait(`fw:ulva-w31 +1.9`)
	s.Keys("i", "="+filepath.Join(dir, "bundles", "ulva-2026q4.zip"), "Enter")
	s.Wait(`fw:ulva-w31 1.10`)
	s.Wait(`2 files with the hash`)
	s.Keys("Escape")
	s.Wait(`nothing of ulva-2026q4.zip was taken in`)
	s.Keys("i", "="+filepath.Join(dir, "estate.yaml"), "Enter")
	s.Wait(`failed: estate.yaml: the bundle is refused`)
	s.Keys("i", "="+filepath.Join(dir, "bundles", "ulva-2026q4.zip"), "Enter")
	s.Wait(`a takes it in`)
	s.Keys("a")
	s.Wait(`was taken in`)
	s.Wait(`fw:ulva-w31 +1.10 +▾ high +15 +30`)
	s.Keys("/", "=ulva", "Enter")
	s.Wait(`narrowed to “ulva”`)
	s.Wait(`▴ ╫ 1.10 +╫ ◂`)
	s.Keys("K", "=drives", "Enter")
	s.Wait(`kept as @drives`)
	s.Keys("Escape")
	s.Gone(`narrowed`)
	s.Keys("b")
	s.Wait(`Baselines`)
	s.Keys("Down")
	s.Wait(`platform-november +rank 20`)
	s.Keys("Enter")
	s.Wait(`unchanged`)
	s.Keys("C-e") // the other editor asks for another version of ssh
	s.Wait(`changed, not saved`)
	s.Wait(`1[4-6] hosts would fall out of line`)
	s.Keys("C-s", "=a newer ssh", "Enter")
	s.Wait(`was saved as a new version`)
	s.Wait(`version 2`)
	s.Wait(`a newer ssh`)
	s.Keys("e", "c")
	s.Wait(`written: yare-baseline-platform-november.*csv`)
	s.Keys("q")
	s.Ends("0")
	if r := run(t, "baseline", "log", "platform-november", "--state", dir); !strings.Contains(r.out, "a newer ssh") ||
		r.code != 0 {
		t.Errorf("%+v", r)
	}
	if r := run(t, "check", "lapwing", "--narrow", "@drives", "--state", dir); r.code != 3 ||
		!strings.Contains(r.out, "fw:ulva-w31 (bay 1)  behind") || strings.Contains(r.out, "lapwing  deb:openssh") {
		t.Errorf("%+v", r)
	}
}

// fakeEditor is an editor that asks for a newer ssh than there is and goes away.
func fakeEditor(t *testing.T) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "editor")
	if err := os.WriteFile(name, []byte("#!/bin/sh\nsed -i 's/version: 10.0-brae7/version: 10.9-brae1/' \"$1\"\n"),
		0o700); err != nil {
		t.Fatal(err)
	}
	return name
}
