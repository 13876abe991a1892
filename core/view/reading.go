package view

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Times are shown with their zone: a night's work crosses midnight, and people read each other's reports.
const (
	second = "2006-01-02 15:04:05 MST"
	minute = "2006-01-02 15:04 MST"
)

// OfReadings is what was read of hosts: their sections, and of one host everything that is in them, whether a baseline
// speaks of it or not. Data has the components.
func OfReadings(all []*estate.Reading) Document {
	d := Document{Name: "readings", Title: "Readings", Value: some(all)}
	d.Table.Columns = Columns("host", "component", "device", "version", "unread", "last_known", "running", "model", "class", "state")
	for _, r := range all {
		d.Subjects = append(d.Subjects, r.Host)
		for _, c := range r.Components {
			d.Table.Rows = append(d.Table.Rows, []any{r.Host, string(c.Key), c.Device, c.Version, c.Unread, c.Last, c.Running,
				c.Model, c.Class, c.State})
		}
		d.Text = append(d.Text, ofReading(r)...)
	}
	if len(all) != 1 {
		d.Subjects = nil
		return d
	}
	for _, s := range all[0].Sections {
		d.Text = append(d.Text, ofSection(all[0], s)...)
	}
	return d
}

// ofReading is what a host is, and its sections.
func ofReading(r *estate.Reading) []Block {
	kernel := ""
	if r.Kernel.Running != "" {
		kernel = "kernel " + r.Kernel.Running
	}
	if r.Kernel.Installed != "" && r.Kernel.Installed != r.Kernel.Running {
		kernel += " (installed " + r.Kernel.Installed + ")"
	}
	head := said{spaced(r.Host, r.Release, r.Build, kernel, r.Hardware.Maker+" "+r.Hardware.Model, r.Hardware.Serial)}
	if r.Closed != nil {
		head.add("  closed by %s since %s: %s", r.Closed.By, r.Closed.At.Local().Format(second), r.Closed.Reason)
	}
	sections := Table{Columns: Columns("section", "at", "source", "found"), Headless: true}
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
		sections.Rows = append(sections.Rows, []any{string(s.Name), s.At, s.Source, found})
	}
	return []Block{Lines(head...), {Table: &sections}}
}

// countSection counts what is in a section.
func countSection(r *estate.Reading, s estate.SectionName) (n int) {
	switch s {
	case estate.GuestList:
		return len(r.Guests)
	case estate.HealthItems:
		return len(r.Health)
	case estate.Host, estate.BMCState:
		return 1
	}
	for _, c := range r.Components {
		if c.Key.Section() == s {
			n++
		}
	}
	return n
}

// ofSection lists what is in a section; what is only last known says so.
func ofSection(r *estate.Reading, s estate.Section) []Block {
	if countSection(r, s.Name) == 0 || s.Err != "" && s.Held.IsZero() {
		return nil
	}
	title := string(s.Name)
	if s.Err != "" {
		title += ", as last known " + s.Held.Local().Format(minute)
	}
	t := Table{Headless: true}
	row := func(cells ...any) { t.Rows = append(t.Rows, cells) }
	well := map[bool]string{true: "well", false: "not well"}
	switch s.Name {
	case estate.Host:
		for _, x := range [][2]string{{"boot", r.BootID}, {"booted", stamped(r.BootedAt)},
			{"memory", fmt.Sprintf("%d MiB", r.Capacity.MemoryMiB)},
			{"processors", fmt.Sprintf("%.1f", float64(r.Capacity.CPU)/1000)}, {"networks", strings.Join(r.Offers().Networks, " ")}} {
			if x[1] != "" {
				row(x[0], x[1])
			}
		}
	case estate.GuestList:
		for _, g := range r.Guests {
			row(g.Name, string(g.State), fmt.Sprintf("%d MiB", g.Load.MemoryMiB), g.UID(), versionOf(g.Machine), versionOf(g.Agent))
		}
	case estate.HealthItems:
		for _, h := range r.Health {
			row(h.Item, well[h.OK], h.Detail)
		}
	case estate.ConditionItems:
		for _, h := range r.Condition.Says() {
			row(h.Item, well[h.OK], h.Detail)
		}
	case estate.BMCState:
		row("power", cmp.Or(r.BMC.Power, "not told"))
		row("tasks that wait or run", len(r.BMC.Waiting))
	default:
		for i := range r.Components {
			if c := &r.Components[i]; c.Key.Section() == s.Name {
				row(ofComponent(c)...)
			}
		}
	}
	return []Block{{Head: title, Table: &t}}
}

// ofComponent tells a component's version, or why it has none and which was last known, and all that makes it differ
// from what runs.
func ofComponent(c *estate.Component) []any {
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
	awaits := ""
	if a := c.Awaits(); a != "" {
		awaits = "awaits " + a
	}
	return []any{c.Title(), version, c.Model, c.Class, spaced(c.State, more, awaits)}
}

func versionOf(i estate.Inner) string {
	if i.Name == "" {
		return ""
	}
	return i.Name + " " + cmp.Or(i.Version, i.Unread)
}

func stamped(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format(second)
}

// spaced are words in a row without those that are empty.
func spaced(words ...string) string {
	var out []string
	for _, w := range words {
		if w = strings.TrimSpace(w); w != "" {
			out = append(out, w)
		}
	}
	return strings.Join(out, "  ")
}
