// Package e2e drives the built program as its users do: commands, a killed process, and the screens in tmux.
package e2e

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/e2e/drive"
	"yareharbour/sim"
	"yareharbour/sim/conn"
	"yareharbour/store"
)

var yare string // the built program

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "yare-e2e-")
	if err != nil {
		panic(err)
	}
	yare = filepath.Join(dir, "yare")
	build := exec.Command("go", "build", "-o", yare, "yareharbour/cmd/yare")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		panic(err)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// A result is kept by go test only as long as the files that its tests opened are the same; that the program was built
// of others it does not know by itself.
func TestResultsAreOfThisProgram(t *testing.T) {
	t.Parallel()
	n := 0
	err := filepath.WalkDir("..", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(name, ".go") && !strings.HasSuffix(name, ".sh") &&
			!strings.Contains(name, "demo/data") {
			return err
		}
		n++
		f, err := os.Open(name)
		if err == nil {
			err = f.Close()
		}
		return err
	})
	if err != nil || n < 100 {
		t.Errorf("%d files: %v", n, err)
	}
}

// result is what a command printed and how it ended.
type result struct {
	out, err string
	code     int
}

func run(t *testing.T, args ...string) result {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 4*drive.Patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, yare, args...)
	var out, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &stderr
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatalf("yare %s: %v", strings.Join(args, " "), err)
	}
	return result{out.String(), stderr.String(), cmd.ProcessState.ExitCode()}
}

// demoState is a state directory with the demo estate, its simulation running at that speed until the test ends.
func demoState(t *testing.T, speed int) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "yare-e2e-state-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { // a round's own process may still be writing its last words there
		for start := time.Now(); os.RemoveAll(dir) != nil && time.Since(start) < drive.Patience; {
			time.Sleep(50 * time.Millisecond)
		}
	})
	startSim(t, dir, speed)
	return dir
}

// startSim simulates the estate of a directory until the test ends, and returns when it answers.
func startSim(t *testing.T, dir string, speed int) {
	t.Helper()
	cmd := exec.Command(yare, "sim", "--state", dir, "--speed", fmt.Sprint(speed), "--idle", "10m")
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	dial(t, dir).Hangup()
}

func dial(t *testing.T, dir string) *conn.Connector {
	t.Helper()
	for start := time.Now(); ; time.Sleep(10 * time.Millisecond) {
		c, err := conn.Dial(t.Context(), filepath.Join(dir, "sim"))
		if err == nil {
			return c
		}
		if time.Since(start) > drive.Patience {
			t.Fatal(err)
		}
	}
}

func world(t *testing.T, dir string) *sim.World {
	t.Helper()
	c := dial(t, dir)
	defer c.Hangup()
	w, err := c.World(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return w
}

func TestDemoRun(t *testing.T) {
	t.Parallel()
	out := filepath.Join(t.TempDir(), "reports")
	r := run(t, "demo", "--run", "--out", out)
	if r.code != 0 {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	for _, want := range []string{"vts, before the round:", "finished: every host has been visited",
		"0 adrift, 0 unread, 0 excepted or not applying\nreports are in"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("it never said %q:\n%s", want, r.out)
		}
	}
	for file, begins := range map[string]string{"drift-before.csv": "host,component", "drift-after.json": "{",
		"round.txt": "Round ", "round.svg": "<?xml",
		"round.pdf": "%PDF", "round.html": "<!DOCTYPE html>", "waterline.html": "<!DOCTYPE html>", "waterline.svg": "<?xml", "waterline.pdf": "%PDF"} {
		b, err := os.ReadFile(filepath.Join(out, file))
		if err != nil || !strings.HasPrefix(string(b), begins) {
			t.Errorf("%s: %v, begins %.20q", file, err, b)
		}
	}
	story, err := os.ReadFile(filepath.Join(out, "round.txt"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Problems on the way", "the image was refused", "Requests and decisions", "go on", "guest notices: shut down for", "it runs again, on",
		"where its time went", "proven at"} {
		if !strings.Contains(string(story), want) {
			t.Errorf("the report does not tell %q:\n%s", want, story)
		}
	}
}

// Whatever is kept is its owner's alone: the demo's files, what a feed brought, the journal, the configurations of
// hosts.
func TestTheStateIsItsOwnersAlone(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	for _, args := range [][]string{{"feed", "sync"}, {"round", "start", "vts", "--hosts", "knot"}} {
		if r := run(t, append(args, "--state", dir)...); r.code != 0 {
			t.Fatalf("%v: exit %d %s", args, r.code, r.err)
		}
	}
	n := 0
	err := filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		i, err := e.Info()
		if err == nil && i.Mode()&os.ModeSymlink == 0 && i.Mode().Perm()&0o077 != 0 && name != dir {
			t.Errorf("%s: %v", name, i.Mode())
		}
		n++
		return err
	})
	if err != nil || n < 30 {
		t.Errorf("%d files, %v", n, err)
	}
	kept, _ := filepath.Glob(filepath.Join(dir, "kept", "configurations", "*", "knot.json"))
	if len(kept) != 1 {
		t.Errorf("the configuration of knot: %v", kept)
	}
}

// The process of a round is killed at each of its steps, started again and resumed: the end is as if nothing had
// happened, and nothing was done twice on a host.
func TestKilledAtEachStep(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 60) // slow enough that a kill strikes the visit that it is meant for, on a busy machine too
	before := world(t, dir)
	// in the order of the first visit that has them all: others are to come after the last
	steps := []string{"stage", "move", "close", "backup", "flash", "install", "restart", "prove", "reopen"}
	args := []string{"round", "start", "vts", "--hosts", "heron", "--reason", "killed on purpose", "--state", dir}
	for _, step := range steps {
		killAt(t, dir, step, args)
		args = []string{"round", "resume", "vts", "--state", dir}
	}
	// the last kill may have come when all was written
	if r := run(t, args...); r.code != 0 && !strings.Contains(r.err, "is finished") {
		t.Fatalf("the last resume: exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, "check", "vts/heron", "--state", dir); r.code != 0 {
		t.Errorf("after the round heron is not in line: exit %d\n%s", r.code, r.out)
	}
	after := world(t, dir)
	if len(after.Restarts) > 0 {
		t.Errorf("guests were started again: %v", after.Restarts)
	}
	running := func(w *sim.World) (n int) {
		for _, h := range w.Hosts {
			n += len(h.Reading.RunningGuests())
		}
		return n
	}
	if a, b := running(before), running(after); a != b || a == 0 {
		t.Errorf("%d guests ran before and %d run now", a, b)
	}
	count := map[string]int{}
	for _, act := range after.Acts {
		count[act]++
	}
	// heron has two passes and two adapters with the same firmware; everything else happens once, but for what may be
	// done again by whoever was killed before it was written that it was done.
	most := map[string]int{"restart heron": 2, "flash fw:lorne-l25 on heron": 2}
	for act, n := range count {
		limit := cmp.Or(most[act], 1)
		if strings.HasPrefix(act, "stage") || strings.HasPrefix(act, "keep") {
			limit = 1 + len(steps)
		}
		if n > limit {
			t.Errorf("%q was done %d times", act, n)
		}
	}
}

// killAt runs the command, and kills its process when the step's intent (or, of a step that only looks, its outcome) is
// in the journal.
func killAt(t *testing.T, dir string, step string, args []string) {
	t.Helper()
	s, err := store.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	follow := journalOf(t, s, args[2])
	follow() // what is there already
	var out bytes.Buffer
	cmd := exec.Command(yare, args...)
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for start := time.Now(); !reaches(follow(), step); time.Sleep(2 * time.Millisecond) {
		if time.Since(start) > drive.Patience {
			t.Fatalf("%s was never reached:\n%s", step, out.String())
		}
	}
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err == nil {
		t.Fatalf("the round had ended before it could be killed at %s", step)
	}
}

// journalOf reads on in the journal of a cluster's newest round each time that it is called: whoever waits for an entry
// must not read all of it again, or he comes too late.
func journalOf(t *testing.T, s *store.Store, cluster string) func() []course.Event {
	var chain *course.Chain
	id := ""
	return func() []course.Event {
		t.Helper()
		head, err := s.Latest(t.Context(), cluster)
		if err != nil {
			return nil
		}
		if head.ID != id {
			id, chain = head.ID, course.NewChain(head.ID)
		}
		events, err := s.Journal(t.Context(), id, chain)
		if err != nil {
			t.Fatal(err)
		}
		return events
	}
}

// reaches tells whether an act of the step was begun, or of "STEP taken", taken on.
func reaches(events []course.Event, step string) bool {
	if step, taken := strings.CutSuffix(step, " taken"); taken {
		return slices.ContainsFunc(events, func(e course.Event) bool { return e.Kind == course.Accepted && string(e.Act.Kind) == step })
	}
	return slices.ContainsFunc(events, func(e course.Event) bool {
		return e.Kind == course.Intent && string(e.Act.Kind) == step || e.Kind == course.Proving && step == "prove"
	})
}

func TestOneRunnerPerCluster(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 60)
	first := exec.Command(yare, "round", "start", "vts", "--reason", "first", "--state", dir)
	if err := first.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		_ = first.Process.Kill()
		_ = first.Wait()
	}()
	s, err := store.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	follow := journalOf(t, s, "vts")
	for start := time.Now(); !reaches(follow(), "stage"); time.Sleep(5 * time.Millisecond) {
		if time.Since(start) > drive.Patience {
			t.Fatal("the first round never began")
		}
	}
	for _, args := range [][]string{{"round", "start", "vts"}, {"round", "resume", "vts"}} {
		r := run(t, append(args, "--state", dir)...)
		if r.code != 1 || !strings.Contains(r.err, fmt.Sprintf("process %d on", first.Process.Pid)) {
			t.Errorf("%v: exit %d, %s", args, r.code, r.err)
		}
	}
	if r := run(t, "round", "stop", "vts", "--state", dir); r.code != 0 || !strings.Contains(r.out, "safe point") {
		t.Errorf("stop: exit %d %s%s", r.code, r.out, r.err)
	}
}

// aptUpgradable is what apt itself says: package → installed and candidate version.
func aptUpgradable(t *testing.T) map[string][2]string {
	t.Helper()
	if _, err := exec.LookPath("apt"); err != nil {
		t.Skip("no apt on this machine")
	}
	cmd := exec.Command("apt", "list", "--upgradable")
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	out, err := cmd.Output()
	if err != nil {
		t.Skipf("apt list --upgradable: %v", err)
	}
	up := map[string][2]string{}
	for line := range strings.Lines(string(out)) {
		f := strings.Fields(line)
		if len(f) < 6 {
			continue
		}
		name, _, _ := strings.Cut(f[0], "/")
		up[name] = [2]string{strings.TrimSuffix(f[5], "]"), f[1]}
	}
	return up
}

func TestLocalCheckSaysWhatAptSays(t *testing.T) {
	t.Parallel()
	if m, _ := filepath.Glob("/var/lib/apt/lists/*_Packages*"); len(m) == 0 {
		t.Skip("apt has no indices on this machine; apt-get update fetches them")
	}
	want := aptUpgradable(t)
	r := run(t, "check", "--local", "--json")
	if r.code != 0 && r.code != 3 || (r.code == 3) != (len(want) > 0) {
		t.Fatalf("exit %d with %d packages upgradable: %s", r.code, len(want), r.err)
	}
	var d struct {
		Verdicts []struct{ Component, Verdict, Has, Wants string }
	}
	if err := json.Unmarshal([]byte(r.out), &d); err != nil {
		t.Fatal(err)
	}
	if len(d.Verdicts) == 0 {
		t.Fatal("no verdicts at all")
	}
	got := map[string][2]string{}
	for _, v := range d.Verdicts {
		if v.Verdict == "behind" {
			got[strings.TrimPrefix(v.Component, "deb:")] = [2]string{v.Has, v.Wants}
		}
	}
	for name, versions := range want {
		if got[name] != versions {
			t.Errorf("%s: apt says %v, yare %v", name, versions, got[name])
		}
	}
	for name := range got {
		if _, ok := want[name]; !ok {
			t.Errorf("%s is behind for yare and not upgradable for apt", name)
		}
	}
}

// A baseline "severity high and above" built from an OSV file: what it finds on this machine is what is upgradable and
// mended by an advisory of that severity.
func TestLocalCheckBySeverityOfAdvisories(t *testing.T) {
	t.Parallel()
	if m, _ := filepath.Glob("/var/lib/apt/lists/*_Packages*"); len(m) == 0 {
		t.Skip("apt has no indices on this machine; apt-get update fetches them")
	}
	up := aptUpgradable(t)
	if len(up) == 0 {
		t.Skip("nothing is upgradable on this machine")
	}
	sources := aptSources(t, up)
	dir := t.TempDir()
	const critical, low = "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H", "CVSS:3.1/AV:L/AC:H/PR:H/UI:R/S:U/C:L/I:N/A:N"
	var records []string
	want := map[string]bool{}
	n := 0
	// every other upgradable package gets a severe advisory about its source, the rest a mild one
	for name := range up {
		source, ver := sources[name][0], sources[name][1]
		vector := low
		if n%2 == 0 {
			vector = critical
		}
		if n++; n > 40 {
			break
		}
		records = append(records,
			fmt.Sprintf(`{"id":"T-%d","modified":"2026-11-01T00:00:00Z","severity":[{"type":"CVSS_V3","score":%q}],
"affected":[{"package":{"ecosystem":"Debian:12","name":%q},
			"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"},{"fixed":%q}]}]}]}`, n, vector, source, ver))
		for other := range up { // of what is built from one source, all is mended at once
			if vector == critical && sources[other] == sources[name] {
				want[other] = true
			}
		}
	}
	osv, base := filepath.Join(dir, "osv.json"), filepath.Join(dir, "b.yaml")
	if err := errors.Join(os.WriteFile(osv, []byte("["+strings.Join(records, ",")+"]"), 0o600),
		os.WriteFile(base, []byte("baseline: security\nclauses:\n  - component: deb:*\n    posture: if present\n"+
			"    follow: newest\n    severity: high\n"), 0o600)); err != nil {
		t.Fatal(err)
	}
	r := run(t, "check", "--local", "--baseline", base, "--advisories", osv, "--narrow", "verdict=behind", "--json")
	var d struct {
		Verdicts []struct{ Component, Severity string }
	}
	if err := json.Unmarshal([]byte(r.out), &d); err != nil {
		t.Fatal(err, r.err)
	}
	got := map[string]bool{}
	for _, v := range d.Verdicts {
		got[strings.TrimPrefix(v.Component, "deb:")] = true
		if v.Severity != "critical" {
			t.Errorf("%s has the severity %s", v.Component, v.Severity)
		}
	}
	for name := range want {
		if !got[name] {
			t.Errorf("%s has a critical advisory against it and is not found", name)
		}
	}
	for name := range got {
		if !want[name] {
			t.Errorf("%s is found and has no critical advisory against it", name)
		}
	}
	if len(want) == 0 {
		t.Error("the test proves nothing")
	}
}

// aptSources are the source packages of what is upgradable, each with the source's own version, as apt tells them.
func aptSources(t *testing.T, up map[string][2]string) map[string][2]string {
	t.Helper()
	args := []string{"show"}
	for name, v := range up {
		args = append(args, name+"="+v[1])
	}
	out, err := exec.Command("apt-cache", args...).Output()
	if err != nil {
		t.Fatalf("apt-cache show: %v", err)
	}
	sources := map[string][2]string{}
	name := ""
	for line := range strings.Lines(string(out)) {
		field, value, _ := strings.Cut(strings.TrimSpace(line), ": ")
		switch field {
		case "Package":
			name = value
			sources[name] = [2]string{name, up[name][1]}
		case "Source":
			s, v, own := strings.Cut(value, " (")
			sources[name] = [2]string{s, up[name][1]}
			if own {
				sources[name] = [2]string{s, strings.TrimSuffix(v, ")")}
			}
		}
	}
	return sources
}

// move migrates a guest as somebody else would.
func move(t *testing.T, c *conn.Connector, from string, g estate.Guest, to string) {
	t.Helper()
	s, err := c.Open(t.Context(), from)
	if err != nil {
		t.Fatal(err)
	}
	o := connector.Order{Act: act.Act{ID: "by hand", Kind: act.Move, Host: from, Guest: g.Name,
		GuestID: g.UID(), To: to}}
	w, err := c.World(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	o.Epoch = w.Hosts[from].Reading.Guard.Epoch
	if _, err := s.(connector.Doer).Do(t.Context(), o); err != nil {
		t.Fatal(err)
	}
	for start := time.Now(); time.Since(start) < drive.Patience; time.Sleep(5 * time.Millisecond) {
		if tr, err := s.(connector.Doer).Trace(t.Context(), o.Act, ""); err == nil && tr.State == act.Ended {
			return
		}
	}
	t.Fatal("the guest never arrived")
}

// Simulated hosts take orders as they are, and there is nothing to take away from them; what would be put on real ones
// can be read.
func TestHostsThatNeedNothing(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 60)
	if r := run(t, "host", "prepare", "vts", "--state", dir); r.code != 0 ||
		!strings.Contains(r.out, "takes orders as it is") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, "host", "remove", "heron", "--yes", "--state", dir); r.code != 0 {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, "host", "remove", "ruff", "--yes", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "looking at this cluster only") {
		t.Errorf("a host that is only looked at: exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, "host", "prepare", "--print"); r.code != 0 || !strings.Contains(r.out, "#!/bin/sh") ||
		!strings.Contains(r.out, "\nlock() {\n\texec 9>>lock\n") || strings.Count(r.out, "\n") < 500 {
		t.Errorf("exit %d\n%.200s%s", r.code, r.out, r.err)
	}
}

// edit puts one text in the place of another in a file, which has it.
func edit(t *testing.T, file, old, now string) {
	t.Helper()
	text, err := os.ReadFile(file)
	if err == nil && !strings.Contains(string(text), old) {
		t.Fatalf("%s has no %q", file, old)
	}
	if err == nil {
		err = os.WriteFile(file, []byte(strings.Replace(string(text), old, now, 1)), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
}
