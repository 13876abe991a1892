package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yareharbour/core/drift"
	"yareharbour/export"
	"yareharbour/format/plain"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

func (a *app) compareCommand() *cobra.Command {
	var t target
	c := &cobra.Command{
		Use:   "compare HOST[@TIME] HOST[@TIME]",
		Short: "Say in what two readings differ: one host at two times, or two hosts",
		Long: `Compares two readings that were kept. HOST is its newest; HOST@TIME the one that held then: a
date (2026-11-21), a date and a time ("2026-11-21 20:00"), or how long ago (24h, 7d). Parts that either reading
lacks are named and not compared. Nothing is read anew.`,
		Example:           "  yare compare heron@7d heron\n  yare compare heron lapwing",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.names(true),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				is, err := h.Compare(c.Context(), args[0], args[1])
				if err != nil {
					return err
				}
				return t.write(a.out, export.Comparison(is))
			})
		},
	}
	t.words(c)
	return c
}

func (a *app) trendCommand() *cobra.Command {
	var t target
	since := "30d"
	c := &cobra.Command{
		Use: "trend CLUSTER", Short: "Show a cluster's drift over time, by layer",
		Long: "Shows what was out of line in a cluster at each check at which that changed: text, CSV " +
			"and JSON as a table, SVG and PDF as a chart.",
		Example:           "  yare trend tides\n  yare trend tides --since 90d --format svg -o tides-trend.svg",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.names(false),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, name string) error {
			if _, err := h.Cluster(name); err != nil {
				return err
			}
			from, err := harbour.ParseTime(since, h.World.Now())
			if err != nil {
				return fmt.Errorf("--since: %w", err)
			}
			all, err := h.Tallies.Trend(ctx, name, from)
			if err != nil {
				return err
			}
			return t.write(a.out, export.Trend(name, all, from, h.World.Now()))
		}),
	}
	c.Flags().StringVar(&since, "since", since, "from when on: a date, or how long ago")
	t.flags(c)
	return c
}

func (a *app) newsCommand() *cobra.Command {
	var as form
	var seen bool
	c := &cobra.Command{
		Use: "news [CLUSTER…]", Short: "Show what is out of line and was not when you last looked",
		Long: `Reads the hosts and shows the drift that is new since the last look: what was in line then, or
out of line in another way. With --seen what is there now is noted as seen. Exit codes: 0 nothing new, 3 new
drift, 4 where something is unread, undecided or covered by no baseline (with or without news), 1 failure; so a
timer can call it and tell people.`,
		Example:           "  yare news\n  yare news tides --seen",
		ValidArgsFunction: a.names(false),
		RunE: func(c *cobra.Command, args []string) error {
			return a.judging(c.Context(), func(h *harbour.Harbour) error {
				return a.news(c.Context(), h, args, seen, as.json())
			})
		},
	}
	c.Flags().BoolVar(&seen, "seen", false, "note what is there now as seen")
	as.flags(c, "text", "json")
	return c
}

func (a *app) news(ctx context.Context, h *harbour.Harbour, names []string, seen, asJSON bool) error {
	clusters := h.Estate.Clusters
	if len(names) > 0 {
		clusters = nil
	}
	for _, name := range names {
		c, err := h.Cluster(name)
		if err != nil {
			return err
		}
		clusters = append(clusters, c)
	}
	found, open := 0, false
	for _, cl := range clusters {
		readings, err := h.Read(ctx, cl.Hosts, nil)
		if err != nil {
			return err
		}
		n, err := h.News(ctx, cl.Name, h.Check(h.Checker(), readings))
		if err != nil {
			return err
		}
		found, open = found+len(n.Drift), open || n.Now.Open() != ""
		if asJSON {
			err = report.JSON(a.out, report.NewNews(cl.Name, n))
		} else {
			err = a.showNews(cl.Name, n)
		}
		if err != nil {
			return err
		}
		if seen {
			if err := h.Looked(ctx, cl.Name, operator()); err != nil {
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
}

func (a *app) showNews(cluster string, n drift.News) error {
	open := ""
	if s := n.Now.Open(); s != "" {
		open = "; not known: " + s
	}
	if n.Since.IsZero() {
		_, err := plain.Fprintf(a.out, "%s: nobody has looked yet; --seen notes what is there now%s\n", cluster, open)
		return err
	}
	plain.Fprintf(a.out, "%s: %d new since %s (%s)%s\n", cluster, len(n.Drift), n.Since.Local().Format(minute), n.By, open)
	t := tabwriter.NewWriter(a.out, 2, 0, 2, ' ', 0)
	for _, v := range n.Drift {
		plain.Fprintf(t, "  %s\t%s\t%s\t%s\t%s\n", v.Host, v.Title(), v.Outcome, orNone(v.Has, "–"),
			orNone(v.Wants, "–"))
	}
	return t.Flush()
}

func (a *app) filterCommand() *cobra.Command {
	c := &cobra.Command{Use: "filter", Short: "Keep filters under names",
		Long: `A filter narrows what is shown, in every view and with --narrow: words that must be found, and
fields as layer=firmware, severity=high, vendor=corran, host=avo*, kind=fw, verdict=behind, age=30; a minus
before a word turns it around. A kept one is used as @NAME.`,
		Example: "  yare filter keep urgent \"severity=critical -verdict=excepted\"\n  yare check --narrow @urgent\n" +
			"  yare filter list\n  yare filter forget urgent"}
	var as form
	list := &cobra.Command{
		Use: "list", Short: "List the kept filters", Long: "Lists the filters that were kept, by name.",
		Example: "  yare filter list", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				all, err := h.Filters.Filters(c.Context())
				if err == nil && as.json() {
					return report.JSON(a.out, all)
				}
				for _, name := range slices.Sorted(maps.Keys(all)) {
					plain.Fprintf(a.out, "@%s  %s\n", name, all[name])
				}
				return err
			})
		},
	}
	as.flags(list, "text", "json")
	c.AddCommand(list, &cobra.Command{
		Use: "keep NAME TEXT", Short: "Keep a filter under a name",
		Long:    "Keeps a filter; one of the same name is replaced. A text that can't be understood is refused.",
		Example: "  yare filter keep urgent \"severity=critical\"", Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			if args[1] == "" {
				return errors.New("the filter's text is empty; \"yare filter forget\" forgets one")
			}
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				return h.KeepFilter(c.Context(), args[0], args[1])
			})
		},
	}, &cobra.Command{
		Use: "forget NAME", Short: "Forget a kept filter", Long: "Forgets a filter that was kept.",
		Example: "  yare filter forget urgent", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error { return h.KeepFilter(c.Context(), args[0], "") })
		},
	})
	return group(c)
}
