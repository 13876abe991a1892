package harbour

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	simconn "yareharbour/connector/sim"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/demo"
	"yareharbour/sim"
)

// open opens the demo estate on a simulation in this process.
func open(t *testing.T) *Harbour {
	t.Helper()
	dir := t.TempDir()
	if err := demo.Write(dir); err != nil {
		t.Fatal(err)
	}
	wait, err := sim.Start(t.Context(), sim.Options{Dir: filepath.Join(dir, demo.SimDir), Speed: 2000, New: demo.World})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = wait() })
	h, err := Open(t.Context(), Options{State: dir})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.Close() })
	return h
}

func brief(h *Harbour, cluster string, hosts ...string) plan.Brief {
	c, _ := h.Estate.Cluster(cluster)
	b := plan.DefaultBrief(c)
	b.Hosts, b.By, b.Reason = hosts, "tester", "a test"
	return b
}

func TestReadKeepsWhatAHostLastSaid(t *testing.T) {
	h := open(t)
	if _, err := h.Read(t.Context(), []string{"heron"}, nil); err != nil {
		t.Fatal(err)
	}
	if err := h.World.(border).World.(*simconn.Connector).Order(t.Context(), sim.Fault{Host: "heron", Kind: sim.Crashes}); err != nil {
		t.Fatal(err)
	}
	got, err := h.Read(t.Context(), []string{"heron"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	r := got["heron"]
	if r.Reached() || len(r.Guests) != 8 || r.Capacity.MemoryMiB == 0 {
		t.Errorf("a silent host counts as running its guests: reached %v, %d guests", r.Reached(), len(r.Guests))
	}
	for _, v := range h.Check(h.Checker(), got)["heron"] {
		if v.Component.Section() == estate.Packages && v.Outcome.String() != "unread" {
			t.Errorf("%s of a silent host is %v", v.Component, v.Outcome)
		}
	}
}

func TestStartRefusesAndLeavesNothing(t *testing.T) {
	h := open(t)
	for name, c := range map[string]struct {
		brief plan.Brief
		want  error
		says  string
	}{
		"look only":  {brief(h, "yard"), nil, "allows looking at it only"},
		"obstacles":  {brief(h, "tides"), ErrObstacles, "godwit: closed"},
		"nothing":    {brief(h, "vts", "lapwing"), nil, "would visit no host"},
		"no cluster": {plan.Brief{Cluster: "marsh"}, nil, `no cluster or host "marsh"`},
	} {
		_, err := h.Start(t.Context(), c.brief, nil)
		if err == nil || !strings.Contains(err.Error(), c.says) || c.want != nil && !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if rounds, err := h.Store.Rounds(t.Context(), ""); err != nil || len(rounds) > 0 {
		t.Errorf("a refused round was begun: %v %v", rounds, err)
	}
	if held, err := h.Store.Holder(t.Context(), "tides"); held != nil || err != nil {
		t.Errorf("a refused round keeps the lease: %v %v", held, err)
	}
}

// A cluster's baseline may follow a Debian archive; an archive that is damaged adds nothing.
func TestIndexesFillTheCatalogue(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("a_dists_s_main_binary-amd64_Packages", "Package: ssl\nVersion: 2\nArchitecture: amd64\n")
	cat := &catalogue.Catalogue{}
	if err := LoadIndexes(cat, dir, "amd64", nil, time.Now()); err != nil || cat.Newest("deb:ssl", "", catalogue.Rule{}) == nil {
		t.Errorf("%v, %d components", err, cat.Len())
	}
	write("b_dists_s_main_binary-amd64_Packages.gz", "this is not gzip")
	cat = &catalogue.Catalogue{}
	if err := LoadIndexes(cat, dir, "amd64", nil, time.Now()); err == nil || cat.Len() > 0 {
		t.Errorf("with a damaged index: %v, %d components", err, cat.Len())
	}
}

// A payload that was damaged on the way blocks before anything is touched.
func TestADamagedPayloadIsNeverApplied(t *testing.T) {
	h := open(t)
	files, err := filepath.Glob(filepath.Join(h.Payloads.Dir, "deb_brae-tls_1.9*"))
	if err != nil || len(files) != 1 {
		t.Fatal(files, err)
	}
	if err := os.WriteFile(files[0], []byte("damaged"), 0o600); err != nil {
		t.Fatal(err)
	}
	_, err = h.Start(t.Context(), brief(h, "vts", "knot"), nil)
	if !errors.Is(err, ErrObstacles) || !strings.Contains(err.Error(), "damaged or not the one") {
		t.Errorf("%v", err)
	}
	if w, err := h.World.(border).World.(*simconn.Connector).World(t.Context()); err != nil || len(w.Acts) > 0 {
		t.Errorf("%v %v", w.Acts, err)
	}
}

func TestAWithdrawalIsSeenWithoutOpeningAnew(t *testing.T) {
	h := open(t)
	p, err := h.Plan(t.Context(), brief(h, "vts", "knot"))
	if err != nil || len(p.Visits) != 1 {
		t.Fatal(p, err)
	}
	c := p.Visits[0].Changes[0]
	if why := h.withdrawn(c); why != "" {
		t.Errorf("it stands: %q", why)
	}
	list := filepath.Join(h.dir, h.file.Releases[0])
	text, err := os.ReadFile(list)
	if err != nil {
		t.Fatal(err)
	}
	now := strings.Replace(string(text), "- version: 1.9-brae1\n", "- version: 1.9-brae1\n        withdrawn: it leaks\n", 1)
	if err := os.WriteFile(list, []byte(now), 0o600); err != nil {
		t.Fatal(err)
	}
	if why := h.withdrawn(c); why != "it leaks" {
		t.Errorf("withdrawn: %q", why)
	}
	if err := os.WriteFile(list, []byte("broken: ["), 0o600); err != nil {
		t.Fatal(err)
	}
	if why := h.withdrawn(c); !strings.Contains(why, "can't be told") {
		t.Errorf("with a broken list: %q", why)
	}
}

// F8: what steps took in past rounds is what the next plan expects.
func TestTimesAreLearnedFromRounds(t *testing.T) {
	h := open(t)
	s, err := h.Start(t.Context(), brief(h, "vts"), nil)
	if err != nil || s.Status != plan.Finished {
		t.Fatal(s, err)
	}
	times, err := h.Times(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	middle, worst, from := times.Usual(plan.RestartStep, "Quay 1")
	if from == "assumed" || middle <= 0 || worst < middle {
		t.Errorf("%v %v %s", middle, worst, from)
	}
	if _, err := h.Resume(t.Context(), "vts", "tester", nil); err == nil || !strings.Contains(err.Error(), "is finished") {
		t.Errorf("a finished round was resumed: %v", err)
	}
	if _, err := h.Ask(t.Context(), "vts", plan.AskStop, "tester"); err == nil {
		t.Error("a finished round was asked to stop")
	}
}
