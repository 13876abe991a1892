package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/plain"
)

func (a *app) baselineCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "baseline",
		Short: "See baselines, their versions and effect; save, compare, revert, begin, check",
		Long: `Baselines are YAML files. Those that the estate file names hold, and those that were saved
here. Every save is a version with who, when and why; a file that was changed by other means is noticed and kept
as a version too.`,
		Example: "  yare baseline list\n  yare baseline effect hardware.yaml\n" +
			"  yare baseline save hardware.yaml --why \"the November firmware\"\n  yare baseline log hardware-2026q4",
	}
	c.AddCommand(a.baselineList(), a.baselineShow(), a.baselineLog(), a.baselineCompare(), a.baselineEffect(),
		a.baselineSave(), a.baselineRevert(), a.baselineRemove(), a.baselineCheck(), a.baselineStart(),
		a.schema("baseline", "baseline file"))
	return c
}

// amiss shows what a baseline names that does not exist.
func (a *app) amiss(ps []baseline.Problem) {
	for _, l := range view.Problems(ps) {
		plain.Fprintf(a.err, "%s\n", l)
	}
}

func (a *app) baselineCheck() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE…",
		Short: "Read baseline files and say what is wrong with them",
		Long: "Reads baseline files and checks their names against the estate, as saving them would: places, components, " +
			"tracks, models, publishers, whole-host targets, exceptions. An error names its line and what was expected " +
			"there. Where no estate can be opened the files are only read, and that is said. Nothing is changed.",
		Example: "  yare baseline check baselines/*.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			wrong := 0
			h, unopened := a.open(c.Context())
			if unopened == nil {
				defer h.Close()
			} else {
				plain.Fprintln(a.err, "note: names are not checked against an estate:", unopened)
			}
			for _, file := range args {
				b, _, err := harbour.ReadBaseline(file)
				if err != nil {
					wrong++
					plain.Fprintln(a.err, "yare:", err)
					continue
				}
				if unopened == nil {
					ps, err := h.ProblemsOf(c.Context(), b)
					if err != nil {
						return err
					}
					a.amiss(ps)
					wrong += len(slices.DeleteFunc(ps, func(p baseline.Problem) bool { return !p.Error }))
				}
				binds := strings.Join(b.Assign, ", ")
				if binds == "" {
					binds = "no host"
				}
				a.says("%s: %s, clauses %d, exceptions %d, binds %s", file, b.Name, len(b.Clauses), len(b.Exceptions), binds)
			}
			if wrong > 0 {
				return exit(exitFailure)
			}
			return nil
		},
	}
}

func (a *app) baselineStart() *cobra.Command {
	var o output
	var of harbour.Beginning
	var layers, components []string
	var severity, why string
	var newest, empty, save bool
	every := []string{}
	for _, l := range estate.Layers {
		every = append(every, string(l))
	}
	c := &cobra.Command{
		Use:   "start",
		Short: "Begin a baseline by a rule, or as a host is",
		Long: `Writes a new baseline and says what it would do to the estate; nothing is saved without --save. --severity wants what
mends that much or worse, --newest the newest of all, each of the kinds that --kind names or of single components
(--only); --as wants everything at least as a host has it, which is read first, and refused where something of it was
not read; --empty wants nothing yet. It binds nobody unless --binds says whom.`,
		Example: "  yare baseline start --severity high --binds vts,tides\n  yare baseline start --newest --kind firmware,driver -o firmware.yaml\n" +
			"  yare baseline start --as lapwing --name good --save --why \"as lapwing is\"",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			ways := 0
			for _, said := range []bool{severity != "", newest, empty, of.Like != ""} {
				if said {
					ways++
				}
			}
			if ways != 1 {
				return usage("say one of --severity, --newest, --as and --empty: what the baseline is to want")
			}
			var err error
			if of.Severity, err = catalogue.ParseSeverity(severity); err != nil {
				return usage("--severity: %v", err)
			}
			for _, l := range layers {
				if !slices.Contains(every, l) {
					return usage("--layers: there is no layer %q; there are %s", l, strings.Join(every, ", "))
				}
				of.Layers = append(of.Layers, estate.Layer(l))
			}
			for _, text := range components {
				key, err := estate.ParseKey(text)
				if err != nil {
					return usage("--only: %v", err)
				}
				of.Components = append(of.Components, key)
			}
			var kinds []string
			for _, k := range of.Kinds { // by what people call them, too
				kinds = append(kinds, strings.Fields(cmp.Or(map[string]string{"firmware": "fw", "driver": "drv", "package": "deb rpm"}[k], k))...)
			}
			if of.Kinds = kinds; of.Kinds == nil && of.Components == nil && !empty {
				of.Kinds = harbour.Kinds
			}
			if of.Like != "" {
				if of.Like, _, err = h.Host(of.Like); err != nil {
					return err
				}
				if err := h.Look(ctx, []string{of.Like}, nil); err != nil {
					return err
				}
			}
			name, text, err := h.Begin(ctx, of)
			if err != nil {
				return err
			}
			if save {
				if _, err := h.Source(name); err == nil {
					return fmt.Errorf("there is a baseline %s already; say another --name, or change it with \"yare baseline save\"", name)
				}
				return a.save(ctx, h, name, text, why)
			}
			e, ps, err := h.Effect(ctx, name, text)
			if err != nil {
				return err
			}
			if err := a.text(&o, []byte(text)); err != nil {
				return err
			}
			a.amiss(ps)
			says := "it would change: " + e.Says()
			if len(of.Binds) == 0 {
				says = "it binds nobody yet, and so changes nothing: --binds says whom"
			}
			plain.Fprintln(a.err, says)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&of.Name, "name", "", "the baseline's name (default: new, or like-HOST)")
	f.StringVar(&of.Like, "as", "", "want everything at least as this host has it")
	f.StringVar(&severity, "severity", "", "want what mends this severity or worse: low, medium, high or critical")
	f.BoolVar(&newest, "newest", false, "want the newest release of each")
	f.BoolVar(&empty, "empty", false, "want nothing yet")
	f.StringSliceVar(&of.Kinds, "kind", nil, "of these kinds of components only: package, driver, firmware, or as names begin: "+strings.Join(harbour.Kinds, ", ")+", agent, machine (default: the first three)")
	f.StringSliceVar(&components, "only", nil, "of these components only")
	f.StringSliceVar(&layers, "layers", nil, "with --as: only these layers (default: platform, driver and firmware)")
	f.StringSliceVar(&of.Binds, "binds", nil, "the clusters, or hosts as CLUSTER/HOST, that it binds")
	f.BoolVar(&save, "save", false, "save it, for a reason (--why)")
	f.StringVar(&why, "why", "", "with --save: the reason, which is kept with the version")
	completes(c, "layers", every...)
	completes(c, "kind", append([]string{"package", "driver", "firmware"}, harbour.Kinds...)...)
	completes(c, "severity", "low", "medium", "high", "critical")
	_ = c.RegisterFlagCompletionFunc("as", a.completing(func(a *app) []string { return a.places(false, true) }))    // the flag is there
	_ = c.RegisterFlagCompletionFunc("binds", a.completing(func(a *app) []string { return a.places(true, false) })) // likewise
	_ = c.RegisterFlagCompletionFunc("only", a.completing((*app).components))                                       // likewise
	o.only(c, "file to write (default: standard output)")
	return c
}

func (a *app) baselineList() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "list", Short: "List the baselines that hold",
		Long:    "Lists the baselines of the estate: rank, clauses, the hosts they bind, and their newest version.",
		Example: "  yare baseline list",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			return errors.Join(a.show(ctx, h, &o, view.OfBaselines(h.Sources())), h.UnreadBaselines())
		}),
	}
	o.narrowing(a, c)
	return c
}

func (a *app) baselineShow() *cobra.Command {
	var o output
	var n int
	c := &cobra.Command{
		Use: "show BASELINE", Short: "Print a baseline as YAML, as it is or as it was",
		Long: "Prints a baseline's file as it holds now, or as one of its versions said. As CSV and JSON, and as a drawing, " +
			"it is the clauses of the newest.",
		Example: "  yare baseline show hardware-2026q4\n  yare baseline show hardware-2026q4 --version 2",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			v, err := h.Version(ctx, args[0], n)
			if err != nil {
				return err
			}
			b, err := h.Source(args[0])
			if o.is() == "text" {
				b.Text = v.Text
				return a.show(ctx, h, &o, view.OfBaseline(b, narrow.Filter{}))
			}
			if err != nil {
				return err
			}
			f, err := o.filter(ctx, h)
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, view.OfBaseline(b, f))
		}),
	}
	c.Flags().IntVar(&n, "version", 0, "this version (default: the newest)")
	o.narrowing(a, c)
	return c
}

func (a *app) baselineLog() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "log BASELINE", Short: "List a baseline's versions: who, when, why",
		Long:    "Lists every version of a baseline that was kept, the newest first.",
		Example: "  yare baseline log hardware-2026q4",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			vs, err := h.VersionsOf(ctx, args[0])
			if err != nil {
				return err
			}
			if len(vs) == 0 {
				_, err = h.Source(args[0])
				return err
			}
			return a.show(ctx, h, &o, view.OfVersions(args[0], vs))
		}),
	}
	o.flags(c)
	return c
}

func (a *app) baselineCompare() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "compare BASELINE [VERSION] [VERSION]", Short: "Say in what two versions of a baseline differ",
		Long: "Says, clause by clause, in what a version differs from another: with one number from " +
			"that to the newest, without any from the one before the newest.",
		Example: "  yare baseline compare hardware-2026q4\n  yare baseline compare hardware-2026q4 2 5",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			newest, err := h.Version(ctx, args[0], 0)
			if err != nil {
				return err
			}
			from, to := max(1, newest.N-1), newest.N
			for i, n := range []*int{&from, &to} {
				if len(args) > i+1 {
					if *n, err = strconv.Atoi(args[i+1]); err != nil || *n < 1 {
						return usage("%q is no version: a number from 1 to %d is", args[i+1], newest.N)
					}
				}
			}
			changes, err := h.CompareVersions(ctx, args[0], from, to)
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, view.OfChanges(args[0], from, to, changes))
		}),
	}
	o.flags(c)
	return c
}

func (a *app) baselineSave() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "save FILE", Short: "Save a baseline file as the newest version",
		Long: `Reads a baseline file, says what it would do to the estate, and keeps it as the newest version
of the baseline that it names; of a new name, as a new baseline. A file that can't be read is refused with line
and column, and nothing is changed.`,
		Example: "  yare baseline save hardware.yaml --why \"the November firmware\"\n" +
			"  yare baseline show platform > p.yaml; $EDITOR p.yaml; yare baseline save p.yaml --why \"guard 1.5\"",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			b, text, err := harbour.ReadBaseline(args[0])
			if err != nil {
				return err
			}
			return a.save(ctx, h, b.Name, text, why)
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, which is kept with the version")
	return c
}

// save saves a text as a baseline's newest version and says what that did.
func (a *app) save(ctx context.Context, h *harbour.Harbour, name, text, why string) error {
	if strings.TrimSpace(why) == "" {
		return usage("--why: a version of a baseline needs a reason; it is what people will ask for")
	}
	e, ps, err := h.Effect(ctx, name, text)
	if err != nil {
		return err
	}
	a.amiss(ps)
	after := 0
	if s, err := h.Source(name); err == nil {
		after = s.Version
	}
	n, err := h.SaveBaseline(ctx, name, text, after, why)
	if err != nil {
		return err
	}
	if n == after {
		a.says("%s says the same as version %d; nothing was kept", name, n)
		return nil
	}
	a.says("%s is at version %d now: %s", name, n, e.Says())
	return nil
}

func (a *app) baselineRevert() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "revert BASELINE VERSION", Short: "Return to an earlier version of a baseline",
		Long:    "Keeps an earlier version as the newest one. The ones between stay on record.",
		Example: "  yare baseline revert hardware-2026q4 3 --why \"7.4.2 drops links\"",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			n, err := strconv.Atoi(args[1])
			if err != nil || n < 1 {
				return usage("%q is no version; \"yare baseline log %s\" lists them", args[1], args[0])
			}
			v, err := h.Version(ctx, args[0], n)
			if err != nil {
				return err
			}
			if why == "" {
				why = fmt.Sprintf("back to version %d", n)
			}
			return a.save(ctx, h, args[0], v.Text, why)
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, which is kept with the version")
	return c
}

func (a *app) baselineEffect() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "effect FILE", Short: "Say what a baseline file would do to the estate; nothing is saved",
		Long: "Checks the hosts, as they were last read, against the baseline as the file has it and as it holds " +
			"now, and says whose verdicts would change.",
		Example: "  yare baseline effect hardware.yaml",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			b, text, err := harbour.ReadBaseline(args[0])
			if err != nil {
				return err
			}
			e, ps, err := h.Effect(ctx, b.Name, text)
			if err != nil {
				return err
			}
			if err := a.show(ctx, h, &o, view.OfEffect(e, ps)); err != nil {
				return err
			}
			if slices.ContainsFunc(ps, func(p baseline.Problem) bool { return p.Error }) {
				return exit(exitFailure)
			}
			return nil
		}),
	}
	o.flags(c)
	return c
}

func (a *app) baselineRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove BASELINE", Short: "Remove a baseline that was made here",
		Long: "Removes a baseline that is not in the estate file. Its versions stay on record, and " +
			"saving it again continues from them.",
		Example: "  yare baseline remove like-lapwing",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			if err := h.RemoveBaseline(ctx, args[0]); err != nil {
				return err
			}
			a.says("%s binds nobody any more; \"yare baseline show %s\" still prints it", args[0], args[0])
			return nil
		}),
	}
}
