package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/plain"
)

func (a *app) roundCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "round",
		Short: "List, start, resume, watch, pause or stop rounds",
		Long: `A round is one rolling maintenance over a cluster: each host in turn is prechecked, drained,
closed, changed, restarted, proven and reopened. Everything is journaled before and after; a round that was
interrupted is resumed from what is found on the hosts.`,
		Example: "  yare round start vts --reason \"November patches\"\n  yare round watch vts\n" +
			"  yare round resume vts",
	}
	c.AddCommand(a.roundList(), a.roundStart(), a.roundResume(), a.roundAdopt(), a.roundWatch(),
		a.roundAsk("pause CLUSTER", course.AskPause, "Pause the round after the current host", ""),
		a.roundAsk("stop CLUSTER", course.AskStop,
			"Stop the round at the next safe point: a host that is closed is finished first", ""),
		a.roundAsk("skip CLUSTER HOST-OF", course.AskSkip, "Leave a host out of the running round",
			"Leaves a host out of the running round. Where its visit is under way, migrations that are in "+
				"flight land, and guests stay where they went. The visit of a host that is closed is finished first."))
	for _, d := range decisions {
		c.AddCommand(a.roundDecision(d))
	}
	return c
}

// teller tells whoever started this process, on a file descriptor that he gave, that the round has begun or why not.
type teller struct {
	fd   int
	done bool
}

// tale is what a round's process tells whoever started it, once: that it has begun, or why not.
type tale struct {
	Begun bool   `json:"begun"`
	Error string `json:"error,omitempty"`
}

func (t *teller) flag(c *cobra.Command) {
	c.Flags().IntVar(&t.fd, "tell", 0, "file descriptor on which to tell that the round has begun")
	_ = c.Flags().MarkHidden("tell") // the flag is there
}

func (t *teller) tell(what tale) {
	if t.fd < 3 || t.done {
		return
	}
	t.done = true
	f := os.NewFile(uintptr(t.fd), "tell")
	_ = json.NewEncoder(f).Encode(what) // whoever asked may be gone
	_ = f.Close()
}

// rounds runs a round, printing its events, and makes its end the command's.
func (a *app) rounds(t *teller, run func(seen func(course.Event)) (*course.State, error)) error {
	s, err := run(func(e course.Event) {
		a.printEvent(e)
		t.tell(tale{Begun: true})
	})
	if err != nil {
		t.tell(tale{Error: err.Error()})
	}
	return a.outcome(s, err)
}

// left says that something was left for whoever runs the round.
func (a *app) left(t *teller, says string) {
	if says != "" {
		t.tell(tale{Begun: true})
		a.says("%s", says)
	}
}

func (a *app) roundStart() *cobra.Command {
	var b settings
	var t teller
	var digest, reason string
	var over, prepare bool
	c := &cobra.Command{
		Use:   "start CLUSTER[/HOST]",
		Short: "Start a round and follow it to its end",
		Long: `Starts a round and follows it. With --plan it carries out the very plan that was shown, and is
refused where facts have moved since; without, it plans on a fresh reading. A plan with an obstacle is refused
with the way out. Where hosts take no orders yet, it says what they need, and asks; without a reason it asks for
one, where somebody is there to answer. Interrupting this command (Ctrl-C) leaves the round where it is; resume it with "yare round resume".`,
		Example: "  yare round start vts --reason \"November patches\"\n  yare plan vts\n" +
			"  yare round start vts --plan 3f2a91c47b05\n  yare round start tides/avocet",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			return a.rounds(&t, func(seen func(course.Event)) (*course.State, error) {
				br, _, err := b.make(h, args[0])
				if err != nil {
					return nil, err
				}
				if err := a.firstTime(ctx, h, br.Cluster, prepare); err != nil {
					return nil, err
				}
				why, err := a.why(cmp.Or(reason, br.Reason))
				if err != nil {
					return nil, err
				}
				return h.Start(ctx, harbour.Start{Brief: br, Digest: digest, Reason: why, TakeOver: over}, seen)
			})
		}),
	}
	b.flags(a, c)
	t.flag(c)
	f := c.Flags()
	f.StringVar(&digest, "plan", "", "carry out the plan that was shown with this digest, or its beginning")
	f.StringVar(&reason, "reason", "", "why, for the journal and the hosts' own logs")
	f.BoolVar(&over, "take-over", false, "start although hosts have taken orders that this state directory does not know of")
	f.BoolVar(&prepare, "prepare", false, "put on hosts what they need to take orders, where it is missing, without asking")
	a.apart(c, "plan", settingNames()...)
	a.completeDigests(c, "plan")
	return c
}

func (a *app) roundResume() *cobra.Command {
	var t teller
	c := &cobra.Command{
		Use:   "resume CLUSTER",
		Short: "Resume the newest round of a cluster",
		Long: "Resumes a round after a pause, a stop, a failure that was seen to, or a crash. What was under " +
			"way is looked up on the hosts first; nothing is repeated blindly.",
		Example: "  yare round resume vts",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			return a.rounds(&t, func(seen func(course.Event)) (*course.State, error) { return h.Resume(ctx, args[0], seen) })
		}),
	}
	t.flag(c)
	return c
}

func (a *app) roundAdopt() *cobra.Command {
	var reason string
	var yes bool
	c := &cobra.Command{
		Use:   "adopt HOST",
		Short: "Finish a host that a lost round left closed",
		Long: `A host that a round has closed carries the round's mark. Where the state directory with that
round's journal is lost, nobody can resume it: this starts a new round over the host alone, makes the mark
its own, brings the host in line, proves it and reopens it. A runner that is still at work on the cluster from
another state directory is refused by its hosts from then on, so look first; --yes says that you did.`,
		Example: "  yare round adopt heron\n  yare round adopt heron --yes --reason \"the old state directory burnt\"",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			return a.rounds(&teller{}, func(seen func(course.Event)) (*course.State, error) {
				return h.Adopt(ctx, args[0], reason, yes, seen)
			})
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "no other runner is at work on the cluster: go ahead")
	c.Flags().StringVar(&reason, "reason", "adopted from a round that is lost", "why, for the journal and the host's own log")
	return c
}

// outcome turns the end of a round into the end of the command.
func (a *app) outcome(s *course.State, err error) error {
	var nothing *harbour.NothingError
	switch {
	case errors.As(err, &nothing):
		plain.Fprintln(a.out, err)
		if nothing.Plan.InLine() {
			return nil
		}
		if slices.ContainsFunc(nothing.Plan.Aside, func(x plan.Aside) bool { return x.Unread > 0 }) {
			return exit(exitUnread)
		}
		return exit(exitDrift)
	case errors.Is(err, harbour.ErrLost):
		return fmt.Errorf("%w. The round stays where it is: \"yare round watch\" shows who continues it, and where nobody "+
			"does, \"yare round resume\" does", harbour.ErrLost)
	case errors.Is(err, context.Canceled):
		return errors.New("interrupted; the round stays where it is: resume it with \"yare round resume\"")
	case err != nil:
		return err
	case s == nil: // it was left for whoever runs the round
		return nil
	}
	a.printWays(s)
	if s.Status == course.Failing {
		return fmt.Errorf("the round failed: %s", s.Detail)
	}
	return nil
}

func (a *app) roundWatch() *cobra.Command {
	return &cobra.Command{
		Use:   "watch CLUSTER",
		Short: "Follow the newest round of a cluster from its journal",
		Long: "Shows what was done so far and follows until the round ends or pauses. It only looks: " +
			"interrupting it changes nothing.",
		Example: "  yare round watch vts",
		RunE: a.anyway(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			s, err := h.Watch(ctx, args[0], a.printEvent)
			if err == nil && s.Status != course.Running {
				a.printWays(s)
			}
			return err
		}),
	}
}

func (a *app) roundAsk(use, what, short, long string) *cobra.Command {
	name, words, _ := strings.Cut(use, " ")
	return &cobra.Command{
		Use:     use,
		Short:   short,
		Long:    cmp.Or(long, short+"."),
		Example: "  yare round " + name + " " + map[string]string{"CLUSTER": "vts"}[words] + map[string]string{"CLUSTER HOST-OF": "vts heron"}[words],
		RunE: a.asking(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			said, err := h.Request(ctx, args[0], what, optional(args[1:]))
			if err != nil {
				return err
			}
			a.says("%s", said)
			return nil
		}),
	}
}

// printEvent prints an event of a journal; what only announces is left out.
func (a *app) printEvent(e course.Event) {
	for _, l := range view.Log([]course.Event{e}) {
		a.says("%s  %-10s %s", l.At.Local().Format("15:04:05 MST"), l.Host, l.Text)
		for _, more := range l.More {
			a.says("                    %s", more)
		}
	}
}

// decision is a command by which a person decides about a round that does not continue by itself.
type decision struct {
	use, short, long, example string // use names the words that it takes: a cluster, a host, and what of it
	words                     func(c *cobra.Command) func(*course.Event) error
}

// decisions are all of them.
var decisions = []decision{
	{use: "drop CLUSTER HOST-OF CHANGE", words: asks(course.AskDrop),
		short: "Leave a change out of a visit, and do the rest",
		long: `Leaves a change out that can't be made: its release was withdrawn while the host is closed, or the BMC
refuses its image each time. The rest of the visit is done, proven and reopened; the change stays drift, and the
report names who left it out and why. CHANGE is a component, with its device where there are several.`,
		example: "  yare round drop vts heron fw:lorne-l25 --reason \"withdrawn tonight\"\n" +
			"  yare round drop vts heron \"fw:lorne-l25 (slot 2)\" --reason \"the slot is dead\""},
	{use: "settle CLUSTER HOST-OF", words: settles,
		short: "Say how an act came out that no look can settle",
		long: `For an act of which the host does not show whether it was done: it does not answer any more, or shows
neither. "yare round watch" and the Round screen show what was seen. What a look finds goes
before anybody's word: then the word is refused, and the round goes by what was found. A word never permits
starting a guest.`,
		example: "  yare round settle vts heron --not-done --reason \"its console shows the old version\""},
	{use: "hand-over CLUSTER HOST-OF", words: asks(course.AskHand),
		short: "Take a host over as it is, and let the round continue without it",
		long: `The host stays as it is: closed, where it is closed, and the mark on it becomes yours. No round opens it
any more; "yare host open" does, once it is proven. What is owed is listed: guests that were shut down, acts whose
outcome is not known. The host counts as out of service: the round continues with the others where the brief allows
that many.`,
		example: "  yare round hand-over vts heron --reason \"its mainboard is dead\""},
	{use: "end CLUSTER", words: asks(course.AskEnd),
		short: "End a round for good",
		long: `Nothing more is started. The visit of a host that is closed and well is finished first; one that failed is handed
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
	return func(e *course.Event) error {
		switch e.Of = *id; {
		case *done == *undone:
			return usage("say --done or --not-done")
		case *done:
			e.Detail = course.AskDone
		default:
			e.Detail = course.AskUndone
		}
		return nil
	}
}

// roundDecision is the command of one of them.
func (a *app) roundDecision(d decision) *cobra.Command {
	var t teller
	var reason string
	c := &cobra.Command{Use: d.use, Short: d.short, Long: d.long, Example: d.example}
	words := d.words(c)
	c.RunE = a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
		e := course.Event{Reason: reason, Host: optional(args[1:])}
		if len(args) > 2 {
			e.Of = args[2]
		}
		if err := words(&e); err != nil {
			return err
		}
		left := ""
		err := a.rounds(&t, func(seen func(course.Event)) (s *course.State, err error) {
			s, left, err = h.Decide(ctx, args[0], e, seen)
			return s, err
		})
		a.left(&t, left)
		return err
	})
	t.flag(c)
	c.Flags().StringVar(&reason, "reason", "", "why, and what you saw, for the journal")
	a.need(c, "reason")
	return c
}

// printWays tells what a person can do about a round that does not continue by itself.
func (a *app) printWays(s *course.State) {
	ways := s.Ways()
	if len(ways) == 0 {
		return
	}
	a.says("what you can do:")
	for _, w := range ways {
		command := act.Typed(w.Command)
		if w.Asks != course.AskGoOn {
			command += " --reason …"
		}
		a.says("  %-58s %s", w.Says, command)
	}
	a.says("more about these: yare help %q", view.Stopped)
}
