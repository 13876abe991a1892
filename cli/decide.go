package cli

import (
	"context"
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/format/plain"
	"yareharbour/harbour"
)

// decision is a command by which a person decides about a round that does not go on by itself.
type decision struct {
	use, short, long, example string // use names the words that it takes: a cluster, a host, and what of it
	words                     func(c *cobra.Command) func(*course.Event) error
}

// decisions are all of them.
var decisions = []decision{
	{use: "drop CLUSTER HOST CHANGE", words: asks(course.AskDrop),
		short: "Leave a change out of a visit, and do the rest",
		long: `Leaves a change out that can't be made: its release was withdrawn while the host is closed, or the BMC
refuses its image each time. The rest of the visit is done, proven and reopened; the change stays drift, and the
report names who left it out and why. CHANGE is a component, with its device where there are several.`,
		example: "  yare round drop vts heron fw:lorne-l25 --reason \"withdrawn tonight\"\n" +
			"  yare round drop vts heron \"fw:lorne-l25 (slot 2)\" --reason \"the slot is dead\""},
	{use: "settle CLUSTER HOST", words: settles,
		short: "Say how an act came out that no look can settle",
		long: `For an act of which the host does not show whether it was done: it does not answer any more, or shows
neither. What was seen is told by "yare round watch" and on the Round screen. A look that finds something goes
before anybody's word: then the word is refused, and the round goes by what was found. Starting a guest is never
permitted by a word.`,
		example: "  yare round settle vts heron --not-done --reason \"its console shows the old version\""},
	{use: "hand-over CLUSTER HOST", words: asks(course.AskHand),
		short: "Take a host over as it is, and let the round go on without it",
		long: `The host stays as it is: closed, where it is closed, and the mark on it becomes yours. No round opens it
any more; "yare host open" does, once it is proven. What is owed is listed: guests that were shut down, acts of which nobody knows how they came out. The host counts as out of service: the others
go on where the brief allows that many.`,
		example: "  yare round hand-over vts heron --reason \"its mainboard is dead\""},
	{use: "end CLUSTER", words: asks(course.AskEnd),
		short: "End a round for good",
		long: `Nothing more is begun. A host that is closed and well is brought to its end first; one that failed is handed
over as it is; the others are left out. Another round can start at once.`,
		example: "  yare round end vts --reason \"the window is over\""},
}

func asks(what string) func(*cobra.Command) func(*course.Event) error {
	return func(*cobra.Command) func(*course.Event) error {
		return func(e *course.Event) error { e.Detail = what; return nil }
	}
}

func settles(c *cobra.Command) func(*course.Event) error {
	done := c.Flags().Bool("done", false, "you have seen that it was done")
	undone := c.Flags().Bool("not-done", false, "you have seen that it was not done")
	id := c.Flags().String("act", "", "the act's id, where several need a word")
	c.MarkFlagsMutuallyExclusive("done", "not-done")
	return func(e *course.Event) error {
		switch e.Of = *id; {
		case *done:
			e.Detail = course.AskDone
		case *undone:
			e.Detail = course.AskUndone
		default:
			return errors.New("say --done or --not-done")
		}
		return nil
	}
}

// roundDecision is the command of one of them.
func (a *app) roundDecision(d decision) *cobra.Command {
	var t teller
	var reason string
	c := &cobra.Command{Use: d.use, Short: d.short, Long: d.long, Example: d.example, ValidArgsFunction: a.names(false)}
	words := d.words(c)
	takes := len(strings.Fields(d.use)) - 1
	c.Args = cobra.ExactArgs(takes)
	c.RunE = func(c *cobra.Command, args []string) error {
		return a.about(func(ctx context.Context, h *harbour.Harbour, cluster string) error {
			e := course.Event{Kind: course.Asked, By: operator(), Reason: reason}
			if takes > 1 {
				e.Host = args[1]
			}
			if takes > 2 {
				e.Of = args[2]
			}
			if err := words(&e); err != nil {
				return err
			}
			left := ""
			err := a.rounds(&t, func(seen func(course.Event)) (s *course.State, err error) {
				s, left, err = h.Decide(ctx, cluster, e, seen)
				return s, err
			})
			if left != "" {
				t.tell(tale{Begun: true})
				plain.Fprintln(a.out, left)
			}
			return err
		})(c, args[:1])
	}
	t.flag(c)
	c.Flags().StringVar(&reason, "reason", "", "why, and what you saw, for the journal")
	if err := c.MarkFlagRequired("reason"); err != nil {
		panic(err)
	}
	return c
}

// printWays tells what a person can do about a round that does not go on by itself.
func (a *app) printWays(s *course.State) {
	ways := s.Ways()
	if len(ways) == 0 {
		return
	}
	plain.Fprintf(a.out, "what leads on:\n")
	for _, w := range ways {
		plain.Fprintf(a.out, "  %-58s %s\n", w.Says, commandOf(w))
	}
}

// commandOf is the command of a way, as it is typed.
func commandOf(w course.Way) string {
	out := act.Typed(w.Command)
	if w.Asks != course.AskGoOn {
		out += " --reason …"
	}
	return out
}
