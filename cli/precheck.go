package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/export"
	"yareharbour/format/plain"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

func (a *app) precheckCommand() *cobra.Command {
	var b brief
	var t target
	var checks []string
	c := &cobra.Command{
		Use:               "precheck CLUSTER",
		ValidArgsFunction: a.names(false),
		Short:             "Ask whether the hosts that a round would visit are ready for it",
		Long: `Reads the cluster and asks every check, or those that --check names, of the hosts that a round
would visit. Each answers clear, caution or blocker, with its evidence and what to do; what could not be known
says so. Exit status 3 where something blocks, 4 where something could not be known (whether something blocks or
not). docs/prechecks/ has a page for each check.`,
		Example: "  yare precheck vts\n  yare precheck tides --hosts curlew --check bmc,health\n" +
			"  yare precheck tides --format csv -o tides.csv",
		Args: cobra.ExactArgs(1),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
			br, _, err := b.make(h, cluster)
			if err != nil {
				return err
			}
			answers, aside, err := h.Prechecks(ctx, br, checks)
			if err != nil {
				return err
			}
			if err := t.write(a.out, export.Prechecks(answers)); err != nil {
				return err
			}
			for _, x := range aside {
				if !x.InLine && x.Unread > 0 {
					plain.Fprintf(a.err, "%s was asked nothing: %s\n", x.Host, x.Why)
				}
			}
			switch plan.Answered(answers, aside) {
			case precheck.NotKnown:
				return exit(exitUnread)
			case precheck.Blocked:
				return exit(exitDrift)
			}
			return nil
		}),
	}
	b.flags(c)
	t.flags(c)
	c.Flags().StringSliceVar(&checks, "check", nil, "only these checks")
	c.AddCommand(a.precheckTry())
	return c
}

func (a *app) precheckTry() *cobra.Command {
	return &cobra.Command{
		Use:   "try HOST EXPRESSION",
		Short: "Evaluate an expression on a host, as a check of your own would",
		Long: "Reads the host and evaluates an expression of CEL on what was read: what it comes to, and what it " +
			"cost of the ten million that a check may. docs/prechecks/own.md has the variables, and examples.",
		Example: "  yare precheck try heron 'settings.exists(s, s.name == \"name-server/2\")'\n" +
			"  yare precheck try heron 'packages.filter(p, older(p.key, p.version, \"1.9\")).map(p, p.name)'",
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				if _, err := h.Hosts(args[0]); err != nil {
					return err
				}
				value, cost, err := h.Try(c.Context(), args[0], args[1])
				if err != nil {
					return fmt.Errorf("the expression: %w", err)
				}
				plain.Fprintf(a.out, "%v\n(cost %d)\n", value, cost)
				return nil
			})
		},
	}
}

func (a *app) waiverCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "waiver",
		Short: "Accept what a check found, for a reason and until a time",
		Long: `A waiver is a recorded pardon of what a check found on a host: just that, and until its end.
Where the check finds something else the waiver says nothing. What must never be waived is refused. Nothing is
ever taken off the record.`,
		Example: "  yare waiver add fulmar health --reason \"ordered, comes Tuesday\" --for 96h\n" +
			"  yare waiver list tides\n  yare waiver end tides 4C7QXA",
	}
	c.AddCommand(a.waiverAdd(), a.waiverList(), a.waiverEnd())
	return group(c)
}

func (a *app) waiverAdd() *cobra.Command {
	var reason string
	var lasts time.Duration
	c := &cobra.Command{
		Use:               "add HOST CHECK",
		ValidArgsFunction: a.names(true),
		Short:             "Waive what a check finds on a host now",
		Long: "Reads the host's cluster, asks the check, and waives what it finds: on the record, with " +
			"who, why and until when.",
		Example: "  yare waiver add fulmar health --reason \"ordered, comes Tuesday\" --for 96h",
		Args:    cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				cl, ok := h.Estate.ClusterOf(args[0])
				if !ok {
					_, err := h.Hosts(args[0])
					return err
				}
				answers, _, err := h.Prechecks(c.Context(), plan.DefaultBrief(cl), []string{args[1]})
				if err != nil {
					return err
				}
				i := slices.IndexFunc(answers, func(x precheck.Answer) bool { return x.Host == args[0] })
				if i < 0 {
					return fmt.Errorf("no round would visit %s as things stand: nothing is asked of it, and there is "+
						"nothing to waive", args[0])
				}
				w, err := h.Waive(c.Context(), cl.Name, answers[i], reason, operator(), h.World.Now().Add(lasts))
				if err != nil {
					return err
				}
				plain.Fprintf(a.out, "%s of %s, %s: %s\n", w.Check, w.Host, w.Evidence, w.Says())
				return nil
			})
		},
	}
	c.Flags().StringVar(&reason, "reason", "", "why, for the record")
	c.Flags().DurationVar(&lasts, "for", 7*24*time.Hour, "how long it lasts")
	return c
}

func (a *app) waiverList() *cobra.Command {
	var t target
	c := &cobra.Command{
		Use:               "list CLUSTER",
		ValidArgsFunction: a.names(false),
		Short:             "List what was ever waived on a cluster",
		Long: "Lists every waiver of the cluster, those that are over or were taken back included, each " +
			"with who gave it, why and until when.",
		Example: "  yare waiver list tides --format csv",
		Args:    cobra.ExactArgs(1),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
			if _, err := h.Cluster(cluster); err != nil {
				return err
			}
			all, err := h.Waivers.Waivers(ctx, cluster)
			if err != nil {
				return err
			}
			return report.Waivers(a.out, all, h.World.Now(), t.format)
		}),
	}
	t.words(c)
	return c
}

func (a *app) waiverEnd() *cobra.Command {
	return &cobra.Command{
		Use:               "end CLUSTER ID",
		ValidArgsFunction: a.names(false),
		Short:             "Take a waiver back",
		Long:              "Takes a waiver back before its end. It stays on the record. The end of its id will do.",
		Example:           "  yare waiver end tides 4C7QXA",
		Args:              cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			return a.about(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
				w, err := h.Unwaive(ctx, cluster, args[1], operator())
				if err != nil {
					return err
				}
				plain.Fprintf(a.out, "%s of %s is not waived any more\n", w.Check, w.Host)
				return nil
			})(c, args[:1])
		},
	}
}
