package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"yareharbour/core/plan"
	"yareharbour/format/brieffile"
	"yareharbour/format/plain"
	"yareharbour/harbour"
)

// brief is a round's settings, as options say them.
type brief struct {
	set  *cobra.Command
	file string
}

func (b *brief) flags(c *cobra.Command) {
	b.set = c
	c.Flags().StringVar(&b.file, "brief", "", "a brief file; the other options go before what it says")
	b.options(c, func(*brieffile.Setting) bool { return true })
}

// emptying are the options that say how a host is emptied.
func (b *brief) emptying(c *cobra.Command) {
	b.options(c, func(s *brieffile.Setting) bool { return s.Empties })
}

// options gives a command those of the settings.
func (b *brief) options(c *cobra.Command, has func(*brieffile.Setting) bool) {
	f := c.Flags()
	for _, s := range brieffile.Settings {
		if !has(s) {
			continue
		}
		switch s.Kind {
		case brieffile.Names:
			f.StringSlice(s.Name, nil, s.Help)
		case brieffile.Lines, brieffile.Windows, brieffile.Pairs, brieffile.Policies:
			f.StringArray(s.Name, nil, s.Help+"; one more option for each")
		case brieffile.Whole:
			f.Int64(s.Name, 0, s.Help)
		case brieffile.Percent:
			f.Float64(s.Name, 0, s.Help)
		case brieffile.Span:
			f.Duration(s.Name, 0, s.Help)
		case brieffile.Yes:
			f.Bool(s.Name, false, s.Help)
		default:
			f.String(s.Name, "", s.Help)
		}
	}
}

// make makes the brief of a cluster, or of one host, CLUSTER/HOST, and says what is usual on its cluster.
func (b *brief) make(h *harbour.Harbour, name string) (out, usual plan.Brief, err error) {
	cluster, host, part := strings.Cut(name, "/")
	c, err := h.Cluster(cluster)
	if err != nil {
		return out, usual, err
	}
	if part {
		if host, err = hostNamed(h, name); err != nil {
			return out, usual, err
		}
		defer func() {
			if len(out.Hosts) > 0 && err == nil {
				err = fmt.Errorf("%s is one host: leave --hosts and the brief's hosts out", name)
			}
			out.Hosts = []string{host}
		}()
	}
	usual = plan.DefaultBrief(c)
	out = usual
	if b.file != "" {
		text, err := os.ReadFile(b.file)
		if err != nil {
			return out, usual, err
		}
		if out, err = brieffile.Parse(b.file, text, usual, time.Local); err != nil {
			return out, usual, err
		}
	}
	err = b.over(&out)
	return out, usual, err
}

// over lays what options say over a brief.
func (b *brief) over(out *plan.Brief) error {
	for _, s := range brieffile.Settings {
		f := b.set.Flags().Lookup(s.Name)
		if f == nil || !f.Changed {
			continue
		}
		words := []string{f.Value.String()}
		if many, ok := f.Value.(pflag.SliceValue); ok {
			words = many.GetSlice()
		}
		if err := s.Lay(out, words, time.Local); err != nil {
			return fmt.Errorf("--%s: %w", s.Name, err)
		}
	}
	return nil
}

func (a *app) briefCommand() *cobra.Command {
	var b brief
	write := &cobra.Command{
		Use:               "write CLUSTER",
		ValidArgsFunction: a.names(false),
		Short:             "Write a brief file with the settings that the options say",
		Long: "Writes a brief file on standard output. What is usual on the cluster is left out of it, " +
			"and so stays what is usual there.",
		Example: "  yare brief write vts --trial ibis --soak 30m > november.yaml\n" +
			"  yare plan vts --brief november.yaml",
		Args: cobra.ExactArgs(1),
		RunE: a.about(func(_ context.Context, h *harbour.Harbour, cluster string) error {
			br, usual, err := b.make(h, cluster)
			if err != nil {
				return err
			}
			text, err := brieffile.Write(br, usual)
			if err == nil {
				_, err = a.out.Write(text)
			}
			return err
		}),
	}
	b.flags(write)
	c := &cobra.Command{
		Use:   "brief",
		Short: "Write and check brief files: a round's settings, to be used again",
		Long: "A brief is a round's settings as a file. yare plan and yare round start take it with --brief. " +
			"docs/rounds.md describes it.",
		Example: "  yare brief write vts --order lightest-first > vts.yaml\n  yare brief check vts.yaml\n" +
			"  yare brief schema > brief.schema.json",
	}
	c.AddCommand(write, a.briefCheck(), &cobra.Command{
		Use:     "schema",
		Short:   "Print the JSON Schema of a brief file",
		Long:    "Prints the JSON Schema (draft 2020-12) of a brief file, for editors that complete and check by it.",
		Example: "  yare brief schema > brief.schema.json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := a.out.Write(brieffile.Schema())
			return err
		},
	})
	return group(c)
}

func (a *app) briefCheck() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE",
		Short: "Say what is wrong with a brief file",
		Long: "Reads a brief file, reads its cluster, and says what of the brief means nothing there: a host, a " +
			"rule, a component or a release that there is not. Nothing is touched.",
		Example: "  yare brief check november.yaml",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			cluster, err := brieffile.Cluster(args[0], text)
			if err != nil {
				return err
			}
			return a.with(ctx, func(h *harbour.Harbour) error {
				c, err := h.Cluster(cluster)
				if err != nil {
					return fmt.Errorf("%s: %w", args[0], err)
				}
				b, err := brieffile.Parse(args[0], text, plan.DefaultBrief(c), time.Local)
				if err != nil {
					return err
				}
				if _, err := h.Gather(ctx, b); err != nil {
					return fmt.Errorf("%s: %w", args[0], err)
				}
				plain.Fprintf(a.out, "%s: a brief for %s: %s\n", args[0], cluster,
					strings.Join(append([]string{"yare plan " + cluster}, brieffile.Words(b, plan.DefaultBrief(c))...),
						" "))
				return nil
			})
		},
	}
}
