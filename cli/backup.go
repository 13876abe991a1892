package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/plain"
)

func (a *app) backupCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "backup",
		Short: "See and compare the configurations of hosts that rounds kept",
		Long: `Before it changes anything on a host a round keeps the host's configuration. These commands list what was kept,
show it, compare it, and put files of it back; nothing is put back by itself. A copy is named by its round's id, or the end of it; without one
the newest is meant.`,
		Example: "  yare backup list vts\n  yare backup show heron --file etc/hosts\n  yare backup diff heron",
	}
	c.AddCommand(a.backupList(), a.backupShow(), a.backupDiff(), a.backupRestore(), a.backupPrune())
	return c
}

func (a *app) backupList() *cobra.Command {
	var o output
	c := &cobra.Command{
		Use: "list [CLUSTER… | HOST…]", Short: "List the configurations that were kept",
		Long:    "Lists the configurations of hosts that rounds kept, host by host, the newest first, with their files.",
		Example: "  yare backup list heron",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			var hosts []string
			if len(args) > 0 {
				var err error
				if hosts, err = h.Hosts(args...); err != nil {
					return err
				}
			}
			all, err := h.Backups(hosts...)
			if err != nil {
				return err
			}
			return a.show(ctx, h, &o, view.OfBackups(all))
		}),
	}
	o.narrowing(a, c)
	return c
}

// copyOf finds the copy that HOST [BACKUP] means.
func copyOf(h *harbour.Harbour, args []string) (b view.Backup, err error) {
	host, _, err := h.Host(args[0])
	if err != nil {
		return b, err
	}
	return h.Backup(host, optional(args[1:]), 0)
}

func (a *app) backupShow() *cobra.Command {
	var file string
	c := &cobra.Command{
		Use: "show HOST [BACKUP]", Short: "Show what is in a copy of a host's configuration",
		Long: "Reads the copy, verifies it against the round's journal, and lists its files, or prints one of them. There may be secrets " +
			"in it.",
		Example: "  yare backup show heron\n  yare backup show heron 4C7QXA --file etc/ssh/sshd_config",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			b, err := copyOf(h, args)
			if err != nil {
				return err
			}
			copied, err := h.OpenBackup(ctx, b)
			if err != nil {
				return err
			}
			if file == "" {
				a.says("%s of %s, round %s: %s, SHA-256 %s", b.Host, b.Taken.Local().Format(time.DateTime), b.Round,
					catalogue.Some(len(copied.Files), "file"), copied.SHA256)
				for _, f := range copied.Files {
					to := ""
					if f.Link != "" {
						to = " -> " + f.Link
					}
					a.says("%s  %-16s %9d  %s%s", f.Mode, f.Owner, f.Size, f.Path, to)
				}
				return nil
			}
			f, err := copied.File(file)
			if err != nil {
				return fmt.Errorf("the copy of %s of %s: %w", b.Host, b.Taken.Local().Format(time.DateTime), err)
			}
			body, err := f.Body()
			if err != nil {
				return err
			}
			plain.Fprintf(a.out, "%s", body)
			return nil
		}),
	}
	c.Flags().StringVar(&file, "file", "", "print this file of it")
	return c
}

func (a *app) backupDiff() *cobra.Command {
	c := &cobra.Command{
		Use: "diff HOST [BACKUP…]", Short: "Say in what two copies of a host's configuration differ",
		Long: "Compares a copy with a later one, file by file, and texts line by line: the newest with the one before it where none is " +
			"named, the named one with the newest where one is, or the first named with the second.\n\nExit codes: 0 they are alike, 3 they differ, 1 failure.",
		Example: "  yare backup diff heron\n  yare backup diff heron 4C7QXA",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			host, _, err := h.Host(args[0])
			if err != nil {
				return err
			}
			if len(args) > 3 {
				return usage("two copies are compared, not more")
			}
			back := 0
			if len(args) == 1 {
				back = 1
			}
			before, err := h.Backup(host, optional(args[1:]), back)
			if err != nil {
				return err
			}
			after, err := h.Backup(host, optional(args[min(2, len(args)):]), 0)
			if err != nil {
				return err
			}
			changes, err := h.CompareBackups(ctx, before, after)
			if err != nil {
				return err
			}
			a.says("%s: %s → %s", host, before.Taken.Local().Format(time.DateTime), after.Taken.Local().Format(time.DateTime))
			for _, x := range changes {
				a.says("%s: %s", x.Path, x.What)
				for line := range strings.Lines(x.Diff) {
					a.says("%s", strings.TrimSuffix(line, "\n"))
				}
			}
			if len(changes) == 0 {
				a.says("they are alike")
				return nil
			}
			return exit(exitDrift)
		}),
	}
	return c
}

func (a *app) backupRestore() *cobra.Command {
	var files []string
	var reason string
	var yes bool
	var t teller
	c := &cobra.Command{
		Use: "restore HOST [BACKUP]", Short: "Put files of a copy back on a host that is closed",
		Long: `Says in what the host's files are others than those of the copy, and touches nothing. With --yes and a reason it puts them
back, as work by hand on a host that is closed and yours: its configuration as it is now is kept first, what is replaced stays
on the host too, and the host stays closed. A path that is a directory means all that is below it. Only files below /etc are
put back; services that read them are restarted by you.`,
		Example: "  yare backup restore heron --file etc/hosts\n" +
			"  yare backup restore heron 4C7QXA --file etc/ssh --yes --reason \"the package's own was put in\"",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, args []string) error {
			b, err := copyOf(h, args)
			if err != nil {
				return err
			}
			if len(files) == 0 {
				return usage("say which files: --file")
			}
			r, err := h.TryRestore(ctx, b, files)
			if err != nil {
				return err
			}
			a.says("%s of the copy of %s, round %s", catalogue.Some(len(r.Paths), "file"), b.Taken.Local().Format(time.DateTime), b.Round)
			for _, l := range r.Differs {
				a.says("  %s", strings.TrimSpace(l))
			}
			switch {
			case len(r.Differs) == 0:
				a.says("they are on %s as they were", b.Host)
				return nil
			case !yes:
				a.says("nothing was touched; --yes and --reason put them back, on a host that is closed")
				return nil
			}
			return a.rounds(&t, func(seen func(course.Event)) (*course.State, error) { return h.Restore(ctx, b, r, reason, seen) })
		}),
	}
	t.flag(c)
	f := c.Flags()
	f.StringArrayVar(&files, "file", nil, "a file or directory of it; one more option for each")
	f.StringVar(&reason, "reason", "", "why: it is kept on the host and in the journal")
	f.BoolVar(&yes, "yes", false, "put them back")
	return c
}

func (a *app) backupPrune() *cobra.Command {
	var older lasting
	var keep int
	var yes bool
	c := &cobra.Command{
		Use: "prune", Short: "Remove old copies of configurations",
		Long: "Says which copies go by the rule, asks, and removes them. The newest of each host never goes, nor one of a round that is not " +
			"finished, nor of a host that was handed over in it.",
		Example: "  yare backup prune --keep 5\n  yare backup prune --older-than 90d --yes",
		RunE: a.opened(func(ctx context.Context, h *harbour.Harbour, _ []string) error {
			if keep < 1 && older <= 0 {
				return usage("say by which rule: --keep, --older-than")
			}
			doomed, err := h.OldBackups(ctx, keep, time.Duration(older))
			if err != nil {
				return err
			}
			if len(doomed) == 0 {
				a.says("none goes by that")
				return nil
			}
			if err := a.show(ctx, h, &output{}, view.OfBackups(doomed)); err != nil {
				return err
			}
			if says := catalogue.Some(len(doomed), "copy"); !yes && !a.confirm("Remove "+says+"?") {
				a.says("nothing was removed")
				return nil
			}
			return h.DropBackups(doomed)
		}),
	}
	f := c.Flags()
	f.IntVar(&keep, "keep", 0, "of each host so many are kept, the newest")
	f.Var(&older, "older-than", "what was kept longer ago, as 90d")
	f.BoolVar(&yes, "yes", false, "remove without asking")
	return c
}
