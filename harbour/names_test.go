package harbour

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/survey"
	"yareharbour/sim/demo"
)

// binding finds, in a baseline's text, the names that bind, permit or pardon: each of its matches' first group is a
// name.
var binding = []*regexp.Regexp{
	regexp.MustCompile(`(?m)^assign: \[([a-z]+)`),
	regexp.MustCompile(`(?m)^assign: \[[a-z]+/([a-z]+)`),
	regexp.MustCompile(`component: fw:([a-z0-9-]+)`),
	regexp.MustCompile(`component: drv:([a-z0-9-]+)`),
	regexp.MustCompile(`component: host:([a-z0-9-]+)`),
	regexp.MustCompile(`(?m)^ +track: "?([a-z0-9]+)"?$`),
	regexp.MustCompile(`(?m)^ +hardware: ([A-Za-z0-9 ]+)$`),
	regexp.MustCompile(`(?m)^ +vendor: ([A-Za-z]+)$`),
	regexp.MustCompile(`(?m)^ +hosts: \[[a-z]+/([a-z]+)`),
}

// Invariant 12: a name that matches nothing is an error where it binds, permits or pardons. Each such name of each
// baseline of the demo is misspelt in turn: every one is an error with its line, the effect says so, and nothing of it
// is saved.
func TestEachNameOfEachBaselineMisspelt(t *testing.T) {
	h := open(t)
	if _, err := h.Read(t.Context(), mustHosts(t, h), nil); err != nil {
		t.Fatal(err)
	}
	tried := 0
	for _, src := range h.Sources() {
		_, ps, err := h.Effect(t.Context(), src.Name, src.Text)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range ps {
			if p.Error {
				t.Errorf("%s as it is: %s", src.Name, p)
			}
		}
		text := src.Text + "\n"
		if src.Name == "hardware-2026q4" { // fields that the demo does without
			text = strings.Replace(text, "  - component: fw:lorne-l25\n",
				"  - component: fw:lorne-l25\n    hardware: Lorne L25\n    vendor: Corran\n", 1)
		}
		for _, re := range binding {
			for _, at := range re.FindAllStringSubmatchIndex(text, -1) {
				wrong := text[:at[3]] + "q" + text[at[3]:]
				line := 1 + strings.Count(text[:at[2]], "\n")
				tried++
				e, ps, err := h.Effect(t.Context(), src.Name, wrong)
				if err != nil {
					t.Fatalf("%s with %q: %v", src.Name, wrong[at[2]:at[3]+1], err)
				}
				if !slices.ContainsFunc(ps, func(p baseline.Problem) bool { return p.Error }) {
					t.Errorf("%s line %d: %q is taken for a name (%v, %v)", src.Name, line,
						wrong[at[2]:at[3]+1], ps, e.Says())
				}
				if _, err := h.SaveBaseline(t.Context(), src.Name, wrong, src.Version, "a slip of the pen"); err == nil {
					t.Errorf("%s with %q was saved", src.Name, wrong[at[2]:at[3]+1])
				}
			}
		}
	}
	if tried < 20 {
		t.Errorf("only %d names were tried", tried)
	}
}

// What the editor says while somebody types is what the command line says and what saving holds against: with the other
// baselines beside it, so that an exception from another's clause pardons something, and one from nobody's does not.
func TestTheEditorSaysWhatSavingHolds(t *testing.T) {
	h := open(t)
	if _, err := h.Read(t.Context(), mustHosts(t, h), nil); err != nil {
		t.Fatal(err)
	}
	e, err := h.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	desk := h
	const text = "baseline: mine\nassign: [vts]\nclauses:\n  - component: deb:crab\n    posture: never\nexceptions:\n" +
		"  - component: %s\n    hosts: [tides/egret]\n    until: 2026-12-06\n    reason: a trial\n    by: tester\n"
	for component, amiss := range map[string]bool{"fw:corran-bios": false, "fw:nobody-asks": true} {
		body := fmt.Sprintf(text, component)
		effect, ps, err := h.Effect(t.Context(), "mine", body)
		shown, told, err2 := desk.EffectOn(t.Context(), e, "mine", body)
		if err != nil || err2 != nil {
			t.Fatal(err, err2)
		}
		if !reflect.DeepEqual(ps, told) || !reflect.DeepEqual(effect.Says(), shown.Says()) {
			t.Errorf("%s: the command line says %v %v, the editor %v %v", component, effect.Says(),
				ps, shown.Says(), told)
		}
		if got := slices.ContainsFunc(told, func(p baseline.Problem) bool { return p.Error }); got != amiss {
			t.Errorf("%s: %v", component, told)
		}
		if _, err := h.SaveBaseline(t.Context(), "mine", body, 0, "a trial"); (err != nil) != amiss {
			t.Errorf("%s: saving says %v", component, err)
		}
		if !amiss {
			if err := h.RemoveBaseline(t.Context(), "mine"); err != nil {
				t.Fatal(err)
			}
		}
	}
}

func mustHosts(t *testing.T, h *Harbour, names ...string) []string {
	t.Helper()
	hosts, err := h.Hosts(names...)
	if err != nil {
		t.Fatal(err)
	}
	return hosts
}

func TestHostsByNamesWithAHintAtWhatWasMeant(t *testing.T) {
	h := open(t)
	if got := mustHosts(t, h, "heron", "vts", "ruff", "heron"); strings.Join(got,
		" ") != "heron ibis jacana knot lapwing ruff" {
		t.Errorf("%v", got)
	}
	for word, want := range map[string]string{"tidse": "did you mean tides?", "herno": "did you mean heron?",
		"marsh": "there is no cluster or host \"marsh\""} {
		if _, err := h.Hosts("vts", word); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", word, err)
		}
	}
	if _, err := h.Hosts("marsh"); strings.Contains(err.Error(), "did you mean") {
		t.Errorf("a far word is hinted at: %v", err)
	}
}

// A broken file costs what stands on it and nothing else: with a broken release list nothing is judged, and looking,
// pausing and stopping still work.
func TestABrokenFileCostsWhatStandsOnIt(t *testing.T) {
	h := open(t)
	dir := h.dir
	lists, err := filepath.Glob(filepath.Join(dir, "releases", "*.yaml"))
	if err != nil || len(lists) == 0 {
		t.Fatal(lists, err)
	}
	if err := os.WriteFile(lists[0], []byte("feed: [\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	again, err := Open(t.Context(), Options{State: dir, By: "tester"})
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if again.Unreadable() == nil || !strings.Contains(again.Unreadable().Error(), filepath.Base(lists[0])) {
		t.Errorf("%v", again.Unreadable())
	}
	readings, err := again.Read(t.Context(), []string{"heron"}, nil)
	if err != nil || !readings["heron"].Reached() {
		t.Errorf("looking: %v", err)
	}
	var needs []string
	e, err := again.View(t.Context())
	if err == nil {
		for _, n := range e.Survey.Needs {
			needs = append(needs, n.Text)
		}
	}
	if err != nil || !strings.Contains(strings.Join(needs, "\n"), filepath.Base(lists[0])) {
		t.Errorf("the survey does not tell: %q %v", needs, err)
	}
	if _, err := again.Plan(t.Context(), brief(again, "vts")); err == nil {
		t.Error("a plan is made without the releases")
	}
}

// Where the outside can't be reached at all, every host is unread with the reason, every act is refused, and the kept
// past can be looked at.
func TestAnEstateThatCannotBeReached(t *testing.T) {
	dir := t.TempDir()
	if err := demo.Write(dir); err != nil {
		t.Fatal(err)
	}
	h, err := Open(t.Context(), Options{State: dir, By: "tester"}) // nobody simulates it
	if err != nil {
		t.Fatal(err)
	}
	defer h.Close()
	readings, err := h.Read(t.Context(), []string{"heron"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	r := readings["heron"]
	for _, s := range r.Sections {
		if !strings.Contains(s.Err, "start it with yare sim or yare demo") {
			t.Errorf("%s: %q", s.Name, s.Err)
		}
	}
	if len(r.Sections) != len(estate.SectionNames) || r.Takes() {
		t.Errorf("%+v", r)
	}
	ctx := t.Context()
	session, err := h.world.Open(ctx, "heron")
	if err != nil {
		t.Fatal(err)
	}
	if _, acts := connector.As[connector.Doer](session); acts {
		t.Error("a host that can't be reached can be acted on")
	}
	ways, err := h.Connect(context.WithoutCancel(ctx), []string{"heron"}, func(string) {})
	if err != nil || len(ways) != 1 || ways[0].Failed() != 1 {
		t.Errorf("%+v %v", ways, err)
	}
	if vs := h.Check(h.Checker(), readings)["heron"]; len(vs) == 0 {
		t.Error("a host that is silent has no verdicts")
	} else {
		for _, v := range vs {
			if v.Outcome.String() != "unread" && v.Outcome.String() != "disputed" {
				t.Errorf("%s is %s on a host of which nothing is known", v.Title(), v.Outcome)
			}
		}
	}
}

// A round asks before every act whether what it puts in still stands: nothing is read anew for it as long as no file
// changes.
func BenchmarkWithdrawnBeforeEachAct(b *testing.B) {
	dir := b.TempDir()
	if err := demo.Write(dir); err != nil {
		b.Fatal(err)
	}
	h, err := Open(b.Context(), Options{State: dir, By: "tester"})
	if err != nil {
		b.Fatal(err)
	}
	defer h.Close()
	v := &course.Visit{Visit: plan.Visit{Host: "heron",
		Changes: []act.Change{{Component: "fw:tarbet-s9", To: "4.19.0", Model: "Tarbet S9"}}}}
	r := &estate.Reading{Host: "heron"}
	for b.Loop() {
		if today := h.todayOf(&plan.Plan{}, v, r); len(today.Withdrawn) > 0 {
			b.Fatal(today.Withdrawn)
		}
	}
}

// A withdrawal of what nothing known is stands among what is wrong with names, and in what needs a person.
func TestAWithdrawalOfNothingKnownIsTold(t *testing.T) {
	h := open(t)
	if _, err := h.Read(t.Context(), mustHosts(t, h), nil); err != nil {
		t.Fatal(err)
	}
	h.Catalogue().Add(catalogue.Feed{Name: "f"}, []catalogue.Release{{Component: "fw:lorne-l25", Version: "9", Feed: "f",
		Hardware: []string{"Lorne L52"}, Withdrawn: "it hangs"}})
	told := func(says string) bool { return strings.Contains(says, "f takes back fw:lorne-l25 9 for Lorne L52") }
	ps, err := h.Problems(t.Context(), h.InForce())
	if err != nil || !slices.ContainsFunc(ps, func(p baseline.Problem) bool { return !p.Error && told(p.String()) }) {
		t.Errorf("%v, %v", ps, err)
	}
	e, err := h.View(t.Context())
	if err != nil || !slices.ContainsFunc(e.Survey.Needs, func(n survey.Need) bool { return told(n.Text) }) {
		t.Errorf("%+v, %v", e.Survey.Needs, err)
	}
}
