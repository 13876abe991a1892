package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"yareharbour/core/estate"
	"yareharbour/export"
	"yareharbour/format/releaselist"
	"yareharbour/harbour"
)

func (a *app) catalogueCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "catalogue",
		Short: "See what can be had: components, their releases and tracks, and who stands where",
		Long: "Shows what release lists, feeds and bundles say, beside where the hosts stand " +
			"as they were last read.",
		Example: "  yare catalogue list --narrow \"severity=high layer=firmware\"\n" +
			"  yare catalogue show fw:tarbet-s9\n  yare catalogue show fw:tarbet-s9 --format svg -o tarbet.svg",
	}
	c.AddCommand(a.catalogueList(), a.catalogueShow(), a.catalogueSchema())
	return group(c)
}

func (a *app) catalogueList() *cobra.Command {
	var t target
	var text string
	var all bool
	c := &cobra.Command{
		Use: "list", Short: "List components with their newest releases, and how hosts stand to them",
		Long: `Lists the components that hosts have, or baselines speak of, and of which the catalogue knows
a release. With --all those too that no host has, or no feed: that is the list to look through for what is not
on any host yet.`,
		Example: "  yare catalogue list\n  yare catalogue list --narrow \"vendor=corran age=60\"\n" +
			"  yare catalogue list --all --format csv",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return a.judging(c.Context(), func(h *harbour.Harbour) error {
				f, err := h.Narrow(c.Context(), text)
				if err != nil {
					return err
				}
				e, err := h.View(c.Context())
				if err != nil {
					return err
				}
				return t.write(a.out, export.Catalogue(e.Components(f, all)))
			})
		},
	}
	c.Flags().StringVar(&text, "narrow", "", "only what this filter lets through")
	c.Flags().BoolVar(&all, "all", false, "what no host has, or no feed, too")
	t.words(c)
	return c
}

func (a *app) catalogueShow() *cobra.Command {
	var t target
	c := &cobra.Command{
		Use: "show COMPONENT", Short: "Show a component's tracks as ladders, with the hosts on their rungs",
		Long: "Shows every release of a component by track, the newest first: which is proposed, which was " +
			"withdrawn and why, who stands on it, and which baselines want it.",
		Example: "  yare catalogue show fw:tarbet-s9\n  yare catalogue show fw:lorne-l25 --format pdf -o lorne.pdf",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			key, err := estate.ParseKey(args[0])
			if err != nil {
				return err
			}
			return a.judging(c.Context(), func(h *harbour.Harbour) error {
				e, err := h.View(c.Context())
				if err != nil {
					return err
				}
				l := e.Ladder(key)
				if len(l.Tracks) == 0 {
					return fmt.Errorf("no feed has a release of %s, and no host has it", key)
				}
				return t.write(a.out, export.Ladder(l))
			})
		},
	}
	t.flags(c)
	return c
}

func (a *app) catalogueSchema() *cobra.Command {
	return &cobra.Command{
		Use:     "schema",
		Short:   "Print the JSON Schema of a release list",
		Long:    "Prints the JSON Schema (draft 2020-12) of a release list, for editors that complete and check by it.",
		Example: "  yare catalogue schema > releases.schema.json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := a.out.Write(releaselist.Schema)
			return err
		},
	}
}
