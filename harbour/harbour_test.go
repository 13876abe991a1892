package harbour

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/sim"
	"yareharbour/sim/conn"
	"yareharbour/sim/demo"
)

// open opens the demo estate on a simulation in this process.
func open(t testing.TB) *Harbour { return openAt(t, 800) }

// openAt does so with so many seconds of the simulation to one of ours.
func openAt(t testing.TB, speed float64) *Harbour { return openWorld(t, speed, demo.World) }

// openWorld does so with another world.
func openWorld(t testing.TB, speed float64, world func() *sim.World) *Harbour {
	t.Helper()
	dir := t.TempDir()
	if err := demo.Write(dir); err != nil {
		t.Fatal(err)
	}
	wait, err := sim.Start(t.Context(), sim.Options{Dir: filepath.Join(dir, demo.SimDir), Speed: speed, New: world})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = wait() })
	h, err := Open(t.Context(), Options{State: dir, By: "tester"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.Close() })
	return h
}

// simulation is the world behind the border.
func simulation(h *Harbour) *conn.Connector {
	return h.world.(border).World.(routes).World.(opened).Clock.(*conn.Connector)
}

func unseen(course.Event) {}

func start(b plan.Brief) Start { return Start{Brief: b, Reason: "a test"} }

func brief(h *Harbour, cluster string, hosts ...string) plan.Brief {
	c, _ := h.Estate.Cluster(cluster)
	b := plan.DefaultBrief(c)
	b.Hosts = hosts
	return b
}

func TestReadKeepsWhatAHostLastSaid(t *testing.T) {
	h := open(t)
	if _, err := h.Read(t.Context(), []string{"heron"}, nil); err != nil {
		t.Fatal(err)
	}
	if err := simulation(h).Order(t.Context(), sim.Fault{Host: "heron", Kind: sim.Crashes}); err != nil {
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
		_, err := h.Start(t.Context(), start(c.brief), unseen)
		if err == nil || !strings.Contains(err.Error(), c.says) || c.want != nil && !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if rounds, err := h.rounds.Rounds(t.Context(), ""); err != nil || len(rounds) > 0 {
		t.Errorf("a refused round was begun: %v %v", rounds, err)
	}
	if held, err := h.rounds.Holder(t.Context(), "tides"); held != nil || err != nil {
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
	if err := (indexes{dir: dir, native: "amd64", now: time.Now()}).load(cat); err != nil ||
		cat.Newest("deb:ssl", "", catalogue.Rule{}) == nil {
		t.Errorf("%v, %d components", err, cat.Len())
	}
	write("b_dists_s_main_binary-amd64_Packages.gz", "this is not gzip")
	cat = &catalogue.Catalogue{}
	if err := (indexes{dir: dir, native: "amd64", now: time.Now()}).load(cat); err == nil || cat.Len() > 0 {
		t.Errorf("with a damaged index: %v, %d components", err, cat.Len())
	}
}

// A payload that was damaged on the way blocks before anything is touched.
func TestADamagedPayloadIsNeverApplied(t *testing.T) {
	h := open(t)
	files, err := filepath.Glob(filepath.Join(h.payloads.Dir, "deb_brae-tls_1.9*"))
	if err != nil || len(files) != 1 {
		t.Fatal(files, err)
	}
	if err := os.WriteFile(files[0], []byte("damaged"), 0o600); err != nil {
		t.Fatal(err)
	}
	_, err = h.Start(t.Context(), start(brief(h, "vts", "knot")), unseen)
	if !errors.Is(err, ErrObstacles) || !strings.Contains(err.Error(), "damaged, or not the one") {
		t.Errorf("%v", err)
	}
	if w, err := simulation(h).World(t.Context()); err != nil || len(w.Acts) > 0 {
		t.Errorf("%v %v", w.Acts, err)
	}
}

func TestAWithdrawalIsSeenWithoutOpeningAnew(t *testing.T) {
	h := open(t)
	p, err := h.Plan(t.Context(), brief(h, "vts", "knot"))
	if err != nil || len(p.Visits) != 1 {
		t.Fatal(p, err)
	}
	v, r := &course.Visit{Visit: p.Visits[0]}, &estate.Reading{Host: "knot"}
	withdrawn := func() string { return h.todayOf(&plan.Plan{}, v, r).Withdrawn[0] }
	if why := withdrawn(); why != "" {
		t.Errorf("it stands: %q", why)
	}
	list := filepath.Join(h.dir, h.file.Releases[0])
	text, err := os.ReadFile(list)
	if err != nil {
		t.Fatal(err)
	}
	now := strings.Replace(string(text), "- version: 1.9-brae1\n",
		"- version: 1.9-brae1\n        withdrawn: it leaks\n", 1)
	if err := os.WriteFile(list, []byte(now), 0o600); err != nil {
		t.Fatal(err)
	}
	if why := withdrawn(); why != "it leaks" {
		t.Errorf("withdrawn: %q", why)
	}
	if err := os.WriteFile(list, []byte("broken: ["), 0o600); err != nil {
		t.Fatal(err)
	}
	if why := withdrawn(); !strings.Contains(why, "can't be told") {
		t.Errorf("with a broken list: %q", why)
	}
}

// F8: what steps took in past rounds is what the next plan expects.
func TestTimesAreLearnedFromRounds(t *testing.T) {
	h := open(t)
	s, err := h.Start(t.Context(), start(brief(h, "vts")), unseen)
	if err != nil || s.Status != course.Finished {
		t.Fatal(s, err)
	}
	times, err := h.rounds.Times(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	middle, worst, from := times.Expect(act.RestartStep, "Quay 1", time.Minute, 2*time.Minute)
	if from == "assumed" || middle <= 0 || worst < middle {
		t.Errorf("%v %v %s", middle, worst, from)
	}
	if _, err := h.Resume(t.Context(), "vts", unseen); err == nil ||
		!strings.Contains(err.Error(), "is finished") {
		t.Errorf("a finished round was resumed: %v", err)
	}
	if _, err := h.Ask(t.Context(), "vts", course.Event{Detail: course.AskStop}); err == nil {
		t.Error("a finished round was asked to stop")
	}
}

// The time of day must be the time of day alone: between two times with a monotonic reading no clock is ever seen to be
// set.
func TestTheMachinesTimeOfDayIsTheTimeOfDayAlone(t *testing.T) {
	var c machineClock
	if now := c.Now(); now != now.Round(0) {
		t.Errorf("%s has a monotonic reading", now)
	}
	if a, b := c.Lasted(), c.Lasted(); a <= 0 || b < a {
		t.Errorf("this program has watched for %s, and then for %s", a, b)
	}
}

// A what-if plans a cluster of the demo estate again on the same reading: the largest of three, with everything changed
// that a key changes.
func BenchmarkWhatIf(b *testing.B) {
	h := open(b)
	d := h
	for _, cluster := range []string{"vts", "tides", "yard"} {
		in, err := h.Gather(b.Context(), brief(h, cluster))
		if err != nil {
			b.Fatal(err)
		}
		for name, change := range map[string]func(*plan.Brief){
			"usual":          func(*plan.Brief) {},
			"two at once":    func(b *plan.Brief) { b.Out = 2 },
			"no reserve":     func(b *plan.Brief) { b.Reserve = 0 },
			"reserve of two": func(b *plan.Brief) { b.Reserve = 2 },
			"lightest first": func(b *plan.Brief) { b.Order = plan.LightestFirst },
		} {
			asked := *in
			change(&asked.Brief)
			b.Run(cluster+", "+name, func(b *testing.B) {
				for b.Loop() {
					if _, err := d.Make(asked); err != nil {
						b.Fatal(err)
					}
				}
			})
		}
	}
}
