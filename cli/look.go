package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/connector/host"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/format/plain"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

func (a *app) readCommand() *cobra.Command {
	var as form
	var here bool
	c := &cobra.Command{
		Use:               "read [--local | CLUSTER… | HOST…]",
		ValidArgsFunction: a.names(true),
		Short:             "Read hosts and show what was found",
		Long: "Reads hosts: platform, packages, drivers, firmware, guests, health. Each section says " +
			"when and from where; one that could not be read says why. Of a single host everything is shown that was " +
			"read, whether a baseline speaks of it or not.\n\n" +
			"Exit codes: 0 every host answered, 4 one did not, 1 failure.",
		Example: "  yare read tides\n  yare read curlew --json\n  yare read --local",
		RunE: func(c *cobra.Command, args []string) error {
			if here && len(args) > 0 {
				return errors.New("read takes --local or names, not both")
			}
			if here {
				r, err := readLocal(c.Context())
				if err != nil {
					return err
				}
				return a.showReadings([]*estate.Reading{r}, as.json())
			}
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				readings, hosts, err := a.readNamed(c.Context(), h, args)
				if err != nil {
					return err
				}
				if err := a.showReadings(ordered(readings, hosts), as.json()); err != nil {
					return err
				}
				for _, r := range readings {
					if !r.Reached() {
						return exit(exitUnread)
					}
				}
				return nil
			})
		},
	}
	c.Flags().BoolVar(&here, "local", false, "read this machine")
	as.flags(c, "text", "json")
	return c
}

func readLocal(ctx context.Context) (*estate.Reading, error) {
	return host.Here(ctx)
}

// readNamed reads what the names mean, telling progress on stderr where it takes longer than a moment.
func (a *app) readNamed(
	ctx context.Context,
	h *harbour.Harbour,
	names []string,
) (map[string]*estate.Reading, []string, error) {
	hosts, err := h.Hosts(names...)
	if err != nil {
		return nil, nil, err
	}
	line, done := a.progressLine()
	defer done()
	readings, err := h.Read(ctx, hosts, func(host string, n int) {
		line(fmt.Sprintf("read %d of %d: %s", n, len(hosts), host))
	})
	return readings, hosts, err
}

func ordered(readings map[string]*estate.Reading, hosts []string) []*estate.Reading {
	var out []*estate.Reading
	for _, h := range hosts {
		if r := readings[h]; r != nil {
			out = append(out, r)
		}
	}
	return out
}

func countSection(r *estate.Reading, s estate.SectionName) int {
	switch s {
	case estate.GuestList:
		return len(r.Guests)
	case estate.HealthItems:
		return len(r.Health)
	case estate.Host, estate.BMCState:
		return 1
	}
	n := 0
	for _, c := range r.Components {
		if c.Key.Section() == s {
			n++
		}
	}
	return n
}

// check is what the flags of the check command say.
type check struct {
	as              form
	local, all      bool
	baseline, lists string
	narrow          string
	keyrings        []string
	advisories      []string
}

func (a *app) checkCommand() *cobra.Command {
	var o check
	c := &cobra.Command{
		Use:               "check [--local | CLUSTER… | HOST…]",
		ValidArgsFunction: a.names(true),
		Short:             "Hold hosts against their baselines",
		Long: `Holds hosts against their baselines and prints what is not in line.

With --local this machine is checked. Without a baseline it is held against its own apt indices: every installed
package should be at the newest version there. With --baseline only that file binds, whatever it is assigned to.

Exit codes: 0 all that was judged is in line, 3 drift, 4 something is unread or nothing was judged (whether
there is drift too or not), 1 failure, or a baseline that names a host, track, model or target that is not
there.`,
		Example: "  yare check tides\n  yare check curlew --json\n  yare check --local\n" +
			"  yare check --local --baseline web.yaml --advisories debian.json",
		RunE: func(c *cobra.Command, args []string) error {
			if o.local && len(args) > 0 {
				return errors.New("check takes --local or names, not both")
			}
			var d report.Drift
			var err error
			if o.local {
				d, err = a.checkLocal(c.Context(), o)
			} else {
				err = a.judging(c.Context(), func(h *harbour.Harbour) error {
					d, err = a.checkNamed(c.Context(), h, args, o)
					return err
				})
			}
			if err != nil {
				return err
			}
			return a.showDrift(d, o)
		},
	}
	c.Flags().BoolVar(&o.local, "local", false, "check this machine")
	o.as.flags(c, "text", "csv", "json")
	c.Flags().BoolVar(&o.all, "all", false, "print what is in line too")
	c.Flags().StringVar(&o.baseline, "baseline", "", "a baseline file that binds in place of those of the estate")
	c.Flags().StringVar(&o.narrow, "narrow", "",
		"only what this filter lets through, as \"severity=high layer=firmware\"; "+
			"docs/verdicts.md tells the language")
	c.Flags().StringSliceVar(&o.advisories, "advisories", nil,
		"with --local: files of OSV or CSAF advisories, by which packages are graded")
	c.Flags().StringVar(&o.lists, "lists", harbour.AptLists,
		"with --local: the directory in which apt keeps its indices")
	c.Flags().StringSliceVar(&o.keyrings, "keyring", nil,
		"with --local: OpenPGP keyring files; every index must then be signed by one of their keys")
	return c
}

func (a *app) showDrift(d report.Drift, o check) error {
	var err error
	switch o.as.format {
	case "json":
		err = report.JSON(a.out, d)
	case "csv":
		err = d.CSV(a.out)
	default:
		err = d.Text(a.out, o.all)
	}
	if err != nil {
		return err
	}
	return ended(d)
}

// ended is how a command ends that shows a report.
func ended(d report.Drift) error {
	switch d.Standing() {
	case report.Wrong:
		return exit(exitFailure)
	case report.Unknown:
		return exit(exitUnread)
	case report.Adrift:
		return exit(exitDrift)
	}
	return nil
}

// localCluster is what this machine is assigned to.
const localCluster = "local"

func (a *app) checkLocal(ctx context.Context, o check) (report.Drift, error) {
	r, err := readLocal(ctx)
	if err != nil {
		return report.Drift{}, err
	}
	c := &drift.Checker{Catalogue: &catalogue.Catalogue{}, Now: time.Now(), MaxAge: harbour.MaxAge}
	native, err := harbour.NativeArch()
	if err != nil {
		return report.Drift{}, err
	}
	err = harbour.LoadIndexes(c.Catalogue, o.lists, native, o.keyrings, c.Now)
	if errors.Is(err, harbour.ErrNoIndexes) {
		err = fmt.Errorf("%w; name it with --lists", err)
	}
	if err != nil {
		return report.Drift{}, err
	}
	for _, name := range o.advisories {
		if err := harbour.LoadAdvisories(c.Catalogue, name); err != nil {
			return report.Drift{}, err
		}
	}
	c.Baselines = []baseline.Baseline{{Name: "this machine's apt indices", Clauses: []baseline.Clause{
		{Component: "deb:*", Posture: baseline.IfPresent, Follow: true}}}}
	if o.baseline != "" {
		b, err := harbour.LoadBaseline(o.baseline)
		if err != nil {
			return report.Drift{}, err
		}
		c.Baselines = []baseline.Baseline{b}
	}
	c.Baselines[0].Assign = []string{localCluster}
	f, err := narrow.Parse(o.narrow)
	if err != nil {
		return report.Drift{}, err
	}
	clusters, readings := []estate.Cluster{{Name: localCluster, Hosts: []string{r.Host}}}, map[string]*estate.Reading{
		r.Host: r,
	}
	d := report.NewDrift(clusters, c, readings, map[string][]drift.Verdict{r.Host: c.Host(localCluster, r)},
		[]string{r.Host}, f)
	if o.baseline != "" {
		d.Problems = baseline.Look(c.Baselines[0], nil,
			baseline.World{Clusters: clusters, Catalogue: c.Catalogue, Readings: readings, Now: c.Now})
	}
	return d, nil
}

func (a *app) checkNamed(ctx context.Context, h *harbour.Harbour, names []string, o check) (report.Drift, error) {
	readings, hosts, err := a.readNamed(ctx, h, names)
	if err != nil {
		return report.Drift{}, err
	}
	c := h.Checker()
	if o.baseline != "" {
		b, err := harbour.LoadBaseline(o.baseline)
		if err != nil {
			return report.Drift{}, err
		}
		b.Assign = nil
		for _, cl := range h.Estate.Clusters {
			b.Assign = append(b.Assign, cl.Name)
		}
		c.Baselines = []baseline.Baseline{b}
	}
	f, err := h.Narrow(ctx, o.narrow)
	if err != nil {
		return report.Drift{}, err
	}
	verdicts := h.Check(c, readings)
	d := report.NewDrift(h.Estate.Clusters, c, readings, verdicts, hosts, f)
	d.Estate = h.Estate.Name
	if d.Problems, err = h.Problems(ctx, c.Baselines); err != nil {
		return d, err
	}
	held := drift.Hold(h.Estate.Clusters, readings, c.Now, c.MaxAge)
	d.Flags = drift.Flags(held, c.Catalogue, drift.BoundBy(verdicts))
	return d, nil
}

func (a *app) explainCommand() *cobra.Command {
	var as form
	c := &cobra.Command{
		Use:               "explain HOST COMPONENT",
		ValidArgsFunction: a.names(true),
		Short:             "Tell one verdict's whole story in sentences",
		Long: "Tells what was read, when and from where, which clause binds it, which release mends it, " +
			"and why a newer-looking one is not offered. Reads the host first.",
		Example: "  yare explain jacana fw:lorne-l25\n  yare --demo explain dunlin fw:tarbet-s9",
		Args:    cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			key, err := estate.ParseKey(args[1])
			if err != nil {
				return err
			}
			return a.judging(c.Context(), func(h *harbour.Harbour) error {
				return a.explain(c.Context(), h, args[0], key, as.json())
			})
		},
	}
	as.flags(c, "text", "json")
	return c
}

func (a *app) explain(ctx context.Context, h *harbour.Harbour, host string, key estate.Key, asJSON bool) error {
	cl, ok := h.Estate.ClusterOf(host)
	if !ok {
		_, err := h.Hosts(host)
		return cmp.Or(err, fmt.Errorf("%s is a cluster, and a host is asked for", host))
	}
	readings, err := h.Read(ctx, []string{host}, nil)
	if err != nil {
		return err
	}
	c := h.Checker()
	found := false
	told := []any{}
	for _, v := range c.Host(cl.Name, readings[host]) {
		if v.Component != key {
			continue
		}
		found = true
		if asJSON {
			told = append(
				told,
				map[string]any{
					"host":      host,
					"component": v.Component,
					"device":    v.Device,
					"verdict":   v.Outcome,
					"why":       c.Why(cl.Name, v, readings[host]),
				},
			)
			continue
		}
		plain.Fprintf(a.out, "%s on %s: %s\n", v.Title(), host, v.Outcome)
		plain.Fprintln(a.out, "  "+strings.Join(c.Why(cl.Name, v, readings[host]), "\n  "))
	}
	if found && asJSON {
		return report.JSON(a.out, told)
	}
	if !found {
		return a.unbound(readings[host], key)
	}
	return nil
}

func (a *app) unbound(r *estate.Reading, key estate.Key) error {
	if len(r.Of(key)) > 0 {
		at := r.Of(key)[0]
		plain.Fprintf(a.out, "%s has %s at %s, and no baseline covers it.\n", r.Host, key,
			cmp.Or(at.Version, "a version that could not be read ("+at.Unread+")"))
		return nil
	}
	var near []string
	for _, c := range r.Components {
		if strings.Contains(string(c.Key), key.Name()) {
			near = append(near, string(c.Key))
		}
	}
	hint := ""
	if len(near) > 0 {
		hint = "; did you mean " + strings.Join(near, " or ")
	}
	return fmt.Errorf("%s has no component %s and no baseline covers it%s", r.Host, key, hint)
}
