package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"yareharbour/core/brief"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/span"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/plain"
)

// lasting is an option that says how long something lasts.
type lasting time.Duration

func (d *lasting) Set(text string) error {
	v, err := span.Parse(text)
	*d = lasting(v)
	return err
}

func (d *lasting) String() string { return span.String(time.Duration(*d)) }

// Type is what pflag shows for its value.
func (d *lasting) Type() string { return "time" }

// settings are a round's settings, as options say them.
type settings struct {
	set  *cobra.Command
	file string
}

func (b *settings) flags(a *app, c *cobra.Command) {
	c.Flags().StringVar(&b.file, "brief", "", "a brief file; other options go before what it says")
	b.options(a, c, func(*brief.Setting) bool { return true })
}

// emptying are the options that say how a host is emptied.
func (b *settings) emptying(a *app, c *cobra.Command) {
	b.options(a, c, func(s *brief.Setting) bool { return s.Empties })
}

// options gives a command those of the settings.
func (b *settings) options(a *app, c *cobra.Command, has func(*brief.Setting) bool) {
	b.set = c
	f := c.Flags()
	for _, s := range brief.Settings {
		if !has(s) {
			continue
		}
		switch s.Kind {
		case brief.Names:
			f.StringSlice(s.Name, nil, s.Help)
		case brief.Lines, brief.Windows, brief.Pairs, brief.Policies:
			f.StringArray(s.Name, nil, s.Help+"; one more option for each")
		case brief.Whole:
			f.Int64(s.Name, 0, s.Help)
		case brief.Percent:
			f.Float64(s.Name, 0, s.Help)
		case brief.Span:
			f.VarPF(new(lasting), s.Name, "", s.Help).DefValue = "" // what is usual is in the help
		case brief.Yes:
			f.Bool(s.Name, false, s.Help)
		default:
			f.String(s.Name, "", s.Help)
		}
		if len(s.Choice) > 0 {
			completes(c, s.Name, s.Choice...)
		}
	}
	for flag, known := range map[string]func(*app) []string{"hosts": (*app).hosts, "sequence": (*app).hosts, "trial": (*app).hosts, "except": (*app).hosts, "send-none": (*app).hosts,
		"only": (*app).scopes, "release": (*app).components} {
		if f.Lookup(flag) != nil {
			_ = c.RegisterFlagCompletionFunc(flag, a.completing(known)) // the flag is there
		}
	}
}

// settingNames are the options that say what a brief does.
func settingNames() []string {
	out := []string{"brief"}
	for _, s := range brief.Settings {
		out = append(out, s.Name)
	}
	return out
}

func (a *app) hosts() []string { return a.places(false, true) }

// make makes the brief of a cluster, or of one host, CLUSTER/HOST, and says what is usual on its cluster.
func (b *settings) make(h *harbour.Harbour, name string) (out, usual plan.Brief, err error) {
	cluster, _, part := strings.Cut(name, "/")
	if usual, err = h.Usual(cluster); err != nil {
		return out, usual, err
	}
	out = usual
	if b.file != "" {
		if out, _, err = h.ReadBrief(b.file, cluster); err != nil {
			return out, usual, err
		}
	}
	if err := b.over(&out); err != nil {
		return out, usual, err
	}
	if part {
		host, _, err := h.Host(name)
		if err != nil {
			return out, usual, err
		}
		if len(out.Hosts) > 0 {
			return out, usual, fmt.Errorf("%s is one host: leave --hosts and the brief's hosts out", name)
		}
		out.Hosts = []string{host}
	}
	return out, usual, nil
}

// over lays what options say over a brief.
func (b *settings) over(out *plan.Brief) error {
	for _, s := range brief.Settings {
		f := b.set.Flags().Lookup(s.Name)
		if f == nil || !f.Changed {
			continue
		}
		words := []string{f.Value.String()}
		if many, ok := f.Value.(pflag.SliceValue); ok {
			words = many.GetSlice()
		}
		if _, err := s.Lay(out, words, time.Local); err != nil {
			return usage("--%s: %w", s.Name, err)
		}
	}
	return nil
}

func (a *app) planCommand() *cobra.Command {
	var b settings
	var o output
	var against string
	var ways []string
	c := &cobra.Command{
		Use:   "plan CLUSTER[/HOST]",
		Short: "Show everything a round would do; nothing is touched",
		Long: `Reads the cluster and shows what a round would do, host by host: changes, passes, restarts,
moves, prechecks, time. Nothing is touched. The settings come from the options, and from a brief file where
--brief names one; options go before it. With --narrow only what is out of line and let through is planned: its
hosts, and its components where others are out of line on these hosts too.`,
		Example: "  yare plan vts\n  yare plan tides --hosts avocet,fulmar --json\n" +
			"  yare plan vts --trial ibis --soak 30m --limit 85\n  yare plan tides --way bittern\n" +
			"  yare plan vts --brief november.yaml --out-of-service 2 -o vts.svg",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			br, usual, err := b.make(h, args[0])
			if err != nil {
				return err
			}
			if err := a.just(ctx, h, &o, &br); err != nil {
				return err
			}
			p, err := h.Plan(ctx, br)
			if err != nil {
				return err
			}
			for _, host := range ways {
				w, err := p.WayFor(host)
				if err != nil {
					return fmt.Errorf("the way out for %s: %w", host, err)
				}
				w.Take(&br)
				if p, err = h.Plan(ctx, br); err != nil {
					return err
				}
			}
			if against == "" {
				return a.show(ctx, h, &o, view.OfPlan(&p, brief.Words(br, usual)))
			}
			shown, err := h.Shown(ctx, br.Cluster, against)
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, view.OfDifference(shown, &p))
		}),
	}
	b.flags(a, c)
	o.narrowing(a, c)
	c.Flags().StringSliceVar(&ways, "way", nil,
		"take the first way out that is shown for these hosts, one after the other; the plan shows the options that mean the same")
	c.Flags().StringVar(&against, "against", "",
		"show in what it differs from the plan that was shown with this digest, or its beginning")
	a.completeDigests(c, "against")
	return c
}

// just makes a brief one of what is narrowed to, and the narrowing is done with.
func (a *app) just(ctx context.Context, h *harbour.Harbour, o *output, b *plan.Brief) error {
	f, err := o.filter(ctx, h)
	o.narrow = ""
	if err != nil || f.Empty() {
		return err
	}
	e, err := h.View(ctx)
	if err != nil {
		return err
	}
	hosts, only := e.Concerned(b.Cluster, f)
	if len(hosts) == 0 {
		return fmt.Errorf("nothing on %s that is out of line is let through by %q: there is nothing to plan", b.Cluster, f)
	}
	if len(b.Hosts) > 0 {
		hosts = slices.DeleteFunc(hosts, func(host string) bool { return !slices.Contains(b.Hosts, host) })
	}
	b.Hosts = hosts
	for _, k := range only {
		b.Only = append(b.Only, plan.Scope(k))
	}
	return nil
}

// completeDigests completes an option by the digests of plans that were shown of the cluster that is named.
func (a *app) completeDigests(c *cobra.Command, flag string) {
	_ = c.RegisterFlagCompletionFunc(flag, func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		cluster, _, _ := strings.Cut(optional(args), "/")
		return a.digests(cluster), cobra.ShellCompDirectiveNoFileComp
	})
}

func (a *app) briefCommand() *cobra.Command {
	var b settings
	var o output
	write := &cobra.Command{
		Use:   "write CLUSTER[/HOST]",
		Short: "Write a brief file with the settings that the options say",
		Long: "Writes a brief file. What is usual on the cluster is left out of it, " +
			"and so stays what is usual there.",
		Example: "  yare brief write vts --trial ibis --soak 30m -o november.yaml\n" +
			"  yare plan vts --brief november.yaml",
		RunE: a.opened(func(_ context.Context, h *harbour.Harbour, args []string) error {
			br, _, err := b.make(h, args[0])
			if err != nil {
				return err
			}
			text, err := h.WriteBrief(br)
			if err != nil {
				return err
			}
			return a.text(&o, text)
		}),
	}
	b.flags(a, write)
	o.only(write, "file to write (default: standard output)")
	c := &cobra.Command{
		Use:   "brief",
		Short: "Write and check brief files: a round's settings, to be used again",
		Long: "A brief is a round's settings as a file. yare plan and yare round start take it with --brief. " +
			"docs/rounds.md describes it.",
		Example: "  yare brief write vts --order lightest-first -o vts.yaml\n  yare brief check vts.yaml\n" +
			"  yare brief schema > brief.schema.json",
	}
	c.AddCommand(write, &cobra.Command{
		Use:   "check FILE",
		Short: "Say what is wrong with a brief file",
		Long: "Reads a brief file, reads its cluster, and says what of the brief means nothing there: a host, a " +
			"rule, a component or a release that does not exist. Nothing is touched.",
		Example: "  yare brief check november.yaml",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			b, usual, err := h.ReadBrief(args[0], "")
			if err != nil {
				return err
			}
			if _, err := h.Gather(ctx, b); err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			a.says("%s: a brief for %s: %s", args[0], b.Cluster,
				strings.Join(append([]string{"yare plan " + b.Cluster}, brief.Words(b, usual)...), " "))
			return nil
		}),
	}, a.schema("brief", "brief file"))
	return c
}

// schema is the command that prints the JSON Schema of a kind of file.
func (a *app) schema(of, what string) *cobra.Command {
	var o output
	c := &cobra.Command{
		Use:     "schema",
		Short:   "Print the JSON Schema of a " + what,
		Long:    "Prints the JSON Schema (draft 2020-12) of a " + what + ", for editors that complete and check by it.",
		Example: "  yare " + map[string]string{"release list": "catalogue"}[of] + " schema -o " + strings.ReplaceAll(of, " ", "-") + ".schema.json",
		RunE:    func(*cobra.Command, []string) error { return a.text(&o, harbour.Schemas(of)) },
	}
	if of != "release list" {
		c.Example = "  yare " + of + " schema -o " + of + ".schema.json"
	}
	o.only(c, "file to write (default: standard output)")
	return c
}

func (a *app) precheckCommand() *cobra.Command {
	var b settings
	var o output
	var checks []string
	c := &cobra.Command{
		Use:   "precheck CLUSTER[/HOST]",
		Short: "Ask whether the hosts that a round would visit are ready for it",
		Long: `Reads the cluster and asks every check, or those that --check names, of the hosts that a round
would visit. Each answers clear, caution or blocker, with its evidence and what to do; what could not be known
says so. docs/prechecks/ has a page for each check.

Exit codes: 0 nothing blocks, 3 something does, 4 something could not be known (whether something blocks or not),
1 failure.`,
		Example: "  yare precheck vts\n  yare precheck tides --hosts curlew --check bmc,health\n" +
			"  yare precheck tides -o tides.csv",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			br, _, err := b.make(h, args[0])
			if err != nil {
				return err
			}
			answers, aside, err := h.Prechecks(ctx, br, checks)
			if err != nil {
				return err
			}
			f, err := o.filter(ctx, h)
			if err != nil {
				return err
			}
			if err := a.show(ctx, h, &o, view.OfPrechecks(view.Answers(answers, f))); err != nil {
				return err
			}
			for _, x := range aside {
				if !x.InLine && x.Unread > 0 {
					plain.Fprintf(a.err, "%s was asked nothing: %s\n", x.Host, x.Why)
				}
			}
			switch plan.Answered(answers, aside) {
			case precheck.NotKnown:
				return exit(exitUnread)
			case precheck.Blocked:
				return exit(exitDrift)
			}
			return nil
		}),
	}
	b.flags(a, c)
	o.narrowing(a, c)
	c.Flags().StringSliceVar(&checks, "check", nil, "only these checks")
	_ = c.RegisterFlagCompletionFunc("check", a.completing((*app).checkNames)) // the flag is there
	c.AddCommand(&cobra.Command{
		Use:   "try HOST EXPRESSION",
		Short: "Evaluate an expression on a host, as a custom check would",
		Long: "Reads the host and evaluates an expression of CEL on what was read: its value, and what it " +
			"cost of the ten million that a check may. docs/prechecks/own.md has the variables, and examples.",
		Example: "  yare precheck try heron 'settings.exists(s, s.name == \"name-server/2\")'\n" +
			"  yare precheck try heron 'packages.filter(p, older(p.key, p.version, \"1.9\")).map(p, p.name)'",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			host, _, err := h.Host(args[0])
			if err != nil {
				return err
			}
			value, cost, err := h.Try(ctx, host, args[1])
			if err != nil {
				return fmt.Errorf("the expression: %w", err)
			}
			a.says("%v\n(cost %d)", value, cost)
			return nil
		}),
	})
	return c
}

func (a *app) waiverCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "waiver",
		Short: "Accept what a check found, for a reason and until a time",
		Long: `A waiver is a recorded pardon of what a check found on a host: just that, and until its end.
Where the check finds something else the waiver says nothing. What must never be waived is refused. Nothing is
ever taken off the record.`,
		Example: "  yare waiver add fulmar health --reason \"ordered, comes Tuesday\" --for 4d\n" +
			"  yare waiver list tides\n  yare waiver end tides 4C7QXA",
	}
	c.AddCommand(a.waiverAdd(), a.waiverList(), &cobra.Command{
		Use:     "end CLUSTER WAIVER",
		Short:   "Take a waiver back",
		Long:    "Takes a waiver back before its end. It stays on the record. The end of its id will do.",
		Example: "  yare waiver end tides 4C7QXA",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			w, err := h.Unwaive(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			a.says("%s of %s is not waived any more", w.Check, w.Host)
			return nil
		}),
	})
	return c
}

func (a *app) waiverAdd() *cobra.Command {
	var reason string
	lasts := lasting(7 * 24 * time.Hour)
	c := &cobra.Command{
		Use:   "add HOST CHECK",
		Short: "Waive what a check finds on a host now",
		Long: "Reads the host's cluster, asks the check, and waives what it finds: on the record, with " +
			"who, why and until when.",
		Example: "  yare waiver add fulmar health --reason \"ordered, comes Tuesday\" --for 4d",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			host, cl, err := h.Host(args[0])
			if err != nil {
				return err
			}
			answers, _, err := h.Prechecks(ctx, plan.DefaultBrief(cl), args[1:])
			if err != nil {
				return err
			}
			i := slices.IndexFunc(answers, func(x precheck.Answer) bool { return x.Host == host })
			if i < 0 {
				return fmt.Errorf("no round would visit %s as things stand: nothing is asked of it, and there is "+
					"nothing to waive", host)
			}
			w, err := h.Waive(ctx, cl.Name, answers[i:i+1], reason, time.Duration(lasts))
			if err != nil {
				return err
			}
			a.says("%s of %s, %s: %s", w[0].Check, w[0].Host, w[0].Evidence, w[0].Says())
			return nil
		}),
	}
	c.Flags().StringVar(&reason, "reason", "", "why, for the record")
	c.Flags().Var(&lasts, "for", "how long it lasts")
	a.need(c, "reason")
	return c
}

func (a *app) waiverList() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use:   "list CLUSTER",
		Short: "List what was ever waived on a cluster",
		Long: "Lists every waiver of the cluster, those that are over or were taken back included, each " +
			"with who gave it, why and until when.",
		Example: "  yare waiver list tides -o tides.csv",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			all, err := h.Waivers(ctx, args[0])
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, view.OfWaivers(args[0], all, h.Now()))
		}),
	}
	o.narrowing(a, c)
	return c
}
