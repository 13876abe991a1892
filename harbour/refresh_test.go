package harbour

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
)

// What others change while an estate is open is what the next look sees: baselines that are saved or edited, release
// lists, bundles that are taken in; and a file that can't be read any more is told.
func TestAnOpenEstateSeesWhatOthersDo(t *testing.T) {
	h := open(t)
	if _, err := h.Read(t.Context(), []string{"heron", "lapwing"}, nil); err != nil {
		t.Fatal(err)
	}
	other, err := Open(t.Context(), Options{State: h.State, By: "other"})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	outcome := func(host, component string) (out string) {
		e, err := h.View(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range e.Verdicts[host] {
			if string(v.Component) == component {
				out += v.Outcome.String() + " "
			}
		}
		return out
	}
	edit := func(name, from, to string) {
		t.Helper()
		file := filepath.Join(h.State, name)
		text, err := os.ReadFile(file)
		if err != nil || !strings.Contains(string(text), from) {
			t.Fatal(name, err)
		}
		if err := os.WriteFile(file, []byte(strings.Replace(string(text), from, to, 1)), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if got := outcome("lapwing", "deb:crab"); got != "" {
		t.Fatal(got)
	}
	const own = "baseline: mine\nassign: [vts]\nclauses:\n  - component: deb:crab\n    posture: exactly\n    version: \"1\"\n"
	if _, err := other.SaveBaseline(t.Context(), "mine", own, 0, "a trial"); err != nil {
		t.Fatal(err)
	}
	p, err := h.Plan(t.Context(), brief(h, "vts", "lapwing"))
	if err != nil || len(p.Visits)+len(p.Aside) == 0 || p.Basis != must(other.basis()) {
		t.Errorf("a plan is made by what holds now: %+v %v", p, err)
	}
	if got := outcome("lapwing", "deb:crab"); got != drift.Absent.String()+" " {
		t.Errorf("a baseline that another process saved: %q", got)
	}
	if err := other.RemoveBaseline(t.Context(), "mine"); err != nil {
		t.Fatal(err)
	}
	if got := outcome("lapwing", "deb:crab"); got != "" {
		t.Errorf("it was removed again: %q", got)
	}
	if e, err := h.View(t.Context()); err != nil || e.Checker.Catalogue.Release("fw:corran-bmc", "14.8", "", "Corran BMC") != nil {
		t.Fatal(err)
	}
	urgent := func() string {
		e, err := h.View(t.Context())
		if err != nil || len(e.Survey.Needs) == 0 || len(e.Lists) == 0 || e.Lists[0].Made.IsZero() {
			t.Fatalf("%v %+v", err, e.Lists)
		}
		return e.Survey.Needs[0].Text
	}
	if got := urgent(); strings.HasPrefix(got, "the estate file was changed") {
		t.Errorf("%s, and it was not", got)
	}
	edit("estate.yaml", "estate: ", "estate: New ")
	if got := urgent(); !strings.HasPrefix(got, "the estate file was changed") {
		t.Errorf("the estate file was changed, and first is: %s", got)
	}
	edit("estate.yaml", "estate: New ", "estate: ")
	edit("releases/corran.yaml", `version: "14.6"`, `version: "14.8"`)
	if e, err := h.View(t.Context()); err != nil || e.Checker.Catalogue.Release("fw:corran-bmc", "14.8", "", "Corran BMC") == nil {
		t.Error("a release list that was edited is not read")
	}
	edit("releases/corran.yaml", "releases:", "releasess:")
	if e, err := h.View(t.Context()); err != nil || len(e.Survey.Needs) == 0 || len(e.Faults) != 1 || h.Unreadable() == nil {
		t.Error("a release list that can't be read any more goes unnoticed", err)
	}
	if _, err := h.Plan(t.Context(), brief(h, "vts")); err == nil {
		t.Error("it is planned by a release list that can't be read")
	}
	if _, err := h.Prune(t.Context(), Rule{PruneRule: catalogue.PruneRule{Unknown: true}}); err == nil {
		t.Error("payloads count as unknown by a release list that can't be read")
	}
	if err := h.MarkSeen(t.Context(), "vts"); err == nil {
		t.Error("what is out of line by a release list that can't be read is marked as seen")
	}
}

func must(s string, err error) string {
	if err != nil {
		panic(err)
	}
	return s
}
