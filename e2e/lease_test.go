package e2e

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/e2e/drive"
	"yareharbour/sim"
	"yareharbour/store"
)

// holdUp is a way to the simulated estate that keeps back the first order of a kind until it is told to let it go.
type holdUp struct {
	kind   act.Name
	caught chan struct{}
	let    chan struct{}
	back   chan string // what the host answered to the order that was kept back
	held   bool
	// answers tells that the host gets the order at once, and its answer is kept back
	answers bool
	once    sync.Once
}

// release lets the order go on.
func (h *holdUp) release() { h.once.Do(func() { close(h.let) }) }

// wayTo makes a second estate file whose hosts are reached through it.
func (h *holdUp) wayTo(t *testing.T, dir string) (estate string) {
	t.Helper()
	a, err := sim.ReadAddress(filepath.Join(dir, "sim"))
	if err != nil {
		t.Fatal(err)
	}
	proxy := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: a.Host})
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var o struct{ Act act.Act }
		text, _ := base64.StdEncoding.DecodeString(r.Header.Get(sim.OrderHeader))
		if json.Unmarshal(text, &o) != nil || o.Act.Kind != h.kind || h.held {
			proxy.ServeHTTP(w, r)
			return
		}
		h.held = true
		body, _ := io.ReadAll(r.Body)
		if !h.answers {
			close(h.caught)
			<-h.let
		}
		late, err := http.NewRequest(r.Method, "http://"+a.Host+r.URL.Path, bytes.NewReader(body))
		if err != nil {
			h.back <- err.Error()
			return
		}
		late.Header = r.Header.Clone()
		resp, err := http.DefaultClient.Do(late)
		if err != nil {
			h.back <- err.Error()
			return
		}
		defer resp.Body.Close()
		answer, _ := io.ReadAll(resp.Body)
		if h.answers {
			close(h.caught)
			<-h.let
		}
		h.back <- string(answer)
		_, _ = w.Write(answer)
	}))
	t.Cleanup(srv.Close)
	t.Cleanup(h.release)
	a.Host = strings.TrimPrefix(srv.URL, "http://")
	writeFile(t, filepath.Join(dir, "sim-by-proxy", "address.json"), marshal(t, a))
	text := string(readFile(t, filepath.Join(dir, "estate.yaml")))
	file := filepath.Join(dir, "by-proxy.yaml")
	writeFile(t, file, []byte(strings.Replace(text, "dir: sim\n", "dir: sim-by-proxy\n", 1)))
	return file
}

func marshal(t *testing.T, v any) []byte {
	t.Helper()
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func readFile(t *testing.T, name string) []byte {
	t.Helper()
	b, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func writeFile(t *testing.T, name string, b []byte) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, b, 0o600); err != nil {
		t.Fatal(err)
	}
}

// shortLease lets the leases of an estate hold for four seconds only: less is lost on a machine that is busy with other
// tests.
func shortLease(t *testing.T, dir string) {
	t.Helper()
	file := filepath.Join(dir, "estate.yaml")
	writeFile(t, file, append([]byte("lease: 4s\n"), readFile(t, file)...))
}

// A runner is stopped (SIGSTOP) when its order is on its way, for longer than its lease. Another finishes the round.
// Then the first is let go on, and its order arrives: nothing happens on any host, and it ends.
func TestAStaleRunnerDoesNothing(t *testing.T) {
	for _, kind := range []act.Name{act.Move, act.Close, act.Install, act.Restart} {
		t.Run(string(kind), func(t *testing.T) {
			t.Parallel()
			dir := demoState(t, 400)
			shortLease(t, dir)
			h := &holdUp{kind: kind, caught: make(chan struct{}), let: make(chan struct{}), back: make(chan string, 1)}
			var out bytes.Buffer
			first := exec.Command(yare, "round", "start", "vts", "--hosts", "ibis", "--state", dir,
				"--estate", h.wayTo(t, dir))
			first.Stdout, first.Stderr = &out, &out
			if err := first.Start(); err != nil {
				t.Fatal(err)
			}
			defer func() { _ = first.Process.Kill() }()
			select {
			case <-h.caught:
			case <-time.After(drive.Patience):
				t.Fatalf("no %s was ordered:\n%s", kind, out.String())
			}
			stopOutsideOfWriting(t, first.Process, dir)
			var r result
			for start := time.Now(); time.Since(start) < drive.Patience; time.Sleep(100 * time.Millisecond) {
				if r = run(t, "round", "resume", "vts", "--state", dir); r.code == 0 ||
					!strings.Contains(r.err, "one cluster has one runner at a time") {
					break
				}
			}
			if r.code != 0 || !strings.Contains(r.out, "finished: every host has been visited") {
				t.Fatalf("the second runner: exit %d\n%s%s", r.code, r.out, r.err)
			}
			before := world(t, dir)
			h.release()
			if err := first.Process.Signal(syscall.SIGCONT); err != nil {
				t.Fatal(err)
			}
			if answer := <-h.back; !strings.Contains(answer, `"stale":true`) {
				t.Errorf("the host answered %s", answer)
			}
			if err := first.Wait(); err == nil {
				t.Errorf("the first runner ended well:\n%s", out.String())
			}
			after := world(t, dir)
			if !slices.Equal(before.Acts, after.Acts) || len(after.Restarts) > 0 {
				t.Errorf("after the second had finished, the first did %v; guests started again: %v",
					after.Acts[len(before.Acts):], after.Restarts)
			}
			if r := run(t, "report", "round", "vts", "--state", dir); r.code != 0 ||
				!strings.Contains(r.out, "finished") {
				t.Errorf("the journal: exit %d\n%s%s", r.code, r.out, r.err)
			}
		})
	}
}

// stopOutsideOfWriting stops a process at a moment at which it does not hold the state file: a process that is stopped
// while it writes lets nobody else write.
func stopOutsideOfWriting(t *testing.T, p *os.Process, dir string) {
	t.Helper()
	s, err := store.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for {
		if err := p.Signal(syscall.SIGSTOP); err != nil {
			t.Fatal(err)
		}
		for !standsStill(t, p.Pid) {
			time.Sleep(time.Millisecond)
		}
		ctx, cancel := context.WithTimeout(t.Context(), 500*time.Millisecond)
		err := s.KeepTimes(ctx, "none", nil)
		cancel()
		if err == nil {
			return
		}
		if err := p.Signal(syscall.SIGCONT); err != nil {
			t.Fatal(err)
		}
		time.Sleep(30 * time.Millisecond)
	}
}

// standsStill tells whether every thread of a process is stopped: each stops when it comes out of the kernel, and not
// when the signal is sent.
func standsStill(t *testing.T, pid int) bool {
	t.Helper()
	threads, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/stat", pid))
	if err != nil || len(threads) == 0 {
		t.Fatalf("process %d is gone: %v", pid, err)
	}
	for _, name := range threads {
		stat, err := os.ReadFile(name)
		_, behind, _ := strings.Cut(string(stat), ") ")
		if err == nil && !strings.HasPrefix(behind, "T") {
			return false
		}
	}
	return true
}

// The simulation dies in the middle of a flash, and the round fails. When it is there again the round goes on, and the
// board is not flashed a second time.
func TestNoSecondFlash(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	start := func() *exec.Cmd {
		cmd := exec.Command(yare, "sim", "--state", dir, "--speed", "300", "--idle", "10m")
		cmd.Stderr = os.Stderr
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		dial(t, dir).Hangup()
		return cmd
	}
	simulation := start()
	s, err := store.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var out bytes.Buffer
	round := exec.Command(yare, "round", "start", "vts", "--hosts", "jacana", "--state", dir)
	round.Stdout, round.Stderr = &out, &out
	if err := round.Start(); err != nil {
		t.Fatal(err)
	}
	follow := journalOf(t, s, "vts")
	for begun := time.Now(); !reaches(follow(), "flash"); time.Sleep(2 * time.Millisecond) {
		if time.Since(begun) > drive.Patience {
			t.Fatalf("nothing was flashed:\n%s", out.String())
		}
	}
	time.Sleep(100 * time.Millisecond)
	if err := simulation.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = simulation.Wait()
	if err := round.Wait(); err == nil {
		t.Fatalf("the round went on without its hosts:\n%s", out.String())
	}
	if err := os.Remove(filepath.Join(dir, "sim", "address.json")); err != nil {
		t.Fatal(err)
	}
	simulation = start()
	defer func() {
		_ = simulation.Process.Signal(syscall.SIGTERM)
		_ = simulation.Wait()
	}()
	if r := run(t, "round", "resume", "vts", "--state", dir); r.code != 0 ||
		!strings.Contains(r.out, "finished: every host has been visited") {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	n := 0
	for _, a := range world(t, dir).Acts {
		if strings.HasPrefix(a, "flash") {
			n++
		}
	}
	if n != 1 {
		t.Errorf("it was flashed %d times: %v", n, world(t, dir).Acts)
	}
}

// db does something to the state file behind the program's back.
func db(t *testing.T, dir string, statements ...string) {
	t.Helper()
	if _, err := exec.LookPath("sqlite3"); err != nil {
		t.Skip("sqlite3 is not here")
	}
	cmd := exec.Command("sqlite3", filepath.Join(dir, store.File))
	cmd.Stdin = strings.NewReader(strings.Join(statements, ";\n") + ";\n")
	if text, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, text)
	}
}

// A journal that was cut or altered is told by everything that reads it, and nothing is done by it; looking at the rest
// goes on.
func TestAJournalThatWasCutIsTold(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	if r := run(t, "round", "start", "vts", "--hosts", "knot", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	db(t, dir, "DELETE FROM journal WHERE seq > 10")
	for _, args := range [][]string{{"round", "watch", "vts"}, {"report", "round", "vts"}, {"round", "resume", "vts"},
		{"round", "start", "vts"}} {
		r := run(t, append(args, "--state", dir)...)
		if r.code == 0 || !strings.Contains(r.err, "entry 11 of the journal: it is missing") {
			t.Errorf("%v: exit %d\n%s%s", args, r.code, r.out, r.err)
		}
	}
	if r := run(t, "round", "watch", "vts", "--state", dir); !strings.Contains(r.out, "round over vts by") {
		t.Errorf("what comes before can't be read: %s", r.out)
	}
	if r := run(t, "check", "vts", "--state", dir); r.code != 0 && r.code != 3 {
		t.Errorf("looking: exit %d\n%s", r.code, r.err)
	}
	s := drive.Open(t, yare, 160, 45, nil, "--state", dir)
	s.Wait(`the journal of its round can't be trusted`)
}

// Yesterday's copy of a state directory is told by the hosts: they have taken orders that it does not know. Where the
// newer copy is gone, a host that was left closed can be adopted.
func TestAnOlderCopyIsTold(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	copyState := func(from, to string) {
		for _, name := range []string{store.File, store.File + "-wal"} {
			if b, err := os.ReadFile(filepath.Join(from, name)); err == nil {
				writeFile(t, filepath.Join(to, name), b)
			}
		}
	}
	old := t.TempDir()
	if r := run(t, "round", "start", "vts", "--hosts", "knot", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	copyState(dir, old)
	if r := run(t, "sim", "fault", "jacana", "install-fails", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	if r := run(t, "round", "start", "vts", "--hosts", "jacana", "--state", dir); r.code == 0 {
		t.Fatal("it was to fail")
	}
	round := world(t, dir).Hosts["jacana"].Reading.Closed.Round
	for _, name := range []string{store.File, store.File + "-wal", store.File + "-shm"} {
		_ = os.Remove(filepath.Join(dir, name))
	}
	copyState(old, dir)
	if r := run(t, "round", "start", "vts", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "jacana has taken orders of the epoch") || !strings.Contains(r.err, "--take-over") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	if r := run(t, "round", "adopt", "godwit", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "that is theirs to open") {
		t.Errorf("a host that a person closed: exit %d: %s", r.code, r.err)
	}
	if r := run(t, "round", "adopt", "jacana", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "for round "+round) || !strings.Contains(r.err, "--yes") {
		t.Errorf("without being sure: exit %d: %s", r.code, r.err)
	}
	r := run(t, "round", "adopt", "jacana", "--yes", "--state", dir)
	if r.code != 0 || !strings.Contains(r.out, "adopt the closing of "+round) {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if m := world(t, dir).Hosts["jacana"].Reading.Closed; m != nil {
		t.Errorf("it is still closed: %+v", m)
	}
	if r := run(t, "round", "adopt", "jacana", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "it is not closed") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
}

// What was approved is what runs: a round is started from the plan that was shown, and refused where facts have moved
// since.
func TestARoundStartsFromThePlanThatWasShown(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	digest := func(args ...string) string {
		r := run(t, append(append([]string{"plan", "vts"}, args...), "--state", dir)...)
		_, after, ok := strings.Cut(r.out, "--plan ")
		if r.code != 0 || !ok {
			t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
		}
		return strings.Fields(after)[0]
	}
	knot, ibis := digest("--hosts", "knot"), digest("--hosts", "ibis")
	if r := run(t, "round", "start", "vts", "--plan", knot, "--hosts", "heron", "--state", dir); r.code == 0 {
		t.Error("a plan was started with other settings than it has")
	}
	if r := run(t, "round", "start", "vts", "--plan", "0123456789ab", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "no plan with that digest is kept") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	if r := run(t, "round", "start", "vts", "--plan", knot, "--reason", "as shown", "--state", dir); r.code != 0 {
		t.Fatalf("exit %d: %s%s", r.code, r.out, r.err)
	}
	if r := run(t, "round", "start", "vts", "--plan", knot, "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "knot: it would not be visited any more: in line") {
		t.Errorf("a plan that was carried out: exit %d: %s", r.code, r.err)
	}
	guest := world(t, dir).Hosts["ibis"].Reading.RunningGuests()[0]
	c := dial(t, dir)
	defer c.Hangup()
	move(t, c, "ibis", guest, "heron")
	if r := run(t, "round", "start", "vts", "--plan", ibis, "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "ibis: the guest "+guest.Name+" has left it") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
}

// A running round leaves a host out where somebody asks for it.
func TestSkip(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 300)
	round := exec.Command(yare, "round", "start", "vts", "--hosts", "jacana,ibis", "--state", dir)
	if err := round.Start(); err != nil {
		t.Fatal(err)
	}
	s, err := store.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	follow := journalOf(t, s, "vts")
	for begun := time.Now(); !reaches(follow(), "stage"); time.Sleep(5 * time.Millisecond) {
		if time.Since(begun) > drive.Patience {
			t.Fatal("it never began")
		}
	}
	if r := run(t, "round", "skip", "vts", "heron", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "has no visit to \"heron\"") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	if r := run(t, "round", "skip", "vts", "ibis", "--state", dir); r.code != 0 ||
		!strings.Contains(r.out, "ibis is left out") {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
	if err := round.Wait(); err != nil {
		t.Error(err)
	}
	head, err := s.Latest(t.Context(), "vts")
	if err != nil {
		t.Fatal(err)
	}
	events, err := s.Journal(t.Context(), head.ID, course.NewChain(head.ID))
	if err != nil {
		t.Fatal(err)
	}
	st, err := course.Fold(events)
	if err != nil || st.Status != course.Finished || st.Visit("ibis").Phase != course.LeftOut ||
		st.Visit("jacana").Phase != course.Over {
		t.Errorf("%s: %s %v", st.Status, st.Detail, err)
	}
}

// Looking works where nothing can be written.
func TestLookingWithAReadOnlyState(t *testing.T) {
	t.Parallel()
	if os.Getuid() == 0 {
		if _, err := exec.LookPath("setpriv"); err != nil {
			t.Skip("root can write everywhere, and setpriv is not here")
		}
	}
	dir := demoState(t, 600)
	if r := run(t, "check", "vts", "--state", dir); r.code != 3 {
		t.Fatal(r.err)
	}
	open := func(mode os.FileMode, files os.FileMode) {
		_ = filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			if e.IsDir() {
				return os.Chmod(name, mode)
			}
			return os.Chmod(name, files)
		})
	}
	open(0o555, 0o444)
	defer open(0o755, 0o644)
	for p := filepath.Dir(dir); p != "/" && p != os.TempDir(); p = filepath.Dir(p) {
		_ = os.Chmod(p, 0o755)
	}
	_ = os.Chmod(filepath.Dir(yare), 0o755)
	for _, args := range [][]string{{"check", "vts"}, {"read", "heron"}, {"report", "drift", "vts"}} {
		argv := append(args, "--state", dir)
		cmd := exec.Command(yare, argv...)
		if os.Getuid() == 0 {
			cmd = exec.Command("setpriv", append([]string{"--reuid", "65534", "--clear-groups", yare}, argv...)...)
		}
		text, err := cmd.CombinedOutput()
		if code := cmd.ProcessState.ExitCode(); code != 0 && code != 3 ||
			!strings.Contains(string(text), "can't be written") {
			t.Errorf("%v: exit %d, %v\n%s", args, code, err, text)
		}
	}
}
