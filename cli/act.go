package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/chart"
	"yareharbour/core/drift"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/format/plain"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

// brief is what the flags of plan and round start say.
type brief struct {
	hosts   []string
	reason  string
	reserve int
	out     int
	moves   int
}

func (b *brief) flags(c *cobra.Command) {
	c.Flags().StringSliceVar(&b.hosts, "hosts", nil, "only these hosts")
	c.Flags().IntVar(&b.reserve, "reserve", -1, "hosts that may fail meanwhile (default: the cluster's own)")
	c.Flags().IntVar(&b.out, "out-of-service", 1, "hosts that may be out of service at once, counting those that already are; visits are made one at a time")
	c.Flags().IntVar(&b.moves, "moves", 2, "migrations at once")
	c.Flags().StringVar(&b.reason, "reason", "", "why, for the journal and the hosts' own logs")
}

func (b *brief) make(h *harbour.Harbour, cluster string) (plan.Brief, error) {
	c, err := h.Cluster(cluster)
	if err != nil {
		return plan.Brief{}, err
	}
	out := plan.DefaultBrief(c)
	out.Hosts, out.Out, out.Moves, out.Reason, out.By = b.hosts, b.out, b.moves, b.reason, operator()
	if b.reserve >= 0 {
		out.Reserve = b.reserve
	}
	for _, host := range b.hosts {
		if own, ok := h.Estate.ClusterOf(host); !ok || own.Name != cluster {
			return out, fmt.Errorf("--hosts: there is no host %q in %s, which has %v", host, cluster, c.Hosts)
		}
	}
	if b.out < 1 {
		return out, errors.New("--out-of-service: a visit takes a host out, so it must be 1 at least")
	}
	if b.moves < 1 {
		return out, errors.New("--moves: at least one migration is made at a time")
	}
	return out, nil
}

func (a *app) planCommand() *cobra.Command {
	var b brief
	var t target
	c := &cobra.Command{
		Use:               "plan CLUSTER",
		ValidArgsFunction: a.names(false),
		Short:             "Show everything a round would do; nothing is touched",
		Long:              "Reads the cluster and shows what a round would do, host by host: changes, passes, restarts, moves, prechecks, time. Nothing is touched.",
		Example:           "  yare plan vts\n  yare plan tides --hosts avocet,fulmar --json",
		Args:              cobra.ExactArgs(1),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
			br, err := b.make(h, cluster)
			if err != nil {
				return err
			}
			p, err := h.Plan(ctx, br)
			if err != nil {
				return err
			}
			return t.write(a.out, func(w io.Writer) error { return planAs(w, &p, t.format) })
		}),
	}
	b.flags(c)
	t.flags(c)
	return c
}

// writePlan writes a plan for reading.
func writePlan(w io.Writer, p *plan.Plan) {
	plain.Fprintf(w, "%s: %s\n", p.Brief.Cluster, p.Summary())
	for i := range p.Visits {
		v := &p.Visits[i]
		middle, worst := v.Estimate()
		plain.Fprintf(w, "\n%d  %s  about %s, at worst %s", i+1, v.Host, drift.Age(middle), drift.Age(worst))
		if v.Empties {
			plain.Fprintf(w, ", drained (%d moves), restarts %d", len(v.Moves), len(v.Restarts))
		} else {
			fmt.Fprint(w, ", not drained: nothing here needs the host empty")
		}
		plain.Fprintln(w)
		if v.Obstacle != "" {
			plain.Fprintf(w, "   can't be made: %s\n   way out: %s\n", v.Obstacle, v.WayOut)
		}
		for _, c := range v.Changes {
			plain.Fprintf(w, "   pass %d  %s  (%s)\n", c.Pass, c.Says(), c.Why)
		}
		for _, l := range v.Left {
			plain.Fprintf(w, "   left    %s\n", l)
		}
		for _, m := range v.Moves {
			plain.Fprintf(w, "   move    %s → %s\n", m.Guest, m.To)
		}
		for _, c := range v.Answers {
			if c.Level != precheck.Clear {
				plain.Fprintf(w, "   %-7s %s: %s\n", c.Level, c.Check, c.Evidence)
			}
		}
	}
	_ = report.Aside(w, p.Aside) // to memory
}

// planCSV writes every change of a plan as a line (RFC 4180), with a header.
func planCSV(w io.Writer, p *plan.Plan) error {
	rows := [][]string{{"cluster", "turn", "host", "obstacle", "component", "device", "from", "to", "pass", "restart", "why"}}
	for i, v := range p.Visits {
		for _, c := range v.Changes {
			rows = append(rows, []string{p.Brief.Cluster, strconv.Itoa(i + 1), v.Host, v.Obstacle, string(c.Component), c.Device, c.From, c.To,
				strconv.Itoa(c.Pass), string(c.Restart), c.Why})
		}
	}
	return report.Rows(w, rows)
}

// planAs writes a plan in one of the formats.
func planAs(w io.Writer, p *plan.Plan, format string) error {
	switch format {
	case "csv":
		return planCSV(w, p)
	case "json":
		return report.JSON(w, p)
	case "svg", "pdf":
		return chart.Timeline(plan.Forecast(p)).Write(w, format)
	}
	writePlan(w, p)
	return nil
}

func (a *app) roundCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "round",
		Short: "Start, resume, watch, pause or stop a round",
		Long: `A round is one rolling maintenance over a cluster: each host in turn is prechecked, drained, closed, changed, restarted, proven and
reopened. Everything is journaled before and after; a round that was interrupted is resumed from what is found on the hosts.`,
		Example: "  yare round start vts --reason \"November patches\"\n  yare round watch vts\n  yare round resume vts",
	}
	c.AddCommand(a.roundStart(), a.roundResume(), a.roundWatch(),
		a.roundAsk("pause", plan.AskPause, "Let the round pause after the host it is with"),
		a.roundAsk("stop", plan.AskStop, "Let the round stop at the next safe point: a host that is closed is finished first"))
	return group(c)
}

func (a *app) roundStart() *cobra.Command {
	var b brief
	c := &cobra.Command{
		Use:               "start CLUSTER",
		ValidArgsFunction: a.names(false),
		Short:             "Start a round and follow it to its end",
		Long: `Plans the round on a fresh reading, begins it and follows it. A plan with an obstacle is refused with the way out. Interrupting this
command (Ctrl-C) leaves the round where it is; "yare round resume" goes on with it.`,
		Example: "  yare round start vts --reason \"November patches\"\n  yare round start tides --hosts avocet",
		Args:    cobra.ExactArgs(1),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
			br, err := b.make(h, cluster)
			if err != nil {
				return err
			}
			s, err := h.Start(ctx, br, a.printEvent)
			return a.outcome(s, err)
		}),
	}
	b.flags(c)
	return c
}

func (a *app) roundResume() *cobra.Command {
	return &cobra.Command{
		Use:               "resume CLUSTER",
		ValidArgsFunction: a.names(false),
		Short:             "Go on with the newest round of a cluster",
		Long:              "Goes on after a pause, a stop, a failure that was seen to, or a crash. What was under way is looked up on the hosts first; nothing is done twice blindly.",
		Example:           "  yare round resume vts",
		Args:              cobra.ExactArgs(1),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
			s, err := h.Resume(ctx, cluster, operator(), a.printEvent)
			return a.outcome(s, err)
		}),
	}
}

// outcome turns the end of a round into the end of the command.
func (a *app) outcome(s *plan.State, err error) error {
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
	case errors.Is(err, context.Canceled):
		return errors.New("interrupted; the round stands where it is, and \"yare round resume\" goes on with it")
	case err != nil:
		return err
	case s.Status == plan.Failing:
		return fmt.Errorf("the round failed: %s", s.Detail)
	}
	return nil
}

func (a *app) roundWatch() *cobra.Command {
	return &cobra.Command{
		Use:               "watch CLUSTER",
		ValidArgsFunction: a.names(false),
		Short:             "Follow the newest round of a cluster from its journal",
		Long:              "Prints what was done so far and follows until the round ends or pauses. It only looks: interrupting it changes nothing.",
		Example:           "  yare round watch vts",
		Args:              cobra.ExactArgs(1),
		RunE:              a.anyway(a.watch),
	}
}

func (a *app) watch(ctx context.Context, h *harbour.Harbour, cluster string) error {
	if _, err := h.Cluster(cluster); err != nil && len(h.Estate.Clusters) > 0 {
		return err
	}
	head, err := h.Store.Latest(ctx, cluster)
	if err != nil {
		return err
	}
	s := &plan.State{}
	for {
		events, err := h.Store.Journal(ctx, head.ID, s.Seq)
		if err != nil {
			return err
		}
		for _, e := range events {
			a.printEvent(e)
			if err := s.Apply(e); err != nil {
				return err
			}
		}
		if s.Status != plan.Running {
			return nil
		}
		if len(events) == 0 {
			if held, err := h.Store.Holder(ctx, cluster); err == nil && held == nil {
				return fmt.Errorf("nobody runs this round any more; \"yare round resume %s\" goes on with it", cluster)
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
		RunE: a.anyway(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
			said, err := h.Ask(ctx, cluster, what, operator())
			if err != nil {
				return err
			}
			plain.Fprintln(a.out, said)
			return nil
		}),
	}
}

// printEvent prints an event of a journal as a line; what only announces is left out.
func (a *app) printEvent(e plan.Event) {
	at := e.At.Local().Format("15:04:05 MST")
	switch {
	case e.Kind == plan.Started:
		plain.Fprintf(a.out, "%s  round over %s by %s: %s\n", at, e.Plan.Brief.Cluster, e.By, e.Plan.Summary())
	case e.Kind == plan.Ended:
		plain.Fprintf(a.out, "%s  %s: %s\n", at, e.Status, e.Detail)
	case e.Kind == plan.Asked:
		plain.Fprintf(a.out, "%s  %s asks: %s\n", at, e.By, e.Detail)
	case e.Kind == plan.Done || e.Kind == plan.Undone:
		plain.Fprintf(a.out, "%s  %-10s %s%s\n", at, e.Action.Host, e.Action.Says(), detail(e))
	case e.Kind == plan.Failed:
		plain.Fprintf(a.out, "%s  %-10s FAILED: %s: %s\n                    %s\n", at, e.Action.Host, e.Action.Says(), e.Detail, e.Remedy)
	}
}

func detail(e plan.Event) string {
	if e.Detail == "" {
		return ""
	}
	return " – " + e.Detail
}
