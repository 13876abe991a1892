package cli

import (
	"context"
	"errors"
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/feed"
	"yareharbour/format/plain"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

func (a *app) payloadCommand() *cobra.Command {
	c := &cobra.Command{Use: "payload", Short: "See, verify, fetch and prune the files in which releases come",
		Long:    "Payloads are kept under their SHA-256, verified on the way in and on the way out.",
		Example: "  yare payload list\n  yare payload fetch vts\n  yare payload verify\n  yare payload prune --unknown"}
	c.AddCommand(a.payloadList(), a.payloadVerify(), a.payloadFetch(), a.payloadPrune())
	return group(c)
}

func (a *app) payloadList() *cobra.Command {
	var as form
	c := &cobra.Command{
		Use: "list", Short: "List the payloads, their sizes, and the space that is left",
		Long: "Lists the payloads in the store with the releases that come in them, their size in all, and how " +
			"much space is free there.",
		Example: "  yare payload list",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.judging(c.Context(), func(h *harbour.Harbour) error {
				p, err := h.KeptPayloads(c.Context())
				if err != nil {
					return err
				}
				if as.json() {
					return report.JSON(a.out, p)
				}
				t := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
				plain.Fprintln(t, "SHA-256\tSIZE\tCAME IN\tRELEASE\tWANTED")
				for _, x := range p.Payloads {
					wanted := ""
					if x.Wanted {
						wanted = "yes"
					}
					plain.Fprintf(t, "%.16s\t%s\t%s\t%s\t%s\n", x.SHA256, catalogue.Bytes(x.Size), ago(x.At),
						orNone(x.Release, "no release names it"), wanted)
				}
				if err := t.Flush(); err != nil {
					return err
				}
				_, err = plain.Fprintf(a.out, "%d payloads, %s; %s free\n", len(p.Payloads), catalogue.Bytes(p.Size),
					catalogue.Bytes(p.Free))
				return err
			})
		},
	}
	as.flags(c, "text", "json")
	return c
}

func orNone(s, none string) string {
	if s == "" {
		return none
	}
	return s
}

func (a *app) payloadVerify() *cobra.Command {
	return &cobra.Command{
		Use: "verify", Short: "Read every payload and hold it against its hash",
		Long: "Reads every payload in the store, and every file of the estate's own directory in which a release " +
			"comes, and says which are damaged. Exit code 1 where one is.",
		Example: "  yare payload verify",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				line, done := a.progressLine()
				n, bad, err := h.VerifyPayloads(c.Context(), func(n int) { line(fmt.Sprintf("verified %d", n)) })
				done()
				for _, b := range bad {
					plain.Fprintf(a.out, "%s: %s\n", b.SHA256, b.Why)
				}
				if err != nil {
					return err
				}
				if len(bad) > 0 {
					return fmt.Errorf("%d of %d payloads are damaged; \"yare payload fetch\" fetches those of the store anew "+
						"that hosts want, and files of the estate's own directory are yours to replace", len(bad), n)
				}
				plain.Fprintf(a.out, "%d payloads, all as their hashes say\n", n)
				return nil
			})
		},
	}
}

func (a *app) payloadFetch() *cobra.Command {
	return &cobra.Command{
		Use: "fetch [CLUSTER… | HOST…]", Short: "Fetch the payloads that hosts want",
		ValidArgsFunction: a.names(true),
		Long: "Fetches, from their feeds, the payloads of the releases that hosts want by their " +
			"baselines as they were last read, and that are not here yet.",
		Example: "  yare payload fetch vts",
		RunE: func(c *cobra.Command, args []string) error {
			return a.judging(c.Context(), func(h *harbour.Harbour) error { return a.fetch(c.Context(), h, args) })
		},
	}
}

func (a *app) fetch(ctx context.Context, h *harbour.Harbour, names []string) error {
	hosts, err := h.Hosts(names...)
	if err != nil {
		return err
	}
	all, err := h.KeptVerdicts(ctx)
	if err != nil {
		return err
	}
	some := map[string][]drift.Verdict{}
	for _, host := range hosts {
		some[host] = all[host]
	}
	line, done := a.progressLine()
	defer done()
	var errs []error
	here, got := 0, 0
	for _, r := range h.Wanted(some) {
		if h.Payloads.Check(r.File, r.SHA256) == nil {
			here++
			continue
		}
		if err := h.Fetch(ctx, r, func(p feed.Progress) { line(p.Says()) }); err != nil {
			errs = append(errs, err)
			continue
		}
		got++
	}
	done()
	plain.Fprintf(a.out, "%d payloads fetched, %d were here, %d failed\n", got, here, len(errs))
	return errors.Join(errs...)
}

func (a *app) payloadPrune() *cobra.Command {
	var older int
	var most int64
	var unknown, damaged, yes bool
	c := &cobra.Command{
		Use: "prune", Short: "Let payloads go that nobody wants",
		Long: "Says which payloads go by the rule, asks, and removes them. What a host still wants, or an " +
			"unfinished round is going to apply, never goes.",
		Example: "  yare payload prune --unknown --older-than 90\n  yare payload prune --most 20 --yes",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			rule := catalogue.PruneRule{OlderThan: time.Duration(older) * 24 * time.Hour,
				Unknown: unknown, Most: most << 30}
			if rule == (catalogue.PruneRule{}) && !damaged {
				return errors.New("say by which rule: --older-than DAYS, --unknown, --most GIB, --damaged")
			}
			return a.judging(c.Context(), func(h *harbour.Harbour) error {
				return a.prune(c.Context(), h, rule, damaged, yes)
			})
		},
	}
	c.Flags().IntVar(&older, "older-than", 0, "what nobody wants and came in more than so many days ago")
	c.Flags().BoolVar(&unknown, "unknown", false, "what no release in the catalogue names")
	c.Flags().Int64Var(&most, "most", 0, "the oldest that nobody wants, until no more than so many GiB are kept")
	c.Flags().BoolVar(&damaged, "damaged", false, "what is not as its hash says, wanted or not")
	c.Flags().BoolVar(&yes, "yes", false, "remove without asking")
	return c
}

func (a *app) prune(ctx context.Context, h *harbour.Harbour, rule catalogue.PruneRule, damaged, yes bool) error {
	doomed, err := h.Doomed(ctx, rule, damaged)
	if err != nil {
		return err
	}
	var size int64
	for _, d := range doomed {
		size += d.Size
		plain.Fprintf(a.out, "%.16s  %s  %s\n", d.SHA256, catalogue.Bytes(d.Size), d.Why)
	}
	if len(doomed) == 0 {
		plain.Fprintln(a.out, "there is nothing to prune by this rule")
		return nil
	}
	if !yes && !a.confirm(fmt.Sprintf("Remove these %d payloads, %s?", len(doomed), catalogue.Bytes(size))) {
		plain.Fprintln(a.out, "nothing was removed")
		return nil
	}
	for _, d := range doomed {
		if err := h.Payloads.Store.Remove(d.SHA256); err != nil {
			return err
		}
	}
	plain.Fprintf(a.out, "%d payloads removed, %s\n", len(doomed), catalogue.Bytes(size))
	return nil
}
