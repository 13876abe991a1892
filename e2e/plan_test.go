package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/e2e/drive"
)

// On the Plan screen settings are changed, and what they do is seen at once: figures, order, ways out. What is shown is
// exported, and started.
func TestAPlanIsChangedAndStarted(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	s := drive.Open(t, yare, 160, 45, nil, "--state", dir)
	s.Wait(`4 adrift`)
	s.Keys("p")
	s.Wait(`planned, nothing is touched +visits 4 · moves 21 \(floor 21, going home each time 42\)`)
	s.Keys("]") // one key, one plan: what is told is against the plan that was shown
	s.Wait(`what if: --reserve 2`)
	s.Wait(`against the plan before: .*can't be made \d → 3`)
	s.Keys("U")
	s.Wait(`against the plan before: .*can't be made \d → 0`)
	s.Keys("[")
	s.Wait(`what if: --reserve 0`)
	s.Wait(`moves 21`)
	s.Keys("+")
	s.Wait(`what if: --out-of-service 2 --reserve 0`)
	s.Wait(`against the plan before: .*takes 5\d min → \d+ min`)
	s.Keys("e", "c")
	csv := strings.TrimPrefix(s.Wait(`written: \S+csv`), "written: ")
	s.Keys("e", "s")
	s.Wait(`written: \S+svg`)
	text, err := os.ReadFile(filepath.Join(filepath.Dir(s.Socket), csv))
	if err != nil || !strings.Contains(string(text), "vts,4,") {
		t.Errorf("the export: %v, %.200q", err, text)
	}
	s.Keys("S", "Enter")
	s.Wait(`the round's settings are in vts.yaml`)
	s.Keys("U", "U")
	s.Wait(`visits 4 · moves 21`)
	s.Keys("B", "=v", "Tab") // it is completed
	s.Wait(`open the brief: vts.yaml`)
	s.Keys("Enter")
	s.Wait(`what if: --out-of-service 2 --reserve 0`)
	s.Keys("U")
	s.Wait(`visits 4 · moves 21`)
	s.Keys("s", "=November", "Enter")
	s.Wait(`Start the round over vts\?`)
	s.Keys("y")
	s.Wait(`Round › vts`)
	s.Wait(`4 of 4 hosts, 21 of 21 moves`)
	s.Keys("q")
	s.Ends("0")
	if r := run(t, "round", "watch", "vts", "--state", dir); strings.Contains(r.out, "planned again") {
		t.Errorf("guests went elsewhere than was shown:\n%s", r.out)
	}
}

// An obstacle's way out is one key away, and what can't be helped is left out with another.
func TestAWayOutIsTaken(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	s := drive.Open(t, yare, 160, 45, nil, "--state", dir)
	s.Wait(`4 adrift`)
	s.Keys("Down", "p")
	s.Wait(`Plan › tides`)
	s.Wait(`can't be made 6`)
	s.Keys("Down")
	s.Wait(`way out: let one more host be out of service at once +\(f takes it\)`)
	s.Keys("f")
	s.Wait(`Take this way out`)
	s.Keys("y")
	s.Wait(`what if: --out-of-service 2`)
	s.Wait(`can't be made 6 → 5`)
	s.Keys("s")
	s.Wait(`the plan has obstacles: f takes a way out, v leaves a host out`)
	s.Keys("Up", "v")
	s.Wait(`left out`)
	s.Keys("q")
	s.Ends("0")
}

// A brief file and the options that are shown for it plan the same.
func TestABriefAndItsCommandPlanTheSame(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	file := filepath.Join(t.TempDir(), "b.yaml")
	brief := run(t, "brief", "write", "vts", "--state", dir, "--order", "lightest-first", "--trial", "ibis", "--limit",
		"80", "--lift", "keep traffic-db-* apart", "--only", "deb:brae-tls,deb:linux-image-brae")
	if brief.code != 0 {
		t.Fatal(brief.err)
	}
	if err := os.WriteFile(file, []byte(brief.out), 0o600); err != nil {
		t.Fatal(err)
	}
	check := run(t, "brief", "check", file, "--state", dir)
	_, words, ok := strings.Cut(strings.TrimSpace(check.out), "yare plan vts ")
	if check.code != 0 || !ok {
		t.Fatalf("%s%s", check.out, check.err)
	}
	words = strings.ReplaceAll(words, "'keep traffic-db-* apart'", "RULE")
	args := []string{"plan", "vts", "--state", dir, "--json"}
	for _, w := range strings.Fields(words) {
		args = append(args, strings.ReplaceAll(w, "RULE", "keep traffic-db-* apart"))
	}
	one, two := run(t, "plan", "vts", "--state", dir, "--json", "--brief", file), run(t, args...)
	cut := func(s string) string { // the moment at which it was made
		before, rest, _ := strings.Cut(s, "\"made\"")
		_, after, _ := strings.Cut(rest, "\n")
		return before + after
	}
	if one.code != 0 || two.code != 0 || len(one.out) < 1000 {
		t.Fatalf("%s %s", one.err, two.err)
	}
	a, b := strings.Split(cut(one.out), "\n"), strings.Split(cut(two.out), "\n")
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] && !strings.Contains(a[i], "ago") && !strings.Contains(a[i], `"at"`) &&
			!strings.Contains(a[i], `"until"`) {
			t.Fatalf("line %d: %s\n%s", i, a[i], b[i])
		}
	}
	for want, args := range map[string][]string{
		`no host "hereon"`:                {"--hosts", "hereon"},
		"puts in deb:brae-tls 9.9":        {"--release", "deb:brae-tls=9.9"},
		`lifts "keep peace"`:              {"--lift", "keep peace"},
		"keeps 5 hosts in reserve":        {"--reserve", "5"},
		`--order: there is no order "up"`: {"--order", "up"},
		"b.yaml:1:8":                      {"--brief", broken(t)},
	} {
		if r := run(t, append([]string{"plan", "vts", "--state", dir}, args...)...); r.code != 1 && r.code != 2 ||
			!strings.Contains(r.err, want) {
			t.Errorf("%v: exit %d, %s", args, r.code, r.err)
		}
	}
}

func broken(t *testing.T) string {
	file := filepath.Join(t.TempDir(), "b.yaml")
	if err := os.WriteFile(file, []byte("brief: tides\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

// A guest that can't move is shut down for the visit where the brief says so, and runs again afterwards. It is never
// done without that.
func TestAGuestComesToRestForAVisit(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 800)
	refused := run(t, "round", "start", "tides", "--state", dir, "--hosts", "bittern", "--out-of-service",
		"2", "--reason", "x")
	if refused.code != 1 || !strings.Contains(refused.err, "gauge-hist-2 holds the device clock-card") ||
		!strings.Contains(refused.err, "shut down gauge-hist-2 for the visit") {
		t.Errorf("exit %d: %s", refused.code, refused.err)
	}
	for want, rest := range map[string]string{`has a guest "gauge-hist-9"`: "gauge-hist-9=shut-down",
		"is not guest=shut-down": "gauge-hist-2=kill"} {
		if r := run(t, "plan", "tides", "--state", dir, "--guest", rest); r.code != 1 && r.code != 2 ||
			!strings.Contains(r.err, want) {
			t.Errorf("--guest %s: exit %d, %s", rest, r.code, r.err)
		}
	}
	s := drive.Open(t, yare, 160, 45, nil, "--state", dir)
	s.Wait(`4 adrift`)
	s.Keys("Down", "p")
	s.Wait(`can't be made 6`)
	s.Keys("+")
	s.Wait(`can't be made 5`)
	s.Keys("Down")
	s.Wait(`▸ bittern`)
	s.Wait(`way out: shut down gauge-hist-2 for the visit +\(f takes it\)`)
	s.Keys("f", "y")
	s.Wait(`gauge-hist-2 is shut down, and started again afterwards`)
	s.Wait(`can't be made 5 → 4`)
	s.Keys("q")
	s.Ends("0")
	r := run(t, "round", "start", "tides", "--state", dir, "--hosts", "bittern", "--out-of-service", "2", "--guest",
		"gauge-hist-*=shut-down", "--reason", "x")
	if r.code != 0 || strings.Count(r.out, "shut down gauge-hist-2") != 1 ||
		strings.Count(r.out, "start gauge-hist-2") != 1 || strings.Contains(r.out, "✗") ||
		!strings.Contains(r.out, "move gauge-hist-1") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	for _, g := range world(t, dir).Hosts["bittern"].Reading.Guests {
		if g.Name == "gauge-hist-2" && (g.State != "running" || g.Saved) {
			t.Errorf("%+v", g)
		}
	}
}

// A caution is waived on the Prechecks screen, and a blocker that allows it: the plan goes on then, and the record has
// both.
func TestWhatWasFoundIsWaived(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 100)
	s := drive.Open(t, yare, 160, 45, nil, "--state", dir)
	s.Wait(`4 adrift`)
	s.Keys("Down", "p")
	s.Wait(`can't be made 6`)
	s.Keys("a")
	s.Wait(`Prechecks › tides`)
	s.Wait(`✗ \d+ blocking`)
	for i, check := range []string{"health", "dispute"} { // an image waits for its power supply
		s.Keys("W")
		s.Wait(`waive for so long, and why`)
		s.Keys("=the trial ends on Monday", "Enter")
		s.Wait(`Waive ` + check + ` of fulmar\?`)
		s.Keys("y")
		s.Wait(fmt.Sprintf(`~ %d waived`, i+1))
		s.Keys("Home")
	}
	s.Keys("Escape")
	s.Wait(`Plan › tides`)
	s.Keys("n")
	s.Wait(`visits 1 · can't be made 5`)
	s.Keys("q")
	s.Ends("0")
	list := run(t, "waiver", "list", "tides", "--state", dir)
	if list.code != 0 || !strings.Contains(list.out, "dispute of fulmar, stands") ||
		!strings.Contains(list.out, "the trial ends on Monday") {
		t.Errorf("%s%s", list.out, list.err)
	}
	if r := run(t, "waiver", "add", "curlew", "bmc", "--reason", "x", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "must never be waived") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	if r := run(t, "waiver", "add", "fulmar", "heatlh", "--reason", "x", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, `no check "heatlh"`) {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	if r := run(t, "waiver", "end", "tides", list.out[:6], "--state", dir); r.code != 0 {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	if r := run(t, "waiver", "list", "tides", "--state", dir); !strings.Contains(r.out, "taken back by") {
		t.Error(r.out)
	}
	if r := run(t, "precheck", "tides", "--check", "dispute", "--state", dir); r.code != 4 ||
		!strings.Contains(r.out, "blocker             fulmar  dispute") {
		t.Errorf("exit %d: %s", r.code, r.out)
	}
}

// A check of one's own is asked with the others, holds a round up where it blocks, can be waived, and never clears on
// not knowing.
func TestACheckOfOnesOwn(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 400)
	file := filepath.Join(dir, "estate.yaml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	write := func(checks string) {
		if err := os.WriteFile(file, append(text[:len(text):len(text)], checks...), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("checks:\n  - name: no-telnet\n    holds: packages.exists(p, p.nam == telnetd)\n" +
		"    says: it has a telnet server\n    remedy: remove it\n")
	if r := run(t, "precheck", "vts", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "the check no-telnet: line 1, column 29: undeclared reference to 'telnetd'") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	write("checks:\n  - name: no-telnet\n    holds: '!packages.exists(p, p.name == \"telnetd\")'\n" +
		"    says: it has a telnet server\n    remedy: remove it\n    level: blocker\n")
	if r := run(t, "precheck", "vts", "--check", "no-telnet", "--state", dir); r.code != 3 ||
		!strings.Contains(r.out, "blocker             jacana no-telnet it has a telnet server") ||
		strings.Count(r.out, "clear") != 3 {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
	if r := run(t, "round", "start", "vts", "--hosts", "jacana", "--reason", "x", "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "jacana: it has a telnet server (remove it)") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	if r := run(t, "waiver", "add", "jacana", "no-telnet", "--reason", "this round removes it", "--for", "2h",
		"--state", dir); r.code != 0 {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	if r := run(t, "round", "start", "vts", "--hosts", "jacana", "--reason", "x", "--state", dir); r.code != 0 {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
	for expr, want := range map[string]string{`packages.exists(p, p.name == "telnetd")`: "false\n",
		"host.model": "Quay 1\n", "host.modell": "no such key", "1 +": "line 1, column"} {
		if r := run(t, "precheck", "try", "jacana", expr, "--state", dir); !strings.Contains(r.out+r.err, want) {
			t.Errorf("%s: %s%s", expr, r.out, r.err)
		}
	}
}

// A plan is kept, and another is told against it.
func TestPlansAreCompared(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 100)
	first := run(t, "plan", "vts", "--state", dir)
	_, digest, _ := strings.Cut(first.out, "--plan ")
	digest, _, _ = strings.Cut(digest, "\n")
	same := run(t, "plan", "vts", "--against", digest, "--state", dir)
	other := run(t, "plan", "vts", "--against", digest, "--hosts", "jacana,knot", "--state", dir)
	if same.code != 0 || !strings.Contains(same.out, "they would do the same") || other.code != 0 ||
		!strings.Contains(other.out, "visits 4 → 2") ||
		!strings.Contains(other.out, "heron: it would not be visited any more: left out: the brief names other hosts") {
		t.Errorf("%s%s\n%s%s", same.out, same.err, other.out, other.err)
	}
	if r := run(t, "plan", "vts", "--against", "feedbeef", "--state", dir); r.code != 1 {
		t.Errorf("exit %d: %s", r.code, r.out)
	}
}
