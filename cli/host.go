package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/core/course"
	"yareharbour/core/plan"
	"yareharbour/core/span"
	"yareharbour/core/view"
	"yareharbour/export"
	"yareharbour/harbour"
)

func (a *app) hostCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "host",
		Short: "Work on one host by hand: close it, restart it, open it; and what hosts need to take orders",
		Long: `What a round does to a host, by a person's decision and on the record: "close", "restart", "open", and "take" for a
host that somebody else closed.

A Linux host takes orders through a small program on it, and libvirt keeps guests away from it
by a script while it is closed. "prepare" shows what it would put where, asks, and does it; "remove" takes all
of it away. Looking needs neither.`,
		Example: "  yare host close heron --drain --reason \"a new power supply\"\n" +
			"  yare host open heron --reason \"it is in\"\n  yare host prepare tides",
	}
	c.AddCommand(a.hostPrepare(), a.hostRemove(), a.hostTasks(), a.hostLog(), a.hostTrust())
	for _, w := range handfuls {
		c.AddCommand(a.hostWork(w))
	}
	return c
}

// handful is a command by which a person does something to one host.
type handful struct {
	does                      plan.Does
	use, short, long, example string
}

// handfuls are all of them.
var handfuls = []handful{
	{plan.HandClose, "HOST", "Take a host out of service, and keep it",
		`Moves the guests of the host away, with --drain, and closes it: it takes no guests from then on, and it is yours,
with the reason on it. The same gates hold as in a round: the guests must find room elsewhere with the reserve
kept. Without --drain a host on which guests run is refused. Only "yare host open" opens it again.`,
		"  yare host close heron --drain --reason \"a new power supply\"\n" +
			"  yare host close heron --drain --until 16:00 --guest '*=shut-down' --reason electrician"},
	{plan.HandOpen, "HOST", "Prove a host that is yours, and open it",
		`Looks at the host and says what has changed since it was closed, proves it, opens it, and undoes what is owed:
guests that were shut down for it are started. With --home the guests come back that had left it.`,
		"  yare host open heron --reason \"the power supply is in\"\n" +
			"  yare host open heron --home --reason \"done\""},
	{plan.HandRestart, "HOST", "Restart a host, and prove it",
		`Moves the guests away, with --drain, closes the host, restarts it, proves it and opens it. A host that was closed and
yours is restarted and proven, and stays so.`,
		"  yare host restart heron --drain --reason \"it stalls\""},
	{plan.HandClear, "HOST [TASK…]", "Clear tasks from the queue of a host's BMC",
		`Removes tasks from the queue of the host's BMC, those named or all: what waits there runs
at the next restart. "yare host tasks" shows them. Where a round failed at the host it continues afterwards.`,
		"  yare host clear curlew waiting-1 --reason \"left by last year's update\"\n" +
			"  yare host clear curlew --all --reason \"nobody knows them\""},
	{plan.HandUncopy, "HOST [GUEST…]", "Remove snapshots that rounds made of a host's guests",
		`Removes the snapshots that rounds made of guests on the host, of those named or of all, whether their time is over or
not: with one a guest can't move. "yare owed" lists them. Snapshots that somebody else made are left alone.`,
		"  yare host remove-snapshots curlew tide-gate-1 --reason \"it is well\"\n" +
			"  yare host remove-snapshots curlew --all --reason \"to empty it\""},
	{plan.HandTake, "HOST", "Take a host over that somebody else closed",
		`Shows by whom the host was closed, since when and why, and makes it yours with --yes, on the record: whoever closed
it finds your name on it. Then it can be proven and opened.`,
		"  yare host take heron --reason \"the night shift has gone\"\n" +
			"  yare host take heron --yes --reason \"asked them\""},
}

func (a *app) hostWork(w handful) *cobra.Command {
	var b settings
	var t teller
	var until string
	var all bool
	x := harbour.ByHand{Does: w.does}
	c := &cobra.Command{Use: string(w.does) + " " + w.use, Short: w.short, Long: w.long, Example: w.example}
	c.RunE = a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
		left := ""
		err := a.rounds(&t, func(seen func(course.Event)) (*course.State, error) {
			host, cl, err := h.Host(args[0])
			if err != nil {
				return nil, err
			}
			if x.Brief, _, err = b.make(h, cl.Name); err != nil {
				return nil, err
			}
			x.Host, x.Tasks, x.Guests = host, args[1:], args[1:]
			if x.Until, err = untilWhen(until, h.Now()); err != nil {
				return nil, err
			}
			switch w.does {
			case plan.HandOpen:
				if err := a.changedSince(ctx, h, host); err != nil {
					return nil, err
				}
			case plan.HandUncopy:
				if all == (len(x.Guests) > 0) {
					return nil, usage("say which guests, or --all")
				}
			case plan.HandClear:
				if all == (len(x.Tasks) > 0) {
					return nil, usage("say which tasks, or --all")
				}
				var s *course.State
				s, left, err = h.Clear(ctx, x, seen)
				return s, err
			}
			return h.Work(ctx, x, seen)
		})
		a.left(&t, left)
		return err
	})
	b.set = c
	t.flag(c)
	f := c.Flags()
	f.StringVar(&x.Reason, "reason", "", "why: it is kept on the host and in the journal")
	if w.does == plan.HandClose || w.does == plan.HandRestart {
		f.BoolVar(&x.Drain, "drain", false, "move the guests on it away first")
		b.emptying(a, c)
	}
	switch w.does {
	case plan.HandClose, plan.HandTake:
		f.StringVar(&until, "until", "", "when you mean to open it again, as 16:00, 2026-11-22T16:00, 2h or 3d; it is only shown")
	case plan.HandClear:
		f.BoolVar(&all, "all", false, "all that wait there")
	case plan.HandUncopy:
		f.BoolVar(&all, "all", false, "all that rounds made there")
	case plan.HandOpen:
		f.BoolVar(&x.Home, "home", false, "bring the guests back that had left it")
	}
	if w.does == plan.HandTake {
		f.BoolVar(&x.Sure, "yes", false, "you have asked whoever closed it")
	}
	a.need(c, "reason")
	return c
}

// untilWhen reads a time: of today or tomorrow, of a day, or so much later. Empty: none.
func untilWhen(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := span.Parse(text); err == nil && d > 0 {
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
	return time.Time{}, usage("--until %s: say a time to come, as 16:00, 2026-11-22T16:00, 2h or 3d", text)
}

// changedSince says what has changed on a closed host since it was closed.
func (a *app) changedSince(ctx context.Context, h *harbour.Harbour, host string) error {
	if err := h.Look(ctx, []string{host}, nil); err != nil {
		return err
	}
	closed, c, err := h.Since(ctx, host)
	switch {
	case err != nil || closed == nil:
		return err // it is told why where the work is refused
	case c == nil:
		a.says("%s was not read before it was closed: what has changed since can't be told", host)
		return nil
	}
	a.says("%s, since it was closed at %s:", host, closed.At.Local().Format("2006-01-02 15:04 MST"))
	for _, x := range c.Turns {
		a.says("  %s: %s, was %s", x.Title(), cmp.Or(x.To, "gone"), cmp.Or(x.From, "not there"))
	}
	for _, x := range c.Facts {
		a.says("  %s: %s, was %s", x.What, cmp.Or(x.To, "none"), cmp.Or(x.From, "none"))
	}
	for _, s := range c.Unread {
		a.says("  %s: unread now or then", s)
	}
	if len(c.Turns)+len(c.Facts)+len(c.Unread) == 0 {
		a.says("  nothing has changed")
	}
	return nil
}

func (a *app) hostLog() *cobra.Command {
	var o output
	n := 0
	c := &cobra.Command{
		Use: "log HOST", Short: "Show the ends of a host's logs",
		Long: `Shows the newest lines that the host's package manager, its libvirt and its BMC have written. Of the moment
at which something failed in a round they are in that round's journal: "yare round watch" and "yare report" show them.

Exit codes: 0 all that was asked for was read, 4 something could not be, 1 failure.`,
		Example: "  yare host log heron\n  yare host log heron -n 40",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			logs, err := h.Logs(ctx, args[0])
			if err != nil {
				return err
			}
			unread := len(logs) == 0
			for i := range logs {
				unread = unread || logs[i].Err != ""
			}
			if err := a.show(ctx, h, &o, view.OfLogs(args[0], logs, n)); err != nil {
				return err
			}
			if unread {
				return exit(exitUnread)
			}
			return nil
		}),
	}
	o.flags(c)
	c.Flags().IntVarP(&n, "lines", "n", 10, "how many lines of each, 40 at most")
	return c
}

func (a *app) hostTasks() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "tasks HOST", Short: "List what waits at a host's BMC",
		Long: `Asks the BMC what it has taken on and not ended: what waits there runs at the next restart, and keeps a round from
visiting the host. "yare host clear" clears tasks.

Exit codes: 0 nothing waits, 3 something does, 1 failure.`,
		Example: "  yare host tasks curlew\n  yare host tasks curlew --json",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			tasks, err := h.Tasks(ctx, args[0])
			if err != nil {
				return err
			}
			if err := a.show(ctx, h, &o, view.OfTasks(args[0], tasks)); err != nil {
				return err
			}
			if len(tasks) > 0 {
				return exit(exitDrift)
			}
			return nil
		}),
	}
	o.flags(c)
	return c
}

func (a *app) hostTrust() *cobra.Command {
	var reason string
	var yes bool
	c := &cobra.Command{
		Use: "trust HOST", Short: "Trust the certificate that a host's BMC shows since it changed",
		Long: `Looks at the certificate that the BMC of the host shows, which is another than the one that is pinned, as after an update of
the BMC itself. Where the host sees the very same by its own way to its BMC (the Redfish host interface), it is trusted from
then on. Where the host can't be asked, a person's word counts: --yes, with a reason. Where the host sees another one it is
not trusted at all.

Exit codes: 0 it is trusted, 3 it is not yet, 1 failure.`,
		Example: "  yare host trust heron\n  yare host trust heron --yes --reason \"compared on its console\"",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			says, trusted, err := h.Trust(ctx, args[0], reason, yes)
			for _, l := range says {
				a.says("%s", l)
			}
			if err == nil && !trusted {
				err = exit(exitDrift)
			}
			return err
		}),
	}
	f := c.Flags()
	f.BoolVar(&yes, "yes", false, "you vouch for it")
	f.StringVar(&reason, "reason", "", "why: it is kept")
	return c
}

func (a *app) hostPrepare() *cobra.Command {
	var o output
	var yes, text bool
	c := &cobra.Command{
		Use:   "prepare [CLUSTER… | HOST…]",
		Short: "Show what hosts need before they take orders, and put it there",
		Long: `Asks each host what of it is there already, shows it, asks, puts the rest there, restarts
libvirt's daemon where that must find a new script (running guests are not touched), and proves that libvirt
asks the script. It may be done again at any time. Without a name it is about all hosts that may be acted on.
With --format or -o it only shows, and with --print it writes the programs themselves, for whoever owns the hosts to
read.

Exit codes: 0 every host takes orders, 4 one does not, 1 failure.`,
		Example: "  yare host prepare tides\n  yare host prepare heron jacana --yes\n  yare host prepare --print",
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		if text {
			return a.write(&o, func(w io.Writer) error { // our own text, for a person to keep
				for _, p := range harbour.Programs() {
					if _, err := fmt.Fprintf(w, "# %s, SHA-256 %s\n%s\n", p.Path, p.SHA256, p.Text); err != nil {
						return err
					}
				}
				return nil
			})
		}
		return a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			hosts, err := h.Hosts(args...)
			if err != nil {
				return err
			}
			if hosts = slices.DeleteFunc(hosts, func(host string) bool {
				return len(args) == 0 && !h.Acts(host)
			}); len(hosts) == 0 {
				return errors.New("the estate file allows looking only; say \"act: true\" for a cluster whose hosts are to take orders")
			}
			lacks, err := h.Needs(ctx, hosts)
			if err != nil {
				return err
			}
			if err := a.show(ctx, h, &o, view.OfLacks(lacks)); err != nil || o.is() != "text" || o.file != "" {
				return errors.Join(err, unready(lacks))
			}
			missing, err := lacking(lacks)
			if err != nil || len(missing) == 0 {
				return errors.Join(err, unready(lacks))
			}
			if !yes && !a.confirm(fmt.Sprintf("Put it on %s?", counted(missing))) {
				a.says("nothing was put on them")
				return exit(exitUnread)
			}
			return a.putOn(ctx, h, missing)
		})(c, args)
	}
	o.flags(c)
	c.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	c.Flags().BoolVar(&text, "print", false, "write the programs that are put on hosts, and nothing else")
	return c
}

// putOn prepares hosts, and says so of each.
func (a *app) putOn(ctx context.Context, h *harbour.Harbour, hosts []string) error {
	return h.Prepare(ctx, hosts, func(host string) { a.says("%s takes orders", host) })
}

// unready is the exit status of hosts of which some take no orders.
func unready(lacks []view.Lacks) error {
	for i := range lacks {
		if !lacks[i].Ready() {
			return exit(exitUnread)
		}
	}
	return nil
}

// lacking are the hosts that lack something, or why one of them can't be prepared.
func lacking(lacks []view.Lacks) (out []string, err error) {
	for i := range lacks {
		switch l := &lacks[i]; {
		case l.Wrong != "":
			err = errors.Join(err, errors.New(l.Wrong))
		case !l.Ready():
			out = append(out, l.Host)
		}
	}
	return out, err
}

func counted(hosts []string) string {
	if len(hosts) == 1 {
		return hosts[0]
	}
	return fmt.Sprintf("these %d hosts: %s", len(hosts), strings.Join(hosts, ", "))
}

func (a *app) hostRemove() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use:   "remove CLUSTER… | HOST…",
		Short: "Remove from hosts all that was put there",
		Long: `Removes the program, libvirt's script and everything that was kept of orders. A host that
is closed, or that is still carrying an order out, keeps it. Guests are not touched, and libvirt's daemon is not
restarted: a script that is gone is not asked. Afterwards a host no longer knows which orders it had: a
runner that was stopped in the middle of a round must be at its end first.`,
		Example: "  yare host remove heron\n  yare host remove tides --yes",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			hosts, err := h.Hosts(args...)
			if err != nil {
				return err
			}
			if !yes && !a.confirm(fmt.Sprintf("Remove %s from %s?", strings.Join(harbour.Places(), " and "), counted(hosts))) {
				a.says("nothing was removed")
				return nil
			}
			return h.Unprepare(ctx, hosts, func(host string) { a.says("%s takes no orders any more", host) })
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	return c
}

// firstTime prepares the hosts of a cluster that take no orders yet, after it has said what that puts on them and was
// told to.
func (a *app) firstTime(ctx context.Context, h *harbour.Harbour, cluster string, yes bool) error {
	if c, err := h.Cluster(cluster); err != nil || !c.Act {
		return err // whoever starts the round says why there is none
	}
	hosts, err := h.Unprepared(ctx, cluster)
	if err != nil || len(hosts) == 0 {
		return err
	}
	lacks, err := h.Needs(ctx, hosts)
	if err != nil {
		return err
	}
	missing, err := lacking(lacks)
	if err != nil {
		return err
	}
	a.says("Before a round, hosts need what lets them take orders. \"yare host remove\" removes it again.")
	if err := a.write(&output{}, func(w io.Writer) error { return export.Write(w, view.OfLacks(lacks), "text") }); err != nil {
		return err
	}
	if !yes && !a.confirm(fmt.Sprintf("Put it on %s?", counted(missing))) {
		return errors.New("hosts that take no orders have no round: \"yare host prepare " + cluster +
			"\" shows what they need and puts it there")
	}
	return a.putOn(ctx, h, missing)
}
