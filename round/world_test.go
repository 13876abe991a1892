package round

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/demo"
	"yareharbour/format/baselinefile"
	"yareharbour/format/releaselist"
	"yareharbour/sim"
	"yareharbour/store"
)

// harness runs rounds on a simulated world in the test's own time: sleeping is what lets time pass.
type harness struct {
	t         *testing.T
	mu        sync.Mutex
	world     *sim.World
	journal   []plan.Event
	requests  []store.Request
	releases  *catalogue.Catalogue
	baselines []baseline.Baseline
	payloads  payloadDir
	ops       int  // calls that could be the last before the program dies
	dieAt     int  // 0: it lives
	after     bool // it dies when the call was carried out, but before it hears so
	dead      bool
	broken    []string // invariants that were seen broken
	onSleep   func(*harness)
	withdrawn func(plan.Change) string
}

var errDead = errors.New("the program is dead")

// files are the demo's files, written once for all tests.
var files = sync.OnceValue(func() string {
	dir, err := os.MkdirTemp("", "yare-round-test-")
	if err != nil {
		panic(err)
	}
	if err := demo.Write(dir); err != nil {
		panic(err)
	}
	return dir
})

func TestMain(m *testing.M) {
	code := m.Run()
	os.RemoveAll(files())
	os.Exit(code)
}

func newHarness(t *testing.T, w *sim.World) *harness {
	t.Helper()
	h := &harness{t: t, world: clone(t, w), releases: &catalogue.Catalogue{}, payloads: payloadDir(filepath.Join(files(), "payloads"))}
	for _, name := range []string{"brae.yaml", "corran.yaml"} {
		text := mustRead(t, filepath.Join(files(), "releases", name))
		batch, err := releaselist.Parse(name, text)
		if err != nil {
			t.Fatal(err)
		}
		h.releases.AddBatch(batch)
	}
	for _, name := range []string{"platform.yaml", "hardware.yaml"} {
		b, err := baselinefile.Parse(name, mustRead(t, filepath.Join(files(), "baselines", name)))
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range w.Estate.Clusters {
			b.Assign = append(b.Assign, c.Name)
		}
		h.baselines = append(h.baselines, b)
	}
	return h
}

func clone(t *testing.T, w *sim.World) *sim.World {
	t.Helper()
	b, err := json.Marshal(w)
	if err != nil {
		t.Fatal(err)
	}
	c := &sim.World{}
	if err := json.Unmarshal(b, c); err != nil {
		t.Fatal(err)
	}
	return c
}

func mustRead(t *testing.T, file string) []byte {
	t.Helper()
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// plan plans a round over the cluster.
func (h *harness) plan(cluster string, hosts ...string) plan.Plan {
	c, _ := h.world.Estate.Cluster(cluster)
	readings, verdicts := h.check(c)
	b := plan.DefaultBrief(c)
	b.By, b.Reason, b.Hosts = "tester", "a test", hosts
	return plan.Make(plan.Input{Brief: b, Now: h.world.Now, Cluster: c, Readings: readings, Verdicts: verdicts, Payloads: h.payloads.Check,
		Times: plan.Times{}, Catalogue: h.releases})
}

func (h *harness) check(c estate.Cluster) (map[string]*estate.Reading, map[string][]drift.Verdict) {
	checker := &drift.Checker{Catalogue: h.releases, Baselines: h.baselines, Now: h.world.Now}
	readings, verdicts := map[string]*estate.Reading{}, map[string][]drift.Verdict{}
	for _, host := range c.Hosts {
		r, err := h.Read(context.Background(), host)
		if err != nil {
			h.t.Fatal(err)
		}
		readings[host], verdicts[host] = r, checker.Host(c.Name, r)
	}
	return readings, verdicts
}

// start begins a round and runs it until it ends or dies.
func (h *harness) start(p plan.Plan) (*plan.State, error) {
	h.journal = append(h.journal, plan.Event{Seq: 1, At: h.world.Now, Kind: plan.Started, Plan: &p})
	return h.run(p.Brief.Cluster)
}

// resume is what a new process does after the old one died or the round stood still.
func (h *harness) resume(cluster string) (*plan.State, error) {
	h.dieAt, h.dead = 0, false
	h.journal = append(h.journal, plan.Event{Seq: int64(len(h.journal) + 1), At: h.world.Now, Kind: plan.Asked, Detail: plan.AskGoOn})
	return h.run(cluster)
}

func (h *harness) run(cluster string) (*plan.State, error) {
	s, err := plan.Fold(h.journal)
	if err != nil {
		h.t.Fatal(err)
	}
	c, _ := h.world.Estate.Cluster(cluster)
	r := Runner{ID: "R1", Cluster: c, World: h, Journal: h, Payloads: h.payloads, Withdrawn: h.withdrawn}
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	return s, r.Run(ctx, s)
}

// inLine tells what is still out of line in the cluster.
func (h *harness) inLine(cluster string) (wrong []string) {
	c, _ := h.world.Estate.Cluster(cluster)
	_, verdicts := h.check(c)
	for _, host := range c.Hosts {
		for _, v := range verdicts[host] {
			if v.Outcome.Drifts() || v.Outcome == drift.Unread {
				wrong = append(wrong, fmt.Sprintf("%s: %s is %v", host, v.Title(), v.Outcome))
			}
		}
		if h.world.Hosts[host].Reading.Closed != nil {
			wrong = append(wrong, host+" is closed")
		}
	}
	return wrong
}

// step is passed before a call takes effect, and again after: the two instants at which the program may die.
func (h *harness) step(effect func() error) error {
	if h.dead {
		return errDead
	}
	h.ops++
	if h.ops == h.dieAt && !h.after {
		h.dead = true
		return errDead
	}
	err := effect()
	if h.ops == h.dieAt {
		h.dead = true
		return errDead
	}
	return err
}

// intended holds every act to the journal: the newest entry must be the intent of just this act.
func (h *harness) intended(kind plan.ActionKind, host string) {
	last := h.journal[len(h.journal)-1]
	if last.Kind != plan.Intent || last.Action.Kind != kind && !(kind == plan.Close && last.Action.Kind == plan.Remark) || last.Action.Host != host {
		h.broken = append(h.broken, fmt.Sprintf("%s on %s was done without an intent; the newest entry is %s %+v", kind, host, last.Kind, last.Action))
	}
}

func (h *harness) act(kind plan.ActionKind, host string, do func() error) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.step(func() error {
		h.intended(kind, host)
		err := do()
		h.watch()
		return err
	})
}

// watch looks for broken invariants after every act.
func (h *harness) watch() {
	closed := map[string]int{}
	for name, host := range h.world.Hosts {
		c, _ := h.world.Estate.ClusterOf(name)
		if m := host.Reading.Closed; m != nil {
			closed[c.Name]++
		}
	}
	for c, n := range closed {
		if n > 1 {
			h.broken = append(h.broken, fmt.Sprintf("%d hosts of %s are closed at once", n, c))
		}
	}
	seen := map[string]string{}
	for name, host := range h.world.Hosts {
		for _, g := range host.Reading.Guests {
			if other, twice := seen[g.Name]; twice {
				h.broken = append(h.broken, fmt.Sprintf("%s is on %s and on %s", g.Name, name, other))
			}
			seen[g.Name] = name
		}
	}
}

// The World that the runner sees.

func (h *harness) Now() time.Time {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.world.Now
}

func (h *harness) Sleep(ctx context.Context, d time.Duration) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.world.Advance(h.world.Now.Add(d))
	if h.onSleep != nil {
		h.onSleep(h)
	}
	if h.dead {
		return errDead
	}
	return ctx.Err()
}

func (h *harness) Read(_ context.Context, host string, _ ...estate.SectionName) (*estate.Reading, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.dead {
		return nil, errDead
	}
	r, err := h.world.Read(host)
	if err != nil {
		r = &estate.Reading{Host: host}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: h.world.Now, Err: err.Error()})
		}
	}
	at := h.world.Hosts[host]
	b, err := h.world.Controller(host)
	for _, s := range []estate.SectionName{estate.FirmwareItems, estate.HealthItems, estate.BMCState} {
		section := estate.Section{Name: s, At: h.world.Now, Source: "BMC", Err: at.Unread[s]}
		if err != nil {
			section.Err = err.Error()
		}
		r.SetSection(section)
	}
	if err == nil {
		r.Health, r.BMC = slices.Clone(b.Reading.Health), estate.BMC{Power: "On", Queue: b.Stale + len(h.world.Running(host, true))}
		for _, c := range b.Reading.Components {
			if c.Key.Layer() == estate.Firmware {
				r.Components = append(r.Components, c)
			}
		}
	}
	r.Guests = slices.Clone(r.Guests)
	r.Sort()
	return r, nil
}

func (h *harness) Stage(_ context.Context, host, file string, body []byte) (sum string, err error) {
	err = h.act(plan.Stage, host, func() error { sum, err = h.world.Stage(host, file, body); return err })
	return sum, err
}

func (h *harness) Staged(_ context.Context, host, file string) (string, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.world.Staged(host, file)
}

func (h *harness) Move(_ context.Context, host, guest, to string) (task string, err error) {
	err = h.act(plan.Move, host, func() error { task, err = h.world.Move(host, guest, to); return err })
	return task, err
}

func (h *harness) Close(_ context.Context, host string, m estate.Mark) error {
	return h.act(plan.Close, host, func() error { return h.world.Close(host, m) })
}

func (h *harness) Open(_ context.Context, host, round string) error {
	return h.act(plan.Reopen, host, func() error { return h.world.Open(host, round) })
}

func (h *harness) Change(_ context.Context, host string, item connector.Item) (task string, err error) {
	err = h.act(plan.Install, host, func() error {
		if item.Component.Layer() != estate.Firmware {
			task, err = h.world.Change(host, item)
			return err
		}
		p, err := sim.ParsePayload(item.Body)
		if err != nil {
			return err
		}
		task, err = h.world.Flash(host, item.Device, p)
		return err
	})
	return task, err
}

func (h *harness) Restart(_ context.Context, host, reason string) (task string, err error) {
	err = h.act(plan.Restart, host, func() error {
		if n := h.world.Hosts[host].Reading.Used().MemoryMiB; n > 0 {
			h.broken = append(h.broken, host+" was restarted with guests on it")
		}
		task, err = h.world.Reboot(host, reason)
		return err
	})
	return task, err
}

func (h *harness) Task(_ context.Context, host, id string) (connector.Task, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	t, err := h.world.Task(id)
	if err == nil && t.Kind == "firmware" {
		_, err = h.world.Controller(host)
	}
	return t.Task, err
}

func (h *harness) Running(_ context.Context, host string) (out []connector.Task, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, bmc := range []bool{false, true} {
		for _, t := range h.world.Running(host, bmc) {
			out = append(out, t.Task)
		}
	}
	return out, nil
}

// The journal.

func (h *harness) Append(_ context.Context, e plan.Event) (plan.Event, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	err := h.step(func() error {
		e.Seq = int64(len(h.journal) + 1)
		h.journal = append(h.journal, e)
		return nil
	})
	return e, err
}

func (h *harness) Take(context.Context) ([]store.Request, error) {
	q := h.requests
	h.requests = nil
	return q, nil
}

func (h *harness) SetProgress(context.Context, store.Progress) error { return nil }

// The payloads.

// payloadDir gives payload files of a directory.
type payloadDir string

func (d payloadDir) Check(file, sum string) string {
	if _, err := d.Open(file, sum); err != nil {
		return err.Error()
	}
	return ""
}

// acts counts what was done to the world, by kind of act.
func acts(w *sim.World) map[string]int {
	out := map[string]int{}
	for _, a := range w.Acts {
		if !strings.HasPrefix(a, "stage") {
			out[a]++
		}
	}
	return out
}

func (d payloadDir) Open(file, sum string) ([]byte, error) {
	b, err := os.ReadFile(filepath.Join(string(d), file))
	if got := sha256.Sum256(b); err == nil && hex.EncodeToString(got[:]) != sum {
		err = errors.New("wrong hash")
	}
	return b, err
}
