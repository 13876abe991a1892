// Package cli is the command line. A command parses what it is told, has harbour and core do it, and prints; it
// computes nothing itself.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"os/user"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"

	"yareharbour/format/plain"
	"yareharbour/harbour"
)

// Exit codes that mean something.
const (
	exitFailure = 1
	exitDrift   = 3
	exitUnread  = 4
)

// exit is an error that asks for a code and says nothing.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// app holds what all commands share.
type app struct {
	in       io.Reader
	typed    *bufio.Reader // of in, once something was read
	out, err io.Writer
	state    string
	estate   string
	demo     bool
	log      string
}

// Main runs the command line and returns the exit code.
func Main(args []string, stdout, stderr io.Writer) int {
	ending := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) { // it is, by nohup
		ending = append(ending, syscall.SIGHUP)
	}
	ctx, stop := signal.NotifyContext(context.Background(), ending...)
	defer stop()
	// whoever reads what is written may go away: a round goes on without him. What is started here gets the signal.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	root := newRoot(stdout, stderr)
	setHelp(root, width(stdout))
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	var code exit
	switch {
	case err == nil:
		return 0
	case errors.As(err, &code):
		return int(code)
	}
	plain.Fprintln(stderr, "yare:", err)
	return exitFailure
}

func newRoot(stdout, stderr io.Writer) *cobra.Command {
	a := &app{in: os.Stdin, out: stdout, err: stderr}
	root := &cobra.Command{
		Use:   "yare",
		Short: "Keep hypervisor hosts at the right patch, driver and firmware level",
		Long: `Yare Harbour checks the hosts of hypervisor clusters against baselines, drains their guests one host at a
time, changes what is out of line, restarts, proves health, brings the host back, and reports drift.

Without a command it opens the screens on the estate. Looking is always safe: a cluster is acted on only
where the estate file says "act: true" for it.`,
		Example: `  yare demo                       try it on a simulated estate
  yare check --local              hold this machine against its own apt indices
  yare check tides                hold a cluster against its baselines
  yare plan tides                 see what a round would do
  yare round start tides --reason "November patches"`,
		Args:              unknown,
		SilenceErrors:     true,
		SilenceUsage:      true,
		PersistentPreRunE: func(*cobra.Command, []string) error { return a.prepare() },
		RunE:              func(c *cobra.Command, _ []string) error { return a.screens(c.Context()) },
	}
	root.SetOut(stdout)
	root.SetErr(stderr)
	root.PersistentFlags().StringVar(&a.state, "state", "", "directory of the state (default $XDG_STATE_HOME/yare)")
	root.PersistentFlags().StringVar(&a.estate, "estate", "",
		"estate file (default estate.yaml in the state or configuration directory)")
	root.PersistentFlags().BoolVar(&a.demo, "demo", false,
		"work on the demo estate, and start its simulation if need be")
	root.PersistentFlags().StringVar(&a.log, "log", "warn", "what to log on stderr: debug, info, warn or error")
	root.AddCommand(a.demoCommand(), a.simCommand(), a.connectCommand(), a.readCommand(), a.checkCommand(),
		a.explainCommand(), a.planCommand(), a.briefCommand(), a.precheckCommand(), a.waiverCommand(),
		a.baselineCommand(), a.roundCommand(), a.owedCommand(), a.reportCommand(), a.versionCommand(), a.feedCommand(),
		a.bundleCommand(), a.payloadCommand(), a.catalogueCommand(), a.hostCommand(), a.estateCommand(),
		a.compareCommand(), a.trendCommand(), a.newsCommand(), a.filterCommand())
	return root
}

// prepare settles the state directory and the log.
func (a *app) prepare() error {
	var level slog.Level
	if err := level.UnmarshalText([]byte(a.log)); err != nil {
		return fmt.Errorf("--log: %w", err)
	}
	slog.SetDefault(slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level})))
	if a.state != "" {
		return nil
	}
	base := os.Getenv("XDG_STATE_HOME")
	if base == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return fmt.Errorf("there is no home directory to keep the state in (%w): say --state DIR", err)
		}
		base = filepath.Join(home, ".local", "state")
	}
	a.state = filepath.Join(base, "yare")
	if a.demo {
		a.state = filepath.Join(a.state, "demo")
	}
	return nil
}

// open opens the estate, the demo's if that was asked for.
func (a *app) open(ctx context.Context) (*harbour.Harbour, error) {
	if a.demo {
		if err := a.startDemo(ctx, 0); err != nil {
			return nil, err
		}
	}
	h, err := harbour.Open(ctx, harbour.Options{State: a.state, Estate: a.estate})
	if err == nil && h.Told != "" {
		plain.Fprintln(a.err, h.Told)
	}
	if err == nil && a.demo {
		if err = a.tellPast(ctx, h); err != nil {
			return nil, errors.Join(err, h.Close())
		}
	}
	return h, err
}

// with opens the estate for the time of do.
func (a *app) with(ctx context.Context, do func(*harbour.Harbour) error) error {
	h, err := a.open(ctx)
	if err != nil {
		return err
	}
	return errors.Join(do(h), h.Close())
}

// judging opens the estate for what holds hosts against baselines and catalogue: while one of their files can't be
// read, nothing is concluded.
func (a *app) judging(ctx context.Context, do func(*harbour.Harbour) error) error {
	return a.with(ctx, func(h *harbour.Harbour) error {
		if err := h.Sound(); err != nil {
			return fmt.Errorf("no verdict is given while this can't be read:\n%w", err)
		}
		return do(h)
	})
}

// asking opens the store alone: a round can be asked to pause, stop or leave a host out whatever becomes of the outside,
// and of the estate's files. Where there is no store opening the estate says why.
func (a *app) asking(
	do func(ctx context.Context, h *harbour.Harbour, name string) error,
) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		h, err := harbour.OpenStore(c.Context(), harbour.Options{State: a.state})
		if err != nil {
			if h, err = a.open(c.Context()); err != nil {
				return err
			}
		}
		return errors.Join(do(c.Context(), h, args[0]), h.Close())
	}
}

// anyway opens the estate, or, where its files can't be read, at least its store: watching a round always works.
func (a *app) anyway(
	do func(ctx context.Context, h *harbour.Harbour, name string) error,
) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		h, err := a.open(c.Context())
		if err != nil {
			only, e := harbour.OpenStore(c.Context(), harbour.Options{State: a.state})
			if e != nil {
				return err
			}
			plain.Fprintln(a.err, "yare: going on without the estate's files:", err)
			h = only
		}
		return errors.Join(do(c.Context(), h, args[0]), h.Close())
	}
}

// about makes the body of a command that is about one cluster or host: the estate is open for the time of do.
func (a *app) about(
	do func(ctx context.Context, h *harbour.Harbour, name string) error,
) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		return a.with(c.Context(), func(h *harbour.Harbour) error { return do(c.Context(), h, args[0]) })
	}
}

// operator is the name under which things are done.
func operator() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "unknown"
}

// names completes the names of clusters, and of hosts too where they are wanted, from the estate file alone.
func (a *app) names(hosts bool) cobra.CompletionFunc {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		if a.prepare() != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		clusters, err := harbour.Names(harbour.Options{State: a.state, Estate: a.estate})
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, c := range clusters {
			out = append(out, c.Name)
			if hosts {
				out = append(out, c.Hosts...)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

func optional(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}
