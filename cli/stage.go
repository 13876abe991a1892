package cli

import (
	"context"

	"github.com/spf13/cobra"

	"yareharbour/core/course"
	"yareharbour/core/plan"
	"yareharbour/harbour"
)

func (a *app) stageCommand() *cobra.Command {
	var b settings
	var t teller
	var away bool
	st := harbour.Staging{How: plan.StageAhead}
	c := &cobra.Command{
		Use:   "stage CLUSTER[/HOST]",
		Short: "Bring a round's payloads to its hosts ahead of time",
		Long: `Fetches the payloads of a plan, brings its packages to the hosts, several hosts at a time, and has each host verify
what came. No host is drained or closed for it, and windows do not count. The round then finds them there. They wait for
two weeks; what waits there and no baseline wants any more is taken away, and with --remove all of it. Firmware waits nowhere: its
image goes from here to the BMC.

A host to which something could not be brought is named, and holds nothing up: exit code 1.`,
		Example: "  yare stage vts\n  yare stage vts --brief november.yaml --reason \"ahead of Saturday\"\n  yare plan vts\n" +
			"  yare stage vts --plan 3f2a91c47b05\n  yare stage vts --remove",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			return a.rounds(&t, func(seen func(course.Event)) (s *course.State, err error) {
				if st.Brief, _, err = b.make(h, args[0]); err != nil {
					return nil, err
				}
				if away {
					st.How = plan.StageAway
				}
				s, err = h.Stage(ctx, st, func(says string) { a.says("%s", says) }, seen)
				if s == nil && err == nil { // there is nothing to bring
					t.tell(tale{Begun: true})
				}
				return s, err
			})
		}),
	}
	b.flags(a, c)
	t.flag(c)
	c.Flags().StringVar(&st.Digest, "plan", "", "stage what the plan brings that was shown with this digest, or its beginning")
	c.Flags().StringVar(&st.Reason, "reason", "staged ahead", "why, for the journal")
	c.Flags().BoolVar(&away, "remove", false, "take away all that waits on the hosts")
	a.apart(c, "plan", settingNames()...)
	a.completeDigests(c, "plan")
	return c
}
