package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yareharbour/connector/host"
	"yareharbour/connector/linux"
	"yareharbour/format/plain"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

func (a *app) hostCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "host",
		Short: "Work on one host by hand: close it, restart it, open it; and what hosts need to take orders",
		Long: `What a round does to a host, by a person's decision and on the record: "close", "restart", "open", and "take" for a
host that somebody else closed.

A Linux host takes orders through a small program on it, and libvirt keeps guests away from it
by a script while it is closed. "prepare" shows what it would put where, asks, and does it; "remove" takes all
of it away. Looking needs neither.`,
		Example: "  yare host close heron --drain --reason \"a new power supply\"\n" +
			"  yare host open heron --reason \"it is in\"\n  yare host prepare tides",
	}
	c.AddCommand(a.hostPrepare(), a.hostRemove(), a.hostTasks(), a.hostLog())
	for _, w := range handfuls {
		c.AddCommand(a.hostWork(w))
	}
	return group(c)
}

func (a *app) hostPrepare() *cobra.Command {
	var as form
	var yes, text bool
	c := &cobra.Command{
		Use:               "prepare [CLUSTER… | HOST…]",
		ValidArgsFunction: a.names(true),
		Short:             "Show what hosts need before they take orders, and put it there",
		Long: `Asks each host what is there of what it needs, shows it, asks, puts the rest there, restarts
libvirt's daemon where that must find a new script (running guests are not touched), and proves that libvirt
asks the script. It may be done again at any time. Without a name it is about all hosts that may be acted on.
With --json it only shows, and with --print it writes the programs themselves, for whoever owns the hosts to
read.

Exit codes: 0 every host takes orders, 4 one does not, 1 failure.`,
		Example: "  yare host prepare tides\n  yare host prepare heron jacana --yes\n  yare host prepare --print",
		RunE: func(c *cobra.Command, args []string) error {
			if text {
				for _, p := range host.Programs() { // our own text, for a person to keep
					if _, err := fmt.Fprintf(a.out, "# %s, SHA-256 %s\n%s\n", p.Path, p.SHA256, p.Text); err != nil {
						return err
					}
				}
				return nil
			}
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				hosts, err := h.Hosts(args...)
				if err != nil {
					return err
				}
				if hosts = slices.DeleteFunc(hosts, func(host string) bool {
					return len(args) == 0 && !h.Acts(host)
				}); len(hosts) == 0 {
					return errors.New(
						"the estate file allows looking only; say \"act: true\" for a cluster whose " +
							"hosts are to take orders",
					)
				}
				needs, err := h.Needs(c.Context(), hosts)
				if err != nil {
					return err
				}
				if as.json() {
					if err := report.JSON(a.out, needs); err != nil {
						return err
					}
					return unready(needs)
				}
				a.showNeeds(needs)
				missing, err := lacking(needs)
				if err != nil || len(missing) == 0 {
					return errors.Join(err, unready(needs))
				}
				if !yes && !a.confirm(fmt.Sprintf("Put it on %s?", counted(missing))) {
					plain.Fprintln(a.out, "nothing was put on them")
					return exit(exitUnread)
				}
				return a.putOn(c.Context(), h, missing)
			})
		},
	}
	as.flags(c, "text", "json")
	c.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	c.Flags().BoolVar(&text, "print", false, "write the programs that are put on hosts, and nothing else")
	return c
}

// putOn prepares hosts, and says so of each.
func (a *app) putOn(ctx context.Context, h *harbour.Harbour, hosts []string) error {
	return h.Prepare(ctx, hosts, func(host string) { plain.Fprintf(a.out, "%s takes orders\n", host) })
}

// unready is the exit status of hosts of which some take no orders.
func unready(needs []harbour.Needs) error {
	for i := range needs {
		if !needs[i].Ready() {
			return exit(exitUnread)
		}
	}
	return nil
}

// lacking are the hosts that lack something, or why one of them can't be prepared.
func lacking(needs []harbour.Needs) (out []string, err error) {
	for i := range needs {
		switch n := &needs[i]; {
		case n.Wrong != "":
			err = errors.Join(err, errors.New(n.Wrong))
		case !n.Ready():
			out = append(out, n.Host)
		}
	}
	return out, err
}

func counted(hosts []string) string {
	if len(hosts) == 1 {
		return hosts[0]
	}
	return fmt.Sprintf("these %d hosts: %s", len(hosts), strings.Join(hosts, ", "))
}

// showNeeds tells what hosts need. Hosts that need the same are told of together.
func (a *app) showNeeds(needs []harbour.Needs) {
	told := map[string][]string{}
	var order []string
	for i := range needs {
		n := &needs[i]
		var b strings.Builder
		switch {
		case n.Wrong != "":
			fmt.Fprintf(&b, "  can't be prepared: %s\n", n.Wrong)
		case len(n.Items) == 0:
			b.WriteString("  takes orders as it is\n")
		}
		t := tabwriter.NewWriter(&b, 0, 0, 2, ' ', 0)
		for _, item := range n.Items {
			sign := "missing"
			if item.There {
				sign = "there"
			}
			fmt.Fprintf(t, "  %s\t%s\t%s\n", sign, item.What, item.Why)
		}
		_ = t.Flush() // to memory
		if told[b.String()] == nil {
			order = append(order, b.String())
		}
		told[b.String()] = append(told[b.String()], n.Host)
	}
	for _, text := range order {
		plain.Fprintln(a.out, strings.Join(told[text], ", "))
		for line := range strings.Lines(text) {
			plain.Fprintln(a.out, strings.TrimRight(line, "\n"))
		}
	}
}

func (a *app) hostRemove() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use:               "remove CLUSTER… | HOST…",
		ValidArgsFunction: a.names(true),
		Short:             "Take away from hosts all that was put there",
		Long: `Takes away the program, libvirt's script and everything that was kept of orders. A host that
is closed, or that is still carrying an order out, keeps it. Guests are not touched, and libvirt's daemon is not
restarted: a script that is gone is not asked. Afterwards a host does not know any more which orders it had: a
runner that was stopped in the middle of a round must be at its end first.`,
		Example: "  yare host remove heron\n  yare host remove tides --yes",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				hosts, err := h.Hosts(args...)
				if err != nil {
					return err
				}
				if !yes && !a.confirm(fmt.Sprintf("Take away %s and %s from %s?", linux.Home,
					linux.HookPath, counted(hosts))) {
					plain.Fprintln(a.out, "nothing was taken away")
					return nil
				}
				return h.Unprepare(c.Context(), hosts, func(host string) {
					plain.Fprintf(a.out, "%s takes no orders any more\n", host)
				})
			})
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	return c
}

// firstTime prepares the hosts of a cluster that take no orders yet, after it has said what that puts on them and was
// told to.
func (a *app) firstTime(ctx context.Context, h *harbour.Harbour, cluster string, yes bool) error {
	if c, err := h.Cluster(cluster); err != nil || !c.Act {
		return err // whoever starts the round says why there is none
	}
	hosts, err := h.Unprepared(ctx, cluster)
	if err != nil || len(hosts) == 0 {
		return err
	}
	needs, err := h.Needs(ctx, hosts)
	if err != nil {
		return err
	}
	missing, err := lacking(needs)
	if err != nil {
		return err
	}
	plain.Fprintln(a.out, "Before a round, hosts need what lets them take orders. \"yare host "+
		"remove\" takes it away again.")
	a.showNeeds(needs)
	if !yes && !a.confirm(fmt.Sprintf("Put it on %s?", counted(missing))) {
		return errors.New(
			"hosts that take no orders have no round: \"yare host prepare " + cluster +
				"\" shows what they need and puts it there",
		)
	}
	return a.putOn(ctx, h, missing)
}
