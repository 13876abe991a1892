package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/core/course"
	"yareharbour/core/plan"
	"yareharbour/export"
	"yareharbour/format/brieffile"
	"yareharbour/format/plain"
	"yareharbour/harbour"
)

func (a *app) planCommand() *cobra.Command {
	var b brief
	var t target
	var against string
	var ways []string
	c := &cobra.Command{
		Use:               "plan CLUSTER[/HOST]",
		ValidArgsFunction: a.names(false),
		Short:             "Show everything a round would do; nothing is touched",
		Long: `Reads the cluster and shows what a round would do, host by host: changes, passes, restarts,
moves, prechecks, time. Nothing is touched. The settings come from the options, and from a brief file where
--brief names one; options go before it.`,
		Example: "  yare plan vts\n  yare plan tides --hosts avocet,fulmar --json\n" +
			"  yare plan vts --trial ibis --soak 30m --limit 85\n  yare plan tides --way bittern\n" +
			"  yare plan vts --brief november.yaml --out-of-service 2 -o vts.svg",
		Args: cobra.ExactArgs(1),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
			br, usual, err := b.make(h, cluster)
			if err != nil {
				return err
			}
			p, err := h.Plan(ctx, br)
			if err != nil {
				return err
			}
			for _, host := range ways {
				w, err := p.WayFor(host)
				if err != nil {
					return fmt.Errorf("the way out for %s: %w", host, err)
				}
				w.Take(&br)
				if p, err = h.Plan(ctx, br); err != nil {
					return err
				}
			}
			if against != "" {
				return a.compared(ctx, h, br.Cluster, against, &p)
			}
			return t.write(a.out, export.Plan(&p, brieffile.Words(br, usual)))
		}),
	}
	b.flags(c)
	t.flags(c)
	c.Flags().StringSliceVar(&ways, "way", nil,
		"take the first way out that is shown for these hosts, one after the other; the plan shows the options that mean the same")
	c.Flags().StringVar(&against, "against", "",
		"say in what it is another than the plan that was shown with this digest, or its beginning")
	c.MarkFlagsMutuallyExclusive("against", "format")
	return c
}

// compared says in what a plan is another than one that was shown: in figures, and in what it does.
func (a *app) compared(ctx context.Context, h *harbour.Harbour, cluster, digest string, now *plan.Plan) error {
	shown, err := h.Rounds.Plan(ctx, cluster, digest)
	if err != nil {
		return err
	}
	plain.Fprintf(a.out, "%s, %s: %s\n%s, %s: %s\n", shown.Digest()[:12], shown.Made.Local().Format("Mon 2 Jan 15:04"),
		shown.Summary(), now.Digest()[:12], now.Made.Local().Format("Mon 2 Jan 15:04"), now.Summary())
	lines := append(plan.Differences(shown, now), plan.Moved(shown, now)...)
	if len(lines) == 0 {
		lines = []string{"they would do the same"}
	}
	for _, l := range lines {
		plain.Fprintf(a.out, "  %s\n", l)
	}
	return nil
}

func (a *app) roundCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "round",
		Short: "Start, resume, watch, pause or stop a round",
		Long: `A round is one rolling maintenance over a cluster: each host in turn is prechecked, drained,
closed, changed, restarted, proven and reopened. Everything is journaled before and after; a round that was
interrupted is resumed from what is found on the hosts.`,
		Example: "  yare round start vts --reason \"November patches\"\n  yare round watch vts\n" +
			"  yare round resume vts",
	}
	c.AddCommand(a.roundStart(), a.roundResume(), a.roundAdopt(), a.roundWatch(),
		a.roundAsk("pause", course.AskPause, "Let the round pause after the current host"),
		a.roundAsk("stop", course.AskStop,
			"Let the round stop at the next safe point: a host that is closed is finished first"), a.roundSkip())
	for _, d := range decisions {
		c.AddCommand(a.roundDecision(d))
	}
	return group(c)
}

// teller tells whoever started this process, on a file descriptor that he gave, that the round has begun or why not.
type teller struct {
	fd   int
	done bool
}

func (t *teller) flag(c *cobra.Command) {
	c.Flags().IntVar(&t.fd, "tell", 0, "file descriptor on which to tell that the round has begun")
	_ = c.Flags().MarkHidden("tell") // the flag is there
}

func (t *teller) tell(what tale) {
	if t.fd < 3 || t.done {
		return
	}
	t.done = true
	f := os.NewFile(uintptr(t.fd), "tell")
	_ = json.NewEncoder(f).Encode(what) // whoever asked may be gone
	_ = f.Close()
}

// rounds runs a round, printing its events, and makes its end the command's.
func (a *app) rounds(t *teller, run func(seen func(course.Event)) (*course.State, error)) error {
	s, err := run(func(e course.Event) {
		a.printEvent(e)
		t.tell(tale{Begun: true})
	})
	if err != nil {
		t.tell(tale{Error: err.Error()})
	}
	return a.outcome(s, err)
}

func (a *app) roundStart() *cobra.Command {
	var b brief
	var t teller
	var digest, reason string
	var over, prepare bool
	c := &cobra.Command{
		Use:               "start CLUSTER[/HOST]",
		ValidArgsFunction: a.names(false),
		Short:             "Start a round and follow it to its end",
		Long: `Begins a round and follows it. With --plan it carries out the very plan that was shown, and is
refused where facts have moved since; without, it plans on a fresh reading. A plan with an obstacle is refused
with the way out. Where hosts take no orders yet, it says what they need, and asks. Interrupting this command
(Ctrl-C) leaves the round where it is; resume it with "yare round resume".`,
		Example: "  yare round start vts --reason \"November patches\"\n  yare plan vts\n" +
			"  yare round start vts --plan 3f2a91c47b05\n  yare round start tides/avocet",
		Args: cobra.ExactArgs(1),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
			return a.rounds(&t, func(seen func(course.Event)) (*course.State, error) {
				br, _, err := b.make(h, cluster)
				if err != nil {
					return nil, err
				}
				if err := a.firstTime(ctx, h, br.Cluster, prepare); err != nil {
					return nil, err
				}
				return h.Start(
					ctx,
					harbour.Start{Brief: br, Digest: digest, By: operator(), Reason: cmp.Or(reason, br.Reason),
						TakeOver: over},
					seen,
				)
			})
		}),
	}
	b.flags(c)
	t.flag(c)
	c.Flags().StringVar(&digest, "plan", "", "carry out the plan that was shown with this digest, or its beginning")
	c.Flags().StringVar(&reason, "reason", "", "why, for the journal and the hosts' own logs")
	c.Flags().BoolVar(&over, "take-over", false,
		"begin although hosts have taken orders that this state directory does not know of")
	c.Flags().BoolVar(&prepare, "prepare", false,
		"put on hosts what they need to take orders, where it is not there, without asking")
	for _, s := range brieffile.Settings {
		c.MarkFlagsMutuallyExclusive("plan", s.Name)
	}
	c.MarkFlagsMutuallyExclusive("plan", "brief")
	return c
}

func (a *app) roundResume() *cobra.Command {
	var t teller
	c := &cobra.Command{
		Use:               "resume CLUSTER",
		ValidArgsFunction: a.names(false),
		Short:             "Go on with the newest round of a cluster",
		Long: "Goes on after a pause, a stop, a failure that was seen to, or a crash. What was under " +
			"way is looked up on the hosts first; nothing is done twice blindly.",
		Example: "  yare round resume vts",
		Args:    cobra.ExactArgs(1),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
			return a.rounds(&t, func(seen func(course.Event)) (*course.State, error) {
				return h.Resume(ctx, cluster, operator(), seen)
			})
		}),
	}
	t.flag(c)
	return c
}

func (a *app) roundAdopt() *cobra.Command {
	var reason string
	var yes bool
	c := &cobra.Command{
		Use:               "adopt HOST",
		ValidArgsFunction: a.names(true),
		Short:             "Bring a host to its end that a lost round left closed",
		Long: `A host that a round has closed carries the round's mark. Where the state directory with that
round's journal is lost, nobody can go on with it: this begins a new round over the host alone, makes the mark
its own, brings the host in line, proves it and reopens it. A runner that is still at work on the cluster from
another state directory is refused by its hosts from then on, so look first; --yes says that you did.`,
		Example: "  yare round adopt heron\n  yare round adopt heron --yes --reason \"the old state directory burnt\"",
		Args:    cobra.ExactArgs(1),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, host string) error {
			return a.rounds(&teller{}, func(seen func(course.Event)) (*course.State, error) {
				return h.Adopt(ctx, host, operator(), reason, yes, seen)
			})
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "no other runner is at work on the cluster: go ahead")
	c.Flags().StringVar(&reason, "reason", "adopted from a round that is lost",
		"why, for the journal and the host's own log")
	return c
}

func (a *app) roundSkip() *cobra.Command {
	return &cobra.Command{
		Use:   "skip CLUSTER HOST",
		Short: "Let the round leave a host out that is not closed yet",
		Long: "Leaves a host out of the running round. Where its visit is under way, migrations that are in " +
			"flight land, and guests stay where they went. A host that is closed is brought to its end.",
		Example: "  yare round skip vts heron",
		Args:    cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			return a.asking(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
				said, err := h.Ask(ctx, cluster,
					course.Event{Detail: course.AskSkip, Host: args[1], By: operator()})
				if err != nil {
					return err
				}
				plain.Fprintln(a.out, said)
				return nil
			})(c, args[:1])
		},
	}
}

// outcome turns the end of a round into the end of the command.
func (a *app) outcome(s *course.State, err error) error {
	var nothing *harbour.NothingError
	switch {
	case errors.As(err, &nothing):
		plain.Fprintln(a.out, err)
		if nothing.Plan.InLine() {
			return nil
		}
		if slices.ContainsFunc(nothing.Plan.Aside, func(x plan.Aside) bool { return x.Unread > 0 }) {
			return exit(exitUnread)
		}
		return exit(exitDrift)
	case errors.Is(err, harbour.ErrLost):
		return fmt.Errorf("%w. The round stands where it is: \"yare round watch\" shows who goes on with it, and where nobody "+
			"does, \"yare round resume\" does", harbour.ErrLost)
	case errors.Is(err, context.Canceled):
		return errors.New("interrupted; the round stands where it is, and resume it with \"yare round resume\"")
	case err != nil:
		return err
	case s == nil: // it was left for whoever runs the round
		return nil
	}
	a.printWays(s)
	if s.Status == course.Failing {
		return fmt.Errorf("the round failed: %s", s.Detail)
	}
	return nil
}

func (a *app) roundWatch() *cobra.Command {
	return &cobra.Command{
		Use:               "watch CLUSTER",
		ValidArgsFunction: a.names(false),
		Short:             "Follow the newest round of a cluster from its journal",
		Long: "Prints what was done so far and follows until the round ends or pauses. It only looks: " +
			"interrupting it changes nothing.",
		Example: "  yare round watch vts",
		Args:    cobra.ExactArgs(1),
		RunE:    a.anyway(a.watch),
	}
}

func (a *app) watch(ctx context.Context, h *harbour.Harbour, cluster string) error {
	if _, err := h.Cluster(cluster); err != nil && len(h.Estate.Clusters) > 0 {
		return err
	}
	head, err := h.Rounds.Latest(ctx, cluster)
	if err != nil {
		return err
	}
	s, chain := &course.State{}, course.NewChain(head.ID)
	for {
		events, err := h.Rounds.Journal(ctx, head.ID, chain)
		for _, e := range events {
			a.printEvent(e)
			err = errors.Join(err, s.Apply(e))
		}
		if err != nil {
			return err
		}
		if s.Status != course.Running {
			a.printWays(s)
			return nil
		}
		if len(events) == 0 {
			if held, err := h.Rounds.Holder(ctx, cluster); err == nil && held == nil {
				return fmt.Errorf("nobody runs this round any more; resume it with \"yare round resume %s\"", cluster)
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(200 * time.Millisecond):
		}
	}
}

func (a *app) roundAsk(name, what, short string) *cobra.Command {
	return &cobra.Command{
		Use:     name + " CLUSTER",
		Short:   short,
		Long:    short + ".",
		Example: "  yare round " + name + " vts",
		Args:    cobra.ExactArgs(1),
		RunE: a.asking(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
			said, err := h.Ask(ctx, cluster, course.Event{Detail: what, By: operator()})
			if err != nil {
				return err
			}
			plain.Fprintln(a.out, said)
			return nil
		}),
	}
}

// printEvent prints an event of a journal as a line; what only announces is left out.
func (a *app) printEvent(e course.Event) {
	if e.Announces() {
		return
	}
	at := e.At.Local().Format("15:04:05 MST")
	if e.Again {
		plain.Fprintf(a.out, "%s  %-10s %s\n", at, e.About(), e.Says())
		return
	}
	switch e.Kind {
	case course.Started:
		plain.Fprintf(a.out, "%s  round over %s by %s: %s\n", at, e.Plan.Brief.Cluster, e.By, e.Plan.Summary())
	case course.Ended:
		plain.Fprintf(a.out, "%s  %s: %s\n", at, e.Status, e.Detail)
	case course.Taken:
		plain.Fprintf(a.out, "%s  taken on by %s\n", at, e.By)
	case course.Leapt:
		plain.Fprintf(a.out, "%s  %s\n", at, e.Says())
	case course.Asked:
		plain.Fprintf(a.out, "%s  %s asks: %s\n", at, e.By, e.Says())
	case course.Failed, course.Stuck, course.Overdue, course.Blocked, course.Unproven:
		plain.Fprintf(a.out, "%s  %-10s FAILED: %s: %s\n                    %s\n", at, e.About(),
			e.Says(), e.Detail, e.Advice())
	case course.Undone, course.Unanswered, course.Quiet, course.Waits, course.Left, course.Handed, course.Refuted:
		plain.Fprintf(a.out, "%s  %-10s %s\n", at, e.About(), e.Says())
	case course.Logged:
		for i := range e.Logs {
			if l := &e.Logs[i]; len(l.Last(1)) > 0 {
				plain.Fprintf(a.out, "                    log of %s at that moment:\n", l.Title())
				for _, line := range l.Last(5) {
					plain.Fprintf(a.out, "                      %s\n", line)
				}
			}
		}
	default:
		plain.Fprintf(a.out, "%s  %-10s %s%s\n", at, e.About(), e.Says(), detail(e))
	}
}

func detail(e course.Event) string {
	if e.Detail == "" {
		return ""
	}
	return " – " + e.Detail
}
