package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/view"
	"yareharbour/harbour"
)

func (a *app) catalogueCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "catalogue",
		Short: "See what can be had: components, their releases and tracks, and which hosts have them",
		Long: "Shows what release lists, feeds and bundles say, beside where the hosts stand " +
			"as they were last read.",
		Example: "  yare catalogue list --narrow \"severity=high layer=firmware\"\n" +
			"  yare catalogue show fw:tarbet-s9\n  yare catalogue show fw:tarbet-s9 -o tarbet.svg",
	}
	c.AddCommand(a.catalogueList(), a.catalogueShow(), a.catalogueSeen(), a.schema("release list", "release list"))
	return c
}

func (a *app) catalogueSeen() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "seen COMPONENT", Short: "Tell when versions of a component were first and last seen, over all hosts",
		Long:    "Tells of each version of a component when and on which host it was first seen, when last, which hosts had it, and which still do, as far as readings were kept.",
		Example: "  yare catalogue seen deb:brae-tls",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			key, err := estate.ParseKey(args[0])
			if err != nil {
				return usage("%v", err)
			}
			all, err := h.Seen(ctx, key)
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, view.OfSeen(key, all))
		}),
	}
	o.narrowing(a, c)
	return c
}

func (a *app) catalogueList() *cobra.Command {
	var o output
	var all bool
	c := &cobra.Command{
		Use: "list", Short: "List components with their newest releases, and how hosts stand to them",
		Long: `Lists the components that hosts have, or baselines speak of, and of which the catalogue knows
a release. With --all those too that no host has, or no feed: that is the list to look through for what is not
on any host yet.`,
		Example: "  yare catalogue list\n  yare catalogue list --narrow \"vendor=corran age=60\"\n" +
			"  yare catalogue list --all -o components.csv",
		RunE: a.judged(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			f, err := o.filter(ctx, h)
			if err != nil {
				return err
			}
			e, err := h.View(ctx)
			if err != nil {
				return err
			}
			o.narrow = "" // the list is narrowed by more than its columns say
			return a.show(ctx, h, &o, view.OfComponents(e.Components(f, all)))
		}),
	}
	c.Flags().BoolVar(&all, "all", false, "what no host has, or no feed, too")
	o.narrowing(a, c)
	return c
}

func (a *app) catalogueShow() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "show COMPONENT", Short: "Show a component's tracks as ladders, with the hosts on their rungs",
		Long: "Shows every release of a component by track, the newest first: which is proposed, which was " +
			"withdrawn and why, which hosts have it, and which baselines want it.",
		Example: "  yare catalogue show fw:tarbet-s9\n  yare catalogue show fw:lorne-l25 -o lorne.pdf",
		RunE: a.judged(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			key, err := estate.ParseKey(args[0])
			if err != nil {
				return err
			}
			e, err := h.View(ctx)
			if err != nil {
				return err
			}
			l := e.Ladder(key)
			if len(l.Tracks) == 0 {
				return fmt.Errorf("no feed has a release of %s, and no host has it", key)
			}
			return a.show(ctx, h, &o, view.OfLadder(l))
		}),
	}
	o.flags(c)
	return c
}

func (a *app) feedCommand() *cobra.Command {
	c := &cobra.Command{Use: "feed", Short: "See and sync the feeds from which the catalogue is filled",
		Long: `Feeds are named in the estate file: Debian and RPM repositories, firmware metadata, and
directories of release lists and advisories, over HTTP and HTTPS or in a directory. A sync fetches what changed;
until all of it is there and verified, what was known before stays.`,
		Example: "  yare feed list\n  yare feed sync\n  yare feed sync corran\n  yare feed set corran \"every 6h\""}
	c.AddCommand(a.feedList(), a.feedSync(), &cobra.Command{
		Use: "set FEED SCHEDULE", Short: "Say when a feed is synced",
		Long: "Has a feed synced \"on demand\", \"off\" (only when this very feed is asked for), \"every 6h\" or " +
			"\"daily 03:30\", whatever the estate file says of it.",
		Example: "  yare feed set corran \"every 6h\"\n  yare feed set corran off",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			says, err := h.Schedule(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			a.says("%s", says)
			return nil
		}),
	})
	return c
}

func (a *app) feedList() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "list", Short: "List the feeds and what became of their last syncs",
		Long: "Lists the feeds of the estate file: where they are, when they are synced, what they said " +
			"last, and what went wrong.",
		Example: "  yare feed list\n  yare feed list --json",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			all, err := h.Feeds()
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, view.OfFeeds(all, time.Now()))
		}),
	}
	o.narrowing(a, c)
	return c
}

func (a *app) feedSync() *cobra.Command {
	var due bool
	c := &cobra.Command{
		Use: "sync [FEED…]", Short: "Bring feeds up to date",
		Long: `Brings the feeds that are named up to date, or all but those that are switched off. With --due
only those whose time has come by their schedule, for a timer to call. Ctrl-C ends it; what was fetched so far
is kept for the next time.

Exit codes: 0 all were synced, 1 a feed could not be; the others are.`,
		Example: "  yare feed sync\n  yare feed sync corran\n  yare feed sync --due",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			if due && len(args) > 0 {
				return usage("say --due or name feeds, not both")
			}
			line, done := a.progressLine()
			all, err := h.Sync(ctx, harbour.Which{Names: args, Due: due}, line)
			done()
			for _, s := range all {
				a.says("%s: %s", s.Name, s.Says)
				for _, l := range view.SetAside(s.Name, s.Aside) {
					a.says("%s", l)
				}
			}
			if err == nil && len(all) == 0 {
				a.says("there is nothing to sync")
			}
			return err
		}),
	}
	c.Flags().BoolVar(&due, "due", false, "only feeds whose time has come")
	return c
}

func (a *app) bundleCommand() *cobra.Command {
	c := &cobra.Command{Use: "bundle", Short: "Look into archives of releases, and take them in",
		Long: `A bundle is a zip or tar archive, perhaps with archives in it, that holds release lists,
repositories, firmware, advisories or payloads. It is unpacked and verified aside; "show" says what is in it,
"import" takes it in whole or not at all.`,
		Example: "  yare bundle show corran-q4.zip\n  yare bundle import corran-q4.zip\n  yare bundle list"}
	c.AddCommand(a.bundleShow(), a.bundleImport(), a.bundleList(), &cobra.Command{
		Use: "remove BUNDLE", Short: "Take a bundle out of the catalogue again",
		Long: "Takes what a bundle said out of the catalogue again. Its payloads stay in the payload store until " +
			"they are pruned. BUNDLE is its name, or the beginning of its id.",
		Example: "  yare bundle remove 3f9a",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			b, err := h.TakeOut(ctx, args[0])
			if err != nil {
				return err
			}
			a.says("%s is no longer in the catalogue; its payloads stay until \"yare payload prune\"", b.Name)
			return nil
		}),
	})
	return c
}

// signers are the options about whose signature is wanted over a bundle.
func signers(c *cobra.Command, by *harbour.Signed) {
	c.Flags().StringSliceVar(&by.Keyrings, "keyring", nil, "OpenPGP keyring files; every file must then be named by a "+
		"SHA256SUMS with a good signature by one of their keys")
	c.Flags().BoolVar(&by.Only, "vouched", false, "leave out files that no signed SHA256SUMS names, instead of refusing them")
}

// openBundle opens an archive aside and shows what is in it.
func (a *app) openBundle(ctx context.Context, h *harbour.Harbour, file string, by harbour.Signed, o *output) (*harbour.Opened, error) {
	line, done := a.progressLine()
	b, err := h.Open(ctx, file, by, line)
	done()
	if err != nil {
		return nil, err
	}
	if err := a.show(ctx, h, o, view.OfBundle(b.Bundle, b.NewReleases, b.NewAdvisories)); err != nil {
		return nil, errors.Join(err, b.Close())
	}
	return b, nil
}

func (a *app) bundleShow() *cobra.Command {
	var o output
	var by harbour.Signed
	c := &cobra.Command{
		Use: "show FILE", Short: "Say what is in an archive; nothing is taken in",
		Long: "Unpacks an archive aside, verifies its checksums, and says what every file in " +
			"it is and what it brings.",
		Example: "  yare bundle show corran-q4.zip",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			b, err := a.openBundle(ctx, h, args[0], by, &o)
			if err != nil {
				return err
			}
			return b.Close()
		}),
	}
	o.flags(c)
	signers(c, &by)
	return c
}

func (a *app) bundleImport() *cobra.Command {
	var by harbour.Signed
	var yes bool
	c := &cobra.Command{
		Use: "import FILE", Short: "Take an archive in, after showing what is in it",
		Long: "Shows what is in the archive, asks, and takes it in: payloads into the payload store, what it says " +
			"into the catalogue. Taking the same one in twice changes nothing.",
		Example: "  yare bundle import corran-q4.zip\n  yare bundle import corran-q4.zip --keyring corran.gpg --yes",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			b, err := a.openBundle(ctx, h, args[0], by, &output{})
			if err != nil {
				return err
			}
			defer b.Close()
			if !yes && !a.confirm("Take it in?") {
				a.says("nothing was taken in")
				return nil
			}
			line, done := a.progressLine()
			known, err := h.TakeIn(ctx, b, line)
			done()
			switch {
			case err != nil:
				return err
			case known:
				a.says("this very bundle was taken in before; nothing has changed")
			default:
				a.says("taken in as %.12s", b.ID)
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "take it in without asking")
	signers(c, &by)
	return c
}

func (a *app) bundleList() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "list", Short: "List the bundles that were taken in",
		Long:    "Lists the bundles that were taken in, the newest first: when, who did it, and what they brought.",
		Example: "  yare bundle list",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			all, err := h.Bundles()
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, view.OfBundles(all))
		}),
	}
	o.narrowing(a, c)
	return c
}

func (a *app) payloadCommand() *cobra.Command {
	c := &cobra.Command{Use: "payload", Short: "See, verify, fetch and prune the files in which releases come",
		Long:    "Payloads are kept under their SHA-256, verified on the way in and on the way out.",
		Example: "  yare payload list\n  yare payload fetch vts\n  yare payload verify\n  yare payload prune --unknown"}
	c.AddCommand(a.payloadList(), &cobra.Command{
		Use: "verify", Short: "Check every payload against its hash",
		Long: "Reads every payload in the store, and every file of the estate's own directory in which a release " +
			"comes, and says which are damaged.\n\nExit codes: 0 none is, 1 one is, or failure.",
		Example: "  yare payload verify",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			line, done := a.progressLine()
			says, damaged, err := h.VerifyPayloads(ctx, line)
			done()
			for _, d := range damaged {
				a.says("%s", d)
			}
			switch {
			case err != nil:
				return err
			case len(damaged) > 0:
				return errors.New(says)
			}
			a.says("%s", says)
			return nil
		}),
	}, &cobra.Command{
		Use: "fetch [CLUSTER… | HOST…]", Short: "Fetch the payloads that hosts want",
		Long: "Fetches, from their feeds, the payloads of the releases that hosts want by their " +
			"baselines as they were last read, and that are not here yet.",
		Example: "  yare payload fetch vts",
		RunE: a.judged(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			line, done := a.progressLine()
			says, err := h.Fetch(ctx, args, line)
			done()
			if says != "" {
				a.says("%s", says)
			}
			return err
		}),
	}, a.payloadPrune())
	return c
}

func (a *app) payloadList() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "list", Short: "List the payloads, their sizes, and the space that is left",
		Long: "Lists the payloads in the store with the releases that come in them, their size in all, and how " +
			"much space is free there.",
		Example: "  yare payload list",
		RunE: a.judged(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			p, err := h.Payloads(ctx)
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, p.Document(time.Now()))
		}),
	}
	o.narrowing(a, c)
	return c
}

func (a *app) payloadPrune() *cobra.Command {
	var older lasting
	var most int64
	var rule harbour.Rule
	var yes bool
	c := &cobra.Command{
		Use: "prune", Short: "Remove payloads that nobody wants",
		Long: "Says which payloads go by the rule, asks, and removes them. What a host still wants, or an " +
			"unfinished round is going to apply, never goes.",
		Example: "  yare payload prune --unknown --older-than 90d\n  yare payload prune --most 20 --yes",
		RunE: a.judged(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			rule.OlderThan, rule.Most = time.Duration(older), most<<30
			if rule == (harbour.Rule{}) {
				return usage("say by which rule: --older-than, --unknown, --most, --damaged")
			}
			doomed, err := h.Prune(ctx, rule)
			if err != nil {
				return err
			}
			if err := a.show(ctx, h, &output{}, view.OfPruned(doomed)); err != nil || len(doomed) == 0 {
				return err
			}
			var size int64
			for _, d := range doomed {
				size += d.Size
			}
			says := fmt.Sprintf("%s, %s", catalogue.Some(len(doomed), "payload"), catalogue.Bytes(size))
			if !yes && !a.confirm("Remove "+says+"?") {
				a.says("nothing was removed")
				return nil
			}
			if err := h.Drop(doomed); err != nil {
				return err
			}
			a.says("removed: %s", says)
			return nil
		}),
	}
	f := c.Flags()
	f.Var(&older, "older-than", "what nobody wants and came in longer ago, as 90d")
	f.BoolVar(&rule.Unknown, "unknown", false, "what no release in the catalogue names")
	f.Int64Var(&most, "most", 0, "the oldest that nobody wants, until no more than this many GiB are kept")
	f.BoolVar(&rule.Damaged, "damaged", false, "what does not match its hash, wanted or not")
	f.BoolVar(&yes, "yes", false, "remove without asking")
	return c
}
