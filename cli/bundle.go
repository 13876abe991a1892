package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yareharbour/bundle"
	"yareharbour/core/catalogue"
	"yareharbour/format/plain"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

func (a *app) bundleCommand() *cobra.Command {
	c := &cobra.Command{Use: "bundle", Short: "Look into archives of releases, and take them in",
		Long: `A bundle is a zip or tar archive, perhaps with archives in it, that holds release lists,
repositories, firmware, advisories or payloads. It is unpacked and verified aside; "show" says what is in it,
"import" takes it in whole or not at all.`,
		Example: "  yare bundle show corran-q4.zip\n  yare bundle import corran-q4.zip\n  yare bundle list"}
	c.AddCommand(a.bundleShow(), a.bundleImport(), a.bundleList(), a.bundleRemove())
	return group(c)
}

func (a *app) bundleShow() *cobra.Command {
	var as form
	var by signers
	c := &cobra.Command{
		Use: "show FILE", Short: "Say what is in an archive; nothing is taken in",
		Long: "Unpacks an archive aside, verifies its checksums, and says what every file in " +
			"it is and what it brings.",
		Example: "  yare bundle show corran-q4.zip",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				b, err := a.openBundle(c.Context(), h, args[0], by)
				if err != nil {
					return err
				}
				defer b.Close()
				if as.json() {
					return report.JSON(a.out, b.Contents)
				}
				return a.showBundle(h, b)
			})
		},
	}
	as.flags(c, "text", "json")
	by.flags(c)
	return c
}

// signers are whose signature is wanted over a bundle.
type signers struct {
	keyrings []string
	only     bool
}

func (s *signers) flags(c *cobra.Command) {
	c.Flags().StringSliceVar(&s.keyrings, "keyring", nil, "OpenPGP keyring files; every file must then be named by a "+
		"SHA256SUMS with a good signature by one of their keys")
	c.Flags().BoolVar(&s.only, "vouched", false, "leave out files that no signed SHA256SUMS names, instead of refusing them")
}

func (a *app) openBundle(
	ctx context.Context,
	h *harbour.Harbour,
	file string,
	by signers,
) (*bundle.Bundle, error) {
	line, done := a.progressLine()
	defer done()
	return h.OpenBundle(ctx, file, by.keyrings, by.only, operator(), func(p bundle.Progress) {
		line(fmt.Sprintf("%s %s  %d files, %s", p.Stage, p.File, p.Entries, catalogue.Bytes(p.Bytes)))
	})
}

func (a *app) showBundle(h *harbour.Harbour, b *bundle.Bundle) error {
	if err := report.Bundle(a.out, b.Contents, "text"); err != nil {
		return err
	}
	releases, advisories := h.Brings(b)
	plain.Fprintf(a.out, "%s, %s: %s (%d not known yet), %s (%d not known yet), %s\n", b.Name, catalogue.Bytes(b.Size),
		catalogue.Some(b.Releases, "release"), releases, catalogue.Some(b.Advises, "advisory"), advisories,
		catalogue.Some(b.Payloads, "payload"))
	switch {
	case b.SignedBy != "":
		plain.Fprintf(a.out, "the signature %s is good; %s with the hash that it vouches for\n", b.SignedBy,
			catalogue.Some(b.Summed, "file"))
	case b.Summed > 0:
		plain.Fprintf(a.out, "%s with the hash that its SHA256SUMS says; nobody has signed that\n",
			catalogue.Some(b.Summed, "file"))
	default:
		plain.Fprintln(a.out, "it carries no checksums of its own; payloads have the hashes that their releases state")
	}
	if len(b.Left) > 0 {
		plain.Fprintf(a.out, "left out, since nobody vouches for them: %s\n", strings.Join(b.Left, ", "))
	}
	if len(b.Missing) > 0 {
		plain.Fprintf(a.out, "not in it, though its releases name them: %s\n", strings.Join(b.Missing, ", "))
	}
	return nil
}

func (a *app) bundleImport() *cobra.Command {
	var by signers
	var yes bool
	c := &cobra.Command{
		Use: "import FILE", Short: "Take an archive in, after showing what is in it",
		Long: "Shows what is in the archive, asks, and takes it in: payloads into the payload store, what it says " +
			"into the catalogue. Taking the same one in twice changes nothing.",
		Example: "  yare bundle import corran-q4.zip\n  yare bundle import corran-q4.zip --keyring corran.gpg --yes",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				b, err := a.openBundle(c.Context(), h, args[0], by)
				if err != nil {
					return err
				}
				defer b.Close()
				if err := a.showBundle(h, b); err != nil {
					return err
				}
				if !yes && !a.confirm("Take it in?") {
					plain.Fprintln(a.out, "nothing was taken in")
					return nil
				}
				if err := h.Accept(c.Context(), b); errors.Is(err, bundle.ErrKnown) {
					plain.Fprintln(a.out, err)
					return nil
				} else if err != nil {
					return err
				}
				plain.Fprintf(a.out, "taken in as %.12s\n", b.ID)
				return nil
			})
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "take it in without asking")
	by.flags(c)
	return c
}

// confirm asks on the terminal; anything but y is no.
func (a *app) confirm(question string) bool {
	plain.Fprintf(a.err, "%s [y/N] ", question)
	answer := a.line()
	return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes")
}

// line reads a line of what is typed; empty where nothing more comes.
func (a *app) line() string {
	if a.typed == nil {
		a.typed = bufio.NewReader(a.in)
	}
	text, _ := a.typed.ReadString('\n') // its end is an answer too
	return strings.TrimSpace(text)
}

// ask asks for a word or a few; where nothing is typed it is the usual answer.
func (a *app) ask(question, usual string) string {
	if usual != "" {
		question += " [" + usual + "]"
	}
	plain.Fprintf(a.err, "%s: ", question)
	return cmp.Or(a.line(), usual)
}

func (a *app) bundleList() *cobra.Command {
	var as form
	c := &cobra.Command{
		Use: "list", Short: "List the bundles that were taken in",
		Long:    "Lists the bundles that were taken in, the newest first: when, by whom, and what they brought.",
		Example: "  yare bundle list",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				all, err := h.Bundles.Taken()
				if err != nil {
					return err
				}
				if as.json() {
					return report.JSON(a.out, all)
				}
				t := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
				plain.Fprintln(t, "ID\tNAME\tTAKEN IN\tBY\tRELEASES\tADVISORIES\tPAYLOADS")
				for _, b := range all {
					plain.Fprintf(t, "%.12s\t%s\t%s\t%s\t%d\t%d\t%d\n", b.ID, b.Name, b.Taken.Local().Format(second),
						b.By, b.Releases, b.Advises, b.Payloads)
				}
				return t.Flush()
			})
		},
	}
	as.flags(c, "text", "json")
	return c
}

func (a *app) bundleRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove ID", Short: "Take a bundle out of the catalogue again",
		Long: "Takes what a bundle said out of the catalogue again. Its payloads stay in the payload store until " +
			"they are pruned. ID is the beginning of its id, or its name.",
		Example: "  yare bundle remove 3f9a",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				b, err := h.Bundles.Remove(args[0])
				if err != nil {
					return err
				}
				plain.Fprintf(a.out, "%s is no longer in the catalogue; its payloads stay until \"yare "+
					"payload prune\"\n", b.Name)
				return nil
			})
		},
	}
}
