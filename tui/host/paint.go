package host

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// View implements part.Screen.
func (s *Screen) View(f part.Frame, c *part.Canvas, a part.Area) {
	r := f.View.Readings[s.at.Host]
	if r == nil {
		c.Put(a.X+2, a.Y+1, part.Alarm|part.Bold, s.at.Host+" was never read.")
		c.Put(a.X+2, a.Y+3, part.Plain, "R reads every host now.")
		return
	}
	paintHead(f, c, r, part.Rect(a.X, a.Y, a.W, 2))
	a.Y, a.H = a.Y+3, a.H-3
	const empty = "nothing to show: nothing was read of this host, or the filter lets nothing through"
	if a.W < 110 {
		story := max(min(10, a.H/2), a.H-len(s.rows)-2)
		s.table.Paint(c, part.Rect(a.X, a.Y, a.W, a.H-story), true, len(s.rows), s.line, empty)
		col := part.NewColumn(c, part.Rect(a.X+1, a.Y+a.H-story, a.W-1, story))
		s.story(f, col)
		troubles(f, col, r)
		s.guests(f, col, r)
		return
	}
	left := part.Rect(a.X, a.Y, a.W*11/20, a.H)
	s.table.Paint(c, left, true, len(s.rows), s.line, empty)
	col := part.NewColumn(c, part.Rect(left.W+2, a.Y, a.W-left.W-2, a.H))
	s.story(f, col)
	troubles(f, col, r)
	s.guests(f, col, r)
	sections(f, col, r)
	well(col, r)
	s.life(col)
}

func paintHead(f part.Frame, c *part.Canvas, r *estate.Reading, a part.Area) {
	x := c.Put(a.X+1, a.Y, part.Strong|part.Bold, r.Host)
	x = c.Put(x, a.Y, part.Plain, fmt.Sprintf("  %s %s  %s  kernel %s", r.Hardware.Maker, r.Hardware.Model,
		strings.TrimSpace(r.Release+" "+r.Build), r.Kernel.Running))
	if !r.BootedAt.IsZero() {
		x = c.Put(x, a.Y, part.Quiet, "  up "+drift.Age(f.View.At().Sub(r.BootedAt)))
	}
	if serial := "  serial " + r.Hardware.Serial; r.Hardware.Serial != "" && x+part.Width(serial) < a.X+a.W {
		c.Put(x, a.Y, part.Quiet, serial)
	}
	x = a.X + 1
	switch {
	case !r.Reached():
		x = c.Put(x, a.Y+1, part.Alarm|part.Bold, "does not answer")
	case r.Closed != nil:
		x = c.Put(
			x,
			a.Y+1,
			part.Caution|part.Bold,
			fmt.Sprintf("closed by %s since %s: %s", r.Closed.By, r.Closed.At.Format("Mon 2 Jan 15:04"),
				r.Closed.Reason),
		)
	default:
		x = c.Put(x, a.Y+1, part.Good, "open")
	}
	u := r.Used()
	known := "  "
	if r.Section(estate.GuestList).Err != "" {
		known = "  last known: "
	}
	x = c.Put(x, a.Y+1, part.Plain,
		known+fmt.Sprintf("%s, %d of %d GiB, %d of %d cores", r.Crowd().Says(),
			u.MemoryMiB/1024, r.Capacity.MemoryMiB/1024, u.CPU/1000, r.Capacity.CPU/1000))
	c.Put(x, a.Y+1, part.Quiet, "  "+f.ReadAgo(r.At()))
}

// story tells of the line under the cursor.
func (s *Screen) story(f part.Frame, col *part.Column) {
	if len(s.rows) == 0 {
		return
	}
	r := &s.rows[s.table.At(len(s.rows))]
	if r.head != "" {
		col.Head(fmt.Sprintf("%s: %d, %d of them not in line", r.head, r.n, r.bad))
		if r.head == view.NoClause {
			col.Line(0, part.Plain, "What was read and what no baseline says anything of. Enter shows it.")
		}
		return
	}
	if r.line.Unbound {
		col.Head(r.line.Title() + ": no baseline covers it")
	} else {
		col.Head(r.line.Title() + ": " + r.line.Outcome.String())
	}
	for _, w := range f.View.Story(&r.line) {
		col.Line(0, part.Plain, w)
	}
	const most = 4
	shown := 0
	for _, sp := range s.past.Spans {
		if sp.Component != r.line.Component || sp.Device != r.line.Device || shown == most {
			continue
		}
		text := fmt.Sprintf("%s from %s to %s", sp.Version, sp.First.Format("2 Jan 15:04"),
			sp.Last.Format("2 Jan 15:04"))
		if sp.Now {
			text = fmt.Sprintf("%s since %s", sp.Version, sp.First.Format("2 Jan 15:04"))
		}
		col.Line(0, part.Quiet, text)
		shown++
	}
}

// troubles tells of what is not well with the host, whatever stands under the cursor.
func troubles(f part.Frame, col *part.Column, r *estate.Reading) {
	col.Gap()
	for _, m := range f.View.Mismatches(r) {
		says := " is outside the compatibility list "
		if m.Unknown {
			says = " may be outside the compatibility list "
		}
		col.Line(0, part.Caution|part.Bold, "! "+cmp.Or(m.Hardware, "what runs here")+says+m.List)
		col.Line(0, part.Plain, m.Why)
	}
	for _, s := range r.Sections {
		if s.Err != "" {
			col.Line(0, part.Alarm|part.Bold, "? "+string(s.Name)+" is unread: "+s.Err+lastKnown(f, s))
		} else if s.Partial != "" {
			col.Line(0, part.Caution|part.Bold, "? "+string(s.Name)+" is not all read: "+s.Partial)
		}
		if why := s.Unseen(); why != "" {
			col.Line(0, part.Caution|part.Bold, "? "+why)
		}
	}
	items := health(r)
	well := 0
	for _, h := range items {
		switch {
		case h.OK:
			well++
		case h.Unknown:
			col.Line(0, part.Caution, "? "+h.Item+": "+h.Detail)
		default:
			col.Line(0, part.Caution|part.Bold, "! "+h.Item+": "+h.Detail)
		}
	}
	if n := len(r.BMC.Waiting); n > 0 {
		col.Line(0, part.Caution|part.Bold, "! in the BMC's queue: "+catalogue.Some(n, "task"))
		for _, t := range r.BMC.Waiting {
			says := t.ID
			if t.Says != "" {
				says += "  " + t.Says
			}
			if !t.Since.IsZero() {
				says += ", since " + t.Since.Format("Mon 2 Jan 15:04")
			}
			col.Line(2, part.Plain, says)
		}
	}
	if well > 0 {
		col.Line(0, part.Good, fmt.Sprintf("%d of %d items are well", well, len(items)))
	}
}

// health is what the host and its BMC say of how it is.
func health(r *estate.Reading) []estate.Health {
	if !r.Read(estate.ConditionItems) {
		return r.Health
	}
	return slices.Concat(r.Health, r.Condition.Says())
}

// well lists what is well, with its values.
func well(col *part.Column, r *estate.Reading) {
	var items []string
	for _, h := range health(r) {
		if h.OK && h.Detail != "" {
			items = append(items, h.Item+" ("+h.Detail+")")
		} else if h.OK {
			items = append(items, h.Item)
		}
	}
	if len(items) == 0 || col.Left() < 3 {
		return
	}
	col.Gap()
	col.Head("what is well")
	col.Line(0, part.Plain, strings.Join(items, ", "))
}

// lastKnown says of an unread section from when the values are that are shown all the same.
func lastKnown(f part.Frame, s estate.Section) string {
	at, from := s.Known()
	if at.IsZero() {
		return ""
	}
	return fmt.Sprintf("; last known %s ago from %s", drift.Age(f.View.At().Sub(at)), from)
}

// guests lists the guests, and what would keep each from moving.
func (s *Screen) guests(f part.Frame, col *part.Column, r *estate.Reading) {
	if len(r.Guests) == 0 {
		return
	}
	col.Gap()
	stay := 0
	for i := range r.Guests {
		if f.View.Stays(r.Host, &r.Guests[i]) != "" {
			stay++
		}
	}
	says := r.Crowd().Says()
	if stay > 0 {
		says += fmt.Sprintf(", %d would not move", stay)
	}
	if r.Section(estate.GuestList).Err != "" {
		col.Line(0, part.Caution|part.Bold, says+", as last known")
	} else {
		col.Head(says)
	}
	name := 16
	for i := range r.Guests {
		name = max(name, min(28, part.Width(r.Guests[i].Name)))
	}
	for i := range r.Guests {
		g := &r.Guests[i]
		if col.Full() {
			return
		}
		c, x, y := col.C, col.X, col.Y
		c.Within(x, y, name, part.Plain, g.Name)
		c.Right(x+name+8, y, 8, part.Plain, fmt.Sprintf("%d GiB", g.Load.MemoryMiB/1024))
		c.Right(x+name+19, y, 11, part.Plain, fmt.Sprintf("%.1f cores", float64(g.Load.CPU)/1000))
		if why := f.View.Stays(r.Host, g); why != "" {
			c.Within(x+name+21, y, col.W-name-21, part.Caution, "! "+why)
		} else {
			c.Within(x+name+21, y, col.W-name-21, part.Quiet, "can move")
		}
		col.Y++
	}
}

// sections says of each part of the reading how old it is and where it is from.
func sections(f part.Frame, col *part.Column, r *estate.Reading) {
	if col.Left() < 4 {
		return
	}
	col.Gap()
	col.Head("what was read")
	var order []string
	names := map[string][]string{}
	for _, s := range r.Sections {
		if s.Err != "" {
			continue // told above
		}
		from := fmt.Sprintf("%s, %s ago", s.Source, drift.Age(f.View.At().Sub(s.At)))
		if names[from] == nil {
			order = append(order, from)
		}
		names[from] = append(names[from], string(s.Name))
	}
	for _, from := range order {
		col.Line(0, part.Plain, from+": "+strings.Join(names[from], ", "))
	}
}

// life tells what changed on the host from reading to reading.
func (s *Screen) life(col *part.Column) {
	if s.pastOf.IsZero() || col.Left() < 3 {
		return
	}
	col.Gap()
	col.Head("life")
	if len(s.past.Life) == 0 {
		col.Line(0, part.Quiet, "nothing changed since it was first read, and nothing was done to it")
	}
	for _, h := range s.past.Life {
		says := h.At.Format("2 Jan 15:04") + " " + h.What
		switch {
		case h.From+h.To == "":
		case h.From == "" && h.Round != "" && !strings.Contains(h.By, ", in a round"):
			says += ", " + h.To
		default:
			says += " " + view.OrDash(h.From) + " → " + view.OrDash(h.To)
		}
		col.Line(0, part.Plain, says)
		col.Line(2, part.Quiet, h.By)
	}
}
