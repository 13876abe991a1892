package cli

import (
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	simconn "yareharbour/connector/sim"
	"yareharbour/demo"
	"yareharbour/format/plain"
	"yareharbour/sim"
)

func (a *app) simCommand() *cobra.Command {
	var speed float64
	var idle time.Duration
	c := &cobra.Command{
		Use:   "sim",
		Short: "Run the simulated estate in the foreground",
		Long: `Runs the simulated estate: hosts behind an interface of their own, BMCs that speak Redfish
over HTTPS on loopback. Its world is kept in the state directory and goes on where it was left. "yare demo"
starts it by itself.`,
		Example: "  yare sim --state /tmp/y --speed 60\n  yare sim fault curlew no-return --state /tmp/y",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := demo.Write(a.state); err != nil {
				return err
			}
			wait, err := sim.Start(c.Context(),
				sim.Options{Dir: filepath.Join(a.state, demo.SimDir), Speed: speed, Idle: idle, New: demo.World})
			if err != nil {
				return err
			}
			return wait()
		},
	}
	c.Flags().Float64Var(&speed, "speed", screenSpeed, "seconds of the estate that pass in one of ours")
	c.Flags().DurationVar(&idle, "idle", 30*time.Minute, "end after so long without a request; 0 is never")
	c.AddCommand(a.simFaultCommand(), a.simStopCommand())
	return c
}

func (a *app) simFaultCommand() *cobra.Command {
	times := 1
	var kinds []string
	for _, k := range sim.FaultKinds {
		kinds = append(kinds, string(k))
	}
	c := &cobra.Command{
		Use:       "fault HOST KIND",
		Short:     "Order a fault for a simulated host",
		Long:      "Orders a fault for a simulated host. The kinds: " + strings.Join(kinds, ", ") + ".",
		Example:   "  yare --demo sim fault heron install-fails",
		Args:      cobra.ExactArgs(2),
		ValidArgs: kinds,
		RunE: func(c *cobra.Command, args []string) error {
			conn, err := simconn.Dial(c.Context(), filepath.Join(a.state, demo.SimDir))
			if err != nil {
				return err
			}
			defer conn.Hangup()
			if err := conn.Order(c.Context(),
				sim.Fault{Host: args[0], Kind: sim.FaultKind(args[1]), Times: times}); err != nil {
				return err
			}
			plain.Fprintf(a.out, "ordered: %s on %s, %d time(s)\n", args[1], args[0], times)
			return nil
		},
	}
	c.Flags().IntVar(&times, "times", 1, "how often it strikes")
	return c
}

func (a *app) simStopCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "stop",
		Short:   "End the simulated estate's process; its world is kept",
		Example: "  yare --demo sim stop",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			return stopSim(filepath.Join(a.state, demo.SimDir))
		},
	}
}
