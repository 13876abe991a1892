package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"yareharbour/core/baseline"
	"yareharbour/core/estate"
	"yareharbour/format/baselinefile"
	"yareharbour/format/plain"
	"yareharbour/harbour"
)

func (a *app) baselineCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "baseline",
		Short: "See baselines, their versions and effect; save, compare, revert, derive, check",
		Long: `Baselines are YAML files. Those that the estate file names hold, and those that were saved
here. Every save is a version with who, when and why; a file that was changed by other means is noticed and kept
as a version too.`,
		Example: "  yare baseline list\n  yare baseline effect hardware.yaml\n" +
			"  yare baseline save hardware.yaml --why \"the November firmware\"\n  yare baseline log hardware-2026q4",
	}
	c.AddCommand(a.baselineList(), a.baselineShow(), a.baselineLog(), a.baselineCompare(), a.baselineEffect(),
		a.baselineSave(), a.baselineRevert(), a.baselineRemove(), a.baselineCheck(),
		a.baselineDerive(), a.baselineSchema())
	return group(c)
}

func (a *app) baselineCheck() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE…",
		Short: "Read baseline files and say what is wrong with them",
		Long: "Reads baseline files and holds their names against the estate, as saving them would: places, components, " +
			"tracks, models, publishers, whole-host targets, exceptions. An error names its line and what was expected " +
			"there. Where no estate can be opened the files are only read, and that is said. Nothing is changed.",
		Example: "  yare baseline check baselines/*.yaml",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			wrong := 0
			h, unopened := a.open(c.Context())
			if unopened == nil {
				defer h.Close()
			} else {
				plain.Fprintln(a.err, "note: the names in it are not held against an estate:", unopened)
			}
			for _, file := range args {
				b, err := harbour.LoadBaseline(file)
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
					a.showProblems(ps)
					wrong += len(slices.DeleteFunc(ps, func(p baseline.Problem) bool { return !p.Error }))
				}
				plain.Fprintf(a.out, "%s: %s, clauses %d, exceptions %d, binds %s\n", file, b.Name, len(b.Clauses),
					len(b.Exceptions), orNone(strings.Join(b.Assign, ", "), "no host"))
			}
			if wrong > 0 {
				return exit(exitFailure)
			}
			return nil
		},
	}
}

func (a *app) baselineSchema() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of a baseline file",
		Long: "Prints the JSON Schema (draft 2020-12) of a baseline file, for editors that " +
			"complete and check by it.",
		Example: "  yare baseline schema > baseline.schema.json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := a.out.Write(baselinefile.Schema)
			return err
		},
	}
}

func (a *app) baselineDerive() *cobra.Command {
	var t target
	var name string
	var layers []string
	c := &cobra.Command{
		Use:   "derive HOST",
		Short: "Make a baseline of a known good host",
		Long: "Reads the host and writes a baseline that wants every component at least at the version " +
			"it has there. It is assigned to nobody yet. A host of which something was not read is refused.",
		Example: "  yare baseline derive lapwing --layers driver,firmware -o good.yaml\n" +
			"  yare --demo baseline derive lapwing",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.names(true),
		RunE: func(c *cobra.Command, args []string) error {
			var want []estate.Layer
			for _, l := range layers {
				if !slices.Contains(estate.Layers, estate.Layer(l)) {
					return fmt.Errorf("--layers: no layer %q; there are %v", l, estate.Layers)
				}
				want = append(want, estate.Layer(l))
			}
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				return a.derive(c.Context(), h, args[0], name, want, t)
			})
		},
	}
	c.Flags().StringVar(&name, "name", "", "the baseline's name (default: like HOST)")
	c.Flags().StringSliceVar(&layers, "layers", []string{"platform", "driver", "firmware"}, "only these layers")
	c.Flags().StringVarP(&t.file, "output", "o", "", "file to write (default: standard output)")
	return c
}

func (a *app) derive(
	ctx context.Context,
	h *harbour.Harbour,
	host, name string,
	layers []estate.Layer,
	t target,
) error {
	if _, ok := h.Estate.ClusterOf(host); !ok {
		return fmt.Errorf("there is no host %q in %s", host, h.Estate.Name)
	}
	readings, err := h.Read(ctx, []string{host}, nil)
	if err != nil {
		return err
	}
	if name == "" {
		name = "like-" + host
	}
	b, err := baseline.Derive(readings[host], name, layers)
	if err != nil {
		return err
	}
	text, err := baselinefile.Write(b)
	if err != nil {
		return err
	}
	return t.write(a.out, func(w io.Writer, _ string) error { _, err := w.Write(text); return err })
}
