package cli

import (
	"cmp"
	"fmt"
	"io"
	"text/tabwriter"
	"time"

	"yareharbour/core/estate"
	"yareharbour/format/plain"
	"yareharbour/format/report"
)

// Times are shown with their zone: a night's work crosses midnight, and people read each other's reports.
const (
	second = "2006-01-02 15:04:05 MST"
	minute = "2006-01-02 15:04 MST"
)

func (a *app) showReadings(rs []*estate.Reading, asJSON bool) error {
	if asJSON {
		return report.JSON(a.out, rs)
	}
	for _, r := range rs {
		if err := showReading(a.out, r, len(rs) == 1); err != nil {
			return err
		}
	}
	return nil
}

// showReading tells what was read of a host: its sections, and whole, everything that is in them, whether a baseline
// speaks of it or not.
func showReading(w io.Writer, r *estate.Reading, whole bool) error {
	kernel := ""
	if r.Kernel.Running != "" {
		kernel = "kernel " + r.Kernel.Running
	}
	if r.Kernel.Installed != "" && r.Kernel.Installed != r.Kernel.Running {
		kernel += " (installed " + r.Kernel.Installed + ")"
	}
	plain.Fprintln(w, shown(r.Host, r.Release, r.Build, kernel, r.Hardware.Maker+" "+r.Hardware.Model,
		r.Hardware.Serial))
	if r.Closed != nil {
		plain.Fprintf(w, "  closed by %s since %s: %s\n", r.Closed.By, r.Closed.At.Local().Format(second),
			r.Closed.Reason)
	}
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for _, s := range r.Sections {
		found := fmt.Sprint(countSection(r, s.Name))
		switch {
		case s.Err != "":
			found = "unread: " + s.Err
			if known, from := s.Known(); !known.IsZero() {
				found += fmt.Sprintf("; last known %s from %s", known.Local().Format(minute), from)
			}
		case s.Partial != "":
			found += ", and not all: " + s.Partial
		case s.Hidden > 0:
			found += "; " + s.Unseen()
		}
		plain.Fprintf(t, "  %s\t%s\t%s\t%s\n", s.Name, s.At.Local().Format(second), s.Source, found)
	}
	if err := t.Flush(); err != nil || !whole {
		return err
	}
	for _, s := range r.Sections {
		if err := showSection(w, r, s); err != nil {
			return err
		}
	}
	return nil
}

// showSection lists what is in a section; what is only last known says so.
func showSection(w io.Writer, r *estate.Reading, s estate.Section) error {
	if countSection(r, s.Name) == 0 || s.Err != "" && s.Held.IsZero() {
		return nil
	}
	title := string(s.Name)
	if s.Err != "" {
		title += ", as last known " + s.Held.Local().Format(minute)
	}
	plain.Fprintf(w, "\n%s\n", title)
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	switch s.Name {
	case estate.Host:
		showHost(t, r)
	case estate.GuestList:
		for _, g := range r.Guests {
			plain.Fprintf(t, "  %s\t%s\t%d MiB\t%s\t%s\t%s\n", g.Name, g.State, g.Load.MemoryMiB, g.UID(),
				versionOf(g.Machine), versionOf(g.Agent))
		}
	case estate.HealthItems:
		for _, h := range r.Health {
			plain.Fprintf(t, "  %s\t%s\t%s\n", h.Item, map[bool]string{true: "well", false: "not well"}[h.OK], h.Detail)
		}
	case estate.ConditionItems:
		for _, h := range r.Condition.Says() {
			plain.Fprintf(t, "  %s\t%s\t%s\n", h.Item, map[bool]string{true: "well", false: "not well"}[h.OK], h.Detail)
		}
	case estate.BMCState:
		plain.Fprintf(t, "  power\t%s\n  tasks that wait or run\t%d\n", cmp.Or(r.BMC.Power, "not told"), len(r.BMC.Waiting))
	default:
		for _, c := range r.Components {
			if c.Key.Section() == s.Name {
				showComponent(t, c)
			}
		}
	}
	return t.Flush()
}

func showHost(w io.Writer, r *estate.Reading) {
	for _, x := range [][2]string{
		{"boot", r.BootID}, {"booted", stamp(r.BootedAt)}, {"memory", fmt.Sprintf("%d MiB", r.Capacity.MemoryMiB)},
		{"processors", fmt.Sprintf("%.1f", float64(r.Capacity.CPU)/1000)},
		{"networks", fmt.Sprint(r.Offers().Networks)},
	} {
		if x[1] != "" {
			plain.Fprintf(w, "  %s\t%s\n", x[0], x[1])
		}
	}
}

// showComponent tells a component's version, or why it has none and which was last known, and all that makes it differ
// from what runs.
func showComponent(w io.Writer, c estate.Component) {
	version, more := c.Version, ""
	if c.Unread != "" {
		version, more = "unread", c.Unread
		if c.Last != "" {
			more += "; last known " + c.Last
		}
	}
	if c.Running != "" {
		more += "runs " + c.Running
	}
	if c.State != "" {
		more = shown(c.State, more)
	}
	if awaits := c.Awaits(); awaits != "" {
		more = shown(more, "awaits "+awaits)
	}
	plain.Fprintf(w, "  %s\t%s\t%s\t%s\t%s\n", c.Title(), version, c.Model, c.Class, more)
}

func versionOf(i estate.Inner) string {
	if i.Name == "" {
		return ""
	}
	return i.Name + " " + cmp.Or(i.Version, i.Unread)
}

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format(second)
}
