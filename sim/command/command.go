// Package command has the commands of the simulated estate: yare demo, which opens the screens on it, and yare sim, which
// runs it. They are added to the command line as a way to an estate that comes with the program.
package command

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/cli"
	"yareharbour/connector"
	"yareharbour/harbour"
	"yareharbour/plain"
	"yareharbour/sim"
	"yareharbour/sim/conn"
	"yareharbour/sim/demo"
)

// speeds of the simulated estate, in its seconds per one of ours.
const (
	screenSpeed = 30
	runSpeed    = 800
)

// flag is the option by which other commands work on the demo estate.
const flag = "demo"

// Estate brings the demo estate.
func Estate() cli.Bring {
	return cli.Bring{Flag: flag, Help: "work on the demo estate, and start its simulation if needed",
		Commands: func(a *cli.App) []*cobra.Command { return []*cobra.Command{demoCommand(a), simCommand(a)} },
		Before:   func(ctx context.Context, a *cli.App) error { return start(ctx, a, a.State(), 0) },
		After:    tellPast, Words: map[string][]string{"FAULT": faults()}}
}

func demoCommand(a *cli.App) *cobra.Command {
	var example bool
	var out string
	var speed float64
	var hosts int
	c := &cobra.Command{
		Use:   "demo",
		Short: "Open the screens on a simulated estate, or run the whole example without one",
		Long: `Opens the screens on the demo estate of a made-up port authority. Its simulation is a process
of its own that continues when the screens are closed; it ends after half an hour without a request.

With --hosts N it is an estate of that many hosts, with every situation in it, in a state directory of its own.

With --run the whole example is done without a screen, on a fresh estate at high speed: read, check, a round
over one cluster, check again, reports. The exit code is 0 only if every host of that cluster is in line
afterwards and every guest still runs.`,
		Example: "  yare demo\n  yare demo --speed 120\n  yare demo --hosts 1000\n" +
			"  yare demo --run --out /tmp/demo-reports",
	}
	c.RunE = func(c *cobra.Command, _ []string) error {
		if hosts != 0 && (example || hosts < 16 || hosts > demo.MostHosts) {
			return a.Usage("--hosts takes a number from 16 to %d, and goes without --run", demo.MostHosts)
		}
		if example {
			if out == "" {
				out = filepath.Join(a.State(), "demo-reports")
			}
			return runExample(c.Context(), a, out, speed)
		}
		state := a.State()
		if !c.Flags().Changed("state") {
			if !a.Asked(flag) {
				state = filepath.Join(state, "demo")
			}
			if hosts > 0 {
				state += fmt.Sprintf("-%d", hosts)
			}
		}
		a.Use(flag, state)
		if hosts > 0 {
			if err := demo.WriteFleet(state, hosts); err != nil {
				return fmt.Errorf("writing the demo's files: %w", err)
			}
		}
		if err := start(c.Context(), a, state, speed); err != nil {
			return err
		}
		err := a.Screens(c.Context())
		plain.Fprintf(a.Err(), "The simulated estate continues, and with it any round. To end it: yare sim stop --state %s\n", state)
		return err
	}
	f := c.Flags()
	f.BoolVar(&example, "run", false, "do the whole example without a screen")
	f.StringVar(&out, "out", "", "with --run: directory for the reports (default demo-reports in the state directory)")
	f.IntVar(&hosts, "hosts", 0, "an estate of this many hosts")
	f.Float64Var(&speed, "speed", 0, "seconds of the estate that pass in one of ours (default 30, with --run 800)")
	return c
}

// start writes the demo's files and starts its simulation where they are not there yet.
func start(ctx context.Context, a *cli.App, state string, speed float64) error {
	if err := demo.Write(state); err != nil {
		return fmt.Errorf("writing the demo's files: %w", err)
	}
	dir := filepath.Join(state, demo.SimDir)
	c, err := conn.Dial(ctx, dir)
	if err != nil {
		if speed == 0 {
			speed = screenSpeed
		}
		told, err := a.Spawn(simLog, "sim", "--state", state, "--speed", fmt.Sprint(speed))
		if err != nil {
			return err
		}
		if err := told.Close(); err != nil {
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
// look back on. What a host was judged against at each time is what had been released by then.
func tellPast(ctx context.Context, h *harbour.Harbour) error {
	hosts, err := h.Hosts()
	if err != nil {
		return err
	}
	unknown, err := h.Unknown(ctx)
	const many = 100 // beyond them it would take too long to be a demo
	if err != nil || !unknown || len(hosts) > many {
		return err
	}
	w := demo.Fleet(len(hosts))
	for _, day := range demo.Days() {
		seenBy := ""
		if day.Equal(demo.LookedAt) {
			seenBy = "day shift"
		}
		if err := h.Remember(ctx, day, demo.Past(w, day), seenBy); err != nil {
			return err
		}
	}
	return nil
}

func dialSoon(ctx context.Context, dir string) (*conn.Connector, error) {
	for start := time.Now(); ; {
		c, err := conn.Dial(ctx, dir)
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

func simCommand(a *cli.App) *cobra.Command {
	var speed float64
	var idle time.Duration
	c := &cobra.Command{
		Use:   "sim",
		Short: "Run the simulated estate in the foreground",
		Long: `Runs the simulated estate: hosts behind an interface of their own, BMCs that speak Redfish
over HTTPS on loopback. Its world is kept in the state directory and continues where it was left. "yare demo"
starts it automatically.`,
		Example: "  yare sim --state /tmp/y --speed 60\n  yare sim fault curlew no-return --state /tmp/y",
		RunE: func(c *cobra.Command, _ []string) error {
			if err := demo.Write(a.State()); err != nil {
				return err
			}
			wait, err := sim.Start(c.Context(),
				sim.Options{Dir: filepath.Join(a.State(), demo.SimDir), Speed: speed, Idle: idle, New: demo.World})
			if err != nil {
				return err
			}
			return wait()
		},
	}
	c.Flags().Float64Var(&speed, "speed", screenSpeed, "seconds of the estate that pass in one of ours")
	c.Flags().DurationVar(&idle, "idle", 30*time.Minute, "end after this long without a request; 0 is never")
	c.AddCommand(faultCommand(a), &cobra.Command{
		Use:     "stop",
		Short:   "End the simulated estate's process; its world is kept",
		Long:    "Ends the process that simulates the estate. Its world is kept, and continues with the next start.",
		Example: "  yare --demo sim stop",
		RunE:    func(*cobra.Command, []string) error { return stop(filepath.Join(a.State(), demo.SimDir)) },
	})
	return c
}

// faults are the kinds of them.
func faults() (out []string) {
	for _, k := range sim.FaultKinds {
		out = append(out, string(k))
	}
	return out
}

func faultCommand(a *cli.App) *cobra.Command {
	times := 1
	kinds := strings.Join(faults(), ", ")
	c := &cobra.Command{
		Use:     "fault HOST FAULT",
		Short:   "Order a fault for a simulated host",
		Long:    "Orders a fault for a simulated host. The faults: " + kinds + ".",
		Example: "  yare --demo sim fault heron install-fails",
		RunE: func(c *cobra.Command, args []string) error {
			if !slices.Contains(sim.FaultKinds, sim.FaultKind(args[1])) {
				return a.Usage("there is no fault %q; there are %s", args[1], kinds)
			}
			way, err := conn.Dial(c.Context(), filepath.Join(a.State(), demo.SimDir))
			if err != nil {
				return err
			}
			defer way.Hangup()
			if err := way.Order(c.Context(), sim.Fault{Host: args[0], Kind: sim.FaultKind(args[1]), Times: times}); err != nil {
				return err
			}
			often := "once"
			if times != 1 {
				often = fmt.Sprintf("%d times", times)
			}
			plain.Fprintf(a.Out(), "ordered: %s on %s, %s\n", args[1], args[0], often)
			return nil
		},
	}
	c.Flags().IntVar(&times, "times", 1, "how often it strikes")
	return c
}

// stop asks the simulation of dir to end, and waits until it has. One that is not there has ended.
func stop(dir string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	c, err := conn.Dial(ctx, dir)
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
