package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/format/brieffile"
	"yareharbour/format/plain"
	"yareharbour/harbour"
)

// brief is a round's settings, as options say them.
type brief struct {
	set      *cobra.Command
	file     string
	hosts    []string
	order    string
	sequence []string
	trial    string
	soak     time.Duration
	rehearse time.Duration
	leaves   int
	reserve  int
	out      int
	moves    int
	width    int64
	home     bool
	limit    float64
	lift     []string
	only     []string
	releases []string
	rests    []string
	windows  []string
	patience time.Duration
}

// briefFlags are the options that make a brief.
var briefFlags = []string{"brief", "hosts", "order", "sequence", "trial", "soak", "rehearse", "reserve",
	"out-of-service", "leave-failed", "moves", "bandwidth", "home", "limit", "lift", "only", "release", "guest", "window", "patience"}

func (b *brief) flags(c *cobra.Command) {
	b.set = c
	b.emptying(c)
	f := c.Flags()
	f.StringVar(&b.file, "brief", "", "a brief file; the other options go before what it says")
	f.StringSliceVar(&b.hosts, "hosts", nil, "only these hosts")
	f.StringVar(&b.order, "order", "", "how hosts are put in order: fewest-moves (usual), or lightest-first")
	f.StringSliceVar(&b.sequence, "sequence", nil, "hosts that go first, in this order")
	f.StringVar(&b.trial, "trial", "", "a host that goes before all others")
	f.DurationVar(&b.soak, "soak", 0, "how long the host on trial carries guests before the others begin")
	f.DurationVar(&b.rehearse, "rehearse", 0,
		"restart a host once before anything is changed on it, where it has been up for so long")
	f.IntVar(&b.leaves, "leave-failed", 0,
		"hosts that may be left behind after a failure while the round goes on; they count as out of service")
	f.BoolVar(&b.home, "home", false,
		"have guests go back to their host when its visit is over, hosts out one at a time; a host on trial "+
			"has one sent back anyhow")
	f.StringSliceVar(&b.only, "only", nil, "only these components")
	f.StringArrayVar(&b.releases, "release", nil, "component=version: put this in instead of what the baselines want")
	f.StringArrayVar(&b.windows, "window", nil,
		"when visits may be under way, as 2026-11-22T22:00/2026-11-23T04:00; one more option for each")
}

// emptying are the options that say how a host is emptied.
func (b *brief) emptying(c *cobra.Command) {
	f := c.Flags()
	f.IntVar(&b.reserve, "reserve", 0, "hosts that may fail meanwhile (usual: the cluster's own)")
	f.IntVar(&b.out, "out-of-service", 1,
		"hosts that may be out of service at once, counting those that already are: that many hosts are worked on in "+
			"parallel, where the guests fit")
	f.IntVar(&b.moves, "moves", 0, "migrations at once (usual: the cluster's own, or 2)")
	f.Int64Var(&b.width, "bandwidth", 0, "of one migration, in MiB a second; 0: all that there is")
	f.Float64Var(&b.limit, "limit", 0, "percent of its capacity up to which a host is sent guests")
	f.StringArrayVar(&b.lift, "lift", nil, "a rule about guests, in its words, that does not bind this round")
	f.StringArrayVar(&b.rests, "guest", nil,
		"guest,…=shut-down, =suspend, =eject, =cold or =leave: what is done with guests that do not move of "+
			"themselves; with * in a name only with those that can't")
	f.DurationVar(&b.patience, "patience", 0,
		"how long a host is waited for beyond the usual (usual: the cluster's own, or 20m)")
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
func (b *brief) over(out *plan.Brief) (err error) {
	for name, lay := range map[string]func() error{
		"hosts":          func() error { out.Hosts = b.hosts; return nil },
		"order":          func() error { out.Order, err = brieffile.Order(b.order); return err },
		"sequence":       func() error { out.Sequence = b.sequence; return nil },
		"trial":          func() error { out.Trial = b.trial; return nil },
		"soak":           func() error { out.Soak = b.soak; return nil },
		"rehearse":       func() error { out.Rehearse = b.rehearse; return nil },
		"reserve":        func() error { out.Reserve = b.reserve; return nil },
		"out-of-service": func() error { out.Out = b.out; return nil },
		"leave-failed":   func() error { out.Leaves = b.leaves; return nil },
		"moves":          func() error { out.Moves = b.moves; return nil },
		"bandwidth":      func() error { out.Bandwidth = b.width; return nil },
		"home":           func() error { out.Home = b.home; return nil },
		"limit":          func() error { out.Limit = b.limit / 100; return nil },
		"lift":           func() error { out.Lift = b.lift; return nil },
		"only":           func() error { return keys(b.only, &out.Only) },
		"release":        func() error { return releases(b.releases, out) },
		"guest":          func() error { return rests(b.rests, out) },
		"window":         func() error { return windows(b.windows, out) },
		"patience":       func() error { out.Patience = b.patience; return nil },
	} {
		if !b.set.Flags().Changed(name) {
			continue
		}
		if err := lay(); err != nil {
			return fmt.Errorf("--%s: %w", name, err)
		}
	}
	return nil
}

func keys(words []string, to *[]estate.Key) error {
	*to = nil
	for _, w := range words {
		k, err := estate.ParseKey(w)
		if err != nil {
			return err
		}
		*to = append(*to, k)
	}
	return nil
}

func releases(words []string, out *plan.Brief) error {
	out.Releases = map[estate.Key]string{}
	for _, w := range words {
		name, version, ok := strings.Cut(w, "=")
		k, err := estate.ParseKey(name)
		if err != nil || !ok || version == "" {
			return fmt.Errorf("%q is not component=version", w)
		}
		out.Releases[k] = version
	}
	return nil
}

func rests(words []string, out *plan.Brief) error {
	out.Guests = nil
	for _, w := range words {
		p, err := brieffile.ParsePolicy(w)
		if err != nil {
			return err
		}
		out.Guests = append(out.Guests, p)
	}
	return nil
}

func windows(words []string, out *plan.Brief) error {
	out.Windows = nil
	for _, w := range words {
		x, err := brieffile.Window(w, time.Local)
		if err != nil {
			return err
		}
		out.Windows = append(out.Windows, x)
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
			_, err := a.out.Write(brieffile.Schema)
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
