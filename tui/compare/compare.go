// Package compare is the Compare screen: two readings beside each other, as far as they differ.
package compare

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// Screen is a comparison.
type Screen struct {
	at    part.Place
	is    view.Comparison
	table part.Table
	rows  [][3]string
}

// New opens the comparison that the place holds.
func New(p part.Place) *Screen {
	s := &Screen{at: p}
	if c, ok := p.What.(*view.Comparison); ok {
		s.is = *c
	}
	s.table = part.Table{
		ID: "compare",
		Columns: []part.TableColumn{
			{Title: "what", Width: 24, Grow: 2},
			{Title: title(s.is.FromName, s.is.From), Width: 18, Grow: 3},
			{Title: title(s.is.ToName, s.is.To), Width: 18, Grow: 3},
		},
	}
	return s
}

func title(name string, r *estate.Reading) string {
	if r == nil {
		return name
	}
	return name + ", " + r.Tried().Format("2 Jan 15:04")
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place {
	return part.Place{Screen: part.Compare, Cluster: s.at.Cluster, Host: s.at.Host}
}

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{"What differs between two readings. What either lacks is named, and not compared."}
}

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) *view.Document {
	d := s.is.Document()
	return &d
}

// Keys implements part.Screen.
func (s *Screen) Keys(part.Frame) []part.Key { return nil }

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	if mine, _ := s.table.Take(msg, len(s.rows)); mine {
		return nil
	}
	switch msg := msg.(type) {
	case part.Shown:
		s.rows = nil
		for _, x := range s.is.Facts {
			if f.Filter.Empty() {
				s.rows = append(s.rows, [3]string{x.What, x.From, x.To})
			}
		}
		for _, t := range s.is.Turns {
			if f.Lets(&drift.Verdict{Component: t.Component, Device: t.Device, Has: t.From, Wants: t.To}) {
				s.rows = append(s.rows, [3]string{t.Title(), t.From, t.To})
			}
		}
	case part.Step:
		s.table.Step(msg.DY, len(s.rows))
	case part.Enter:
		return part.NothingHere()
	}
	return nil
}

// View implements part.Screen.
func (s *Screen) View(_ part.Frame, c *part.Canvas, a part.Area) {
	var unread []string
	for _, x := range s.is.Unread {
		unread = append(unread, string(x))
	}
	if len(unread) > 0 {
		c.Within(a.X+2, a.Y+a.H-1, a.W-3, part.Alarm, "? not compared, since one of the two lacks it: "+
			strings.Join(unread, ", "))
		a.H--
	}
	order := s.table.Order(len(s.rows), func(i, column int) any { return s.rows[i][column] })
	s.table.Paint(c, a, true, len(s.rows), func(i int) part.TableLine {
		r := s.rows[order[i]]
		return part.TableLine{
			Cells: []part.TableCell{{Text: r[0], Style: part.Subject}, {Text: view.OrDash(r[1])},
				{Text: view.OrDash(r[2])}},
		}
	}, "nothing differs in what both hold")
}
