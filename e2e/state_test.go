package e2e

import (
	"bufio"
	"bytes"
	"database/sql"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/store"
)

// following is a round that was begun, with what it has said so far.
type following struct {
	*exec.Cmd
	pipe   io.ReadCloser
	out    *bufio.Reader
	stderr bytes.Buffer
}

// follows begins a round over a host, and reads what it says until that comes.
func follows(t *testing.T, dir, host, until string) *following {
	t.Helper()
	f := &following{Cmd: exec.Command(yare, "round", "start", "vts/"+host, "--reason", "x", "--state", dir)}
	pipe, err := f.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	f.Stderr, f.pipe, f.out = &f.stderr, pipe, bufio.NewReader(pipe)
	if err := f.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = f.Process.Kill(); _ = f.Wait() })
	for {
		line, err := f.out.ReadString('\n')
		if err != nil {
			t.Fatalf("it never says %q: %v %s", until, err, f.stderr.String())
		}
		if strings.Contains(line, until) {
			return f
		}
	}
}

// Whoever removes the state file of a round that runs is told where what it held is, and the round goes on from there.
func TestTheStateFileIsRemovedUnderARound(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 300)
	f := follows(t, dir, "heron", "move ")
	db := filepath.Join(dir, store.File)
	if err := os.Remove(db); err != nil {
		t.Fatal(err)
	}
	_, _ = io.Copy(io.Discard, f.out)
	_ = f.Wait()
	if says := f.stderr.String(); f.ProcessState.ExitCode() != 1 || !strings.Contains(says, db+" was removed") ||
		!strings.Contains(says, "mv "+db+".rescued "+db) {
		t.Fatalf("exit %d: %s", f.ProcessState.ExitCode(), says)
	}
	for _, beside := range []string{"", "-wal", "-shm"} {
		_ = os.Remove(db + beside)
	}
	if err := os.Rename(db+".rescued", db); err != nil {
		t.Fatal(err)
	}
	if r := run(t, "round", "resume", "vts", "--state", dir); r.code != 0 || !strings.Contains(r.out, "finished") {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
}

// A round goes on where nobody reads any more what it says; it ends by its journal when its terminal goes.
func TestNobodyReadsWhatARoundSays(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 600)
	f := follows(t, dir, "heron", "precheck")
	if err := f.pipe.Close(); err != nil {
		t.Fatal(err)
	}
	if err := f.Wait(); err != nil {
		t.Errorf("%v: %s", err, f.stderr.String())
	}
	if r := run(t, "report", "round", "vts", "--state", dir); !strings.Contains(r.out, ": finished") {
		t.Errorf("%s%s", r.out, r.err)
	}
}

// The newest round is the one that was begun last, whatever the time of day was: one of a clock that was wrong by a day
// stands behind it.
func TestARoundOfADayAhead(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 1500)
	start := func(host string) string {
		r := run(t, "round", "start", "vts/"+host, "--reason", "x", "--state", dir)
		if r.code != 0 {
			t.Fatal(r.out, r.err)
		}
		return run(t, "report", "round", "vts", "--state", dir).out
	}
	first := start("knot")
	db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("UPDATE rounds SET started = '2099-01-01T00:00:00.000000000Z'"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	if second := start("jacana"); second == first || !strings.Contains(second, "\njacana: done") {
		t.Errorf("the report is of another round:\n%s", second)
	}
	for _, args := range [][]string{{"round", "watch", "vts"}, {"round", "resume", "vts"}} {
		if r := run(t, append(args, "--state", dir)...); !strings.Contains(r.out+r.err, "jacana") &&
			!strings.Contains(r.out+r.err, "is finished") {
			t.Errorf("%v speaks of another round:\n%s%s", args, r.out, r.err)
		}
	}
}
