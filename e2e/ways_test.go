package e2e

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/e2e/drive"
	"yareharbour/store"
)

// commandLine is how a way out is printed: what it does, and the command.
var commandLine = regexp.MustCompile(`(?m)^  .*\byare ((?:round|host) [^\n]*)$`)

// named are the commands that a text names, with a reason where they ask for one.
func named(t *testing.T, text, dir string) (out [][]string) {
	t.Helper()
	for _, m := range commandLine.FindAllStringSubmatch(text, -1) {
		var args []string
		for _, x := range regexp.MustCompile(`"[^"]*"|'[^']*'|\S+`).FindAllString(m[1], -1) {
			args = append(args, strings.Trim(x, `"'`))
		}
		if i := slices.Index(args, "…"); i > 0 {
			args[i] = "they looked"
		}
		out = append(out, append(args, "--state", dir))
	}
	return out
}

// A round whose image is refused each time names what leads on, and each command that it names is true: run one after
// the other, from the state that each leaves, they bring the host back.
func TestTheNamedCommandsLeadOn(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	if r := run(t, "sim", "fault", "jacana", "install-fails", "--times", "1", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	r := run(t, "round", "start", "vts", "--hosts", "jacana", "--state", dir)
	commands := named(t, r.out, dir)
	if r.code != 1 || len(commands) < 4 {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if watched := named(t, run(t, "round", "watch", "vts", "--state", dir).out, dir); len(watched) != len(commands) {
		t.Errorf("watching names %v, and it was %v", watched, commands)
	}
	drop := slices.IndexFunc(commands, func(a []string) bool { return a[1] == "drop" })
	if r := run(t, commands[drop]...); r.code != 0 || !strings.Contains(r.out, "finished: every host has been visited") {
		t.Fatalf("%v: exit %d\n%s%s", commands[drop], r.code, r.out, r.err)
	}
	report := run(t, "report", "round", "vts", "--state", dir)
	if !regexp.MustCompile(`fw:lorne-l25 +slot 2 .*left out`).MatchString(report.out) || !strings.Contains(report.out, "they looked") {
		t.Errorf("the report:\n%s", report.out)
	}
	if r := run(t, "check", "vts", "--narrow", "host=jacana fw:lorne-l25", "--state", dir); r.code != 3 {
		t.Errorf("what was left out is no drift: exit %d\n%s", r.code, r.out)
	}
}

// A host that never comes back is handed over; the round ends, what is owed is told, and once somebody has brought it
// back it is opened by hand.
func TestAHostIsHandedOverAndOpenedByHand(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 2000)
	at := func(args ...string) result { return run(t, append(args, "--state", dir)...) }
	must := func(want string, args ...string) {
		t.Helper()
		if r := at(args...); !strings.Contains(r.out+r.err, want) {
			t.Fatalf("%v: no %q: exit %d\n%s%s", args, want, r.code, r.out, r.err)
		}
	}
	must("ordered", "sim", "fault", "heron", "no-return")
	must("it did not come back", "round", "start", "vts", "--hosts", "heron", "--guest", "met-feed=shut-down", "--reason", "patches")
	must("settle that first", "round", "drop", "vts", "heron", "fw:tarbet-s9", "--reason", "x")
	must("needs --reason", "round", "hand-over", "vts", "heron")
	must("handed over: heron", "round", "hand-over", "vts", "heron", "--reason", "the mainboard")
	owed := at("owed")
	if owed.code != 3 || !strings.Contains(owed.out, "it is closed") || !strings.Contains(owed.out, "met-feed: ") ||
		!strings.Contains(owed.out, "is not known") || !strings.Contains(owed.out, "the mainboard") {
		t.Errorf("exit %d\n%s%s", owed.code, owed.out, owed.err)
	}
	must("does not answer", "host", "open", "heron", "--reason", "x")
	must("ordered", "sim", "fault", "heron", "answers")
	must("finished", "host", "open", "heron", "--reason", "a new mainboard")
	if owed := at("owed"); owed.code != 0 || !strings.Contains(owed.out, "nothing is owed") {
		t.Errorf("exit %d\n%s%s", owed.code, owed.out, owed.err)
	}
	h := world(t, dir).Hosts["heron"].Reading
	if h.Closed != nil {
		t.Errorf("it is closed: %+v", h.Closed)
	}
	for _, g := range h.Guests {
		if g.Name == "met-feed" && g.State != "running" {
			t.Errorf("met-feed is %s", g.State)
		}
	}
}

// A host is emptied and closed by hand, is the person's, and is opened again with its guests; nobody else's closing is
// taken without a word.
func TestAHostByHand(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	at := func(args ...string) result { return run(t, append(args, "--state", dir)...) }
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{1, "--drain moves them away first", []string{"host", "close", "heron", "--reason", "a fan"}},
		{1, "it is not closed", []string{"host", "open", "heron", "--reason", "a fan"}},
		{1, "is a host of vts, and not of tides", []string{"host", "close", "tides/heron", "--drain", "--reason", "a fan"}},
		{2, "say a time to come", []string{"host", "close", "heron", "--drain", "--reason", "a fan", "--until", "yesterday"}},
		{0, "handed over: heron", []string{"host", "close", "vts/heron", "--drain", "--reason", "a fan", "--until", "2h"}},
		{1, "it is closed already", []string{"host", "close", "heron", "--drain", "--reason", "a fan"}},
		{3, "a fan", []string{"owed", "vts"}},
		{0, "nothing is owed", []string{"owed", "tides"}},
		{0, "boot", []string{"host", "restart", "heron", "--reason", "the fan is in"}},
		{3, "it is closed", []string{"owed"}},
		{0, "bring back met-feed to heron", []string{"host", "open", "heron", "--home", "--reason", "done"}},
		{0, "nothing is owed", []string{"owed"}},
		{1, "yare host take godwit --yes", []string{"host", "open", "godwit", "--reason", "x"}},
		{1, "it was closed by", []string{"host", "take", "godwit", "--reason", "x"}},
		{0, "handed over: godwit", []string{"host", "take", "godwit", "--yes", "--reason", "asked them"}},
		{0, "reopen", []string{"host", "open", "godwit", "--reason", "asked them"}},
	} {
		if r := at(c.args...); r.code != c.code || !strings.Contains(r.out+r.err, c.want) {
			t.Fatalf("%v: exit %d, want %d with %q\n%s%s", c.args, r.code, c.code, c.want, r.out, r.err)
		}
	}
	w := world(t, dir)
	if len(w.Hosts["heron"].Reading.Guests) != 8 || w.Hosts["heron"].Reading.Closed != nil || len(w.Restarts) > 0 {
		t.Errorf("%d guests, closed %+v, guests restarted: %v", len(w.Hosts["heron"].Reading.Guests), w.Hosts["heron"].Reading.Closed,
			w.Restarts)
	}
}

// Guests that a lost round had shut down are known by their host: adopting it starts them.
func TestGuestsOfALostRoundAreStarted(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 2000)
	at := func(args ...string) result { return run(t, append(args, "--state", dir)...) }
	at("sim", "fault", "heron", "no-return")
	if r := at("round", "start", "vts", "--hosts", "heron", "--guest", "met-feed=shut-down"); r.code != 1 {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	files, err := filepath.Glob(filepath.Join(dir, store.File+"*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		if err := os.Remove(f); err != nil {
			t.Fatal(err)
		}
	}
	at("sim", "fault", "heron", "answers")
	at("read", "vts")
	if r := at("owed"); r.code != 3 || !strings.Contains(r.out, "met-feed: is shut down") || !strings.Contains(r.out, "it is closed") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := at("round", "adopt", "heron", "--yes"); r.code != 0 || !strings.Contains(r.out, "start met-feed") {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := at("owed"); r.code != 0 {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
}

// Where the journal is damaged the commands that are named lead on: a round above it, and adopting what it left closed.
func TestADamagedJournalHasAWayOut(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	at := func(args ...string) result { return run(t, append(args, "--state", dir)...) }
	at("sim", "fault", "jacana", "install-fails", "--times", "9")
	if r := at("round", "start", "vts", "--hosts", "jacana"); r.code != 1 {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	at("sim", "fault", "jacana", "answers")
	db, err := sql.Open("sqlite", filepath.Join(dir, store.File))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("UPDATE journal SET text = replace(text, 'jacana', 'jacanb') WHERE seq = 20"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	for _, args := range [][]string{{"round", "resume", "vts"}, {"round", "start", "vts", "--hosts", "heron"},
		{"round", "end", "vts", "--reason", "x"}} {
		if r := at(args...); r.code != 1 || !strings.Contains(r.err, "yare round start vts --take-over") {
			t.Errorf("%v: exit %d %s", args, r.code, r.err)
		}
	}
	world(t, dir)
	if r := at("round", "adopt", "jacana"); r.code != 1 || !strings.Contains(r.err, "yare round adopt jacana --yes") {
		t.Errorf("exit %d %s", r.code, r.err)
	}
	if r := at("round", "adopt", "jacana", "--yes"); !strings.Contains(r.out, "adopt the closing of") {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := at("round", "end", "vts", "--reason", "tomorrow"); r.code != 0 || !strings.Contains(r.out, "handed over: jacana") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
}

// A decision that is taken on the Round screen is carried out by a process of its own.
func TestAWayOutFromTheScreen(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	if r := run(t, "sim", "fault", "jacana", "install-fails", "--times", "9", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	run(t, "round", "start", "vts", "--hosts", "jacana", "--state", dir)
	s := drive.Open(t, yare, 160, 45, nil, "--state", dir)
	s.Wait(`!! vts: the round failed: jacana: flash failed`)
	s.Keys("r")
	s.Wait(`f shows the ways out`)
	s.Keys("f")
	s.Wait(`The ways out`)
	s.Wait(`take jacana over as it is`)
	s.Click(`take jacana over as it is`)
	s.Wait(`why, and what you saw`)
	s.Keys("=for the electrician", "Enter")
	s.Wait(`Reason: for the electrician`)
	s.Keys("y")
	s.Wait(`jacana +handed over`)
	s.Wait(`finished +by`)
	if r := run(t, "owed", "--state", dir); !strings.Contains(r.out, "for the electrician") {
		t.Errorf("%s%s", r.out, r.err)
	}
}

// A runner that is stopped after a host took its order, and before its BMC gets the image, sends none when it wakes:
// another has finished the round meanwhile.
func TestAStaleRunnerSendsNoImage(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	shortLease(t, dir)
	h := &holdUp{kind: act.Flash, answers: true, caught: make(chan struct{}), let: make(chan struct{}), back: make(chan string, 1)}
	var out bytes.Buffer
	first := exec.Command(yare, "round", "start", "vts", "--hosts", "jacana", "--state", dir, "--estate", h.wayTo(t, dir))
	first.Stdout, first.Stderr = &out, &out
	if err := first.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = first.Process.Kill() }()
	select {
	case <-h.caught:
	case <-time.After(drive.Patience):
		t.Fatalf("no image was ordered:\n%s", out.String())
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
	db, err := sql.Open("sqlite", filepath.Join(dir, store.File)+"?_txlock=immediate")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	locked, err := db.Begin() // so that the store can't tell it that the lease is another's
	if err != nil {
		t.Fatal(err)
	}
	h.release()
	if err := first.Process.Signal(syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	<-h.back
	time.Sleep(3 * time.Second)
	if err := locked.Rollback(); err != nil {
		t.Fatal(err)
	}
	if err := first.Wait(); err == nil {
		t.Errorf("the first runner ended well:\n%s", out.String())
	}
	after := world(t, dir)
	if len(after.Tasks) != len(before.Tasks) || !slices.Equal(before.Acts, after.Acts) {
		t.Errorf("after the second had finished, the first did %v; tasks %d, then %d", after.Acts[len(before.Acts):], len(before.Tasks),
			len(after.Tasks))
	}
}

// Where the brief lets one failed host be left behind, the round goes on with the others through the night.
func TestAFailedHostIsLeftBehind(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	at := func(args ...string) result { return run(t, append(args, "--state", dir)...) }
	at("sim", "fault", "jacana", "install-fails", "--times", "9")
	if r := at("round", "start", "vts", "--hosts", "jacana,knot", "--leave-failed", "1"); r.code != 1 ||
		!strings.Contains(r.err, "so it must be 2 at least") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	r := at("round", "start", "vts", "--hosts", "jacana,knot", "--sequence", "jacana,knot", "--leave-failed", "1", "--out-of-service", "2")
	if r.code != 0 || !strings.Contains(r.out, "handed over: jacana") || !strings.Contains(r.out, "knot       prove") {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := at("owed"); r.code != 3 || !strings.Contains(r.out, "jacana  it is closed") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
}

// What a round keeps of a host is listed, verified, shown and compared; what was changed since is told and not shown.
func TestConfigurationsThatWereKept(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 2000)
	walk(t, dir, []step{
		{"backup list", 0, []string{"none is kept: a round keeps"}},
		{"backup diff knot", 1, nil},
		{"round start vts/knot --reason one", 0, nil},
		{"backup list vts", 0, []string{"knot", "knot.json"}},
		{"backup show knot", 0, []string{"1 file, SHA-256"}},
		{"backup show knot --file knot.json", 0, []string{`"host": "knot"`, "1.8-brae1"}},
		{"backup show knot --file etc/hosts", 1, nil},
		{"backup diff knot", 1, nil}, // there is one alone
		{"round start vts/ibis --reason two", 0, nil},
		{"backup list ibis", 0, []string{"ibis.json"}},
		{"backup prune", 2, nil},
		{"backup prune --keep 1 --yes", 0, []string{"none goes by that"}}, // the newest of a host never does
	})
	files, err := filepath.Glob(filepath.Join(dir, "kept", "configurations", "*", "knot.json"))
	if err != nil || len(files) != 1 {
		t.Fatal(files, err)
	}
	text, err := os.ReadFile(files[0])
	if err != nil {
		t.Fatal(err)
	}
	// an older copy, as a round of another time would have kept it
	old := filepath.Join(dir, "kept", "configurations", "01JAAAAAAAAAAAAAAAAAAAAAAA")
	if err := os.Mkdir(old, 0o700); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(old, "knot.json")
	if err := os.WriteFile(file, []byte(strings.ReplaceAll(string(text), "Brae Linux 4.2", "Brae Linux 4.1")), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Chtimes(file, time.Time{}, time.Now().Add(-100*24*time.Hour)); err != nil {
		t.Fatal(err)
	}
	walk(t, dir, []step{
		{"backup diff knot", 3, []string{"knot.json: other content", "\n- \"release\": \"Brae Linux 4.1\"", "\n+ \"release\": \"Brae Linux 4.2\""}},
		{"backup show knot AAAAAA", 0, []string{"01JAAAAAAAAAAAAAAAAAAAAAAA"}},
		{"backup prune --older-than 90d --yes", 0, []string{"01JAAAAAAAAAAAAAAAAAAAAAAA"}},
		{"backup diff knot", 1, nil},
	})
	if err := os.WriteFile(files[0], append(text, ' '), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := run(t, "backup", "show", "knot", "--state", dir); r.code != 1 || !strings.Contains(r.err, "it was changed since") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
}

// Hooks run here with the process of a round killed at each: every one has run once in the end, the one that says wait
// until it no longer does.
func TestHooksWithTheirRunnerKilled(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 120)
	log, busy, program := filepath.Join(dir, "log"), filepath.Join(dir, "busy"), filepath.Join(dir, "hook")
	text := "#!/bin/sh\necho \"$1\" >>" + log + "\n[ \"$1\" != wait ] || ! [ -e " + busy + " ] || { echo not yet; exit 75; }\ncat >" + log + ".facts\nsleep 0.3\n"
	for file, text := range map[string]string{program: text, busy: ""} {
		if err := os.WriteFile(file, []byte(text), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	for at := dir; at != "/"; at = filepath.Dir(at) { // a brief's programs are nobody else's to write
		if info, err := os.Stat(at); err == nil && info.Mode().Perm()&0o022 != 0 && info.Mode()&os.ModeSticky == 0 {
			t.Skipf("%s is open to others", at)
		}
	}
	args := []string{"round", "start", "vts", "--hosts", "knot", "--reason", "hooks", "--state", dir}
	for point, arg := range map[string]string{"before round": "begins", "before visit wait 75": "wait", "after change": "changed", "after round": "ends"} {
		args = append(args, "--hook", point+": "+program+" "+arg)
	}
	for range 4 {
		killAt(t, dir, "hook taken", args)
		args = []string{"round", "resume", "vts", "--state", dir}
	}
	if err := os.Remove(busy); err != nil {
		t.Fatal(err)
	}
	if r := run(t, args...); r.code != 0 || !strings.Contains(r.out, "finished") {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	ran, err := os.ReadFile(log)
	if err != nil {
		t.Fatal(err)
	}
	count := map[string]int{}
	for _, w := range strings.Fields(string(ran)) {
		count[w]++
	}
	if count["begins"] != 1 || count["changed"] != 1 || count["ends"] != 1 || count["wait"] < 2 {
		t.Errorf("they ran %v", count)
	}
	facts, err := os.ReadFile(log + ".facts")
	var told act.HookFacts
	if err := errors.Join(err, json.Unmarshal(facts, &told)); err != nil || told.Point != "after round" || told.Host != "knot" || told.Reason != "hooks" {
		t.Errorf("%+v, %v", told, err)
	}
	if r := run(t, "plan", "vts", "--state", dir, "--hook", "before visit: "+busy); !strings.Contains(r.out, "can't be made") || !strings.Contains(r.out, "no such file") {
		t.Errorf("a program that is not there:\n%s%s", r.out, r.err)
	}
}
