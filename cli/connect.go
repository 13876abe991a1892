package cli

import (
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"yareharbour/format/plain"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

func (a *app) connectCommand() *cobra.Command {
	var as form
	c := &cobra.Command{
		Use:               "connect [CLUSTER… | HOST…]",
		ValidArgsFunction: a.names(true),
		Short:             "Test every way to the hosts and say what to do where one does not hold",
		Long: `Tries every way to each host, stage by stage: the SSH configuration, name, port, host key,
login and permission, jump hosts in the same way, libvirt, and the BMC's name, port, certificate, login and
permission. A stage that fails is the last of its way, and says what to do. Nothing is read for keeps, and
nothing is changed.

Exit codes: 0 every way holds, 4 one does not, 1 failure.`,
		Example: "  yare connect\n  yare connect heron jacana\n  yare connect tides --json",
		RunE: func(c *cobra.Command, args []string) error {
			return a.judging(c.Context(), func(h *harbour.Harbour) error {
				hosts, err := h.Hosts(args...)
				if err != nil {
					return err
				}
				line, done := a.progressLine()
				ways, err := h.Connect(c.Context(), hosts, line)
				done()
				if err != nil {
					return err
				}
				if as.json() {
					err = report.JSON(a.out, ways)
				} else {
					err = a.showWays(ways)
				}
				for _, w := range ways {
					if err == nil && w.Failed() > 0 {
						return exit(exitUnread)
					}
				}
				return err
			})
		},
	}
	as.flags(c, "text", "json")
	return c
}

func (a *app) showWays(ways []harbour.Ways) error {
	broken := 0
	for _, w := range ways {
		if w.Failed() > 0 {
			broken++
		}
		plain.Fprintln(a.out, w.Host)
		t := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
		for _, s := range w.Stages {
			sign := "holds"
			if !s.OK {
				sign = "FAILS"
			}
			plain.Fprintf(t, "  %s\t%s\t%s\t%s\n", s.Way, s.Name, sign, s.Found)
			if s.Do != "" && !s.OK {
				plain.Fprintf(t, "  \t\t\t→ %s\n", s.Do)
			}
		}
		if err := t.Flush(); err != nil {
			return err
		}
	}
	_, err := plain.Fprintf(a.out, "%d of %d hosts: every way holds\n", len(ways)-broken, len(ways))
	return err
}

// shown are words in a row without those that are empty.
func shown(words ...string) string {
	var out []string
	for _, w := range words {
		if w = strings.TrimSpace(w); w != "" {
			out = append(out, w)
		}
	}
	return strings.Join(out, "  ")
}
