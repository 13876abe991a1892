package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/chart"
	"yareharbour/connector"
	simconn "yareharbour/connector/sim"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/demo"
	"yareharbour/export"
	"yareharbour/format/plain"
	"yareharbour/format/report"
	"yareharbour/harbour"
	"yareharbour/secret"
	"yareharbour/sim"
	"yareharbour/store"
)

// speeds of the simulated estate, in its seconds per one of ours.
const (
	screenSpeed = 30
	runSpeed    = 800
)

func (a *app) demoCommand() *cobra.Command {
	var run bool
	var out string
	var speed float64
	var hosts int
	c := &cobra.Command{
		Use:   "demo",
		Short: "Open the screens on a simulated estate, or run the whole example without one",
		Long: `Opens the screens on the demo estate of a made-up port authority. Its simulation is a process
of its own that goes on when the screens are closed; it ends after half an hour in which nobody asked for it.

With --hosts N it is an estate of that many hosts, with every situation in it, in a state directory of its own.

With --run the whole example is done without a screen, on a fresh estate at high speed: read, check, a round
over one cluster, check again, reports. The exit code is 0 only if every host of that cluster is in line
afterwards and every guest still runs.`,
		Example: "  yare demo\n  yare demo --speed 120\n  yare demo --hosts 1000\n" +
			"  yare demo --run --out /tmp/demo-reports",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if hosts != 0 && (run || hosts < 16 || hosts > demo.MostHosts) {
				return fmt.Errorf("--hosts takes a number from 16 to %d, and goes without --run", demo.MostHosts)
			}
			if run {
				if out == "" {
					out = filepath.Join(a.state, "demo-reports")
				}
				return a.demoRun(c.Context(), out, speed)
			}
			if !c.Flags().Changed("state") && !a.demo {
				a.state = filepath.Join(a.state, "demo")
				if hosts > 0 {
					a.state += fmt.Sprintf("-%d", hosts)
				}
			}
			a.demo = true
			if hosts > 0 {
				if err := demo.WriteFleet(a.state, hosts); err != nil {
					return fmt.Errorf("writing the demo's files: %w", err)
				}
			}
			if err := a.startDemo(c.Context(), speed); err != nil {
				return err
			}
			err := a.screens(c.Context())
			plain.Fprintf(a.err, "The simulated estate goes on, and with it any round. To end it: yare sim "+
				"stop --state %s\n", a.state)
			return err
		},
	}
	c.Flags().BoolVar(&run, "run", false, "do the whole example without a screen")
	c.Flags().StringVar(&out, "out", "",
		"with --run: directory for the reports (default demo-reports in the state directory)")
	c.Flags().IntVar(&hosts, "hosts", 0, "an estate of so many hosts")
	c.Flags().Float64Var(&speed, "speed", 0,
		"seconds of the estate that pass in one of ours (default 30, with --run 800)")
	return c
}

// startDemo writes the demo's files and starts its simulation where they are not there yet.
func (a *app) startDemo(ctx context.Context, speed float64) error {
	if err := demo.Write(a.state); err != nil {
		return fmt.Errorf("writing the demo's files: %w", err)
	}
	dir := filepath.Join(a.state, demo.SimDir)
	c, err := simconn.Dial(ctx, dir)
	if err != nil {
		if err := a.spawnSim(speed); err != nil {
			return err
		}
		if c, err = dialSoon(ctx, dir); err != nil {
			return err
		}
		speed = 0
	}
	defer c.Hangup()
	if speed > 0 {
		return c.SetSpeed(ctx, speed)
	}
	return nil
}

// tellPast gives a demo estate that nobody has read yet the readings of the weeks before, so that there is something to
// look back on. What a host was held against at each time is what had been released by then.
func (a *app) tellPast(ctx context.Context, h *harbour.Harbour) error {
	hosts, err := h.Hosts()
	if err != nil {
		return err
	}
	kept, err := h.Readings.Newest(ctx, hosts)
	if err != nil || len(kept) > 0 {
		return err
	}
	const many = 100 // beyond them it would take too long to be a demo
	if len(hosts) > many {
		return nil
	}
	w := demo.Fleet(len(hosts))
	for _, day := range demo.Days() {
		readings := demo.Past(w, day)
		if err := h.Readings.KeepReadings(ctx, ordered(readings, hosts)); err != nil {
			return err
		}
		c := &drift.Checker{Catalogue: h.Catalogue().Until(day), Baselines: h.Baselines(), Now: day}
		for _, cl := range h.Estate.Clusters {
			verdicts := map[string][]drift.Verdict{}
			for _, host := range cl.Hosts {
				verdicts[host] = c.Host(cl.Name, readings[host])
			}
			if err := h.Tallies.KeepTally(ctx, cl.Name, drift.Count(day, cl.Hosts, verdicts)); err != nil {
				return err
			}
			if day.Equal(demo.LookedAt) {
				if err := h.Tallies.KeepLook(ctx, cl.Name,
					store.Look{At: day, By: "day shift", Seen: drift.See(verdicts)}); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func dialSoon(ctx context.Context, dir string) (*simconn.Connector, error) {
	for start := time.Now(); ; {
		c, err := simconn.Dial(ctx, dir)
		if err == nil || ctx.Err() != nil {
			return c, err
		}
		if time.Since(start) > 20*time.Second {
			return nil, fmt.Errorf("the simulated estate did not come up: %w; its own words are in %s", err,
				filepath.Join(filepath.Dir(dir), simLog))
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// simLog is where the simulation's process writes what it has to say, below the state directory.
const simLog = "sim.log"

// spawnSim starts the simulation as a process of its own that outlives this one.
func (a *app) spawnSim(speed float64) error {
	if speed == 0 {
		speed = screenSpeed
	}
	told, err := a.spawn(simLog, "sim", "--state", a.state, "--speed", fmt.Sprint(speed))
	if err != nil {
		return err
	}
	return told.Close()
}

// spawn starts this program again, in a session of its own, with its output going to a file below the state directory.
// What it tells on its file descriptor 3 can be read.
func (a *app) spawn(log string, args ...string) (told *os.File, err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(a.state, log), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	told, tell, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer tell.Close()
	cmd := exec.Command(self, args...)
	cmd.Env = secret.Environ() // it needs the passwords; no other child of ours gets them
	cmd.Stdout, cmd.Stderr, cmd.ExtraFiles = f, f, []*os.File{tell}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return nil, errors.Join(err, told.Close())
	}
	go func() { _ = cmd.Wait() }()
	return told, nil
}

// tale is what a round's process tells whoever started it, once: that it has begun, or why not.
type tale struct {
	Begun bool   `json:"begun"`
	Error string `json:"error,omitempty"`
}

// demoCluster is the cluster that the example mends.
const demoCluster = "vts"

func (a *app) demoRun(ctx context.Context, out string, speed float64) (err error) {
	if speed == 0 {
		speed = runSpeed
	}
	if a.state, err = os.MkdirTemp("", "yare-demo-"); err != nil {
		return err
	}
	defer os.RemoveAll(a.state)
	if err := a.startDemo(ctx, speed); err != nil {
		return err
	}
	h, err := harbour.Open(ctx, harbour.Options{State: a.state})
	if err != nil {
		return err
	}
	defer h.Close()
	return errors.Join(a.example(ctx, h, out), stopSim(filepath.Join(a.state, demo.SimDir)))
}

// example is what demo --run does.
func (a *app) example(ctx context.Context, h *harbour.Harbour, out string) error {
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	c, err := h.Cluster(demoCluster)
	if err != nil {
		return err
	}
	before, err := a.look(ctx, h, c, out, "before")
	if err != nil {
		return err
	}
	s, err := h.Start(ctx, harbour.Start{Brief: plan.DefaultBrief(c), By: operator(),
		Reason: "the demo's example round"}, a.printEvent)
	if err != nil {
		return err
	}
	_, head, err := h.Latest(ctx, c.Name)
	if err != nil {
		return err
	}
	after, err := a.look(ctx, h, c, out, "after")
	if err != nil {
		return err
	}
	if err := writeAll(out, "round", export.Formats, export.Round(head.ID, s)); err != nil {
		return err
	}
	e, err := h.View(ctx)
	if err != nil {
		return err
	}
	if err := writeAll(out, "waterline", chart.Formats, export.Waterline(e, narrow.Filter{})); err != nil {
		return err
	}
	plain.Fprintf(a.out, "reports are in %s\n", out)
	return verdictOfExample(h, c, before, after, s)
}

// look reads and checks a cluster, prints the sum and writes the report.
func (a *app) look(
	ctx context.Context,
	h *harbour.Harbour,
	c estate.Cluster,
	out, when string,
) (map[string]*estate.Reading, error) {
	readings, err := h.Read(ctx, c.Hosts, nil)
	if err != nil {
		return nil, err
	}
	check := h.Checker()
	d := report.NewDrift(h.Estate.Clusters, check, readings, h.Check(check, readings), c.Hosts, narrow.Filter{})
	d.Estate = h.Estate.Name
	plain.Fprintf(a.out, "%s, %s the round: %s\n", c.Name, when, d.Summary.Says())
	return readings, writeAll(out, "drift-"+when, export.Words, d.Write)
}

func verdictOfExample(
	h *harbour.Harbour,
	c estate.Cluster,
	before, after map[string]*estate.Reading,
	s *course.State,
) error {
	if s.Status != course.Finished {
		return fmt.Errorf("the round ended as %s: %s", s.Status, s.Detail)
	}
	check := h.Checker()
	for _, r := range ordered(after, c.Hosts) {
		for _, v := range check.Host(c.Name, r) {
			if v.Outcome.Drifts() || v.Outcome.Open() {
				return fmt.Errorf("%s is not in line after the round: %s is %s", v.Host, v.Title(), v.Outcome)
			}
		}
	}
	return ranThrough(before, after)
}

// ranThrough holds that every guest that ran before runs now and was not started in between.
func ranThrough(before, after map[string]*estate.Reading) error {
	since := map[string]time.Time{}
	for _, r := range after {
		for _, g := range r.RunningGuests() {
			since[g.Name] = g.Since
		}
	}
	n := 0
	for _, r := range before {
		for _, g := range r.RunningGuests() {
			if at, ok := since[g.Name]; !ok || !at.Equal(g.Since) {
				return fmt.Errorf("the guest %s ran before the round and did not run through it", g.Name)
			}
			n++
		}
	}
	if n == 0 {
		return errors.New("no guest ran before the round, which proves nothing")
	}
	return nil
}

// stopSim asks the simulation of dir to end, and waits until it has. One that is not there has ended.
func stopSim(dir string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	c, err := simconn.Dial(ctx, dir)
	if errors.Is(err, connector.ErrUnreachable) {
		return nil
	}
	if err != nil {
		return err
	}
	defer c.Hangup()
	if err := c.Stop(ctx); err != nil {
		return err
	}
	for ctx.Err() == nil {
		if _, err := sim.ReadAddress(dir); err != nil {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("the simulated estate of %s does not end", dir)
}
