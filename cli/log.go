package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/core/course"
	"yareharbour/core/logbook"
	"yareharbour/core/view"
	"yareharbour/export"
	"yareharbour/harbour"
)

// period are the options of a command that shows what was in a time.
type period struct{ since, until string }

func (p *period) flags(c *cobra.Command) {
	c.Flags().StringVar(&p.since, "since", "", "from when on: a date, a date and a time, or how long ago (7d, 12h)")
	c.Flags().StringVar(&p.until, "until", "", "until when; likewise")
}

// read is the time that is meant. A day is meant from its beginning for --since, and to its end for --until.
func (p *period) read(now time.Time) (out harbour.Period, err error) {
	if p.since != "" {
		if out.From, err = time.ParseInLocation(time.DateOnly, p.since, now.Location()); err != nil {
			out.From, err = harbour.ParseTime(p.since, now)
		}
		if err != nil {
			return out, usage("--since: %v", err)
		}
	}
	if p.until != "" {
		if out.Until, err = harbour.ParseTime(p.until, now); err != nil {
			return out, usage("--until: %v", err)
		}
	}
	if !out.Until.IsZero() && out.Until.Before(out.From) {
		return out, usage("--until is before --since")
	}
	return out, nil
}

// outcomes are how a round can stand.
var outcomes = []string{string(course.Finished), string(course.Failing), string(course.Stopped), string(course.Paused), string(course.Running)}

func (a *app) roundList() *cobra.Command {
	var o output
	var p period
	var cluster, outcome string
	c := &cobra.Command{
		Use:   "list",
		Short: "List the rounds of a period, with what they did",
		Long: `Lists rounds, the newest first: when, by whom and why, hosts, moves, what became of the changes, the time
beside the plan, how often a person was needed and how often one decided; and what they come to together. What was
done to a host by hand is a round too. "yare report round CLUSTER ROUND" tells one of them in full.`,
		Example: "  yare round list --since 30d\n  yare round list --cluster vts --outcome failed\n  yare round list --since 2026-10-01 --until 2026-10-31 -o october.csv",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			if outcome != "" && !slices.Contains(outcomes, outcome) {
				return usage("there is no outcome %q; there are %s", outcome, strings.Join(outcomes, ", "))
			}
			in, err := p.read(h.Now())
			if err != nil {
				return err
			}
			all, err := h.List(ctx, cluster, in)
			if err != nil {
				return err
			}
			all = slices.DeleteFunc(all, func(l view.RoundLine) bool { return outcome != "" && l.Status != outcome })
			return a.show(ctx, h, &o, view.OfRounds(all))
		}),
	}
	p.flags(c)
	o.narrowing(a, c)
	c.Flags().StringVar(&cluster, "cluster", "", "of this cluster only")
	c.Flags().StringVar(&outcome, "outcome", "", "only those that stand so: "+strings.Join(outcomes, ", "))
	completes(c, "outcome", outcomes...)
	_ = c.RegisterFlagCompletionFunc("cluster", a.completing(func(a *app) []string { return a.places(true, false) })) // the flag is there
	return c
}

func (a *app) logCommand() *cobra.Command {
	c := &cobra.Command{Use: "log", Short: "The logbook: everything that was decided, by whom, when and why",
		Long: `Rounds that began and ended, what was asked of them and decided by hand, what was done to hosts by hand, baselines
saved, waivers, feeds and bundles taken in, certificates trusted, hosts prepared, and where acting is allowed. Each entry is bound
to the one before by its sum, and names the sum of what it is about: what is altered, removed or put in later shows.`,
		Example: "  yare log list --since 7d\n  yare log verify\n  yare log head -o /mnt/elsewhere/yare.head\n  yare log verify --head /mnt/elsewhere/yare.head"}
	c.AddCommand(a.logList(), a.logVerify(), a.logHead(), a.logPrune())
	return c
}

func (a *app) logList() *cobra.Command {
	var o output
	var p period
	c := &cobra.Command{
		Use: "list", Short: "List what was decided in a period, the newest first",
		Example: "  yare log list --since 7d\n  yare log list --narrow baseline -o baselines.csv",
		RunE: a.anyway(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			in, err := p.read(h.Now())
			if err != nil {
				return err
			}
			b, err := h.Book(ctx)
			if err != nil {
				return err
			}
			l := view.Logbook{From: in.From, Until: in.Until, Book: b}
			if err := a.show(ctx, h, &o, view.OfLog(l.Entries())); err != nil {
				return err
			}
			if b.Fault != nil {
				return fmt.Errorf("the logbook can't be relied on %w", b.Fault)
			}
			return nil
		}),
	}
	p.flags(c)
	o.narrowing(a, c)
	return c
}

func (a *app) logVerify() *cobra.Command {
	var o output
	var head string
	c := &cobra.Command{
		Use: "verify", Short: "Verify the logbook, and hold against it what it speaks of",
		Long: `Reads every entry and says from where on the logbook can't be relied on; then every journal, baseline and waiver
that it speaks of, and says which was altered or removed, and which has no entry. Whoever can write
the state file can forge a whole logbook: a head that was kept elsewhere shows that too (--head). Exits with 1 where
something is wrong.`,
		Example: "  yare log verify\n  yare log verify --head /mnt/elsewhere/yare.head",
		RunE: a.anyway(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			noted, err := readHead(head)
			if err != nil {
				return err
			}
			b, found, err := h.Verify(ctx, noted)
			if err != nil {
				return err
			}
			v := view.Verify(&b, found)
			if err := a.show(ctx, h, &o, v.Document()); err != nil {
				return err
			}
			if !v.Whole() {
				return exit(exitFailure)
			}
			return nil
		}),
	}
	o.flags(c)
	c.Flags().StringVar(&head, "head", "", "a head that was noted: the file that \"yare log head\" wrote, or N:SUM")
	return c
}

// readHead reads a head from a file, or as N:SUM; nil for none.
func readHead(s string) (*course.Head, error) {
	if s == "" {
		return nil, nil //nolint:nilnil // none was noted
	}
	n, sum, written := strings.Cut(s, ":")
	if _, err := os.Stat(s); err == nil || !written {
		text, err := os.ReadFile(s)
		if err != nil {
			return nil, err
		}
		words := strings.Fields(string(text))
		if len(words) < 2 {
			return nil, fmt.Errorf("%s is no head of a logbook: its first line begins with a number and a sum", s)
		}
		n, sum = words[0], words[1]
	}
	seq, err := strconv.ParseInt(n, 10, 64)
	if err != nil || seq < 0 || len(sum) != 64 && (seq > 0 || sum != logbook.Seed) {
		return nil, fmt.Errorf("%q is no head of a logbook: it is a number and a sum of 64 digits, as \"yare log head\" writes it", s)
	}
	return &course.Head{Seq: seq, Sum: sum}, nil
}

func (a *app) logHead() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "head", Short: "Print how far the logbook goes, to be kept elsewhere",
		Long: `Prints the number of the last entry and its sum. Kept where nobody can alter it who can write the state file,
it shows later whether what was there then still is: "yare log verify --head FILE".`,
		Example: "  yare log head\n  yare log head -o /mnt/elsewhere/yare.head",
		RunE: a.anyway(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			b, err := h.Book(ctx)
			if err != nil {
				return err
			}
			if b.Fault != nil {
				return fmt.Errorf("it is no head to be kept: the logbook can't be relied on %w", b.Fault)
			}
			return a.show(ctx, h, &o, view.OfHead(&b, h.Estate.Name))
		}),
	}
	o.flags(c)
	return c
}

func (a *app) logPrune() *cobra.Command {
	var journals, readings lasting
	var yes bool
	c := &cobra.Command{
		Use: "prune", Short: "Remove journals of rounds and readings of hosts that are too old",
		Long: `Removes journals of rounds that began longer ago than --journals says, and readings that held until longer ago than
--readings says. Never one of which something is owed, nor the newest of a cluster or a host. The logbook itself is never
pruned: it says which journals were, with their sums. Without --yes it only says what it would remove.`,
		Example: "  yare log prune --journals 730d --readings 400d\n  yare log prune --readings 400d --yes",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			if journals == 0 && readings == 0 {
				return usage("say --journals, --readings or both: how old what is removed must be")
			}
			says, n, err := h.PruneHistory(ctx, time.Duration(journals), time.Duration(readings), !yes)
			if err != nil {
				return err
			}
			switch {
			case n == 0:
				a.says("nothing is that old")
			case yes:
				a.says("removed: %s", says)
			default:
				a.says("it would remove %s; --yes does", says)
			}
			return nil
		}),
	}
	c.Flags().Var(&journals, "journals", "journals of rounds that began longer ago than this (730d)")
	c.Flags().Var(&readings, "readings", "readings that held until longer ago than this (400d)")
	c.Flags().BoolVar(&yes, "yes", false, "do it")
	return c
}

func (a *app) schemaCommand() *cobra.Command {
	var o output
	var csv bool
	c := &cobra.Command{
		Use: "schema DOCUMENT", Short: "Print the JSON Schema of what a command writes as JSON, or the columns of its CSV",
		Long: `Prints the JSON Schema (draft 2020-12) of a document's JSON, or, with --csv, its columns by W3C's Metadata Vocabulary
for Tabular Data. Documents are called as the files that are exported: yare-NAME-…. There are ` + strings.Join(documentNames(), ", ") + `.`,
		Example: "  yare schema round -o round.schema.json\n  yare schema drift --csv",
		RunE: func(_ *cobra.Command, args []string) error {
			d, ok := view.FormOf(args[0])
			if !ok {
				return usage("there is no document %q; there are %s", args[0], strings.Join(documentNames(), ", "))
			}
			form := export.Schema
			if csv {
				form = export.CSVSchema
			}
			text, err := form(d)
			if err != nil {
				return err
			}
			return a.text(&o, append(text, '\n'))
		},
	}
	o.only(c, "file to write (default: standard output)")
	c.Flags().BoolVar(&csv, "csv", false, "the columns of its CSV")
	return c
}

func documentNames() (out []string) {
	for _, d := range view.Forms() {
		out = append(out, d.Name)
	}
	slices.Sort(out)
	return out
}
