package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
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

func (a *app) feedCommand() *cobra.Command {
	c := &cobra.Command{Use: "feed", Short: "See and sync the feeds from which the catalogue is filled",
		Long: `Feeds are named in the estate file: Debian and RPM repositories, firmware metadata, and
directories of release lists and advisories, over HTTP and HTTPS or in a directory. A sync fetches what changed;
until all of it is there and verified, what was known before stays.`,
		Example: "  yare feed list\n  yare feed sync\n  yare feed sync corran\n  yare feed set corran \"every 6h\""}
	c.AddCommand(a.feedList(), a.feedSync(), a.feedSet())
	return group(c)
}

func (a *app) feedNames(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return nil, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) feedList() *cobra.Command {
	var as form
	c := &cobra.Command{
		Use: "list", Short: "List the feeds and what became of their last syncs",
		Long: "Lists the feeds of the estate file: where they are, when they are synced, what they said " +
			"last, and what went wrong.",
		Example: "  yare feed list\n  yare feed list --json",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				all, err := h.FeedStates()
				if err != nil {
					return err
				}
				if as.json() {
					return report.JSON(a.out, report.Feeds(all))
				}
				if len(all) == 0 {
					plain.Fprintln(a.out, "the estate file names no feeds; docs/catalogue.md tells how")
					return nil
				}
				t := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
				plain.Fprintln(t, "FEED\tKIND\tSYNC\tSYNCED\tRELEASES\tADVISORIES\tSIZE\tAT")
				for _, f := range all {
					plain.Fprintf(t, "%s\t%s\t%s\t%s\t%d\t%d\t%s\t%s\n", f.Name, f.Kind, f.Schedule, ago(f.Synced),
						f.Releases, f.Advisories, catalogue.Bytes(f.Bytes), feed.Shown(f.At))
				}
				if err := t.Flush(); err != nil {
					return err
				}
				for _, f := range all {
					a.showAside(f.Name, f.Aside)
					if f.Error != "" {
						plain.Fprintf(a.out, "failed %s: %s\n", ago(f.Tried), f.Error)
					}
				}
				return nil
			})
		},
	}
	as.flags(c, "text", "json")
	return c
}

// showAside says which entries of a feed could not be read.
func (a *app) showAside(name string, aside []string) {
	const most = 10
	for _, s := range aside[:min(most, len(aside))] {
		plain.Fprintf(a.out, "set aside of %s: %s\n", name, s)
	}
	if rest := len(aside) - most; rest > 0 {
		plain.Fprintf(a.out, "set aside of %s: %d more\n", name, rest)
	}
}

func ago(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return drift.Age(time.Since(t)) + " ago"
}

func (a *app) feedSync() *cobra.Command {
	var due bool
	c := &cobra.Command{
		Use: "sync [FEED…]", Short: "Bring feeds up to date",
		Long: `Brings the feeds that are named up to date, or all but those that are switched off. With --due
only those whose time has come by their schedule, for a timer to call. Ctrl-C ends it; what was fetched so far
is gone on with the next time. Exit code 1 where a feed could not be synced; the others are.`,
		Example: "  yare feed sync\n  yare feed sync corran\n  yare feed sync --due",
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error { return a.sync(c.Context(), h, args, due) })
		},
		ValidArgsFunction: a.feedNames,
	}
	c.Flags().BoolVar(&due, "due", false, "only feeds whose time has come")
	return c
}

func (a *app) sync(ctx context.Context, h *harbour.Harbour, names []string, due bool) error {
	var feeds []feed.Feed
	switch {
	case due && len(names) > 0:
		return errors.New("say --due or name feeds, not both")
	case due:
		feeds = h.Due(time.Now())
	case len(names) > 0:
		for _, n := range names {
			f, err := h.Feed(n)
			if err != nil {
				return err
			}
			feeds = append(feeds, f)
		}
	default:
		for _, f := range h.Feeds {
			if !h.Shelf.Scheduled(f).Off {
				feeds = append(feeds, f)
			}
		}
	}
	if len(feeds) == 0 {
		plain.Fprintln(a.out, "there is nothing to sync")
		return nil
	}
	line, done := a.progressLine()
	results, err := h.Sync(ctx, feeds, func(p feed.Progress) { line(p.Says()) })
	done()
	for _, f := range feeds {
		r, ok := results[f.Name]
		switch {
		case !ok || r.Status.Error != "":
		case r.Changed:
			plain.Fprintf(a.out, "%s: %s, %s, %s in %s\n", f.Name, catalogue.Some(r.Status.Releases, "release"),
				catalogue.Some(r.Status.Advisories, "advisory"), catalogue.Bytes(r.Status.Bytes),
				catalogue.Some(r.Status.Files, "file"))
		default:
			plain.Fprintf(a.out, "%s: nothing has changed\n", f.Name)
		}
		a.showAside(f.Name, r.Status.Aside)
	}
	return err
}

// How often progress is told, once it has taken patience: over and over on one line of a terminal, and now and then in
// a log.
const (
	patience   = time.Second
	onTerminal = 100 * time.Millisecond
	inLog      = 10 * time.Second
)

// progressLine tells progress on stderr where the work takes longer than a moment.
func (a *app) progressLine() (line func(string), done func()) {
	f, terminal := a.err.(*os.File)
	if terminal {
		st, err := f.Stat()
		terminal = err == nil && st.Mode()&os.ModeCharDevice != 0
	}
	begun, last := time.Now(), time.Time{}
	line = func(s string) {
		switch since := time.Since(last); {
		case time.Since(begun) < patience:
		case terminal && since > onTerminal:
			last = time.Now()
			plain.Fprintf(f, "\r\x1b[K%.100s", s)
		case !terminal && since > inLog:
			last = time.Now()
			plain.Fprintln(a.err, s)
		}
	}
	return line, func() {
		if terminal && !last.IsZero() {
			fmt.Fprint(f, "\r\x1b[K")
		}
	}
}

func (a *app) feedSet() *cobra.Command {
	return &cobra.Command{
		Use: "set FEED SCHEDULE", Short: "Say when a feed is synced",
		Long: "Has a feed synced \"on demand\", \"off\" (only when this very feed is asked for), \"every 6h\" or " +
			"\"daily 03:30\", whatever the estate file says of it.",
		Example: "  yare feed set corran \"every 6h\"\n  yare feed set corran off",
		Args:    cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				f, err := h.Feed(args[0])
				if err != nil {
					return err
				}
				s, err := feed.ParseSchedule(strings.TrimSpace(args[1]))
				if err != nil {
					return err
				}
				plain.Fprintf(a.out, "%s is synced %s from now on (%s in the estate file)\n", f.Name, s,
					cmp.Or(f.Schedule.String(), "on demand"))
				return h.Shelf.Set(f.Name, s)
			})
		},
	}
}
