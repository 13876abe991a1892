// Package cli is the command line. A command parses what it is told, has harbour do it, and shows what came of it; it
// computes nothing itself.
package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"os/user"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"yareharbour/harbour"
	"yareharbour/plain"
)

// Exit codes that mean something.
const (
	exitFailure = 1
	exitUsage   = 2
	exitDrift   = 3
	exitUnread  = 4
)

// exit is an error that asks for a code and says nothing.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// app holds what all commands share.
type app struct {
	in      io.Reader
	typed   *bufio.Reader // of in, once something was read
	raw     io.Writer     // standard output, for what has passed the border of package plain
	out     io.Writer     // standard output
	err     io.Writer
	state   string
	estate  string
	log     string
	verbose bool
	bring   []Bring
	// interrupted is closed by a signal to end, and leave ends the program.
	interrupted <-chan struct{}
	leave       func(code int)
	checks      map[*cobra.Command][]func() error // what is looked at before a command runs
}

// Main runs the command line and returns the exit code. brings are ways to estates beside those of an estate file.
func Main(args []string, stdout, stderr io.Writer, brings ...Bring) int {
	ending := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) { // it is, by nohup
		ending = append(ending, syscall.SIGHUP)
	}
	ctx, stop := signal.NotifyContext(context.Background(), ending...)
	defer stop()
	// whoever reads what is written may go away: a round goes on without him. What is started here gets the signal.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	root := newRoot(ctx.Done(), stdout, stderr, brings)
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
	if errors.As(err, new(usageError)) {
		return exitUsage
	}
	return exitFailure
}

func newRoot(interrupted <-chan struct{}, stdout, stderr io.Writer, brings []Bring) *cobra.Command {
	a := &app{in: os.Stdin, interrupted: interrupted, leave: os.Exit, raw: stdout, out: plain.Writer(stdout), err: stderr, bring: brings,
		checks: map[*cobra.Command][]func() error{}}
	if f, ok := stderr.(*os.File); ok {
		a.err = f // progress lines want to know the terminal
	}
	root := &cobra.Command{
		Use:   "yare",
		Short: "Keep hypervisor hosts at the right patch, driver and firmware level",
		Long: `Yare Harbour checks the hosts of hypervisor clusters against baselines, drains their guests one host at a
time, changes what is out of line, restarts, proves health, brings the host back, and reports drift.

Without a command it opens the screens on the estate. Looking is always safe: a cluster is acted on only
where the estate file says "act: true" for it.`,
		Example: `  yare demo                       try it on a simulated estate
  yare check --local              check this machine against its own apt indices
  yare check tides                check a cluster against its baselines
  yare plan tides                 see what a round would do
  yare round start tides --reason "November patches"`,
		Version:       version(),
		Args:          unknown,
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			if c.Name() == cobra.ShellCompRequestCmd || c.Name() == cobra.ShellCompNoDescRequestCmd {
				return nil // the options of what is completed are not read yet: whoever completes prepares
			}
			for _, is := range a.checks[c] {
				if err := is(); err != nil {
					return err
				}
			}
			return a.prepare()
		},
		RunE: func(c *cobra.Command, _ []string) error { return a.screens(c.Context()) },
	}
	root.SetOut(stdout)
	root.SetErr(stderr)
	root.SetVersionTemplate("yare {{.Version}}\n")
	f := root.PersistentFlags()
	f.StringVar(&a.state, "state", "", "directory of the state (default $XDG_STATE_HOME/yare)")
	f.StringVar(&a.estate, "estate", "", "estate file (default estate.yaml in the state or configuration directory)")
	f.StringVar(&a.log, "log", "warn", "what to log on stderr: debug, info, warn or error")
	f.BoolVarP(&a.verbose, "verbose", "v", false, "log what is done, as --log info does")
	completes(root, "log", "debug", "info", "warn", "error")
	root.AddCommand(a.connectCommand(), a.readCommand(), a.checkCommand(), a.explainCommand(), a.planCommand(), a.stageCommand(),
		a.briefCommand(), a.precheckCommand(), a.waiverCommand(), a.baselineCommand(), a.roundCommand(), a.owedCommand(),
		a.reportCommand(), a.inventoryCommand(), a.versionCommand(), a.feedCommand(), a.bundleCommand(), a.payloadCommand(),
		a.catalogueCommand(), a.hostCommand(), a.estateCommand(), a.compareCommand(), a.trendCommand(), a.newsCommand(),
		a.filterCommand(), a.backupCommand(), a.logCommand(), a.schemaCommand())
	for i := range brings {
		b := &brings[i]
		f.BoolVar(&b.asked, b.Flag, false, b.Help)
		root.AddCommand(b.Commands(&App{a})...)
	}
	for _, c := range root.Commands() {
		a.settle(c)
	}
	root.SetHelpCommand(a.helpCommand())
	root.SetFlagErrorFunc(a.flagError)
	return root
}

// version is which yare this is, and what it was built with.
func version() string {
	info, _ := debug.ReadBuildInfo()
	return fmt.Sprintf("%s, built with %s", info.Main.Version, info.GoVersion)
}

// prepare settles the state directory and the log.
func (a *app) prepare() error {
	level := slog.LevelInfo
	if !a.verbose {
		if err := level.UnmarshalText([]byte(a.log)); err != nil {
			return usage("--log: there is no level %q; there are debug, info, warn and error", a.log)
		}
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
	if b := a.brought(); b != nil {
		a.state = filepath.Join(a.state, b.Flag)
	}
	return nil
}

// open opens the estate, the one that is brought if that was asked for.
func (a *app) open(ctx context.Context) (*harbour.Harbour, error) {
	b := a.brought()
	if b != nil {
		if err := b.Before(ctx, &App{a}); err != nil {
			return nil, err
		}
	}
	h, err := harbour.Open(ctx, a.options())
	if err == nil && h.Told != "" {
		plain.Fprintln(a.err, h.Told)
	}
	if err == nil && b != nil {
		if err = b.After(ctx, h); err != nil {
			return nil, errors.Join(err, h.Close())
		}
	}
	return h, err
}

func (a *app) options() harbour.Options {
	return harbour.Options{State: a.state, File: a.estate, By: operator(), From: whence(), Launch: a.launch}
}

// with opens the estate for the time of do.
func (a *app) with(ctx context.Context, do func(*harbour.Harbour) error) error {
	h, err := a.open(ctx)
	if err != nil {
		return err
	}
	return errors.Join(do(h), h.Close())
}

// run is what a command does with an open estate and its words.
type run = func(ctx context.Context, h *harbour.Harbour, args []string) error

// opened is a command's body that opens the estate.
func (a *app) opened(do run) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		return a.with(c.Context(), func(h *harbour.Harbour) error { return do(c.Context(), h, args) })
	}
}

// judged opens the estate for what holds hosts against baselines and catalogue: while one of their files can't be read,
// nothing is concluded.
func (a *app) judged(do run) func(*cobra.Command, []string) error {
	return a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
		if err := h.Unreadable(); err != nil {
			return fmt.Errorf("no verdict is given while this can't be read:\n%w", err)
		}
		return do(ctx, h, args)
	})
}

// asking opens the store alone: a round can be asked to pause, stop or leave a host out whatever becomes of the outside,
// and of the estate's files. Where there is no store opening the estate says why.
func (a *app) asking(do run) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		h, err := harbour.OpenStore(c.Context(), a.options())
		if err != nil {
			if h, err = a.open(c.Context()); err != nil {
				return err
			}
		}
		return errors.Join(do(c.Context(), h, args), h.Close())
	}
}

// anyway opens the estate, or, where its files can't be read, at least its store: watching a round always works.
func (a *app) anyway(do run) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		h, err := a.open(c.Context())
		if err != nil {
			only, e := harbour.OpenStore(c.Context(), a.options())
			if e != nil {
				return err
			}
			plain.Fprintln(a.err, "yare: continuing without the estate's files:", err)
			h = only
		}
		return errors.Join(do(c.Context(), h, args), h.Close())
	}
}

// operator is the name under which things are done.
func operator() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "unknown"
}

// whence is where he is: his machine, and how he came there.
func whence() string {
	from, err := os.Hostname()
	if err != nil {
		from = "an unnamed machine"
	}
	if client, _, _ := strings.Cut(os.Getenv("SSH_CONNECTION"), " "); client != "" {
		from += ", by SSH from " + client
	}
	if was := os.Getenv("SUDO_USER"); was != "" {
		from += ", by sudo of " + was
	}
	return from
}

// confirm asks on the terminal; anything but y is no.
func (a *app) confirm(question string) bool {
	plain.Fprintf(a.err, "%s [y/N] ", question)
	answer := a.line()
	return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes")
}

// line reads a line of what is typed; empty where nothing more comes. While a question waits nothing is under way: an
// interrupt ends the program there and then, and no answer is taken for granted.
func (a *app) line() string {
	if a.typed == nil {
		a.typed = bufio.NewReader(a.in)
	}
	got := make(chan string, 1)
	go func() {
		text, _ := a.typed.ReadString('\n') // its end is an answer too
		got <- strings.TrimSpace(text)
	}()
	select {
	case text := <-got:
		return text
	case <-a.interrupted:
		plain.Fprintln(a.err, "\nyare: interrupted: the question is not answered")
		a.leave(exitFailure)
		return ""
	}
}

// ask asks for a word or a few; where nothing is typed it is the usual answer.
func (a *app) ask(question, usual string) string {
	if usual != "" {
		question += " [" + usual + "]"
	}
	plain.Fprintf(a.err, "%s: ", question)
	return cmp.Or(a.line(), usual)
}

// why is the reason of what is done: the one that is given, or, at a terminal, one that is asked for.
func (a *app) why(given string) (string, error) {
	if f, is := a.in.(*os.File); given != "" || !is || !term.IsTerminal(f.Fd()) {
		return given, nil
	}
	return a.reason()
}

// reason asks for a reason, three times at most.
func (a *app) reason() (string, error) {
	for range 3 {
		if text := a.ask("Reason, for the journal and the hosts' own logs", ""); text != "" {
			return text, nil
		}
	}
	return "", errors.New("nothing is done without a reason: --reason \"…\" gives one")
}

// says prints a line.
func (a *app) says(format string, args ...any) { plain.Fprintf(a.out, format+"\n", args...) }

func optional(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}
