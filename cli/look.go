package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"yareharbour/core/baseline"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/plain"
)

func (a *app) connectCommand() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use:   "connect [CLUSTER… | HOST…]",
		Short: "Test every way to the hosts and say what to do where one does not hold",
		Long: `Tries every way to each host, stage by stage: the SSH configuration, name, port, host key,
login and permission, jump hosts in the same way, libvirt, and the BMC's name, port, certificate, login and
permission. A stage that fails is the last of its way, and says what to do. Nothing is kept, and nothing is
changed.

Exit codes: 0 every way holds, 4 one does not, 1 failure.`,
		Example: "  yare connect\n  yare connect heron jacana\n  yare connect tides --json",
		RunE: a.judged(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			hosts, err := h.Hosts(args...)
			if err != nil {
				return err
			}
			line, done := a.progressLine()
			ways, err := h.Connect(ctx, hosts, line)
			done()
			if err != nil {
				return err
			}
			if err := a.show(ctx, h, &o, view.OfWays(ways)); err != nil {
				return err
			}
			for i := range ways {
				if ways[i].Failed() > 0 {
					return exit(exitUnread)
				}
			}
			return nil
		}),
	}
	o.flags(c)
	return c
}

func (a *app) readCommand() *cobra.Command {
	var o output
	var here bool
	c := &cobra.Command{
		Use:   "read [--local | CLUSTER… | HOST…]",
		Short: "Read hosts and show what was found",
		Long: "Reads hosts: platform, packages, drivers, firmware, guests, health. Each section says " +
			"when it was read and from where; one that could not be read says why. Of a single host everything that was " +
			"read is shown, whether a baseline covers it or not.\n\n" +
			"Exit codes: 0 every host answered, 4 one did not, 1 failure.",
		Example: "  yare read tides\n  yare read curlew --json\n  yare read --local",
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		switch {
		case here && len(args) > 0:
			return usage("read takes --local or names, not both")
		case here:
			r, err := harbour.Here(c.Context())
			if err != nil {
				return err
			}
			return a.show(c.Context(), nil, &o, view.OfReadings([]*estate.Reading{r}))
		}
		return a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			hosts, readings, err := a.readNamed(ctx, h, args)
			if err != nil {
				return err
			}
			var all []*estate.Reading
			silent := false
			for _, host := range hosts {
				if r := readings[host]; r != nil {
					all, silent = append(all, r), silent || !r.Reached()
				}
			}
			if err := a.show(ctx, h, &o, view.OfReadings(all)); err != nil {
				return err
			}
			if silent {
				return exit(exitUnread)
			}
			return nil
		})(c, args)
	}
	c.Flags().BoolVar(&here, "local", false, "read this machine")
	o.flags(c)
	return c
}

// readNamed reads what the names mean, telling progress on stderr where it takes longer than a moment.
func (a *app) readNamed(ctx context.Context, h *harbour.Harbour, names []string) ([]string, map[string]*estate.Reading, error) {
	hosts, err := h.Hosts(names...)
	if err != nil {
		return nil, nil, err
	}
	line, done := a.progressLine()
	defer done()
	readings, err := h.Read(ctx, hosts, func(host string, n int) {
		line(fmt.Sprintf("read %d of %d: %s", n, len(hosts), host))
	})
	return hosts, readings, err
}

func (a *app) checkCommand() *cobra.Command {
	var o output
	var local harbour.Local
	var here, all bool
	c := &cobra.Command{
		Use:   "check [--local | CLUSTER… | HOST…]",
		Short: "Check hosts against their baselines",
		Long: `Checks hosts against their baselines and shows what is not in line.
With --local this machine is checked. Without a baseline it is checked against its own apt indices: every installed
package should be at the newest version there. With --baseline only that file binds, whatever it is assigned to.

Exit codes: 0 all that was judged is in line, 3 drift, 4 something is unread or nothing was judged (whether
there is drift too or not), 1 failure, or a baseline that names a host, track, model or target that does not exist.`,
		Example: "  yare check tides\n  yare check curlew --json\n  yare check --local\n" +
			"  yare check --local --baseline web.yaml --advisories debian.json",
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		switch {
		case here && len(args) > 0:
			return usage("check takes --local or names, not both")
		case here:
			f, err := narrow.Parse(o.narrow)
			if err != nil {
				return err
			}
			d, err := harbour.CheckHere(c.Context(), local, f)
			if err != nil {
				return err
			}
			return a.reported(c.Context(), nil, &o, &d, all)
		}
		return a.judged(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			f, err := o.filter(ctx, h)
			if err != nil {
				return err
			}
			var only *baseline.Baseline
			if local.Baseline != "" {
				b, _, err := harbour.ReadBaseline(local.Baseline)
				if err != nil {
					return err
				}
				only = &b
			}
			hosts, readings, err := a.readNamed(ctx, h, args)
			if err != nil {
				return err
			}
			d, err := h.Report(ctx, hosts, readings, only, f)
			if err != nil {
				return err
			}
			return a.reported(ctx, h, &o, &d, all)
		})(c, args)
	}
	f := c.Flags()
	f.BoolVar(&here, "local", false, "check this machine")
	f.BoolVar(&all, "all", false, "show what is in line too")
	f.StringVar(&local.Baseline, "baseline", "", "a baseline file that binds in place of those of the estate")
	f.StringSliceVar(&local.Advisories, "advisories", nil,
		"with --local: files of OSV or CSAF advisories, by which packages are graded")
	f.StringVar(&local.Lists, "lists", harbour.AptLists, "with --local: the directory in which apt keeps its indices")
	f.StringSliceVar(&local.Keyrings, "keyring", nil,
		"with --local: OpenPGP keyring files; every index must then be signed by one of their keys")
	o.narrowing(a, c)
	return c
}

// reported shows a report, and ends as it says.
func (a *app) reported(ctx context.Context, h *harbour.Harbour, o *output, d *view.Report, all bool) error {
	if err := a.show(ctx, h, o, d.Document("drift", "", all)); err != nil {
		return err
	}
	switch d.Conclusion() {
	case view.Wrong:
		return exit(exitFailure)
	case view.Unknown:
		return exit(exitUnread)
	case view.Adrift:
		return exit(exitDrift)
	}
	return nil
}

func (a *app) explainCommand() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use:   "explain HOST COMPONENT",
		Short: "Tell one verdict's whole story in sentences",
		Long: "Tells what was read, when and from where, which clause binds it, which release fixes it, " +
			"and why a newer-looking one is not offered. Reads the host first.",
		Example: "  yare explain jacana fw:lorne-l25\n  yare explain vts/heron deb:brae-tls",
		RunE: a.judged(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			key, err := estate.ParseKey(args[1])
			if err != nil {
				return err
			}
			told, bare, err := h.Explain(ctx, args[0], key)
			if err != nil {
				return err
			}
			d := view.OfExplained(told)
			if bare != "" {
				d.Text = []view.Block{view.Lines(bare)}
			}
			return a.show(ctx, h, &o, d)
		}),
	}
	o.flags(c)
	return c
}

func (a *app) compareCommand() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use:   "compare HOST[@TIME] HOST[@TIME]",
		Short: "Say in what two readings differ: one host at two times, or two hosts",
		Long: `Compares two readings that were kept. HOST is its newest; HOST@TIME the one that held then: a
date (2026-11-21), a date and a time ("2026-11-21 20:00"), or how long ago (24h, 7d). Parts that either reading
lacks are named and not compared. Nothing is read anew.`,
		Example: "  yare compare heron@7d heron\n  yare compare heron lapwing",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			is, err := h.Compare(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, is.Document())
		}),
	}
	o.flags(c)
	return c
}

func (a *app) trendCommand() *cobra.Command {
	var o output
	since := "30d"
	c := &cobra.Command{
		Use: "trend CLUSTER", Short: "Show a cluster's drift over time, by layer",
		Long: "Shows what was out of line in a cluster at each check at which that changed: text, CSV " +
			"and JSON as a table, SVG and PDF as a chart.",
		Example: "  yare trend tides\n  yare trend tides --since 90d -o tides-trend.svg",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			from, err := harbour.ParseTime(since, h.Now())
			if err != nil {
				return usage("--since: %w", err)
			}
			t, err := h.Trend(ctx, args[0], from)
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, t.Document())
		}),
	}
	c.Flags().StringVar(&since, "since", since, "from when on: a date, or how long ago (7d, 2w)")
	o.flags(c)
	return c
}

func (a *app) newsCommand() *cobra.Command {
	var o output
	var seen bool
	c := &cobra.Command{
		Use: "news [CLUSTER…]", Short: "Show what is out of line and was not when you last looked",
		Long: `Reads the hosts and shows the drift that is new since the last look: what was in line then, or
out of line in another way. With --seen what is there now is noted as seen.

Exit codes: 0 nothing new, 3 new drift, 4 something is unread, undecided or covered by no baseline (with or without
news), 1 failure; so a timer can call it and tell people.`,
		Example: "  yare news\n  yare news tides --seen",
		RunE: a.judged(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			all, err := h.Newly(ctx, args)
			if err != nil {
				return err
			}
			if err := a.show(ctx, h, &o, view.OfNews(all)); err != nil {
				return err
			}
			found, open := 0, false
			for _, n := range all {
				found, open = found+len(n.News), open || n.Now.Open() != ""
				if seen {
					if err := h.MarkSeen(ctx, n.Cluster); err != nil {
						return err
					}
				}
			}
			switch {
			case open:
				return exit(exitUnread)
			case found > 0:
				return exit(exitDrift)
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&seen, "seen", false, "note what is there now as seen")
	o.flags(c)
	return c
}

func (a *app) owedCommand() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use:   "owed [CLUSTER]",
		Short: "List what is still to be undone: closed hosts and guests at rest",
		Long: `Lists what rounds and work by hand have left to be undone, as far as the newest readings do not show that it was:
hosts that are closed, whose they are and until when, guests that were shut down or suspended,
and acts whose outcome is not known.

Exit codes: 0 nothing is owed, 3 something is, 1 failure.`,
		Example: "  yare owed\n  yare owed vts --json",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			debts, err := h.Owed(ctx, optional(args))
			if err != nil {
				return err
			}
			if err := a.show(ctx, h, &o, view.OfOwed(debts, h.Now())); err != nil {
				return err
			}
			if len(debts) > 0 {
				return exit(exitDrift)
			}
			return nil
		}),
	}
	o.narrowing(a, c)
	return c
}

func (a *app) reportCommand() *cobra.Command {
	c := &cobra.Command{Use: "report", Short: "Write a report as text, CSV, JSON, SVG, HTML or PDF",
		Long: "Writes what was found (drift), what was done (round) or what changed on a host (life). As SVG and PDF, drift is " +
			"the Waterline and a round its timeline.",
		Example: "  yare report drift tides -o tides.csv\n  yare report round vts -o vts.pdf"}
	c.AddCommand(a.reportDrift(), a.reportRound(), a.reportLife())
	return c
}

func (a *app) reportDrift() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use:   "drift [CLUSTER… | HOST…]",
		Short: "Report what is out of line; as a drawing, the Waterline",
		Long: "Reads the hosts again and reports every verdict. As SVG or PDF it draws the Waterline of " +
			"the whole estate, other hosts as they were last read.",
		Example: "  yare report drift tides -o tides.csv\n  yare report drift -o waterline.pdf",
		RunE: a.judged(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			f, err := o.filter(ctx, h)
			if err != nil {
				return err
			}
			hosts, _, err := a.readNamed(ctx, h, args)
			if err != nil {
				return err
			}
			e, err := h.View(ctx)
			if err != nil {
				return err
			}
			r := e.Report(hosts, f)
			d := r.Document("drift", "", false)
			d.Drawing = e.Survey
			return a.show(ctx, h, &o, d)
		}),
	}
	o.narrowing(a, c)
	o.pages(c)
	return c
}

func (a *app) reportRound() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use:   "round CLUSTER [ROUND]",
		Short: "Report what a round did; as a drawing, its timeline",
		Long: "Reports the newest round of a cluster, or the one with the id given: per host the " +
			"changes with before and after, the steps with their times, moves, and what failed.",
		Example: "  yare report round vts\n  yare report round vts -o vts.svg",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			r, err := h.Journal(ctx, args[0], optional(args[1:]))
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, view.OfRound(r))
		}),
	}
	o.flags(c)
	o.pages(c)
	return c
}

func (a *app) reportLife() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use:   "life HOST",
		Short: "Report what changed on a host from reading to reading",
		Long: "Reports every component that came, went or changed its version on a host, the newest " +
			"change first, as far as readings of it were kept. The host is read first.",
		Example: "  yare report life jacana\n  yare report life jacana -o jacana.csv",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			host, _, err := h.Host(args[0])
			if err != nil {
				return err
			}
			if _, err := h.Read(ctx, []string{host}, nil); err != nil {
				return err
			}
			turns, err := h.Life(ctx, host)
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, view.OfLife(host, turns))
		}),
	}
	o.narrowing(a, c)
	o.pages(c)
	return c
}

func (a *app) inventoryCommand() *cobra.Command {
	o := output{forms: harbour.InventoryFormats}
	c := &cobra.Command{
		Use:   "inventory [CLUSTER… | HOST…]",
		Short: "Write what hosts are made of as CycloneDX",
		Long: `Writes the packages, drivers and firmware of hosts, as they were last read, as CycloneDX 1.6: packages with their
package URLs, firmware and drivers with their devices, and the advisories that affect what runs as vulnerabilities.
Each host says when it was read and what of it could not be; one that was never read is named. Of all hosts where none is named.`,
		Example: "  yare inventory -o estate.cdx.json\n  yare inventory vts --format xml -o vts.cdx.xml",
		RunE: a.judged(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			var missing []string
			err := a.write(&o, func(w io.Writer) (err error) {
				missing, err = h.Inventory(ctx, w, args, version(), o.is())
				return err
			})
			if err == nil && len(missing) > 0 {
				plain.Fprintln(a.err, "yare: never read, and not in it: "+strings.Join(missing, ", ")+"; \"yare read\" reads them")
				return exit(exitUnread)
			}
			return err
		}),
	}
	o.flags(c)
	return c
}

func (a *app) filterCommand() *cobra.Command {
	c := &cobra.Command{Use: "filter", Short: "Keep filters under names",
		Long: `A filter narrows what is shown, in every view and with --narrow: words that must be found, and
fields as layer=firmware, severity=high, vendor=corran, host=avo*, kind=fw, verdict=behind, age=30; a minus
before a word turns it around. A kept one is used as @NAME.`,
		Example: "  yare filter keep urgent \"severity=critical -verdict=excepted\"\n  yare check --narrow @urgent\n" +
			"  yare filter list\n  yare filter forget urgent"}
	var o output
	list := &cobra.Command{
		Use: "list", Short: "List the kept filters", Long: "Lists the filters that were kept, by name.",
		Example: "  yare filter list",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			all, err := h.KeptFilters(ctx)
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, view.OfFilters(all))
		}),
	}
	o.flags(list)
	c.AddCommand(list, &cobra.Command{
		Use: "keep NAME TEXT", Short: "Keep a filter under a name",
		Long:    "Keeps a filter; one of the same name is replaced. A text that can't be understood is refused.",
		Example: "  yare filter keep urgent \"severity=critical\"",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			if args[1] == "" {
				return errors.New("the filter's text is empty; \"yare filter forget\" forgets one")
			}
			if err := h.KeepFilter(ctx, args[0], args[1]); err != nil {
				return err
			}
			a.says("kept as @%s", args[0])
			return nil
		}),
	}, &cobra.Command{
		Use: "forget FILTER", Short: "Forget a kept filter", Long: "Forgets a filter that was kept.",
		Example: "  yare filter forget urgent",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			if err := h.ForgetFilter(ctx, args[0]); err != nil {
				return err
			}
			a.says("@%s is forgotten", args[0])
			return nil
		}),
	})
	return c
}
