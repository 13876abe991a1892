package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"yareharbour/chart"
	"yareharbour/core/narrow"
	"yareharbour/export"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

func (a *app) reportCommand() *cobra.Command {
	c := &cobra.Command{Use: "report", Short: "Write a report as text, CSV, JSON, SVG or PDF",
		Long: "Writes what was found (drift), what was done (round) or what changed on a host (life). SVG and PDF " +
			"are drawings: the Waterline, and the round's timeline.",
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
	t.form.flags(c, export.Formats...)
	c.Flags().StringVarP(&t.file, "output", "o", "", "file to write (default: standard output)")
}

// words are the flags of what has no drawing.
func (t *target) words(c *cobra.Command) {
	t.form.flags(c, export.Words...)
	c.Flags().StringVarP(&t.file, "output", "o", "", "file to write (default: standard output)")
}

// write writes to the file, whole or not at all, or to out.
func (t *target) write(out io.Writer, what export.Writer) error {
	var b bytes.Buffer
	if err := what(&b, t.format); err != nil {
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
		Long: "Reads the hosts anew and reports every verdict. As SVG or PDF it draws the Waterline of " +
			"the whole estate, other hosts as they were last read.",
		Example: "  yare report drift tides --format csv -o tides.csv\n" +
			"  yare report drift --format pdf -o waterline.pdf",
		RunE: func(c *cobra.Command, args []string) error {
			return a.judging(c.Context(), func(h *harbour.Harbour) error {
				_, hosts, err := a.readNamed(c.Context(), h, args)
				if err != nil {
					return err
				}
				e, err := h.View(c.Context())
				if err != nil {
					return err
				}
				if slices.Contains(chart.Formats, t.format) {
					return t.write(a.out, export.Waterline(e, narrow.Filter{}))
				}
				return t.write(a.out, report.Of(e, hosts, narrow.Filter{}).Write)
			})
		},
	}
	t.flags(c)
	return c
}

func (a *app) reportRound() *cobra.Command {
	var t target
	c := &cobra.Command{
		Use:               "round CLUSTER [ROUND]",
		ValidArgsFunction: a.names(false),
		Short:             "Report what a round did; as a drawing, its timeline",
		Long: "Reports the newest round of a cluster, or the one with the id given: per host the " +
			"changes with before and after, the steps with their times, moves, and what failed.",
		Example: "  yare report round vts\n  yare report round vts --format svg -o vts.svg",
		Args:    cobra.RangeArgs(1, 2),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				if _, err := h.Cluster(args[0]); err != nil {
					return err
				}
				id := optional(args[1:])
				if id == "" {
					head, err := h.Rounds.Latest(c.Context(), args[0])
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
				return t.write(a.out, export.Round(id, s))
			})
		},
	}
	t.flags(c)
	return c
}

func (a *app) reportLife() *cobra.Command {
	var t target
	c := &cobra.Command{
		Use:               "life HOST",
		ValidArgsFunction: a.names(true),
		Short:             "Report what changed on a host from reading to reading",
		Long: "Reports every component that came, went or changed its version on a host, the newest " +
			"change first, as far as readings of it were kept. The host is read first.",
		Example: "  yare report life jacana\n  yare report life jacana --format csv -o jacana.csv",
		Args:    cobra.ExactArgs(1),
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
				return t.write(a.out, func(w io.Writer, format string) error {
					return report.Life(w, args[0], turns, format)
				})
			})
		},
	}
	t.words(c)
	return c
}

// writeAll writes what a Writer writes in each of the formats below dir.
func writeAll(dir, name string, formats []string, what export.Writer) error {
	var errs []error
	for _, f := range formats {
		t := target{form{format: f}, filepath.Join(dir, name+"."+export.Extension(f))}
		errs = append(errs, t.write(nil, what))
	}
	return errors.Join(errs...)
}
