package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
	"yareharbour/format/baselinefile"
	"yareharbour/format/plain"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

func (a *app) baselineNames(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	var names []string
	if a.prepare() == nil {
		_ = a.with(c.Context(), func(h *harbour.Harbour) error {
			for _, s := range h.Sources() {
				names = append(names, s.Name)
			}
			return nil
		})
	}
	return names, cobra.ShellCompDirectiveNoFileComp
}

func (a *app) baselineList() *cobra.Command {
	var as form
	c := &cobra.Command{
		Use: "list", Short: "List the baselines that hold",
		Long:    "Lists the baselines of the estate: rank, clauses, whom they bind, and their newest version.",
		Example: "  yare baseline list",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				if as.json() {
					return report.JSON(a.out, listed(h.Sources()))
				}
				t := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
				plain.Fprintln(t, "BASELINE\tRANK\tCLAUSES\tEXCEPTIONS\tVERSION\tBINDS\tFILE")
				for _, s := range h.Sources() {
					plain.Fprintf(t, "%s\t%d\t%d\t%d\t%d\t%s\t%s\n", s.Name, s.Rank, len(s.Clauses), len(s.Exceptions),
						s.Version, orNone(strings.Join(s.Assign, ", "), "nobody"), s.File)
				}
				return t.Flush()
			})
		},
	}
	as.flags(c, "text", "json")
	return c
}

// listed is what a list says of baselines in JSON.
func listed(all []harbour.Source) []map[string]any {
	out := []map[string]any{}
	for _, s := range all {
		out = append(
			out,
			map[string]any{
				"baseline":   s.Name,
				"rank":       s.Rank,
				"clauses":    len(s.Clauses),
				"exceptions": len(s.Exceptions),
				"version":    s.Version,
				"assign":     s.Assign,
				"file":       s.File,
			},
		)
	}
	return out
}

func (a *app) baselineShow() *cobra.Command {
	var n int
	c := &cobra.Command{
		Use: "show NAME", Short: "Print a baseline as YAML, as it is or as it was",
		Long:              "Prints a baseline's file as it holds now, or as one of its versions said.",
		Example:           "  yare baseline show hardware-2026q4\n  yare baseline show hardware-2026q4 --version 2",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.baselineNames,
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, name string) error {
			v, err := h.Versions.Version(ctx, name, n)
			if err != nil {
				return err
			}
			_, err = io.WriteString(a.out, plain.Text(v.Text))
			return err
		}),
	}
	c.Flags().IntVar(&n, "version", 0, "this version (default: the newest)")
	return c
}

func (a *app) baselineLog() *cobra.Command {
	var as form
	c := &cobra.Command{
		Use: "log NAME", Short: "List a baseline's versions: who, when, why",
		Long:              "Lists every version of a baseline that was kept, the newest first.",
		Example:           "  yare baseline log hardware-2026q4",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.baselineNames,
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, name string) error {
			vs, err := h.Versions.Versions(ctx, name)
			if err != nil {
				return err
			}
			if len(vs) == 0 {
				_, err = h.Source(name)
				return err
			}
			if as.json() {
				return report.JSON(a.out, vs)
			}
			t := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
			plain.Fprintln(t, "VERSION\tWHEN\tWHO\tWHY")
			for _, v := range vs {
				plain.Fprintf(t, "%d\t%s\t%s\t%s\n", v.N, v.At.Local().Format(minute), v.By, v.Why)
			}
			return t.Flush()
		}),
	}
	as.flags(c, "text", "json")
	return c
}

func (a *app) baselineCompare() *cobra.Command {
	var as form
	c := &cobra.Command{
		Use: "compare NAME [VERSION [VERSION]]", Short: "Say in what two versions of a baseline differ",
		Long: "Says, clause by clause, in what a version differs from another: with one number from " +
			"that to the newest, without any from the one before the newest.",
		Example:           "  yare baseline compare hardware-2026q4\n  yare baseline compare hardware-2026q4 2 5",
		Args:              cobra.RangeArgs(1, 3),
		ValidArgsFunction: a.baselineNames,
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				newest, err := h.Versions.Version(c.Context(), args[0], 0)
				if err != nil {
					return err
				}
				from, to := max(1, newest.N-1), newest.N
				for i, n := range []*int{&from, &to} {
					if len(args) > i+1 {
						if *n, err = strconv.Atoi(args[i+1]); err != nil || *n < 1 {
							return fmt.Errorf("%q is no version: a number from 1 to %d is", args[i+1], newest.N)
						}
					}
				}
				changes, err := h.CompareVersions(c.Context(), args[0], from, to)
				if err != nil {
					return err
				}
				if as.json() {
					return report.JSON(
						a.out,
						map[string]any{
							"baseline": args[0],
							"from":     from,
							"to":       to,
							"changes":  append([]baseline.Change{}, changes...),
						},
					)
				}
				plain.Fprintf(a.out, "%s, version %d to %d:\n", args[0], from, to)
				if len(changes) == 0 {
					plain.Fprintln(a.out, "  they want the same")
				}
				for _, ch := range changes {
					plain.Fprintln(a.out, "  "+ch.String())
				}
				return nil
			})
		},
	}
	as.flags(c, "text", "json")
	return c
}

func (a *app) baselineSave() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "save FILE", Short: "Take a baseline file in as the newest version",
		Long: `Reads a baseline file, says what it would do to the estate, and keeps it as the newest version
of the baseline that it names; of a new name, as a new baseline. A file that can't be read is refused with line
and column, and nothing is changed.`,
		Example: "  yare baseline save hardware.yaml --why \"the November firmware\"\n" +
			"  yare baseline show platform > p.yaml; $EDITOR p.yaml; yare baseline save p.yaml --why \"guard 1.5\"",
		Args: cobra.ExactArgs(1),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, file string) error {
			text, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			b, err := baselinefile.Parse(file, text)
			if err != nil {
				return err
			}
			return a.save(ctx, h, b.Name, string(text), why)
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, which is kept with the version")
	return c
}

// save saves a text as a baseline's newest version and says what that did.
func (a *app) save(ctx context.Context, h *harbour.Harbour, name, text, why string) error {
	if strings.TrimSpace(why) == "" {
		return errors.New("--why: a version of a baseline needs a reason; it is what people will ask for")
	}
	e, ps, err := h.Effect(ctx, name, text)
	if err != nil {
		return err
	}
	a.showProblems(ps)
	after := 0
	if s, err := h.Source(name); err == nil {
		after = s.Version
	}
	n, err := h.SaveBaseline(ctx, name, text, after, operator(), why)
	if err != nil {
		return err
	}
	if n == after {
		plain.Fprintf(a.out, "%s says the same as version %d; nothing was kept\n", name, n)
		return nil
	}
	plain.Fprintf(a.out, "%s is at version %d now: %s\n", name, n, e.Says())
	return nil
}

func (a *app) baselineRevert() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "revert NAME VERSION", Short: "Let a baseline say again what a version of it said",
		Long:              "Keeps what an earlier version said as the newest version. The ones between stay on record.",
		Example:           "  yare baseline revert hardware-2026q4 3 --why \"7.4.2 drops links\"",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.baselineNames,
		RunE: func(c *cobra.Command, args []string) error {
			n, err := strconv.Atoi(args[1])
			if err != nil || n < 1 {
				return fmt.Errorf("%q is no version; \"yare baseline log %s\" lists them", args[1], args[0])
			}
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				v, err := h.Versions.Version(c.Context(), args[0], n)
				if err != nil {
					return err
				}
				if why == "" {
					why = fmt.Sprintf("back to version %d", n)
				}
				return a.save(c.Context(), h, args[0], v.Text, why)
			})
		},
	}
	c.Flags().StringVar(&why, "why", "", "the reason, which is kept with the version")
	return c
}

func (a *app) baselineEffect() *cobra.Command {
	var as form
	c := &cobra.Command{
		Use: "effect FILE", Short: "Say what a baseline file would do to the estate; nothing is saved",
		Long: "Holds the hosts, as they were last read, against the baseline as the file has it and as it holds " +
			"now, and says whose verdicts would change.",
		Example: "  yare baseline effect hardware.yaml",
		Args:    cobra.ExactArgs(1),
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, file string) error {
			text, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			b, err := baselinefile.Parse(file, text)
			if err != nil {
				return err
			}
			e, ps, err := h.Effect(ctx, b.Name, string(text))
			if err != nil {
				return err
			}
			if as.json() {
				err = report.JSON(a.out, report.NewEffect(e, ps))
			} else {
				a.showProblems(ps)
				err = a.showEffect(e)
			}
			if err == nil && slices.ContainsFunc(ps, func(p baseline.Problem) bool { return p.Error }) {
				return exit(exitFailure)
			}
			return err
		}),
	}
	as.flags(c, "text", "json")
	return c
}

// showProblems says what a baseline speaks of and is not there.
func (a *app) showProblems(ps []baseline.Problem) {
	for _, p := range ps {
		plain.Fprintf(a.err, "%s%s\n", map[bool]string{true: "ERROR: ", false: "note: "}[p.Error], p)
	}
}

func (a *app) showEffect(e drift.Effect) error {
	t := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	if len(e.Shifts) > 0 {
		plain.Fprintln(t, "HOST\tCOMPONENT\tHAS\tWOULD WANT\tNOW\tTHEN")
	}
	for _, s := range e.Shifts {
		plain.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t%s\n", s.Host, s.Title(), orNone(s.Has, "–"), orNone(s.Wants, "–"),
			s.Before.Word(), s.After.Word())
	}
	if err := t.Flush(); err != nil {
		return err
	}
	_, err := plain.Fprintln(a.out, e.Says())
	return err
}

func (a *app) baselineRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Take away a baseline that was made here",
		Long: "Takes away a baseline that is not in the estate file. Its versions stay on record, and " +
			"saving it again goes on from them.",
		Example:           "  yare baseline remove like-lapwing",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.baselineNames,
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, name string) error {
			if err := h.RemoveBaseline(ctx, name); err != nil {
				return err
			}
			plain.Fprintf(a.out, "%s binds nobody any more; \"yare baseline show %s\" still prints it\n", name, name)
			return nil
		}),
	}
}
