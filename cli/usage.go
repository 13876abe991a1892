package cli

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"yareharbour/harbour"
)

// usageError is a command line that means nothing: nothing was done.
type usageError struct{ error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// word is a word that a command takes, as its use says it: CLUSTER, [HOST], FILE….
type word struct {
	names          []string // of which it is one
	optional, many bool
}

var splitUse = regexp.MustCompile(`\[[^\]]*\]|[^\s\[]\S*( \| \S+)*`)

// words are those of a use: "check [CLUSTER… | HOST…]" takes any number of clusters and hosts.
func words(use string) (out []word) {
	_, rest, _ := strings.Cut(use, " ")
	for _, part := range splitUse.FindAllString(rest, -1) {
		w := word{optional: strings.HasPrefix(part, "[")}
		if w.optional {
			part = part[1 : len(part)-1]
		}
		for name := range strings.SplitSeq(part, " | ") {
			if strings.HasPrefix(name, "--") {
				continue
			}
			w.many = w.many || strings.Contains(name, "…")
			w.names = append(w.names, strings.TrimSuffix(name, "…"))
		}
		out = append(out, w)
	}
	return out
}

// settle has every command below c check its words by its use, complete them, and say what is wrong in plain words.
func (a *app) settle(c *cobra.Command) {
	c.SetFlagErrorFunc(a.flagError)
	for _, sub := range c.Commands() {
		a.settle(sub)
	}
	if c.HasSubCommands() && c.HasParent() && !strings.Contains(c.Use, " ") && c.RunE == nil {
		group(c)
		return
	}
	if c.Args != nil {
		return
	}
	takes := words(c.Use)
	c.Args = func(c *cobra.Command, args []string) error { return fits(c, takes, args) }
	c.ValidArgsFunction = func(_ *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		return a.complete(takes, args)
	}
}

// fits tells what is wrong with the number of words.
func fits(c *cobra.Command, takes []word, args []string) error {
	least, most := 0, 0
	for _, w := range takes {
		if !w.optional {
			least++
		}
		if most++; w.many {
			most = 1 << 20
		}
	}
	_, want, _ := strings.Cut(c.Use, " ")
	switch {
	case len(args) > most && most == 0:
		return usage("%s takes no words, and %q is one", c.CommandPath(), args[0])
	case len(args) > most:
		return usage("%s takes %s; %q is too many", c.CommandPath(), want, args[most])
	case len(args) < least:
		return usage("%s takes %s: say %s (%s --help tells more)", c.CommandPath(), want,
			strings.Join(takes[len(args)].names, " or "), c.CommandPath())
	}
	return nil
}

// flagError says in plain words what is wrong with an option.
func (a *app) flagError(c *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	var valueless *pflag.ValueRequiredError
	var invalid *pflag.InvalidValueError
	switch {
	case errors.As(err, &unknown):
		name := unknown.GetSpecifiedName()
		if len(name) == 1 {
			return usage("%s has no option -%s; %s --help lists what there is", c.CommandPath(), name, c.CommandPath())
		}
		var known []string
		c.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
		c.InheritedFlags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
		return usage("%s has no option --%s%s", c.CommandPath(), name, harbour.Near(name, known))
	case errors.As(err, &valueless):
		return usage("--%s wants a value", valueless.GetSpecifiedName())
	case errors.As(err, &invalid):
		why := invalid.Unwrap().Error()
		kind := invalid.GetFlag().Value.Type()
		if strings.Contains(why, "strconv") || strings.Contains(why, "parsing") {
			why = fmt.Sprintf("%q is not a %s", invalid.GetValue(), map[string]string{"int": "whole number", "int64": "whole number",
				"float64": "number", "bool": "yes or no: true or false"}[kind])
		}
		return usage("--%s: %s", invalid.GetFlag().Name, why)
	}
	return usageError{err}
}

// need has a command refuse to run without these options.
func (a *app) need(c *cobra.Command, names ...string) {
	a.check(c, func() error {
		for _, n := range names {
			if f := c.Flags().Lookup(n); strings.TrimSpace(f.Value.String()) == "" {
				return usage("%s needs --%s: %s", c.CommandPath(), n, f.Usage)
			}
		}
		return nil
	})
}

// apart has a command refuse an option beside any of the others.
func (a *app) apart(c *cobra.Command, name string, others ...string) {
	a.check(c, func() error {
		for _, o := range others {
			if c.Flags().Changed(name) && c.Flags().Changed(o) {
				return usage("say --%s or --%s, not both", name, o)
			}
		}
		return nil
	})
}

// check adds something to what is looked at before a command runs.
func (a *app) check(c *cobra.Command, is func() error) { a.checks[c] = append(a.checks[c], is) }

// completes has an option's value completed by words.
func completes(c *cobra.Command, flag string, words ...string) {
	_ = c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
}

// completing completes by what an estate has.
func (a *app) completing(known func(*app) []string) cobra.CompletionFunc {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return known(a), cobra.ShellCompDirectiveNoFileComp
	}
}

// complete completes the next word of a command.
func (a *app) complete(takes []word, args []string) (out []string, how cobra.ShellCompDirective) {
	if len(takes) == 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	next := takes[min(len(args), len(takes)-1)]
	if len(args) >= len(takes) && !next.many {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	how = cobra.ShellCompDirectiveNoFileComp
	for _, name := range next.names {
		switch known := a.known(name, args); {
		case name == "FILE":
			how = cobra.ShellCompDirectiveDefault
		default:
			out = append(out, known...)
		}
	}
	return slices.DeleteFunc(out, func(w string) bool { return next.many && slices.Contains(args, w) }), how
}

// group makes a command of one that only holds others: without a word it tells of them, and a word that it does not
// know is an error with what may be meant.
func group(c *cobra.Command) {
	c.Args = cobra.ArbitraryArgs
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 0 {
			return c.Help()
		}
		return unknown(c, args)
	}
}

// unknown is the error for a word that names no command.
func unknown(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	c.SuggestionsMinimumDistance = 2
	hint := "; " + c.CommandPath() + " --help lists what there is"
	if near := c.SuggestionsFor(args[0]); len(near) > 0 {
		hint = "; did you mean " + strings.Join(near, " or ") + "?"
	}
	return usage("there is no command %q of %s%s", args[0], c.CommandPath(), hint)
}
