package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"yareharbour/chart"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

// formats that a report can be written in; the last two are drawings.
var formats = []string{"text", "csv", "json", "svg", "pdf"}

func (a *app) reportCommand() *cobra.Command {
	c := &cobra.Command{Use: "report", Short: "Write a report as text, CSV, JSON, SVG or PDF",
		Long:    "Writes what was found (drift), what was done (round) or what changed on a host (life). SVG and PDF are drawings: the Waterline, and the round's timeline.",
		Example: "  yare report drift tides --format csv -o tides.csv\n  yare report round vts --format pdf -o vts.pdf"}
	c.AddCommand(a.reportDrift(), a.reportRound(), a.reportLife())
	return group(c)
}

// target is where a report goes and in which form.
type target struct {
	form
	file string
}

func (t *target) flags(c *cobra.Command) {
	t.form.flags(c, formats...)
	c.Flags().StringVarP(&t.file, "output", "o", "", "file to write (default: standard output)")
}

// words are the flags of what has no drawing.
func (t *target) words(c *cobra.Command) {
	t.form.flags(c, "text", "csv", "json")
	c.Flags().StringVarP(&t.file, "output", "o", "", "file to write (default: standard output)")
}

// write writes to the file, whole or not at all, or to out.
func (t *target) write(out io.Writer, do func(io.Writer) error) error {
	var b bytes.Buffer
	if err := do(&b); err != nil {
		return err
	}
	if t.file == "" || t.file == "-" {
		_, err := out.Write(b.Bytes())
		return err
	}
	if err := renameio.WriteFile(t.file, b.Bytes(), 0o644); err != nil {
		return fmt.Errorf("writing the report: %w", err)
	}
	return nil
}

func (a *app) reportDrift() *cobra.Command {
	var t target
	c := &cobra.Command{
		Use:               "drift [CLUSTER | HOST]…",
		ValidArgsFunction: a.names(true),
		Short:             "Report what is out of line; as a drawing, the Waterline",
		Long:              "Reads the hosts anew and reports every verdict. As SVG or PDF it draws the Waterline of the whole estate, other hosts as they were last read.",
		Example:           "  yare report drift tides --format csv -o tides.csv\n  yare report drift --format pdf -o waterline.pdf",
		RunE: func(c *cobra.Command, args []string) error {
			return a.judging(c.Context(), func(h *harbour.Harbour) error {
				readings, hosts, err := a.readNamed(c.Context(), h, args)
				if err != nil {
					return err
				}
				return t.write(a.out, func(w io.Writer) error {
					if slices.Contains(chart.Formats, t.format) {
						return a.drawWaterline(c.Context(), h, w, t.format)
					}
					d := driftOf(h, h.Checker(), readings, hosts, narrow.Filter{})
					return writeDrift(w, d, t.format)
				})
			})
		},
	}
	t.flags(c)
	return c
}

func writeDrift(w io.Writer, d report.Drift, format string) error {
	switch format {
	case "csv":
		return d.CSV(w)
	case "json":
		return report.JSON(w, d)
	}
	return d.Text(w, false)
}

func (a *app) drawWaterline(ctx context.Context, h *harbour.Harbour, w io.Writer, format string) error {
	all, err := h.Hosts()
	if err != nil {
		return err
	}
	kept, err := h.Store.Newest(ctx, all)
	if err != nil {
		return err
	}
	s, err := h.Survey(ctx, kept)
	if err != nil {
		return err
	}
	return chart.Waterline(s).Write(w, format)
}

func (a *app) reportRound() *cobra.Command {
	var t target
	c := &cobra.Command{
		Use:               "round CLUSTER [ROUND]",
		ValidArgsFunction: a.names(false),
		Short:             "Report what a round did; as a drawing, its timeline",
		Long:              "Reports the newest round of a cluster, or the one with the id given: per host the changes with before and after, the steps with their times, moves, and what failed.",
		Example:           "  yare report round vts\n  yare report round vts --format svg -o vts.svg",
		Args:              cobra.RangeArgs(1, 2),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				if _, err := h.Cluster(args[0]); err != nil {
					return err
				}
				id := optional(args[1:])
				if id == "" {
					head, err := h.Store.Latest(c.Context(), args[0])
					if err != nil {
						return err
					}
					id = head.ID
				}
				s, err := h.Round(c.Context(), id)
				if err != nil {
					return err
				}
				if s.Seq == 0 {
					return fmt.Errorf("there is no round %s over %s", id, args[0])
				}
				return t.write(a.out, func(w io.Writer) error { return roundAs(w, id, s, t.format) })
			})
		},
	}
	t.flags(c)
	return c
}

func roundAs(w io.Writer, id string, s *plan.State, format string) error {
	switch format {
	case "csv":
		return report.NewRound(id, s).CSV(w)
	case "json":
		return report.JSON(w, report.NewRound(id, s))
	case "svg", "pdf":
		return chart.Timeline(s).Write(w, format)
	}
	return report.NewRound(id, s).Text(w)
}

func (a *app) reportLife() *cobra.Command {
	var t target
	c := &cobra.Command{
		Use:               "life HOST",
		ValidArgsFunction: a.names(true),
		Short:             "Report what changed on a host from reading to reading",
		Long:              "Reports every component that came, went or changed its version on a host, the newest change first, as far as readings of it were kept. The host is read first.",
		Example:           "  yare report life jacana\n  yare report life jacana --format csv -o jacana.csv",
		Args:              cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				if _, ok := h.Estate.ClusterOf(args[0]); !ok {
					return fmt.Errorf("there is no host %q in %s", args[0], h.Estate.Name)
				}
				if _, err := h.Read(c.Context(), args, nil); err != nil {
					return err
				}
				turns, err := h.Life(c.Context(), args[0])
				if err != nil {
					return err
				}
				return t.write(a.out, func(w io.Writer) error { return report.Life(w, args[0], turns, t.format) })
			})
		},
	}
	t.words(c)
	return c
}

var extensions = map[string]string{"text": "txt", "csv": "csv", "json": "json", "svg": "svg", "pdf": "pdf"}

// writeAll writes a drift report in every form of words below dir.
func writeAll(dir, name string, d report.Drift) error {
	var errs []error
	for _, f := range []string{"text", "csv", "json"} {
		t := target{form{format: f}, filepath.Join(dir, name+"."+extensions[f])}
		errs = append(errs, t.write(nil, func(w io.Writer) error { return writeDrift(w, d, f) }))
	}
	return errors.Join(errs...)
}

func writeRound(dir, id string, s *plan.State) error {
	var errs []error
	for _, f := range formats {
		t := target{form{format: f}, filepath.Join(dir, "round."+extensions[f])}
		errs = append(errs, t.write(nil, func(w io.Writer) error { return roundAs(w, id, s, f) }))
	}
	return errors.Join(errs...)
}

// drawings draws the Waterline after the example round.
func (a *app) drawings(ctx context.Context, h *harbour.Harbour, dir string) error {
	var errs []error
	for _, f := range chart.Formats {
		t := target{form{format: f}, filepath.Join(dir, "waterline."+f)}
		errs = append(errs, t.write(nil, func(w io.Writer) error { return a.drawWaterline(ctx, h, w, f) }))
	}
	return errors.Join(errs...)
}
