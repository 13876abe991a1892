package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// form is how a command prints: as text, unless --format says otherwise, of which --json is the short form.
type form struct {
	format string
	known  []string
}

// flags adds the flags; the first of the forms is the one without a flag.
func (f *form) flags(c *cobra.Command, known ...string) {
	f.format, f.known = known[0], known
	c.Flags().Func("format", strings.Join(known, ", ")+" (default "+known[0]+")", f.set)
	c.Flags().BoolFunc("json", "print JSON, as --format json does", func(string) error { return f.set("json") })
	_ = c.RegisterFlagCompletionFunc("format",
		cobra.FixedCompletions(known, cobra.ShellCompDirectiveNoFileComp)) // it fails only for a flag that is not there
}

func (f *form) set(format string) error {
	if !slices.Contains(f.known, format) {
		return fmt.Errorf("no %q; there are %s", format, strings.Join(f.known, ", "))
	}
	f.format = format
	return nil
}

func (f *form) json() bool { return f.format == "json" }

// group makes a command of one that only holds others: without a word it tells of them, and a word that it does not
// know is an error with what may be meant.
func group(c *cobra.Command) *cobra.Command {
	c.Args = cobra.ArbitraryArgs
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 0 {
			return c.Help()
		}
		return unknown(c, args)
	}
	return c
}

// unknown is the error for a word that names no command.
func unknown(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	c.SuggestionsMinimumDistance = 2
	hint := "; yare --help tells what there is"
	if near := c.SuggestionsFor(args[0]); len(near) > 0 {
		hint = "; did you mean " + strings.Join(near, " or ") + "?"
	}
	return fmt.Errorf("unknown command %q for %q%s", args[0], c.CommandPath(), hint)
}
