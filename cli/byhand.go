package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/format/plain"
	"yareharbour/format/report"
	"yareharbour/harbour"
)

// handful is a command by which a person does something to one host.
type handful struct {
	does                 plan.Does
	short, long, example string
}

// handfuls are all of them.
var handfuls = []handful{
	{plan.HandClose, "Take a host out of service, and keep it",
		`Has the guests of the host leave, with --drain, and closes it: it takes no guests from then on, and it is yours,
with the reason on it. The same gates hold as in a round: the guests must find room elsewhere with the reserve
kept. Without --drain a host on which guests run is refused. Nothing opens it by itself: "yare host open" does.`,
		"  yare host close heron --drain --reason \"a new power supply\"\n" +
			"  yare host close heron --drain --until 16:00 --guest '*=shut-down' --reason electrician"},
	{plan.HandOpen, "Prove a host that is yours, and open it",
		`Looks at the host and says what has changed since it was closed, proves it, opens it, and undoes what is owed:
guests that were shut down for it are started. With --home the guests come back that had left it.`,
		"  yare host open heron --reason \"the power supply is in\"\n" +
			"  yare host open heron --home --reason \"done\""},
	{plan.HandRestart, "Restart a host, and prove it",
		`Has the guests leave, with --drain, closes the host, restarts it, proves it and opens it. A host that was closed and
yours is restarted and proven, and stays so.`,
		"  yare host restart heron --drain --reason \"it hangs on\""},
	{plan.HandClear, "Clear tasks from the queue of a host's BMC",
		`Takes tasks out of the queue of the host's BMC that nobody wants any more, those named or all: what waits there runs
at the next restart. "yare host tasks" shows them. Where a round failed at the host it goes on afterwards.`,
		"  yare host clear curlew waiting-1 --reason \"left by last year's update\"\n" +
			"  yare host clear curlew --all --reason \"nobody knows them\""},
	{plan.HandTake, "Take a host over that somebody else closed",
		`Shows by whom the host was closed, since when and why, and makes it yours with --yes, on the record: whoever closed
it finds your name on it. Then it can be proven and opened.`,
		"  yare host take heron --reason \"the night shift has gone\"\n" +
			"  yare host take heron --yes --reason \"asked them\""},
}

func (a *app) hostWork(w handful) *cobra.Command {
	var b brief
	var t teller
	var reason, until string
	var drain, home, yes, all bool
	c := &cobra.Command{Use: string(w.does) + " HOST", Short: w.short, Long: w.long, Example: w.example,
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.names(true)}
	c.RunE = func(cc *cobra.Command, args []string) error {
		return a.with(cc.Context(), func(h *harbour.Harbour) error {
			ctx := cc.Context()
			return a.rounds(&t, func(seen func(course.Event)) (*course.State, error) {
				host, err := hostNamed(h, args[0])
				if err != nil {
					return nil, err
				}
				c, _ := h.Estate.ClusterOf(host)
				br, _, err := b.make(h, c.Name)
				if err != nil {
					return nil, err
				}
				x := harbour.ByHand{Host: host, Does: w.does, Brief: br, Drain: drain, Home: home, Sure: yes, By: operator(),
					Reason: reason}
				if x.Until, err = untilWhen(until, h.World.Now()); err != nil {
					return nil, err
				}
				if w.does == plan.HandOpen {
					if err := a.changedSince(ctx, h, host); err != nil {
						return nil, err
					}
				}
				if w.does != plan.HandClear {
					return h.Work(ctx, x, seen)
				}
				if x.Tasks = args[1:]; all == (len(x.Tasks) > 0) {
					return nil, errors.New("say which tasks, or --all")
				}
				s, left, err := h.Clear(ctx, x, seen)
				if left != "" {
					t.tell(tale{Begun: true})
					plain.Fprintln(a.out, left)
				}
				return s, err
			})
		})
	}
	b.set = c
	t.flag(c)
	f := c.Flags()
	f.StringVar(&reason, "reason", "", "why: it stands on the host and in the journal")
	if w.does == plan.HandClose || w.does == plan.HandRestart {
		f.BoolVar(&drain, "drain", false, "have the guests on it move away first")
		b.emptying(c)
	}
	switch w.does {
	case plan.HandClose, plan.HandTake:
		f.StringVar(&until, "until", "", "when you mean to open it again, as 16:00, 2026-11-22T16:00 or 2h; it is only shown")
	case plan.HandClear:
		c.Use, c.Args = c.Use+" [TASK…]", cobra.MinimumNArgs(1)
		f.BoolVar(&all, "all", false, "all that wait there")
	case plan.HandOpen:
		f.BoolVar(&home, "home", false, "have the guests come back that had left it")
	}
	if w.does == plan.HandTake {
		f.BoolVar(&yes, "yes", false, "you have asked whoever closed it")
	}
	if err := c.MarkFlagRequired("reason"); err != nil {
		panic(err)
	}
	return c
}

// hostNamed is the host that a name means: its own, or with its cluster before it.
func hostNamed(h *harbour.Harbour, name string) (string, error) {
	cluster, host, both := strings.Cut(name, "/")
	if !both {
		host = name
	}
	c, ok := h.Estate.ClusterOf(host)
	if !ok {
		_, err := h.Hosts(host)
		return "", err
	}
	if both && c.Name != cluster {
		return "", fmt.Errorf("%s is a host of %s, and not of %s", host, c.Name, cluster)
	}
	return host, nil
}

// untilWhen reads a time: of today or tomorrow, of a day, or so much later. Empty: none.
func untilWhen(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return now.Add(d), nil
	}
	now = now.Local()
	if t, err := time.ParseInLocation("15:04", text, time.Local); err == nil {
		at := time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), 0, 0, time.Local)
		if !at.After(now) {
			at = at.AddDate(0, 0, 1)
		}
		return at, nil
	}
	if at, err := time.ParseInLocation("2006-01-02T15:04", text, time.Local); err == nil && at.After(now) {
		return at, nil
	}
	return time.Time{}, fmt.Errorf("--until %s: say a time to come, as 16:00, 2026-11-22T16:00 or 2h", text)
}

// changedSince says what of a closed host is otherwise than when it was closed.
func (a *app) changedSince(ctx context.Context, h *harbour.Harbour, host string) error {
	now, err := h.Read(ctx, []string{host}, nil)
	if err != nil || now[host] == nil || now[host].Closed == nil {
		return err // it is told why where the work is refused
	}
	then, err := h.Readings.On(ctx, []string{host}, now[host].Closed.At)
	if err != nil {
		return err
	}
	was := then[host]
	if was == nil {
		plain.Fprintf(a.out, "%s was not read before it was closed: what has changed since can't be told\n", host)
		return nil
	}
	c := drift.Compare(was, now[host])
	c.Facts = slices.DeleteFunc(c.Facts, func(f drift.Fact) bool { return f.What == "closed" })
	plain.Fprintf(a.out, "%s, since it was closed at %s:\n", host, now[host].Closed.At.Local().Format(minute))
	for _, x := range c.Turns {
		plain.Fprintf(a.out, "  %s: %s, was %s\n", x.Title(), cmp.Or(x.To, "gone"), cmp.Or(x.From, "not there"))
	}
	for _, x := range c.Facts {
		plain.Fprintf(a.out, "  %s: %s, was %s\n", x.What, cmp.Or(x.To, "none"), cmp.Or(x.From, "none"))
	}
	for _, s := range c.Unread {
		plain.Fprintf(a.out, "  %s: unread now or then\n", s)
	}
	if len(c.Turns)+len(c.Facts)+len(c.Unread) == 0 {
		plain.Fprintln(a.out, "  nothing is otherwise")
	}
	return nil
}

func (a *app) hostLog() *cobra.Command {
	var as form
	n := 0
	c := &cobra.Command{
		Use: "log HOST", Short: "Show the ends of a host's logs", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names(true),
		Long: `Shows the newest lines of what the host's package manager and its libvirt have written, and its BMC. Of the moment
at which something failed in a round they are in that round's journal: "yare round watch" and "yare report" show them.

Exit codes: 0 all that was asked for was read, 4 something could not be, 1 failure.`,
		Example: "  yare host log heron\n  yare host log heron -n 40",
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, name string) error {
			host, err := hostNamed(h, name)
			if err != nil {
				return err
			}
			logs, err := h.Logs(ctx, host)
			if err != nil {
				return err
			}
			unread := len(logs) == 0
			for i := range logs {
				l := &logs[i]
				unread = unread || l.Err != ""
				l.Lines = l.Lines[max(0, len(l.Lines)-max(0, n)):]
				if as.json() {
					continue
				}
				plain.Fprintf(a.out, "%s\n", l.Of)
				for _, line := range l.Lines {
					plain.Fprintf(a.out, "  %s\n", line)
				}
				switch {
				case l.Err != "":
					plain.Fprintf(a.out, "  not all could be read: %s\n", l.Err)
				case len(l.Lines) == 0:
					plain.Fprintln(a.out, "  it says nothing")
				}
			}
			if as.json() {
				err = report.JSON(a.out, append([]act.Log{}, logs...))
			}
			if err == nil && unread {
				return exit(exitUnread)
			}
			return err
		}),
	}
	as.flags(c, "text", "json")
	c.Flags().IntVarP(&n, "lines", "n", 10, "how many lines of each, 40 at most")
	return c
}

func (a *app) hostTasks() *cobra.Command {
	var as form
	c := &cobra.Command{
		Use: "tasks HOST", Short: "List what waits at a host's BMC", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.names(true),
		Long: `Asks the BMC what it has taken on and not ended: what waits there runs at the next restart, and keeps a round from
visiting the host. "yare host clear" clears what nobody wants any more.

Exit codes: 0 nothing waits, 3 something does, 1 failure.`,
		Example: "  yare host tasks curlew\n  yare host tasks curlew --json",
		RunE: a.about(func(ctx context.Context, h *harbour.Harbour, name string) error {
			host, err := hostNamed(h, name)
			if err != nil {
				return err
			}
			tasks, err := h.Tasks(ctx, host)
			switch {
			case err != nil:
				return err
			case as.json():
				err = report.JSON(a.out, append([]estate.BMCTask{}, tasks...))
			case len(tasks) == 0:
				plain.Fprintf(a.out, "nothing waits at the BMC of %s\n", host)
			default:
				w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
				plain.Fprintln(w, "TASK\tWHAT\tSINCE")
				for _, t := range tasks {
					since := "–"
					if !t.Since.IsZero() {
						since = t.Since.Local().Format(minute)
					}
					plain.Fprintf(w, "%s\t%s\t%s\n", t.ID, t.Says, since)
				}
				err = w.Flush()
			}
			if err == nil && len(tasks) > 0 {
				return exit(exitDrift)
			}
			return err
		}),
	}
	as.flags(c, "text", "json")
	return c
}

func (a *app) owedCommand() *cobra.Command {
	var as form
	c := &cobra.Command{
		Use:               "owed [CLUSTER]",
		ValidArgsFunction: a.names(false),
		Short:             "List what is still to be undone: closed hosts and guests at rest",
		Long: `Lists what rounds and work by hand have left to be undone, as far as the newest readings do not show that it was: hosts
that are closed, whose they are and until when, guests that were shut down or suspended,
and acts of which nobody knows how they came out.

Exit codes: 0 nothing is owed, 3 something is, 1 failure.`,
		Example: "  yare owed\n  yare owed vts --json",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			return a.with(c.Context(), func(h *harbour.Harbour) error {
				if len(args) > 0 {
					if _, err := h.Cluster(args[0]); err != nil {
						return err
					}
				}
				all, err := h.Owed(c.Context())
				if err != nil {
					return err
				}
				debts := []course.Debt{}
				for _, d := range all {
					if len(args) == 0 || d.Cluster == args[0] {
						debts = append(debts, d)
					}
				}
				if as.json() {
					err = report.JSON(a.out, debts)
				} else {
					err = a.showOwed(debts, h.World.Now())
				}
				if err == nil && len(debts) > 0 {
					return exit(exitDrift)
				}
				return err
			})
		},
	}
	as.flags(c, "text", "json")
	return c
}

func (a *app) showOwed(debts []course.Debt, now time.Time) error {
	if len(debts) == 0 {
		plain.Fprintln(a.out, "nothing is owed")
		return nil
	}
	t := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	plain.Fprintln(t, "HOST\tOWED\tWHOSE\tSINCE\tUNTIL\tREASON")
	for _, d := range debts {
		whose, until := d.By, "–"
		if whose == "" {
			whose = "the round's"
		}
		if !d.Until.IsZero() {
			until = d.Until.Local().Format(minute)
		}
		if d.Overdue(now) {
			until += " (over)"
		}
		for i, o := range d.Owed {
			if i == 0 {
				plain.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t%s\n", d.Host, o, whose, d.Since.Local().Format(minute), until, d.Reason)
			} else {
				plain.Fprintf(t, "\t%s\t\t\t\t\n", o)
			}
		}
	}
	return t.Flush()
}
